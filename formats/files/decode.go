// This file decodes nodes into the objects of an estate.

package files

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// decoder gathers the faults of shape: unknown, doubled and missing fields, wrong types,
// expressions and patterns that do not compile. What needs the whole estate is left to
// estate.Validate.
type decoder struct {
	faults problem.Faults
	muted  []string // paths of what was refused while parsing
	// file finds a file by its path in the folder that is read; nil where a file is named by its
	// SHA-256.
	file func(path string, place problem.Place) (file setting.File, found, expected string)
}

func (d *decoder) refuse(code problem.Code, path string, place problem.Place, found, expected string) {
	d.faults = append(d.faults, problem.Fault{Code: code, Path: path, Place: place, Found: found, Expected: expected})
}

// wrong reports a value of another type than expected, unless it was refused already.
func (d *decoder) wrong(path string, n *node, expected string) {
	if n.bad {
		d.muted = append(d.muted, path)
		return
	}
	d.refuse(problem.WrongType, path, n.place, n.describe(), expected)
}

// object is a map that is being decoded. Each accessor reports what is wrong with its field and
// gives the zero value.
type object struct {
	*decoder
	node *node
	path string
}

// object checks that n is a map of these fields and no others, each once.
func (d *decoder) object(n *node, path string, names ...string) object {
	o := object{d, n, path}
	if n.kind != mapNode {
		d.wrong(path, n, "a map with "+strings.Join(names, ", "))
		o.node = &node{kind: mapNode, place: n.place}
		return o
	}
	d.keys(n, path, func(name string) bool { return slices.Contains(names, name) }, "one of "+strings.Join(names, ", "))
	return o
}

func (d *decoder) keys(n *node, path string, known func(string) bool, expected string) {
	var seen map[string]problem.Place // where there are more fields than are looked through one by one
	for i, f := range n.fields {
		first, twice := seen[f.name]
		if len(n.fields) <= 20 {
			if before := slices.IndexFunc(n.fields[:i], func(b field) bool { return b.name == f.name }); before >= 0 {
				first, twice = n.fields[before].place, true
			}
		} else {
			if seen == nil {
				seen = make(map[string]problem.Place, len(n.fields))
			}
			seen[f.name] = f.place
		}
		if !known(f.name) {
			d.refuse(problem.UnknownField, problem.Join(path, f.name), f.place, problem.Quote(f.name), expected)
		} else if twice {
			d.refuse(
				problem.DoubledField,
				problem.Join(path, f.name),
				f.place,
				problem.Quote(f.name),
				fmt.Sprintf("each field once; it is at line %d already", first.Line),
			)
		}
	}
}

func (o object) at(name string) string { return problem.Join(o.path, name) }

// field gives a field of a kind, nil when it is absent or, which is reported, of another kind.
func (o object) field(name string, kind nodeKind, expected string) *node {
	n := o.node.get(name)
	if n == nil {
		return nil
	}
	if n.kind != kind {
		if n.kind == numberNode || n.kind == integerNode || n.kind == boolNode {
			if kind == textNode {
				expected += ", in quotes"
			}
		}
		o.wrong(o.at(name), n, expected)
		return nil
	}
	return n
}

func (o object) text(name string) string {
	if n := o.field(name, textNode, "text"); n != nil {
		return n.text
	}
	return ""
}

// ref is the id of another object: if the field is there it must not be empty.
func (o object) ref(name string) string {
	n := o.field(name, textNode, "an id")
	if n == nil {
		return ""
	}
	if n.text == "" {
		o.refuse(problem.UnknownReference, o.at(name), n.place, `""`, "an id, or no such field")
	}
	return n.text
}

func (o object) integer(name string) *int64 {
	if n := o.field(name, integerNode, "a whole number"); n != nil {
		return &n.number
	}
	return nil
}

func (o object) boolean(name string) bool {
	n := o.field(name, boolNode, "true or false")
	return n != nil && n.flag
}

func (o object) require(name, expected string) {
	if o.node.get(name) == nil {
		o.refuse(problem.MissingField, o.at(name), o.node.place, "", expected)
	}
}

// list gives the items of a list field with their paths.
func (o object) list(name, of string, item func(n *node, path string)) (present bool) {
	n := o.field(name, listNode, "a list of "+of)
	if n == nil {
		return o.node.get(name) != nil
	}
	for i, each := range n.items {
		item(each, problem.Join(o.at(name), i))
	}
	return true
}

func listOf[T ~string](o object, name string) []T {
	n := o.field(name, listNode, "a list of texts")
	if n == nil {
		if o.node.get(name) != nil {
			return []T{}
		}
		return nil
	}
	out := make([]T, 0, len(n.items))
	for i, item := range n.items {
		if item.kind != textNode {
			o.wrong(problem.Join(o.at(name), i), item, "text")
			continue
		}
		out = append(out, T(item.text))
	}
	return out
}

func (o object) value(name string) setting.Value {
	if n := o.node.get(name); n != nil {
		return o.decoder.value(n, o.at(name))
	}
	return setting.Value{}
}

func (o object) values(name string) map[string]setting.Value {
	n := o.field(name, mapNode, "a map from names to values")
	if n == nil || len(n.fields) == 0 {
		return nil
	}
	o.keys(n, o.at(name), func(string) bool { return true }, "")
	out := make(map[string]setting.Value, len(n.fields))
	for _, f := range n.fields {
		out[f.name] = o.decoder.plain(f.value, problem.Join(o.at(name), f.name))
	}
	return out
}

