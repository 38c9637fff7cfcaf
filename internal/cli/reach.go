package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

func (a *app) rehearseCommand() *cobra.Command {
	var r api.Rehearsal
	var unproven bool
	c := a.reads(&cobra.Command{
		Use: "rehearse ACTION GROUP", Short: "Show what would happen, without doing it", Args: cobra.ExactArgs(2),
		Long: wrap("Show what would happen and why. ACTION is find, see_people, read, join, leave, add_people, invite, nest, post, write_owners, speak_as or speak_for. Who does it is you, --as somebody, or --role: anybody who is an owner, moderator, member, external_member, colleague, stranger, administrator or auditor.", 0),
		Example: "  ivytable rehearse post night-dispatch@merrowline.example --as stranger@elsewhere.example\n" +
			"  ivytable rehearse join safety-board@merrowline.example --role colleague\n" +
			"  ivytable rehearse nest all-crew@merrowline.example --with night-dispatch@merrowline.example",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		proven := !unproven
		r.Action, r.Group, r.Proven = args[0], args[1], &proven
		if r.As == "" && r.Role == "" {
			me, err := c.Me(ctx)
			if err != nil {
				return err
			}
			r.As = me.Address
		}
		d, err := c.Rehearse(ctx, r)
		if err != nil {
			return err
		}
		return a.showDecision(d)
	})
	c.Flags().StringVar(&r.As, "as", "", "address of who would do it (default: you)")
	c.Flags().StringVar(&r.Role, "role", "", "in place of somebody: anybody who is that")
	c.Flags().BoolVar(&unproven, "unproven", false, "as mail that nothing proves the author of")
	c.Flags().StringVar(&r.With, "with", "", "of nest: the group that would be put into GROUP")
	return c
}

func (a *app) showDecision(d api.Decision) error {
	facts := []fact{{"Outcome", d.Outcome}, {"Decided by", d.Rule}}
	for i, r := range d.Reasons {
		name := ""
		if i == 0 {
			name = "Because"
		}
		facts = append(facts, fact{name, r.Rule + ": " + r.Says})
		if r.Mend != nil {
			facts = append(facts, fact{"To change it", *r.Mend})
		}
	}
	if r := d.Recipients; r != nil {
		text := plural(r.Count, "person")
		if r.Without > 0 {
			text += "; " + number(r.Without) + " more chose to get no mail from it"
		}
		facts = append(facts, fact{"Would reach", text})
		for _, w := range r.Ways {
			facts = append(facts, fact{"", w.Address + " (" + wayOf(w.Role, w.External, w.Through) + ")"})
		}
		if n := r.Count - len(r.Ways); n > 0 {
			facts = append(facts, fact{"", "and " + number(n) + " more"})
		}
		facts = append(facts, fact{"And", r.Hidden})
	}
	facts = append(facts, fact{"It says", d.Notice}, fact{"Note", d.Hidden})
	return a.facts(d, facts...)
}

// wayOf says how somebody is in a group.
func wayOf(role string, external bool, through []string) string {
	text := role
	if len(through) > 0 && (role == "" || role == "none") {
		text = "through " + strings.Join(through, ", ")
	}
	if external {
		text = "external " + text
	}
	return strings.TrimSpace(text)
}

var permittedColumns = []column[api.Permitted]{
	{name: "name", value: func(p api.Permitted) any { return p.Name }},
	{name: "address", value: func(p api.Permitted) any { return p.Address }, whole: true},
	{name: "external", value: func(p api.Permitted) any { return p.External }, csvOnly: true},
	{name: "role", heading: "IN IT AS", value: func(p api.Permitted) any { return p.Role }, show: func(p api.Permitted) string {
		if p.Role == "none" && len(p.Through) == 0 {
			return ""
		}
		return wayOf(p.Role, p.External, p.Through)
	}},
	{name: "through", value: func(p api.Permitted) any { return strings.Join(p.Through, "; ") }, csvOnly: true},
	{name: "was", value: func(p api.Permitted) any { return p.Was }, csvOnly: true},
	{name: "outcome", value: func(p api.Permitted) any { return p.Outcome }, show: func(p api.Permitted) string {
		if p.Was != "" {
			return p.Was + " → " + p.Outcome
		}
		return p.Outcome
	}},
	{name: "rule", value: func(p api.Permitted) any { return p.Rule }, csvOnly: true},
	{name: "says", heading: "WHY", value: func(p api.Permitted) any { return p.Says }, runs: true},
}

