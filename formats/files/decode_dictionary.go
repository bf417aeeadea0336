// This file decodes definitions of settings and checks.

package files

import (
	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

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
		ID:       setting.ID(o.text("id")),
		Title:    o.text("title"),
		Help:     o.text("help"),
		Kind:     setting.PolicyKind(o.text("kind")),
		Area:     o.text("area"),
		Keywords: listOf[string](o, "keywords"),
		Side:     setting.DeviceSide,
		Combine:  setting.Closest,
		Default:  o.value("default"),
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
		Type:        setting.Type(o.text("type")),
		Min:         o.integer("min"),
		Max:         o.integer("max"),
		Measure:     o.text("measure"),
		Pattern:     o.pattern("pattern"),
		MaxLength:   o.integer("max_length"),
		Format:      setting.Format(o.text("format")),
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
		"store",
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
		Store:    setting.Store(o.text("store")),
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
