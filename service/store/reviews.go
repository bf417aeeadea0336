// This file keeps reviews of changes: approvals and comments.

package store

import "time"

// Approval is what somebody decided about a change.
type Approval struct {
	Seq      int64 `gorm:"primaryKey;autoIncrement"`
	ChangeID string
	By       string
	At       time.Time
	Verdict  string // approve, decline
	Note     string
	Digest   string // of the edits and the impact that were looked at
	Impact   string // JSON: the impact that was looked at, to say later what differs
	Standing string // JSON: roles and groups of people of who approved, as they were then
	Void     bool   // the change was edited since, or a later verdict of the same person stands
}

// Comment is what somebody says about a change, one of its edits or a line of its impact.
type Comment struct {
	ID         int64 `gorm:"primaryKey;autoIncrement"`
	ChangeID   string
	By         string
	At         time.Time
	About      string // kind/id of an edit, or settings/id of a line of the impact; empty: the change
	Text       string
	Blocking   bool // no approval counts until it is resolved
	ResolvedBy string
	ResolvedAt *time.Time
}

// Approvals gives the verdicts on a change that are not void, in their order.
func (s *Store) Approvals(change string) ([]Approval, error) {
	return many[Approval](s.db.Where("change_id = ? AND NOT void", change).Order("seq"))
}

// AddApproval keeps a verdict; an earlier one of the same person is void.
func (s *Store) AddApproval(a Approval) error {
	if err := s.db.Exec(`UPDATE approvals SET void = 1 WHERE change_id = ? AND "by" = ?`, a.ChangeID, a.By).Error; err != nil {
		return err
	}
	return s.db.Create(&a).Error
}

// VoidApprovals voids all verdicts on a change.
func (s *Store) VoidApprovals(change string) error {
	return s.db.Exec(`UPDATE approvals SET void = 1 WHERE change_id = ?`, change).Error
}

// Comments gives the comments on a change, the oldest first.
func (s *Store) Comments(change string) ([]Comment, error) {
	return many[Comment](s.db.Where("change_id = ?", change).Order("id"))
}

// Comment gives one comment.
func (s *Store) Comment(change string, id int64) (Comment, error) {
	return one[Comment](s.db.Where("change_id = ? AND id = ?", change, id))
}

// SaveComment adds a comment or alters it, and gives it with its id.
func (s *Store) SaveComment(c Comment) (Comment, error) {
	err := s.db.Save(&c).Error
	return c, err
}

// ReviewedChanges gives the changes in review, and those that were published urgently, those sent last
// first.
func (s *Store) ReviewedChanges() ([]Change, error) {
	return many[Change](s.db.Where("state = 'in-review' OR approve_by IS NOT NULL AND state != " +
		"'discarded'").Order("sent_at DESC, id").Limit(100))
}
