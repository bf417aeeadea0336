// This file compares two resolutions of plans that are made from one another: the effect of a
// change.
//
// Plan.With shares with the plan before whatever an edit does not touch: the lists of blocks of a
// setting, blocks in these lists, and the matches of policies. Shared memory is recognised by its
// address and skipped, so that the comparison of 100,000 laptops costs as much as the edit did.
// Where memory differs, blocks are split twice: by the outcome before and by the outcome after.
// Each part is one transition, from a state to a state, with its laptops.

package resolve

import (
	"cmp"
	"iter"
	"slices"
	"sync"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/decide"
	"zenithridge.example/zridge/core/resolve/internal/engine"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/core/threads"
)

// Alteration is one way in which a setting alters, with the laptops on which it does.
type Alteration struct {
	Setting  setting.ID
	From, To outcome.State
	Devices  Devices
}

// Movement is the laptops that a policy begins or ceases to reach.
type Movement struct {
	Policy          estate.PolicyID
	Gained, Dropped Devices
}

// Difference is what differs between two resolutions. Laptops that are on one side only count as
// having nothing on the other. Reasons are not compared: a setting that has the same value for
// another reason does not alter.
type Difference struct {
	Devices          Devices         // on which some setting or problem alters
	Alterations      []*Alteration   // by setting, then by what they alter from and to
	ConflictsGained  []ConflictFound // on laptops that did not have the very same conflict
	ConflictsCleared []ConflictFound
	ProblemsGained   []ProblemFound // on laptops on which the check found nothing
	ProblemsCleared  []ProblemFound
	Movements        []Movement // by policy
}

// Differ compares two resolutions. If their plans do not share numbers, or if a number of something
// gone is used again, as in plans several steps apart, the second one is computed again from the
// plan of the first. The work is in proportion to what differs: memory that both share is skipped.
func Differ(before, after *EstateResolution) *Difference {
	// Numbers are compared in place of ids and values. They must mean the same on both sides.
	if before.plan.Gen != after.plan.Gen || !before.plan.numbersAgree(after.plan) {
		after = before.plan.With(after.plan.snapshot).Estate()
	}
	d := &Difference{}
	if before == after {
		return d
	}
	d.compare(before, after)
	return d
}

// compare finds all that differs. Settings, problems and audiences are compared on several threads;
// each writes to fields of its own. A setting whose lists of blocks are the same memory was not
// decided again.
func (d *Difference) compare(before, after *EstateResolution) {
	var settings []int
	for at := range max(len(before.final), len(after.final)) {
		a, b := engine.ListAt(before.final, at), engine.ListAt(after.final, at)
		// The same memory: nothing of the setting was decided again.
		if intern.SameList(a, b) {
			continue
		}
		settings = append(settings, at)
	}
	// Each setting has a place of its own in found, so that threads need no lock for it.
	found := make([]settingDifference, len(settings))
	// altered collects the laptops on which anything differs; each thread has its own set, and they
	// are joined at the end.
	altered := make(intern.DeviceSet, max(before.plan.Blocks(), after.plan.Blocks()))
	var guard sync.Mutex
	// The first two tasks are problems and audiences, all others are settings.
	threads.Share(2+len(settings), func(mine iter.Seq[int]) {
		w := after.plan.worker(after.plan.Laptops())
		defer w.done()
		if len(altered) > 0 { // else there is no laptop, no block to turn to, and no setting to compare
			w.load(0, decide.Nobody)
		}
		scratch := &differScratch{altered: make(intern.DeviceSet, len(altered))}
		defer func() {
			guard.Lock()
			defer guard.Unlock()
			for block := range altered {
				altered[block].Or(&scratch.altered[block])
			}
		}()
		for i := range mine {
			switch i {
			case 0:
				d.problems(before, after)
			case 1:
				d.audiences(before.plan, after.plan)
			default:
				found[i-2] = differSetting(w, before, after, settings[i-2], scratch)
			}
		}
	})
	slices.SortFunc(found, func(a, b settingDifference) int { return cmp.Compare(a.setting, b.setting) })
	// The list is made in one piece: 10,000 small appends would copy it over and over.
	n := 0
	for i := range found {
		n += len(found[i].alterations)
	}
	d.Alterations = make([]*Alteration, 0, n)
	for i := range found {
		d.Alterations = append(d.Alterations, found[i].alterations...)
		d.ConflictsGained = append(d.ConflictsGained, found[i].gained...)
		d.ConflictsCleared = append(d.ConflictsCleared, found[i].cleared...)
	}
	// Laptops of settings were collected above. Laptops on which a problem came or went are added.
	for _, found := range [][]ProblemFound{d.ProblemsGained, d.ProblemsCleared} {
		for i := range found {
			found[i].Devices.orInto(altered)
		}
	}
	d.Devices = Devices{plan: after.plan, was: before.plan, blocks: packAll(altered)}
}

