// This file counts which values a field has.
//
// The console offers them where somebody filters a list or writes a condition: the most frequent
// first, with the number of rows. A field such as a serial number has a value for each row; only
// the first 500 are kept of it, and how many there are in all.

package listing

import (
	"cmp"
	"fmt"
	"slices"
	"sync"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// Tally is a value of a field with how many rows have it.
type Tally struct {
	Value setting.Value
	Rows  int
}

// Field says what values a field has. It is what a list of values to choose from is made of.
type Field struct {
	Name     string
	Kind     setting.ValueKind // of most of its values
	Known    int               // rows that have one
	Distinct int
	Most     []Tally // the most frequent ones, items of lists one by one
}

// Values says what values a field has among some rows, nil for all: the most frequent ones first,
// at most as many as asked for and never more than 500. The error says that there is no such field.
func (t *Table) Values(field string, among []int32, most int) (Field, error) {
	of := t.Of(field)
	if of == nil {
		return Field{}, fmt.Errorf("no field %q", field)
	}
	if among == nil {
		// Values of all rows are counted once and kept. Counting happens outside of the lock.
		t.mu.Lock()
		if t.values[field] == nil { // whoever asks meanwhile waits for the same
			t.values[field] = sync.OnceValue(func() Field { return t.tally(field, of, nil) })
		}
		count := t.values[field]
		t.mu.Unlock()
		known := count()
		known.Most = known.Most[:min(len(known.Most), most)]
		return known, nil
	}
	out := t.tally(field, of, among)
	out.Most = out.Most[:min(len(out.Most), most)]
	return out, nil
}

// tally counts the values of a column among some rows, nil for all.
func (t *Table) tally(field string, of Column, among []int32) Field {
	out := Field{Name: field}
	counts := map[string]*Tally{}
	kinds := map[setting.ValueKind]int{}
	// Values are told apart by how they are typed: 4 and "4" are one value in a list to choose
	// from.
	one := func(v setting.Value) {
		key := plain(v)
		if counts[key] == nil {
			counts[key] = &Tally{Value: v}
		}
		counts[key].Rows++
	}
	look := func(row int) {
		v := of(row)
		if v.IsNothing() {
			return
		}
		out.Known++
		kinds[v.Kind()]++
		if v.Kind() != setting.List {
			one(v)
			return
		}
		// The items of a list are counted one by one, so that a tag is found whatever tags are
		// beside it.
		for _, item := range v.Items() {
			one(setting.TextValue(item))
		}
	}
	if among == nil {
		for row := range t.Rows {
			look(row)
		}
	}
	// Some rows are counted anew each time: there are as many questions as filters.
	for _, row := range among {
		look(int(row))
	}
	// Facts are typed by whoever reports them. The field has the kind of most of its values.
	for kind, n := range kinds {
		if n > kinds[out.Kind] || n == kinds[out.Kind] && kind < out.Kind {
			out.Kind = kind
		}
	}
	most := make([]Tally, 0, len(counts))
	for _, c := range counts {
		most = append(most, *c)
	}
	out.keep(most)
	return out
}

// keep keeps the most frequent ones of all values; of equally frequent ones, the first in order.
func (f *Field) keep(all []Tally) {
	f.Distinct = len(all)
	slices.SortFunc(all, func(a, b Tally) int { return cmp.Or(cmp.Compare(b.Rows, a.Rows), Compare(a.Value, b.Value)) })
	f.Most = all[:min(len(all), mostKept)]
}

// groupSizes is what the field of groups has. The sizes of groups are known, so that no row is
// looked at. some is how many rows are in at least one group.
func groupSizes(sizes map[estate.GroupID]int, some int) Field {
	out := Field{Name: "groups", Known: some}
	if some > 0 {
		out.Kind = setting.List
	}
	all := make([]Tally, 0, len(sizes))
	for id, n := range sizes {
		all = append(all, Tally{setting.TextValue(string(id)), n})
	}
	out.keep(all)
	return out
}
