// This file says what settings are in each unit: the value that most of its laptops have, and how
// many have something else.
//
// The console's matrix of units and settings is made of it (AcrossUnits), the page of a setting
// (Everywhere), and the page of a unit or a group (Inherit). All of them count laptops and look at
// no laptop by itself: the core gives sets, and sets are counted by unit.

package review

import (
	"cmp"
	"iter"
	"maps"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/impact"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/core/threads"
)

// Place is a unit with all below it.
type Place struct {
	*estate.Unit
	Depth   int // of the organisation 0
	Devices int // laptops in it and below
	parent  int // the row of the unit above it; -1: none does
}

// Places lists a unit and all below it, each above those below it, by title. Without a unit it
// lists all.
func Places(side impact.Side, root estate.UnitID) []Place {
	snapshot := side.Plan.Snapshot()
	// Units by the unit above them, so that the tree can be walked from the top.
	below := map[estate.UnitID][]*estate.Unit{}
	for i := range snapshot.Units {
		u := &snapshot.Units[i]
		below[u.Parent] = append(below[u.Parent], u)
	}
	var out []Place
	var add func(u *estate.Unit, depth, parent int)
	// add puts a unit and then all below it at the end of the list. The parent of a unit comes
	// before it, so that sums can be carried upwards row by row.
	add = func(u *estate.Unit, depth, parent int) {
		at := len(out)
		out = append(out, Place{Unit: u, Depth: depth, parent: parent})
		list := below[u.ID]
		slices.SortFunc(list, func(a, b *estate.Unit) int { return cmp.Or(cmp.Compare(a.Title, b.Title), cmp.Compare(a.ID, b.ID)) })
		for _, child := range list {
			add(child, depth+1, at)
		}
	}
	// A list without a unit begins with the organisation, which has no unit above it. The depth of
	// a part of the tree is still counted from the organisation, as elsewhere.
	if root == "" {
		for _, u := range below[""] {
			add(u, 0, -1)
		}
	} else if u := side.Plan.Unit(root); u != nil {
		add(u, len(side.Plan.UnitPaths()[root])-1, -1)
	}
	// Places without laptops are not in what of gives, and keep 0.
	for at, n := range count(out).of(side.Plan.All()) {
		out[at].Devices = n
	}
	return out
}

// counter counts laptops by place, those of the places below it among them.
type counter struct {
	places []Place
	at     map[estate.UnitID]int
	counts []int
	has    []int // places that have any
}

// count gives what counts laptops by place. It has buffers that are used again for each setting.
func count(places []Place) *counter {
	// Units of laptops that are not in the list are not found in at, and are not counted.
	c := &counter{places: places, at: make(map[estate.UnitID]int, len(places)), counts: make([]int, len(places))}
	for i := range places {
		c.at[places[i].ID] = i
	}
	return c
}

// of gives how many laptops of a set each place has that has any. The next question may come when
// this one is through.
func (c *counter) of(devices resolve.Devices) iter.Seq2[int, int] {
	c.has = c.has[:0]
	for _, u := range devices.ByUnit() {
		// A unit counts for itself and for all units above it, up to the first place of the list.
		at, known := c.at[u.Of]
		for known && at >= 0 {
			if c.counts[at] == 0 {
				c.has = append(c.has, at)
			}
			c.counts[at] += u.Devices
			at = c.places[at].parent
		}
	}
	return func(yield func(int, int) bool) {
		going := true
		// Counts are put back to 0 while they are read, so that the next question begins with
		// zeros.
		for _, at := range c.has {
			going = going && yield(at, c.counts[at])
			c.counts[at] = 0
		}
	}
}

// Prevailing is what a setting is on most laptops of a place; the zero State, where most do not
// have it at all.
type Prevailing struct {
	outcome.State
	Policies []string // of a conflict: those that conflict
	Devices  int      // laptops of the place that have it so
	Others   int      // that have it otherwise
	Apart    bool     // it is not what prevails in the unit above
}

