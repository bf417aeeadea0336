// This file has the tree that every input becomes before it is decoded.

package files

import (
	"regexp"
	"strconv"
	"strings"

	"zenithridge.example/zridge/core/problem"
)

type nodeKind uint8

const (
	nothingNode nodeKind = iota // null, or no value
	boolNode
	integerNode
	numberNode // a number that is no whole one, or does not fit 64 bits
	textNode
	listNode
	mapNode
)

func (k nodeKind) String() string {
	return [...]string{"nothing", "a bool", "a whole number", "a number", "text", "a list", "a map"}[k]
}

// node is one value of an input, with its place.
type node struct {
	kind   nodeKind
	bad    bool // refused already; says nothing more
	place  problem.Place
	flag   bool
	number int64
	text   string // of a scalar: its text, or as it was written
	items  []*node
	fields []field // of a map, in the order of the input
}

type field struct {
	name  string
	place problem.Place
	value *node
}

// get gives the first value under a key, nil when there is none.
func (n *node) get(name string) *node {
	for i := range n.fields {
		if n.fields[i].name == name {
			return n.fields[i].value
		}
	}
	return nil
}

// describe shows what was found, for faults.
func (n *node) describe() string {
	switch n.kind {
	case textNode:
		return "text " + problem.Quote(n.text)
	case boolNode, integerNode, numberNode:
		return n.kind.String() + ", " + problem.Quote(n.text)
	case listNode:
		return "a list of " + strconv.Itoa(len(n.items))
	case mapNode:
		return "a map of " + strconv.Itoa(len(n.fields))
	}
	return "nothing"
}

var (
	yamlNothing = regexp.MustCompile(`^(|~|null|Null|NULL)$`)
	yamlBool    = regexp.MustCompile(`^(true|True|TRUE|false|False|FALSE)$`)
	yamlInteger = regexp.MustCompile(`^([-+]?(0|[1-9][0-9]*)|0o[0-7]+|0x[0-9a-fA-F]+)$`)
	yamlFloat   = regexp.MustCompile(`^[-+]?(\.[0-9]+|[0-9]+\.[0-9]*)([eE][-+]?[0-9]+)?$|^[-+]?\.(inf|Inf|INF)$|^\.(nan|NaN|NAN)$`)
)

// plainScalar gives an unquoted scalar its kind by the core schema of YAML 1.2 (section 10.3.2),
// but for two forms that readers of YAML disagree about and that are text here: digits with a
// leading zero, and an exponent without a point (serial numbers look like both).
func plainScalar(text string, place problem.Place) *node {
	n := &node{kind: textNode, place: place, text: text}
	switch {
	case yamlNothing.MatchString(text):
		n.kind = nothingNode
	case yamlBool.MatchString(text):
		n.kind, n.flag = boolNode, strings.EqualFold(text, "true")
	case yamlInteger.MatchString(text):
		digits, base := text, 10
		if strings.HasPrefix(text, "0o") {
			digits, base = text[2:], 8
		} else if strings.HasPrefix(text, "0x") {
			digits, base = text[2:], 16
		}
		number, err := strconv.ParseInt(digits, base, 64)
		n.kind, n.number = integerNode, number
		if err != nil {
			n.kind = numberNode
		}
	case yamlFloat.MatchString(text):
		n.kind = numberNode
	}
	return n
}

// controlCharacters refuses texts with characters that steer a terminal instead of being shown.
// Lines and tabs are taken. What is found is added to faults; the first few are enough.
func controlCharacters(n *node, path string, faults problem.Faults) problem.Faults {
	const most = 20
	refuse := func(text, at string, place problem.Place) {
		if strings.IndexFunc(text, isControl) >= 0 && len(faults) < most {
			faults = append(faults, problem.Fault{
				Code:     problem.Encoding,
				Path:     at,
				Place:    place,
				Found:    problem.Quote(text),
				Expected: "no control characters but tabs and ends of lines",
			})
		}
	}
	switch n.kind {
	case textNode:
		refuse(n.text, path, n.place)
	case listNode:
		for i, item := range n.items {
			if item.kind == textNode && strings.IndexFunc(item.text, isControl) < 0 {
				continue // most are, and a path costs
			}
			faults = controlCharacters(item, problem.Join(path, i), faults)
		}
	case mapNode:
		for _, f := range n.fields {
			refuse(f.name, path, f.place)
			if f.value.kind == textNode && strings.IndexFunc(f.value.text, isControl) < 0 {
				continue
			}
			faults = controlCharacters(f.value, problem.Join(path, f.name), faults)
		}
	}
	return faults
}

func isControl(r rune) bool {
	return r != '\n' && r != '\t' && r != '\r' && (r < ' ' || r >= 0x7f && r < 0xa0)
}

// maxDepth is how many levels of lists and maps may be nested.
const maxDepth = 64

// find walks a tree down a path as far as it goes and gives the place reached. Where byKey, the
// place of the last map key on the way is given instead of that of its value.
func (n *node) find(keys []string, byKey bool) problem.Place {
	place := n.place
	for _, key := range keys {
		var next *node
		switch n.kind {
		case listNode:
			if i, err := strconv.Atoi(key); err == nil && i < len(n.items) {
				next = n.items[i]
				place = next.place
			}
		case mapNode:
			for i := range n.fields {
				if n.fields[i].name == key {
					next = n.fields[i].value
					place = next.place
					if byKey || place.Line == 0 {
						place = n.fields[i].place
					}
					break
				}
			}
		}
		if next == nil {
			break
		}
		n = next
	}
	return place
}
