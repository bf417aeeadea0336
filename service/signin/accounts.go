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

// Alteration says what becomes of an account; what is nil stays.
type Alteration struct {
	Role     *string
	Disabled *bool
}

// MayGrant refuses a role that gives people's access unless the caller has all of its rights: whoever manages accounts makes no
// administrator.
func MayGrant(by Caller, role string) error {
	is, known := access.RoleOf(role)
	if !known || is.Rights.Has(access.Accounts) && !by.Rights.Covers(is.Rights) {
		return &InvalidError{"role", "a role that you may give"}
	}
	return nil
}

// Alter alters an account. Its sessions and tokens end when it is disabled, and when it gets another role: whoever has it signs in again.
// Nobody alters their own account, and the last administrator stays one.
func (d *Service) Alter(ctx context.Context, by Caller, name string, to Alteration) error {
	if by.Name == name {
		return ErrOwn
	}
	if to.Role != nil {
		if err := MayGrant(by, *to.Role); err != nil {
			return err
		}
	}
	return d.store.Transaction(ctx, func(tx *store.Store) error {
		a, err := tx.Account(name)
		if err != nil {
			return err
		}
		was := a
		if to.Role != nil {
			a.Role = *to.Role
		}
		if to.Disabled != nil {
			a.Disabled = *to.Disabled
		}
		if administers(was) && !administers(a) {
			others, err := tx.Accounts()
			if err != nil {
				return err
			}
			left := 0
			for _, o := range others {
				if o.Name != name && administers(o) {
					left++
				}
			}
			if left == 0 {
				return ErrLast
			}
		}
		if a.Role == was.Role && a.Disabled == was.Disabled {
			return nil
		}
		return errors.Join(tx.SaveAccount(a), tx.DropSessionsOf(name, ""), tx.DropTokensOf(name))
	})
}

func administers(a store.Account) bool { return a.Role == access.Administrator && !a.Disabled }

// ChangePassword gives the caller's account another password. The one that it has is asked for, and counted like a sign-in. The other
// sessions of the account end.
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
	hash, err := d.prepare(ctx, c.Name, password)
	if err != nil {
		return err
	}
	return d.store.Transaction(ctx, func(tx *store.Store) error {
		a.PasswordHash = hash
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
	out := make([]Open, len(rows))
	for i, s := range rows {
		out[i] = Open{sessionID(s), s.Address, s.CreatedAt, s.ExpiresAt, s.Hash == by.By}
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
