// This file reads the past: objects as they were at a revision, what laptops reported, when they checked in.

package store

import (
	"database/sql"
	"iter"
	"time"

	"zenithridge.example/zridge/core/setting"
)

// RevisionAt gives the newest publication at or before a moment; 0 before the first.
func (s *Store) RevisionAt(at time.Time) (revision int64, err error) {
	// Times are compared as numbers: as texts they have fractions of different lengths.
	err = s.db.Raw(`SELECT coalesce(max(revision), 0) FROM publications WHERE julianday(at) <= julianday(?)`, at).Scan(&revision).Error
	return revision, err
}

// ObjectsAt gives every object as it was at a revision, retired ones included, in the order of their kinds
// and ids. An error ends it.
func (s *Store) ObjectsAt(revision int64) iter.Seq2[ObjectVersion, error] {
	return func(yield func(ObjectVersion, error) bool) {
		rows, err := s.db.Raw(
			`SELECT kind, id, version, retired, body, revision, "by", at, coalesce(local, '') FROM object_versions AS v
			 WHERE version = (SELECT max(version) FROM object_versions WHERE kind = v.kind AND id = v.id AND revision <= ?) ORDER BY kind, id`, revision,
		).Rows()
		if err != nil {
			yield(ObjectVersion{}, err)
			return
		}
		defer rows.Close()
		for rows.Next() {
			var o ObjectVersion
			err := rows.Scan(&o.Kind, &o.ID, &o.Version, &o.Retired, &o.Body, &o.Revision, &o.By, &o.At, &o.Local)
			if !yield(o, err) || err != nil {
				return
			}
		}
		if err := rows.Err(); err != nil {
			yield(ObjectVersion{}, err)
		}
	}
}

// EventsAfter gives what sources did to objects after a moment, the newest first.
func (s *Store) EventsAfter(at time.Time) ([]SourceEvent, error) {
	return many[SourceEvent](s.db.Where("julianday(at) > julianday(?)", at).Order("seq DESC"))
}

// Reported is what a laptop reported of a setting over a span of time.
type Reported struct {
	Setting setting.ID
	Value   setting.Value
	Since   time.Time
	Until   *time.Time // nil: it does so now
}

// ReportedAt gives what a laptop reported at a moment, by setting. Settings of which it had reported nothing
// are not in it.
func (s *Store) ReportedAt(device string, at time.Time) (map[setting.ID]Reported, error) {
	var rows []struct {
		Setting, Value string
		Since          time.Time
		Until          *time.Time
	}
	err := s.db.Raw(
		`SELECT setting, value, since, until FROM reported_before
		   WHERE device = @device AND julianday(since) <= julianday(@at) AND julianday(until) > julianday(@at)
		 UNION ALL SELECT setting, reported, since, NULL FROM deliveries WHERE device = @device AND since IS NOT NULL AND julianday(since) <= julianday(@at)`,
		sql.Named("device", device), sql.Named("at", at),
	).Scan(&rows).Error
	if err != nil {
		return nil, err
	}
	out := make(map[setting.ID]Reported, len(rows))
	for _, r := range rows {
		v, err := columnValue(r.Value)
		if err != nil {
			return nil, err
		}
		if !v.IsNothing() {
			out[setting.ID(r.Setting)] = Reported{setting.ID(r.Setting), v, r.Since, r.Until}
		}
	}
	return out, nil
}

// Presence is a span in which a laptop checked in as often as usual.
type Presence struct {
	Device   string `gorm:"primaryKey"`
	Since    time.Time
	Until    time.Time // the last check-in of the span
	Sessions int64
}

func (Presence) TableName() string { return "presence" }

// PresenceAt gives the span of a laptop's check-ins at or before a moment; nil: it had never checked in.
func (s *Store) PresenceAt(device string, at time.Time) (*Presence, error) {
	found, err := many[Presence](s.db.Where("device = ? AND julianday(since) <= julianday(?)", device, at).Order("since DESC").Limit(1))
	if err != nil || len(found) == 0 {
		return nil, err
	}
	return &found[0], nil
}

// keepReported keeps what a laptop reported before of the settings that it reports otherwise now.
func (s *Store) keepReported(device string, rows []delivery) error {
	for _, r := range rows {
		until := r.ReportedAt
		if until.IsZero() {
			until = r.WantedAt
		}
		err := s.db.Exec(
			`INSERT OR REPLACE INTO reported_before (device, setting, since, until, value)
			 SELECT device, setting, since, ?, reported FROM deliveries
			 WHERE device = ? AND setting = ? AND reported <> ? AND reported <> '' AND since IS NOT NULL`,
			until, device, r.Setting, r.Reported,
		).Error
		if err != nil {
			return err
		}
	}
	return nil
}
