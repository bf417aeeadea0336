// This file writes the pages of the dictionary, one an area.

package report

import (
	"fmt"
	"strings"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/setting"
)

// Area writes the page of one area of a dictionary: each setting, and the checks that name one of
// them.
func Area(area string, settings []setting.Definition, checks []estate.Check) *Document {
	d := &Document{Title: "Dictionary: " + area}
	here := map[setting.ID]bool{}
	for i := range settings {
		def := &settings[i]
		if def.Area != area {
			continue
		}
		here[def.ID] = true
		d.heading(def.Title)
		d.say("%s", def.Help)
		d.Blocks = append(d.Blocks, Table{Header: []string{string(def.ID), string(def.Kind)}, Rows: factRows(def)})
		if len(def.Columns) > 0 {
			columns := Table{Header: []string{"Column", "Holds", ""}}
			for j := range def.Columns {
				c := &def.Columns[j]
				holds := c.Expectation()
				if c.Required {
					holds += "; needed"
				}
				if c.Reads != "" {
					holds += "; read from an application's file"
				}
				columns.Rows = append(columns.Rows, []string{c.Name, holds, c.Help})
			}
			d.Blocks = append(d.Blocks, columns)
		}
	}
	var points []string
	for i := range checks {
		c := &checks[i]
		for _, id := range c.Settings {
			if here[id] {
				word := ""
				if c.Warning {
					word = " (worth a look)"
				}
				points = append(points, fmt.Sprintf("%s: %s%s", c.ID, c.Message, word))
				break
			}
		}
	}
	if len(points) > 0 {
		d.heading("Checks")
		d.list(points)
	}
	return d
}

func factRows(def *setting.Definition) [][]string {
	rows := [][]string{{"Values", def.Expectation()}}
	if !def.Default.IsNothing() {
		rows = append(rows, []string{"Unmanaged", Value(def, def.Default)})
	}
	rows = append(rows, []string{"Several policies", Combines(def)}, []string{"Supported by", Support(def)})
	if def.Side == setting.UserSide {
		rows = append(rows, []string{"Whose", "the person's who signs in"})
	}
	if effects := Effects(def); len(effects) > 0 {
		rows = append(rows, []string{"A person notices", "it " + strings.Join(effects, "; it ")})
	}
	for _, f := range def.Forced {
		rows = append(rows, []string{"Forced", fmt.Sprintf("%s when %s", Value(def, f.Value), f.When.Source())})
	}
	if len(def.Key) > 0 {
		rows = append(rows, []string{"Rows", "each " + strings.Join(def.Key, " and ") + " once; two policies that differ in one " +
			"are a conflict"})
	}
	return append(rows, []string{"Also found by", strings.Join(def.Keywords, ", ")})
}
