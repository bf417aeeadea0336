// Package signin says who is calling: local accounts with passwords (argon2id), sessions of
// browsers, tokens of programs, and the one-time code that makes the first administrator. Secrets
// leave it once, when they are made.
package signin

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/service/store"
)

// Caller is who is calling.
type Caller struct {
	Name   string
	Role   string         // the roles that they have, in words
	Held   access.Held    // what they may do
	Grants []access.Grant // by which they may do it
	Via    string         // console, cli or api
	By     string         // what they signed in by: the hash of their session or token
	Token  bool           // that is a token

	ConfirmedAt  time.Time // when the password of the session was asked for last
	EndsAt       time.Time // when the session ends unless it is used; zero for a token
	FactorNeeded bool      // a role of theirs demands a second factor, which they do not have: they may do nothing until they do
	PasswordDue  bool      // somebody else chose their password: they may do nothing until they choose another one
}

var (
	// ErrRefused says that a name, password, code, session or token is not right. It does not say
	// which.
	ErrRefused = errors.New("refused")
	// ErrByToken says that a token was used for what needs somebody who signed in.
	ErrByToken = errors.New("a token makes no token")
	// ErrPasswordDue says that somebody else chose the password, and that another one comes first.
	ErrPasswordDue = errors.New("another password comes first")
	// ErrBusy says that more passwords wait to be looked at than can be soon.
	ErrBusy = errors.New("busy with other passwords")
	// ErrTaken says that an account of that name is there already.
	ErrTaken = errors.New("taken")
)

// TooManyError says that too many wrong passwords were tried, and how long to wait.
type TooManyError struct{ Wait time.Duration }

func (e *TooManyError) Error() string {
	return fmt.Sprintf("too many wrong passwords; wait %d seconds", int(e.Wait.Seconds())+1)
}

// InvalidError says what is wrong with a field of a request.
type InvalidError struct{ Field, Expected string }

func (e *InvalidError) Error() string { return e.Field + ": expected " + e.Expected }

// MinPassword is how many characters a password has at least.
const MinPassword = 12

const (
	sessionLife  = 12 * time.Hour
	codeLife     = 24 * time.Hour
	setupPurpose = "first-administrator"
	maxPassword  = 256
	knownLife    = 90 * 24 * time.Hour // that a browser is known by which somebody signed in
	hashesQueued = 16                  // passwords that wait to be hashed; more are turned away
)

// Service is where people and programs sign in. It is safe for concurrent use.
type Service struct {
	store  *store.Store
	now    func() time.Time
	config Config

	tries      tries
	ceremonies ceremonies
	queued     atomic.Int32  // passwords that are hashed, or wait for it
	hashes     chan struct{} // bounds how many passwords are hashed at once: each takes 19 MiB
}

// New gives a service over a store.
func New(s *store.Store, now func() time.Time, config Config) *Service {
	if config.Idle == 0 {
		config.Idle = idleFor
	}
	return &Service{store: s, now: now, config: config, hashes: make(chan struct{}, 2)}
}

