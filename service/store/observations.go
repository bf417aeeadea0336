// This file keeps what laptops said of settings that nothing manages.

package store

import (
	"time"

	"zenithridge.example/zridge/core/setting"
)

type observation struct {
	Device  string `gorm:"primaryKey"`
	Setting string `gorm:"primaryKey"`
	Value   string
	At      time.Time
}

// SaveObservations replaces what a laptop said when it was last asked for everything.
func (s *Store) SaveObservations(device string, values map[setting.ID]setting.Value, at time.Time) error {
	rows := make([]observation, 0, len(values))
	for id, v := range values {
		rows = append(rows, observation{device, string(id), valueColumn(v), at})
	}
	return s.transaction(func(tx *Store) error {
		if err := tx.db.Where("device = ?", device).Delete(&observation{}).Error; err != nil || len(rows) == 0 {
			return err
		}
		return tx.db.CreateInBatches(rows, batch).Error
	})
}

// Observations gives what a laptop said when it was last asked for everything.
func (s *Store) Observations(device string) (map[setting.ID]setting.Value, error) {
	rows, err := many[observation](s.db.Where("device = ?", device))
	if err != nil {
		return nil, err
	}
	out := make(map[setting.ID]setting.Value, len(rows))
	for _, r := range rows {
		if out[setting.ID(r.Setting)], err = columnValue(r.Value); err != nil {
			return nil, err
		}
	}
	return out, nil
}
