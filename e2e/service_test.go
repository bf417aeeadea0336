package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
	"zenithridge.example/zridge/service/store"
)

// TestKilledWhilePublishing kills the service at many moments of a publication of the whole demo
// estate: the first time when it is done, which says how long one takes, then earlier and later.
// Each time the change is published whole or not at all, and the database is in order.
func TestKilledWhilePublishing(t *testing.T) {
	t.Parallel()
	whole, not := 0, 0
	var took time.Duration
	for round := range 10 {
		database := filepath.Join(t.TempDir(), "zridge.db")
		r := serve(t, database)
		api := r.admin()
		r.signIn()
		r.must("import", "../demo/estate")
		changes, err := client.Get[[]wire.Change](context.Background(), api, "/changes", nil)
		if err != nil {
			t.Fatal(err)
		}
		publish := func() {
			api.Call(context.Background(), http.MethodPost, client.Path("changes", changes[0].ID, "publish"), nil, nil, nil)
		}
		if round == 0 {
			began := time.Now()
			publish()
			took = time.Since(began)
			r.kill()
		} else {
			var done sync.WaitGroup
			done.Go(publish)
			<-time.After(took * time.Duration(round-1) / 7)
			r.kill()
			done.Wait()
		}

		s, err := store.Open(database)
		if err != nil {
			t.Fatal(err)
		}
		if err := s.CheckIntegrity(); err != nil {
			t.Error(err)
		}
		var objects int
		var err1 error
		for _, err := range s.Objects() {
			objects, err1 = objects+1, errors.Join(err1, err)
		}
		revision, err2 := s.Revision()
		change, err3 := s.Change(changes[0].ID)
		edits, err4 := s.Edits(changes[0].ID)
		if err := errors.Join(err1, err2, err3, err4, s.Close()); err != nil {
			t.Fatal(err)
		}
		switch {
		case revision == 1 && objects == len(edits) && change.State == "published":
			whole++
		case revision == 0 && objects == 0 && change.State == "open" && len(edits) > 500:
			not++
		default:
			t.Fatalf(
				"round %d: half published: revision %d, %d objects, change %s with %d edits",
				round,
				revision,
				objects,
				change.State,
				len(edits),
			)
		}
		again := serve(t, database)
		api = again.admin()
		if o, err := client.Get[wire.Overview](
			context.Background(),
			api,
			"/overview",
			nil,
		); err != nil || o.Revision != revision ||
			revision == 1 && o.Devices != 240 {
			t.Errorf("after the restart: %+v %v", o.Revision, err)
		}
		again.stop()
	}
	t.Logf("published whole %d times, not at all %d times", whole, not)
	if whole == 0 || not == 0 {
		t.Errorf("the moments were not spread over the publication: whole %d, not %d", whole, not)
	}
}

func call(t *testing.T, api *client.Client, method, path, body string, headers ...string) (*wire.Problem, http.Header) {
	t.Helper()
	var in any
	if body != "" {
		in = []byte(body)
	}
	header, err := api.Call(context.Background(), method, path, nil, in, nil, headers...)
	var p *wire.Problem
	if err != nil && !errors.As(err, &p) {
		t.Fatalf("%s %s: %v", method, path, err)
	}
	return p, header
}

const quietPolicy = `{"id":"p1","kind":"security","settings":{"media.camera":false},"audience":{"include":["unit:slipway"]}}`

