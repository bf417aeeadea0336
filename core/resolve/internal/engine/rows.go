// This file keeps sets of rows by object while one block is worked on, and brings results up to
// date on some of the rows.

package engine

import "zenithridge.example/zridge/core/bitset"

// RowSets keeps one set of rows for each object, for the block that is worked on. Sets of an
// earlier block count as absent: nothing has to be cleared between blocks. The zero RowSets is
// empty. It is for one thread.
type RowSets struct{ sets []bitset.Dated }

// Of gives the set of an object. It is empty if it was not used in this epoch. The caller may add
// to it. epoch names the block that is worked on, and sets lends the set.
func (r *RowSets) Of(at int, epoch int32, sets *bitset.Arena) *bitset.Set {
	for len(r.sets) <= at {
		r.sets = append(r.sets, bitset.Dated{})
	}
	s := &r.sets[at]
	if s.Epoch != epoch {
		*s = bitset.Dated{Epoch: epoch, Set: sets.Keep()}
	}
	return s.Set
}

// Known gives the set of an object, nil if it was not used in this epoch.
func (r *RowSets) Known(at int, epoch int32) *bitset.Set {
	if at < len(r.sets) && r.sets[at].Epoch == epoch {
		return r.sets[at].Set
	}
	return nil
}

// fewRows is the number of rows up to which Merge compares them one by one, before it unpacks whole
// sets.
const fewRows = 4

// Merge combines a result from before with a new one. In the set that it gives, the rows of mask
// are as in is, and all other rows are as in was. ok is false if no row of mask differs; out is nil
// then. Rows that differ are added to differs, unless it is nil. The set is lent by sets until its
// next Reset.
func Merge(sets *bitset.Arena, was bitset.Packed, mask, is, differs *bitset.Set) (out *bitset.Set, ok bool) {
	if mask.Len() <= fewRows {
		same := true
		for row := range mask.All() {
			same = same && was.Has(row) == is.Has(row)
		}
		if same {
			return nil, false
		}
	}
	mark := sets.Mark()
	defer sets.Release(mark)
	old, before, now := sets.Temp(), sets.Temp(), sets.Temp()
	was.Into(old)
	before.SetAnd(old, mask)
	now.SetAnd(is, mask)
	if before.Equal(now) {
		return nil, false
	}
	out = sets.Keep()
	out.SetAndNot(old, mask)
	out.Or(now)
	if differs != nil {
		old.SetAndNot(now, before)
		differs.Or(old)
		old.SetAndNot(before, now)
		differs.Or(old)
	}
	return out, true
}
