// This file keeps the files that values name.

package store

import (
	"database/sql"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// File is a file that is kept, without its bytes.
type File struct {
	SHA256    string `gorm:"primaryKey;column:sha256"`
	Name      string // under which it was first added
	MediaType string
	Content   string // what it was recognised as
	Size      int64
	Reading   string // JSON of what was read out of it
	By        string
	At        time.Time
}

// filePart is a part of a file's bytes. A file in one row would be held in memory several times
// while it is written and read.
type filePart struct {
	SHA256 string `gorm:"primaryKey;column:sha256"`
	Part   int    `gorm:"primaryKey"`
	Data   []byte
}

func (filePart) TableName() string { return "file_parts" }

// partSize is the most bytes of a part. Files that are kept already are cut at this size.
const partSize = 1 << 20

// AddFile keeps a file, unless one with the same bytes is kept already.
func (s *Store) AddFile(f File, data []byte) error {
	return s.db.Transaction(func(tx *gorm.DB) error {
		added := tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&f)
		if added.Error != nil || added.RowsAffected == 0 {
			return added.Error
		}
		// Each part is copied: what the database layer keeps of a row for the next one would
		// otherwise hold the whole file in memory. An empty file has one part, which is empty.
		copied := make([]byte, 0, min(len(data), partSize))
		for part := 0; part == 0 || part*partSize < len(data); part++ {
			copied = append(copied[:0], data[part*partSize:min(len(data), (part+1)*partSize)]...)
			if err := tx.Create(&filePart{f.SHA256, part, copied}).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// FileSpace gives the bytes that all files together take.
func (s *Store) FileSpace() (bytes int64, err error) {
	err = s.db.Model(&File{}).Select("COALESCE(SUM(size), 0)").Scan(&bytes).Error
	return bytes, err
}

// File gives a file without its bytes.
func (s *Store) File(sha256 string) (File, error) {
	return one[File](s.db.Where("sha256 = ?", sha256))
}

// FileData gives a file's bytes.
func (s *Store) FileData(sha256 string) ([]byte, error) {
	f, err := s.File(sha256)
	if err != nil {
		return nil, err
	}
	data := make([]byte, 0, f.Size)
	// One row at a time, so that no part is held beside the whole for longer than it takes to copy.
	rows, err := s.db.Model(&filePart{}).Select("data").Where("sha256 = ?", sha256).Order("part").Rows()
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var part sql.RawBytes
		if err := rows.Scan(&part); err != nil {
			return nil, err
		}
		data = append(data, part...)
	}
	return data, rows.Err()
}

// Files lists the files that are kept, the newest first; of one content, where one is named.
func (s *Store) Files(content string) ([]File, error) {
	q := s.db.Order("at DESC, sha256")
	if content != "" {
		q = q.Where("content = ?", content)
	}
	return many[File](q)
}
