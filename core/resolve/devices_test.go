package resolve_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"

	"zenithridge.example/zridge/core/estate"
	. "zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/demo/world"
)

// TestSetsOfLaptopsAreSets compares what is done with sets of laptops, over two blocks of them,
// with the obvious.
func TestSetsOfLaptopsAreSets(t *testing.T) {
	t.Parallel()
	s := world.Make(world.Size{Devices: 6000, Units: 30, Groups: 60, Policies: 40, Settings: 40}, 3)
	plan := Compile(s)
	home := map[estate.DeviceID]estate.UnitID{}
	for i := range s.Devices {
		home[s.Devices[i].ID] = plan.HomeUnit(s.Devices[i].ID)
	}
	target := func(r *rand.Rand) estate.Target {
		switch r.IntN(4) {
		case 0:
			return estate.Target{Kind: estate.ToUnit, ID: string(pick(r, s.Units).ID)}
		case 1:
			return estate.Target{Kind: estate.ToDevice, ID: string(pick(r, s.Devices).ID)}
		case 2:
			return estate.Target{Kind: estate.ToEveryone}
		}
		return estate.Target{Kind: estate.ToGroup, ID: string(pick(r, s.Groups).ID)}
	}
	plain := func(d Devices) map[estate.DeviceID]bool {
		out := map[estate.DeviceID]bool{}
		for _, id := range d.IDs() {
			out[id] = true
		}
		return out
	}
	r := rand.New(rand.NewPCG(4, 4))
	for range 200 {
		at, bt := target(r), target(r)
		a, b := plan.Matching(at), plan.Matching(bt)
		x, y := plain(a), plain(b)
		for what, got := range map[string]Devices{"or": a.Or(b), "and": a.And(b), "without": a.Without(b)} {
			want := []estate.DeviceID{}
			units := map[estate.UnitID]int{}
			for id := range home {
				in := map[string]bool{"or": x[id] || y[id], "and": x[id] && y[id], "without": x[id] && !y[id]}[what]
				if in != got.Has(id) {
					t.Fatalf("%s %s %s: %s is in it: %v", at, what, bt, id, got.Has(id))
				}
				if in {
					want = append(want, id)
					units[home[id]]++
				}
			}
			slices.Sort(want)
			if ids := got.IDs(); got.Len() != len(want) || len(ids) != len(want) || len(want) > 0 && !slices.Equal(ids, want) {
				t.Fatalf("%s %s %s has %d laptops, expected %d", at, what, bt, got.Len(), len(want))
			}
			few := min(1+r.IntN(20), len(want))
			if first := got.First(few); few > 0 && !slices.Equal(first, want[:few]) {
				t.Fatalf("%s %s %s: the first %d are %v, expected %v", at, what, bt, few, first, want[:few])
			}
			list := got.ByUnit()
			for i, u := range list {
				if units[u.Of] != u.Devices || i > 0 && list[i-1].Devices < u.Devices {
					t.Fatalf("%s %s %s: %v by unit, expected %v", at, what, bt, list, units)
				}
			}
			if len(list) != len(units) {
				t.Fatalf("%s %s %s: %d units, expected %d", at, what, bt, len(list), len(units))
			}
			seen := 0
			for d, unit := range got.All {
				seen++
				if home[d.ID] != unit {
					t.Fatalf("%s is of %s, expected %s", d.ID, unit, home[d.ID])
				}
			}
			if seen != len(want) || got.Bare().On(plan).Len() != len(want) {
				t.Fatalf("%s %s %s: %d are gone through, expected %d", at, what, bt, seen, len(want))
			}
		}
	}
	for range 40 {
		at := target(r)
		of := plan.Matching(at)
		counted := map[estate.GroupID]int{}
		for i, g := range of.ByGroup() {
			counted[g.Of.ID] = g.Devices
			if list := of.ByGroup(); i > 0 && list[i-1].Devices < g.Devices {
				t.Fatalf("%s: %v by group is not in order", at, list)
			}
		}
		for i := range s.Groups {
			id := s.Groups[i].ID
			if want := of.And(plan.Matching(estate.Target{Kind: estate.ToGroup, ID: string(id)})).Len(); counted[id] != want {
				t.Fatalf("%s has %d laptops of %s, expected %d", at, counted[id], id, want)
			}
		}
	}
	list := make([]Devices, 0, 5)
	all := Devices{}
	for range 5 {
		one := plan.Matching(target(r))
		list, all = append(list, one), all.Or(one)
	}
	if got := (Devices{}).Or(list...); !slices.Equal(got.IDs(), all.IDs()) {
		t.Errorf("the union of %v has %d laptops, one after the other they have %d", list, got.Len(), all.Len())
	}
	var empty Devices
	if empty.Or().Len() != 0 || len(empty.ByGroup()) != 0 {
		t.Error("the union of nothing, or the groups of nobody, are not empty")
	}
	if empty.Len() != 0 || len(empty.IDs()) != 0 || len(empty.ByUnit()) != 0 || empty.Has("LT-1") || fmt.Sprint(empty) != "[]" ||
		empty.Or(plan.All()).Len() != 6000 ||
		plan.All().And(empty).Len() != 0 {
		t.Error("the zero set is not empty")
	}
}

