// This file has the resource of the second factor, and asking again for the password.

package httpapi

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/signin"
)

func (s *server) registerSecondFactor() {
	huma.Register(
		s.api,
		operation("confirmSession", http.MethodPut, "/session", "Give the password of the session again, before what matters",
			ownAccount, status(http.StatusNoContent)),
		s.confirmSession,
	)
	huma.Register(s.api, operation("secondFactor", http.MethodGet, "/second-factor", "Your second factor", ownAccount), s.secondFactor)
	huma.Register(
		s.api,
		operation("beginSecondFactor", http.MethodPost, "/second-factor", "Make a secret for one-time codes; a first code turns it on",
			ownAccount, recently),
		s.beginSecondFactor,
	)
	huma.Register(
		s.api,
		operation("turnOnSecondFactor", http.MethodPut, "/second-factor", "Turn one-time codes on with a first code", ownAccount, recently),
		s.turnOnSecondFactor,
	)
	huma.Register(
		s.api,
		operation("newRecoveryCodes", http.MethodPost, "/second-factor/recovery-codes", "Replace your recovery codes", ownAccount, recently),
		s.newRecoveryCodes,
	)
	huma.Register(
		s.api,
		operation("dropSecondFactor", http.MethodDelete, "/second-factor", "Turn your second factor off",
			ownAccount, recently, status(http.StatusNoContent)),
		s.dropSecondFactor,
	)
	huma.Register(
		s.api,
		operation("dropAccountSecondFactor", http.MethodDelete, "/accounts/{name}/second-factor",
			"Turn the second factor of somebody off who lost their device", needs(access.Accounts), recently, status(http.StatusNoContent)),
		s.dropAccountSecondFactor,
	)
}

// confirmSession handles the operation confirmSession.
func (s *server) confirmSession(ctx context.Context, in *struct{ Body wire.Confirmation }) (*struct{}, error) {
	from := signin.From{Address: originOf(ctx).Address, Code: in.Body.Code}
	return nil, s.fault(ctx, s.SignIn.Confirm(ctx, callerOf(ctx), in.Body.Password, from))
}

// secondFactor handles the operation secondFactor.
func (s *server) secondFactor(ctx context.Context, _ *struct{}) (*output[wire.SecondFactor], error) {
	f, err := s.SignIn.SecondFactorOf(ctx, callerOf(ctx).Name)
	return out(wire.SecondFactor{Active: f.Active, Recovery: f.Recovery, Demanded: f.Demanded}, s.fault(ctx, err))
}

// beginSecondFactor handles the operation beginSecondFactor.
func (s *server) beginSecondFactor(ctx context.Context, _ *struct{}) (*output[wire.SecondFactorSetup], error) {
	setup, err := s.SignIn.BeginSecondFactor(ctx, callerOf(ctx))
	return out(wire.SecondFactorSetup{Secret: setup.Secret, Address: setup.Address, Picture: setup.Picture}, s.fault(ctx, err))
}

// turnOnSecondFactor handles the operation turnOnSecondFactor.
func (s *server) turnOnSecondFactor(ctx context.Context, in *struct{ Body wire.OneTimeCode }) (*output[wire.RecoveryCodes], error) {
	codes, err := s.SignIn.ConfirmSecondFactor(ctx, callerOf(ctx), in.Body.Code)
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "turn second factor on", "")
	}
	return out(wire.RecoveryCodes{Codes: codes}, s.fault(ctx, err))
}

// newRecoveryCodes handles the operation newRecoveryCodes.
func (s *server) newRecoveryCodes(ctx context.Context, _ *struct{}) (*output[wire.RecoveryCodes], error) {
	codes, err := s.SignIn.NewRecoveryCodes(ctx, callerOf(ctx))
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "replace recovery codes", "")
	}
	return out(wire.RecoveryCodes{Codes: codes}, s.fault(ctx, err))
}

// dropSecondFactor handles the operation dropSecondFactor.
func (s *server) dropSecondFactor(ctx context.Context, _ *struct{}) (*struct{}, error) {
	c := callerOf(ctx)
	if c.Token {
		return nil, s.fault(ctx, signin.ErrNoSession)
	}
	err := s.SignIn.DropSecondFactor(ctx, c.Name)
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "turn second factor off", "")
	}
	return nil, s.fault(ctx, err)
}

// dropAccountSecondFactor handles the operation dropAccountSecondFactor.
func (s *server) dropAccountSecondFactor(ctx context.Context, in *AccountPath) (*struct{}, error) {
	c := callerOf(ctx)
	if c.Name == in.Name {
		return nil, s.fault(ctx, signin.ErrOwn)
	}
	if !c.Held.Everywhere.Has(access.Accounts) {
		outside := &access.OutsideError{Right: access.Accounts, Units: c.Held.UnitsWith(access.Accounts), What: "the account " + in.Name}
		return nil, s.fault(ctx, outside)
	}
	err := s.SignIn.DropSecondFactor(ctx, in.Name)
	if err == nil {
		err = s.Flow.Record(ctx, actorOf(ctx), "turn second factor off", in.Name)
	}
	return nil, s.fault(ctx, err)
}
