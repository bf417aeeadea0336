// This file takes an expression apart, to say which of its parts are true.
//
// It serves explanations: why is this laptop in the group, and why is it not? Only one laptop or
// person is looked at, so that parts are compiled as they are needed. Sets of laptops are evaluated
// by formula.go.

package rule

import (
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/parser"
)

// Part is a part of an expression as it is for one device or person.
type Part struct {
	Source string
	Depth  int    // within the whole; the parts of a part follow it
	Joined string // "&&" or "||" where it is made of the parts that follow, "!" where it is the opposite of the one that follows
	Holds  bool
	Error  string // why it can't be told
}

// Parts evaluates an expression part by part, from the whole down to what is not joined by &&, ||
// or !.
func (r *Rule) Parts(variables map[string]any) []Part {
	if r == nil {
		return nil
	}
	// Compiled again, since the kept form is optimised and can no longer be written as text.
	compiled, issues := environments[r.scope]().Compile(r.source)
	if issues.Err() != nil {
		return nil // it compiled when the rule was made
	}
	checked := compiled.NativeRep()
	var out []Part
	// visit adds a part and then the parts that it is made of.
	var visit func(e ast.Expr, depth int)
	visit = func(e ast.Expr, depth int) {
		source, err := parser.Unparse(e, checked.SourceInfo())
		if err != nil {
			return
		}
		part := Part{Source: source, Depth: depth}
		var inner []ast.Expr
		if e.Kind() == ast.CallKind {
			switch call := e.AsCall(); call.FunctionName() {
			case operators.LogicalAnd:
				part.Joined, inner = "&&", flat(e, operators.LogicalAnd)
			case operators.LogicalOr:
				part.Joined, inner = "||", flat(e, operators.LogicalOr)
			case operators.LogicalNot:
				part.Joined, inner = "!", call.Args()
			}
		}
		// Each part is evaluated by itself, so that an error in one is told with that part.
		if one, err := Compile(r.scope, source); err != nil {
			part.Error = err.Error()
		} else if part.Holds, err = one.Holds(variables); err != nil {
			part.Error, part.Holds = err.Error(), false
		}
		out = append(out, part)
		for _, e := range inner {
			visit(e, depth+1)
		}
	}
	visit(checked.Expr(), 0)
	return out
}

// flat gives what a chain of one operator joins: a && b && c is three parts, however it is nested.
func flat(e ast.Expr, operator string) (out []ast.Expr) {
	if e.Kind() == ast.CallKind && e.AsCall().FunctionName() == operator {
		for _, arg := range e.AsCall().Args() {
			out = append(out, flat(arg, operator)...)
		}
		return out
	}
	return []ast.Expr{e}
}
