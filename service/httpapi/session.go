// This file has the resources of signing in: set-up, sessions, accounts, tokens, health.

package httpapi

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

// output is a response with a JSON body.
type output[T any] struct{ Body T }

func out[T any](v T, err error) (*output[T], error) {
	if err != nil {
		return nil, err
	}
	return &output[T]{v}, nil
}

type sessionOutput struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      wire.Who
}

type health struct {
	Status   string `json:"status" enum:"ok"`
	Revision int64  `json:"revision"`
}

func (s *server) registerSession() {
	huma.Register(s.api, operation("health", http.MethodGet, "/health", "Whether the service answers", public), s.health)
	huma.Register(
		s.api,
		operation(
			"setUp",
			http.MethodPost,
			"/setup",
			"Make the first administrator with the one-time code",
			public,
			status(http.StatusNoContent),
		),
		s.setUp,
	)
	huma.Register(s.api, operation("waysToSignIn", http.MethodGet, "/ways-to-sign-in", "How people can sign in", public), s.waysToSignIn)
	huma.Register(s.api, operation("signIn", http.MethodPost, "/session", "Sign in", public), s.signIn)
	huma.Register(s.api, operation("whoAmI", http.MethodGet, "/session", "Who is signed in", ownAccount), s.whoAmI)
	huma.Register(
		s.api,
		operation("signOut", http.MethodDelete, "/session", "Sign out", ownAccount, status(http.StatusNoContent)),
		s.signOut,
	)
	huma.Register(s.api, operation("listAccounts", http.MethodGet, "/accounts", "Accounts", needs(access.Accounts)), s.listAccounts)
	huma.Register(
		s.api,
		operation("addAccount", http.MethodPost, "/accounts", "Add an account", needs(access.Accounts), status(http.StatusNoContent)),
		s.addAccount,
	)
	huma.Register(s.api, operation("listTokens", http.MethodGet, "/tokens", "Your tokens", ownAccount), s.listTokens)
	huma.Register(
		s.api,
		operation("addToken", http.MethodPost, "/tokens", "Make a token; its secret is shown once", ownAccount, status(http.StatusCreated)),
		s.addToken,
	)
	huma.Register(
		s.api,
		operation("dropToken", http.MethodDelete, "/tokens/{id}", "Revoke a token", ownAccount, status(http.StatusNoContent)),
		s.dropToken,
	)
}

func tokenOf(t store.Token) wire.Token {
	return wire.Token{ID: t.ID, Name: t.Name, Role: t.Role, CreatedAt: t.CreatedAt, ExpiresAt: t.ExpiresAt}
}

func cookieOf(name, secret string, expires time.Time, secure bool) http.Cookie {
	return http.Cookie{
		Name:     cookieName(name, secure),
		Value:    secret,
		Path:     "/",
		Expires:  expires,
		HttpOnly: true,
		SameSite: http.SameSiteStrictMode,
		Secure:   secure,
	}
}

func (s *server) signIn(ctx context.Context, in *struct {
	Known  string `cookie:"zridge_known"`
	Secure string `cookie:"__Host-zridge_known"`
	Body   wire.Credentials
}) (*sessionOutput, error) {
	from := originOf(ctx)
	known := in.Known
	if from.Secure {
		known = in.Secure
	}
	by := workflow.Actor{Name: in.Body.Name, Via: "console", Request: requestOf(ctx)}
	e, err := s.SignIn.SignIn(ctx, in.Body.Name, in.Body.Password, signin.From{Address: from.Address, Known: known, Code: in.Body.Code})
	if errors.Is(err, signin.ErrSecondFactor) {
		return nil, s.fault(ctx, err)
	}
	if err != nil {
		s.Flow.RecordOften(ctx, workflow.Actor{Name: "somebody", Via: "console", Request: requestOf(ctx)}, "sign-in refused", from.Address)
		return nil, s.fault(ctx, err)
	}
	if err := s.Flow.Record(ctx, by, "sign in", "from "+from.Address); err != nil {
		return nil, s.fault(ctx, err)
	}
	return &sessionOutput{
		[]http.Cookie{
			cookieOf(sessionCookie, e.Secret, e.Expires, from.Secure),
			cookieOf(knownCookie, e.Known, time.Now().AddDate(0, 0, 90), from.Secure),
		},
		s.whoOf(e.Caller),
	}, nil
}

func (s *server) signOut(ctx context.Context, _ *struct{}) (*struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}, error) {
	if err := s.SignIn.SignOut(ctx, callerOf(ctx)); err != nil {
		return nil, s.fault(ctx, err)
	}
	if err := s.Flow.Record(ctx, actorOf(ctx), "sign out", ""); err != nil {
		return nil, s.fault(ctx, err)
	}
	return &struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}{cookieOf(sessionCookie, "", time.Unix(1, 0), originOf(ctx).Secure)}, nil
}

