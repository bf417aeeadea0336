// This file turns JSON into nodes.

package files

import (
	"bytes"
	"errors"
	"io"
	"sort"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"zenithridge.example/zridge/core/problem"
)

// parseJSON gives the values of a file, which may be several one after the other.
func parseJSON(file string, data []byte) ([]*node, problem.Faults) {
	r := &jsonReader{file: file, data: data, decoder: jsontext.NewDecoder(bytes.NewBuffer(data), jsontext.AllowDuplicateNames(true), jsontext.AllowInvalidUTF8(true))} // both are faults of ours, with their places
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
		return &node{kind: textNode, place: place, text: t.String()}, nil
	}
	return &node{place: place}, nil
}

func (r *jsonReader) collection(open jsontext.Kind, place problem.Place, depth int) (*node, error) {
	if depth > maxDepth {
		r.faults = append(r.faults, problem.Fault{Code: problem.TooDeep, Place: place, Found: "more than 64 levels of nesting", Expected: "at most 64"})
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
		name := key.String()
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
