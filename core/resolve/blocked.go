// This file has lists that are shared block by block, so that altering a few objects does not copy those of the whole estate.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/rowset"
)

// blocked is a list in blocks of rowset.Rows. Lists that come of one another share the blocks in which nothing altered.
type blocked[T any] [][]T

func (l blocked[T]) len() int {
	if len(l) == 0 {
		return 0
	}
	return (len(l)-1)<<rowset.Shift + len(l[len(l)-1])
}

// at gives what is at a place, which must not be altered.
func (l blocked[T]) at(i int) *T { return &l[i>>rowset.Shift][i&(rowset.Rows-1)] }

// altering is a list that is being made of another.
type altering[T any] struct {
	list blocked[T]
	mine []bool // by block: it is not shared
}

// altered begins a list of n, which is as the other one; what is new is empty.
func altered[T any](from blocked[T], n int, empty T) *altering[T] {
	a := &altering[T]{make(blocked[T], blocksOf(n)), make([]bool, blocksOf(n))}
	copy(a.list, from)
	for b := range a.list {
		if size := min(rowset.Rows, n-b<<rowset.Shift); len(a.list[b]) != size {
			before := a.list[b]
			a.list[b], a.mine[b] = slices.Repeat([]T{empty}, size), true
			copy(a.list[b], before)
		}
	}
	return a
}

func (a *altering[T]) at(i int) *T { return a.list.at(i) }

// put alters what is at a place.
func (a *altering[T]) put(i int, is T) {
	if b := i >> rowset.Shift; !a.mine[b] {
		a.list[b], a.mine[b] = slices.Clone(a.list[b]), true
	}
	*a.list.at(i) = is
}

// marked is numbers that are marked, by block.
type marked []rowset.Set

func (m marked) add(i int)      { m[i>>rowset.Shift].Add(i & (rowset.Rows - 1)) }
func (m marked) has(i int) bool { return m[i>>rowset.Shift].Has(i & (rowset.Rows - 1)) }

func (m marked) any() bool {
	return slices.ContainsFunc(m, func(s rowset.Set) bool { return !s.Empty() })
}
