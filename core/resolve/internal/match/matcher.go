// This file answers questions about the rows of one block: which value a fact has on which rows,
// and where a rule holds or fails.
//
// Rules are not evaluated laptop by laptop. A rule is a formula of tests (intern.Formula); a test
// reads one or a few columns, and is evaluated once for each value that occurs in the block. Its
// answer is then the union of the sets of rows that have the values for which it is true. Sets of
// rows come from an arena and are lent: Temp until a mark is released, Keep until the next block.

package match

import (
	"slices"

	"zenithridge.example/zridge/core/bitset"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/rule"
)

// Matcher answers questions about the rows of one block of subjects at a time. Answers are kept as
// long as they are good, so that the same question costs nothing the second time. It is for one
// thread. Sets that it gives must not be altered, and are good until the next block unless
// something else is said.
type Matcher struct {
	bitset.Arena

	Pop      *Population
	Subjects *Subjects
	Block    int
	Dom      bitset.Set // the rows that are looked at
	Few      []int      // the rows of Dom, where there are no more than FewRows

	Stage Stage       // the settings that expressions see; nil: none
	Scope *bitset.Set // the rows on which tests of settings are tried; nil: Dom

	Epoch  int32 // rises with every block: what was found in another is no longer good
	within int32 // rises whenever Dom is another: what was found for other rows is no longer good

	device  []int32 // by row of the block; nil: the row's own number
	person  []int32 // by row of the block; nil: nobody
	indexes []index
	answers []answer
	groups  []bitset.Dated
	units   []bitset.Dated
	unitsAt int32 // within for which units were found
	lacks   []Lacking
	where   []int32
}

// Stage is the settings that were decided, as expressions see them. Settings are named by their
// ids.
type Stage interface {
	// Part gives rows by the code of what they have in a setting; 0 where they have nothing.
	Part(id string, within *bitset.Set, yield func(code uint32, rows *bitset.Set))
	// Settings gives all that each row has.
	Settings(of *bitset.Set, yield func(row int, all map[string]any))
}

// index is the rows of a block by their code in a column.
type index struct {
	within  int32
	codes   []uint32 // by row; of laptops they are the population's own
	scratch []uint32 // for those that are gathered
	values  []uint32 // that occur
	sets    []*bitset.Set
	many    bool // too many values for sets
}

// answer is the rows on which a test is true, and on which it fails.
type answer struct {
	within     int32
	is, failed *bitset.Set
}

// FewRows is how many rows are asked about one by one rather than as sets.
const FewRows = 4

// Begin turns to subjects of a population. Load must follow.
func (m *Matcher) Begin(pop *Population, of *Subjects) {
	// Answers of another population must not be found again, so the epoch moves on.
	m.Pop, m.Subjects, m.Stage, m.Scope = pop, of, nil, nil
	m.Epoch++
}

// End lets go of what Begin was given. Its scratch space is kept.
func (m *Matcher) End() { m.Pop, m.Subjects, m.Stage = nil, nil, nil }

// Load turns to a block and looks at rows of it. All sets that were lent are taken back.
func (m *Matcher) Load(block int, dom *bitset.Set) {
	m.Block = block
	// Reset gives all lent sets back to the arena. Everything that refers to them is dated with an
	// epoch or with within, so that it counts as absent from now on.
	m.Reset()
	m.Epoch++
	m.within++
	m.device, m.person = nil, nil
	// Plain laptops have no list of devices: row i of block b is device b·4096 + i.
	if m.Subjects.Device != nil {
		m.device = m.Subjects.Device[block]
	}
	if m.Subjects.Person != nil {
		m.person = m.Subjects.Person[block]
	}
	m.look(dom)
}

// Widen looks at other rows of the same block. Sets that are kept are good still.
func (m *Matcher) Widen(dom *bitset.Set) {
	m.within++
	m.look(dom)
}

