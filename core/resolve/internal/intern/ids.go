// This file numbers the objects of an estate: a number stays with its id in all plans that are made of one another.

package intern

import (
	"maps"
	"slices"
	"sync/atomic"

	"zenithridge.example/zridge/core/ids"
)

const None = -1

// places gives numbers to ids. It is immutable; with gives another.
type IdTable[K ~string] struct {
	base  *baseTable[K] // shared
	later map[K]int32   // what came later; none: gone
	free  []int32
	N     int32 // numbers that were given, those that are free included

	serial, of uint64 // of this, and of the one that it was made of
}

var serials atomic.Uint64

// near tells whether one of the two was made of the other: then no number means two things.
func (p *IdTable[K]) Adjacent(q *IdTable[K]) bool {
	return p == q || p.serial == q.of || q.serial == p.of
}

// at gives the number of an id.
func (p *IdTable[K]) Number(id K) (int, bool) {
	n, known := p.later[id]
	if !known {
		n, known = p.base.At(id)
	}
	return int(n), known && n != None
}

// place gives the number of an id that is there, none otherwise.
func (p *IdTable[K]) NumberOf(id K) int {
	if n, known := p.Number(id); known {
		return n
	}
	return None
}

// with takes ids away and gives numbers to fresh ones.
func (p *IdTable[K]) With(gone, fresh []K) *IdTable[K] {
	if len(gone)+len(fresh) == 0 {
		return p
	}
	if p.N == 0 { // the first that there are
		next := &IdTable[K]{N: int32(len(fresh)), serial: serials.Add(1), of: p.serial}
		numbers := make([]int32, len(fresh))
		for i := range numbers {
			numbers[i] = int32(i)
		}
		next.base = NewBaseTable(slices.Clone(fresh), numbers)
		return next
	}
	next := &IdTable[K]{base: p.base, later: maps.Clone(p.later), free: append([]int32(nil), p.free...), N: p.N, serial: serials.Add(1), of: p.serial}
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
		if last := len(next.free) - 1; last >= 0 {
			next.later[id], next.free = next.free[last], next.free[:last]
		} else {
			next.later[id] = next.N
			next.N++
		}
	}
	return next
}

// gathered makes one table of all.
func (p *IdTable[K]) flattened() *baseTable[K] {
	var list []K
	var numbers []int32
	add := func(id K, n int32) {
		if n != None {
			list, numbers = append(list, id), append(numbers, n)
		}
	}
	for at, id := range p.base.ids {
		if _, later := p.later[id]; !later {
			add(id, p.base.numbers[at])
		}
	}
	for id, n := range p.later {
		add(id, n)
	}
	return NewBaseTable(slices.Clip(list), slices.Clip(numbers))
}

// table gives numbers to ids as a map does, in less room: a million laptops are looked up in one.
type baseTable[K ~string] struct {
	ids     []K
	numbers []int32
	index   *ids.Index
}

// tableOf makes a table of ids that are all different.
func NewBaseTable[K ~string](list []K, numbers []int32) *baseTable[K] {
	return &baseTable[K]{list, numbers, ids.Of(len(list), func(place int) K { return list[place] })}
}

func (t *baseTable[K]) len() int {
	if t == nil {
		return 0
	}
	return len(t.ids)
}

func (t *baseTable[K]) At(id K) (int32, bool) {
	if t == nil {
		return None, false
	}
	if at, known := ids.Find(t.index, id, func(place int) K { return t.ids[place] }); known {
		return t.numbers[at], true
	}
	return None, false
}

// differences is what differs between two lists of objects.
type Differences[K comparable] struct {
	Gone           []K
	Fresh, Altered []int // places in the next list
	Same           bool  // it is the very same list
	Aligned        bool  // every object stands where it stood
}

// compare finds what differs between a list and the one that comes after it. Lists that stand in one order are gone through side by side.
func Compare[T any, K comparable](was, next []T, id func(*T) K, equal func(a, b *T) bool) Differences[K] {
	if SameList(was, next) {
		return Differences[K]{Same: true}
	}
	return compareAt(len(was), len(next), func(i int) *T { return &was[i] }, func(i int) *T { return &next[i] }, id, equal)
}

// sameList tells whether two lists are the very same.
func SameList[T any](a, b []T) bool { return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0]) }

// compareKept is compare for lists of what is kept elsewhere: what is the very same object is passed over.
func CompareKept[T any, K comparable](was, next []*T, id func(*T) K, equal func(a, b *T) bool) Differences[K] {
	if SameList(was, next) {
		return Differences[K]{Same: true}
	}
	return compareAt(len(was), len(next), func(i int) *T { return was[i] }, func(i int) *T { return next[i] }, id, equal)
}

func compareAt[T any, K comparable](before, after int, was, next func(int) *T, id func(*T) K, equal func(a, b *T) bool) (d Differences[K]) {
	side := min(before, after)
	var apart []int
	for i := range side {
		x, y := was(i), next(i)
		switch {
		case x == y:
		case id(x) != id(y):
			apart = append(apart, i)
		case !equal(x, y):
			d.Altered = append(d.Altered, i)
		}
	}
	if len(apart) == 0 && before == after {
		d.Aligned = true
		return d
	}
	places := make(map[K]int, len(apart))
	for _, i := range apart {
		places[id(was(i))] = i
	}
	for i := side; i < before; i++ {
		places[id(was(i))] = i
	}
	for i := side; i < after; i++ {
		apart = append(apart, i)
	}
	for _, i := range apart {
		at, known := places[id(next(i))]
		if !known {
			d.Fresh = append(d.Fresh, i)
			continue
		}
		delete(places, id(next(i)))
		if !equal(was(at), next(i)) {
			d.Altered = append(d.Altered, i)
		}
	}
	for id := range places {
		d.Gone = append(d.Gone, id)
	}
	return d
}

// keptAt is idsAt for a list of what is kept elsewhere.
func KeptAt[T any, K comparable](list []*T, at []int, id func(*T) K) []K {
	return IdsAt(list, at, func(one **T) K { return id(*one) })
}

// idsAt gives the ids of some objects of a list.
func IdsAt[T any, K comparable](list []T, at []int, id func(*T) K) []K {
	out := make([]K, len(at))
	for i, j := range at {
		out[i] = id(&list[j])
	}
	return out
}
