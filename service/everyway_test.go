// This file goes through every operation that the service describes, and asks it wrongly in every
// way: nothing may break, nothing may be stored, and every refusal must say what was found and what
// was expected.

package service_test

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"mime"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/formats/wire"
)

// described is what the tests read of the service's description of itself.
type described struct {
	Paths map[string]map[string]struct {
		OperationID string `json:"operationId"`
		Parameters  []struct {
			Name, In string
			Required bool
			Schema   struct {
				Type    any
				Minimum *float64
				Maximum *float64
				Enum    []any
			}
		}
		RequestBody *struct {
			Content map[string]any
		} `json:"requestBody"`
		Responses map[string]struct{ Content map[string]any }
	}
}

// operation is one way to ask the service.
type operation struct {
	method, path string
	body         string // its media type; empty: none
	numbers      []string
	choices      []string
	required     []string
	answers      map[string][]string // media types, by status
}

// describes fails where an answer is not one that the API document has.
func (o operation) describes(t *testing.T, status int, header http.Header) {
	t.Helper()
	kinds, known := o.answers[strconv.Itoa(status)]
	if !known {
		kinds, known = o.answers["default"]
	}
	kind, _, err := mime.ParseMediaType(header.Get("Content-Type"))
	if !known || len(kinds) > 0 && (err != nil || !slices.Contains(kinds, kind)) {
		t.Errorf("%s %s answers %d with %q; described are %v", o.method, o.path, status, header.Get("Content-Type"), o.answers)
	}
}

// operations lists what a service can be asked, by path and method, but for signing in and what
// never ends.
func operations(t testing.TB, api *client.Client) (out []operation) {
	t.Helper()
	doc := get[described](t, api, "/openapi.json")
	for path, methods := range doc.Paths {
		for method, o := range methods {
			one := operation{method: strings.ToUpper(method), path: strings.TrimPrefix(path, "/api/v1")}
			for _, p := range o.Parameters {
				if p.In != "query" {
					continue
				}
				kind := fmt.Sprint(p.Schema.Type)
				if strings.Contains(kind, "integer") {
					one.numbers = append(one.numbers, p.Name)
				}
				if len(p.Schema.Enum) > 0 {
					one.choices = append(one.choices, p.Name)
				}
				if p.Required {
					one.required = append(one.required, p.Name)
				}
			}
			one.answers = map[string][]string{}
			for status, answer := range o.Responses {
				one.answers[status] = slices.Sorted(maps.Keys(answer.Content))
			}
			if o.RequestBody != nil {
				for media := range o.RequestBody.Content {
					one.body = media
				}
			}
			if one.path != "/events" {
				out = append(out, one)
			}
		}
	}
	slices.SortFunc(out, func(a, b operation) int { return strings.Compare(a.path+a.method, b.path+b.method) })
	return out
}

// filled gives an operation's path with something that there is not in every place.
func (o operation) filled(with string) string {
	var out strings.Builder
	for i, part := range strings.Split(o.path, "/") {
		if i > 0 {
			out.WriteByte('/')
		}
		if strings.HasPrefix(part, "{") {
			part = with
			if strings.Contains(o.path, "/estate/{kind}") && strings.HasSuffix(out.String(), "/estate/") ||
				strings.HasSuffix(out.String(), "/edits/") {
				part = "policies"
			}
		}
		out.WriteString(part)
	}
	return out.String()
}

// wrongly asks as an administrator, and wants a refusal in the form of the others.
func wrongly(t *testing.T, api *client.Client, method, path, media, body string) (status int, p wire.Problem) {
	t.Helper()
	status, header, text := ask(t, method, api.Base+"/api/v1"+path, []byte(body), func(r *http.Request) {
		r.Header.Set("Authorization", "Bearer "+api.Token)
		r.Header.Set("Content-Type", media)
		if media == "" {
			r.Header.Del("Content-Type")
		}
	})
	what := fmt.Sprintf("%s %s with %.40q", method, path, body)
	if status >= 500 {
		t.Errorf("%s: status %d: %.300s", what, status, text)
	}
	if strings.Contains(text, "goroutine ") || strings.Contains(text, ".go:") || strings.Contains(text, "reflect.") ||
		strings.Contains(text, "panic") {
		t.Errorf("%s lets its insides be seen: %.300s", what, text)
	}
	if status < 400 {
		return status, p
	}
	if !strings.HasPrefix(header.Get("Content-Type"), "application/problem+json") {
		t.Errorf("%s is refused as %s: %.200s", what, header.Get("Content-Type"), text)
		return status, p
	}
	if err := json.Unmarshal([]byte(text), &p); err != nil || p.Status != status || p.Title == "" || p.Code == "" {
		t.Errorf("%s is refused with %.300s", what, text)
	}
	return status, p
}

