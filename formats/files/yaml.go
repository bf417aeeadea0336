// This file turns YAML 1.2 into nodes, and nodes into YAML.

package files

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"zenithridge.example/zridge/core/problem"
)

// parseYAML gives the documents of a file. Anchors, aliases, merge keys and tags of our own are
// refused.
func parseYAML(file string, data []byte) ([]*node, problem.Faults) {
	if at, found, expected := hopeless(data); found != "" {
		line := 1 + bytes.Count(data[:at], []byte("\n"))
		code := problem.TooMany
		if expected == depthAllowed {
			code = problem.TooDeep
		}
		return nil, problem.Faults{
			{
				Code:     code,
				Place:    problem.Place{File: file, Line: line, Column: at - bytes.LastIndexByte(data[:at], '\n')},
				Found:    found,
				Expected: expected,
			},
		}
	}
	parsed, err := parser.ParseBytes(data, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		return nil, problem.Faults{yamlSyntax(file, err)}
	}
	c := &yamlConverter{file: file}
	var documents []*node
	for _, doc := range parsed.Docs {
		if doc.Body == nil {
			continue
		}
		switch doc.Body.(type) {
		case *ast.CommentGroupNode, *ast.DirectiveNode:
			continue
		}
		if n := c.convert(doc.Body, 1); n.kind != nothingNode || n.bad {
			documents = append(documents, n)
		}
	}
	return documents, c.faults
}

// Limits of a file of YAML. The parser takes the square of these, or their depth on the stack.
const (
	maxDocuments = 1000
	maxKeys      = 10_000 // of one map
	maxColons    = 1000   // of one line
	maxBrackets  = 1000   // that are open, before what is too deep is found exactly while converting
	depthAllowed = "at most 64 levels"
)

// keyCount counts the keys of the map in block style that begins at a column, or of one in braces.
type keyCount struct{ column, keys int }

// hopeless finds what a parser should not be asked to build: nesting, documents, or keys of one map
// without end. What is within texts and comments does not count. found is empty where there is
// nothing of the sort.
func hopeless(data []byte) (at int, found, expected string) {
	var brackets []keyCount // that are open; the column is not used
	var maps []keyCount     // in block style, the outer first
	block := -1             // the indentation of the line that begins a literal or folded text, -1: none
	quote := byte(0)        // that a text began with
	documents := 0
	for begin := 0; begin < len(data); {
		end := begin + bytes.IndexByte(data[begin:], '\n')
		if end < begin {
			end = len(data)
		}
		line := data[begin:end]
		indent := len(line) - len(bytes.TrimLeft(line, " "))
		if block >= 0 && (indent > block || indent == len(line)) {
			begin = end + 1
			continue
		}
		block = -1
		if quote == 0 && len(brackets) == 0 {
			if bytes.HasPrefix(line, []byte("---")) {
				if documents++; documents > maxDocuments {
					return begin, "more documents", fmt.Sprintf("at most %d in a file", maxDocuments)
				}
				maps = maps[:0]
			}
			column := indent
			for ; column+1 < len(line) && line[column] == '-' && line[column+1] == ' '; column++ { // each begins an item: its map is a new one
				maps = below(maps, column)
				for column+1 < len(line) && line[column+1] == ' ' {
					column++
				}
			}
			if column < len(line) && line[column] != '#' && bytes.IndexByte(line[column:], ':') > 0 {
				if maps = below(maps, column); len(maps) == 0 || maps[len(maps)-1].column < column {
					maps = append(maps, keyCount{column: column})
				}
				if maps[len(maps)-1].keys++; maps[len(maps)-1].keys > maxKeys {
					return begin, "more keys", fmt.Sprintf("at most %d in a map", maxKeys)
				}
			}
		}
		dashes, colons, before := 0, 0, byte('\n')
	characters:
		for i, c := range line {
			switch {
			case quote != 0:
				if c == quote && (quote == '\'' || !escaped(line, i)) {
					quote = 0
				}
			case c == '#' && (before == ' ' || before == '\t' || before == '\n'):
				break characters
			case (c == '"' || c == '\'') && beginsText(before):
				quote = c
			case (c == '[' || c == '{') && (len(brackets) > 0 || beginsText(before)):
				brackets = append(brackets, keyCount{})
			case c == ']' || c == '}':
				brackets = brackets[:max(0, len(brackets)-1)]
			case c == ',' && len(brackets) > 0:
				// A list in brackets may have any length; what is between two commas with a colon
				// is a key.
				if top := &brackets[len(brackets)-1]; top.column > 0 {
					top.column = 0
					if top.keys++; top.keys > maxKeys {
						return begin + i, "more keys", fmt.Sprintf("at most %d in a map", maxKeys)
					}
				}
			case c == ':' && len(brackets) > 0:
				brackets[len(brackets)-1].column = 1 // a key was seen since the last comma
			case c == ':' && i+1 < len(line) && line[i+1] == ' ':
				if colons++; colons > maxColons {
					return begin + i, "more colons", fmt.Sprintf("at most %d in a line", maxColons)
				}
			case (c == '-' || c == '?') && i+1 < len(line) && line[i+1] == ' ':
				dashes++
			case (c == '|' || c == '>') && len(brackets) == 0 && before == ' ' && blockHeader.Match(line[i:]):
				block = indent
				break characters
			}
			if len(brackets) > maxBrackets || dashes > maxBrackets {
				return begin + i, "nesting without end", depthAllowed
			}
			before = c
		}
		begin = end + 1
	}
	return 0, "", ""
}

