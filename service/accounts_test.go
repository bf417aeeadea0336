package service_test

import (
	"net/http"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
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
	account := wire.NewAccount{Name: "tomas", Password: "a long enough password", Role: "author"}
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
	reader, disabled := "reader", true
	if err := put(first, "/accounts/ines", wire.AlteredAccount{Role: &reader}); statusOf(err) != http.StatusForbidden {
		t.Errorf("an author alters an account: %v", err)
	}
	if err := put(api, "/accounts/tomas", wire.AlteredAccount{Role: &reader}); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Get[wire.Who](t.Context(), byToken, "/session", nil); statusOf(err) != http.StatusUnauthorized {
		t.Errorf("an author's token of a reader: %v", err)
	}
	third, err := signIn("another long password")
	if err != nil {
		t.Fatal(err)
	}
	if who := get[wire.Who](t, third, "/session"); who.Role != "reader" || len(who.Rights) != 1 {
		t.Errorf("the reader is %+v", who)
	}
	if err := put(api, "/accounts/tomas", wire.AlteredAccount{Disabled: &disabled}); err != nil {
		t.Fatal(err)
	}
	if _, err := client.Get[wire.Who](t.Context(), third, "/session", nil); statusOf(err) != http.StatusUnauthorized {
		t.Errorf("a disabled account's session: %v", err)
	}
	if _, err := signIn("another long password"); statusOf(err) != http.StatusUnauthorized {
		t.Errorf("a disabled account signs in: %v", err)
	}
	if err := put(api, "/accounts/ines", wire.AlteredAccount{Disabled: &disabled}); statusOf(err) != http.StatusForbidden {
		t.Errorf("somebody disables themselves: %v", err)
	}
	if err := put(api, "/accounts/nobody", wire.AlteredAccount{Disabled: &disabled}); statusOf(err) != http.StatusNotFound {
		t.Errorf("nobody's account: %v", err)
	}
}

// The last administrator stays one, whoever asks.
func TestTheLastAdministratorStays(t *testing.T) {
	t.Parallel()
	api := bare(t)
	account := wire.NewAccount{Name: "operator", Password: "a long enough password", Role: "operator"}
	if _, err := api.Call(t.Context(), http.MethodPost, "/accounts", nil, account, nil); err != nil {
		t.Fatal(err)
	}
	token, err := (&client.Client{Base: api.Base}).SignIn(t.Context(), account.Name, account.Password, "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	operator := &client.Client{Base: api.Base, Token: token.Secret}
	friend := wire.NewAccount{Name: "friend", Password: "a long enough password", Role: "administrator"}
	if _, err := operator.Call(t.Context(), http.MethodPost, "/accounts", nil, friend, nil); statusOf(err) != http.StatusUnprocessableEntity {
		t.Errorf("an operator makes an administrator: %v", err)
	}
	friend.Role = "author"
	if _, err := operator.Call(t.Context(), http.MethodPost, "/accounts", nil, friend, nil); err != nil {
		t.Errorf("an operator makes an author: %v", err)
	}
	reader := "reader"
	if _, err := operator.Call(
		t.Context(),
		http.MethodPut,
		"/accounts/ines",
		nil,
		wire.AlteredAccount{Role: &reader},
		nil,
	); statusOf(err) != http.StatusConflict {
		t.Errorf("the last administrator becomes a reader: %v", err)
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