// everything reads what a service has: whatever is stored shows in it.
func everything(t *testing.T, api *client.Client) string {
	t.Helper()
	var out bytes.Buffer
	for _, path := range []string{"/estate", "/changes", "/publications", "/sources", "/accounts", "/views?page=devices",
		"/conflict-questions", "/exception-requests", "/files", "/overview"} {
		fmt.Fprintln(&out, path, get[any](t, api, path))
	}
	return out.String()
}

func TestEveryOperationAskedWrongly(t *testing.T) {
	t.Parallel()
	api := started(t)
	all := operations(t, api)
	if len(all) < 90 {
		t.Fatalf("the service describes %d operations", len(all))
	}
	before := everything(t, api)
	bodies := map[string][]string{
		"application/json": {
			``,
			`{`,
			`[`,
			`nonsense`,
			`null`,
			`true`,
			`7`,
			`"text"`,
			`[]`,
			`[[[[`,
			"{\"a\":\xff}",
			`{"no_such_field": 1}`,
			`{"id": 7, "title": [], "edits": "x", "devices": {}, "name": {}, "policies": 3, "note": [1]}`,
			`{"edits": [{"kind": "no-such-kind", "id": "x", "body": {}}]}`,
			`{"edits": [{"kind": "policies", "id": "", "body": []}]}`,
			strings.Repeat(`{"a":`, 2000) + "1" + strings.Repeat("}", 2000),
			`{"a":1}{"b":2}`,
		},
		"text/csv":                 {"", "\xff\xfe\xff", "a,b\n\"open"},
		"application/octet-stream": {""},
	}
	for _, o := range all {
		path := o.filled("no-such-thing")
		for _, body := range bodies[o.body] {
			if status, p := wrongly(t, api, o.method, path, o.body, body); status >= 400 && len(p.Faults) == 0 && p.Detail == "" {
				t.Errorf("%s %s with %.40q: refused with %d %s, without a word of what was found", o.method, path, body, status, p.Title)
			}
		}
		if o.body == "" && o.method != http.MethodGet {
			wrongly(t, api, o.method, path, "", "")
		}
		if o.body == "application/json" {
			if status, _ := wrongly(t, api, o.method, path, "text/plain", `{}`); status < 400 && !strings.Contains(o.path, "/pause") {
				t.Errorf("%s %s takes plain text: status %d", o.method, path, status)
			}
		}
	}
	if after := everything(t, api); after != before {
		t.Errorf("something was stored:\n%s\nbefore\n%s", after, before)
	}
}

