package workflow_test

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/access"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/recovery"
	"zenithridge.example/zridge/dictionary"
	sealed "zenithridge.example/zridge/formats/escrow"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/service/escrow"
	"zenithridge.example/zridge/service/store"
	. "zenithridge.example/zridge/service/workflow"
)

// safe is a service with laptops whose keys are stored.
type safe struct {
	*Service
	store     *store.Store
	folder    string
	recipient string
	log       *bytes.Buffer
	keys      map[string]recovery.Key // by laptop
}

var clerk = Actor{Name: "cleo", Via: "console", Held: access.Held{Everywhere: access.Of(access.Read, access.RecoveryKeys)}}

// safeWith stores a key of each of n laptops.
func safeWith(t testing.TB, n int) *safe {
	t.Helper()
	s := &safe{folder: t.TempDir(), log: &bytes.Buffer{}, keys: map[string]recovery.Key{}}
	keyring, err := escrow.Load(escrow.Config{File: filepath.Join(s.folder, "escrow.key")})
	if err != nil {
		t.Fatal(err)
	}
	if s.store, err = store.Open(filepath.Join(s.folder, "z.db")); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.store.Close() })
	s.Service, err = New(Config{
		Store: s.store, Shipped: dictionary.Shipped(), Escrow: keyring, Now: func() time.Time { return start },
		Log: slog.New(slog.NewTextHandler(s.log, &slog.HandlerOptions{Level: slog.LevelDebug})),
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(s.Close)
	r, err := s.AddRecipient(t.Context(), ines, NewRecipient{Title: "Service"})
	if err != nil {
		t.Fatal(err)
	}
	s.recipient = r.Recipient
	var devices []estate.Device
	for i := range n {
		devices = append(devices, estate.Device{
			ID: estate.DeviceID(fmt.Sprintf("L%06d", i)), Serial: fmt.Sprintf("K%c%d-%05d", 'A'+i%20, i%9, i), OS: "linux",
			OSVersion: "12", Model: "Halyard 14",
			Owner: estate.PersonID(fmt.Sprintf("p%d", i/2)), Unit: estate.UnitID(fmt.Sprintf("u%d", i%40)),
		})
	}
	s.publishLaptops(t, devices)
	return s
}

// publishLaptops publishes an estate of laptops whose disks a policy wants encrypted.
func (s *safe) publishLaptops(t testing.TB, devices []estate.Device) {
	t.Helper()
	var b strings.Builder
	b.WriteString(`{"units":[{"id":"r","title":"Company"}`)
	for i := range 40 {
		fmt.Fprintf(&b, `,{"id":"u%d","parent":"r"}`, i)
	}
	b.WriteString(`],"people":[`)
	for i := range (len(devices) + 1) / 2 {
		fmt.Fprintf(&b, `%s{"id":"p%d","name":"Person %d of the crew","mail":"p%d@larkfell.example","unit":"u%d"}`, comma(i), i, i, i, i%40)
	}
	b.WriteString(`],"devices":[`)
	for i, d := range devices {
		fmt.Fprintf(&b, `%s{"id":%q,"serial":%q,"os":"linux","os_version":"12","model":%q,"owner":%q,"unit":%q}`, comma(i), d.ID,
			d.Serial, d.Model, d.Owner, d.Unit)
	}
	fmt.Fprintf(&b, `],"policies":[{"id":"p","kind":"encryption","settings":{"disk.encryption.required":true,"disk.recovery.escrow":"service",
	 "disk.recovery.escrow_recipients":[%q],"disk.recovery.key_age_days":365},"audience":{"include":["everyone"]}}]}`, s.recipient)
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "estate.json"), []byte(b.String()), 0o600); err != nil {
		t.Fatal(err)
	}
	is, _, err := files.ReadWithFiles(folder, dictionary.Shipped())
	if err != nil {
		t.Fatal(err)
	}
	c, _, err := s.Import(t.Context(), ines, "Laptops", is, false)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.Publish(t.Context(), ines, c.ID, PublishInput{Expected: -1, AtOnce: true}); err != nil {
		t.Fatal(err)
	}
}

func comma(i int) string {
	if i == 0 {
		return ""
	}
	return ","
}

