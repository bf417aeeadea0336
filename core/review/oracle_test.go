package review_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	. "zenithridge.example/zridge/core/review"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// madeUp is an estate at random: a tree of units, people with some of them, laptops with some
// owners, groups of both kinds, nested and by rule, and policies with all kinds of targets.
func madeUp(t testing.TB, random *rand.Rand) *estate.Snapshot {
	t.Helper()
	s := &estate.Snapshot{Day: "2026-11-23", Units: []estate.Unit{{ID: "u0"}}, Settings: []setting.Definition{
		{
			ID:      "a",
			Kind:    "configuration",
			Side:    setting.DeviceSide,
			Combine: setting.Closest,
			Shape:   setting.Shape{Type: "text"},
		},
		{
			ID:       "b",
			Kind:     "security",
			Side:     setting.DeviceSide,
			Combine:  setting.Strictest,
			Stricter: "lower",
			Shape:    setting.Shape{Type: "integer"},
		},
	}}
	for i := 1; i < 8; i++ {
		s.Units = append(
			s.Units,
			estate.Unit{ID: estate.UnitID(fmt.Sprintf("u%d", i)), Parent: estate.UnitID(fmt.Sprintf("u%d", random.IntN(i)))},
		)
	}
	unit := func() estate.UnitID {
		if n := random.IntN(10); n < 8 {
			return estate.UnitID(fmt.Sprintf("u%d", n))
		}
		return ""
	}
	for i := range 6 {
		s.People = append(s.People, &estate.Person{ID: estate.PersonID(fmt.Sprintf("p%d", i)), Unit: unit()})
	}
	for i := range 14 {
		d := estate.Device{
			ID:        estate.DeviceID(fmt.Sprintf("d%02d", i)),
			OS:        setting.Platforms[random.IntN(3)],
			OSVersion: fmt.Sprint(10 + random.IntN(4)),
			Unit:      unit(),
			Facts:     map[string]setting.Value{},
		}
		if random.IntN(3) > 0 {
			d.Owner = estate.PersonID(fmt.Sprintf("p%d", random.IntN(6)))
		}
		if random.IntN(3) > 0 {
			d.Facts["ram"] = setting.IntegerValue(int64(8 << random.IntN(3)))
		}
		s.Devices = append(s.Devices, &d)
	}
	expression := func(scope rule.Scope, text string) *rule.Rule {
		r, err := rule.Compile(scope, text)
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	for i := range 6 {
		g := estate.Group{ID: estate.GroupID(fmt.Sprintf("g%d", i)), Of: estate.GroupKinds[i%2]}
		for range random.IntN(4) {
			member := fmt.Sprintf("d%02d", random.IntN(14))
			if g.Of == estate.OfPeople {
				member = fmt.Sprintf("p%d", random.IntN(6))
			}
			if !slices.Contains(g.Members, member) {
				g.Members = append(g.Members, member)
			}
		}
		if i >= 2 && random.IntN(2) == 0 {
			g.Groups = []estate.GroupID{estate.GroupID(fmt.Sprintf("g%d", i-2))}
		}
		if random.IntN(2) == 0 {
			if g.Rule = expression(
				rule.OfDevice,
				[]string{`device.ram >= 16`, `device.os == "linux"`, `device.unit == "u3"`}[random.IntN(3)],
			); g.Of == estate.OfPeople {
				g.Rule = expression(rule.OfPerson, `"u1" in person.units`)
			}
		}
		s.Groups = append(s.Groups, g)
	}
	target := func() estate.Target {
		switch random.IntN(6) {
		case 0:
			return estate.Target{Kind: estate.ToEveryone}
		case 1, 2:
			return estate.Target{Kind: estate.ToUnit, ID: fmt.Sprintf("u%d", random.IntN(8))}
		case 3:
			return estate.Target{Kind: estate.ToGroup, ID: fmt.Sprintf("g%d", random.IntN(6))}
		case 4:
			return estate.Target{Kind: estate.ToDevice, ID: fmt.Sprintf("d%02d", random.IntN(14))}
		}
		return estate.Target{Kind: estate.ToPerson, ID: fmt.Sprintf("p%d", random.IntN(6))}
	}
	some := func(most int) (out []estate.Target) {
		for range random.IntN(most + 1) {
			if one := target(); !slices.Contains(out, one) {
				out = append(out, one)
			}
		}
		return out
	}
	for i := range 8 {
		p := estate.Policy{
			ID:       estate.PolicyID(fmt.Sprintf("q%d", i)),
			Kind:     setting.PolicyKinds[random.IntN(2)],
			State:    estate.Active,
			Priority: int64(random.IntN(2)),
			Audience: estate.Audience{Include: some(3), Exclude: some(2)},
		}
		p.Entries = []estate.Entry{
			{Setting: "a", Value: setting.TextValue(fmt.Sprint(random.IntN(3))), Lock: random.IntN(6) == 0},
			{Setting: "b", Value: setting.IntegerValue(int64(random.IntN(4)))},
		}
		if random.IntN(4) == 0 {
			p.Audience.When = expression(rule.OfWhen, `device.ram >= 16`)
		}
		if random.IntN(5) == 0 {
			p.Platforms = []setting.Platform{"linux"}
		}
		s.Policies = append(s.Policies, p)
	}
	for i := range 2 { // somebody is detached
		if random.IntN(2) == 0 {
			s.Units[1+random.IntN(7)].Detach = []estate.Detachment{{Kind: setting.PolicyKinds[i]}}
		} else {
			s.Groups[random.IntN(6)].Detach = []estate.Detachment{{Kind: setting.PolicyKinds[i]}}
		}
	}
	if faults := s.Validate(); len(faults) > 0 {
		t.Fatal(faults)
	}
	return s
}

// TestReachIsWhatResolutionSays compares, over made-up estates, what is said of an audience with
// what each laptop gets by itself.
func TestReachIsWhatResolutionSays(t *testing.T) {
	for seed := range uint64(120) {
		random := rand.New(rand.NewPCG(seed, 1))
		s := madeUp(t, random)
		side := impact.Resolve(s)
		for i := range s.Policies {
			p := &s.Policies[i]
			a := LookAt(side, p, 0)
			parts := map[estate.DeviceID]string{}
			for word, list := range map[string]resolve.Devices{"": a.Gets, "excluded": a.Excluded, "condition": a.Condition,
				"platform": a.Platform, "not-included": a.NotIncluded} {
				for _, d := range list.IDs() {
					if _, twice := parts[d]; twice {
						t.Fatalf("seed %d, %s: %s is in two parts", seed, p.ID, d)
					}
					parts[d] = word
				}
			}
			for r := range side.Resolution.All {
				why := ""
				for _, n := range r.NotApplying {
					if n.Policy == p.ID {
						why = string(n.Reason)
					}
				}
				if parts[r.Device] != why {
					t.Fatalf("seed %d: %s on %s is %q by its resolution and %q by its reach", seed, p.ID, r.Device, why, parts[r.Device])
				}
			}
			units, all := 0, 0
			for _, u := range a.ByUnit {
				units += u.Devices
			}
			for _, o := range a.ByPlatform {
				all += o.Devices
			}
			if units != a.Gets.Len() || all != a.Gets.Len() {
				t.Fatalf("seed %d: %s reaches %d, by unit %d, by platform %d", seed, p.ID, a.Gets.Len(), units, all)
			}
		}
	}
}

// TestSupposingIsTheWholeEstateAltered compares what is supposed of one laptop, alone, with a
// resolution of the whole altered estate.
func TestSupposingIsTheWholeEstateAltered(t *testing.T) {
	for seed := range uint64(150) {
		random := rand.New(rand.NewPCG(seed, 2))
		s := madeUp(t, random)
		at := random.IntN(len(s.Devices))
		w := WhatIf{}
		altered := *s
		altered.Devices = slices.Clone(s.Devices)
		moved := *s.Devices[at]
		altered.Devices[at] = &moved
		if random.IntN(2) == 0 {
			w.Unit = estate.UnitID(fmt.Sprintf("u%d", random.IntN(8)))
			altered.Devices[at].Unit = w.Unit
		}
		if random.IntN(2) == 0 {
			owner := estate.PersonID(fmt.Sprintf("p%d", random.IntN(6)))
			w.Owner = &owner
			altered.Devices[at].Owner = owner
		}
		if random.IntN(2) == 0 {
			w.Person = estate.PersonID(fmt.Sprintf("p%d", random.IntN(6)))
		}
		if random.IntN(2) == 0 {
			g := random.IntN(3) * 2
			altered.Groups = slices.Clone(s.Groups)
			group := &altered.Groups[g]
			who := string(altered.Devices[at].Owner)
			if group.Of == estate.OfDevices {
				who = string(altered.Devices[at].ID)
			}
			if who != "" && !slices.Contains(group.Members, who) {
				group.Members = append(slices.Clone(group.Members), who)
			}
			w.Join = []estate.GroupID{group.ID}
		}
		id := s.Devices[at].ID
		pair, err := Suppose(s, id, w)
		if err != nil {
			t.Fatal(err)
		}
		was, _ := resolve.Compile(s).Effective(id, "")
		is, err := resolve.Compile(&altered).Effective(id, w.Person)
		if err != nil {
			t.Fatal(err)
		}
		if fmt.Sprint(pair.A.Settings) != fmt.Sprint(was.Settings) || fmt.Sprint(pair.B.Settings) != fmt.Sprint(is.Settings) ||
			fmt.Sprint(pair.A.NotApplying) != fmt.Sprint(was.NotApplying) {
			t.Fatalf("seed %d, %+v of %s:\nalone  %v\nwithin %v", seed, w, id, pair.B.Settings, is.Settings)
		}
		for _, p := range pair.Settings {
			if p.Same != (p.A != nil && p.B != nil && p.A.Status == p.B.Status && p.A.Value.Equal(p.B.Value)) {
				t.Fatalf("seed %d: %s is called the same: %v", seed, p.Setting, p.Same)
			}
		}
	}
}

// TestWhatIsDroppedWouldArrive: an entry that is listed as dropped on a place has, on as many
// laptops, a candidate once nobody there goes their detached; and a place where nobody does drops
// nothing.
func TestWhatIsDroppedWouldArrive(t *testing.T) {
	for seed := range uint64(120) {
		random := rand.New(rand.NewPCG(seed, 3))
		s := madeUp(t, random)
		plan := resolve.Compile(s)
		open := *s
		open.Units, open.Groups = slices.Clone(s.Units), slices.Clone(s.Groups)
		for i := range open.Units {
			open.Units[i].Detach = nil
		}
		for i := range open.Groups {
			open.Groups[i].Detach = nil
		}
		all := resolve.Compile(&open).Estate()
		place := estate.Target{Kind: estate.ToUnit, ID: fmt.Sprintf("u%d", random.IntN(8))}
		in := plan.Matching(place)
		for _, d := range plan.Dropped(place) {
			arrives := 0
			for r := range all.All {
				if st := r.Setting(d.Setting); st != nil && in.Has(r.Device) &&
					slices.ContainsFunc(st.Candidates, func(c outcome.Candidate) bool { return c.Policy == d.Policy }) {
					arrives++
				}
			}
			if d.Devices == 0 || d.Devices > arrives {
				t.Fatalf("seed %d, %s: %+v, which would arrive on %d", seed, place, d, arrives)
			}
		}
		if dropped := resolve.Compile(&open).Dropped(place); len(dropped) != 0 {
			t.Fatalf("seed %d: nobody is detached, and %v is dropped", seed, dropped)
		}
	}
}
