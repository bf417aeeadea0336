// This file has the resolution of the whole estate: for every setting, which laptops come out how.

package resolve

import (
	"cmp"
	"fmt"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rowset"
	"zenithridge.example/zridge/core/setting"
)

// Whole is the resolution of every laptop for its owner. It is immutable. What two resolutions of plans that are made of one another
// have in common is shared.
type Whole struct {
	plan     *Plan
	of       *Whole            // while it is made: the one it is made of
	decided  [][]rowset.Parts  // by setting with forced values, by block: before forcing
	final    [][]rowset.Parts  // by setting, by block
	problems [][]rowset.Packed // by check, by block
}

// on begins the resolution of another plan; what it does not touch stays.
func (w *Whole) on(p *Plan) *Whole {
	out := &Whole{plan: p, of: w, decided: make([][]rowset.Parts, len(p.contests)), final: make([][]rowset.Parts, len(p.contests)), problems: make([][]rowset.Packed, len(p.checks))}
	for at := range p.contests {
		if p.contests[at].def == nil && partsOf(w.final, at) == nil {
			continue
		}
		out.final[at] = padded(partsOf(w.final, at), p.blocks())
		if len(p.contests[at].forced) > 0 {
			out.decided[at] = padded(partsOf(w.decided, at), p.blocks())
		}
	}
	for at := range p.checks {
		if at < len(w.problems) {
			out.problems[at] = w.problems[at]
		}
		out.problems[at] = padded(out.problems[at], p.blocks())
	}
	return out
}

// Len counts the laptops.
func (w *Whole) Len() int { return w.plan.Devices() }

// Devices is a set of laptops of a plan. The zero Devices is empty.
type Devices struct {
	plan   *Plan
	blocks []rowset.Packed
	was    *Plan // of the two sides of a comparison, the one before: it knows the laptops that are gone
}

// Len counts the laptops.
func (d Devices) Len() (n int) {
	for _, b := range d.blocks {
		n += b.Len()
	}
	return n
}

// Has tells whether a laptop is in the set.
func (d Devices) Has(id estate.DeviceID) bool {
	if d.plan == nil {
		return false
	}
	at, known := d.plan.deviceAt.at(id)
	if !known && d.was != nil {
		at, known = d.was.deviceAt.at(id)
	}
	return known && at>>rowset.Shift < len(d.blocks) && d.blocks[at>>rowset.Shift].Has(at&(rowset.Rows-1))
}

// each calls f for the number of every laptop.
func (d Devices) each(f func(at int)) {
	var rows rowset.Set
	for b, packed := range d.blocks {
		if packed == nil {
			continue
		}
		packed.Into(&rows)
		for row := range rows.All() {
			f(b<<rowset.Shift + row)
		}
	}
}

// ranks gives the places of the laptops in the order of all ids, unsorted; ok is false where some are gone.
func (d Devices) ranks() (out []int32, ok bool) {
	out, ok = make([]int32, 0, d.Len()), true
	d.each(func(at int) {
		if at >= len(d.plan.devices) || d.plan.devices[at].Device == nil {
			ok = false
			return
		}
		out = append(out, d.plan.rank[at])
	})
	return out, ok
}

// device gives a laptop by its number.
func (d Devices) device(at int) *device {
	if d.was != nil && (at >= len(d.plan.devices) || d.plan.devices[at].Device == nil) {
		return &d.was.devices[at]
	}
	return &d.plan.devices[at]
}

// IDs lists the laptops by id.
func (d Devices) IDs() []estate.DeviceID { return d.First(1 << 62) }

// First lists the first n of the laptops by id.
func (d Devices) First(n int) []estate.DeviceID {
	ranks, ok := d.ranks()
	if !ok {
		var out []estate.DeviceID
		d.each(func(at int) { out = append(out, d.device(at).ID) })
		slices.Sort(out)
		return out[:min(n, len(out))]
	}
	if n < len(ranks)/8 { // the least few without sorting all
		least := ranks[:0:0]
		for _, r := range ranks {
			at, _ := slices.BinarySearch(least, r)
			if at == n {
				continue
			}
			least = slices.Insert(least, at, r)
			least = least[:min(n, len(least))]
		}
		ranks = least
	} else {
		slices.Sort(ranks)
	}
	out := make([]estate.DeviceID, min(n, len(ranks)))
	for i := range out {
		out[i] = d.plan.devices[d.plan.byDevice[ranks[i]]].ID
	}
	return out
}