// stores makes a key of a laptop, stores it, and says that it is in force.
func (s *safe) stores(t testing.TB, device string) {
	t.Helper()
	key, err := recovery.New(rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	k := s.sealedKey(t, device, key, s.recipient)
	if err := s.StoreKey(t.Context(), device, &k); err != nil {
		t.Fatal(err)
	}
	volumes := []recovery.Volume{{ID: "v", Name: "system disk", Kind: recovery.SystemVolume, State: recovery.Encrypted,
		Identifier: key.Identifier()}}
	if err := s.TakeVolumes(t.Context(), device, volumes); err != nil {
		t.Fatal(err)
	}
	s.keys[device] = key
}

func (s *safe) sealedKey(t testing.TB, device string, key recovery.Key, recipients ...string) recovery.SealedKey {
	t.Helper()
	to, err := sealed.Recipients(recipients)
	if err != nil {
		t.Fatal(err)
	}
	data, err := sealed.Seal(key, device, "v", start, to)
	if err != nil {
		t.Fatal(err)
	}
	return recovery.SealedKey{Volume: "v", Name: "system disk", Identifier: key.Identifier(), Sealed: data, Recipients: recipients,
		MadeAt: start}
}

func (s *safe) shows(t testing.TB, device, person string) *ShownKey {
	t.Helper()
	r, err := s.AskForKey(t.Context(), clerk, KeyAsk{
		Device: device, Identifier: s.keys[device].Identifier().Spaced(), Person: person, Model: "Halyard 14", Reason: "The PIN was forgotten",
	})
	if err != nil {
		t.Fatal(err)
	}
	is, err := s.ShowKey(t.Context(), clerk, r.ID)
	if err != nil {
		t.Fatal(err)
	}
	return is
}

// TestNoKeyIsAnywhere stores a thousand keys and shows some. No key is in the database, its log of writes, the log, the
// audit log or the reports, in any form; a stolen database gives them with the escrow identity, and without it none.
func TestNoKeyIsAnywhere(t *testing.T) {
	t.Parallel()
	laptops := 1000
	if testing.Short() {
		laptops = 100
	}
	s := safeWith(t, laptops)
	for i := range laptops {
		s.stores(t, fmt.Sprintf("L%06d", i))
	}
	for i := range 50 {
		device := fmt.Sprintf("L%06d", i)
		if is := s.shows(t, device, fmt.Sprintf("p%d", i/2)); is.Key != s.keys[device] {
			t.Fatalf("%s: shown another key", device)
		}
	}
	var searched bytes.Buffer
	read := func(path string) {
		data, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(&searched, "\n%s\n", data)
	}
	entries, err := os.ReadDir(s.folder)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range entries {
		if strings.HasPrefix(e.Name(), "z.db") {
			read(filepath.Join(s.folder, e.Name()))
		}
	}
	// A database that was stolen, or restored from a backup.
	stolen := filepath.Join(t.TempDir(), "stolen.db")
	db, err := os.ReadFile(filepath.Join(s.folder, "z.db"))
	if err != nil {
		t.Fatal(err)
	}
	wal, _ := os.ReadFile(filepath.Join(s.folder, "z.db-wal"))
	if err := os.WriteFile(stolen, db, 0o600); err == nil {
		err = os.WriteFile(stolen+"-wal", wal, 0o600)
		if err != nil {
			t.Fatal(err)
		}
	}
	copied, err := store.Open(stolen)
	if err != nil {
		t.Fatal(err)
	}
	defer copied.Close()
	with, err := escrow.Load(escrow.Config{File: filepath.Join(s.folder, "escrow.key")})
	if err != nil {
		t.Fatal(err)
	}
	other, err := escrow.Load(escrow.Config{File: filepath.Join(t.TempDir(), "other.key")})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := other.Make(start); err != nil {
		t.Fatal(err)
	}
	for device, key := range s.keys {
		rows, err := copied.RecoveryKeys(device)
		if err != nil || len(rows) != 1 {
			t.Fatalf("%s: %d keys in the copy, %v", device, len(rows), err)
		}
		if got, err := with.Open(rows[0].Sealed, device, "v"); err != nil || got != key {
			t.Errorf("%s: with the escrow identity: %v", device, err)
		}
		if got, err := other.Open(rows[0].Sealed, device, "v"); err == nil || !got.IsZero() {
			t.Errorf("%s: opened with another identity", device)
		}
	}
	fmt.Fprintln(&searched, s.log.String())
	records := 0
	for r, err := range s.store.AuditChain {
		if err != nil {
			t.Fatal(err)
		}
		records++
		fmt.Fprintf(&searched, "%+v\n", r)
	}
	if records < 2*laptops {
		t.Fatalf("the audit log has %d records", records)
	}
	covered, err := s.CoveredLaptops(t.Context(), ines, "", recovery.Escrowed)
	if err != nil || len(covered) != laptops {
		t.Fatalf("%d laptops are covered, %v", len(covered), err)
	}
	history, err := s.KeyHistory(t.Context(), clerk, "L000000")
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(&searched, "%+v %+v\n", covered, history)
	// One pass over all that was read, by the first bytes of each form.
	forms := map[string]string{}
	for device, key := range s.keys {
		plain := string(key.Passphrase())
		for _, form := range []string{
			plain, key.Reveal(), strings.ReplaceAll(key.Reveal(), " ", "-"), strings.ToUpper(plain), hex.EncodeToString([]byte(plain)),
			base64.StdEncoding.EncodeToString([]byte(plain)),
		} {
			forms[form[:formBegins]] = device
		}
	}
	all := searched.Bytes()
	for at := range len(all) - formBegins {
		if device, is := forms[string(all[at:at+formBegins])]; is {
			t.Fatalf("the key of %s is somewhere: %.120q", device, all[max(0, at-60):at])
		}
	}
	// The search finds what is there.
	if !bytes.Contains(searched.Bytes(), []byte(fmt.Sprintf("L%06d", laptops-1))) || !bytes.Contains(searched.Bytes(), []byte("age-encryption.org")) {
		t.Error("the search looks at something else")
	}
}

// TestTheOwnerIsTold looks at what is sent to the owner of a laptop whose key was shown.
func TestTheOwnerIsTold(t *testing.T) {
	t.Parallel()
	s := safeWith(t, 2)
	s.stores(t, "L000000")
	s.shows(t, "L000000", "p0")
	told, err := s.store.Announcements("p0", 10)
	if err != nil || len(told) != 1 || told[0].Channel != "mail" || told[0].State != store.AnnouncementDue {
		t.Fatalf("told %+v, %v", told, err)
	}
	for _, part := range []string{"cleo was shown the recovery key of the laptop L000000", "The PIN was forgotten", "tell your service desk"} {
		if !strings.Contains(told[0].Text, part) {
			t.Errorf("%q is not in %q", part, told[0].Text)
		}
	}
	key := s.keys["L000000"]
	if text := told[0].Title + told[0].Text; strings.Contains(text, string(key.Passphrase())) ||
		strings.Contains(text, string(key.Identifier())) {
		t.Error("what is sent has the key or its identifier")
	}
	if others, err := s.store.Announcements("p1", 10); err != nil || len(others) != 0 {
		t.Errorf("somebody else is told %+v, %v", others, err)
	}
}

// BenchmarkRecoveryKeys measures search and coverage with 100,000 laptops, each with a key.
func BenchmarkRecoveryKeys(b *testing.B) {
	const laptops = 100_000
	s := safeWith(b, laptops)
	key, err := recovery.New(rand.Reader)
	if err != nil {
		b.Fatal(err)
	}
	like := s.sealedKey(b, "L000000", key, s.recipient)
	err = s.store.Transaction(b.Context(), func(tx *store.Store) error {
		for i := range laptops {
			device, id := fmt.Sprintf("L%06d", i), recovery.Identifier(fmt.Sprintf("%012d", 7919*i))
			row := store.RecoveryKey{
				Device: device, Volume: "v", Name: "system disk", Identifier: id, Sealed: like.Sealed, Recipients: like.Recipients,
				State:  recovery.Current,
				MadeAt: start, StoredAt: start, Since: &start,
			}
			if _, err := tx.SaveRecoveryKey(row); err != nil {
				return err
			}
			v := recovery.Volume{ID: "v", Name: "system disk", Kind: recovery.SystemVolume, State: recovery.Encrypted, Identifier: id}
			if err := tx.SaveVolumes(store.LaptopVolumes{Device: device, Volumes: []recovery.Volume{v}, At: start}); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		b.Fatal(err)
	}
	began := time.Now()
	if units, err := s.Coverage(b.Context(), ines); err != nil || units[0].Counts.Of(recovery.Escrowed) != laptops {
		b.Fatalf("%+v, %v", units[0], err)
	}
	b.Logf("read from the store in %v", time.Since(began).Round(time.Millisecond))
	find := func(q KeySearch, want string) func(context.Context) error {
		return func(ctx context.Context) error {
			found, err := s.FindKeys(ctx, clerk, q)
			if err == nil && (len(found) == 0 || string(found[0].Device.ID) != want) {
				return fmt.Errorf("%+v finds %d laptops", q, len(found))
			}
			return err
		}
	}
	n := 0
	for name, ask := range map[string]func(context.Context) error{
		"serial":         find(KeySearch{Serial: "KA6-O996?"}, "L009960"),
		"owner":          find(KeySearch{Owner: "person 31415"}, "L062830"),
		"identifier":     find(KeySearch{Identifier: "000079190000"}, "L010000"),
		"two digits off": find(KeySearch{Identifier: "0000791900??"}, "L010000"),
		"coverage": func(ctx context.Context) error { // after a laptop said something
			n++
			device := fmt.Sprintf("L%06d", n)
			v := []recovery.Volume{{ID: "v", Name: fmt.Sprint("disk ", n), Kind: recovery.SystemVolume, State: recovery.Encrypted,
				Identifier: "000000007919"}}
			if err := s.TakeVolumes(ctx, device, v); err != nil {
				return err
			}
			_, err := s.Coverage(ctx, ines)
			return err
		},
	} {
		b.Run(name, func(b *testing.B) {
			var took []time.Duration
			for b.Loop() {
				began := time.Now()
				if err := ask(b.Context()); err != nil {
					b.Fatal(err)
				}
				took = append(took, time.Since(began))
			}
			slices.Sort(took)
			b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms-median")
			b.ReportMetric(float64(took[len(took)-1].Microseconds())/1000, "ms-worst")
		})
	}
}
