// This file tells which facts of laptops matter.

package resolve

import (
	"slices"

	"zenithridge.example/zridge/core/estate"
)

// FactsNeeded lists the facts that some rule of the plan looks at, by name: rules of groups,
// conditions, forced values, checks, and what settings need. All others decide nothing.
func (p *Plan) FactsNeeded() []string {
	var out []string
	for _, c := range p.needed {
		if c.Look.Variable == "device" && !slices.Contains(estate.DeviceNames, c.Look.Field) {
			out = append(out, c.Look.Field)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}
