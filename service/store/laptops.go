// This file keeps what is known of laptops: enrolment, what is wanted and reported, and check-ins.

package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"zenithridge.example/zridge/core/rollout"
	"zenithridge.example/zridge/core/setting"
)

// Laptop is what the service knows of a device that has enrolled.
type Laptop struct {
	Device     string `gorm:"primaryKey"`
	Credential string // sealed: B64(MD5(device ":" secret)), what syncml:auth-md5 needs; empty: not enrolled
	EnrolledAt *time.Time
	LastSeen   *time.Time
	Revision   string // the publication that the laptop has taken
	Digest     string // over its reported values, as last seen
	Sessions   int64
	Usual      int64      // seconds between two check-ins, as they usually are; 0: not known
	Offers     string     // JSON: the offered policies that it shows to its person, each with the sum of what was sent; empty: none
	FactsAt    *time.Time // when it was asked last what it knows of itself; nil: never
	TellsSince *time.Time // since when it says itself what was taken on it; nil: it does not
}

type delivery struct {
	Device     string `gorm:"primaryKey"`
	Setting    string `gorm:"primaryKey"`
	Wanted     string
	Reported   string
	Status     string
	Code       string
	Reason     string
	WantedAt   time.Time
	ReportedAt time.Time
	Since      *time.Time // of what it reports
}

func (delivery) TableName() string { return "deliveries" }

// CheckIn is a session of a laptop in which something was said that is worth keeping.
type CheckIn struct {
	Seq      int64 `gorm:"primaryKey;autoIncrement"`
	Device   string
	At       time.Time
	Outcome  string
	Sent     int
	Applied  int
	Failed   int
	Messages int
	Revision string
}

// Laptop gives a laptop's record.
//
// Each session of a laptop begins with it, so it is read without reflection.
func (s *Store) Laptop(device string) (l Laptop, err error) {
	err = s.db.Raw(
		`SELECT device, credential, enrolled_at, last_seen, revision, digest, sessions, usual, offers, facts_at, tells_since FROM laptops WHERE device = ?`, device,
	).Row().Scan(&l.Device, &l.Credential, &l.EnrolledAt, &l.LastSeen, &l.Revision, &l.Digest, &l.Sessions, &l.Usual, &l.Offers,
		&l.FactsAt, &l.TellsSince)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNotFound
	}
	return l, err
}

// Laptops gives every laptop's record.
func (s *Store) Laptops() ([]Laptop, error) { return many[Laptop](s.db.Order("device")) }

// SaveLaptop adds a laptop's record or alters it.
func (s *Store) SaveLaptop(l Laptop) error {
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&l).Error
}

func valueColumn(v setting.Value) string {
	if v.IsNothing() {
		return ""
	}
	text, _ := json.Marshal(v) // a value always can be written
	return string(text)
}

func columnValue(text string) (v setting.Value, err error) {
	if text != "" {
		err = json.Unmarshal([]byte(text), &v)
	}
	return v, err
}

// Deliveries gives a laptop's deliveries by setting.
func (s *Store) Deliveries(device string) (map[setting.ID]rollout.Delivery, error) {
	rows, err := many[delivery](s.db.Where("device = ?", device))
	if err != nil {
		return nil, err
	}
	out := make(map[setting.ID]rollout.Delivery, len(rows))
	for _, r := range rows {
		d := rollout.Delivery{
			Setting:    setting.ID(r.Setting),
			Status:     rollout.Status(r.Status),
			Code:       r.Code,
			Reason:     r.Reason,
			WantedAt:   r.WantedAt,
			ReportedAt: r.ReportedAt,
		}
		if d.Wanted, err = columnValue(r.Wanted); err != nil {
			return nil, err
		}
		if d.Reported, err = columnValue(r.Reported); err != nil {
			return nil, err
		}
		out[d.Setting] = d
	}
	return out, nil
}

// SaveDeliveries writes deliveries of a laptop; those that are gone are forgotten.
func (s *Store) SaveDeliveries(device string, deliveries []rollout.Delivery) error {
	var rows []delivery
	for _, d := range deliveries {
		if d.Gone() {
			if err := s.keepReported(device, []delivery{{Setting: string(d.Setting), ReportedAt: s.keptUntil(d)}}); err != nil {
				return err
			}
			if err := s.db.Where("device = ? AND setting = ?", device, string(d.Setting)).Delete(&delivery{}).Error; err != nil {
				return err
			}
			continue
		}
		rows = append(
			rows,
			delivery{
				device,
				string(d.Setting),
				valueColumn(d.Wanted),
				valueColumn(d.Reported),
				string(d.Status),
				d.Code,
				d.Reason,
				d.WantedAt.UTC(),
				d.ReportedAt.UTC(),
				nil,
			},
		)
	}
	if len(rows) == 0 {
		return nil
	}
	if err := s.keepReported(device, rows); err != nil {
		return err
	}
	for i := range rows {
		if rows[i].Reported != "" {
			rows[i].Since = &rows[i].ReportedAt
		}
	}
	// What is reported as before is so since before.
	columns := []string{"wanted", "reported", "status", "code", "reason", "wanted_at", "reported_at"}
	alter := clause.AssignmentColumns(columns)
	alter = append(alter, clause.Assignment{
		Column: clause.Column{Name: "since"},
		Value: clause.Expr{SQL: "CASE WHEN deliveries.reported = excluded.reported AND deliveries.since IS NOT NULL THEN " +
			"deliveries.since ELSE excluded.since END"},
	})
	conflict := clause.OnConflict{Columns: []clause.Column{{Name: "device"}, {Name: "setting"}}, DoUpdates: alter}
	return s.db.Clauses(conflict).CreateInBatches(rows, 500).Error
}

