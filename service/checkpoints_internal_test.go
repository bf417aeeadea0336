package service

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/audit"
	"zenithridge.example/zridge/service/store"
)

var sample = audit.Checkpoint{Number: 7, Hash: "abc", At: time.Date(2026, 11, 2, 8, 0, 0, 0, time.UTC), Key: "k", Signature: "c2lnbmVk"}

func TestAWebAddressGetsCheckpoints(t *testing.T) {
	var got audit.Checkpoint
	status := http.StatusNoContent
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if err := json.NewDecoder(r.Body).Decode(&got); err != nil || r.Header.Get("Content-Type") != "application/json" {
			t.Errorf("%v, %v", err, r.Header)
		}
		w.WriteHeader(status)
	}))
	defer server.Close()
	u, err := url.Parse(server.URL + "/hook/secret-part")
	if err != nil {
		t.Fatal(err)
	}
	to := &webDestination{u, server.Client()}
	if err := to.send(t.Context(), entries{checkpointEntry(sample)}); err != nil || got != sample {
		t.Errorf("%v: got %+v", err, got)
	}
	status = http.StatusBadGateway
	if err := to.send(t.Context(), entries{checkpointEntry(sample)}); err == nil {
		t.Error("a refusal counts as sent")
	}
	server.Close()
	if err := to.send(t.Context(), entries{checkpointEntry(sample)}); err == nil || strings.Contains(err.Error()+to.String(), "secret-part") {
		t.Errorf("an address that does not answer: %v", err)
	}
	if err := (&webDestination{u, &http.Client{}}).send(t.Context(), entries{checkpointEntry(sample)}); err == nil {
		t.Error("a certificate that nobody vouches for was taken")
	}
}

// Messages are framed by their length (RFC 5425) and have the fields of RFC 5424.
func TestASyslogServerGetsCheckpoints(t *testing.T) {
	web := httptest.NewTLSServer(nil) // for its certificate
	defer web.Close()
	listener, err := tls.Listen("tcp", "127.0.0.1:0", &tls.Config{Certificates: web.TLS.Certificates})
	if err != nil {
		t.Fatal(err)
	}
	defer listener.Close()
	received := make(chan string, 1)
	go func() {
		conn, err := listener.Accept()
		if err != nil {
			return
		}
		defer conn.Close()
		in := bufio.NewReader(conn)
		var n int
		if _, err := fmt.Fscanf(in, "%d ", &n); err != nil {
			received <- err.Error()
			return
		}
		text := make([]byte, n)
		_, err = io.ReadFull(in, text)
		received <- fmt.Sprint(string(text), err)
	}()
	roots := x509.NewCertPool()
	roots.AddCert(web.Certificate())
	host, _, _ := net.SplitHostPort(listener.Addr().String())
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	to := &syslogDestination{address: listener.Addr().String(), host: host, roots: roots}
	if err := to.send(ctx, entries{checkpointEntry(sample)}); err != nil {
		t.Fatal(err)
	}
	got := <-received
	for _, part := range []string{"<110>1 2026-11-02T08:00:00Z ", " zridge ",
		` audit-checkpoint [checkpoint@32473 number="7" hash="abc"`, `signature="c2lnbmVk"]<nil>`} {
		if !strings.Contains(got, part) {
			t.Errorf("%q is missing in %q", part, got)
		}
	}
}

// TestARecordAsASyslogMessage writes a record with what structured data must escape.
func TestARecordAsASyslogMessage(t *testing.T) {
	r := audit.Record{Number: 9, At: sample.At, By: `a"b]c\d`, Via: "console", Action: "publish", After: "name: \"ö\"\n", Hash: "h"}
	got, err := recordEntry(r).syslog("host")
	if err != nil {
		t.Fatal(err)
	}
	head, text, ok := strings.Cut(got, "] \ufeff")
	if !ok || !strings.HasSuffix(head, `audit-record [record@32473 number="9" by="a\"b\]c\\d" via="console" action="publish" hash="h"`) {
		t.Errorf("structured data: %s", head)
	}
	var back audit.Record
	if err := json.Unmarshal([]byte(text), &back); err != nil || back != r {
		t.Errorf("the message has %+v, %v", back, err)
	}
}

// TestAnInterruptionLosesNoRecord forwards to a server that refuses at first. It gets every record once, in
// order and in batches, and a second forwarder goes on where the first one ended.
func TestAnInterruptionLosesNoRecord(t *testing.T) {
	data, err := store.Open(filepath.Join(t.TempDir(), "z.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer data.Close()
	var got []audit.Record
	refusing, batches := true, 0
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if refusing {
			w.WriteHeader(http.StatusServiceUnavailable)
			return
		}
		var batch []audit.Record
		if err := json.NewDecoder(r.Body).Decode(&batch); err != nil {
			t.Error(err)
		}
		got, batches = append(got, batch...), batches+1
	}))
	defer server.Close()
	u, err := url.Parse(server.URL)
	if err != nil {
		t.Fatal(err)
	}
	write := func(n int) {
		t.Helper()
		records := make([]store.AuditRecord, n)
		for i := range records {
			records[i] = store.AuditRecord{At: sample.At, By: "ines", Action: fmt.Sprint("act ", i)}
		}
		if err := data.Audit(records...); err != nil {
			t.Fatal(err)
		}
	}
	config := &Config{Log: slog.New(slog.DiscardHandler)}
	of := func() *forwarder {
		sent, err := data.AuditForwarded("place")
		if err != nil {
			t.Fatal(err)
		}
		return &forwarder{to: &webDestination{u, server.Client()}, place: "place", data: data, config: config, sent: sent}
	}
	f := of()
	write(3)
	f.forward(t.Context())
	f.forward(t.Context())
	if f.failed != 2 || f.sent != 0 {
		t.Fatalf("after two refusals: %d failed, sent up to %d", f.failed, f.sent)
	}
	write(2*forwardMost + 1)
	refusing = false
	f.forward(t.Context())
	if len(got) != 2*forwardMost+4 || batches != 3 || f.failed != 0 {
		t.Errorf("%d records came in %d batches", len(got), batches)
	}
	write(1)
	of().forward(t.Context()) // as after a restart
	before := ""
	for i, r := range got {
		if r.Number != int64(i+1) || r.Hash != r.HashAfter(before) {
			t.Fatalf("record %d came as number %d", r.Number, i+1)
		}
		before = r.Hash
	}
	if len(got) != 2*forwardMost+5 {
		t.Errorf("%d records in the end", len(got))
	}
}
