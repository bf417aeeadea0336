// This file has the resources of recovery keys: finding a laptop, seeing its key once, and its history.

package httpapi

import (
	"context"
	"net/http"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/signin"
	"zenithridge.example/zridge/service/store"
	"zenithridge.example/zridge/service/workflow"
)

func (s *server) registerRecovery() {
	keys := needs(access.RecoveryKeys)
	huma.Register(
		s.api,
		operation(
			"findRecoveryKeys", http.MethodGet, "/recovery-laptops",
			"Laptops by a serial number that is hard to read, by owner or by the identifier of a key", keys,
		),
		s.findKeys,
	)
	huma.Register(
		s.api,
		operation(
			"recoveryKeys", http.MethodGet, "/devices/{id}/recovery-keys",
			"The keys of a laptop with the time in which each was valid, and who asked for them",
		),
		s.keyHistory,
	)
	huma.Register(
		s.api,
		operation(
			"renewRecoveryKey", http.MethodPost, "/devices/{id}/recovery-keys/renewal",
			"Ask a laptop to put another key in the place of one, or of all", keys,
		),
		s.renewKey,
	)
	huma.Register(
		s.api,
		operation(
			"askForRecoveryKey", http.MethodPost, "/key-requests",
			"Ask to see a key, after comparing at the laptop", ownAccount, recently, status(http.StatusCreated),
		),
		s.askForKey,
	)
	huma.Register(
		s.api,
		operation("listKeyRequests", http.MethodGet, "/key-requests", "Requests that wait for a second person: you", keys),
		s.listKeyRequests,
	)
	huma.Register(
		s.api,
		operation("getKeyRequest", http.MethodGet, "/key-requests/{id}", "A request to see a key", ownAccount),
		s.getKeyRequest,
	)
	huma.Register(
		s.api,
		operation(
			"decideKeyRequest", http.MethodPost, "/key-requests/{id}/decision",
			"Consent to a request as the second person, or refuse it", keys, recently,
		),
		s.decideKeyRequest,
	)
	huma.Register(
		s.api,
		operation("showRecoveryKey", http.MethodPost, "/key-requests/{id}/key", "The key of a request, once", ownAccount, recently),
		s.showKey,
	)
	s.registerCoverage()
}

// keyRequestWire gives a request. The identifier is for whoever read it at the laptop.
func keyRequestWire(r *store.KeyRequest, by workflow.Actor) wire.KeyRequest {
	identifier := ""
	if r.By == by.Name {
		identifier = string(r.Identifier)
	}
	return wire.KeyRequest{
		ID: r.ID, Device: r.Device, Identifier: identifier, Person: r.Person, Reason: r.Reason, By: r.By, At: r.At, ExpiresAt: r.ExpiresAt,
		State: r.State, ConsentBy: r.ConsentBy, ConsentAt: r.ConsentAt, ShownAt: r.ShownAt,
	}
}

func keyRequestsWire(list []store.KeyRequest, by workflow.Actor) []wire.KeyRequest {
	out := make([]wire.KeyRequest, len(list))
	for i := range list {
		out[i] = keyRequestWire(&list[i], by)
	}
	return out
}

func volumesWire(list []recovery.Volume) []wire.Volume {
	out := make([]wire.Volume, len(list))
	for i, v := range list {
		out[i] = wire.Volume{
			ID: v.ID, Name: v.Name, Kind: string(v.Kind), State: string(v.State), Reason: v.Reason, Method: v.Method,
			Startup: append([]string{}, v.Startup...),
			Weak:    v.Weak,
		}
	}
	return out
}

func unitNamed(plan *resolve.Plan, id estate.UnitID) wire.Named {
	if u := plan.Unit(id); u != nil {
		return wire.Named{ID: string(id), Title: u.Title}
	}
	return wire.Named{ID: string(id)}
}

func personNamed(plan *resolve.Plan, id estate.PersonID) *wire.Named {
	if id == "" {
		return nil
	}
	out := wire.Named{ID: string(id)}
	if p := plan.Person(id); p != nil {
		out.Title = p.Name
	}
	return &out
}

// findKeys handles the operation findRecoveryKeys.
func (s *server) findKeys(ctx context.Context, in *struct {
	Serial     string `query:"serial" maxLength:"64" doc:"As it is read from the label; a question mark stands for what nobody can read"`
	Owner      string `query:"owner" maxLength:"128" doc:"A part of the name of who owns or uses it"`
	Identifier string `query:"identifier" maxLength:"40" doc:"The 12 digits that the locked screen shows; at most two may be question marks"`
	Device     string `query:"device" maxLength:"128"`
}) (*output[[]wire.FoundLaptop], error) {
	found, err := s.Flow.FindKeys(ctx, actorOf(ctx), workflow.KeySearch{Serial: in.Serial, Owner: in.Owner,
		Identifier: in.Identifier, Device: in.Device})
	plan := s.Flow.Live().Plan
	list := make([]wire.FoundLaptop, len(found))
	for i, f := range found {
		d := f.Device
		list[i] = wire.FoundLaptop{
			Device: string(d.ID), Serial: d.Serial, Differs: append([]int{}, f.Match.Differs...), Model: d.Model, Owner: personNamed(plan, d.Owner),
			Users: make([]wire.Named, len(d.Users)), Unit: unitNamed(plan, f.Unit), Volumes: volumesWire(f.Volumes),
			Retired: f.Retired,
		}
		for j, id := range d.Users {
			list[i].Users[j] = *personNamed(plan, id)
		}
		for _, k := range f.Keys {
			if is := list[i].KeySince; is == nil || k.Since.Before(*is) {
				list[i].KeySince = moment(k.Since)
			}
			if !k.Used.IsZero() {
				list[i].KeyUsedAt = moment(k.Used)
			}
		}
	}
	return out(list, s.fault(ctx, err))
}

