// This file numbers what plans that are made of one another speak of, so that they can be compared number by number.

package intern

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
type Generation struct {
	mu       sync.Mutex
	columns  map[rule.Look]*Column
	tests    map[testKey]*Test
	outcomes map[setting.ID]*Outcomes
	supports map[string]*Support
	Workers  sync.Pool
}

type testKey struct {
	scope  rule.Scope
	source string
}

func NewGeneration() *Generation {
	return &Generation{columns: map[rule.Look]*Column{}, tests: map[testKey]*Test{}, outcomes: map[setting.ID]*Outcomes{}, supports: map[string]*Support{}}
}

// column numbers the values that something has: a fact of devices, an attribute of people, or a setting. Code 0 is absent.
type Column struct {
	Number int
	Look   rule.Look
	tests  []*Test // that look at it

	mu    sync.RWMutex
	codes map[string]uint32
	list  []any // by code, as expressions see them
}

func (v *Generation) Column(look rule.Look) *Column {
	v.mu.Lock()
	defer v.mu.Unlock()
	return v.columnLocked(look)
}

func (v *Generation) columnLocked(look rule.Look) *Column {
	c := v.columns[look]
	if c == nil {
		c = &Column{Number: len(v.columns), Look: look, codes: map[string]uint32{}, list: []any{nil}}
		v.columns[look] = c
	}
	return c
}

// code numbers a value; what differs for an expression differs in its code. key is room to work in.
func (c *Column) Code(value setting.Value, key []byte) (uint32, []byte) {
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
		code = uint32(len(c.list))
		c.codes[string(key)] = code
		c.list = append(c.list, value.Any())
	}
	return code, key
}

func (c *Column) Values() []any {
	c.mu.RLock()
	defer c.mu.RUnlock()
	return c.list
}

// test is a test of rules with its answers by what it looks at.
type Test struct {
	Number  int
	Columns []*Column
	*rule.Test

	mu   sync.RWMutex
	one  atomic.Pointer[[]rule.Truth] // by code, where it looks at one column
	many map[string]rule.Truth        // by codes, where it looks at several or at none
}

// answerOne gives the truth of a test of one column for a code.
func (t *Test) AnswerOne(code uint32) rule.Truth {
	if known := t.one.Load(); known != nil && int(code) < len(*known) {
		return (*known)[code]
	}
	return t.extend(int(code))
}

