// This file asks over HTTP what edits would do, for the laptops behind the numbers and for reports,
// and watches conflicts arise.

package service_test

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"reflect"
	"slices"
	"strings"
	"testing"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/formats/wire"
)

const clashing = `{"units":[{"id":"r","title":"Larkfell"},{"id":"fleet","parent":"r","title":"Survey fleet"}],"people":[{"id":"ines","name":"Ines Okafor"}],
 "devices":[{"id":"LT-1","serial":"S1","os":"linux","os_version":"12","owner":"ines","unit":"fleet"},{"id":"LT-2","os":"linux","os_version":"12"},{"id":"LT-3","os":"linux","os_version":"13"}],
 "groups":[{"id":"new","of":"devices","rule":"device.os_version.atLeast(\"13\")"},{"id":"field","of":"devices","rule":"device.ram_gb >= 32"}],
 "policies":[
  {"id":"house","title":"House rules","kind":"security","settings":{"screen.lock_after_minutes":7,"signin.banner":"House"},"audience":{"include":["everyone"]}},
  {"id":"a","kind":"security","settings":{"signin.banner":"A"},"audience":{"include":["group:new"]}},
  {"id":"b","kind":"security","settings":{"signin.banner":"B"},"audience":{"include":["group:field"]}}]}`

func edit(kind, id, body string) map[string]any {
	return map[string]any{"kind": kind, "id": id, "body": json.RawMessage(body)}
}

// tried asks what edits would do.
func tried(t *testing.T, api *client.Client, edits ...any) wire.Impact {
	t.Helper()
	return posted[wire.Impact](t, api, "/impact", map[string]any{"edits": edits})
}

// behind asks for the laptops behind a number.
func behind(t *testing.T, api *client.Client, part string, edits ...any) string {
	t.Helper()
	var page wire.Page[wire.ImpactDevice]
	if _, err := api.Call(
		context.Background(),
		http.MethodPost,
		"/impact/devices",
		url.Values{"part": {part}},
		map[string]any{"edits": edits},
		&page,
	); err != nil {
		t.Fatalf("%s: %v", part, err)
	}
	var ids []string
	for _, d := range page.Items {
		ids = append(ids, d.ID)
	}
	return strings.Join(ids, " ")
}

func TestEveryNumberHasItsLaptops(t *testing.T) {
	t.Parallel()
	api := bare(t)
	publishEstate(t, api, clashing)
	house := edit(
		"policies",
		"house",
		`{"id":"house","title":"House rules","kind":"security","settings":{"screen.lock_after_minutes":20,"signin.banner":"House"},"audience":{"include":["everyone"],"exclude":["device:LT-2"]}}`,
	)
	b := edit(
		"policies",
		"b",
		`{"id":"b","kind":"security","settings":{"signin.banner":"B"},"audience":{"include":["group:field","group:new"]}}`,
	)
	got := tried(t, api, house, b)
	if got.Devices != 3 || got.Estate != 3 || got.Weaker != 3 || len(got.ConflictsGained) != 1 || got.Ways != len(got.Transitions) ||
		len(got.Units) != 2 ||
		got.Units[0].Devices != 2 {
		t.Fatalf("the impact is %+v", got)
	}
	if !got.Transitions[0].Weaker {
		t.Errorf("weaker values do not come first: %+v", got.Transitions[0])
	}
	for part, want := range map[string]string{
		"devices": "LT-1 LT-2 LT-3", "weaker": "LT-1 LT-2 LT-3", "restart": "", "irreversible": "", "reach-cleared:house": "LT-2",
		"reach-gained:b": "LT-3", got.ConflictsGained[0].Part: "LT-3",
	} {
		if ids := behind(t, api, part, house, b); ids != want {
			t.Errorf("%s is %q, expected %q", part, ids, want)
		}
	}
	for _, x := range got.Transitions {
		ids := strings.Fields(behind(t, api, x.Part, house, b))
		if len(ids) != x.DeviceCount || !slices.Equal(ids, x.Devices) {
			t.Errorf("%s has %v, and %v behind its number %d", x.Setting, x.Devices, ids, x.DeviceCount)
		}
	}
	_, err := api.Call(
		context.Background(),
		http.MethodPost,
		"/impact/devices",
		url.Values{"part": {"alters-0"}},
		map[string]any{"edits": []any{house}},
		nil,
	)
	if p := refused(t, err); p.Status != 404 || !strings.Contains(p.Detail, "alters-0") {
		t.Errorf("a part that is not there: %+v", p)
	}
	if faults := tried(
		t,
		api,
		edit("policies", "b", `{"id":"b","kind":"security","settings":{"signin.banner":3},"audience":{}}`),
	).Faults; len(faults) != 1 ||
		!strings.Contains(faults[0].Path, "signin.banner") {
		t.Errorf("an edit with a fault: %v", faults)
	}
	if nothing := tried(
		t,
		api,
		edit("rulings", "r1", `{"id":"r1","setting":"signin.banner","prefer":"a","over":"b","reason":"x"}`),
	); nothing.Devices != 0 ||
		nothing.Transitions == nil {
		t.Errorf("a ruling where nobody conflicts: %+v", nothing)
	}
}

