package files_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
)

// What a parser takes the square of has a limit. As much as is allowed is read.
func TestFilesWithoutEndAreRefused(t *testing.T) {
	many := func(n int, line string) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, line, i)
		}
		return b.String()
	}
	const root = "units:\n- id: root\n"
	chain := func(n int) string {
		var b strings.Builder
		b.WriteString("units:\n- {id: u0}\n")
		for i := 1; i < n; i++ {
			fmt.Fprintf(&b, "- {id: u%d, parent: u%d}\n", i, i-1)
		}
		return b.String()
	}
	for name, test := range map[string]struct {
		file, text string
		code       string // empty: it is read
	}{
		"documents":          {"a.yaml", root + many(1001, "---\npeople: [{id: p%d}]\n"), "too-many"},
		"as many documents":  {"a.yaml", root + many(999, "---\npeople: [{id: p%d}]\n"), ""},
		"keys":               {"a.yaml", root + "people:\n- id: x\n  attributes:\n" + many(10_001, "    k%d: 1\n"), "too-many"},
		"keys in braces":     {"a.yaml", root + "people: [{id: x, attributes: {" + many(10_002, "k%d: 1, ") + "}}]\n", "too-many"},
		"as many keys":       {"a.yaml", root + "people:\n- id: x\n  attributes:\n" + many(2000, "    k%d: 1\n"), ""},
		"keys of many items": {"a.yaml", root + "people:\n" + many(6000, "- id: p%d\n  name: x\n"), ""},
		"items in brackets": {"a.yaml", root + "groups: [{id: g, of: devices, rule: 'true', title: x}]\npeople: [" +
			many(12_000, "{id: p%d, name: x}, ") + "]\n", ""},
		"colons":                 {"a.yaml", root + "x: " + strings.Repeat(": ", 2000) + "\n", "too-many"},
		"colons in a text":       {"a.yaml", root + "people: [{id: x, name: \"" + strings.Repeat(": ", 2000) + "\"}]\n", ""},
		"units above each other": {"a.yaml", chain(66), "too-many"},
		"as many units":          {"a.yaml", chain(64), ""},
		"columns":                {"devices.csv", "id,os,os_version," + strings.TrimSuffix(many(1000, "fact.c%d,"), ",") + "\n", "too-many"},
	} {
		folder := folderOf(t, test.file, test.text)
		got := faultsOf(t, folder)
		refused := slices.ContainsFunc(got, func(f string) bool { return strings.HasSuffix(f, "too-many") })
		if refused != (test.code != "") {
			t.Errorf("%s: the faults are %.300q", name, got)
		}
	}
}
