package cli

import (
	"bufio"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
	"ivytable.example/ivytable/internal/core/policy"
)

func noun(use, short string, subs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short}
	c.AddCommand(subs...)
	return c
}

// paged are the flags of a list.
func paged(c *cobra.Command, p *client.Paging) {
	c.Flags().IntVar(&p.Limit, "limit", 50, "how many to list, 200 at most")
	c.Flags().StringVar(&p.Cursor, "cursor", "", "where to go on, as a list before said")
}

// more tells how a list goes on.
func (a *app) more(next string, shown int, total int64) {
	if next != "" && a.output == "table" {
		fmt.Fprintf(a.err, "%d of %d shown. Go on with --cursor %s\n", shown, total, next)
	}
}

func (a *app) groupCommands() *cobra.Command {
	return noun("group", "Groups: list, create, change, renew, retire, restore",
		a.groupList(), a.groupShow(), a.groupCreate(), a.groupChange(),
		a.groupEnd("renew", "Start a group's term anew", (*client.Client).Renew, func(g api.Group) string {
			return fmt.Sprintf("%s is renewed: it expires %s.", g.Name, day(g.Term.ExpiresAt, g.Term.DaysLeft))
		}),
		a.groupEnd("retire", "End a group; it can be restored for 30 days", (*client.Client).Retire, func(g api.Group) string {
			return fmt.Sprintf("%s is retired and takes no mail. It can be restored until %s.", g.Name, day(g.Term.RestorableTill, nil))
		}),
		a.groupEnd("restore", "Bring a group back with everything in it", (*client.Client).Restore, func(g api.Group) string {
			return fmt.Sprintf("%s is back with %s.", g.Name, plural(people(g), "person"))
		}))
}

func people(g api.Group) int { return g.Counts.Owners + g.Counts.Moderators + g.Counts.Members }

func (a *app) groupList() *cobra.Command {
	var l client.GroupList
	c := &cobra.Command{
		Use: "list [WORDS]", Short: "List the groups that you can find",
		Long:    "List the groups that you can find. WORDS are beginnings of words of a name or address.",
		Example: "  ivytable group list\n  ivytable group list night dis\n  ivytable group list --state due --sort expires\n  ivytable group list --scope owned --output csv",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			l.Q = strings.Join(args, " ")
			p, err := c.Groups(ctx, l)
			if err != nil {
				return err
			}
			rows := make([][]string, len(p.Items))
			for i, g := range p.Items {
				rows[i] = []string{g.Name, g.Address, g.State, fmt.Sprint(g.Counts.Owners), fmt.Sprint(people(g)), g.Policy.Post, expires(g)}
			}
			if err := a.list(p, []string{"NAME", "ADDRESS", "STATE", "OWNERS", "PEOPLE", "WHO WRITES", "EXPIRES"}, rows); err != nil {
				return err
			}
			a.more(p.Next, len(p.Items), p.Total)
			return nil
		}),
	}
	paged(c, &l.Paging)
	c.Flags().StringSliceVar(&l.States, "state", nil, "only these states: active, due, lapsed, retired")
	c.Flags().StringVar(&l.Scope, "scope", "", "mine: groups you are in; owned: groups you own")
	c.Flags().StringVar(&l.Sort, "sort", "", "name, people, post, expires, created; a leading - turns it round")
	return c
}

// expires is the date of the end for a list, where there is room for no more.
func expires(g api.Group) string {
	if g.Term.EndedAt != nil {
		return "ended " + day(g.Term.EndedAt, nil)
	}
	return day(g.Term.ExpiresAt, nil)
}

func (a *app) groupShow() *cobra.Command {
	return &cobra.Command{
		Use: "show GROUP", Short: "Show one group", Args: cobra.ExactArgs(1),
		Example: "  ivytable group show night-dispatch@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			g, err := c.Group(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showGroup(g)
		}),
	}
}

func (a *app) showGroup(g api.Group) error {
	var names []string
	for _, o := range g.Owners {
		names = append(names, fmt.Sprintf("%s <%s>", o.Name, o.Address))
	}
	term := day(g.Term.ExpiresAt, g.Term.DaysLeft)
	switch {
	case g.Term.Standing != nil:
		term = fmt.Sprintf("never: standing, by %s (%s)", g.Term.Standing.By, g.Term.Standing.Reason)
	case g.Term.EndedAt != nil:
		term = fmt.Sprintf("ended %s; restorable until %s", day(g.Term.EndedAt, nil), day(g.Term.RestorableTill, nil))
	}
	in := []string{plural(g.Counts.Owners, "owner"), plural(g.Counts.Moderators, "moderator"), plural(g.Counts.Members, "member")}
	if g.Counts.External > 0 {
		in = append(in, fmt.Sprintf("%d of them external", g.Counts.External))
	}
	if g.Counts.Nested > 0 {
		in = append(in, plural(g.Counts.Nested, "nested group"))
	}
	return a.facts(g,
		[2]string{"Name", g.Name}, [2]string{"Address", g.Address}, [2]string{"Also", strings.Join(g.Aliases, ", ")}, [2]string{"For", g.Description},
		[2]string{"Reach", g.Sentence}, [2]string{"Owners", strings.Join(names, ", ")}, [2]string{"People", strings.Join(in, ", ")},
		[2]string{"State", g.State}, [2]string{"Expires", term}, [2]string{"My role", g.MyRole})
}

