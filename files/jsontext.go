// This file turns JSON into nodes.

package files

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"sort"
	"strings"

	"zenithridge.example/zridge/core/problem"
)

// parseJSON gives the values of a file, which may be several one after the other.
func parseJSON(file string, data []byte) ([]*node, problem.Faults) {
	r := &jsonReader{file: file, data: data, decoder: json.NewDecoder(bytes.NewReader(data))}
	r.decoder.UseNumber()
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
	decoder *json.Decoder
	faults  problem.Faults
}

var errTooDeep = errors.New("nested too deep")

func (r *jsonReader) place(offset int) problem.Place {
	line := sort.SearchInts(r.lines, offset+1) // the first line that starts after offset
	return problem.Place{File: r.file, Line: line, Column: offset - r.lines[line-1] + 1}
}

func (r *jsonReader) syntax(err error) problem.Fault {
	offset := len(r.data)
	var bad *json.SyntaxError
	if errors.As(err, &bad) {
		offset = max(0, int(bad.Offset)-1)
	}
	return problem.Fault{Code: problem.Syntax, Place: r.place(min(offset, len(r.data))), Found: strings.TrimPrefix(err.Error(), "json: "), Expected: "JSON"}
}

// token gives the next token with the place where it starts.
func (r *jsonReader) token() (json.Token, problem.Place, error) {
	start := int(r.decoder.InputOffset())
	for start < len(r.data) && strings.IndexByte(" \t\r\n,:", r.data[start]) >= 0 {
		start++
	}
	t, err := r.decoder.Token()
	return t, r.place(min(start, len(r.data))), err
}

func (r *jsonReader) value(depth int) (*node, error) {
	t, place, err := r.token()
	if err != nil {
		return nil, err
	}
	switch v := t.(type) {
	case json.Delim:
		return r.collection(v, place, depth)
	case bool:
		return &node{kind: boolNode, place: place, flag: v, text: map[bool]string{true: "true", false: "false"}[v]}, nil
	case json.Number:
		n := plainScalar(v.String(), place)
		if n.kind == textNode { // an exponent without a point: a number in JSON
			n.kind = numberNode
		}
		return n, nil
	case string:
		return &node{kind: textNode, place: place, text: v}, nil
	}
	return &node{place: place}, nil
}

func (r *jsonReader) collection(open json.Delim, place problem.Place, depth int) (*node, error) {
	if depth > maxDepth {
		r.faults = append(r.faults, problem.Fault{Code: problem.TooDeep, Place: place, Found: "more than 64 levels of nesting", Expected: "at most 64"})
		return nil, errTooDeep
	}
	n := &node{kind: listNode, place: place}
	if open == '{' {
		n.kind = mapNode
	}
	for r.decoder.More() {
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
		name, _ := key.(string)
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
