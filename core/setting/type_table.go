// This file has the type of tables: rows whose cells are in the columns that the definition lists.
//
// A table holds what a single value cannot: rules for applications, management nodes, certificates.
// Each column is a Shape of its own, with a type, bounds and options, so that a cell is checked
// like a value. A cell may be left out unless its column is required. Rows have no order: they are
// kept sorted, and rows of several policies are put together.

package setting

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/problem"
)

// Reads says which fact of an application's file fills a column, so that nobody types it.
type Reads string

// Facts of an application that a column may be filled from.
const (
	ReadsName       Reads = "name"
	ReadsIdentifier Reads = "identifier"
	ReadsVersion    Reads = "version"
	ReadsSigner     Reads = "signer"
)

// ReadsWords lists every Reads.
var ReadsWords = []Reads{ReadsName, ReadsIdentifier, ReadsVersion, ReadsSigner}

// Store says what a laptop takes the certificates of a column for.
type Store string

const (
	StoreRoots         Store = "roots"         // authorities that are trusted by themselves
	StoreIntermediates Store = "intermediates" // authorities between a trusted one and a site
)

// Stores lists every Store.
var Stores = []Store{StoreRoots, StoreIntermediates}

// Column is a column of a table.
type Column struct {
	// Name is the key of the cell in files and in the API. Title and Help are shown to people.
	Name     string
	Title    string
	Help     string
	Required bool
	Reads    Reads // filled from an application's file
	Store    Store // of files of certificates: what the laptop takes them for
	Shape
}

// ColumnTypes lists the types that a column may have.
var ColumnTypes = []Type{TypeBool, TypeInteger, TypeText, TypeChoice, TypeList, TypeFile}

// Column gives a column by name, nil when there is none.
func (s *Shape) Column(name string) *Column {
	for i := range s.Columns {
		if s.Columns[i].Name == name {
			return &s.Columns[i]
		}
	}
	return nil
}

// tableType is the behaviour of tables. Rows of several policies are put together by merge; they
// have no order of strictness.
type tableType struct{ unbounded }

// holds accepts an empty list, too: that is how a table without rows is written.
func (tableType) holds(v Value) bool {
	return v.kind == Table || v.kind == List && len(v.list) == 0
}

// bounds names what a definition of the type may have.
func (tableType) bounds() []string { return []string{"max_items", "columns", "key"} }

// expectation names the columns, which is what people get wrong most often.
func (tableType) expectation(s *Shape) string {
	words := "a table"
	if s.MaxItems != nil {
		words += fmt.Sprintf(" of at most %d rows", *s.MaxItems)
	}
	return words + " with the columns " + strings.Join(s.columnNames(), ", ")
}

// check tests the number of rows, each row, and that no row is there twice.
func (tableType) check(s *Shape, path string, v Value) []problem.Fault {
	var faults []problem.Fault
	if s.MaxItems != nil && int64(len(v.Rows())) > *s.MaxItems {
		faults = append(
			faults,
			problem.Fault{Code: problem.OutOfRange, Path: path, Found: fmt.Sprintf("%d rows", len(v.Rows())), Expected: s.Expectation()},
		)
	}
	// Each row is checked by itself, then against the rows before it: two rows may not be equal,
	// and may not agree in the key.
	for i, row := range v.Rows() {
		faults = append(faults, s.checkRow(problem.Join(path, i), row)...)
		// v.list has a text for each row that is equal for equal rows.
		for j := range i {
			if v.list[i] == v.list[j] || s.SameKey(row, v.Rows()[j]) {
				expected := fmt.Sprintf("each row once; it is row %d already", j+1)
				if len(s.Key) > 0 {
					expected = fmt.Sprintf("one row for the same %s; row %d has it already", strings.Join(s.Key, " and "), j+1)
				}
				faults = append(faults, problem.Fault{Code: problem.DoubledItem, Path: problem.Join(path, i), Found: row.String(), Expected: expected})
				break
			}
		}
	}
	return faults
}

