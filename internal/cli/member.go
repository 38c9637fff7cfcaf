package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var memberColumns = []column[api.Member]{
	{name: "name", value: func(m api.Member) any { return m.Name }},
	{name: "address", value: func(m api.Member) any { return m.Address }, whole: true},
	{name: "role", value: func(m api.Member) any { return m.Role }},
	{name: "delivery", value: func(m api.Member) any { return m.Delivery }},
	{name: "kind", value: memberKind, show: memberMark},
	{name: "by_rule", value: func(m api.Member) any { return m.ByRule }, csvOnly: true},
	{name: "added_at", heading: "SINCE", value: func(m api.Member) any { return m.AddedAt }, show: func(m api.Member) string { return dayOf(m.AddedAt) }, whole: true},
	{name: "until", value: func(m api.Member) any { return m.Until }, csvOnly: true},
	{name: "added_by", value: func(m api.Member) any { return m.AddedBy }, csvOnly: true},
}

func memberKind(m api.Member) any {
	switch {
	case m.External:
		return "external"
	case !m.Active:
		return "departed"
	}
	return m.Kind
}

func memberMark(m api.Member) string {
	switch {
	case m.Kind == "group":
		return "nested group"
	case m.External:
		return "external"
	case !m.Active:
		return "has left"
	case m.ByRule:
		return "by rule"
	case m.Until != "":
		return "until " + m.Until
	}
	return ""
}

func (a *app) memberCommands() *cobra.Command {
	return noun("member", "People in a group: list, add, invite, change, remove",
		a.memberList(), a.memberAdd("add", "Add people", "direct"), a.memberAdd("invite", "Invite people by mail; they may decline", "invite"), a.memberChange(), a.memberRemove())
}

func (a *app) memberList() *cobra.Command {
	var l client.MemberList
	var p paging
	c := a.reads(&cobra.Command{
		Use: "list GROUP", Short: "List who is in a group", Args: cobra.ExactArgs(1),
		Example: "  ivytable member list night-dispatch@merrowline.example --role owner\n  ivytable member list harbour-liaison@merrowline.example --kind external\n" +
			"  ivytable member list all-staff@merrowline.example --output csv > all-staff.csv",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		return list(a, &p, func(p client.Paging) (api.Page[api.Member], error) {
			l.Paging = p
			return c.Members(ctx, args[0], l)
		}, memberColumns)
	})
	paged(c, &p)
	f := c.Flags()
	f.StringVar(&l.Q, "search", "", "beginnings of words of a name or address")
	f.StringVar(&l.Role, "role", "", "owner, moderator or member")
	f.StringVar(&l.Delivery, "delivery", "", "each, digest, conversations or none")
	f.StringVar(&l.Kind, "kind", "", "person, external, group or departed")
	f.StringVar(&l.Way, "way", "", "rule: in because of the group's rule; hand: all others")
	f.StringVar(&l.Since, "since", "", "in since this date, such as 2026-11-23")
	return c
}

// source are the flags by which a list of people is named.
type source struct {
	file, of string
	everyone bool
	takenOut int64
	columns  map[string]string
}

func (s *source) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&s.file, "list", "", "file with people: addresses, Name <address>, names, or CSV; - reads standard input")
	f.StringVar(&s.of, "people-of", "", "the people of this group, also of groups nested in it")
	f.BoolVar(&s.everyone, "everyone", false, "everyone in the workspace")
	f.Int64Var(&s.takenOut, "taken-out-by", 0, "those whom this entry of the history took out of its group, in the roles that they had")
	f.StringToStringVar(&s.columns, "column", nil, "what a heading of a CSV file stands for, such as Kontakt=address")
}

// list returns the list that the flags name, nil for none.
func (s *source) list(a *app, role string) (*api.PeopleList, error) {
	l := api.PeopleList{Of: s.of, Everyone: s.everyone, TakenOut: s.takenOut, Columns: s.columns, Role: role}
	if s.file == "" {
		if s.of == "" && !s.everyone && s.takenOut == 0 {
			return nil, nil
		}
		return &l, nil
	}
	var err error
	l.File, err = a.readFile(s.file)
	return &l, err
}

