package service_test

import (
	"context"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/syncml"
	"zenithridge.example/zridge/service"
	"zenithridge.example/zridge/service/store"
)

// startOver starts a service over a database, and gives what stops it.
func startOver(t *testing.T, database string) (running *service.Running, stop func()) {
	t.Helper()
	running, err := service.Start(service.Config{Address: "127.0.0.1:0", Database: database, Day: "2026-11-23", Secrets: secretsOf(t)})
	if err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- running.Wait(ctx) }()
	return running, func() {
		cancel()
		if err := <-done; err != nil && err != http.ErrServerClosed {
			t.Errorf("the service ended with %v", err)
		}
	}
}

// TestCredentialsOfLaptopsAreSealed looks into the database for what laptops sign in with. A
// database of an earlier version, which has it in the clear, is sealed at the start. A credential
// that is copied to the row of another laptop, or that another key sealed, opens nothing.
func TestCredentialsOfLaptopsAreSealed(t *testing.T) {
	t.Parallel()
	database := filepath.Join(t.TempDir(), "z.db")
	running, stop := startOver(t, database)
	api := firstAdministrator(t, running.Address, running.SetupCode)
	publishEstate(t, api, smallEstate)
	identities := map[string]endpoint.Identity{}
	for device, serial := range map[string]string{"LT-1": "S1", "LT-2": ""} {
		identities[device] = identityOf(t, api, device, serial)
	}
	checksIn := func(address, device string) error {
		m := &endpoint.Memory{}
		_, err := endpoint.New(address, http.DefaultClient, identities[device], m).CheckIn(t.Context())
		return err
	}
	if err := checksIn(running.Address, "LT-1"); err != nil {
		t.Fatal(err)
	}
	stop()

	rows := func(do func(s *store.Store, one, two store.Laptop)) {
		t.Helper()
		s, err := store.Open(database)
		if err != nil {
			t.Fatal(err)
		}
		defer s.Close()
		one, err := s.Laptop("LT-1")
		if err != nil {
			t.Fatal(err)
		}
		two, err := s.Laptop("LT-2")
		if err != nil {
			t.Fatal(err)
		}
		do(s, one, two)
	}
	save := func(s *store.Store, l store.Laptop) {
		t.Helper()
		if err := s.SaveLaptop(l); err != nil {
			t.Fatal(err)
		}
	}
	clear := syncml.UserDigest("LT-1", identities["LT-1"].Secret)
	rows(func(s *store.Store, one, two store.Laptop) {
		if strings.Contains(one.Credential, clear) || !strings.HasPrefix(one.Credential, "owned:") {
			t.Errorf("the database has %q", one.Credential)
		}
		one.Credential = clear // as an earlier version stored it
		save(s, one)
	})

	running, stop = startOver(t, database)
	if err := checksIn(running.Address, "LT-1"); err != nil {
		t.Errorf("after the start sealed it: %v", err)
	}
	stop()
	rows(func(s *store.Store, one, two store.Laptop) {
		if !strings.HasPrefix(one.Credential, "owned:") {
			t.Errorf("after a start the database has %q", one.Credential)
		}
		two.Credential = one.Credential
		save(s, two)
	})

	running, stop = startOver(t, database)
	defer stop()
	if err := checksIn(running.Address, "LT-2"); err == nil {
		t.Error("a credential that was copied from another laptop's row is taken")
	}
	if err := checksIn(running.Address, "LT-1"); err != nil {
		t.Errorf("the other one is refused, too: %v", err)
	}
}

// identityOf enrols a device, and gives what it signs in with.
func identityOf(t *testing.T, api *client.Client, device, serial string) endpoint.Identity {
	t.Helper()
	code := enrolmentCode(t, api, device)
	id, err := endpoint.Enrol(t.Context(), http.DefaultClient, api.Base, code, device, serial)
	if err != nil {
		t.Fatal(err)
	}
	return id
}
