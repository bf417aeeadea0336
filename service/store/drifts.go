// This file keeps what was altered on laptops.

package store

import (
	"strings"
	"time"

	"gorm.io/gorm"

	"zenithridge.example/zridge/core/setting"
)

// Drift is a value that was altered on a laptop.
type Drift struct {
	Seq      int64 // the order in which they came
	Device   string
	Setting  string
	At       time.Time
	Found    setting.Value // nothing: it was not in force any more
	Wanted   setting.Value
	By       string   // who may have altered it, as far as the laptop can tell
	Repaired bool     // it was put right; false: it was left as it is
	Said     bool     // by the laptop; false: it showed when its values were read
	Policies []string // that decided the setting
}

type drift struct {
	Seq      int64 `gorm:"primaryKey;autoIncrement"`
	Device   string
	Setting  string
	At       time.Time
	Found    string
	Wanted   string
	By       string
	Repaired bool
	Said     bool
	Policies string // with a space between two
}

// driftsKept is how many of a laptop's are kept.
const driftsKept = 200

// AddDrifts keeps what was altered, and of each laptop's the newest.
func (s *Store) AddDrifts(drifts []Drift) error {
	rows := make([]drift, len(drifts))
	for i, d := range drifts {
		rows[i] = drift{
			Device: d.Device, Setting: d.Setting, At: d.At.UTC(), Found: valueColumn(d.Found), Wanted: valueColumn(d.Wanted), By: d.By,
			Repaired: d.Repaired, Said: d.Said, Policies: strings.Join(d.Policies, " "),
		}
	}
	if len(rows) == 0 {
		return nil
	}
	if err := s.db.Create(&rows).Error; err != nil {
		return err
	}
	return s.db.Exec(
		`DELETE FROM drifts WHERE device = ? AND seq <= (SELECT seq FROM drifts WHERE device = ? ORDER BY seq DESC LIMIT 1 OFFSET ?)`,
		rows[0].Device, rows[0].Device, driftsKept,
	).Error
}

// DriftFilter says which drifts are meant. The zero DriftFilter means all.
type DriftFilter struct {
	Device, Setting string
	Since           time.Time
}

func (f DriftFilter) in(db *gorm.DB) *gorm.DB {
	if f.Device != "" {
		db = db.Where("device = ?", f.Device)
	}
	if f.Setting != "" {
		db = db.Where("setting = ?", f.Setting)
	}
	if !f.Since.IsZero() {
		db = db.Where("at >= ?", f.Since.UTC())
	}
	return db
}

// Drifts lists what was altered, the newest first.
func (s *Store) Drifts(f DriftFilter, most int) ([]Drift, error) {
	rows, err := many[drift](f.in(s.db).Order("seq DESC").Limit(most))
	if err != nil {
		return nil, err
	}
	out := make([]Drift, len(rows))
	for i, r := range rows {
		out[i] = Drift{Seq: r.Seq, Device: r.Device, Setting: r.Setting, At: r.At, By: r.By, Repaired: r.Repaired, Said: r.Said,
			Policies: strings.Fields(r.Policies)}
		if out[i].Found, err = columnValue(r.Found); err != nil {
			return nil, err
		}
		if out[i].Wanted, err = columnValue(r.Wanted); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// DriftCount is how often a setting was altered on a laptop, and how often of that it was put right.
type DriftCount struct {
	Device, Setting, Policies string
	Times, Repaired           int
	Last                      string // RFC 3339
}

// DriftCounts counts what was altered since a moment, by laptop and setting, the most frequent first.
func (s *Store) DriftCounts(f DriftFilter, most int) ([]DriftCount, error) {
	var out []DriftCount
	err := f.in(s.db.Model(&drift{})).
		Select(`device, setting, max(policies) AS policies, count(*) AS times, sum(repaired) AS repaired, strftime('%Y-%m-%dT%H:%M:%SZ', max(at)) AS last`).
		Group("device, setting").Order("times DESC, device, setting").Limit(most).Scan(&out).Error
	return out, err
}
