// This file decides one setting for a set of laptops. What all combine rules have in common is
// here, in the order of resolution.md, section 6; a rule begins where these steps end
// (Combiner.Combine).
//
// Deciding takes sets apart. rest has the laptops for which nothing is decided yet; each step takes
// out those that it decides for, so that no laptop is decided for twice. An Observer is told the
// fate of each candidate on each laptop; without one that work is left out.

package decide

import (
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/intern"
)

// Candidate is a ranked entry with the laptops that have it.
type Candidate struct {
	*Ranked
	At       int32       // its place among the candidates
	Rank     int32       // its place in the index
	Order                // as in the index
	Live     *bitset.Set // laptops on which it takes part
	Detached *bitset.Set // laptops on which it is dropped since a place detaches it; nil: none
}

// Nobody is the empty set. It must not be altered.
var Nobody = &bitset.Set{}

// Observer is told why. The sets that it is given hold until the call returns.
type Observer interface {
	// Fate tells what became of a candidate on some laptops.
	Fate(of *Candidate, is outcome.Fate, rows *bitset.Set)
	// Fates tells the same fate of several, on those of the laptops that have them.
	Fates(of []Candidate, is outcome.Fate, rows *bitset.Set)
	// By tells by what a value was decided on some laptops; x is the exception that decided.
	By(how outcome.How, x *estate.Exception, rows *bitset.Set)
}

// Limits are the laptops for which a setting is not decided among the candidates.
type Limits struct {
	Lacking []*bitset.Set // laptops that do not support it, by reason in the order of the numbers of outcomes; nil sets are empty
	Exempt  []*bitset.Set // laptops that the targets of the exceptions match, in the order of Index.Exceptions; nil sets are empty
}

// Decider decides settings one after the other. It is for one thread. What was decided is in Out,
// until Out.Reset.
type Decider struct {
	Out      Emitted
	Observer Observer // nil: nobody asks why, which is much faster

	sets        *bitset.Arena
	itemNumbers []int32 // scratch space of byItem
	itemSets    []*bitset.Set
	where       []int32 // scratch space of zeros
}

// NewDecider gives a Decider that borrows sets from an arena.
func NewDecider(sets *bitset.Arena) Decider { return Decider{sets: sets} }

// Decide decides a setting for the laptops of rows. What it comes out as is added to Out: each
// laptop has one outcome, and where the value is put together also the items of its value. Laptops
// on which the setting does not appear have none.
func (d *Decider) Decide(ix *Index, in []Candidate, rows *bitset.Set, limits Limits) {
	mark := d.sets.Mark()
	defer d.sets.Release(mark)
	rest := d.sets.Temp() // laptops for which it is not decided yet
	rest.Copy(rows)
	// The order is that of resolution.md, section 6: what the laptop does not support, what is
	// detached, what is overridden by something stronger, exceptions, and only then the combine
	// rule.
	d.unsupported(in, rest, limits.Lacking)
	if d.Observer != nil {
		here := d.sets.Temp()
		for i := range in {
			if c := &in[i]; c.Detached != nil && here.SetAnd(c.Detached, rest) {
				d.Observer.Fate(c, outcome.Detached, here)
			}
		}
	}
	if ix.unequal {
		in = d.dropWeaker(in, rest)
	}
	d.except(ix, in, rest, limits.Exempt)
	if len(in) > 0 && !rest.Empty() {
		ix.combiner.Combine(d, ix, in, rest)
	}
}

// dropWeaker takes candidates from the laptops that have one of greater strength: what a person
// chose never wins against what is enforced, nor what a baseline wants against a policy. It gives
// the candidates that are left.
func (d *Decider) dropWeaker(in []Candidate, rest *bitset.Set) []Candidate {
	stronger := d.sets.Temp() // laptops with a candidate of greater strength than those that are looked at
	stronger.Clear()
	// A copy: the candidates belong to whoever called, and their sets are replaced below.
	left := slices.Clone(in)
	// From the strongest to the weakest. stronger grows by the laptops of each strength once all of
	// its candidates were looked at.
	for strength := range strengths {
		for i := range left {
			if c := &left[i]; c.Strength == strength && strength != Enforced && c.Live.Meets(stronger) {
				d.drop(c, stronger, rest)
			}
		}
		for i := range left {
			if left[i].Strength == strength {
				stronger.Or(left[i].Live)
			}
		}
	}
	return left
}