// numbersAgree tells whether every number means the same in both plans, where it means something in
// both. Plans several steps apart may use a number for another object than before, and comparing by
// number would then compare different things.
func (p *Plan) numbersAgree(q *Plan) bool {
	return idsAgree(p.DeviceAt, q.DeviceAt, func(of *intern.IDTable[estate.DeviceID], at int) (estate.DeviceID, bool) {
		// id is asked for both tables. It recognises the table to know which plan's list to look
		// in.
		list := p.Devices
		if of == q.DeviceAt {
			list = q.Devices
		}
		if at < list.Len() && list.At(at).Device != nil {
			return list.At(at).ID, true
		}
		return "", false
	}) && idsAgree(p.policyAt, q.policyAt, func(of *intern.IDTable[estate.PolicyID], at int) (estate.PolicyID, bool) {
		list := p.policies
		if of == q.policyAt {
			list = q.policies
		}
		if at < len(list) && list[at].Policy != nil {
			return list[at].ID, true
		}
		return "", false
	}) && idsAgree(p.settingAt, q.settingAt, func(of *intern.IDTable[setting.ID], at int) (setting.ID, bool) {
		list := p.settings
		if of == q.settingAt {
			list = q.settings
		}
		if at < len(list) && list[at].Def != nil {
			return list[at].Def.ID, true
		}
		return "", false
	})
}

// idsAgree tells whether ids that both have are the same numbers, and numbers that both have the
// same ids.
func idsAgree[K ~string](a, b *intern.IDTable[K], id func(of *intern.IDTable[K], at int) (K, bool)) bool {
	// One was made of the other: no number was given twice.
	if a.Adjacent(b) {
		return true
	}
	// Plans far apart: every number is compared. It is the slow way, and rare.
	for at := range int(max(a.N, b.N)) {
		x, inA := id(a, at)
		y, inB := id(b, at)
		switch {
		// A number that means two things.
		case inA && inB && x != y:
			return false
		// An id with two numbers.
		case inA && !inB && b.NumberOf(x) != intern.None, inB && !inA && a.NumberOf(y) != intern.None:
			return false
		}
	}
	return true
}

// transition is how a setting alters, by what it looks like on either side. It is a key of two
// small structs. Equal values may be told apart by it, and are put together in the end (inOrder).
type transition struct{ from, to appearance }

// appearance is the outcome of a setting without reasons, as numbers that can be compared.
type appearance struct {
	number int32  // of an outcome; none: it does not appear
	code   uint32 // of the value, where it is set
}

// appearanceOf gives the appearance of an outcome, nil: the setting does not appear. code is that
// of the value.
func appearanceOf(o *intern.Outcome, code uint32) appearance {
	// Outcomes that show the same state to people are one appearance, whatever their number: every
	// conflict is one, and so is every reason for which a setting is not supported.
	switch {
	case o == nil:
		return appearance{number: intern.None}
	case o.Status == outcome.Set:
		return appearance{intern.FromItems, code}
	case o.Status == outcome.Unsupported:
		return appearance{number: intern.LackPlatform}
	case o.Status == outcome.Conflict:
		return appearance{number: intern.FirstOutcome}
	}
	return appearance{number: intern.LeftUnset}
}

