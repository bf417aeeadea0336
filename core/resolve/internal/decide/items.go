// This file has what the rules share that put lists together: by item instead of by entry. Each
// item of a list has a number of its own among the outcomes of the setting, and a laptop's value is
// the set of items that it has. Lists are thus never built while deciding.

package decide

import (
	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/outcome"
	"zenithridge.example/zridge/core/resolve/internal/intern"
)

// having gives the laptops among rows that have some candidate.
func (d *Decider) having(in []Candidate, rows *bitset.Set) *bitset.Set {
	have := d.sets.Temp()
	have.Clear()
	for i := range in {
		// When every row has a candidate already, the other candidates cannot add any.
		if have.Or(in[i].Live); rows.In(have) {
			break
		}
	}
	have.And(rows)
	return have
}

// byItem gives for every item the laptops of have to which some candidate brings it. Of an item
// that comes to all of them the set is have itself. The lists are good until the next call.
func (d *Decider) byItem(ix *Index, in []Candidate, have *bitset.Set) (numbers []int32, sets []*bitset.Set) {
	some := d.sets.Temp()
	numbers, sets = d.itemNumbers[:0], d.itemSets[:0]
	where := d.zeros(len(ix.Outcomes.All())) // by item: its place in numbers, from 1
	for i := range in {
		items, here := ix.Items(in[i].Rank), have
		if len(items) == 0 {
			// The common case is a policy for everybody: have is shared as the set of all its
			// items, without a copy.
			continue
		}
		if !have.In(in[i].Live) {
			if here = some; !here.SetAnd(in[i].Live, have) {
				continue
			}
		}
		for _, item := range items {
			at := where[intern.ItemAt(item)]
			if at == 0 {
				// The first candidate that brings the item gives it a place.
				numbers, sets = append(numbers, item), append(sets, nil)
				at = int32(len(numbers))
				where[intern.ItemAt(item)] = at
			}
			switch set := &sets[at-1]; {
			// All of have get it: nothing can be added later, and the set stays shared.
			case here == have:
				*set = have
			case *set == nil:
				*set = d.sets.Temp()
				(*set).Copy(here)
			// A set of its own: the laptops of this candidate are added. A shared have is complete
			// already.
			case *set != have:
				(*set).Or(here)
			}
		}
	}
	// The scratch space must be all zero for the next call.
	for _, item := range numbers {
		where[intern.ItemAt(item)] = 0
	}
	d.itemNumbers, d.itemSets = numbers, sets
	return numbers, sets
}

// together tells that laptops have a value that is put together of items, and what became of the
// candidates: all of them won.
func (d *Decider) together(ix *Index, in []Candidate, rows *bitset.Set) {
	if rows.Empty() {
		return
	}
	d.Out.Add(intern.FromItems, rows)
	if d.Observer != nil {
		d.Observer.By(ix.how(), nil, rows)
		d.Observer.Fates(in, outcome.Won, rows)
	}
}

// zeros gives a number for each of n things, all 0, which are to be put back to 0.
func (d *Decider) zeros(n int) []int32 {
	if len(d.where) < n {
		d.where = append(d.where, make([]int32, n-len(d.where))...)
	}
	return d.where
}
