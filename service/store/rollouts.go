// This file keeps rollouts: their waves, their laptops, and what happened in them.

package store

import (
	"database/sql"
	"time"

	"gorm.io/gorm/clause"
)

// Rollout is a change on its way to laptops.
type Rollout struct {
	ID          string `gorm:"primaryKey"` // of the change
	Number      int64  // order of publication
	Title       string
	Plan        string // JSON of the rollout plan, as it was chosen
	By          string
	PublishedAt time.Time
	StartedAt   *time.Time // nil: it waits for others
	Progress    string     // rollout.Progress, or waiting
	Reason      string     // why it stopped, or what it waits for
	SeenFailed  int
	SeenLost    int
	Now         *time.Time // of the last transition
	EndedAt     *time.Time
	Revision    int64  // that the change became part of the live estate with; 0: not yet
	ReadyTold   string // the wave of which people were told that it waits for them
	Concluded   bool   // what its end means for the live estate is written
}

// RolloutWave is a wave that was filled.
type RolloutWave struct {
	Rollout  string `gorm:"primaryKey"`
	Place    int    `gorm:"primaryKey"`
	Wave     string // its id in the plan
	OpenedAt *time.Time
	HalfAt   *time.Time // when half of its laptops had taken the change for the first time
	MostAt   *time.Time // the same of 95 of 100
}

// RolloutLaptop is a laptop of a rollout.
type RolloutLaptop struct {
	Rollout      string `gorm:"primaryKey"`
	Device       string `gorm:"primaryKey"`
	Wave         string
	State        uint8 // rollout.State
	Heard        time.Time
	Interval     int64      // seconds between two check-ins, as they usually are; 0: not known
	Since        *time.Time // of the state; nil: from the start
	Reason       string     // why it failed, or why a person excused it
	FailedBefore string     // JSON: settings that failed before its wave opened; empty: not looked at yet
}

// RolloutEvent is something that happened in a rollout: a laptop's state, a wave that opened, the
// rollout's own state, or what somebody did.
type RolloutEvent struct {
	Seq     int64 `gorm:"primaryKey;autoIncrement"`
	Rollout string
	At      time.Time
	What    string // state, opened, laptop
	Device  string
	Wave    string
	From    string
	To      string
	Laptops int // that became due with a wave
	By      string
	Reason  string
}

// Rollouts lists rollouts in the order of their publication; those that are over and written down as
// such are left out unless all are wanted.
func (s *Store) Rollouts(all bool) ([]Rollout, error) {
	q := s.db.Order("number")
	if !all {
		q = q.Where("NOT concluded")
	}
	return many[Rollout](q)
}

// Rollout gives one rollout.
func (s *Store) Rollout(id string) (Rollout, error) { return one[Rollout](s.db.Where("id = ?", id)) }

// NextRollout gives the number of the next rollout.
func (s *Store) NextRollout() (number int64, err error) {
	err = s.db.Raw(`SELECT coalesce(max(number), 0) + 1 FROM rollouts`).Scan(&number).Error
	return number, err
}

// SaveRollout adds a rollout or alters it.
func (s *Store) SaveRollout(r Rollout) error {
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&r).Error
}

// RemoveRollout removes a rollout that never started.
func (s *Store) RemoveRollout(id string) error {
	return s.db.Where("id = ? AND started_at IS NULL", id).Delete(&Rollout{}).Error
}

// SaveWaves adds the waves of a rollout.
func (s *Store) SaveWaves(waves []RolloutWave) error {
	if len(waves) == 0 {
		return nil
	}
	return s.db.Create(&waves).Error
}

// ReachWave notes when half of the laptops of a wave, and 95 of 100, had taken the change.
func (s *Store) ReachWave(w RolloutWave) error {
	return s.db.Exec(`UPDATE rollout_waves SET half_at = ?, most_at = ? WHERE rollout = ? AND place = ?`, w.HalfAt, w.MostAt,
		w.Rollout, w.Place).Error
}

// StateStep is how many laptops went from one state to another within a minute.
type StateStep struct {
	Minute  string // 2026-11-23 09:30, UTC
	From    string
	To      string
	Laptops int
}

// StateSteps counts how laptops of a rollout went from state to state, by minute.
func (s *Store) StateSteps(id string) ([]StateStep, error) {
	var out []StateStep
	err := s.db.Raw(
		`SELECT substr(at, 1, 16) AS minute, "from", "to", count(*) AS laptops FROM rollout_events
		 WHERE rollout = ? AND what = 'laptop' GROUP BY minute, "from", "to" ORDER BY minute`, id,
	).Scan(&out).Error
	return out, err
}

// Waves gives the waves of a rollout in order.
func (s *Store) Waves(id string) ([]RolloutWave, error) {
	return many[RolloutWave](s.db.Where("rollout = ?", id).Order("place"))
}

// OpenWave notes that a wave is open: its laptops that were in the state from are in the state to.
func (s *Store) OpenWave(id, wave string, at time.Time, from, to uint8) error {
	if err := s.db.Exec(`UPDATE rollout_waves SET opened_at = ? WHERE rollout = ? AND wave = ?`, at, id, wave).Error; err != nil {
		return err
	}
	return s.db.Exec(`UPDATE rollout_laptops SET state = ?, since = ? WHERE rollout = ? AND wave = ? AND state = ?`, to, at, id,
		wave, from).Error
}

