// This file reads tables of laptops or people as CSV (RFC 4180), by a mapping of columns to fields.

package directory

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/transform"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

// Table says how a table is read.
type Table struct {
	Of        estate.Kind       `json:"of" enum:"devices,people" doc:"What a row is"`
	Columns   map[string]string `json:"columns" doc:"From the name of a column to a field: serial, owner …, facts/NAME or attributes/NAME; columns that are not named are left out"`
	Key       string            `json:"key" enum:"serial,id,mail" doc:"The field by which a row is known again"`
	Whole     bool              `json:"whole" doc:"The table lists everything: what is no longer in it has left"`
	Encoding  string            `json:"encoding,omitempty" maxLength:"40" doc:"As IANA names it; UTF-8, or what a byte order mark says, where it is left out"`
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
		refuse(problem.NotOneOf, "/table/encoding", problem.Quote(t.Encoding), "a character set as IANA names it, such as utf-8 or iso-8859-1")
	}
	return faults
}

func decoderOf(name string) (transform.Transformer, error) {
	if name == "" || strings.EqualFold(name, "utf-8") {
		return nil, nil
	}
	e, err := htmlindex.Get(name)
	if err != nil {
		return nil, err
	}
	return e.NewDecoder(), nil
}

// marks are the byte order marks, by the encoding that they say.
var marks = []struct {
	bytes    string
	encoding string
}{{"\xef\xbb\xbf", "utf-8"}, {"\xff\xfe", "utf-16le"}, {"\xfe\xff", "utf-16be"}}

// text gives the table's text as UTF-8, and the name of the encoding that it was in.
func text(in io.Reader, named string) (*bufio.Reader, string, error) {
	buffered := bufio.NewReaderSize(in, 64<<10)
	for _, m := range marks {
		if head, _ := buffered.Peek(len(m.bytes)); string(head) == m.bytes {
			buffered.Discard(len(m.bytes))
			if named == "" || m.encoding != "utf-8" {
				named = m.encoding
			}
			break
		}
	}
	decoder, err := decoderOf(named)
	if err != nil {
		return nil, "", err
	}
	if decoder == nil {
		return buffered, "utf-8", nil
	}
	return bufio.NewReaderSize(transform.NewReader(buffered, decoder), 64<<10), named, nil
}

// separatorIn finds the separator of a header: the one of , ; tab and | that stands there most often outside of quotes.
func separatorIn(line []byte) rune {
	best, most := ',', 0
	for _, c := range ",;\t|" {
		n, quoted := 0, false
		for _, b := range line {
			switch {
			case b == '"':
				quoted = !quoted
			case rune(b) == c && !quoted:
				n++
			}
		}
		if n > most {
			best, most = c, n
		}
	}
	return best
}

var separators = map[string]rune{",": ',', ";": ';', "|": '|', "tab": '\t'}

// maxRow bounds a row in bytes: a quote that is never closed must not take the rest of the file for one cell.
const maxRow = 1 << 20

var errLongRow = fmt.Errorf("a row of more than %d bytes; is a quote not closed?", maxRow)

// rowBudget fails when more than maxRow bytes were read since it was last renewed.
type rowBudget struct {
	in   io.Reader
	used int
}

func (b *rowBudget) Read(p []byte) (int, error) {
	if b.used > maxRow {
		return 0, errLongRow
	}
	n, err := b.in.Read(p)
	b.used += n
	return n, err
}

func (b *rowBudget) renew() { b.used = 0 }

func rowsOf(in *bufio.Reader, named string) (*tableRows, rune) {
	separator, known := separators[named]
	if !known {
		head, _ := in.Peek(32 << 10)
		if end := bytes.IndexByte(head, '\n'); end >= 0 {
			head = head[:end]
		}
		separator = separatorIn(head)
	}
	budget := &rowBudget{in: in}
	rows := csv.NewReader(budget)
	rows.Comma, rows.FieldsPerRecord, rows.ReuseRecord = separator, -1, true
	return &tableRows{rows, budget}, separator
}

// tableRows reads rows within their budget.
type tableRows struct {
	*csv.Reader
	budget *rowBudget
}

// Read gives the next row.
func (r *tableRows) Read() ([]string, error) {
	r.budget.renew()
	return r.Reader.Read()
}

// previewRows is how many rows a preview has.
const previewRows = 20

// words are names of columns that people use, by the field that they mean: in lower case, letters and digits alone.
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

// notText finds the first cell that is not UTF-8, which mostly means that the table is in another encoding.
func notText(name string, rows *tableRows, cells []string) (problem.Fault, bool) {
	for i, cell := range cells {
		for at := 0; at < len(cell); {
			r, size := utf8.DecodeRuneInString(cell[at:])
			if r == utf8.RuneError && size == 1 {
				line, column := rows.FieldPos(i)
				return problem.Fault{
					Code:     problem.Encoding,
					Place:    problem.Place{File: name, Line: line, Column: column + at},
					Found:    fmt.Sprintf("the byte %#02x", cell[at]),
					Expected: "UTF-8, or the name of the encoding that the table is in, such as iso-8859-1",
				}, true
			}
			if r == 0 {
				line, column := rows.FieldPos(i)
				return problem.Fault{
					Code:     problem.Encoding,
					Place:    problem.Place{File: name, Line: line, Column: column + at},
					Found:    "a zero byte",
					Expected: "text; a table in UTF-16 begins with a byte order mark, or name its encoding: utf-16le",
				}, true
			}
			at += size
		}
	}
	return problem.Fault{}, false
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

// Read reads a whole table. The error is a problem.Faults where the table can't be read at all; faults of rows are in the reading.
// progress is told bytes by the caller's reader; it is not called here.
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
		r.refuse(slices.Index(r.fields, r.Key), problem.MissingField, "a row without "+r.Key, "the "+r.Key+", by which the row is known again")
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
