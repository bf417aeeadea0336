// This file stores when policies began and ceased to conflict.

package store

import "time"

// ConflictEvent is the beginning or the end of a conflict on some laptops.
type ConflictEvent struct {
	Seq      int64 `gorm:"primaryKey;autoIncrement"`
	At       time.Time
	Setting  string
	Policies string // ids, sorted, separated by spaces
	Gained   bool   // else cleared
	Fresh    bool   // gained where no laptop had it, or cleared on the last that had it
	Revision int64
	ChangeID string // empty: no edit did it
	Title    string // of the publication
	By       string
	Devices  int
	Sample   string // JSON: the first of them, with what altered about each
}

// AddConflictEvents records events, in their order.
func (s *Store) AddConflictEvents(events []ConflictEvent) error {
	if len(events) == 0 {
		return nil
	}
	return s.db.CreateInBatches(events, batch).Error
}

// ConflictEvents lists events since a time, the newest first; with a setting those of that setting
// alone.
func (s *Store) ConflictEvents(since time.Time, setting string, most int) ([]ConflictEvent, error) {
	q := s.db.Where("at >= ?", since).Order("seq DESC").Limit(most)
	if setting != "" {
		q = q.Where("setting = ?", setting)
	}
	return many[ConflictEvent](q)
}

// ConflictsBegan gives, of every conflict that is recorded, the event with which it last began.
func (s *Store) ConflictsBegan() ([]ConflictEvent, error) {
	return many[ConflictEvent](s.db.Where("seq IN (SELECT max(seq) FROM conflict_events WHERE fresh AND gained GROUP BY " +
		"setting, policies)"))
}
