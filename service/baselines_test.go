// This file measures laptops by baselines.

package service_test

import (
	"net/http"
	"testing"
	"time"

	"zenithridge.example/zridge/client"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/endpoint"
	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/wire"
)

// edits publishes one edit of an object; without a body it is taken away.
func (e *enrolling) edits(t *testing.T, kind, id, body string) {
	t.Helper()
	change := posted[wire.Change](t, e.Client, "/changes", wire.NewChange{Title: "About " + id})
	path := client.Path("changes", change.ID, "edits", kind, id)
	var err error
	if body == "" {
		_, err = e.Call(t.Context(), http.MethodPost, path+"/retire", nil, nil, nil)
	} else {
		_, err = e.Call(t.Context(), http.MethodPut, path, nil, []byte(body), nil)
	}
	if err != nil {
		t.Fatal(err)
	}
	posted[wire.Published](t, e.Client, client.Path("changes", change.ID, "publish"), wire.PublishRequest{})
}

// complianceOnce waits until laptops were measured and something is so.
func complianceOnce(t *testing.T, api *client.Client, path string, so func(*wire.Compliance) bool) *wire.Compliance {
	t.Helper()
	for deadline := time.Now().Add(2 * time.Minute); ; time.Sleep(50 * time.Millisecond) {
		c := get[wire.Compliance](t, api, path)
		if so(&c) {
			return &c
		}
		if time.Now().After(deadline) {
			t.Fatalf("the compliance is %+v", c)
		}
	}
}

// TestBaselines: laptops are measured at their check-ins and when the estate alters; what no policy manages is asked for,
// and put right where the baseline says so. A policy counts more.
func TestBaselines(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	l, memory := e.laptop(t, e.enrols(t, "L1", e.invites(t, wire.NewInvitation{Device: "L1"})[0], requestOf(t, "S1", "")))
	memory.Own = map[setting.ID]setting.Value{"signin.banner": setting.TextValue("Theirs"), "power.lid_battery": setting.TextValue("nothing")}
	checksIn := func(l *endpoint.Laptop) {
		t.Helper()
		if _, err := l.CheckIn(t.Context()); err != nil {
			t.Fatal(err)
		}
	}
	checksIn(l)
	e.edits(t, "baselines", "hard", `{"id":"hard","title":"Hardened","why":"The audit asks for it","alert_below":80,"audience":{"include":["unit:labs"]},"settings":{
		"screen.lock_after_minutes":{"value":5,"severity":"high"},"signin.banner":"Ours","power.lid_battery":{"value":"lock","on_drift":"repair","category":"lid"}}}`)
	c := complianceOnce(t, e.Client, "/baselines/hard/compliance", func(c *wire.Compliance) bool { return c.Baseline.Count.Laptops == 2 })
	if c.Baseline.Count.Differs != 1 { // L1 is known to have the value of a policy that wants another; nothing is known of L2
		t.Errorf("before it is asked: %+v", c.Baseline.Count)
	}
	checksIn(l)
	if v := memory.Reported()["power.lid_battery"]; v.Text() != "lock" {
		t.Errorf("what the baseline puts right is %s", v)
	}
	if v := memory.Reported()["signin.banner"]; !v.IsNothing() {
		t.Errorf("what the baseline only reports was set to %s", v)
	}
	page := get[wire.DevicePage](t, e.Client, "/devices/L1")
	if len(page.Baselines) != 1 || page.Baselines[0].State != "differs" || page.Baselines[0].Title != "Hardened" ||
		len(page.Baselines[0].Failing) != 2 {
		t.Fatalf("the laptop stands so: %+v", page.Baselines)
	}
	verdicts := map[string]string{}
	for _, f := range page.Baselines[0].Failing {
		verdicts[f.Setting] = f.Verdict
	}
	if verdicts["screen.lock_after_minutes"] != "overridden" || verdicts["signin.banner"] != "differs" {
		t.Errorf("verdicts %v", verdicts)
	}
	c = complianceOnce(t, e.Client, "/baselines/hard/compliance", func(c *wire.Compliance) bool { return len(c.Days) == 1 })
	if first := c.Items[0]; first.Setting != "screen.lock_after_minutes" || first.Overridden == 0 || len(first.Policies) != 1 ||
		first.Policies[0] != "p" || first.Severity != "high" {
		t.Errorf("the worst setting is %+v", first)
	}
	if o := get[wire.Overview](t, e.Client, "/overview"); len(o.Below) != 1 || !c.Baseline.Below {
		t.Errorf("below their line are %+v", o.Below)
	}
	if len(c.Units) != 2 || c.Units[0].Unit != "r" || c.Units[1].Unit != "labs" || c.Units[0].Count != c.Units[1].Count {
		t.Errorf("by unit %+v", c.Units)
	}

	// The policy is what the baseline wants, and the person has the banner.
	e.edits(t, "policies", "p", `{"id":"p","kind":"security","settings":{"screen.lock_after_minutes":4,"signin.banner":"Ours"},"audience":{"include":["everyone"]}}`)
	checksIn(l)
	page = get[wire.DevicePage](t, e.Client, "/devices/L1")
	if page.Baselines[0].State != "complies" || len(page.Baselines[0].Failing) != 0 {
		t.Errorf("with such a policy it stands so: %+v", page.Baselines[0])
	}
	laptops := get[wire.Page[wire.LaptopCompliance]](t, e.Client, "/baselines/hard/laptops?state=complies&unit=labs")
	if len(laptops.Items) != 1 || laptops.Items[0].Device != "L1" {
		t.Errorf("compliant laptops %+v", laptops.Items)
	}
	if _, err := e.Call(t.Context(), http.MethodGet, "/baselines/hard/laptops?unit=nowhere", nil, nil, nil); err == nil {
		t.Error("an unknown unit is taken")
	}

	// What a baseline put right is left to the laptop again when the baseline is no more.
	e.edits(t, "baselines", "hard", "")
	checksIn(l)
	if v := memory.Reported()["power.lid_battery"]; !v.IsNothing() {
		t.Errorf("without the baseline the lid is %s", v)
	}
	if _, err := e.Call(t.Context(), http.MethodGet, "/baselines/hard/compliance", nil, nil, nil); err == nil {
		t.Error("a baseline that is no more has a compliance")
	}
}