// SaveRolloutLaptops adds laptops of rollouts or alters them.
func (s *Store) SaveRolloutLaptops(laptops []RolloutLaptop) error {
	if len(laptops) == 0 {
		return nil
	}
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(laptops, batch).Error
}

// RemoveRolloutLaptops removes laptops that left a rollout.
func (s *Store) RemoveRolloutLaptops(id string, devices []string) error {
	for _, device := range devices {
		if err := s.db.Where("rollout = ? AND device = ?", id, device).Delete(&RolloutLaptop{}).Error; err != nil {
			return err
		}
	}
	return nil
}

// RolloutLaptops gives the laptops of a rollout by id.
func (s *Store) RolloutLaptops(id string) ([]RolloutLaptop, error) {
	return many[RolloutLaptop](s.db.Where("rollout = ?", id).Order("device"))
}

// RolloutsOf gives what a laptop is in the rollouts, by the order of their publication.
func (s *Store) RolloutsOf(device string) ([]RolloutLaptop, error) {
	var out []RolloutLaptop
	err := s.db.Raw(`SELECT l.* FROM rollout_laptops l JOIN rollouts r ON r.id = l.rollout WHERE l.device = ? ORDER BY r.number`,
		device).Scan(&out).Error
	return out, err
}

// AddRolloutEvents notes what happened in rollouts.
func (s *Store) AddRolloutEvents(events []RolloutEvent) error {
	if len(events) == 0 {
		return nil
	}
	return s.db.CreateInBatches(events, batch).Error
}

// RolloutEvents gives what happened in a rollout, the newest first, from below a number on; 0: from the
// newest. Those of single laptops are left out unless they are wanted.
func (s *Store) RolloutEvents(id string, below int64, laptops bool, most int) ([]RolloutEvent, error) {
	q := s.db.Where("rollout = ?", id).Order("seq DESC").Limit(most)
	if below > 0 {
		q = q.Where("seq < ?", below)
	}
	if !laptops {
		q = q.Where("device = ''")
	}
	return many[RolloutEvent](q)
}

// EventsOfLaptop gives what happened in a rollout until a moment, as a whole and to one laptop, in its order.
func (s *Store) EventsOfLaptop(id, device string, until time.Time) ([]RolloutEvent, error) {
	return many[RolloutEvent](
		s.db.Where("rollout = ? AND device IN ('', ?) AND julianday(at) <= julianday(?)", id, device, until).Order("seq"),
	)
}

// EventsOfRollout gives what happened to a rollout as a whole until a moment, in its order.
func (s *Store) EventsOfRollout(id string, until time.Time) ([]RolloutEvent, error) {
	return many[RolloutEvent](
		s.db.Where("rollout = ? AND device = '' AND julianday(at) <= julianday(?)", id, until).Order("seq"),
	)
}

// LaptopState is how a laptop was in a rollout.
type LaptopState struct {
	Device, Wave string
	State        string // empty: nothing had happened to the laptop by itself
	Reason       string
}

// StatesAt gives the laptops that a rollout has now as they were in it at a moment. One that joined later has
// no state.
func (s *Store) StatesAt(id string, at time.Time) ([]LaptopState, error) {
	var out []LaptopState
	err := s.db.Raw(
		`SELECT l.device, l.wave, coalesce(e."to", '') AS state, coalesce(e.reason, '') AS reason
		 FROM rollout_laptops AS l
		 LEFT JOIN (SELECT device, max(seq) AS seq FROM rollout_events
		            WHERE rollout = @id AND what = 'laptop' AND julianday(at) <= julianday(@at) GROUP BY device) AS last ON last.device = l.device
		 LEFT JOIN rollout_events AS e ON e.seq = last.seq
		 WHERE l.rollout = @id`,
		sql.Named("id", id), sql.Named("at", at),
	).Scan(&out).Error
	return out, err
}

// WaveCount is how many laptops of a wave are in a state.
type WaveCount struct {
	Wave    string
	State   uint8
	Laptops int
}

// WaveCounts counts the laptops of a rollout by wave and state.
func (s *Store) WaveCounts(id string) ([]WaveCount, error) {
	var out []WaveCount
	err := s.db.Raw(`SELECT wave, state, count(*) AS laptops FROM rollout_laptops WHERE rollout = ? GROUP BY wave, state`, id).Scan(&out).Error
	return out, err
}

// ReasonCount is a reason why laptops failed, with how many.
type ReasonCount struct {
	Reason  string
	Laptops int
}

// FailureReasons counts the laptops of a rollout in a state by reason, most first.
func (s *Store) FailureReasons(id string, state uint8) ([]ReasonCount, error) {
	var out []ReasonCount
	err := s.db.Raw(
		`SELECT reason, count(*) AS laptops FROM rollout_laptops WHERE rollout = ? AND state = ? GROUP BY reason ORDER BY laptops DESC, reason`, id, state,
	).Scan(&out).Error
	return out, err
}