// settingDifference is how one setting alters, on which laptops.
type settingDifference struct {
	setting         setting.ID
	alterations     []*Alteration // in order
	gained, cleared []ConflictFound
}

// differScratch is buffers for comparing one setting after the other, on one thread.
type differScratch struct {
	was, is partition
	unions  unionValues
	known   map[transition]*Alteration
	ways    []Alteration     // scratch space for some
	altered intern.DeviceSet // laptops on which some setting alters
}

// way gives a buffer for an alteration. Alterations are taken from lists of 64, since there are
// many and they are small.
func (r *differScratch) way(is Alteration) *Alteration {
	if len(r.ways) == cap(r.ways) {
		r.ways = make([]Alteration, 0, 64)
	}
	r.ways = append(r.ways, is)
	return &r.ways[len(r.ways)-1]
}

// emptied clears a map. A large one is replaced, since clearing it would take long each time.
func emptied[K comparable, V any](m map[K]V) map[K]V {
	if m == nil || len(m) > 64 {
		return map[K]V{}
	}
	clear(m)
	return m
}

// settingIndexOf gives a setting as it is after, else as it was before.
func settingIndexOf(before, after *EstateResolution, at int) *settingIndex {
	if p := after.plan; at < len(p.settings) && p.settings[at].Def != nil {
		return &p.settings[at]
	}
	return &before.plan.settings[at]
}

// differSetting compares one setting, block by block. Blocks whose outcomes are the same memory, or
// equal, are skipped. Lists that a plan before has and the other one has not are compared with
// nothing.
func differSetting(w *worker, before, after *EstateResolution, at int, scratch *differScratch) settingDifference {
	a, b := engine.ListAt(before.final, at), engine.ListAt(after.final, at)
	c := settingIndexOf(before, after, at)
	id := c.Def.ID
	gained, cleared := newGatherer[int32](after.plan), newGatherer[int32](after.plan) // by number of the conflict
	// block gives a block of a list, nil behind its end: one estate may have more blocks.
	block := func(list []bitset.Parts, i int) bitset.Parts {
		if i < len(list) {
			return list[i]
		}
		return nil
	}
	scratch.known, scratch.unions.private, scratch.unions.known = emptied(scratch.known), true, emptied(scratch.unions.known)
	for i := range max(len(a), len(b)) {
		x, y := block(a, i), block(b, i)
		// Blocks in which nothing differs cost one comparison.
		if x.Equal(y) {
			continue
		}
		mark := w.Mark()
		differs := w.Temp()
		// Only rows whose outcome differs are split: first by what they had, then by what they
		// have.
		x.Unlike(y, differs)
		scratch.was.load(w, c, x, differs)
		scratch.is.load(w, c, y, differs)
		scratch.was.split(differs, &scratch.unions, func(o *intern.Outcome, v setting.Value, code uint32, rows *bitset.Set) {
			from := appearanceOf(o, code)
			scratch.is.split(rows, &scratch.unions, func(p *intern.Outcome, to setting.Value, code uint32, rows *bitset.Set) {
				// The same outcome is no difference. Merged values share an outcome, so their codes
				// are compared below.
				if o == p && (o == nil || o.Number != intern.FromItems) {
					return
				}
				// Conflicts of other policies are other conflicts, though the state of the laptop
				// is the same.
				if o != nil && o.Status == outcome.Conflict {
					cleared.add(o.Number, i, rows)
				}
				if p != nil && p.Status == outcome.Conflict {
					gained.add(p.Number, i, rows)
				}
				// What people see is the same: the setting is unsupported for another reason, or
				// the conflict has other candidates. Conflicts were recorded above.
				way := transition{from, appearanceOf(p, code)}
				if way.from == way.to {
					return
				}
				known := scratch.known[way]
				if known == nil {
					known = scratch.way(Alteration{id, stateOf(o, v), stateOf(p, to), Devices{plan: after.plan, was: before.plan}})
					scratch.known[way] = known
				}
				known.Devices.add(i, rows)
			})
		})
		w.Release(mark)
	}
	// The laptops of each way are complete. Their union is what alters on this thread.
	ways := inOrder(scratch.known)
	for _, way := range ways {
		way.Devices.orInto(scratch.altered)
	}
	return settingDifference{id, ways, conflictsOf(c, gained, before.plan, after), conflictsOf(c, cleared, before.plan, before)}
}

