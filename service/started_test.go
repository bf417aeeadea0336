// This file starts services on loopback, and enrols laptops.

package service_test

import (
	"context"
	"net/http"
	"path/filepath"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service"
)

const smallEstate = `{"units":[{"id":"r"}],"people":[{"id":"ines"}],
 "devices":[{"id":"LT-1","serial":"S1","os":"linux","os_version":"12","owner":"ines"},{"id":"LT-2","os":"linux","os_version":"12"}],
 "policies":[{"id":"p","kind":"security","settings":{"media.camera":false,"screen.lock_after_minutes":7,"signin.banner":"Larkfell <&>\n  here","signin.denied":["x","y"],"signin.hide_last_person":true},"audience":{"include":["everyone"]}}]}`

// started is a service with the small estate published.
func started(t testing.TB) *client.Client {
	t.Helper()
	api := bare(t)
	publishEstate(t, api, smallEstate)
	return api
}

// bare is a service with nothing in it yet.
func bare(t testing.TB) *client.Client {
	t.Helper()
	return over(t, filepath.Join(t.TempDir(), "z.db"))
}

// over is a service over a database.
func over(t testing.TB, database string) *client.Client {
	t.Helper()
	running := runningOver(t, database)
	return firstAdministrator(t, running.Address, running.SetupCode)
}

// again is a service over a database that has had one before, with its first administrator.
func again(t testing.TB, database string) *client.Client {
	t.Helper()
	api := &client.Client{Base: runningOver(t, database).Address}
	token, err := api.SignIn(context.Background(), "ines", "a password of tests", "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	api.Token = token.Secret
	return api
}

func runningOver(t testing.TB, database string) *service.Running {
	t.Helper()
	running, err := service.Start(service.Config{Address: "127.0.0.1:0", Database: database, Day: "2026-11-23", Secrets: secretsOf(t)})
	if err != nil {
		t.Fatal(err)
	}
	ctx, stop := context.WithCancel(context.Background())
	done := make(chan error, 1)
	go func() { done <- running.Wait(ctx) }()
	t.Cleanup(func() {
		stop()
		if err := <-done; err != nil && err != http.ErrServerClosed {
			t.Errorf("the service ended with %v", err)
		}
	})
	return running
}

// firstAdministrator sets up the first administrator of a service, and signs in.
func firstAdministrator(t testing.TB, address, code string) *client.Client {
	t.Helper()
	return firstAdministratorBy(t, nil, address, code)
}

func firstAdministratorBy(t testing.TB, caller *http.Client, address, code string) *client.Client {
	t.Helper()
	ctx, api := context.Background(), &client.Client{Base: address, HTTP: caller}
	if _, err := api.Call(
		ctx,
		http.MethodPost,
		"/setup",
		nil,
		wire.SetUp{Code: code, Name: "ines", Password: "a password of tests"},
		nil,
	); err != nil {
		t.Fatal(err)
	}
	token, err := api.SignIn(ctx, "ines", "a password of tests", "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	api.Token = token.Secret
	return api
}

func publishEstate(t testing.TB, api *client.Client, text string) {
	t.Helper()
	result, err := client.Post[wire.ImportResult](context.Background(), api, "/imports", []byte(text))
	if err == nil {
		_, err = client.Post[wire.Publication](context.Background(), api, client.Path("changes", result.Change, "publish"), nil)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// enrolled gives a laptop whose values are kept in memory.
func enrolled(t *testing.T, api *client.Client, device, serial string, b endpoint.Behaviour) (*endpoint.Laptop, *endpoint.Memory) {
	t.Helper()
	m := &endpoint.Memory{Behaviour: b}
	return endpoint.New(api.Base, http.DefaultClient, identityOf(t, api, device, serial), m), m
}

// enrolmentCode offers a device a code.
func enrolmentCode(t *testing.T, api *client.Client, device string) string {
	t.Helper()
	codes, err := client.Post[[]wire.EnrolmentCode](
		context.Background(),
		api,
		"/enrolment-codes",
		map[string]any{"devices": []string{device}},
	)
	if err != nil {
		t.Fatal(err)
	}
	return codes[0].Code
}

func deliveries(t *testing.T, api *client.Client, device string) map[string]wire.Delivery {
	t.Helper()
	page, err := client.Get[wire.DevicePage](context.Background(), api, "/devices/"+device, nil)
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]wire.Delivery{}
	for _, d := range page.Deliveries {
		out[d.Setting] = d
	}
	return out
}

func checkIn(t *testing.T, l *endpoint.Laptop) endpoint.Outcome {
	t.Helper()
	out, err := l.CheckIn(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	return out
}