const listedActions = "ACTION is find, see_people, read, join, add_people, post, write_owners, speak_as or speak_for."

func (a *app) whoMayCommand() *cobra.Command {
	var p paging
	var draft []string
	c := a.reads(&cobra.Command{
		Use: "who-may ACTION GROUP", Short: "List who may do something with a group, and why", Args: cobra.ExactArgs(2),
		Long: wrap("List who may do something with a group, and why: people of the workspace, external members, addresses about which something is settled, and everybody else. With --draft, only those for whom it would be otherwise with other settings. "+listedActions, 0),
		Example: "  ivytable who-may post safety-board@merrowline.example\n" +
			"  ivytable who-may post night-dispatch@merrowline.example --draft post=workspace\n" +
			"  ivytable who-may find works-council@merrowline.example --output csv > who.csv",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		asked := client.Asked{Action: args[0], Draft: strings.Join(draft, " ")}
		if a.output == "csv" && !p.flag("limit") {
			return c.ExportPermitted(ctx, args[1], asked, "csv", a.out)
		}
		return list(a, &p, func(p client.Paging) (api.Page[api.Permitted], error) { return c.Permitted(ctx, args[1], asked, p) }, permittedColumns)
	})
	paged(c, &p)
	c.Flags().StringSliceVar(&draft, "draft", nil, "NAME=VALUE of a setting, as it might be; repeat for more")
	return c
}

var abilityColumns = []column[api.Abilities]{
	{name: "group", value: func(x api.Abilities) any { return x.Group.Address }, show: func(x api.Abilities) string { return x.Group.Name }},
	{name: "state", value: func(x api.Abilities) any { return x.State }, csvOnly: true},
	{name: "role", heading: "AS", value: func(x api.Abilities) any { return x.Role }, show: func(x api.Abilities) string {
		if x.Role == "none" && x.Inside {
			return "nested"
		}
		if x.Role == "none" {
			return ""
		}
		return x.Role
	}},
	{name: "settled", value: func(x api.Abilities) any { return x.Settled }, csvOnly: true},
	{name: "may", heading: "MAY", value: func(x api.Abilities) any { return outcomes(x, "allow", " ") }, show: func(x api.Abilities) string { return outcomes(x, "allow", ", ") }, runs: true},
	{name: "after_approval", heading: "AFTER APPROVAL", value: func(x api.Abilities) any { return outcomes(x, "hold", " ") }, show: func(x api.Abilities) string { return outcomes(x, "hold", ", ") }},
}

func outcomes(x api.Abilities, outcome, between string) string {
	var out []string
	for _, m := range x.May {
		if m.Outcome == outcome {
			out = append(out, m.Action)
		}
	}
	return strings.Join(out, between)
}

func (a *app) personAbilities() *cobra.Command {
	var p paging
	var everywhere bool
	c := a.reads(&cobra.Command{
		Use: "abilities PERSON", Short: "List what somebody may do with groups", Args: cobra.ExactArgs(1),
		Long:    "List what somebody may do with the groups that they are in, or with every group.\n--output csv has a line for each group and what can be done, with the rule and why.",
		Example: "  ivytable person abilities tove.alder@merrowline.example\n  ivytable person abilities tove.alder@merrowline.example --every-group --output csv > tove.csv",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		if a.output == "csv" && !p.flag("limit") {
			return c.ExportAbilities(ctx, args[0], everywhere, "csv", a.out)
		}
		return list(a, &p, func(p client.Paging) (api.Page[api.Abilities], error) {
			return c.Abilities(ctx, args[0], everywhere, p)
		}, abilityColumns)
	})
	paged(c, &p)
	c.Flags().BoolVar(&everywhere, "every-group", false, "with all groups, in place of those that they are in")
	return c
}
