// This file takes what settings came out as in a block apart, by value.

package resolve

import (
	"cmp"
	"encoding/binary"
	"slices"

	"zenithridge.example/zridge/core/resolve/internal/intern"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/setting"
)

// partCell gives rows by what they come out as in a cell: the outcome, nil where the setting does not appear, the value where it is set,
// and the value's code, 0 where it is not.
func (w *worker) partCell(c *settingIndex, cell bitset.Parts, within *bitset.Set, yield func(o *intern.Outcome, v setting.Value, code uint32, rows *bitset.Set)) {
	mark := w.Mark()
	defer w.Release(mark)
	var of opened
	of.open(w, c, cell, within)
	of.part(within, &unions{}, yield)
}

// opened is a cell of which the rows of some set were taken apart, so that it can be asked again and again.
type opened struct {
	w        *worker
	contest  *settingIndex
	whole    []carried   // what rows came out as, one by one
	items    []carried   // of what is put together
	sorted   bool        // items are in the order of values
	together *bitset.Set // the rows with what is put together; nil: none
}

// carried is an outcome, or an item, with the rows that have it.
type carried struct {
	*intern.Outcome
	rows *bitset.Set
}

// union is a value that is put together, with its code.
type union struct {
	value setting.Value
	code  uint32
}

// unions is what was put together in cells of one setting, by the numbers of the items.
type unions struct {
	apart bool // codes are theirs alone: the column is spared what may never stand. Equal values can have two codes then
	known map[string]union

	of         []*setting.Value // room
	key, value []byte
}

// open takes a cell apart for some rows. It is good until the mark that was made before is released.
func (c *opened) open(w *worker, of *settingIndex, cell bitset.Parts, within *bitset.Set) {
	*c = opened{w: w, contest: of, whole: c.whole[:0], items: c.items[:0]}
	rest := w.Temp()
	rest.Copy(within)
	cell.Within(within, w.Temp(), func(number int32, rows *bitset.Set) *bitset.Set {
		o := of.Outcomes.Of(number)
		if intern.IsItem(number) {
			c.items = append(c.items, carried{o, rows})
			return w.Temp()
		}
		if number == intern.FromItems {
			c.together = rows
		} else {
			c.whole = append(c.whole, carried{o, rows})
		}
		if rest.AndNot(rows); rest.Empty() && c.together == nil { // items come last
			return nil
		}
		return w.Temp()
	})
}

// part gives rows by what they come out as, as partCell does. The rows must be among those for which the cell was opened.
func (c *opened) part(within *bitset.Set, unions *unions, yield func(o *intern.Outcome, v setting.Value, code uint32, rows *bitset.Set)) {
	w := c.w
	mark := w.Mark()
	defer w.Release(mark)
	rest, here := w.Temp(), w.Temp()
	rest.Copy(within)
	for _, is := range c.whole {
		if !here.SetAnd(is.rows, rest) {
			continue
		}
		rest.AndNot(here)
		yield(is.Outcome, is.Value, c.contest.Outcomes.CodeOf(is.Outcome), here)
	}
	if c.together != nil && here.SetAnd(c.together, rest) {
		rest.AndNot(here)
		c.partItems(here, unions, yield)
	}
	if !rest.Empty() {
		yield(nil, setting.Value{}, 0, rest)
	}
}

// partItems gives rows with what is put together by the items that they have. None are left in the end.
func (c *opened) partItems(rows *bitset.Set, unions *unions, yield func(o *intern.Outcome, v setting.Value, code uint32, rows *bitset.Set)) {
	if !c.sorted { // so that what is put together is in order
		slices.SortFunc(c.items, func(a, b carried) int {
			if order := cmp.Compare(a.Prefix, b.Prefix); order != 0 {
				return order
			}
			return a.Value.Compare(b.Value)
		})
		c.sorted = true
	}
	together, same := c.contest.Outcomes.Of(intern.FromItems), c.w.Temp()
	for !rows.Empty() {
		first := rows.First()
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
		is := unions.union(c.contest)
		rows.AndNot(same)
		yield(together, is.value, is.code, same)
	}
}

// union gives what the items of key come to.
func (u *unions) union(c *settingIndex) union {
	if is, known := u.known[string(u.key)]; known {
		return is
	}
	is := union{value: setting.Union(u.of)}
	if u.apart {
		is.code = 1<<31 | uint32(len(u.known))
	} else {
		is.code, u.value = c.Outcomes.Column.Code(is.value, u.value)
	}
	if u.known == nil {
		u.known = map[string]union{}
	}
	u.known[string(u.key)] = is
	return is
}
