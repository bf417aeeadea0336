package match_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/demo/world"
)

// madeUp is an estate of two blocks of laptops, with bounds and conditions that world leaves out.
func madeUp(t *testing.T) (*estate.Snapshot, *match.Population) {
	t.Helper()
	s := world.Make(world.Size{Devices: bitset.Rows + 500, Units: 30, Groups: 60, Policies: 40, Settings: 40}, 11)
	for i := range s.Policies {
		switch i % 5 {
		case 1:
			s.Policies[i].Within = s.Units[i%len(s.Units)].ID
		case 2:
			s.Policies[i].State = estate.Draft
		case 3:
			s.Policies[i].Audience.Exclude = append(s.Policies[i].Audience.Exclude, estate.Target{Kind: estate.ToUnit, ID: string(s.Units[i%7].ID)})
		}
	}
	return s, &resolve.Compile(s).Population
}

// told is what Match says of one row.
type told struct {
	level outcome.Level
	why   outcome.Reason
}

// listener gathers what Match says, and finds rows that are told twice.
type listener struct {
	t    *testing.T
	base int
	by   map[int]told
}

func (l *listener) take(rows *bitset.Set, is told) {
	for row := range rows.All() {
		if was, twice := l.by[l.base+row]; twice {
			l.t.Errorf("row %d is told twice: %v and %v", l.base+row, was, is)
		}
		l.by[l.base+row] = is
	}
}

func (l *listener) Not(why outcome.Reason, rows *bitset.Set) {
	l.take(rows, told{outcome.NoLevel, why})
}
func (l *listener) Includes(*match.Target, *bitset.Set)           {}
func (l *listener) Excludes(*match.Target, *bitset.Set)           {}
func (l *listener) Fails(*bitset.Set)                             {}
func (l *listener) applies(level outcome.Level, rows *bitset.Set) { l.take(rows, told{level, ""}) }

// TestASetIsAnsweredAsItsRows matches every policy over all laptops, over parts of them, and over
// each by itself as a pair of laptop and owner: every row is told once, and the same in all ways.
func TestASetIsAnsweredAsItsRows(t *testing.T) {
	t.Parallel()
	s, pop := madeUp(t)
	var whole, part, alone match.Matcher
	random := rand.New(rand.NewPCG(5, 6))
	reasons := map[outcome.Reason]int{}
	for i := range s.Policies {
		audience := pop.Audience(&s.Policies[i])
		all := &listener{t: t, by: map[int]told{}}
		for block := range pop.Blocks() {
			var alive, some bitset.Set
			pop.Alive[block].Into(&alive)
			whole.Begin(pop, pop.Laptops())
			whole.Load(block, &alive)
			all.base = block << bitset.Shift
			whole.Match(&audience, all, func(at int, rows *bitset.Set) { all.applies(audience.Levels[at], rows) })

			// A part of the block, widened to another part.
			part.Begin(pop, pop.Laptops())
			some.Add(0)
			part.Load(block, &some)
			part.Match(&audience, nil, func(int, *bitset.Set) {}) // what was found for the first row is not good for others
			some.Clear()
			for row := range alive.All() {
				if random.IntN(3) == 0 {
					some.Add(row)
				}
			}
			part.Widen(&some)
			few := &listener{t: t, base: all.base, by: map[int]told{}}
			part.Match(&audience, few, func(at int, rows *bitset.Set) { few.applies(audience.Levels[at], rows) })
			for row := range alive.All() {
				got, asked := few.by[all.base+row]
				if asked != some.Has(row) || asked && got != all.by[all.base+row] {
					t.Fatalf("%s: row %d is %v in a part, %v in the whole", s.Policies[i].ID, row, got, all.by[all.base+row])
				}
			}
		}
		if len(all.by) != len(s.Devices) {
			t.Errorf("%s: %d of %d laptops are told", s.Policies[i].ID, len(all.by), len(s.Devices))
		}
		for at, is := range all.by {
			if reasons[is.why]++; random.IntN(40) > 0 {
				continue
			}
			var one bitset.Set
			one.Add(0)
			alone.Begin(pop, match.Pair(at, pop.Devices.At(at).OwnerAt))
			alone.Load(0, &one)
			single := &listener{t: t, by: map[int]told{}}
			alone.Match(&audience, single, func(level int, rows *bitset.Set) { single.applies(audience.Levels[level], rows) })
			if single.by[0] != is {
				t.Fatalf("%s: %s alone is %v, %v among all", s.Policies[i].ID, pop.Devices.At(at).ID, single.by[0], is)
			}
		}
	}
	for _, why := range []outcome.Reason{"", outcome.NotActive, outcome.Outside, outcome.NotIncluded, outcome.Excluded} {
		if reasons[why] == 0 {
			t.Errorf("no laptop has the reason %q: the estate shows too little", why)
		}
	}
}