func refused(t *testing.T, err error) *wire.Problem {
	t.Helper()
	p, is := err.(*wire.Problem)
	if !is {
		t.Fatalf("it was not refused: %v", err)
	}
	return p
}

func TestTheReportOfAChange(t *testing.T) {
	t.Parallel()
	api := bare(t)
	publishEstate(t, api, clashing)
	c := posted[wire.Change](t, api, "/changes", wire.NewChange{Title: "Lock later", Why: "The bridge asked for it"})
	if _, err := api.Call(
		context.Background(),
		http.MethodPut,
		client.Path("changes", c.ID, "edits", "policies", "house"),
		nil,
		[]byte(
			`{"id":"house","title":"House rules","kind":"security","settings":{"screen.lock_after_minutes":20,"signin.banner":"a <b> & c"},"audience":{"include":["everyone"]}}`,
		),
		nil,
	); err != nil {
		t.Fatal(err)
	}
	form := func(of string) string {
		var text []byte
		if _, err := api.Call(
			context.Background(),
			http.MethodGet,
			client.Path("changes", c.ID, "impact", "report"),
			url.Values{"format": {of}},
			nil,
			&text,
		); err != nil {
			t.Fatalf("%s: %v", of, err)
		}
		return string(text)
	}
	for _, says := range []string{"# What “Lock later” does", "The bridge asked for it", "3 laptops of 3 get " +
		"something else.", "get a weaker value", "Survey fleet 1", "| weaker"} {
		if text := form("markdown"); !strings.Contains(text, says) {
			t.Errorf("the Markdown does not say %q:\n%s", says, text)
		}
	}
	if text := form("html"); !strings.Contains(text, "a &lt;b&gt; &amp; c") || strings.Contains(text, "<b> &") {
		t.Errorf("the page does not escape values: %s", text)
	}
	rows, err := csv.NewReader(strings.NewReader(form("csv"))).ReadAll()
	if err != nil || len(rows) != 1+3+2 || rows[1][0] != "screen.lock_after_minutes" || rows[1][5] != "true" {
		t.Errorf("the table is %v %v", rows, err)
	}
	var again wire.Impact
	if err := json.Unmarshal([]byte(form("json")), &again); err != nil || again.Devices != 3 {
		t.Errorf("the JSON is %+v %v", again, err)
	}
	if form("markdown") != form("markdown") || form("csv") != form("csv") {
		t.Error("the same change gives another report")
	}
}

