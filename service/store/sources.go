// This file keeps sources, what they brought, their runs, their history and their tokens.

package store

import (
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Source is a place from which people, units, groups or laptops come.
type Source struct {
	ID         string `gorm:"primaryKey"`
	Kind       string // scim, ldap, csv
	Title      string
	State      string // new, on, paused
	Version    int64
	Setup      string // JSON: by which it is read; empty before the first run was accepted
	Proposed   string // JSON: a set-up whose dry run nobody accepted yet
	Mark       string // up to where it was read incrementally
	CreatedBy  string
	CreatedAt  time.Time
	ReadAt     *time.Time
	ComparedAt *time.Time // of the last full comparison
}

// SourceRecord is one thing that a source has, and what it brought of it.
type SourceRecord struct {
	Source    string `gorm:"primaryKey"`
	Kind      string `gorm:"primaryKey"`
	Key       string `gorm:"primaryKey"` // stable at the source
	ObjectID  string // of the estate; empty while it is not in it
	Place     string // where it is at the source: a distinguished name, normalised
	Brought   string // the fields that it brought, JSON in the estate format; empty while it is not in the estate
	Resource  string // all of it as the source gave it, where more is to be given back than was brought
	Name      string // by which it is looked up: a user name in lower case
	External  string // the client's own id
	Version   int64
	CreatedAt time.Time
	AlteredAt time.Time
	LeftAt    *time.Time // since when the source no longer has it
	Fault     string     // why it could not be taken into the estate
}

// SourceRun is one reading of a source.
type SourceRun struct {
	Seq       int64 `gorm:"primaryKey;autoIncrement"`
	Source    string
	Way       string // full, recent, upload, provisioning
	State     string // waiting, taken, failed, dropped
	By        string
	StartedAt time.Time
	EndedAt   *time.Time
	Report    string // JSON
}

// SourceEvent is one thing that a source did to an object.
type SourceEvent struct {
	Seq      int64 `gorm:"primaryKey;autoIncrement"`
	Kind     string
	ObjectID string
	Source   string
	Run      int64
	At       time.Time
	What     string // new, altered, left, back, removed
	Fields   string // JSON of what altered
}

func (SourceEvent) TableName() string { return "source_history" }

// SourceToken lets a program write to a source.
type SourceToken struct {
	ID        string `gorm:"primaryKey"`
	Source    string
	Hash      string
	Name      string
	CreatedBy string
	CreatedAt time.Time
	UsedAt    *time.Time
	RevokedAt *time.Time
}

// Sources lists sources by id.
func (s *Store) Sources() ([]Source, error) { return many[Source](s.db.Order("id")) }

// Source gives a source.
func (s *Store) Source(id string) (Source, error) { return one[Source](s.db.Where("id = ?", id)) }

// SaveSource adds a source or alters it.
func (s *Store) SaveSource(x Source) error {
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&x).Error
}

// DropSource takes a source away with all that it is known by. Its history stays.
func (s *Store) DropSource(id string) error {
	for _, row := range []any{&SourceRecord{}, &SourceRun{}, &SourceToken{}} {
		if err := s.db.Where("source = ?", id).Delete(row).Error; err != nil {
			return err
		}
	}
	return s.db.Where("id = ?", id).Delete(&Source{}).Error
}

// SourceRecords gives what a source has, of one kind or with an empty kind of all.
func (s *Store) SourceRecords(source, kind string) ([]SourceRecord, error) {
	q := s.db.Where("source = ?", source)
	if kind != "" {
		q = q.Where("kind = ?", kind)
	}
	return many[SourceRecord](q.Order("kind, key"))
}

// AllBrought gives every record that is in the estate, with what is needed to compose it.
func (s *Store) AllBrought() ([]SourceRecord, error) {
	return many[SourceRecord](
		s.db.Select("source", "kind", "key", "object_id", "brought", "left_at").Where("object_id <> '' AND brought <> ''"),
	)
}

// RecordOf gives the record behind an object.
func (s *Store) RecordOf(kind, object string) (SourceRecord, error) {
	return one[SourceRecord](s.db.Where("kind = ? AND object_id = ?", kind, object))
}

// SourceRecord gives a record by its key.
func (s *Store) SourceRecord(source, kind, key string) (SourceRecord, error) {
	return one[SourceRecord](s.db.Where("source = ? AND kind = ? AND key = ?", source, kind, key))
}

// RecordsNamed gives records by the name that they are looked up by.
func (s *Store) RecordsNamed(source, kind, name string) ([]SourceRecord, error) {
	return many[SourceRecord](
		s.db.Table("source_records INDEXED BY source_name").Where("name = ? AND source = ? AND kind = ?", name, source, kind),
	)
}

// RecordsExternal gives records by the client's own id.
func (s *Store) RecordsExternal(source, kind, external string) ([]SourceRecord, error) {
	return many[SourceRecord](
		s.db.Table("source_records INDEXED BY source_external").
			Where("external = ? AND external <> '' AND source = ? AND kind = ?", external, source, kind),
	)
}