// inOrder gives the ways in which a setting alters in order. Those that look alike are put
// together: equal values can have been made in different ways, and files and rows of tables can be
// equal under different names.
func inOrder(ways map[transition]*Alteration) []*Alteration {
	// Alterations are put in order by what they alter from and to, so that the result does not
	// depend on the order of the blocks.
	sorted := make([]*Alteration, 0, len(ways))
	for _, way := range ways {
		if !way.From.Equal(way.To) {
			sorted = append(sorted, way)
		}
	}
	slices.SortFunc(sorted, func(a, b *Alteration) int {
		if order := compareAlterations(a, b); order != 0 {
			return order
		}
		return cmp.Or(cmp.Compare(a.From.Value.String(), b.From.Value.String()), cmp.Compare(a.To.Value.String(), b.To.Value.String()))
	})
	// Neighbours that look alike become one. out overwrites sorted from its beginning, and never
	// runs ahead of what is read.
	out := sorted[:0]
	for _, way := range sorted {
		if last := len(out) - 1; last >= 0 && compareAlterations(out[last], way) == 0 {
			out[last].Devices = out[last].Devices.Or(way.Devices)
		} else {
			out = append(out, way)
		}
	}
	return out
}

// compareAlterations orders alterations of one setting by what they alter from and to. It is 0 for
// those that look alike.
func compareAlterations(a, b *Alteration) int {
	if order := compareStates(&a.From, &b.From); order != 0 {
		return order
	}
	return compareStates(&a.To, &b.To)
}

// compareStates orders states by status, then by value.
func compareStates(a, b *outcome.State) int {
	if order := cmp.Compare(a.Status, b.Status); order != 0 {
		return order
	}
	return a.Value.Compare(b.Value)
}

// writtenDifferently tells whether equal values of this kind may be called differently.
func writtenDifferently(v setting.Value) bool {
	return v.Kind() == setting.FileKind || v.Kind() == setting.Table
}

// conflictsOf lists the conflicts of a setting that came or went, as they are in the resolution
// that has them.
func conflictsOf(c *settingIndex, of *gatherer[int32], was *Plan, side *EstateResolution) (out []ConflictFound) {
	// The candidates are those of the side that has the conflict: the other side has no such
	// conflict to explain.
	for number := range of.sets {
		f := ConflictFound{Setting: c.Def.ID, Policies: c.Outcomes.Of(number).Policies, Devices: of.devices(number)}
		f.Devices.was = was
		// A conflict that is gone may have been on laptops that are gone, too. Values are found on
		// those that are there.
		there := f
		there.Devices = f.Devices.within(side.plan)
		if there.Devices.Len() > 0 {
			f.Values = side.plan.clashing(&there)
		}
		out = append(out, f)
	}
	slices.SortFunc(out, func(a, b ConflictFound) int { return slices.Compare(a.Policies, b.Policies) })
	return out
}

// within gives the same laptops as another plan knows them; those that it does not have are left
// out.
func (d Devices) within(p *Plan) Devices {
	return d.And(p.All()).On(p)
}
