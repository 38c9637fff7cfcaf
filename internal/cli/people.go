package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var personColumns = []column[api.Person]{
	{name: "id", value: func(p api.Person) any { return p.ID }, csvOnly: true},
	{name: "name", value: func(p api.Person) any { return p.Name }},
	{name: "address", value: func(p api.Person) any { return p.Address }, whole: true},
	{name: "department", value: func(p api.Person) any { return p.Attributes["department"] }},
	{name: "locality", heading: "PLACE", value: func(p api.Person) any { return p.Attributes["locality"] }},
	{name: "title", value: func(p api.Person) any { return p.Attributes["title"] }, csvOnly: true},
	{name: "workspace_role", value: func(p api.Person) any { return p.WorkspaceRole }},
	{name: "active", value: func(p api.Person) any { return p.Active }, csvOnly: true},
	{name: "external", value: func(p api.Person) any { return p.External }, csvOnly: true},
}

func (a *app) personCommands() *cobra.Command {
	return noun("person", "The directory of people: search, list, export, show, abilities, add, change, move, depart, return, import, pause, resume, digest-time",
		a.personSearch(), a.personList(), a.personExport(), a.personShow(), a.personAbilities(), a.personAdd(), a.personChange(), a.personMove(), a.personDepart(), a.personReturn(), a.personPasswordLink(), a.personHistory(), a.personImport(), a.personDepartureRules(), a.personSetDepartureRules(), a.personErase(), a.personPause(), a.personResume(), a.personDigestTime())
}

func (a *app) personSearch() *cobra.Command {
	var limit int
	c := a.reads(&cobra.Command{Use: "search WORDS", Short: "Search people whom beginnings of words may mean, the best match first", Args: cobra.MinimumNArgs(1), Example: "  ivytable person search ske"},
		func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.People(ctx, client.PeopleQuery{Q: strings.Join(args, " "), Sort: "match", Paging: client.Paging{Limit: limit}})
			if err != nil {
				return err
			}
			return printAll(a, p, p.Items, personColumns)
		})
	c.Flags().IntVar(&limit, "limit", 20, "how many to show, 200 at most")
	return c
}

func (a *app) personList() *cobra.Command {
	var q client.PeopleQuery
	var p paging
	var f filtering
	c := a.reads(&cobra.Command{
		Use: "list [WORDS]", Short: "List the directory of people",
		Example: "  ivytable person list --limit 100\n  ivytable person list --lacks department\n  ivytable person list --filter 'department eq \"Deck\" and not (addresses.locality pr)'\n  ivytable person list --kind departed --all",
	}, func(ctx context.Context, c *client.Client, args []string) (err error) {
		q.Q = strings.Join(args, " ")
		if q.Filter, err = f.of(ctx, c); err != nil {
			return err
		}
		return list(a, &p, func(p client.Paging) (api.Page[api.Person], error) {
			q.Paging = p
			return c.People(ctx, q)
		}, personColumns)
	})
	paged(c, &p)
	a.asksForPeople(c, &q, &f)
	return c
}

func (a *app) personExport() *cobra.Command {
	var q client.PeopleQuery
	var f filtering
	c := a.exports(&cobra.Command{
		Use: "export [WORDS]", Short: "Write all people of a list, with all that you see of each",
		Example: "  ivytable person export > people.csv\n  ivytable person export --filter 'department eq \"Deck\"' --format jsonl",
	}, func(ctx context.Context, c *client.Client, args []string, format string) (err error) {
		q.Q = strings.Join(args, " ")
		if q.Filter, err = f.of(ctx, c); err != nil {
			return err
		}
		return c.ExportPeople(ctx, q, format, a.out)
	})
	a.asksForPeople(c, &q, &f)
	return c
}

