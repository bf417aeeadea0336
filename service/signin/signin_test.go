package signin_test

import (
	"errors"
	"fmt"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
)

// clock is a time that tests move.
type clock struct{ at time.Time }

func (c *clock) now() time.Time { return c.at }

func desk(t *testing.T) (*signin.Service, *store.Store, *clock) {
	t.Helper()
	s, err := store.Open(filepath.Join(t.TempDir(), "z.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	c := &clock{time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)}
	return signin.New(s, c.now, signin.Config{}), s, c
}

const password = "correct horse battery"

// root is a caller who may do everything.
var root = signin.Caller{Name: "root", Held: access.Held{Everywhere: access.Of(access.All...)}}

var home = signin.From{Address: "192.0.2.7"}

func TestTheFirstAdministrator(t *testing.T) {
	d, s, c := desk(t)
	old, err := d.OpenSetup(t.Context())
	if err != nil || len(old) < 28 {
		t.Fatalf("the code is %q %v", old, err)
	}
	code, err := d.OpenSetup(t.Context()) // the service was started again
	if err != nil || code == old {
		t.Fatalf("a second start gives %q %v", code, err)
	}
	if err := d.SetUp(t.Context(), old, "ines", password); !errors.Is(err, signin.ErrRefused) {
		t.Errorf("the code of the first start: %v", err)
	}
	for field, c := range map[string][2]string{"name": {"Ines Okafor", password}, "password": {"ines", "short"}} {
		var bad *signin.InvalidError
		if err := d.SetUp(t.Context(), code, c[0], c[1]); !errors.As(err, &bad) || bad.Field != field {
			t.Errorf("%s: %v", field, err)
		}
	}
	c.at = c.at.Add(25 * time.Hour)
	if err := d.SetUp(t.Context(), code, "ines", password); !errors.Is(err, signin.ErrRefused) {
		t.Errorf("an expired code: %v", err)
	}
	code, _ = d.OpenSetup(t.Context())
	if err := d.SetUp(t.Context(), code, "ines", password); err != nil {
		t.Fatal(err)
	}
	if again, err := d.OpenSetup(t.Context()); again != "" || err != nil {
		t.Errorf("with an administrator there is another code %q %v", again, err)
	}
	if err := d.SetUp(t.Context(), code, "eve", password); !errors.Is(err, signin.ErrRefused) {
		t.Errorf("a second first administrator: %v", err)
	}
	a, err := s.Account("ines")
	if _, held, err := d.Rights(t.Context(), "ines"); err != nil || len(held) != 1 || held[0].Role != access.Administrator ||
		held[0].Unit != "" {
		t.Errorf("the first administrator has %+v %v", held, err)
	}
	if err != nil || !strings.HasPrefix(a.PasswordHash, "$argon2id$v=19$m=19456,t=2,p=1$") ||
		strings.Contains(a.PasswordHash, password) {
		t.Errorf("the account is %+v %v", a, err)
	}
}

func TestSessionsAndTokens(t *testing.T) {
	d, s, c := desk(t)
	if err := d.AddAccount(t.Context(), root, signin.NewAccount{Name: "ines", Password: password, Role: access.Administrator, Chosen: true}); err != nil {
		t.Fatal(err)
	}
	if err := d.AddAccount(t.Context(), root, signin.NewAccount{Name: "ines", Password: password, Role: access.Reader, Chosen: true}); !errors.Is(err, signin.ErrTaken) {
		t.Errorf("a name twice: %v", err)
	}
	var bad *signin.InvalidError
	if err := d.AddAccount(t.Context(), root, signin.NewAccount{Name: "tomas", Password: password, Role: "owner", Chosen: true}); !errors.As(err, &bad) {
		t.Errorf("an unknown role: %v", err)
	}
	entered, err := d.SignIn(t.Context(), "ines", password, home)
	secret := entered.Secret
	if err != nil || entered.Caller.Role != access.Administrator {
		t.Fatal(entered.Caller, err)
	}
	if who, err := d.BySession(t.Context(), secret, true); err != nil || who.Name != "ines" || who.Via != "console" {
		t.Errorf("the session is of %+v %v", who, err)
	}
	if _, err := s.Session(secret); !errors.Is(err, store.ErrNotFound) {
		t.Error("the session's secret is stored as it is")
	}
	caller, _ := d.BySession(t.Context(), secret, true)
	token, row, err := d.NewToken(t.Context(), caller, "nightly export", access.Reader, 1)
	if err != nil || !strings.HasPrefix(token, "zrt_") || strings.Contains(row.Hash, token) {
		t.Fatal(row, err)
	}
	if who, err := d.ByToken(t.Context(), token); err != nil || who.Role != access.Reader {
		t.Errorf("the token is of %+v %v", who, err)
	}
	byToken, _ := d.ByToken(t.Context(), token)
	if _, _, err := d.NewToken(t.Context(), byToken, "longer", access.Reader, 300); !errors.Is(err, signin.ErrByToken) {
		t.Errorf("a token makes a token: %v", err)
	}
	if _, _, err := d.NewToken(
		t.Context(),
		signin.Caller{Name: "tomas", Held: access.Held{Everywhere: access.Of(access.Read)}},
		"more",
		access.Administrator,
		1,
	); !errors.As(err, &bad) {
		t.Errorf("a reader makes an administrator's token: %v", err)
	}
	for _, days := range []int{0, 367} {
		if _, _, err := d.NewToken(t.Context(), caller, "x", access.Reader, days); !errors.As(err, &bad) {
			t.Errorf("%d days: %v", days, err)
		}
	}
	if err := d.SignOut(t.Context(), caller); err != nil {
		t.Fatal(err)
	}
	if _, err := d.BySession(t.Context(), secret, true); !errors.Is(err, signin.ErrRefused) {
		t.Errorf("after signing out: %v", err)
	}
	again, _ := d.SignIn(t.Context(), "ines", password, home)
	c.at = c.at.Add(25 * time.Hour)
	if _, err := d.BySession(t.Context(), again.Secret, true); !errors.Is(err, signin.ErrRefused) {
		t.Errorf("an expired session: %v", err)
	}
	if _, err := d.ByToken(t.Context(), token); !errors.Is(err, signin.ErrRefused) {
		t.Errorf("an expired token: %v", err)
	}
	if err := d.DropToken(t.Context(), caller, row.ID); err != nil {
		t.Error(err)
	}
	if err := d.DropToken(t.Context(), caller, row.ID); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("revoked twice: %v", err)
	}
}

func TestWrongPasswordsAreCounted(t *testing.T) {
	d, _, c := desk(t)
	if err := d.AddAccount(t.Context(), root, signin.NewAccount{Name: "ines", Password: password, Role: access.Reader, Chosen: true}); err != nil {
		t.Fatal(err)
	}
	known, err := d.SignIn(t.Context(), "ines", password, home)
	if err != nil {
		t.Fatal(err)
	}
	stranger := signin.From{Address: "203.0.113.9"}
	var many *signin.TooManyError
	for range 8 {
		if _, err := d.SignIn(t.Context(), "ines", "wrong", stranger); !errors.Is(err, signin.ErrRefused) {
			t.Fatal(err)
		}
	}
	if _, err := d.SignIn(t.Context(), "ines", password, stranger); !errors.As(err, &many) || many.Wait <= 0 || many.Wait > 5*time.Minute {
		t.Errorf("after eight wrong ones: %v", err)
	}
	if _, err := d.SignIn(t.Context(), "nobody", password, stranger); !errors.Is(err, signin.ErrRefused) {
		t.Errorf("an unknown account: %v", err)
	}
	// The stranger locks nobody out who signed in by their browser before.
	if _, err := d.SignIn(t.Context(), "ines", password, signin.From{Address: home.Address, Known: known.Known}); err != nil {
		t.Errorf("by a known browser: %v", err)
	}
	if _, err := d.SignIn(t.Context(), "ines", password, signin.From{Address: home.Address, Known: "made up"}); !errors.As(err, &many) {
		t.Errorf("by a browser that says that it is known: %v", err)
	}
	c.at = c.at.Add(6 * time.Minute)
	if _, err := d.SignIn(t.Context(), "ines", password, stranger); err != nil {
		t.Errorf("after a while: %v", err)
	}
}

// Guesses that come at once are counted before any of them is looked at, and those of one address
// over all names.
func TestGuessesAtOnceAreCounted(t *testing.T) {
	d, _, _ := desk(t)
	if err := d.AddAccount(t.Context(), root, signin.NewAccount{Name: "ines", Password: password, Role: access.Reader, Chosen: true}); err != nil {
		t.Fatal(err)
	}
	var looked, refused atomic.Int32
	var wait sync.WaitGroup
	for range 100 {
		wait.Go(func() {
			_, err := d.SignIn(t.Context(), "ines", "wrong", home)
			var many *signin.TooManyError
			switch {
			case errors.As(err, &many):
				refused.Add(1)
			case errors.Is(err, signin.ErrRefused), errors.Is(err, signin.ErrBusy):
				looked.Add(1)
			}
		})
	}
	wait.Wait()
	if looked.Load() > 8 || looked.Load()+refused.Load() != 100 {
		t.Errorf("of 100 guesses at once %d were looked at and %d refused", looked.Load(), refused.Load())
	}
	many := 0
	for i := range 60 {
		var too *signin.TooManyError
		if _, err := d.SignIn(t.Context(), fmt.Sprintf("made-up-%d", i), "wrong", home); errors.As(err, &too) {
			many++
		}
	}
	if many != 60+8-40 {
		t.Errorf("of 60 names that one address tried %d were refused, expected those beyond 40 tries", many)
	}
}

func TestEasyPasswordsAreRefused(t *testing.T) {
	d, _, _ := desk(t)
	for _, easy := range []string{"            ", "aaaaaaaaaaaaaa", "password1234", "ines.okafor2026", "short", "abababababab",
		strings.Repeat("ä", 257)} {
		var bad *signin.InvalidError
		if err := d.AddAccount(t.Context(), root, signin.NewAccount{Name: "ines.okafor", Password: easy, Role: access.Reader, Chosen: true}); !errors.As(err, &bad) || bad.Field != "password" {
			t.Errorf("%q: %v", easy, err)
		}
	}
	if err := d.AddAccount(t.Context(), root, signin.NewAccount{Name: "ines.okafor", Password: strings.Repeat("äöüßé", 40), Role: access.Reader, Chosen: true}); err != nil {
		t.Errorf("200 letters of two bytes each: %v", err)
	}
}

func TestCodesAreNotGuessed(t *testing.T) {
	seen := map[string]bool{}
	for range 1000 {
		c := signin.OneTimeCode()
		if seen[c] || len(c) != 31 || strings.ContainsAny(c, "01ilo") {
			t.Fatalf("the code %q", c)
		}
		seen[c] = true
	}
}
