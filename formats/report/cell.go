// This file has the cells of tables that are written for spreadsheets.

package report

import "strings"

// Cell gives a text as a cell of a table that no spreadsheet takes for a formula: it begins with an
// apostrophe then.
func Cell(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}
