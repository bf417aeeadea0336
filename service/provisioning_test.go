// This file is a provisioning client that talks to a service over loopback.

package service_test

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// directorySecret is the password of the directory's reading account in tests.
const directorySecret = "chart-table-7"

func secretsOf(t testing.TB) string {
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "directory"), []byte(directorySecret+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	destinations := "# directories of tests\n127.0.0.1:* directory\nlocalhost:* directory\n127.0.0.1:* elsewhere\n" +
		"directory.larkfell.example:636 directory\n"
	if err := os.WriteFile(filepath.Join(folder, "destinations"), []byte(destinations), 0o600); err != nil {
		t.Fatal(err)
	}
	return folder
}

// until asks again at every event of the service until the answer is what is waited for.
func until[T any](t testing.TB, api *client.Client, path string, good func(T) bool) T {
	t.Helper()
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, api.Base+"/api/v1/events", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+api.Token)
	a, err := cmp.Or(api.HTTP, http.DefaultClient).Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer a.Body.Close()
	lines := bufio.NewScanner(a.Body)
	for {
		var v T
		_, err := api.Call(ctx, http.MethodGet, path, nil, nil, &v)
		var refused *wire.Problem
		if err != nil && !(errors.As(err, &refused) && refused.Status == http.StatusNotFound) {
			t.Fatal(err)
		}
		if err == nil && good(v) {
			return v
		}
		for lines.Scan() && !strings.HasPrefix(lines.Text(), "data:") {
		}
		if lines.Err() != nil {
			t.Fatal(lines.Err())
		}
	}
}

// posted does something that must succeed.
func posted[T any](t testing.TB, api *client.Client, path string, in any) T {
	t.Helper()
	out, err := client.Post[T](context.Background(), api, path, in)
	if err != nil {
		t.Fatalf("%s: %v", path, err)
	}
	return out
}

// get asks for something that must be there.
func get[T any](t testing.TB, api *client.Client, path string) T {
	t.Helper()
	out, err := client.Get[T](context.Background(), api, path, nil)
	if err != nil {
		t.Fatalf("%s: %v", path, err)
	}
	return out
}

// waiting reads a source and gives the run that waits to be taken, or that failed.
func waiting(t testing.TB, api *client.Client, id, way string) wire.SourceRun {
	t.Helper()
	begun := posted[wire.SourceRun](t, api, "/sources/"+id+"/runs", wire.ReadSource{Way: way, Look: true})
	s := until(t, api, "/sources/"+id, func(s wire.Source) bool {
		return s.Running != nil && s.Running.State == "waiting" ||
			s.Running == nil && len(s.Runs) > 0 && !s.Runs[0].StartedAt.Before(begun.StartedAt)
	})
	if s.Running != nil {
		return *s.Running
	}
	return s.Runs[0]
}

// taken reads a source and takes what it has.
func taken(t testing.TB, api *client.Client, id, way string) wire.SourceRun {
	t.Helper()
	if run := waiting(t, api, id, way); run.State != "waiting" {
		t.Fatalf("the run is %s: %+v", run.State, run.Report)
	}
	return posted[wire.SourceRun](t, api, "/sources/"+id+"/take", nil)
}

// provisioner is a client that provisions over SCIM.
type provisioner struct {
	t     testing.TB
	base  string
	token string
}

// answered is an answer of the service to a provisioner.
type answered struct {
	status int
	header http.Header
	body   map[string]any
}

func (p *provisioner) call(method, path, body string, headers ...string) answered {
	p.t.Helper()
	r, err := http.NewRequest(method, p.base+"/scim/v2"+path, strings.NewReader(body))
	if err != nil {
		p.t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+p.token)
	r.Header.Set("Content-Type", "application/scim+json")
	for i := 0; i+1 < len(headers); i += 2 {
		r.Header.Set(headers[i], headers[i+1])
	}
	a, err := http.DefaultClient.Do(r)
	if err != nil {
		p.t.Fatal(err)
	}
	defer a.Body.Close()
	data, err := io.ReadAll(a.Body)
	if err != nil {
		p.t.Fatal(err)
	}
	out := answered{status: a.StatusCode, header: a.Header}
	if len(data) > 0 {
		if kind := a.Header.Get("Content-Type"); !strings.HasPrefix(kind, "application/scim+json") {
			p.t.Errorf("%s %s: answered as %s", method, path, kind)
		}
		if err := json.Unmarshal(data, &out.body); err != nil {
			p.t.Fatalf("%s %s: %v in %s", method, path, err, data)
		}
	}
	return out
}

