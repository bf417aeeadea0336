// This file has the type of true and false.

package setting

// boolType is the behaviour of yes and no. Which of the two is stricter is said by each definition.
type boolType struct{ unbounded }

func (boolType) holds(v Value) bool        { return v.kind == Bool }
func (boolType) expectation(*Shape) string { return "true or false" }
func (boolType) orders() []Stricter        { return []Stricter{StricterTrue, StricterFalse} }
