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
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"syscall"
	"time"

	"zenithridge.example/zridge/agent/adapter"
	"zenithridge.example/zridge/agent/volume"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/escrow"
	"zenithridge.example/zridge/formats/syncml"
)

// Encryption encrypts the volumes of a laptop. It is safe for concurrent use.
type Encryption struct {
	Folder Folder
	Tool   *volume.Tool
	Log    *slog.Logger
	// Discovers gives the volumes that the system has besides those that were named; nil: none.
	Discovers func() ([]Found, error)

	mu   sync.Mutex      // held while the state is read, altered and written
	busy map[string]bool // volumes that are being encrypted in place, by UUID
	jobs sync.WaitGroup
}

// Found is a volume of the system.
type Found struct {
	Path    string
	Name    string // as people know it
	Kind    recovery.VolumeKind
	Mounted bool // as it is, without encryption
}

// encryptionState is what is known of volumes. It is kept in a file, for root alone: it has keys in it while they are made.
type encryptionState struct {
	Wants   map[setting.ID]setting.Value `json:"wants,omitempty"` // the settings that say how volumes are encrypted
	Volumes []*managedVolume             `json:"volumes,omitempty"`
	Told    string                       `json:"told,omitempty"` // how volumes were when the service was told last
}

// managedVolume is a volume that is encrypted, or is to be.
type managedVolume struct {
	Path    string              `json:"path"`
	Name    string              `json:"name"`
	Kind    recovery.VolumeKind `json:"kind"`
	UUID    string              `json:"uuid"`              // of its header, which it may not have yet
	Named   bool                `json:"named,omitempty"`   // somebody at the laptop said that it is to be encrypted
	Formats bool                `json:"formats,omitempty"` // it was blank, and is being formatted
	Pending *pendingKey         `json:"pending,omitempty"`
	Renew   bool                `json:"renew,omitempty"`  // another key is to take the place of the one in force
	Failed  string              `json:"failed,omitempty"` // why the last step did not succeed
}

// pendingKey is a key that is not in force yet, or not alone.
type pendingKey struct {
	Key        string              `json:"key"`
	Identifier recovery.Identifier `json:"identifier"`
	MadeAt     time.Time           `json:"made_at"`
	Recipients []string            `json:"recipients"`
	Sealed     []byte              `json:"sealed"`
	Stored     bool                `json:"stored"`
	Elsewhere  bool                `json:"elsewhere,omitempty"` // at an address of the company
}

func (e *Encryption) stateFile() string { return filepath.Join(string(e.Folder), "volumes.json") }
func (e *Encryption) keyFile(uuid string) string {
	return filepath.Join(string(e.Folder), "volumes", uuid+".key")
}

// locked lets f alter the state; what it altered is on the disk when locked returns, after an error of f, too. Processes
// take turns.
func (e *Encryption) locked(f func(s *encryptionState) error) error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if err := os.MkdirAll(filepath.Join(string(e.Folder), "volumes"), 0o700); err != nil {
		return err
	}
	lock, err := os.OpenFile(filepath.Join(string(e.Folder), "volumes.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return err
	}
	var s encryptionState
	if err := readJSON(e.stateFile(), &s); err != nil {
		return err
	}
	if s.Wants == nil {
		s.Wants = map[setting.ID]setting.Value{}
	}
	before, err := json.Marshal(s)
	if err != nil {
		return err
	}
	err = f(&s)
	if after, same := json.Marshal(s); same == nil && bytes.Equal(before, after) {
		return err
	}
	return errors.Join(err, s.save(e))
}

func (s *encryptionState) save(e *Encryption) error { return writeJSON(e.stateFile(), s) }

// Name says that a volume is to be encrypted where policies demand it. Only volumes that somebody named are ever
// formatted.
func (e *Encryption) Name(path, name string) error {
	return e.locked(func(s *encryptionState) error {
		if v := s.at(path); v != nil {
			v.Named = true
			return nil
		}
		s.Volumes = append(s.Volumes, &managedVolume{Path: path, Name: name, Kind: recovery.FixedVolume, UUID: newUUID(), Named: true})
		return nil
	})
}

