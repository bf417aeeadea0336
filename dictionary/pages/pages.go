// Package pages makes the documentation of the dictionary: a page for each area, and one that leads
// to them.
package pages

import (
	"fmt"
	"strings"

	"zenithridge.example/zridge/formats/files"
	"zenithridge.example/zridge/formats/report"
)

// All gives the pages by file name, as Markdown.
func All(d files.Dictionary, areas []string) map[string]string {
	out := make(map[string]string, len(areas)+1)
	var index strings.Builder
	fmt.Fprintf(
		&index,
		"# The dictionary\n\n%d settings and %d checks ship with the service. These pages are generated from "+
			"[dictionary/areas](../../dictionary/areas).\n\n| area | settings |\n| --- | --- |\n",
		len(d.Settings),
		len(d.Checks),
	)
	for _, area := range areas {
		name := strings.ReplaceAll(area, " ", "-") + ".md"
		out[name] = report.Area(area, d.Settings, d.Checks).Markdown()
		n := 0
		for i := range d.Settings {
			if d.Settings[i].Area == area {
				n++
			}
		}
		fmt.Fprintf(&index, "| [%s](%s) | %d |\n", area, name, n)
	}
	out["README.md"] = index.String()
	return out
}
