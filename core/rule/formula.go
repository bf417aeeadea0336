// This file takes an expression apart into tests of few facts each, so that it can be evaluated
// over sets: a test has one answer for all rows that agree in what it looks at.
//
// An example: device.os == "linux" && "field" in device.tags is a formula of two tests. The first
// looks at one field with three values in the whole estate, so that it is evaluated three times,
// whatever the number of laptops. The sets of laptops for which each test is true are then
// intersected.

package rule

import (
	"cmp"
	"slices"
	"sync"

	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
	"cel.dev/cel-go/parser"
)

// Truth is what an expression comes to for one laptop or person.
type Truth uint8

const (
	False Truth = iota
	True
	Failed // an error, or no bool
)

// Look is something that a test looks at: a field of a variable, such as device.os, or one setting,
// such as settings["screen.lock_after_minutes"].
type Look struct{ Variable, Field string }

// Formula is an expression taken apart at &&, || and !. CEL's logic for errors puts the parts
// together again: false && error is false, true || error is true, in either order. Either Test is
// given, or Joined and Parts.
type Formula struct {
	Joined string // "&&", "||" or "!"; empty: a Test
	Parts  []*Formula
	Test   *Test
}

// Test is a part of an expression that is not taken apart further. It is evaluated once for each
// combination of values of what it looks at, and not once for each laptop.
type Test struct {
	Source string // equal texts of one scope are equal tests
	Scope  Scope
	Looks  []Look   // what it looks at, in their order; nil with Whole too
	Whole  bool     // it looks at a variable as a whole, so that nothing less than all of it tells
	Texts  []string // texts that it compares with by ==, != or in, in the order in which they are written
	rule   func() *Rule
}

// Evaluate gives the test's answer. What it looks at and is not in the variables is absent.
func (t *Test) Evaluate(variables map[string]any) Truth {
	r := t.rule()
	if r == nil {
		return Failed
	}
	// An error and a result of another type are the same for resolution: the test is not true.
	switch holds, err := r.Holds(variables); {
	case err != nil:
		return Failed
	case holds:
		return True
	}
	return False
}

// Formula takes the expression apart. It is done once and kept; the formula must not be altered.
func (r *Rule) Formula() *Formula {
	r.apart.Do(func() {
		// The whole expression is a single test if a part of it cannot be written as text again.
		checked := r.ast.NativeRep()
		f, ok := r.formula(checked.Expr(), checked.SourceInfo())
		if !ok {
			test := &Test{Source: r.source, Scope: r.scope, rule: func() *Rule { return r }}
			test.look(checked.Expr())
			f = &Formula{Test: test}
		}
		r.parts = f
	})
	return r.parts
}

// formula takes a part of the expression apart. It is false where the part cannot be written as
// text.
func (r *Rule) formula(e ast.Expr, info *ast.SourceInfo) (*Formula, bool) {
	if e.Kind() == ast.CallKind {
		call := e.AsCall()
		// && and || are the only operators that hide errors of their parts, so an expression may be
		// split at them and at !, nowhere else.
		joined := map[string]string{operators.LogicalAnd: "&&", operators.LogicalOr: "||", operators.LogicalNot: "!"}[call.FunctionName()]
		if joined != "" {
			f := &Formula{Joined: joined}
			args := call.Args()
			if joined != "!" {
				// a && b && c is one formula of three parts, not two nested ones.
				args = flat(e, call.FunctionName())
			}
			for _, arg := range args {
				part, ok := r.formula(arg, info)
				if !ok {
					return nil, false
				}
				f.Parts = append(f.Parts, part)
			}
			return f, true
		}
	}
	// A part becomes a test by its text, which is compiled by itself when the test is first
	// evaluated.
	source, err := parser.Unparse(e, info)
	if err != nil {
		return nil, false
	}
	test := &Test{Source: source, Scope: r.scope}
	test.rule = sync.OnceValue(func() *Rule {
		one, err := compile(r.scope, source)
		if err != nil {
			return nil // a part of what compiled, of a type that is no bool: an error wherever it is looked at
		}
		return one
	})
	test.look(e)
	return &Formula{Test: test}, true
}

