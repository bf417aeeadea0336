// This file simulates the disk of a laptop: it is encrypted once a policy demands it and its key is stored.

package endpoint

import (
	"crypto/rand"
	"crypto/sha256"
	"fmt"
	"hash/fnv"
	"slices"
	"time"

	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/formats/escrow"
	"zenithridge.example/zridge/formats/syncml"
)

// simulatedDisk is the disk of a laptop.
type simulatedDisk struct {
	key     recovery.Key // that opens it; zero: it is not encrypted
	sealed  []string     // recipients that the key is sealed to
	renew   bool         // another key is to take the place of the one in force
	next    recovery.Key // that is to be stored
	item    syncml.Item  // of the next key
	to      []string     // recipients that the next key is sealed to
	volumes syncml.Item  // as they were told last
}

const simulatedVolume = "system disk"

// RecoveryKey gives the key that opens the laptop's disk; zero: it is not encrypted.
func (m *Memory) RecoveryKey() recovery.Key {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.disk.key
}

// LockedScreens gives what the screens of laptops show when they are locked: the identifier of the recovery key, by
// laptop. Laptops that are not encrypted are left out.
func (f *Fleet) LockedScreens() map[string]recovery.Identifier {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := map[string]recovery.Identifier{}
	for device, l := range f.laptops {
		if m, is := l.Platform.(*Memory); is {
			if key := m.RecoveryKey(); !key.IsZero() {
				out[device] = key.Identifier()
			}
		}
	}
	return out
}

// volumeID gives the id of the disk: always the same for the same laptop, in the form of a UUID.
func (m *Memory) volumeID() string {
	sum := sha256.Sum256([]byte(m.Device + "/disk"))
	return fmt.Sprintf("%x-%x-%x-%x-%x", sum[:4], sum[4:6], sum[6:8], sum[8:10], sum[10:16])
}

// Tells implements KeyHolder.
func (m *Memory) Tells() (items []syncml.Item) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.Device == "" {
		return nil
	}
	if m.wantsKey() && m.makeKey() == nil {
		items = append(items, m.disk.item)
	}
	if is := syncml.WriteVolumes([]recovery.Volume{m.volume()}); is.Data != m.disk.volumes.Data {
		items = append(items, is)
	}
	return items
}

// wantsKey tells whether a key is to be made and stored. m.mu must be held.
func (m *Memory) wantsKey() bool {
	recipients := m.values[recovery.RecipientsOfEscrow].Items()
	if m.values[recovery.EscrowTo].Text() != recovery.EscrowService || len(recipients) == 0 || m.obstacle() != "" {
		return false
	}
	if m.disk.key.IsZero() {
		return m.values[recovery.EncryptionRequired].Bool()
	}
	return m.disk.renew || !recovery.SameRecipients(m.disk.sealed, recipients)
}

// makeKey makes the next key, unless one is made for the same recipients. m.mu must be held.
func (m *Memory) makeKey() error {
	texts := m.values[recovery.RecipientsOfEscrow].Items()
	if !m.disk.next.IsZero() && slices.Equal(m.disk.to, texts) {
		return nil
	}
	to, err := escrow.Recipients(texts)
	if err != nil {
		return err
	}
	key, err := recovery.New(rand.Reader)
	if err != nil {
		return err
	}
	now := time.Now().UTC()
	sealed, err := escrow.Seal(key, m.Device, m.volumeID(), now, to)
	if err != nil {
		return err
	}
	m.disk.next, m.disk.to = key, slices.Clone(texts)
	m.disk.item = syncml.WriteSealedKey(recovery.SealedKey{
		Volume: m.volumeID(), Name: simulatedVolume, Identifier: key.Identifier(), Sealed: sealed, Recipients: m.disk.to, MadeAt: now,
	})
	return nil
}

// obstacle says why the disk of a laptop is not encrypted, always the same for the same laptop; empty: nothing is in the
// way. m.mu must be held.
func (m *Memory) obstacle() string {
	h := fnv.New32a()
	h.Write([]byte(m.Device + "/disk"))
	switch n := h.Sum32() % 100; {
	case n < 3:
		return "The disk has no room for a header. Install the laptop anew."
	case n < 9:
		return waitsForPerson
	}
	return ""
}

const waitsForPerson = "The person has put it off."

// volume says how the disk is. m.mu must be held.
func (m *Memory) volume() recovery.Volume {
	v := recovery.Volume{ID: m.volumeID(), Name: simulatedVolume, Kind: recovery.SystemVolume, State: recovery.Plain}
	switch wanted, why := m.values[recovery.EncryptionRequired].Bool(), m.obstacle(); {
	case !m.disk.key.IsZero():
		v.State, v.Identifier, v.Method = recovery.Encrypted, m.disk.key.Identifier(), m.values[recovery.MethodOfSystem].Text()
	case wanted && why == waitsForPerson:
		v.State, v.Reason = recovery.Waiting, why
	case wanted && why != "":
		v.State, v.Reason = recovery.Cannot, why
	case wanted:
		v.State, v.Reason = recovery.Waiting, "Its recovery key is not stored yet."
	}
	return v
}

// Heard implements KeyHolder: once its key is stored, the disk is encrypted with it.
func (m *Memory) Heard(item syncml.Item, code string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	switch {
	case code != syncml.OK:
	case item.Meta.Type == syncml.VolumesType:
		m.disk.volumes = item
	case item.Data == m.disk.item.Data && !m.disk.next.IsZero():
		m.disk.key, m.disk.sealed, m.disk.renew = m.disk.next, m.disk.to, false
		m.disk.next, m.disk.item = recovery.Key{}, syncml.Item{}
	}
}

// RenewKey implements KeyHolder.
func (m *Memory) RenewKey(id recovery.Identifier) (code string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.disk.key.IsZero() || m.disk.key.Identifier() != id {
		return syncml.NotFound
	}
	m.disk.renew = true
	return syncml.Accepted
}
