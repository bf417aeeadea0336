// This file tells which settings an expression looks at.

package rule

import (
	"slices"

	"cel.dev/cel-go/cel"
	"cel.dev/cel-go/common/ast"
	"cel.dev/cel-go/common/operators"
	"cel.dev/cel-go/common/types"
)

// Mentions lists the settings that the expression looks at, by id. known is false where that can't be told by reading it, or
// where it looks at the device or the person too: then nothing follows from which settings are there.
func (r *Rule) Mentions() (ids []string, known bool) { return r.mentions, r.mentionsKnown }

// mentionsOf reads an expression: every use of `settings` must be settings["id"] or "id" in settings.
func mentionsOf(checked *cel.Ast) (ids []string, known bool) {
	known = true
	allowed := map[int64]bool{} // uses of `settings` that were understood
	ast.PostOrderVisit(checked.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.CallKind {
			return
		}
		call := e.AsCall()
		args := call.Args()
		if len(args) != 2 {
			return
		}
		table, key := args[0], args[1]
		switch call.FunctionName() {
		case operators.Index:
		case operators.In:
			table, key = args[1], args[0]
		default:
			return
		}
		if table.Kind() != ast.IdentKind || table.AsIdent() != "settings" || key.Kind() != ast.LiteralKind {
			return
		}
		if id, isText := key.AsLiteral().(types.String); isText {
			ids = append(ids, string(id))
			allowed[table.ID()] = true
		}
	}))
	ast.PostOrderVisit(checked.NativeRep().Expr(), ast.NewExprVisitor(func(e ast.Expr) {
		if e.Kind() != ast.IdentKind {
			return
		}
		switch e.AsIdent() {
		case "settings":
			known = known && allowed[e.ID()]
		case "device", "person":
			known = false
		}
	}))
	slices.Sort(ids)
	return slices.Compact(ids), known
}
