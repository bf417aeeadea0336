// This file has lists that are shared block by block, so that altering a few objects does not copy those of the whole estate.

package intern

import (
	"slices"

	"zenithridge.example/zridge/core/bitset"
)

// blocked is a list in blocks of bitset.Rows. Lists that come of one another share the blocks in which nothing altered.
type CowList[T any] [][]T

func (l CowList[T]) Len() int {
	if len(l) == 0 {
		return 0
	}
	return (len(l)-1)<<bitset.Shift + len(l[len(l)-1])
}

// at gives what is at a place, which must not be altered.
func (l CowList[T]) At(i int) *T { return &l[i>>bitset.Shift][i&(bitset.Rows-1)] }

// blocksOf is how many blocks so many rows fill.
func BlocksOf(rows int) int { return (rows + bitset.Rows - 1) >> bitset.Shift }

// altering is a list that is being made of another.
type cowEdit[T any] struct {
	List CowList[T]
	mine []bool // by block: it is not shared
}

// altered begins a list of n, which is as the other one; what is new is empty.
func EditList[T any](from CowList[T], n int, empty T) *cowEdit[T] {
	a := &cowEdit[T]{make(CowList[T], BlocksOf(n)), make([]bool, BlocksOf(n))}
	copy(a.List, from)
	for b := range a.List {
		if size := min(bitset.Rows, n-b<<bitset.Shift); len(a.List[b]) != size {
			before := a.List[b]
			a.List[b], a.mine[b] = slices.Repeat([]T{empty}, size), true
			copy(a.List[b], before)
		}
	}
	return a
}

func (a *cowEdit[T]) At(i int) *T { return a.List.At(i) }

// put alters what is at a place.
func (a *cowEdit[T]) Put(i int, is T) {
	if b := i >> bitset.Shift; !a.mine[b] {
		a.List[b], a.mine[b] = slices.Clone(a.List[b]), true
	}
	*a.List.At(i) = is
}

// marked is numbers that are marked, by block.
type DeviceSet []bitset.Set

func (m DeviceSet) Add(i int)      { m[i>>bitset.Shift].Add(i & (bitset.Rows - 1)) }
func (m DeviceSet) Has(i int) bool { return m[i>>bitset.Shift].Has(i & (bitset.Rows - 1)) }

func (m DeviceSet) Any() bool {
	return slices.ContainsFunc(m, func(s bitset.Set) bool { return !s.Empty() })
}
