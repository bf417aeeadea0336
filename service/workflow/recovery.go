// This file takes recovery keys in, and what laptops report of their volumes.

package workflow

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sync"
	"time"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/core/setting"
	sealed "zenithridge.example/zridge/formats/escrow"
	"zenithridge.example/zridge/service/escrow"
	"zenithridge.example/zridge/service/store"
)

// RecoveryService has the use cases of recovery keys: taking them in, showing them to somebody who may see them, telling
// how far laptops are covered, and changing whom they are sealed to.
//
// What is sealed is in the store alone. The rest, which is asked for all laptops at once, is in memory, too.
type RecoveryService struct {
	*liveEstate
	keyring *escrow.Keyring

	index keyIndex
	table coverageTable
}

// keyIndex is what is known of every laptop's keys and volumes.
type keyIndex struct {
	mu      sync.Mutex // guards what follows; it is held while a laptop's keys are written, so that both agree
	loaded  bool
	of      map[string]*laptopKeys
	altered map[string]bool // laptops of which something else is known since coverage was judged
	retired retiredLaptops
}

// laptopKeys is what is known of a laptop's keys and volumes. It is not altered: another takes its place.
type laptopKeys struct {
	volumes  []recovery.Volume
	at       time.Time // when they were reported; zero: never
	keys     []recovery.Held
	renewals []recovery.Identifier // keys in the place of which the laptop is to put another
}

// Limits of what a laptop may say.
const (
	maxVolumes    = 40
	maxVolumeText = 200 // bytes of each text about a volume
	storedKept    = 5   // keys of a volume that the laptop has not said open it
)

// loadKeys reads what is known of all laptops, once. s.index.mu must be held.
func (s *RecoveryService) loadKeys(ctx context.Context) error {
	if s.index.loaded {
		return nil
	}
	of := map[string]*laptopKeys{}
	at := func(device string) *laptopKeys {
		if of[device] == nil {
			of[device] = &laptopKeys{}
		}
		return of[device]
	}
	tx := s.store.In(ctx)
	if err := tx.EachRecoveryKey(func(k store.RecoveryKey) error {
		at(k.Device).take(&k)
		return nil
	}); err != nil {
		return err
	}
	if err := tx.EachVolumes(func(v store.LaptopVolumes) error {
		is := at(v.Device)
		is.volumes, is.at = v.Volumes, v.At
		return nil
	}); err != nil {
		return err
	}
	s.index.of, s.index.loaded = of, true
	return nil
}

// take adds a key that is stored or current.
func (l *laptopKeys) take(k *store.RecoveryKey) {
	held := recovery.Held{Volume: k.Volume, Identifier: k.Identifier, State: k.State, Recipients: k.Recipients}
	if k.Since != nil {
		held.Since = *k.Since
	}
	if k.UsedAt != nil {
		held.Used = *k.UsedAt
	}
	l.keys = append(l.keys, held)
	if k.State == recovery.Current && k.RenewalAt != nil {
		l.renewals = append(l.renewals, k.Identifier)
	}
}

// reindex reads again what is known of a laptop. s.index.mu must be held, and the keys loaded.
func (s *RecoveryService) reindex(tx *store.Store, device string) error {
	keys, err := tx.RecoveryKeys(device)
	if err != nil {
		return err
	}
	is := &laptopKeys{}
	for i := range keys {
		if keys[i].State != recovery.Replaced {
			is.take(&keys[i])
		}
	}
	volumes, err := tx.Volumes(device)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	is.volumes, is.at = volumes.Volumes, volumes.At
	s.index.of[device] = is
	if s.index.altered == nil {
		s.index.altered = map[string]bool{}
	}
	s.index.altered[device] = true
	return nil
}

// keysOf gives what is known of a laptop; never nil.
func (s *RecoveryService) keysOf(ctx context.Context, device string) (*laptopKeys, error) {
	s.index.mu.Lock()
	defer s.index.mu.Unlock()
	if err := s.loadKeys(ctx); err != nil {
		return nil, err
	}
	if is := s.index.of[device]; is != nil {
		return is, nil
	}
	return &laptopKeys{}, nil
}

