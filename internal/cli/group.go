package cli

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var groupColumns = []column[api.Group]{
	{name: "id", value: func(g api.Group) any { return g.ID }, csvOnly: true},
	{name: "name", value: func(g api.Group) any { return g.Name }},
	{name: "address", value: func(g api.Group) any { return g.Address }, whole: true},
	{name: "state", value: func(g api.Group) any { return g.State }},
	{name: "owners", value: func(g api.Group) any { return g.Counts.Owners }},
	{name: "people", value: func(g api.Group) any { return g.Counts.People }},
	{name: "external", value: func(g api.Group) any { return g.Counts.External }, csvOnly: true},
	{name: "post", heading: "WHO WRITES", value: func(g api.Group) any { return g.Policy.Post }},
	{name: "expires_on", heading: "EXPIRES", value: func(g api.Group) any { return g.Term.ExpiresOn }, show: ends, whole: true},
	{name: "ended_at", value: func(g api.Group) any { return g.Term.EndedAt }, csvOnly: true},
	{name: "version", value: func(g api.Group) any { return g.Version }, csvOnly: true},
	{name: "revision", value: func(g api.Group) any { return g.Revision }, csvOnly: true},
}

// ends is the date of the end for a list, where there is room for no more.
func ends(g api.Group) string {
	if g.Term.EndedAt != nil {
		return "ended " + dayOf(*g.Term.EndedAt)
	}
	return day(g.Term.ExpiresOn)
}

func (a *app) groupCommands() *cobra.Command {
	return noun("group", "Groups: list, export, create, change, join, leave, renew, retire, restore, hold",
		a.groupList(), a.groupExport(), a.groupShow(), a.groupCreate(), a.groupChange(), a.groupLike(), a.groupTree(), a.groupReaches(), a.groupNotice(), a.groupJoin(), a.groupLeave(), a.groupRenew(), a.groupRetire(), a.groupRestore(), a.groupHold(), a.groupRelease(), a.groupGone())
}

func (a *app) groupList() *cobra.Command {
	var l client.GroupList
	var p paging
	var f filtering
	c := a.reads(&cobra.Command{
		Use: "list [WORDS]", Short: "List the groups that you can find",
		Long:    "List the groups that you can find. WORDS are beginnings of words of a name or address. Flags that ask for something are joined by and.",
		Example: "  ivytable group list\n  ivytable group list night dis\n  ivytable group list --without-owner\n  ivytable group list --post anyone --filter 'hold eq \"nobody\" and people gt 20'\n  ivytable group list --state due --sort expires\n  ivytable group list --scope owned --output csv",
	}, func(ctx context.Context, c *client.Client, args []string) (err error) {
		l.Q = strings.Join(args, " ")
		if l.Filter, err = f.of(ctx, c); err != nil {
			return err
		}
		return list(a, &p, func(p client.Paging) (api.Page[api.Group], error) {
			l.Paging = p
			return c.Groups(ctx, l)
		}, groupColumns)
	})
	paged(c, &p)
	a.asksForGroups(c, &l, &f)
	return c
}

// asksForGroups gives a command the flags that say which groups.
func (a *app) asksForGroups(c *cobra.Command, l *client.GroupList, f *filtering) {
	c.Flags().StringSliceVar(&l.States, "state", nil, "only these states: active, due, lapsed, retired")
	c.Flags().StringVar(&l.Scope, "scope", "", "mine: groups you are in; owned: groups you own; joinable: groups you could join")
	a.filtered(c, "groups", f, &l.Sort, `owners eq 0 and post eq "anyone"`)
	f.with(c, "owner", "owner eq ", "only those that this address owns")
	f.on(c, "without-owner", "owners eq 0", "only those that nobody owns who is here")
	f.on(c, "external", "external gt 0", "only those with external members")
	f.with(c, "post", "post eq ", "only those that this audience may write to: nobody, owners, moderators, members, workspace, anyone")
	f.with(c, "domain", "domain eq ", "only those of this mail domain")
	f.with(c, "expires-before", "expires_on lt ", "only those that expire before this day, such as 2027-03-18")
	c.Flags().StringVar(&l.Sort, "sort", "", "name, address, people, owners, external, post, expires, created, renewed, quiet (longest without a post first); with a leading - in the other direction")
}

func (a *app) groupExport() *cobra.Command {
	var l client.GroupList
	var f filtering
	c := a.exports(&cobra.Command{
		Use: "export [WORDS]", Short: "Write all groups of a list, with all that there is to know of each",
		Example: "  ivytable group export > groups.csv\n  ivytable group export --without-owner --format jsonl\n  ivytable group export --view quiet > quiet.csv",
	}, func(ctx context.Context, c *client.Client, args []string, format string) (err error) {
		l.Q = strings.Join(args, " ")
		if l.Filter, err = f.of(ctx, c); err != nil {
			return err
		}
		return c.ExportGroups(ctx, l, format, a.out)
	})
	a.asksForGroups(c, &l, &f)
	return c
}

