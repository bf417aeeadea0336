// This file has the rule merge: lists and tables of all policies are put together. Rows of tables
// can contradict each other, where they agree in the key of the table and say different things:
// that is a conflict on the laptops that have both.

package decide

import (
	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/setting"
)

// merge adds up the items of all lists, or the rows of all tables. Lists that add up are always
// inherited. Rows of one key that say different things are a conflict of all candidates.
type merge struct{}

// Weight is the same for all: every entry takes part.
func (merge) Weight(*setting.Definition, int64, setting.Value) int64 { return 0 }

// ByLevel is false: an item counts wherever it comes from.
func (merge) ByLevel() bool { return false }

// Inherited is true: lists add up, and arrive at detached places as well.
func (merge) Inherited() bool { return true }

// Combine gives, for each item, the laptops to which some candidate brings it. Equal items have one
// number, so nothing has to be removed twice.
func (merge) Combine(d *Decider, ix *Index, in []Candidate, rows *bitset.Set) {
	have := d.having(in, rows)
	numbers, sets := d.byItem(ix, in, have)
	if ix.Def.Type == setting.TypeTable && len(ix.Def.Key) > 0 {
		d.rowConflicts(ix, in, numbers, sets, have)
	}
	d.together(ix, in, have)
	for i, item := range numbers {
		if !sets[i].Empty() {
			d.Out.AddNew(item, sets[i])
		}
	}
}

// rowConflicts takes the laptops out of have, and out of the items' sets, on which two tables say
// different things under one key: there all candidates are in conflict.
func (d *Decider) rowConflicts(ix *Index, in []Candidate, numbers []int32, sets []*bitset.Set, have *bitset.Set) {
	mark := d.sets.Mark()
	defer d.sets.Release(mark)
	differ, here := d.sets.Temp(), d.sets.Temp()
	differ.Clear()
	// Each pair of rows is compared once, and only if some laptop has both.
	for i := range numbers {
		a := ix.Outcomes.Of(numbers[i]).Value
		// Rows of two tables can only disagree on laptops that have both.
		for j := range i {
			if sets[i].Meets(sets[j]) && ix.Def.Conflicts(a, ix.Outcomes.Of(numbers[j]).Value) {
				here.SetAnd(sets[i], sets[j])
				differ.Or(here)
			}
		}
	}
	if differ.Empty() {
		return
	}
	d.alike(in, differ, func(all []Candidate, rows *bitset.Set) { d.conflict(ix, all, rows) })
	have.AndNot(differ)
	// have is the set of laptops that still get a merged value. Item sets that are have itself
	// follow it; the others are narrowed here.
	for i := range sets {
		if sets[i] != have {
			sets[i].AndNot(differ)
		}
	}
}