// health handles the operation health: whether the service answers.
func (s *server) health(context.Context, *struct{}) (*output[health], error) {
	return &output[health]{health{"ok", s.Flow.Live().Revision}}, nil
}

// setUp handles the operation setUp: make the first administrator with the one-time code.
func (s *server) setUp(ctx context.Context, in *struct{ Body wire.SetUp }) (*struct{}, error) {
	err := s.SignIn.SetUp(ctx, in.Body.Code, in.Body.Name, in.Body.Password)
	if err != nil {
		s.Flow.RecordOften(
			ctx,
			workflow.Actor{Name: "somebody", Via: "api", Request: requestOf(ctx)},
			"set-up refused",
			originOf(ctx).Address,
		)
		return nil, s.fault(ctx, err)
	}
	by := workflow.Actor{Name: in.Body.Name, Via: "api", Request: requestOf(ctx)}
	return nil, s.fault(ctx, s.Flow.Record(ctx, by, "set up", "the first administrator, from "+originOf(ctx).Address))
}

// whoAmI handles the operation whoAmI: who is signed in.
func (s *server) whoAmI(ctx context.Context, _ *struct{}) (*output[wire.Who], error) {
	return &output[wire.Who]{s.whoOf(callerOf(ctx))}, nil
}

func (s *server) whoOf(c signin.Caller) wire.Who {
	w := wire.Who{Name: c.Name, Role: c.Role, Via: c.Via, Rights: []string{}, Grants: []wire.Grant{}, FactorNeeded: c.FactorNeeded,
		PasswordDue: c.PasswordDue}
	if now := s.Clock.Now(); s.Clock.Speed() != 1 || now.Sub(time.Now()).Abs() > time.Minute {
		w.Clock = &wire.Clock{Now: now, Speed: s.Clock.Speed()}
	}
	if !c.EndsAt.IsZero() {
		w.EndsAt = &c.EndsAt
	}
	for _, r := range c.Held.Anywhere().List() {
		w.Rights = append(w.Rights, string(r))
		if units := c.Held.UnitsWith(r); len(units) > 0 && r != access.Read {
			if w.Within == nil {
				w.Within = map[string][]string{}
			}
			w.Within[string(r)] = units
		}
	}
	for _, g := range c.Grants {
		w.Grants = append(w.Grants, s.grantOf(g, ""))
	}
	return w
}

// listAccounts handles the operation listAccounts: accounts.
func (s *server) listAccounts(ctx context.Context, _ *struct{}) (*output[[]wire.Account], error) {
	rows, err := s.Flow.Accounts(ctx, actorOf(ctx))
	list := make([]wire.Account, len(rows))
	for i, a := range rows {
		list[i] = wire.Account{Name: a.Name, Role: s.SignIn.Describe(ctx, a.Name), Disabled: a.Disabled, CreatedAt: a.CreatedAt}
	}
	return out(list, s.fault(ctx, err))
}

// addAccount handles the operation addAccount: add an account.
func (s *server) addAccount(ctx context.Context, in *struct{ Body wire.NewAccount }) (*struct{}, error) {
	b := in.Body
	err := s.SignIn.AddAccount(ctx, callerOf(ctx), signin.NewAccount{Name: b.Name, Password: b.Password, Role: b.Role, Chosen: b.Chosen})
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "add account", b.Name+" as "+b.Role)
	}
	return nil, s.fault(ctx, err)
}

// listTokens handles the operation listTokens: your tokens.
func (s *server) listTokens(ctx context.Context, _ *struct{}) (*output[[]wire.Token], error) {
	rows, err := s.SignIn.Tokens(ctx, callerOf(ctx))
	list := make([]wire.Token, len(rows))
	for i, t := range rows {
		list[i] = tokenOf(t)
	}
	return out(list, s.fault(ctx, err))
}

// addToken handles the operation addToken: make a token; its secret is shown once.
func (s *server) addToken(ctx context.Context, in *struct{ Body wire.NewToken }) (*output[wire.Token], error) {
	secret, row, err := s.SignIn.NewToken(ctx, callerOf(ctx), in.Body.Name, in.Body.Role, in.Body.Days)
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "make token", row.ID+" "+row.Name)
	}
	t := tokenOf(row)
	t.Secret = secret
	return out(t, s.fault(ctx, err))
}

// dropToken handles the operation dropToken: revoke a token.
func (s *server) dropToken(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*struct{}, error) {
	err := s.SignIn.DropToken(ctx, callerOf(ctx), in.ID)
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "revoke token", in.ID)
	}
	return nil, s.fault(ctx, err)
}
