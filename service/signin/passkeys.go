// This file has passkeys (WebAuthn): a device of somebody proves that it has a key, and that it
// asked its owner. A passkey signs in by itself; it counts as two factors.

package signin

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"net/netip"
	"slices"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/go-webauthn/webauthn/protocol"
	"github.com/go-webauthn/webauthn/webauthn"

	"zenithridge.example/zridge/service/store"
)

// Site is the address at which somebody uses the service. Passkeys belong to its host.
type Site struct {
	Host   string // without the port
	Origin string // scheme, host and port
}

const (
	ceremonyWithin = 5 * time.Minute // from the options to the answer of a device
	ceremoniesKept = 1000
	passkeysMost   = 20 // of an account
)

// ceremonies are the challenges that devices have not answered yet.
type ceremonies struct {
	mu  sync.Mutex
	all map[string]ceremony
}

type ceremony struct {
	webauthn.SessionData
	until time.Time
}

// keep notes a challenge; false if too many are open.
func (c *ceremonies) keep(id string, data *webauthn.SessionData, now time.Time) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.all == nil {
		c.all = map[string]ceremony{}
	}
	for id, one := range c.all {
		if one.until.Before(now) {
			delete(c.all, id)
		}
	}
	if len(c.all) >= ceremoniesKept {
		return false
	}
	c.all[id] = ceremony{*data, now.Add(ceremonyWithin)}
	return true
}

// take gives a challenge, once.
func (c *ceremonies) take(id string, now time.Time) (webauthn.SessionData, bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	one, known := c.all[id]
	delete(c.all, id)
	return one.SessionData, known && one.until.After(now)
}

// relying gives WebAuthn for a site. Browsers have no passkeys for IP addresses.
func (s Site) relying() (*webauthn.WebAuthn, error) {
	if _, err := netip.ParseAddr(s.Host); err == nil {
		return nil, &InvalidError{"address", "a host name, such as localhost: browsers have no passkeys for IP addresses"}
	}
	return webauthn.New(&webauthn.Config{RPID: s.Host, RPDisplayName: secondFactorName, RPOrigins: []string{s.Origin}})
}

// passkeyOwner is an account as WebAuthn sees it.
type passkeyOwner struct {
	account store.Account
	handle  []byte
	keys    []webauthn.Credential
}

func (o *passkeyOwner) WebAuthnID() []byte                         { return o.handle }
func (o *passkeyOwner) WebAuthnName() string                       { return o.account.Name }
func (o *passkeyOwner) WebAuthnDisplayName() string                { return o.account.Name }
func (o *passkeyOwner) WebAuthnCredentials() []webauthn.Credential { return o.keys }

// ownerOf gives an account with its passkeys. An account gets a handle that says nothing of it when
// it is asked for first.
func (d *Service) ownerOf(tx *store.Store, a store.Account) (*passkeyOwner, error) {
	if a.Handle == "" {
		handle := make([]byte, 32)
		rand.Read(handle)
		a.Handle = base64.RawURLEncoding.EncodeToString(handle)
		if err := tx.SaveAccount(a); err != nil {
			return nil, err
		}
	}
	handle, err := base64.RawURLEncoding.DecodeString(a.Handle)
	if err != nil {
		return nil, err
	}
	rows, err := tx.Passkeys(a.Name)
	if err != nil {
		return nil, err
	}
	o := &passkeyOwner{account: a, handle: handle}
	for _, row := range rows {
		var key webauthn.Credential
		if err := json.Unmarshal([]byte(row.Data), &key); err != nil {
			return nil, err
		}
		o.keys = append(o.keys, key)
	}
	return o, nil
}

// BeginPasskey gives the options with which a browser makes a passkey. The answer is for
// AddPasskey, in the same session.
func (d *Service) BeginPasskey(ctx context.Context, c Caller, site Site) (options *protocol.CredentialCreation, err error) {
	if c.Token {
		return nil, ErrNoSession
	}
	relying, err := site.relying()
	if err != nil {
		return nil, err
	}
	return options, d.store.Transaction(ctx, func(tx *store.Store) error {
		a, err := tx.Account(c.Name)
		if err != nil {
			return err
		}
		owner, err := d.ownerOf(tx, a)
		if err != nil {
			return err
		}
		if len(owner.keys) >= passkeysMost {
			return &InvalidError{"passkey", "no more than 20 passkeys; remove one first"}
		}
		var data *webauthn.SessionData
		options, data, err = relying.BeginRegistration(owner,
			webauthn.WithResidentKeyRequirement(protocol.ResidentKeyRequirementRequired),
			webauthn.WithExclusions(webauthn.Credentials(owner.keys).CredentialDescriptors()),
			webauthn.WithAuthenticatorSelection(protocol.AuthenticatorSelection{
				ResidentKey: protocol.ResidentKeyRequirementRequired, UserVerification: protocol.VerificationRequired,
			}),
		)
		if err != nil {
			return err
		}
		if !d.ceremonies.keep("add "+c.By, data, d.now()) {
			return ErrBusy
		}
		return nil
	})
}

