package service_test

import (
	"encoding/json"
	"io"
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/wire"
)

// Everything outside of the unit harbour has "zzsecret" in its texts and "zz-" in its ids.
const twoPlaces = `{
 "units":[{"id":"larkfell","title":"Larkfell"},{"id":"harbour","title":"Harbour","parent":"larkfell"},{"id":"pier","title":"Pier","parent":"harbour"},
  {"id":"zz-lab","title":"zzsecret lab","parent":"larkfell","detach":["configuration"]}],
 "people":[{"id":"ines","name":"Ines","unit":"pier"},{"id":"zz-ruth","name":"zzsecret Ruth","mail":"zzsecret@larkfell.example","unit":"zz-lab"}],
 "groups":[{"id":"crew","title":"Crew","of":"people","members":["ines","zz-ruth"]},
  {"id":"zz-crew","title":"zzsecret crew","of":"people","members":["zz-ruth"]},
  {"id":"zz-desks","title":"zzsecret desks","of":"devices","rule":"device.id.startsWith(\"zz\")"}],
 "devices":[{"id":"LT-1","serial":"S1","os":"linux","os_version":"12","owner":"ines"},
  {"id":"zz-LT","serial":"zzsecret-serial","os":"linux","os_version":"12","owner":"zz-ruth","facts":{"site":"zzsecret site"}}],
 "policies":[{"id":"house","kind":"security","settings":{"media.camera":false,"screen.lock_after_minutes":5},"audience":{"include":["group:crew"],"exclude":["device:zz-LT","unit:zz-lab"]}},
  {"id":"zz-policy","title":"zzsecret policy","why":"zzsecret","kind":"security","settings":{"media.microphone":false,"signin.banner":"zzsecret banner"},
   "audience":{"include":["unit:zz-lab"]}},
  {"id":"zz-other","title":"zzsecret other","kind":"security","settings":{"signin.banner":"zzsecret second"},"audience":{"include":["unit:zz-lab"]}}],
 "exceptions":[{"id":"zz-exception","setting":"media.camera","target":"device:zz-LT","value":true,"until":"2026-12-31","reason":"zzsecret reason",
  "approved_by":"x","approved_on":"2026-11-01"}]}`

var parameter = regexp.MustCompile(`\{([^}]+)\}`)

