package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

func (a *app) ruleCommands() *cobra.Command {
	show := a.reads(&cobra.Command{Use: "show GROUP", Short: "Show the rule of membership of a group", Args: cobra.ExactArgs(1), Example: "  ivytable rule show deck@crew.merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Rule(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showRule(r)
		})
	match := a.reads(&cobra.Command{
		Use: "match RULE", Short: "Show whom a rule would take in a new group, and who nearly matches", Args: cobra.ExactArgs(1),
		Long: "Show whom a rule would take. RULE is a SCIM filter (RFC 7644, 3.4.2.2) over the attributes\nof people, such as department eq \"Deck\" and not (title sw \"Trainee\"). For a group that is\n" +
			"there: ivytable rule set GROUP RULE --preview",
		Example: "  ivytable rule match 'department eq \"Deck\" and addresses.locality eq \"Gannet Quay\"'",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		p, err := c.MatchRule(ctx, api.RuleQuestion{Expression: args[0]})
		if err != nil {
			return err
		}
		return a.showMatch(args[0], p)
	})
	return noun("rule", "Membership by rule: show, match, explain, set, release, remove", show, match, a.ruleExplain(), a.ruleSet(), a.ruleRelease(), a.ruleRemove())
}

func (a *app) showRule(r api.Rule) error {
	waits := ""
	if r.Pending != nil {
		waits = fmt.Sprintf("%s would go because %s. Let it happen with: ivytable rule release GROUP", plural(r.Pending.Go, "person"), r.Pending.Cause)
	}
	return a.facts(r, fact{"Rule", r.Expression}, fact{"In by it", plural(r.Members, "person")}, fact{"Guard", fmt.Sprintf("a change that would remove more than %d %% of them waits", r.Guard)},
		fact{"Waits", waits}, fact{"Set", r.SetBy + ", " + dayOf(r.SetAt)}, fact{"Version", fmt.Sprint(r.Version)})
}

// showMatch prints whom a rule would take, or where it can't be read.
func (a *app) showMatch(text string, p api.Preview) error {
	if p.Rule == nil || p.Rule.Valid || a.output == "json" {
		return a.showPreview(p)
	}
	at := p.Rule.At
	return fmt.Errorf("%s\n  %s\n  %s^", p.Says, text, strings.Repeat(" ", cells(text[:min(at, len(text))])))
}

// printMatch prints whom a rule takes.
func (a *app) printMatch(m api.RuleMatch) error {
	if !m.Valid {
		return nil
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
	facts := []fact{{"Match", names(m.Matches, m.Match)}}
	if m.Come+m.Go > 0 {
		facts = append(facts, fact{"Would come", names(m.Coming, m.Come)}, fact{"Would go", names(m.Going, m.Go)})
	}
	for i, n := range m.NearMiss {
		name := ""
		if i == 0 {
			name = fmt.Sprintf("Near (%d)", m.Near)
		}
		facts = append(facts, fact{name, fmt.Sprintf("%s: not %s. %s", n.Name.Name, n.Failed, n.Says)})
	}
	for _, l := range m.Lacking {
		if l.People > 0 {
			facts = append(facts, fact{"Lacking", fmt.Sprintf("%s of %d have no %s (%s)", plural(l.People, "person"), m.People, l.Label, l.Attribute)})
		}
	}
	return a.facts(m, facts...)
}

var rulePartColumns = []column[api.RulePart]{
	{name: "part", value: func(p api.RulePart) any { return p.Text }},
	{name: "verdict", value: func(p api.RulePart) any { return p.Verdict }},
	{name: "says", heading: "PERSON", value: func(p api.RulePart) any { return p.Says }},
	{name: "failed", heading: "KEEPS OUT", value: func(p api.RulePart) any { return p.Failed }, show: func(p api.RulePart) string {
		if p.Failed {
			return "◂"
		}
		return ""
	}},
}

func (a *app) ruleExplain() *cobra.Command {
	var group, expression string
	c := a.reads(&cobra.Command{
		Use: "explain PERSON", Short: "Show how a rule stands for one person", Args: cobra.ExactArgs(1),
		Example: "  ivytable rule explain tove.alder@merrowline.example --rule 'department eq \"Deck\"'\n  ivytable rule explain tove.alder@merrowline.example --group deck@crew.merrowline.example",
	}, func(ctx context.Context, c *client.Client, args []string) error {
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
		return printAll(a, e, e.Parts, rulePartColumns)
	})
	c.Flags().StringVar(&group, "group", "", "a group, whose rule it is")
	c.Flags().StringVar(&expression, "rule", "", "the rule")
	return c
}

func (a *app) ruleSet() *cobra.Command {
	var guard int
	var n api.NewRule
	c := &cobra.Command{
		Use: "set GROUP RULE", Short: "Put a rule of membership in force", Args: cobra.ExactArgs(2),
		Example: "  ivytable rule set deck@crew.merrowline.example 'department eq \"Deck\"' --guard 10 --preview",
	}
	a.changes(c, func(ctx context.Context, cl *client.Client, args []string) error {
		n.Expression = args[1]
		if c.Flags().Changed("guard") {
			n.Guard = &guard
		}
		r, err := cl.SetRule(ctx, args[0], n)
		if err != nil {
			return err
		}
		return a.showRule(r)
	}, guarded)
	c.Flags().IntVar(&guard, "guard", 20, "a change that would remove more than this share of those in by rule, in percent, waits")
	c.Flags().BoolVar(&n.Confirm, "confirm", false, "do it although it removes more than the guard allows")
	return c
}

func (a *app) ruleRelease() *cobra.Command {
	return a.changes(&cobra.Command{Use: "release GROUP", Short: "Let a change happen that waits because of the guard", Args: cobra.ExactArgs(1), Example: "  ivytable rule release deck@crew.merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.ReleaseRule(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showRule(r)
		}, guarded)
}

func (a *app) ruleRemove() *cobra.Command {
	var people bool
	c := a.changes(&cobra.Command{Use: "remove GROUP", Short: "Take a rule away; those who are in by it stay", Args: cobra.ExactArgs(1), Example: "  ivytable rule remove deck@crew.merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.DeleteRule(ctx, args[0], people); err != nil {
				return err
			}
			if people {
				return a.done(nil, "%s has no rule any more, and those who were in by it are not in it any more.", args[0])
			}
			return a.done(nil, "%s has no rule any more. Those who were in by it stay.", args[0])
		}, guarded)
	c.Flags().BoolVar(&people, "with-people", false, "take those out too who are in by it")
	return c
}
