package cli

import (
	"context"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

func (a *app) personCommands() *cobra.Command {
	return noun("person", "The directory of people: search, list, show, add, change, depart, return, import",
		a.personSearch(), a.personList(), a.personShow(), a.personAdd(), a.personChange(), a.personDepart(), a.personReturn(), a.personPasswordLink(), a.personHistory(), a.personImport())
}

func (a *app) people(value any, list []api.Person) error {
	rows := make([][]string, len(list))
	for i, x := range list {
		rows[i] = []string{x.Name, x.Address, x.Attributes["department"], x.Attributes["locality"], x.WorkspaceRole}
	}
	return a.list(value, []string{"NAME", "ADDRESS", "DEPARTMENT", "PLACE", "WORKSPACE ROLE"}, rows)
}

func (a *app) personSearch() *cobra.Command {
	var limit int
	c := &cobra.Command{
		Use: "search WORDS", Short: "Search people by beginnings of words of a name or address", Args: cobra.MinimumNArgs(1), Example: "  ivytable person search ske",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			found, err := c.SuggestPeople(ctx, strings.Join(args, " "), limit)
			if err != nil {
				return err
			}
			return a.people(found, found)
		}),
	}
	c.Flags().IntVar(&limit, "limit", 20, "how many to show, 20 at most")
	return c
}

func (a *app) personList() *cobra.Command {
	var l client.PeopleList
	c := &cobra.Command{
		Use: "list [WORDS]", Short: "List the directory of people",
		Example: "  ivytable person list --limit 100\n  ivytable person list --lacks department\n  ivytable person list --kind departed",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			l.Q = strings.Join(args, " ")
			p, err := c.People(ctx, l)
			if err != nil {
				return err
			}
			if err := a.people(p, p.Items); err != nil {
				return err
			}
			a.more(p.Next, len(p.Items), p.Total)
			return nil
		}),
	}
	paged(c, &l.Paging)
	c.Flags().StringVar(&l.Kind, "kind", "", "here, departed or external")
	c.Flags().StringVar(&l.Lacks, "lacks", "", "only those who have no value for this field, such as department")
	return c
}

func (a *app) showPerson(p api.PersonDetails) error {
	state := "here"
	if !p.Active {
		state = "has left"
		if p.DepartedAt != nil {
			state += " on " + day(p.DepartedAt, nil)
		}
	}
	if p.External {
		state = "external"
	}
	pairs := [][2]string{{"Name", p.Name}, {"Address", p.Address}, {"State", state}, {"Workspace role", p.WorkspaceRole}}
	for _, k := range slices.Sorted(maps.Keys(p.Attributes)) {
		pairs = append(pairs, [2]string{k, p.Attributes[k]})
	}
	for i, g := range p.Groups {
		name := ""
		if i == 0 {
			name = "Groups"
		}
		role := g.Role
		if g.LastOwner {
			role = "the only owner"
		}
		if g.ByRule {
			role += " by rule"
		}
		pairs = append(pairs, [2]string{name, fmt.Sprintf("%s <%s>, %s", g.Name, g.Address, role)})
	}
	return a.facts(p, pairs...)
}

func (a *app) personShow() *cobra.Command {
	return &cobra.Command{
		Use: "show PERSON", Short: "Show one person with their groups", Args: cobra.ExactArgs(1), Example: "  ivytable person show oda.fenn@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Person(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showPerson(p)
		}),
	}
}

func (a *app) personAdd() *cobra.Command {
	var n api.NewPersonEntry
	c := &cobra.Command{
		Use: "add ADDRESS NAME", Short: "Put somebody into the directory", Args: cobra.ExactArgs(2),
		Example: "  ivytable person add liv.strand@merrowline.example \"Liv Strand\" --set department=Deck --set locality=\"Gannet Quay\"",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			n.Address, n.Name = args[0], args[1]
			p, err := c.CreatePerson(ctx, n)
			if err != nil {
				return err
			}
			return a.showPerson(p)
		}),
	}
	c.Flags().StringToStringVar(&n.Attributes, "set", nil, "a field, such as department=Deck; repeat for more")
	c.Flags().StringVar(&n.WorkspaceRole, "workspace-role", "", "administrator or auditor")
	c.Flags().BoolVar(&n.PasswordLink, "password-link", false, "mail them a link by which they choose a password")
	return c
}

func (a *app) personChange() *cobra.Command {
	var name, role string
	var p api.PersonPatch
	var version int
	c := &cobra.Command{
		Use: "change PERSON", Short: "Change an entry of the directory; rules of membership follow at once", Args: cobra.ExactArgs(1),
		Example: "  ivytable person change tove.alder@merrowline.example --set department=Safety --set title=",
	}
	c.RunE = a.run(func(ctx context.Context, cl *client.Client, args []string) error {
		if c.Flags().Changed("name") {
			p.Name = &name
		}
		if c.Flags().Changed("workspace-role") {
			p.WorkspaceRole = &role
		}
		if p.Name == nil && p.WorkspaceRole == nil && len(p.Attributes) == 0 {
			return usagef("nothing to change: give --name, --set or --workspace-role")
		}
		d, err := cl.ChangePerson(ctx, args[0], p, version)
		if err != nil {
			return err
		}
		return a.showPerson(d)
	})
	c.Flags().StringVar(&name, "name", "", "a new name")
	c.Flags().StringToStringVar(&p.Attributes, "set", nil, "a field, such as department=Deck, or department= to empty it; repeat for more")
	c.Flags().StringVar(&role, "workspace-role", "", "administrator, auditor, or empty for none")
	c.Flags().IntVar(&version, "if-version", 0, "change it only when it is still this version")
	return c
}

