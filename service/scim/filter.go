// This file reads filters and paths (RFC 7644, sections 3.4.2.2 and 3.5.2) and evaluates them.

package scim

import (
	"encoding/json"
	"strings"
	"time"
	"unicode/utf8"
)

// Filter is a filter that was read.
type Filter struct{ root condition }

// condition is a node of a filter.
type condition interface {
	holds(t *Type, in scope) bool
}

// scope is what attributes are looked up in: a resource, or within a value path one value of a
// list.
type scope struct {
	resource Resource
	within   *Attribute
	value    any
}

type (
	both   struct{ a, b condition }
	either struct{ a, b condition }
	negate struct{ a condition }
	// compares tests an attribute against a value; operator pr has none.
	compares struct {
		path     attrPath
		operator string
		value    any
	}
	// has tests the values of a list: emails[type eq "work"].
	has struct {
		path   attrPath
		filter condition
	}
)

// attrPath names an attribute: its schema where it is written, its name and sub-attribute.
type attrPath struct{ urn, name, sub string }

// Path is a path of a PATCH operation: an attribute, a value of its list, a sub-attribute; or a
// whole extension.
type Path struct {
	attr   attrPath
	filter condition
	sub    string // after a filter
}

// maxDepth bounds nesting, and maxFilter the length of a filter.
const (
	maxDepth  = 50
	maxFilter = 8000
)

// ReadFilter reads a filter. Operators and attributes are read without regard to case.
func (t *Type) ReadFilter(text string) (*Filter, error) {
	if len(text) > maxFilter {
		return nil, refuse(InvalidFilter, "the filter has %d bytes, expected at most %d", len(text), maxFilter)
	}
	p := &parser{t: t, text: text}
	root, err := p.or()
	if err != nil {
		return nil, err
	}
	if p.space(); p.at < len(p.text) {
		return nil, p.wrong("and, or, or the end")
	}
	return &Filter{root}, nil
}

// Holds tells whether a resource passes the filter.
func (f *Filter) Holds(t *Type, r Resource) bool { return f.root.holds(t, scope{resource: r}) }

// Equals gives the attribute and text where the filter is a single comparison with eq, so that it
// can be looked up.
func (f *Filter) Equals() (name, text string, ok bool) {
	c, is := f.root.(compares)
	text, isText := c.value.(string)
	if !is || c.operator != "eq" || c.path.sub != "" || !isText {
		return "", "", false
	}
	return c.path.name, text, true
}

type parser struct {
	t      *Type
	text   string
	at     int
	depth  int
	within *Attribute
}

func (p *parser) wrong(expected string) *Error {
	found := p.text[p.at:]
	if len(found) > 40 {
		found = strings.ToValidUTF8(found[:40], "") + "…"
	}
	if found == "" {
		found = "the end"
	}
	return refuse(
		InvalidFilter,
		"at character %d of the filter: found %s, expected %s",
		utf8.RuneCountInString(p.text[:p.at])+1,
		found,
		expected,
	)
}

func (p *parser) space() {
	for p.at < len(p.text) && p.text[p.at] == ' ' {
		p.at++
	}
}

// word reads letters, digits and what attribute names hold.
func (p *parser) word() string {
	start := p.at
	for p.at < len(p.text) && (isWord(p.text[p.at])) {
		p.at++
	}
	return p.text[start:p.at]
}

func isWord(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte("-_$.:", c) >= 0
}

// keyword reads a word if it is the one that is wanted.
func (p *parser) keyword(wanted string) bool {
	p.space()
	start := p.at
	if strings.EqualFold(p.word(), wanted) {
		return true
	}
	p.at = start
	return false
}

func (p *parser) or() (condition, error) {
	if p.depth++; p.depth > maxDepth {
		return nil, refuse(InvalidFilter, "the filter is nested more than %d deep", maxDepth)
	}
	defer func() { p.depth-- }()
	left, err := p.and()
	for err == nil && p.keyword("or") {
		var right condition
		right, err = p.and()
		left = either{left, right}
	}
	return left, err
}

func (p *parser) and() (condition, error) {
	left, err := p.one()
	for err == nil && p.keyword("and") {
		var right condition
		right, err = p.one()
		left = both{left, right}
	}
	return left, err
}

