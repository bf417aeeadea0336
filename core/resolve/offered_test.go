package resolve_test

import (
	"fmt"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/outcome"
	. "zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// offeredEstate has a policy that is offered and one that is enforced on some laptops, for settings
// of each combine rule.
func offeredEstate() *estate.Snapshot {
	entries := func(minutes int64, banner string, sites ...string) []estate.Entry {
		return []estate.Entry{
			{Setting: "banner", Value: setting.TextValue(banner)},
			{Setting: "lock", Value: setting.IntegerValue(minutes)},
			{Setting: "sites", Value: setting.ListValue(sites)},
		}
	}
	everyone := estate.Audience{Include: []estate.Target{{Kind: estate.ToEveryone}}}
	device := func(id estate.DeviceID, unit estate.UnitID, taken ...estate.PolicyID) *estate.Device {
		return &estate.Device{ID: id, Unit: unit, OS: setting.Linux, OSVersion: "12", Taken: taken}
	}
	return &estate.Snapshot{
		Day:   "2026-11-23",
		Units: []estate.Unit{{ID: "root"}, {ID: "labs", Parent: "root"}},
		Devices: []*estate.Device{
			device("in-labs", "labs", "comfort", "unknown-policy"), device("took-it", "", "comfort"), device("took-nothing", ""),
		},
		Settings: []setting.Definition{
			{ID: "banner", Kind: setting.Security, Shape: setting.Shape{Type: setting.TypeText}, Combine: setting.Closest},
			{
				ID:       "lock",
				Kind:     setting.Security,
				Shape:    setting.Shape{Type: setting.TypeInteger},
				Combine:  setting.Strictest,
				Stricter: setting.StricterLower,
				Default:  setting.IntegerValue(1440),
			},
			{ID: "sites", Kind: setting.Security, Shape: setting.Shape{Type: setting.TypeList}, Combine: setting.Merge},
		},
		Policies: []estate.Policy{
			{
				ID:       "comfort",
				Kind:     setting.Security,
				State:    estate.Active,
				Offered:  true,
				Priority: 90,
				Entries:  entries(1, "mine", "a"),
				Audience: everyone,
			},
			{
				ID: "labs", Kind: setting.Security, State: estate.Active, Entries: entries(30, "labs", "b"),
				Audience: estate.Audience{Include: []estate.Target{{Kind: estate.ToUnit, ID: "labs"}}},
			},
		},
	}
}

// TestOfferedPolicies: an offered policy counts where it was taken, and stands back where an
// enforced one has the setting, whatever rule combines and however high its priority and strict its
// value.
func TestOfferedPolicies(t *testing.T) {
	s := offeredEstate()
	plan := Compile(s)
	for id, want := range map[estate.DeviceID]map[setting.ID]string{
		"in-labs": {
			"banner": `"labs" [comfort enforced-elsewhere] [labs won]`, "lock": `30 [comfort enforced-elsewhere] [labs won]`,
			"sites": `["b"] [comfort enforced-elsewhere] [labs won]`,
		},
		"took-it":      {"banner": `"mine" [comfort won]`, "lock": `1 [comfort won]`, "sites": `["a"] [comfort won]`},
		"took-nothing": {},
	} {
		r, err := plan.Effective(id, "")
		if err != nil {
			t.Fatal(err)
		}
		if len(r.Settings) != len(want) {
			t.Errorf("%s has %d settings, expected %d", id, len(r.Settings), len(want))
		}
		for _, is := range r.Settings {
			text := is.Value.String()
			for _, c := range is.Candidates {
				text += fmt.Sprintf(" [%s %s]", c.Policy, c.Fate)
				if c.Fate == outcome.Enforced && fmt.Sprint(is.BeatenBy(c)) != "[labs]" {
					t.Errorf("%s on %s is beaten by %v", is.ID, id, is.BeatenBy(c))
				}
			}
			if text != want[is.ID] {
				t.Errorf("%s on %s: %s, expected %s", is.ID, id, text, want[is.ID])
			}
		}
		if id == "took-nothing" && fmt.Sprint(r.NotApplying) != "[{comfort not-taken [] } {labs not-included [] }]" {
			t.Errorf("on %s do not apply: %v", id, r.NotApplying)
		}
	}
	reach, known := plan.Reach("comfort")
	if !known || reach.Gets.Len() != 2 || reach.NotTaken.Len() != 1 || !reach.NotTaken.Has("took-nothing") {
		t.Errorf("the policy reaches %d, and %d have not taken it", reach.Gets.Len(), reach.NotTaken.Len())
	}
}

// TestWhatIsOfferedInsteadOfEnforced offers a policy that was enforced: where nobody took it, its
// values are gone, which the impact counts as weaker.
func TestWhatIsOfferedInsteadOfEnforced(t *testing.T) {
	s := offeredEstate()
	s.Policies[0].Offered = false
	before := impact.Resolve(s)
	offered := s.Policies[0]
	offered.Offered = true
	after := before.With(s.With(estate.Edit{Kind: estate.KindPolicy, ID: "comfort", Object: offered}))
	report := impact.Compare(before, after)
	if !report.Devices.Has("took-nothing") || report.Devices.Has("took-it") || !report.Weaker().Has("took-nothing") {
		t.Errorf("it differs on %v, weaker on %v", report.Devices.IDs(), report.Weaker().IDs())
	}
	taken := *s.Devices[2]
	taken.Taken = []estate.PolicyID{"comfort"}
	again := after.With(after.Plan.Snapshot().With(estate.Edit{Kind: estate.KindDevice, ID: "took-nothing", Object: taken}))
	if r := impact.Compare(before, again); r.Devices.Has("took-nothing") {
		t.Errorf("where it is taken it still differs: %v", r.Transitions)
	}
}

// TestOffers compares what is offered on laptops of random estates with the reasons for which
// policies apply or not.
func TestOffers(t *testing.T) {
	t.Parallel()
	taken, left := 0, 0
	for seed := range uint64(200) {
		plan := Compile(madeUp(seed))
		for _, d := range plan.Snapshot().Devices {
			r, err := plan.Effective(d.ID, "")
			if err != nil {
				t.Fatal(err)
			}
			want := map[estate.PolicyID]bool{}
			for _, p := range plan.Applied(r) {
				if p.Offered {
					want[p.ID] = true
				}
			}
			for _, not := range r.NotApplying {
				if not.Reason == outcome.NotTaken {
					want[not.Policy] = false
				}
			}
			offers, err := plan.Offers(d.ID)
			if err != nil {
				t.Fatal(err)
			}
			if len(offers) != len(want) {
				t.Errorf("seed %d, %s: %d offers, expected %v", seed, d.ID, len(offers), want)
			}
			for i, o := range offers {
				if is, there := want[o.Policy.ID]; !there || is != o.Taken || i > 0 && offers[i-1].Policy.ID >= o.Policy.ID {
					t.Errorf("seed %d, %s: %s taken %t, expected %v", seed, d.ID, o.Policy.ID, o.Taken, want)
				}
				if o.Taken {
					taken++
				} else {
					left++
				}
			}
		}
	}
	if taken < 20 || left < 20 {
		t.Errorf("the estates have %d offers that were taken and %d that were not: too few to tell", taken, left)
	}
	if _, err := Compile(offeredEstate()).Offers("nowhere"); err == nil {
		t.Error("a laptop that is not in the estate has offers")
	}
}
