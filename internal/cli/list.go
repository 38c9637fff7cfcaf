package cli

import (
	"cmp"
	"encoding/csv"
	"fmt"
	"os"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

// paging is the part of a list that is wanted.
type paging struct {
	client.Paging
	all  bool
	flag func(name string) bool // whether it was given
}

// paged gives a command the flags of a list.
func paged(c *cobra.Command, p *paging) {
	f := c.Flags()
	f.IntVar(&p.Limit, "limit", 50, "how many to list, 200 at most")
	f.StringVar(&p.Cursor, "cursor", "", "where to go on, as a list before said")
	f.BoolVar(&p.all, "all", false, "list all of them; JSON and CSV are of all unless --limit says otherwise")
	p.flag = f.Changed
}

// pageSize is how many are asked for at once where all are wanted.
const pageSize = 200

// list prints a list: a page of it as a table, which says how the rest is got, or all of
// it. CSV is written as it comes.
func list[T any](a *app, p *paging, read func(client.Paging) (api.Page[T], error), cols []column[T]) error {
	if p.all && p.flag("limit") {
		return usagef("--all lists all of them and --limit so many: give one of the two")
	}
	if !p.all && (a.output == "table" || p.flag("limit") || p.flag("cursor")) {
		page, err := read(p.Paging)
		if err != nil {
			return err
		}
		if err := printAll(a, page, page.Items, cols); err != nil {
			return err
		}
		a.more(page.Next, len(page.Items), page.Total)
		a.aside(page.Hidden)
		a.aside(page.Note)
		return nil
	}
	at, whole := client.Paging{Cursor: p.Cursor, Limit: pageSize}, api.Page[T]{Items: []T{}}
	w := csv.NewWriter(a.out)
	for n := 0; ; {
		page, err := read(at)
		if err != nil {
			return err
		}
		if a.output == "csv" {
			if n == 0 {
				writeHeadings(w, cols)
			}
			writeRows(w, page.Items, cols)
			if err := w.Error(); err != nil {
				return err
			}
		} else {
			whole.Items = append(whole.Items, page.Items...)
		}
		n, whole.Hidden = n+len(page.Items), page.Hidden
		whole.Note = cmp.Or(whole.Note, page.Note)
		a.progress(n, page.Total, page.Next == "")
		if at.Cursor = page.Next; at.Cursor == "" {
			whole.Total = int64(n)
			break
		}
	}
	a.aside(whole.Hidden)
	if a.output == "csv" {
		return nil
	}
	return printAll(a, whole, whole.Items, cols)
}

// aside tells what there is to know of a list beside it.
func (a *app) aside(says string) {
	if says != "" {
		fmt.Fprintln(a.err, says)
	}
}

// more tells that a list was cut, and how the rest is got.
func (a *app) more(next string, shown int, total int64) {
	switch {
	case next == "":
	case total < 0:
		fmt.Fprintf(a.err, "%s shown; there are more. All: --all. The next: --cursor %s\n", number(shown), next)
	default:
		fmt.Fprintf(a.err, "%s of %s shown. All: --all. The next: --cursor %s\n", number(shown), number(int(total)), next)
	}
}

// progress shows how far a long list is, on a terminal only.
func (a *app) progress(n int, total int64, done bool) {
	f, ok := a.err.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) || total <= pageSize {
		return
	}
	fmt.Fprintf(f, "\r%s of %s", number(n), number(int(total)))
	if done {
		fmt.Fprint(f, "\r\033[K")
	}
}
