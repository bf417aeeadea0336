package signin_test

import (
	"errors"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/pquerna/otp/totp"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/service/seal"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
)

// sealed is a desk that keeps secrets of second factors, with an administrator, ines, and a reader,
// tomas. Administrators need a second factor.
func sealed(t *testing.T) (*signin.Service, *clock) {
	t.Helper()
	return demanding(t, access.Administrator)
}

// demanding is as sealed, where other roles demand a second factor.
func demanding(t *testing.T, roles ...string) (*signin.Service, *clock) {
	t.Helper()
	s, err := store.Open(filepath.Join(t.TempDir(), "z.db"))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	key, err := seal.Load(filepath.Join(t.TempDir(), "seal.key"), "")
	if err != nil {
		t.Fatal(err)
	}
	c := &clock{time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)}
	d := signin.New(s, c.now, signin.Config{Seal: key, Demand: roles})
	for name, role := range map[string]string{"ines": access.Administrator, "tomas": access.Reader} {
		if err := d.AddAccount(t.Context(), root, signin.NewAccount{Name: name, Password: password, Role: role, Chosen: true}); err != nil {
			t.Fatal(err)
		}
	}
	return d, c
}

// in signs somebody in and gives them as a caller.
func in(t *testing.T, d *signin.Service, name, code string) (signin.Caller, error) {
	t.Helper()
	from := home
	from.Code = code
	e, err := d.SignIn(t.Context(), name, password, from)
	if err != nil {
		return signin.Caller{}, err
	}
	return d.BySession(t.Context(), e.Secret, true)
}

// codeAt gives the code that an app shows at a time.
func codeAt(t *testing.T, secret string, at time.Time) string {
	t.Helper()
	code, err := totp.GenerateCode(secret, at)
	if err != nil {
		t.Fatal(err)
	}
	return code
}

// withFactor turns a second factor on for somebody.
func withFactor(t *testing.T, d *signin.Service, c *clock, name string) (secret string, recovery []string) {
	t.Helper()
	caller, err := in(t, d, name, "")
	if err != nil {
		t.Fatal(err)
	}
	setup, err := d.BeginSecondFactor(t.Context(), caller)
	if err != nil || len(setup.Secret) < 32 || len(setup.Picture) < 100 {
		t.Fatalf("%+v, %v", setup, err)
	}
	var bad *signin.InvalidError
	if _, err := d.ConfirmSecondFactor(t.Context(), caller, "000000"); !errors.As(err, &bad) {
		t.Errorf("a wrong first code: %v", err)
	}
	if _, err := in(t, d, name, ""); err != nil {
		t.Errorf("before it is turned on: %v", err)
	}
	recovery, err = d.ConfirmSecondFactor(t.Context(), caller, codeAt(t, setup.Secret, c.at))
	if err != nil || len(recovery) != 10 {
		t.Fatalf("%d recovery codes, %v", len(recovery), err)
	}
	c.at = c.at.Add(time.Minute)
	return setup.Secret, recovery
}

