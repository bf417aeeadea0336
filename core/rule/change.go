// This file says what an approval rule knows of a change.
//
// The fields are those of review.ChangeFacts, by name and type. An expression that names another
// field is refused when it is written: later, it would fail for every change, and a rule that fails
// asks for its approvals.

package rule

import (
	"fmt"
	"slices"
	"strings"

	"cel.dev/cel-go/common/ast"
)

// ChangeNumbers are the fields of change that are numbers: laptops that get other settings, what
// percentage of the estate they are (a double), edits, laptops that get a weaker value, conflicts
// and problems that begin, and laptops on which a setting alters that cannot be undone, needs a
// restart, asks the person, or can lock them out.
var ChangeNumbers = []string{
	"laptops", "share", "edits", "weaker", "conflicts_gained", "problems_gained", "irreversible", "restarts", "prompts", "lockouts",
}

// ChangeLists are the fields of change that are lists of ids: of what the change edits, and of the
// units and groups whose laptops it reaches. Kinds are lists of the estate format such as policies.
var ChangeLists = []string{"kinds", "areas", "settings", "policies", "units", "groups"}

// ChangeFields lists the fields of change.
func ChangeFields() []string { return slices.Concat(ChangeNumbers, ChangeLists) }

// knownFields refuses an expression that names a field that change does not have: it would fail for
// every change.
func knownFields(checked *ast.AST) (refused *CompileError) {
	info := checked.SourceInfo()
	var look func(e ast.Expr)
	look = func(e ast.Expr) {
		if e.Kind() == ast.SelectKind {
			of, field := e.AsSelect().Operand(), e.AsSelect().FieldName()
			if of.Kind() == ast.IdentKind && of.AsIdent() == "change" && !slices.Contains(ChangeFields(), field) && refused == nil {
				at := info.GetStartLocation(e.ID())
				refused = &CompileError{
					Line: max(1, at.Line()), Column: max(1, at.Column()+1),
					Message: fmt.Sprintf("change has no field %q; it has %s", field, strings.Join(ChangeFields(), ", ")),
				}
			}
		}
		for _, part := range children(e) {
			look(part)
		}
	}
	look(checked.Expr())
	return refused
}
