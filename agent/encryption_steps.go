// This file encrypts volumes, and sees to it that each opens with a recovery key that is stored.
//
// The order is the same for the first key of a volume and for each that follows:
//
//	made     a key is made and sealed; both are written down, for root alone
//	stored   the service, or the company's address, has confirmed that it has the sealed key
//	in force the key opens the volume, and a token in the header names it
//	alone    the keys before it are void, and what was written down is removed
//
// Each step can be done again, so that an interruption at any point leaves a volume that opens with a stored key: a key is
// void only after the next one is in force and stored. Where policies demand that escrow comes first, nothing is encrypted
// before the key is stored.

package agent

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"slices"
	"time"

	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/agent/volume"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/formats/escrow"
)

// Advance takes every volume as far as it goes without the service: what needs a stored key waits for it. changed is
// called when encrypting a volume in place has ended, which takes long.
func (e *Encryption) Advance(ctx context.Context, device string, changed func()) error {
	return e.locked(func(s *encryptionState) error {
		errs := []error{e.discover(s)}
		for _, v := range s.Volumes {
			err := e.advance(ctx, s, v, device, changed)
			if v.Failed = ""; err != nil {
				v.Failed = err.Error()
				e.Log.Warn("encrypting a volume", "volume", v.Name, "error", err)
			}
		}
		return errors.Join(errs...)
	})
}

// advance takes one volume as far as it goes.
func (e *Encryption) advance(ctx context.Context, s *encryptionState, v *managedVolume, device string, changed func()) error {
	if e.busy[v.UUID] {
		return nil
	}
	h, err := e.Tool.Read(ctx, v.Path)
	half := err == nil && v.Formats && len(h.Slots) == 0 // formatting it was interrupted: nothing is on it, and no key opens it
	switch {
	case errors.Is(err, fs.ErrNotExist) || errors.Is(err, volume.ErrOldHeader):
		return err
	case errors.Is(err, volume.ErrPlain) || half:
		if h, err = e.begin(ctx, s, v, device, changed); h == nil {
			return err
		}
	case err != nil:
		return err
	}
	if h.Reencrypting {
		return e.resume(ctx, v, changed)
	}
	auth, err := e.authority(ctx, v)
	if err != nil || auth == nil {
		return err
	}
	if due := s.renewalDue(v, h, time.Now()); due && s.escrows() {
		if err := s.makeKey(v, device, e); err != nil {
			return err
		}
	}
	if err := e.enforce(ctx, s, v, h, auth); err != nil {
		return err
	}
	return e.startup(ctx, s, v, auth)
}

// begin begins to encrypt a volume that is plain. The header is nil where it has not begun, or goes on in the background.
func (e *Encryption) begin(ctx context.Context, s *encryptionState, v *managedVolume, device string,
	changed func()) (*volume.Header, error) {
	if !s.wanted() || !v.Named || !s.escrows() {
		return nil, nil
	}
	if where, err := inUse(v.Path); err != nil || where != "" {
		return nil, errors.Join(err, fmt.Errorf("It is in use as %s. Unmount it, and check in again.",
			where)) //nolint:staticcheck // people read it
	}
	if err := s.makeKey(v, device, e); err != nil {
		return nil, err
	}
	if !v.Pending.Stored && s.Wants[recovery.EscrowFirst].Bool() {
		return nil, nil // nothing begins before the key is stored
	}
	blank, err := e.Tool.IsBlank(ctx, v.Path)
	if err == nil && v.Formats && !blank { // that was interrupted
		var known bool
		known, err = e.Tool.IsKnown(ctx, v.Path)
		blank = !known
	}
	if err != nil {
		return nil, err
	}
	key := []byte(v.Pending.Key)
	if !blank {
		method := s.method(v)
		e.background(v, changed, func() error { return e.Tool.Encrypt(context.WithoutCancel(ctx), v.Path, v.UUID, method, key) })
		return nil, nil
	}
	v.Formats = true
	if err := s.save(e); err != nil {
		return nil, err
	}
	if err := e.Tool.Format(ctx, v.Path, v.UUID, s.method(v), key); err != nil {
		return nil, err
	}
	v.Formats = false
	return e.Tool.Read(ctx, v.Path)
}

// resume goes on with encrypting a volume in place.
func (e *Encryption) resume(ctx context.Context, v *managedVolume, changed func()) error {
	if v.Pending == nil {
		return errors.New("Somebody else encrypts it.") //nolint:staticcheck // people read it
	}
	key := []byte(v.Pending.Key)
	e.background(v, changed, func() error { return e.Tool.Resume(context.WithoutCancel(ctx), v.Path, key) })
	return nil
}

// background encrypts a volume without anybody waiting for it.
func (e *Encryption) background(v *managedVolume, changed func(), encrypt func() error) {
	if e.busy == nil {
		e.busy = map[string]bool{}
	}
	e.busy[v.UUID] = true
	name, uuid := v.Name, v.UUID
	e.jobs.Go(func() {
		err := encrypt()
		e.mu.Lock()
		delete(e.busy, uuid)
		e.mu.Unlock()
		if err != nil {
			e.Log.Warn("encrypting a volume in place", "volume", name, "error", err)
			return // the next check-in goes on with it
		}
		changed()
	})
}

// Wait waits until what runs in the background has ended.
func (e *Encryption) Wait() { e.jobs.Wait() }

