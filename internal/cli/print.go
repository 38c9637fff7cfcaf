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

	"ivytable.example/ivytable/internal/api"
)

// column is one column of a list: what it is called and what it has of each row. A table
// shows it for people, CSV has the value as the interface has it. JSON is what the
// interface answered.
type column[T any] struct {
	name    string         // in CSV; in capitals over a table
	heading string         // over a table, where it is another
	value   func(T) any    // text, number, truth, moment, or texts
	show    func(T) string // in a table; nil: the value
	csvOnly bool           // not in a table
	whole   bool           // in a table, it is cut last: it is of little use when cut
	runs    bool           // in a table, the last one goes on in a second line rather than being cut
}

func (c column[T]) text(row T) string {
	if c.show != nil {
		return c.show(row)
	}
	if t, is := c.value(row).(time.Time); is {
		return moment(t)
	}
	return raw(c.value(row))
}

// raw writes a value for a program: moments as RFC 3339, texts with spaces between them,
// what there is not as nothing.
func raw(v any) string {
	switch v := v.(type) {
	case nil:
		return ""
	case time.Time:
		if v.IsZero() {
			return ""
		}
		return v.Format(time.RFC3339)
	case *time.Time:
		if v == nil {
			return ""
		}
		return raw(*v)
	case *string:
		if v == nil {
			return ""
		}
		return *v
	case *int:
		if v == nil {
			return ""
		}
		return strconv.Itoa(*v)
	case []string:
		return strings.Join(v, " ")
	}
	return fmt.Sprint(v)
}

// printAll prints rows in the way that was asked for; as JSON it prints value.
func printAll[T any](a *app, value any, rows []T, cols []column[T]) error {
	switch a.output {
	case "json":
		return a.json(value)
	case "csv":
		w := csv.NewWriter(a.out)
		writeHeadings(w, cols)
		writeRows(w, rows, cols)
		return w.Error()
	}
	if len(rows) == 0 {
		fmt.Fprintln(a.out, "Nothing to list.")
		return nil
	}
	printTable(a, rows, cols)
	return nil
}

func writeHeadings[T any](w *csv.Writer, cols []column[T]) {
	names := make([]string, len(cols))
	for i, c := range cols {
		names[i] = c.name
	}
	_ = w.Write(names)
	w.Flush()
}

func writeRows[T any](w *csv.Writer, rows []T, cols []column[T]) {
	line := make([]string, len(cols))
	for _, r := range rows {
		for i, c := range cols {
			line[i] = raw(c.value(r))
			if _, text := c.value(r).(string); text {
				line[i] = api.Cell(line[i])
			}
		}
		_ = w.Write(line)
	}
	w.Flush()
}

func (a *app) json(value any) error {
	e := json.NewEncoder(a.out)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	return e.Encode(value)
}

// fact is something that is known of one thing.
type fact [2]string

// one prints one thing: as facts, one a line; as CSV its row in the list of its kind.
func one[T any](a *app, v T, cols []column[T], facts ...fact) error {
	if a.output != "table" {
		return printAll(a, v, []T{v}, cols)
	}
	most := 0
	for _, f := range facts {
		most = max(most, cells(f[0]))
	}
	for _, f := range facts {
		if f[1] != "" {
			fmt.Fprintf(a.out, "%s  %s\n", pad(f[0], most), wrap(f[1], most+2))
		}
	}
	return nil
}

// Facts of which there is no list are a CSV of names and values.
func (a *app) facts(value any, facts ...fact) error {
	if a.output == "csv" {
		return printAll(a, value, facts, []column[fact]{{name: "what", value: func(f fact) any { return f[0] }}, {name: "value", value: func(f fact) any { return f[1] }}})
	}
	if a.output == "json" {
		return a.json(value)
	}
	return one(a, fact{}, nil, facts...)
}

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

// printTable prints rows as a table that fits the line.
func printTable[T any](a *app, rows []T, all []column[T]) {
	var cols []tableColumn
	texts := make([][]string, len(rows))
	for _, c := range all {
		if c.csvOnly {
			continue
		}
		t := tableColumn{heading: c.heading, whole: c.whole, runs: c.runs}
		if t.heading == "" {
			t.heading = strings.ToUpper(strings.ReplaceAll(c.name, "_", " "))
		}
		cols = append(cols, t)
		for i, r := range rows {
			texts[i] = append(texts[i], c.text(r))
		}
	}
	table(a.out, a.width(), cols, texts)
}

type tableColumn struct {
	heading     string
	whole, runs bool
}

func table(w io.Writer, fits int, cols []tableColumn, rows [][]string) {
	widths, least := make([]int, len(cols)), make([]int, len(cols))
	headings := make([]string, len(cols))
	for i, c := range cols {
		headings[i], widths[i], least[i] = c.heading, cells(c.heading), 12
		for _, r := range rows {
			widths[i] = max(widths[i], cells(r[i]))
			for word := range strings.FieldsSeq(r[i]) {
				if c.runs {
					least[i] = max(least[i], cells(word)) // it is not cut, so it has to fit
				}
			}
		}
	}
	for total(widths) > fits {
		i := widest(widths, func(i int) bool { return !cols[i].whole && widths[i] > least[i] })
		if i < 0 {
			i = widest(widths, func(i int) bool { return cols[i].heading != "ID" && !cols[i].runs })
		}
		widths[i]--
	}
	last := len(cols) - 1
	for _, r := range append([][]string{headings}, rows...) {
		var line strings.Builder
		for i, c := range r {
			if i == last && cols[last].runs {
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

// day writes a date such as 2027-01-02 for people; "never" for none.
func day(date *string) string {
	if date == nil || *date == "" {
		return "never"
	}
	return inWords(*date)
}

// inWords writes a value of a change for people: a date, yes or no; anything else as it is.
func inWords(s string) string {
	switch t, err := time.Parse(time.DateOnly, s); {
	case err == nil:
		return t.Format("2 Jan 2006")
	case s == "true":
		return "yes"
	case s == "false":
		return "no"
	}
	return s
}

// dayIn is day with how far off it is: in 12 days (5 Dec 2026).
func dayIn(date *string, days *int) string {
	switch {
	case date == nil || days == nil:
		return day(date)
	case *days == 0:
		return "today"
	case *days == 1:
		return "tomorrow (" + day(date) + ")"
	}
	return fmt.Sprintf("in %d days (%s)", *days, day(date))
}

// dayOf is the day of a moment, as the workspace counts days: the service gives moments
// with the offset of its zone.
func dayOf(t time.Time) string { return t.Format("2 Jan 2006") }

// moment is a moment by the clocks of the workspace.
func moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Format("2 Jan 2006 15:04")
}

// number writes a number with a comma at the thousands.
func number(n int) string {
	s := strconv.Itoa(n)
	for i := len(s) - 3; i > 0 && s[i-1] != '-'; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

func plural(n int, noun string) string {
	if n == 1 {
		return "1 " + noun
	}
	if strings.HasSuffix(noun, "person") {
		return fmt.Sprintf("%s %speople", number(n), strings.TrimSuffix(noun, "person"))
	}
	if stem, ok := strings.CutSuffix(noun, "entry"); ok {
		return fmt.Sprintf("%s %sentries", number(n), stem)
	}
	return fmt.Sprintf("%s %ss", number(n), noun)
}
