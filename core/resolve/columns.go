// This file codes the facts and attributes that rules read, by row.
//
// A column is a field of devices or of people, such as device.os or person.title. Each value that
// occurs has a small number, its code, which stays the same as long as the generation lives; 0 is
// "no value". Codes lie in blocks of rows, like sets. A rule is then evaluated once for each code
// of a block, and its rows are found without looking at any laptop.
//
// Only columns that some rule reads are kept.

package resolve

import (
	"iter"
	"maps"
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/resolve/internal/match"
	"zenithridge.example/zridge/core/threads"
)

// columns codes the facts and attributes that tests of rules read.
func (b *builder) columns() {
	was, p := b.was, b.next
	// Rules are altered together with what they belong to, so columns are looked for again only
	// then.
	if p.needed = was.needed; len(b.changes.groups)+len(b.changes.policies)+len(b.checks) > 0 || b.dictionaryAltered || was == nothing {
		p.needed = b.neededColumns()
	}
	// Codes is by number of the column, which all plans of a generation share.
	for _, c := range p.needed {
		for len(p.Codes) <= c.Number {
			p.Codes = append(p.Codes, nil)
		}
	}
	// Most columns stand as they are and are shared.
	before := make([][][]uint32, len(p.needed))
	var anew []int // of p.needed
	for i, c := range p.needed {
		if c.Number < len(was.Codes) {
			before[i] = was.Codes[c.Number]
		}
		if before[i] != nil && b.columnStands(c) {
			p.Codes[c.Number] = before[i]
		} else {
			anew = append(anew, i)
		}
	}
	// The others are coded beside each other: each writes to its own place.
	threads.Share(len(anew), func(mine iter.Seq[int]) {
		for i := range mine {
			c := p.needed[anew[i]]
			p.Codes[c.Number] = b.coded(c, before[anew[i]])
		}
	})
}

// neededColumns gives the columns that rules read.
func (b *builder) neededColumns() []*intern.Column {
	// Rules of groups, policies, forced values, checks and definitions are all that can read a
	// fact.
	p := b.next
	needed := map[*intern.Column]bool{}
	for _, field := range []string{"os", "os_version", "edition", "unit"} { // needed for platforms, support and units in any case
		needed[p.Gen.Column(match.DeviceLook(field))] = true
	}
	// take notes the columns of every test of a formula; nil: no formula.
	take := func(f *intern.Formula) {
		f.Each(func(t *intern.Test) {
			for _, c := range t.Columns {
				if c.Look.Variable != "settings" {
					needed[c] = true
				}
			}
		})
	}
	for i := range p.Groups {
		take(p.Groups[i].Formula)
	}
	for i := range p.policies {
		take(p.policies[i].audience.When)
	}
	for _, at := range p.forced {
		for _, f := range p.settings[at].forced {
			take(f.formula)
		}
	}
	for i := range p.checks {
		take(p.checks[i].formula)
	}
	for _, at := range p.bySetting {
		for _, needs := range p.settings[at].support.Needs {
			take(needs.Formula)
		}
	}
	return slices.Collect(maps.Keys(needed))
}

// columnStands tells whether no code of a column can differ from before.
func (b *builder) columnStands(c *intern.Column) bool {
	// With more blocks or more people, lists by block or by person are longer than before.
	if b.next.Blocks() != b.was.Blocks() || b.next.People.Len() != b.was.People.Len() {
		return false
	}
	touched := b.rows
	if c.Look.Variable == "person" {
		touched = b.peopleRows
	}
	// If only units moved, no other column than the one with paths can differ.
	return b.moved && c.Look.Field != "units" || !slices.ContainsFunc(touched, func(rows bitset.Packed) bool { return rows != nil })
}

// coded gives the codes of a column, by block. Blocks without touched rows are shared with the plan
// before.
func (b *builder) coded(c *intern.Column, before [][]uint32) [][]uint32 {
	p := b.next
	var key []byte
	// key is a buffer in which the value is looked up; Code gives it back for the next value.
	code := func(at int) (code uint32) {
		code, key = c.Code(p.ValueIn(c, at), key)
		return code
	}
	if c.Look.Variable == "person" {
		return blocksCoded(p.People.Len(), before, b.peopleRows, code)
	}
	if c.Look.Field != "unit" && c.Look.Field != "units" {
		return blocksCoded(p.Devices.Len(), before, b.rows, code)
	}
	byUnit := map[int]uint32{} // all laptops of a unit have the same code
	// The path of a unit is a list, and costly to number: it is numbered once for each unit.
	return blocksCoded(p.Devices.Len(), before, b.rows, func(at int) uint32 {
		d := p.Devices.At(at)
		if d.Device == nil {
			return 0
		}
		if _, known := byUnit[d.HomeAt]; !known {
			byUnit[d.HomeAt] = code(at)
		}
		return byUnit[d.HomeAt]
	})
}

// blocksCoded gives codes by block. In blocks that were coded before, only touched rows are coded
// again.
func blocksCoded(n int, before [][]uint32, touched []bitset.Packed, code func(int) uint32) [][]uint32 {
	out := make([][]uint32, intern.BlocksOf(n))
	var rows bitset.Set
	for block := range out {
		from := block << bitset.Shift
		size := min(bitset.Rows, n-from)
		var codes []uint32
		// A block of the same size is corrected row by row. The list is copied when the first code
		// differs.
		if block < len(before) && len(before[block]) == size {
			codes = before[block]
			shared := true
			rows.Clear()
			// Rows that were not touched have the values that they had.
			if block < len(touched) {
				touched[block].Into(&rows)
			}
			for i := range rows.All() {
				if is := code(from + i); is != codes[i] {
					if shared {
						codes, shared = slices.Clone(codes), false
					}
					codes[i] = is
				}
			}
		} else {
			codes = make([]uint32, size)
			for i := range size {
				codes[i] = code(from + i)
			}
		}
		out[block] = codes
	}
	return out
}