func TestTwoChangesOfOneObject(t *testing.T) {
	t.Parallel()
	_, api := withDemo(t)
	ctx := context.Background()
	open := func(title string) wire.Change {
		c, err := client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: title})
		if err != nil {
			t.Fatal(err)
		}
		return c
	}
	put := func(c wire.Change, minutes int, headers ...string) (*wire.Problem, http.Header) {
		return call(
			t,
			api,
			http.MethodPut,
			client.Path("changes", c.ID, "edits", "policies", "harbour-desks"),
			fmt.Sprintf(
				`{"id":"harbour-desks","kind":"security","settings":{"screen.lock_after_minutes":%d},"audience":{"include":["unit:harbour-office"]}}`,
				minutes,
			),
			headers...)
	}
	a, b := open("first"), open("second")
	_, header := put(a, 3)
	if header.Get("ETag") != `"1"` {
		t.Errorf("the first edit has ETag %s", header.Get("ETag"))
	}
	if p, _ := put(a, 4); p == nil || p.Status != 428 {
		t.Errorf("an edit altered without If-Match: %+v", p)
	}
	if p, _ := put(a, 4, "If-Match", `"1"`); p != nil {
		t.Errorf("an edit altered with the right version: %+v", p)
	}
	if p, _ := put(a, 5, "If-Match", `"1"`); p == nil || p.Status != 412 || !strings.Contains(p.Detail, adminName) {
		t.Errorf("an edit altered with an old version: %+v", p)
	}
	if p, _ := put(a, 5, "If-Match", `one`); p == nil || p.Status != 422 {
		t.Errorf("a version that is none: %+v", p)
	}
	put(b, 7)
	publish := func(c wire.Change, headers ...string) *wire.Problem {
		p, _ := call(t, api, http.MethodPost, client.Path("changes", c.ID, "publish"), "", headers...)
		return p
	}
	if p := publish(b, "If-Match", `"1"`); p == nil || p.Status != 412 {
		t.Errorf("a change published that was altered since it was looked at: %+v", p)
	}
	if p := publish(b); p != nil {
		t.Fatalf("publishing: %+v", p)
	}
	p := publish(a)
	if p == nil || p.Status != 409 || len(p.Overtaken) != 1 || p.Overtaken[0].By != adminName || p.Overtaken[0].Change != b.ID {
		t.Fatalf("the other change was overtaken unnoticed: %+v", p)
	}
	if p, _ := call(t, api, http.MethodPost, client.Path("changes", a.ID, "edits", "policies", "harbour-desks", "rebase"), ""); p != nil {
		t.Fatal(p)
	}
	if p := publish(a); p != nil {
		t.Errorf("after somebody looked and said so: %+v", p)
	}
	if p := publish(a); p == nil || p.Status != 409 || !strings.Contains(p.Detail, "published") {
		t.Errorf("published twice: %+v", p)
	}
	versions, err := client.Get[[]wire.Object](ctx, api, "/estate/policies/harbour-desks/versions", nil)
	if err != nil || len(versions) != 3 || !strings.Contains(string(versions[1].Body), `"screen.lock_after_minutes":7`) {
		t.Errorf("versions: %v %v", versions, err)
	}
	// Retired, it stays in the estate and reaches nobody.
	c := open("third")
	if p, _ := call(t, api, http.MethodPost, client.Path("changes", c.ID, "edits", "policies", "harbour-desks", "retire"), ""); p != nil {
		t.Fatal(p)
	}
	if p, _ := call(
		t,
		api,
		http.MethodPost,
		client.Path("changes", c.ID, "edits", "groups", "finance", "retire"),
		"",
	); p == nil || p.Status != 422 ||
		!strings.Contains(p.Detail, "finance") {
		t.Errorf("a group retired that policies name: %+v", p)
	}
	if p := publish(c); p != nil {
		t.Fatal(p)
	}
	list, err := client.All[wire.Policy](ctx, api, "/policies", url.Values{"q": {"harbour-desks"}})
	if err != nil || len(list) != 1 || list[0].State != "retired" || list[0].Devices != 0 {
		t.Errorf("after retiring: %+v %v", list, err)
	}
	records, err := client.Get[[]wire.AuditRecord](ctx, api, "/audit", nil)
	if err != nil || records[0].Action != "publish" || records[1].Action != "publish: retire" || records[1].By != adminName ||
		records[1].Via != "cli" ||
		records[1].Before == "" {
		t.Errorf("the audit log says %+v %v", records[:2], err)
	}
}

