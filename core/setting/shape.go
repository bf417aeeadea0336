// This file has the shape of values: their type and bounds, for a setting and for a column of a table alike.

package setting

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"zenithridge.example/zridge/core/problem"
)

// Content says what must be in a file.
type Content string

const (
	AnyContent        Content = "any"
	CertificateFile   Content = "certificate"       // one X.509 certificate or a chain
	RulesFile         Content = "application-rules" // a rule set of application control
	ApplicationFile   Content = "application"       // what names an application and its signer
	NoContentDemanded Content = ""                  // the same as any
)

// Contents lists every Content that a definition may demand.
var Contents = []Content{AnyContent, CertificateFile, RulesFile, ApplicationFile}

// Format names a check of texts that a pattern can't say well.
type Format string

// NodePath is the path of a node of a laptop's management tree (OMA Device Management, Tree and Description 1.2, section 7).
const NodePath Format = "node-path"

// Formats lists every Format.
var Formats = []Format{NodePath}

var nodeName = regexp.MustCompile(`^[A-Za-z0-9._~%@:+-]+$`)

// checkNodePath says what is wrong with a path, empty when nothing is.
func checkNodePath(path string) (wrong, expected string) {
	rest, rooted := strings.CutPrefix(path, "./")
	switch {
	case !rooted:
		return "it does not start at the root", "a path that starts with ./"
	case strings.ContainsAny(path, "{}"):
		return "a brace is left in it", "the id itself, with no { or } around it"
	case strings.Contains(path, "//"):
		return "a slash is doubled", "one slash between two names"
	case strings.HasSuffix(path, "/"):
		return "it ends with a slash", "a path that ends with the name of a node"
	}
	for name := range strings.SplitSeq(rest, "/") {
		if name == "." || name == ".." {
			return "it has the relative part " + name, "every name written out"
		}
		if !nodeName.MatchString(name) {
			return "the name " + problem.Quote(name) + " has a character that names can't have", "letters, digits and . _ ~ % @ : + - in each name; others as %XX"
		}
	}
	return "", ""
}

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

// Shape is a type with its bounds.
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

