// This file has the types of values: what each type must know. Each type is in a file of its own.
//
// Nothing outside of these files switches on a type to check a value, to say what is expected, or
// to judge a definition: they ask the behaviour of the type.

package setting

import "zenithridge.example/zridge/core/problem"

// Type is the type of a setting's values.
type Type string

// The types of values.
const (
	TypeBool    Type = "bool"
	TypeInteger Type = "integer"
	TypeText    Type = "text"
	TypeChoice  Type = "choice" // one of the definition's options
	TypeList    Type = "list"   // texts without repeats
	TypeTable   Type = "table"  // rows with the definition's columns
	TypeFile    Type = "file"   // a file, kept by its SHA-256
)

// Types lists every Type.
var Types = []Type{TypeBool, TypeInteger, TypeText, TypeChoice, TypeList, TypeTable, TypeFile}

// typeBehaviour is what the package knows of a type of values. The zero bounds of a Shape limit
// nothing.
type typeBehaviour interface {
	// holds tells whether v has a form that the type has, whatever the bounds are.
	holds(v Value) bool

	// check reports why v, which the type holds, is outside the bounds of s. The path is the place
	// of the value.
	check(s *Shape, path string, v Value) []problem.Fault

	// expectation says in words which values s accepts.
	expectation(s *Shape) string

	// bounds names the fields of a shape that the type uses, as they are named in the estate
	// format.
	bounds() []string

	// validate reports what is wrong with the bounds of s, besides bounds of other types.
	validate(s *Shape, path string) []problem.Fault

	// orders lists the orders of strictness of two values. A type that has none can't combine by
	// `strictest`.
	orders() []Stricter
}

// behaviour gives what is known of a type, nil for a word that is none of Types.
func (t Type) behaviour() typeBehaviour {
	switch t {
	case TypeBool:
		return boolType{}
	case TypeInteger:
		return integerType{}
	case TypeText:
		return textType{}
	case TypeChoice:
		return choiceType{}
	case TypeList:
		return listType{}
	case TypeTable:
		return tableType{}
	case TypeFile:
		return fileType{}
	}
	return nil
}

// Orders lists the orders of strictness that values of the type can have, none where there is no
// order. The type is one of Types.
func (t Type) Orders() []Stricter { return t.behaviour().orders() }

// ordered tells whether of two values of the type one can be the stricter.
func (t Type) ordered() bool { return t.Orders() != nil }

// unbounded is a type without bounds, without an order of strictness, whose values don't merge.
// Types embed it for what they lack.
type unbounded struct{}

// The methods of unbounded say that there is nothing of the kind: no check beyond holds, no bounds
// in a definition, nothing to judge about a definition, and no order of strictness.
func (unbounded) check(*Shape, string, Value) []problem.Fault { return nil }
func (unbounded) bounds() []string                            { return nil }
func (unbounded) validate(*Shape, string) []problem.Fault     { return nil }
func (unbounded) orders() []Stricter                          { return nil }