func (s *encryptionState) at(path string) *managedVolume {
	i := slices.IndexFunc(s.Volumes, func(v *managedVolume) bool { return v.Path == path })
	if i < 0 {
		return nil
	}
	return s.Volumes[i]
}

// newUUID makes a random UUID (RFC 9562, version 4).
func newUUID() string {
	var b [16]byte
	rand.Read(b[:])
	b[6], b[8] = b[6]&15|64, b[8]&63|128
	return fmt.Sprintf("%x-%x-%x-%x-%x", b[:4], b[4:6], b[6:8], b[8:10], b[10:])
}

// discover adds the volumes of the system that are not known yet.
func (e *Encryption) discover(s *encryptionState) error {
	if e.Discovers == nil {
		return nil
	}
	found, err := e.Discovers()
	for _, f := range found {
		if v := s.at(f.Path); v != nil {
			v.Name, v.Kind = f.Name, f.Kind
		} else {
			s.Volumes = append(s.Volumes, &managedVolume{Path: f.Path, Name: f.Name, Kind: f.Kind, UUID: newUUID()})
		}
	}
	return err
}

// wanted tells whether policies demand that volumes are encrypted.
func (s *encryptionState) wanted() bool { return s.Wants[recovery.EncryptionRequired].Bool() }

func (s *encryptionState) recipients() []string { return s.Wants[recovery.RecipientsOfEscrow].Items() }

// escrows tells whether keys are stored somewhere, and can be sealed.
func (s *encryptionState) escrows() bool {
	to := s.Wants[recovery.EscrowTo].Text()
	return (to == recovery.EscrowService || to == recovery.EscrowAddress) && len(s.recipients()) > 0
}

func (s *encryptionState) elsewhere() bool {
	return s.Wants[recovery.EscrowTo].Text() == recovery.EscrowAddress
}

func (s *encryptionState) method(v *managedVolume) string {
	switch v.Kind {
	case recovery.SystemVolume:
		return s.Wants[recovery.MethodOfSystem].Text()
	case recovery.RemovableVolume:
		return s.Wants[recovery.MethodOfRemovable].Text()
	}
	return s.Wants[recovery.MethodOfFixed].Text()
}

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
func (e *Encryption) begin(ctx context.Context, s *encryptionState, v *managedVolume, device string, changed func()) (*volume.Header, error) {
	if !s.wanted() || !v.Named || !s.escrows() {
		return nil, nil
	}
	if where, err := inUse(v.Path); err != nil || where != "" {
		return nil, errors.Join(err, fmt.Errorf("It is in use as %s. Unmount it, and check in again.", where)) //nolint:staticcheck // people read it
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
		Key: string(key.Passphrase()), Identifier: key.Identifier(), MadeAt: now, Recipients: slices.Clone(texts), Sealed: sealed, Elsewhere: s.elsewhere(),
	}
	return s.save(e)
}