func (a *app) groupShow() *cobra.Command {
	return a.reads(&cobra.Command{Use: "show GROUP", Short: "Show one group", Args: cobra.ExactArgs(1), Example: "  ivytable group show night-dispatch@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			g, err := c.Group(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showGroup(g)
		})
}

func (a *app) showGroup(g api.Group) error {
	var names []string
	for _, o := range g.Owners {
		left := ""
		if o.Departed {
			left = " (has left)"
		}
		names = append(names, fmt.Sprintf("%s <%s>%s", o.Name, o.Address, left))
	}
	term := dayIn(g.Term.ExpiresOn, g.Term.DaysLeft)
	switch {
	case g.Term.Exempt != nil:
		term = fmt.Sprintf("never: exempt, by %s (%s)", g.Term.Exempt.By, g.Term.Exempt.Reason)
	case g.Term.EndedAt != nil:
		term = fmt.Sprintf("ended %s; restorable until %s", dayOf(*g.Term.EndedAt), day(g.Term.RestorableUntil))
	}
	in := []string{plural(g.Counts.Owners, "owner"), plural(g.Counts.Moderators, "moderator"), plural(g.Counts.Members, "member")}
	if g.Counts.External > 0 {
		in = append(in, fmt.Sprintf("%d of them external", g.Counts.External))
	}
	if g.ByRule {
		in = append(in, "with a rule")
	}
	if g.Counts.Nested > 0 {
		in = append(in, plural(g.Counts.Nested, "nested group"), "reaching "+plural(g.Counts.People, "person"))
	}
	if g.Counts.Departed > 0 {
		in = append(in, fmt.Sprintf("%d who have left", g.Counts.Departed))
	}
	for _, l := range g.LeftOut {
		fmt.Fprintf(a.err, "Left out: line %d, %s: %s\n", l.Line, cmp.Or(l.Given, l.Address), l.Says)
	}
	facts := append([]fact{{"Name", g.Name}, {"Address", g.Address}, {"Also", strings.Join(g.Aliases, ", ")}, {"For", g.Description}, {"Does", strings.Join(g.Traits, ", ")}, {"Reach", g.Sentence},
		{"Owners", strings.Join(names, ", ")}, {"People", strings.Join(in, ", ")}}, mailFacts(g.Mail)...)
	return one(a, g, groupColumns, append(facts, fact{"State", g.State}, fact{"Expires", term}, fact{"My role", g.MyRole}, fact{"Version", fmt.Sprintf("%d, of its people %d", g.Version, g.Revision)})...)
}

func (a *app) groupCreate() *cobra.Command {
	var n api.NewGroup
	var set, members []string
	var from source
	var mail mailFlags
	var c *cobra.Command
	c = a.changes(&cobra.Command{
		Use: "create NAME", Short: "Create a group", Args: cobra.ExactArgs(1),
		Long: "Create a group for somebody. The address is proposed from the name unless it is given.\nAdministrators are not in the group unless they name themselves.",
		Example: "  ivytable group create \"Slipway Repairs\" --owner oda.fenn@merrowline.example \\\n" +
			"    --owner bram.tolley@merrowline.example --member pilot@gannetport.example \\\n    --set externals=owners --set post=workspace\n" +
			"  ivytable group create \"Night Crew\" --starting-point team-room --owner oda.fenn@merrowline.example \\\n    --people-of night-dispatch@merrowline.example --alias nights --preview",
	}, func(ctx context.Context, cl *client.Client, args []string) error {
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
		l, err := from.list(a, "")
		if err != nil {
			return err
		}
		if l != nil {
			n.Lists = []api.PeopleList{*l}
		}
		n.Mail = mail.patch(c)
		g, err := cl.CreateGroup(ctx, n)
		if err != nil {
			return err
		}
		if err := a.showGroup(g); err != nil {
			return err
		}
		a.hint("Try it: ivytable rehearse post %s --as %s", g.Address, g.Owners[0].Address)
		if len(g.LeftOut) > 0 {
			return fmt.Errorf("the group is made; %s of the lists could not be put into it", plural(len(g.LeftOut), "entry"))
		}
		return nil
	}, keyed)
	f := c.Flags()
	f.StringVar(&n.Address, "address", "", "its address, when not as proposed")
	f.StringSliceVar(&n.Aliases, "alias", nil, "a further address; repeat for more")
	f.StringVar(&n.Description, "description", "", "why it exists")
	f.StringVar(&n.StartingPoint, "starting-point", "", "what to begin from, as listed by: ivytable starting-point list")
	f.StringSliceVar(&n.Traits, "trait", nil, "what it does: archive, desk, calendar, access; repeat for more")
	f.StringVar(&n.Language, "language", "", "of its notices: en or de")
	f.StringVar(&n.Delivery, "default-delivery", "", "whether new members get each message: each or none")
	f.StringVar(&n.Welcome, "welcome", "", "said to new members")
	mail.flags(c)
	f.StringSliceVar(&n.Owners, "owner", nil, "address of an owner; repeat for more")
	f.StringSliceVar(&members, "member", nil, "address of a member or of a group to nest, or ADDRESS=ROLE; repeat for more")
	from.flags(c)
	nestingFlags(c, &n.NestingWay)
	vouchingFlags(c, &n.Vouching)
	f.StringVar(&n.Rule, "rule", "", "a rule of membership, such as 'department eq \"Deck\"'")
	f.BoolVar(&n.Quiet, "quiet", false, "don't mail people that they were added")
	f.StringArrayVar(&set, "set", nil, "a setting of the policy, such as post=anyone; repeat for more")
	return c
}

