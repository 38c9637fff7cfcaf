package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

func (a *app) ruleCommands() *cobra.Command {
	show := &cobra.Command{
		Use: "show GROUP", Short: "Show the rule of membership of a group", Args: cobra.ExactArgs(1), Example: "  ivytable rule show deck@crew.merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Rule(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showRule(r)
		}),
	}
	var group string
	try := &cobra.Command{
		Use: "try RULE", Short: "Show whom a rule would take, and who nearly matches", Args: cobra.ExactArgs(1),
		Long: "Show whom a rule would take. RULE is a SCIM filter (RFC 7644, 3.4.2.2) over the attributes\nof people, such as department eq \"Deck\" and not (title sw \"Trainee\").",
		Example: "  ivytable rule try 'department eq \"Deck\" and addresses.locality eq \"Gannet Quay\"'\n" +
			"  ivytable rule try 'title pr' --group deck@crew.merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			e, err := c.RuleEffect(ctx, api.RuleQuestion{Expression: args[0], Group: group})
			if err != nil {
				return err
			}
			return a.showRuleEffect(args[0], e)
		}),
	}
	try.Flags().StringVar(&group, "group", "", "the group that would have the rule: shows who would come and go")
	return noun("rule", "Membership by rule: show, try, explain, set, release, remove", show, try, a.ruleExplain(), a.ruleSet(), a.ruleRelease(), a.ruleRemove())
}

func (a *app) showRule(r api.Rule) error {
	held := ""
	if r.Held != nil {
		held = fmt.Sprintf("%s would go because %s. Let it happen with: ivytable rule release GROUP", plural(r.Held.Go, "person"), r.Held.Cause)
	}
	return a.facts(r, [2]string{"Rule", r.Expression}, [2]string{"In by it", plural(r.Members, "person")}, [2]string{"Guard", fmt.Sprintf("a change that would remove more than %d %% of them waits", r.Guard)},
		[2]string{"Waits", held}, [2]string{"Set", r.SetBy + ", " + r.SetAt.Format("2 Jan 2006")})
}

func (a *app) showRuleEffect(text string, e api.RuleEffect) error {
	if !e.Valid {
		if a.output == "json" {
			return a.json(e)
		}
		return fmt.Errorf("%s\n  %s\n  %s^", e.Says, text, strings.Repeat(" ", cells(text[:min(e.At, len(text))])))
	}
	names := func(all []api.Name, n int) string {
		var out []string
		for _, x := range all {
			out = append(out, x.Name)
		}
		if n > len(all) {
			out = append(out, fmt.Sprintf("and %d more", n-len(all)))
		}
		return strings.Join(out, ", ")
	}
	pairs := [][2]string{{"Says", e.Says}, {"Match", names(e.Matches, e.Match)}}
	if e.Come+e.Go > 0 {
		pairs = append(pairs, [2]string{"Would come", names(e.Coming, e.Come)}, [2]string{"Would go", names(e.Going, e.Go)})
	}
	if e.Guarded {
		pairs = append(pairs, [2]string{"Guard", "More would go than the guard allows; setting the rule has to be confirmed."})
	}
	for i, n := range e.NearMiss {
		name := ""
		if i == 0 {
			name = fmt.Sprintf("Near (%d)", e.Near)
		}
		pairs = append(pairs, [2]string{name, fmt.Sprintf("%s: not %s. %s", n.Name.Name, n.Failed, n.Says)})
	}
	for _, l := range e.Lacking {
		if l.People > 0 {
			pairs = append(pairs, [2]string{"Lacking", fmt.Sprintf("%s of %d have no %s (%s)", plural(l.People, "person"), e.People, l.Label, l.Attribute)})
		}
	}
	return a.facts(e, pairs...)
}

func (a *app) ruleExplain() *cobra.Command {
	var group, expression string
	c := &cobra.Command{
		Use: "explain PERSON", Short: "Show how a rule stands for one person", Args: cobra.ExactArgs(1),
		Example: "  ivytable rule explain tove.alder@merrowline.example --rule 'department eq \"Deck\"'\n  ivytable rule explain tove.alder@merrowline.example --group deck@crew.merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			if group == "" && expression == "" {
				return usagef("give --rule, or --group for the rule of a group")
			}
			e, err := c.ExplainRule(ctx, api.RuleQuestion{Expression: expression, Group: group, Person: args[0]})
			if err != nil {
				return err
			}
			if a.output == "table" {
				fmt.Fprintln(a.out, wrap(e.Says, 0)+"\n")
			}
			rows := make([][]string, len(e.Parts))
			for i, p := range e.Parts {
				mark := ""
				if p.Failed {
					mark = "◂ keeps out"
				}
				rows[i] = []string{p.Text, p.Verdict, p.Says, mark}
			}
			return a.list(e, []string{"PART", "VERDICT", "PERSON", ""}, rows)
		}),
	}
	c.Flags().StringVar(&group, "group", "", "a group, whose rule it is")
	c.Flags().StringVar(&expression, "rule", "", "the rule")
	return c
}