// look sets the rows that are looked at.
func (m *Matcher) look(dom *bitset.Set) {
	// A copy, since the caller may go on to alter its set.
	m.Dom.Copy(dom)
	m.Few = m.Few[:0]
	// Few rows are listed, so that loops over them need not scan a whole set.
	if dom.Len() <= FewRows {
		for row := range dom.All() {
			m.Few = append(m.Few, row)
		}
	}
}

// DeviceAt gives the number of a row's device, None without.
func (m *Matcher) DeviceAt(row int) int {
	if m.device != nil {
		return int(m.device[row])
	}
	if m.Subjects.Laptops {
		return m.Block<<bitset.Shift + row
	}
	return intern.None
}

// PersonAt gives the number of a row's person, None without.
func (m *Matcher) PersonAt(row int) int {
	if m.person == nil {
		return intern.None
	}
	return int(m.person[row])
}

// Variables is all that an expression may see of a row.
func (m *Matcher) Variables(row int, settings map[string]any) map[string]any {
	return map[string]any{
		"device":   m.Pop.DeviceVariables(m.DeviceAt(row)),
		"person":   m.Pop.PersonVariables(m.PersonAt(row)),
		"settings": settings,
	}
}

// coded gives the codes of the rows of Dom in a column, by row. Those of columns that no rule of
// the population looks at, but one that is tried does, are found row by row.
func (m *Matcher) coded(c *intern.Column, scratch *[]uint32) []uint32 {
	// Codes are kept for the columns that rules of the plan read. A rule that is only being tried
	// may read others.
	var by [][]uint32
	if c.Number < len(m.Pop.Codes) {
		by = m.Pop.Codes[c.Number]
	}
	// For laptops the row is the device's own number, so the population's list serves as it is.
	device := c.Look.Variable == "device"
	if device && m.Subjects.Laptops && by != nil {
		return by[m.Block]
	}
	// Otherwise the codes are gathered by row: a row of people, or a pair of a laptop and a person,
	// stands for other numbers.
	*scratch = slices.Grow((*scratch)[:0], bitset.Rows)[:bitset.Rows]
	into := *scratch
	var key []byte
	for row := range m.Dom.All() {
		at := m.PersonAt(row)
		if device {
			at = m.DeviceAt(row)
		}
		switch {
		// Code 0 is "no value": there is nobody to read it from.
		case at == intern.None:
			into[row] = 0
		case by != nil:
			into[row] = by[at>>bitset.Shift][at&(bitset.Rows-1)]
		default:
			into[row], key = c.Code(m.Pop.ValueIn(c, at), key)
		}
	}
	return into
}

// manyValues is the number of values in a block above which rows are looked at one by one.
const manyValues = 600

// index gives the rows by their codes in a column.
func (m *Matcher) index(c *intern.Column) *index {
	for len(m.indexes) <= c.Number {
		m.indexes = append(m.indexes, index{})
	}
	x := &m.indexes[c.Number]
	if x.within == m.within {
		return x
	}
	x.within, x.values, x.sets, x.many = m.within, x.values[:0], x.sets[:0], false
	x.codes = m.coded(c, &x.scratch)
	// One pass over the rows puts each into the set of its code. There are few codes per column
	// (platforms, releases, departments), so a rule then looks at a few sets instead of thousands
	// of rows. Columns with many codes, such as serial numbers, are looked at row by row.
	where := m.scratch(len(c.Known())) // by code: its place in sets, from 1
	for row := range m.Dom.All() {
		code := x.codes[row]
		at := where[code]
		if at == 0 {
			// Too many values: sets cost more than they save. index then has codes alone, and Part
			// and try go row by row.
			if len(x.sets) == manyValues {
				x.many = true
				break
			}
			x.values, x.sets = append(x.values, code), append(x.sets, m.Keep())
			at = int32(len(x.sets))
			where[code] = at
		}
		x.sets[at-1].Add(row)
	}
	// The shared scratch space must be all zero for the next column.
	for _, code := range x.values {
		where[code] = 0
	}
	return x
}