// TestEveryListAskedWrongly gives parameters what they don't take.
func TestEveryListAskedWrongly(t *testing.T) {
	t.Parallel()
	api := started(t)
	numbers, choices := 0, 0
	for _, o := range operations(t, api) {
		if o.method != http.MethodGet {
			continue
		}
		path := o.filled("no-such-thing")
		known := o.filled("LT-1")
		query := ""
		for _, name := range o.required {
			query += "&" + name + "=x"
		}
		for _, name := range o.numbers {
			numbers++
			for _, value := range []string{"-1", "x", "1.5", "99999999999999999999"} {
				if status, p := wrongly(
					t,
					api,
					o.method,
					path+"?"+name+"="+value+query,
					"",
					"",
				); status != http.StatusUnprocessableEntity && status != http.StatusBadRequest &&
					!(status == http.StatusNotFound && strings.Contains(path, "no-such")) {
					t.Errorf("%s?%s=%s: status %d %s", path, name, value, status, p.Title)
				}
			}
		}
		for _, name := range o.choices {
			choices++
			status, p := wrongly(t, api, o.method, known+"?"+name+"=no-such-choice"+query, "", "")
			if status != http.StatusUnprocessableEntity || !strings.Contains(fmt.Sprint(p.Detail, p.Faults), name) {
				t.Errorf("%s?%s=no-such-choice: status %d %s %v", known, name, status, p.Detail, p.Faults)
			}
		}
		for _, odd := range []string{"%00", "%2e%2e%2f", strings.Repeat("x", 3000), "%F0%9F%92%BB", "%FF", "a%20b", "'--"} {
			if strings.Contains(o.path, "{") {
				wrongly(t, api, o.method, o.filled(odd), "", "")
			}
		}
		wrongly(t, api, o.method, path+"?change=no-such-change"+query, "", "")
		wrongly(t, api, o.method, path+"?%FF=%FF&limit=&cursor=%00"+query, "", "")
	}
	if numbers < 10 || choices < 4 {
		t.Errorf("%d numbers and %d choices were found", numbers, choices)
	}
}

// TestEveryOperationNeedsRights asks everything as nobody, as somebody with a token that is none,
// and alters as a reader.
func TestEveryOperationNeedsRights(t *testing.T) {
	t.Parallel()
	api := started(t)
	reader := readersToken(t, api)
	open := []string{"/health", "/session", "/setup", "/ways-to-sign-in", "/session/passkey", "/session/passkey/options"}
	for _, o := range operations(t, api) {
		path := o.filled("LT-1")
		for _, secret := range []string{"", "Bearer ", "Bearer no-such-token", "Basic aW5lczphIHBhc3N3b3JkIG9mIHRlc3Rz", reader} {
			status, _, text := ask(t, o.method, api.Base+"/api/v1"+path, []byte(`{}`), func(r *http.Request) {
				r.Header.Set("Content-Type", "application/json")
				if secret != "" {
					r.Header.Set("Authorization", secret)
				}
			})
			if !slices.Contains(open, o.path) && status != http.StatusUnauthorized {
				t.Errorf("%s %s with %.12q: status %d %.200s", o.method, path, secret, status, text)
			}
		}
	}
	// What a reader may ask with a body alters nothing; all else is for administrators.
	before := everything(t, api)
	looks := &client.Client{Base: api.Base, Token: reader}
	refusedAll := 0
	for _, o := range operations(t, api) {
		if o.method == http.MethodGet || slices.Contains(open, o.path) {
			continue
		}
		status, _ := wrongly(t, looks, o.method, o.filled("LT-1"), o.body, `{}`)
		if status == http.StatusForbidden {
			refusedAll++
		}
	}
	if refusedAll < 30 {
		t.Errorf("%d operations are refused to a reader", refusedAll)
	}
	if after := everything(t, api); after != before {
		t.Errorf("a reader altered something:\n%s\nbefore\n%s", after, before)
	}
	if _, err := api.Call(context.Background(), http.MethodGet, "/session", nil, nil, nil); err != nil {
		t.Errorf("the administrator is no longer let in: %v", err)
	}
}

