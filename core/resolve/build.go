// This file builds a plan from a snapshot and the plan before: it finds the differences, and from
// them what must be computed again. A first plan is built from the plan of an empty estate, so that
// there is one way to build.

package resolve

import (
	"slices"
	"sync"
	"sync/atomic"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/setting"
)

// changes is what must be computed again because of differences between two snapshots.
type changes struct {
	rows         []bitset.Packed // by block: touched laptops: new, gone or altered, or with an altered owner or unit
	systems      []bitset.Packed // by block: of these, laptops with another platform, version or edition
	moved        bool            // only paths of units altered for all of these
	rehomed      []bitset.Packed // by block: of these, laptops whose own unit moved, not only their owner's
	shiftedUnits map[int]bool    // units that laptops entered or left because units moved
	paths        []movedPath     // of units that moved
	groups       map[int]bool    // groups whose rule, list or nesting altered: computed for all laptops
	policies     map[int]bool    // policies whose audience altered: computed for all laptops
	edited       map[int][]int   // by setting: policies whose entry altered: decided for their laptops, before and after
	// by setting: policies with an entry for it that are at other levels since units moved: for the
	// touched laptops
	levels   map[int][]int
	settings map[int]bool   // settings to decide again for all laptops
	checks   map[int]bool   // checks to run again for all laptops
	detached []match.Target // units and groups that detach other kinds or areas than before
}

// movedPath is the path of a moved unit before and after, as expressions read it.
type movedPath struct{ was, is setting.Value }

// builder builds the plan next from the plan was.
type builder struct {
	was, next *Plan
	changes
	movedUnits    []bool // by unit: with another path; nil: none
	arrived       bool   // there are people or laptops that were not there before
	touchedPeople intern.DeviceSet
	peopleRows    []bitset.Packed // touchedPeople, by block
	gonePeople    []estate.PersonID
	listedAnew    map[int]bool // groups whose listed members were looked up again in this step

	dictionaryAltered bool // definitions are new, gone or altered
}

// nothing is the plan of an empty estate, from which first plans are built. Its tables of numbers
// are empty but not nil, so that building needs no special case for a first plan.
var nothing = &Plan{
	Population: match.Population{
		Root:     intern.None,
		UnitAt:   &intern.IDTable[estate.UnitID]{},
		PersonAt: &intern.IDTable[estate.PersonID]{},
		DeviceAt: &intern.IDTable[estate.DeviceID]{},
		GroupAt:  &intern.IDTable[estate.GroupID]{},
	},
	snapshot:  &estate.Snapshot{},
	policyAt:  &intern.IDTable[estate.PolicyID]{},
	settingAt: &intern.IDTable[setting.ID]{},
	checkAt:   &intern.IDTable[estate.CheckID]{},
}

// build gives the plan of a snapshot, made from the plan was; nil: from nothing. Each step compares
// a list of the new snapshot with that of the old one, shares what is equal, and notes in changes
// what must be computed again. At the end recompute does that.
func build(was *Plan, s *estate.Snapshot) *Plan {
	// All plans that come from one compilation share a generation, so that the numbers of values
	// and tests mean the same in all of them.
	words := (*intern.Generation)(nil)
	if was == nil {
		was, words = nothing, intern.NewGeneration()
	} else {
		words = was.Gen
	}
	// Indexed finds objects by id. It takes over from the snapshot before what is the same, so that
	// an edit of one policy indexes one policy.
	p := &Plan{snapshot: s.Indexed(was.snapshot), fields: &fieldCache{}, answers: was.answers}
	if was == nothing {
		p.answers = &answers{}
	}
	p.Gen = words
	// Both are found when they are first asked for: many plans are only previews, and nobody asks
	// those.
	p.Persons, p.failures = sync.OnceValue(p.gatherPeople), sync.OnceValue(p.countFailures)
	b := &builder{
		was:        was,
		next:       p,
		listedAnew: map[int]bool{},
		changes: changes{
			shiftedUnits: map[int]bool{},
			groups:       map[int]bool{},
			policies:     map[int]bool{},
			edited:       map[int][]int{},
			levels:       map[int][]int{},
			settings:     map[int]bool{},
			checks:       map[int]bool{},
		},
	}
	// The order matters: each step reads the numbers that the steps before it gave. Units come
	// first, since people and laptops are ordered by unit; policies come after groups and settings,
	// which they name.
	b.units()
	b.peopleAndDevices()
	b.groupsOf()
	p.GatherDetachedAreas()
	b.dictionary()
	b.policiesOf()
	b.decisions()
	// What is computed when it is first asked for is shared as long as nothing that it reads
	// differs.
	p.ranked = was.ranked
	if len(b.edited)+len(b.levels) > 0 || b.dictionaryAltered || was == nothing || !slices.Equal(p.firstMatch, was.firstMatch) {
		p.ranked = sync.OnceValue(p.indexRanked)
	}
	if p.naming = was.naming; len(b.changes.policies) > 0 || p.GroupAt != was.GroupAt || was == nothing {
		policies, groups := p.policies, len(p.Groups) // not the plan itself, which other plans would then keep in memory
		p.naming = sync.OnceValue(func() [][]int { return naming(policies, groups) })
	}
	// Rules are evaluated on codes of facts, which must be there before anything is matched.
	b.columns()
	p.blockMatches = make([]atomic.Pointer[blockMatches], p.Blocks())
	p.recompute(was, &b.changes)
	if was == nothing {
		p.Gen.Began()
	}
	return p
}

