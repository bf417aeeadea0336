package command

import (
	"strings"
	"testing"
)

func TestCellsKeepTheirIndentation(t *testing.T) {
	t.Parallel()
	for _, each := range []struct {
		cell  string
		width int
		want  string
	}{
		{"Survey fleet", 20, "Survey fleet"},
		{"Survey fleet of the north", 14, "Survey fleet\nof the north"},
		{"    Survey fleet", 20, "    Survey fleet"},
		{"    Survey fleet of the north", 18, "    Survey fleet\n    of the north"},
		{"    Survey fleet", 4, "Surv\ney\nflee\nt"}, // no room for the indentation
		{"", 4, ""},
	} {
		lines := strings.Split(wrapIndented(each.cell, each.width), "\n")
		for i := range lines {
			lines[i] = strings.TrimRight(lines[i], " ") // lines are filled up to the width
		}
		if got := strings.Join(lines, "\n"); got != each.want {
			t.Errorf("%q in %d columns: found %q, expected %q", each.cell, each.width, got, each.want)
		}
	}
}
