// This file has what several commands print: JSON, tables, counts and findings.

package command

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"zenithridge.example/zridge/core/resolve"
	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/files"
)

// printJSON prints a value on one line.
func printJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// printTable prints rows under a header, in columns.
func printTable(w io.Writer, header []string, rows [][]string) {
	t := table.NewWriter()
	style := table.StyleLight
	style.Options = table.OptionsNoBordersAndSeparators
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", "   "
	t.SetStyle(style)
	t.AppendHeader(rowOf(header))
	for _, r := range rows {
		t.AppendRow(rowOf(r))
	}
	fmt.Fprintln(w, t.Render())
}

func rowOf(cells []string) table.Row {
	row := make(table.Row, len(cells))
	for i, c := range cells {
		row[i] = c
	}
	return row
}

var plurals = map[string]string{"policy": "policies", "person": "people"}

// counted gives a number with its noun: 1 device, 2 devices.
func counted(n int, noun string) string {
	if n != 1 {
		if many, irregular := plurals[noun]; irregular {
			noun = many
		} else {
			noun += "s"
		}
	}
	return fmt.Sprintf("%d %s", n, noun)
}

func orNone(ids []string) string {
	if len(ids) == 0 {
		return "none"
	}
	return strings.Join(ids, ", ")
}

type (
	conflictAnswer struct {
		Setting  string                  `json:"setting"`
		Policies []string                `json:"policies"`
		Values   []files.CandidateAnswer `json:"values"`
		Devices  []string                `json:"devices"`
	}
	problemAnswer struct {
		files.ProblemAnswer
		Devices []string `json:"devices"`
	}
	lintAnswer struct {
		Lint    string   `json:"lint"`
		Policy  string   `json:"policy"`
		Setting string   `json:"setting,omitempty"`
		Beside  []string `json:"beside,omitempty"`
		Devices int      `json:"devices"`
	}
)

func conflictAnswers(found []resolve.ConflictFound) []conflictAnswer {
	out := make([]conflictAnswer, len(found))
	for i, f := range found {
		out[i] = conflictAnswer{Setting: string(f.Setting), Policies: f.Policies, Devices: ids(f.Devices)}
		for _, c := range f.Values {
			out[i].Values = append(out[i].Values, files.CandidateOf(c))
		}
	}
	return out
}

func problemAnswers(found []resolve.ProblemFound) []problemAnswer {
	out := make([]problemAnswer, len(found))
	for i, f := range found {
		out[i] = problemAnswer{files.ProblemOf(f.Problem), ids(f.Devices)}
	}
	return out
}

func lintAnswers(found []resolve.Lint) []lintAnswer {
	out := make([]lintAnswer, len(found))
	for i, l := range found {
		out[i] = lintAnswer{string(l.Kind), string(l.Policy), string(l.Setting), l.Beside, l.Devices}
	}
	return out
}

func ids[T ~string](from []T) []string {
	out := make([]string, len(from))
	for i, id := range from {
		out[i] = string(id)
	}
	return out
}

// valueText shows a value in a table, "–" where there is none.
func valueText(v *setting.Value) string {
	if v == nil || v.IsNothing() {
		return "–"
	}
	return v.String()
}
