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

func (a *app) namingCommands() *cobra.Command {
	show := a.reads(&cobra.Command{Use: "show", Short: "Show the rules of naming", Args: cobra.NoArgs, Example: "  ivytable naming show"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			n, err := c.Naming(ctx)
			if err != nil {
				return err
			}
			return a.showNaming(n)
		})
	var q client.Proposing
	try := a.reads(&cobra.Command{Use: "try NAME", Short: "Show what a group would be called, also as somebody else", Args: cobra.ExactArgs(1), Example: "  ivytable naming try \"Lost Keys\" --as tove.alder@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			q.Name = args[0]
			p, err := c.Propose(ctx, q)
			if err != nil {
				return err
			}
			return a.showProposal(p)
		})
	try.Flags().StringVar(&q.Creator, "as", "", "address of who would make it (default: you)")
	try.Flags().StringVar(&q.Domain, "domain", "", "one of the workspace's domains; its main one when left out")
	try.Flags().StringVar(&q.StartingPoint, "starting-point", "", "what it would be begun from")
	return noun("naming", "Rules of naming: show, try a name, change", show, try, a.namingChange())
}

func (a *app) showNaming(n api.Naming) error {
	none := func(s string) string {
		if s == "" {
			return "none"
		}
		return s
	}
	var others []string
	for _, p := range n.Patterns {
		others = append(others, p.Filter+" => "+p.Pattern)
	}
	who := map[string]string{"administrators": "administrators only", "workspace": "everyone in the workspace"}[n.Creators]
	return a.facts(n, fact{"Groups are made by", who}, fact{"Pattern", none(n.Pattern)}, fact{"Other patterns", strings.Join(others, "; ")},
		fact{"Reserved words", none(strings.Join(n.Words, ", "))}, fact{"Reserved beginnings", none(strings.Join(n.Beginnings, ", "))}, fact{"Version", fmt.Sprint(n.Version)})
}

func (a *app) namingChange() *cobra.Command {
	var given api.Naming
	var words, beginnings listFlags
	var other, without []string
	c := &cobra.Command{
		Use: "change", Short: "Change the rules of naming", Args: cobra.NoArgs, Long: "Change the rules of naming. What is not given stays as it is.",
		Example: "  ivytable naming change --pattern \"{name} ({locality})\" --add-word payroll --add-beginning All --preview\n  ivytable naming change --remove-word payroll",
	}
	a.changes(c, func(ctx context.Context, cl *client.Client, _ []string) error {
		n, err := cl.Naming(ctx)
		if err != nil {
			return err
		}
		if !c.Flags().Changed("if-version") {
			cl = cl.Guarded(fmt.Sprintf("%q", fmt.Sprint(n.Version)))
		}
		for _, x := range without {
			i := slices.IndexFunc(n.Patterns, func(p api.NamePattern) bool { return p.Filter == strings.TrimSpace(x) })
			if i < 0 {
				return usagef("there is no pattern for %q to take away", x)
			}
			n.Patterns = slices.Delete(n.Patterns, i, i+1)
		}
		for _, x := range other {
			filter, pattern, ok := strings.Cut(x, "=>")
			if !ok {
				return usagef("--add-pattern is written as FILTER => PATTERN, not %q", x)
			}
			n.Patterns = append(n.Patterns, api.NamePattern{Filter: strings.TrimSpace(filter), Pattern: strings.TrimSpace(pattern)})
		}
		if c.Flags().Changed("creators") {
			n.Creators = given.Creators
		}
		if c.Flags().Changed("pattern") {
			n.Pattern = given.Pattern
		}
		if n.Words, err = words.edit(n.Words); err != nil {
			return err
		}
		if n.Beginnings, err = beginnings.edit(n.Beginnings); err != nil {
			return err
		}
		if n, err = cl.SetNaming(ctx, n); err != nil {
			return err
		}
		return a.showNaming(n)
	}, guarded)
	f := c.Flags()
	f.StringVar(&given.Creators, "creators", "", "who may create groups: administrators or workspace")
	f.StringVar(&given.Pattern, "pattern", "", "how groups are named, such as \"{name} ({locality})\": {name} is what is typed, other fields are the creator's; empty for none")
	f.StringArrayVar(&other, "add-pattern", nil, "another pattern for some groups, as FILTER => PATTERN; repeat for more")
	f.StringArrayVar(&without, "remove-pattern", nil, "the filter of such a pattern, to take it away; repeat for more")
	words.flags(f, "word", "a reserved word")
	beginnings.flags(f, "beginning", "a reserved beginning")
	return c
}

func (a *app) addressCommands() *cobra.Command {
	var domain string
	propose := a.reads(&cobra.Command{Use: "propose NAME", Short: "The address that a name proposes", Args: cobra.ExactArgs(1), Example: "  ivytable address propose \"Slipway Repairs\" --domain crew.merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Propose(ctx, client.Proposing{Name: args[0], Domain: domain})
			if err != nil {
				return err
			}
			return a.showProposal(p)
		})
	propose.Flags().StringVar(&domain, "domain", "", "one of the workspace's domains; its main one when left out")
	check := a.reads(&cobra.Command{Use: "check ADDRESS", Short: "Whether a group can have an address", Args: cobra.ExactArgs(1), Example: "  ivytable address check night-dispatch@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Propose(ctx, client.Proposing{Address: args[0]})
			if err != nil {
				return err
			}
			return a.showProposal(p)
		})
	return noun("address", "Addresses for groups: propose, check", propose, check)
}

