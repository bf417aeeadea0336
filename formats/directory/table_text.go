// This file finds out how the text of a table is written: encoding, byte order mark, separator,
// rows that are too long.

package directory

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/htmlindex"
	"golang.org/x/text/transform"

	"zenithridge.example/zridge/core/problem"
)

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

// separatorIn finds the separator of a header: the one of , ; tab and | that stands there most
// often outside of quotes.
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

// maxRow bounds a row in bytes: a quote that is never closed must not take the rest of the file for
// one cell.
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

// notText finds the first cell that is not UTF-8, which mostly means that the table is in another
// encoding.
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