// asksForPeople gives a command the flags that say which people.
func (a *app) asksForPeople(c *cobra.Command, q *client.PeopleQuery, f *filtering) {
	c.Flags().StringVar(&q.Kind, "kind", "", "here, departed or external")
	c.Flags().StringVar(&q.Lacks, "lacks", "", "only those who have no value for this field, such as department")
	c.Flags().StringVar(&q.Sort, "sort", "", "name, address, created, signed_in; with a leading - in the other direction")
	a.filtered(c, "people", f, &q.Sort, `department eq "Deck"`)
}

func (a *app) showPerson(p api.PersonDetails) error {
	if a.output == "csv" {
		return printAll(a, p, []api.Person{p.Person}, personColumns)
	}
	state := "here"
	if !p.Active {
		state = "has left"
		if p.DepartedAt != nil {
			state += " on " + dayOf(*p.DepartedAt)
		}
	}
	if p.External {
		state = "external"
	}
	facts := []fact{{"Name", p.Name}, {"Address", p.Address}, {"State", state}, {"Workspace role", p.WorkspaceRole}}
	for _, k := range slices.Sorted(maps.Keys(p.Attributes)) {
		facts = append(facts, fact{k, p.Attributes[k]})
	}
	if len(p.Former) > 0 {
		facts = append(facts, fact{"Before", strings.Join(p.Former, ", ")})
	}
	if p.Mail.Digest != "" {
		facts = append(facts, fact{"Digests", p.Mail.Digest})
	}
	if p.Mail.Paused {
		facts = append(facts, fact{"Mail", p.Mail.Says})
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
		if g.Until != "" {
			role += " until " + g.Until
		}
		facts = append(facts, fact{name, fmt.Sprintf("%s <%s>, %s", g.Name, g.Address, role)})
	}
	for i, g := range p.Reached {
		name := ""
		if i == 0 {
			name = "Reached by"
		}
		facts = append(facts, fact{name, fmt.Sprintf("%s <%s>, through %s", g.Name, g.Address, strings.Join(g.Through, ", "))})
	}
	for i, w := range p.Waiting {
		name := ""
		if i == 0 {
			name = "Waiting"
		}
		facts = append(facts, fact{name, fmt.Sprintf("asked on %s to %s %s", dayOf(w.At), w.Kind, w.Group.Name)})
	}
	if p.Note != "" {
		facts = append(facts, fact{"Note", p.Note})
	}
	return a.facts(p, facts...)
}

func (a *app) personShow() *cobra.Command {
	return a.reads(&cobra.Command{Use: "show PERSON", Short: "Show one person with their groups", Args: cobra.ExactArgs(1), Example: "  ivytable person show oda.fenn@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Person(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showPerson(p)
		})
}

func (a *app) personAdd() *cobra.Command {
	var n api.NewPersonEntry
	c := a.changes(&cobra.Command{
		Use: "add ADDRESS NAME", Short: "Put somebody into the directory", Args: cobra.ExactArgs(2),
		Example: "  ivytable person add liv.strand@merrowline.example \"Liv Strand\" --set department=Deck --set locality=\"Gannet Quay\"",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		n.Address, n.Name = args[0], args[1]
		p, err := c.CreatePerson(ctx, n)
		if err != nil {
			return err
		}
		return a.showPerson(p)
	}, keyed)
	c.Flags().StringToStringVar(&n.Attributes, "set", nil, "a field, such as department=Deck; repeat for more")
	c.Flags().StringVar(&n.WorkspaceRole, "workspace-role", "", "administrator or auditor")
	c.Flags().BoolVar(&n.PasswordLink, "password-link", false, "mail them a link by which they choose a password")
	return c
}

