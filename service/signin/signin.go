// Package signin says who is calling: local accounts with passwords (argon2id), sessions of browsers, tokens of
// programs, and the one-time code that makes the first administrator. Secrets leave it once, when they are made.
package signin

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/service/store"
)

// Caller is who is calling.
type Caller struct {
	Name   string
	Role   string // id of the role of their account, or of their token
	Rights access.Rights
	Via    string // console, cli or api
}

// CallerAs gives a caller with the rights of a role. A role that is not known has none.
func CallerAs(name, role, via string) Caller {
	is, _ := access.RoleOf(role)
	return Caller{Name: name, Role: role, Rights: is.Rights, Via: via}
}

var (
	// ErrRefused says that a name, password, code, session or token is not right. It does not say which.
	ErrRefused = errors.New("refused")
	// ErrTooMany says that too many wrong passwords were tried for an account.
	ErrTooMany = errors.New("too many wrong passwords")
	// ErrTaken says that an account of that name is there already.
	ErrTaken = errors.New("taken")
)

// InvalidError says what is wrong with a field of a request.
type InvalidError struct{ Field, Expected string }

func (e *InvalidError) Error() string { return e.Field + ": expected " + e.Expected }

const (
	sessionLife  = 12 * time.Hour
	codeLife     = 24 * time.Hour
	setupPurpose = "first-administrator"
	minPassword  = 10
	maxPassword  = 256
	wrongLimit   = 8
	wrongWindow  = 5 * time.Minute
)

// Service is where people and programs sign in. It is safe for concurrent use.
type Service struct {
	store *store.Store
	now   func() time.Time

	mu     sync.Mutex
	wrong  map[string][]time.Time // wrong passwords by account
	hashes chan struct{}          // bounds how many passwords are hashed at once: each takes 19 MiB
}

// New gives a service over a store.
func New(s *store.Store, now func() time.Time) *Service {
	return &Service{store: s, now: now, wrong: map[string][]time.Time{}, hashes: make(chan struct{}, 2)}
}

// Secret makes a random text of 256 bits.
func Secret() string {
	var b [32]byte
	rand.Read(b[:])
	return base64.RawURLEncoding.EncodeToString(b[:])
}

// HashOf is the form in which random secrets are kept. They have 128 bits or more, so a plain hash is enough.
func HashOf(secret string) string {
	sum := sha256.Sum256([]byte(secret))
	return hex.EncodeToString(sum[:])
}

// OneTimeCode makes a code that people can type: four groups of six letters and digits, 128 bits and more.
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

// OpenSetup gives a one-time code for the first administrator, or "" when there is an account already.
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
	hash, err := d.prepare(name, password)
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
		return tx.AddAccount(store.Account{Name: name, Role: access.Administrator, PasswordHash: hash, CreatedAt: d.now()})
	})
}

// AddAccount adds an account.
func (d *Service) AddAccount(ctx context.Context, name, password, role string) error {
	if _, known := access.RoleOf(role); !known {
		return &InvalidError{"role", "one of the roles that there are"}
	}
	hash, err := d.prepare(name, password)
	if err != nil {
		return err
	}
	if _, err := d.store.In(ctx).Account(name); err == nil {
		return ErrTaken
	}
	return d.store.In(ctx).AddAccount(store.Account{Name: name, Role: role, PasswordHash: hash, CreatedAt: d.now()})
}

var accountName = regexp.MustCompile(`^[a-z0-9][a-z0-9._-]{0,63}$`)

func (d *Service) prepare(name, password string) (string, error) {
	if !accountName.MatchString(name) {
		return "", &InvalidError{"name", "1 to 64 lower-case letters, digits, '.', '_' or '-'"}
	}
	if len(password) < minPassword || len(password) > maxPassword {
		return "", &InvalidError{"password", fmt.Sprintf("%d to %d characters", minPassword, maxPassword)}
	}
	return d.hashPassword(password), nil
}

// SignIn gives a new session's secret for a name and password.
func (d *Service) SignIn(ctx context.Context, name, password string) (secret, role string, expires time.Time, err error) {
	now := d.now()
	if d.tooMany(name, now) {
		return "", "", expires, ErrTooMany
	}
	account, err := d.store.In(ctx).Account(name)
	if errors.Is(err, store.ErrNotFound) {
		account.PasswordHash = unknownAccount // so that a stranger can't tell by the time it takes
	} else if err != nil {
		return "", "", expires, err
	}
	if len(password) > maxPassword || !d.verify(account.PasswordHash, password) || err != nil {
		d.noteWrong(name, now)
		return "", "", expires, ErrRefused
	}
	secret, expires = Secret(), now.Add(sessionLife)
	err = d.store.In(ctx).AddSession(store.Session{Hash: HashOf(secret), Account: name, CreatedAt: now, ExpiresAt: expires})
	return secret, account.Role, expires, err
}