// ByUnit counts the laptops by home unit, most first.
func (d Devices) ByUnit() []UnitCount {
	if d.plan == nil {
		return nil
	}
	counts := make([]int, len(d.plan.units))
	d.each(func(at int) { counts[d.device(at).home]++ })
	var out []UnitCount
	for home, n := range counts {
		if n > 0 {
			out = append(out, UnitCount{d.plan.units[home].ID, n})
		}
	}
	slices.SortFunc(out, func(a, b UnitCount) int {
		return cmp.Or(cmp.Compare(b.Devices, a.Devices), cmp.Compare(a.Unit, b.Unit))
	})
	return out
}

// UnitCount is how many laptops have a unit as their home.
type UnitCount struct {
	Unit    estate.UnitID
	Devices int
}

// combine makes a set of two, block by block.
func (d Devices) combine(e Devices, do func(a, b *rowset.Set)) Devices {
	out := Devices{plan: cmp.Or(d.plan, e.plan), was: cmp.Or(d.was, e.was), blocks: make([]rowset.Packed, max(len(d.blocks), len(e.blocks)))}
	var a, b rowset.Set
	for i := range out.blocks {
		a.Clear()
		b.Clear()
		if i < len(d.blocks) {
			d.blocks[i].Into(&a)
		}
		if i < len(e.blocks) {
			e.blocks[i].Into(&b)
		}
		do(&a, &b)
		out.blocks[i] = a.Pack()
	}
	return out
}

// Or gives the laptops of either set. Both must be of plans that are made of one another, as in all that follow.
func (d Devices) Or(e Devices) Devices { return d.combine(e, (*rowset.Set).Or) }

// And gives the laptops that both sets have.
func (d Devices) And(e Devices) Devices { return d.combine(e, (*rowset.Set).And) }

// Without gives the laptops that e does not have.
func (d Devices) Without(e Devices) Devices { return d.combine(e, (*rowset.Set).AndNot) }

// All is every laptop of a plan.
func (p *Plan) All() Devices { return Devices{plan: p, blocks: p.alive} }

// State is what one setting is on one laptop. The zero State is a setting that does not appear.
type State struct {
	Status Status
	Value  setting.Value
}

// Equal tells whether both are the same.
func (s State) Equal(t State) bool { return s.Status == t.Status && s.Value.Equal(t.Value) }

func stateOf(o *outcome, v setting.Value) State {
	if o == nil {
		return State{}
	}
	if o.status != Set {
		return State{Status: o.status}
	}
	return State{Set, v}
}

// State says what a setting is on a laptop.
func (w *Whole) State(id setting.ID, dev estate.DeviceID) State {
	at, known := w.plan.settingAt.at(id)
	row, there := w.plan.deviceAt.at(dev)
	if !known || !there {
		return State{}
	}
	var numbers []int32
	return stateOf(w.plan.contests[at].at(w.final[at][row>>rowset.Shift], row&(rowset.Rows-1), &numbers))
}

// Held is a state of a setting with the laptops that have it.
type Held struct {
	State
	Policies []string // of a conflict: those that clash, sorted
	Devices  Devices
}

// gatherer collects sets of laptops by what they come out as, over all blocks.
type gatherer[K comparable] struct {
	plan *Plan
	sets map[K][]rowset.Packed
}

func gather[K comparable](p *Plan) *gatherer[K] { return &gatherer[K]{p, map[K][]rowset.Packed{}} }

func (g *gatherer[K]) add(key K, block int, rows *rowset.Set) {
	list := g.sets[key]
	if list == nil {
		list = make([]rowset.Packed, g.plan.blocks())
		g.sets[key] = list
	}
	if list[block] != nil {
		var both rowset.Set
		both.Copy(rows)
		list[block].OrInto(&both)
		list[block] = both.Pack()
		return
	}
	list[block] = rows.Pack()
}

func (g *gatherer[K]) devices(key K) Devices { return Devices{plan: g.plan, blocks: g.sets[key]} }

// States lists what a setting is, on which laptops: the most frequent first. Laptops on which it does not appear have the zero State.
func (w *Whole) States(id setting.ID, among Devices) []Held {
	at, known := w.plan.settingAt.at(id)
	if !known {
		return nil
	}
	type key struct {
		number int32
		code   uint32
	}
	p := w.plan
	states := map[key]Held{}
	found := gather[key](p)
	k := p.worker(p.laptops())
	defer k.done()
	var dom rowset.Set
	for b := range p.blocks() {
		dom.Clear()
		if b < len(among.blocks) {
			among.blocks[b].Into(&dom)
		}
		if dom.Empty() {
			continue
		}
		k.load(b, &dom)
		k.partCell(&p.contests[at], w.final[at][b], &dom, func(o *outcome, v setting.Value, code uint32, rows *rowset.Set) {
			is := key{-1, code}
			if o != nil {
				is.number = o.number
			}
			if _, known := states[is]; !known {
				h := Held{State: stateOf(o, v)}
				if o != nil {
					h.Policies = o.policies
				}
				states[is] = h
			}
			found.add(is, b, rows)
		})
	}
	out := make([]Held, 0, len(states))
	for is, h := range states {
		h.Devices = found.devices(is)
		if same := slices.IndexFunc(out, func(o Held) bool { return o.Equal(h.State) && slices.Equal(o.Policies, h.Policies) }); same >= 0 {
			out[same].Devices = out[same].Devices.Or(h.Devices)
			continue
		}
		out = append(out, h)
	}
	slices.SortFunc(out, func(a, b Held) int {
		return cmp.Or(cmp.Compare(b.Devices.Len(), a.Devices.Len()), cmp.Compare(a.Status, b.Status), cmp.Compare(a.Value.String(), b.Value.String()), slices.Compare(a.Policies, b.Policies))
	})
	return out
}