func (a *app) personChange() *cobra.Command {
	var name, role, address string
	var former listFlags
	var p api.PersonPatch
	c := &cobra.Command{
		Use: "change PERSON", Short: "Change an entry of the directory; rules of membership follow at once", Args: cobra.ExactArgs(1),
		Example: "  ivytable person change tove.alder@merrowline.example --set department=Safety --set title=\n  ivytable person change tove.alder@merrowline.example --address tove.north@merrowline.example",
	}
	a.changes(c, func(ctx context.Context, cl *client.Client, args []string) error {
		if c.Flags().Changed("name") {
			p.Name = &name
		}
		if c.Flags().Changed("workspace-role") {
			p.WorkspaceRole = &role
		}
		if c.Flags().Changed("address") {
			p.Address = &address
		}
		if former.given() {
			is, err := cl.Person(ctx, args[0])
			if err != nil {
				return err
			}
			led := is.Former
			if c.Flags().Changed("address") { // the address of now is one of before then, and the new one is not
				led = slices.DeleteFunc(append(led, is.Address), func(x string) bool { return strings.EqualFold(x, address) })
			}
			keep, err := former.edit(led)
			if err != nil {
				return err
			}
			p.Former = &keep
		}
		if p.Name == nil && p.WorkspaceRole == nil && p.Address == nil && p.Former == nil && len(p.Attributes) == 0 {
			return usagef("nothing to change: give --name, --address, --remove-former, --set or --workspace-role")
		}
		d, err := cl.ChangePerson(ctx, args[0], p)
		if err != nil {
			return err
		}
		return a.showPerson(d)
	}, guarded)
	c.Flags().StringVar(&name, "name", "", "a new name")
	c.Flags().StringVar(&address, "address", "", "another address; the one before leads to them still")
	former.flags(c.Flags(), "former", "an address of before that is to lead to them still")
	c.Flags().StringToStringVar(&p.Attributes, "set", nil, "a field, such as department=Deck, or department= to empty it; repeat for more")
	c.Flags().StringVar(&role, "workspace-role", "", "administrator, auditor or none")
	return c
}

func (a *app) personMove() *cobra.Command {
	var m api.Moves
	var join []string
	var role string
	c := a.changes(&cobra.Command{
		Use: "move PERSON", Short: "Put somebody into groups and take them out of others, in one change", Args: cobra.ExactArgs(1),
		Long: "Put somebody into groups and take them out of others, in one change. Each group decides by its own rules; those that don't let it be are listed with the reason, and the exit code is 1.",
		Example: "  ivytable person move tove.alder@merrowline.example --leave choir@merrowline.example --join night-dispatch@merrowline.example\n" +
			"  ivytable person move tove.alder@merrowline.example --like piran.cawdor@merrowline.example --preview",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		for _, g := range join {
			m.Join = append(m.Join, api.JoinGroup{Group: g, Role: role})
		}
		if len(m.Join) == 0 && len(m.Leave) == 0 && m.Like == "" {
			return usagef("say what to do: --join, --leave or --like")
		}
		out, err := c.MovePerson(ctx, args[0], m)
		if err != nil {
			return err
		}
		return a.results(out, out.Says, out.Results, out.Changed)
	}, keyed)
	c.Flags().StringSliceVar(&join, "join", nil, "a group to come into; repeat for more")
	c.Flags().StringVar(&role, "role", "", "in the groups of --join: owner, moderator or member; member when left out")
	c.Flags().StringSliceVar(&m.Leave, "leave", nil, "a group to go out of; repeat for more")
	c.Flags().StringVar(&m.Like, "like", "", "somebody in whose groups they are to be, as far as you see those")
	c.Flags().BoolVar(&m.Roles, "same-roles", false, "with --like: in the same roles; else as members")
	c.Flags().StringVar(&m.Until, "until", "", "the last day in the groups that they join, such as 2027-01-31")
	return c
}

func (a *app) personDepart() *cobra.Command {
	var d api.Departure
	c := a.changes(&cobra.Command{
		Use: "depart PERSON", Short: "Somebody leaves the organisation; what only they own is handed over", Args: cobra.ExactArgs(1),
		Example: "  ivytable person depart oda.fenn@merrowline.example --preview\n  ivytable person depart oda.fenn@merrowline.example --successor bram.tolley@merrowline.example",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		p, err := c.Depart(ctx, args[0], d)
		if err != nil {
			return err
		}
		return a.showPerson(p)
	}, guarded)
	c.Flags().StringVar(&d.Successor, "successor", "", "who becomes an owner of what only they own")
	return c
}