// prevail says by place what a setting is there. devices are the laptops of the first place.
func prevail(side impact.Side, places []Place, id setting.ID, devices resolve.Devices) []Prevailing {
	out := make([]Prevailing, len(places))
	states := side.Resolution.States(id, devices)
	if len(states) == 0 {
		return out
	}
	// States come with the most frequent first. Its laptops are not counted by place: they are what
	// is left when all others are.
	rest := make([]int, len(places)) // laptops of the most frequent state: those of no other
	for at := range places {
		rest[at] = places[at].Devices
	}
	// take notes a state that more laptops of the place have than any state before. Of states that
	// equally many have, the one stays that is more frequent in the estate.
	take := func(at, n int, h *resolve.StateDevices) {
		if n > out[at].Devices {
			out[at] = Prevailing{State: h.State, Policies: h.Policies, Devices: n}
		}
	}
	counter := count(places)
	for i := range states[1:] {
		// Each laptop has one state of a setting, so what is counted here is missing from the rest.
		for at, n := range counter.of(states[1+i].Devices) {
			rest[at] -= n
			take(at, n, &states[1+i])
		}
	}
	// The most frequent state of the estate wins a tie.
	// A parent has a lower row than the places below it: out[up] is final when a place is compared
	// with it.
	for at, n := range rest {
		if n > 0 && n >= out[at].Devices {
			out[at] = Prevailing{State: states[0].State, Policies: states[0].Policies, Devices: n}
		}
		out[at].Others = places[at].Devices - out[at].Devices
		// A place without laptops has nothing, and is not apart from anything.
		if up := places[at].parent; up >= 0 && places[at].Devices > 0 {
			out[at].Apart = !out[at].Equal(out[up].State) || !slices.Equal(out[at].Policies, out[up].Policies)
		}
	}
	return out
}

// Row is a setting with what it is at each place of a matrix.
type Row struct {
	Setting setting.ID
	Cells   []Prevailing // by place
}

// Matrix puts settings beside places.
type Matrix struct {
	Places []Place
	Rows   []Row // by setting
	Even   int   // settings left out since every laptop has them alike
}

// AcrossUnits makes the matrix of a unit and the units right below it, or with deep of all below
// it. Settings that nobody there has are left out, and without all those that every laptop there
// has alike. With settings named it is about these alone.
func AcrossUnits(side impact.Side, unit estate.UnitID, deep, all bool, named func(*setting.Definition) bool) Matrix {
	places := Places(side, unit)
	out := Matrix{}
	var shown []int
	for at := range places {
		if deep || at == 0 || places[at].parent == 0 {
			shown = append(shown, at)
			out.Places = append(out.Places, places[at])
		}
	}
	if len(places) == 0 {
		return out
	}
	devices := side.Plan.Matching(estate.Target{Kind: estate.ToUnit, ID: string(places[0].ID)})
	snapshot := side.Plan.Snapshot()
	// Settings are computed on all threads, each for all places at once.
	cells := make([][]Prevailing, len(snapshot.Settings))
	threads.Share(len(cells), func(mine iter.Seq[int]) {
		for i := range mine {
			if def := &snapshot.Settings[i]; named == nil || named(def) {
				cells[i] = prevail(side, places, def.ID, devices)
			}
		}
	})
	// A setting that was not asked for has no cells. The first cell is the unit itself, of which
	// all other places are parts: what is alike there is alike everywhere.
	for i, here := range cells {
		// Nobody there has it.
		if here == nil || here[0].Devices == 0 || here[0].Others == 0 && here[0].Status == "" {
			continue
		}
		if here[0].Others == 0 && !all {
			out.Even++
			continue
		}
		row := Row{Setting: snapshot.Settings[i].ID}
		for _, at := range shown {
			row.Cells = append(row.Cells, here[at])
		}
		out.Rows = append(out.Rows, row)
	}
	slices.SortFunc(out.Rows, func(a, b Row) int { return cmp.Compare(a.Setting, b.Setting) })
	return out
}

// Given is a value that a policy brings to a place by name.
type Given struct {
	Policy  estate.PolicyID
	Value   setting.Value
	Locked  bool
	Devices int // of the place, that the policy reaches
	Decides int // of these, on which its value is in effect, or part of what is
}

// Decider is a policy whose value is in effect on laptops of a place.
type Decider struct {
	Policy  estate.PolicyID
	Devices int
}

// InUnit is what a setting is in one unit.
type InUnit struct {
	Place
	Prevailing
	Deciders []Decider // the policy that decides on most laptops first
	Given    []Given   // by the policies for this unit by name
}

// InGroup is what a setting is in a group that some policy brings it to by name.
type InGroup struct {
	*estate.Group
	Prevailing
	Deciders []Decider
	Given    []Given
}

// Whereabouts is what a setting is everywhere.
type Whereabouts struct {
	States []resolve.StateDevices // the most frequent first
	Places []InUnit               // the tree of units
	Groups []InGroup              // those that are given it, by id
}