func (p *parser) one() (condition, error) {
	p.space()
	if p.at < len(p.text) && p.text[p.at] == '(' {
		return p.group()
	}
	start := p.at
	if p.keyword("not") {
		if p.space(); p.at < len(p.text) && p.text[p.at] == '(' {
			inner, err := p.group()
			return negate{inner}, err
		}
		p.at = start
	}
	path, a, err := p.attribute()
	if err != nil {
		return nil, err
	}
	if p.at < len(p.text) && p.text[p.at] == '[' {
		if p.within != nil {
			return nil, p.wrong("no brackets within brackets")
		}
		inner, err := p.bracket(a)
		return has{path, inner}, err
	}
	return p.comparison(path, a)
}

func (p *parser) group() (condition, error) {
	p.at++
	inner, err := p.or()
	if err != nil {
		return nil, err
	}
	if p.space(); p.at >= len(p.text) || p.text[p.at] != ')' {
		return nil, p.wrong(")")
	}
	p.at++
	return inner, nil
}

func (p *parser) bracket(a *Attribute) (condition, error) {
	if !a.Multi || len(a.Sub) == 0 {
		return nil, p.wrong("brackets after an attribute with several values")
	}
	p.at++
	p.within = a
	inner, err := p.or()
	p.within = nil
	if err != nil {
		return nil, err
	}
	if p.space(); p.at >= len(p.text) || p.text[p.at] != ']' {
		return nil, p.wrong("]")
	}
	p.at++
	return inner, nil
}

// attribute reads an attribute's path and finds it in the schemas; within brackets, in the
// sub-attributes.
func (p *parser) attribute() (attrPath, *Attribute, error) {
	p.space()
	start := p.at
	text := p.word()
	fail := func(expected string) (attrPath, *Attribute, error) {
		p.at = start
		return attrPath{}, nil, p.wrong(expected)
	}
	if text == "" {
		return fail("an attribute")
	}
	if p.within != nil {
		a := find(p.within.Sub, text)
		if a == nil {
			return fail("a sub-attribute of " + p.within.Name)
		}
		return attrPath{name: a.Name}, a, nil
	}
	path := attrPath{}
	if colon := strings.LastIndexByte(text, ':'); colon >= 0 {
		path.urn, text = text[:colon], text[colon+1:]
		// a schema's version has a dot in it: what stands after the last colon is the attribute
	}
	path.name, path.sub, _ = strings.Cut(text, ".")
	a := p.t.lookUp(path.urn, path.name)
	if a == nil {
		return fail("an attribute of " + p.t.Name)
	}
	path.name = a.Name
	if path.sub != "" {
		sub := find(a.Sub, path.sub)
		if sub == nil {
			return fail("a sub-attribute of " + a.Name)
		}
		path.sub, a = sub.Name, sub
	}
	if strings.EqualFold(path.urn, p.t.Schema) {
		path.urn = ""
	} else if path.urn != "" {
		path.urn = p.t.extension(path.urn)
	}
	return path, a, nil
}

var operators = []string{"eq", "ne", "co", "sw", "ew", "gt", "lt", "ge", "le"}

func (p *parser) comparison(path attrPath, a *Attribute) (condition, error) {
	if p.keyword("pr") {
		return compares{path: path, operator: "pr"}, nil
	}
	for _, operator := range operators {
		if !p.keyword(operator) {
			continue
		}
		p.space()
		value, err := p.literal()
		if err != nil {
			return nil, err
		}
		if _, isText := value.(string); !isText && (operator == "co" || operator == "sw" || operator == "ew") {
			return nil, p.wrong("a text after " + operator)
		}
		if a.Type == "boolean" && strings.Contains("gt lt ge le co sw ew", operator) {
			return nil, refuse(InvalidFilter, "%s is a boolean, which %s can't compare", a.Name, operator)
		}
		if text, isText := value.(string); isText && a.Type == "boolean" &&
			(strings.EqualFold(text, "true") || strings.EqualFold(text, "false")) {
			value = strings.EqualFold(text, "true")
		}
		return compares{path, operator, value}, nil
	}
	return nil, p.wrong("one of pr, " + strings.Join(operators, ", "))
}

// literal reads a JSON text, number, true, false or null.
func (p *parser) literal() (any, error) {
	rest := p.text[p.at:]
	if strings.HasPrefix(rest, `"`) {
		end := 1
		for end < len(rest) && rest[end] != '"' {
			if rest[end] == '\\' {
				end++
			}
			end++
		}
		var text string
		if end >= len(rest) || json.Unmarshal([]byte(rest[:end+1]), &text) != nil {
			return nil, p.wrong("a text in double quotes, closed")
		}
		p.at += end + 1
		return text, nil
	}
	start := p.at
	for p.at < len(p.text) && (isWord(p.text[p.at]) || p.text[p.at] == '+') {
		p.at++
	}
	word := p.text[start:p.at]
	var value any
	if err := json.Unmarshal([]byte(strings.ToLower(word)), &value); err != nil {
		p.at = start
		return nil, p.wrong("a text in double quotes, a number, true, false or null")
	}
	return value, nil
}

