// This file decides one setting, for one laptop and for thousands alike: what decides are sets of laptops, and one laptop is a set of
// one.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/rowset"
	"zenithridge.example/zridge/core/setting"
)

// contestant is a slot with the laptops that have it.
type contestant struct {
	*slot
	at       int32       // its place among the contestants
	place    int32       // the slot's, among those of the setting
	order                // the slot's
	live     *rowset.Set // it takes part
	detached *rowset.Set // dropped since their place is detached; nil: none
}

// witness is told why. Sets hold until the call returns.
type witness interface {
	// fate tells what became of a contestant on some laptops.
	fate(of *contestant, is Fate, rows *rowset.Set)
	// fates tells the same fate of several, on those of the laptops that have them.
	fates(of []contestant, is Fate, rows *rowset.Set)
	// by tells by what a value was decided on some laptops; x is the exception that decided.
	by(how How, x *estate.Exception, rows *rowset.Set)
}

// decide settles a setting for the laptops of dom. What the setting comes out as is emitted, laptop by laptop once but for
// items and rows of what is put together.
func (w *worker) decide(c *contest, in []contestant, dom *rowset.Set) {
	mark := w.mark()
	rest := w.temp()
	rest.Copy(dom)
	w.unsupported(c, in, rest)
	if w.witness != nil {
		here := w.temp()
		for i := range in {
			if s := &in[i]; s.detached != nil && here.SetAnd(s.detached, rest) {
				w.witness.fate(s, Detached, here)
			}
		}
	}
	w.except(c, in, rest)
	if len(in) > 0 && !rest.Empty() {
		switch c.combine {
		case setting.Merge:
			w.merge(c, in, rest)
		case setting.Common:
			w.common(c, in, rest)
		default:
			w.peel(c, in, rest)
		}
	}
	w.release(mark)
}

// unsupported takes the laptops that do not support the setting out of rest; it appears on those that have an entry for it.
func (w *worker) unsupported(c *contest, in []contestant, rest *rowset.Set) {
	if !c.limited {
		return
	}
	lacking := &w.lacking(c).by
	mark := w.mark()
	defer w.release(mark)
	var appears *rowset.Set
	for number, who := range lacking {
		if who == nil || !who.Meets(rest) {
			continue
		}
		if appears == nil {
			appears = w.temp()
			appears.Clear()
			for _, s := range in {
				appears.Or(s.live)
				if s.detached != nil {
					appears.Or(s.detached)
				}
			}
			appears.And(rest)
		}
		if here := w.temp(); here.SetAnd(appears, who) {
			w.emit(noPlatform+int32(number), here)
		}
		rest.AndNot(who)
	}
}

// except takes the laptops with an exception that counts out of rest.
func (w *worker) except(c *contest, in []contestant, rest *rowset.Set) {
	if len(c.exceptions) == 0 {
		return
	}
	mark := w.mark()
	defer w.release(mark)
	for i := range c.exceptions {
		x := &c.exceptions[i]
		here := w.temp()
		if t := w.target(&x.target); t == nil || !here.SetAnd(t, rest) {
			continue
		}
		w.emit(x.outcome, here)
		if w.witness != nil {
			w.witness.by(ByException, x.Exception, here)
			w.witness.fates(in, Excepted, here)
		}
		rest.AndNot(here)
	}
}

