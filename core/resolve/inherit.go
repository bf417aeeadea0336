// This file says what a unit or a group inherits: what arrives from above, what is overridden by
// what, and what does not arrive at all.
//
// Each setting is decided again with an observer, for the laptops of the place. Every candidate has
// a level there; its level compared with that of the place tells whether it comes from above, from
// here, from beside (another group) or from closer. Laptops are then counted by fate. A setting can
// be inherited on some laptops of a place and overridden on others, so each answer is a number of
// laptops.

package resolve

import (
	"cmp"
	"maps"
	"slices"
	"sync"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
)

// Inherited is how a setting comes to the laptops of a place: a unit with all below it, or a group.
// Counts are laptops of the place. One laptop may count in several: where an entry from above is
// overridden, the value in effect is the place's own.
type Inherited struct {
	Setting    setting.ID
	Above      int // the value in effect comes from above, of lists in part
	Locked     int // of those, where an entry from above is locked
	Overridden int // an entry from above is overridden by one from here, beside or closer, or by an exception
	Detached   int // an entry from above does not arrive: the place, or one within it, is detached
	Own        int // the value in effect comes from here, beside or closer alone
	Clashing   int // policies conflict
	Arrivals   []Arrival
}

// Arrival is an entry as it comes to the laptops of a place from one level. A policy that applies
// to the place at two levels has two arrivals.
type Arrival struct {
	Policy estate.PolicyID
	Value  setting.Value
	Locked bool
	Level  outcome.Level
	Whence outcome.Whence
	// laptops of the place that it comes to, detached ones too; those that do not support the
	// setting are left out
	Devices int
	Fates   map[outcome.Fate]int // what becomes of it there
	Beaten  []Beaten             // by what, where it is not in effect: most laptops first
}

// Beaten counts the laptops of a place on which something else is in effect instead of an entry.
type Beaten struct {
	Policy    estate.PolicyID // empty: an exception
	Exception string
	Devices   int
}

// Inheritance says how each setting comes to the laptops of a unit or a group, by setting; arrivals
// come from the outermost level inwards. Settings that nothing brings there are left out. Without
// settings named it says it of all. It is nil where the target names nothing.
func (p *Plan) Inheritance(t estate.Target, settings ...setting.ID) []Inherited {
	at := p.Target(t)
	// A target that names nothing has no laptops. Everyone always names the root.
	if at.At == intern.None && t.Kind != estate.ToEveryone {
		return nil
	}
	asked := p.bySetting
	if len(settings) > 0 {
		asked = nil
		// An id that the dictionary does not have is left out; an id that was named twice is
		// answered once.
		for _, id := range slices.Compact(slices.Sorted(slices.Values(settings))) {
			if s, known := p.settingAt.Number(id); known {
				asked = append(asked, s)
			}
		}
	}
	// Threads work on different blocks and add to the same counts, which have a lock each.
	found := make([]inheritCount, len(p.settings))
	p.eachBlockParallel(p.Laptops(), func() func(w *worker) {
		return func(w *worker) {
			place := w.Target(&at)
			if place == nil || place.Empty() {
				return
			}
			for _, s := range asked {
				// A setting without entries has nothing to inherit.
				if c := &p.settings[s]; len(c.Ranked) > 0 {
					// The sets of the setting before are not needed any more.
					w.DropAside()
					w.Release(0)
					found[s].add(w.observe(c, place), place, c, t)
				}
			}
		}
	})
	var out []Inherited
	for _, s := range asked {
		// No arrivals: nothing brings the setting to the place.
		if found[s].arrivals != nil {
			out = append(out, found[s].made(p.settings[s].Def.ID))
		}
	}
	return out
}

// whence says where an entry comes from as seen from a place, by comparing levels.
func (p *Plan) whence(s *decide.Ranked, t estate.Target) outcome.Whence {
	// here is the level of the place itself. What is below it comes from above, what is above it
	// comes from closer.
	here := outcome.GroupLevel
	switch t.Kind {
	case estate.ToEveryone:
		here = 0
	case estate.ToUnit:
		at, _ := p.UnitAt.Number(estate.UnitID(t.ID))
		here = outcome.Level(p.Units[at].Depth)
	}
	switch {
	case s.Level < here:
		return outcome.FromAbove
	case s.Level > here:
		return outcome.FromCloser
	// Another group is at the same level. It is beside the place, not above it.
	case t.Kind == estate.ToGroup && !slices.Contains(p.policies[s.Policy].Audience.Include, t):
		return outcome.FromBeside
	}
	return outcome.FromHere
}

// inheritCount adds up what was seen of a setting in all blocks. Its Inherited holds the counts so
// far, without Setting and Arrivals, which made fills in.
type inheritCount struct {
	guard sync.Mutex
	Inherited
	arrivals map[*decide.Ranked]*arrivalCount
}

// arrivalCount is an arrival with what beats it, while that is counted.
type arrivalCount struct {
	Arrival
	policies   map[estate.PolicyID]int // that stand instead of it
	exceptions map[string]int
}