func TestSigningInWithASecondFactor(t *testing.T) {
	t.Parallel()
	d, c := sealed(t)
	secret, recovery := withFactor(t, d, c, "tomas")
	if _, err := in(t, d, "tomas", ""); !errors.Is(err, signin.ErrSecondFactor) {
		t.Errorf("without a code: %v", err)
	}
	if _, err := d.SignIn(t.Context(), "tomas", "a wrong password", home); !errors.Is(err, signin.ErrRefused) {
		t.Errorf("a wrong password asks for a code: %v", err)
	}
	now := codeAt(t, secret, c.at)
	for name, code := range map[string]string{"letters": "abcdef", "an old code": codeAt(t, secret, c.at.Add(-5*time.Minute)),
		"no recovery code": "aaaa-bbbb-cccc-dddd"} {
		if _, err := in(t, d, "tomas", code); !errors.Is(err, signin.ErrRefused) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if who, err := in(t, d, "tomas", now[:3]+" "+now[3:]); err != nil || who.Name != "tomas" {
		t.Errorf("the code: %v", err)
	}
	if _, err := in(t, d, "tomas", now); !errors.Is(err, signin.ErrRefused) {
		t.Errorf("the same code a second time: %v", err)
	}
	if _, err := in(t, d, "tomas", recovery[3]); err != nil {
		t.Errorf("a recovery code: %v", err)
	}
	if _, err := in(t, d, "tomas", recovery[3]); !errors.Is(err, signin.ErrRefused) {
		t.Errorf("a recovery code twice: %v", err)
	}
	if f, err := d.SecondFactorOf(t.Context(), "tomas"); err != nil || !f.Active || f.Recovery != 9 || f.Demanded {
		t.Errorf("the second factor is %+v, %v", f, err)
	}
	who, err := in(t, d, "tomas", recovery[4])
	if err != nil {
		t.Fatal(err)
	}
	fresh, err := d.NewRecoveryCodes(t.Context(), who)
	if err != nil || slices.Contains(fresh, recovery[5]) {
		t.Fatal(fresh, err)
	}
	if _, err := in(t, d, "tomas", recovery[5]); !errors.Is(err, signin.ErrRefused) {
		t.Errorf("a recovery code that was replaced: %v", err)
	}
	if err := d.DropSecondFactor(t.Context(), "tomas"); err != nil {
		t.Fatal(err)
	}
	if _, err := in(t, d, "tomas", ""); err != nil {
		t.Errorf("after it was turned off: %v", err)
	}
	if err := d.DropSecondFactor(t.Context(), "tomas"); !errors.Is(err, store.ErrNotFound) {
		t.Errorf("turned off twice: %v", err)
	}
}

// Guesses of codes are counted as guesses of passwords are.
func TestSecondFactorsAreNotGuessed(t *testing.T) {
	t.Parallel()
	d, c := sealed(t)
	withFactor(t, d, c, "tomas")
	var many *signin.TooManyError
	for range 20 {
		if _, err := in(t, d, "tomas", "123456"); errors.As(err, &many) {
			return
		}
	}
	t.Error("twenty codes were tried")
}

// Whoever has a role that demands a second factor may do nothing before it is set up, and their
// tokens may not either.
func TestARoleDemandsASecondFactor(t *testing.T) {
	t.Parallel()
	d, c := sealed(t)
	who, err := in(t, d, "ines", "")
	if err != nil || !who.FactorNeeded || who.Held.Anywhere() != 0 {
		t.Fatalf("without a second factor: %+v, %v", who, err)
	}
	secret, _ := withFactor(t, d, c, "ines")
	who, err = in(t, d, "ines", codeAt(t, secret, c.at))
	if err != nil || who.FactorNeeded || !who.Held.Everywhere.Has(access.Accounts) {
		t.Fatalf("with a second factor: %+v, %v", who, err)
	}
	token, _, err := d.NewToken(t.Context(), who, "nightly", "", 1)
	if err != nil {
		t.Fatal(err)
	}
	if by, err := d.ByToken(t.Context(), token); err != nil || !by.Held.Everywhere.Has(access.Accounts) {
		t.Errorf("the token may %v, %v", by.Held, err)
	}
	if err := d.DropSecondFactor(t.Context(), "ines"); err != nil {
		t.Fatal(err)
	}
	if by, err := d.ByToken(t.Context(), token); err != nil || by.Held.Anywhere() != 0 {
		t.Errorf("the token may %v after the second factor was turned off, %v", by.Held, err)
	}
}

// A session that nobody uses ends, and before what matters its password is asked for again.
func TestSessionsThatAreLeftAlone(t *testing.T) {
	t.Parallel()
	d, c := sealed(t)
	e, err := d.SignIn(t.Context(), "tomas", password, home)
	if err != nil {
		t.Fatal(err)
	}
	who, err := d.BySession(t.Context(), e.Secret, true)
	if err != nil || !who.Recent(c.at) {
		t.Fatal(err)
	}
	for range 4 {
		c.at = c.at.Add(20 * time.Minute)
		if who, err = d.BySession(t.Context(), e.Secret, true); err != nil {
			t.Fatalf("a session that is used: %v", err)
		}
	}
	if who.Recent(c.at) {
		t.Error("a password of 80 minutes ago is recent")
	}
	var bad *signin.InvalidError
	if err := d.Confirm(t.Context(), who, "a wrong password", home); !errors.As(err, &bad) {
		t.Errorf("a wrong password: %v", err)
	}
	if err := d.Confirm(t.Context(), who, password, home); err != nil {
		t.Fatal(err)
	}
	if who, err = d.BySession(t.Context(), e.Secret, true); err != nil || !who.Recent(c.at) {
		t.Errorf("after the password was given again: %v", err)
	}
	c.at = c.at.Add(20 * time.Minute)
	if _, err = d.BySession(t.Context(), e.Secret, false); err != nil {
		t.Fatal(err)
	}
	c.at = c.at.Add(11 * time.Minute)
	if _, err := d.BySession(t.Context(), e.Secret, true); !errors.Is(err, signin.ErrRefused) {
		t.Errorf("a page that asks by itself keeps the session open: %v", err)
	}
	if d.Active(t.Context(), who) {
		t.Error("a stream of the session would go on")
	}
}

// Where every role demands a second factor, a reader may not read before one is set up.
func TestEveryRoleDemandsASecondFactor(t *testing.T) {
	t.Parallel()
	d, c := demanding(t, signin.EveryRole)
	for _, name := range []string{"ines", "tomas"} {
		if who, err := in(t, d, name, ""); err != nil || !who.FactorNeeded || who.Held.Anywhere() != 0 {
			t.Errorf("%s without a second factor: %+v, %v", name, who, err)
		}
		secret, _ := withFactor(t, d, c, name)
		if who, err := in(t, d, name, codeAt(t, secret, c.at)); err != nil || who.FactorNeeded || !who.Held.Everywhere.Has(access.Read) {
			t.Errorf("%s with a second factor: %+v, %v", name, who, err)
		}
	}
}
