package engine

import "slices"

// SetBlock gives a list of blocks in which one block is replaced. If list is shared, that is the
// same memory as the list of the table before, a copy is altered and given instead.
func SetBlock[T any](list, shared []T, block int, is T) []T {
	if len(list) > 0 && len(shared) > 0 && &list[0] == &shared[0] {
		list = slices.Clone(list)
	}
	list[block] = is
	return list
}

// PadBlocks gives a list of at least n blocks. The blocks that are added have the zero value. A
// list that is too short is copied, since its spare capacity may belong to another table.
func PadBlocks[T any](list []T, n int) []T {
	if len(list) >= n {
		return list
	}
	return append(slices.Clip(list), make([]T, n-len(list))...)
}

// ListAt gives the list of an object, nil if the table does not have the object.
func ListAt[T any](table [][]T, at int) []T {
	if at < len(table) {
		return table[at]
	}
	return nil
}
