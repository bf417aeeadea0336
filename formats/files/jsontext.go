// This file turns JSON into nodes.

package files

import (
	"bytes"
	"errors"
	"io"
	"sort"
	"strconv"
	"strings"
	"unicode/utf16"

	"github.com/go-json-experiment/json/jsontext"

	"zenithridge.example/zridge/core/problem"
)

// parseJSON gives the values of a file, which may be several one after the other.
func parseJSON(file string, data []byte) ([]*node, problem.Faults) {
	r := &jsonReader{
		file:    file,
		data:    data,
		decoder: jsontext.NewDecoder(bytes.NewBuffer(data), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true)),
	} // both are faults of ours, with their places
	r.lines = append(r.lines, 0)
	for i, c := range data {
		if c == '\n' {
			r.lines = append(r.lines, i+1)
		}
	}
	var documents []*node
	for {
		n, err := r.value(1)
		switch {
		case errors.Is(err, io.EOF):
			return documents, r.faults
		case errors.Is(err, errTooDeep): // nothing deeper is looked at: a file of brackets would fill the stack
			return documents, r.faults
		case err != nil:
			return documents, append(r.faults, r.syntax(err))
		}
		documents = append(documents, n)
	}
}

type jsonReader struct {
	file    string
	data    []byte
	lines   []int // offsets of the starts of lines
	decoder *jsontext.Decoder
	faults  problem.Faults
}

var (
	errTooDeep = errors.New("nested too deep")
	errEnds    = errors.New("an end within a value")
)

func (r *jsonReader) place(offset int) problem.Place {
	line := sort.SearchInts(r.lines, offset+1) // the first line that starts after offset
	return problem.Place{File: r.file, Line: line, Column: offset - r.lines[line-1] + 1}
}

func (r *jsonReader) syntax(err error) problem.Fault {
	offset := len(r.data)
	var bad *jsontext.SyntacticError
	if errors.As(err, &bad) && !errors.Is(err, io.ErrUnexpectedEOF) {
		offset, err = int(bad.ByteOffset), bad.Err
	} else {
		err = errEnds
	}
	return problem.Fault{Code: problem.Syntax, Place: r.place(min(offset, len(r.data))), Found: err.Error(), Expected: "JSON"}
}

// token gives the next token, which is good until the next, with the place where it starts.
func (r *jsonReader) token() (jsontext.Token, problem.Place, error) {
	start := int(r.decoder.InputOffset())
	for start < len(r.data) && strings.IndexByte(" \t\r\n,:", r.data[start]) >= 0 {
		start++
	}
	t, err := r.decoder.ReadToken()
	return t, r.place(min(start, len(r.data))), err
}

func (r *jsonReader) value(depth int) (*node, error) {
	t, place, err := r.token()
	if err != nil {
		return nil, err
	}
	switch t.Kind() {
	case '{', '[':
		return r.collection(t.Kind(), place, depth)
	case 't', 'f':
		return &node{kind: boolNode, place: place, flag: t.Bool(), text: t.String()}, nil
	case '0':
		n := plainScalar(t.String(), place)
		if n.kind == textNode { // an exponent without a point: a number in JSON
			n.kind = numberNode
		}
		return n, nil
	case '"':
		return r.text(t, place), nil
	}
	return &node{place: place}, nil
}

// text gives a text. Half of a surrogate pair is refused: it is no character, and would be kept as
// another one.
func (r *jsonReader) text(t jsontext.Token, place problem.Place) *node {
	n := &node{kind: textNode, place: place, text: t.String()}
	if at := strings.IndexRune(n.text, '\uFFFD'); at >= 0 && r.loneSurrogate(t) {
		r.faults = append(
			r.faults,
			problem.Fault{
				Code:     problem.Encoding,
				Place:    place,
				Found:    "half of a surrogate pair in a text",
				Expected: "UTF-8, or both halves of the pair",
			},
		)
		n.bad = true
	}
	return n
}

// loneSurrogate tells whether the text that was read last has an escape for half of a surrogate
// pair that stands alone.
func (r *jsonReader) loneSurrogate(jsontext.Token) bool {
	end := int(r.decoder.InputOffset())
	raw := r.data[:end]
	begin := end - 2
	for begin > 0 && (raw[begin] != '"' || escaped(raw, begin)) {
		begin--
	}
	raw = raw[begin+1 : end-1]
	for i := 0; i+5 < len(raw); i++ {
		if raw[i] != '\\' {
			continue
		}
		if raw[i+1] != 'u' {
			i++ // an escaped backslash, say
			continue
		}
		unit, err := strconv.ParseUint(string(raw[i+2:i+6]), 16, 16)
		if err != nil {
			continue
		}
		if utf16.IsSurrogate(rune(unit)) {
			if i+11 < len(raw) && raw[i+6] == '\\' && raw[i+7] == 'u' {
				second, err := strconv.ParseUint(string(raw[i+8:i+12]), 16, 16)
				if err == nil && utf16.DecodeRune(rune(unit), rune(second)) != '\uFFFD' {
					i += 11
					continue
				}
			}
			return true
		}
		i += 5
	}
	return false
}

func (r *jsonReader) collection(open jsontext.Kind, place problem.Place, depth int) (*node, error) {
	if depth > maxDepth {
		r.faults = append(
			r.faults,
			problem.Fault{Code: problem.TooDeep, Place: place, Found: "more than 64 levels of nesting", Expected: "at most 64"},
		)
		return nil, errTooDeep
	}
	n := &node{kind: listNode, place: place}
	if open == '{' {
		n.kind = mapNode
	}
	for next := r.decoder.PeekKind(); next != ']' && next != '}'; next = r.decoder.PeekKind() {
		if open == '[' {
			item, err := r.value(depth + 1)
			if err != nil {
				return nil, ended(err)
			}
			n.items = append(n.items, item)
			continue
		}
		key, at, err := r.token()
		if err != nil {
			return nil, ended(err)
		}
		name := r.text(key, at).text
		value, err := r.value(depth + 1)
		if err != nil {
			return nil, ended(err)
		}
		n.fields = append(n.fields, field{name: name, place: at, value: value})
	}
	_, _, err := r.token() // the closing bracket
	return n, ended(err)
}

// ended makes the end of the input inside of a value a fault and not an end.
func ended(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}
