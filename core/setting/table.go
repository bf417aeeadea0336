// This file implements tables and files: values that hold more than one plain thing.
//
// A table keeps a text beside each row that is equal for equal rows (identity). Comparing, sorting
// and joining tables then works on texts, as for lists, and the rows are only carried along.

package setting

import (
	"encoding/json"
	"maps"
	"slices"
	"strings"
)

// File names a file that is kept elsewhere, once, by its SHA-256. Its bytes are no part of a value.
type File struct {
	SHA256 string // lower-case hexadecimal
	Name   string // what people call it; says nothing of the contents
	Size   int64  // bytes
}

// String shows the file's name and the beginning of its hash.
func (f File) String() string {
	return f.Name + " (sha256 " + f.SHA256[:min(12, len(f.SHA256))] + ")"
}

// fileDoc is a file in JSON. In an estate folder `file` is a path, and the rest may be left out.
type fileDoc struct {
	File string `json:"file"`
	Name string `json:"name,omitempty"`
	Size int64  `json:"size,omitempty"`
}

// FileValue holds f.
func FileValue(f File) Value {
	return Value{kind: FileKind, text: f.SHA256, number: f.Size, list: []string{f.Name}}
}

// File is the file that v holds, the zero File for other kinds.
func (v Value) File() File {
	if v.kind != FileKind {
		return File{}
	}
	return File{v.text, v.list[0], v.number}
}

// Row is a row of a table: cells by the name of their column. A cell is a bool, a whole number, a
// text, a list of texts or a file; what is left out is absent. Columns have no order in a row: two
// rows with the same cells are the same row. Rows are immutable.
type Row map[string]Value

// any gives the row as expressions see it.
func (r Row) any() map[string]any {
	out := make(map[string]any, len(r))
	for column, cell := range r {
		out[column] = cell.Any()
	}
	return out
}

// String shows the row as people read it, in the order of the columns' names.
func (r Row) String() string {
	var b strings.Builder
	b.WriteByte('{')
	for i, column := range slices.Sorted(maps.Keys(r)) {
		if i > 0 {
			b.WriteString(", ")
		}
		b.WriteString(column + ": " + r[column].String())
	}
	b.WriteByte('}')
	return b.String()
}

// identity is what tells a row from others: its JSON, made of plain values, so that the text does
// not depend on how a cell is kept. A file stands for its contents, whatever it is called.
func (r Row) identity() string {
	plain := make(map[string]any, len(r))
	for column, cell := range r {
		plain[column] = cell.Any()
		if cell.kind == FileKind {
			plain[column] = map[string]string{"file": cell.text}
		}
	}
	// Keys of a map are written in order, so that equal rows give equal texts.
	text, _ := json.Marshal(plain) // bools, numbers, texts and lists of texts always have a JSON form
	return string(text)
}

// TableValue holds rows, in their order. The caller must not alter them afterwards.
func TableValue(rows []Row) Value {
	if len(rows) == 0 {
		return ListValue(nil)
	}
	// The identities of the rows are kept beside them, so that comparing tables compares texts.
	v := Value{kind: Table, rows: &rows, list: make([]string, len(rows))}
	for i, r := range rows {
		v.list[i] = r.identity()
	}
	return v
}

// Rows is the table that v holds, nil for other kinds. It must not be altered.
func (v Value) Rows() []Row {
	if v.rows == nil {
		return nil
	}
	return *v.rows
}

// EachFile calls f for every file in v, with the place of each below the value: empty, or row and
// column.
func (v Value) EachFile(f func(at []any, file File)) {
	if v.kind == FileKind {
		f(nil, v.File())
	}
	for i, r := range v.Rows() {
		for _, column := range slices.Sorted(maps.Keys(r)) {
			if cell := r[column]; cell.kind == FileKind {
				f([]any{i, column}, cell.File())
			}
		}
	}
}

// WithFiles gives v with each of its files replaced by what f gives for it.
func (v Value) WithFiles(f func(File) File) Value {
	switch v.kind {
	case FileKind:
		return FileValue(f(v.File()))
	case Table:
		rows := make([]Row, len(v.Rows()))
		for i, r := range v.Rows() {
			rows[i] = maps.Clone(r)
			for column, cell := range r {
				rows[i][column] = cell.WithFiles(f)
			}
		}
		return TableValue(rows)
	}
	return v
}

// Union gives every item or row of all values, without repeats, sorted by bytes.
func Union(values []*Value) Value {
	// Values that are merged come in the order of their items in most cases. Then all of them are
	// in order already, and nothing is sorted.
	n := 0
	for _, v := range values {
		n += len(v.list)
	}
	all := make([]string, 0, n)
	var rows map[string]Row
	rising := true
	for _, v := range values {
		for _, item := range v.list {
			rising = rising && (len(all) == 0 || all[len(all)-1] < item)
			all = append(all, item)
		}
		if v.rows == nil {
			continue
		}
		for i, r := range v.Rows() {
			if rows == nil {
				rows = map[string]Row{}
			}
			// Of equal rows the first is kept.
			if _, there := rows[v.list[i]]; !there {
				rows[v.list[i]] = r
			}
		}
	}
	// Out of order, or an item twice.
	if !rising {
		slices.Sort(all)
		all = slices.Compact(all)
	}
	if len(rows) == 0 {
		return ListValue(all)
	}
	ordered := make([]Row, len(all))
	for i, id := range all {
		ordered[i] = rows[id]
	}
	return Value{kind: Table, list: all, rows: &ordered}
}

// SameKey tells whether two different rows of tables claim the same thing: they agree in every
// column of the key. Rows agree in a column that neither has.
func (s *Shape) SameKey(a, b Row) bool {
	for _, column := range s.Key {
		if !a[column].Equal(b[column]) {
			return false
		}
	}
	return len(s.Key) > 0
}

// Conflicts tells whether rows of two tables claim the same thing and say different things about
// it.
func (s *Shape) Conflicts(v, w Value) bool {
	// Without a key, rows never say different things about the same.
	if len(s.Key) == 0 {
		return false
	}
	for i, a := range v.Rows() {
		for j, b := range w.Rows() {
			// Equal rows do not conflict, whatever their key.
			if v.list[i] != w.list[j] && s.SameKey(a, b) {
				return true
			}
		}
	}
	return false
}