// look finds out what an expression looks at. It must not miss anything: two laptops that agree in
// what was found get the same answer. Where it cannot tell, the test is Whole, which is slower and
// always right.
func (t *Test) look(e ast.Expr) {
	variables := t.Scope.Variables()
	isVariable := func(e ast.Expr) bool {
		return e.Kind() == ast.IdentKind && slices.Contains(variables, e.AsIdent())
	}
	// Each field is noted once.
	add := func(variable, field string) {
		if l := (Look{variable, field}); !slices.Contains(t.Looks, l) {
			t.Looks = append(t.Looks, l)
		}
	}
	// bound knows the names that a macro gives to items of a list that is written out.
	bound := map[string][]string{} // names for one of some texts: x in ["a", "b"].exists(x, x in settings)
	var visit func(e ast.Expr)
	visit = func(e ast.Expr) {
		switch e.Kind() {
		case ast.IdentKind:
			// A variable that stands alone, for example as an argument, may be read in any way.
			t.Whole = t.Whole || isVariable(e)
		case ast.SelectKind:
			s := e.AsSelect()
			// device.os looks at the field os alone.
			if isVariable(s.Operand()) {
				add(s.Operand().AsIdent(), s.FieldName())
			} else {
				visit(s.Operand())
			}
		case ast.CallKind:
			// settings["x"] and "x" in settings look at one field, if the key is known.
			call := e.AsCall()
			args := call.Args()
			if table, key := tableAndKey(call.FunctionName(), args); table != nil && isVariable(table) {
				if key.Kind() == ast.IdentKind && bound[key.AsIdent()] != nil {
					for _, name := range bound[key.AsIdent()] {
						add(table.AsIdent(), name)
					}
					return
				}
				if name, isText := textOf(key); isText {
					add(table.AsIdent(), name)
					return
				}
			}
			if call.IsMemberFunction() {
				visit(call.Target())
			}
			// Texts are gathered for remarks: a text that is compared and that nobody has is likely
			// misspelt.
			compares := slices.Contains([]string{operators.Equals, operators.NotEquals, operators.In}, call.FunctionName())
			for _, arg := range args {
				if text, isText := textOf(arg); compares && isText {
					t.Texts = append(t.Texts, text)
				} else if compares {
					t.Texts = append(t.Texts, textsOf(arg)...)
				}
				visit(arg)
			}
		case ast.ListKind:
			for _, one := range e.AsList().Elements() {
				visit(one)
			}
		case ast.MapKind:
			for _, entry := range e.AsMap().Entries() {
				visit(entry.AsMapEntry().Key())
				visit(entry.AsMapEntry().Value())
			}
		case ast.ComprehensionKind:
			// Macros are comprehensions: they bind names, which can hide variables or each other.
			c := e.AsComprehension()
			if slices.Contains(variables, c.IterVar()) || slices.Contains(variables, c.IterVar2()) || slices.Contains(variables, c.AccuVar()) {
				t.Whole = true // a name that hides a variable: not worth telling apart
			}
			if texts := textsOf(c.IterRange()); texts != nil && c.IterVar2() == "" {
				// The name is bound inside of this macro only; what it was bound to outside comes
				// back.
				hidden := bound[c.IterVar()]
				bound[c.IterVar()] = texts
				defer func() { bound[c.IterVar()] = hidden }()
			} else if bound[c.IterVar()] != nil || bound[c.IterVar2()] != nil {
				t.Whole = true // a name that hides another
			}
			// Every part of the macro may look at something.
			for _, part := range []ast.Expr{c.IterRange(), c.AccuInit(), c.LoopCondition(), c.LoopStep(), c.Result()} {
				visit(part)
			}
		// Expressions of an estate have no messages. Should there be one, nothing is known of it.
		case ast.StructKind:
			t.Whole = true
		}
	}
	visit(e)
	// Sorted, so that equal tests have equal lists.
	slices.SortFunc(t.Looks, func(a, b Look) int {
		return cmp.Or(cmp.Compare(a.Variable, b.Variable), cmp.Compare(a.Field, b.Field))
	})
}

// tableAndKey reads x["key"] and "key" in x; table is nil for anything else.
func tableAndKey(function string, args []ast.Expr) (table, key ast.Expr) {
	if len(args) != 2 {
		return nil, nil
	}
	switch function {
	case operators.Index:
		table, key = args[0], args[1]
	case operators.In:
		table, key = args[1], args[0]
	}
	return table, key
}

// textOf gives a text that is written out; false for anything else.
func textOf(e ast.Expr) (string, bool) {
	if e.Kind() != ast.LiteralKind {
		return "", false
	}
	text, is := e.AsLiteral().(types.String)
	return string(text), is
}

// textsOf gives the texts of a list that is written out; nil for anything else.
func textsOf(e ast.Expr) (texts []string) {
	if e.Kind() != ast.ListKind {
		return nil
	}
	for _, one := range e.AsList().Elements() {
		text, is := textOf(one)
		if !is {
			return nil
		}
		texts = append(texts, text)
	}
	return texts
}

// Looks lists what the whole expression looks at, with repeats; whole tells that it looks at a
// variable as a whole, so that the list is not all.
func (r *Rule) Looks() (looks []Look, whole bool) {
	var visit func(f *Formula)
	visit = func(f *Formula) {
		if f.Test != nil {
			looks = append(looks, f.Test.Looks...)
			whole = whole || f.Test.Whole
		}
		for _, p := range f.Parts {
			visit(p)
		}
	}
	visit(r.Formula())
	return looks, whole
}
