package api

import "strings"

// Cell makes a text safe as a cell of a CSV file: one that a spreadsheet would take for a
// formula begins with an apostrophe, which reading a list of people takes away.
func Cell(text string) string {
	if text != "" && strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return "'" + text
	}
	return text
}
