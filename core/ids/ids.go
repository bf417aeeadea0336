// Package ids finds the places of objects in a list by their ids, in a third of a map's memory: the
// list itself is kept elsewhere, and what is here are numbers alone.
package ids

import (
	"hash/maphash"
	"math/bits"
)

// Index finds places by ids. The nil Index is that of an empty list. It is immutable; With gives
// one of a longer list.
type Index struct {
	slots []int32 // open addressing: a place and one; 0: empty
	n     int
}

// seed makes the places of ids unpredictable, so that nobody can choose ids that fall on one
// another.
var seed = maphash.MakeSeed()

// Of makes the index of a list of n ids that are all different.
func Of[K ~string](n int, id func(place int) K) *Index {
	// The table is at most two thirds full.
	x := &Index{slots: make([]int32, 1<<bits.Len(uint(n+n/2)))}
	extend(x, n, id)
	return x
}

// With gives the index of a list that begins with the one that x is of, and has n ids.
func With[K ~string](x *Index, n int, id func(place int) K) *Index {
	if x == nil || n+n/8+1 > len(x.slots) { // fuller, one would look for long, and for what is not there without an end
		return Of(n, id)
	}
	next := &Index{slots: append([]int32(nil), x.slots...), n: x.n}
	extend(next, n, id)
	return next
}

// extend adds the ids at places from the length of the index up to n.
func extend[K ~string](x *Index, n int, id func(place int) K) {
	for ; x.n < n; x.n++ {
		// Linear probing: the next slot is tried until one is free.
		i := x.slot(string(id(x.n)))
		for x.slots[i] != 0 {
			i = (i + 1) & (len(x.slots) - 1)
		}
		x.slots[i] = int32(x.n) + 1
	}
}

// slot gives where the search for an id begins. The number of slots is a power of two.
func (x *Index) slot(id string) int { return int(maphash.String(seed, id) & uint64(len(x.slots)-1)) }

// Len is how many ids the list has.
func (x *Index) Len() int {
	if x == nil {
		return 0
	}
	return x.n
}

// Find gives the place of an id; at gives the id at a place of the list. known is false where the
// list does not have it. The ids are compared in the list: the table itself has no texts.
func Find[K ~string](x *Index, id K, at func(place int) K) (place int, known bool) {
	if x.Len() == 0 {
		return 0, false
	}
	for i := x.slot(string(id)); x.slots[i] != 0; i = (i + 1) & (len(x.slots) - 1) {
		if place := int(x.slots[i]) - 1; at(place) == id {
			return place, true
		}
	}
	return 0, false
}
