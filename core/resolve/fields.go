// This file says what values expressions find in the fields of laptops and people.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/estate"
	"zenithridge.example/zridge/core/resolve/internal/intern"
	"zenithridge.example/zridge/core/rule"
	"zenithridge.example/zridge/core/setting"
)

// FieldValues gives the different values that laptops, or people, have in a field that an expression
// looks at, in the order in which they are met, and how many laptops or people have one. After most
// different values the others are left out.
func (p *Plan) FieldValues(look rule.Look, most int) (values []setting.Value, known int) {
	column := &intern.Column{Look: look}
	n := p.Devices.Len()
	if look.Variable == "person" {
		n = p.People.Len()
	}
	seen := map[string]bool{}
	var key []byte
	for at := range n {
		v := p.ValueIn(column, at)
		if v.IsNothing() {
			continue
		}
		known++
		if key = v.AppendIdentity(key[:0]); !seen[string(key)] && len(values) < most {
			seen[string(key)] = true
			values = append(values, v)
		}
	}
	return values, known
}

// FieldNames lists the fields of `device`, or of `person`, that some laptop or person has, sorted.
func (p *Plan) FieldNames(variable string) []string {
	names := map[string]bool{}
	if variable == "person" {
		for _, name := range estate.PersonNames {
			names[name] = true
		}
		for _, who := range p.snapshot.People {
			for name := range who.Attributes {
				names[name] = true
			}
		}
	} else {
		for _, name := range estate.DeviceNames {
			names[name] = true
		}
		for _, d := range p.snapshot.Devices {
			for name := range d.Facts {
				names[name] = true
			}
		}
	}
	out := make([]string, 0, len(names))
	for name := range names {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}
