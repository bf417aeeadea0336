package service_test

import (
	"bufio"
	"context"
	"crypto/ed25519"
	"database/sql"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/audit"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
	"zenithridge.example/zridge/service/store"
)

// ranOnce runs a service, has something done, and stops it. It gives the folder with the database,
// the keys, and a copy of checkpoints.
func ranOnce(t *testing.T) (folder string, keys []ed25519.PublicKey, copies []audit.Checkpoint) {
	t.Helper()
	folder = t.TempDir()
	file := filepath.Join(folder, "copies.jsonl")
	running, err := service.Start(service.Config{
		Address: "127.0.0.1:0", Database: filepath.Join(folder, "z.db"), Day: "2026-11-23",
		Audit: service.AuditLog{Copies: []string{"file:" + file}},
	})
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- running.Wait(ctx) }()
	api := firstAdministrator(t, running.Address, running.SetupCode)
	publishEstate(t, api, smallEstate)
	if v, err := client.Post[audit.Verification](ctx, api, "/audit/verification",
		wire.AuditCopies{Checkpoints: []audit.Checkpoint{}}); err != nil ||
		!v.Intact() || v.Records < 4 {
		t.Errorf("while it runs: %+v, %v", v, err)
	}
	stop()
	if err := <-done; err != nil {
		t.Fatal(err)
	}
	text, err := os.ReadFile(filepath.Join(folder, "audit.pub"))
	if err != nil {
		t.Fatal(err)
	}
	if keys, err = service.ReadPublicKeys(text); err != nil || len(keys) != 1 {
		t.Fatalf("%d keys, %v", len(keys), err)
	}
	lines, err := os.Open(file)
	if err != nil {
		t.Fatal(err)
	}
	defer lines.Close()
	for s := bufio.NewScanner(lines); s.Scan(); {
		var c audit.Checkpoint
		if err := json.Unmarshal(s.Bytes(), &c); err != nil {
			t.Fatal(err)
		}
		copies = append(copies, c)
	}
	return folder, keys, copies
}

// A database that is altered behind the service's back is found out: by its own checkpoints, or by
// copies of them.
func TestAnAlteredDatabaseIsFoundOut(t *testing.T) {
	t.Parallel()
	folder, keys, copies := ranOnce(t)
	database := filepath.Join(folder, "z.db")
	v, err := service.VerifyAudit(database, keys, copies)
	if err != nil || !v.Intact() || v.Covered != v.Last || v.Last == 0 {
		t.Fatalf("as it was written: %+v, %v", v, err)
	}
	if info, err := os.Stat(filepath.Join(folder, "audit.key")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the key is %v, %v", info.Mode(), err)
	}
	raw, err := os.ReadFile(database)
	if err != nil {
		t.Fatal(err)
	}
	const free = `DROP TRIGGER audit_no_update; DROP TRIGGER audit_no_delete; `
	for name, c := range map[string]struct {
		sql   string
		fault audit.Fault
		keys  bool // whoever alters has removed the checkpoints of the database, so that only copies tell
	}{
		"another author":           {free + `UPDATE audit_records SET "by" = 'tomas' WHERE seq = 3`, audit.Altered, false},
		"a record is gone":         {free + `DELETE FROM audit_records WHERE seq = 2`, audit.Missing, false},
		"one is inserted":          {free + `INSERT INTO audit_records (seq, at, "by", via, action) VALUES (9999, '2020-01-01', 'x', 'api', 'edit')`, audit.Missing, false},
		"the end is gone":          {free + `DELETE FROM audit_records WHERE seq > 2; DELETE FROM audit_checkpoints`, audit.Shortened, true},
		"all is gone":              {free + `DELETE FROM audit_records; DELETE FROM audit_checkpoints`, audit.Shortened, true},
		"checkpoints were altered": {`UPDATE audit_checkpoints SET hash = 'x'`, audit.BadCheckpoint, false},
	} {
		copied := filepath.Join(t.TempDir(), "copy.db")
		if err := os.WriteFile(copied, raw, 0o600); err != nil {
			t.Fatal(err)
		}
		db, err := sql.Open("sqlite3", copied)
		if err != nil {
			t.Fatal(err)
		}
		if _, err := db.Exec(c.sql); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		db.Close()
		with := copies
		if !c.keys {
			with = nil
		}
		if v, err := service.VerifyAudit(copied, keys, with); err != nil || v.Fault != c.fault {
			t.Errorf("%s: found %+v, %v; expected %s", name, v, err, c.fault)
		}
	}
	if _, err := service.VerifyAudit(filepath.Join(folder, "none.db"), keys, nil); err == nil {
		t.Error("a file that is not there was verified")
	}
}

// Records are removed in whole signed segments, and what is left is still verified.
func TestOldRecordsAreRemovedInSegments(t *testing.T) {
	t.Parallel()
	data, err := store.Open(filepath.Join(t.TempDir(), "z.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer data.Close()
	key := ed25519.NewKeyFromSeed(make([]byte, ed25519.SeedSize))
	day := func(n int) time.Time { return time.Date(2026, 1, 1+n, 9, 0, 0, 0, time.UTC) }
	for n := range 10 {
		for range 3 {
			if err := data.Audit(store.AuditRecord{At: day(n), By: "ines", Via: "console", Action: "edit"}); err != nil {
				t.Fatal(err)
			}
		}
		if _, ok, err := data.Checkpoint(day(n), key); !ok || err != nil {
			t.Fatalf("day %d: %v, %v", n, ok, err)
		}
		if _, ok, _ := data.Checkpoint(day(n), key); ok {
			t.Fatal("the same record was signed twice")
		}
	}
	if n, err := data.DropAudited(day(4)); n != 12 || err != nil {
		t.Fatalf("%d records were removed, %v; expected 12", n, err)
	}
	if n, err := data.DropAudited(day(4)); n != 0 || err != nil {
		t.Fatalf("%d more records were removed, %v", n, err)
	}
	verify := func() audit.Verification {
		t.Helper()
		checkpoints, err := data.AuditCheckpoints()
		if err != nil {
			t.Fatal(err)
		}
		v, err := audit.Verify(data.AuditChain, checkpoints, []ed25519.PublicKey{key.Public().(ed25519.PublicKey)})
		if err != nil {
			t.Fatal(err)
		}
		return v
	}
	if v := verify(); !v.Intact() || v.First != 13 || v.Last != 30 || v.Covered != 30 {
		t.Errorf("found %+v", v)
	}
	if n, err := data.DropAudited(day(400)); n != 18 || err != nil {
		t.Fatalf("%d records were removed, %v; expected all", n, err)
	}
	if err := data.Audit(store.AuditRecord{At: day(400), By: "ines", Via: "console", Action: "edit"}); err != nil {
		t.Fatal(err)
	}
	if v := verify(); !v.Intact() || v.First != 31 {
		t.Errorf("after all were removed: %+v", v)
	}
}

// Places for checkpoints that cannot be used are refused when the service starts.
func TestPlacesForCheckpointsAreRead(t *testing.T) {
	t.Parallel()
	for _, place := range []string{"", "file:", "http://example/x", "syslog+tls://host", "ftp://x/y", "https://"} {
		running, err := service.Start(service.Config{
			Address: "127.0.0.1:0", Database: filepath.Join(t.TempDir(), "z.db"), Audit: service.AuditLog{Copies: []string{place}},
		})
		if err == nil || !strings.Contains(err.Error(), "expected file:PATH") {
			t.Errorf("%q: %v, %v", place, running, err)
		}
	}
}
