// This file has the type of true and false.
//
// A bool has no bounds. Its order of strictness is always given by the definition: for one setting
// "on" is the stricter value, for another "off" is.

package setting

// boolType is the behaviour of yes and no. Which of the two is stricter is said by each definition.
type boolType struct{ unbounded }

// holds, expectation and orders are those of typeBehaviour.
func (boolType) holds(v Value) bool        { return v.kind == Bool }
func (boolType) expectation(*Shape) string { return "true or false" }
func (boolType) orders() []Stricter        { return []Stricter{StricterTrue, StricterFalse} }
