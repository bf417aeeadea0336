// Package directory reads people, units, groups and laptops from where a company keeps them: an
// LDAP directory or a table as CSV. (SCIM clients write by themselves; package scim speaks their
// protocol.) A reading is what is there, in the estate format but for ids and references, which are
// named by the keys that are stable at the source. It keeps nothing and decides nothing: what
// differs, what has left and what it does to laptops is found out where readings are taken in.
package directory

import (
	"cmp"
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
)

// Record is one thing at a source.
type Record struct {
	Kind  estate.Kind
	Key   string // stable at the source: it survives renaming
	Place string // where it is there, normalised; empty where that means nothing
	Wants string // the id that it would have in the estate
	Match string // a serial number or mail address by which it may be known already
	// Fields are those of the estate format that the source brings, without the id and without what
	// stands below.
	Fields map[string]any
	Unit   Ref            // of a person or device; its parent, of a unit
	Owner  Ref            // of a device
	Users  []Ref          // of a device
	Member []Ref          // of a group; nil: the source does not say
	Line   int            // in the file, from 1; 0: no file
	Faulty bool           // it is there and can't be taken as it is
	Rest   map[string]any // what is kept beside it, to be read again
}

// Ref names another thing: by its key at the source, or by its id, title, mail or serial number in
// the estate.
type Ref struct {
	Key  string
	Name string
}

// IsZero tells whether nothing is named.
func (r Ref) IsZero() bool { return r == Ref{} }

// Gone names something that has left.
type Gone struct {
	Kind estate.Kind
	Key  string
}

// Reading is what a source gave.
type Reading struct {
	Records []Record
	Kinds   []estate.Kind // that the reading covers
	Full    bool          // what is not in it has left
	Mark    string        // up to where it was read
	Faults  problem.Faults
	Left    []Gone // what the source says has left, one by one
	// MemberOf are alterations of groups where people say in which groups they are: by person key
	// the keys of all groups.
	MemberOf map[string][]string
}

// Progress is told how far a reading is: things read so far, and of how many, 0 where that is not
// known.
type Progress func(done, of int64)

// sorted orders records by kind, in the order of the format, then by key.
func sorted(records []Record) {
	slices.SortStableFunc(records, func(a, b Record) int {
		return cmp.Or(cmp.Compare(slices.Index(estate.Kinds, a.Kind), slices.Index(estate.Kinds, b.Kind)), cmp.Compare(a.Key, b.Key))
	})
}
