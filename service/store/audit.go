// This file keeps the audit log: records in a chain of hashes, checkpoints that sign it, and the
// removal of its oldest part.

package store

import (
	"crypto/ed25519"
	"errors"
	"time"

	"zenithridge.example/zridge/core/audit"
)

// AuditRecord says who did what, when, through what.
type AuditRecord struct {
	Seq      int64 `gorm:"primaryKey;autoIncrement"`
	At       time.Time
	By       string
	Via      string
	Request  string // id of the request; empty: none
	Action   string
	Kind     string
	ObjectID string
	ChangeID string
	Before   string
	After    string
	Hash     string // over the record and the hash before; empty in records from before there were hashes
}

// Audit appends records, in their order, each with its number and its hash.
func (s *Store) Audit(records ...AuditRecord) error {
	if len(records) == 0 {
		return nil
	}
	return s.transaction(func(tx *Store) error {
		last, err := tx.lastAudited()
		if err != nil {
			return err
		}
		for i := range records {
			r := &records[i]
			r.Seq, r.At = last.Seq+1, r.At.UTC()
			is := r.Chained()
			r.Hash = is.HashAfter(last.Hash)
			last = *r
		}
		return tx.db.CreateInBatches(records, batch).Error
	})
}

// lastAudited gives the number and the hash of the last record. If the log has none left, they are
// those of the last checkpoint; both are zero if there is none either.
func (s *Store) lastAudited() (r AuditRecord, err error) {
	r, err = one[AuditRecord](s.db.Select("seq", "hash").Order("seq DESC"))
	if !errors.Is(err, ErrNotFound) {
		return r, err
	}
	c, err := one[AuditCheckpoint](s.db.Order("number DESC, at DESC"))
	if errors.Is(err, ErrNotFound) {
		return r, nil
	}
	return AuditRecord{Seq: c.Number, Hash: c.Hash}, err
}

// Chained gives a record in the form that its hash is over.
func (r *AuditRecord) Chained() audit.Record {
	return audit.Record{
		Number: r.Seq, At: r.At, By: r.By, Via: r.Via, Request: r.Request, Action: r.Action,
		Kind: r.Kind, ID: r.ObjectID, Change: r.ChangeID, Before: r.Before, After: r.After, Hash: r.Hash,
	}
}

// AuditChain reads the whole log from its first record on.
func (s *Store) AuditChain(yield func(audit.Record, error) bool) {
	rows, err := s.db.Model(&AuditRecord{}).Order("seq").Rows()
	if err != nil {
		yield(audit.Record{}, err)
		return
	}
	defer rows.Close()
	for rows.Next() {
		var r AuditRecord
		if err := s.db.ScanRows(rows, &r); err != nil {
			yield(audit.Record{}, err)
			return
		}
		r.At = r.At.UTC()
		if !yield(r.Chained(), nil) {
			return
		}
	}
	if err := rows.Err(); err != nil {
		yield(audit.Record{}, err)
	}
}

// AuditCheckpoint is a signed hash of the audit log.
type AuditCheckpoint struct {
	Number    int64 `gorm:"primaryKey;autoIncrement:false"`
	Hash      string
	At        time.Time `gorm:"primaryKey"`
	Key       string
	Signature string
}

// AuditCheckpoints lists the checkpoints, the oldest first.
func (s *Store) AuditCheckpoints() ([]audit.Checkpoint, error) {
	rows, err := many[AuditCheckpoint](s.db.Order("number, at"))
	list := make([]audit.Checkpoint, len(rows))
	for i, c := range rows {
		list[i] = audit.Checkpoint{Number: c.Number, Hash: c.Hash, At: c.At.UTC(), Key: c.Key, Signature: c.Signature}
	}
	return list, err
}

