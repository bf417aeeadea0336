// This file has the type of choices: one of the options that the definition lists, in the order of
// strictness.

package setting

import (
	"slices"
	"strings"

	"zenithridge.example/zridge/core/problem"
)

// choiceType is the behaviour of a choice among options. Values are texts; where there is an order
// of strictness, options rise in it.
type choiceType struct{ unbounded }

// An option is a text. Among options there is one order, that in which the definition lists them.
func (choiceType) holds(v Value) bool          { return v.kind == Text }
func (choiceType) bounds() []string            { return []string{"options"} }
func (choiceType) orders() []Stricter          { return []Stricter{StricterLater} }
func (choiceType) expectation(s *Shape) string { return "one of " + strings.Join(s.Options, ", ") }

// check tests that the text is one of the options.
func (choiceType) check(s *Shape, path string, v Value) []problem.Fault {
	if slices.Contains(s.Options, v.text) {
		return nil
	}
	return []problem.Fault{{Code: problem.NotOneOf, Path: path, Found: problem.Quote(v.text), Expected: s.Expectation()}}
}

// validate tests that there are options, and each once.
func (choiceType) validate(s *Shape, path string) []problem.Fault {
	at := problem.Join(path, "options")
	var faults []problem.Fault
	if len(s.Options) == 0 {
		faults = append(faults, problem.Fault{Code: problem.MissingField, Path: at, Expected: "at least one option of the choice"})
	}
	return append(faults, NoRepeats(at, s.Options)...)
}