func (a *app) showProposal(p api.Proposal) error {
	var near []string
	for _, n := range p.Near {
		near = append(near, fmt.Sprintf("%s (%s %s)", n.Address, n.Kind, n.Name))
	}
	return a.facts(p, fact{"Name", p.Name}, fact{"Address", p.Address}, fact{"Status", p.Status}, fact{"Says", p.Says}, fact{"Near", strings.Join(near, ", ")}, fact{"Note", strings.Join(p.Notes, " ")})
}

var startColumns = []column[api.StartingPoint]{
	{name: "name", value: func(s api.StartingPoint) any { return s.Name }, whole: true},
	{name: "title", value: func(s api.StartingPoint) any { return s.Title }},
	{name: "traits", heading: "DOES", value: func(s api.StartingPoint) any { return s.Traits }, show: func(s api.StartingPoint) string { return strings.Join(s.Traits, ", ") }},
	{name: "built_in", value: func(s api.StartingPoint) any { return s.BuiltIn }, csvOnly: true},
	{name: "about", heading: "FOR", value: func(s api.StartingPoint) any { return s.About }, runs: true},
	{name: "version", value: func(s api.StartingPoint) any { return s.Version }, csvOnly: true},
}

var differingColumns = []column[api.Differing]{
	{name: "group", value: func(d api.Differing) any { return d.Group.Address }, show: func(d api.Differing) string { return d.Group.Name }},
	{name: "starting_point", heading: "BEGUN FROM", value: func(d api.Differing) any { return d.StartingPoint }, whole: true},
	{name: "differences", value: func(d api.Differing) any { return d.Differences }, show: func(d api.Differing) string {
		var all []string
		for _, x := range d.Differences {
			all = append(all, fmt.Sprintf("%s is %s, not %s", x.Field, cmp.Or(x.To, "empty"), cmp.Or(x.From, "empty")))
		}
		return strings.Join(all, "; ")
	}, runs: true},
}

func (a *app) startingPointCommands() *cobra.Command {
	show := a.reads(&cobra.Command{Use: "list", Short: "List what a group can be begun from", Args: cobra.NoArgs, Example: "  ivytable starting-point list"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			all, err := c.StartingPoints(ctx)
			if err != nil {
				return err
			}
			return printAll(a, all, all.Items, startColumns)
		})
	single := a.reads(&cobra.Command{Use: "show NAME", Short: "Show one starting point", Args: cobra.ExactArgs(1), Example: "  ivytable starting-point show team-room"},
		func(ctx context.Context, c *client.Client, args []string) error {
			s, err := c.StartingPoint(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showStart(s)
		})
	var n api.NewStartingPoint
	var about string
	var set []string
	save := a.changes(&cobra.Command{
		Use: "save NAME", Short: "Make a starting point, also from a group, or change what is said of one", Args: cobra.ExactArgs(1),
		Example: "  ivytable starting-point save season --title \"Seasonal route\" --from-group summer-tern@merrowline.example\n  ivytable starting-point save desk --set post=anyone --set hold=outsiders --trait desk",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		var err error
		if n.Policy, err = patchOf(set); err != nil {
			return err
		}
		if about != "" {
			n.About = &about
		}
		s, err := c.SaveStartingPoint(ctx, args[0], n)
		if err != nil {
			return err
		}
		return a.showStart(s)
	}, guarded)
	f := save.Flags()
	f.StringVar(&n.Title, "title", "", "what people see; the name when left out")
	f.StringVar(&about, "about", "", "what it is for")
	f.StringVar(&n.From, "from-group", "", "take policy and traits of this group")
	f.StringSliceVar(&n.Traits, "trait", nil, "archive, desk, calendar, access; repeat for more")
	f.StringArrayVar(&set, "set", nil, "a setting of the policy, such as post=anyone; repeat for more")
	remove := a.changes(&cobra.Command{Use: "delete NAME", Short: "Delete a starting point; groups made from it stay", Args: cobra.ExactArgs(1), Example: "  ivytable starting-point delete season"},
		func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.DeleteStartingPoint(ctx, args[0]); err != nil {
				return err
			}
			return a.done(nil, "The starting point %s is deleted. Groups that were made from it stay.", args[0])
		}, guarded)
	var p paging
	differing := a.reads(&cobra.Command{
		Use: "differing [NAME]", Short: "List the groups that differ from what they were begun from, and how", Args: cobra.MaximumNArgs(1),
		Example: "  ivytable starting-point differing intake\n  ivytable change groups bookings@merrowline.example --starting-point intake --preview",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		return list(a, &p, func(p client.Paging) (api.Page[api.Differing], error) {
			return c.Differing(ctx, strings.Join(args, ""), p)
		}, differingColumns)
	})
	paged(differing, &p)
	apply := a.changes(&cobra.Command{
		Use: "apply NAME GROUP", Short: "Make a group what a starting point says: its policy, traits and texts", Args: cobra.ExactArgs(2),
		Example: "  ivytable starting-point apply intake lost-property@merrowline.example --preview",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		g, err := c.BeginAgain(ctx, args[1], args[0])
		if err != nil {
			return err
		}
		return a.showGroup(g)
	}, guarded)
	return noun("starting-point", "Starting points for groups: list, show, save, apply, delete, differing", show, single, save, apply, remove, differing)
}

func (a *app) showStart(s api.StartingPoint) error {
	return one(a, s, startColumns, fact{"Name", s.Name}, fact{"Title", s.Title}, fact{"For", s.About}, fact{"Does", strings.Join(s.Traits, ", ")}, fact{"Reach", s.Sentence})
}
