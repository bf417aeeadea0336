// This file has the life of accounts: their roles, their passwords, their sessions, and their end.

package signin

import (
	"context"
	"errors"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/service/store"
)

var (
	// ErrLast says that an account is the last that administers the service.
	ErrLast = errors.New("the last administrator")
	// ErrOwn says that somebody would alter their own rights.
	ErrOwn = errors.New("one's own rights")
)

// Disable ends an account, or lets it sign in again. When it is disabled its sessions and tokens
// end. Nobody disables their own account, and the last administrator stays one. Whoever manages
// access for some units alone disables nobody.
func (d *Service) Disable(ctx context.Context, by Caller, name string, disabled bool) error {
	if by.Name == name {
		return ErrOwn
	}
	if !by.Held.Everywhere.Has(access.Accounts) {
		return &access.OutsideError{Right: access.Accounts, Units: by.Held.UnitsWith(access.Accounts), What: "the account " + name}
	}
	return d.store.Transaction(ctx, func(tx *store.Store) error {
		a, err := tx.Account(name)
		if err != nil || a.Disabled == disabled {
			return err
		}
		a.Disabled = disabled
		if err := errors.Join(tx.SaveAccount(a), tx.DropSessionsOf(name, ""), tx.DropTokensOf(name)); err != nil {
			return err
		}
		return d.administered(tx)
	})
}

// ChangePassword gives the caller's account another password. The one that it has is asked for, and
// counted like a sign-in. The other sessions of the account end.
func (d *Service) ChangePassword(ctx context.Context, c Caller, old, password string, from From) error {
	if c.Token {
		return ErrByToken
	}
	var a store.Account
	right, err := d.tries.count(d.now(), []try{from.try(), {"account " + c.Name, accountTries}}, func() (right bool, err error) {
		if a, err = d.store.In(ctx).Account(c.Name); err != nil {
			return false, err
		}
		return d.verify(ctx, a.PasswordHash, old)
	})
	if err != nil {
		return err
	}
	if !right {
		return &InvalidError{"old", "the password that the account has"}
	}
	if a.PasswordDue && password == old {
		return &InvalidError{"new", "another password than the one that was chosen for you"}
	}
	hash, err := d.prepare(ctx, c.Name, password)
	if err != nil {
		return err
	}
	return d.store.Transaction(ctx, func(tx *store.Store) error {
		a.PasswordHash, a.PasswordDue = hash, false
		return errors.Join(tx.SaveAccount(a), tx.DropSessionsOf(c.Name, c.By), tx.DropKnownBrowsers(c.Name))
	})
}

// Open is a session that is open.
type Open struct {
	ID      string // names it, and opens nothing
	Address string
	Created time.Time
	Expires time.Time
	Own     bool // the caller's own
}

// sessionID names a session by a part of the hash of its secret.
func sessionID(s store.Session) string { return s.Hash[:12] }

// Sessions lists the open sessions of an account.
func (d *Service) Sessions(ctx context.Context, by Caller, account string) ([]Open, error) {
	rows, err := d.store.In(ctx).SessionsOf(account, d.now())
	out := make([]Open, 0, len(rows))
	for _, s := range rows {
		if d.isOpen(s, d.now()) {
			out = append(out, Open{sessionID(s), s.Address, s.CreatedAt, s.ExpiresAt, s.Hash == by.By})
		}
	}
	return out, err
}

// EndSession ends an open session of an account.
func (d *Service) EndSession(ctx context.Context, account, id string) error {
	rows, err := d.store.In(ctx).SessionsOf(account, d.now())
	if err != nil {
		return err
	}
	for _, s := range rows {
		if sessionID(s) == id {
			return d.store.In(ctx).DropSession(s.Hash)
		}
	}
	return store.ErrNotFound
}