// add counts one block. It is called by several threads. The sets that it gets belong to the
// caller's worker and are not kept; only numbers of laptops are.
func (g *inheritCount) add(s *observed, place *bitset.Set, c *settingIndex, t estate.Target) {
	if len(s.in) == 0 {
		return
	}
	p := s.w.plan
	// reached: by candidate, the laptops of the place that the entry comes to and that support the
	// setting.
	reached := make([]*bitset.Set, len(s.in))
	somebody := false
	for i := range s.in {
		reached[i] = s.w.reachedBy(c, &s.in[i], place)
		somebody = somebody || !reached[i].Empty()
	}
	if !somebody {
		return
	}
	// Sets are local to the thread up to here; from here on counts are shared.
	g.guard.Lock()
	defer g.guard.Unlock()
	if g.arrivals == nil {
		g.arrivals = map[*decide.Ranked]*arrivalCount{}
	}
	var inEffect, above, locked, apart, beaten, not, clashing, here bitset.Set // laptops, block by block
	var winners []int
	// First the laptops on which something is in effect, by where that comes from: from above, or
	// from here, beside or closer.
	whences := make([]outcome.Whence, len(s.in))
	for i, of := range s.in {
		whences[i] = p.whence(of.Ranked, t)
		if won := s.became[i][outcome.Won]; won != nil {
			winners = append(winners, i)
			if whences[i] == outcome.FromAbove {
				above.Or(won)
				if of.Lock {
					locked.Or(won)
				}
			} else {
				inEffect.Or(won)
			}
		}
		if rows := s.became[i][outcome.Clashing]; rows != nil {
			clashing.Or(rows)
		}
	}
	// An exception replaces whatever would come from above.
	for _, rows := range s.exempting {
		for _, reached := range reached {
			if here.SetAnd(rows, reached) {
				inEffect.Or(&here)
			}
		}
	}
	// Then, entry by entry, what became of it on the laptops of the place.
	for i, reached := range reached {
		if reached.Empty() {
			continue
		}
		of, whence := s.in[i].Ranked, whences[i]
		is := g.arrivals[of]
		if is == nil {
			is = &arrivalCount{
				Arrival: Arrival{
					Policy: p.policies[of.Policy].ID,
					Value:  c.Entries[s.in[i].Rank].Value,
					Locked: of.Lock,
					Level:  of.Level,
					Whence: whence,
					Fates:  map[outcome.Fate]int{},
				},
				policies:   map[estate.PolicyID]int{},
				exceptions: map[string]int{},
			}
			g.arrivals[of] = is
		}
		// not collects the laptops on which this entry is not in effect although it arrives.
		is.Devices += reached.Len()
		not.Clear()
		for word, rows := range s.became[i] {
			if rows == nil {
				continue
			}
			fate := outcome.Fate(word)
			is.Fates[fate] += rows.Len()
			switch {
			// In effect, or part of a conflict: nothing beats it there.
			case fate == outcome.Won || fate == outcome.Clashing:
				continue
			case fate == outcome.Detached && whence == outcome.FromAbove:
				apart.Or(rows)
			case fate == outcome.Detached:
			// Overridden is only what comes from above and is beaten by something that does not.
			case whence == outcome.FromAbove:
				if here.SetAnd(rows, &inEffect) {
					beaten.Or(&here)
				}
			}
			if fate != outcome.Detached {
				not.Or(rows)
			}
		}
		if not.Empty() {
			continue
		}
		// What beats an entry is told by whoever won on the same laptops, or by the exception that
		// decided there.
		for x, rows := range s.exempting {
			if here.SetAnd(rows, &not) {
				is.exceptions[string(x.ID)] += here.Len()
			}
		}
		for _, other := range winners {
			if here.SetAnd(s.became[other][outcome.Won], &not) {
				is.policies[p.policies[s.in[other].Policy].ID] += here.Len()
			}
		}
	}
	g.Above += above.Len()
	g.Locked += locked.Len()
	g.Overridden += beaten.Len()
	g.Detached += apart.Len()
	// A list that is put together may come from above and from here on the same laptop: it counts
	// as coming from above.
	inEffect.AndNot(&above)
	g.Own += inEffect.Len()
	g.Clashing += clashing.Len()
}

// made gives what was added up, in order: arrivals by level and policy, what beats them by the
// number of laptops.
func (g *inheritCount) made(id setting.ID) Inherited {
	out := g.Inherited
	out.Setting = id
	for _, a := range g.arrivals {
		for _, policy := range slices.Sorted(maps.Keys(a.policies)) {
			a.Beaten = append(a.Beaten, Beaten{Policy: policy, Devices: a.policies[policy]})
		}
		for _, x := range slices.Sorted(maps.Keys(a.exceptions)) {
			a.Beaten = append(a.Beaten, Beaten{Exception: x, Devices: a.exceptions[x]})
		}
		// Stable: policies of equal numbers stay by id, and come before exceptions.
		slices.SortStableFunc(a.Beaten, func(x, y Beaten) int { return cmp.Compare(y.Devices, x.Devices) })
		out.Arrivals = append(out.Arrivals, a.Arrival)
	}
	slices.SortFunc(out.Arrivals, func(a, b Arrival) int {
		return cmp.Or(cmp.Compare(a.Level, b.Level), cmp.Compare(a.Policy, b.Policy))
	})
	return out
}