// readFile reads a list: of a file, or, for -, what is piped in.
func (a *app) readFile(name string) (b []byte, err error) {
	if name == "-" {
		b, err = io.ReadAll(a.in)
	} else {
		b, err = os.ReadFile(name)
	}
	if err == nil && len(strings.TrimSpace(string(b))) == 0 {
		err = fmt.Errorf("the list is empty")
	}
	return b, err
}

func (a *app) memberAdd(verb, short, way string) *cobra.Command {
	var role, until string
	var from source
	var quiet bool
	var nesting api.NestingWay
	var vouching api.Vouching
	back := ""
	if way == "direct" {
		back = "\n  ivytable member add night-dispatch@merrowline.example --taken-out-by 214 # undo a removal"
	}
	c := a.changes(&cobra.Command{
		Use: verb + " GROUP [ADDRESS...]", Short: short, Args: cobra.MinimumNArgs(1),
		Long: short + ". Whoever can be is; the others are listed with the reason, and the exit code is 1.",
		Example: fmt.Sprintf("  ivytable member %s night-dispatch@merrowline.example tove.alder@merrowline.example --role moderator\n"+
			"  ivytable member %s night-dispatch@merrowline.example --list crew.csv --preview\n  cat names.txt | ivytable member %s choir@merrowline.example -", verb, verb, verb) + back,
	}, func(ctx context.Context, c *client.Client, args []string) error {
		if len(args) == 2 && args[1] == "-" { // as the last argument of a pipe
			args, from.file = args[:1], "-"
		}
		n := api.NewMembers{Way: way, Quiet: quiet, Until: until, NestingWay: nesting, Vouching: vouching}
		for _, x := range args[1:] {
			n.People = append(n.People, api.NewPerson{Address: x, Role: role})
		}
		var err error
		if n.List, err = from.list(a, role); err != nil {
			return err
		}
		if n.List == nil && len(n.People) == 0 {
			return usagef("say whom: addresses, --list, --people-of, --everyone or --taken-out-by")
		}
		all, err := c.AddMembers(ctx, args[0], n)
		if err != nil {
			return err
		}
		total := 0
		for _, n := range all.Counts {
			total += n
		}
		if err := a.results(all, all.Says, all.Results, all.Added); err != nil || all.Added+all.Counts["asked"] == total {
			return err
		}
		return fmt.Errorf("%d of %d done; the others are listed with the reason", all.Added, total)
	}, guarded, keyed)
	c.Flags().StringVar(&role, "role", "", "owner, moderator or member; member when left out")
	vouchingFlags(c, &vouching)
	if way == "direct" {
		c.Flags().BoolVar(&quiet, "quiet", false, "don't mail people that they were added")
		nestingFlags(c, &nesting)
		c.Flags().StringVar(&until, "until", "", "the last day of their membership, such as 2027-01-31; without an end when left out")
	}
	from.flags(c)
	return c
}

func nestingFlags(c *cobra.Command, n *api.NestingWay) {
	c.Flags().StringVar(&n.Consent, "consent", "", "of groups among them that you may change: whether their people are seen in the group, or only counted; counted when left out")
	c.Flags().BoolVar(&n.WithoutExternals, "without-externals", false, "nest a group without its external members, where none are taken")
}

func vouchingFlags(c *cobra.Command, n *api.Vouching) {
	c.Flags().StringVar(&n.Voucher, "voucher", "", "who of the workspace vouches for external members among them; you when left out")
	c.Flags().StringVar(&n.Reason, "reason", "", "why external members among them are in it")
}

