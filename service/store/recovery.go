// This file keeps sealed recovery keys, what laptops report of their volumes, and who asked to see a key.

package store

import (
	"encoding/json"
	"time"

	"gorm.io/gorm/clause"

	"zenithridge.example/zridge/core/recovery"
)

// RecoveryKey is a sealed recovery key of a volume of a laptop.
type RecoveryKey struct {
	Seq        int64 `gorm:"primaryKey;autoIncrement"`
	Device     string
	Volume     string
	Name       string // of the volume
	Identifier recovery.Identifier
	Sealed     []byte
	Recipients []string `gorm:"serializer:json"`
	State      recovery.KeyState
	MadeAt     time.Time
	StoredAt   time.Time
	Since      *time.Time // when the laptop first said that it opens the volume
	Until      *time.Time // when another one took its place
	UsedAt     *time.Time // when it was shown first
	UsedBy     string     // whom it was shown to
	RenewalAt  *time.Time // when a new one was asked for; nil: nobody asked
}

// keysKept is how many keys of a volume that were replaced are kept, with the time in which they were valid.
const keysKept = 100

// SaveRecoveryKey stores a key. The same key again is stored once: known is then true.
func (s *Store) SaveRecoveryKey(k RecoveryKey) (known bool, err error) {
	q := s.db.Clauses(clause.OnConflict{DoNothing: true}).Create(&k)
	return q.Error == nil && q.RowsAffected == 0, q.Error
}

// UpdateRecoveryKey writes what is known of a key, but for what is sealed.
func (s *Store) UpdateRecoveryKey(k RecoveryKey) error {
	return s.db.Model(&RecoveryKey{}).Where("seq = ?", k.Seq).Select("state", "since", "until", "used_at", "used_by", "renewal_at",
		"name").Updates(&k).Error
}

// TrimRecoveryKeys forgets the oldest keys of a laptop beyond those that are kept, of those that were replaced.
func (s *Store) TrimRecoveryKeys(device string) error {
	return s.db.Exec(
		`DELETE FROM recovery_keys WHERE device = ? AND state = ? AND seq <= (SELECT seq FROM recovery_keys WHERE device = ? ORDER BY seq DESC LIMIT 1 OFFSET ?)`,
		device, recovery.Replaced, device, keysKept,
	).Error
}

// RecoveryKeys gives the keys of a laptop, the newest first.
func (s *Store) RecoveryKeys(device string) ([]RecoveryKey, error) {
	return many[RecoveryKey](s.db.Where("device = ?", device).Order("seq DESC"))
}

// RecoveryKey gives a key by its number.
func (s *Store) RecoveryKey(seq int64) (RecoveryKey, error) {
	return one[RecoveryKey](s.db.Where("seq = ?", seq))
}

// RecoveryKeysNamed gives the keys with an identifier, the newest first.
func (s *Store) RecoveryKeysNamed(id recovery.Identifier) ([]RecoveryKey, error) {
	return many[RecoveryKey](s.db.Where("identifier = ?", id).Order("seq DESC").Limit(100))
}

// EachRecoveryKey gives every key that is stored or current, without what is sealed.
func (s *Store) EachRecoveryKey(f func(RecoveryKey) error) error {
	rows, err := s.db.Model(&RecoveryKey{}).
		Select("seq, device, volume, identifier, recipients, state, since, used_at, renewal_at").Where("state <> ?",
		recovery.Replaced).Order("seq").Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var k RecoveryKey
		var recipients string
		if err := rows.Scan(&k.Seq, &k.Device, &k.Volume, &k.Identifier, &recipients, &k.State, &k.Since, &k.UsedAt, &k.RenewalAt); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(recipients), &k.Recipients); err != nil {
			return err
		}
		if err := f(k); err != nil {
			return err
		}
	}
	return rows.Err()
}

// SealedTo counts the keys that are stored or current, and those that were replaced, by the recipients that they are
// sealed to.
func (s *Store) SealedTo() (counts []SealedCount, err error) {
	err = s.db.Raw(`SELECT recipients AS list, state = 'replaced' AS replaced, count(*) AS keys FROM recovery_keys GROUP BY 1, 2`).Scan(&counts).Error
	for i := range counts {
		if err == nil {
			err = json.Unmarshal([]byte(counts[i].List), &counts[i].Recipients)
		}
	}
	return counts, err
}

// SealedCount is how many keys are sealed to the same recipients.
type SealedCount struct {
	List       string
	Recipients []string `gorm:"-"`
	Replaced   bool
	Keys       int
}

// LaptopVolumes is what a laptop reported of its volumes.
type LaptopVolumes struct {
	Device  string            `gorm:"primaryKey"`
	Volumes []recovery.Volume `gorm:"serializer:json"`
	At      time.Time
}