func (d *Service) tooMany(name string, now time.Time) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	recent := d.wrong[name][:0]
	for _, at := range d.wrong[name] {
		if now.Sub(at) < wrongWindow {
			recent = append(recent, at)
		}
	}
	if len(recent) == 0 {
		delete(d.wrong, name)
	} else {
		d.wrong[name] = recent
	}
	return len(recent) >= wrongLimit
}

func (d *Service) noteWrong(name string, now time.Time) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if len(d.wrong) < 10_000 { // a flood of made-up names must not fill the memory
		d.wrong[name] = append(d.wrong[name], now)
	}
}

// BySession says whose session a secret is.
func (d *Service) BySession(ctx context.Context, secret string) (Caller, error) {
	s, err := d.store.In(ctx).Session(HashOf(secret))
	if err != nil || !s.ExpiresAt.After(d.now()) {
		return Caller{}, ErrRefused
	}
	a, err := d.store.In(ctx).Account(s.Account)
	if err != nil {
		return Caller{}, ErrRefused
	}
	return CallerAs(a.Name, a.Role, "console"), nil
}

// SignOut ends a session.
func (d *Service) SignOut(ctx context.Context, secret string) error {
	return d.store.In(ctx).DropSession(HashOf(secret))
}

// ByToken says whose token a secret is.
func (d *Service) ByToken(ctx context.Context, secret string) (Caller, error) {
	t, err := d.store.In(ctx).Token(HashOf(secret))
	if err != nil || !t.ExpiresAt.After(d.now()) {
		return Caller{}, ErrRefused
	}
	return CallerAs(t.Account, t.Role, "api"), nil
}

// NewToken gives a token's secret, once. A token has no right that its owner lacks.
func (d *Service) NewToken(ctx context.Context, c Caller, name, role string, days int) (secret string, t store.Token, err error) {
	as, known := access.RoleOf(role)
	switch {
	case !known || !c.Rights.Covers(as.Rights):
		return "", t, &InvalidError{"role", "a role with no right that you do not have yourself"}
	case name == "" || len(name) > 100:
		return "", t, &InvalidError{"name", "1 to 100 characters that say what the token is for"}
	case days < 1 || days > 366:
		return "", t, &InvalidError{"days", "1 to 366"}
	}
	secret = "zrt_" + Secret()
	now := d.now()
	t = store.Token{
		ID:        HashOf(Secret())[:12],
		Hash:      HashOf(secret),
		Account:   c.Name,
		Name:      name,
		Role:      role,
		CreatedAt: now,
		ExpiresAt: now.AddDate(0, 0, days),
	}
	return secret, t, d.store.In(ctx).AddToken(t)
}

// Tokens lists a caller's tokens.
func (d *Service) Tokens(ctx context.Context, c Caller) ([]store.Token, error) {
	return d.store.In(ctx).TokensOf(c.Name)
}

// DropToken revokes a caller's token.
func (d *Service) DropToken(ctx context.Context, c Caller, id string) error {
	there, err := d.store.In(ctx).DropToken(c.Name, id)
	if err == nil && !there {
		err = store.ErrNotFound
	}
	return err
}

// Parameters of argon2id as RFC 9106 and current guidance have them for interactive sign-in: 19 MiB, 2 passes, 1 lane.
const (
	argonMemory, argonPasses, argonLanes = 19 * 1024, 2, 1
	argonKey, argonSalt                  = 32, 16
)

// unknownAccount is the hash of a password that nobody has.
var unknownAccount = encodeHash(make([]byte, argonSalt), make([]byte, argonKey))

func encodeHash(salt, key []byte) string {
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonPasses, argonLanes,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key))
}

func (d *Service) derive(password string, salt []byte) []byte {
	d.hashes <- struct{}{}
	defer func() { <-d.hashes }()
	return argon2.IDKey([]byte(password), salt, argonPasses, argonMemory, argonLanes, argonKey)
}

func (d *Service) hashPassword(password string) string {
	salt := make([]byte, argonSalt)
	rand.Read(salt)
	return encodeHash(salt, d.derive(password, salt))
}

func (d *Service) verify(encoded, password string) bool {
	parts := strings.Split(encoded, "$")
	if len(parts) != 6 {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	key, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	return err1 == nil && err2 == nil && subtle.ConstantTimeCompare(d.derive(password, salt), key) == 1
}