// Column is a column of a table.
type Column struct {
	Name     string
	Title    string
	Help     string
	Required bool
	Reads    Reads // filled from an application's file
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

func (s *Shape) holds(k ValueKind) bool {
	switch s.Type {
	case TypeBool:
		return k == Bool
	case TypeInteger:
		return k == Integer
	case TypeText, TypeChoice:
		return k == Text
	case TypeList:
		return k == List
	case TypeTable:
		return k == Table || k == List
	case TypeFile:
		return k == FileKind
	}
	return true // the type itself is wrong and reported there
}

// Check reports why v is no value of the shape, with path as the place of the value.
func (s *Shape) Check(path string, v Value) []problem.Fault {
	fault := func(code problem.Code, found, expected string) []problem.Fault {
		return []problem.Fault{{Code: code, Path: path, Found: found, Expected: expected}}
	}
	if !s.holds(v.kind) || s.Type == TypeTable && v.kind == List && len(v.list) > 0 {
		return fault(problem.WrongType, v.String()+", "+v.kind.String(), s.Expectation())
	}
	switch s.Type {
	case TypeInteger:
		if s.Min != nil && v.number < *s.Min || s.Max != nil && v.number > *s.Max {
			return fault(problem.OutOfRange, v.String(), s.Expectation())
		}
	case TypeText:
		if s.MaxLength != nil && int64(utf8.RuneCountInString(v.text)) > *s.MaxLength {
			return fault(problem.OutOfRange, fmt.Sprintf("%d characters", utf8.RuneCountInString(v.text)), s.Expectation())
		}
		if s.Pattern != nil && !s.Pattern.MatchString(v.text) {
			return fault(problem.PatternMismatch, problem.Quote(v.text), s.Expectation())
		}
		if s.Format == NodePath {
			if wrong, expected := checkNodePath(v.text); wrong != "" {
				return fault(problem.BadPath, problem.Quote(v.text)+": "+wrong, expected)
			}
		}
	case TypeChoice:
		if !slices.Contains(s.Options, v.text) {
			return fault(problem.NotOneOf, problem.Quote(v.text), s.Expectation())
		}
	case TypeList:
		return s.checkItems(path, v.list)
	case TypeTable:
		return s.checkRows(path, v)
	case TypeFile:
		if !IsSHA256(v.text) {
			return fault(problem.BadHash, problem.Quote(v.text), "the SHA-256 of a file: 64 hexadecimal digits, lower case")
		}
	}
	return nil
}

// IsSHA256 tells whether text is a SHA-256 in lower-case hexadecimal.
func IsSHA256(text string) bool {
	return len(text) == 64 && strings.Trim(text, "0123456789abcdef") == ""
}

func (s *Shape) checkItems(path string, items []string) []problem.Fault {
	faults := NoRepeats(path, items)
	if s.MaxItems != nil && int64(len(items)) > *s.MaxItems {
		faults = append(faults, problem.Fault{Code: problem.OutOfRange, Path: path, Found: fmt.Sprintf("%d items", len(items)), Expected: s.Expectation()})
	}
	for i, item := range items {
		if s.ItemPattern != nil && !s.ItemPattern.MatchString(item) {
			faults = append(faults, problem.Fault{
				Code: problem.PatternMismatch, Path: problem.Join(path, i),
				Found: problem.Quote(item), Expected: "an item that matches " + s.ItemPattern.String(),
			})
		}
	}
	return faults
}

func (s *Shape) checkRows(path string, v Value) []problem.Fault {
	var faults []problem.Fault
	if s.MaxItems != nil && int64(len(v.Rows())) > *s.MaxItems {
		faults = append(faults, problem.Fault{Code: problem.OutOfRange, Path: path, Found: fmt.Sprintf("%d rows", len(v.Rows())), Expected: s.Expectation()})
	}
	for i, row := range v.Rows() {
		faults = append(faults, s.checkRow(problem.Join(path, i), row)...)
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

func (s *Shape) checkRow(path string, row Row) []problem.Fault {
	var faults []problem.Fault
	for _, name := range slices.Sorted(maps.Keys(row)) {
		at := problem.Join(path, name)
		c := s.Column(name)
		if c == nil {
			faults = append(faults, problem.Fault{Code: problem.UnknownField, Path: at, Found: problem.Quote(name), Expected: "one of the columns " + strings.Join(s.columnNames(), ", ")})
			continue
		}
		faults = append(faults, c.Check(at, row[name])...)
	}
	for i := range s.Columns {
		c := &s.Columns[i]
		if cell, there := row[c.Name]; c.Required && (!there || cell.IsNothing()) {
			faults = append(faults, problem.Fault{Code: problem.MissingField, Path: problem.Join(path, c.Name), Expected: c.Expectation()})
		}
	}
	return faults
}

func (s *Shape) columnNames() []string {
	names := make([]string, len(s.Columns))
	for i := range s.Columns {
		names[i] = s.Columns[i].Name
	}
	return names
}

// Expectation says in words which values fit.
func (s *Shape) Expectation() string {
	switch s.Type {
	case TypeBool:
		return "true or false"
	case TypeInteger:
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
	case TypeText:
		words := "text"
		if s.MaxLength != nil {
			words += " of at most " + strconv.FormatInt(*s.MaxLength, 10) + " characters"
		}
		if s.Pattern != nil {
			words += " that matches " + s.Pattern.String()
		}
		if s.Format == NodePath {
			words = "the path of a management node, such as ./Device/Plotter/KeepAwake"
		}
		return words
	case TypeChoice:
		return "one of " + strings.Join(s.Options, ", ")
	case TypeList:
		if s.MaxItems != nil {
			return fmt.Sprintf("a list of at most %d texts", *s.MaxItems)
		}
		return "a list of texts"
	case TypeTable:
		words := "a table"
		if s.MaxItems != nil {
			words += fmt.Sprintf(" of at most %d rows", *s.MaxItems)
		}
		return words + " with the columns " + strings.Join(s.columnNames(), ", ")
	case TypeFile:
		switch s.Content {
		case CertificateFile:
			return "a file with a certificate"
		case RulesFile:
			return "a file with a rule set of application control"
		case ApplicationFile:
			return "the file of an application"
		}
		return "a file"
	}
	return "a value"
}

// validate reports what is wrong with the shape itself.
func (s *Shape) validate(path string) []problem.Fault {
	at := func(keys ...any) string { return problem.Join(path, keys...) }
	var faults []problem.Fault
	for _, field := range []struct {
		name    string
		present bool
		of      []Type
	}{
		{"min", s.Min != nil, []Type{TypeInteger}},
		{"max", s.Max != nil, []Type{TypeInteger}},
		{"measure", s.Measure != "", []Type{TypeInteger}},
		{"pattern", s.Pattern != nil, []Type{TypeText}},
		{"max_length", s.MaxLength != nil, []Type{TypeText}},
		{"format", s.Format != "", []Type{TypeText}},
		{"options", s.Options != nil, []Type{TypeChoice}},
		{"item_pattern", s.ItemPattern != nil, []Type{TypeList}},
		{"max_items", s.MaxItems != nil, []Type{TypeList, TypeTable}},
		{"columns", s.Columns != nil, []Type{TypeTable}},
		{"key", s.Key != nil, []Type{TypeTable}},
		{"content", s.Content != "", []Type{TypeFile}},
	} {
		if field.present && !slices.Contains(field.of, s.Type) {
			faults = append(faults, problem.Fault{Code: problem.MisplacedField, Path: at(field.name), Found: field.name + " with type " + string(s.Type), Expected: "no such field unless the type is " + string(field.of[0])})
		}
	}
	if s.Min != nil && s.Max != nil && *s.Min > *s.Max {
		faults = append(faults, problem.Fault{Code: problem.OutOfRange, Path: at("min"), Found: fmt.Sprintf("min %d above max %d", *s.Min, *s.Max), Expected: "min at most max"})
	}
	for name, bound := range map[string]*int64{"max_length": s.MaxLength, "max_items": s.MaxItems} {
		if bound != nil && *bound < 0 {
			faults = append(faults, problem.Fault{Code: problem.OutOfRange, Path: at(name), Found: fmt.Sprint(*bound), Expected: "0 or more"})
		}
	}
	if s.Type == TypeChoice {
		if len(s.Options) == 0 {
			faults = append(faults, problem.Fault{Code: problem.MissingField, Path: at("options"), Expected: "at least one option of the choice"})
		}
		faults = append(faults, NoRepeats(at("options"), s.Options)...)
	}
	if s.Format != "" && s.Type == TypeText {
		faults = append(faults, OneOf(at("format"), s.Format, Formats)...)
	}
	if s.Content != "" && s.Type == TypeFile {
		faults = append(faults, OneOf(at("content"), s.Content, Contents)...)
	}
	if s.Type == TypeTable {
		faults = append(faults, s.validateColumns(path)...)
	}
	return faults
}

var columnName = regexp.MustCompile(`^[a-z][a-z0-9_]{0,63}$`)

func (s *Shape) validateColumns(path string) []problem.Fault {
	var faults []problem.Fault
	if len(s.Columns) == 0 {
		faults = append(faults, problem.Fault{Code: problem.MissingField, Path: problem.Join(path, "columns"), Expected: "at least one column of the table"})
	}
	seen := map[string]bool{}
	for i := range s.Columns {
		c := &s.Columns[i]
		at := problem.Join(path, "columns", i)
		switch {
		case c.Name == "":
			faults = append(faults, problem.Fault{Code: problem.MissingField, Path: problem.Join(at, "name"), Expected: "the column's name"})
		case !columnName.MatchString(c.Name) || c.Name == "file":
			faults = append(faults, problem.Fault{Code: problem.BadID, Path: problem.Join(at, "name"), Found: problem.Quote(c.Name), Expected: "lower-case letters, digits and underscores, starting with a letter, other than `file`"})
		case seen[c.Name]:
			faults = append(faults, problem.Fault{Code: problem.DoubledID, Path: problem.Join(at, "name"), Found: problem.Quote(c.Name), Expected: "a name of its own"})
		}
		seen[c.Name] = true
		typed := OneOf(problem.Join(at, "type"), c.Type, ColumnTypes)
		faults = append(faults, typed...)
		if len(typed) == 0 {
			faults = append(faults, c.Shape.validate(at)...)
		}
		if c.Reads != "" {
			faults = append(faults, OneOf(problem.Join(at, "reads"), c.Reads, ReadsWords)...)
		}
	}
	for i, name := range s.Key {
		if !seen[name] {
			faults = append(faults, problem.Fault{Code: problem.UnknownReference, Path: problem.Join(path, "key", i), Found: problem.Quote(name), Expected: "the name of a column"})
		}
	}
	return append(faults, NoRepeats(problem.Join(path, "key"), s.Key)...)
}

// ContentAt says what must be in the file at a place below a value, as Value.EachFile gives it.
func (s *Shape) ContentAt(at []any) Content {
	if len(at) == 2 {
		if c := s.Column(at[1].(string)); c != nil {
			return c.Content
		}
		return AnyContent
	}
	return s.Content
}
