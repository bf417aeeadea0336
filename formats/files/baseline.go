// This file decodes baselines, and writes them.

package files

import (
	"encoding/json"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

type (
	// BaselineDoc is a baseline.
	BaselineDoc struct {
		ID         string                     `json:"id"`
		Title      string                     `json:"title,omitempty"`
		Why        string                     `json:"why,omitempty"`
		Owner      string                     `json:"owner,omitempty"`
		AlertBelow json.Number                `json:"alert_below,omitempty" doc:"Percent of its laptops that must comply"`
		Audience   AudienceDoc                `json:"audience"`
		Settings   map[string]BaselineItemDoc `json:"settings"`
	}
	// BaselineItemDoc is a value that a baseline wants.
	BaselineItemDoc struct {
		Value    setting.Value `json:"value"`
		Severity string        `json:"severity,omitempty" enum:"critical,high,medium,low" doc:"medium when nothing is said"`
		Category string        `json:"category,omitempty"`
		OnDrift  string        `json:"on_drift,omitempty" enum:"repair,report" doc:"What is done where a laptop has another value and no policy decides the setting: only shown, which it is when nothing is said, or put right"`
	}
)

// baseline decodes a baseline. An item is of medium severity and only reported when nothing else is said.
func (d *decoder) baseline(n *node, path string) estate.Baseline {
	o := d.object(n, path, "id", "title", "why", "owner", "alert_below", "audience", "settings")
	b := estate.Baseline{ID: estate.BaselineID(o.text("id")), Title: o.text("title"), Why: o.text("why"), Owner: o.text("owner")}
	o.percent("alert_below", &b.AlertBelow, 0)
	o.require("settings", "a map from settings to the values that laptops are to have")
	o.require("audience", "an audience, which may be empty: nobody")
	if a := o.node.get("audience"); a != nil && a.kind != nothingNode {
		b.Audience = d.audience(a, o.at("audience"))
	}
	s := o.node.get("settings")
	if s == nil || s.kind == nothingNode || o.field("settings", mapNode, "a map from settings to values") == nil {
		return b
	}
	d.keys(s, o.at("settings"), func(string) bool { return true }, "")
	seen := map[string]bool{}
	for _, f := range s.fields {
		if seen[f.name] {
			continue // reported by keys
		}
		seen[f.name] = true
		b.Items = append(b.Items, d.baselineItem(f.name, f.value, problem.Join(o.at("settings"), f.name)))
	}
	return b
}

func (d *decoder) baselineItem(id string, n *node, at string) estate.BaselineItem {
	item := estate.BaselineItem{Setting: setting.ID(id), Severity: estate.Medium, OnDrift: estate.Report}
	if n.kind != mapNode || n.get("file") != nil {
		item.Value = d.value(n, at)
		return item
	}
	o := d.object(n, at, "value", "severity", "category", "on_drift")
	o.require("value", "the value that laptops are to have")
	item.Value, item.Category = o.value("value"), o.text("category")
	if severity := o.text("severity"); severity != "" {
		item.Severity = estate.Severity(severity)
	}
	switch how := estate.OnDrift(o.text("on_drift")); how {
	case "":
	case "repair":
		item.OnDrift = estate.Repair
	default:
		item.OnDrift = how
	}
	return item
}

func baselineDoc(b *estate.Baseline) BaselineDoc {
	doc := BaselineDoc{
		ID: string(b.ID), Title: b.Title, Why: b.Why, Owner: b.Owner, Audience: audienceDoc(&b.Audience), Settings: BaselineItems(b.Items),
	}
	if b.AlertBelow > 0 {
		doc.AlertBelow = json.Number(b.AlertBelow.String())
	}
	return doc
}

// BaselineItems gives items in the estate format, by setting.
func BaselineItems(items []estate.BaselineItem) map[string]BaselineItemDoc {
	out := make(map[string]BaselineItemDoc, len(items))
	for _, i := range items {
		item := BaselineItemDoc{Value: i.Value, Category: i.Category}
		if i.Severity != estate.Medium {
			item.Severity = string(i.Severity)
		}
		switch i.OnDrift {
		case estate.Repair:
			item.OnDrift = "repair"
		case estate.Report:
		default: // as it was written, for whoever checks it
			item.OnDrift = string(i.OnDrift)
		}
		out[string(i.Setting)] = item
	}
	return out
}