// scratch gives a number for each of n things, all 0, which are to be put back to 0.
func (m *Matcher) scratch(n int) []int32 {
	if len(m.where) < n {
		m.where = append(m.where, make([]int32, n-len(m.where))...)
	}
	return m.where
}

// Part gives the rows of within by their codes in a column.
func (m *Matcher) Part(c *intern.Column, within *bitset.Set, yield func(code uint32, rows *bitset.Set)) {
	// Settings have no column here. They are known to the Stage, which decides them while it goes.
	if c.Look.Variable == "settings" {
		if m.Stage != nil {
			m.Stage.Part(c.Look.Field, within, yield)
		} else {
			yield(0, within)
		}
		return
	}
	mark := m.Mark()
	defer m.Release(mark)
	here := m.Temp()
	x := m.index(c)
	if !x.many {
		for i, code := range x.values {
			if here.SetAnd(x.sets[i], within) {
				yield(code, here)
			}
		}
		return
	}
	// Grouped by code first, so that each code is yielded once with all of its rows.
	by := map[uint32][]int{}
	for row := range within.All() {
		by[x.codes[row]] = append(by[x.codes[row]], row)
	}
	for code, rows := range by {
		here.Clear()
		for _, row := range rows {
			here.Add(row)
		}
		yield(code, here)
	}
}

// Truth gives the rows of Dom on which a formula is true, and on which it fails. The sets are good
// until the mark that was made before is released. Parts are put together by CEL's logic: false &&
// error is false, true || error is true.
func (m *Matcher) Truth(f *intern.Formula) (is, failed *bitset.Set) {
	switch f.Joined {
	case 0:
		return m.test(f.Test)
	// On rows where the part fails, so does its negation: an error stays an error.
	case '!':
		a, e := m.Truth(f.Parts[0])
		is = m.Temp()
		is.SetAndNot(&m.Dom, a)
		is.AndNot(e)
		return is, e
	case '&':
		is, failed = m.Temp(), m.Temp()
		is.Copy(&m.Dom)
		failed.Copy(&m.Dom)
		either := m.Temp()
		for _, part := range f.Parts { // failed holds the rows on which every part so far is true or fails
			a, e := m.Truth(part)
			is.And(a)
			// Invariant: is has the rows on which all parts so far are true, failed those on which
			// none so far is false. Once failed is empty, no later part can alter the answer.
			either.Copy(a)
			either.Or(e)
			if failed.And(either); failed.Empty() {
				break
			}
		}
		failed.AndNot(is)
		return is, failed
	}
	// '|': true where some part is true, whatever fails elsewhere. It fails where no part is true
	// and some part fails.
	is, failed = m.Temp(), m.Temp()
	is.Clear()
	failed.Clear()
	for _, part := range f.Parts {
		// A row on which one part is true leaves failed again at the end.
		a, e := m.Truth(part)
		is.Or(a)
		failed.Or(e)
	}
	failed.AndNot(is)
	return is, failed
}

// test gives the rows of Dom on which a test is true, and on which it fails.
func (m *Matcher) test(t *intern.Test) (is, failed *bitset.Set) {
	// Settings are decided one after the other, so the answer of a test that reads them is not
	// kept. Every other answer is kept until other rows are looked at: many rules share a test.
	passing := t.Whole && m.Stage != nil // what looks at settings is not good for long
	for _, c := range t.Columns {
		passing = passing || c.Look.Variable == "settings"
	}
	if passing {
		is, failed = m.Temp(), m.Temp()
		is.Clear()
		failed.Clear()
		// Scope limits the rows where only some are being decided.
		within := m.Scope
		if within == nil {
			within = &m.Dom
		}
		m.try(t, within, is, failed)
		return is, failed
	}
	for len(m.answers) <= t.Number {
		m.answers = append(m.answers, answer{})
	}
	a := &m.answers[t.Number]
	// try may ask for another test's answer and so grow answers: the place is looked up again
	// afterwards.
	if a.within != m.within {
		is, failed := m.Keep(), m.Keep()
		m.try(t, &m.Dom, is, failed)
		a = &m.answers[t.Number]
		*a = answer{m.within, is, failed}
	}
	return a.is, a.failed
}

