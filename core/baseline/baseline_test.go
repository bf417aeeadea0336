package baseline_test

import (
	"testing"

	"zenithridge.example/zridge/core/baseline"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/dictionary"
)

func definition(t *testing.T, id setting.ID) *setting.Definition {
	t.Helper()
	shipped := dictionary.Shipped()
	for i := range shipped.Settings {
		if shipped.Settings[i].ID == id {
			return &shipped.Settings[i]
		}
	}
	t.Fatalf("no setting %s", id)
	return nil
}

func TestJudge(t *testing.T) {
	t.Parallel()
	minutes, on, off, text := setting.IntegerValue, setting.BoolValue(true), setting.BoolValue(false), setting.TextValue
	nothing := setting.Value{}
	for _, x := range []struct {
		about               string
		id                  setting.ID
		wanted              setting.Value
		said, supported     bool
		has, wantedByPolicy setting.Value
		want                baseline.Verdict
	}{
		{"the same", "screen.lock_after_minutes", minutes(10), true, true, minutes(10), nothing, baseline.Complies},
		{"stricter", "screen.lock_after_minutes", minutes(10), true, true, minutes(5), nothing, baseline.Complies},
		{"weaker", "screen.lock_after_minutes", minutes(10), true, true, minutes(11), nothing, baseline.Differs},
		{"stricter choice", "media.phones", text("read-only"), true, true, text("block"), nothing, baseline.Complies},
		{"weaker choice", "media.phones", text("read-only"), true, true, text("allow"), nothing, baseline.Differs},
		{"no order", "signin.banner", text("Ours"), true, true, text("Theirs"), nothing, baseline.Differs},
		{"another kind of value", "screen.lock_after_minutes", minutes(10), true, true, text("5"), nothing, baseline.Differs},
		{"nothing set, and the default will do", "media.camera", on, true, true, nothing, nothing, baseline.Complies},
		{"nothing set, and the default will not do", "media.camera", off, true, true, nothing, nothing, baseline.Differs},
		{"not said", "media.camera", off, false, true, nothing, nothing, baseline.NotReported},
		{"not supported", "media.camera", off, true, false, on, nothing, baseline.Unsupported},
		{"a policy wants the same", "screen.lock_after_minutes", minutes(10), true, true, minutes(15), minutes(10), baseline.Differs},
		{"a policy wants what is stricter", "screen.lock_after_minutes", minutes(10), true, true, minutes(5), minutes(5), baseline.Complies},
		{"a policy wants what is weaker", "screen.lock_after_minutes", minutes(10), true, true, minutes(15), minutes(15), baseline.Overridden},
		{"a policy wants what is weaker, and nothing was said", "screen.lock_after_minutes", minutes(10), false, true, nothing,
			minutes(15), baseline.Overridden},
	} {
		item := &estate.BaselineItem{Setting: x.id, Value: x.wanted}
		if is := baseline.Judge(definition(t, x.id), item, baseline.Observed{Said: x.said, Has: x.has, Wanted: x.wantedByPolicy,
			Supported: x.supported}); is != x.want {
			t.Errorf("%s: %s, expected %s", x.about, is, x.want)
		}
	}
}

// TestMeasure: one setting that differs makes the laptop differ, one that is not known only where
// none does.
func TestMeasure(t *testing.T) {
	t.Parallel()
	b := &estate.Baseline{Items: []estate.BaselineItem{
		{Setting: "screen.lock_after_minutes", Value: setting.IntegerValue(10)}, {Setting: "signin.banner", Value: setting.TextValue("Ours")},
		{Setting: "gone", Value: setting.TextValue("x")},
	}}
	right := map[setting.ID]baseline.Observed{
		"screen.lock_after_minutes": {Said: true, Has: setting.IntegerValue(10), Supported: true},
		"signin.banner":             {Said: true, Has: setting.TextValue("Ours"), Supported: true},
	}
	for _, x := range []struct {
		alter   map[setting.ID]baseline.Observed
		state   baseline.State
		failing int
	}{
		{nil, baseline.Compliant, 0},
		{map[setting.ID]baseline.Observed{"signin.banner": {Supported: true}}, baseline.Unknown, 1},
		{map[setting.ID]baseline.Observed{"signin.banner": {}}, baseline.Compliant, 1},
		{map[setting.ID]baseline.Observed{"signin.banner": {Supported: true}, "screen.lock_after_minutes": {Said: true,
			Has: setting.IntegerValue(60), Supported: true}}, baseline.Different, 2},
	} {
		state, failing := baseline.Measure(b, func(id setting.ID) (*setting.Definition, baseline.Observed) {
			if id == "gone" {
				return nil, baseline.Observed{}
			}
			if o, altered := x.alter[id]; altered {
				return definition(t, id), o
			}
			return definition(t, id), right[id]
		})
		if state != x.state || len(failing) != x.failing {
			t.Errorf("%v: %s, %v", x.alter, state, failing)
		}
	}
	var c baseline.Count
	if c.Share() != estate.Whole {
		t.Errorf("of no laptop the share is %s", c.Share())
	}
	for _, s := range []baseline.State{baseline.Compliant, baseline.Compliant, baseline.Different, baseline.Unknown} {
		c.Add(s)
	}
	if c.Laptops() != 4 || c.Share() != 50_00 {
		t.Errorf("%+v: %s", c, c.Share())
	}
}
