// This file has the resolution of the whole estate: for every setting, the laptops by outcome.

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

// EstateResolution is what every laptop gets, for its owner: for each setting, the sets of laptops
// by outcome. It is immutable and safe for concurrent use. Resolutions of plans that are made from
// one another share what they have in common, block by block.
type EstateResolution struct {
	plan     *Plan
	before   *EstateResolution // while it is made: the one it is made of
	decided  [][]bitset.Parts  // by setting with forced values, by block: before forcing
	final    [][]bitset.Parts  // by setting, by block
	problems [][]bitset.Packed // by check, by block

	listOnce, conflictsOnce, problemsOnce sync.Once // what was found is kept
	listFound, conflictsFound             []ConflictFound
	problemsFound                         []ProblemFound
}

// on gives a resolution for another plan that begins with the outcomes of this one. Patches then
// correct what differs. Lists of blocks are shared with w until a patch is written into them.
func (w *EstateResolution) on(p *Plan) *EstateResolution {
	out := &EstateResolution{
		plan:     p,
		before:   w,
		decided:  make([][]bitset.Parts, len(p.settings)),
		final:    make([][]bitset.Parts, len(p.settings)),
		problems: make([][]bitset.Packed, len(p.checks)),
	}
	// A setting whose definition is gone keeps its list for the length of one step, so that its
	// outcomes are seen to go.
	for at := range p.settings {
		if p.settings[at].Def == nil && engine.ListAt(w.final, at) == nil {
			continue
		}
		out.final[at] = engine.PadBlocks(engine.ListAt(w.final, at), p.Blocks())
		if len(p.settings[at].forced) > 0 {
			out.decided[at] = engine.PadBlocks(engine.ListAt(w.decided, at), p.Blocks())
		}
	}
	for at := range p.checks {
		if at < len(w.problems) {
			out.problems[at] = w.problems[at]
		}
		out.problems[at] = engine.PadBlocks(out.problems[at], p.Blocks())
	}
	return out
}

// Len counts the laptops.
func (w *EstateResolution) Len() int { return w.plan.Size() }

// stateOf gives an outcome with its value as a State; nil: the setting does not appear. The value
// counts where it is set alone.
func stateOf(o *intern.Outcome, v setting.Value) outcome.State {
	if o == nil {
		return outcome.State{}
	}
	if o.Status != outcome.Set {
		return outcome.State{Status: o.Status}
	}
	return outcome.State{Status: outcome.Set, Value: v}
}

// State says what a setting is on a laptop; the zero State where it does not appear, or where there
// is no such setting or laptop. It costs one lookup of a row. Whoever needs many rows should ask
// States.
func (w *EstateResolution) State(id setting.ID, dev estate.DeviceID) outcome.State {
	at, known := w.plan.settingAt.Number(id)
	row, there := w.plan.DeviceAt.Number(dev)
	if !known || !there {
		return outcome.State{}
	}
	var numbers []int32
	return stateOf(w.plan.settings[at].at(w.final[at][row>>bitset.Shift], row&(bitset.Rows-1), &numbers))
}

// StateDevices is a state of a setting with the laptops that have it.
type StateDevices struct {
	outcome.State
	Policies []string // of a conflict: those that conflict, sorted
	Devices  Devices
}

// States lists what a setting is, on which of some laptops: the most frequent first, then by status
// and value. Laptops on which it does not appear have the zero State, so that the counts add up to
// all.
func (w *EstateResolution) States(id setting.ID, among Devices) []StateDevices {
	list := w.states(id, among)
	order, before := byFrequency(list)
	slices.SortFunc(order, before)
	out := make([]StateDevices, len(list))
	for i, at := range order {
		out[i] = list[at]
	}
	return out
}

// Most gives the first of what States lists. ok is false where there are no laptops, or no such
// setting.
func (w *EstateResolution) Most(id setting.ID, among Devices) (h StateDevices, ok bool) {
	list := w.states(id, among)
	order, before := byFrequency(list)
	if len(list) == 0 {
		return h, false
	}
	return list[slices.MinFunc(order, before)], true
}

