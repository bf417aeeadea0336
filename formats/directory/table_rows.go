// This file reads the rows of a table into records, and refuses the rows that cannot be read.

package directory

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

// Read reads a whole table. The error is a problem.Faults where the table can't be read at all;
// faults of rows are in the reading. progress is told bytes by the caller's reader; it is not
// called here.
func (t *Table) Read(name string, in io.Reader) (*Reading, error) {
	if faults := t.Check(); len(faults) > 0 {
		return nil, faults
	}
	stream, _, err := text(in, t.Encoding)
	if err != nil {
		return nil, problem.Faults{
			{Code: problem.NotOneOf, Path: "/table/encoding", Found: problem.Quote(t.Encoding), Expected: "a character set"},
		}
	}
	r := &reader{
		Table: t,
		name:  name,
		out:   &Reading{Kinds: []estate.Kind{t.Of}, Full: t.Whole},
		lines: map[string]int{},
		known: map[string]string{},
	}
	r.rows, _ = rowsOf(stream, t.Separator)
	cells, err := r.rows.Read()
	if err != nil {
		return nil, problem.Faults{unreadable(name, err)}
	}
	if f, bad := notText(name, r.rows, cells); bad {
		return nil, problem.Faults{f}
	}
	if faults := r.head(cells); len(faults) > 0 {
		return nil, faults
	}
	for {
		cells, err := r.rows.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, problem.Faults{unreadable(name, err)}
		}
		if f, bad := notText(name, r.rows, cells); bad {
			return nil, problem.Faults{f}
		}
		if len(r.out.Records) >= MaxRows {
			line, _ := r.rows.FieldPos(0)
			return nil, problem.Faults{
				{
					Code:     problem.TooLarge,
					Place:    problem.Place{File: name, Line: line, Column: 1},
					Found:    fmt.Sprintf("more than %d rows", MaxRows),
					Expected: "a table with fewer; import it in parts, as tables that do not list everything",
				},
			}
		}
		r.row(cells)
	}
	if r.nameless {
		r.out.Full = false
	}
	return r.out, nil
}

// reader reads one table.
type reader struct {
	*Table
	name     string
	rows     *tableRows
	header   []string
	fields   []string // by column; empty: left out
	out      *Reading
	lines    map[string]int // by key
	known    map[string]string
	nameless bool // a row without a key was met: nothing can be said to have left
}

// head maps the header's columns.
func (r *reader) head(cells []string) (faults problem.Faults) {
	r.header = slices.Clone(cells)
	r.fields = make([]string, len(cells))
	refuse := func(i int, code problem.Code, found, expected string) {
		line, column := r.rows.FieldPos(i)
		faults = append(
			faults,
			problem.Fault{Code: code, Place: problem.Place{File: r.name, Line: line, Column: column}, Found: found, Expected: expected},
		)
	}
	for i, name := range r.header {
		field := r.Columns[name]
		if field == "" {
			continue
		}
		if first := slices.Index(r.header, name); first < i {
			refuse(
				i,
				problem.DoubledField,
				"the column "+problem.Quote(name)+" a second time",
				fmt.Sprintf("each column that is mapped once; it is column %d already", first+1),
			)
			continue
		}
		r.fields[i] = field
	}
	names := make([]string, 0, len(r.Columns))
	for name, field := range r.Columns {
		if field != "" && !slices.Contains(r.header, name) {
			names = append(names, name)
		}
	}
	slices.Sort(names)
	for _, name := range names {
		refuse(
			0,
			problem.MissingField,
			"a header without "+problem.Quote(name),
			"the column "+problem.Quote(name)+", which is mapped to "+r.Columns[name],
		)
	}
	return faults
}

func (r *reader) refuse(i int, code problem.Code, found, expected string) {
	if len(r.out.Faults) >= MaxFaults {
		return
	}
	line, column := r.rows.FieldPos(i)
	r.out.Faults = append(
		r.out.Faults,
		problem.Fault{Code: code, Place: problem.Place{File: r.name, Line: line, Column: column}, Found: found, Expected: expected},
	)
}

// tableInteger are whole numbers with no leading zero; anything else that looks like one is text.
var tableInteger = regexp.MustCompile(`^(0|-?[1-9][0-9]{0,17})$`)

// row adds a row's record; one that can't be taken is added as faulty where its key is known.
func (r *reader) row(cells []string) {
	if len(cells) == 1 && cells[0] == "" {
		return
	}
	line, _ := r.rows.FieldPos(0)
	rec := Record{Kind: r.Of, Fields: map[string]any{}, Line: line}
	if len(cells) != len(r.header) {
		r.refuse(0, problem.CellCount, fmt.Sprintf("%d cells", len(cells)), fmt.Sprintf("%d, as many as the header has", len(r.header)))
		rec.Faulty = true
	}
	before := len(r.out.Faults)
	id, keyed := "", false
	for i, cell := range cells {
		if i >= len(r.fields) || r.fields[i] == "" {
			continue
		}
		field, text := r.fields[i], strings.Clone(strings.TrimSpace(cell)) // a cell of its own: the row's other columns are let go
		if len(text) > MaxCell {
			r.refuse(i, problem.OutOfRange, fmt.Sprintf("%d bytes", len(text)), fmt.Sprintf("at most %d in a cell", MaxCell))
			continue
		}
		if field == r.Key && text != "" {
			rec.Key, keyed = strings.ToLower(text), true
		}
		if text != "" {
			r.cell(&rec, i, field, text, &id)
		}
	}
	if !keyed {
		r.nameless = true
		r.refuse(slices.Index(r.fields, r.Key), problem.MissingField, "a row without "+r.Key, "the "+r.Key+", by which the row is "+
			"known again")
		return
	}
	if r.Of == estate.KindDevice && !rec.Faulty {
		for _, need := range []string{"os", "os_version"} {
			if rec.Fields[need] == nil && len(r.out.Faults) == before {
				r.refuse(slices.Index(r.fields, need), problem.MissingField, "an empty cell", "the "+need)
			}
		}
	}
	if first, twice := r.lines[rec.Key]; twice {
		r.refuse(
			slices.Index(r.fields, r.Key),
			problem.DoubledID,
			problem.Quote(rec.Key)+" a second time",
			fmt.Sprintf("each %s once; line %d has it already", r.Key, first),
		)
		return
	}
	r.lines[rec.Key] = line
	rec.Faulty = rec.Faulty || len(r.out.Faults) > before
	if rec.Wants = id; id == "" {
		rec.Wants = ValidSlug(r.wish(&rec))
	}
	r.out.Records = append(r.out.Records, rec)
}

