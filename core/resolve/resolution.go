// This file has the resolution of the whole estate: for every setting, the laptops by outcome.
//
// It is read in two directions: by setting, which laptops have which value (States), and by laptop,
// what a setting is there (State). Reasons are not kept: they are computed again for the laptop
// that somebody looks at (explanation.go). Lists of conflicts and problems are made when they are
// first asked for, and kept.

package resolve

import (
	"cmp"
	"slices"
	"sync"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/engine"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
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

// ConflictCounts counts by device, in the order of ids, the settings on which policies conflict.
func (w *EstateResolution) ConflictCounts() []int32 {
	return w.count(func(add func(Devices)) {
		for _, at := range w.plan.bySetting {
			c := &w.plan.settings[at]
			// Numbers of outcomes are read first: blocks without a conflict are not unpacked.
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
