package service_test

import (
	"net/http"
	"net/url"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

// The audit log is searched by person, action, object, change and time.
func TestTheAuditLogIsSearched(t *testing.T) {
	t.Parallel()
	api := started(t)
	change, err := client.Post[wire.Change](t.Context(), api, "/changes", wire.NewChange{Title: "Cameras"})
	if err != nil {
		t.Fatal(err)
	}
	policy := map[string]any{"id": "cameras", "kind": "security", "settings": map[string]any{}, "audience": map[string]any{}}
	if _, err := api.Call(
		t.Context(),
		http.MethodPut,
		client.Path("changes", change.ID, "edits", "policies", "cameras"),
		nil,
		policy,
		nil,
	); err != nil {
		t.Fatal(err)
	}
	search := func(query url.Values) []wire.AuditRecord {
		t.Helper()
		list, err := client.Get[[]wire.AuditRecord](t.Context(), api, "/audit", query)
		if err != nil {
			t.Fatal(err)
		}
		return list
	}
	later := time.Now().Add(time.Hour).UTC().Format(time.RFC3339)
	all := len(search(nil))
	for name, c := range map[string]struct {
		query url.Values
		count int // -1: all
	}{
		"the object":        {url.Values{"kind": {"policies"}, "object": {"cameras"}}, 1},
		"another object":    {url.Values{"kind": {"policies"}, "object": {"none"}}, 0},
		"the change":        {url.Values{"change": {change.ID}}, 2},
		"a part of actions": {url.Values{"action": {"open"}, "change": {change.ID}}, 1},
		"the person":        {url.Values{"by": {"ines"}, "change": {change.ID}}, 2},
		"another person":    {url.Values{"by": {"tomas"}}, 0},
		"from later on":     {url.Values{"since": {later}}, 0},
		"until later":       {url.Values{"until": {later}}, -1},
		"a percent sign":    {url.Values{"action": {"%"}}, 0},
	} {
		want := c.count
		if want < 0 {
			want = all
		}
		if got := search(c.query); len(got) != want {
			t.Errorf("%s: %d records, expected %d", name, len(got), want)
		}
	}
	if _, err := client.Get[[]wire.AuditRecord](
		t.Context(),
		api,
		"/audit",
		url.Values{"since": {"yesterday"}},
	); statusOf(err) != http.StatusUnprocessableEntity {
		t.Errorf("a moment that is none: %v", err)
	}
}