// keptUntil is when a delivery that is forgotten ceased to be reported.
func (s *Store) keptUntil(d rollout.Delivery) time.Time {
	if d.ReportedAt.IsZero() {
		return time.Now().UTC()
	}
	return d.ReportedAt.UTC()
}

// StatusCount is how many settings of a device have a status.
type StatusCount struct {
	Device string
	Status string
	Count  int
}

// StatusCounts counts deliveries by device and status.
func (s *Store) StatusCounts() ([]StatusCount, error) {
	var out []StatusCount
	err := s.db.Raw(`SELECT device, status, count(*) AS count FROM deliveries GROUP BY device, status`).Scan(&out).Error
	return out, err
}

// OpenDeliveries gives the status of every delivery that is pending or failed, by device and
// setting.
func (s *Store) OpenDeliveries() (map[string]map[string]rollout.Status, error) {
	var rows []struct{ Device, Setting, Status string }
	if err := s.db.Raw(`SELECT device, setting, status FROM deliveries WHERE status IN ('pending', 'failed')`).Scan(&rows).Error; err != nil {
		return nil, err
	}
	out := map[string]map[string]rollout.Status{}
	for _, r := range rows {
		if out[r.Device] == nil {
			out[r.Device] = map[string]rollout.Status{}
		}
		out[r.Device][r.Setting] = rollout.Status(r.Status)
	}
	return out, nil
}

// FailedDelivery is a setting that failed on a device.
type FailedDelivery struct {
	Device     string
	Setting    string
	Code       string
	Reason     string
	ReportedAt time.Time
}

// Failed lists what failed, by setting and device.
func (s *Store) Failed(most int) ([]FailedDelivery, error) {
	var out []FailedDelivery
	err := s.db.Raw(`SELECT device, setting, code, reason, reported_at FROM deliveries WHERE status = 'failed' ORDER BY setting, device LIMIT ?`, most).
		Scan(&out).
		Error
	return out, err
}

// AddCheckIn keeps a check-in, and of a device's the newest hundred.
func (s *Store) AddCheckIn(c CheckIn) error {
	if err := s.db.Create(&c).Error; err != nil {
		return err
	}
	if c.Seq%64 != 0 {
		return nil
	}
	return s.db.Exec(
		`DELETE FROM check_ins WHERE device = ? AND seq <= (SELECT seq FROM check_ins WHERE device = ? ORDER BY seq DESC LIMIT 1 OFFSET 100)`,
		c.Device,
		c.Device,
	).Error
}

// CheckIns lists a device's check-ins, the newest first.
func (s *Store) CheckIns(device string, most int) ([]CheckIn, error) {
	return many[CheckIn](s.db.Where("device = ?", device).Order("seq DESC").Limit(most))
}

// laptopsAtOnce is how many laptops are noted in one transaction: the driver keeps something for every statement
// until a transaction ends.
const laptopsAtOnce = 1000

// TouchLaptops notes when laptops were last seen and how many sessions they had, and goes on with the spans
// in which they check in as often as usual: a new one begins after three usual intervals, or a day.
func (s *Store) TouchLaptops(seen map[string]Laptop) error {
	for devices := range slices.Chunk(slices.Sorted(maps.Keys(seen)), laptopsAtOnce) {
		if err := s.touch(devices, seen); err != nil {
			return err
		}
	}
	return nil
}

func (s *Store) touch(devices []string, seen map[string]Laptop) error {
	return s.db.Transaction(func(tx *gorm.DB) error {
		for _, device := range devices {
			l := seen[device]
			// What is usual follows slowly: a quarter of what differs with each note.
			if err := tx.Exec(
				`UPDATE laptops SET usual = CASE
				   WHEN last_seen IS NULL OR julianday(@at) <= julianday(last_seen) THEN usual
				   WHEN usual = 0 THEN CAST(round((julianday(@at) - julianday(last_seen)) * 86400.0 / @n) AS INTEGER)
				   ELSE CAST(round(usual * 0.75 + 0.25 * (julianday(@at) - julianday(last_seen)) * 86400.0 / @n) AS INTEGER) END,
				 last_seen = @at, sessions = sessions + @n WHERE device = @device`,
				sql.Named("at", l.LastSeen), sql.Named("n", l.Sessions), sql.Named("device", device),
			).Error; err != nil {
				return err
			}
			went := tx.Exec(
				`UPDATE presence SET until = @at, sessions = sessions + @n
				 WHERE device = @device AND since = (SELECT max(since) FROM presence WHERE device = @device)
				   AND julianday(@at) - julianday(until) <= (SELECT max(1.0, 3.0 * usual / 86400) FROM laptops WHERE device = @device)`,
				sql.Named("at", l.LastSeen), sql.Named("n", l.Sessions), sql.Named("device", device),
			)
			if went.Error != nil {
				return went.Error
			}
			if went.RowsAffected == 0 {
				if err := tx.Exec(`INSERT OR IGNORE INTO presence (device, since, until, sessions) VALUES (?, ?, ?, ?)`, device, l.LastSeen,
					l.LastSeen, l.Sessions).Error; err != nil {
					return err
				}
			}
		}
		return nil
	})
}