// authority gives a key that opens a volume: the agent's own, which is made where there is none yet. Without one, and
// without a key that is about to be in force, it is nil: somebody at the laptop has to let the agent in.
func (e *Encryption) authority(ctx context.Context, v *managedVolume) ([]byte, error) {
	own, err := os.ReadFile(e.keyFile(v.UUID))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if len(own) > 0 {
		if slot, err := e.Tool.Opens(ctx, v.Path, own); err != nil || slot >= 0 {
			return own, errors.Join(err, e.mark(ctx, v, slot))
		}
	}
	if v.Pending == nil {
		return nil, nil
	}
	key := []byte(v.Pending.Key)
	if slot, err := e.Tool.Opens(ctx, v.Path, key); err != nil || slot < 0 {
		return nil, err
	}
	return e.addOwn(ctx, v, key)
}

// addOwn lets the agent's own key open a volume. existing opens it.
func (e *Encryption) addOwn(ctx context.Context, v *managedVolume, existing []byte) ([]byte, error) {
	raw := make([]byte, 32)
	rand.Read(raw)
	own := []byte(hex.EncodeToString(raw))
	if err := adapter.WriteFile(e.keyFile(v.UUID), own, 0o600); err != nil { // first: a key that nobody has would stay in its slot
		return nil, err
	}
	slot, err := e.Tool.AddKey(ctx, v.Path, existing, own)
	if err != nil {
		return nil, err
	}
	return own, e.mark(ctx, v, slot)
}

// mark notes in the header which slot is the agent's own. What an interruption left without a slot is removed.
func (e *Encryption) mark(ctx context.Context, v *managedVolume, slot int) error {
	h, err := e.Tool.Read(ctx, v.Path)
	if err != nil {
		return err
	}
	for _, t := range h.Tokens {
		if (t.Type == volume.AgentToken || t.Type == volume.RecoveryToken) && len(t.Slots) == 0 {
			if err := e.Tool.DropToken(ctx, v.Path, t.ID); err != nil {
				return err
			}
		}
	}
	if t := h.Token(volume.AgentToken); t != nil || slot < 0 {
		return nil
	}
	return e.Tool.AddToken(ctx, v.Path, volume.Token{Type: volume.AgentToken, Slots: []string{fmt.Sprint(slot)}})
}

// renewalDue tells whether another key is to be made for an encrypted volume.
func (s *encryptionState) renewalDue(v *managedVolume, h *volume.Header, now time.Time) bool {
	tokens := h.Recovery()
	if len(tokens) == 0 || v.Renew {
		return true
	}
	newest := tokens[len(tokens)-1]
	days := s.Wants[recovery.MaxAgeDays].Integer()
	old := days > 0 && now.Sub(newest.MadeAt) > time.Duration(days)*24*time.Hour
	return old || newest.Elsewhere != s.elsewhere() || !recovery.SameRecipients(newest.Recipients, s.recipients())
}

// makeKey makes the next key of a volume and writes it down, unless one is made for the same recipients. One that was made
// for others is given up, unless it opens the volume already.
func (s *encryptionState) makeKey(v *managedVolume, device string, e *Encryption) error {
	texts := s.recipients()
	if v.Pending != nil && recovery.SameRecipients(v.Pending.Recipients, texts) && v.Pending.Elsewhere == s.elsewhere() {
		return nil
	}
	to, err := escrow.Recipients(texts)
	if err != nil {
		return err
	}
	if p := v.Pending; p != nil {
		if slot, err := e.Tool.Opens(context.Background(), v.Path, []byte(p.Key)); err == nil && slot >= 0 {
			return nil // it comes into force first
		}
	}
	key, err := recovery.New(rand.Reader)
	if err != nil {
		return err
	}
	now := time.Now().UTC().Truncate(time.Second)
	sealed, err := escrow.Seal(key, device, v.UUID, now, to)
	if err != nil {
		return err
	}
	v.Pending = &pendingKey{
		Key: string(key.Passphrase()), Identifier: key.Identifier(), MadeAt: now, Recipients: slices.Clone(texts), Sealed: sealed,
		Elsewhere: s.elsewhere(),
	}
	return s.save(e)
}

// enforce puts the pending key of a volume into force, and makes those before it void once it is stored. auth opens the
// volume.
func (e *Encryption) enforce(ctx context.Context, s *encryptionState, v *managedVolume, h *volume.Header, auth []byte) error {
	p := v.Pending
	if p == nil || !p.Stored && len(h.Recovery()) > 0 &&
		!slices.ContainsFunc(h.Recovery(), func(t volume.Token) bool { return t.Identifier == string(p.Identifier) }) {
		return nil // the one in force stays until the next is stored
	}
	key := []byte(p.Key)
	slot, err := e.Tool.Opens(ctx, v.Path, key)
	if err == nil && slot < 0 {
		slot, err = e.Tool.AddKey(ctx, v.Path, auth, key)
	}
	if err != nil {
		return err
	}
	if h, err = e.Tool.Read(ctx, v.Path); err != nil {
		return err
	}
	if !slices.ContainsFunc(h.Recovery(), func(t volume.Token) bool { return t.Identifier == string(p.Identifier) && t.Slot() == slot }) {
		err := e.Tool.AddToken(ctx, v.Path, volume.Token{
			Type: volume.RecoveryToken, Slots: []string{fmt.Sprint(slot)}, Identifier: string(p.Identifier), MadeAt: p.MadeAt,
			Recipients: p.Recipients,
			Elsewhere:  p.Elsewhere,
		})
		if err != nil {
			return err
		}
	}
	if !p.Stored {
		return nil
	}
	for _, t := range h.Recovery() {
		if t.Identifier == string(p.Identifier) {
			continue
		}
		if err := errors.Join(e.Tool.DropSlot(ctx, v.Path, t.Slot(), auth), e.Tool.DropToken(ctx, v.Path, t.ID)); err != nil {
			return err
		}
	}
	v.Pending, v.Renew = nil, false
	return s.save(e)
}