// patchOf makes a policy patch of NAME=VALUE words.
func patchOf(words []string) (p api.PolicyPatch, err error) {
	for _, w := range words {
		name, value, ok := strings.Cut(w, "=")
		if !ok {
			return p, usagef("%q has to be written as NAME=VALUE, such as post=anyone", w)
		}
		if err := new(policy.Policy).Set(name, policy.Default().Get(name)); err != nil {
			return p, usage{err}
		}
		p.Set(name, value)
	}
	return p, nil
}

func (a *app) groupCreate() *cobra.Command {
	var n api.NewGroup
	var set, members []string
	var key string
	c := &cobra.Command{
		Use: "create NAME", Short: "Create a group", Args: cobra.ExactArgs(1),
		Long: "Create a group for somebody. The address is proposed from the name unless it is given.\nYou are not in the group unless you name yourself.",
		Example: "  ivytable group create \"Slipway Repairs\" --owner oda.fenn@merrowline.example \\\n" +
			"    --owner bram.tolley@merrowline.example --member pilot@gannetport.example \\\n    --set externals=owners --set post=workspace",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			patch, err := patchOf(set)
			if err != nil {
				return err
			}
			n.Name, n.PolicyPatch = args[0], patch
			for _, m := range members {
				address, role, _ := strings.Cut(m, "=")
				n.People = append(n.People, api.NewPerson{Address: address, Role: role})
			}
			if n.Owners == nil {
				n.Owners = []string{}
			}
			g, err := c.CreateGroup(ctx, n, key)
			if err != nil {
				return err
			}
			if err := a.showGroup(g); err != nil {
				return err
			}
			a.hint("Try it: ivytable rehearse post %s --as %s", g.Address, g.Owners[0].Address)
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&n.Address, "address", "", "its address, when not as proposed")
	f.StringVar(&n.Description, "description", "", "why it exists")
	f.StringSliceVar(&n.Owners, "owner", nil, "address of an owner; repeat for more")
	f.StringSliceVar(&members, "member", nil, "address of a member, or ADDRESS=ROLE; repeat for more")
	f.StringArrayVar(&set, "set", nil, "an answer or setting, such as post=anyone; repeat for more")
	f.StringVar(&key, "idempotency-key", "", "makes a repeat of the same command harmless")
	return c
}

func (a *app) groupChange() *cobra.Command {
	var name, description, standing string
	var chosen bool
	var version int
	c := &cobra.Command{
		Use: "change GROUP", Short: "Change what a group is called and how long it lives", Args: cobra.ExactArgs(1),
		Example: "  ivytable group change night-dispatch@merrowline.example --description \"The night shift's calls\"\n" +
			"  ivytable group change safety-board@merrowline.example --standing \"Required by the harbour authority\"",
	}
	c.RunE = a.run(func(ctx context.Context, cl *client.Client, args []string) error {
		var p api.GroupPatch
		for flag, to := range map[string]func(){
			"name": func() { p.Name = &name }, "description": func() { p.Description = &description },
			"standing": func() { p.Standing = &standing }, "chosen": func() { p.Chosen = &chosen },
		} {
			if c.Flags().Changed(flag) {
				to()
			}
		}
		if p == (api.GroupPatch{}) {
			return usagef("nothing to change: give --name, --description, --standing or --chosen")
		}
		g, err := cl.ChangeGroup(ctx, args[0], p, version)
		if err != nil {
			return err
		}
		return a.showGroup(g)
	})
	c.Flags().StringVar(&name, "name", "", "a new name; the address stays")
	c.Flags().StringVar(&description, "description", "", "why it exists")
	c.Flags().StringVar(&standing, "standing", "", "why it never expires; empty takes that back")
	c.Flags().BoolVar(&chosen, "chosen", false, "the term applies to it where it applies to chosen groups")
	c.Flags().IntVar(&version, "if-version", 0, "change it only when it is still this version")
	return c
}