func (a *app) personPasswordLink() *cobra.Command {
	return a.changes(&cobra.Command{
		Use: "password-link PERSON", Short: "Mail somebody a link by which they choose a password", Args: cobra.ExactArgs(1),
		Example: "  ivytable person password-link liv.strand@merrowline.example",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		if err := c.SendPasswordLink(ctx, args[0]); err != nil {
			return err
		}
		return a.done(nil, "%s gets a letter with a link to choose a password.", args[0])
	}, keyed)
}

func (a *app) personReturn() *cobra.Command {
	return a.changes(&cobra.Command{Use: "return PERSON", Short: "Somebody who had left is here again", Args: cobra.ExactArgs(1), Example: "  ivytable person return oda.fenn@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Return(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showPerson(p)
		}, guarded)
}

func (a *app) personPause() *cobra.Command {
	var until string
	c := a.changes(&cobra.Command{Use: "pause PERSON", Short: "Stop the mail of all groups to somebody for a while: you, or, for administrators, anybody", Args: cobra.ExactArgs(1),
		Example: "  ivytable person pause oda.fenn@merrowline.example --until 2027-01-10"},
		func(ctx context.Context, c *client.Client, args []string) error {
			m, err := c.PauseMail(ctx, args[0], until)
			if err != nil {
				return err
			}
			return a.done(m, "%s", m.Says)
		})
	c.Flags().StringVar(&until, "until", "", "the last day of it, such as 2027-01-10")
	_ = c.MarkFlagRequired("until")
	return c
}

func (a *app) personDigestTime() *cobra.Command {
	var d api.DigestTime
	c := a.changes(&cobra.Command{Use: "digest-time PERSON", Short: "Say when somebody gets their digests: you, or, for administrators, anybody", Args: cobra.ExactArgs(1),
		Example: "  ivytable person digest-time oda.fenn@merrowline.example --hour 18 --zone Europe/Oslo"},
		func(ctx context.Context, c *client.Client, args []string) error {
			m, err := c.SetDigestTime(ctx, args[0], d)
			if err != nil {
				return err
			}
			return a.done(m, "%s", m.Says)
		})
	c.Flags().IntVar(&d.Hour, "hour", 7, "of the day, 0 to 23")
	c.Flags().StringVar(&d.Zone, "zone", "", "its time zone, by its IANA name (default: that of the workspace)")
	return c
}

func (a *app) personResume() *cobra.Command {
	return a.changes(&cobra.Command{Use: "resume PERSON", Short: "Let the mail of groups reach somebody again", Args: cobra.ExactArgs(1), Example: "  ivytable person resume oda.fenn@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			m, err := c.ResumeMail(ctx, args[0])
			if err != nil {
				return err
			}
			return a.done(m, "%s", m.Says)
		})
}

func (a *app) personHistory() *cobra.Command {
	var p paging
	c := a.reads(&cobra.Command{Use: "history PERSON", Short: "List what somebody did, and what was done to them", Args: cobra.ExactArgs(1), Example: "  ivytable person history oda.fenn@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			return list(a, &p, func(p client.Paging) (api.Page[api.HistoryEntry], error) { return c.HistoryOfPerson(ctx, args[0], p) }, historyColumns)
		})
	paged(c, &p)
	return c
}