// ConflictFound is one setting that policies disagree about, with the laptops that it touches.
type ConflictFound struct {
	Setting  setting.ID
	Policies []string // sorted
	Devices  Devices
	Values   []Candidate // the clashing candidates as they stand on the first of the devices
}

// Conflicts lists every conflict by (setting, clashing policies), with the candidates.
func (w *Whole) Conflicts() []ConflictFound {
	out := w.Clashes()
	for i := range out {
		out[i].Values = w.plan.clashing(&out[i])
	}
	return out
}

// Clashes lists every conflict as Conflicts does, without the candidates.
func (w *Whole) Clashes() []ConflictFound {
	p := w.plan
	var out []ConflictFound
	var rows rowset.Set
	for _, at := range p.bySetting {
		c := &p.contests[at]
		if !slices.ContainsFunc(c.outcomes.all(), func(o *outcome) bool { return o.status == Conflict }) {
			continue
		}
		found := gather[int32](p)
		for b, cell := range w.final[at] {
			for number := range cell.Numbers {
				if c.outcomes.get(number).status == Conflict {
					rows.Clear()
					cell.OrInto(&rows, number)
					found.add(number, b, &rows)
				}
			}
		}
		for number := range found.sets {
			out = append(out, ConflictFound{Setting: c.def.ID, Policies: c.outcomes.get(number).policies, Devices: found.devices(number)})
		}
	}
	slices.SortFunc(out, func(a, b ConflictFound) int {
		return cmp.Or(cmp.Compare(a.Setting, b.Setting), slices.Compare(a.Policies, b.Policies))
	})
	return out
}

// WithCandidates gives a clash of the plan's resolution with its candidates.
func (p *Plan) WithCandidates(c ConflictFound) ConflictFound {
	c.Values = p.clashing(&c)
	return c
}

// clashing gives the candidates of a conflict as they stand on the first of its laptops.
func (p *Plan) clashing(f *ConflictFound) (values []Candidate) {
	s := p.one(f.Devices.First(1)[0], f.Setting)
	if s == nil {
		return nil
	}
	for _, c := range s.Candidates {
		if c.Fate == Clashing {
			values = append(values, c)
		}
	}
	return values
}

// ProblemFound is a check that finds laptops wrong, with the laptops.
type ProblemFound struct {
	Problem
	Devices Devices
}

// Problems lists every problem by (check, what it comes from).
func (w *Whole) Problems() []ProblemFound {
	var out []ProblemFound
	for _, at := range w.plan.byCheck {
		out = append(out, w.problemsOf(at, Devices{plan: w.plan, blocks: w.problems[at]})...)
	}
	return out
}