// TestRefusalsSayWhat asks for what the description does not allow, one thing at a time.
func TestRefusalsSayWhat(t *testing.T) {
	t.Parallel()
	api := started(t)
	for _, c := range []struct{ method, path, body, code, at, found, expected string }{
		{"GET", "/views", "", "missing-field", "/query/page", "nothing", "can't be left out"},
		{"GET", "/devices?limit=x", "", "wrong-type", "/query/limit", `"x"`, "integer"},
		{"GET", "/devices?limit=0", "", "wrong-type", "/query/limit", "a number", "number >= 1"},
		{"GET", "/units?depht=2", "", "unknown-field", "/query/depht", "a parameter that there is not", "documented"},
		{"POST", "/changes", `{"titel": "x"}`, "unknown-field", "/body/titel", "a field that there is not", "documented"},
		{"POST", "/changes", `{}`, "missing-field", "/body/title", "nothing", "can't be left out"},
		{"POST", "/changes", `{"title": ["a secret"]}`, "wrong-type", "/body/title", "a list", "string"},
		{"POST", "/changes", `{"title": {"a secret": 1}}`, "wrong-type", "/body/title", "an object", "string"},
		{"POST", "/changes", `{"title": true}`, "wrong-type", "/body/title", "true or false", "string"},
		{"POST", "/changes", `[]`, "wrong-type", "/body", "a list", "object"},
		{"POST", "/changes", `"a secret"`, "wrong-type", "/body", "a text", "object"},
		{"GET", "/access?right=everything&kind=policies&id=x", "", "not-one-of", "/query/right", `"everything"`, "publish"},
		{"POST", "/changes", `{"title": `, "syntax", "", "JSON", "documented form"},
	} {
		status, p := wrongly(t, api, c.method, c.path, "application/json", c.body)
		if status != http.StatusUnprocessableEntity && status != http.StatusBadRequest || len(p.Faults) == 0 {
			t.Errorf("%s %s with %s: status %d, %+v", c.method, c.path, c.body, status, p)
			continue
		}
		at := slices.IndexFunc(p.Faults, func(f problem.Fault) bool {
			return string(f.Code) == c.code && strings.HasPrefix(f.Path, c.at) && strings.Contains(f.Found, c.found) &&
				strings.Contains(f.Expected, c.expected)
		})
		if at < 0 {
			t.Errorf(
				"%s %s with %s: %+v, expected %s at %s: found %s; expected %s",
				c.method,
				c.path,
				c.body,
				p.Faults,
				c.code,
				c.at,
				c.found,
				c.expected,
			)
		}
		if strings.Contains(fmt.Sprint(p), "a secret") {
			t.Errorf("%s %s with %s: what was rejected is repeated: %+v", c.method, c.path, c.body, p)
		}
	}
}

// TestEstatesWithLittleInThem asks everything of a service without an estate, with units and people
// alone, and with laptops and no policy, and has a change in each that adds the next.
func TestEstatesWithLittleInThem(t *testing.T) {
	t.Parallel()
	api := bare(t)
	all := operations(t, api)
	lock := `{"id":"p","kind":"security","settings":{"screen.lock_after_minutes":5},"audience":{"include":["everyone"]}}`
	for i, next := range []string{
		`{"units":[{"id":"larkfell"}],"people":[{"id":"LT-1","name":"Ines"}]}`,
		`{"units":[{"id":"larkfell"}],"people":[{"id":"LT-1"}],"policies":[` + lock + `]}`,
		`{"units":[{"id":"larkfell"}],"people":[{"id":"LT-1"}],"groups":[{"id":"LT-1","of":"people","members":["LT-1"]}]}`,
		`{"units":[{"id":"larkfell"}],"devices":[{"id":"LT-1","os":"linux","os_version":"12"}]}`,
		`{"units":[{"id":"larkfell"}]}`,
	} {
		for _, o := range all {
			if o.method != http.MethodGet {
				continue
			}
			status, header, text := ask(t, o.method, api.Base+"/api/v1"+o.filled("LT-1"), nil, func(r *http.Request) {
				r.Header.Set("Authorization", "Bearer "+api.Token)
			})
			if o.describes(t, status, header); status >= 500 {
				t.Errorf("estate %d: %s is answered %d %.200s", i, o.path, status, text)
			}
		}
		draft := posted[wire.Change](t, api, "/changes", wire.NewChange{Title: "A first policy"})
		path := client.Path("changes", draft.ID, "edits", "policies", "another")
		body := strings.Replace(lock, `"p"`, `"another"`, 1)
		if _, err := api.Call(t.Context(), http.MethodPut, path, nil, []byte(body), nil); err != nil {
			t.Errorf("estate %d: %v", i, err)
		}
		get[json.RawMessage](t, api, client.Path("changes", draft.ID, "impact"))
		result := posted[wire.ImportResult](t, api, "/imports?retire_missing=true", json.RawMessage(next))
		get[json.RawMessage](t, api, client.Path("changes", result.Change, "impact"))
		posted[wire.Publication](t, api, client.Path("changes", result.Change, "publish"), nil)
	}
}
