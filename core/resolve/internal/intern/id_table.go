// This file gives numbers to ids. Everything in the core is by number: sets of rows, tables by
// policy or setting, keys of maps. A plan that is made of another keeps the numbers of all ids that
// both have, so that results can be compared and shared.
//
// A table is a base, shared by many plans, and a small map of what came and went since.

package intern

import (
	"maps"
	"slices"
	"sync/atomic"

	"zenithridge.example/zridge/core/ids"
)

// None is the number of nothing.
const None = -1

// IDTable gives numbers to ids. A number stays with its id from one table to the next. The zero
// IDTable is empty. It is immutable; With gives another, which shares the ids that both have.
type IDTable[K ~string] struct {
	base  *baseTable[K] // shared
	later map[K]int32   // what came later; None: gone
	free  []int32       // numbers that may be given again
	N     int32         // how many numbers were given, those that are free included

	serial, of uint64 // of this, and of the one that it was made of
}

// serials counts the tables that were made, so that Adjacent can tell which table was made of
// which.
var serials atomic.Uint64

// Adjacent tells whether one of the two was made of the other: then no number means two things.
func (p *IDTable[K]) Adjacent(q *IDTable[K]) bool {
	return p == q || p.serial == q.of || q.serial == p.of
}

// Number gives the number of an id; ok is false where it has none.
func (p *IDTable[K]) Number(id K) (n int, ok bool) {
	// later comes before base: it has what came, and what went, since base was made.
	number, known := p.later[id]
	if !known {
		number, known = p.base.at(id)
	}
	return int(number), known && number != None
}

// NumberOf gives the number of an id, None where it has none.
func (p *IDTable[K]) NumberOf(id K) int {
	if n, known := p.Number(id); known {
		return n
	}
	return None
}

// With gives a table without the ids that are gone, and with numbers for fresh ones. Without either
// it is the same table.
func (p *IDTable[K]) With(gone, fresh []K) *IDTable[K] {
	if len(gone)+len(fresh) == 0 {
		return p
	}
	// The first table has all ids in base, numbered in the order given.
	if p.N == 0 { // the first that there are
		next := &IDTable[K]{N: int32(len(fresh)), serial: serials.Add(1), of: p.serial}
		numbers := make([]int32, len(fresh))
		for i := range numbers {
			numbers[i] = int32(i)
		}
		next.base = newBaseTable(slices.Clone(fresh), numbers)
		return next
	}
	next := &IDTable[K]{
		base:   p.base,
		later:  maps.Clone(p.later),
		free:   append([]int32(nil), p.free...),
		N:      p.N,
		serial: serials.Add(1),
		of:     p.serial,
	}
	// When too much came later, one base is made of all: looking up in two places would then cost
	// more than making it.
	if len(p.later)+len(gone)+len(fresh) > p.base.len()/4 {
		next.base, next.later = p.flattened(), nil
	}
	if next.later == nil {
		next.later = make(map[K]int32, len(gone)+len(fresh))
	}
	var freed []int32 // not given again at once: a number must not mean two things on the two sides of a comparison
	for _, id := range gone {
		if n, known := next.Number(id); known {
			freed = append(freed, int32(n))
			next.later[id] = None
		}
	}
	defer func() { next.free = append(next.free, freed...) }()
	for _, id := range fresh {
		// A free number is used again before a new one is given, so that tables by number do not
		// grow with each edit.
		if last := len(next.free) - 1; last >= 0 {
			next.later[id], next.free = next.free[last], next.free[:last]
		} else {
			next.later[id] = next.N
			next.N++
		}
	}
	return next
}

// flattened makes one base table of all ids.
func (p *IDTable[K]) flattened() *baseTable[K] {
	var list []K
	var numbers []int32
	add := func(id K, n int32) {
		if n != None {
			list, numbers = append(list, id), append(numbers, n)
		}
	}
	// What came later counts, also where it is None.
	for at, id := range p.base.ids {
		if _, later := p.later[id]; !later {
			add(id, p.base.numbers[at])
		}
	}
	for id, n := range p.later {
		add(id, n)
	}
	return newBaseTable(slices.Clip(list), slices.Clip(numbers))
}

// baseTable gives numbers to ids as a map does, in less memory: a million laptops are looked up in
// one.
type baseTable[K ~string] struct {
	ids     []K
	numbers []int32
	index   *ids.Index
}

// newBaseTable makes a table of ids that are all different.
func newBaseTable[K ~string](list []K, numbers []int32) *baseTable[K] {
	return &baseTable[K]{list, numbers, ids.Of(len(list), func(place int) K { return list[place] })}
}

// len counts the ids; nil has none.
func (t *baseTable[K]) len() int {
	if t == nil {
		return 0
	}
	return len(t.ids)
}

// at gives the number of an id; nil has none.
func (t *baseTable[K]) at(id K) (int32, bool) {
	if t == nil {
		return None, false
	}
	if at, known := ids.Find(t.index, id, func(place int) K { return t.ids[place] }); known {
		return t.numbers[at], true
	}
	return None, false
}