// states lists what States does, in no order: sorting needs the texts of values, which Most does
// not.
func (w *EstateResolution) states(id setting.ID, among Devices) []StateDevices {
	at, known := w.plan.settingAt.Number(id)
	if !known {
		return nil
	}
	p := w.plan
	// States are told apart by appearance, which is two numbers, and not by their values.
	states := map[appearance]StateDevices{}
	found := newGatherer[appearance](p)
	k := p.worker(p.Laptops())
	defer k.done()
	var dom bitset.Set
	unions := &unionValues{}
	var cell partition
	for b := range p.Blocks() {
		among.block(b).Into(&dom)
		if dom.Empty() {
			continue
		}
		k.load(b, &dom)
		cell.load(k, &p.settings[at], w.final[at][b], &dom)
		cell.split(&dom, unions, func(o *intern.Outcome, v setting.Value, code uint32, rows *bitset.Set) {
			is := appearanceOf(o, code)
			if o != nil && o.Status == outcome.Conflict {
				is.number = o.Number // conflicts of other policies are apart
			}
			if _, known := states[is]; !known {
				h := StateDevices{State: stateOf(o, v)}
				if o != nil {
					h.Policies = o.Policies
				}
				states[is] = h
			}
			found.add(is, b, rows)
		})
	}
	out := make([]StateDevices, 0, len(states))
	for is, h := range states {
		h.Devices = found.devices(is)
		// Values that are equal and written differently have several appearances. They are put
		// together here.
		if writtenDifferently(h.Value) {
			if same := slices.IndexFunc(out, func(o StateDevices) bool { return o.Equal(h.State) }); same >= 0 {
				out[same].Devices = out[same].Devices.Or(h.Devices)
				continue
			}
		}
		out = append(out, h)
	}
	return out
}

// byFrequency orders states by the number of laptops, then as texts. It gives the places of the
// list as they are, and the function that compares two of them, so that the caller sorts or looks
// for the first.
func byFrequency(list []StateDevices) (order []int, before func(x, y int) int) {
	counts, texts := make([]int, len(list)), make([]string, len(list))
	order = make([]int, len(list))
	for i := range list {
		counts[i], order[i] = list[i].Devices.Len(), i
	}
	// The text of a value is costly, so it is made only for states that are as frequent as another.
	text := func(i int) string { // of those alone that are as frequent as another
		if texts[i] == "" {
			value := list[i].Value.String()
			if list[i].Value.Kind() == setting.FileKind { // the same file may go by several names
				value = list[i].Value.File().SHA256
			}
			texts[i] = string(list[i].Status) + "\x00" + value
		}
		return texts[i]
	}
	return order, func(x, y int) int {
		if c := cmp.Compare(counts[y], counts[x]); c != 0 || x == y {
			return c
		}
		return cmp.Or(cmp.Compare(text(x), text(y)), slices.Compare(list[x].Policies, list[y].Policies))
	}
}

// ConflictFound is one setting that policies disagree about, with the laptops that it touches.
// Laptops on which other policies conflict about the same setting are another ConflictFound.
type ConflictFound struct {
	Setting  setting.ID
	Policies []string // sorted
	Devices  Devices
	Values   []outcome.Candidate // the clashing candidates as they are on the first of the devices
}

// ProblemFound is a problem with the laptops on which the check finds it.
type ProblemFound struct {
	outcome.Problem
	Devices Devices
}

// Conflicts lists every conflict by (setting, conflicting policies), with the candidates. It is
// found once and kept. The list must not be altered.
func (w *EstateResolution) Conflicts() []ConflictFound {
	w.conflictsOnce.Do(func() {
		// Candidates are found by explaining one laptop of each conflict. Conflicts are explained
		// on all threads.
		out := slices.Clone(w.ConflictList())
		threads.Share(len(out), func(mine iter.Seq[int]) {
			for i := range mine {
				out[i].Values = w.plan.clashing(&out[i])
			}
		})
		w.conflictsFound = out
	})
	return w.conflictsFound
}

// ConflictList lists every conflict as Conflicts does, without the candidates. The list must not be
// altered.
func (w *EstateResolution) ConflictList() []ConflictFound {
	w.listOnce.Do(func() { w.listFound = w.listConflicts() })
	return w.listFound
}