// Checkpoint signs the log as it is. ok is false if the last record is covered already, or has no
// hash.
func (s *Store) Checkpoint(at time.Time, key ed25519.PrivateKey) (c audit.Checkpoint, ok bool, err error) {
	err = s.transaction(func(tx *Store) error {
		last, err := tx.lastAudited()
		if err != nil || last.Hash == "" {
			return err
		}
		var covered int64
		if err := tx.db.Model(&AuditCheckpoint{}).Where("number = ?", last.Seq).Count(&covered).Error; err != nil || covered > 0 {
			return err
		}
		c, ok = audit.Sign(audit.Record{Number: last.Seq, Hash: last.Hash}, at, key), true
		return tx.db.Create(&AuditCheckpoint{c.Number, c.Hash, c.At, c.Key, c.Signature}).Error
	})
	return c, ok && err == nil, err
}

// DropAudited removes the oldest records of the log, in whole segments: up to the last checkpoint
// that was signed before a moment. What is left begins right after that checkpoint, which stays. It
// gives how many records were removed.
func (s *Store) DropAudited(before time.Time) (removed int64, err error) {
	err = s.transaction(func(tx *Store) error {
		c, err := one[AuditCheckpoint](tx.db.Where("at < ?", before.UTC()).Order("number DESC, at DESC"))
		if errors.Is(err, ErrNotFound) {
			return nil
		}
		if err != nil {
			return err
		}
		var there int64
		if err := tx.db.Model(&AuditRecord{}).Where("seq <= ?", c.Number).Count(&there).Error; err != nil || there == 0 {
			return err
		}
		// The trigger that keeps records is taken away and put back in the same transaction.
		trigger, err := one[struct{ SQL string }](tx.db.Table("sqlite_master").Select("sql").Where("name = ?", "audit_no_delete"))
		if err != nil {
			return err
		}
		if err := tx.db.Exec("DROP TRIGGER audit_no_delete").Error; err != nil {
			return err
		}
		gone := tx.db.Where("seq <= ?", c.Number).Delete(&AuditRecord{})
		removed = gone.RowsAffected
		return errors.Join(gone.Error, tx.db.Where("number < ?", c.Number).Delete(&AuditCheckpoint{}).Error, tx.db.Exec(trigger.SQL).Error)
	})
	return removed, err
}

// AuditFilter says which records are meant. What is empty does not matter.
type AuditFilter struct {
	By           string
	Action       string // a part of it
	Kind, Object string
	Change       string
	Since, Until time.Time // from the first on, to before the second
	Below        int64     // sequence number that is not reached
}

// AuditRecords lists records, the newest first.
func (s *Store) AuditRecords(f AuditFilter, most int) ([]AuditRecord, error) {
	q := s.db.Order("seq DESC").Limit(most)
	for column, value := range map[string]string{"by": f.By, "kind": f.Kind, "object_id": f.Object, "change_id": f.Change} {
		if value != "" {
			q = q.Where("\""+column+"\" = ?", value)
		}
	}
	if f.Action != "" {
		q = q.Where("instr(action, ?) > 0", f.Action)
	}
	if !f.Since.IsZero() {
		q = q.Where("at >= ?", f.Since.UTC())
	}
	if !f.Until.IsZero() {
		q = q.Where("at < ?", f.Until.UTC())
	}
	if f.Below > 0 {
		q = q.Where("seq < ?", f.Below)
	}
	return many[AuditRecord](q)
}

// AuditForward says up to which record a place has got the audit log.
type AuditForward struct {
	Place  string `gorm:"primaryKey"`
	Number int64
}

// AuditForwarded gives the number of the last record that a place has got, 0 for a new place.
func (s *Store) AuditForwarded(place string) (int64, error) {
	f, err := one[AuditForward](s.db.Where("place = ?", place))
	if errors.Is(err, ErrNotFound) {
		return 0, nil
	}
	return f.Number, err
}

// SetAuditForwarded notes the last record that a place has got.
func (s *Store) SetAuditForwarded(place string, number int64) error {
	return s.db.Save(&AuditForward{place, number}).Error
}

// AuditAfter reads the first records after a number, at most so many, in their order.
func (s *Store) AuditAfter(number int64, most int) ([]audit.Record, error) {
	rows, err := many[AuditRecord](s.db.Where("seq > ?", number).Order("seq").Limit(most))
	out := make([]audit.Record, len(rows))
	for i := range rows {
		rows[i].At = rows[i].At.UTC()
		out[i] = rows[i].Chained()
	}
	return out, err
}
