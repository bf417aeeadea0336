// This file numbers what plans that are made of one another speak of, so that they can be compared number by number.

package resolve

import (
	"encoding/binary"
	"slices"
	"sync"
	"sync/atomic"

	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// vocabulary holds the values of each column, the tests of rules, and what settings come out as. It only grows, and is shared by
// all plans that were made of one another. It is safe for concurrent use.
type vocabulary struct {
	mu       sync.Mutex
	columns  map[rule.Look]*column
	tests    map[testKey]*test
	outcomes map[setting.ID]*outcomes
	supports map[string]*supportMemo
	workers  sync.Pool
}

type testKey struct {
	scope  rule.Scope
	source string
}

func newVocabulary() *vocabulary {
	return &vocabulary{columns: map[rule.Look]*column{}, tests: map[testKey]*test{}, outcomes: map[setting.ID]*outcomes{}, supports: map[string]*supportMemo{}}
}

// column numbers the values that something has: a fact of devices, an attribute of people, or a setting. Code 0 is absent.
type column struct {
	number int
	look   rule.Look
	tests  []*test // that look at it

	mu     sync.RWMutex
	codes  map[string]uint32
	values []any // by code, as expressions see them
}

func (v *vocabulary) column(look rule.Look) *column {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.columnLocked(look)
}

func (v *vocabulary) columnLocked(look rule.Look) *column {
	c := v.columns[look]
	if c == nil {
		c = &column{number: len(v.columns), look: look, codes: map[string]uint32{}, values: []any{nil}}
		v.columns[look] = c
	}
	return c
}

// code numbers a value; what differs for an expression differs in its code. key is room to work in.
func (c *column) code(value setting.Value, key []byte) (uint32, []byte) {
	if value.IsNothing() {
		return 0, key
	}
	key = value.AppendIdentity(key[:0])
	if kind := value.Kind(); kind == setting.Table || kind == setting.FileKind { // equal ones may be called otherwise
		text, _ := value.MarshalJSON() // values always have a JSON form
		key = append(append(key, 0), text...)
	}
	c.mu.RLock()
	code, known := c.codes[string(key)]
	c.mu.RUnlock()
	if known {
		return code, key
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if code, known = c.codes[string(key)]; !known {
		code = uint32(len(c.values))
		c.codes[string(key)] = code
		c.values = append(c.values, value.Any())
	}
	return code, key
}

func (c *column) known() []any {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.values
}

// test is a test of rules with its answers by what it looks at.
type test struct {
	number  int
	columns []*column
	*rule.Test

	mu   sync.RWMutex
	one  atomic.Pointer[[]rule.Truth] // by code, where it looks at one column
	many map[string]rule.Truth        // by codes, where it looks at several or at none
}

// answerOne gives the truth of a test of one column for a code.
func (t *test) answerOne(code uint32) rule.Truth {
	if known := t.one.Load(); known != nil && int(code) < len(*known) {
		return (*known)[code]
	}
	return t.extend(int(code))
}

// answer gives the test's truth for codes of what it looks at, in the order of its columns.
func (t *test) answer(codes []uint32) rule.Truth {
	if len(codes) == 1 {
		return t.answerOne(codes[0])
	}
	var room [64]byte
	key := room[:0]
	for _, c := range codes {
		key = binary.AppendUvarint(key, uint64(c))
	}
	t.mu.RLock()
	truth, known := t.many[string(key)]
	t.mu.RUnlock()
	if known {
		return truth
	}
	truth = t.Evaluate(t.variables(codes))
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.many == nil {
		t.many = map[string]rule.Truth{}
	}
	t.many[string(key)] = truth
	return truth
}

// extend answers for every code that is known of the one column, up to the wanted one at least.
func (t *test) extend(wanted int) rule.Truth {
	t.mu.Lock()
	defer t.mu.Unlock()
	var answers []rule.Truth
	if known := t.one.Load(); known != nil {
		answers = *known
	}
	c := t.columns[0]
	field := map[string]any{}
	variables := t.variables(nil)
	variables[c.look.Variable] = field
	values := c.known()
	for code := len(answers); code < len(values); code++ { // whoever reads the answers that there were sees no more of them
		if code > 0 {
			field[c.look.Field] = values[code]
		}
		answers = append(answers, t.Evaluate(variables))
	}
	t.one.Store(&answers)
	return answers[wanted]
}

// variables are what the test sees where the first of its columns have these codes.
func (t *test) variables(codes []uint32) map[string]any {
	variables := map[string]any{}
	for _, name := range t.Scope.Variables() {
		variables[name] = map[string]any{}
	}
	for i, code := range codes {
		if c := t.columns[i]; code != 0 {
			variables[c.look.Variable].(map[string]any)[c.look.Field] = c.known()[code]
		}
	}
	return variables
}

// formula is a rule as the vocabulary knows it.
type formula struct {
	joined byte // '&', '|', '!'; 0: a test
	parts  []*formula
	test   *test
}

func (v *vocabulary) formula(r *rule.Rule) *formula {
	if r == nil {
		return nil
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	var known func(f *rule.Formula) *formula
	known = func(f *rule.Formula) *formula {
		out := &formula{}
		if f.Test == nil {
			out.joined = f.Joined[0]
			for _, p := range f.Parts {
				out.parts = append(out.parts, known(p))
			}
			return out
		}
		key := testKey{f.Test.Scope, f.Test.Source}
		t := v.tests[key]
		if t == nil {
			t = &test{number: len(v.tests), Test: f.Test}
			for _, l := range f.Test.Looks {
				t.columns = append(t.columns, v.columnLocked(l))
			}
			for _, c := range t.columns {
				c.tests = append(c.tests, t)
			}
			v.tests[key] = t
		}
		out.test = t
		return out
	}
	return known(r.Formula())
}

// testsOf gives the tests that look at one of some columns, and how many tests there are.
func (v *vocabulary) testsOf(columns ...*column) (tests []*test, of int) {
	v.mu.Lock()
	defer v.mu.Unlock()
	for i, c := range columns {
		for _, t := range c.tests {
			if !slices.ContainsFunc(columns[:i], func(before *column) bool { return slices.Contains(t.columns, before) }) {
				tests = append(tests, t)
			}
		}
	}
	return tests, len(v.tests)
}

// each calls f for every test of a formula.
func (f *formula) each(do func(t *test)) {
	if f == nil {
		return
	}
	if f.test != nil {
		do(f.test)
	}
	for _, p := range f.parts {
		p.each(do)
	}
}

// Numbers of outcomes that every setting has.
const (
	madeOfItems  int32 = iota // set, to the items whose sets hold the laptop
	leftUnset                 // by an exception
	noPlatform                // not supported …
	lowVersion                //
	otherEdition              //
	incapable                 //
	firstOutcome

	itemBit int32 = 1 << 30 // set in the numbers of items, so that they are known by their numbers
)

func isItem(number int32) bool { return number&itemBit != 0 }

var unsupportedAs = map[setting.Unsupported]int32{setting.NoPlatform: noPlatform, setting.LowVersion: lowVersion, setting.OtherEdition: otherEdition, setting.Incapable: incapable}

// outcome is what a setting can come out as, or an item of a list or row of a table that is put together.
type outcome struct {
	number   int32
	status   Status
	reason   setting.Unsupported
	value    setting.Value
	policies []string // of a conflict
	class    int32    // of values: the same for Equal ones
	begins   uint64   // of items: the first bytes of their text, so that most are put in order by a number

	coded atomic.Uint32 // the value's code in the column, once it was asked for
}

// codeOf gives the code of what an outcome has as its value; 0 where it has none.
func (o *outcomes) codeOf(is *outcome) uint32 {
	code := is.coded.Load()
	if code == 0 && is.status == Set && !is.value.IsNothing() {
		code, _ = o.column.code(is.value, nil)
		is.coded.Store(code)
	}
	return code
}

// outcomes numbers what one setting comes out as.
type outcomes struct {
	column *column // of its values

	mu   sync.RWMutex
	at   map[string]int32
	list atomic.Pointer[[]*outcome]
}

func (o *outcomes) append(is *outcome) {
	list := append(o.all(), is)
	o.list.Store(&list)
}

func (v *vocabulary) outcomesOf(id setting.ID) *outcomes {
	v.mu.Lock()
	defer v.mu.Unlock()
	o := v.outcomes[id]
	if o == nil {
		o = &outcomes{at: map[string]int32{}, column: v.columnLocked(rule.Look{Variable: "settings", Field: string(id)})}
		o.list.Store(&[]*outcome{
			{number: madeOfItems, status: Set}, {number: leftUnset, status: Unset},
			{number: noPlatform, status: Unsupported, reason: setting.NoPlatform}, {number: lowVersion, status: Unsupported, reason: setting.LowVersion}, {number: otherEdition, status: Unsupported, reason: setting.OtherEdition},
			{number: incapable, status: Unsupported, reason: setting.Incapable},
		})
		v.outcomes[id] = o
	}
	return o
}

func (o *outcomes) get(number int32) *outcome { return (*o.list.Load())[number&^itemBit] }

// all gives every outcome that is known, by number.
func (o *outcomes) all() []*outcome { return *o.list.Load() }

func (o *outcomes) number(key []byte, kind int32, made func() *outcome) *outcome {
	o.mu.RLock()
	at, known := o.at[string(key)]
	o.mu.RUnlock()
	if known {
		return o.get(at)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if at, known := o.at[string(key)]; known {
		return o.get(at)
	}
	is := made()
	is.number = int32(len(o.all())) | kind
	if is.class == 0 {
		is.class = is.number
	}
	o.at[string(key)] = is.number
	o.append(is)
	return is
}

// value numbers a value that stands as a whole.
func (o *outcomes) value(v setting.Value) *outcome {
	key := v.AppendIdentity([]byte{'v'})
	class := o.number(key, 0, func() *outcome { return &outcome{status: Set, value: v} })
	if v.Kind() != setting.FileKind && v.Kind() != setting.Table {
		return class
	}
	text, _ := v.MarshalJSON()
	return o.number(append(append(key, 0), text...), 0, func() *outcome { return &outcome{status: Set, value: v, class: class.number} })
}

// item numbers an item or row, given as a list or table of one.
func (o *outcomes) item(v setting.Value) *outcome {
	return o.number(v.AppendIdentity([]byte{'i'}), itemBit, func() *outcome { return &outcome{status: Set, value: v, begins: v.Begins()} })
}

// conflict numbers a conflict of policies, given sorted.
func (o *outcomes) conflict(policies []string) *outcome {
	key := []byte{'c'}
	for _, p := range policies {
		key = append(append(key, p...), 0)
	}
	return o.number(key, 0, func() *outcome { return &outcome{status: Conflict, policies: slices.Clone(policies)} })
}