// enforce puts the pending key of a volume into force, and makes those before it void once it is stored. auth opens the
// volume.
func (e *Encryption) enforce(ctx context.Context, s *encryptionState, v *managedVolume, h *volume.Header, auth []byte) error {
	p := v.Pending
	if p == nil || !p.Stored && len(h.Recovery()) > 0 && !slices.ContainsFunc(h.Recovery(), func(t volume.Token) bool { return t.Identifier == string(p.Identifier) }) {
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
			Type: volume.RecoveryToken, Slots: []string{fmt.Sprint(slot)}, Identifier: string(p.Identifier), MadeAt: p.MadeAt, Recipients: p.Recipients,
			Elsewhere: p.Elsewhere,
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

// Adopt lets the agent into a volume that somebody else encrypted, with a passphrase that opens it.
func (e *Encryption) Adopt(ctx context.Context, path string, passphrase []byte) error {
	return e.locked(func(s *encryptionState) error {
		if err := e.discover(s); err != nil {
			return err
		}
		v := s.at(path)
		if v == nil {
			v = &managedVolume{Path: path, Name: filepath.Base(path), Kind: recovery.FixedVolume, UUID: newUUID(), Named: true}
			s.Volumes = append(s.Volumes, v)
		}
		slot, err := e.Tool.Opens(ctx, path, passphrase)
		if err != nil {
			return err
		}
		if slot < 0 {
			return errors.New("the passphrase does not open the volume")
		}
		_, err = e.addOwn(ctx, v, passphrase)
		return err
	})
}

// Forget takes the agent's own key out of every volume. Volumes stay encrypted, and their recovery keys stay.
func (e *Encryption) Forget(ctx context.Context) error {
	return e.locked(func(s *encryptionState) error {
		var errs []error
		for _, v := range s.Volumes {
			own, err := os.ReadFile(e.keyFile(v.UUID))
			if errors.Is(err, fs.ErrNotExist) {
				continue
			}
			h, readErr := e.Tool.Read(ctx, v.Path)
			if err = errors.Join(err, readErr); err != nil {
				errs = append(errs, err)
				continue
			}
			if t := h.Token(volume.AgentToken); t != nil && len(h.Slots) > 1 {
				errs = append(errs, e.Tool.DropKey(ctx, v.Path, own), e.Tool.DropToken(ctx, v.Path, t.ID))
			}
			errs = append(errs, os.Remove(e.keyFile(v.UUID)))
		}
		*s = encryptionState{}
		return errors.Join(errs...)
	})
}

// Tells gives what the service does not know yet: keys that are to be stored there, and how volumes are.
func (e *Encryption) Tells(ctx context.Context) (items []syncml.Item) {
	err := e.locked(func(s *encryptionState) error {
		for _, v := range s.Volumes {
			if p := v.Pending; p != nil && !p.Stored && !p.Elsewhere {
				items = append(items, syncml.WriteSealedKey(recovery.SealedKey{
					Volume: v.UUID, Name: v.Name, Identifier: p.Identifier, Sealed: p.Sealed, Recipients: p.Recipients, MadeAt: p.MadeAt,
				}))
			}
		}
		volumes := e.volumes(ctx, s)
		if is := syncml.WriteVolumes(volumes); is.Data != s.Told && (len(volumes) > 0 || s.Told != "") {
			items = append(items, is)
		}
		return nil
	})
	if err != nil {
		e.Log.Warn("reading how volumes are", "error", err)
	}
	return items
}

// Heard notes that a key is stored, or that the service knows how volumes are.
func (e *Encryption) Heard(item syncml.Item, code string) {
	err := e.locked(func(s *encryptionState) error {
		if code != syncml.OK {
			return fmt.Errorf("the service answered %s to %s", code, item.Meta.Type)
		}
		if item.Meta.Type == syncml.VolumesType {
			s.Told = item.Data
			return nil
		}
		key, err := syncml.ReadSealedKey(item.Data)
		if err != nil {
			return err
		}
		for _, v := range s.Volumes {
			if v.UUID == key.Volume && v.Pending != nil && v.Pending.Identifier == key.Identifier {
				v.Pending.Stored = true
			}
		}
		return nil
	})
	if err != nil {
		e.Log.Warn("telling the service of keys and volumes", "error", err)
	}
}

// RenewKey notes that another key is to take the place of one. It gives a status code.
func (e *Encryption) RenewKey(ctx context.Context, id recovery.Identifier) (code string) {
	code = syncml.NotFound
	err := e.locked(func(s *encryptionState) error {
		for _, v := range s.Volumes {
			h, err := e.Tool.Read(ctx, v.Path)
			if err == nil && slices.ContainsFunc(h.Recovery(), func(t volume.Token) bool { return t.Identifier == string(id) }) {
				v.Renew, code = true, syncml.Accepted
			}
		}
		return nil
	})
	if err != nil {
		e.Log.Warn("noting that a key is to be replaced", "error", err)
		return syncml.Failed
	}
	return code
}

// Volumes says how volumes are.
func (e *Encryption) Volumes(ctx context.Context) (out []recovery.Volume) {
	if err := e.locked(func(s *encryptionState) error {
		out = e.volumes(ctx, s)
		return nil
	}); err != nil {
		e.Log.Warn("reading how volumes are", "error", err)
	}
	return out
}

// volumes says how volumes are.
func (e *Encryption) volumes(ctx context.Context, s *encryptionState) (out []recovery.Volume) {
	for _, v := range s.Volumes {
		out = append(out, e.volume(ctx, s, v))
	}
	system := slices.IndexFunc(out, func(v recovery.Volume) bool { return v.Kind == recovery.SystemVolume })
	if system >= 0 && out[system].State != recovery.Encrypted {
		for i := range out {
			if out[i].State == recovery.Encrypted && out[i].Weak == "" {
				out[i].Weak = "The key by which it is managed lies on a system disk that is not encrypted."
			}
		}
	}
	return out
}

func (e *Encryption) volume(ctx context.Context, s *encryptionState, v *managedVolume) recovery.Volume {
	out := recovery.Volume{ID: v.UUID, Name: v.Name, Kind: v.Kind, State: recovery.Plain, Reason: cut(v.Failed)}
	h, err := e.Tool.Read(ctx, v.Path)
	switch {
	case e.busy[v.UUID] || err == nil && h.Reencrypting:
		out.State = recovery.Encrypting
		return out
	case errors.Is(err, volume.ErrPlain):
		out.State, out.Reason = s.whyPlain(v, out.Reason)
		return out
	case err != nil:
		out.State, out.Reason = recovery.Cannot, cut(err.Error())
		return out
	}
	out.State, out.Method, out.Startup = recovery.Encrypted, h.Method(), h.Startup()
	for _, t := range h.Recovery() {
		if out.Identifier == "" || v.Pending != nil && t.Identifier == string(v.Pending.Identifier) {
			out.Identifier, out.Elsewhere = recovery.Identifier(t.Identifier), t.Elsewhere
		}
	}
	if out.Identifier == "" && h.Token(volume.AgentToken) == nil && out.Reason == "" {
		out.Reason = "Somebody else encrypted it. Run at the laptop: zridge-agent adopt " + v.Path
	}
	if wanted := s.method(v); volume.Weaker(out.Method, wanted) {
		out.Weak = "It is encrypted with " + out.Method + ", and policies want " + wanted + "."
	}
	for _, slot := range h.People() {
		if slot.KDF == "pbkdf2" {
			out.Weak = "A passphrase is quick to try (pbkdf2). Run at the laptop: cryptsetup luksConvertKey --pbkdf argon2id " + v.Path
		}
	}
	return out
}

// whyPlain says why a volume is not encrypted.
func (s *encryptionState) whyPlain(v *managedVolume, failed string) (recovery.VolumeState, string) {
	switch {
	case !s.wanted():
		return recovery.Plain, failed
	case v.Kind == recovery.SystemVolume:
		return recovery.Cannot, "The system disk was installed without encryption. Install the laptop anew on an encrypted disk."
	case !v.Named:
		return recovery.Waiting, "Somebody at the laptop has to say so. Unmount it and run: zridge-agent encrypt " + v.Path
	case !s.escrows():
		return recovery.Waiting, "Policies name nobody who could open it with a recovery key."
	case failed != "":
		return recovery.Waiting, failed
	}
	return recovery.Waiting, "Its recovery key is not stored yet."
}

const mostReason = 180 // bytes

func cut(text string) string { return text[:min(len(text), mostReason)] }

// allEncrypted tells whether every volume of the laptop itself is encrypted with a recovery key in force.
func (e *Encryption) allEncrypted(ctx context.Context, s *encryptionState) bool {
	own := 0
	for _, v := range e.volumes(ctx, s) {
		if v.Kind == recovery.RemovableVolume {
			continue
		}
		if own++; v.State != recovery.Encrypted || v.Identifier == "" {
			return false
		}
	}
	return own > 0
}