// problemsOf parts laptops on which a check finds something by what the settings that it names come from.
func (w *Whole) problemsOf(at int, on Devices) []ProblemFound {
	p := w.plan
	c := p.checks[at].Check
	found := gather[string](p)
	froms := map[string][]string{}
	k := p.worker(p.laptops())
	defer k.done()
	var dom rowset.Set
	for b, packed := range on.blocks {
		if packed == nil {
			continue
		}
		packed.Into(&dom)
		k.load(b, &dom)
		var standing []contestant
		for _, id := range c.Settings {
			if s, known := p.settingAt.at(id); known {
				standing = append(standing, k.standing(s, w.forcedRows(k, s, b), &dom)...)
			}
		}
		k.alike(standing, &dom, func(have []contestant, rows *rowset.Set) {
			var from []string
			for _, h := range have {
				from = append(from, h.from())
			}
			slices.Sort(from)
			from = slices.Compact(from)
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
		out = append(out, ProblemFound{Problem{Check: c.ID, Message: c.Message, Settings: slices.Sorted(slices.Values(c.Settings)), From: from}, found.devices(key)})
	}
	slices.SortFunc(out, func(a, b ProblemFound) int { return slices.Compare(a.From, b.From) })
	return out
}

// from names what a contestant's value comes from: its policy, or the exception that stands in for one.
func (c *contestant) from() string {
	if c.policy == none {
		return c.exception
	}
	return string(c.id)
}

// forcedRows gives the rows of a block on which a setting's value is forced; nil where none is.
func (w *Whole) forcedRows(k *worker, at, block int) *rowset.Set {
	c := &w.plan.contests[at]
	if len(c.forced) == 0 {
		return nil
	}
	forced, here := k.keep(), k.keep()
	w.final[at][block].Each(here, func(number int32) {
		before := k.keep()
		w.decided[at][block].OrInto(before, number)
		here.AndNot(before)
		if o := c.outcomes.get(number); !o.item {
			forced.Or(here)
		}
	})
	return forced
}

// standing gives, as contestants, who carries what a setting comes out as on the rows of dom: those that won or clash, and the exceptions
// that count. Rows in not have a forced value, which comes from nobody.
func (w *worker) standing(at int, not, dom *rowset.Set) []contestant {
	c := &w.plan.contests[at]
	seen := &standers{w: w, of: map[*slot]*rowset.Set{}, exceptions: map[*estate.Exception]*rowset.Set{}}
	w.witness = seen
	in := slices.Clone(w.contestants(c, dom))
	w.emitted = 0
	w.decide(c, in, dom)
	w.witness, w.emitted = nil, 0
	var out []contestant
	add := func(s *slot, x string, rows *rowset.Set) {
		if not != nil {
			rows.AndNot(not)
		}
		if !rows.Empty() {
			out = append(out, contestant{slot: s, exception: x, live: rows})
		}
	}
	for _, s := range in {
		if rows := seen.of[s.slot]; rows != nil {
			add(s.slot, "", rows)
		}
	}
	for i := range c.exceptions {
		if rows := seen.exceptions[c.exceptions[i].Exception]; rows != nil {
			add(&slot{policy: none}, string(c.exceptions[i].ID), rows)
		}
	}
	return out
}

// standers notes who won or clashes, and which exceptions count.
type standers struct {
	w          *worker
	of         map[*slot]*rowset.Set
	exceptions map[*estate.Exception]*rowset.Set
}

func (s *standers) fate(of *slot, is Fate, rows *rowset.Set) {
	if is != Won && is != Clashing {
		return
	}
	if s.of[of] == nil {
		s.of[of] = s.w.keep()
	}
	s.of[of].Or(rows)
}

func (s *standers) by(_ How, x *estate.Exception, rows *rowset.Set) {
	if x == nil {
		return
	}
	if s.exceptions[x] == nil {
		s.exceptions[x] = s.w.keep()
	}
	s.exceptions[x].Or(rows)
}

// Clashing counts by device, in the order of ids, the settings on which policies clash.
func (w *Whole) Clashing() []int32 {
	return w.count(func(add func(Devices)) {
		for _, at := range w.plan.bySetting {
			c := &w.plan.contests[at]
			for b, cell := range w.final[at] {
				for number := range cell.Numbers {
					if c.outcomes.get(number).status == Conflict {
						var rows rowset.Set
						cell.OrInto(&rows, number)
						one := make([]rowset.Packed, b+1)
						one[b] = rows.Pack()
						add(Devices{plan: w.plan, blocks: one})
					}
				}
			}
		}
	})
}

// Wrong counts by device, in the order of ids, the checks that find something.
func (w *Whole) Wrong() []int32 {
	return w.count(func(add func(Devices)) {
		for _, at := range w.plan.byCheck {
			add(Devices{plan: w.plan, blocks: w.problems[at]})
		}
	})
}

func (w *Whole) count(of func(add func(Devices))) []int32 {
	out := make([]int32, w.plan.Devices())
	of(func(d Devices) { d.each(func(at int) { out[w.plan.rank[at]]++ }) })
	return out
}

// String lists the laptops, as messages and tests show them.
func (d Devices) String() string { return fmt.Sprint(d.IDs()) }

// Plan is what was resolved.
func (w *Whole) Plan() *Plan { return w.plan }

// All gives the laptops with their home units, in no particular order.
func (d Devices) All(yield func(*estate.Device, estate.UnitID) bool) {
	var rows rowset.Set
	for b, packed := range d.blocks {
		packed.Into(&rows)
		for row := range rows.All() {
			is := d.device(b<<rowset.Shift + row)
			home := d.plan.units[is.home].Unit
			if home == nil {
				home = d.was.units[is.home].Unit
			}
			if !yield(is.Device, home.ID) {
				return
			}
		}
	}
}

// Bare gives the set without the plan that it is of, for keeping: On gives it one again.
func (d Devices) Bare() Devices { return Devices{blocks: d.blocks} }

// On gives the set as another plan made of the same knows it.
func (d Devices) On(p *Plan) Devices { return Devices{plan: p, blocks: d.blocks} }
