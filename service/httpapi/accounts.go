// This file has the resources of accounts: who has one, with which role, by which sessions.

package httpapi

import (
	"context"
	"fmt"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/signin"
)

// AccountPath names an account.
type AccountPath struct {
	Name string `path:"name" maxLength:"64"`
}

type sessionPath struct {
	Name string `path:"name" maxLength:"64"`
	ID   string `path:"id" maxLength:"64"`
}

func (s *server) registerAccounts() {
	huma.Register(
		s.api,
		operation("alterAccount", http.MethodPut, "/accounts/{name}", "Disable an account, or enable it again",
			needs(access.Accounts), status(http.StatusNoContent)),
		s.alterAccount,
	)
	huma.Register(
		s.api,
		operation("accountSessions", http.MethodGet, "/accounts/{name}/sessions", "The open sessions "+
			"of an account", needs(access.Accounts)),
		s.accountSessions,
	)
	huma.Register(
		s.api,
		operation("endAccountSession", http.MethodDelete, "/accounts/{name}/sessions/{id}", "End a session of an account",
			needs(access.Accounts), status(http.StatusNoContent)),
		s.endAccountSession,
	)
	huma.Register(s.api, operation("ownSessions", http.MethodGet, "/sessions", "Your open sessions", ownAccount), s.ownSessions)
	huma.Register(
		s.api,
		operation("endOwnSession", http.MethodDelete, "/sessions/{id}", "End a session of yours", ownAccount, status(http.StatusNoContent)),
		s.endOwnSession,
	)
	huma.Register(
		s.api,
		operation("changePassword", http.MethodPut, "/password", "Change your password; your other sessions end",
			ownAccount, status(http.StatusNoContent)),
		s.changePassword,
	)
}

// alterAccount handles the operation alterAccount: disable an account, or enable it again.
func (s *server) alterAccount(ctx context.Context, in *struct {
	AccountPath
	Body wire.AlteredAccount
}) (*struct{}, error) {
	err := s.SignIn.Disable(ctx, callerOf(ctx), in.Name, in.Body.Disabled)
	if err == nil {
		what := map[bool]string{true: "disabled", false: "enabled"}[in.Body.Disabled]
		err = s.Flow.Record(ctx, actorOf(ctx), "alter account", in.Name+": "+what)
	}
	return nil, s.fault(ctx, err)
}

// accountSessions handles the operation accountSessions: the open sessions of an account.
func (s *server) accountSessions(ctx context.Context, in *AccountPath) (*output[[]wire.Session], error) {
	return s.sessionsOf(ctx, in.Name)
}

// ownSessions handles the operation ownSessions: the caller's open sessions.
func (s *server) ownSessions(ctx context.Context, _ *struct{}) (*output[[]wire.Session], error) {
	return s.sessionsOf(ctx, callerOf(ctx).Name)
}

func (s *server) sessionsOf(ctx context.Context, account string) (*output[[]wire.Session], error) {
	open, err := s.SignIn.Sessions(ctx, callerOf(ctx), account)
	list := make([]wire.Session, len(open))
	for i, o := range open {
		list[i] = wire.Session{ID: o.ID, Address: o.Address, CreatedAt: o.Created, ExpiresAt: o.Expires, Own: o.Own}
	}
	return out(list, s.fault(ctx, err))
}

// endAccountSession handles the operation endAccountSession: end a session of an account.
func (s *server) endAccountSession(ctx context.Context, in *sessionPath) (*struct{}, error) {
	return s.endSession(ctx, in.Name, in.ID)
}

// endOwnSession handles the operation endOwnSession: end a session of the caller.
func (s *server) endOwnSession(ctx context.Context, in *struct {
	ID string `path:"id" maxLength:"64"`
}) (*struct{}, error) {
	return s.endSession(ctx, callerOf(ctx).Name, in.ID)
}

func (s *server) endSession(ctx context.Context, account, id string) (*struct{}, error) {
	err := s.SignIn.EndSession(ctx, account, id)
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "end session", fmt.Sprintf("%s of %s", id, account))
	}
	return nil, s.fault(ctx, err)
}

// changePassword handles the operation changePassword: change the caller's password.
func (s *server) changePassword(ctx context.Context, in *struct{ Body wire.NewPassword }) (*struct{}, error) {
	err := s.SignIn.ChangePassword(ctx, callerOf(ctx), in.Body.Old, in.Body.New, signin.From{Address: originOf(ctx).Address})
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "change password", "")
	}
	return nil, s.fault(ctx, err)
}