// TestConflictesThatArise: a reading of the inventory says that a laptop is of a new release and
// has more memory. It is in two more groups by that, and two policies conflict on it without
// anybody having edited anything.
func TestConflictesThatArise(t *testing.T) {
	t.Parallel()
	api := bare(t)
	publishEstate(t, api, strings.Replace(clashing, `,{"id":"LT-3","os":"linux","os_version":"13"}`, "", 1))
	posted[wire.Source](t, api, "/sources", inventorySource())
	reading := func(row string) {
		if run := sent(t, api, row); run.State == "waiting" {
			posted[wire.SourceRun](t, api, "/sources/inventory/take", nil)
		}
	}
	reading("S1,linux,12,ines,fleet,16\n")
	if o := get[wire.Overview](t, api, "/overview"); len(o.Conflicts)+len(o.Arisen) != 0 {
		t.Fatalf("something conflicts already: %+v %+v", o.Conflicts, o.Arisen)
	}
	reading("S1,linux,13,ines,fleet,64\n")
	o := get[wire.Overview](t, api, "/overview")
	if len(o.Arisen) != 1 {
		t.Fatalf("%d conflicts arose: %+v", len(o.Arisen), o.Arisen)
	}
	e := o.Arisen[0]
	if e.Setting != "signin.banner" || fmt.Sprint(e.Policies) != "[a b]" || e.Change != "" || !strings.Contains(e.Title, "Inventory") ||
		!e.Fresh ||
		!e.Current ||
		e.Devices != 1 ||
		len(e.Sample) != 1 ||
		e.Sample[0].ID != "LT-1" {
		t.Errorf("what arose: %+v", e)
	}
	if got := fmt.Sprint(e.Sample[0].Causes); got != "[{joined  field} {joined  new} {updated linux 12 linux 13}]" {
		t.Errorf("it is put down to %s", got)
	}
	conflicts := get[[]wire.Conflict](t, api, "/conflicts")
	if len(conflicts) != 1 || conflicts[0].Since == nil || conflicts[0].Since.Title != e.Title || conflicts[0].Since.Revision != e.Revision {
		t.Errorf("the conflict stands since %+v", conflicts)
	}

	// Somebody settles it: what arose is no longer news, and the record says when it ended, and by
	// what.
	c := posted[wire.Change](t, api, "/changes", wire.NewChange{Title: "Prefer b"})
	if _, err := api.Call(
		context.Background(),
		http.MethodPut,
		client.Path("changes", c.ID, "edits", "rulings", "r1"),
		nil,
		[]byte(`{"id":"r1","setting":"signin.banner","prefer":"b","over":"a","reason":"The field comes first"}`),
		nil,
	); err != nil {
		t.Fatal(err)
	}
	posted[wire.Publication](t, api, client.Path("changes", c.ID, "publish"), nil)
	if o := get[wire.Overview](t, api, "/overview"); len(o.Arisen)+len(o.Conflicts) != 0 {
		t.Errorf("it is settled, and still there: %+v %+v", o.Arisen, o.Conflicts)
	}
	events := get[[]wire.ConflictEvent](t, api, "/conflict-events?setting=signin.banner")
	if len(events) != 2 || events[0].Gained || events[0].Change != c.ID || !events[0].Fresh || events[0].Current || !events[1].Gained {
		t.Errorf("the record is %+v", events)
	}
}

// TestAWriteAnswersWithItsEffect puts edits and asks for their effect with the write: it is what
// the change's impact says afterwards.
func TestAWriteAnswersWithItsEffect(t *testing.T) {
	t.Parallel()
	api := bare(t)
	publishEstate(t, api, clashing)
	c := posted[wire.Change](t, api, "/changes", wire.NewChange{Title: "Banners"})
	path := client.Path("changes", c.ID, "edits", "policies", "b")
	version := ""
	for i, banner := range []string{"B", "A"} {
		var edit wire.Edit
		headers := []string{}
		if version != "" {
			headers = []string{"If-Match", version}
		}
		header, err := api.Call(
			context.Background(),
			http.MethodPut,
			path,
			url.Values{"effect": {"true"}},
			json.RawMessage(
				`{"id":"b","kind":"security","settings":{"signin.banner":"`+banner+`"},"audience":{"include":["everyone"]}}`,
			),
			&edit,
			headers...)
		if err != nil {
			t.Fatal(err)
		}
		version = header.Get("ETag")
		impact := get[wire.Impact](t, api, "/changes/"+c.ID+"/impact")
		change := get[wire.Change](t, api, "/changes/"+c.ID)
		if edit.Effect == nil || edit.Effect.Impact == nil || !reflect.DeepEqual(*edit.Effect.Impact, impact) ||
			edit.ChangeVersion != change.Version {
			t.Errorf(
				"write %d answered %+v of version %d, afterwards there is %+v of version %d",
				i+1,
				edit.Effect,
				edit.ChangeVersion,
				impact,
				change.Version,
			)
		}
		if edit.Effect.Use == nil || edit.Effect.Use.Reach.Gets != 3 {
			t.Errorf("the policy reaches %+v", edit.Effect.Use)
		}
		if stored := change.Edits[0]; stored.Effect != nil || stored.ChangeVersion != 0 {
			t.Errorf("the effect is stored with the edit: %+v", stored)
		}
	}
	_, err := api.Call(
		context.Background(),
		http.MethodPut,
		path,
		url.Values{"effect": {"true"}},
		json.RawMessage(`{"id":"b","kind":"security","settings":{"signin.banner":3},"audience":{}}`),
		nil,
		"If-Match",
		version,
	)
	if p := refused(t, err); p.Status != 422 || len(p.Faults) != 1 {
		t.Errorf("an edit with a fault: %+v", p)
	}
}