func (a *app) memberChange() *cobra.Command {
	var patch api.MembersPatch
	c := a.changes(&cobra.Command{
		Use: "change GROUP ADDRESS...", Short: "Change a role, a delivery or the end of a membership, of several at once", Args: cobra.MinimumNArgs(2),
		Example: "  ivytable member change night-dispatch@merrowline.example tove.alder@merrowline.example --role owner\n  ivytable member change night-dispatch@merrowline.example tove.alder@merrowline.example --until 2027-01-31",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		if patch.Role == "" && patch.Delivery == "" && patch.Until == "" {
			return usagef("nothing to change: give --role, --delivery or --until")
		}
		if len(args) == 2 {
			m, err := c.ChangeMember(ctx, args[0], args[1], api.MemberPatch{Role: patch.Role, Delivery: patch.Delivery, Until: patch.Until})
			if err != nil {
				return err
			}
			return one(a, m, memberColumns, fact{"Name", m.Name}, fact{"Role", m.Role}, fact{"Delivery", m.Delivery}, fact{"Until", m.Until})
		}
		patch.Members = args[1:]
		return a.changeMembers(ctx, c, args[0], patch)
	}, guarded)
	c.Flags().StringVar(&patch.Role, "role", "", "owner, moderator or member")
	c.Flags().StringVar(&patch.Delivery, "delivery", "", "each, digest, conversations or none")
	c.Flags().StringVar(&patch.Until, "until", "", "the last day of the membership, such as 2027-01-31, or none")
	return c
}

func (a *app) changeMembers(ctx context.Context, c *client.Client, ref string, patch api.MembersPatch) error {
	all, err := c.ChangeMembers(ctx, ref, patch)
	if err != nil {
		return err
	}
	return a.results(all, all.Says, all.Results, all.Changed)
}

func (a *app) memberRemove() *cobra.Command {
	var sure bool
	remove := &cobra.Command{
		Use: "remove GROUP ADDRESS...", Short: "Take people out of a group", Args: cobra.MinimumNArgs(2),
		Example: "  ivytable member remove night-dispatch@merrowline.example tove.alder@merrowline.example",
	}
	sureFlag(remove, &sure)
	return a.changes(remove, func(ctx context.Context, c *client.Client, args []string) error {
		me, err := c.Me(ctx)
		if err != nil {
			return err
		}
		if slices.Contains(args[1:], me.Person.Address) {
			if err := a.askOwner(ctx, c, args[0], sure); err != nil {
				return err
			}
		}
		if len(args) > 2 {
			return a.changeMembers(ctx, c, args[0], api.MembersPatch{Members: args[1:], Remove: true})
		}
		if err := c.RemoveMember(ctx, args[0], args[1]); err != nil {
			return err
		}
		if err := a.done(nil, "%s is not in %s any more.", args[1], args[0]); err != nil {
			return err
		}
		a.hint("Put them back with: ivytable member add %s %s", args[0], args[1])
		return nil
	}, guarded)
}

func (a *app) groupTree() *cobra.Command {
	return a.reads(&cobra.Command{Use: "tree GROUP", Short: "Draw what is nested in a group and what it is nested in", Args: cobra.ExactArgs(1), Example: "  ivytable group tree deck@crew.merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			n, err := c.Nesting(ctx, args[0])
			if err != nil {
				return err
			}
			return printAll(a, n, branches(n), branchColumns)
		})
}

// branch is a group where it hangs in a tree of groups.
type branch struct {
	api.NestedGroup
	under string // the group that it hangs under
	level int
}

var branchColumns = []column[branch]{
	{name: "name", heading: "GROUP", value: func(b branch) any { return b.Name }, show: func(b branch) string {
		name := strings.Repeat("   ", b.level) + b.Name
		if b.Depth == 0 {
			name += " ◂"
		}
		return name
	}},
	{name: "address", value: func(b branch) any { return b.Address }, whole: true},
	{name: "people", value: func(b branch) any { return b.People }},
	{name: "nested_in", value: func(b branch) any { return b.under }, csvOnly: true},
}

func branches(n api.Nesting) []branch {
	byID := map[string]api.NestedGroup{}
	below := map[string][]string{}
	top := map[string]bool{}
	for _, g := range n.Groups {
		byID[g.ID], top[g.ID] = g, true
	}
	for _, e := range n.Edges {
		below[e.Outer] = append(below[e.Outer], e.Inner)
		delete(top, e.Inner)
	}
	var out []branch
	var walk func(id, under string, level int)
	walk = func(id, under string, level int) {
		out = append(out, branch{byID[id], under, level})
		for _, x := range below[id] {
			walk(x, byID[id].Address, level+1)
		}
	}
	for _, g := range n.Groups {
		if top[g.ID] {
			walk(g.ID, "", 0)
		}
	}
	return out
}