// listConflicts finds the conflicts. Conflicts of the same policies share one number in the
// outcomes of the setting, so that laptops are gathered by number.
func (w *EstateResolution) listConflicts() []ConflictFound {
	p := w.plan
	var out []ConflictFound
	var rows bitset.Set
	for _, at := range p.bySetting {
		c := &p.settings[at]
		// Most settings never had a conflict: then no block is read.
		if !slices.ContainsFunc(c.Outcomes.All(), func(o *intern.Outcome) bool { return o.Status == outcome.Conflict }) {
			continue
		}
		found := newGatherer[int32](p)
		for b, cell := range w.final[at] {
			for number := range cell.Numbers {
				if c.Outcomes.Of(number).Status == outcome.Conflict {
					rows.Clear()
					cell.OrInto(&rows, number)
					found.add(number, b, &rows)
				}
			}
		}
		for number := range found.sets {
			out = append(out, ConflictFound{Setting: c.Def.ID, Policies: c.Outcomes.Of(number).Policies, Devices: found.devices(number)})
		}
	}
	slices.SortFunc(out, func(a, b ConflictFound) int {
		return cmp.Or(cmp.Compare(a.Setting, b.Setting), slices.Compare(a.Policies, b.Policies))
	})
	return out
}

// WithCandidates gives a conflict of the plan's resolution with its candidates.
func (p *Plan) WithCandidates(c ConflictFound) ConflictFound {
	c.Values = p.clashing(&c)
	return c
}

// clashing gives the candidates of a conflict as they are on the first of its laptops.
func (p *Plan) clashing(f *ConflictFound) (values []outcome.Candidate) {
	s := p.explainOne(f.Devices.First(1)[0], f.Setting)
	if s == nil {
		return nil
	}
	for _, c := range s.Candidates {
		if c.Fate == outcome.Clashing {
			values = append(values, c)
		}
	}
	return values
}

// Problems lists every problem by (check, what it comes from). Checks are looked at on all threads.
// It is found once and kept. The list must not be altered.
func (w *EstateResolution) Problems() []ProblemFound {
	w.problemsOnce.Do(func() {
		checks := w.plan.byCheck
		found := make([][]ProblemFound, len(checks))
		threads.Share(len(checks), func(mine iter.Seq[int]) {
			for i := range mine {
				found[i] = w.problemsOf(checks[i], Devices{plan: w.plan, blocks: w.problems[checks[i]]})
			}
		})
		w.problemsFound = slices.Concat(found...)
	})
	return w.problemsFound
}

// ProblemsFrom lists those of Problems that come from a policy, in the same order. It looks only at
// the laptops that the policy applies to, and at the checks that name one of its settings.
func (w *EstateResolution) ProblemsFrom(id estate.PolicyID) []ProblemFound {
	pol := w.plan.Policy(id)
	if pol == nil {
		return nil
	}
	applies := w.plan.Applies(id)
	// From the checks that name a setting of the policy, the problems on its laptops.
	var out []ProblemFound
	for _, at := range w.plan.byCheck {
		names := func(s setting.ID) bool { return pol.Entry(s) != nil }
		if !slices.ContainsFunc(w.plan.checks[at].Settings, names) {
			continue
		}
		for _, found := range w.problemsOf(at, applies.And(Devices{plan: w.plan, blocks: w.problems[at]})) {
			if slices.Contains(found.From, string(id)) {
				out = append(out, found)
			}
		}
	}
	return out
}

// problemsOf groups the laptops on which a check fails by the policies and exceptions that the
// settings it names come from. Two laptops with the same check and different origins are two
// problems, since somebody else has to mend each.
func (w *EstateResolution) problemsOf(at int, on Devices) []ProblemFound {
	p := w.plan
	c := p.checks[at].Check
	found := newGatherer[string](p)
	froms := map[string][]string{}
	k := p.worker(p.Laptops())
	defer k.done()
	var dom bitset.Set
	for b, packed := range on.blocks {
		if packed == nil {
			continue
		}
		packed.Into(&dom)
		b += on.from
		k.load(b, &dom)
		k.DropAside()
		standing := &carriers{}
		// Each setting that the check names adds the sets of laptops whose value comes from one
		// policy, or from one exception.
		for _, id := range c.Settings {
			if s, known := p.settingAt.Number(id); known {
				k.addCarriers(s, w.forcedRows(k, s, b), &dom, standing)
			}
		}
		// Laptops with the same origins have the same problem.
		decide.Alike(&k.Arena, standing.candidates, &dom, func(have []decide.Candidate, rows *bitset.Set) {
			var from []string
			for _, h := range have {
				from = append(from, standing.from[h.At])
			}
			slices.Sort(from)
			from = slices.Compact(from)
			// A key of all origins. Ids have no zero byte.
			key := ""
			for _, f := range from {
				key += f + "\x00"
			}
			froms[key] = from
			found.add(key, b, rows)
		})
	}
	var out []ProblemFound
	for key, from := range froms {
		settings := slices.Sorted(slices.Values(c.Settings))
		problem := outcome.Problem{Check: c.ID, Message: c.Message, Settings: settings, From: from}
		out = append(out, ProblemFound{Problem: problem, Devices: found.devices(key)})
	}
	slices.SortFunc(out, func(a, b ProblemFound) int { return slices.Compare(a.From, b.From) })
	return out
}