func (r *reader) wish(rec *Record) string {
	if r.Of == estate.KindPerson {
		local, _, _ := strings.Cut(rec.Match, "@")
		return local
	}
	if s, ok := rec.Fields["serial"].(string); ok {
		return s
	}
	return rec.Key
}

func (r *reader) cell(rec *Record, i int, field, text string, id *string) {
	switch field {
	case "id":
		if !estate.ValidID(text) {
			r.refuse(i, problem.BadID, problem.Quote(text), "1 to 128 letters, digits, '.', '_' or '-'")
			return
		}
		*id = text
	case "owner":
		rec.Owner = Ref{Name: text}
	case "unit":
		rec.Unit = Ref{Name: text}
	case "users":
		for _, word := range strings.FieldsFunc(text, func(c rune) bool { return c == ' ' || c == ',' || c == ';' }) {
			if ref := (Ref{Name: word}); !slices.Contains(rec.Users, ref) {
				rec.Users = append(rec.Users, ref)
			}
		}
	case "tags":
		var tags []string
		for _, word := range strings.FieldsFunc(text, func(c rune) bool { return c == ' ' || c == ',' || c == ';' }) {
			if !slices.Contains(tags, word) {
				tags = append(tags, word)
			}
		}
		rec.Fields["tags"] = tags
	case "os":
		os := setting.Platform(strings.ToLower(text))
		if !slices.Contains(setting.Platforms, os) {
			r.refuse(i, problem.NotOneOf, problem.Quote(text), "linux, windows or macos")
			return
		}
		rec.Fields["os"] = string(os)
	case "serial", "mail":
		rec.Match = strings.ToLower(text)
		rec.Fields[field] = r.shared(text)
	case "os_version", "edition", "model", "name":
		rec.Fields[field] = r.shared(text)
	default:
		top, inner, _ := strings.Cut(field, "/")
		within, _ := rec.Fields[top].(map[string]any)
		if within == nil {
			within = map[string]any{}
			rec.Fields[top] = within
		}
		within[inner] = r.plain(text)
	}
}

// plain reads a fact: true and false, whole numbers, and text for the rest.
func (r *reader) plain(text string) any {
	switch {
	case text == "true":
		return true
	case text == "false":
		return false
	case tableInteger.MatchString(text):
		if n, err := strconv.ParseInt(text, 10, 64); err == nil {
			return n
		}
	}
	return r.shared(text)
}

// shared gives one copy of texts that come again and again.
func (r *reader) shared(text string) string {
	if one, known := r.known[text]; known {
		return one
	}
	if len(r.known) < 10_000 {
		r.known[text] = text
	}
	return text
}

// words are names of columns that people use, by the field that they mean: in lower case, letters
// and digits alone.
var words = map[string][]string{
	"serial": {
		"serial",
		"serialnumber",
		"serialno",
		"sn",
	},
	"id": {
		"id",
		"device",
		"deviceid",
		"laptop",
		"assettag",
		"asset",
		"hostname",
		"personid",
		"user",
		"username",
		"userid",
		"login",
		"account",
	},
	"owner": {
		"owner",
		"assignedto",
		"assignee",
		"primaryuser",
		"ownermail",
		"usermail",
	},
	"unit": {"unit", "department", "site", "location", "orgunit", "organisationalunit", "team"},
	"os": {
		"os",
		"platform",
		"operatingsystem",
		"system",
	},
	"os_version": {"osversion", "version", "release", "osrelease", "systemversion"},
	"edition":    {"edition", "osedition"},
	"model": {
		"model",
		"devicemodel",
		"product",
	},
	"tags":  {"tags", "labels"},
	"users": {"users", "otherusers"},
	"name":  {"name", "fullname", "displayname"},
	"mail":  {"mail", "email", "emailaddress", "mailaddress"},
}

func unreadable(name string, err error) problem.Fault {
	f := problem.Fault{
		Code:     problem.Syntax,
		Place:    problem.Place{File: name, Line: 1, Column: 1},
		Found:    err.Error(),
		Expected: "CSV (RFC 4180)",
	}
	var bad *csv.ParseError
	switch {
	case errors.As(err, &bad):
		f.Place.Line, f.Place.Column, f.Found = bad.Line, bad.Column, bad.Err.Error()
	case errors.Is(err, io.EOF):
		f.Found, f.Expected = "nothing", "a header, and a row for each"
	case errors.Is(err, errLongRow):
		f.Code, f.Expected = problem.TooLarge, "rows of at most 1 MiB"
	case errors.Is(err, io.ErrUnexpectedEOF):
		f.Code, f.Found, f.Expected = problem.Unreadable, "an upload that ends too early", "the whole file"
	}
	return f
}