// alterKeys writes something about a laptop's keys, and then knows it. The index agrees with the store after an error, too.
func (s *RecoveryService) alterKeys(ctx context.Context, device string, write func(tx *store.Store) error) error {
	s.index.mu.Lock()
	defer s.index.mu.Unlock()
	if err := s.loadKeys(ctx); err != nil {
		return err
	}
	if err := s.store.Transaction(ctx, write); err != nil {
		return err
	}
	if err := s.reindex(s.store.In(context.WithoutCancel(ctx)), device); err != nil {
		s.index.loaded = false // it is all read again by who asks next
		return err
	}
	s.Notify(Event{Topic: "device", ID: device})
	return nil
}

// UnfitKeyError says why a key that a laptop sent is not stored.
type UnfitKeyError struct{ Text string }

func (e *UnfitKeyError) Error() string { return e.Text }

// asLaptop is a laptop that does something by itself.
func asLaptop(device string) Actor { return Actor{Name: device, Via: "device"} }

// StoreKey stores a sealed key of a laptop. When it returns without an error, the key is on the disk. The same key again
// is stored once. The error is an *UnfitKeyError where the key is not one that could be opened later.
func (s *RecoveryService) StoreKey(ctx context.Context, device string, k *recovery.SealedKey) error {
	if err := s.checkKey(device, k); err != nil {
		return err
	}
	now := s.now()
	made := k.MadeAt.UTC()
	if made.IsZero() || made.After(now) { // the laptop's clock is wrong
		made = now
	}
	row := store.RecoveryKey{
		Device: device, Volume: k.Volume, Name: k.Name, Identifier: k.Identifier, Sealed: k.Sealed, Recipients: k.Recipients,
		State:  recovery.Stored,
		MadeAt: made, StoredAt: now,
	}
	return s.alterKeys(ctx, device, func(tx *store.Store) error {
		known, err := tx.SaveRecoveryKey(row)
		if err != nil || known {
			return err
		}
		if err := s.dropStored(tx, device, k.Volume, now); err != nil {
			return err
		}
		return s.audit(tx, asLaptop(device), keyRecord("store recovery key", device, k.Volume, k.Identifier))
	})
}

// checkKey refuses a key that could not be opened later, as far as the service can tell.
func (s *RecoveryService) checkKey(device string, k *recovery.SealedKey) error {
	switch {
	case k.Volume == "" || len(k.Volume) > maxVolumeText || len(k.Name) > maxVolumeText:
		return &UnfitKeyError{fmt.Sprintf("the volume's id has %d bytes, its name %d: expected 1 to %d", len(k.Volume), len(k.Name),
			maxVolumeText)}
	case !sealed.IsSealed(k.Sealed):
		return &UnfitKeyError{fmt.Sprintf("what is sealed has %d bytes and is not in the form of age, or has more than %d bytes",
			len(k.Sealed), sealed.MaxSealed)}
	}
	if _, err := sealed.Recipients(k.Recipients); err != nil {
		return &UnfitKeyError{err.Error()}
	}
	if !slices.ContainsFunc(k.Recipients, s.keyring.Has) {
		return nil // sealed to a company's identity alone: it is opened elsewhere
	}
	key, err := s.keyring.Open(k.Sealed, device, k.Volume)
	switch {
	case err != nil:
		return &UnfitKeyError{err.Error()}
	case key.Identifier() != k.Identifier:
		return &UnfitKeyError{"what is sealed is another key than the identifier says"}
	}
	return nil
}

// dropStored ends the oldest keys of a volume that the laptop never said open it.
func (s *RecoveryService) dropStored(tx *store.Store, device, volume string, now time.Time) error {
	keys, err := tx.RecoveryKeys(device)
	if err != nil {
		return err
	}
	n := 0
	for _, k := range keys {
		if k.Volume != volume || k.State != recovery.Stored {
			continue
		}
		if n++; n > storedKept {
			k.State, k.Until = recovery.Replaced, &now
			if err := tx.UpdateRecoveryKey(k); err != nil {
				return err
			}
		}
	}
	return tx.TrimRecoveryKeys(device)
}