var effectiveColumns = []column[api.EffectiveMember]{
	{name: "name", value: func(m api.EffectiveMember) any { return m.Name }},
	{name: "address", value: func(m api.EffectiveMember) any { return m.Address }, whole: true},
	{name: "role", heading: "OWN ROLE", value: func(m api.EffectiveMember) any { return m.Role }},
	{name: "external", value: func(m api.EffectiveMember) any { return m.External }, csvOnly: true},
	{name: "through", value: func(m api.EffectiveMember) any { return strings.Join(m.Through, "; ") }, show: func(m api.EffectiveMember) string { return strings.Join(m.Through, ", ") }},
}

func (a *app) groupReaches() *cobra.Command {
	var q string
	var p paging
	c := a.reads(&cobra.Command{
		Use: "reaches GROUP", Short: "List everybody whom a group reaches, and through which group", Args: cobra.ExactArgs(1),
		Example: "  ivytable group reaches deck@crew.merrowline.example --search keel",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		return list(a, &p, func(p client.Paging) (api.Page[api.EffectiveMember], error) {
			return c.EffectiveMembers(ctx, args[0], q, p)
		}, effectiveColumns)
	})
	paged(c, &p)
	c.Flags().StringVar(&q, "search", "", "beginnings of words of a name or address")
	return c
}

var overrideColumns = []column[api.Override]{
	{name: "address", value: func(o api.Override) any { return o.Address }, whole: true},
	{name: "name", value: func(o api.Override) any { return o.Name }, csvOnly: true},
	{name: "override", heading: "IS", value: func(o api.Override) any { return o.Override }},
	{name: "by", value: func(o api.Override) any { return o.By }},
	{name: "at", heading: "SINCE", value: func(o api.Override) any { return o.At }, show: func(o api.Override) string { return dayOf(o.At) }, whole: true},
	{name: "reason", heading: "WHY", value: func(o api.Override) any { return o.Reason }, runs: true},
	{name: "version", value: func(o api.Override) any { return o.Version }, csvOnly: true},
}

func (a *app) overrideCommands() *cobra.Command {
	var p paging
	show := a.reads(&cobra.Command{Use: "list GROUP", Short: "List who is barred from a group, trusted or held", Args: cobra.ExactArgs(1), Example: "  ivytable override list choir@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			return list(a, &p, func(p client.Paging) (api.Page[api.Override], error) { return c.Overrides(ctx, args[0], p) }, overrideColumns)
		})
	paged(show, &p)
	single := a.reads(&cobra.Command{Use: "show GROUP ADDRESS", Short: "Show what is settled about one address in a group", Args: cobra.ExactArgs(2), Example: "  ivytable override show questions@merrowline.example prize@lucky-draw.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			o, err := c.Override(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			return one(a, o, overrideColumns, fact{"Address", o.Address}, fact{"Is", o.Override}, fact{"By", o.By}, fact{"Since", dayOf(o.At)}, fact{"Why", o.Reason})
		})
	var reason string
	set := a.changes(&cobra.Command{
		Use: "set GROUP ADDRESS OVERRIDE", Short: "Bar an address, trust it, hold it, or take that back", Args: cobra.ExactArgs(3),
		Long:    "OVERRIDE is barred (neither in the group nor writing to it), trusted (mail is never held),\nheld (mail always waits) or none (as the policy says).",
		Example: "  ivytable override set questions@merrowline.example prize@lucky-draw.example barred --reason \"Sends advertising\"",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		if err := c.SetOverride(ctx, args[0], args[1], api.NewOverride{Override: args[2], Reason: reason}); err != nil {
			return err
		}
		if args[2] == "none" {
			return a.done(nil, "Nothing is settled about %s in %s any more: its policy holds.", args[1], args[0])
		}
		return a.done(nil, "%s is %s in %s.", args[1], args[2], args[0])
	}, guarded)
	set.Flags().StringVar(&reason, "reason", "", "why, for those who run the group")
	return noun("override", "What is settled about people in a group: list, show, set", show, single, set)
}
