// This file decodes values: plain ones, tables and files.

package files

import (
	"slices"

	"zenithridge.example/zridge/core/problem"
	"zenithridge.example/zridge/core/setting"
)

// plain decodes a bool, a whole number, a text or a list of texts: what a fact or attribute may be.
func (d *decoder) plain(n *node, path string) setting.Value {
	if n.kind == mapNode || n.kind == listNode && slices.ContainsFunc(n.items, func(item *node) bool { return item.kind == mapNode }) {
		d.wrong(path, n, "a bool, a whole number, text or a list of texts")
		return setting.Value{}
	}
	return d.value(n, path)
}

// value decodes a value of a setting.
func (d *decoder) value(n *node, path string) setting.Value {
	switch n.kind {
	case boolNode:
		return setting.BoolValue(n.flag)
	case integerNode:
		return setting.IntegerValue(n.number)
	case textNode:
		return setting.TextValue(n.text)
	case listNode:
		if len(n.items) > 0 && n.items[0].kind == mapNode {
			return d.table(n, path)
		}
		items := make([]string, 0, len(n.items))
		for i, item := range n.items {
			if item.kind != textNode {
				d.wrong(problem.Join(path, i), item, "text")
				continue
			}
			items = append(items, item.text)
		}
		return setting.ListValue(items)
	case mapNode:
		if n.get("file") != nil {
			return d.fileValue(n, path)
		}
	}
	d.wrong(path, n, "a bool, a whole number, text, a list of texts, a table or a file")
	return setting.Value{}
}

// table decodes a list of rows, each a map from columns to cells.
func (d *decoder) table(n *node, path string) setting.Value {
	rows := make([]setting.Row, 0, len(n.items))
	for i, item := range n.items {
		at := problem.Join(path, i)
		if item.kind != mapNode {
			d.wrong(at, item, "a row: a map from columns to values")
			continue
		}
		d.keys(item, at, func(string) bool { return true }, "")
		row := make(setting.Row, len(item.fields))
		for _, f := range item.fields {
			cell := problem.Join(at, f.name)
			switch {
			case f.value.kind == nothingNode && !f.value.bad:
			case f.value.kind == mapNode && f.value.get("file") != nil:
				row[f.name] = d.fileValue(f.value, cell)
			default:
				row[f.name] = d.plain(f.value, cell)
			}
		}
		rows = append(rows, row)
	}
	return setting.TableValue(rows)
}

// fileValue decodes a file: a path in a folder, else a SHA-256 with the name and size.
func (d *decoder) fileValue(n *node, path string) setting.Value {
	names := []string{"file", "name"}
	if d.file == nil {
		names = append(names, "size")
	}
	o := d.object(n, path, names...)
	f := setting.File{Name: o.text("name")}
	where := o.field("file", textNode, "the path of a file in this folder")
	if where == nil {
		return setting.Value{}
	}
	if d.file != nil {
		found, wrong, expected := d.file(where.text, where.place)
		if wrong != "" {
			d.refuse(problem.UnknownFile, o.at("file"), where.place, wrong, expected)
			return setting.Value{}
		}
		if f.Name == "" {
			f.Name = found.Name
		}
		f.SHA256, f.Size = found.SHA256, found.Size
		return setting.FileValue(f)
	}
	f.SHA256 = where.text
	if size := o.integer("size"); size != nil {
		f.Size = *size
	}
	if !setting.IsSHA256(f.SHA256) {
		d.refuse(problem.BadHash, o.at("file"), where.place, problem.Quote(f.SHA256), "the SHA-256 of a file: 64 hexadecimal "+
			"digits, lower case")
	}
	return setting.FileValue(f)
}