func (o object) expression(name string, scope rule.Scope) *rule.Rule {
	n := o.field(name, textNode, "a CEL expression of type bool")
	if n == nil {
		return nil
	}
	r, err := rule.Compile(scope, n.text)
	if err != nil {
		o.refuse(
			problem.BadExpression,
			o.at(name),
			n.place,
			problem.Quote(n.text)+": "+err.Error(),
			"a CEL expression of type bool over "+strings.Join(scope.Variables(), ", "),
		)
	}
	return r
}

func (o object) pattern(name string) *regexp.Regexp {
	n := o.field(name, textNode, "a regular expression")
	if n == nil {
		return nil
	}
	re, err := regexp.Compile(n.text)
	if err != nil {
		o.refuse(problem.BadPattern, o.at(name), n.place, problem.Quote(n.text)+": "+err.Error(), "a regular expression (RE2 syntax)")
	}
	return re
}

func (o object) date(name string) estate.Date {
	n := o.field(name, textNode, "a day such as 2026-05-01")
	if n == nil {
		return ""
	}
	day, ok := estate.ParseDate(n.text)
	if !ok {
		o.refuse(problem.BadDate, o.at(name), n.place, problem.Quote(n.text), "a day of the calendar such as 2026-05-01")
	}
	return day
}

func (d *decoder) target(n *node, path string) estate.Target {
	const expected = "everyone, unit:ID, group:ID, device:ID or person:ID"
	if n.kind != textNode {
		d.wrong(path, n, expected)
		return estate.Target{}
	}
	t, ok := estate.ParseTarget(n.text)
	if !ok {
		d.refuse(problem.BadTarget, path, n.place, problem.Quote(n.text), expected)
	}
	return t
}

func (o object) targets(name string) (out []estate.Target) {
	o.list(name, "targets", func(n *node, path string) { out = append(out, o.target(n, path)) })
	return out
}

// detachments reads what a unit or a group stops inheriting: texts, or maps with a reason and a day
// to look again.
func (o object) detachments(name string) []estate.Detachment {
	var out []estate.Detachment
	present := o.list(name, "kinds of policy and areas", func(n *node, path string) {
		var long object
		what, at := n, path
		if n.kind == mapNode {
			long = o.decoder.object(n, path, "what", "reason", "review_on")
			long.require("what", estate.DetachmentForm)
			if what = long.field("what", textNode, estate.DetachmentForm); what == nil {
				return
			}
			at = problem.Join(path, "what")
		} else if n.kind != textNode {
			o.wrong(path, n, estate.DetachmentForm+", or a map with what, reason, review_on")
			return
		}
		d, ok := estate.ParseDetachment(what.text)
		if !ok {
			o.refuse(problem.NotOneOf, at, what.place, problem.Quote(what.text), estate.DetachmentForm)
			return
		}
		if n.kind == mapNode {
			d.Reason, d.ReviewOn = long.text("reason"), long.date("review_on")
		}
		out = append(out, d)
	})
	if present && out == nil {
		out = []estate.Detachment{}
	}
	return out
}

func (d *decoder) unit(n *node, path string) estate.Unit {
	o := d.object(n, path, "id", "parent", "title", "detach")
	return estate.Unit{
		ID:     estate.UnitID(o.text("id")),
		Parent: estate.UnitID(o.ref("parent")),
		Title:  o.text("title"),
		Detach: o.detachments("detach"),
	}
}

func (d *decoder) person(n *node, path string) estate.Person {
	o := d.object(n, path, "id", "name", "mail", "unit", "attributes")
	return estate.Person{
		ID:         estate.PersonID(o.text("id")),
		Name:       o.text("name"),
		Mail:       o.text("mail"),
		Unit:       estate.UnitID(o.ref("unit")),
		Attributes: o.values("attributes"),
	}
}

func (d *decoder) device(n *node, path string) estate.Device {
	o := d.object(n, path, "id", "serial", "owner", "users", "unit", "os", "os_version", "edition", "model", "tags", "taken", "facts")
	return estate.Device{
		ID:        estate.DeviceID(o.text("id")),
		Serial:    o.text("serial"),
		Owner:     estate.PersonID(o.ref("owner")),
		Users:     listOf[estate.PersonID](o, "users"),
		Unit:      estate.UnitID(o.ref("unit")),
		OS:        setting.Platform(o.text("os")),
		OSVersion: o.text("os_version"),
		Edition:   o.text("edition"),
		Model:     o.text("model"),
		Tags:      listOf[string](o, "tags"),
		Taken:     listOf[estate.PolicyID](o, "taken"),
		Facts:     o.values("facts"),
	}
}

func (d *decoder) group(n *node, path string) estate.Group {
	o := d.object(n, path, "id", "of", "title", "members", "groups", "rule", "detach")
	g := estate.Group{
		ID: estate.GroupID(o.text("id")), Of: estate.GroupOf(o.text("of")), Title: o.text("title"),
		Members: listOf[string](o, "members"), Groups: listOf[estate.GroupID](o, "groups"), Detach: o.detachments("detach"),
	}
	if g.Of == estate.OfPeople {
		g.Rule = o.expression("rule", rule.OfPerson)
	} else {
		g.Rule = o.expression("rule", rule.OfDevice)
	}
	return g
}
