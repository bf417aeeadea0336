package service_test

import (
	"context"
	"crypto/sha1"
	"errors"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
)

// statusOf gives the status that a call is refused with, 0 where it is not.
func statusOf(err error) int {
	if p, refused := err.(*wire.Problem); refused {
		return p.Status
	}
	return 0
}

// Somebody's access ends: at once when their account is disabled, and by one session.
func TestAccessEnds(t *testing.T) {
	t.Parallel()
	api := bare(t)
	account := wire.NewAccount{Chosen: true, Name: "tomas", Password: "a long enough password", Role: "author"}
	if _, err := api.Call(t.Context(), http.MethodPost, "/accounts", nil, account, nil); err != nil {
		t.Fatal(err)
	}
	signIn := func(password string) (*client.Client, error) {
		stranger := &client.Client{Base: api.Base}
		header, err := stranger.Call(t.Context(), http.MethodPost, "/session", nil, wire.Credentials{Name: "tomas", Password: password}, nil)
		if err != nil {
			return nil, err
		}
		jar := &http.Client{Transport: withCookie(header.Get("Set-Cookie"))}
		return &client.Client{Base: api.Base, HTTP: jar}, nil
	}
	put := func(api *client.Client, path string, body any) error {
		_, err := api.Call(t.Context(), http.MethodPut, path, nil, body, nil)
		return err
	}
	first, err := signIn(account.Password)
	if err != nil {
		t.Fatal(err)
	}
	second, err := signIn(account.Password)
	if err != nil {
		t.Fatal(err)
	}
	token, err := (&client.Client{Base: api.Base}).SignIn(t.Context(), "tomas", account.Password, "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	byToken := &client.Client{Base: api.Base, Token: token.Secret}
	open := get[[]wire.Session](t, first, "/sessions")
	if len(open) != 2 || open[0].Own == open[1].Own || open[0].Address != "127.0.0.1" {
		t.Fatalf("the sessions are %+v", open)
	}
	for _, s := range open {
		if !s.Own {
			if _, err := first.Call(t.Context(), http.MethodDelete, client.Path("sessions", s.ID), nil, nil, nil); err != nil {
				t.Fatal(err)
			}
		}
	}
	if _, err := client.Get[wire.Who](t.Context(), second, "/session", nil); statusOf(err) != http.StatusUnauthorized {
		t.Errorf("a session that was ended: %v", err)
	}
	if err := put(
		first,
		"/password",
		wire.NewPassword{Old: "wrong", New: "another long password"},
	); statusOf(err) != http.StatusUnprocessableEntity {
		t.Errorf("with a wrong password: %v", err)
	}
	if err := put(
		byToken,
		"/password",
		wire.NewPassword{Old: account.Password, New: "another long password"},
	); statusOf(err) != http.StatusForbidden {
		t.Errorf("by a token: %v", err)
	}
	if err := put(first, "/password", wire.NewPassword{Old: account.Password, New: "another long password"}); err != nil {
		t.Error(err)
	}
	if _, err := signIn(account.Password); statusOf(err) != http.StatusUnauthorized {
		t.Errorf("by the old password: %v", err)
	}
	if _, err := signIn("another long password"); err != nil {
		t.Errorf("by the new password: %v", err)
	}
	if err := put(first, "/accounts/ines", wire.AlteredAccount{Disabled: true}); statusOf(err) != http.StatusForbidden {
		t.Errorf("an author alters an account: %v", err)
	}
	if _, err := client.Post[wire.Grant](t.Context(), api, "/grants", wire.NewGrant{Account: "tomas", Role: "reader"}); err != nil {
		t.Fatal(err)
	}
	for _, g := range get[[]wire.Grant](t, api, "/grants") {
		if g.Account == "tomas" && g.Role == "author" {
			if _, err := api.Call(t.Context(), http.MethodDelete, client.Path("grants", g.ID), nil, nil, nil); err != nil {
				t.Fatal(err)
			}
		}
	}
	if _, err := client.Get[wire.Who](t.Context(), first, "/session", nil); statusOf(err) != http.StatusUnauthorized {
		t.Errorf("a session from before the rights altered: %v", err)
	}
	if who := get[wire.Who](t, byToken, "/session"); len(who.Rights) != 1 {
		t.Errorf("the author's token of a reader may %v", who.Rights)
	}
	third, err := signIn("another long password")
	if err != nil {
		t.Fatal(err)
	}
	if who := get[wire.Who](t, third, "/session"); who.Role != "reader" || len(who.Rights) != 1 {
		t.Errorf("the reader is %+v", who)
	}
	if err := put(api, "/accounts/tomas", wire.AlteredAccount{Disabled: true}); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Get[wire.Who](t.Context(), third, "/session", nil); statusOf(err) != http.StatusUnauthorized {
		t.Errorf("a disabled account's session: %v", err)
	}
	if _, err := signIn("another long password"); statusOf(err) != http.StatusUnauthorized {
		t.Errorf("a disabled account signs in: %v", err)
	}
	if err := put(api, "/accounts/ines", wire.AlteredAccount{Disabled: true}); statusOf(err) != http.StatusForbidden {
		t.Errorf("somebody disables themselves: %v", err)
	}
	if err := put(api, "/accounts/nobody", wire.AlteredAccount{Disabled: true}); statusOf(err) != http.StatusNotFound {
		t.Errorf("nobody's account: %v", err)
	}
}

// The last administrator stays one, whoever asks.
func TestTheLastAdministratorStays(t *testing.T) {
	t.Parallel()
	api := bare(t)
	account := wire.NewAccount{Chosen: true, Name: "operator", Password: "a long enough password", Role: "operator"}
	if _, err := api.Call(t.Context(), http.MethodPost, "/accounts", nil, account, nil); err != nil {
		t.Fatal(err)
	}
	token, err := (&client.Client{Base: api.Base}).SignIn(t.Context(), account.Name, account.Password, "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	operator := &client.Client{Base: api.Base, Token: token.Secret}
	friend := wire.NewAccount{Chosen: true, Name: "friend", Password: "a long enough password", Role: "administrator"}
	if _, err := operator.Call(t.Context(), http.MethodPost, "/accounts", nil, friend, nil); statusOf(err) != http.StatusUnprocessableEntity {
		t.Errorf("an operator makes an administrator: %v", err)
	}
	friend.Role = "author"
	if _, err := operator.Call(t.Context(), http.MethodPost, "/accounts", nil, friend, nil); err != nil {
		t.Errorf("an operator makes an author: %v", err)
	}
	for _, g := range get[[]wire.Grant](t, api, "/grants") {
		if g.Account != "ines" {
			continue
		}
		if _, err := operator.Call(t.Context(), http.MethodDelete, client.Path("grants", g.ID), nil, nil,
			nil); statusOf(err) != http.StatusUnprocessableEntity {
			t.Errorf("an operator takes the administrator's grant away: %v", err)
		}
		if _, err := api.Call(t.Context(), http.MethodDelete, client.Path("grants", g.ID), nil, nil, nil); statusOf(err) != http.StatusForbidden {
			t.Errorf("the administrator takes their own grant away: %v", err)
		}
	}
	// Two administrators: each may take the other's grant away, and then the one that is left
	// stays.
	second := wire.NewAccount{Chosen: true, Name: "second", Password: "a long enough password", Role: "administrator"}
	if _, err := api.Call(t.Context(), http.MethodPost, "/accounts", nil, second, nil); err != nil {
		t.Fatal(err)
	}
	token, err = (&client.Client{Base: api.Base}).SignIn(t.Context(), second.Name, second.Password, "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	other := &client.Client{Base: api.Base, Token: token.Secret}
	for _, g := range get[[]wire.Grant](t, api, "/grants") {
		if g.Account == "ines" {
			if _, err := other.Call(t.Context(), http.MethodDelete, client.Path("grants", g.ID), nil, nil, nil); err != nil {
				t.Errorf("one of two administrators: %v", err)
			}
		}
	}
	// Somebody with the same rights by a role of another name is no administrator, but may manage
	// access.
	role := wire.NewRole{Title: "All but keys", Rights: access.Of(access.All...).List()}
	role.Rights = slices.DeleteFunc(role.Rights, func(r access.Right) bool { return r == access.RecoveryKeys })
	if _, err := other.Call(t.Context(), http.MethodPut, "/roles/all-but-keys", nil, role, nil); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Post[wire.Grant](t.Context(), other, "/grants", wire.NewGrant{Account: "operator", Role: "all-but-keys"}); err != nil {
		t.Fatal(err)
	}
	for _, g := range get[[]wire.Grant](t, other, "/grants") {
		if g.Account == "second" {
			if _, err := operator.Call(t.Context(), http.MethodDelete, client.Path("grants", g.ID), nil, nil,
				nil); statusOf(err) != http.StatusConflict {
				t.Errorf("the last administrator's grant is taken away: %v", err)
			}
		}
	}
	if _, err := operator.Call(t.Context(), http.MethodPut, "/accounts/second", nil, wire.AlteredAccount{Disabled: true}, nil); statusOf(
		err,
	) != http.StatusConflict {
		t.Errorf("the last administrator is disabled: %v", err)
	}
}

// withCookie sends a cookie with every request.
type withCookie string

// RoundTrip implements http.RoundTripper.
func (c withCookie) RoundTrip(r *http.Request) (*http.Response, error) {
	r = r.Clone(r.Context())
	r.Header.Set("Cookie", string(c))
	return http.DefaultTransport.RoundTrip(r)
}

// TestAPasswordThatSomebodyElseChose opens nothing but the choice of another one, in a session and in a token that
// is older than the choice.
func TestAPasswordThatSomebodyElseChose(t *testing.T) {
	t.Parallel()
	api := bare(t)
	account := wire.NewAccount{Name: "tomas", Password: "a long enough password", Role: "author"}
	if _, err := api.Call(t.Context(), http.MethodPost, "/accounts", nil, account, nil); err != nil {
		t.Fatal(err)
	}
	stranger := &client.Client{Base: api.Base}
	as := wire.Credentials{Name: account.Name, Password: account.Password}
	header, err := stranger.Call(t.Context(), http.MethodPost, "/session", nil, as, nil)
	if err != nil {
		t.Fatal(err)
	}
	own := &client.Client{Base: api.Base, HTTP: &http.Client{Transport: withCookie(header.Get("Set-Cookie"))}}
	if who := get[wire.Who](t, own, "/session"); !who.PasswordDue || len(who.Rights) != 0 {
		t.Errorf("at first: %+v", who)
	}
	var refused *wire.Problem
	if _, err := client.Get[[]wire.Change](t.Context(), own, "/changes", nil); statusOf(err) != http.StatusForbidden {
		t.Errorf("changes are read at first: %v", err)
	}
	if _, err := stranger.SignIn(t.Context(), account.Name, account.Password, "tests", 1); !errors.As(err, &refused) ||
		refused.Code != "password-due" {
		t.Errorf("a token is made at first: %v", err)
	}
	if err := stranger.ChoosePassword(t.Context(), as, account.Password); statusOf(err) != http.StatusUnprocessableEntity {
		t.Errorf("the same password was taken: %v", err)
	}
	const chosen = "a lantern of my own"
	if err := stranger.ChoosePassword(t.Context(), as, chosen); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Get[wire.Who](t.Context(), own, "/session", nil); statusOf(err) != http.StatusUnauthorized {
		t.Errorf("the session with the first password is open still: %v", err)
	}
	token, err := stranger.SignIn(t.Context(), account.Name, chosen, "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	if who := get[wire.Who](t, &client.Client{Base: api.Base, Token: token.Secret}, "/session"); who.PasswordDue || len(who.Rights) == 0 {
		t.Errorf("then: %+v", who)
	}
}

// TestALeakedPasswordIsRefused has the service look passwords up in a list.
func TestALeakedPasswordIsRefused(t *testing.T) {
	t.Parallel()
	const known = "a lantern that leaked"
	list := filepath.Join(t.TempDir(), "leaked.txt")
	if err := os.WriteFile(list, fmt.Appendf(nil, "%X:12\n", sha1.Sum([]byte(known))), 0o600); err != nil {
		t.Fatal(err)
	}
	running, err := service.Start(service.Config{
		Address: "127.0.0.1:0", Database: filepath.Join(t.TempDir(), "z.db"), Day: "2026-11-30", LeakedPasswords: list,
	})
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan error, 1)
	go func() { done <- running.Wait(ctx) }()
	api := firstAdministrator(t, running.Address, running.SetupCode)
	add := func(name, password string) error {
		_, err := api.Call(t.Context(), http.MethodPost, "/accounts", nil, wire.NewAccount{Name: name, Password: password}, nil)
		return err
	}
	if err := add("tomas", known); statusOf(err) != http.StatusUnprocessableEntity || !strings.Contains(err.Error(), "no list of leaked passwords") {
		t.Errorf("a leaked password: %v", err)
	}
	if err := add("tomas", known+" no longer"); err != nil {
		t.Error(err)
	}
	stop()
	if err := <-done; err != nil {
		t.Error(err)
	}
}
