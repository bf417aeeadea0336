// This file numbers the objects of an estate: a number stays with its id in all plans that are made of one another.

package resolve

import (
	"maps"
	"slices"

	"zenithridge.example/zridge/core/estate"
)

const none = -1

// places gives numbers to ids. It is immutable; with gives another.
type places[K comparable] struct {
	base map[K]int32 // shared
	over map[K]int32 // what came later; none: gone
	free []int32
	n    int32 // numbers that were given, those that are free included
}

// at gives the number of an id.
func (p *places[K]) at(id K) (int, bool) {
	n, known := p.over[id]
	if !known {
		n, known = p.base[id]
	}
	return int(n), known && n != none
}

// place gives the number of an id that is there, none otherwise.
func (p *places[K]) place(id K) int {
	if n, known := p.at(id); known {
		return n
	}
	return none
}

// with takes ids away and gives numbers to fresh ones.
func (p *places[K]) with(gone, fresh []K) *places[K] {
	if len(gone)+len(fresh) == 0 {
		return p
	}
	next := &places[K]{base: p.base, over: maps.Clone(p.over), free: append([]int32(nil), p.free...), n: p.n}
	if len(p.base) == 0 || len(p.over)+len(gone)+len(fresh) > len(p.base)/4 {
		next.base = make(map[K]int32, len(p.base)+len(fresh))
		for id, n := range p.base {
			next.base[id] = n
		}
		for id, n := range p.over {
			next.base[id] = n
			if n == none {
				delete(next.base, id)
			}
		}
		next.over = nil
	}
	if next.over == nil {
		next.over = make(map[K]int32, len(gone)+len(fresh))
	}
	var freed []int32 // not given again at once: a number must not mean two things on the two sides of a comparison
	for _, id := range gone {
		if n, known := next.at(id); known {
			freed = append(freed, int32(n))
			next.over[id] = none
		}
	}
	defer func() { next.free = append(next.free, freed...) }()
	for _, id := range fresh {
		if last := len(next.free) - 1; last >= 0 {
			next.over[id], next.free = next.free[last], next.free[:last]
		} else {
			next.over[id] = next.n
			next.n++
		}
	}
	return next
}

// differences is what differs between two lists of objects.
type differences[K comparable] struct {
	gone           []K
	fresh, altered []int // places in the next list
	same           bool  // it is the very same list
	aligned        bool  // every object stands where it stood
}

// compare finds what differs between a list and the one that comes after it. Lists that stand in one order are gone through side by side.
func compare[T any, K comparable](was, next []T, id func(*T) K, equal func(a, b *T) bool) (d differences[K]) {
	if len(was) == len(next) && (len(was) == 0 || &was[0] == &next[0]) {
		d.same = true
		return d
	}
	side := min(len(was), len(next))
	var apart []int
	for i := range side {
		switch {
		case id(&was[i]) != id(&next[i]):
			apart = append(apart, i)
		case !equal(&was[i], &next[i]):
			d.altered = append(d.altered, i)
		}
	}
	for i := side; i < len(next); i++ {
		apart = append(apart, i)
	}
	if len(apart) == 0 && len(was) == len(next) {
		d.aligned = true
		return d
	}
	before := make(map[K]int, len(apart))
	for _, i := range apart {
		if i < len(was) {
			before[id(&was[i])] = i
		}
	}
	for i := side; i < len(was); i++ {
		before[id(&was[i])] = i
	}
	for _, i := range apart {
		at, known := before[id(&next[i])]
		if !known {
			d.fresh = append(d.fresh, i)
			continue
		}
		delete(before, id(&next[i]))
		if !equal(&was[at], &next[i]) {
			d.altered = append(d.altered, i)
		}
	}
	for id := range before {
		d.gone = append(d.gone, id)
	}
	return d
}

// compareBy is compare where it is not known how the next list came of the other one.
func compareBy[T any, K comparable](given, before *estate.Snapshot, kind estate.Kind, was, next []T, id func(*T) K, equal func(a, b *T) bool) (d differences[K]) {
	places, known := given.AlteredSince(before, kind)
	if !known {
		return compare(was, next, id, equal)
	}
	d.aligned = true
	for _, i := range slices.Compact(slices.Sorted(slices.Values(places))) {
		if id(&was[i]) != id(&next[i]) {
			return compare(was, next, id, equal)
		}
		if !equal(&was[i], &next[i]) {
			d.altered = append(d.altered, i)
		}
	}
	return d
}

// idsAt gives the ids of some objects of a list.
func idsAt[T any, K comparable](list []T, at []int, id func(*T) K) []K {
	out := make([]K, len(at))
	for i, j := range at {
		out[i] = id(&list[j])
	}
	return out
}