// checkRow tests the cells of a row, in the order of their names, and then what is missing.
func (s *Shape) checkRow(path string, row Row) []problem.Fault {
	var faults []problem.Fault
	for _, name := range slices.Sorted(maps.Keys(row)) {
		at := problem.Join(path, name)
		c := s.Column(name)
		if c == nil {
			faults = append(
				faults,
				problem.Fault{
					Code:     problem.UnknownField,
					Path:     at,
					Found:    problem.Quote(name),
					Expected: "one of the columns " + strings.Join(s.columnNames(), ", "),
				},
			)
			continue
		}
		// Where a cell holds something of another type, Check says so.
		faults = append(faults, c.Check(at, row[name])...)
	}
	// Columns that must be there are looked for in every row.
	for i := range s.Columns {
		c := &s.Columns[i]
		if cell, there := row[c.Name]; c.Required && (!there || cell.IsNothing()) {
			faults = append(faults, problem.Fault{Code: problem.MissingField, Path: problem.Join(path, c.Name), Expected: c.Expectation()})
		}
	}
	return faults
}

// columnNames lists the names of the columns, in the order of the definition.
func (s *Shape) columnNames() []string {
	names := make([]string, len(s.Columns))
	for i := range s.Columns {
		names[i] = s.Columns[i].Name
	}
	return names
}

// columnName is what a column may be called. Rows are written with column names as keys, and "file"
// is the key of a file there.
var columnName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,63}$`)

// validate tests the columns of a definition: their names, types and bounds, and the columns of the
// key.
func (tableType) validate(s *Shape, path string) []problem.Fault {
	var faults []problem.Fault
	if len(s.Columns) == 0 {
		faults = append(
			faults,
			problem.Fault{Code: problem.MissingField, Path: problem.Join(path, "columns"), Expected: "at least one column of the table"},
		)
	}
	seen := map[string]bool{}
	for i := range s.Columns {
		c := &s.Columns[i]
		at := problem.Join(path, "columns", i)
		switch {
		case c.Name == "":
			faults = append(faults, problem.Fault{Code: problem.MissingField, Path: problem.Join(at, "name"), Expected: "the column's name"})
		case !columnName.MatchString(c.Name) || c.Name == "file":
			faults = append(
				faults,
				problem.Fault{
					Code:     problem.BadID,
					Path:     problem.Join(at, "name"),
					Found:    problem.Quote(c.Name),
					Expected: "lower-case letters, digits and underscores, starting with a letter, other than `file`",
				},
			)
		case seen[c.Name]:
			faults = append(
				faults,
				problem.Fault{Code: problem.DoubledID, Path: problem.Join(at, "name"), Found: problem.Quote(c.Name), Expected: "a name of its own"},
			)
		}
		seen[c.Name] = true
		// A column may not be a table: tables are not nested. With an unknown type the bounds
		// cannot be judged.
		typed := OneOf(problem.Join(at, "type"), c.Type, ColumnTypes)
		faults = append(faults, typed...)
		if len(typed) == 0 {
			faults = append(faults, c.Shape.validate(at)...)
		}
		// Only certificates are put into stores.
		if c.Store != "" && c.Content != CertificateFile {
			faults = append(faults, problem.Fault{
				Code: problem.MisplacedField, Path: problem.Join(at, "store"), Found: problem.Quote(string(c.Store)),
				Expected: "none, unless the content is certificate",
			})
		} else if c.Store != "" {
			faults = append(faults, OneOf(problem.Join(at, "store"), c.Store, Stores)...)
		}
		if c.Reads != "" {
			faults = append(faults, OneOf(problem.Join(at, "reads"), c.Reads, ReadsWords)...)
		}
	}
	// Two rows may not agree in all columns of the key.
	for i, name := range s.Key {
		if !seen[name] {
			faults = append(
				faults,
				problem.Fault{
					Code:     problem.UnknownReference,
					Path:     problem.Join(path, "key", i),
					Found:    problem.Quote(name),
					Expected: "the name of a column",
				},
			)
		}
	}
	return append(faults, NoRepeats(problem.Join(path, "key"), s.Key)...)
}