// below gives the maps that go on where something begins at a column.
func below(maps []keyCount, column int) []keyCount {
	for len(maps) > 0 && maps[len(maps)-1].column > column {
		maps = maps[:len(maps)-1]
	}
	return maps
}

// blockHeader matches what begins a literal or folded text, to the end of the line.
var blockHeader = regexp.MustCompile(`^[|>][0-9+-]*[ \t]*(#.*)?\r?$`)

// beginsText tells whether a quote or bracket after a character begins a value, and is no letter of
// a plain text.
func beginsText(before byte) bool {
	return strings.IndexByte(" \t\n\r[{,:-?", before) >= 0
}

// escaped tells whether the character at a place is escaped by a backslash.
func escaped(data []byte, at int) bool {
	n := 0
	for i := at - 1; i >= 0 && data[i] == '\\'; i-- {
		n++
	}
	return n%2 == 1
}

func yamlSyntax(file string, err error) problem.Fault {
	fault := problem.Fault{Code: problem.Syntax, Place: problem.Place{File: file}, Found: err.Error(), Expected: "YAML 1.2"}
	var known *yaml.SyntaxError
	if errors.As(err, &known) {
		fault.Found = known.Message
		if known.Token != nil && known.Token.Position != nil {
			fault.Place.Line, fault.Place.Column = known.Token.Position.Line, known.Token.Position.Column
		}
	}
	return fault
}

type yamlConverter struct {
	file    string
	faults  problem.Faults
	tooDeep bool
}

func (c *yamlConverter) place(t *token.Token) problem.Place {
	return problem.Place{File: c.file, Line: t.Position.Line, Column: t.Position.Column}
}

func (c *yamlConverter) refuse(code problem.Code, t *token.Token, found, expected string) *node {
	c.faults = append(c.faults, problem.Fault{Code: code, Place: c.place(t), Found: found, Expected: expected})
	return &node{bad: true, place: c.place(t)}
}

// convert gives the node of a syntax tree; depth counts the lists and maps around it and itself.
func (c *yamlConverter) convert(n ast.Node, depth int) *node {
	t := n.GetToken()
	switch x := n.(type) {
	case *ast.MappingNode, *ast.MappingValueNode, *ast.SequenceNode:
		if depth > maxDepth {
			if !c.tooDeep {
				c.tooDeep = true
				return c.refuse(problem.TooDeep, t, "more than 64 levels of nesting", "at most 64")
			}
			return &node{bad: true, place: c.place(t)}
		}
		return c.collection(x, depth)
	case *ast.AnchorNode, *ast.AliasNode, *ast.MergeKeyNode:
		return c.refuse(problem.Anchor, t, "an anchor, alias or merge key", "the value itself, written out")
	case *ast.TagNode:
		return c.tagged(x, depth)
	case *ast.LiteralNode:
		return &node{kind: textNode, place: c.place(t), text: x.Value.Value}
	case *ast.StringNode:
		if t.Type == token.SingleQuoteType || t.Type == token.DoubleQuoteType {
			return &node{kind: textNode, place: c.place(t), text: x.Value}
		}
		return plainScalar(x.Value, c.place(t))
	case *ast.NullNode:
		return &node{place: c.place(t), text: t.Value}
	case *ast.BoolNode, *ast.IntegerNode, *ast.FloatNode, *ast.InfinityNode, *ast.NanNode:
		return plainScalar(t.Value, c.place(t))
	}
	return c.refuse(problem.Syntax, t, "a YAML construct that the format does not use: "+problem.Quote(t.Value), "maps, lists and scalars")
}

func (c *yamlConverter) collection(n ast.Node, depth int) *node {
	switch x := n.(type) {
	case *ast.SequenceNode:
		out := &node{kind: listNode, place: c.place(x.Start)}
		for _, item := range x.Values {
			out.items = append(out.items, c.convert(item, depth+1))
		}
		return out
	case *ast.MappingValueNode:
		return c.mapping([]*ast.MappingValueNode{x}, c.place(x.Key.GetToken()), depth)
	case *ast.MappingNode:
		place := c.place(x.Start)
		if !x.IsFlowStyle && len(x.Values) > 0 {
			place = c.place(x.Values[0].Key.GetToken())
		}
		return c.mapping(x.Values, place, depth)
	}
	return nil
}