// TestGroupListsAreWhatIsSaidOfOne compares the groups of everybody, made at once, with those of
// each, in an estate that was edited: some numbers are free.
func TestGroupListsAreWhatIsSaidOfOne(t *testing.T) {
	t.Parallel()
	s := world.Make(world.Size{Devices: 5000, Units: 40, Groups: 120, Policies: 20, Settings: 20}, 4)
	plan := Compile(s)
	next := s.With(
		estate.Edit{Kind: estate.KindDevice, ID: string(s.Devices[7].ID)}, estate.Edit{Kind: estate.KindPerson, ID: string(s.People[9].ID)},
		estate.Edit{Kind: estate.KindGroup, ID: string(s.Groups[3].ID)},
	)
	for at, plan := range []*Plan{plan, plan.With(next)} {
		s := plan.Snapshot()
		sizes, some := map[estate.GroupID]int{}, 0
		devices := plan.GroupsOfDevices()
		for _, d := range s.Devices {
			want := plan.GroupsOf(d.ID)
			if got := devices.Of(d.ID); !slices.Equal(got, want) {
				t.Fatalf("plan %d: %s is in %v, expected %v", at, d.ID, got, want)
			}
			for _, id := range want {
				sizes[id]++
			}
			if len(want) > 0 {
				some++
			}
		}
		if got, in := devices.Sizes(); !maps.Equal(got, sizes) || in != some || some == 0 {
			t.Fatalf("plan %d: groups have %v and %d are in some, expected %v and %d", at, got, in, sizes, some)
		}
		people, in := plan.GroupsOfPeople(), 0
		for _, who := range s.People {
			want := plan.GroupsOfPerson(who.ID)
			if in += len(want); !slices.Equal(people.Of(who.ID), want) {
				t.Fatalf("plan %d: %s is in %v, expected %v", at, who.ID, people.Of(who.ID), want)
			}
		}
		if in == 0 || devices.Of("nobody") != nil || people.Of("nobody") != nil {
			t.Fatalf("plan %d: people are in %d groups, or somebody unknown is in some", at, in)
		}
	}
}

// TestCountsByUnitFollowEdits counts laptops by unit, which keeps where they are, then moves some,
// a unit and a policy, and counts again; and takes a set of one plan to each of the others.
func TestCountsByUnitFollowEdits(t *testing.T) {
	t.Parallel()
	s := world.Make(world.Size{Devices: 5000, Units: 40, Groups: 20, Policies: 20, Settings: 20}, 5)
	plan := Compile(s)
	plan.All().ByUnit()
	moved := *s.Devices[11]
	moved.Unit = s.Units[len(s.Units)-1].ID
	unit := s.Units[len(s.Units)-2]
	unit.Parent = s.Units[0].ID
	policy := s.Policies[3]
	policy.Priority++
	for what, edits := range map[string][]estate.Edit{
		"a laptop moved":   {{Kind: estate.KindDevice, ID: string(moved.ID), Object: moved}},
		"a laptop gone":    {{Kind: estate.KindDevice, ID: string(s.Devices[12].ID)}},
		"a unit moved":     {{Kind: estate.KindUnit, ID: string(unit.ID), Object: unit}},
		"a policy altered": {{Kind: estate.KindPolicy, ID: string(policy.ID), Object: policy}},
		"nothing":          nil,
	} {
		next := plan.With(s.With(edits...))
		want := map[estate.UnitID]int{}
		for _, d := range next.Snapshot().Devices {
			want[next.HomeUnit(d.ID)]++
		}
		got := map[estate.UnitID]int{}
		for _, c := range next.All().ByUnit() {
			got[c.Of] = c.Devices
		}
		if !maps.Equal(got, want) {
			t.Errorf("%s: %v by unit, expected %v", what, got, want)
		}
		if ids := plan.All().In(next).IDs(); !slices.Equal(ids, next.All().IDs()) {
			t.Errorf("%s: %d laptops of the plan before are known, expected %d", what, len(ids), next.All().Len())
		}
	}
}
