// This file keeps the estate: live objects, their versions, publications, changes and the audit
// log.

package store

import (
	"database/sql"
	"iter"
	"slices"
	"time"

	"gorm.io/gorm/clause"
)

// Object is an object of the estate as it is live. Body is its JSON in the estate format.
type Object struct {
	Kind     string `gorm:"primaryKey"`
	ID       string `gorm:"primaryKey"`
	Version  int64
	Retired  bool // taken away: kept so that versions go on
	Body     string
	Revision int64  // of the publication that brought this version
	Local    string // JSON: the fields of an object from a source that are edited here
}

// ObjectVersion is one published version of an object.
type ObjectVersion struct {
	Kind     string `gorm:"primaryKey"`
	ID       string `gorm:"primaryKey"`
	Version  int64  `gorm:"primaryKey"`
	Retired  bool
	Body     string
	Revision int64
	By       string
	At       time.Time
	Local    string
}

// Publication is a change that went live.
type Publication struct {
	Revision int64 `gorm:"primaryKey;autoIncrement"`
	ChangeID string
	Title    string
	By       string
	At       time.Time
	Edits    int
}

// Change is a named set of edits.
type Change struct {
	ID        string `gorm:"primaryKey"`
	Title     string
	Why       string
	State     string // a workflow.ChangeState
	Version   int64  // counts every alteration of the change or its edits
	CreatedBy string
	CreatedAt time.Time
	UpdatedAt time.Time
	Revision  int64 // once published

	Reviewers string     // JSON: accounts that are asked; empty: whoever may approve
	SentBy    string     // who sent it for review
	SentAt    *time.Time // nil: never
	Undoes    string     // the change that it takes back
	Urgent    string     // why it was published without the approvals that it needs
	ApproveBy *time.Time // until when these approvals must follow
	Looked    string     // JSON: what it did and what rules asked for when it was published
}

// Edit is what a change does to one object.
type Edit struct {
	ChangeID    string `gorm:"primaryKey"`
	Kind        string `gorm:"primaryKey"`
	ObjectID    string `gorm:"primaryKey"`
	Retire      bool
	Body        string // empty with Retire
	BaseVersion int64  // of the live object when the edit began; 0 for a new one
	Version     int64
	By          string
	At          time.Time
	Local       string // JSON: the fields of an object from a source that the edit keeps from it
}

// Objects gives every object as it is live, retired ones included, in the order of their kinds and
// ids. An error ends it. The rows are read without reflection, since there may be a million.
func (s *Store) Objects() iter.Seq2[Object, error] {
	return func(yield func(Object, error) bool) {
		rows, err := s.db.Model(&Object{}).Select("kind", "id", "version", "retired", "body", "revision", "local").Order("kind, id").Rows()
		if err != nil {
			yield(Object{}, err)
			return
		}
		defer rows.Close()
		for rows.Next() {
			var o Object
			var local sql.NullString
			if err := rows.Scan(&o.Kind, &o.ID, &o.Version, &o.Retired, &o.Body, &o.Revision, &local); err != nil {
				yield(o, err)
				return
			}
			o.Local = local.String
			if !yield(o, nil) {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(Object{}, err)
		}
	}
}

// Object gives a live or retired object.
func (s *Store) Object(kind, id string) (Object, error) {
	return one[Object](s.db.Where("kind = ? AND id = ?", kind, id))
}

// Versions gives every published version of an object, the newest first.
func (s *Store) Versions(kind, id string) ([]ObjectVersion, error) {
	return many[ObjectVersion](s.db.Where("kind = ? AND id = ?", kind, id).Order("version DESC"))
}

// LastBodies gives objects of a kind by their ids, as they were published last before they were retired.
func (s *Store) LastBodies(kind string, ids []string) (map[string]string, error) {
	bodies := make(map[string]string, len(ids))
	for some := range slices.Chunk(ids, batch) {
		rows, err := many[ObjectVersion](
			s.db.Select("id", "body", "version").Where("kind = ? AND id IN ? AND NOT retired", kind, some).Order("id, version"),
		)
		if err != nil {
			return nil, err
		}
		for _, v := range rows {
			bodies[v.ID] = v.Body
		}
	}
	return bodies, nil
}

// OpenEdit gives the open change that edits an object, the one that was altered last.
func (s *Store) OpenEdit(kind, id string) (string, error) {
	c, err := one[Change](
		s.db.Where("state = 'open' AND id IN (SELECT change_id FROM edits WHERE kind = ? AND object_id = ? AND NOT retire)", kind, id).
			Order("updated_at DESC"),
	)
	return c.ID, err
}

// batch is how many rows are written with one statement.
const batch = 500

// PutVersions makes versions live and keeps them.
func (s *Store) PutVersions(versions []ObjectVersion) error {
	if len(versions) == 0 {
		return nil
	}
	if err := s.db.CreateInBatches(versions, batch).Error; err != nil {
		return err
	}
	live := make([]Object, len(versions))
	for i, v := range versions {
		live[i] = Object{v.Kind, v.ID, v.Version, v.Retired, v.Body, v.Revision, v.Local}
	}
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(live, batch).Error
}

// AddPublication records a publication and gives its revision.
func (s *Store) AddPublication(p Publication) (int64, error) {
	err := s.db.Create(&p).Error
	return p.Revision, err
}

// Publications lists publications, the newest first, from below a revision on; 0 from the newest.
func (s *Store) Publications(below int64, most int) ([]Publication, error) {
	q := s.db.Order("revision DESC").Limit(most)
	if below > 0 {
		q = q.Where("revision < ?", below)
	}
	return many[Publication](q)
}

// Revision is the newest publication's, 0 before the first.
func (s *Store) Revision() (revision int64, err error) {
	err = s.db.Raw(`SELECT coalesce(max(revision), 0) FROM publications`).Scan(&revision).Error
	return revision, err
}

// Change gives a change.
func (s *Store) Change(id string) (Change, error) { return one[Change](s.db.Where("id = ?", id)) }

// Changes lists the changes of a state, all with an empty one, those altered last first.
func (s *Store) Changes(state string) ([]Change, error) {
	q := s.db.Order("updated_at DESC, id").Limit(500)
	if state != "" {
		q = q.Where("state = ?", state)
	}
	return many[Change](q)
}

// SaveChange adds a change or alters it.
func (s *Store) SaveChange(c Change) error {
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&c).Error
}

// RemoveChange removes a change that has no edits.
func (s *Store) RemoveChange(id string) error {
	return s.db.Where("id = ?", id).Delete(&Change{}).Error
}

// Edits gives the edits of a change.
func (s *Store) Edits(change string) ([]Edit, error) {
	return many[Edit](s.db.Where("change_id = ?", change).Order("kind, object_id"))
}

// Edit gives one edit of a change.
func (s *Store) Edit(change, kind, object string) (Edit, error) {
	return one[Edit](s.db.Where("change_id = ? AND kind = ? AND object_id = ?", change, kind, object))
}

// SaveEdits adds edits or alters them.
func (s *Store) SaveEdits(edits ...Edit) error {
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(edits, batch).Error
}

// DropEdit takes an edit out of a change.
func (s *Store) DropEdit(change, kind, object string) error {
	return s.db.Where("change_id = ? AND kind = ? AND object_id = ?", change, kind, object).Delete(&Edit{}).Error
}

// Publication gives one publication.
func (s *Store) Publication(revision int64) (Publication, error) {
	return one[Publication](s.db.Where("revision = ?", revision))
}
