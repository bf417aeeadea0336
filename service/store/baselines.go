// This file keeps how laptops stand to baselines.

package store

import (
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"zenithridge.example/zridge/core/baseline"
	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
)

// BaselineState is how a laptop stands to a baseline, as it was measured last.
type BaselineState struct {
	Baseline, Device string
	Unit             string // home unit
	State            baseline.State
	Failing          []baseline.Failing
	At               time.Time
}

type baselineState struct {
	Baseline string `gorm:"primaryKey"`
	Device   string `gorm:"primaryKey"`
	Unit     string
	State    string
	Failing  string
	At       time.Time
}

// ReplaceBaselineStates puts states in the place of all of a baseline; with a device, in the place of those of the device.
func (s *Store) ReplaceBaselineStates(baseline, device string, states []BaselineState) error {
	return s.transaction(func(tx *Store) error {
		old := tx.db.Where("device = ?", device)
		if device == "" {
			old = tx.db.Where("baseline = ?", baseline)
		}
		if err := old.Delete(&baselineState{}).Error; err != nil || len(states) == 0 {
			return err
		}
		rows := make([]baselineState, len(states))
		for i, st := range states {
			failing, err := json.Marshal(st.Failing)
			if err != nil {
				return err
			}
			rows[i] = baselineState{st.Baseline, st.Device, st.Unit, string(st.State), string(failing), st.At.UTC()}
		}
		return tx.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(rows, batch).Error
	})
}

// DropBaselineStates forgets how laptops stood to baselines that are no more.
func (s *Store) DropBaselineStates(but []string) error {
	if len(but) == 0 {
		return s.db.Where("1 = 1").Delete(&baselineState{}).Error
	}
	return s.db.Where("baseline NOT IN ?", but).Delete(&baselineState{}).Error
}

// BaselineStates gives how laptops stand: to a baseline, or on a device, or both; empty means all.
func (s *Store) BaselineStates(of, device string) ([]BaselineState, error) {
	q := s.db.Order("baseline, device")
	if of != "" {
		q = q.Where("baseline = ?", of)
	}
	if device != "" {
		q = q.Where("device = ?", device)
	}
	rows, err := many[baselineState](q)
	if err != nil {
		return nil, err
	}
	out := make([]BaselineState, len(rows))
	for i, r := range rows {
		out[i] = BaselineState{Baseline: r.Baseline, Device: r.Device, Unit: r.Unit, State: baseline.State(r.State), At: r.At}
		if err := json.Unmarshal([]byte(r.Failing), &out[i].Failing); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// BaselineCount is how many laptops of a unit have a state.
type BaselineCount struct {
	Baseline, Unit, State string
	Count                 int
}

// BaselineCounts counts states by baseline and home unit.
func (s *Store) BaselineCounts() ([]BaselineCount, error) {
	var out []BaselineCount
	err := s.db.Raw(`SELECT baseline, unit, state, count(*) AS count FROM baseline_states GROUP BY baseline, unit, state`).Scan(&out).Error
	return out, err
}

// BaselineDay is how the laptops of a unit, with what is below it, stood to a baseline at the end of a day.
type BaselineDay struct {
	Baseline string `gorm:"primaryKey"`
	Unit     string `gorm:"primaryKey"`
	Day      string `gorm:"primaryKey"` // 2026-03-01
	Complies int
	Differs  int
	Unknown  int
}

// daysKept is for how many days it is kept how laptops stood.
const daysKept = 400

// SaveBaselineDays writes a day's shares, in the place of those that were written for it before.
func (s *Store) SaveBaselineDays(days []BaselineDay, now time.Time) error {
	if len(days) == 0 {
		return nil
	}
	if err := s.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(days, batch).Error; err != nil {
		return err
	}
	return s.db.Where("day < ?", now.AddDate(0, 0, -daysKept).Format(time.DateOnly)).Delete(&BaselineDay{}).Error
}

// BaselineDays gives how the laptops of a unit stood, the earliest day first.
func (s *Store) BaselineDays(of, unit string) ([]BaselineDay, error) {
	return many[BaselineDay](s.db.Where("baseline = ? AND unit = ?", of, unit).Order("day"))
}

// Measured is what is known of a setting on a laptop.
type Measured struct {
	Reported, Wanted setting.Value
	Said             bool // the laptop said what it has
}

// MeasuredSettings gives what laptops said of some settings, by device and setting; of one device where it is named. What
// nothing manages is as they said when they were asked last.
func (s *Store) MeasuredSettings(settings []setting.ID, device string) (map[string]map[setting.ID]Measured, error) {
	out := map[string]map[setting.ID]Measured{}
	take := func(device string, id setting.ID, m Measured) {
		if out[device] == nil {
			out[device] = map[setting.ID]Measured{}
		}
		out[device][id] = m
	}
	about := func() *gorm.DB {
		q := s.db.Where("setting IN ?", settings)
		if device != "" {
			q = q.Where("device = ?", device)
		}
		return q
	}
	err := eachRow(about(), func(r *observation) error {
		v, err := columnValue(r.Value)
		take(r.Device, setting.ID(r.Setting), Measured{Reported: v, Said: true})
		return err
	})
	if err != nil {
		return nil, err
	}
	err = eachRow(about(), func(r *delivery) error {
		m := Measured{Said: !r.ReportedAt.IsZero() && r.Status != string(rollout.Unsupported) && r.Status != string(rollout.Conflict)}
		var errs [2]error
		m.Reported, errs[0] = columnValue(r.Reported)
		m.Wanted, errs[1] = columnValue(r.Wanted)
		if m.Said || !m.Wanted.IsNothing() {
			take(r.Device, setting.ID(r.Setting), m)
		}
		return errors.Join(errs[:]...)
	})
	return out, err
}

// eachRow gives the rows of a query one after the other: of 100,000 laptops they are many.
func eachRow[T any](q *gorm.DB, do func(*T) error) error {
	rows, err := q.Model(new(T)).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var row T
		if err := q.ScanRows(rows, &row); err != nil {
			return err
		}
		if err := do(&row); err != nil {
			return err
		}
	}
	return rows.Err()
}

// AddObservations keeps what a laptop said of some settings that nothing manages, beside what it said of others.
func (s *Store) AddObservations(device string, values map[setting.ID]setting.Value, at time.Time) error {
	rows := make([]observation, 0, len(values))
	for id, v := range values {
		rows = append(rows, observation{device, string(id), valueColumn(v), at})
	}
	if len(rows) == 0 {
		return nil
	}
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(rows, batch).Error
}
