// This file keeps accounts, sessions, tokens and one-time codes. Secrets are kept as hashes only.

package store

import "time"

// Account is somebody who may sign in.
type Account struct {
	Name         string `gorm:"primaryKey"`
	PasswordHash string
	CreatedAt    time.Time
	Disabled     bool
	Handle       string // by which devices with passkeys know the account: random, in base64; empty: none yet
	Subject      string // how an OpenID Connect issuer names it: the issuer, a space, and the subject; empty: it signs in with a password
	TOTP         string `gorm:"column:totp"`         // sealed secret of one-time codes; empty: none
	TOTPPending  string `gorm:"column:totp_pending"` // one that is not confirmed yet
	TOTPStep     int64  `gorm:"column:totp_step"`    // of the last code that was used: no code is used twice
	PasswordDue  bool   // somebody else chose the password
}

// Session is a browser that is signed in.
type Session struct {
	Hash      string `gorm:"primaryKey"`
	Account   string
	Address   string // of the network that it was opened from
	CreatedAt time.Time
	ExpiresAt time.Time

	UsedAt      time.Time // last, by somebody
	Strong      bool      // a passkey opened it
	ConfirmedAt time.Time // when the password, and the second factor, were asked for last
}

// RecoveryCode signs somebody in once in the place of a one-time code.
type RecoveryCode struct {
	Account   string `gorm:"primaryKey"`
	Hash      string `gorm:"primaryKey"`
	CreatedAt time.Time
}

// Token is a program's way in.
type Token struct {
	ID        string `gorm:"primaryKey"`
	Hash      string
	Account   string
	Name      string
	Role      string
	CreatedAt time.Time
	ExpiresAt time.Time
}

// KnownBrowser is a browser by which somebody signed in before.
type KnownBrowser struct {
	Hash      string `gorm:"primaryKey"`
	Account   string
	CreatedAt time.Time
	ExpiresAt time.Time
}

// Code works once, for one purpose, until it expires.
type Code struct {
	Hash      string `gorm:"primaryKey"`
	Purpose   string
	Device    string
	CreatedAt time.Time
	ExpiresAt time.Time
	UsedAt    *time.Time
}

// CountAccounts counts accounts.
func (s *Store) CountAccounts() (n int64, err error) {
	err = s.db.Model(&Account{}).Count(&n).Error
	return n, err
}

// Account gives an account.
func (s *Store) Account(name string) (Account, error) {
	return one[Account](s.db.Where("name = ?", name))
}

// AccountOf gives the account that an OpenID Connect issuer names so.
func (s *Store) AccountOf(subject string) (Account, error) {
	return one[Account](s.db.Where("subject = ? AND subject <> ''", subject))
}

// Accounts lists accounts by name.
func (s *Store) Accounts() ([]Account, error) { return many[Account](s.db.Order("name")) }

// AddAccount adds an account; one with that name already there is an error.
func (s *Store) AddAccount(a Account) error { return s.db.Create(&a).Error }

// AddSession adds a session and forgets those that have expired.
func (s *Store) AddSession(n Session) error {
	if err := s.db.Where("expires_at < ?", n.CreatedAt).Delete(&Session{}).Error; err != nil {
		return err
	}
	return s.db.Create(&n).Error
}

// Session gives a session by its hash.
func (s *Store) Session(hash string) (Session, error) {
	return one[Session](s.db.Where("hash = ?", hash))
}

// SaveSession writes a session that is there.
func (s *Store) SaveSession(n Session) error { return s.db.Save(&n).Error }

// SetRecoveryCodes replaces the recovery codes of an account.
func (s *Store) SetRecoveryCodes(account string, codes []RecoveryCode) error {
	if err := s.db.Where("account = ?", account).Delete(&RecoveryCode{}).Error; err != nil || len(codes) == 0 {
		return err
	}
	return s.db.Create(&codes).Error
}

// UseRecoveryCode removes a recovery code of an account; it tells whether there was one.
func (s *Store) UseRecoveryCode(account, hash string) (bool, error) {
	q := s.db.Where("account = ? AND hash = ?", account, hash).Delete(&RecoveryCode{})
	return q.RowsAffected > 0, q.Error
}

// CountRecoveryCodes counts the recovery codes of an account that can still be used.
func (s *Store) CountRecoveryCodes(account string) (n int64, err error) {
	err = s.db.Model(&RecoveryCode{}).Where("account = ?", account).Count(&n).Error
	return n, err
}

