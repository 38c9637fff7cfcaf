package cli

import (
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

// changing are the flags of a command that changes something.
type changing struct {
	preview bool
	version string
	key     string
}

// guarded lets a change be made only while what it changes is still as it was read.
func guarded(c *cobra.Command, x *changing) {
	c.Flags().StringVar(&x.version, "if-version", "", "change it only when it still has this version; of people, rN with their revision N")
}

// keyed lets a repeat of a command make nothing.
func keyed(c *cobra.Command, x *changing) {
	c.Flags().StringVar(&x.key, "idempotency-key", "", "makes a repeat of the same command with the same key harmless")
}

// changes makes a command one that changes something, and that can be looked at first.
func (a *app) changes(c *cobra.Command, do do, more ...func(*cobra.Command, *changing)) *cobra.Command {
	var x changing
	c.Flags().BoolVar(&x.preview, "preview", false, "show what it would do, and do nothing")
	for _, m := range more {
		m(c, &x)
	}
	prepare := func(cl *client.Client) *client.Client {
		if x.version != "" {
			cl = cl.Guarded(strconv.Quote(x.version))
		}
		if x.key != "" {
			cl = cl.Keyed(x.key)
		}
		return cl
	}
	c.RunE = func(cmd *cobra.Command, args []string) error {
		cl, err := a.client()
		if err != nil {
			return err
		}
		if !x.preview {
			err := do(cmd.Context(), prepare(cl), args)
			var e *client.Error
			if errors.As(err, &e) && e.Status == http.StatusForbidden && len(e.Problems) > 0 && e.Problems[0].Field == "session" { // what no token does
				return a.own(cmd.Context(), cl, func(session *client.Client, _ string) error { return do(cmd.Context(), prepare(session), args) })
			}
			return err
		}
		cl = prepare(cl)
		var p api.Preview
		if err := do(cmd.Context(), cl.Looking(&p), args); !errors.Is(err, client.ErrLooked) {
			return err
		}
		return a.showPreview(p)
	}
	return c
}

// errImpossible ends a look at what can't be done.
var errImpossible = errors.New("it can't be done as it is")

// showPreview prints what a change would do.
func (a *app) showPreview(p api.Preview) error {
	err := a.printPreview(p)
	switch {
	case err != nil:
		return err
	case len(p.Problems) > 0:
		return errImpossible
	}
	return wrongLines(p.Counts)
}

// wrongLines is the end of a command, looked at or done, that leaves lines of a file out.
func wrongLines(counts map[string]int) error {
	if n := counts["wrong"]; n > 0 {
		return fmt.Errorf("%s of the file could not be used; they are listed with the reason", plural(n, "line"))
	}
	return nil
}

func (a *app) printPreview(p api.Preview) error {
	switch {
	case a.output == "json":
		return a.json(p)
	case a.output == "csv" && len(p.Sample) > 0:
		return printAll(a, p, p.Sample, lineColumns)
	case a.output == "csv":
		return printAll(a, p, p.Effects, effectColumns)
	}
	fmt.Fprintln(a.out, wrap(p.Says, 0))
	for _, x := range p.Problems {
		if x.Says != p.Says {
			fmt.Fprintln(a.out, wrap("Not possible: "+x.Says, 4))
		}
	}
	for _, e := range p.Effects {
		a.printEffect(e, p.Says)
	}
	for _, w := range p.Warnings {
		fmt.Fprintln(a.out, wrap("Warning: "+w.Says+" "+w.Mend, 4))
	}
	if p.List != nil && len(p.List.Columns) > 0 {
		fmt.Fprintln(a.out, wrap(reading(*p.List), 4))
	}
	if p.Rule != nil {
		return a.printMatch(*p.Rule)
	}
	if len(p.Sample) == 0 {
		return nil
	}
	fmt.Fprintln(a.out)
	a.printLines(p.Sample)
	if p.Total > len(p.Sample) {
		fmt.Fprintf(a.out, "\n%s of %s are shown.\n", number(len(p.Sample)), number(p.Total))
	}
	return nil
}

// printEffect prints one effect of a change, unless what it says was said already.
func (a *app) printEffect(e api.Effect, said string) {
	if e.From != "" || e.To != "" {
		fmt.Fprintln(a.out, wrap(fmt.Sprintf("%s: %s → %s", e.Field, orNone(inWords(e.From)), orNone(inWords(e.To))), 4))
	}
	if e.Says != "" && !strings.Contains(said, strings.TrimSuffix(e.Says, ".")) {
		fmt.Fprintln(a.out, "    "+wrap(e.Says, 4))
	}
}

func orNone(s string) string {
	if s == "" {
		return "–"
	}
	return s
}

// reading says how a table of people was read.
func reading(l api.ListReading) string {
	var stands []string
	for _, x := range l.Columns {
		to := x.Stands
		if to == "" {
			to = "(left out)"
		}
		stands = append(stands, x.Heading+" = "+to)
	}
	return fmt.Sprintf("%s, separated by %q: %s", l.Encoding, l.Delimiter, strings.Join(stands, ", "))
}

var effectColumns = []column[api.Effect]{
	{name: "field", value: func(e api.Effect) any { return e.Field }},
	{name: "from", value: func(e api.Effect) any { return e.From }},
	{name: "to", value: func(e api.Effect) any { return e.To }},
	{name: "count", value: func(e api.Effect) any { return e.Count }},
	{name: "says", value: func(e api.Effect) any { return e.Says }, runs: true},
}

// lineColumns are those of what becomes of one entry of a list, one member, one request.
var lineColumns = []column[api.Line]{
	{name: "line", value: func(l api.Line) any { return l.Line }, show: func(l api.Line) string { return zeroless(l.Line) }},
	{name: "given", value: func(l api.Line) any { return l.Given }},
	{name: "name", value: func(l api.Line) any { return l.Name }, show: func(l api.Line) string {
		if l.Name == l.Address || l.Name == l.Given {
			return ""
		}
		return l.Name
	}},
	{name: "address", value: func(l api.Line) any { return l.Address }, whole: true},
	{name: "role", value: func(l api.Line) any { return l.Role }, csvOnly: true},
	{name: "status", value: func(l api.Line) any { return l.Status }, csvOnly: true},
	{name: "outcome", value: func(l api.Line) any { return l.Outcome }, show: outcome, whole: true},
	{name: "from", value: func(l api.Line) any { return l.From }, show: func(l api.Line) string { return inWords(l.From) }},
	{name: "to", value: func(l api.Line) any { return l.To }, show: func(l api.Line) string { return inWords(l.To) }},
	{name: "says", heading: "WHY OR WHAT TO DO", value: func(l api.Line) any { return lineSays(l) }, runs: true},
}

func lineSays(l api.Line) string {
	says := l.Says
	for j, c := range l.Choices {
		if j == 0 {
			says += " Perhaps "
		} else {
			says += ", "
		}
		says += c.Address
	}
	if says == "" && l.Outcome != "departed" {
		says = changesText(l.Changes)
	}
	return says
}

// outcome is what became of a line, and who it is where that says more.
func outcome(l api.Line) string {
	switch l.Status {
	case "", "new", "refused", l.Outcome:
		return l.Outcome
	}
	return l.Outcome + " (" + l.Status + ")"
}

func zeroless(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

// printLines prints lines as a table of the columns in which they have something. Beside
// what was given, the address says little.
func (a *app) printLines(lines []api.Line) {
	some := func(has func(api.Line) bool) bool { return slices.ContainsFunc(lines, has) }
	cols := slices.DeleteFunc(slices.Clone(lineColumns), func(c column[api.Line]) bool {
		return !some(func(l api.Line) bool { return c.text(l) != "" }) ||
			c.name == "address" && some(func(l api.Line) bool { return l.Given != "" })
	})
	printTable(a, lines, cols)
}

// results prints what became of several, each of which could be done or not; the error
// says that some could not.
func (a *app) results(value any, says string, lines []api.Line, done int) error {
	if a.output == "table" {
		a.printLines(lines)
		fmt.Fprintln(a.out, "\n"+wrap(says, 0))
	} else if err := printAll(a, value, lines, lineColumns); err != nil {
		return err
	}
	if refused := slices.IndexFunc(lines, func(l api.Line) bool { return l.Outcome == "refused" }); refused >= 0 {
		return fmt.Errorf("%d of %d done; the others are listed with the reason", done, len(lines))
	}
	return nil
}

// done says that a command did what it was to do. value is what the service answered, nil
// for nothing.
func (a *app) done(value any, format string, args ...any) error {
	says := fmt.Sprintf(format, args...)
	switch {
	case a.output == "json" && value != nil:
		return a.json(value)
	case a.output == "json":
		return a.json(map[string]string{"says": says})
	case a.output == "csv":
		return printAll(a, nil, []string{says}, []column[string]{{name: "says", value: func(s string) any { return s }}})
	}
	fmt.Fprintln(a.out, wrap(says, 0))
	return nil
}