func (a *app) personImport() *cobra.Command {
	var q api.Import
	c := a.changes(&cobra.Command{
		Use: "import FILE", Short: "Make the directory like a CSV file; - reads what is piped in", Args: cobra.ExactArgs(1),
		Long:    "Make the directory like a CSV file: new people come in, fields in its columns change, those\nwho had left return. With --sync, whoever is not in it departs. Wrong lines are\nleft out, and the exit code is 1 then.",
		Example: "  ivytable person import staff.csv --preview\n  ivytable person import staff.csv --column Kostenstelle=costCenter\n  ivytable person import staff.csv --sync --preview",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		var err error
		if q.File, err = a.readFile(args[0]); err != nil {
			return err
		}
		r, err := c.ImportPeople(ctx, q)
		if err != nil {
			return err
		}
		if a.output != "table" {
			err = printAll(a, r, r.Lines, lineColumns)
		} else {
			fmt.Fprintf(a.out, "%s\n%s\n", wrap(reading(r.List), 4), wrap(r.Says, 0))
			if len(r.Lines) > 0 {
				fmt.Fprintln(a.out)
				a.printLines(r.Lines)
			}
		}
		return errors.Join(err, wrongLines(r.Counts))
	}, keyed)
	f := c.Flags()
	f.StringToStringVar(&q.Columns, "column", nil, "what a heading stands for, such as Kontakt=address; empty to leave it out")
	f.BoolVar(&q.Links, "password-links", false, "mail those who are new a link by which they choose a password")
	f.BoolVar(&q.Sync, "sync", false, "whoever is in the directory but not in the file departs")
	f.BoolVar(&q.Force, "force", false, "let a sync depart more than a tenth of the directory")
	return c
}

func (a *app) personDepartureRules() *cobra.Command {
	return a.reads(&cobra.Command{Use: "departure-rules", Short: "Show who takes over what somebody leaves behind", Args: cobra.NoArgs, Example: "  ivytable person departure-rules"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			r, err := c.DepartureRules(ctx)
			if err != nil {
				return err
			}
			return a.showDepartureRules(r)
		})
}

func (a *app) showDepartureRules(r api.DepartureRules) error {
	said := func(all []string) string {
		if len(all) == 0 {
			return "nobody: they are listed"
		}
		return strings.Join(all, ", else ")
	}
	return a.facts(r, fact{"Groups", said(r.Owned)}, fact{"External members", said(r.Vouched)})
}

func (a *app) personSetDepartureRules() *cobra.Command {
	var n api.DepartureRules
	c := a.changes(&cobra.Command{Use: "set-departure-rules", Short: "Change who takes over what somebody leaves behind", Args: cobra.NoArgs,
		Long:    "Change who takes over what somebody leaves behind who leaves the organisation: the first of each list whom there is.\nWhen they return it goes back, where nobody has decided otherwise.",
		Example: "  ivytable person set-departure-rules --owned manager,moderator,caretaker --vouched manager,owner --preview"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			r, err := c.SetDepartureRules(ctx, n)
			if err != nil {
				return err
			}
			return a.showDepartureRules(r)
		}, guarded)
	c.Flags().StringSliceVar(&n.Owned, "owned", []string{}, "groups that nobody else owns go to: manager, moderator, caretaker")
	c.Flags().StringSliceVar(&n.Vouched, "vouched", []string{}, "for external members vouches: manager, owner")
	return c
}

func (a *app) personErase() *cobra.Command {
	var n api.Erasure
	c := a.changes(&cobra.Command{Use: "erase PERSON", Short: "Take what names somebody out of the directory and the history, on their lawful request", Args: cobra.ExactArgs(1),
		Long:    "Take what names somebody out of the directory and the history, on their lawful request: somebody who has left the organisation,\nor somebody outside who is in no group. What happened stays in the history, and ivytable history verify holds. It can't be undone.",
		Example: "  ivytable person erase corrie.oarsman@merrowline.example --reason 'Request 2026-31.' --preview"},
		func(ctx context.Context, c *client.Client, args []string) error {
			e, err := c.Erase(ctx, args[0], n)
			if err != nil {
				return err
			}
			return a.done(e, "%s They are known as %s.", e.Says, e.Address)
		}, guarded)
	c.Flags().StringVar(&n.Reason, "reason", "", "on what ground; it is kept, so don't name the person in it")
	return c
}
