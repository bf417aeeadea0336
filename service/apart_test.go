// This file runs a service in a process of its own, so that what it keeps in memory is not mixed
// with what its laptops and the test do.

package service_test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net/http"
	"os"
	"os/exec"
	"runtime"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/service"
)

// apartOver names, in the environment of a test binary, the database that it is to serve rather
// than to test.
const apartOver = "ZRIDGE_SERVE_APART"

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
type apart struct{ Address, SetupCode string }

// serveApart serves until there is no more to read. It answers every line with what it keeps in
// memory.
func serveApart(database string, from io.Reader, to io.Writer) error {
	running, err := service.Start(service.Config{Address: "127.0.0.1:0", Database: database, Day: "2026-11-23"})
	if err != nil {
		return err
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- running.Wait(ctx) }()
	answers := json.NewEncoder(to)
	err = answers.Encode(apart{running.Address, running.SetupCode})
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

// startApart is over in a process of its own. keeps asks it what it keeps in memory, in MB.
func startApart(t testing.TB, database string) (api *client.Client, keeps func() float64) {
	t.Helper()
	process := exec.Command(os.Args[0])
	process.Env, process.Stderr = append(os.Environ(), apartOver+"="+database), os.Stderr
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
	answers := json.NewDecoder(says)
	var is apart
	if err := answers.Decode(&is); err != nil {
		t.Fatal(err)
	}
	return firstAdministrator(t, is.Address, is.SetupCode), func() (mb float64) {
		if _, err := fmt.Fprintln(asks); err != nil {
			t.Fatal(err)
		}
		if err := answers.Decode(&mb); err != nil {
			t.Fatal(err)
		}
		return mb
	}
}