// TakeVolumes takes what a laptop reports of its volumes: which of its keys opens each of them now, and which does no more.
func (s *RecoveryService) TakeVolumes(ctx context.Context, device string, volumes []recovery.Volume) error {
	if len(volumes) > maxVolumes {
		return &UnfitKeyError{fmt.Sprintf("found %d volumes, expected at most %d", len(volumes), maxVolumes)}
	}
	for i := range volumes {
		v := &volumes[i]
		known := slices.Contains(recovery.VolumeStates, v.State) && slices.Contains(recovery.VolumeKinds, v.Kind)
		if _, err := recovery.ParseIdentifier(string(v.Identifier)); v.Identifier != "" && err != nil || !known || v.ID == "" {
			return &UnfitKeyError{fmt.Sprintf("volume %d has a state, a kind or an identifier that there is not", i+1)}
		}
		for _, text := range append([]string{v.ID, v.Name, v.Reason, v.Method, v.Weak}, v.Startup...) {
			if len(text) > maxVolumeText || len(v.Startup) > 8 {
				return &UnfitKeyError{fmt.Sprintf("volume %d has texts of more than %d bytes", i+1, maxVolumeText)}
			}
		}
	}
	now := s.now()
	return s.alterKeys(ctx, device, func(tx *store.Store) error {
		keys, err := tx.RecoveryKeys(device)
		if err != nil {
			return err
		}
		var records []store.AuditRecord
		for _, k := range settledBy(keys, volumes, now) {
			if err := tx.UpdateRecoveryKey(k); err != nil {
				return err
			}
			action := "recovery key in force"
			if k.State == recovery.Replaced {
				action = "recovery key replaced"
			}
			records = append(records, keyRecord(action, device, k.Volume, k.Identifier))
		}
		return errors.Join(tx.SaveVolumes(store.LaptopVolumes{Device: device, Volumes: volumes, At: now}),
			s.audit(tx, asLaptop(device), records...))
	})
}

// settledBy gives the keys, the newest first, whose state is another since a laptop said which key opens each volume. A
// key that was stored after the one in force stays: the laptop is about to use it. Where a volume has no key any more,
// its keys stay as they are: they may open it yet.
func settledBy(keys []store.RecoveryKey, volumes []recovery.Volume, now time.Time) (altered []store.RecoveryKey) {
	for i := range volumes {
		v := &volumes[i]
		at := slices.IndexFunc(keys, func(k store.RecoveryKey) bool { return k.Volume == v.ID && k.Identifier == v.Identifier })
		if v.Identifier == "" || at < 0 {
			continue
		}
		for j := range keys {
			k := keys[j]
			switch {
			case k.Volume != v.ID:
			case j == at && k.State != recovery.Current:
				k.State, k.Until = recovery.Current, nil
				if k.Since == nil {
					k.Since = &now
				}
				altered = append(altered, k)
			case j > at && k.State != recovery.Replaced || j < at && k.State == recovery.Current:
				k.State, k.Until, k.RenewalAt = recovery.Replaced, &now, nil
				altered = append(altered, k)
			}
		}
	}
	return altered
}

// keyRecord is a record of the audit log about a key. It has the identifier, which is no secret.
func keyRecord(action, device, volume string, id recovery.Identifier) store.AuditRecord {
	return store.AuditRecord{Action: action, Kind: string(estate.KindDevice), ObjectID: device,
		After: fmt.Sprintf("%s, volume %s", id.Spaced(), volume)}
}

// RenewalsDue gives the keys of a laptop in the place of which it is to put others.
func (s *RecoveryService) RenewalsDue(ctx context.Context, device string) ([]recovery.Identifier, error) {
	is, err := s.keysOf(ctx, device)
	if err != nil {
		return nil, err
	}
	return is.renewals, nil
}

// handling is how policies want the keys of a laptop to be handled.
type handling struct {
	wanted       bool // encryption is demanded
	escrow       bool // keys are stored by the service
	recipients   []string
	maxAge       int64 // days
	secondPerson bool
	ownKeyShown  bool
}

// handlingOf gives how policies want the keys of a laptop to be handled. No policy reaches one that was retired:
// less can be compared of it, so a second person has to consent.
func handlingOf(live *Live, device estate.DeviceID) handling {
	if isRetired(live, device) {
		return handling{secondPerson: true}
	}
	value := func(id setting.ID) setting.Value {
		if is := live.Resolution.State(id, device); is.Status == outcome.Set {
			return is.Value
		}
		return setting.Value{}
	}
	return handling{
		wanted: value(recovery.EncryptionRequired).Bool(), escrow: value(recovery.EscrowTo).Text() == recovery.EscrowService,
		recipients: value(recovery.RecipientsOfEscrow).Items(), maxAge: value(recovery.MaxAgeDays).Integer(),
		secondPerson: value(recovery.SecondPerson).Bool(), ownKeyShown: value(recovery.OwnKeyShown).Bool(),
	}
}