func (a *app) groupEnd(verb, short string, do func(*client.Client, context.Context, string) (api.Group, error), says func(api.Group) string) *cobra.Command {
	return &cobra.Command{
		Use: verb + " GROUP", Short: short, Args: cobra.ExactArgs(1),
		Example: fmt.Sprintf("  ivytable group %s winter-timetable@merrowline.example", verb),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			g, err := do(c, ctx, args[0])
			if err != nil {
				return err
			}
			return a.facts(g, [2]string{"Done:", says(g)})
		}),
	}
}

func (a *app) memberCommands() *cobra.Command {
	var q, role string
	var paging client.Paging
	list := &cobra.Command{
		Use: "list GROUP", Short: "List who is in a group", Args: cobra.ExactArgs(1),
		Example: "  ivytable member list night-dispatch@merrowline.example --role owner",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Members(ctx, args[0], q, role, paging)
			if err != nil {
				return err
			}
			rows := make([][]string, len(p.Items))
			for i, m := range p.Items {
				kind := ""
				switch {
				case m.Kind == "group":
					kind = "nested group"
				case m.External:
					kind = "external"
				}
				rows[i] = []string{m.Name, m.Address, m.Role, m.Delivery, kind, m.AddedAt.Format("2 Jan 2006")}
			}
			if err := a.list(p, []string{"NAME", "ADDRESS", "ROLE", "DELIVERY", "", "SINCE"}, rows); err != nil {
				return err
			}
			a.more(p.Next, len(p.Items), p.Total)
			return nil
		}),
	}
	paged(list, &paging)
	list.Flags().StringVar(&q, "search", "", "beginnings of words of a name or address")
	list.Flags().StringVar(&role, "role", "", "owner, moderator or member")
	return noun("member", "People in a group: list, add, change, remove", list, a.memberAdd(), a.memberChange(), a.memberRemove())
}

func (a *app) memberAdd() *cobra.Command {
	var role string
	c := &cobra.Command{
		Use: "add GROUP ADDRESS...", Short: "Add people; - reads addresses from standard input", Args: cobra.MinimumNArgs(2),
		Example: "  ivytable member add night-dispatch@merrowline.example tove.alder@merrowline.example --role moderator\n" +
			"  ivytable member add night-dispatch@merrowline.example - < addresses.txt",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			addresses := args[1:]
			if len(addresses) == 1 && addresses[0] == "-" {
				addresses = nil
				for s := bufio.NewScanner(a.in); s.Scan(); {
					if line := strings.TrimSpace(s.Text()); line != "" {
						addresses = append(addresses, line)
					}
				}
			}
			n := api.NewMembers{People: []api.NewPerson{}, Way: "direct"}
			for _, x := range addresses {
				n.People = append(n.People, api.NewPerson{Address: x, Role: role})
			}
			all, err := c.AddMembers(ctx, args[0], n)
			if err != nil {
				return err
			}
			rows := make([][]string, len(all.Results))
			for i, r := range all.Results {
				rows[i] = []string{r.Given, r.Name, r.Outcome, r.Says}
			}
			if err := a.list(all, []string{"GIVEN", "WHO", "OUTCOME", "WHY"}, rows); err != nil {
				return err
			}
			if all.Added < len(all.Results) {
				return fmt.Errorf("%d of %d were added; the others are listed with the reason", all.Added, len(all.Results))
			}
			return nil
		}),
	}
	c.Flags().StringVar(&role, "role", "member", "owner, moderator or member")
	return c
}

func (a *app) memberChange() *cobra.Command {
	var patch api.MemberPatch
	c := &cobra.Command{
		Use: "change GROUP ADDRESS", Short: "Change a role or delivery", Args: cobra.ExactArgs(2),
		Example: "  ivytable member change night-dispatch@merrowline.example tove.alder@merrowline.example --role owner",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			if patch == (api.MemberPatch{}) {
				return usagef("nothing to change: give --role or --delivery")
			}
			m, err := c.ChangeMember(ctx, args[0], args[1], patch)
			if err != nil {
				return err
			}
			return a.facts(m, [2]string{"Name", m.Name}, [2]string{"Role", m.Role}, [2]string{"Delivery", m.Delivery})
		}),
	}
	c.Flags().StringVar(&patch.Role, "role", "", "owner, moderator or member")
	c.Flags().StringVar(&patch.Delivery, "delivery", "", "each or none")
	return c
}

func (a *app) memberRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove GROUP ADDRESS", Short: "Take somebody out of a group", Args: cobra.ExactArgs(2),
		Example: "  ivytable member remove night-dispatch@merrowline.example tove.alder@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.RemoveMember(ctx, args[0], args[1]); err != nil {
				return err
			}
			a.hint("Put them back with: ivytable member add %s %s", args[0], args[1])
			return nil
		}),
	}
}
