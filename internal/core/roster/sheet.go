package roster

import (
	"fmt"
	"slices"
	"strings"
)

// Sheet is a table whose columns are all named by headings that are known or not.
type Sheet struct {
	Headings []string // in lower case
	Rows     []SheetRow
}

// SheetRow is one row of a sheet.
type SheetRow struct {
	Line  int               // where it begins, from 1
	Cells map[string]string // by heading
	Wrong string            // why it can't be read; "" for nothing
}

// ReadSheet reads a table (RFC 4180, or separated by semicolons, tabs or bars) whose first line has headings, of which one at least is among
// those known. Cells that an export has marked, so that no spreadsheet takes them for formulas, are as they were. The error is an
// *[fault.Fault].
func ReadSheet(b []byte, known []string) (Sheet, error) {
	l := List{}
	text, err := l.decode(b)
	if err != nil {
		return Sheet{}, err
	}
	text = plain(text)
	skipped := 0
	if line, rest, _ := strings.Cut(text, "\n"); len(line) == len("sep=;") && strings.EqualFold(line[:4], "sep=") {
		text, skipped = rest, 1
	}
	best, most := rune(0), 0
	for _, d := range []rune{',', ';', '\t', '|'} {
		head, _, err := records(firstLine(text), d, 0)
		if err != nil || len(head) == 0 {
			continue
		}
		n := 0
		for _, h := range head[0] {
			if slices.Contains(known, strings.ToLower(strings.TrimSpace(h))) {
				n++
			}
		}
		if n > most {
			best, most = d, n
		}
	}
	if best == 0 {
		return Sheet{}, wrong(1+skipped, "The first line has to have headings, such as those of an export: %s.", strings.Join(known[:min(6, len(known))], ", "))
	}
	rows, lines, err := records(text, best, skipped)
	if err != nil {
		return Sheet{}, err
	}
	if len(rows)-1 > MaxLines {
		return Sheet{}, wrong(0, "The sheet has %d rows; %d is the most. Split it.", len(rows)-1, MaxLines)
	}
	var out Sheet
	for _, h := range rows[0] {
		h = strings.ToLower(strings.TrimSpace(h))
		if h != "" && slices.Contains(out.Headings, h) {
			return Sheet{}, wrong(lines[0], "There are two columns %s.", h)
		}
		out.Headings = append(out.Headings, h)
	}
	for len(out.Headings) > 0 && out.Headings[len(out.Headings)-1] == "" {
		out.Headings = out.Headings[:len(out.Headings)-1]
	}
	for i, row := range rows[1:] {
		for len(row) > len(out.Headings) && strings.TrimSpace(row[len(row)-1]) == "" {
			row = row[:len(row)-1]
		}
		if !slices.ContainsFunc(row, func(s string) bool { return strings.TrimSpace(s) != "" }) {
			continue
		}
		r := SheetRow{Line: lines[i+1], Cells: make(map[string]string, len(row))}
		if len(row) != len(out.Headings) {
			r.Wrong = fmt.Sprintf("It has %d fields, but there are %d headings. Put quotes around a field with a %s in it.", len(row), len(out.Headings), separator(best))
		}
		for j, cell := range row[:min(len(row), len(out.Headings))] {
			if len(cell) > 1 && cell[0] == '\'' && strings.ContainsRune("=+-@\t\r", rune(cell[1])) {
				cell = cell[1:]
			}
			r.Cells[out.Headings[j]] = strings.TrimSpace(cell)
		}
		out.Rows = append(out.Rows, r)
	}
	return out, nil
}
