// This file has the shape of values: a type with its bounds, for a setting and for a column of a
// table alike.
//
// Bounds are what the definition of a setting says beyond its type: a least and a greatest number,
// a pattern, a list of options. Check is the one place in which a value is tested, whether it comes
// from a file, from the API or from the console. What each type does is behind typeBehaviour, in a
// file for each type.

package setting

import (
	"fmt"
	"regexp"
	"slices"

	"zenithridge.example/zridge/core/problem"
)

// Shape is a type with its bounds. Each bound belongs to the types that are named beside it;
// validate reports one that is given with another type. The zero value of a bound is no bound.
type Shape struct {
	Type        Type
	Min, Max    *int64 // integer
	Measure     string // integer: minutes, GB …
	Pattern     *regexp.Regexp
	MaxLength   *int64   // text, in characters
	Format      Format   // text: what it must be beyond a pattern
	Options     []string // choice, in order
	ItemPattern *regexp.Regexp
	MaxItems    *int64 // list, table

	Columns []Column // table
	Key     []string // table: the columns in which no two rows may agree; empty: none
	Content Content  // file
}

// Check reports why v is no value of the shape; nil: it is one. The path is the place of the value.
// v must not be nothing.
func (s *Shape) Check(path string, v Value) []problem.Fault {
	t := s.Type.behaviour()
	if t == nil {
		return nil // the type itself is wrong, which validate reports
	}
	if !t.holds(v) {
		return []problem.Fault{{Code: problem.WrongType, Path: path, Found: v.String() + ", " + v.kind.String(), Expected: s.Expectation()}}
	}
	return t.check(s, path, v)
}

// Expectation says in words which values fit, as a fault has it after "expected".
func (s *Shape) Expectation() string {
	if t := s.Type.behaviour(); t != nil {
		return t.expectation(s)
	}
	return "a value"
}

// bounds names the fields of a shape that are given besides its type.
func (s *Shape) bounds() []string {
	// In the order of the format, in which faults are reported.
	var given []string
	for _, field := range []struct {
		name  string
		given bool
	}{
		{"min", s.Min != nil}, {"max", s.Max != nil}, {"measure", s.Measure != ""},
		{"pattern", s.Pattern != nil}, {"max_length", s.MaxLength != nil}, {"format", s.Format != ""},
		{"options", s.Options != nil}, {"item_pattern", s.ItemPattern != nil}, {"max_items", s.MaxItems != nil},
		{"columns", s.Columns != nil}, {"key", s.Key != nil}, {"content", s.Content != ""},
	} {
		if field.given {
			given = append(given, field.name)
		}
	}
	return given
}

// validate reports what is wrong with the shape itself. Its type is one of Types.
func (s *Shape) validate(path string) []problem.Fault {
	t := s.Type.behaviour()
	var faults []problem.Fault
	for _, name := range s.bounds() {
		if slices.Contains(t.bounds(), name) {
			continue
		}
		// The fault names the first type that has such a bound, so that the author sees where the
		// field belongs.
		first := slices.IndexFunc(Types, func(other Type) bool { return slices.Contains(other.behaviour().bounds(), name) })
		faults = append(faults, problem.Fault{
			Code: problem.MisplacedField, Path: problem.Join(path, name), Found: name + " with type " + string(s.Type),
			Expected: "no such field unless the type is " + string(Types[first]),
		})
	}
	// No number would fit.
	if s.Min != nil && s.Max != nil && *s.Min > *s.Max {
		faults = append(faults, problem.Fault{
			Code:     problem.OutOfRange,
			Path:     problem.Join(path, "min"),
			Found:    fmt.Sprintf("min %d above max %d", *s.Min, *s.Max),
			Expected: "min at most max",
		})
	}
	for name, bound := range map[string]*int64{"max_length": s.MaxLength, "max_items": s.MaxItems} {
		if bound != nil && *bound < 0 {
			faults = append(
				faults,
				problem.Fault{Code: problem.OutOfRange, Path: problem.Join(path, name), Found: fmt.Sprint(*bound), Expected: "0 or more"},
			)
		}
	}
	// The type looks at what only it has: options, columns, the content of a file.
	return append(faults, t.validate(s, path)...)
}
