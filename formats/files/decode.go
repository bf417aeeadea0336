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

// decoder gathers the faults of shape: unknown, doubled and missing fields, wrong types, expressions and
// patterns that do not compile. What needs the whole estate is left to estate.Validate.
type decoder struct {
	faults problem.Faults
	muted  []string // paths of what was refused while parsing
	// file finds a file by its path in the folder that is read; nil where a file is named by its SHA-256.
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

// object is a map that is being decoded. Each accessor reports what is wrong with its field and gives the zero value.
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

// detachments reads what a unit or a group stops inheriting: texts, or maps with a reason and a day to look again.
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
	o := d.object(n, path, "id", "serial", "owner", "users", "unit", "os", "os_version", "edition", "model", "tags", "facts")
	return estate.Device{
		ID: estate.DeviceID(
			o.text("id"),
		),
		Serial: o.text("serial"),
		Owner:  estate.PersonID(o.ref("owner")),
		Users:  listOf[estate.PersonID](o, "users"),
		Unit: estate.UnitID(
			o.ref("unit"),
		),
		OS:        setting.Platform(o.text("os")),
		OSVersion: o.text("os_version"),
		Edition:   o.text("edition"),
		Model:     o.text("model"),
		Tags:      listOf[string](o, "tags"),
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

func (d *decoder) policy(n *node, path string) estate.Policy {
	o := d.object(n, path, "id", "title", "kind", "state", "priority", "platforms", "within", "owner", "why", "labels", "settings", "audience")
	p := estate.Policy{
		ID:    estate.PolicyID(o.text("id")),
		Title: o.text("title"),
		Kind:  setting.PolicyKind(o.text("kind")),
		State: estate.Active,
		Platforms: listOf[setting.Platform](
			o,
			"platforms",
		),
		Within: estate.UnitID(o.ref("within")),
		Owner:  o.text("owner"),
		Why:    o.text("why"),
		Labels: listOf[string](o, "labels"),
	}
	if o.node.get("state") != nil {
		p.State = estate.State(o.text("state"))
	}
	if n := o.integer("priority"); n != nil {
		p.Priority = *n
	}
	o.require("settings", "a map from settings to values, which may be empty")
	o.require("audience", "an audience, which may be empty: nobody")
	if s := o.node.get("settings"); s != nil && s.kind != nothingNode {
		if o.field("settings", mapNode, "a map from settings to values") != nil {
			p.Entries = d.entries(s, o.at("settings"))
		}
	}
	if a := o.node.get("audience"); a != nil && a.kind != nothingNode {
		audience := d.object(a, o.at("audience"), "include", "exclude", "when")
		p.Audience = estate.Audience{
			Include: audience.targets("include"),
			Exclude: audience.targets("exclude"),
			When:    audience.expression("when", rule.OfWhen),
		}
	}
	return p
}

func (d *decoder) entries(n *node, path string) []estate.Entry {
	d.keys(n, path, func(string) bool { return true }, "")
	var entries []estate.Entry
	seen := map[string]bool{}
	for _, f := range n.fields {
		if seen[f.name] {
			continue // reported by keys
		}
		seen[f.name] = true
		at := problem.Join(path, f.name)
		e := estate.Entry{Setting: setting.ID(f.name)}
		if f.value.kind == mapNode && f.value.get("file") == nil {
			o := d.object(f.value, at, "value", "lock", "note")
			o.require("value", "the entry's value")
			e.Value, e.Lock, e.Note = o.value("value"), o.boolean("lock"), o.text("note")
		} else {
			e.Value = d.value(f.value, at)
		}
		entries = append(entries, e)
	}
	return entries
}

func (d *decoder) exception(n *node, path string) estate.Exception {
	o := d.object(n, path, "id", "setting", "target", "value", "unset", "from", "until", "reason", "approved_by", "approved_on")
	e := estate.Exception{
		ID:      estate.ExceptionID(o.text("id")),
		Setting: setting.ID(o.ref("setting")),
		Value:   o.value("value"),
		Unset:   o.boolean("unset"),
		From: o.date(
			"from",
		),
		Until:      o.date("until"),
		Reason:     o.text("reason"),
		ApprovedBy: o.text("approved_by"),
		ApprovedOn: o.date("approved_on"),
	}
	if t := o.node.get("target"); t != nil {
		e.Target = d.target(t, o.at("target"))
	}
	return e
}

func (d *decoder) ruling(n *node, path string) estate.Ruling {
	o := d.object(n, path, "id", "setting", "prefer", "over", "reason")
	return estate.Ruling{
		ID:      estate.RulingID(o.text("id")),
		Setting: setting.ID(o.ref("setting")),
		Prefer:  estate.PolicyID(o.ref("prefer")),
		Over:    estate.PolicyID(o.ref("over")),
		Reason:  o.text("reason"),
	}
}

func (d *decoder) definition(n *node, path string) setting.Definition {
	o := d.object(
		n,
		path,
		"id",
		"title",
		"help",
		"kind",
		"area",
		"keywords",
		"side",
		"type",
		"combine",
		"default",
		"supports",
		"effects",
		"stricter",
		"min",
		"max",
		"measure",
		"pattern",
		"max_length",
		"format",
		"options",
		"item_pattern",
		"max_items",
		"columns",
		"key",
		"content",
		"forced",
	)
	def := setting.Definition{
		ID: setting.ID(
			o.text("id"),
		),
		Title:    o.text("title"),
		Help:     o.text("help"),
		Kind:     setting.PolicyKind(o.text("kind")),
		Area:     o.text("area"),
		Keywords: listOf[string](o, "keywords"),
		Side:     setting.DeviceSide,
		Combine:  setting.Closest,
		Default: o.value(
			"default",
		),
		Effects:  listOf[setting.Effect](o, "effects"),
		Stricter: setting.Stricter(o.text("stricter")),
		Shape:    o.shape(),
	}
	if key := listOf[string](o, "key"); key != nil {
		def.Key = key
	}
	if o.list("columns", "columns", func(n *node, path string) { def.Columns = append(def.Columns, d.column(n, path)) }) &&
		def.Columns == nil {
		def.Columns = []setting.Column{}
	}
	if o.node.get("side") != nil {
		def.Side = setting.Side(o.text("side"))
	}
	if o.node.get("combine") != nil {
		def.Combine = setting.Combine(o.text("combine"))
	}
	o.list("supports", "platforms", func(n *node, path string) {
		row := d.object(n, path, "platform", "from", "editions", "when", "needs")
		def.Supports = append(def.Supports, setting.Support{
			Platform: setting.Platform(row.text("platform")), From: row.version("from"), Editions: listOf[string](row, "editions"),
			When: row.expression("when", rule.OfDevice), Needs: row.text("needs"),
		})
	})
	o.list("forced", "conditions and values", func(n *node, path string) {
		f := d.object(n, path, "when", "value")
		f.require("when", "an expression")
		f.require("value", "the value that is forced")
		if when := f.expression("when", rule.OfForced); when != nil {
			def.Forced = append(def.Forced, setting.Forced{When: when, Value: f.value("value")})
		} else {
			def.Forced = append(def.Forced, setting.Forced{Value: f.value("value")})
		}
	})
	return def
}

// shape decodes the type and bounds of a setting or column.
func (o object) shape() setting.Shape {
	return setting.Shape{
		Type: setting.Type(
			o.text("type"),
		),
		Min:       o.integer("min"),
		Max:       o.integer("max"),
		Measure:   o.text("measure"),
		Pattern:   o.pattern("pattern"),
		MaxLength: o.integer("max_length"),
		Format: setting.Format(
			o.text("format"),
		),
		Options:     listOf[string](o, "options"),
		ItemPattern: o.pattern("item_pattern"),
		MaxItems:    o.integer("max_items"),
		Content:     setting.Content(o.text("content")),
	}
}

func (d *decoder) column(n *node, path string) setting.Column {
	o := d.object(
		n,
		path,
		"name",
		"title",
		"help",
		"required",
		"reads",
		"type",
		"min",
		"max",
		"measure",
		"pattern",
		"max_length",
		"format",
		"options",
		"item_pattern",
		"max_items",
		"content",
	)
	return setting.Column{
		Name:     o.text("name"),
		Title:    o.text("title"),
		Help:     o.text("help"),
		Required: o.boolean("required"),
		Reads:    setting.Reads(o.text("reads")),
		Shape:    o.shape(),
	}
}

// version is a dotted number that must not be empty where it is given.
func (o object) version(name string) string {
	n := o.field(name, textNode, "a dotted number such as \"10.4\"")
	if n != nil && n.text == "" {
		o.refuse(problem.BadVersion, o.at(name), n.place, `""`, "a dotted number such as 10.4")
	}
	if n == nil {
		return ""
	}
	return n.text
}

func (d *decoder) check(n *node, path string) estate.Check {
	o := d.object(n, path, "id", "message", "settings", "when", "warning")
	o.require("settings", "the settings that the check names")
	return estate.Check{
		ID:       estate.CheckID(o.text("id")),
		Message:  o.text("message"),
		Settings: listOf[setting.ID](o, "settings"),
		When:     o.expression("when", rule.OfCheck),
		Warning:  o.boolean("warning"),
	}
}