// forcedRows gives the rows of a block on which a setting's value is forced; nil where none is.
// Which rows are forced is not stored: it is the difference between the outcomes before and after
// forcing.
func (w *EstateResolution) forcedRows(k *worker, at, block int) *bitset.Set {
	c := &w.plan.settings[at]
	if len(c.forced) == 0 {
		return nil
	}
	forced, here := k.Keep(), k.Keep()
	// An outcome that a row has now and did not have before forcing is a forced one.
	w.final[at][block].Each(here, func(number int32) {
		before := k.Keep()
		w.decided[at][block].OrInto(before, number)
		here.AndNot(before)
		if !intern.IsItem(number) {
			forced.Or(here)
		}
	})
	return forced
}

// carriers is the origin of outcomes: candidates that won or conflict, and exceptions. Each is
// written as a candidate whose number is a place in from, so that decide.Alike can group laptops by
// them.
type carriers struct {
	candidates []decide.Candidate
	from       []string // by carrier: the policy, or the exception
}

// addCarriers adds the origin of a setting's outcome on the rows of dom. Rows in not have a forced
// value, which comes from no policy.
func (w *worker) addCarriers(at int, not, dom *bitset.Set, to *carriers) {
	// The fates are observed anew: the resolution keeps outcomes, not where they come from.
	c := &w.plan.settings[at]
	seen := w.observe(c, dom)
	add := func(from string, rows *bitset.Set) {
		if rows == nil {
			return
		}
		if not != nil {
			rows.AndNot(not)
		}
		if !rows.Empty() {
			to.candidates = append(to.candidates, decide.Candidate{At: int32(len(to.from)), Live: rows})
			to.from = append(to.from, from)
		}
	}
	for i, s := range seen.in {
		// A policy carries the value where it won, and a part of the conflict where it conflicts.
		carries := seen.became[i][outcome.Won]
		if conflicts := seen.became[i][outcome.Clashing]; carries == nil {
			carries = conflicts
		} else if conflicts != nil {
			carries.Or(conflicts)
		}
		add(string(c.Entries[s.Rank].PolicyID), carries)
	}
	for i := range c.Exceptions {
		add(string(c.Exceptions[i].ID), seen.exempting[c.Exceptions[i].Exception])
	}
}

// ConflictCounts counts by device, in the order of ids, the settings on which policies conflict.
func (w *EstateResolution) ConflictCounts() []int32 {
	return w.count(func(add func(Devices)) {
		for _, at := range w.plan.bySetting {
			c := &w.plan.settings[at]
			for b, cell := range w.final[at] {
				for number := range cell.Numbers {
					if c.Outcomes.Of(number).Status == outcome.Conflict {
						var rows bitset.Set
						cell.OrInto(&rows, number)
						one := Devices{plan: w.plan}
						one.add(b, &rows)
						add(one)
					}
				}
			}
		}
	})
}

// ProblemCounts counts by device, in the order of ids, the checks that find something.
func (w *EstateResolution) ProblemCounts() []int32 {
	return w.count(func(add func(Devices)) {
		for _, at := range w.plan.byCheck {
			add(Devices{plan: w.plan, blocks: w.problems[at]})
		}
	})
}

// count counts by device, in the order of ids, in how many of the sets that of adds it is.
func (w *EstateResolution) count(of func(add func(Devices))) []int32 {
	out := make([]int32, w.plan.Size())
	of(func(d Devices) { d.each(func(at int) { out[w.plan.rank[at]]++ }) })
	return out
}

// Plan is what was resolved.
func (w *EstateResolution) Plan() *Plan { return w.plan }
