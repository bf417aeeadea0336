// This file has the rule common: of lists from several policies, the items that all of them have.
// It is meant for lists of what is allowed, where every policy narrows what the others leave.

package decide

import (
	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
)

// common keeps the items that every list has. Nothing in common although no list is empty is a
// conflict, which no ruling settles: an empty list of what is allowed would lock everybody out.
type common struct{}

// Weight is the same for all: every entry takes part.
func (common) Weight(*setting.Definition, int64, setting.Value) int64 { return 0 }

// ByLevel is false: an item counts wherever it comes from.
func (common) ByLevel() bool { return false }

// Inherited is false: a detached place does not get the entry, which could only take items away.
func (common) Inherited() bool { return false }

// Combine starts from every item that some list has, on all laptops that have a list. Then each
// candidate removes the items that it does not have from the laptops on which it takes part. What
// is left on a laptop is what all of its lists have.
func (common) Combine(d *Decider, ix *Index, in []Candidate, rows *bitset.Set) {
	have := d.having(in, rows)
	numbers, sets := d.byItem(ix, in, have)
	some, lacking, empty := d.sets.Temp(), d.sets.Temp(), d.sets.Temp()
	some.Clear()
	empty.Clear()
	brings := d.zeros(len(ix.Outcomes.All())) // by item: the last candidate that brings it, from 1
	for k := range in {
		items, live := ix.Items(in[k].Rank), in[k].Live
		if len(items) == 0 {
			empty.Or(live)
		}
		for _, item := range items {
			brings[intern.ItemAt(item)] = int32(k) + 1
		}
		// Whoever has this candidate loses the items that it does not bring.
		for i, item := range numbers {
			if brings[intern.ItemAt(item)] == int32(k)+1 {
				continue
			}
			if sets[i] != have {
				sets[i].AndNot(live)
			} else if sets[i] = d.sets.Temp(); !sets[i].SetAndNot(have, live) {
				sets[i] = Nobody
			}
		}
		for _, item := range items {
			brings[intern.ItemAt(item)] = 0
		}
	}
	for i := range sets {
		some.Or(sets[i])
	}
	// lacking: the laptops without a common item. If one of their lists is empty, the empty list is
	// the result; otherwise they are in conflict.
	if lacking.SetAndNot(have, some); !lacking.Empty() {
		lacking.AndNot(empty)
	}
	if !lacking.Empty() {
		d.alike(in, lacking, func(all []Candidate, rows *bitset.Set) { d.conflict(ix, all, rows) })
		have.AndNot(lacking)
	}
	d.together(ix, in, have)
	for i, item := range numbers {
		if !sets[i].Empty() {
			d.Out.AddNew(item, sets[i])
		}
	}
}
