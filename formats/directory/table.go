// This file reads tables of laptops or people as CSV (RFC 4180), by a mapping of columns to fields.

package directory

import (
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
)

// Table says how a table is read.
type Table struct {
	Of        estate.Kind       `json:"of" enum:"devices,people" doc:"What a row is"`
	Columns   map[string]string `json:"columns" doc:"From the name of a column to a field: serial, owner …, facts/NAME or attributes/NAME; columns that are not named are left out"`
	Key       string            `json:"key" enum:"serial,id,mail" doc:"The field by which a row is known again"`
	Whole     bool              `json:"whole" doc:"The table lists everything: what is no longer in it has left"`
	Encoding  string            `json:"encoding,omitempty" doc:"As IANA names it; UTF-8, or what a byte order mark says, where it is left out" maxLength:"40"`
	Separator string            `json:"separator,omitempty" enum:",;|,tab" doc:"Found out where it is left out"`
}

// MaxRows bounds a table, and MaxCell a cell in bytes.
const (
	MaxRows = 250_000
	MaxCell = 4096
	// MaxFaults is how many faults are told; reading goes on to count the rest.
	MaxFaults = 1000
)

// deviceFields and personFields are what a column can be mapped to, besides facts and attributes.
var (
	deviceFields = []string{"serial", "id", "owner", "users", "unit", "os", "os_version", "edition", "model", "tags"}
	personFields = []string{"id", "name", "mail", "unit"}
)

// Fields lists what a column of the table can be mapped to.
func (t *Table) Fields() []string {
	if t.Of == estate.KindPerson {
		return personFields
	}
	return deviceFields
}

func (t *Table) prefix() string {
	if t.Of == estate.KindPerson {
		return "attributes/"
	}
	return "facts/"
}

// Check says what is wrong with the mapping by itself.
func (t *Table) Check() problem.Faults {
	var faults problem.Faults
	refuse := func(code problem.Code, path, found, expected string) {
		faults = append(faults, problem.Fault{Code: code, Path: path, Found: found, Expected: expected})
	}
	if t.Of != estate.KindDevice && t.Of != estate.KindPerson {
		refuse(problem.NotOneOf, "/table/of", problem.Quote(string(t.Of)), "devices or people")
		return faults
	}
	reserved := append(append([]string{}, estate.DeviceNames...), "owner", "users")
	if t.Of == estate.KindPerson {
		reserved = estate.PersonNames
	}
	by := map[string]string{}
	names := make([]string, 0, len(t.Columns))
	for name := range t.Columns {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, name := range names {
		field := t.Columns[name]
		at := problem.Join("/table/columns", name)
		inner, deep := strings.CutPrefix(field, t.prefix())
		switch {
		case field == "":
			continue
		case deep && (inner == "" || strings.Contains(inner, "/")):
			refuse(problem.BadID, at, problem.Quote(field), "a name after "+t.prefix())
		case deep && slices.Contains(reserved, inner):
			refuse(problem.ReservedName, at, problem.Quote(inner), "a name of its own; these are taken: "+strings.Join(reserved, ", "))
		case !deep && !slices.Contains(t.Fields(), field):
			refuse(problem.NotOneOf, at, problem.Quote(field), "one of "+strings.Join(t.Fields(), ", ")+" or "+t.prefix()+"NAME")
		case by[field] != "":
			refuse(problem.DoubledField, at, problem.Quote(field), "each field from one column; "+problem.Quote(by[field])+" brings it already")
		}
		by[field] = name
	}
	keys := []string{"serial", "id"}
	if t.Of == estate.KindPerson {
		keys = []string{"mail", "id"}
	}
	if !slices.Contains(keys, t.Key) {
		refuse(problem.NotOneOf, "/table/key", problem.Quote(t.Key), strings.Join(keys, " or "))
	} else if by[t.Key] == "" {
		refuse(problem.MissingField, "/table/columns", "no column for "+t.Key, "a column for the key, "+t.Key)
	}
	if t.Of == estate.KindDevice {
		for _, need := range []string{"os", "os_version"} {
			if by[need] == "" {
				refuse(problem.MissingField, "/table/columns", "no column for "+need, "a column for "+need)
			}
		}
	}
	if _, err := decoderOf(t.Encoding); err != nil {
		refuse(problem.NotOneOf, "/table/encoding", problem.Quote(t.Encoding), "a character set as IANA names it, such as utf-8 "+
			"or iso-8859-1")
	}
	return faults
}

// previewRows is how many rows a preview has.
const previewRows = 20
