// This file has conditions on values, as they are written and as they are tested.
//
// A condition is text, so that it can stand in an address, on the command line and in a saved view:
// unit=harbour, facts/ram_gb>=16, tags~field. Values have types and words have none: how they are
// compared depends on the value.

package listing

import (
	"cmp"
	"slices"
	"strconv"
	"strings"

	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// Operator compares a field with words.
type Operator string

// The operators. Texts are compared without regard to case.
const (
	Is      Operator = "="
	IsNot   Operator = "!="
	AtLeast Operator = ">="
	AtMost  Operator = "<="
	Above   Operator = ">"
	Below   Operator = "<"
	Holds   Operator = "~"  // the text is in it
	Known   Operator = "?"  // it has a value
	Unknown Operator = "!?" // it has none
)

// operators in the order in which they are looked for: longer ones first, so that ">=" is not read
// as ">" with a word that begins with "=".
var operators = []Operator{IsNot, AtLeast, AtMost, Unknown, Is, Above, Below, Holds, Known}

// Condition is a test of one field: os=linux|macos, facts/ram_gb>=16, tags~field, edition?,
// edition!?.
type Condition struct {
	Field string
	Op    Operator
	Words []string // any of them; none with Known and Unknown
}

// ParseCondition reads a condition: a field, an operator, and words with "|" between them. It is
// false where the field or the operator is missing, and where there are words that should not be
// there, or none that should. Whether the field exists is known to Table.Find alone.
func ParseCondition(written string) (Condition, bool) {
	// The first operator in the text counts; of operators that begin at the same place the longest,
	// which operators has first.
	// Field names have none of the operators' characters, so the first one ends the name.
	at, op := len(written), Operator("")
	for i := range written {
		for _, o := range operators {
			if strings.HasPrefix(written[i:], string(o)) {
				at, op = i, o
				break
			}
		}
		if op != "" {
			break
		}
	}
	c := Condition{Field: written[:at], Op: op}
	rest := written[min(len(written), at+len(op)):]
	switch {
	case op == "" || c.Field == "":
		return Condition{}, false
	case op == Known || op == Unknown:
		return c, rest == ""
	case rest == "":
		return Condition{}, false
	}
	c.Words = strings.Split(rest, "|")
	return c, true
}

// String gives the condition as ParseCondition reads it.
func (c Condition) String() string { return c.Field + string(c.Op) + strings.Join(c.Words, "|") }

// Compare orders two values of one field: numbers as numbers, dotted versions as versions, texts
// without regard to case, and nothing last.
func Compare(a, b setting.Value) int {
	x, y := sortableOf(a), sortableOf(b)
	return x.compare(&y)
}

// sortable is a value with the texts by which it is compared, so that sorting does not make them
// again and again.
type sortable struct {
	value        setting.Value
	plain, lower string
}

// sortableOf makes the texts of a value. Integers have none: they are nearly always compared with
// other integers.
func sortableOf(v setting.Value) sortable {
	if v.IsNothing() || v.Kind() == setting.Integer {
		return sortable{value: v}
	}
	text := plain(v)
	return sortable{v, text, strings.ToLower(text)}
}

// compare is Compare.
func (a *sortable) compare(b *sortable) int {
	// Nothing comes last, whatever it is compared with.
	switch {
	case a.value.IsNothing() || b.value.IsNothing():
		return cmp.Compare(rank(a.value), rank(b.value))
	case a.value.Kind() == setting.Integer && b.value.Kind() == setting.Integer:
		return cmp.Compare(a.value.Integer(), b.value.Integer())
	}
	x, y := a.texts(), b.texts()
	// Both begin like a number: they are compared as versions, if they are versions.
	if x.plain != "" && y.plain != "" && x.plain[0] <= '9' && y.plain[0] <= '9' {
		if order, err := rule.CompareVersions(x.plain, y.plain); err == nil {
			return order
		}
	}
	return cmp.Or(strings.Compare(x.lower, y.lower), strings.Compare(x.plain, y.plain))
}

// texts gives the texts of an integer too. It needs them only when it is compared with a value of
// another kind, as in a field whose values come from several sources.
func (a *sortable) texts() *sortable {
	if a.value.Kind() != setting.Integer {
		return a
	}
	text := plain(a.value)
	return &sortable{a.value, text, text}
}

// rank puts values first and nothing last.
func rank(v setting.Value) int {
	if v.IsNothing() {
		return 1
	}
	return 0
}

// plain gives a value as people type it. The value must not be nothing.
func plain(v setting.Value) string {
	switch v.Kind() {
	case setting.Text:
		return v.Text()
	case setting.Integer:
		return strconv.FormatInt(v.Integer(), 10)
	case setting.Bool:
		return strconv.FormatBool(v.Bool())
	case setting.List:
		return strings.Join(v.Items(), ", ")
	}
	// Files and tables have no form that people type; their text is that of a value in a report.
	return v.String()
}

// Plain gives a value as people type it: texts without quotes, lists with commas.
func Plain(v setting.Value) string {
	if v.IsNothing() {
		return ""
	}
	return plain(v)
}

// remembered gives a test that works out each text and number once: columns have few of them, and
// many rows. The limit keeps texts that are all different, such as serial numbers, from filling
// memory.
func (c Condition) remembered() func(setting.Value) bool {
	texts, numbers := map[string]bool{}, map[int64]bool{}
	return func(v setting.Value) bool {
		switch v.Kind() {
		case setting.Text:
			known, seen := texts[v.Text()]
			if !seen {
				known = c.passes(v)
				if len(texts) < 10_000 {
					texts[v.Text()] = known
				}
			}
			return known
		case setting.Integer:
			known, seen := numbers[v.Integer()]
			if !seen {
				known = c.passes(v)
				if len(numbers) < 10_000 {
					numbers[v.Integer()] = known
				}
			}
			return known
		}
		return c.passes(v)
	}
}

// passes tests a value. A row without a value passes != and !? alone: it is not equal to anything,
// and it is neither above nor below anything.
func (c Condition) passes(v setting.Value) bool {
	switch c.Op {
	case Known:
		return !v.IsNothing()
	case Unknown:
		return v.IsNothing()
	// What has no value is not equal to anything, so it passes "is not".
	case IsNot:
		return !Condition{c.Field, Is, c.Words}.passes(v)
	}
	if v.IsNothing() {
		return false
	}
	return slices.ContainsFunc(c.Words, func(word string) bool { return c.one(v, word) })
}

// one tests a value against one word.
func (c Condition) one(v setting.Value, word string) bool {
	// A list passes if one of its items does.
	if v.Kind() == setting.List {
		return slices.ContainsFunc(v.Items(), func(item string) bool { return c.one(setting.TextValue(item), word) })
	}
	switch c.Op {
	case Is:
		return strings.EqualFold(plain(v), word)
	case Holds:
		return strings.Contains(strings.ToLower(plain(v)), strings.ToLower(word))
	}
	other := setting.TextValue(word)
	// A number is only compared with a number.
	if n, err := strconv.ParseInt(word, 10, 64); err == nil && v.Kind() == setting.Integer {
		other = setting.IntegerValue(n)
	} else if v.Kind() == setting.Integer {
		return false
	}
	order := Compare(v, other)
	switch c.Op {
	case AtLeast:
		return order >= 0
	case AtMost:
		return order <= 0
	case Above:
		return order > 0
	default:
		return order < 0
	}
}