// must calls and wants a status.
func (p *provisioner) must(status int, method, path, body string, headers ...string) answered {
	p.t.Helper()
	a := p.call(method, path, body, headers...)
	if a.status != status {
		p.t.Fatalf("%s %s %s: %d %v, expected %d", method, path, body, a.status, a.body, status)
	}
	return a
}

// at gives what stands at a path of keys and places.
func (a answered) at(path ...any) any {
	var v any = a.body
	for _, key := range path {
		switch k := key.(type) {
		case string:
			m, _ := v.(map[string]any)
			v = m[k]
		case int:
			list, _ := v.([]any)
			if k >= len(list) {
				return nil
			}
			v = list[k]
		}
	}
	return v
}

func (a answered) id() string { return fmt.Sprint(a.at("id")) }

const hrSource = `{"id":"hr","kind":"scim","title":"HR","set_up":{"scim":{"unit":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:organization",
 "attributes":{"title":"title","department":"urn:ietf:params:scim:schemas:extension:enterprise:2.0:User:department"}}}}`

// provisioned is a service with a SCIM source of which nothing was taken yet.
func provisioned(t testing.TB) (*client.Client, *provisioner) {
	t.Helper()
	api := started(t)
	posted[wire.Source](t, api, "/sources", []byte(hrSource))
	token := posted[wire.SourceToken](t, api, "/sources/hr/tokens", wire.NewSourceToken{Name: "client"})
	return api, &provisioner{t, api.Base, token.Secret}
}

func user(name string, more ...string) string {
	return fmt.Sprintf(
		`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User","urn:ietf:params:scim:schemas:extension:enterprise:2.0:User"],"userName":%q%s}`,
		name,
		strings.Join(append([]string{""}, more...), ","),
	)
}

func group(name string, members ...string) string {
	list := make([]string, len(members))
	for i, m := range members {
		list[i] = fmt.Sprintf(`{"value":%q}`, m)
	}
	return fmt.Sprintf(
		`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:Group"],"displayName":%q,"members":[%s]}`,
		name,
		strings.Join(list, ","),
	)
}

func patch(operations string) string {
	return `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[` + operations + `]}`
}

// BenchmarkProvisioning provisions 10,000 users and 500 groups, with four connections, and waits
// until all are in the estate.
func BenchmarkProvisioning(b *testing.B) {
	for b.Loop() {
		api, p := provisioned(b)
		p.must(http.StatusCreated, "POST", "/Users", user("first"))
		taken(b, api, "hr", "full")
		const users, groups, connections = 10_000, 500, 4
		ids := make([]string, users)
		parallel := func(n int, do func(i int)) {
			var wait sync.WaitGroup
			for c := range connections {
				wait.Go(func() {
					for i := c; i < n; i += connections {
						do(i)
					}
				})
			}
			wait.Wait()
		}
		parallel(users, func(i int) {
			ids[i] = p.must(http.StatusCreated, "POST", "/Users",
				user(fmt.Sprintf("person.%d", i), fmt.Sprintf(`"displayName":"Person","emails":[{"value":"p%d@larkfell.example","type":"work"}],"title":"Surveyor"`, i))).
				id()
		})
		parallel(groups, func(i int) {
			members := make([]string, 20)
			for m := range members {
				members[m] = ids[(i*20+m)%users]
			}
			p.must(http.StatusCreated, "POST", "/Groups", group(fmt.Sprintf("group %d", i), members...))
		})
		until(b, api, "/sources/hr", func(s wire.Source) bool {
			here := 0
			for _, c := range s.Counts {
				here += c.Here
			}
			return here == users+groups+1
		})
		until(b, api, "/overview", func(o wire.Overview) bool { return o.People == users+2 })
	}
}