func (c *yamlConverter) mapping(values []*ast.MappingValueNode, place problem.Place, depth int) *node {
	out := &node{kind: mapNode, place: place}
	for _, v := range values {
		key := c.convert(v.Key, depth)
		switch key.kind {
		case textNode, boolNode, integerNode, numberNode:
			out.fields = append(out.fields, field{name: key.text, place: key.place, value: c.convert(v.Value, depth+1)})
		case nothingNode:
			if !key.bad {
				c.refuse(problem.Syntax, v.Key.GetToken(), "a key that is nothing", "a text as key")
			}
		default:
			c.refuse(problem.Syntax, v.Key.GetToken(), "a key that is "+key.kind.String(), "a text as key")
		}
	}
	return out
}

// tagged takes the tags of the core schema where they say what the value is anyway, and !!str.
func (c *yamlConverter) tagged(x *ast.TagNode, depth int) *node {
	t := x.GetToken()
	value := c.convert(x.Value, depth)
	kinds := map[string]nodeKind{"!!bool": boolNode, "!!int": integerNode, "!!seq": listNode, "!!map": mapNode, "!!null": nothingNode}
	if t.Value == "!!str" && value.kind != listNode && value.kind != mapNode {
		value.kind = textNode
		return value
	}
	if kind, known := kinds[t.Value]; known && kind == value.kind {
		return value
	}
	return c.refuse(problem.Syntax, t, "the tag "+problem.Quote(t.Value), "no tag")
}

// quoted is a text that YAML writes in double quotes, with JSON's escapes, which YAML shares.
type quoted string

func (q quoted) MarshalYAML() ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(string(q))
	return bytes.TrimSpace(b.Bytes()), err
}

// plainText matches texts that mean the same with no quotes, whoever reads them.
var plainText = regexp.MustCompile(`^[A-Za-z][A-Za-z0-9_./()' -]*$`)

// reservedText are plain texts that some reader takes for something else than text.
var reservedText = map[string]bool{
	"null":  true,
	"true":  true,
	"false": true,
	"yes":   true,
	"no":    true,
	"on":    true,
	"off":   true,
	"y":     true,
	"n":     true,
}

// readsPlain tells whether a text needs no quotes.
func readsPlain(text string) bool {
	return plainText.MatchString(text) && !strings.HasSuffix(text, " ") && !reservedText[strings.ToLower(text)]
}

// yamlWriter turns nodes into values that the YAML library writes in order.
type yamlWriter struct {
	keys map[string]string // keys that need quotes, by the plain key that stands in for each until the tree is built
}

func (w *yamlWriter) values(n *node) any {
	switch n.kind {
	case boolNode:
		return n.flag
	case integerNode:
		return n.number
	case textNode:
		if readsPlain(n.text) {
			return n.text
		}
		return quoted(n.text)
	case listNode:
		out := make([]any, len(n.items))
		for i, item := range n.items {
			out[i] = w.values(item)
		}
		return out
	case mapNode:
		out := make(yaml.MapSlice, len(n.fields))
		for i, f := range n.fields {
			out[i] = yaml.MapItem{Key: w.key(f.name), Value: w.values(f.value)}
		}
		return out
	}
	return nil
}

// key gives what the library writes as a key. It accepts no type of our own there, and some texts
// it does not quote so that they can be read again: for those, a plain key stands in.
func (w *yamlWriter) key(name string) string {
	if readsPlain(name) && !strings.HasPrefix(name, standIn) {
		return name
	}
	key := standIn + strconv.Itoa(len(w.keys))
	w.keys[key] = name
	return key
}

// standIn begins the plain keys that stand in for others.
const standIn = "key."

// Visit puts the keys themselves, in double quotes, where plain ones stand in for them.
func (w *yamlWriter) Visit(n ast.Node) ast.Visitor {
	if v, ok := n.(*ast.MappingValueNode); ok {
		if key, ok := v.Key.(*ast.StringNode); ok {
			if name, found := w.keys[key.Value]; found {
				key.Value, key.Token.Type = name, token.DoubleQuoteType
			}
		}
	}
	return w
}

// writeYAML gives one document.
func writeYAML(n *node) ([]byte, error) {
	w := &yamlWriter{keys: map[string]string{}}
	tree, err := yaml.ValueToNode(w.values(n), yaml.IndentSequence(true))
	if err != nil {
		return nil, err
	}
	ast.Walk(w, tree)
	return []byte(tree.String() + "\n"), nil
}