func TestWhoMayDoWhat(t *testing.T) {
	t.Parallel()
	r, admin := withDemo(t)
	ctx := context.Background()
	if p, _ := call(
		t,
		admin,
		http.MethodPost,
		"/accounts",
		`{"name":"reader","password":"looks but does not touch","role":"reader","chosen":true}`,
	); p != nil {
		t.Fatal(p)
	}
	reader := &client.Client{Base: r.address}
	token, err := reader.SignIn(ctx, "reader", "looks but does not touch", "tests", 1)
	if err != nil {
		t.Fatal(err)
	}
	reader.Token = token.Secret
	stranger := &client.Client{Base: r.address}
	wrong := &client.Client{Base: r.address, Token: "zrt_made-up"}

	document, err := client.Get[json.RawMessage](ctx, admin, "/openapi.json", nil)
	if err != nil {
		t.Fatal(err)
	}
	doc, err := openapi3.NewLoader().LoadFromData(document)
	if err != nil {
		t.Fatal(err)
	}
	if err := doc.Validate(ctx); err != nil {
		t.Errorf("the API document is not valid: %v", err)
	}
	if !strings.HasPrefix(doc.OpenAPI, "3.1") {
		t.Errorf("the API document is of version %s", doc.OpenAPI)
	}
	public := map[string]bool{
		"GET /api/v1/health": true, "POST /api/v1/session": true, "POST /api/v1/setup": true, "GET /api/v1/ways-to-sign-in": true,
		"POST /api/v1/session/passkey": true, "POST /api/v1/session/passkey/options": true,
	}
	readersMay := map[string]bool{
		"POST /api/v1/try":           true,
		"POST /api/v1/tokens":        true,
		"DELETE /api/v1/tokens/{id}": true,
		"DELETE /api/v1/session":     true,
		// Asking stores nothing, or what is one's own: a view, a request that somebody else
		// decides.
		"POST /api/v1/audience":                       true,
		"POST /api/v1/impact":                         true,
		"POST /api/v1/impact/devices":                 true,
		"POST /api/v1/audience/paste":                 true,
		"POST /api/v1/audience/spread":                true,
		"POST /api/v1/groups/try":                     true,
		"POST /api/v1/devices/{id}/suppose":           true,
		"POST /api/v1/tables/preview":                 true,
		"POST /api/v1/views":                          true,
		"DELETE /api/v1/views/{id}":                   true,
		"POST /api/v1/exception-requests":             true,
		"DELETE /api/v1/exception-requests/{id}":      true,
		"POST /api/v1/conflict-questions/{id}/answer": true,
		"DELETE /api/v1/sessions/{id}":                true,
		"PUT /api/v1/password":                        true,
		"PUT /api/v1/session":                         true,
		"PUT /api/v1/second-factor":                   true,
		"POST /api/v1/passkeys":                       true,
		"POST /api/v1/rollout-plans/try":              true,
		"POST /api/v1/approval-rules/try":             true,
		"PUT /api/v1/announcements":                   true,
		// An owner may see the key of their laptop where a policy says so; the service's tests try who else may not.
		"POST /api/v1/key-requests":          true,
		"POST /api/v1/key-requests/{id}/key": true,
		// Whoever may read a change may ask about it. The rights over the change itself are
		// tested in the service.
		"POST /api/v1/changes/{id}/comments":                   true,
		"POST /api/v1/changes/{id}/comments/{comment}/resolve": true,
	}
	asked := 0
	for path, item := range doc.Paths.Map() {
		for method := range item.Operations() {
			name := method + " " + path
			if public[name] {
				continue
			}
			asked++
			// Paths of things that are not there: 401 and 403 come before 404 and 422.
			concrete := strings.TrimPrefix(
				strings.NewReplacer("{id}", "nothing", "{kind}", "policies", "{object}", "nothing", "{group}", "nothing", "{token}",
					"nothing", "{other}", "nothing", "{of}", "devices", "{comment}", "1").
					Replace(path),
				"/api/v1",
			)
			if strings.HasSuffix(path, "/events") {
				continue
			}
			for who, api := range map[string]*client.Client{"a stranger": stranger, "a wrong token": wrong} {
				if p, _ := call(t, api, method, concrete, "{}"); p == nil || p.Status != 401 {
					t.Errorf("%s as %s: %+v", name, who, p)
				}
			}
			p, _ := call(t, reader, method, concrete, "{}")
			if method != http.MethodGet && !readersMay[name] && (p == nil || p.Status != 403) {
				t.Errorf("%s as a reader: %+v", name, p)
			}
		}
	}
	if asked < 30 {
		t.Errorf("only %d operations are in the document", asked)
	}
	for _, path := range []string{"/openapi.json", "/no/such/thing", ""} {
		if p, _ := call(t, stranger, http.MethodGet, path, ""); p == nil || p.Status != 401 {
			t.Errorf("%s as a stranger: %+v", path, p)
		}
	}
	if p, _ := call(t, admin, http.MethodGet, "/no/such/thing", ""); p == nil || p.Status != 404 {
		t.Errorf("no such address: %+v", p)
	}
	if p, _ := call(t, reader, http.MethodGet, "/audit", ""); p == nil || p.Status != 403 {
		t.Errorf("the audit log as a reader: %+v", p)
	}
	if p, _ := call(
		t,
		reader,
		http.MethodPost,
		"/tokens",
		`{"name":"more","role":"administrator","days":1}`,
	); p == nil || p.Status != 403 ||
		p.Code != "by-token" {
		t.Errorf("a token made a token: %+v", p)
	}

	// Sign-in says nothing about what is wrong, and stops after too many tries.
	statuses := map[int]int{}
	for range 10 {
		p, _ := call(t, stranger, http.MethodPost, "/session", `{"name":"reader","password":"wrong wrong wrong"}`)
		statuses[p.Status]++
		if strings.Contains(p.Detail, "wrong wrong") {
			t.Error("a password is repeated")
		}
	}
	if statuses[401] != 8 || statuses[429] != 2 {
		t.Errorf("ten wrong passwords: %v", statuses)
	}
	if p, _ := call(
		t,
		stranger,
		http.MethodPost,
		"/setup",
		`{"code":"aaaa","name":"eve","password":"0123456789ab"}`,
	); p == nil ||
		p.Status != 401 {
		t.Errorf("a second first administrator: %+v", p)
	}
	// A revoked token no longer works.
	if p, _ := call(t, reader, http.MethodDelete, "/tokens/"+token.ID, ""); p != nil {
		t.Fatal(p)
	}
	if p, _ := call(t, reader, http.MethodGet, "/overview", ""); p == nil || p.Status != 401 {
		t.Errorf("a revoked token: %+v", p)
	}
	if text := r.log.String(); strings.Contains(text, adminPassword) || strings.Contains(text, admin.Token) {
		t.Error("the log holds a secret")
	}
}