func (a *app) groupChange() *cobra.Command {
	var name, description, exempt, until, address, language, welcome, delivery string
	var aliases, traits listFlags
	var mail mailFlags
	c := &cobra.Command{
		Use: "change GROUP", Short: "Change what a group is called, where it is, what it does, how long it lives", Args: cobra.ExactArgs(1),
		Long: "Change a group. With a new name the address stays; with a new address the old one stays\nas an alias.",
		Example: "  ivytable group change night-dispatch@merrowline.example --description \"The night shift's calls\"\n" +
			"  ivytable group change night-dispatch@merrowline.example --address nights --add-alias night-calls --preview\n" +
			"  ivytable group change safety-board@merrowline.example --exempt \"Required by the harbour authority\"",
	}
	a.changes(c, func(ctx context.Context, cl *client.Client, args []string) error {
		var p api.GroupPatch
		given := false
		for flag, to := range map[string]func(){
			"name": func() { p.Name = &name }, "description": func() { p.Description = &description }, "address": func() { p.Address = &address },
			"language": func() { p.Language = &language }, "welcome": func() { p.Welcome = &welcome }, "default-delivery": func() { p.Delivery = &delivery },
			"exempt": func() { p.Exempt = &exempt }, "exempt-until": func() { p.ExemptUntil = &until },
		} {
			if c.Flags().Changed(flag) {
				to()
				given = true
			}
		}
		p.Mail = mail.patch(c)
		given = given || p.Mail != (api.MailPatch{})
		if aliases.given() || traits.given() {
			g, err := cl.Group(ctx, args[0])
			if err != nil {
				return err
			}
			if traits.given() {
				all, err := traits.edit(g.Traits)
				if err != nil {
					return err
				}
				p.Traits, given = &all, true
			}
			if aliases.given() {
				for i, x := range aliases.remove { // also by the part before the @
					if at := slices.IndexFunc(g.Aliases, func(a string) bool { return strings.HasPrefix(a, x+"@") }); at >= 0 {
						aliases.remove[i] = g.Aliases[at]
					}
				}
				all, err := aliases.edit(g.Aliases)
				if err != nil {
					return err
				}
				p.Aliases, given = &all, true
			}
			if !c.Flags().Changed("if-version") {
				cl = cl.Guarded(fmt.Sprintf("%q", fmt.Sprint(g.Version)))
			}
		}
		if !given {
			return usagef("nothing to change: give --name, --address or another option")
		}
		g, err := cl.ChangeGroup(ctx, args[0], p)
		if err != nil {
			return err
		}
		return a.showGroup(g)
	}, guarded)
	f := c.Flags()
	f.StringVar(&name, "name", "", "a new name; the address stays")
	f.StringVar(&address, "address", "", "a new address; the old one stays as an alias")
	aliases.flags(f, "alias", "a further address")
	f.StringVar(&description, "description", "", "why it exists")
	traits.flags(f, "trait", "what it does: archive, desk, calendar, access")
	f.StringVar(&language, "language", "", "of its notices: en or de")
	f.StringVar(&delivery, "default-delivery", "", "whether new members get each message: each or none")
	f.StringVar(&welcome, "welcome", "", "said to new members")
	mail.flags(c)
	f.StringVar(&exempt, "exempt", "", "why no term rule is for it; empty takes that back")
	f.StringVar(&until, "exempt-until", "", "the day on which to look at that again, such as 2027-03-31; empty: never")
	return c
}

var likeColumns = []column[api.LookAlike]{
	{name: "name", value: func(x api.LookAlike) any { return x.Name }},
	{name: "address", value: func(x api.LookAlike) any { return x.Address }, whole: true},
	{name: "state", value: func(x api.LookAlike) any { return x.State }},
	{name: "people", value: func(x api.LookAlike) any { return x.People }},
	{name: "why", heading: "LIKE IN", value: func(x api.LookAlike) any { return x.Why }},
	{name: "says", value: func(x api.LookAlike) any { return x.Says }, runs: true},
}

