// This file runs the agent with real encrypted volumes, in files: through the first key, renewals, lost connections and
// kills.

package service_test

import (
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"

	"zenithridge.example/zridge/agent"
	"zenithridge.example/zridge/agent/volume"
	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/escrow"
	"zenithridge.example/zridge/service/store"
)

// vault is a service that stores keys, and a laptop with a volume that is to be encrypted.
type vault struct {
	*enrolling
	clerk     *client.Client
	agent     *agent.Agent
	volume    string
	recipient string
	tool      volume.Tool
}

const volumeSize = 24 << 20 // bytes

func vaultWith(t *testing.T) *vault {
	t.Helper()
	if _, err := exec.LookPath("cryptsetup"); err != nil {
		t.Skip("cryptsetup is not installed")
	}
	v := &vault{enrolling: enrollingWith(t, 0), volume: filepath.Join(t.TempDir(), "data.img")}
	v.recipient = posted[wire.EscrowRecipient](t, v.Client, "/escrow-recipients", wire.NewRecipient{Title: "Service"}).Recipient
	token := granted(t, v.Client, "cleo", wire.NewGrant{Role: "service-desk"})
	v.clerk = token
	v.agent = agentOn(t, laptopFiles(t, "S0"))
	v.agent.Encryption = &agent.Encryption{Folder: v.agent.Folder, Tool: &v.tool, Log: slog.New(slog.DiscardHandler)}
	t.Cleanup(v.agent.Encryption.Wait)
	v.blank(t)
	return v
}

// blank puts an empty disk in the place of the volume.
func (v *vault) blank(t *testing.T) {
	t.Helper()
	if err := errors.Join(os.WriteFile(v.volume, nil, 0o600), os.Truncate(v.volume, volumeSize)); err != nil {
		t.Fatal(err)
	}
}

func (v *vault) enrol(t *testing.T) {
	t.Helper()
	if _, err := v.agent.Enrol(t.Context(), v.identity(t, v.invites(t, wire.NewInvitation{Device: "L0"})[0])); err != nil {
		t.Fatal(err)
	}
}

// demands publishes that volumes are encrypted.
func (v *vault) demands(t *testing.T, more map[string]any) {
	t.Helper()
	settings := map[string]any{
		"disk.encryption.required": true, "disk.encryption.method_fixed": "aes-xts-256", "disk.recovery.escrow": "service",
		"disk.recovery.escrow_first": true, "disk.recovery.escrow_recipients": []string{v.recipient},
	}
	for id, value := range more {
		settings[id] = value
	}
	v.sets(t, settings, map[string]any{"kind": "encryption"})
}

func (v *vault) checkIn(t *testing.T) {
	t.Helper()
	if _, err := v.agent.CheckIn(t.Context(), false); err != nil {
		t.Fatal(err)
	}
}

func (v *vault) header(t *testing.T) *volume.Header {
	t.Helper()
	h, err := v.tool.Read(t.Context(), v.volume)
	if err != nil {
		t.Fatal(err)
	}
	return h
}

