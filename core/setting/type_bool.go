// This file has the type of true and false.

package setting

type boolType struct{ unbounded }

func (boolType) holds(v Value) bool        { return v.kind == Bool }
func (boolType) expectation(*Shape) string { return "true or false" }
func (boolType) orders() []Stricter        { return []Stricter{StricterTrue, StricterFalse} }
