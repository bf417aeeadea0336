// This file decides by precedence: entries are in one order, and the first that a laptop has is in
// effect. closest and strictest decide so; they differ in the order.
//
// The order has two divisions. A run is a stretch of entries that do not beat each other: for
// closest, those of one level and one priority. A zone is a stretch of runs whose entries lose for
// the same reason, such as those of one level. Entries in a zone below 0 are locked, and come
// first.

package decide

import (
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/outcome"
)

// precedence is how a rule decides by precedence: the first candidate in order that a laptop has is
// in effect.
type precedence struct {
	inZone outcome.Fate // of candidates behind the first one in its zone
	beyond outcome.Fate // of candidates in later zones
	ties   bool         // candidates of one run may have different values, which is a conflict unless rulings settle it
}

// byPrecedence decides for the laptops of undecided. Candidates of one run are in effect together
// where their values are equal.
//
// Runs are gone through in order. Before each, undecided holds the laptops that no run before it
// decided for.
//
// Example: entries of levels unit:2, unit:1 and unit:0, each a run of its own. The first run
// decides for the laptops that have it, and they leave undecided. The second run decides for those
// that are left, and so on. A laptop that was decided for by an earlier run still has the later
// candidates: an Observer is told that they are beaten.
func (d *Decider) byPrecedence(ix *Index, in []Candidate, undecided *bitset.Set, by *precedence) {
	if first := runLength(in); undecided.In(in[0].Live) && (!by.ties || sameClass(in[:first])) {
		d.Out.Add(in[0].Outcome, undecided) // the first run decides for all
		if d.Observer != nil {
			d.Observer.By(ix.how(), nil, undecided)
			d.Observer.Fates(in[:first], outcome.Won, undecided)
			d.behindLead(in, first, undecided, by)
		}
		return
	}
	all, inZone, locked := undecided, (*bitset.Set)(nil), (*bitset.Set)(nil)
	if d.Observer != nil { // what decided where is looked at for the fates alone
		all, inZone, locked = d.sets.Temp(), d.sets.Temp(), d.sets.Temp()
		all.Copy(undecided)
		inZone.Clear()
		locked.Clear()
	}
	// taken: the laptops for which this run decides.
	won, taken := d.sets.Temp(), d.sets.Temp()
	for i := 0; i < len(in); {
		// All laptops are decided. What is left only matters to somebody who asks why.
		if undecided.Empty() && d.Observer == nil {
			return
		}
		// in[i:j] is one run: entries that do not beat each other.
		j := i + runLength(in[i:])
		if d.Observer != nil {
			// A new zone: what was decided in the zone before counts as decided by a closer level
			// from now on.
			if i > 0 && in[i].Zone != in[i-1].Zone {
				inZone.Clear()
			}
			d.beaten(in[i:j], all, undecided, inZone, locked, by)
		}
		taken.Clear()
		if by.ties && !sameClass(in[i:j]) {
			d.tie(ix, in[i:j], undecided, taken, by)
		} else {
			for k := i; k < j; k++ {
				c := &in[k]
				// Laptops that an earlier candidate of the run decided for are among these: equal
				// values win together.
				if !won.SetAnd(c.Live, undecided) {
					continue
				}
				if d.Observer != nil {
					d.Observer.Fate(c, outcome.Won, won)
					d.Observer.By(ix.how(), nil, won)
				}
				won.AndNot(taken) // of equal values that are written differently the first is shown
				d.Out.Add(c.Outcome, won)
				taken.Or(won)
			}
		}
		undecided.AndNot(taken)
		if d.Observer != nil {
			inZone.Or(taken)
			if in[i].Zone < 0 {
				locked.Or(taken)
			}
		}
		i = j
	}
}

// runLength counts the candidates of the first run.
func runLength(in []Candidate) int {
	n := 1
	for n < len(in) && in[n].Run == in[0].Run {
		n++
	}
	return n
}

// sameClass tells whether the candidates of a run have equal values.
func sameClass(run []Candidate) bool {
	for i := 1; i < len(run); i++ {
		if run[i].Class != run[0].Class {
			return false
		}
	}
	return true
}

// behindLead tells the fates of the candidates from a place on where the first run decided for all.
func (d *Decider) behindLead(in []Candidate, from int, all *bitset.Set, by *precedence) {
	// Behind a locked entry everything is locked out, wherever it comes from.
	beyond := by.beyond
	if in[0].Zone < 0 {
		beyond = outcome.LockedOut
	}
	zone := from
	for zone < len(in) && in[zone].Zone == in[0].Zone {
		zone++
	}
	d.Observer.Fates(in[from:zone], by.inZone, all)
	d.Observer.Fates(in[zone:], beyond, all)
}