func (a *app) personDepart() *cobra.Command {
	var d api.Departure
	var try bool
	c := &cobra.Command{
		Use: "depart PERSON", Short: "Somebody leaves the organisation; what only they own is handed over", Args: cobra.ExactArgs(1),
		Example: "  ivytable person depart oda.fenn@merrowline.example --try\n  ivytable person depart oda.fenn@merrowline.example --hand-to bram.tolley@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			if !try {
				p, err := c.Depart(ctx, args[0], d)
				if err != nil {
					return err
				}
				return a.showPerson(p)
			}
			e, err := c.DepartureEffect(ctx, args[0])
			if err != nil {
				return err
			}
			pairs := [][2]string{{"Says", e.Says}}
			for _, g := range e.LastOwner {
				pairs = append(pairs, [2]string{"Only owner of", g.Name + " <" + g.Address + ">"})
			}
			return a.facts(e, pairs...)
		}),
	}
	c.Flags().StringVar(&d.HandTo, "hand-to", "", "who becomes an owner of what only they own")
	c.Flags().BoolVar(&try, "try", false, "show what it would do, and do nothing")
	return c
}

func (a *app) personPasswordLink() *cobra.Command {
	return &cobra.Command{
		Use: "password-link PERSON", Short: "Mail somebody a link by which they choose a password", Args: cobra.ExactArgs(1),
		Example: "  ivytable person password-link liv.strand@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			return c.SendPasswordLink(ctx, args[0])
		}),
	}
}

func (a *app) personReturn() *cobra.Command {
	return &cobra.Command{
		Use: "return PERSON", Short: "Somebody who had left is here again", Args: cobra.ExactArgs(1), Example: "  ivytable person return oda.fenn@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Return(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showPerson(p)
		}),
	}
}

func (a *app) personHistory() *cobra.Command {
	var paging client.Paging
	c := &cobra.Command{
		Use: "history PERSON", Short: "List what somebody did, and what was done to them", Args: cobra.ExactArgs(1), Example: "  ivytable person history oda.fenn@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.HistoryOfPerson(ctx, args[0], paging)
			if err != nil {
				return err
			}
			return a.showHistory(p)
		}),
	}
	paged(c, &paging)
	return c
}

func (a *app) personImport() *cobra.Command {
	var q api.Import
	c := &cobra.Command{
		Use: "import FILE", Short: "Make the directory like a CSV file, or show what that would do", Args: cobra.ExactArgs(1),
		Long:    "Make the directory like a CSV file: new people come in, fields in its columns change, those\nwho had left return. With --sync, whoever is not in it departs. Wrong lines are left out.",
		Example: "  ivytable person import staff.csv --try\n  ivytable person import staff.csv --column Kostenstelle=costCenter\n  ivytable person import staff.csv --sync --try",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			var err error
			if q.File, err = os.ReadFile(args[0]); err != nil {
				return err
			}
			r, err := c.ImportPeople(ctx, q)
			if err != nil {
				return err
			}
			rows := make([][]string, len(r.Lines))
			for i, l := range r.Lines {
				line := ""
				if l.Line > 0 {
					line = fmt.Sprint(l.Line)
				}
				says := l.Says
				if says == "" && l.Outcome != "departed" {
					says = changesText(l.Changes)
				}
				rows[i] = []string{line, l.Name, l.Address, l.Outcome, says}
			}
			if a.output == "table" {
				var stands []string
				for _, x := range r.Columns {
					to := x.Stands
					if to == "" {
						to = "(left out)"
					}
					stands = append(stands, x.Heading+" = "+to)
				}
				fmt.Fprintf(a.out, "%s, separated by %q: %s\n%s\n\n", r.Encoding, r.Delimiter, strings.Join(stands, ", "), wrap(r.Says, 0))
			}
			if err := a.list(r, []string{"LINE", "NAME", "ADDRESS", "OUTCOME", "CHANGE"}, rows); err != nil {
				return err
			}
			if !r.Done {
				a.hint("Nothing was done. Leave out --try to do it.")
			}
			return nil
		}),
	}
	f := c.Flags()
	f.StringToStringVar(&q.Columns, "column", nil, "what a heading stands for, such as Kontakt=address; empty to leave it out")
	f.BoolVar(&q.Links, "password-links", false, "mail those who are new a link by which they choose a password")
	f.BoolVar(&q.Sync, "sync", false, "whoever is in the directory but not in the file departs")
	f.BoolVar(&q.DryRun, "try", false, "show what it would do, and do nothing")
	f.BoolVar(&q.Force, "force", false, "let a sync depart more than a tenth of the directory")
	return c
}