// answer gives the test's truth for codes of what it looks at, in the order of its columns.
func (t *Test) Answer(codes []uint32) rule.Truth {
	if len(codes) == 1 {
		return t.AnswerOne(codes[0])
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
func (t *Test) extend(wanted int) rule.Truth {
	t.mu.Lock()
	defer t.mu.Unlock()
	var answers []rule.Truth
	if known := t.one.Load(); known != nil {
		answers = *known
	}
	c := t.Columns[0]
	field := map[string]any{}
	variables := t.variables(nil)
	variables[c.Look.Variable] = field
	values := c.Values()
	for code := len(answers); code < len(values); code++ { // whoever reads the answers that there were sees no more of them
		if code > 0 {
			field[c.Look.Field] = values[code]
		}
		answers = append(answers, t.Evaluate(variables))
	}
	t.one.Store(&answers)
	return answers[wanted]
}

// variables are what the test sees where the first of its columns have these codes.
func (t *Test) variables(codes []uint32) map[string]any {
	variables := map[string]any{}
	for _, name := range t.Scope.Variables() {
		variables[name] = map[string]any{}
	}
	for i, code := range codes {
		if c := t.Columns[i]; code != 0 {
			variables[c.Look.Variable].(map[string]any)[c.Look.Field] = c.Values()[code]
		}
	}
	return variables
}

// formula is a rule as the vocabulary knows it.
type Formula struct {
	Joined byte // '&', '|', '!'; 0: a test
	Parts  []*Formula
	Test   *Test
}

func (v *Generation) Formula(r *rule.Rule) *Formula {
	if r == nil {
		return nil
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	var known func(f *rule.Formula) *Formula
	known = func(f *rule.Formula) *Formula {
		out := &Formula{}
		if f.Test == nil {
			out.Joined = f.Joined[0]
			for _, p := range f.Parts {
				out.Parts = append(out.Parts, known(p))
			}
			return out
		}
		key := testKey{f.Test.Scope, f.Test.Source}
		t := v.tests[key]
		if t == nil {
			t = &Test{Number: len(v.tests), Test: f.Test}
			for _, l := range f.Test.Looks {
				t.Columns = append(t.Columns, v.columnLocked(l))
			}
			for _, c := range t.Columns {
				c.tests = append(c.tests, t)
			}
			v.tests[key] = t
		}
		out.Test = t
		return out
	}
	return known(r.Formula())
}

// testsOf gives the tests that look at one of some columns, and how many tests there are.
func (v *Generation) TestsOf(columns ...*Column) (tests []*Test, of int) {
	v.mu.Lock()
	defer v.mu.Unlock()
	for i, c := range columns {
		for _, t := range c.tests {
			if !slices.ContainsFunc(columns[:i], func(before *Column) bool { return slices.Contains(t.Columns, before) }) {
				tests = append(tests, t)
			}
		}
	}
	return tests, len(v.tests)
}

// each calls f for every test of a formula.
func (f *Formula) Each(do func(t *Test)) {
	if f == nil {
		return
	}
	if f.Test != nil {
		do(f.Test)
	}
	for _, p := range f.Parts {
		p.Each(do)
	}
}

// Numbers of outcomes that every setting has.
const (
	FromItems      int32 = iota // set, to the items whose sets hold the laptop
	LeftUnset                   // by an exception
	LackPlatform                // not supported …
	lackVersion                 //
	lackEdition                 //
	LackCapability              //
	FirstOutcome

	ItemBit int32 = 1 << 30 // set in the numbers of items, so that they are known by their numbers
)

func IsItem(number int32) bool { return number&ItemBit != 0 }

var UnsupportedAs = map[setting.Unsupported]int32{setting.NoPlatform: LackPlatform, setting.LowVersion: lackVersion, setting.OtherEdition: lackEdition, setting.Incapable: LackCapability}

// outcome is what a setting can come out as, or an item of a list or row of a table that is put together.
type Outcome struct {
	Number   int32
	Status   Status
	Reason   setting.Unsupported
	Value    setting.Value
	Policies []string // of a conflict
	Class    int32    // of values: the same for Equal ones
	Prefix   uint64   // of items: the first bytes of their text, so that most are put in order by a number

	coded atomic.Uint32 // the value's code in the column, once it was asked for
}

// codeOf gives the code of what an outcome has as its value; 0 where it has none.
func (o *Outcomes) CodeOf(is *Outcome) uint32 {
	code := is.coded.Load()
	if code == 0 && is.Status == Set && !is.Value.IsNothing() {
		code, _ = o.Column.Code(is.Value, nil)
		is.coded.Store(code)
	}
	return code
}

// outcomes numbers what one setting comes out as.
type Outcomes struct {
	Column *Column // of its values

	mu      sync.RWMutex
	numbers map[string]int32
	list    atomic.Pointer[[]*Outcome]
}

func (o *Outcomes) append(is *Outcome) {
	list := append(o.All(), is)
	o.list.Store(&list)
}

func (v *Generation) OutcomesOf(id setting.ID) *Outcomes {
	v.mu.Lock()
	defer v.mu.Unlock()
	o := v.outcomes[id]
	if o == nil {
		o = &Outcomes{numbers: map[string]int32{}, Column: v.columnLocked(rule.Look{Variable: "settings", Field: string(id)})}
		o.list.Store(&[]*Outcome{
			{Number: FromItems, Status: Set}, {Number: LeftUnset, Status: Unset},
			{Number: LackPlatform, Status: Unsupported, Reason: setting.NoPlatform}, {Number: lackVersion, Status: Unsupported, Reason: setting.LowVersion}, {Number: lackEdition, Status: Unsupported, Reason: setting.OtherEdition},
			{Number: LackCapability, Status: Unsupported, Reason: setting.Incapable},
		})
		v.outcomes[id] = o
	}
	return o
}

func (o *Outcomes) Of(number int32) *Outcome { return (*o.list.Load())[number&^ItemBit] }

// all gives every outcome that is known, by number.
func (o *Outcomes) All() []*Outcome { return *o.list.Load() }

func (o *Outcomes) number(key []byte, kind int32, made func() *Outcome) *Outcome {
	o.mu.RLock()
	at, known := o.numbers[string(key)]
	o.mu.RUnlock()
	if known {
		return o.Of(at)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if at, known := o.numbers[string(key)]; known {
		return o.Of(at)
	}
	is := made()
	is.Number = int32(len(o.All())) | kind
	if is.Class == 0 {
		is.Class = is.Number
	}
	o.numbers[string(key)] = is.Number
	o.append(is)
	return is
}

// value numbers a value that stands as a whole.
func (o *Outcomes) Value(v setting.Value) *Outcome {
	key := v.AppendIdentity([]byte{'v'})
	class := o.number(key, 0, func() *Outcome { return &Outcome{Status: Set, Value: v} })
	if v.Kind() != setting.FileKind && v.Kind() != setting.Table {
		return class
	}
	text, _ := v.MarshalJSON()
	return o.number(append(append(key, 0), text...), 0, func() *Outcome { return &Outcome{Status: Set, Value: v, Class: class.Number} })
}

// item numbers an item or row, given as a list or table of one.
func (o *Outcomes) Item(v setting.Value) *Outcome {
	return o.number(v.AppendIdentity([]byte{'i'}), ItemBit, func() *Outcome { return &Outcome{Status: Set, Value: v, Prefix: v.Begins()} })
}

// conflict numbers a conflict of policies, given sorted.
func (o *Outcomes) Conflict(policies []string) *Outcome {
	key := []byte{'c'}
	for _, p := range policies {
		key = append(append(key, p...), 0)
	}
	return o.number(key, 0, func() *Outcome { return &Outcome{Status: Conflict, Policies: slices.Clone(policies)} })
}

// ItemAt gives the place of an item among the outcomes of its setting.
func ItemAt(number int32) int32 { return number &^ ItemBit }