// beaten tells the fates of a run's candidates on laptops for which a run before decided. inZone
// holds the laptops that a run of the same zone decided for, locked those that a locked one did.
func (d *Decider) beaten(run []Candidate, all, undecided, inZone, locked *bitset.Set, by *precedence) {
	mark := d.sets.Mark()
	defer d.sets.Release(mark)
	lost, here := d.sets.Temp(), d.sets.Temp()
	// lost: laptops that have the candidate and that an earlier run decided for.
	for i := range run {
		c := &run[i]
		if !lost.SetAnd(c.Live, all) || !lost.SetAndNot(lost, undecided) {
			// For each laptop the closest cause is told: beaten within the zone, else by a lock,
			// else by a closer level.
			continue
		}
		if here.SetAnd(lost, inZone) {
			d.Observer.Fate(c, by.inZone, here)
			lost.AndNot(inZone)
		}
		if here.SetAnd(lost, locked) {
			d.Observer.Fate(c, outcome.LockedOut, here)
			lost.AndNot(locked)
		}
		if !lost.Empty() {
			d.Observer.Fate(c, by.beyond, lost)
		}
	}
}

// tie decides a run whose candidates have different values. Where a laptop has candidates of one
// value alone, that value is in effect; else rulings are asked. What was decided is added to taken.
func (d *Decider) tie(ix *Index, run []Candidate, undecided, taken *bitset.Set, by *precedence) {
	mark := d.sets.Mark()
	defer d.sets.Release(mark)
	twice, value, here := d.sets.Temp(), d.sets.Temp(), d.sets.Temp()
	twice.Clear() // laptops with candidates of more than one value
	for i, c := range run {
		if slices.ContainsFunc(run[:i], func(before Candidate) bool { return before.Class == c.Class }) {
			// The value was counted with its first candidate.
			continue
		}
		// value: the undecided laptops with some candidate of this value.
		value.Clear()
		for _, other := range run[i:] {
			if other.Class == c.Class {
				value.Or(other.Live)
			}
		}
		value.And(undecided)
		// A laptop that is in taken already has another value, too.
		if here.SetAnd(taken, value) {
			twice.Or(here)
		}
		taken.Or(value)
	}
	single := d.sets.Temp()
	// single: laptops whose candidates in this run all have one value. They need no ruling.
	single.SetAndNot(taken, twice)
	shown := d.sets.Temp() // laptops whose value was added already
	shown.Clear()
	for i := range run {
		c := &run[i]
		if here.SetAnd(c.Live, single) {
			if d.Observer != nil {
				d.Observer.Fate(c, outcome.Won, here)
				d.Observer.By(ix.how(), nil, here)
			}
			here.AndNot(shown)
			d.Out.Add(c.Outcome, here)
			shown.Or(here)
		}
	}
	// The others are split by which candidates they have, and each combination is decided once.
	d.alike(run, twice, func(tied []Candidate, rows *bitset.Set) {
		winner := ix.preferred(tied)
		if winner == nil {
			d.conflict(ix, tied, rows)
			return
		}
		d.Out.Add(winner.Outcome, rows)
		if d.Observer == nil {
			return
		}
		d.Observer.By(outcome.ByRuling, nil, rows)
		for i := range tied {
			if c := &tied[i]; c.Class == winner.Class {
				d.Observer.Fate(c, outcome.Won, rows)
			} else {
				d.Observer.Fate(c, outcome.RuledOut, rows)
			}
		}
	})
}

// preferred gives a candidate of the one value that rulings prefer over every other, nil when there
// is not exactly one.
func (ix *Index) preferred(tied []Candidate) *Candidate {
	if len(ix.Rulings) == 0 {
		return nil
	}
	var winner *Candidate
	for i := range tied {
		a := &tied[i]
		// A value is preferred if, for every candidate of another value, a ruling prefers it.
		if slices.ContainsFunc(tied, func(b Candidate) bool {
			return b.Class != a.Class && !ix.Rulings[Ruling{ix.Entries[a.Rank].PolicyID, ix.Entries[b.Rank].PolicyID}]
		}) {
			continue
		}
		// Two values that are each preferred over all others contradict each other. Nothing is
		// settled then.
		if winner != nil && winner.Class != a.Class {
			return nil
		}
		if winner == nil {
			winner = a
		}
	}
	return winner
}
