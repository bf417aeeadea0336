package service

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/core/audit"
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
	if err := to.send(t.Context(), sample); err != nil || got != sample {
		t.Errorf("%v: got %+v", err, got)
	}
	status = http.StatusBadGateway
	if err := to.send(t.Context(), sample); err == nil {
		t.Error("a refusal counts as sent")
	}
	server.Close()
	if err := to.send(t.Context(), sample); err == nil || strings.Contains(err.Error()+to.String(), "secret-part") {
		t.Errorf("an address that does not answer: %v", err)
	}
	if err := (&webDestination{u, &http.Client{}}).send(t.Context(), sample); err == nil {
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
	if err := to.send(ctx, sample); err != nil {
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
