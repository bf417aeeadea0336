// This file goes through subjects block by block, on one thread or on all, and has the table of all
// people with the groups that they are in.
//
// Laptops with their owners are the usual subjects. People by themselves are asked about where
// somebody else than the owner signs in, and where a group of people is counted.

package resolve

import (
	"iter"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/threads"
)

// gatherPeople makes the table of all people with their groups.
func (p *Plan) gatherPeople() *match.Subjects {
	r := p.Everybody()
	r.Groups = make([][]bitset.Packed, len(p.Groups))
	for at := range p.Groups {
		if p.Groups[at].Group != nil && p.Groups[at].Of == estate.OfPeople {
			r.Groups[at] = make([]bitset.Packed, len(r.Alive))
		}
	}
	p.eachBlock(r, func(w *worker) {
		// Groups come after their member groups, so the members of a nested group are complete when
		// they are added.
		for _, at := range p.GroupOrder {
			g := &p.Groups[at]
			if g.Of != estate.OfPeople {
				continue
			}
			mark := w.Mark()
			// In the group are: those that are listed, those for whom the rule holds, and those in
			// member groups.
			rows := w.Temp()
			rows.Clear()
			if w.Block < len(g.People) {
				g.People[w.Block].OrInto(rows)
			}
			if g.Formula != nil {
				is, _ := w.Truth(g.Formula)
				rows.Or(is)
			}
			for _, member := range g.Nested {
				r.Groups[member][w.Block].OrInto(rows)
			}
			rows.And(&w.Dom)
			r.Groups[at][w.Block] = rows.Pack()
			w.Release(mark)
		}
	})
	return r
}

// eachBlock goes through the blocks of a table of subjects. One worker serves all blocks, so the
// callback may keep what it counts without a lock.
func (p *Plan) eachBlock(r *match.Subjects, do func(w *worker)) {
	w := p.worker(r)
	defer w.done()
	for b := range r.Alive {
		w.loadAlive(b)
		do(w)
	}
}

// eachBlockParallel goes through the blocks of a table of subjects on all threads. begin is called
// once on each, and gives what is done there with each block.
func (p *Plan) eachBlockParallel(r *match.Subjects, begin func() func(w *worker)) {
	threads.Share(len(r.Alive), func(mine iter.Seq[int]) {
		w := p.worker(r)
		defer w.done()
		do := begin()
		for b := range mine {
			w.loadAlive(b)
			do(w)
		}
	})
}

// loadAlive turns to all rows of a block that stand for somebody.
func (w *worker) loadAlive(block int) {
	var alive bitset.Set
	w.Subjects.Alive[block].Into(&alive)
	w.load(block, &alive)
}
