// This file signs people in whom an OpenID Connect issuer vouches for.

package signin

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/service/store"
)

// External is somebody for whom an issuer vouches.
type External struct {
	Issuer, Subject string
	Name            string    // that the account gets at its first sign-in, such as lena.brandt
	Groups          []string  // that the issuer says they are in
	ConfirmedAt     time.Time // when they gave a password or another proof to the issuer; zero: it does not say
}

// GroupGrant gives a role to whoever the issuer says is in a group.
type GroupGrant struct {
	Group string
	Role  string
	Unit  string // empty: everywhere
}

// byIssuer is who gives grants by the groups of an issuer.
const byIssuer = "oidc"

// NameTakenError says that an account of the name that the issuer gives is there, and is not the
// issuer's.
type NameTakenError struct{ Name string }

func (e *NameTakenError) Error() string {
	return fmt.Sprintf("An account named %q is here already and signs in with a password. Ask an administrator.", e.Name)
}

// SignInExternal opens a session for somebody for whom an issuer vouches. Their account is made at
// the first sign-in. At every sign-in its grants by the issuer's groups are made anew; other grants
// stay.
func (d *Service) SignInExternal(ctx context.Context, who External, grants []GroupGrant, from From) (e Entered, err error) {
	if who.Issuer == "" || who.Subject == "" {
		return e, ErrRefused
	}
	find, err := d.roles(ctx)
	if err != nil {
		return e, err
	}
	now := d.now()
	subject := who.Issuer + " " + who.Subject
	var account store.Account
	err = d.store.Transaction(ctx, func(tx *store.Store) error {
		account, err = tx.AccountOf(subject)
		switch {
		case errors.Is(err, store.ErrNotFound):
			name := strings.ToLower(who.Name)
			if !accountName.MatchString(name) {
				return &InvalidError{"name", "a name of 1 to 64 letters, digits, '.', '_' or '-' from the issuer"}
			}
			if _, err := tx.Account(name); err == nil {
				return &NameTakenError{name}
			}
			account = store.Account{Name: name, Subject: subject, CreatedAt: now}
			if err := tx.AddAccount(account); err != nil {
				return err
			}
		case err != nil:
			return err
		}
		if account.Disabled {
			return ErrRefused
		}
		return d.grantByGroups(tx, account.Name, who.Groups, grants, find)
	})
	if err != nil {
		return e, err
	}
	e = d.enter(account.Name, now)
	if err := d.identify(ctx, &e.Caller, account, true); err != nil {
		return e, err
	}
	session := e.session(from, now, false)
	session.ConfirmedAt = who.ConfirmedAt // the issuer may have signed them in long ago
	if session.ConfirmedAt.After(now) {
		session.ConfirmedAt = now
	}
	return e, d.store.In(ctx).AddSession(session)
}

// grantByGroups gives an account the grants that the groups of the issuer bring, and takes away those that
// they do not bring any more. Roles that are not there are passed over.
func (d *Service) grantByGroups(
	tx *store.Store, account string, groups []string, grants []GroupGrant, role func(id string) (access.Role, bool),
) error {
	type what struct{ role, unit string }
	brought := map[what]bool{}
	for _, g := range grants {
		if _, known := role(g.Role); known && slices.Contains(groups, g.Group) {
			brought[what{g.Role, g.Unit}] = true
		}
	}
	has, err := tx.GrantsBy(account, byIssuer)
	if err != nil {
		return err
	}
	for _, g := range has {
		if is := (what{g.Role, g.Unit}); brought[is] {
			delete(brought, is)
		} else if err := tx.DropGrant(g.ID, d.now()); err != nil {
			return err
		}
	}
	for is := range brought {
		row := store.Grant{ID: newGrantID(), Account: account, Role: is.role, Unit: is.unit, By: byIssuer, At: d.now()}
		if err := tx.AddGrant(row); err != nil {
			return err
		}
	}
	return nil
}