// TestCapturedBaselines: a baseline is captured from a policy, or from a laptop.
func TestCapturedBaselines(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	l, _ := e.laptop(t, e.enrols(t, "L0", e.invites(t, wire.NewInvitation{Device: "L0"})[0], requestOf(t, "S0", "")))
	if _, err := l.CheckIn(t.Context()); err != nil {
		t.Fatal(err)
	}
	for _, from := range []string{"policy=p", "device=L0"} {
		items := get[map[string]files.BaselineItemDoc](t, e.Client, "/baseline-settings?"+from)
		if i, is := items["screen.lock_after_minutes"]; !is || i.Value.Integer() != 7 || i.Category == "" {
			t.Errorf("from %s: %+v", from, items)
		}
	}
	for _, from := range []string{"", "?policy=p&device=L0", "?policy=none", "?device=none"} {
		if _, err := e.Call(t.Context(), http.MethodGet, "/baseline-settings"+from, nil, nil, nil); err == nil {
			t.Errorf("from %q something was captured", from)
		}
	}
	for body, about := range map[string]string{
		`{"id":"b","settings":{"screen.lock_after_minutes":0},"audience":{}}`:                                "a value out of range",
		`{"id":"b","settings":{"no.such":1},"audience":{}}`:                                                  "an unknown setting",
		`{"id":"b","settings":{"screen.lock_after_minutes":{"value":5,"severity":"dire"}},"audience":{}}`:    "an unknown severity",
		`{"id":"b","settings":{"screen.lock_after_minutes":{"severity":"low"}},"audience":{}}`:               "no value",
		`{"id":"b","settings":{},"audience":{},"alert_below":101}`:                                           "more than the whole",
		`{"id":"b","settings":{},"audience":{"include":["group:none"]}}`:                                     "an unknown group",
		`{"id":"b","settings":{"screen.lock_after_minutes":{"value":5,"on_drift":"perhaps"}},"audience":{}}`: "an unknown way",
	} {
		change := posted[wire.Change](t, e.Client, "/changes", wire.NewChange{Title: "Bad"})
		if _, err := e.Call(t.Context(), http.MethodPut, client.Path("changes", change.ID, "edits", "baselines", "b"), nil,
			[]byte(body), nil); err == nil {
			t.Errorf("%s is taken", about)
		}
	}
}

// TestBaselinesOfAUnit: whoever reads for a unit sees the baselines that measure its laptops, and how these stand.
func TestBaselinesOfAUnit(t *testing.T) {
	t.Parallel()
	e := enrollingWith(t, 0)
	for id, audience := range map[string]string{"all": `{"include":["everyone"]}`, "shore": `{"include":["device:L0"]}`,
		"mixed": `{"include":["unit:labs","device:L0"]}`} {
		e.edits(t, "baselines", id, `{"id":"`+id+`","audience":`+audience+`,"settings":{"signin.banner":"Ours"}}`)
	}
	complianceOnce(t, e.Client, "/baselines/mixed/compliance", func(c *wire.Compliance) bool { return c.Baseline.Count.Laptops == 3 })
	posted[struct{}](t, e.Client, "/accounts", wire.NewAccount{Chosen: true, Name: "lena", Password: "a lantern in the fog"})
	posted[wire.Grant](t, e.Client, "/grants", wire.NewGrant{Account: "lena", Role: "reader", Unit: "labs"})
	lena := &client.Client{Base: e.Base, HTTP: e.HTTP}
	token, err := lena.SignIn(t.Context(), "lena", "a lantern in the fog", "test", 1)
	if err != nil {
		t.Fatal(err)
	}
	lena.Token = token.Secret
	list := get[[]wire.BaselineSummary](t, lena, "/baselines")
	if len(list) != 2 || list[0].ID != "all" || list[1].ID != "mixed" || list[1].Count.Laptops != 2 {
		t.Errorf("for a unit: %+v", list)
	}
	laptops := get[wire.Page[wire.LaptopCompliance]](t, lena, "/baselines/mixed/laptops")
	for _, l := range laptops.Items {
		if l.Device == "L0" {
			t.Error("a laptop of another unit is seen")
		}
	}
	if _, err := lena.Call(t.Context(), http.MethodGet, "/baselines/shore/compliance", nil, nil, nil); err == nil {
		t.Error("the baseline of another unit is seen")
	}
	if _, err := lena.Call(t.Context(), http.MethodGet, "/drift?device=L0", nil, nil, nil); err == nil {
		t.Error("the drift of another unit is seen")
	}
}
