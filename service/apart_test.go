// This file runs a service in a process of its own, so that what it keeps in memory is not mixed
// with what its laptops and the test do.

package service_test

import (
	"bufio"
	"context"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/service"
)

// In the environment of a test binary: the database that it is to serve rather than to test, and
// whether over TLS.
const (
	apartOver = "ZRIDGE_SERVE_APART"
	apartTLS  = "ZRIDGE_SERVE_APART_TLS"
)

func TestMain(m *testing.M) {
	if database := os.Getenv(apartOver); database != "" {
		if err := serveApart(database, os.Stdin, os.Stdout); err != nil {
			log.Fatal(err)
		}
		return
	}
	os.Exit(m.Run())
}

// apart is what a service in a process of its own says first.
type apart struct {
	Address, SetupCode string
	Certificate        []byte // over TLS
}

// serveApart serves until there is no more to read. It answers every line with what it keeps in
// memory.
func serveApart(database string, from io.Reader, to io.Writer) error {
	config := service.Config{Address: "127.0.0.1:0", Database: database, Day: "2026-11-23",
		Connections: 1 << 20, // all laptops have one address
		BySecret:    true}    // over TLS, too
	config.TLS.SelfSigned = os.Getenv(apartTLS) != ""
	running, err := service.Start(config)
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- running.Wait(ctx) }()
	answers := json.NewEncoder(to)
	first := apart{Address: running.Address, SetupCode: running.SetupCode}
	if running.Certificate != nil {
		first.Certificate = running.Certificate.Certificate[0]
	}
	err = answers.Encode(first)
	for lines := bufio.NewScanner(from); err == nil && lines.Scan(); {
		err = answers.Encode(kept())
	}
	stop()
	if ended := <-done; ended != nil && ended != http.ErrServerClosed && err == nil {
		err = ended
	}
	return err
}

// kept is what is in memory and in use, in MB.
func kept() float64 {
	runtime.GC()
	runtime.GC()
	var m runtime.MemStats
	runtime.ReadMemStats(&m)
	return float64(m.HeapAlloc) / (1 << 20)
}

// separate is a service in a process of its own, and its administrator's client.
type separate struct {
	api   *client.Client
	trust *tls.Config // for clients of it; nil: plain HTTP

	t       testing.TB
	process *os.Process
	asks    io.Writer
	says    *json.Decoder
}

// startApart is over in a process of its own.
func startApart(t testing.TB, database string, overTLS bool) *separate {
	t.Helper()
	process := exec.Command(os.Args[0])
	process.Env, process.Stderr = append(os.Environ(), apartOver+"="+database), os.Stderr
	if overTLS {
		process.Env = append(process.Env, apartTLS+"=1")
	}
	asks, err := process.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	says, err := process.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := process.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		asks.Close()
		if err := process.Wait(); err != nil {
			t.Errorf("the service apart ended with %v", err)
		}
	})
	s := &separate{t: t, process: process.Process, asks: asks, says: json.NewDecoder(says)}
	var is apart
	if err := s.says.Decode(&is); err != nil {
		t.Fatal(err)
	}
	caller := http.DefaultClient
	if is.Certificate != nil {
		certificate, err := x509.ParseCertificate(is.Certificate)
		if err != nil {
			t.Fatal(err)
		}
		s.trust = &tls.Config{RootCAs: x509.NewCertPool()}
		s.trust.RootCAs.AddCert(certificate)
		caller = &http.Client{Transport: &http.Transport{TLSClientConfig: s.trust}}
	}
	s.api = firstAdministratorBy(t, caller, is.Address, is.SetupCode)
	return s
}

// keeps asks the service what it keeps in memory, in MB.
func (s *separate) keeps() (mb float64) {
	if _, err := fmt.Fprintln(s.asks); err != nil {
		s.t.Fatal(err)
	}
	if err := s.says.Decode(&mb); err != nil {
		s.t.Fatal(err)
	}
	return mb
}

// worked is the processor time that the service has taken.
func (s *separate) worked() time.Duration {
	text, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", s.process.Pid))
	if err != nil {
		s.t.Skip("no /proc to read the processor time from")
	}
	_, rest, _ := strings.Cut(string(text), ") ")
	fields := strings.Fields(rest)
	var ticks int64
	for _, field := range fields[11:13] { // of the process in user mode and in the kernel
		n, err := strconv.ParseInt(field, 10, 64)
		if err != nil {
			s.t.Fatal(err)
		}
		ticks += n
	}
	return time.Duration(ticks) * time.Second / 100 // USER_HZ
}
