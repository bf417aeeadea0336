// This file decodes policies, exceptions and rulings.

package files

import (
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

func (d *decoder) policy(n *node, path string) estate.Policy {
	o := d.object(
		n,
		path,
		"id",
		"title",
		"kind",
		"state",
		"priority",
		"platforms",
		"offered",
		"within",
		"on_drift",
		"owner",
		"why",
		"labels",
		"settings",
		"audience",
	)
	p := estate.Policy{
		ID:        estate.PolicyID(o.text("id")),
		Title:     o.text("title"),
		Kind:      setting.PolicyKind(o.text("kind")),
		State:     estate.Active,
		Platforms: listOf[setting.Platform](o, "platforms"),
		Offered:   o.boolean("offered"),
		Within:    estate.UnitID(o.ref("within")),
		Owner:     o.text("owner"),
		Why:       o.text("why"),
		Labels:    listOf[string](o, "labels"),
	}
	if o.node.get("state") != nil {
		p.State = estate.State(o.text("state"))
	}
	if how := estate.OnDrift(o.text("on_drift")); how != "repair" { // which is what it is when nothing is said
		p.OnDrift = how
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
		p.Audience = d.audience(a, o.at("audience"))
	}
	return p
}

// audience decodes who something is for.
func (d *decoder) audience(n *node, path string) estate.Audience {
	o := d.object(n, path, "include", "exclude", "when")
	return estate.Audience{
		Include: o.targets("include"),
		Exclude: o.targets("exclude"),
		When:    o.expression("when", rule.OfWhen),
	}
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
		ID:         estate.ExceptionID(o.text("id")),
		Setting:    setting.ID(o.ref("setting")),
		Value:      o.value("value"),
		Unset:      o.boolean("unset"),
		From:       o.date("from"),
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