// Secret makes a random text of 256 bits.
func Secret() string {
	var b [32]byte
	rand.Read(b[:])
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// HashOf is the form in which random secrets are kept. They have 128 bits or more, so a plain hash
// is enough.
func HashOf(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// OneTimeCode makes a code that people can type: four groups of seven letters and digits, 128 bits
// and more.
func OneTimeCode() string {
	const letters = "abcdefghjkmnpqrstuvwxyz23456789"
	var b [28]byte
	rand.Read(b[:])
	var out strings.Builder
	for i, c := range b {
		if i > 0 && i%7 == 0 {
			out.WriteByte('-')
		}
		out.WriteByte(letters[int(c)%len(letters)])
	}
	return out.String()
}

// OpenSetup gives a one-time code for the first administrator, or "" when there is an account
// already.
func (d *Service) OpenSetup(ctx context.Context) (string, error) {
	n, err := d.store.In(ctx).CountAccounts()
	if err != nil || n > 0 {
		return "", err
	}
	code := OneTimeCode()
	now := d.now()
	err = d.store.Transaction(ctx, func(tx *store.Store) error {
		if err := tx.DropCodes(setupPurpose); err != nil {
			return err
		}
		return tx.AddCodes([]store.Code{{Hash: HashOf(code), Purpose: setupPurpose, CreatedAt: now, ExpiresAt: now.Add(codeLife)}})
	})
	return code, err
}

// SetUp makes the first administrator with the one-time code.
func (d *Service) SetUp(ctx context.Context, code, name, password string) error {
	if n, err := d.store.In(ctx).CountAccounts(); err != nil || n > 0 {
		return errors.Join(ErrRefused, err)
	}
	if _, err := d.store.In(ctx).UnusedCode(HashOf(code), setupPurpose, d.now()); err != nil {
		return ErrRefused // before anything is hashed
	}
	hash, err := d.prepare(ctx, name, password)
	if err != nil {
		return err
	}
	return d.store.Transaction(ctx, func(tx *store.Store) error {
		if n, err := tx.CountAccounts(); err != nil || n > 0 {
			return errors.Join(ErrRefused, err)
		}
		if _, err := tx.UseCode(HashOf(code), setupPurpose, d.now()); err != nil {
			return ErrRefused
		}
		return d.addAccount(tx, store.Account{Name: name, PasswordHash: hash, CreatedAt: d.now()}, access.Administrator, "set-up")
	})
}

// NewAccount is an account to add.
type NewAccount struct {
	Name, Password string
	Role           string // that counts everywhere and for good; empty: it may do nothing until it gets a grant
	Chosen         bool   // its owner chose the password, and need not choose another one at first
}

// AddAccount adds an account.
func (d *Service) AddAccount(ctx context.Context, by Caller, account NewAccount) error {
	name, role := account.Name, account.Role
	find, err := d.roles(ctx)
	if err != nil {
		return err
	}
	is, known := find(role)
	if role != "" && !known {
		return &InvalidError{"role", "one of the roles that there are"}
	}
	if role != "" {
		if err := d.mayGrant(by, access.Grant{Account: name, Role: role}, is); err != nil {
			return err
		}
	}
	hash, err := d.prepare(ctx, name, account.Password)
	if err != nil {
		return err
	}
	return d.store.Transaction(ctx, func(tx *store.Store) error {
		if _, err := tx.Account(name); err == nil {
			return ErrTaken
		}
		row := store.Account{Name: name, PasswordHash: hash, CreatedAt: d.now(), PasswordDue: !account.Chosen}
		return d.addAccount(tx, row, role, by.Name)
	})
}

// addAccount adds an account with a role, if one is named.
func (d *Service) addAccount(tx *store.Store, a store.Account, role, by string) error {
	if err := tx.AddAccount(a); err != nil || role == "" {
		return err
	}
	return tx.AddGrant(store.Grant{ID: newGrantID(), Account: a.Name, Role: role, By: by, At: d.now()})
}

var accountName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)

// From is where somebody signs in from.
type From struct {
	Address string // of the network
	Known   string // secret of the browser, which it got when it signed in before; empty: none
	Code    string // one-time code or recovery code; empty: none
}

// Entered is what somebody gets who signed in.
type Entered struct {
	Caller  Caller
	Secret  string // of the session
	Expires time.Time
	Known   string // secret by which the browser is known from now on
}

// enter gives what an account gets that signs in, without what it may do.
func (d *Service) enter(account string, now time.Time) Entered {
	expires := now.Add(sessionLife)
	return Entered{Caller: Caller{Name: account, Via: "console", EndsAt: d.endOf(expires, now)}, Secret: Secret(), Expires: expires}
}

// endOf gives when a session ends that is not used again.
func (d *Service) endOf(expires, used time.Time) time.Time {
	if idle := used.Add(d.config.Idle); idle.Before(expires) {
		return idle
	}
	return expires
}

// session gives the session that is opened by it. strong tells whether a passkey opened it.
func (e *Entered) session(from From, now time.Time, strong bool) store.Session {
	return store.Session{
		Hash: HashOf(e.Secret), Account: e.Caller.Name, Address: from.Address,
		CreatedAt: now, ExpiresAt: e.Expires, UsedAt: now, ConfirmedAt: now, Strong: strong,
	}
}

// SignIn opens a session for a name and password. Tries are counted before anything is hashed: by
// the address that they come from, and by the account; those of a browser that is known to belong
// to the account are counted by themselves, so that no stranger locks somebody out. The error is
// ErrRefused, or a TooManyError.
func (d *Service) SignIn(ctx context.Context, name, password string, from From) (e Entered, err error) {
	now := d.now()
	account := try{"account " + name, accountTries}
	if from.Known != "" {
		if known, err := d.store.In(ctx).KnownBrowser(HashOf(from.Known), name); err == nil && known.ExpiresAt.After(now) {
			account = try{"browser " + known.Hash, accountTries}
		}
	}
	var row store.Account
	right, err := d.tries.count(now, []try{from.try(), account}, func() (bool, error) {
		row, err = d.store.In(ctx).Account(name)
		known := err == nil && !row.Disabled
		switch {
		case errors.Is(err, store.ErrNotFound):
			row.PasswordHash = unknownAccount // so that a stranger can't tell by the time it takes
		case err != nil:
			return false, err
		}
		right, err := d.verifyAll(ctx, row, password, from.Code)
		if !known && errors.Is(err, ErrSecondFactor) {
			err = nil
		}
		return right && known && utf8.RuneCountInString(password) <= maxPassword, err
	})
	if err != nil {
		return e, err
	}
	if !right {
		return e, ErrRefused
	}
	e = d.enter(name, now)
	e.Known = Secret()
	if err := d.identify(ctx, &e.Caller, row, false); err != nil {
		return e, err
	}
	return e, d.store.Transaction(ctx, func(tx *store.Store) error {
		if err := tx.AddKnownBrowser(
			store.KnownBrowser{Hash: HashOf(e.Known), Account: name, CreatedAt: now, ExpiresAt: now.Add(knownLife)},
		); err != nil {
			return err
		}
		return tx.AddSession(e.session(from, now, false))
	})
}

// isOpen tells whether a session has not expired, and was used lately enough.
func (d *Service) isOpen(s store.Session, now time.Time) bool {
	return d.endOf(s.ExpiresAt, s.UsedAt).After(now)
}

// BySession says whose session a secret is. used tells whether somebody asks, and not only an open
// page that nobody looks at: a session that nobody uses ends after Config.Idle.
func (d *Service) BySession(ctx context.Context, secret string, used bool) (Caller, error) {
	s, err := d.store.In(ctx).Session(HashOf(secret))
	now := d.now()
	if err != nil || !d.isOpen(s, now) {
		return Caller{}, ErrRefused
	}
	if used && now.Sub(s.UsedAt) > min(usedNoted, d.config.Idle/30) {
		s.UsedAt = now
		if err := d.store.In(ctx).SaveSession(s); err != nil {
			return Caller{}, err
		}
	}
	a, err := d.store.In(ctx).Account(s.Account)
	if err != nil || a.Disabled {
		return Caller{}, ErrRefused
	}
	c := Caller{Name: a.Name, Via: "console", By: s.Hash, ConfirmedAt: s.ConfirmedAt, EndsAt: d.endOf(s.ExpiresAt, s.UsedAt)}
	return c, d.identify(ctx, &c, a, s.Strong)
}

// identify finds what a caller may do. strong tells whether a passkey vouches for them.
func (d *Service) identify(ctx context.Context, c *Caller, a store.Account, strong bool) (err error) {
	c.Held, c.Grants, err = d.held(ctx, c.Name)
	c.Role = describe(c.Grants)
	if !strong && a.TOTP == "" && a.Subject == "" && d.demanded(c.Grants) { // an issuer has second factors of its own
		c.Held, c.FactorNeeded = access.Held{}, true
	}
	if a.PasswordDue {
		c.Held, c.PasswordDue = access.Held{}, true
	}
	return err
}

// SignOut ends the session by which somebody signed in; a token stays.
func (d *Service) SignOut(ctx context.Context, c Caller) error {
	return d.store.In(ctx).DropSession(c.By)
}

// Active tells whether the session or token by which somebody signed in still counts.
func (d *Service) Active(ctx context.Context, c Caller) bool {
	if s, err := d.store.In(ctx).Session(c.By); err == nil {
		return d.isOpen(s, d.now())
	}
	t, err := d.store.In(ctx).Token(c.By)
	return err == nil && t.ExpiresAt.After(d.now())
}
