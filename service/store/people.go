// This file keeps saved views and requests for exceptions.

package store

import (
	"time"

	"gorm.io/gorm/clause"
)

// SavedView is a list as somebody looks at it: filters, order and columns, as the query of its
// address.
type SavedView struct {
	ID        string `gorm:"primaryKey"`
	Page      string // devices, people
	Title     string
	Query     string
	Owner     string
	Shared    bool
	CreatedAt time.Time
}

// Views lists the views of a page that somebody may see: their own and shared ones.
func (s *Store) Views(page, owner string) ([]SavedView, error) {
	return many[SavedView](s.db.Where("page = ? AND (owner = ? OR shared)", page, owner).Order("title, id"))
}

// SaveView adds a view or alters it.
func (s *Store) SaveView(v SavedView) error {
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&v).Error
}

// DropView takes somebody's own view away; it tells whether there was one.
func (s *Store) DropView(id, owner string) (bool, error) {
	q := s.db.Where("id = ? AND owner = ?", id, owner).Delete(&SavedView{})
	return q.RowsAffected > 0, q.Error
}

// ExceptionRequest is an exception that somebody asks for.
type ExceptionRequest struct {
	ID        string `gorm:"primaryKey"`
	Body      string // JSON in the estate format, without the approval
	State     string // asked, approved, refused, withdrawn
	AskedBy   string
	AskedAt   time.Time
	DecidedBy string
	DecidedAt *time.Time
	Note      string
	Revision  int64 // of the publication, once approved
}

// ExceptionRequests lists requests, the newest first; of one state or with an empty one of all.
func (s *Store) ExceptionRequests(state string) ([]ExceptionRequest, error) {
	q := s.db.Order("asked_at DESC, id").Limit(500)
	if state != "" {
		q = q.Where("state = ?", state)
	}
	return many[ExceptionRequest](q)
}

// ExceptionRequest gives a request.
func (s *Store) ExceptionRequest(id string) (ExceptionRequest, error) {
	return one[ExceptionRequest](s.db.Where("id = ?", id))
}

// SaveExceptionRequest adds a request or alters it.
func (s *Store) SaveExceptionRequest(r ExceptionRequest) error {
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&r).Error
}
