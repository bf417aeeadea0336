// This file keeps the files that values name.

package store

import (
	"time"

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

// fileContent is a file's bytes.
type fileContent struct {
	SHA256 string `gorm:"primaryKey;column:sha256"`
	Data   []byte
}

func (fileContent) TableName() string { return "file_contents" }

// AddFile keeps a file, unless one with the same bytes is kept already.
func (s *Store) AddFile(f File, data []byte) error {
	if err := s.db.Clauses(clause.OnConflict{DoNothing: true}).Create(&f).Error; err != nil {
		return err
	}
	return s.db.Clauses(clause.OnConflict{DoNothing: true}).Create(&fileContent{f.SHA256, data}).Error
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
	c, err := one[fileContent](s.db.Where("sha256 = ?", sha256))
	return c.Data, err
}

// Files lists the files that are kept, the newest first; of one content, where one is named.
func (s *Store) Files(content string) ([]File, error) {
	q := s.db.Order("at DESC, sha256")
	if content != "" {
		q = q.Where("content = ?", content)
	}
	return many[File](q)
}