// SaveVolumes writes down what a laptop reported of its volumes.
func (s *Store) SaveVolumes(v LaptopVolumes) error {
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&v).Error
}

// Volumes gives what a laptop reported of its volumes.
func (s *Store) Volumes(device string) (LaptopVolumes, error) {
	return one[LaptopVolumes](s.db.Where("device = ?", device))
}

// EachVolumes gives what every laptop reported of its volumes.
func (s *Store) EachVolumes(f func(LaptopVolumes) error) error {
	rows, err := s.db.Model(&LaptopVolumes{}).Select("device, volumes, at").Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var v LaptopVolumes
		var text string
		if err := rows.Scan(&v.Device, &text, &v.At); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(text), &v.Volumes); err != nil {
			return err
		}
		if err := f(v); err != nil {
			return err
		}
	}
	return rows.Err()
}

// States of a request to see a key.
const (
	RequestWaits   = "waiting" // for a second person
	RequestOpen    = "open"    // the key may be shown, once
	RequestShown   = "shown"
	RequestRefused = "refused" // by the second person
)

// KeyRequest is somebody's request to see a key.
type KeyRequest struct {
	ID         string `gorm:"primaryKey"`
	KeySeq     int64
	Device     string
	Volume     string
	Identifier recovery.Identifier
	Person     string // whom it is for, as whoever asks said
	Reason     string
	By         string
	At         time.Time
	ExpiresAt  time.Time
	State      string
	ConsentBy  string // who consented, or refused
	ConsentAt  *time.Time
	ShownAt    *time.Time
}

// AddKeyRequest adds a request.
func (s *Store) AddKeyRequest(r KeyRequest) error { return s.db.Create(&r).Error }

// KeyRequest gives a request.
func (s *Store) KeyRequest(id string) (KeyRequest, error) {
	return one[KeyRequest](s.db.Where("id = ?", id))
}

// KeyRequestsIn lists the requests in a state that have not expired, the oldest first.
func (s *Store) KeyRequestsIn(state string, now time.Time) ([]KeyRequest, error) {
	return many[KeyRequest](s.db.Where("state = ? AND expires_at > ?", state, now).Order("at, id").Limit(500))
}

// KeyRequestsOf lists the requests for keys of a laptop, the newest first.
func (s *Store) KeyRequestsOf(device string, most int) ([]KeyRequest, error) {
	return many[KeyRequest](s.db.Where("device = ?", device).Order("at DESC, id").Limit(most))
}

// AlterKeyRequest writes a request that is in a state; altered is false where it is in another by now.
func (s *Store) AlterKeyRequest(from string, r KeyRequest) (altered bool, err error) {
	q := s.db.Model(&KeyRequest{}).Where("id = ? AND state = ?", r.ID, from).Select("state", "consent_by", "consent_at", "shown_at",
		"expires_at").Updates(&r)
	return q.RowsAffected == 1, q.Error
}

// Holders of the private half of a recipient.
const (
	HeldByService = "service"
	HeldByCompany = "company" // offline
)

// EscrowRecipient is somebody to whom keys are sealed.
type EscrowRecipient struct {
	Recipient   string `gorm:"primaryKey"` // the public half
	Title       string
	Holder      string // of the private half
	MadeAt      time.Time
	MadeBy      string
	ReplaceOn   string // the day by which another is to take its place; empty: none
	DestroyedAt *time.Time
	DestroyedBy string
}

// EscrowRecipients lists the recipients, the oldest first.
func (s *Store) EscrowRecipients() ([]EscrowRecipient, error) {
	return many[EscrowRecipient](s.db.Order("made_at, recipient"))
}

// SaveEscrowRecipient writes a recipient.
func (s *Store) SaveEscrowRecipient(r EscrowRecipient) error {
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&r).Error
}

// CoverageDay is how far the laptops of a unit were covered on a day.
type CoverageDay struct {
	Day    string          `gorm:"primaryKey"`
	Unit   string          `gorm:"primaryKey"`
	Counts recovery.Counts `gorm:"serializer:json"`
}

// SaveCoverageDays writes how far laptops are covered on a day, in the place of what was there of that day.
func (s *Store) SaveCoverageDays(days []CoverageDay) error {
	if len(days) == 0 {
		return nil
	}
	return s.db.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(days, batch).Error
}

// CoverageDays gives the days of a unit since one of them.
func (s *Store) CoverageDays(unit, since string) ([]CoverageDay, error) {
	return many[CoverageDay](s.db.Where("unit = ? AND day >= ?", unit, since).Order("day"))
}
