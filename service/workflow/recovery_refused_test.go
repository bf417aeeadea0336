// This file has recovery keys that are refused, and the order in which they count.

package workflow_test

import (
	"crypto/rand"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/dictionary"
	sealed "zenithridge.example/zridge/formats/escrow"
	. "zenithridge.example/zridge/service/workflow"
)

// formBegins is how many bytes of a key, in whatever form, tell it from other texts.
const formBegins = 14

// TestKeysThatAreRefused are keys that nobody could open later.
func TestKeysThatAreRefused(t *testing.T) {
	t.Parallel()
	s := safeWith(t, 2)
	key, err := recovery.New(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	for name, alter := range map[string]func(*recovery.SealedKey){
		"not sealed": func(k *recovery.SealedKey) { k.Sealed = []byte("a key") },
		"nothing":    func(k *recovery.SealedKey) { k.Sealed = nil },
		"too long": func(k *recovery.SealedKey) {
			k.Sealed = append(slices.Clone(k.Sealed), make([]byte, sealed.MaxSealed)...)
		},
		"damaged":            func(k *recovery.SealedKey) { k.Sealed = k.Sealed[:len(k.Sealed)-3] },
		"for another laptop": func(k *recovery.SealedKey) { *k = s.sealedKey(t, "L000001", key, s.recipient) },
		"for another volume": func(k *recovery.SealedKey) { k.Volume = "other" },
		"another identifier": func(k *recovery.SealedKey) { k.Identifier = "123456789012" },
		"no recipients":      func(k *recovery.SealedKey) { k.Recipients = nil },
		"recipients that lie": func(k *recovery.SealedKey) {
			*k = s.sealedKey(t, "L000000", key, demoCompany)
			k.Recipients = []string{s.recipient}
		},
		"no such recipient":      func(k *recovery.SealedKey) { k.Recipients = []string{"age1nobody"} },
		"too many recipients":    func(k *recovery.SealedKey) { k.Recipients = slices.Repeat([]string{s.recipient}, 9) },
		"a recipient twice":      func(k *recovery.SealedKey) { k.Recipients = []string{s.recipient, s.recipient} },
		"the volume has no id":   func(k *recovery.SealedKey) { k.Volume = "" },
		"the volume's long id":   func(k *recovery.SealedKey) { k.Volume = strings.Repeat("v", 300) },
		"the volume's long text": func(k *recovery.SealedKey) { k.Name = strings.Repeat("v", 300) },
	} {
		k := s.sealedKey(t, "L000000", key, s.recipient)
		alter(&k)
		err := s.StoreKey(t.Context(), "L000000", &k)
		if unfit := (*UnfitKeyError)(nil); err == nil || !asUnfit(err, &unfit) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if rows, err := s.store.RecoveryKeys("L000000"); err != nil || len(rows) != 0 {
		t.Errorf("%d keys are stored, %v", len(rows), err)
	}
	for name, volumes := range map[string][]recovery.Volume{
		"too many":            slices.Repeat([]recovery.Volume{{ID: "v", Kind: "fixed", State: "plain"}}, 41),
		"no such state":       {{ID: "v", Kind: "fixed", State: "odd"}},
		"no such kind":        {{ID: "v", Kind: "odd", State: "plain"}},
		"no identifier":       {{ID: "v", Kind: "fixed", State: "encrypted", Identifier: "12"}},
		"no id":               {{Kind: "fixed", State: "plain"}},
		"a text that is long": {{ID: "v", Kind: "fixed", State: "plain", Reason: strings.Repeat("x", 300)}},
	} {
		if unfit := (*UnfitKeyError)(nil); !asUnfit(s.TakeVolumes(t.Context(), "L000000", volumes), &unfit) {
			t.Errorf("volumes, %s: taken", name)
		}
	}
}

const demoCompany = "age1u6l45lg6786k23csg83nru0znc33wdnsfl9ch0m90glah2d4uq0sxcx874"

func asUnfit(err error, into **UnfitKeyError) bool {
	is, ok := err.(*UnfitKeyError)
	*into = is
	return ok
}

// TestKeysInTheirOrder follows the keys of one volume: a stored key waits, the one in force stays until the next is, and
// what the service knows is the same after a restart.
func TestKeysInTheirOrder(t *testing.T) {
	t.Parallel()
	s := safeWith(t, 1)
	const device = "L000000"
	var made []recovery.Key
	store1 := func() recovery.Key {
		t.Helper()
		key, err := recovery.New(rand.Reader)
		if err != nil {
			t.Fatal(err)
		}
		k := s.sealedKey(t, device, key, s.recipient)
		for range 2 { // the answer may have been lost
			if err := s.StoreKey(t.Context(), device, &k); err != nil {
				t.Fatal(err)
			}
		}
		made = append(made, key)
		return key
	}
	reports := func(id recovery.Identifier) {
		t.Helper()
		v := []recovery.Volume{{ID: "v", Name: "disk", Kind: recovery.FixedVolume, State: recovery.Encrypted, Identifier: id}}
		if err := s.TakeVolumes(t.Context(), device, v); err != nil {
			t.Fatal(err)
		}
	}
	states := func(want string) {
		t.Helper()
		rows, err := s.store.RecoveryKeys(device)
		if err != nil {
			t.Fatal(err)
		}
		slices.Reverse(rows)
		var got []string
		for i, r := range rows {
			if r.Identifier != made[i].Identifier() {
				t.Fatalf("key %d is another one", i)
			}
			got = append(got, string(r.State))
		}
		if is := strings.Join(got, " "); is != want {
			t.Fatalf("keys are %q, expected %q", is, want)
		}
	}
	first := store1()
	states("stored")
	reports(first.Identifier())
	states("current")
	second := store1()
	states("current stored")
	reports(first.Identifier()) // it is not in force yet
	states("current stored")
	reports(second.Identifier())
	states("replaced current")
	reports("") // it cannot say: the keys stay
	states("replaced current")
	third := store1()
	reports(first.Identifier()) // the disk was put back from a copy
	states("current replaced stored")
	reports(third.Identifier())
	states("replaced replaced current")
	for range 8 {
		store1()
	}
	states("replaced replaced current replaced replaced replaced stored stored stored stored stored")
	before, err := s.Coverage(t.Context(), ines)
	if err != nil {
		t.Fatal(err)
	}
	next, err := New(Config{Store: s.store, Shipped: dictionary.Shipped(), Now: func() time.Time { return start }})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(next.Close)
	after, err := next.Coverage(t.Context(), ines)
	if err != nil || !slices.Equal(before, after) {
		t.Errorf("after a restart: %+v, was %+v, %v", after, before, err)
	}
}