func (a *app) ruleSet() *cobra.Command {
	var guard int
	var n api.NewRule
	c := &cobra.Command{
		Use: "set GROUP RULE", Short: "Put a rule of membership in force", Args: cobra.ExactArgs(2),
		Example: "  ivytable rule set deck@crew.merrowline.example 'department eq \"Deck\"' --guard 10",
	}
	c.RunE = a.run(func(ctx context.Context, cl *client.Client, args []string) error {
		n.Expression = args[1]
		if c.Flags().Changed("guard") {
			n.Guard = &guard
		}
		r, err := cl.SetRule(ctx, args[0], n)
		if err != nil {
			return err
		}
		return a.showRule(r)
	})
	c.Flags().IntVar(&guard, "guard", 20, "a change that would remove more than this share of those in by rule, in percent, waits")
	c.Flags().BoolVar(&n.Confirm, "confirm", false, "do it although it removes more than the guard allows")
	return c
}

func (a *app) ruleRelease() *cobra.Command {
	return &cobra.Command{
		Use: "release GROUP", Short: "Let a change happen that waits because of the guard", Args: cobra.ExactArgs(1), Example: "  ivytable rule release deck@crew.merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.ReleaseRule(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showRule(r)
		}),
	}
}

func (a *app) ruleRemove() *cobra.Command {
	var people bool
	c := &cobra.Command{
		Use: "remove GROUP", Short: "Take a rule away; those who are in by it stay", Args: cobra.ExactArgs(1), Example: "  ivytable rule remove deck@crew.merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			return c.DeleteRule(ctx, args[0], people)
		}),
	}
	c.Flags().BoolVar(&people, "with-people", false, "take those out too who are in by it")
	return c
}

func (a *app) namingCommands() *cobra.Command {
	show := &cobra.Command{
		Use: "show", Short: "Show the rules of naming", Args: cobra.NoArgs, Example: "  ivytable naming show",
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			n, err := c.Naming(ctx)
			if err != nil {
				return err
			}
			return a.showNaming(n)
		}),
	}
	var as, domain string
	try := &cobra.Command{
		Use: "try NAME", Short: "Show what a group would be called, also as somebody else", Args: cobra.ExactArgs(1),
		Example: "  ivytable naming try \"Lost Keys\" --as tove.alder@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Propose(ctx, client.Proposing{Name: args[0], Creator: as, Domain: domain})
			if err != nil {
				return err
			}
			return a.facts(p, [2]string{"Name", p.Name}, [2]string{"Address", p.Address}, [2]string{"Status", p.Status}, [2]string{"Says", p.Says}, [2]string{"Note", strings.Join(p.Notes, " ")})
		}),
	}
	try.Flags().StringVar(&as, "as", "", "address of who would make it (default: you)")
	try.Flags().StringVar(&domain, "domain", "", "one of the workspace's domains; its main one when left out")
	return noun("naming", "Rules of naming: show, try a name, try a change, change", show, try, a.namingSet("effect", "Show which groups would break new rules", false), a.namingSet("change", "Change the rules of naming", true))
}

func (a *app) showNaming(n api.Naming) error {
	none := func(s string) string {
		if s == "" {
			return "none"
		}
		return s
	}
	who := map[string]string{"administrators": "administrators only", "workspace": "everyone in the workspace"}[n.Creators]
	return a.facts(n, [2]string{"Groups are made by", who}, [2]string{"Prefix", none(n.Prefix)}, [2]string{"Suffix", none(n.Suffix)},
		[2]string{"Reserved words", none(strings.Join(n.Words, ", "))}, [2]string{"Reserved beginnings", none(strings.Join(n.Beginnings, ", "))}, [2]string{"Version", fmt.Sprint(n.Version)})
}

