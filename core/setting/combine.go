// This file has the combine rules as definitions name them. How each decides is in package decide,
// below resolve.
//
// A new rule begins here, with a row in the table: its word, and the types whose values it can
// combine. docs/core.md lists what else it touches.

package setting

import "slices"

// Combine is the rule by which the values of several policies become one.
type Combine string

// The combine rules.
const (
	Closest   Combine = "closest"   // the innermost level, then the highest priority
	Strictest Combine = "strictest" // the strictest value, whatever the level
	Merge     Combine = "merge"     // every item of every list, every row of every table
	Common    Combine = "common"    // the items that every list has
)

// combineRules has one row for each Combine.
var combineRules = []struct {
	rule    Combine
	of      func(Type) bool // whether settings of the type can combine by it
	byItems bool            // see ByItems
}{
	{rule: Closest, of: func(Type) bool { return true }},
	{rule: Strictest, of: Type.ordered},
	{rule: Merge, of: oneOf(TypeList, TypeTable), byItems: true},
	{rule: Common, of: oneOf(TypeList), byItems: true},
}

// oneOf gives a function that tells whether a type is among those given.
func oneOf(types ...Type) func(Type) bool {
	return func(t Type) bool { return slices.Contains(types, t) }
}

// Combines lists every Combine.
func Combines() []Combine {
	out := make([]Combine, len(combineRules))
	for i := range combineRules {
		out[i] = combineRules[i].rule
	}
	return out
}

// Combines lists the rules by which settings of the type can combine, Closest first. The type is
// one of Types.
func (t Type) Combines() []Combine {
	var out []Combine
	for i := range combineRules {
		if combineRules[i].of(t) {
			out = append(out, combineRules[i].rule)
		}
	}
	return out
}

// ByItems tells whether the rule makes one value out of the items of all lists, or the rows of all
// tables, so that several policies decide together.
func (c Combine) ByItems() bool {
	for i := range combineRules {
		if combineRules[i].rule == c {
			return combineRules[i].byItems
		}
	}
	return false
}
