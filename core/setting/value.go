// This file implements values: what an entry, an exception or a fact holds.
//
// Values are compared in three ways. Equal is what people mean by the same. Compare is an order in
// which equal values are neighbours. AppendIdentity gives bytes by which values are looked up in
// maps. The three agree with each other, which a test shows.

package setting

import (
	"cmp"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"strings"
)

// ValueKind says which of the forms a value has.
type ValueKind uint8

const (
	Nothing ValueKind = iota // no value: the zero Value
	Bool
	Integer
	Text     // also what a choice holds
	List     // of texts; an empty table is an empty list
	Table    // rows of cells
	FileKind // a file
)

// String names the kind as fault messages do.
func (k ValueKind) String() string {
	return [...]string{"nothing", "a bool", "a whole number", "text", "a list of texts", "a table", "a file"}[k]
}

// Value is a bool, a whole number, a text, a list of texts, a table or a file. The zero Value holds
// nothing. Values are immutable: the list or rows of one must not be altered. One struct for all
// kinds instead of an interface: values are compared and copied in large numbers, and this needs no
// memory for most.
type Value struct {
	kind   ValueKind
	number int64    // of a bool: 0 or 1; of a file: its size
	text   string   // of a file: its SHA-256
	list   []string // of a table: what tells its rows apart; of a file: its name
	// The rows are behind a pointer so that a Value stays small: few values are tables.
	rows *[]Row
}

// BoolValue holds b.
func BoolValue(b bool) Value {
	if b {
		return Value{kind: Bool, number: 1}
	}
	return Value{kind: Bool}
}

// IntegerValue holds n.
func IntegerValue(n int64) Value { return Value{kind: Integer, number: n} }

// TextValue holds s.
func TextValue(s string) Value { return Value{kind: Text, text: s} }

// ListValue holds items, in their order. The caller must not alter them afterwards.
func ListValue(items []string) Value {
	// The empty list is a value, other than nothing.
	if items == nil {
		items = []string{}
	}
	return Value{kind: List, list: items}
}

// Kind says what v holds.
func (v Value) Kind() ValueKind { return v.kind }

// IsNothing tells whether v is the zero Value.
func (v Value) IsNothing() bool { return v.kind == Nothing }

// Bool is the bool that v holds, false for other kinds.
func (v Value) Bool() bool { return v.kind == Bool && v.number == 1 }

// Integer is the number that v holds, 0 for other kinds.
func (v Value) Integer() int64 {
	if v.kind != Integer {
		return 0
	}
	return v.number
}

// Text is the text that v holds, empty for other kinds.
func (v Value) Text() string {
	if v.kind != Text {
		return ""
	}
	return v.text
}

// Items is the list that v holds, nil for other kinds. It must not be altered.
func (v Value) Items() []string {
	if v.kind != List {
		return nil
	}
	return v.list
}

// Equal tells whether both hold the same. Lists and tables are equal when they have the same items
// in the same order, files when their contents are the same, whatever they are called.
func (v Value) Equal(w Value) bool {
	// A file is its contents: size follows from them, and the name says nothing.
	if v.kind == FileKind {
		return w.kind == FileKind && v.text == w.text
	}
	return v.kind == w.kind && v.number == w.number && v.text == w.text && slices.Equal(v.list, w.list)
}

// Any gives v as a plain Go value (bool, int64, string, []string, []any of maps, a map or nil), as
// expressions see it.
func (v Value) Any() any {
	switch v.kind {
	case Bool:
		return v.number == 1
	case Integer:
		return v.number
	case Text:
		return v.text
	case List:
		return v.list
	case Table:
		rows := make([]any, len(v.Rows()))
		for i, r := range v.Rows() {
			rows[i] = r.any()
		}
		return rows
	case FileKind:
		return map[string]any{"sha256": v.text, "name": v.list[0], "size": v.number}
	}
	return nil
}