// peel decides closest and strictest: the first slot in order that a laptop has stands. Slots of a run stand together, or conflict.
func (w *worker) peel(c *contest, in []contestant, undecided *rowset.Set) {
	how := How(c.combine)
	if first := firstRun(in); undecided.In(in[0].live) && (c.combine != setting.Closest || oneClass(in[:first])) {
		w.emit(in[0].outcome, undecided) // it decides for all
		if w.witness != nil {
			w.witness.by(how, nil, undecided)
			w.witness.fates(in[:first], Won, undecided)
			w.beatenBy(c, in, first, undecided)
		}
		return
	}
	all, inZone, locked := undecided, (*rowset.Set)(nil), (*rowset.Set)(nil)
	if w.witness != nil { // who decided what is asked for the fates alone
		all, inZone, locked = w.temp(), w.temp(), w.temp()
		all.Copy(undecided)
		inZone.Clear()
		locked.Clear()
	}
	won := w.temp()
	taken := w.temp()
	for i := 0; i < len(in); {
		if undecided.Empty() && w.witness == nil {
			return
		}
		j := i + firstRun(in[i:])
		if w.witness != nil {
			if i > 0 && in[i].zone != in[i-1].zone {
				inZone.Clear()
			}
			w.beaten(c, in[i:j], all, undecided, inZone, locked)
		}
		taken.Clear()
		if c.combine == setting.Closest && !oneClass(in[i:j]) {
			w.decideTie(c, in[i:j], undecided, taken)
		} else {
			for k := i; k < j; k++ {
				s := &in[k]
				if !won.SetAnd(s.live, undecided) {
					continue
				}
				if w.witness != nil {
					w.witness.fate(s, Won, won)
					w.witness.by(how, nil, won)
				}
				won.AndNot(taken) // of equal values under different names the first is shown
				w.emit(s.outcome, won)
				taken.Or(won)
			}
		}
		undecided.AndNot(taken)
		if w.witness != nil {
			inZone.Or(taken)
			if in[i].zone < 0 {
				locked.Or(taken)
			}
		}
		i = j
	}
}

// firstRun is how many contestants the first run has.
func firstRun(in []contestant) int {
	n := 1
	for n < len(in) && in[n].run == in[0].run {
		n++
	}
	return n
}

// oneClass tells whether the contestants of a run have equal values.
func oneClass(run []contestant) bool {
	for i := 1; i < len(run); i++ {
		if run[i].class != run[0].class {
			return false
		}
	}
	return true
}

// beatenBy tells the fates of the slots from a place on where the first one decided for all.
func (w *worker) beatenBy(c *contest, in []contestant, from int, all *rowset.Set) {
	within, beyond := c.behind(&in[0].order)
	zone := from
	for zone < len(in) && in[zone].zone == in[0].zone {
		zone++
	}
	w.witness.fates(in[from:zone], within, all)
	w.witness.fates(in[zone:], beyond, all)
}

// behind gives the fates of slots that stand behind the run of one that decides: in its zone and beyond.
func (c *contest) behind(first *order) (within, beyond Fate) {
	within, beyond = Weaker, Weaker
	if c.combine == setting.Closest {
		within, beyond = LowerPriority, Outer
	}
	if first.zone < 0 {
		beyond = LockedOut
	}
	return within, beyond
}

// beaten tells the fates of a run's slots on laptops that were decided before their turn.
func (w *worker) beaten(c *contest, run []contestant, all, undecided, inZone, locked *rowset.Set) {
	mark := w.mark()
	defer w.release(mark)
	lost, here := w.temp(), w.temp()
	by := Weaker
	if c.combine == setting.Closest {
		by = LowerPriority
	}
	for i := range run {
		s := &run[i]
		if !lost.SetAnd(s.live, all) || !lost.SetAndNot(lost, undecided) {
			continue
		}
		if here.SetAnd(lost, inZone) {
			w.witness.fate(s, by, here)
			lost.AndNot(inZone)
		}
		if here.SetAnd(lost, locked) {
			w.witness.fate(s, LockedOut, here)
			lost.AndNot(locked)
		}
		if !lost.Empty() {
			if c.combine == setting.Closest {
				w.witness.fate(s, Outer, lost)
			} else {
				w.witness.fate(s, Weaker, lost)
			}
		}
	}
}

