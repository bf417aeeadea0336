// This file turns devices.csv and people.csv into nodes.

package files

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
)

// table says how the columns of a CSV file become the fields of its objects.
type table struct {
	kind     estate.Kind
	columns  []string // fields of one text
	lists    []string // fields that are lists, separated by spaces
	values   string   // the map that takes all other columns
	reserved []string // names that no other column may bear
}

var tables = map[string]table{
	"devices.csv": {
		estate.KindDevice,
		[]string{"id", "serial", "owner", "unit", "os", "os_version", "edition", "model"},
		[]string{"users", "tags"}, "facts", estate.DeviceNames,
	},
	"people.csv": {
		estate.KindPerson,
		[]string{"id", "name", "mail", "unit"},
		nil, "attributes", estate.PersonNames,
	},
}

// maxColumns is how many columns a table may have.
const maxColumns = 1000

// csvInteger are whole numbers with no leading zero; anything else that looks like one is text.
var csvInteger = regexp.MustCompile(`^(0|-?[1-9][0-9]*)$`)

// parseCSV gives one document with the table's list.
func parseCSV(file string, t table, data []byte) ([]*node, problem.Faults) {
	reader := csv.NewReader(bytes.NewReader(data))
	reader.FieldsPerRecord = -1 // counted here, so that one bad row does not hide the others
	var faults problem.Faults
	refuse := func(code problem.Code, line, column int, found, expected string) {
		faults = append(
			faults,
			problem.Fault{Code: code, Place: problem.Place{File: file, Line: line, Column: column}, Found: found, Expected: expected},
		)
	}
	list := &node{kind: listNode, place: problem.Place{File: file, Line: 1, Column: 1}}
	var header []string
	usable := map[int]bool{}
	for {
		cells, err := reader.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			line, column, found := 0, 0, err.Error()
			var bad *csv.ParseError
			if errors.As(err, &bad) {
				line, column, found = bad.Line, bad.Column, bad.Err.Error()
			}
			refuse(problem.Syntax, line, column, found, "CSV (RFC 4180)")
			break
		}
		if header == nil {
			if header = cells; len(header) > maxColumns {
				refuse(problem.TooMany, 1, 1, fmt.Sprintf("%d columns", len(header)), fmt.Sprintf("at most %d", maxColumns))
				break
			}
			for i, name := range header {
				line, column := reader.FieldPos(i)
				if found, expected, code := t.refuseColumn(header, i); code != "" {
					refuse(code, line, column, found, expected)
					continue
				}
				usable[i] = name != ""
			}
			if !slices.Contains(header, "id") {
				refuse(problem.MissingField, 1, 1, "a header without id", "a column id")
			}
			continue
		}
		if len(cells) != len(header) {
			line, column := reader.FieldPos(0)
			refuse(problem.CellCount, line, column, fmt.Sprintf("%d cells", len(cells)), fmt.Sprintf("%d, as many as "+
				"the header has", len(header)))
			continue
		}
		list.items = append(list.items, t.row(file, header, cells, usable, reader.FieldPos))
	}
	return []*node{{kind: mapNode, place: list.place, fields: []field{{name: string(t.kind), place: list.place, value: list}}}}, faults
}

func (t table) refuseColumn(header []string, i int) (found, expected string, code problem.Code) {
	name := header[i]
	known := slices.Contains(t.columns, name) || slices.Contains(t.lists, name)
	switch {
	case name == "":
		return "a column without a name", "a name in every cell of the header", problem.MissingField
	case slices.Index(header, name) < i:
		return problem.Quote(name), "each column once", problem.DoubledField
	case name == t.values:
		return problem.Quote(name), "a column for each of the " + t.values, problem.UnknownField
	case !known && slices.Contains(t.reserved, name):
		return problem.Quote(name), "a name of its own; these are taken: " + strings.Join(t.reserved, ", "), problem.ReservedName
	}
	return "", "", ""
}

func (t table) row(file string, header, cells []string, usable map[int]bool, position func(int) (int, int)) *node {
	line, column := position(0)
	row := &node{kind: mapNode, place: problem.Place{File: file, Line: line, Column: column}}
	values := &node{kind: mapNode, place: row.place}
	for i, cell := range cells {
		if cell == "" || !usable[i] {
			continue
		}
		line, column := position(i)
		place := problem.Place{File: file, Line: line, Column: column}
		switch name := header[i]; {
		case slices.Contains(t.lists, name):
			items := &node{kind: listNode, place: place}
			for _, word := range strings.Split(cell, " ") {
				if word != "" {
					items.items = append(items.items, &node{kind: textNode, place: place, text: word})
				}
			}
			row.fields = append(row.fields, field{name, place, items})
		case slices.Contains(t.columns, name):
			row.fields = append(row.fields, field{name, place, &node{kind: textNode, place: place, text: cell}})
		default:
			values.fields = append(values.fields, field{name, place, csvValue(cell, place)})
		}
	}
	if len(values.fields) > 0 {
		row.fields = append(row.fields, field{t.values, row.place, values})
	}
	return row
}

// csvValue reads true, false and whole numbers as such; a number that does not fit 64 bits stays
// text.
func csvValue(cell string, place problem.Place) *node {
	if cell == "true" || cell == "false" || csvInteger.MatchString(cell) {
		if n := plainScalar(cell, place); n.kind != numberNode {
			return n
		}
	}
	return &node{kind: textNode, place: place, text: cell}
}
