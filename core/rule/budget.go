// This file limits what an expression may cost. Anybody who may look at the estate may try an
// expression, so none of them may take long or much memory, whatever it says.

package rule

import (
	"fmt"
	"math"
	"unicode/utf8"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/cost"
)

const (
	maxSource  = 10_000 // characters of an expression
	maxNesting = 20     // lists, maps and macros within each other: checking their types takes a power of it
	maxNodes   = 20_000 // parts of an expression, with those that macros stand for
)

// maxCost is how many steps one evaluation may take, as CEL counts them: 100,000 are about 10 ms.
// What is said of one laptop or person is evaluated for each of them; what is said of settings only
// for those that differ in them.
func (s Scope) maxCost() uint64 {
	if s == OfForced || s == OfCheck {
		return 20_000
	}
	return 5_000
}

// assumedItems and assumedText are how many items the lists of the estate are taken to have, and
// their texts characters, before anything is evaluated. What has more is counted when it is
// evaluated.
const (
	assumedItems = 50
	assumedText  = 200
)

// affordable refuses an expression that is too long or too deep to be looked at. parsed is nil
// before it is parsed.
func affordable(source string, parsed ast.Expr) *CompileError {
	refuse := func(found, limit string) *CompileError {
		return &CompileError{Line: 1, Column: 1, Message: "the expression has " + found + ", at most " + limit + " are allowed"}
	}
	if n := utf8.RuneCountInString(source); n > maxSource {
		return refuse(fmt.Sprintf("%d characters", n), fmt.Sprint(maxSource))
	}
	// Depth is known after parsing. It is tested before types are checked, since checking takes a
	// power of the depth.
	if parsed == nil {
		return nil
	}
	if deepest(parsed, 0) > maxNesting {
		return refuse(fmt.Sprintf("more than %d lists, maps and macros within each other", maxNesting), fmt.Sprint(maxNesting))
	}
	return nil
}

// deepest gives how many lists, maps and macros are within each other at most; it stops looking
// where there are too many.
func deepest(e ast.Expr, depth int) int {
	switch e.Kind() {
	case ast.ListKind, ast.MapKind, ast.StructKind, ast.ComprehensionKind:
		depth++
	}
	if depth > maxNesting {
		return depth
	}
	most := depth
	// Looking stops at the limit, so this is linear in the size of the expression.
	for _, part := range children(e) {
		most = max(most, deepest(part, depth))
	}
	return most
}

// children gives the direct parts of an expression.
func children(e ast.Expr) (parts []ast.Expr) {
	switch e.Kind() {
	case ast.SelectKind:
		return []ast.Expr{e.AsSelect().Operand()}
	case ast.CallKind:
		call := e.AsCall()
		parts = append(parts, call.Args()...)
		if call.IsMemberFunction() {
			parts = append(parts, call.Target())
		}
	case ast.ListKind:
		return e.AsList().Elements()
	case ast.MapKind:
		for _, entry := range e.AsMap().Entries() {
			parts = append(parts, entry.AsMapEntry().Key(), entry.AsMapEntry().Value())
		}
	case ast.StructKind:
		for _, field := range e.AsStruct().Fields() {
			parts = append(parts, field.AsStructField().Value())
		}
	case ast.ComprehensionKind:
		c := e.AsComprehension()
		return []ast.Expr{c.IterRange(), c.AccuInit(), c.LoopCondition(), c.LoopStep(), c.Result()}
	}
	return parts
}

// repeats tells whether an expression has a macro, which evaluates a part of it for every item of a
// list. What has none costs no more than its length.
func repeats(e ast.Expr) bool {
	if e.Kind() == ast.ComprehensionKind {
		return true
	}
	for _, part := range children(e) {
		if repeats(part) {
			return true
		}
	}
	return false
}

// estimate refuses a checked expression that may take more steps than are allowed.
func (s Scope) estimate(env *cel.Env, checked *cel.Ast) *CompileError {
	// Lists of the estate have no declared length. sizes says how long they are assumed to be.
	steps, err := env.EstimateCost(checked, sizes{})
	if err != nil {
		return &CompileError{Line: 1, Column: 1, Message: "what the expression costs can't be told: " + err.Error()}
	}
	// The worst case counts: an expression that may be dear for some laptop is refused when it is
	// written.
	if steps.Max > s.maxCost() {
		found := fmt.Sprint(steps.Max)
		if steps.Max == math.MaxUint64 {
			found = "countless"
		}
		return &CompileError{
			Line:    1,
			Column:  1,
			Message: fmt.Sprintf("the expression may take %s steps, at most %d are allowed", found, s.maxCost()),
		}
	}
	return nil
}

// sizes tells CEL how large what an expression looks at is taken to be. An expression that gets
// longer lists than assumed is ended by CostLimit while it runs.
type sizes struct{}

// EstimateCallCost leaves the cost of calls to CEL.
func (sizes) EstimateCallCost(string, string, *cost.AstNode, []cost.AstNode) *cost.CallEstimate {
	return nil
}

// EstimateSize bounds texts and lists of variables, of which CEL knows nothing.
func (sizes) EstimateSize(of cost.AstNode) *cost.SizeEstimate {
	if of.ComputedSize() != nil {
		return nil
	}
	switch path := of.Path(); {
	case len(path) == 0:
		return nil
	case len(path) == 1: // device, person or settings
		return &cost.SizeEstimate{Max: assumedItems}
	case path[len(path)-1] == "@items" || path[len(path)-1] == "@keys":
		return &cost.SizeEstimate{Max: assumedText}
	}
	return &cost.SizeEstimate{Max: assumedItems}
}
