// This file has everybody with the groups of people that they are in.

package resolve

import (
	"iter"

	"zenithridge.example/zridge/core/resolve/internal/intern"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/threads"
)

// gatherPeople makes the roll of all people with their groups.
func (p *Plan) gatherPeople() *roll {
	r := p.everybody()
	r.groups = make([][]bitset.Packed, len(p.groups))
	for at := range p.groups {
		if p.groups[at].Group != nil && p.groups[at].Of == estate.OfPeople {
			r.groups[at] = make([]bitset.Packed, len(r.alive))
		}
	}
	p.over(r, func(w *worker) {
		for _, at := range p.groupOrder {
			g := &p.groups[at]
			if g.Of != estate.OfPeople {
				continue
			}
			mark := w.Mark()
			rows := w.Temp()
			rows.Clear()
			if w.block < len(g.people) {
				g.people[w.block].OrInto(rows)
			}
			if g.formula != nil {
				is, _ := w.truth(g.formula)
				rows.Or(is)
			}
			for _, member := range g.nested {
				r.groups[member][w.block].OrInto(rows)
			}
			rows.And(&w.dom)
			r.groups[at][w.block] = rows.Pack()
			w.Release(mark)
		}
	})
	return r
}

// everybody is the roll of all people, without their groups.
func (p *Plan) everybody() *roll {
	r := &roll{person: make(intern.CowList[int32], len(p.people)), alive: make([]bitset.Packed, len(p.people))}
	var rows bitset.Set
	for b, block := range p.people {
		rows.Clear()
		r.person[b] = make([]int32, len(block))
		for row := range block {
			r.person[b][row] = int32(b<<bitset.Shift + row)
			if block[row].Person != nil {
				rows.Add(row)
			}
		}
		r.alive[b] = rows.Pack()
	}
	return r
}

// over goes through the blocks of a roll.
func (p *Plan) over(r *roll, do func(w *worker)) {
	w := p.worker(r)
	defer w.done()
	for b := range r.alive {
		w.turnTo(b)
		do(w)
	}
}

// abreast goes through the blocks of a roll on all threads. begin is called once on each, and gives what is done there with each block.
func (p *Plan) abreast(r *roll, begin func() func(w *worker)) {
	threads.Share(len(r.alive), func(mine iter.Seq[int]) {
		w := p.worker(r)
		defer w.done()
		do := begin()
		for b := range mine {
			w.turnTo(b)
			do(w)
		}
	})
}

// turnTo turns to all rows of a block that stand for somebody.
func (w *worker) turnTo(block int) {
	var alive bitset.Set
	w.roll.alive[block].Into(&alive)
	w.load(block, &alive)
}