func (a *app) groupLike() *cobra.Command {
	var q api.LookAlikeRequest
	c := a.reads(&cobra.Command{
		Use: "like NAME", Short: "List groups that a new one would resemble", Args: cobra.ExactArgs(1),
		Long:    "List groups with a like name or address, or with mostly the same people, before a second\none is made.",
		Example: "  ivytable group like \"Dispatch Nights\" --address night.dispatch@merrowline.example \\\n    --person oda.fenn@merrowline.example",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		q.Name = args[0]
		found, err := c.LookAlikes(ctx, q)
		if err != nil {
			return err
		}
		return printAll(a, found, found.Items, likeColumns)
	})
	c.Flags().StringVar(&q.Address, "address", "", "the address that it would have")
	c.Flags().StringSliceVar(&q.People, "person", nil, "address of somebody who would be in it; repeat for more")
	return c
}

// patchOf makes a policy patch of NAME=VALUE words.
func patchOf(words []string) (p api.PolicyPatch, err error) {
	for _, w := range words {
		name, value, ok := strings.Cut(w, "=")
		if !ok {
			return p, usagef("%q has to be written as NAME=VALUE, such as post=anyone", w)
		}
		if !p.Set(name, value) {
			return p, usagef("there is no setting %q: choose %s", name, strings.Join(api.PolicyNames, ", "))
		}
	}
	return p, nil
}

func (a *app) policyCommands() *cobra.Command {
	show := a.reads(&cobra.Command{Use: "show GROUP", Short: "Show a group's policy in words", Args: cobra.ExactArgs(1), Example: "  ivytable policy show night-dispatch@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Policy(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showPolicy(p)
		})
	change := a.changes(&cobra.Command{
		Use: "change GROUP NAME=VALUE...", Short: "Change a group's policy", Args: cobra.MinimumNArgs(2),
		Long: wrap("Change a group's policy. NAME is "+strings.Join(api.PolicyNames, ", ")+". What each decides, and the values that it can have, shows: ivytable policy show", 0),
		Example: "  ivytable policy change night-dispatch@merrowline.example post=anyone hold=nobody --preview\n" +
			"  ivytable policy change night-dispatch@merrowline.example post=anyone hold=nobody",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		patch, err := patchOf(args[1:])
		if err != nil {
			return err
		}
		g, err := c.ChangePolicy(ctx, args[0], patch)
		if err != nil {
			return err
		}
		return a.done(g, "%s is changed. %s", g.Name, g.Sentence)
	}, guarded)
	return noun("policy", "A group's policy: show, change", show, change)
}

var settingColumns = []column[api.PolicySetting]{
	{name: "setting", value: func(s api.PolicySetting) any { return s.Name }},
	{name: "value", value: func(s api.PolicySetting) any { return s.Value }},
	{name: "asks", value: func(s api.PolicySetting) any { return s.Asks }, whole: true},
	{name: "choices", heading: "CAN BE", value: func(s api.PolicySetting) any { return choices(s, " ") }, show: func(s api.PolicySetting) string {
		if s.Question {
			return "an audience"
		}
		return choices(s, ", ")
	}, runs: true},
}

func choices(s api.PolicySetting, between string) string {
	var out []string
	for _, c := range s.Choices {
		out = append(out, c.Value)
	}
	return strings.Join(out, between)
}

func (a *app) showPolicy(p api.PolicySummary) error {
	if a.output != "table" {
		return printAll(a, p, p.Settings, settingColumns)
	}
	fmt.Fprintln(a.out, wrap(p.Sentence, 0)+"\n")
	printTable(a, p.Settings, settingColumns)
	for _, s := range p.Settings {
		if s.Question {
			fmt.Fprintf(a.out, "\n%s\n\n", wrap("An audience is "+choices(s, ", ")+". Each takes in those before it.", 0))
			break
		}
	}
	var facts []fact
	for _, s := range p.StandIns {
		var parts []string
		if len(s.Can) > 0 {
			parts = append(parts, "can "+strings.Join(s.Can, ", "))
		}
		if len(s.Cannot) > 0 {
			parts = append(parts, "can't "+strings.Join(s.Cannot, ", "))
		}
		who := "A " + s.Who
		if s.Who == "owner" {
			who = "An owner"
		}
		facts = append(facts, fact{who, strings.Join(parts, "; ")})
	}
	for _, f := range p.Contradictions {
		facts = append(facts, fact{"Not possible", f.Says + " " + f.Mend})
	}
	for _, f := range p.Warnings {
		facts = append(facts, fact{"Warning", f.Says + " " + f.Mend})
	}
	return a.facts(p, facts...)
}