// try adds the rows of within on which a test is true to is, and those on which it fails to failed.
func (m *Matcher) try(t *intern.Test, within, is, failed *bitset.Set) {
	add := func(truth rule.Truth, rows *bitset.Set) {
		switch truth {
		case rule.True:
			is.Or(rows)
		case rule.Failed:
			failed.Or(rows)
		}
	}
	switch {
	// The test cannot be split into columns, for example because it calls a function of the whole
	// device. It is evaluated for each row.
	case t.Whole:
		one := func(row int, settings map[string]any) {
			switch t.Evaluate(m.Variables(row, settings)) {
			case rule.True:
				is.Add(row)
			case rule.Failed:
				failed.Add(row)
			}
		}
		if m.Stage != nil {
			m.Stage.Settings(within, one)
			return
		}
		for row := range within.All() {
			one(row, nil)
		}
	// A test of constants has one answer for every row.
	case len(t.Columns) == 0:
		add(t.Answer(nil), within)
	// One column is by far the most frequent case: one answer for each value.
	case len(t.Columns) == 1 && t.Columns[0].Look.Variable == "settings":
		m.Part(t.Columns[0], within, func(code uint32, rows *bitset.Set) { add(t.AnswerOne(code), rows) })
	case len(t.Columns) == 1:
		x := m.index(t.Columns[0])
		if !x.many {
			for i, code := range x.values {
				add(t.AnswerOne(code), x.sets[i])
			}
			return
		}
		for row := range within.All() {
			switch t.AnswerOne(x.codes[row]) {
			case rule.True:
				is.Add(row)
			case rule.Failed:
				failed.Add(row)
			}
		}
	default:
		// A test of several columns is asked once for each combination of codes that occurs: rows
		// are split by the first column, the parts by the second, and so on.
		codes := make([]uint32, len(t.Columns))
		var refine func(i int, rows *bitset.Set)
		refine = func(i int, rows *bitset.Set) {
			if i == len(codes) {
				add(t.Answer(codes), rows)
				return
			}
			mark := m.Mark()
			m.Part(t.Columns[i], rows, func(code uint32, rows *bitset.Set) {
				codes[i] = code
				refine(i+1, rows)
			})
			m.Release(mark)
		}
		refine(0, within)
	}
}

// Errors splits rows on which a rule fails by the text of the error.
func (m *Matcher) Errors(f *intern.Formula, r *rule.Rule, rows *bitset.Set, yield func(text string, rows *bitset.Set)) {
	// The columns that decide the error's text are those that the rule reads. Rows with the same
	// codes have the same error.
	var columns []*intern.Column
	var scope []string
	whole := false
	f.Each(func(t *intern.Test) {
		whole = whole || t.Whole
		scope = t.Scope.Variables()
		for _, c := range t.Columns {
			if !slices.Contains(columns, c) {
				columns = append(columns, c)
			}
		}
	})
	// say evaluates the rule on the first of some rows that are alike, and yields its error for all
	// of them.
	say := func(rows *bitset.Set) {
		// Only the variables that the rule declares are given to it, as when it was evaluated.
		all := m.Variables(rows.First(), nil)
		seen := map[string]any{}
		for _, name := range scope {
			seen[name] = all[name]
		}
		if _, err := r.Holds(seen); err != nil {
			yield(err.Error(), rows)
		}
	}
	// A rule with a test that cannot be split may answer differently on every row.
	if whole {
		one := m.Keep()
		for row := range rows.All() {
			one.Clear()
			one.Add(row)
			say(one)
		}
		return
	}
	// refine splits the rows by one column after the other, as try does.
	var refine func(i int, rows *bitset.Set)
	refine = func(i int, rows *bitset.Set) {
		if i == len(columns) {
			say(rows)
			return
		}
		m.Part(columns[i], rows, func(_ uint32, rows *bitset.Set) { refine(i+1, rows) })
	}
	refine(0, rows)
}
