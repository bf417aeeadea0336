// This file has tokens: what programs sign in with.

package signin

import (
	"context"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/service/store"
)

// ByToken says whose token a secret is.
func (d *Service) ByToken(ctx context.Context, secret string) (Caller, error) {
	t, err := d.store.In(ctx).Token(HashOf(secret))
	if err != nil || !t.ExpiresAt.After(d.now()) {
		return Caller{}, ErrRefused
	}
	a, err := d.store.In(ctx).Account(t.Account)
	if err != nil || a.Disabled {
		return Caller{}, ErrRefused
	}
	c := Caller{Name: t.Account, Via: "api", By: t.Hash, Token: true}
	strong := false
	if len(d.config.Demand) > 0 { // a passkey matters where a second factor is demanded alone
		keys, err := d.store.In(ctx).Passkeys(a.Name)
		if err != nil {
			return Caller{}, err
		}
		strong = len(keys) > 0
	}
	if err := d.identify(ctx, &c, a, strong); err != nil {
		return Caller{}, err
	}
	if t.Role != "" { // never more than its owner has now
		find, err := d.roles(ctx)
		if err != nil {
			return Caller{}, err
		}
		role, _ := find(t.Role)
		c.Held, c.Role = c.Held.Only(role.Rights), t.Role
	}
	return c, nil
}

// NewToken gives a token's secret, once. A token has no right that its owner lacks, and makes no
// token.
func (d *Service) NewToken(ctx context.Context, c Caller, name, role string, days int) (secret string, t store.Token, err error) {
	find, err := d.roles(ctx)
	if err != nil {
		return "", t, err
	}
	as, known := find(role)
	if role == "" { // all rights of its owner
		as, known = access.Role{}, true
	}
	switch {
	case c.Token:
		return "", t, ErrByToken
	case c.PasswordDue:
		return "", t, ErrPasswordDue
	case !known || !c.Held.Anywhere().Covers(as.Rights):
		return "", t, &InvalidError{"role", "a role with no right that you do not have yourself"}
	case name == "" || len(name) > 100:
		return "", t, &InvalidError{"name", "1 to 100 characters that say what the token is for"}
	case days < 1 || days > 366:
		return "", t, &InvalidError{"days", "1 to 366"}
	}
	secret = "zrt_" + Secret()
	now := d.now()
	t = store.Token{
		ID:        HashOf(Secret())[:12],
		Hash:      HashOf(secret),
		Account:   c.Name,
		Name:      name,
		Role:      role,
		CreatedAt: now,
		ExpiresAt: now.AddDate(0, 0, days),
	}
	return secret, t, d.store.In(ctx).AddToken(t)
}

// Tokens lists a caller's tokens.
func (d *Service) Tokens(ctx context.Context, c Caller) ([]store.Token, error) {
	return d.store.In(ctx).TokensOf(c.Name)
}

// DropToken revokes a caller's token.
func (d *Service) DropToken(ctx context.Context, c Caller, id string) error {
	there, err := d.store.In(ctx).DropToken(c.Name, id)
	if err == nil && !there {
		err = store.ErrNotFound
	}
	return err
}
