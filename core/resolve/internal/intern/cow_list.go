// This file has lists in blocks that are copied on write. The list of 100,000 laptops of a new plan
// shares all blocks with the list before, but those in which a laptop differs.

package intern

import (
	"slices"

	"zenithridge.example/zridge/core/bitset"
)

// CowList is a list in blocks of bitset.Rows. Lists that come of one another share the blocks in
// which nothing altered.
type CowList[T any] [][]T

// Len counts the places.
func (l CowList[T]) Len() int {
	if len(l) == 0 {
		return 0
	}
	return (len(l)-1)<<bitset.Shift + len(l[len(l)-1])
}

// At gives what is at a place, which must not be altered.
func (l CowList[T]) At(i int) *T { return &l[i>>bitset.Shift][i&(bitset.Rows-1)] }

// BlocksOf is how many blocks so many rows fill.
func BlocksOf(rows int) int { return (rows + bitset.Rows - 1) >> bitset.Shift }

// CowEdit is a list that is being made of another: blocks are copied when they are altered for the
// first time.
type CowEdit[T any] struct {
	List CowList[T]
	mine []bool // by block: it is not shared
}

// EditList begins a list of n places, which is as the other one; what is new is empty.
func EditList[T any](from CowList[T], n int, empty T) *CowEdit[T] {
	a := &CowEdit[T]{make(CowList[T], BlocksOf(n)), make([]bool, BlocksOf(n))}
	// The list of blocks is copied. The blocks themselves are shared.
	copy(a.List, from)
	for b := range a.List {
		// The last block may have another size than before. Blocks that are new or that grow are
		// made here, and need no copy later.
		if size := min(bitset.Rows, n-b<<bitset.Shift); len(a.List[b]) != size {
			before := a.List[b]
			a.List[b], a.mine[b] = slices.Repeat([]T{empty}, size), true
			copy(a.List[b], before)
		}
	}
	return a
}

// At gives what is at a place.
func (a *CowEdit[T]) At(i int) *T { return a.List.At(i) }

// Put alters what is at a place.
func (a *CowEdit[T]) Put(i int, is T) {
	// The first change in a block copies it, since other lists may share it.
	if b := i >> bitset.Shift; !a.mine[b] {
		a.List[b], a.mine[b] = slices.Clone(a.List[b]), true
	}
	*a.List.At(i) = is
}

// DeviceSet is a set of numbers of devices or people, by block.
type DeviceSet []bitset.Set

// Add adds a number.
func (m DeviceSet) Add(i int) { m[i>>bitset.Shift].Add(i & (bitset.Rows - 1)) }

// Has tells whether a number is in it.
func (m DeviceSet) Has(i int) bool { return m[i>>bitset.Shift].Has(i & (bitset.Rows - 1)) }

// Any tells whether it has some number.
func (m DeviceSet) Any() bool {
	return slices.ContainsFunc(m, func(s bitset.Set) bool { return !s.Empty() })
}
