// This file stores when policies began and ceased to clash.

package store

import "time"

// ClashEvent is the beginning or the end of a clash on some laptops.
type ClashEvent struct {
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

// AddClashEvents records events, in their order.
func (s *Store) AddClashEvents(events []ClashEvent) error {
	if len(events) == 0 {
		return nil
	}
	return s.db.CreateInBatches(events, batch).Error
}

// ClashEvents lists events since a time, the newest first; with a setting those of that setting alone.
func (s *Store) ClashEvents(since time.Time, setting string, most int) ([]ClashEvent, error) {
	q := s.db.Where("at >= ?", since).Order("seq DESC").Limit(most)
	if setting != "" {
		q = q.Where("setting = ?", setting)
	}
	return many[ClashEvent](q)
}

// ClashesBegan gives, of every clash that is recorded, the event with which it last began.
func (s *Store) ClashesBegan() ([]ClashEvent, error) {
	return many[ClashEvent](s.db.Where("seq IN (SELECT max(seq) FROM clash_events WHERE fresh AND gained GROUP BY setting, policies)"))
}
