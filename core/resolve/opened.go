// This file takes what settings came out as in a block apart, by value.

package resolve

import (
	"encoding/binary"
	"slices"

	"zenithridge.example/zridge/core/rowset"
	"zenithridge.example/zridge/core/setting"
)

// partCell gives rows by what they come out as in a cell: the outcome, nil where the setting does not appear, the value where it is set,
// and the value's code, 0 where it is not.
func (w *worker) partCell(c *contest, cell rowset.Parts, within *rowset.Set, yield func(o *outcome, v setting.Value, code uint32, rows *rowset.Set)) {
	mark := w.mark()
	defer w.release(mark)
	w.open(c, cell, within).part(within, yield)
}

// opened is a cell of which the rows of some set were taken apart, so that it can be asked again and again.
type opened struct {
	w        *worker
	contest  *contest
	whole    []*outcome // what rows came out as, one by one
	have     []*rowset.Set
	bring    []carried   // of what is put together
	sorted   bool        // bring is in the order of values
	together *rowset.Set // the rows with what is put together; nil: none
	unions   *unions     // nil: made when they are needed

	of         []int // room for part, and for union
	values     []*setting.Value
	key, value []byte
}

// carried is an item with the rows that have it.
type carried struct {
	item *outcome
	rows *rowset.Set
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
}

// open takes a cell apart for some rows. It is good until the mark that was made before is released.
func (w *worker) open(c *contest, cell rowset.Parts, within *rowset.Set) *opened {
	out := &opened{w: w, contest: c}
	here := w.temp()
	cell.Within(within, here, func(number int32) {
		rows := w.temp()
		rows.Copy(here)
		switch o := c.outcomes.get(number); {
		case isItem(number):
			out.bring = append(out.bring, carried{o, rows})
		case number == madeOfItems:
			out.together = rows
		default:
			out.whole, out.have = append(out.whole, o), append(out.have, rows)
		}
	})
	return out
}

// part gives rows by what they come out as, as partCell does. The rows must be among those for which the cell was opened.
func (c *opened) part(within *rowset.Set, yield func(o *outcome, v setting.Value, code uint32, rows *rowset.Set)) {
	w := c.w
	mark := w.mark()
	defer w.release(mark)
	rest, here := w.temp(), w.temp()
	rest.Copy(within)
	for i, o := range c.whole {
		if !here.SetAnd(c.have[i], rest) {
			continue
		}
		rest.AndNot(here)
		yield(o, o.value, c.contest.outcomes.codeOf(o), here)
	}
	if c.together != nil {
		made, same := w.temp(), w.temp()
		if made.SetAnd(c.together, rest); !made.Empty() && !c.sorted { // so that unions are sorted as they are put together
			slices.SortFunc(c.bring, func(a, b carried) int { return a.item.value.Compare(b.item.value) })
			c.sorted = true
		}
		rest.AndNot(made)
		for !made.Empty() {
			first := made.First()
			same.Copy(made)
			c.of = c.of[:0]
			for i := range c.bring {
				if s := c.bring[i].rows; s.Has(first) {
					same.And(s)
					c.of = append(c.of, i)
				} else {
					same.AndNot(s)
				}
			}
			is := c.union(c.of)
			made.AndNot(same)
			yield(c.contest.outcomes.get(madeOfItems), is.value, is.code, same)
		}
	}
	if !rest.Empty() {
		yield(nil, setting.Value{}, 0, rest)
	}
}

// union gives what some of the items come to.
func (c *opened) union(items []int) union {
	c.key = c.key[:0]
	for _, i := range items {
		c.key = binary.LittleEndian.AppendUint32(c.key, uint32(c.bring[i].item.number))
	}
	if c.unions == nil {
		c.unions = &unions{}
	}
	if is, known := c.unions.known[string(c.key)]; known {
		return is
	}
	c.values = c.values[:0]
	for _, i := range items {
		c.values = append(c.values, &c.bring[i].item.value)
	}
	is := union{value: setting.Union(c.values)}
	if c.unions.apart {
		is.code = 1<<31 | uint32(len(c.unions.known))
	} else {
		is.code, c.value = c.contest.outcomes.column.code(is.value, c.value)
	}
	if c.unions.known == nil {
		c.unions.known = map[string]union{}
	}
	c.unions.known[string(c.key)] = is
	return is
}
