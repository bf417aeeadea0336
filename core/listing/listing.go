// Package listing answers which of many devices or people pass some conditions, in which order, and
// what values they have. A Table is made once of a resolution's plan; columns and orders are worked
// out when they are first asked for and kept, so that a page of 100,000 rows costs one look through
// memory.
package listing

import (
	"slices"
	"strings"
	"sync"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/search"
	"zenithridge.example/zridge/core/setting"
)

// Column gives the value of a row in one field; nothing where it has none.
type Column func(row int) setting.Value

// Table is every device or person of a plan, a row each, in the order of ids. It is safe for
// concurrent use. Columns, orders and counts of values are worked out when they are first asked
// for, and kept as long as the table is; the service keeps one table for each resolution that it
// shows.
type Table struct {
	Rows int
	ids  []string
	// make gives a column of any field that is in fields. It is called once for each field, except
	// for groups.
	make   func(field string) Column
	fields []string // in the order in which they are offered; facts and attributes after the fixed ones
	words  func(row int) []string
	paths  map[estate.UnitID][]string // by unit, from the root down

	// mu guards what follows: all of it is filled as questions come.
	mu      sync.Mutex
	columns map[string]Column
	orders  map[string][]int32
	values  map[string]func() Field // of all rows, by field
	grouped map[string][]bool       // by condition: whether each row is in one of its groups
	text    []string                // by row: all words in lower case
}

// ID gives the id of a row.
func (t *Table) ID(row int) string { return t.ids[row] }

// Row gives the row of an id, by binary search; false where there is no such id. The row is then
// where the id would be.
func (t *Table) Row(id string) (int, bool) { return slices.BinarySearch(t.ids, id) }

// Fields lists the fields that rows can be filtered and sorted by, in the order in which they are
// offered. The list must not be altered.
func (t *Table) Fields() []string { return t.fields }