// drop takes a candidate from laptops that have a stronger one. Its own set is not altered, since it
// belongs to whoever called Decide.
func (d *Decider) drop(c *Candidate, stronger, rest *bitset.Set) {
	if d.Observer != nil {
		if here := d.sets.Temp(); here.SetAnd(c.Live, stronger) && here.SetAnd(here, rest) {
			d.Observer.Fate(c, outcome.Enforced, here)
		}
	}
	live := d.sets.Temp()
	if !live.SetAndNot(c.Live, stronger) {
		live = Nobody
	}
	c.Live = live
}

// unsupported takes the laptops that lack the setting out of rest. The setting appears, as
// unsupported, on those of them that have an entry for it, detached or not; on the others it does
// not appear.
func (d *Decider) unsupported(in []Candidate, rest *bitset.Set, lacking []*bitset.Set) {
	mark := d.sets.Mark()
	defer d.sets.Release(mark)
	var appears *bitset.Set
	for reason, who := range lacking {
		if who == nil || !who.Meets(rest) {
			continue
		}
		if appears == nil {
			appears = d.sets.Temp()
			appears.Clear()
			for i := range in {
				appears.Or(in[i].Live)
				if in[i].Detached != nil {
					appears.Or(in[i].Detached)
				}
			}
			appears.And(rest)
		}
		if here := d.sets.Temp(); here.SetAnd(appears, who) {
			d.Out.Add(intern.LackPlatform+int32(reason), here)
		}
		rest.AndNot(who)
	}
}

// except takes the laptops with an exception that counts out of rest. An exception also counts on
// laptops that have no entry.
func (d *Decider) except(ix *Index, in []Candidate, rest *bitset.Set, exempt []*bitset.Set) {
	mark := d.sets.Mark()
	defer d.sets.Release(mark)
	// The first exception that matches a laptop decides, so its laptops leave rest.
	for i, matching := range exempt {
		x := &ix.Exceptions[i]
		here := d.sets.Temp()
		if matching == nil || !here.SetAnd(matching, rest) {
			continue
		}
		d.Out.Add(x.Outcome, here)
		if d.Observer != nil {
			d.Observer.By(outcome.ByException, x.Exception, here)
			d.Observer.Fates(in, outcome.Excepted, here)
		}
		rest.AndNot(here)
	}
}

// alike splits laptops by which of some candidates they have, and calls each for every combination.
func (d *Decider) alike(of []Candidate, rows *bitset.Set, each func(have []Candidate, rows *bitset.Set)) {
	Alike(d.sets, of, rows, each)
}

// Alike splits laptops by which of some candidates they have, and calls each for every combination
// with the laptops that have it. The arguments of each hold until it returns.
func Alike(sets *bitset.Arena, of []Candidate, rows *bitset.Set, each func(have []Candidate, rows *bitset.Set)) {
	mark := sets.Mark()
	defer sets.Release(mark)
	left, same := sets.Temp(), sets.Temp()
	left.Copy(rows)
	have := make([]Candidate, 0, len(of))
	for !left.Empty() { // every round takes out all laptops that are like the first one left
		first := left.First()
		have = have[:0]
		same.Copy(left)
		for _, c := range of {
			if c.Live.Has(first) {
				have = append(have, c)
				same.And(c.Live)
			} else {
				same.AndNot(c.Live)
			}
		}
		each(have, same)
		left.AndNot(same)
	}
}

// conflict tells that candidates are in conflict on some laptops. Conflicts of the same policies
// have the same number.
func (d *Decider) conflict(ix *Index, candidates []Candidate, rows *bitset.Set) {
	policies := make([]string, len(candidates))
	for i, c := range candidates {
		policies[i] = string(ix.Entries[c.Rank].PolicyID)
	}
	// The same policies in another order are the same conflict.
	slices.Sort(policies)
	d.Out.Add(ix.Outcomes.Conflict(policies).Number, rows)
	if d.Observer != nil {
		for i := range candidates {
			d.Observer.Fate(&candidates[i], outcome.Clashing, rows)
		}
	}
}