// decideTie decides a run whose slots have different values: where a laptop has one value it stands, else rulings are asked.
func (w *worker) decideTie(c *contest, run []contestant, undecided, taken *rowset.Set) {
	mark := w.mark()
	defer w.release(mark)
	twice, value, here := w.temp(), w.temp(), w.temp()
	twice.Clear()
	for i, s := range run {
		if slices.ContainsFunc(run[:i], func(before contestant) bool { return before.class == s.class }) {
			continue
		}
		value.Clear()
		for _, other := range run[i:] {
			if other.class == s.class {
				value.Or(other.live)
			}
		}
		value.And(undecided)
		if here.SetAnd(taken, value) {
			twice.Or(here)
		}
		taken.Or(value)
	}
	single := w.temp()
	single.SetAndNot(taken, twice)
	shown := w.temp()
	shown.Clear()
	for i := range run {
		s := &run[i]
		if here.SetAnd(s.live, single) {
			if w.witness != nil {
				w.witness.fate(s, Won, here)
				w.witness.by(ByClosest, nil, here)
			}
			here.AndNot(shown)
			w.emit(s.outcome, here)
			shown.Or(here)
		}
	}
	w.alike(run, twice, func(clashing []contestant, rows *rowset.Set) {
		winner := w.settle(c, clashing)
		if winner == nil {
			w.conflict(c, clashing, rows)
			return
		}
		w.emit(winner.outcome, rows)
		if w.witness == nil {
			return
		}
		w.witness.by(ByRuling, nil, rows)
		for i := range clashing {
			if s := &clashing[i]; s.class == winner.class {
				w.witness.fate(s, Won, rows)
			} else {
				w.witness.fate(s, RuledOut, rows)
			}
		}
	})
}

// alike parts laptops by which of some contestants they have.
func (w *worker) alike(of []contestant, rows *rowset.Set, each func(have []contestant, rows *rowset.Set)) {
	mark := w.mark()
	defer w.release(mark)
	left, same := w.temp(), w.temp()
	left.Copy(rows)
	have := make([]contestant, 0, len(of))
	for !left.Empty() {
		first := left.First()
		have = have[:0]
		same.Copy(left)
		for _, s := range of {
			if s.live.Has(first) {
				have = append(have, s)
				same.And(s.live)
			} else {
				same.AndNot(s.live)
			}
		}
		each(have, same)
		left.AndNot(same)
	}
}

// settle gives a contestant of the one value that rulings prefer over every other, nil when there is not exactly one.
func (w *worker) settle(c *contest, clashing []contestant) *slot {
	var winner *slot
	if len(c.rulings) == 0 {
		return nil
	}
	for _, a := range clashing {
		if slices.ContainsFunc(clashing, func(b contestant) bool {
			return b.class != a.class && !c.rulings[preference{w.idOf(a.slot), w.idOf(b.slot)}]
		}) {
			continue
		}
		if winner != nil && winner.class != a.class {
			return nil
		}
		if winner == nil {
			winner = a.slot
		}
	}
	return winner
}

// idOf gives the policy that a slot is of.
func (w *worker) idOf(s *slot) estate.PolicyID { return w.plan.policies[s.policy].ID }

// conflict lets contestants conflict on some laptops.
func (w *worker) conflict(c *contest, clashing []contestant, rows *rowset.Set) {
	policies := make([]string, len(clashing))
	for i, s := range clashing {
		policies[i] = string(w.idOf(s.slot))
	}
	slices.Sort(policies)
	w.emit(c.outcomes.conflict(policies).number, rows)
	if w.witness != nil {
		for i := range clashing {
			w.witness.fate(&clashing[i], Clashing, rows)
		}
	}
}

// put emits that laptops have a value that is put together, and tells the fates.
func (w *worker) put(in []contestant, how How, rows *rowset.Set) {
	if rows.Empty() {
		return
	}
	w.emit(madeOfItems, rows)
	if w.witness != nil {
		w.witness.by(how, nil, rows)
		w.witness.fates(in, Won, rows)
	}
}

// having gives the laptops among rest that have some contestant.
func (w *worker) having(in []contestant, rest *rowset.Set) *rowset.Set {
	have := w.temp()
	have.Clear()
	for i := range in {
		if have.Or(in[i].live); rest.In(have) {
			break
		}
	}
	have.And(rest)
	return have
}