// AddPasskey adds the passkey that a device made.
func (d *Service) AddPasskey(ctx context.Context, c Caller, site Site, name string, answer []byte) error {
	if n := utf8.RuneCountInString(name); n < 1 || n > 80 {
		return &InvalidError{"name", "1 to 80 characters that say which device it is"}
	}
	relying, err := site.relying()
	if err != nil {
		return err
	}
	data, known := d.ceremonies.take("add "+c.By, d.now())
	if !known {
		return &InvalidError{"credential", "the answer to options that were asked for within the last minutes"}
	}
	parsed, err := protocol.ParseCredentialCreationResponseBytes(answer)
	if err != nil {
		return &InvalidError{"credential", "the answer of a browser to the options"}
	}
	return d.store.Transaction(ctx, func(tx *store.Store) error {
		a, err := tx.Account(c.Name)
		if err != nil {
			return err
		}
		owner, err := d.ownerOf(tx, a)
		if err != nil {
			return err
		}
		key, err := relying.CreateCredential(owner, data, parsed)
		if err != nil {
			return &InvalidError{"credential", "the answer of a browser to the options"}
		}
		text, err := json.Marshal(key)
		if err != nil {
			return err
		}
		return tx.AddPasskey(
			store.Passkey{ID: hex.EncodeToString(key.ID), Account: c.Name, Name: name, Data: string(text), CreatedAt: d.now()},
		)
	})
}

// Passkeys lists the passkeys of an account.
func (d *Service) Passkeys(ctx context.Context, account string) ([]store.Passkey, error) {
	return d.store.In(ctx).Passkeys(account)
}

// DropPasskey removes a passkey of the caller.
func (d *Service) DropPasskey(ctx context.Context, c Caller, id string) error {
	if c.Token {
		return ErrNoSession
	}
	there, err := d.store.In(ctx).DropPasskey(c.Name, id)
	if err == nil && !there {
		err = store.ErrNotFound
	}
	return err
}

// BeginPasskeySignIn gives the options with which a browser asks for a passkey, and the id under
// which SignInPasskey knows them.
func (d *Service) BeginPasskeySignIn(site Site) (id string, options *protocol.CredentialAssertion, err error) {
	relying, err := site.relying()
	if err != nil {
		return "", nil, err
	}
	options, data, err := relying.BeginDiscoverableLogin(webauthn.WithUserVerification(protocol.VerificationRequired))
	if err != nil {
		return "", nil, err
	}
	id = Secret()
	if !d.ceremonies.keep("sign in "+id, data, d.now()) {
		return "", nil, ErrBusy
	}
	return id, options, nil
}

// SignInPasskey opens a session for whoever's device answered. Wrong answers are counted by the
// address.
func (d *Service) SignInPasskey(ctx context.Context, site Site, id string, answer []byte, from From) (e Entered, err error) {
	relying, err := site.relying()
	if err != nil {
		return e, err
	}
	now := d.now()
	var owner *passkeyOwner
	right, err := d.tries.count(now, []try{from.try()}, func() (bool, error) {
		data, known := d.ceremonies.take("sign in "+id, now)
		parsed, err := protocol.ParseCredentialRequestResponseBytes(answer)
		if !known || err != nil {
			return false, nil
		}
		owner, err = d.answered(ctx, relying, data, parsed)
		return owner != nil, err
	})
	if err != nil {
		return e, err
	}
	if !right {
		return e, ErrRefused
	}
	e = d.enter(owner.account.Name, now)
	if err := d.identify(ctx, &e.Caller, owner.account, true); err != nil {
		return e, err
	}
	return e, d.store.In(ctx).AddSession(e.session(from, now, true))
}

// answered gives whose passkey answered a challenge, nil if it is nobody's. The passkey's counter
// is noted: a copy of a key is known by it.
func (d *Service) answered(
	ctx context.Context, relying *webauthn.WebAuthn, data webauthn.SessionData, answer *protocol.ParsedCredentialAssertionData,
) (owner *passkeyOwner, err error) {
	return owner, d.store.Transaction(ctx, func(tx *store.Store) error {
		var found *passkeyOwner
		find := func(_, handle []byte) (webauthn.User, error) {
			a, err := tx.AccountByHandle(base64.RawURLEncoding.EncodeToString(handle))
			if err != nil {
				return nil, err
			}
			found, err = d.ownerOf(tx, a)
			return found, err
		}
		key, err := relying.ValidateDiscoverableLogin(find, data, answer)
		if err != nil || found == nil || found.account.Disabled || key.Authenticator.CloneWarning {
			return nil // whatever is wrong, it is refused
		}
		text, err := json.Marshal(key)
		if err != nil {
			return err
		}
		rows, err := tx.Passkeys(found.account.Name)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(rows, func(p store.Passkey) bool { return p.ID == hex.EncodeToString(key.ID) })
		if at < 0 {
			return errors.New("a passkey that answered is not kept")
		}
		now := d.now()
		rows[at].Data, rows[at].UsedAt = string(text), &now
		if err := tx.SavePasskey(rows[at]); err != nil {
			return err
		}
		owner = found
		return nil
	})
}
