// This file has the resource of passkeys: made and removed by their owners, and signing in by one.

package httpapi

import (
	"context"
	"encoding/json"
	"net"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/workflow"
)

// hostHeader is the name by which a request reached the service.
type hostHeader struct{ host string }

// Resolve implements huma.Resolver.
func (h *hostHeader) Resolve(ctx huma.Context) []error {
	h.host = ctx.Host()
	return nil
}

// site gives the address at which somebody uses the service.
func (h *hostHeader) site(ctx context.Context) signin.Site {
	scheme := "http"
	if originOf(ctx).Secure {
		scheme = "https"
	}
	host, _, err := net.SplitHostPort(h.host)
	if err != nil {
		host = h.host
	}
	return signin.Site{Host: host, Origin: scheme + "://" + h.host}
}

// PasskeyPath names a passkey.
type PasskeyPath struct {
	ID string `path:"id" maxLength:"2048"`
}

func (s *server) registerPasskeys() {
	huma.Register(s.api, operation("listPasskeys", http.MethodGet, "/passkeys", "Your passkeys", ownAccount), s.listPasskeys)
	huma.Register(
		s.api,
		operation("beginPasskey", http.MethodPost, "/passkeys/options", "The options with which a browser "+
			"makes a passkey", ownAccount, recently),
		s.beginPasskey,
	)
	huma.Register(
		s.api,
		operation("addPasskey", http.MethodPost, "/passkeys", "Add the passkey that a device made",
			ownAccount, recently, status(http.StatusNoContent)),
		s.addPasskey,
	)
	huma.Register(
		s.api,
		operation("dropPasskey", http.MethodDelete, "/passkeys/{id}", "Remove a passkey of yours",
			ownAccount, recently, status(http.StatusNoContent)),
		s.dropPasskey,
	)
	huma.Register(
		s.api,
		operation("beginPasskeySignIn", http.MethodPost, "/session/passkey/options",
			"The options with which a browser asks for a passkey", public),
		s.beginPasskeySignIn,
	)
	huma.Register(s.api, operation("signInPasskey", http.MethodPost, "/session/passkey", "Sign in with a passkey", public), s.signInPasskey)
}

// listPasskeys handles the operation listPasskeys.
func (s *server) listPasskeys(ctx context.Context, _ *struct{}) (*output[[]wire.Passkey], error) {
	rows, err := s.SignIn.Passkeys(ctx, callerOf(ctx).Name)
	list := make([]wire.Passkey, len(rows))
	for i, p := range rows {
		list[i] = wire.Passkey{ID: p.ID, Name: p.Name, CreatedAt: p.CreatedAt, UsedAt: p.UsedAt}
	}
	return out(list, s.fault(ctx, err))
}

// beginPasskey handles the operation beginPasskey.
func (s *server) beginPasskey(ctx context.Context, in *hostHeader) (*output[wire.PasskeyOptions], error) {
	options, err := s.SignIn.BeginPasskey(ctx, callerOf(ctx), in.site(ctx))
	return out(wire.PasskeyOptions{Options: options}, s.fault(ctx, err))
}

// addPasskey handles the operation addPasskey.
func (s *server) addPasskey(ctx context.Context, in *struct {
	hostHeader
	Body wire.NewPasskey
}) (*struct{}, error) {
	answer, err := json.Marshal(in.Body.Credential)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	err = s.SignIn.AddPasskey(ctx, callerOf(ctx), in.site(ctx), in.Body.Name, answer)
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "add passkey", in.Body.Name)
	}
	return nil, s.fault(ctx, err)
}

// dropPasskey handles the operation dropPasskey.
func (s *server) dropPasskey(ctx context.Context, in *PasskeyPath) (*struct{}, error) {
	err := s.SignIn.DropPasskey(ctx, callerOf(ctx), in.ID)
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "remove passkey", "")
	}
	return nil, s.fault(ctx, err)
}

// beginPasskeySignIn handles the operation beginPasskeySignIn.
func (s *server) beginPasskeySignIn(ctx context.Context, in *hostHeader) (*output[wire.PasskeyOptions], error) {
	id, options, err := s.SignIn.BeginPasskeySignIn(in.site(ctx))
	return out(wire.PasskeyOptions{ID: id, Options: options}, s.fault(ctx, err))
}

// signInPasskey handles the operation signInPasskey.
func (s *server) signInPasskey(ctx context.Context, in *struct {
	hostHeader
	Body wire.PasskeyAnswer
}) (*sessionOutput, error) {
	answer, err := json.Marshal(in.Body.Credential)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	from := originOf(ctx)
	e, err := s.SignIn.SignInPasskey(ctx, in.site(ctx), in.Body.ID, answer, signin.From{Address: from.Address})
	if err != nil {
		s.Flow.RecordOften(ctx, workflow.Actor{Name: "somebody", Via: "console", Request: requestOf(ctx)}, "sign-in refused", from.Address)
		return nil, s.fault(ctx, err)
	}
	by := workflow.Actor{Name: e.Caller.Name, Via: "console", Request: requestOf(ctx)}
	if err := s.Flow.Record(ctx, by, "sign in", "with a passkey, from "+from.Address); err != nil {
		return nil, s.fault(ctx, err)
	}
	return &sessionOutput{[]http.Cookie{cookieOf(sessionCookie, e.Secret, e.Expires, from.Secure)}, s.whoOf(e.Caller)}, nil
}
