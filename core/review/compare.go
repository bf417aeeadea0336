// This file puts two laptops side by side, or one as it is and as it would be.
//
// Both sides are results with all reasons, so that the page can say why they differ. What would be
// if a laptop moved, joined a group or had another owner is found by resolving a small estate that
// has this one laptop in it.

package review

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
)

// SettingPair is a setting that two subjects get differently. A side where it does not appear is
// nil.
type SettingPair struct {
	Setting setting.ID
	A, B    *outcome.Setting
	Same    bool // in status and value; where it comes from may differ all the same
}

// Pair is two subjects side by side.
type Pair struct {
	A, B         *outcome.Result
	Settings     []SettingPair     // every setting that either has, by id
	OnlyA, OnlyB []estate.PolicyID // policies that apply to one of them
	GroupsA      []estate.GroupID  // groups that one of them is in
	GroupsB      []estate.GroupID
}

// Beside compares two subjects; each is resolved in its own plan. Settings that one of the two has
// are listed as well.
func Beside(a, b *outcome.Result, planA, planB *resolve.Plan) Pair {
	out := Pair{A: a, B: b}
	// Both lists are in the order of ids: they are merged, and a setting that one side lacks leaves
	// that side nil.
	x, y := a.Settings, b.Settings
	for len(x) > 0 || len(y) > 0 {
		var p SettingPair
		if len(y) == 0 || len(x) > 0 && x[0].ID <= y[0].ID {
			p.Setting = x[0].ID
		} else {
			p.Setting = y[0].ID
		}
		if len(x) > 0 && x[0].ID == p.Setting {
			p.A, x = &x[0], x[1:]
		}
		if len(y) > 0 && y[0].ID == p.Setting {
			p.B, y = &y[0], y[1:]
		}
		// Where the value comes from may differ although the value is the same.
		p.Same = p.A != nil && p.B != nil && p.A.Status == p.B.Status && p.A.Value.Equal(p.B.Value)
		out.Settings = append(out.Settings, p)
	}
	out.OnlyA, out.OnlyB = onlyOne(planA.Applying(a), planB.Applying(b))
	out.GroupsA, out.GroupsB = onlyOne(sortedGroups(planA, a), sortedGroups(planB, b))
	return out
}

// sortedGroups gives the groups of a laptop and of the person who signs in, sorted, each once.
func sortedGroups(plan *resolve.Plan, r *outcome.Result) []estate.GroupID {
	out := plan.GroupsOf(r.Device)
	if r.Person != "" {
		out = append(out, plan.GroupsOfPerson(r.Person)...)
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// onlyOne gives what is in one of two sorted lists.
func onlyOne[T cmp.Ordered](a, b []T) (onlyA, onlyB []T) {
	for len(a) > 0 || len(b) > 0 {
		switch {
		case len(b) == 0 || len(a) > 0 && a[0] < b[0]:
			onlyA, a = append(onlyA, a[0]), a[1:]
		case len(a) == 0 || b[0] < a[0]:
			onlyB, b = append(onlyB, b[0]), b[1:]
		default:
			a, b = a[1:], b[1:]
		}
	}
	return onlyA, onlyB
}

// WhatIf is what is supposed of one laptop. Zero fields suppose nothing.
type WhatIf struct {
	Unit   estate.UnitID    // it moves there
	Join   []estate.GroupID // it, or for groups of people its owner, joins these
	Leave  []estate.GroupID // it leaves these: as a listed member and by the rule; not through member groups
	Owner  *estate.PersonID // it gets this owner; empty: none
	Person estate.PersonID  // who signs in, when it is not the owner
}

// Suppose resolves one laptop as it is and as it would be. The estate around it is left out, so
// that it costs a compilation with one laptop and not with all. The error is a
// *resolve.UnknownError: the laptop, or something that is supposed, is not in the snapshot.
func Suppose(s *estate.Snapshot, id estate.DeviceID, w WhatIf) (Pair, error) {
	device := s.Device(id)
	if device == nil {
		return Pair{}, &resolve.UnknownError{Kind: "device", ID: string(id)}
	}
	// A copy is altered: the snapshot is shared.
	moved := *device
	if w.Unit != "" {
		moved.Unit = w.Unit
	}
	if w.Owner != nil {
		moved.Owner = *w.Owner
	}
	// Only people who can matter to the laptop stay in the small estate.
	wanted := map[estate.PersonID]bool{device.Owner: true, moved.Owner: true, w.Person: true}
	var people []*estate.Person
	for _, p := range s.People {
		if wanted[p.ID] || slices.Contains(device.Users, p.ID) {
			people = append(people, p)
		}
	}
	for _, p := range []estate.PersonID{moved.Owner, w.Person} {
		if p != "" && !slices.ContainsFunc(people, func(known *estate.Person) bool { return known.ID == p }) {
			return Pair{}, &resolve.UnknownError{Kind: "person", ID: string(p)}
		}
	}
	if w.Unit != "" && !slices.ContainsFunc(s.Units, func(u estate.Unit) bool { return u.ID == w.Unit }) {
		return Pair{}, &resolve.UnknownError{Kind: "unit", ID: string(w.Unit)}
	}
	// Both estates have one laptop. Rules, policies and settings are those of the whole estate, so
	// the answer is the same as in it.
	before := s.Only([]*estate.Device{device}, people)
	after := s.Only([]*estate.Device{&moved}, people)
	for _, change := range []struct {
		groups []estate.GroupID
		join   bool
	}{{w.Join, true}, {w.Leave, false}} {
		for _, g := range change.groups {
			i := slices.IndexFunc(after.Groups, func(known estate.Group) bool { return known.ID == g })
			if i < 0 {
				return Pair{}, &resolve.UnknownError{Kind: "group", ID: string(g)}
			}
			group := &after.Groups[i]
			// A group of people has the owner as its member; without one nobody joins it.
			who := string(moved.Owner)
			if group.Of == estate.OfDevices {
				who = string(id)
			}
			// Joining and leaving both begin by taking the member out, so that nobody is listed
			// twice.
			group.Members = slices.DeleteFunc(slices.Clone(group.Members), func(m string) bool { return m == who })
			if change.join && who != "" {
				group.Members = append(group.Members, who)
			}
			// Leaving ends the membership by rule as well. The rule is needed by nobody else: the
			// group has no other laptops here.
			if !change.join {
				group.Rule = nil
			}
		}
	}
	planA := resolve.Compile(before)
	planB := planA.With(after)
	a, err := planA.Effective(id, "")
	if err != nil {
		return Pair{}, err
	}
	b, err := planB.Effective(id, w.Person)
	if err != nil {
		return Pair{}, err
	}
	return Beside(a, b, planA, planB), nil
}
