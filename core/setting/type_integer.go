// This file has the type of whole numbers, with a lowest and a highest number and a unit of
// measure.

package setting

import (
	"fmt"

	"zenithridge.example/zridge/core/problem"
)

// integerType is the behaviour of whole numbers, with a least and a greatest one and a unit of
// measure.
type integerType struct{ unbounded }

// Of whole numbers the lower or the higher one may be the stricter, as the definition says.
func (integerType) holds(v Value) bool { return v.kind == Integer }
func (integerType) bounds() []string   { return []string{"min", "max", "measure"} }
func (integerType) orders() []Stricter { return []Stricter{StricterLower, StricterHigher} }

// check tests the bounds.
func (integerType) check(s *Shape, path string, v Value) []problem.Fault {
	if s.Min != nil && v.number < *s.Min || s.Max != nil && v.number > *s.Max {
		return []problem.Fault{{Code: problem.OutOfRange, Path: path, Found: v.String(), Expected: s.Expectation()}}
	}
	return nil
}

// expectation names the bounds that there are, with the unit of measure.
func (integerType) expectation(s *Shape) string {
	words := "a whole number"
	switch {
	case s.Min != nil && s.Max != nil:
		words += fmt.Sprintf(" from %d to %d", *s.Min, *s.Max)
	case s.Min != nil:
		words += fmt.Sprintf(" of at least %d", *s.Min)
	case s.Max != nil:
		words += fmt.Sprintf(" of at most %d", *s.Max)
	}
	if s.Measure != "" {
		words += " (" + s.Measure + ")"
	}
	return words
}