// stored gives the keys that are stored for the laptop, opened with the escrow identities, by identifier.
func (v *vault) stored(t *testing.T) (out map[recovery.Identifier]recovery.Key, states map[recovery.Identifier]recovery.KeyState) {
	t.Helper()
	keyring, err := escrow.Load(escrow.Config{File: filepath.Join(v.folder, "escrow.key")})
	if err != nil {
		t.Fatal(err)
	}
	db, err := store.OpenToRead(filepath.Join(v.folder, "z.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows, err := db.RecoveryKeys("L0")
	if err != nil {
		t.Fatal(err)
	}
	out, states = map[recovery.Identifier]recovery.Key{}, map[recovery.Identifier]recovery.KeyState{}
	for _, r := range rows {
		key, err := keyring.Open(r.Sealed, r.Device, r.Volume)
		if err != nil {
			t.Fatal(err)
		}
		out[r.Identifier], states[r.Identifier] = key, r.State
	}
	return out, states
}

// opened gives the stored key that opens the volume; ok is false where none does. A volume that is plain, or has no key at
// all yet, is open.
func (v *vault) opened(t *testing.T) (key recovery.Key, ok bool) {
	t.Helper()
	if h, err := v.tool.Read(t.Context(), v.volume); errors.Is(err, volume.ErrPlain) || err == nil && len(h.Slots) == 0 {
		return recovery.Key{}, true // formatting a blank disk was interrupted before it had a key: nothing is on it
	}
	keys, _ := v.stored(t)
	for _, key := range keys {
		if slot, err := v.tool.Opens(t.Context(), v.volume, key.Passphrase()); err == nil && slot >= 0 {
			return key, true
		}
	}
	return recovery.Key{}, false
}

// settled checks that the volume opens with exactly one recovery key, which the service knows as the one in force.
func (v *vault) settled(t *testing.T) recovery.Key {
	t.Helper()
	h := v.header(t)
	tokens := h.Recovery()
	if len(tokens) != 1 || len(h.Slots) != 2 || h.Token(volume.AgentToken) == nil {
		t.Fatalf("the header has %d slots and the tokens %+v", len(h.Slots), h.Tokens)
	}
	keys, states := v.stored(t)
	id := recovery.Identifier(tokens[0].Identifier)
	if slot, err := v.tool.Opens(t.Context(), v.volume, keys[id].Passphrase()); err != nil || slot != tokens[0].Slot() {
		t.Fatalf("the key %s opens slot %d, %v", id, slot, err)
	}
	for other, state := range states {
		if (state == recovery.Current) != (other == id) {
			t.Fatalf("key %s is %s, and %s opens the volume", other, state, id)
		}
		if slot, err := v.tool.Opens(t.Context(), v.volume, keys[other].Passphrase()); other != id && (err != nil || slot >= 0) {
			t.Fatalf("the earlier key %s opens slot %d, %v", other, slot, err)
		}
	}
	return keys[id]
}

// TestARealVolume encrypts a volume once its key is stored, shows the key, renews it, and changes whom it is sealed to.
func TestARealVolume(t *testing.T) {
	t.Parallel()
	v := vaultWith(t)
	v.enrol(t)
	if err := v.agent.Encryption.Name(v.volume, "soundings"); err != nil {
		t.Fatal(err)
	}
	v.checkIn(t)
	if _, err := v.tool.Read(t.Context(), v.volume); !errors.Is(err, volume.ErrPlain) {
		t.Fatalf("encrypted though nothing demands it: %v", err)
	}
	v.demands(t, nil)
	v.checkIn(t)
	first := v.settled(t)
	if h := v.header(t); h.Method() != "aes-xts-256" {
		t.Errorf("the method is %s", h.Method())
	}
	if d := deliveries(t, v.Client, "L0")["disk.encryption.required"]; d.Status != "applied" {
		v.checkIn(t)
		if d = deliveries(t, v.Client, "L0")["disk.encryption.required"]; d.Status != "applied" {
			t.Errorf("delivered: %+v", d)
		}
	}
	h := get[wire.KeyHistory](t, v.clerk, "/devices/L0/recovery-keys")
	if len(h.Volumes) != 1 || h.Volumes[0].Name != "soundings" || h.Volumes[0].State != "encrypted" || h.Volumes[0].Method != "aes-xts-256" {
		t.Errorf("volumes %+v", h.Volumes)
	}
	// The key that the clerk is told opens the volume; afterwards another takes its place.
	in := asksFor("L0", "ada", "Halyard 16", first)
	is := shows(t, v.clerk, in)
	told, err := recovery.Parse(is.Key)
	if err != nil {
		t.Fatal(err)
	}
	if slot, err := v.tool.Opens(t.Context(), v.volume, told.Passphrase()); err != nil || slot < 0 {
		t.Fatalf("what was told opens slot %d, %v", slot, err)
	}
	v.checkIn(t)
	second := v.settled(t)
	if second == first {
		t.Fatal("the key was not replaced after it was shown")
	}
	// Another recipient: another key, sealed to it.
	next := posted[wire.EscrowRecipient](t, v.Client, "/escrow-recipients", wire.NewRecipient{Title: "Next"}).Recipient
	v.recipient = next
	v.demands(t, nil)
	v.checkIn(t)
	if third := v.settled(t); third == second || !slices.Equal(v.header(t).Recovery()[0].Recipients, []string{next}) {
		t.Error("the key is not sealed to the new recipient")
	}
	// A key that is older than policies allow.
	third := v.settled(t)
	token := v.header(t).Recovery()[0]
	token.MadeAt = token.MadeAt.AddDate(0, 0, -31)
	if err := errors.Join(v.tool.DropToken(t.Context(), v.volume, token.ID), v.tool.AddToken(t.Context(), v.volume, token)); err != nil {
		t.Fatal(err)
	}
	v.checkIn(t)
	if v.settled(t) != third {
		t.Error("the key was replaced though no policy limits its age")
	}
	v.demands(t, map[string]any{"disk.recovery.key_age_days": 30})
	v.checkIn(t)
	if v.settled(t) == third {
		t.Error("a key of 31 days was not replaced")
	}
	// No key is left on the laptop but the agent's own.
	keys, _ := v.stored(t)
	err = filepath.WalkDir(string(v.agent.Folder), func(path string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(path)
		for id, key := range keys {
			if strings.Contains(string(data), string(key.Passphrase())) {
				t.Errorf("%s has the key %s", path, id)
			}
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	// A laptop that leaves keeps its disk as it is, and the recovery key opens it.
	if err := v.agent.Leave(); err != nil {
		t.Fatal(err)
	}
	if _, ok := v.opened(t); !ok || v.header(t).Token(volume.AgentToken) != nil {
		t.Error("after the agent left, no stored key opens the volume, or its own key does")
	}
}

// TestEscrowFirst: as long as the service takes no key, nothing is encrypted.
func TestEscrowFirst(t *testing.T) {
	t.Parallel()
	v := vaultWith(t)
	v.enrol(t)
	if err := v.agent.Encryption.Name(v.volume, "soundings"); err != nil {
		t.Fatal(err)
	}
	v.demands(t, map[string]any{"disk.recovery.escrow": "off"})
	v.checkIn(t)
	if _, err := v.tool.Read(t.Context(), v.volume); !errors.Is(err, volume.ErrPlain) {
		t.Errorf("encrypted with a key that goes nowhere: %v", err)
	}
	list := get[wire.Page[wire.CoveredLaptop]](t, v.Client, "/coverage/laptops?group=not-encrypted")
	if len(list.Items) != 1 || !strings.Contains(list.Items[0].Volumes[0].Reason, "nobody who could open it") {
		t.Errorf("why it is not encrypted: %+v", list.Items)
	}
	if d := deliveries(t, v.Client, "L0")["disk.encryption.required"]; d.Status != "pending" || d.Code != "202" {
		t.Errorf("delivered: %+v", d)
	}
	v.demands(t, nil)
	v.checkIn(t)
	v.settled(t)
}

// TestAnAdoptedVolume takes a volume over that somebody encrypted with a passphrase, which stays theirs.
func TestAnAdoptedVolume(t *testing.T) {
	t.Parallel()
	v := vaultWith(t)
	v.enrol(t)
	if err := v.tool.Format(t.Context(), v.volume, "6b1f5c8e-0000-4000-8000-000000000001", "aes-cbc-256",
		[]byte("of the installer")); err != nil {
		t.Fatal(err)
	}
	if err := v.agent.Encryption.Name(v.volume, "soundings"); err != nil {
		t.Fatal(err)
	}
	v.demands(t, nil)
	v.checkIn(t)
	if c := get[[]wire.UnitCoverage](t, v.Client, "/coverage"); c[0].Counts.NotEscrowed != 1 {
		t.Errorf("coverage %+v", c[0].Counts)
	}
	if err := v.agent.Encryption.Adopt(t.Context(), v.volume, []byte("another")); err == nil {
		t.Error("adopted with a passphrase that opens nothing")
	}
	if err := v.agent.Encryption.Adopt(t.Context(), v.volume, []byte("of the installer")); err != nil {
		t.Fatal(err)
	}
	v.checkIn(t)
	h := get[wire.KeyHistory](t, v.clerk, "/devices/L0/recovery-keys")
	if len(h.Keys) != 1 || h.Keys[0].State != "current" || !strings.Contains(h.Volumes[0].Weak, "pbkdf2") ||
		!slices.Equal(h.Volumes[0].Startup, []string{"passphrase"}) {
		t.Errorf("keys %+v, volumes %+v", h.Keys, h.Volumes)
	}
	if slot, err := v.tool.Opens(t.Context(), v.volume, []byte("of the installer")); err != nil || slot != 0 {
		t.Errorf("the passphrase opens slot %d, %v", slot, err)
	}
}

// TestAnAddressOfOnesOwn sends keys to a server of the company, which answers as documented or otherwise.
func TestAnAddressOfOnesOwn(t *testing.T) {
	t.Parallel()
	v := vaultWith(t)
	v.enrol(t)
	var mu sync.Mutex
	var got []map[string]any
	answer := `{}`
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		var in map[string]any
		if err := json.NewDecoder(r.Body).Decode(&in); err != nil || r.Method != http.MethodPost {
			t.Errorf("%s: %v", r.Method, err)
		}
		got = append(got, in)
		w.WriteHeader(http.StatusCreated)
		fmt.Fprintf(w, answer, in["identifier"])
	}))
	t.Cleanup(server.Close)
	if err := v.agent.Encryption.Name(v.volume, "soundings"); err != nil {
		t.Fatal(err)
	}
	v.demands(t, map[string]any{"disk.recovery.escrow": "address", "disk.recovery.escrow_address": server.URL + "/keys"})
	// The laptop trusts the company's authorities: here, the one of the server.
	id, err := v.agent.Folder.ReadIdentity()
	if err != nil {
		t.Fatal(err)
	}
	id.Roots += string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}))
	if err := v.agent.Folder.WriteIdentity(id); err != nil {
		t.Fatal(err)
	}
	v.checkIn(t)
	if _, err := v.tool.Read(t.Context(), v.volume); !errors.Is(err, volume.ErrPlain) {
		t.Errorf("encrypted though the address did not say that the key is stored: %v", err)
	}
	mu.Lock()
	answer = `{"stored":"%s"}`
	mu.Unlock()
	v.checkIn(t)
	tokens := v.header(t).Recovery()
	if len(tokens) != 1 || !tokens[0].Elsewhere {
		t.Fatalf("tokens %+v", tokens)
	}
	last := got[len(got)-1]
	if last["device"] != "L0" || last["identifier"] != tokens[0].Identifier || last["sealed"] == nil {
		t.Errorf("the address was told %v", last)
	}
	if c := get[[]wire.UnitCoverage](t, v.Client, "/coverage"); c[0].Counts.Escrowed != 1 {
		t.Errorf("coverage %+v", c[0].Counts)
	}
	if keys, _ := v.stored(t); len(keys) != 0 {
		t.Error("the service has the key, too")
	}
}