// String shows v as people read it.
func (v Value) String() string {
	switch v.kind {
	case Bool:
		return strconv.FormatBool(v.number == 1)
	case Integer:
		return strconv.FormatInt(v.number, 10)
	case Text:
		return strconv.Quote(v.text)
	case List:
		quoted := make([]string, len(v.list))
		for i, s := range v.list {
			quoted[i] = strconv.Quote(s)
		}
		return "[" + strings.Join(quoted, ", ") + "]"
	}
	if v.kind == Table {
		rows := make([]string, len(v.Rows()))
		for i, r := range v.Rows() {
			rows[i] = r.String()
		}
		return "[" + strings.Join(rows, ", ") + "]"
	}
	if v.kind == FileKind {
		return v.File().String()
	}
	return "nothing"
}

// MarshalJSON writes a JSON bool, number, string, array of strings, array of objects, object of a
// file, or null.
func (v Value) MarshalJSON() ([]byte, error) {
	switch v.kind {
	case Table:
		return json.Marshal(v.Rows())
	case FileKind:
		return json.Marshal(fileDoc{v.text, v.list[0], v.number})
	}
	return json.Marshal(v.Any())
}

// UnmarshalJSON reads what MarshalJSON writes.
func (v *Value) UnmarshalJSON(data []byte) error {
	var b bool
	var n int64
	var s string
	var l []string
	var rows []Row
	var f fileDoc
	// Each form is tried in turn. JSON has no form that fits two of them, but for the empty list,
	// which is an empty table as well.
	switch {
	case string(data) == "null":
		*v = Value{}
	case json.Unmarshal(data, &b) == nil:
		*v = BoolValue(b)
	case json.Unmarshal(data, &n) == nil:
		*v = IntegerValue(n)
	case json.Unmarshal(data, &s) == nil:
		*v = TextValue(s)
	case json.Unmarshal(data, &l) == nil:
		*v = ListValue(l)
	case json.Unmarshal(data, &rows) == nil:
		*v = TableValue(rows)
	case json.Unmarshal(data, &f) == nil && f.File != "":
		*v = FileValue(File{f.File, f.Name, f.Size})
	default:
		return fmt.Errorf("a value must be a bool, a whole number, text, a list of texts, a table or a file")
	}
	return nil
}

// AppendIdentity appends bytes that are the same for two values exactly when they are Equal.
func (v Value) AppendIdentity(to []byte) []byte {
	// The kind comes first, so that an empty text and an empty list differ. Lengths precede items,
	// so that items do not run together.
	to = append(to, byte(v.kind))
	switch v.kind {
	case Bool, Integer:
		to = binary.AppendVarint(to, v.number)
	case Text, FileKind:
		to = append(to, v.text...)
	case List, Table:
		for _, item := range v.list {
			to = binary.AppendUvarint(to, uint64(len(item)))
			to = append(to, item...)
		}
	}
	return to
}

// Compare orders values: by kind, then bools and numbers by size, texts and files by bytes, lists
// and tables item by item. It is 0 for those that are Equal.
func (v Value) Compare(w Value) int {
	if v.kind != w.kind {
		return cmp.Compare(v.kind, w.kind)
	}
	switch v.kind {
	case Bool, Integer:
		return cmp.Compare(v.number, w.number)
	case Text, FileKind:
		return cmp.Compare(v.text, w.text)
	}
	return slices.Compare(v.list, w.list)
}

// Begins gives a number that is the greater the later a list or table comes in the order of
// Compare; lists whose first items begin with the same eight bytes have the same.
func (v Value) Begins() (first uint64) {
	if len(v.list) == 0 {
		return 0
	}
	// Big-endian numbers are in the order of the texts that they begin. A shorter text is filled up
	// with zeros.
	var bytes [8]byte
	copy(bytes[:], v.list[0])
	return binary.BigEndian.Uint64(bytes[:])
}

// Members gives the items of a list and the rows of a table as values of their own, each a list of
// one item or a table of one row.
func (v Value) Members() []Value {
	switch v.kind {
	case List:
		out := make([]Value, len(v.list))
		for i := range v.list {
			// Capacity is cut, so that appending to a member cannot write into the list.
			out[i] = Value{kind: List, list: v.list[i : i+1 : i+1]}
		}
		return out
	case Table:
		out := make([]Value, len(v.list))
		for i := range v.list {
			rows := v.Rows()[i : i+1 : i+1]
			out[i] = Value{kind: Table, list: v.list[i : i+1 : i+1], rows: &rows}
		}
		return out
	}
	return nil
}