// TestUnitsAndGroupsHaveTheirRows compares the rows of every unit with the tree, walked from each
// laptop up, and those of every group with the question for one laptop.
func TestUnitsAndGroupsHaveTheirRows(t *testing.T) {
	t.Parallel()
	s, pop := madeUp(t)
	parent := map[estate.UnitID]estate.UnitID{}
	for i := range s.Units {
		parent[s.Units[i].ID] = s.Units[i].Parent
	}
	var m match.Matcher
	m.Begin(pop, pop.Laptops())
	for block := range pop.Blocks() {
		var alive bitset.Set
		pop.Alive[block].Into(&alive)
		m.Load(block, &alive)
		within := map[string]bool{}
		for row := range alive.All() {
			d := pop.Devices.At(block<<bitset.Shift + row)
			for u := pop.Units[d.HomeAt].ID; u != ""; u = parent[u] {
				within[fmt.Sprint(u, " ", row)] = true
			}
		}
		found := 0
		for at := range pop.Units {
			if rows := m.Unit(at); rows != nil {
				for row := range rows.All() {
					if found++; !within[fmt.Sprint(pop.Units[at].ID, " ", row)] {
						t.Fatalf("%s has row %d, which is elsewhere", pop.Units[at].ID, row)
					}
				}
			}
		}
		if found != len(within) {
			t.Errorf("units have %d rows, expected %d", found, len(within))
		}
		for at := range pop.Groups {
			rows := m.Group(at)
			for row := range alive.All() {
				dev := block<<bitset.Shift + row
				if in := pop.InGroup(dev, pop.Devices.At(dev).OwnerAt, at); in != (rows != nil && rows.Has(row)) {
					t.Fatalf("%s is in %s: %v by itself, %v among all", pop.Devices.At(dev).ID, pop.Groups[at].ID, in, !in)
				}
			}
		}
	}
}

// TestTargetsThatNameNothing says what is left of an audience that names what there is not.
func TestTargetsThatNameNothing(t *testing.T) {
	t.Parallel()
	s, pop := madeUp(t)
	nobody := estate.Target{Kind: estate.ToGroup, ID: "no-such-group"}
	everyone := estate.Target{Kind: estate.ToEveryone}
	reach := func(p *estate.Policy) (n int) {
		a := pop.Audience(p)
		var m match.Matcher
		for block := range pop.Blocks() {
			var alive bitset.Set
			pop.Alive[block].Into(&alive)
			m.Begin(pop, pop.Laptops())
			m.Load(block, &alive)
			m.Match(&a, nil, func(_ int, rows *bitset.Set) { n += rows.Len() })
		}
		return n
	}
	policy := func(within estate.UnitID, include, exclude []estate.Target) *estate.Policy {
		return &estate.Policy{ID: "p", State: estate.Active, Within: within, Audience: estate.Audience{Include: include, Exclude: exclude}}
	}
	all := len(s.Devices)
	for name, c := range map[string]struct {
		p    *estate.Policy
		want int
	}{
		"everyone":                       {policy("", []estate.Target{everyone}, nil), all},
		"a group that there is not":      {policy("", []estate.Target{nobody}, nil), 0},
		"that group, and everyone":       {policy("", []estate.Target{nobody, everyone}, nil), all},
		"everyone but that group":        {policy("", []estate.Target{everyone}, []estate.Target{nobody}), all},
		"within a unit that there isn't": {policy("no-such-unit", []estate.Target{everyone}, nil), 0},
		"no include":                     {policy("", nil, nil), 0},
	} {
		if got := reach(c.p); got != c.want {
			t.Errorf("%s: %d laptops, expected %d", name, got, c.want)
		}
	}
}

// TestLevelsAreOrdered: an individual target is closer than a group, a group than any unit, and the
// closest counts.
func TestLevelsAreOrdered(t *testing.T) {
	t.Parallel()
	s, pop := madeUp(t)
	device := pop.Devices.At(0) // numbers are in the order of units
	targets := []estate.Target{
		{Kind: estate.ToUnit, ID: string(pop.Units[pop.Root].ID)}, {Kind: estate.ToUnit, ID: string(pop.Units[pop.Devices.At(0).HomeAt].ID)},
		{Kind: estate.ToGroup, ID: string(s.Groups[0].ID)}, {Kind: estate.ToDevice, ID: string(device.ID)},
	}
	levels := make([]outcome.Level, len(targets))
	for i, target := range targets {
		is := pop.Target(target)
		if is.At == intern.None {
			t.Fatalf("%s names nothing", target)
		}
		levels[i] = is.Level
	}
	a := pop.Audience(&estate.Policy{ID: "p", State: estate.Active, Audience: estate.Audience{Include: targets}})
	var m match.Matcher
	var first bitset.Set
	first.Add(0)
	m.Begin(pop, pop.Laptops())
	m.Load(0, &first)
	m.Match(&a, nil, func(at int, _ *bitset.Set) {
		if a.Levels[at] != outcome.IndividualLevel {
			t.Errorf("a laptop that is named has the policy at %s", a.Levels[at])
		}
	})
	if !slices.IsSorted(levels) || levels[0] != 0 || levels[2] != outcome.GroupLevel || levels[3] != outcome.IndividualLevel {
		t.Errorf("the levels are %v", levels)
	}
}
