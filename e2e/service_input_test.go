// This file sends the service what it must refuse.

package e2e

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// TestBrowsersOfOthers tries what a page of another site would send with a signed-in browser's
// cookie.
func TestBrowsersOfOthers(t *testing.T) {
	t.Parallel()
	r := serve(t, filepath.Join(t.TempDir(), "zridge.db"))
	r.admin()
	answer, err := http.Post(
		r.address+"/api/v1/session",
		"application/json",
		strings.NewReader(`{"name":"`+adminName+`","password":"`+adminPassword+`"}`),
	)
	if err != nil {
		t.Fatal(err)
	}
	answer.Body.Close()
	cookie := answer.Cookies()[0]
	if !cookie.HttpOnly || cookie.SameSite != http.SameSiteStrictMode {
		t.Errorf("the cookie is %+v", cookie)
	}
	for header, value := range map[string]string{"Origin": "https://elsewhere.example", "Sec-Fetch-Site": "cross-site"} {
		q, _ := http.NewRequest(http.MethodPost, r.address+"/api/v1/changes", strings.NewReader(`{"title":"x"}`))
		q.AddCookie(cookie)
		q.Header.Set("Content-Type", "application/json")
		q.Header.Set(header, value)
		answer, err := http.DefaultClient.Do(q)
		if err != nil {
			t.Fatal(err)
		}
		answer.Body.Close()
		if answer.StatusCode != http.StatusForbidden {
			t.Errorf("with %s %s: %s", header, value, answer.Status)
		}
	}
	page, err := http.Get(r.address + "/devices/LT-0001")
	if err != nil {
		t.Fatal(err)
	}
	defer page.Body.Close()
	text, _ := io.ReadAll(page.Body)
	policy := page.Header.Get("Content-Security-Policy")
	if !strings.Contains(policy, "default-src 'self'") || strings.Contains(policy, "unsafe") || strings.Contains(string(text), "<style") ||
		strings.Contains(string(text), "onclick") {
		t.Errorf("the page's policy is %q", policy)
	}
}