// Everywhere says what a setting is in each unit, and in the groups that are given it.
func Everywhere(side impact.Side, id setting.ID) Whereabouts {
	places := Places(side, "")
	out := Whereabouts{States: side.Resolution.States(id, side.Plan.All())}
	// The laptops of each policy whose value is in effect, found once and then counted by place.
	won := side.Plan.Winners(id, side.Plan.All())
	given := map[estate.Target][]Given{}
	snapshot := side.Plan.Snapshot()
	for i := range snapshot.Policies {
		p := &snapshot.Policies[i]
		e := p.Entry(id)
		if e == nil || p.State != estate.Active {
			continue
		}
		reached := side.Plan.Applies(p.ID)
		// A policy that includes three units is counted at each of them. What it does at a place is
		// found among the laptops of that place alone: another include of the same policy does not
		// count there.
		for _, t := range p.Audience.Include {
			at := t
			// A policy for everyone is shown at the organisation.
			if t.Kind == estate.ToEveryone && len(places) > 0 {
				at = estate.Target{Kind: estate.ToUnit, ID: string(places[0].ID)}
			}
			here := reached.And(side.Plan.Matching(at))
			given[at] = append(given[at], Given{p.ID, e.Value, e.Lock, here.Len(), here.And(won[p.ID]).Len()})
		}
	}
	winners := slices.Sorted(maps.Keys(won))
	deciders := make([][]Decider, len(places))
	counter := count(places)
	for _, policy := range winners {
		for at, n := range counter.of(won[policy]) {
			deciders[at] = append(deciders[at], Decider{policy, n})
		}
	}
	// Every unit is listed, also where nobody has the setting: the tree would have gaps otherwise.
	for at, p := range prevail(side, places, id, side.Plan.All()) {
		mostFirst(deciders[at])
		out.Places = append(
			out.Places,
			InUnit{places[at], p, deciders[at], given[estate.Target{Kind: estate.ToUnit, ID: string(places[at].ID)}]},
		)
	}
	// Groups are many and most have nothing to do with a setting. Only those that some policy
	// includes by name are listed.
	for i := range snapshot.Groups {
		g := &snapshot.Groups[i]
		t := estate.Target{Kind: estate.ToGroup, ID: string(g.ID)}
		if len(given[t]) == 0 {
			continue
		}
		devices := side.Plan.Matching(t)
		in := InGroup{Group: g, Given: given[t]}
		if most, ok := side.Resolution.Most(id, devices); ok {
			in.Prevailing = prevailing(&most, devices.Len())
		}
		for _, policy := range winners {
			if n := won[policy].And(devices).Len(); n > 0 {
				in.Deciders = append(in.Deciders, Decider{policy, n})
			}
		}
		mostFirst(in.Deciders)
		out.Groups = append(out.Groups, in)
	}
	slices.SortFunc(out.Groups, func(a, b InGroup) int { return cmp.Compare(a.Group.ID, b.Group.ID) })
	return out
}

// mostFirst puts the policy that decides on most laptops first; those of equal numbers by id.
func mostFirst(list []Decider) {
	slices.SortFunc(list, func(a, b Decider) int {
		return cmp.Or(cmp.Compare(b.Devices, a.Devices), cmp.Compare(a.Policy, b.Policy))
	})
}

// InheritedHere is how a setting comes to a place, with the value that results there.
type InheritedHere struct {
	resolve.Inherited
	Prevailing
}

// Inherit says how settings come to a unit or a group, by setting, and counts its laptops.
func Inherit(side impact.Side, place estate.Target) (devices int, out []InheritedHere) {
	of := side.Plan.Matching(place)
	devices = of.Len()
	inherited := side.Plan.Inheritance(place)
	out = make([]InheritedHere, len(inherited))
	// Settings do not depend on each other, so that each thread takes some of them.
	threads.Share(len(inherited), func(mine iter.Seq[int]) {
		for i := range mine {
			out[i].Inherited = inherited[i]
			if most, ok := side.Resolution.Most(inherited[i].Setting, of); ok {
				out[i].Prevailing = prevailing(&most, devices)
			}
		}
	})
	return devices, out
}

// prevailing says of the state that most laptops have how many have another.
func prevailing(most *resolve.StateDevices, of int) Prevailing {
	n := most.Devices.Len()
	return Prevailing{State: most.State, Policies: most.Policies, Devices: n, Others: of - n}
}