// TestReadingForOneUnit reads everything that the API has as somebody who may read for one unit
// alone, by the ids of what is theirs and of what is not. Nothing of what is elsewhere is in any
// answer.
func TestReadingForOneUnit(t *testing.T) {
	t.Parallel()
	api := bare(t)
	publishEstate(t, api, twoPlaces)
	noor := granted(t, api, "noor", wire.NewGrant{Role: "author", Unit: "harbour"}, wire.NewGrant{Role: "service-desk", Unit: "harbour"})

	// Something happens in both places.
	for device, serial := range map[string]string{"LT-1": "S1", "zz-LT": "zzsecret-serial"} {
		id := identityOf(t, api, device, serial)
		if _, err := endpoint.New(api.Base, http.DefaultClient, id, &endpoint.Memory{}).CheckIn(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	change := posted[wire.Change](t, api, "/changes", wire.NewChange{Title: "Both places"})
	for id, body := range map[string]string{
		"house":     `{"id":"house","kind":"security","settings":{"media.camera":true},"audience":{"include":["group:crew"],"exclude":["person:zz-ruth"]}}`,
		"zz-policy": `{"id":"zz-policy","title":"zzsecret policy","kind":"security","settings":{"media.microphone":true},"audience":{"include":["unit:zz-lab"]}}`,
	} {
		if _, err := api.Call(t.Context(), http.MethodPut, client.Path("changes", change.ID, "edits", "policies", id), nil,
			[]byte(body), nil); err != nil {
			t.Fatal(err)
		}
	}
	for id, target := range map[string]string{"EX-1": "device:LT-1", "zz-EX": "device:zz-LT"} {
		reason := map[string]string{"EX-1": "for a while", "zz-EX": "zzsecret"}[id]
		posted[wire.ExceptionRequest](t, api, "/exception-requests", map[string]any{"setting": "media.camera", "target": target,
			"value": true, "until": "2026-12-20", "reason": reason})
	}
	conflict := wire.AskOwners{Setting: "signin.banner", Policies: []string{"zz-other", "zz-policy"}, Of: []string{"x"},
		Note: "zzsecret question"}
	posted[wire.Question](t, api, "/conflict-questions", conflict)

	posted[wire.Comment](t, api, client.Path("changes", change.ID, "comments"), wire.NewComment{Text: "zzsecret comment",
		About: "policies/zz-policy"})

	texts := readEverything(t, noor, change.ID)
	if len(texts) < 80 {
		t.Errorf("%d answers were read", len(texts))
	}
	for path, text := range texts {
		if at := strings.Index(text, "zzsecret"); at >= 0 {
			t.Errorf("%s tells what is elsewhere: …%s…", path, text[max(0, at-200):min(len(text), at+60)])
		}
		if at := strings.Index(text, "zz-"); at >= 0 && !strings.Contains(path, "zz-") {
			t.Errorf("%s names what is elsewhere: …%s…", path, text[max(0, at-200):min(len(text), at+60)])
		}
	}

	// What is theirs is there, and what is hidden is counted.
	if page := get[wire.Page[wire.Device]](t, noor, "/devices"); page.Total != 1 || page.Items[0].ID != "LT-1" {
		t.Errorf("laptops: %+v", page)
	}
	if is := get[wire.Change](t, noor, client.Path("changes", change.ID)); len(is.Edits) != 1 || is.Edits[0].ID != "house" ||
		is.HiddenEdits != 1 {
		t.Errorf("the change has %+v, %d hidden", is.Edits, is.HiddenEdits)
	}
	if impact := get[wire.Impact](t, noor, client.Path("changes", change.ID, "impact")); impact.Estate != 1 || impact.Devices != 1 {
		t.Errorf("the change gives %d of %d laptops something else, expected 1 of 1", impact.Devices, impact.Estate)
	}
	whole := get[wire.Impact](t, api, client.Path("changes", change.ID, "impact"))
	if whole.Estate != 2 || whole.Devices != 2 { // the laptop elsewhere gets another microphone
		t.Errorf("for whoever may read everything it gives %d of %d laptops something else", whole.Devices, whole.Estate)
	}
	if page := get[wire.DevicePage](t, noor, "/devices/LT-1"); len(page.Effective.Settings) != 2 {
		t.Errorf("the laptop gets %+v", page.Effective.Settings)
	}
	for _, path := range []string{"/devices/zz-LT", "/people/zz-ruth", "/estate/policies/zz-policy", "/policies/zz-policy/history",
		"/groups/zz-crew"} {
		if _, err := client.Get[any](t.Context(), noor, path, nil); statusOf(err) != http.StatusNotFound {
			t.Errorf("%s: %v", path, err)
		}
	}
}

// TestReadingForAUnitWithoutLaptops reads everything as somebody whose unit has nobody and nothing,
// and tries a policy for it.
func TestReadingForAUnitWithoutLaptops(t *testing.T) {
	t.Parallel()
	api, as := scoped(t)
	change := posted[wire.Change](t, api, "/changes", wire.NewChange{Title: "An attic"})
	path := client.Path("changes", change.ID, "edits", "units", "attic")
	if _, err := api.Call(t.Context(), http.MethodPut, path, nil, []byte(`{"id":"attic","parent":"fleet"}`), nil); err != nil {
		t.Fatal(err)
	}
	posted[wire.Publication](t, api, client.Path("changes", change.ID, "publish"), nil)
	noor := as("noor", wire.NewGrant{Role: "author", Unit: "attic"})
	if texts := readEverything(t, noor, change.ID); len(texts) < 60 {
		t.Errorf("%d answers were read", len(texts))
	}
	if page := get[wire.Page[wire.Device]](t, noor, "/devices"); page.Total != 0 {
		t.Errorf("%d laptops are seen", page.Total)
	}
	own := posted[wire.Change](t, noor, "/changes", wire.NewChange{Title: "Dark"})
	policy := `{"id":"dark","kind":"security","within":"attic","settings":{"screen.lock_after_minutes":3},"audience":{"include":["unit:attic"]}}`
	if _, err := noor.Call(t.Context(), http.MethodPut, client.Path("changes", own.ID, "edits", "policies", "dark"), nil,
		[]byte(policy), nil); err != nil {
		t.Fatal(err)
	}
	if impact := get[wire.Impact](t, noor, client.Path("changes", own.ID, "impact")); impact.Estate != 0 || impact.Devices != 0 {
		t.Errorf("the policy gives %d of %d laptops something else", impact.Devices, impact.Estate)
	}
}

// readEverything calls every operation of the API that reads, with ids of both places, and gives
// the answers by path.
func readEverything(t *testing.T, api *client.Client, change string) map[string]string {
	t.Helper()
	var document struct {
		Paths map[string]map[string]struct {
			Parameters []struct {
				Name, In string
				Required bool
			}
		}
	}
	fetch := func(path string) (int, string) {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, api.Base+path, nil)
		if err != nil {
			t.Fatal(err)
		}
		request.Header.Set("Authorization", "Bearer "+api.Token)
		answer, err := http.DefaultClient.Do(request)
		if err != nil {
			t.Fatal(err)
		}
		defer answer.Body.Close()
		text, err := io.ReadAll(answer.Body)
		if err != nil {
			t.Fatal(err)
		}
		return answer.StatusCode, string(text)
	}
	_, text := fetch("/api/v1/openapi.json")
	if err := json.Unmarshal([]byte(text), &document); err != nil {
		t.Fatal(err)
	}
	values := map[string][]string{
		"kind": {"units", "people", "devices", "groups", "policies", "exceptions", "settings"},
		"id": {"LT-1", "zz-LT", "ines", "zz-ruth", "crew", "zz-crew", "zz-desks", "house", "zz-policy", "harbour", "zz-lab",
			"zz-exception", "media.camera", "signin.banner", change},
		"change": {change},
		"place":  {"unit:harbour", "unit:zz-lab", "group:crew", "group:zz-crew"},
		"unit":   {"harbour", "zz-lab", "larkfell"},
		"group":  {"crew", "zz-crew"},
		"other":  {"zz-LT", "LT-1"},
		"policy": {"house", "zz-policy"},
	}
	texts := map[string]string{}
	for path, operations := range document.Paths {
		read, reads := operations["get"]
		if !reads || path == "/api/v1/events" {
			continue
		}
		paths := []string{path}
		for _, name := range parameter.FindAllStringSubmatch(path, -1) {
			var next []string
			for _, p := range paths {
				for _, v := range cmpOr(values[name[1]], values["id"]) {
					next = append(next, strings.Replace(p, name[0], url.PathEscape(v), 1))
				}
			}
			paths = next
		}
		for _, p := range slices.Clone(paths) {
			for _, q := range read.Parameters {
				if q.In != "query" {
					continue
				}
				for _, v := range values[q.Name] {
					paths = append(paths, p+"?"+q.Name+"="+url.QueryEscape(v))
				}
				if q.Name == "q" {
					paths = append(paths, p+"?q=zz")
				}
			}
		}
		for _, p := range paths {
			if status, text := fetch(p); status < 500 {
				if status < 400 {
					texts[p] = text
				} else if strings.Contains(text, "zzsecret") {
					t.Errorf("%s is refused with %s", p, text)
				}
			} else {
				t.Errorf("%s: %d %s", p, status, text)
			}
		}
	}
	return texts
}

func cmpOr[T any](a, b []T) []T {
	if len(a) > 0 {
		return a
	}
	return b
}