func (c both) holds(t *Type, in scope) bool   { return c.a.holds(t, in) && c.b.holds(t, in) }
func (c either) holds(t *Type, in scope) bool { return c.a.holds(t, in) || c.b.holds(t, in) }
func (c negate) holds(t *Type, in scope) bool { return !c.a.holds(t, in) }

func (c has) holds(t *Type, in scope) bool {
	a := t.lookUp(c.path.urn, c.path.name)
	list, _ := top(in.resource, c.path.urn)[c.path.name].([]any)
	for _, v := range list {
		if c.filter.holds(t, scope{within: a, value: v}) {
			return true
		}
	}
	return false
}

// top gives the object in which the attributes of a schema stand.
func top(r Resource, urn string) map[string]any {
	if urn == "" {
		return r
	}
	inner, _ := r[urn].(map[string]any)
	return inner
}

// values gives the attribute and all of its values in a scope. Of a complex attribute with several
// values, a comparison without a sub-attribute means the value (RFC 7644, section 3.4.2.2).
func (c compares) values(t *Type, in scope) (*Attribute, []any) {
	var a *Attribute
	var v any
	if in.within != nil {
		a = find(in.within.Sub, c.path.name)
		if m, ok := in.value.(map[string]any); ok {
			v = m[c.path.name]
		} else if c.path.name == "value" {
			v = in.value
		}
	} else {
		a = t.lookUp(c.path.urn, c.path.name)
		v = top(in.resource, c.path.urn)[c.path.name]
	}
	list, isList := v.([]any)
	if !isList && v != nil {
		list = []any{v}
	}
	sub := c.path.sub
	if sub == "" && a.Type == "complex" && a.Multi && c.operator != "pr" {
		sub = "value"
	}
	if sub == "" {
		return a, list
	}
	s := find(a.Sub, sub)
	if s == nil {
		return a, nil
	}
	var out []any
	for _, item := range list {
		if m, ok := item.(map[string]any); ok && m[s.Name] != nil {
			out = append(out, m[s.Name])
		}
	}
	return s, out
}

func (c compares) holds(t *Type, in scope) bool {
	a, values := c.values(t, in)
	if c.operator == "pr" {
		for _, v := range values {
			if v != "" {
				return true
			}
		}
		return false
	}
	if len(values) == 0 { // no value: equal to null, and to nothing else
		return c.value == nil && c.operator == "eq" || c.value != nil && c.operator == "ne"
	}
	for _, v := range values {
		if c.compare(a, v) {
			return true
		}
	}
	return false
}

// inOrder tells whether two moments that compare so pass; other operators look at their texts.
func (c compares) inOrder(order int) bool {
	switch c.operator {
	case "eq":
		return order == 0
	case "ne":
		return order != 0
	case "gt":
		return order > 0
	case "ge":
		return order >= 0
	case "lt":
		return order < 0
	case "le":
		return order <= 0
	}
	return false
}

func (c compares) compare(a *Attribute, v any) bool {
	switch is := v.(type) {
	case string:
		wanted, ok := c.value.(string)
		if !ok {
			return c.operator == "ne"
		}
		if a.Type == "dateTime" {
			if moment, err := time.Parse(time.RFC3339Nano, is); err == nil {
				if other, err := time.Parse(time.RFC3339Nano, wanted); err == nil {
					return c.inOrder(moment.Compare(other))
				}
			}
		}
		if !a.CaseExact {
			is, wanted = strings.ToLower(is), strings.ToLower(wanted)
		}
		switch c.operator {
		case "eq":
			return is == wanted
		case "ne":
			return is != wanted
		case "co":
			return strings.Contains(is, wanted)
		case "sw":
			return strings.HasPrefix(is, wanted)
		case "ew":
			return strings.HasSuffix(is, wanted)
		case "gt":
			return is > wanted
		case "ge":
			return is >= wanted
		case "lt":
			return is < wanted
		default:
			return is <= wanted
		}
	case bool:
		wanted, ok := c.value.(bool)
		return c.operator == "eq" && ok && is == wanted || c.operator == "ne" && (!ok || is != wanted)
	}
	return c.operator == "ne"
}
