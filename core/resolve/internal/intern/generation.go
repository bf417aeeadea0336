// This file has what plans of one lineage share: columns, tests, and the outcomes of settings, all
// by number. Somebody who types a condition makes tests and values that nobody needs a second
// later. They stay in the generation; when it has grown too much, the service compiles the estate
// anew, with a new generation, and lets the old one go.

package intern

import (
	"slices"
	"sync"
	"sync/atomic"

	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// Generation holds the values of each column, the tests of rules, and what settings come out as,
// for all plans that come of one compilation. It only grows. It is safe for concurrent use.
type Generation struct {
	Workers sync.Pool // scratch space that threads use again, of whatever type the engine likes

	count atomic.Int64 // values, tests and outcomes
	began atomic.Int64 // what count was once the first plan was made

	mu       sync.Mutex
	columns  map[rule.Look]*Column
	tests    map[testKey]*Test
	outcomes map[setting.ID]*Outcomes
	supports map[string]*Support
}

// testKey tells tests apart: equal texts of one scope are one test.
type testKey struct {
	scope  rule.Scope
	source string
}

// NewGeneration gives an empty generation.
func NewGeneration() *Generation {
	return &Generation{
		columns:  map[rule.Look]*Column{},
		tests:    map[testKey]*Test{},
		outcomes: map[setting.ID]*Outcomes{},
		supports: map[string]*Support{},
	}
}

// spare is how many values, tests and outcomes a generation may gather over twice what it began
// with. A condition that was tried takes about 6 KB, so that they come to 12 MB.
const spare = 2000

// Began notes that the first plan is made: what is held now is needed.
func (g *Generation) Began() { g.began.Store(g.count.Load()) }

// Spent tells whether the generation holds so much more than it began with that another should take
// its place. Twice what it began with, so that a large estate is not compiled again for a small
// share of what it needs anyway.
func (g *Generation) Spent() bool { return g.count.Load() > 2*g.began.Load()+spare }

// Column gives the column of what a test looks at.
func (g *Generation) Column(look rule.Look) *Column {
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.column(look)
}

// column is Column with mu held.
func (g *Generation) column(look rule.Look) *Column {
	c := g.columns[look]
	if c == nil {
		// Code 0 stands for absence, so the list of values begins with nil.
		c = &Column{Number: len(g.columns), Look: look, count: &g.count, codes: map[string]uint32{}, values: []any{nil}}
		g.columns[look] = c
	}
	return c
}

// Formula gives a rule with its tests; nil for nil.
func (g *Generation) Formula(r *rule.Rule) *Formula {
	if r == nil {
		return nil
	}
	g.mu.Lock()
	defer g.mu.Unlock()
	return g.formula(r.Formula())
}

// formula numbers the tests of a formula, part by part.
func (g *Generation) formula(f *rule.Formula) *Formula {
	out := &Formula{}
	// A formula without a test joins parts by an operator.
	if f.Test == nil {
		out.Joined = f.Joined[0]
		for _, p := range f.Parts {
			out.Parts = append(out.Parts, g.formula(p))
		}
		return out
	}
	// Equal tests of different rules are one test: its answers are found once for all of them.
	key := testKey{f.Test.Scope, f.Test.Source}
	t := g.tests[key]
	if t == nil {
		t = &Test{Number: len(g.tests), Test: f.Test}
		for _, l := range f.Test.Looks {
			t.Columns = append(t.Columns, g.column(l))
		}
		for _, c := range t.Columns {
			// A column knows the tests that look at it, so that a value that alters finds the tests
			// to ask again.
			c.tests = append(c.tests, t)
		}
		g.tests[key] = t
		g.count.Add(1)
	}
	out.Test = t
	return out
}

// TestsOf gives the tests that look at one of some columns, and how many tests there are.
func (g *Generation) TestsOf(columns ...*Column) (tests []*Test, of int) {
	g.mu.Lock()
	defer g.mu.Unlock()
	for i, c := range columns {
		for _, t := range c.tests {
			// A test that looks at several of the columns is given with the first of them alone.
			if !slices.ContainsFunc(columns[:i], func(before *Column) bool { return slices.Contains(t.Columns, before) }) {
				tests = append(tests, t)
			}
		}
	}
	return tests, len(g.tests)
}