// keyHistory handles the operation recoveryKeys.
func (s *server) keyHistory(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*output[wire.KeyHistory], error) {
	h, err := s.Flow.KeyHistory(ctx, actorOf(ctx), in.ID)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	out := wire.KeyHistory{
		Device: in.ID, Model: h.Device.Model, Volumes: volumesWire(h.Volumes), ReportedAt: moment(h.ReportedAt),
		Keys:     make([]wire.RecoveryKey, len(h.Keys)),
		Requests: keyRequestsWire(h.Requests, actorOf(ctx)), MaySee: h.MaySee, Recipients: append([]string{}, h.Recipients...), Second: h.Second,
	}
	for i, k := range h.Keys {
		out.Keys[i] = wire.RecoveryKey{
			Volume: k.Volume, Name: k.Name, Identifier: string(k.Identifier), State: string(k.State), Recipients: k.Recipients, MadeAt: k.MadeAt,
			StoredAt: k.StoredAt, Since: k.Since, Until: k.Until, UsedAt: k.UsedAt, UsedBy: k.UsedBy, RenewalAt: k.RenewalAt,
		}
	}
	return &output[wire.KeyHistory]{out}, nil
}

// renewKey handles the operation renewRecoveryKey.
func (s *server) renewKey(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.KeyRenewal
}) (*output[wire.RenewalsAsked], error) {
	var id recovery.Identifier
	if in.Body.Identifier != "" {
		var err error
		if id, err = recovery.ParseIdentifier(in.Body.Identifier); err != nil {
			return nil, s.fault(ctx, problem.Faults{{
				Code: problem.PatternMismatch, Path: "/identifier", Found: problem.Quote(in.Body.Identifier),
				Expected: "the 12 digits of an identifier",
			}})
		}
	}
	n, err := s.Flow.RenewKey(ctx, actorOf(ctx), in.ID, id)
	return out(wire.RenewalsAsked{Keys: n}, s.fault(ctx, err))
}

// askForKey handles the operation askForRecoveryKey.
func (s *server) askForKey(ctx context.Context, in *struct{ Body wire.KeyAsk }) (*output[wire.KeyRequest], error) {
	r, err := s.Flow.AskForKey(ctx, actorOf(ctx), workflow.KeyAsk{
		Device: in.Body.Device, Identifier: in.Body.Identifier, Person: in.Body.Person, Model: in.Body.Model, Reason: in.Body.Reason,
	})
	return out(keyRequestWire(&r, actorOf(ctx)), s.fault(ctx, err))
}

// listKeyRequests handles the operation listKeyRequests.
func (s *server) listKeyRequests(ctx context.Context, _ *struct{}) (*output[[]wire.KeyRequest], error) {
	list, err := s.Flow.KeyRequests(ctx, actorOf(ctx))
	return out(keyRequestsWire(list, actorOf(ctx)), s.fault(ctx, err))
}

// getKeyRequest handles the operation getKeyRequest.
func (s *server) getKeyRequest(ctx context.Context, in *struct {
	ID string `path:"id"`
}) (*output[wire.KeyRequest], error) {
	r, err := s.Flow.KeyRequest(ctx, actorOf(ctx), in.ID)
	return out(keyRequestWire(&r, actorOf(ctx)), s.fault(ctx, err))
}

// decideKeyRequest handles the operation decideKeyRequest.
func (s *server) decideKeyRequest(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.KeyDecision
}) (*output[wire.KeyRequest], error) {
	if callerOf(ctx).Token && in.Body.Consent { // a token proves nobody's presence
		return nil, s.fault(ctx, signin.ErrNoSession)
	}
	r, err := s.Flow.DecideKeyRequest(ctx, actorOf(ctx), in.ID, in.Body.Consent)
	return out(keyRequestWire(&r, actorOf(ctx)), s.fault(ctx, err))
}

// shownKeyOutput is a key; nothing on the way keeps it.
type shownKeyOutput struct {
	CacheControl string `header:"Cache-Control"`
	Body         wire.ShownKey
}

// showKey handles the operation showRecoveryKey. A caller with a token gives their password; one at a session gave it a
// moment ago.
func (s *server) showKey(ctx context.Context, in *struct {
	ID   string `path:"id"`
	Body wire.KeyLook
}) (*shownKeyOutput, error) {
	if caller := callerOf(ctx); caller.Token {
		if in.Body.Password == "" {
			return nil, problemOf(http.StatusForbidden, "confirm", "Give your password: a token alone shows no key.")
		}
		if err := s.SignIn.Verify(ctx, caller, in.Body.Password, signin.From{Address: originOf(ctx).Address, Code: in.Body.Code}); err != nil {
			return nil, s.fault(ctx, err)
		}
	}
	is, err := s.Flow.ShowKey(ctx, actorOf(ctx), in.ID)
	if err != nil {
		return nil, s.fault(ctx, err)
	}
	return &shownKeyOutput{"no-store", wire.ShownKey{
		Device: is.Request.Device, Name: is.Name, Identifier: is.Request.Identifier.Spaced(), Key: is.Key.Reveal(), Sealed: is.Sealed,
		Recipients: slices.Clone(is.Recipients), Seconds: int(workflow.ShownFor.Seconds()),
	}}, nil
}