func (a *app) namingSet(verb, short string, save bool) *cobra.Command {
	var given api.Naming
	c := &cobra.Command{
		Use: verb, Short: short, Args: cobra.NoArgs, Long: short + ". What is not given stays as it is.",
		Example: fmt.Sprintf("  ivytable naming %s --suffix \" ({locality})\" --word payroll --beginning All", verb),
	}
	c.RunE = a.run(func(ctx context.Context, cl *client.Client, _ []string) error {
		n, err := cl.Naming(ctx)
		if err != nil {
			return err
		}
		for flag, take := range map[string]func(){
			"creators": func() { n.Creators = given.Creators }, "prefix": func() { n.Prefix = given.Prefix }, "suffix": func() { n.Suffix = given.Suffix },
			"word":      func() { n.Words = slices.DeleteFunc(given.Words, func(s string) bool { return s == "" }) },
			"beginning": func() { n.Beginnings = slices.DeleteFunc(given.Beginnings, func(s string) bool { return s == "" }) },
		} {
			if c.Flags().Changed(flag) {
				take()
			}
		}
		if save {
			if n, err = cl.SetNaming(ctx, n); err != nil {
				return err
			}
			return a.showNaming(n)
		}
		e, err := cl.NamingEffect(ctx, n)
		if err != nil {
			return err
		}
		rows := make([][]string, len(e.Sample))
		for i, b := range e.Sample {
			rows[i] = []string{b.Name, b.Address, strings.Join(b.Says, " ")}
		}
		if a.output == "table" {
			fmt.Fprintln(a.out, wrap(e.Says, 0))
			if len(rows) == 0 {
				return nil
			}
			fmt.Fprintln(a.out)
		}
		return a.list(e, []string{"NAME", "ADDRESS", "BREAKS"}, rows)
	})
	f := c.Flags()
	f.StringVar(&given.Creators, "creators", "", "who may create groups: administrators or workspace")
	f.StringVar(&given.Prefix, "prefix", "", "put before names; {department} and other fields are the creator's")
	f.StringVar(&given.Suffix, "suffix", "", "put after names")
	f.StringSliceVar(&given.Words, "word", nil, "every reserved word; repeat for more, empty for none")
	f.StringSliceVar(&given.Beginnings, "beginning", nil, "every reserved beginning; repeat for more, empty for none")
	return c
}

func (a *app) startCommands() *cobra.Command {
	list := &cobra.Command{
		Use: "list", Short: "List what a group can be begun from", Args: cobra.NoArgs, Example: "  ivytable start list",
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			all, err := c.StartingPoints(ctx)
			if err != nil {
				return err
			}
			rows := make([][]string, len(all))
			for i, s := range all {
				rows[i] = []string{s.Name, s.Title, strings.Join(s.Traits, ", "), s.About}
			}
			return a.list(all, []string{"NAME", "TITLE", "DOES", "FOR"}, rows)
		}),
	}
	var n api.NewStartingPoint
	var set []string
	save := &cobra.Command{
		Use: "save NAME", Short: "Make or change a starting point, also from a group", Args: cobra.ExactArgs(1),
		Example: "  ivytable start save season --title \"Seasonal route\" --from-group summer-tern@merrowline.example\n  ivytable start save desk --set post=anyone --set hold=outsiders --trait desk",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			var err error
			if n.Policy, err = patchOf(set); err != nil {
				return err
			}
			s, err := c.SaveStartingPoint(ctx, args[0], n)
			if err != nil {
				return err
			}
			return a.facts(s, [2]string{"Name", s.Name}, [2]string{"Title", s.Title}, [2]string{"For", s.About}, [2]string{"Does", strings.Join(s.Traits, ", ")}, [2]string{"Reach", s.Sentence})
		}),
	}
	f := save.Flags()
	f.StringVar(&n.Title, "title", "", "what people see; the name when left out")
	f.StringVar(&n.About, "about", "", "what it is for")
	f.StringVar(&n.From, "from-group", "", "take policy and traits of this group")
	f.StringSliceVar(&n.Traits, "trait", nil, "archive, desk, calendar, access; repeat for more")
	f.StringArrayVar(&set, "set", nil, "an answer or setting, such as post=anyone; repeat for more")
	remove := &cobra.Command{
		Use: "delete NAME", Short: "Delete a starting point; groups made from it stay", Args: cobra.ExactArgs(1), Example: "  ivytable start delete season",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			return c.DeleteStartingPoint(ctx, args[0])
		}),
	}
	return noun("start", "Starting points for groups: list, save, delete", list, save, remove)
}
