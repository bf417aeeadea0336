// This file has what several commands print: JSON, tables, counts and findings.

package command

import (
	"encoding/json"
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/report"
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

// counted gives a number with its noun: 1 device, 2 devices.
func counted(n int, noun string) string { return report.Counted(n, noun) }

func orNone(ids []string) string {
	if len(ids) == 0 {
		return "none"
	}
	return strings.Join(ids, ", ")
}

// valueText shows a value in a table, "–" where there is none.
func valueText(v *setting.Value) string {
	if v == nil || v.IsNothing() {
		return "–"
	}
	return v.String()
}