// units numbers the units, finds their paths, and notes which of them moved.
func (b *builder) units() {
	was, p := b.was, b.next
	d := intern.Compare(was.snapshot.Units, p.snapshot.Units, func(u *estate.Unit) estate.UnitID { return u.ID }, sameUnit)
	// The same units: the tree is shared, and no laptop moved.
	if d.Same && was.Root != intern.None {
		p.Units, p.UnitAt, p.Root, p.DetachingUnits = was.Units, was.UnitAt, was.Root, was.DetachingUnits
		return
	}
	// Units keep their numbers. The tree itself is built anew: there are few units compared with
	// laptops.
	p.UnitAt = was.UnitAt.With(d.Gone, intern.IDsAt(p.snapshot.Units, d.Fresh, func(u *estate.Unit) estate.UnitID { return u.ID }))
	p.Units = make([]match.Unit, p.UnitAt.N)
	for i := range p.snapshot.Units {
		u := &p.snapshot.Units[i]
		at := p.UnitAt.NumberOf(u.ID)
		p.Units[at].Unit = u
		if u.Parent == "" {
			p.Root = at
		}
	}
	for i := range p.Units {
		if p.Units[i].Unit == nil {
			continue
		}
		var path []int
		// The path is followed from the unit up to the root. The limit ends the loop if units form
		// a cycle, which Validate refuses.
		for at := i; at != intern.None && len(path) <= len(p.Units); at = p.UnitAt.NumberOf(p.Units[at].Parent) {
			path = append(path, at)
		}
		slices.Reverse(path)
		p.Units[i].Path, p.Units[i].Depth = path, len(path)-1
		// A unit whose path differs concerns all laptops below it: rules can read the path, and
		// levels are depths in it.
		if i >= len(was.Units) || was.Units[i].Unit == nil || !was.samePath(p, i) {
			if b.movedUnits == nil {
				b.movedUnits = make([]bool, len(p.Units))
			}
			b.movedUnits[i] = true
			if i < len(was.Units) && was.Units[i].Unit != nil {
				b.noteShift(was.Units[i].Path, path)
				b.paths = append(b.paths, movedPath{setting.ListValue(was.PathIDs(i)), setting.ListValue(p.PathIDs(i))})
			}
		}
	}
	// Units that detach something are few. Matching goes through this list for each entry that can
	// be detached.
	for i := range p.Units {
		if p.Units[i].Unit != nil && len(p.Units[i].Detach) > 0 {
			p.DetachingUnits = append(p.DetachingUnits, i)
		}
	}
	// Units that detach other things than before: what their laptops inherit is decided again.
	for _, i := range append(d.Altered, d.Fresh...) {
		u := &p.snapshot.Units[i]
		if before, known := was.UnitAt.Number(u.ID); !known || !sameDetached(was.Units[before].Detach, u.Detach) {
			b.detached = append(b.detached, p.Target(estate.Target{Kind: estate.ToUnit, ID: string(u.ID)}))
		}
	}
}

// noteShift notes the units that laptops of a moved unit left or entered. What matters is what is
// above on one path and not on the other: units that both paths share keep their laptops.
func (b *builder) noteShift(was, is []int) {
	for _, pair := range [][2][]int{{was, is}, {is, was}} {
		for _, u := range pair[0] {
			if !slices.Contains(pair[1], u) {
				b.shiftedUnits[u] = true
			}
		}
	}
}
