// Package problem names what can be wrong with an estate: every fault has a code that is never
// renamed, a place, what was found there and what was expected. It holds no wording beyond those
// parameters; the command line and the console phrase them.
//
// A fault stops the load that found it. Conflicts and problems of laptops, and lints, are findings:
// they come with a result and live in package resolve.
package problem

import (
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// Place is a position in a file. Line and Column count from 1; zero means that the place is the
// whole file, or that the input was no file.
type Place struct {
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty"`
	Column int    `json:"column,omitempty"`
}

// String gives file:line:column, without what is not known.
func (p Place) String() string {
	switch {
	case p.Line == 0:
		return p.File
	case p.File == "":
		return fmt.Sprintf("%d:%d", p.Line, p.Column)
	}
	return fmt.Sprintf("%s:%d:%d", p.File, p.Line, p.Column)
}

// Fault is one thing that keeps an input from being taken.
type Fault struct {
	Code     Code   `json:"code"`
	Path     string `json:"path,omitempty"` // JSON Pointer (RFC 6901) into the estate: /policies/3/kind
	Place    Place  `json:"place,omitzero"`
	Found    string `json:"found,omitempty"`
	Expected string `json:"expected,omitempty"`
}

// Error gives the fault in one line, place first.
func (f Fault) Error() string {
	var b strings.Builder
	if at := f.Place.String(); at != "" {
		b.WriteString(at + ": ")
	} else if f.Path != "" {
		b.WriteString(f.Path + ": ")
	}
	b.WriteString(string(f.Code))
	if f.Found != "" {
		b.WriteString(": found " + f.Found)
	}
	if f.Expected != "" {
		b.WriteString("; expected " + f.Expected)
	}
	return b.String()
}

// Faults is an error made of every fault of one input, in the order of their places.
type Faults []Fault

// Error gives one fault a line.
func (fs Faults) Error() string {
	lines := make([]string, len(fs))
	for i, f := range fs {
		lines[i] = f.Error()
	}
	return strings.Join(lines, "\n")
}

// Sort orders by file, line, column, path and code, so that equal inputs give equal reports.
func (fs Faults) Sort() {
	slices.SortStableFunc(fs, func(a, b Fault) int {
		// Faults of an input that is no file have no place, and are ordered by path.
		return cmp.Or(cmp.Compare(a.Place.File, b.Place.File), cmp.Compare(a.Place.Line, b.Place.Line),
			cmp.Compare(a.Place.Column, b.Place.Column), cmp.Compare(a.Path, b.Path), cmp.Compare(a.Code, b.Code))
	})
}

// escaper and unescaper are the escapes of RFC 6901.
var (
	escaper   = strings.NewReplacer("~", "~0", "/", "~1")
	unescaper = strings.NewReplacer("~1", "/", "~0", "~")
)

// Join appends keys to a JSON Pointer. A key is text, or a whole number for a place in a list.
func Join(path string, keys ...any) string {
	var b strings.Builder
	b.WriteString(path)
	for _, key := range keys {
		b.WriteByte('/')
		switch k := key.(type) {
		case int:
			b.WriteString(strconv.Itoa(k))
		case string:
			if strings.ContainsAny(k, "~/") {
				k = escaper.Replace(k)
			}
			b.WriteString(k)
		default:
			panic(fmt.Sprintf("problem: a path key must be an int or a string, not %T", key))
		}
	}
	return b.String()
}

// Split takes a JSON Pointer apart into its keys.
func Split(path string) []string {
	if path == "" {
		return nil
	}
	// A pointer begins with a slash, before which there is nothing.
	keys := strings.Split(path[1:], "/")
	for i, k := range keys {
		keys[i] = unescaper.Replace(k)
	}
	return keys
}

// Quote shows a piece of input, cut where it is long.
func Quote(s string) string {
	const most = 80
	if len(s) > most {
		cut := most
		for cut > 0 && s[cut]&0xC0 == 0x80 { // never inside a character
			cut--
		}
		return strconv.Quote(s[:cut]) + "…"
	}
	return strconv.Quote(s)
}
