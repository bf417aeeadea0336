// This file splits the rows of a block by the value of a setting.
//
// An outcome that is one value has one number, and its rows are a part of the block (bitset.Parts).
// A list that is put together has a number for each of its items instead: a row has the value that
// its items merge to. Splitting such rows means to find those that have the same items.

package resolve

import (
	"cmp"
	"encoding/binary"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/setting"
)

// splitByOutcome splits rows by the outcome of a setting in a block: the outcome (nil if the
// setting does not appear), the value if it is set, and the value's code (0 if it is not).
func (w *worker) splitByOutcome(
	c *settingIndex,
	cell bitset.Parts,
	within *bitset.Set,
	yield func(o *intern.Outcome, v setting.Value, code uint32, rows *bitset.Set),
) {
	mark := w.Mark()
	defer w.Release(mark)
	var of partition
	of.load(w, c, cell, within)
	of.split(within, &unionValues{}, yield)
}

// partition is the rows of a set, split by the outcome of one setting, so that subsets can be split
// quickly.
type partition struct {
	w           *worker
	index       *settingIndex
	whole       []outcomeRows // what rows came out as, one by one
	items       []outcomeRows // of what is put together
	sorted      bool          // items are in the order of values
	putTogether *bitset.Set   // the rows with what is put together; nil: none
}

// outcomeRows is an outcome, or an item, with the rows that have it.
type outcomeRows struct {
	*intern.Outcome
	rows *bitset.Set
}

// unionValue is a merged value with its code.
type unionValue struct {
	value setting.Value
	code  uint32
}

// unionValues caches the merged values of one setting, by the numbers of their items.
type unionValues struct {
	private bool // codes are theirs alone: the column is spared what may never stand. Equal values can have two codes then
	known   map[string]unionValue

	of         []*setting.Value // scratch space
	key, value []byte
}

// load splits some rows by their outcome. The result is valid until the mark that was made before
// is released.
//
// Parts come by number. Numbers of items are greater than all others, so when every row has an
// outcome and none of them is merged, the rest need not be read.
func (c *partition) load(w *worker, of *settingIndex, cell bitset.Parts, within *bitset.Set) {
	// The lists are used again from block to block.
	*c = partition{w: w, index: of, whole: c.whole[:0], items: c.items[:0]}
	rest := w.Temp()
	rest.Copy(within)
	cell.Within(within, w.Temp(), func(number int32, rows *bitset.Set) *bitset.Set {
		o := of.Outcomes.Of(number)
		if intern.IsItem(number) {
			c.items = append(c.items, outcomeRows{o, rows})
			return w.Temp()
		}
		if number == intern.FromItems {
			c.putTogether = rows
		} else {
			c.whole = append(c.whole, outcomeRows{o, rows})
		}
		if rest.AndNot(rows); rest.Empty() && c.putTogether == nil { // items come last
			return nil
		}
		return w.Temp()
	})
}

// split splits rows by outcome, as splitByOutcome does. The rows must be among those that were
// loaded.
func (c *partition) split(
	within *bitset.Set,
	unions *unionValues,
	yield func(o *intern.Outcome, v setting.Value, code uint32, rows *bitset.Set),
) {
	w := c.w
	mark := w.Mark()
	defer w.Release(mark)
	rest, here := w.Temp(), w.Temp()
	// rest: the rows that no outcome was yielded for.
	rest.Copy(within)
	for _, is := range c.whole {
		if !here.SetAnd(is.rows, rest) {
			continue
		}
		rest.AndNot(here)
		yield(is.Outcome, is.Value, c.index.Outcomes.CodeOf(is.Outcome), here)
	}
	if c.putTogether != nil && here.SetAnd(c.putTogether, rest) {
		rest.AndNot(here)
		c.partItems(here, unions, yield)
	}
	// The setting does not appear on what is left.
	if !rest.Empty() {
		yield(nil, setting.Value{}, 0, rest)
	}
}

// partItems splits rows with merged values by the items that they have. The set of rows is empty at
// the end.
func (c *partition) partItems(
	rows *bitset.Set,
	unions *unionValues,
	yield func(o *intern.Outcome, v setting.Value, code uint32, rows *bitset.Set),
) {
	if !c.sorted { // so that what is put together is in order
		slices.SortFunc(c.items, func(a, b outcomeRows) int {
			if order := cmp.Compare(a.Prefix, b.Prefix); order != 0 {
				return order
			}
			return a.Value.Compare(b.Value)
		})
		c.sorted = true
	}
	together, same := c.index.Outcomes.Of(intern.FromItems), c.w.Temp()
	// Each round takes the first row that is left and all rows with the same items, so there are as
	// many rounds as merged values.
	for !rows.Empty() {
		first := rows.First()
		// Intersected with the rows of each item that the first row has, and without those of each
		// item that it lacks: what is left has the same items.
		same.Copy(rows)
		unions.key, unions.of = unions.key[:0], unions.of[:0]
		for i := range c.items {
			if s := c.items[i].rows; s.Has(first) {
				same.And(s)
				unions.key = binary.LittleEndian.AppendUint32(unions.key, uint32(c.items[i].Number))
				unions.of = append(unions.of, &c.items[i].Value)
			} else {
				same.AndNot(s)
			}
		}
		is := unions.union(c.index)
		rows.AndNot(same)
		yield(together, is.value, is.code, same)
	}
}

// union gives the value that the items of key merge to. The same items give the same value, so it
// is merged once.
func (u *unionValues) union(c *settingIndex) unionValue {
	if is, known := u.known[string(u.key)]; known {
		return is
	}
	is := unionValue{value: setting.Union(u.of)}
	// A private code is only good for comparing within one run.
	if u.private {
		is.code = 1<<31 | uint32(len(u.known))
	} else {
		is.code, u.value = c.Outcomes.Column.Code(is.value, u.value)
	}
	if u.known == nil {
		u.known = map[string]unionValue{}
	}
	u.known[string(u.key)] = is
	return is
}