// LeftRecords gives the records that a source no longer has and that are still in the estate; of
// all sources with an empty source.
func (s *Store) LeftRecords(source string) ([]SourceRecord, error) {
	q := s.db.Omit("resource").Where("left_at IS NOT NULL AND object_id <> ''")
	if source != "" {
		q = q.Where("source = ?", source)
	}
	return many[SourceRecord](q.Order("left_at, kind, object_id"))
}

// RecordCount counts what a source has, by kind.
type RecordCount struct {
	Source string
	Kind   string
	Here   int
	Gone   int
	Faulty int
}

// RecordCounts counts what every source has in the estate.
func (s *Store) RecordCounts() ([]RecordCount, error) {
	var out []RecordCount
	err := s.db.Raw(`SELECT source, kind, count(*) FILTER (WHERE left_at IS NULL) AS here, count(*) FILTER (WHERE left_at IS NOT NULL AND object_id <> '') AS gone,
		count(*) FILTER (WHERE fault <> '') AS faulty FROM source_records GROUP BY source, kind`).
		Scan(&out).
		Error
	return out, err
}

// recordBatch is small enough for fourteen columns a row to stay below SQLite's limit of variables.
const recordBatch = 1000

// SaveRecords adds records or alters them.
func (s *Store) SaveRecords(records []SourceRecord) error {
	if len(records) == 0 {
		return nil
	}
	return s.db.Session(&gorm.Session{PrepareStmt: true}).
		Clauses(clause.OnConflict{UpdateAll: true}).
		CreateInBatches(records, recordBatch).
		Error
}

// SaveTaken adds records, or notes of those that are there what became of them in the estate: what
// a client wrote of them stays.
func (s *Store) SaveTaken(records []SourceRecord) error {
	if len(records) == 0 {
		return nil
	}
	return s.db.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "source"}, {Name: "kind"}, {Name: "key"}},
		DoUpdates: clause.AssignmentColumns([]string{"object_id", "brought", "left_at", "fault"})}).
		CreateInBatches(records, recordBatch).
		Error
}

// SaveProvisioned adds a record, or notes what a client wrote of one: what became of it in the
// estate stays.
func (s *Store) SaveProvisioned(r SourceRecord) error {
	return s.db.Clauses(clause.OnConflict{Columns: []clause.Column{{Name: "source"}, {Name: "kind"}, {Name: "key"}},
		DoUpdates: clause.AssignmentColumns([]string{"resource", "name", "external", "version", "altered_at"})}).
		Create(&r).
		Error
}

// RecordsMentioning gives records whose resource has a text in quotes.
func (s *Store) RecordsMentioning(source, kind, text string) ([]SourceRecord, error) {
	return many[SourceRecord](s.db.Where(`source = ? AND kind = ? AND instr(resource, ?) > 0`, source, kind, `"`+text+`"`).Order("key"))
}

// DropRecord takes a record away.
func (s *Store) DropRecord(source, kind, key string) error {
	return s.db.Where("source = ? AND kind = ? AND key = ?", source, kind, key).Delete(&SourceRecord{}).Error
}

// AddRun adds a run and gives its number.
func (s *Store) AddRun(r SourceRun) (int64, error) {
	err := s.db.Create(&r).Error
	return r.Seq, err
}

// Runs lists the newest runs of a source.
func (s *Store) Runs(source string, most int) ([]SourceRun, error) {
	return many[SourceRun](s.db.Where("source = ?", source).Order("seq DESC").Limit(most))
}

// TrimSources removes the runs that ended, and what sources did to objects, before a moment. The
// newest run of a source stays.
func (s *Store) TrimSources(before time.Time) error {
	return s.transaction(func(tx *Store) error {
		if err := tx.db.Where("at < ?", before).Delete(&SourceEvent{}).Error; err != nil {
			return err
		}
		return tx.db.Where("ended_at < ? AND seq NOT IN (SELECT max(seq) FROM source_runs "+
			"GROUP BY source)", before).Delete(&SourceRun{}).Error
	})
}

// AddEvents appends to the history of objects.
func (s *Store) AddEvents(events []SourceEvent) error {
	if len(events) == 0 {
		return nil
	}
	return s.db.CreateInBatches(events, recordBatch).Error
}

// Events lists what sources did to an object, the newest first.
func (s *Store) Events(kind, object string, most int) ([]SourceEvent, error) {
	return many[SourceEvent](s.db.Where("kind = ? AND object_id = ?", kind, object).Order("seq DESC").Limit(most))
}

// AddSourceToken adds a token.
func (s *Store) AddSourceToken(t SourceToken) error { return s.db.Create(&t).Error }

// SourceTokenBy gives a token by its hash, unless it was revoked.
func (s *Store) SourceTokenBy(hash string) (SourceToken, error) {
	return one[SourceToken](s.db.Where("hash = ? AND revoked_at IS NULL", hash))
}

// SourceTokens lists the tokens of a source, revoked ones included.
func (s *Store) SourceTokens(source string) ([]SourceToken, error) {
	return many[SourceToken](s.db.Where("source = ?", source).Order("created_at, id"))
}

// SaveSourceToken alters a token.
func (s *Store) SaveSourceToken(t SourceToken) error { return s.db.Save(&t).Error }