// KnownBrowser gives a browser by which an account signed in before.
func (s *Store) KnownBrowser(hash, account string) (KnownBrowser, error) {
	return one[KnownBrowser](s.db.Where("hash = ? AND account = ?", hash, account))
}

// AddKnownBrowser adds a browser and forgets those that have expired, and an account's oldest
// beyond 20.
func (s *Store) AddKnownBrowser(b KnownBrowser) error {
	if err := s.db.Where("expires_at < ?", b.CreatedAt).Delete(&KnownBrowser{}).Error; err != nil {
		return err
	}
	oldest := s.db.Model(&KnownBrowser{}).Select("hash").Where("account = ?", b.Account).Order("created_at DESC").Offset(19)
	if err := s.db.Where("hash IN (?)", oldest.Limit(-1)).Delete(&KnownBrowser{}).Error; err != nil {
		return err
	}
	return s.db.Create(&b).Error
}

// SaveAccount writes an account that is there.
func (s *Store) SaveAccount(a Account) error { return s.db.Save(&a).Error }

// SessionsOf lists an account's sessions that have not expired.
func (s *Store) SessionsOf(account string, now time.Time) ([]Session, error) {
	return many[Session](s.db.Where("account = ? AND expires_at > ?", account, now).Order("created_at, hash"))
}

// DropSessionsOf ends an account's sessions but one; an empty hash ends all.
func (s *Store) DropSessionsOf(account, but string) error {
	return s.db.Where("account = ? AND hash <> ?", account, but).Delete(&Session{}).Error
}

// DropTokensOf revokes an account's tokens.
func (s *Store) DropTokensOf(account string) error {
	return s.db.Where("account = ?", account).Delete(&Token{}).Error
}

// DropKnownBrowsers forgets the browsers by which an account signed in.
func (s *Store) DropKnownBrowsers(account string) error {
	return s.db.Where("account = ?", account).Delete(&KnownBrowser{}).Error
}

// DropSession ends a session.
func (s *Store) DropSession(hash string) error {
	return s.db.Where("hash = ?", hash).Delete(&Session{}).Error
}

// AddToken adds a token.
func (s *Store) AddToken(t Token) error { return s.db.Create(&t).Error }

// Token gives a token by its hash.
func (s *Store) Token(hash string) (Token, error) { return one[Token](s.db.Where("hash = ?", hash)) }

// TokensOf lists an account's tokens.
func (s *Store) TokensOf(account string) ([]Token, error) {
	return many[Token](s.db.Where("account = ?", account).Order("created_at, id"))
}

// DropToken revokes an account's token; it tells whether there was one.
func (s *Store) DropToken(account, id string) (bool, error) {
	q := s.db.Where("account = ? AND id = ?", account, id).Delete(&Token{})
	return q.RowsAffected > 0, q.Error
}

// AddCodes adds one-time codes.
func (s *Store) AddCodes(codes []Code) error { return s.db.CreateInBatches(codes, 200).Error }

// UnusedCode gives a code of a purpose that can still be used.
func (s *Store) UnusedCode(hash, purpose string, now time.Time) (Code, error) {
	return one[Code](s.db.Where("hash = ? AND purpose = ? AND used_at IS NULL AND expires_at > ?", hash, purpose, now))
}

// UseCode marks a code as used if it is of the purpose, unused and not expired, and gives it.
func (s *Store) UseCode(hash, purpose string, now time.Time) (Code, error) {
	c, err := s.UnusedCode(hash, purpose, now)
	if err != nil {
		return c, err
	}
	q := s.db.Model(&Code{}).Where("hash = ? AND used_at IS NULL", hash).Update("used_at", now)
	if q.Error == nil && q.RowsAffected == 0 {
		return c, ErrNotFound
	}
	return c, q.Error
}

// DropCodesOf forgets the unused codes of a purpose for a device.
func (s *Store) DropCodesOf(purpose, device string) error {
	return s.db.Where("purpose = ? AND device = ? AND used_at IS NULL", purpose, device).Delete(&Code{}).Error
}

// DropCodes forgets the unused codes of a purpose.
func (s *Store) DropCodes(purpose string) error {
	return s.db.Where("purpose = ? AND used_at IS NULL", purpose).Delete(&Code{}).Error
}
