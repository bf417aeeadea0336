package service_test

import (
	"context"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// raw is JSON as it is.
type raw string

func (r raw) MarshalJSON() ([]byte, error) { return []byte(r), nil }

// refusedAs calls the API and wants a refusal of a status, whose fault names a path.
func refusedAs(t *testing.T, api *client.Client, method, path string, query url.Values, in any, status int, part string) {
	t.Helper()
	_, err := api.Call(context.Background(), method, path, query, in, nil)
	p, is := err.(*wire.Problem)
	if !is {
		t.Errorf("%s %s: %v, expected status %d", method, path, err, status)
		return
	}
	text := p.Detail
	for _, f := range p.Faults {
		text += " " + f.Error()
	}
	if p.Status != status || !strings.Contains(text, part) {
		t.Errorf("%s %s: %d %s, expected %d with %q", method, path, p.Status, text, status, part)
	}
}

// TestTheDictionaryOverTheAPI searches, filters, and looks a setting up beside a policy.
func TestTheDictionaryOverTheAPI(t *testing.T) {
	t.Parallel()
	api := started(t)
	ctx := context.Background()
	find := func(query url.Values) []string {
		t.Helper()
		page, err := client.Get[wire.Page[wire.Setting]](ctx, api, "/settings", query)
		if err != nil {
			t.Fatal(err)
		}
		var ids []string
		for _, s := range page.Items {
			ids = append(ids, s.ID)
		}
		return ids
	}
	if ids := find(url.Values{"q": {"copy to usb"}}); ids[0] != "media.usb_storage" {
		t.Errorf("found %v", ids)
	}
	if ids := find(url.Values{"area": {"trust"}}); len(ids) != 9 {
		t.Errorf("the area trust has %v", ids)
	}
	linux := find(url.Values{"q": {"sign in"}, "platform": {"linux"}})
	all := find(url.Values{"q": {"sign in"}})
	if len(linux) != len(all) {
		t.Errorf("%d settings with a platform, %d without: it only orders", len(linux), len(all))
	}
	for i, id := range linux {
		if id == "signin.undock" && i < len(linux)/2 {
			t.Errorf("a setting that linux lacks is number %d of %d", i+1, len(linux))
		}
	}
	areas, err := client.Get[[]string](ctx, api, "/areas", nil)
	if err != nil || len(areas) != 16 || areas[0] != "disk" {
		t.Errorf("the areas are %v %v", areas, err)
	}
	types, err := client.Get[[]wire.SettingType](ctx, api, "/setting-types", nil)
	var rules []string
	for _, t := range types {
		for _, c := range t.Combines {
			rules = append(rules, string(t.Type)+" "+string(c.Rule))
		}
	}
	if want := "bool closest, bool strictest, integer closest, integer strictest, text closest, choice closest, choice strictest, " +
		"list closest, list merge, list common, table closest, table merge, file closest"; err != nil || strings.Join(rules, ", ") != want {
		t.Errorf("types combine by %v %v, expected %s", rules, err, want)
	}
	use, err := client.Get[wire.SettingUse](ctx, api, "/settings/media.camera", url.Values{"policy": {"p"}})
	if err != nil || len(use.Elsewhere) != 0 || use.Devices != 2 || use.Combines == "" || use.NotKnown != 2 ||
		use.Support != "every platform with a camera" {
		t.Errorf("%+v %v", use, err)
	}
	whole, err := client.Get[wire.SettingUse](ctx, api, "/settings/applications.permissions", nil)
	if err != nil || whole.Lacking["platform"] != 2 || len(whole.Columns) != 5 || whole.Columns[1].Reads != "identifier" {
		t.Errorf("%+v %v", whole, err)
	}
	refusedAs(t, api, http.MethodGet, "/settings/no.such", nil, nil, 404, "no.such")
	refusedAs(t, api, http.MethodGet, "/settings/media.camera", url.Values{"policy": {"nobody"}}, nil, 404, "nobody")
	refusedAs(t, api, http.MethodGet, "/settings/media.camera", url.Values{"change": {"C-none"}}, nil, 404, "C-none")
	refusedAs(t, api, http.MethodGet, "/settings", url.Values{"q": {strings.Repeat("x", 300)}}, nil, 422, "200")
}

// TestAPolicysLifeOverTheAPI starts from a kit, tries, keeps, merges, splits, publishes, compares
// and summarises.
func TestAPolicysLifeOverTheAPI(t *testing.T) {
	t.Parallel()
	api := started(t)
	ctx := context.Background()
	kits, err := client.Get[[]files.KitDoc](ctx, api, "/kits", nil)
	if err != nil || len(kits) < 13 || kits[0].Settings["disk.encryption.required"].Note == "" {
		t.Fatalf("%d kits %v", len(kits), err)
	}
	doc := func(settings string) string {
		return `{"id":"q","title":"Quiet","kind":"security","why":"Ticket 9","settings":` + settings + `,"audience":{"include":["device:LT-1"]}}`
	}
	try := func(settings string) wire.Trial {
		t.Helper()
		trial, err := client.Post[wire.Trial](
			ctx,
			api,
			"/try",
			map[string]any{"edits": []any{map[string]any{"kind": "policies", "id": "q", "body": raw(doc(settings))}}},
		)
		if err != nil {
			t.Fatal(err)
		}
		return trial
	}
	wrong := try(`{"signin.automatic":true,"signin.automatic_account":"desk","screen.lock":false,"updates.preview":"early"}`)
	var kinds []string
	for _, f := range wrong.Use.Findings {
		kinds = append(kinds, f.Kind)
	}
	if strings.Join(kinds, " ") != "wrong-alone many-purposes" || wrong.Use.Findings[0].Devices != 1 ||
		len(wrong.Use.Findings[1].Purposes) != 2 {
		t.Errorf("found %v: %+v", kinds, wrong.Use.Findings)
	}
	if faulty := try(
		`{"system.nodes":[{"path":"./Device/{x}","format":"bool","value":"true"}]}`,
	); len(faulty.Faults) != 1 || faulty.Faults[0].Code != "bad-path" ||
		!strings.Contains(faulty.Faults[0].Found, "a brace is left in it") {
		t.Errorf("a brace in a path: %+v", faulty.Faults)
	}

	change, err := client.Post[wire.Change](ctx, api, "/changes", wire.NewChange{Title: "Quiet", Why: "asked for"})
	if err != nil {
		t.Fatal(err)
	}
	edits := client.Path("changes", change.ID, "edits", "policies", "q")
	if _, err := api.Call(ctx, http.MethodPut, edits, nil, []byte(doc(`{"media.camera":true,"updates.preview":"early"}`)), nil); err != nil {
		t.Fatal(err)
	}
	var merged wire.Merged
	_, err = api.Call(
		ctx,
		http.MethodPost,
		edits+"/merge",
		nil,
		map[string]any{"base": raw(doc(`{"media.camera":false}`)), "mine": raw(doc(`{"media.camera":false,"media.microphone":false}`))},
		&merged,
	)
	if err != nil || len(merged.Conflicts) != 0 || !strings.Contains(string(merged.Body), `"media.microphone":false`) ||
		!strings.Contains(string(merged.Body), `"updates.preview":"early"`) {
		t.Errorf("%s %+v %v", merged.Body, merged, err)
	}
	refusedAs(
		t,
		api,
		http.MethodPost,
		edits+"/merge",
		nil,
		map[string]any{"base": raw(`{"id":"q"}`), "mine": raw(doc(`{}`))},
		422,
		"missing-field",
	)
	refusedAs(
		t,
		api,
		http.MethodPost,
		client.Path("changes", change.ID, "edits", "policies", "nobody")+"/merge",
		nil,
		map[string]any{"base": raw(doc(`{}`)), "mine": raw(doc(`{}`))},
		404,
		"nobody",
	)
	split := client.Path("changes", change.ID, "split")
	refusedAs(
		t,
		api,
		http.MethodPost,
		split,
		nil,
		wire.Split{Policy: "q", NewID: "p", Settings: []string{"updates.preview"}},
		422,
		"an id that no policy has",
	)
	refusedAs(
		t,
		api,
		http.MethodPost,
		split,
		nil,
		wire.Split{Policy: "q", NewID: "r", Settings: []string{"signin.banner"}},
		422,
		"some of the policy's settings",
	)
	refusedAs(
		t,
		api,
		http.MethodPost,
		split,
		nil,
		wire.Split{Policy: "q", NewID: "not an id", Settings: []string{"updates.preview"}},
		422,
		"not an id",
	)
	if _, err := api.Call(
		ctx,
		http.MethodPost,
		split,
		nil,
		wire.Split{Policy: "q", NewID: "q-updates", Title: "Updates", Settings: []string{"updates.preview"}},
		nil,
	); err != nil {
		t.Fatal(err)
	}
	now, err := client.Get[wire.Change](ctx, api, client.Path("changes", change.ID), nil)
	if err != nil || len(now.Edits) != 2 {
		t.Fatalf("%+v %v", now, err)
	}
	if _, err := api.Call(ctx, http.MethodPost, client.Path("changes", change.ID, "publish"), nil, nil, nil); err != nil {
		t.Fatal(err)
	}

	history, err := client.Get[[]wire.PolicyVersion](ctx, api, "/policies/q/history", nil)
	if err != nil || len(history) != 1 || history[0].Why != "asked for" || history[0].By != "ines" {
		t.Errorf("%+v %v", history, err)
	}
	refusedAs(t, api, http.MethodGet, "/policies/q/differences", url.Values{"from": {"1"}, "to": {"9"}}, nil, 404, "9")
	refusedAs(t, api, http.MethodGet, "/policies/q/differences", url.Values{"from": {"1"}}, nil, 422, "to")
	refusedAs(t, api, http.MethodGet, "/policies/nobody/history", nil, nil, 404, "nobody")
	refusedAs(t, api, http.MethodGet, "/policies/nobody/summary", nil, nil, 404, "nobody")
	page, err := client.Get[wire.SummaryPage](ctx, api, "/policies/q/summary", nil)
	if err != nil || page.Title != "Quiet" || page.Blocks[0].Kind != "heading" || !strings.Contains(page.Markdown, "Ticket 9") {
		t.Errorf("%+v %v", page.Title, err)
	}
}

// TestReadersLook asks, as somebody who may look, for what may be looked at and for what may not.
func TestReadersLook(t *testing.T) {
	t.Parallel()
	api := started(t)
	reader := &client.Client{Base: api.Base, Token: readersToken(t, api)}
	for _, path := range []string{"/kits", "/areas", "/setting-types", "/settings/media.camera", "/policies/p/use", "/policies/p/history",
		"/policies/p/summary", "/devices/LT-1/capture", "/files"} {
		if _, err := reader.Call(context.Background(), http.MethodGet, path, nil, nil, nil); err != nil {
			t.Errorf("%s: %v", path, err)
		}
	}
	for path, in := range map[string]any{"/devices/LT-1/ask": nil, "/changes/C-x/split": wire.Split{Policy: "p", NewID: "q",
		Settings: []string{"x"}}, "/changes/C-x/edits/policies/p/merge": map[string]any{"base": raw(`{}`), "mine": raw(`{}`)}} {
		refusedAs(t, reader, http.MethodPost, path, nil, in, 403, "")
	}
	nobody := &client.Client{Base: api.Base}
	for _, path := range []string{"/kits", "/areas", "/setting-types", "/settings", "/policies/p/summary", "/devices/LT-1/capture"} {
		refusedAs(t, nobody, http.MethodGet, path, nil, nil, 401, "")
	}
}

// TestCapturingAnUnknownLaptop asks for what is not there.
func TestCapturingAnUnknownLaptop(t *testing.T) {
	t.Parallel()
	api := started(t)
	refusedAs(t, api, http.MethodGet, "/devices/LT-9/capture", nil, nil, 404, "LT-9")
	refusedAs(t, api, http.MethodPost, "/devices/LT-9/ask", nil, nil, 404, "LT-9")
}