// Of gives the column of a field; nil where there is no such field. The first call works out the
// values of all rows, while others who ask for a column wait.
func (t *Table) Of(field string) Column {
	if !slices.Contains(t.fields, field) {
		return nil
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.columns[field] == nil {
		t.columns[field] = t.dense(field)
	}
	return t.columns[field]
}

// dense gives a column whose values lie side by side: sorted lists ask for rows in any order.
func (t *Table) dense(field string) Column {
	of := t.make(field)
	if field == "groups" { // long lists, which are put together as they are asked for
		return of
	}
	// Worked out once for all rows, and read from then on.
	values := make([]setting.Value, t.Rows)
	for row := range values {
		values[row] = of(row)
	}
	return func(row int) setting.Value { return values[row] }
}

// Query says which rows are wanted, in which order. The zero Query is for all rows, by id.
type Query struct {
	Words      string // all of them are somewhere in the row
	Conditions []Condition
	Sort       string            // a field; with '-' in front the other way round; by id where it is empty
	Besides    map[string]Column // fields that are not of the table, such as what laptops reported
}

// Find gives the rows that pass all conditions and have all words, in order. The error is a
// problem.Faults, with paths below /query: a field that is not there, or a value that no row has.
// Every fault is reported, and nothing is searched when there is one.
func (t *Table) Find(q Query) ([]int32, error) {
	var faults problem.Faults
	// column finds a field, and notes a fault where there is none.
	column := func(path, field string) Column {
		if c := q.Besides[field]; c != nil {
			return c
		}
		if c := t.Of(field); c != nil {
			return c
		}
		faults = append(
			faults,
			problem.Fault{
				Code:     problem.NotOneOf,
				Path:     path,
				Found:    problem.Quote(field),
				Expected: "a field: " + strings.Join(t.offered(q.Besides), ", "),
			},
		)
		return nil
	}
	// Every condition becomes a test of a row. A row passes if all tests do.
	tests := make([]func(row int) bool, 0, len(q.Conditions)+1)
	for i, c := range q.Conditions {
		of := column(problem.Join("/query/where", i), c.Field)
		if of != nil && q.Besides[c.Field] == nil {
			faults = append(faults, t.unknownValues(problem.Join("/query/where", i), c)...)
		}
		passes := c.remembered()
		if c.Field == "unit" && (c.Op == Is || c.Op == IsNot) { // a unit means all below it
			below := t.below(c.Words)
			is := c.Op == Is
			passes = func(v setting.Value) bool { return below[v.Text()] == is }
		}
		if c.Field == "groups" && c.Op == Is && of != nil { // asked again and again, and dear to work out
			tests = append(tests, func(rows []bool) func(int) bool { return func(row int) bool { return rows[row] } }(t.inGroups(c, of)))
			continue
		}
		tests = append(tests, func(row int) bool { return passes(of(row)) })
	}
	// An unknown field to sort by is a fault as well.
	field, down := strings.CutPrefix(q.Sort, "-")
	if field != "" {
		column("/query/sort", field)
	}
	if len(faults) > 0 {
		return nil, faults
	}
	// Words come last: looking through texts takes longer than looking at values.
	if words := strings.Fields(strings.ToLower(q.Words)); len(words) > 0 {
		haystack := t.haystack()
		tests = append(tests, func(row int) bool {
			for _, w := range words {
				if !strings.Contains(haystack[row], w) {
					return false
				}
			}
			return true
		})
	}
	passes := func(row int) bool {
		for _, test := range tests {
			if !test(row) {
				return false
			}
		}
		return true
	}
	// A field that is not of the table may differ from one question to the next, so its order is
	// not kept.
	if of := q.Besides[field]; of != nil {
		return t.sortedBy(of, passes, down), nil
	}
	// The order of all rows is kept by field. Rows that pass are taken from it, forwards or
	// backwards.
	order := t.order(field)
	out := make([]int32, 0, 256)
	for i := range order {
		row := order[i]
		if down {
			row = order[len(order)-1-i]
		}
		if passes(int(row)) {
			out = append(out, row)
		}
	}
	return out, nil
}

// named are the fields by which one row is named: that nobody has a value is an answer there.
var named = []string{"id", "serial", "owner", "owner_name", "users", "name", "mail"}

// expectedShown is how many values a fault names as expected.
const expectedShown = 8

// unknownValues gives a fault for each word of a condition that no row has as its value: most often
// it is misspelt, and an empty list would hide that. Fields of nearly as many values as rows are
// left out.
func (t *Table) unknownValues(path string, c Condition) (faults problem.Faults) {
	if c.Op != Is && c.Op != IsNot || slices.Contains(named, c.Field) || t.Rows == 0 {
		return nil
	}
	var known []string
	if c.Field == "unit" {
		for unit := range t.paths {
			known = append(known, string(unit))
		}
		slices.Sort(known)
	} else {
		field, err := t.Values(c.Field, nil, mostKept)
		if err != nil || field.Known == 0 || field.Distinct > len(field.Most) {
			return nil
		}
		for _, v := range field.Most {
			known = append(known, plain(v.Value))
		}
		if c.Field == "os" { // laptops of the others may come
			for _, platform := range setting.Platforms {
				known = append(known, string(platform))
			}
		}
	}
	for _, word := range c.Words {
		if slices.ContainsFunc(known, func(k string) bool { return strings.EqualFold(k, word) }) {
			continue
		}
		expected := "a value that some row has, such as " + strings.Join(known[:min(len(known), expectedShown)], ", ")
		if at := slices.IndexFunc(known, func(k string) bool { return search.Near(k, word) }); at >= 0 {
			expected = problem.Quote(known[at]) + ", or another value that some row has"
		}
		faults = append(faults, problem.Fault{Code: problem.NotOneOf, Path: path, Found: problem.Quote(c.Field + "=" + word), Expected: expected})
	}
	return faults
}

// inGroups tells of every row whether it is in one of the groups of a condition. The groups of a
// row are put together each time they are read, so the answer of a condition is kept.
func (t *Table) inGroups(c Condition, of Column) []bool {
	key := c.String()
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.grouped[key] == nil {
		rows := make([]bool, t.Rows)
		for row := range rows {
			rows[row] = c.passes(of(row))
		}
		if len(t.grouped) >= 200 { // conditions can be made up without end
			clear(t.grouped)
		}
		t.grouped[key] = rows
	}
	return t.grouped[key]
}

// below gives the units that are one of these, or below one. Words are compared without regard to
// case, as those of other conditions are.
func (t *Table) below(words []string) map[string]bool {
	out := map[string]bool{}
	for unit, path := range t.paths {
		out[string(unit)] = slices.ContainsFunc(path, func(above string) bool {
			return slices.ContainsFunc(words, func(word string) bool { return strings.EqualFold(above, word) })
		})
	}
	return out
}

// offered lists, for a fault, all fields that a query can name, sorted.
func (t *Table) offered(besides map[string]Column) []string {
	out := slices.Clone(t.fields)
	for name := range besides {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

// haystack gives by row all its words in lower case, each apart from the next. They are separated
// by a zero byte, so that no word that is searched for matches across two of them.
func (t *Table) haystack() []string {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.text == nil {
		t.text = make([]string, t.Rows)
		for row := range t.text {
			t.text[row] = strings.ToLower(strings.Join(t.words(row), "\x00"))
		}
	}
	return t.text
}

// mostKept is how many values of a field are kept when they were counted. It bounds what a field
// with a value of its own for each row, such as a serial number, takes in memory.
const mostKept = 500
