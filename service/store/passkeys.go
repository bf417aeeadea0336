// This file keeps passkeys: the public keys by which devices of people sign in.

package store

import "time"

// Passkey is a public key of somebody's device.
type Passkey struct {
	ID        string `gorm:"primaryKey"` // of the credential, in hexadecimal digits
	Account   string
	Name      string // that its owner gave it
	Data      string // JSON: the key, its counter, what the device says about itself
	CreatedAt time.Time
	UsedAt    *time.Time
}

// Passkeys lists the passkeys of an account, the oldest first.
func (s *Store) Passkeys(account string) ([]Passkey, error) {
	return many[Passkey](s.db.Where("account = ?", account).Order("created_at, id"))
}

// AddPasskey adds a passkey.
func (s *Store) AddPasskey(p Passkey) error { return s.db.Create(&p).Error }

// SavePasskey writes a passkey that is there.
func (s *Store) SavePasskey(p Passkey) error { return s.db.Save(&p).Error }

// DropPasskey removes a passkey of an account; it tells whether there was one.
func (s *Store) DropPasskey(account, id string) (bool, error) {
	q := s.db.Where("account = ? AND id = ?", account, id).Delete(&Passkey{})
	return q.RowsAffected > 0, q.Error
}

// AccountByHandle gives the account that devices know by a handle.
func (s *Store) AccountByHandle(handle string) (Account, error) {
	return one[Account](s.db.Where("handle = ? AND handle <> ''", handle))
}
