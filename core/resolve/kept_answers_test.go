package resolve_test

import (
	"fmt"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	. "zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// TestFatesFollowWhatDecides asks for the fates of a setting again after each edit that alters
// them, and among other laptops: what was found before must not be given then.
func TestFatesFollowWhatDecides(t *testing.T) {
	t.Parallel()
	everyone := []estate.Target{{Kind: estate.ToEveryone}}
	policy := func(id estate.PolicyID, banner string, audience ...estate.Target) estate.Policy {
		return estate.Policy{
			ID: id, Kind: setting.Security, State: estate.Active, Audience: estate.Audience{Include: audience},
			Entries: []estate.Entry{{Setting: "banner", Value: setting.TextValue(banner)}},
		}
	}
	s := &estate.Snapshot{
		Day:   "2026-11-30",
		Units: []estate.Unit{{ID: "root"}, {ID: "labs", Parent: "root"}},
		Devices: []*estate.Device{
			{ID: "a", Unit: "labs", OS: setting.Linux, OSVersion: "12"}, {ID: "b", OS: setting.Linux, OSVersion: "12"},
		},
		Settings: []setting.Definition{{ID: "banner", Kind: setting.Security, Shape: setting.Shape{Type: setting.TypeText}, Combine: setting.Closest}},
		Policies: []estate.Policy{policy("one", "1", everyone...), policy("two", "2", everyone...)},
	}
	plan := Compile(s)
	fates := func(among Devices) string { return fmt.Sprint(plan.EntryFates("banner", among, "one")) }
	asked := func(what, one, two string) {
		t.Helper()
		list := plan.EntryFates("banner", plan.All(), "one")
		if len(list) != 2 || fmt.Sprint(list[0].Fates) != one || fmt.Sprint(list[1].Fates) != two {
			t.Errorf("%s: %v, expected %s and %s", what, list, one, two)
		}
		plan.EntryFates("banner", plan.Matching(estate.Target{Kind: estate.ToUnit, ID: "labs"}), "one") // asked among others in between
	}
	asked("in the beginning", "map[clashing:2]", "map[clashing:2]")
	if all, some := fates(plan.All()), fates(plan.Matching(estate.Target{Kind: estate.ToUnit, ID: "labs"})); all == some {
		t.Errorf("among one laptop the fates are those among both: %s", some)
	}
	for _, step := range []struct {
		what, one, two string
		edit           estate.Edit
	}{
		{
			"a ruling", "map[won:2]", "map[ruled-out:2]",
			estate.Edit{Kind: estate.KindRuling, ID: "r", Object: estate.Ruling{ID: "r", Setting: "banner", Prefer: "one", Over: "two"}},
		},
		{
			"the other ruling", "map[ruled-out:2]", "map[won:2]",
			estate.Edit{Kind: estate.KindRuling, ID: "r", Object: estate.Ruling{ID: "r", Setting: "banner", Prefer: "two", Over: "one"}},
		},
		{
			"an exception", "map[ruled-out:1 excepted:1]", "map[won:1 excepted:1]",
			estate.Edit{Kind: estate.KindException, ID: "x", Object: estate.Exception{
				ID: "x", Setting: "banner", Target: estate.Target{Kind: estate.ToDevice, ID: "a"}, Value: setting.TextValue("x"),
				From: "2026-11-01", Until: "2026-12-31",
			}},
		},
		{"no exception", "map[ruled-out:2]", "map[won:2]", estate.Edit{Kind: estate.KindException, ID: "x"}},
		{
			"a unit that detaches", "map[ruled-out:1 detached:1]", "map[won:1 detached:1]",
			estate.Edit{Kind: estate.KindUnit, ID: "labs", Object: estate.Unit{
				ID: "labs", Parent: "root", Detach: []estate.Detachment{{Kind: setting.Security}},
			}},
		},
		{
			"a laptop that moves", "map[ruled-out:2]", "map[won:2]",
			estate.Edit{Kind: estate.KindDevice, ID: "a", Object: estate.Device{ID: "a", OS: setting.Linux, OSVersion: "12"}},
		},
		{
			"the same value", "map[won:2]", "map[won:2]",
			estate.Edit{Kind: estate.KindPolicy, ID: "two", Object: policy("two", "1", everyone...)},
		},
		{
			"a closer level", "map[won:1 outer:1]", "map[won:1]",
			estate.Edit{Kind: estate.KindPolicy, ID: "two", Object: policy("two", "2", estate.Target{Kind: estate.ToDevice, ID: "a"})},
		},
	} {
		plan = plan.With(plan.Snapshot().With(step.edit))
		asked(step.what, step.one, step.two)
		if again := fmt.Sprint(Compile(plan.Snapshot()).EntryFates("banner", plan.All(), "one")); again != fates(plan.All()) {
			t.Errorf("%s: %s, from nothing %s", step.what, fates(plan.All()), again)
		}
	}
}

// TestAnswersBelongToTheirPlan takes what was kept of one plan to the next: sets of laptops are of
// the plan that is asked.
func TestAnswersBelongToTheirPlan(t *testing.T) {
	t.Parallel()
	plan := Compile(offeredEstate())
	before, _ := plan.Reach("labs")
	policy := *plan.Policy("labs")
	policy.Title = "Laboratories"
	next := plan.With(plan.Snapshot().With(estate.Edit{Kind: estate.KindPolicy, ID: "labs", Object: policy}))
	after, _ := next.Reach("labs")
	if got, want := after.Gets.And(next.All()).String(), before.Gets.String(); got != want {
		t.Errorf("the policy reaches %s, expected %s", got, want)
	}
	if states := next.Estate().States("banner", after.Gets); len(states) != 1 || states[0].Status != outcome.Set {
		t.Errorf("on its laptops the banner is %v", states)
	}
}
