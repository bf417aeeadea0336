// This file keeps the answers of tests. A test is evaluated once for each value, or combination of
// values, that occurs in the estate, and never again as long as the generation lives: a new plan
// asks a test that it shares with the plan before for nothing but new values.

package intern

import (
	"encoding/binary"
	"sync"
	"sync/atomic"

	"zenithridge.example/zridge/core/rule"
)

// Formula is a rule taken apart at &&, || and ! into tests.
type Formula struct {
	Joined byte // '&', '|', '!'; 0: a Test
	Parts  []*Formula
	Test   *Test
}

// Each calls do for every test of the formula, which may be nil.
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

// Test is a test of rules with its answers, by the codes of what it looks at. It is safe for
// concurrent use.
type Test struct {
	Number  int
	Columns []*Column // what it looks at
	*rule.Test

	mu   sync.RWMutex
	one  atomic.Pointer[[]rule.Truth] // by code, where it looks at one column
	many map[string]rule.Truth        // by codes, where it looks at several or at none
}

// AnswerOne gives the truth of a test of one column for a code.
func (t *Test) AnswerOne(code uint32) rule.Truth {
	if known := t.one.Load(); known != nil && int(code) < len(*known) {
		return (*known)[code]
	}
	return t.extend(int(code))
}

// Answer gives the test's truth for codes of what it looks at, in the order of its columns.
func (t *Test) Answer(codes []uint32) rule.Truth {
	// Nearly all tests look at one column. Their answers are a list by code, which is read without
	// a lock.
	if len(codes) == 1 {
		return t.AnswerOne(codes[0])
	}
	var scratch [64]byte
	key := scratch[:0]
	// The key is the list of codes, in as few bytes as they need.
	for _, c := range codes {
		key = binary.AppendUvarint(key, uint64(c))
	}
	t.mu.RLock()
	truth, known := t.many[string(key)]
	t.mu.RUnlock()
	if known {
		return truth
	}
	// Evaluated without the lock: two threads may evaluate the same test, and find the same.
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
	// The expression is evaluated once for each value that occurs in the estate, not for each
	// laptop.
	c := t.Columns[0]
	field := map[string]any{}
	variables := t.variables(nil)
	// Code 0 is "no value": the field is absent then.
	variables[c.Look.Variable] = field
	values := c.Known()
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
		// Variables of the test's scope are always there, if empty. An expression that reads a
		// missing field fails, as CEL says.
		variables[name] = map[string]any{}
	}
	for i, code := range codes {
		if c := t.Columns[i]; code != 0 {
			variables[c.Look.Variable].(map[string]any)[c.Look.Field] = c.Known()[code]
		}
	}
	return variables
}
