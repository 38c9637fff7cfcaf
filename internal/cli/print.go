package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"os"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/term"
	"golang.org/x/text/width"
)

// lineWidth is the least that a table on a terminal fits into, in columns.
const lineWidth = 100

// width returns how many columns a table may take: those of the terminal, or of
// COLUMNS where that is set, but not under 100. In a pipe nothing is cut.
func (a *app) width() int {
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil {
		return max(n, lineWidth)
	}
	if f, ok := a.out.(*os.File); ok && term.IsTerminal(int(f.Fd())) {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil {
			return max(n, lineWidth)
		}
		return lineWidth
	}
	return math.MaxInt
}

// list prints rows under headings: as a table that fits the line, or as CSV; as
// JSON it prints value.
func (a *app) list(value any, headings []string, rows [][]string) error {
	switch a.output {
	case "json":
		return a.json(value)
	case "csv":
		w := csv.NewWriter(a.out)
		_ = w.Write(headings)
		_ = w.WriteAll(rows)
		return w.Error()
	}
	if len(rows) == 0 {
		fmt.Fprintln(a.out, "Nothing to list.")
		return nil
	}
	table(a.out, a.width(), headings, rows)
	return nil
}

func (a *app) json(value any) error {
	e := json.NewEncoder(a.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(value)
}

// facts prints names and values, one pair a line; as JSON it prints value.
func (a *app) facts(value any, pairs ...[2]string) error {
	if a.output == "csv" {
		rows := make([][]string, len(pairs))
		for i, p := range pairs {
			rows[i] = p[:]
		}
		return a.list(value, []string{"what", "value"}, rows)
	}
	if a.output == "json" {
		return a.json(value)
	}
	most := 0
	for _, p := range pairs {
		most = max(most, cells(p[0]))
	}
	for _, p := range pairs {
		if p[1] != "" {
			fmt.Fprintf(a.out, "%s  %s\n", pad(p[0], most), wrap(p[1], most+2))
		}
	}
	return nil
}

// wrap breaks a value at spaces so that lines after the first begin at indent.
func wrap(s string, indent int) string { return wrapTo(s, indent, lineWidth) }

// wrapTo is wrap for lines of so many columns.
func wrapTo(s string, indent, most int) string {
	var b strings.Builder
	at := indent
	for i, word := range strings.Fields(s) {
		if i > 0 && at+1+cells(word) > most {
			b.WriteString("\n" + strings.Repeat(" ", indent))
			at = indent
		} else if i > 0 {
			b.WriteByte(' ')
			at++
		}
		b.WriteString(word)
		at += cells(word)
	}
	return b.String()
}

// rigid are the columns that are cut last, for they are of little use when cut.
var rigid = map[string]bool{"ID": true, "ADDRESS": true, "SINCE": true, "WHEN": true, "EXPIRES": true, "OUTCOME": true}

func table(w io.Writer, fits int, headings []string, rows [][]string) {
	widths := make([]int, len(headings))
	for i, h := range headings {
		widths[i] = cells(h)
		for _, r := range rows {
			widths[i] = max(widths[i], cells(r[i]))
		}
	}
	for total(widths) > fits {
		i := widest(widths, func(i int) bool { return !rigid[headings[i]] && widths[i] > 12 })
		if i < 0 {
			i = widest(widths, func(i int) bool { return headings[i] != "ID" })
		}
		widths[i]--
	}
	last := len(headings) - 1
	for _, r := range append([][]string{headings}, rows...) {
		var line strings.Builder
		for i, c := range r {
			if i == last && running[headings[last]] {
				before := total(widths[:last]) + 2
				c = wrapTo(c, before, before+max(widths[last], 12))
				line.WriteString(c)
				continue
			}
			line.WriteString(pad(clip(c, widths[i]), widths[i]) + "  ")
		}
		fmt.Fprintln(w, strings.TrimRight(line.String(), " "))
	}
}

// running are last columns that go on in a second line rather than being cut.
var running = map[string]bool{"WHY OR WHAT TO DO": true, "WHY": true, "BREAKS": true, "SAYS": true, "FOR": true}

// widest returns the widest column of those that ok takes, -1 for none.
func widest(widths []int, ok func(int) bool) int {
	found := -1
	for i := range widths {
		if ok(i) && (found < 0 || widths[i] > widths[found]) {
			found = i
		}
	}
	return found
}

func total(widths []int) int {
	n := 2 * (len(widths) - 1)
	for _, w := range widths {
		n += w
	}
	return n
}

// cells is how many columns of a terminal a text takes.
func cells(s string) int {
	n := 0
	for _, r := range s {
		switch width.LookupRune(r).Kind() {
		case width.EastAsianWide, width.EastAsianFullwidth:
			n += 2
		default:
			n++
		}
	}
	return n
}

func clip(s string, most int) string {
	if cells(s) <= most {
		return s
	}
	for cells(s) > most-1 {
		_, size := utf8.DecodeLastRuneInString(s)
		s = s[:len(s)-size]
	}
	return s + "…"
}

func pad(s string, to int) string { return s + strings.Repeat(" ", max(0, to-cells(s))) }

// day writes a date as the console does: in 12 days (5 Dec 2026).
func day(at *time.Time, days *int) string {
	if at == nil {
		return "never"
	}
	date := at.Format("2 Jan 2006")
	switch {
	case days == nil:
		return date
	case *days == 0:
		return "today"
	case *days == 1:
		return "tomorrow (" + date + ")"
	}
	return fmt.Sprintf("in %d days (%s)", *days, date)
}

func moment(t time.Time) string { return t.Local().Format("2 Jan 2006 15:04") }

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if strings.HasSuffix(noun, "person") {
		return fmt.Sprintf("%d %speople", n, strings.TrimSuffix(noun, "person"))
	}
	return fmt.Sprintf("%d %ss", n, noun)
}