// byItem gives for every item the laptops of have that some contestant brings it to. Of what comes to all of them the set is have
// itself. The lists are good until the next call.
func (w *worker) byItem(c *contest, in []contestant, have *rowset.Set) (numbers []int32, sets []*rowset.Set) {
	some := w.temp()
	numbers, sets = w.items[:0], w.bring[:0]
	where := w.room(len(c.outcomes.all()))
	for i := range in {
		items, here := c.itemsOf(in[i].place), have
		if len(items) == 0 {
			continue
		}
		if !have.In(in[i].live) {
			if here = some; !here.SetAnd(in[i].live, have) {
				continue
			}
		}
		for _, item := range items {
			at := where[item&^itemBit]
			if at == 0 {
				numbers, sets = append(numbers, item), append(sets, nil)
				at = int32(len(numbers))
				where[item&^itemBit] = at
			}
			switch set := &sets[at-1]; {
			case here == have:
				*set = have
			case *set == nil:
				*set = w.temp()
				(*set).Copy(here)
			case *set != have:
				(*set).Or(here)
			}
		}
	}
	for _, item := range numbers {
		where[item&^itemBit] = 0
	}
	w.items, w.bring = numbers, sets
	return numbers, sets
}

// merge adds up lists and tables. Rows that claim the same thing and say different things conflict.
func (w *worker) merge(c *contest, in []contestant, rest *rowset.Set) {
	have := w.having(in, rest)
	numbers, sets := w.byItem(c, in, have)
	if c.def.Type == setting.TypeTable && len(c.def.Key) > 0 {
		w.rowConflicts(c, in, numbers, sets, have)
	}
	w.put(in, ByMerge, have)
	for i, item := range numbers {
		if !sets[i].Empty() {
			w.emitNew(item, sets[i])
		}
	}
}

// rowConflicts takes the laptops out of have, and out of the items' sets, on which two tables say different things under one key.
func (w *worker) rowConflicts(c *contest, in []contestant, numbers []int32, sets []*rowset.Set, have *rowset.Set) {
	mark := w.mark()
	defer w.release(mark)
	clashing, here := w.temp(), w.temp()
	clashing.Clear()
	for i := range numbers {
		a := c.outcomes.get(numbers[i]).value
		for j := range i {
			if sets[i].Meets(sets[j]) && c.def.Conflicts(a, c.outcomes.get(numbers[j]).value) {
				here.SetAnd(sets[i], sets[j])
				clashing.Or(here)
			}
		}
	}
	if clashing.Empty() {
		return
	}
	w.alike(in, clashing, func(all []contestant, rows *rowset.Set) { w.conflict(c, all, rows) })
	have.AndNot(clashing)
	for i := range sets {
		if sets[i] != have {
			sets[i].AndNot(clashing)
		}
	}
}

// common keeps the items that every list has. Nothing in common although no list is empty is a conflict of all.
func (w *worker) common(c *contest, in []contestant, rest *rowset.Set) {
	have := w.having(in, rest)
	numbers, sets := w.byItem(c, in, have)
	some, lacking, empty := w.temp(), w.temp(), w.temp()
	some.Clear()
	empty.Clear()
	brings := w.room(len(c.outcomes.all())) // by item: the last that brings it, from 1
	for k := range in {
		items, live := c.itemsOf(in[k].place), in[k].live
		if len(items) == 0 {
			empty.Or(live)
		}
		for _, item := range items {
			brings[item&^itemBit] = int32(k) + 1
		}
		for i, item := range numbers {
			if brings[item&^itemBit] == int32(k)+1 {
				continue
			}
			if sets[i] != have {
				sets[i].AndNot(live)
			} else if sets[i] = w.temp(); !sets[i].SetAndNot(have, live) {
				sets[i] = &nobody
			}
		}
		for _, item := range items {
			brings[item&^itemBit] = 0
		}
	}
	for i := range sets {
		some.Or(sets[i])
	}
	if lacking.SetAndNot(have, some); !lacking.Empty() {
		lacking.AndNot(empty)
	}
	if !lacking.Empty() {
		w.alike(in, lacking, func(all []contestant, rows *rowset.Set) { w.conflict(c, all, rows) })
		have.AndNot(lacking)
	}
	w.put(in, ByCommon, have)
	for i, item := range numbers {
		if !sets[i].Empty() {
			w.emitNew(item, sets[i])
		}
	}
}
