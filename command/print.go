// This file has what several commands print: JSON, tables, counts and findings.

package command

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
	"golang.org/x/term"

	"zenithridge.example/zridge/core/setting"
	"zenithridge.example/zridge/formats/report"
)

// printJSON prints a value on one line.
func printJSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

// tableWidth is how many characters a table may be wide where nothing says how wide the terminal
// is.
const tableWidth = 100

// widthOf gives how many characters a line has room for: in the terminal that is printed to, or as
// COLUMNS says.
func widthOf(w io.Writer) int {
	if s, ok := w.(*shown); ok {
		w = s.w
	}
	if f, ok := w.(*os.File); ok {
		if width, _, err := term.GetSize(int(f.Fd())); err == nil && width >= 40 {
			return width
		}
	}
	if width, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && width >= 40 {
		return width
	}
	return tableWidth
}

const (
	between   = 2  // blanks between two columns
	narrowest = 8  // a column gets no narrower
	shortCell = 16 // the most characters of a short cell
	longWord  = 18 // the least characters of a word that is split
)

// columnWidths gives how wide columns may be, so that a table is no wider than room. Short cells,
// such as a moment, are split only where splitting long ones at their blanks is not enough, and
// words only where that is not enough either: ids and numbers stay in one piece as far as possible.
func columnWidths(header []string, rows [][]string, room int) []int {
	widths, short, words := make([]int, len(header)), make([]int, len(header)), make([]int, len(header))
	for _, row := range append([][]string{header}, rows...) {
		for i := range min(len(row), len(header)) {
			n := text.LongestLineLen(row[i])
			widths[i] = max(widths[i], n)
			if n <= shortCell {
				short[i] = max(short[i], n)
			}
			indent := len(row[i]) - len(strings.TrimLeft(row[i], " "))
			for _, word := range strings.Fields(row[i]) {
				words[i] = max(words[i], indent+text.StringWidthWithoutEscSequences(word))
			}
		}
	}
	total := between * (len(header) - 1)
	for i, n := range widths {
		total += n
		short[i] = max(short[i], words[i])
	}
	for _, least := range [][]int{short, words, nil} {
		for ; total > room; total-- {
			widest := -1
			for i, n := range widths {
				floor := longWord
				if least != nil {
					floor = max(least[i], narrowest)
				}
				if n > floor && (widest < 0 || n > widths[widest]) {
					widest = i
				}
			}
			if widest < 0 {
				break
			}
			widths[widest]--
		}
	}
	return widths
}

// printTable prints rows under a header, in columns. Cells of a table that is wider than the
// terminal go on in further lines.
func printTable(w io.Writer, header []string, rows [][]string) {
	t := table.NewWriter()
	style := table.StyleLight
	style.Options = table.OptionsNoBordersAndSeparators
	style.Format.Header = text.FormatDefault
	style.Box.PaddingLeft, style.Box.PaddingRight = "", strings.Repeat(" ", between)
	t.SetStyle(style)
	if strings.Join(header, "") != "" {
		t.AppendHeader(rowOf(header))
	}
	for _, r := range rows {
		t.AppendRow(rowOf(r))
	}
	var columns []table.ColumnConfig
	for i, width := range columnWidths(header, rows, widthOf(w)) {
		columns = append(columns, table.ColumnConfig{Number: i + 1, WidthMax: max(width, 1), WidthMaxEnforcer: wrapIndented})
	}
	t.SetColumnConfigs(columns)
	for line := range strings.SplitSeq(t.Render(), "\n") {
		fmt.Fprintln(w, strings.TrimRight(line, " "))
	}
}

// wrapIndented breaks a cell into lines of a width in columns, each indented as far as the first.
func wrapIndented(cell string, width int) string {
	words := strings.TrimLeft(cell, " ")
	indent := cell[:len(cell)-len(words)]
	if indent == "" || len(indent) >= width {
		return text.WrapSoft(cell, width)
	}
	return indent + strings.ReplaceAll(text.WrapSoft(words, width-len(indent)), "\n", "\n"+indent)
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