func TestBadInputAtTheAPI(t *testing.T) {
	t.Parallel()
	r, api := withDemo(t)
	c, err := client.Post[wire.Change](context.Background(), api, "/changes", wire.NewChange{Title: "tries"})
	if err != nil {
		t.Fatal(err)
	}
	edit := client.Path("changes", c.ID, "edits", "policies", "p1")
	deep := strings.Repeat("[", 5000) + strings.Repeat("]", 5000)
	for name, q := range map[string]struct {
		method, path, body string
		status             int
		says               string
	}{
		"no JSON":    {http.MethodPut, edit, `{"id":`, 400, "unexpected end"},
		"empty body": {http.MethodPut, edit, ``, 400, "required"},
		"an unknown field": {http.MethodPut, edit, `{"id":"p1","kind":"security","settings":{},"audience":{},"colour":1}`,
			422, `1:58: unknown-field`},
		"another id": {http.MethodPut, edit, `{"id":"p2","kind":"security","settings":{},"audience":{}}`, 422, `found "p2"`},
		"an unknown setting": {http.MethodPut, edit, `{"id":"p1","kind":"security","settings":{"no.such":1},"audience":{}}`,
			422, `/policies/p1/settings/no.such`},
		"a value out of range": {http.MethodPut, edit,
			`{"id":"p1","kind":"security","settings":{"screen.lock_after_minutes":0},"audience":{}}`, 422, "from 1 to 1440"},
		"an unknown group": {http.MethodPut, edit,
			`{"id":"p1","kind":"security","settings":{},"audience":{"include":["group:nobody"]}}`, 422, "nobody"},
		"a condition that is no CEL": {http.MethodPut, edit,
			`{"id":"p1","kind":"security","settings":{},"audience":{"when":"device."}}`, 422, "bad-expression"},
		"nested deep":              {http.MethodPut, edit, deep, 422, "too-deep"},
		"a body of 2 MiB":          {http.MethodPut, edit, `{"id":"` + strings.Repeat("x", 2<<20) + `"}`, 413, ""},
		"an unknown kind":          {http.MethodPut, client.Path("changes", c.ID, "edits", "gadgets", "g"), `{}`, 422, ""},
		"people are not edited":    {http.MethodPut, client.Path("changes", c.ID, "edits", "people", "g"), `{}`, 422, ""},
		"no such change":           {http.MethodPut, client.Path("changes", "C-none", "edits", "policies", "p1"), quietPolicy, 404, "C-none"},
		"retire what is not there": {http.MethodPost, edit + "/retire", ``, 404, "p1"},
		"a change with no title":   {http.MethodPost, "/changes", `{"title":"  "}`, 422, "1 to 200"},
		"a title of another type":  {http.MethodPost, "/changes", `{"title":7}`, 422, ""},
		"publish nothing":          {http.MethodPost, client.Path("changes", c.ID, "publish"), ``, 422, "without edits"},
		"a cursor that is none":    {http.MethodGet, "/devices?cursor=%21", ``, 422, "cursor"},
		"a limit beyond":           {http.MethodGet, "/devices?limit=5000", ``, 422, "1000"},
		"an unknown query":         {http.MethodGet, "/devices?colour=blue", ``, 422, "colour"},
		"a state that is none":     {http.MethodGet, "/devices?state=sad", ``, 422, ""},
		"no such device":           {http.MethodGet, "/devices/LT-9999", ``, 404, "LT-9999"},
		"no such device resolved":  {http.MethodGet, "/effective?device=LT-9999", ``, 404, "LT-9999"},
		"an estate with a fault":   {http.MethodPost, "/imports", `{"units":[{"id":"a"},{"id":"b"}]}`, 422, "many-roots"},
		"codes for nobody":         {http.MethodPost, "/enrolment-codes", `{"devices":["LT-9999"]}`, 404, "LT-9999"},
		"another method":           {http.MethodPatch, "/overview", ``, 405, ""},
	} {
		p, header := call(t, api, q.method, q.path, q.body)
		if p == nil || p.Status != q.status || !strings.Contains(p.Detail+fmt.Sprint(p.Faults), q.says) {
			t.Errorf("%s: %+v, expected %d with %q", name, p, q.status, q.says)
			continue
		}
		if header.Get("Content-Type") != "application/problem+json" || p.Title == "" || strings.Contains(p.Detail, "goroutine") ||
			strings.Contains(p.Detail, ".go:") {
			t.Errorf("%s: the problem is %+v (%s)", name, p, header.Get("Content-Type"))
		}
	}
	after, err := client.Get[wire.Change](context.Background(), api, client.Path("changes", c.ID), nil)
	if err != nil || len(after.Edits) != 0 || after.Version != c.Version {
		t.Errorf("something was stored: %+v %v", after, err)
	}
	if strings.Contains(r.log.String(), "panic") {
		t.Errorf("the service's log says\n%s", r.log)
	}
}

// TestLiveUpdates reads the stream of events while a change is made.
func TestLiveUpdates(t *testing.T) {
	t.Parallel()
	_, api := withDemo(t)
	ctx, stop := context.WithTimeout(context.Background(), patience)
	defer stop()
	q, _ := http.NewRequestWithContext(ctx, http.MethodGet, api.Base+"/api/v1/events", nil)
	q.Header.Set("Authorization", "Bearer "+api.Token)
	answer, err := http.DefaultClient.Do(q)
	if err != nil {
		t.Fatal(err)
	}
	defer answer.Body.Close()
	if kind := answer.Header.Get("Content-Type"); !strings.HasPrefix(kind, "text/event-stream") {
		t.Fatalf("the stream is %s", kind)
	}
	seen := ""
	buffer := make([]byte, 4096)
	for !strings.Contains(seen, "event: alive") {
		n, err := answer.Body.Read(buffer)
		if seen += string(buffer[:n]); err != nil {
			t.Fatal(err)
		}
	}
	c, err := client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: "watched"})
	if err != nil {
		t.Fatal(err)
	}
	for !strings.Contains(seen, `"id":"`+c.ID+`"`) {
		n, err := answer.Body.Read(buffer)
		if seen += string(buffer[:n]); err != nil {
			t.Fatalf("%v after %s", err, seen)
		}
	}
}
