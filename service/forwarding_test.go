package service_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/audit"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
)

// recordsIn reads the records of a file to which they were forwarded.
func recordsIn(t *testing.T, path string) (out []audit.Record) {
	t.Helper()
	file, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer file.Close()
	lines := bufio.NewScanner(file)
	lines.Buffer(nil, 1<<22)
	for lines.Scan() {
		var r audit.Record
		if err := json.Unmarshal(lines.Bytes(), &r); err != nil {
			t.Fatalf("%v in %.200s", err, lines.Bytes())
		}
		out = append(out, r)
	}
	return out
}

// TestRecordsAreForwarded runs a service three times: what it writes is in the file, once and in order,
// and follows the chain of hashes. While the place cannot be written to, records wait.
func TestRecordsAreForwarded(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	place := filepath.Join(folder, "elsewhere", "records.jsonl")
	code := ""
	run := func(work func(api *client.Client)) {
		t.Helper()
		running, err := service.Start(service.Config{
			Address: "127.0.0.1:0", Database: filepath.Join(folder, "z.db"), Day: "2026-11-30",
			Audit: service.AuditLog{Places: []string{"file:" + place}},
		})
		if err != nil {
			t.Fatal(err)
		}
		ctx, stop := context.WithCancel(context.Background())
		done := make(chan error, 1)
		go func() { done <- running.Wait(ctx) }()
		if running.SetupCode != "" {
			code = running.SetupCode
			work(firstAdministrator(t, running.Address, code))
		} else {
			work(&client.Client{Base: running.Address})
		}
		stop()
		if err := <-done; err != nil {
			t.Fatal(err)
		}
	}
	// The folder is not there yet: nothing can be sent, and nothing is lost.
	run(func(api *client.Client) { publishEstate(t, api, smallEstate) })
	if _, err := os.Stat(place); !os.IsNotExist(err) {
		t.Fatalf("something was written: %v", err)
	}
	if err := os.Mkdir(filepath.Dir(place), 0o700); err != nil {
		t.Fatal(err)
	}
	run(func(api *client.Client) {})
	first := recordsIn(t, place)
	// Refused sign-ins are records as well.
	run(func(api *client.Client) {
		if _, err := client.Post[wire.Who](t.Context(), api, "/session", map[string]string{"name": "nobody", "password": "long enough to be tried"}); err == nil {
			t.Error("a stranger signed in")
		}
	})
	all := recordsIn(t, place)
	if len(first) < 4 || len(all) <= len(first) || !slices.Equal(all[:len(first)], first) {
		t.Fatalf("%d records, then %d", len(first), len(all))
	}
	before := ""
	for i, r := range all {
		if r.Number != int64(i+1) || r.Hash != r.HashAfter(before) {
			t.Fatalf("record %d of the file is number %d and does not follow the one before", i+1, r.Number)
		}
		before = r.Hash
	}
}

// TestAForwardingPlaceIsChecked refuses a place of another form before the service starts.
func TestAForwardingPlaceIsChecked(t *testing.T) {
	t.Parallel()
	for _, place := range []string{"", "http://192.0.2.1/x", "syslog://192.0.2.1:514", "file:", "/var/log/x"} {
		_, err := service.Start(service.Config{
			Address: "127.0.0.1:0", Database: filepath.Join(t.TempDir(), "z.db"), Audit: service.AuditLog{Places: []string{place}},
		})
		if err == nil || !strings.Contains(err.Error(), "expected file:PATH, syslog+tls://HOST:PORT or https://HOST/PATH") {
			t.Errorf("%q: %v", place, fmt.Sprint(err))
		}
	}
}
