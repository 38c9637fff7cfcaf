package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

func subjectOf(f api.Finding) api.Name {
	if f.Group != nil {
		return *f.Group
	}
	return nameOf(f.Person)
}

var findingColumns = []column[api.Finding]{
	{name: "id", value: func(f api.Finding) any { return f.ID }, csvOnly: true},
	{name: "severity", value: func(f api.Finding) any { return f.Severity }},
	{name: "kind", value: func(f api.Finding) any { return f.Kind }, whole: true},
	{name: "about", value: func(f api.Finding) any { return subjectOf(f).Address }, whole: true},
	{name: "name", value: func(f api.Finding) any { return subjectOf(f).Name }, csvOnly: true},
	{name: "state", value: func(f api.Finding) any { return f.State }},
	{name: "assigned_to", value: func(f api.Finding) any {
		if f.Assigned == nil {
			return ""
		}
		return f.Assigned.To.Address
	}, csvOnly: true},
	{name: "since", value: func(f api.Finding) any { return f.Since }, csvOnly: true},
	{name: "says", value: func(f api.Finding) any { return f.Says }},
}

var findingKindColumns = []column[api.FindingKind]{
	{name: "severity", value: func(k api.FindingKind) any { return k.Severity }},
	{name: "kind", value: func(k api.FindingKind) any { return k.Kind }, whole: true},
	{name: "open", value: func(k api.FindingKind) any { return k.Open }},
	{name: "assigned", value: func(k api.FindingKind) any { return k.Assigned }},
	{name: "accepted", value: func(k api.FindingKind) any { return k.Accepted }},
	{name: "week_ago", value: func(k api.FindingKind) any { return k.WeekAgo }, show: func(k api.FindingKind) string {
		if k.WeekAgo == nil {
			return "–"
		}
		return strconv.Itoa(*k.WeekAgo)
	}},
	{name: "what", value: func(k api.FindingKind) any { return k.Title }},
	{name: "filter", value: func(k api.FindingKind) any { return k.Filter }, csvOnly: true},
}

func (a *app) findingCommands() *cobra.Command {
	return noun("finding", "What is wrong or doubtful: kinds, list, accept, reopen, assign, limits, set-limits", a.findingKinds(), a.findingList(), a.findingAccept(false), a.findingAccept(true), a.findingAssign(), a.findingLimits(), a.findingSetLimits())
}

// findingFlags are the flags by which findings are found.
func findingFlags(c *cobra.Command, l *client.FindingList) {
	f := c.Flags()
	f.StringSliceVar(&l.Kinds, "kind", nil, "of this kind; may be given several times")
	f.StringVar(&l.Severity, "severity", "", "serious, doubtful or minor")
	f.StringVar(&l.State, "state", "", "open, assigned or accepted")
	f.StringVar(&l.Group, "group", "", "of this group")
	f.StringVar(&l.Filter, "filter", "", "of the groups that this filter names")
}

func (a *app) findingKinds() *cobra.Command {
	var l client.FindingList
	var all bool
	c := a.reads(&cobra.Command{Use: "kinds", Short: "Count what the review found, by kind, what weighs most first", Args: cobra.NoArgs,
		Example: "  ivytable finding kinds\n  ivytable finding kinds --all\n  ivytable finding kinds --filter 'domain eq \"crew.merrowline.example\"'"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			k, err := c.FindingKinds(ctx, l)
			if err != nil {
				return err
			}
			if !all && a.output == "table" {
				k.Items = slices.DeleteFunc(k.Items, func(k api.FindingKind) bool { return k.Open+k.Accepted == 0 })
			}
			if err := printAll(a, k, k.Items, findingKindColumns); err != nil {
				return err
			}
			hint := fmt.Sprintf("%s open.", plural(k.Open, "finding"))
			if i := slices.IndexFunc(k.Items, func(k api.FindingKind) bool { return k.Open > 0 && k.Filter != "" }); i >= 0 {
				hint += fmt.Sprintf(" Mend many at once: ivytable change groups --filter '%s' --help", k.Items[i].Filter)
			}
			a.hint("%s", hint)
			return nil
		})
	findingFlags(c, &l)
	c.Flags().BoolVar(&all, "all", false, "kinds of which there are none, too")
	return c
}

func (a *app) findingList() *cobra.Command {
	var l client.FindingList
	var p paging
	c := a.reads(&cobra.Command{Use: "list", Short: "List what the review found: in all groups, or in those that you own", Args: cobra.NoArgs,
		Example: "  ivytable finding list --severity serious\n  ivytable finding list --kind quiet --state open\n  ivytable finding list --group lost-property@merrowline.example"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			return list(a, &p, func(p client.Paging) (api.Page[api.Finding], error) {
				l.Paging = p
				return c.Findings(ctx, l)
			}, findingColumns)
		})
	findingFlags(c, &l)
	c.Flags().BoolVar(&l.Mine, "mine", false, "of your own groups, and what is yours to mend")
	paged(c, &p)
	return c
}

// choice is which findings a command means: by identifiers, or by its flags.
func choice(ids []string, l client.FindingList) (api.FindingsChoice, error) {
	if len(ids) > 0 {
		return api.FindingsChoice{IDs: ids}, nil
	}
	if len(l.Kinds) == 0 && l.Severity == "" && l.Group == "" && l.Filter == "" {
		return api.FindingsChoice{}, usagef("say which: IDs, or flags such as --kind and --group")
	}
	return api.FindingsChoice{List: &api.FindingsList{Kinds: l.Kinds, Severity: l.Severity, State: l.State, Group: l.Group, Filter: l.Filter}}, nil
}

func (a *app) decided(d api.FindingsDecided) error {
	facts := []fact{{"Done", d.Says}}
	for _, r := range d.Refused {
		facts = append(facts, fact{"Refused", r.Says})
	}
	if err := a.facts(d, facts...); err != nil {
		return err
	}
	if len(d.Refused) > 0 {
		return fmt.Errorf("%s could not be given; they are listed with the reason", plural(len(d.Refused), "finding"))
	}
	return nil
}

func (a *app) findingAccept(again bool) *cobra.Command {
	var l client.FindingList
	var n api.FindingsAccepted
	c := &cobra.Command{Use: "accept [ID...]", Short: "Say that findings are known and fine, and why", Args: cobra.ArbitraryArgs,
		Example: "  ivytable finding accept --kind one_owner --group safety-reports@merrowline.example --reason 'One safety officer.' --until 2027-06-30\n  ivytable finding accept --kind quiet --filter 'starting_point eq \"seasonal\"' --reason 'Out of season.' --preview"}
	if again {
		c.Use, c.Short, c.Example = "reopen [ID...]", "Say that findings are not fine any more", "  ivytable finding reopen --kind quiet --state accepted"
	}
	change := a.changes(c, func(ctx context.Context, cl *client.Client, args []string) error {
		var err error
		if n.FindingsChoice, err = choice(args, l); err != nil {
			return err
		}
		if !again && strings.TrimSpace(n.Reason) == "" {
			return usagef("say why they are fine: --reason")
		}
		d, err := cl.AcceptFindings(ctx, n)
		if err != nil {
			return err
		}
		return a.decided(d)
	})
	findingFlags(c, &l)
	if !again {
		c.Flags().StringVar(&n.Reason, "reason", "", "why they are fine")
		c.Flags().StringVar(&n.Until, "until", "", "the day on which they are open again, such as 2027-06-30")
	}
	return change
}

func (a *app) findingAssign() *cobra.Command {
	var l client.FindingList
	var n api.FindingsAssigned
	c := &cobra.Command{Use: "assign [ID...]", Short: "Give findings to somebody to mend; each gets one letter", Args: cobra.ArbitraryArgs,
		Example: "  ivytable finding assign --kind quiet --to owners --note 'Before the season, please.'\n  ivytable finding assign --kind no_owner --to ines.skerry@merrowline.example\n  ivytable finding assign --kind quiet --to nobody"}
	change := a.changes(c, func(ctx context.Context, cl *client.Client, args []string) error {
		var err error
		if n.FindingsChoice, err = choice(args, l); err != nil {
			return err
		}
		if n.To == "" {
			return usagef("say to whom: --to with an address, owners, or nobody")
		}
		d, err := cl.AssignFindings(ctx, n)
		if err != nil {
			return err
		}
		return a.decided(d)
	})
	findingFlags(c, &l)
	c.Flags().StringVar(&n.To, "to", "", "an address, owners for the owners of each group, or nobody")
	c.Flags().StringVar(&n.Note, "note", "", "a sentence for the letter")
	return change
}

func limitFacts(l api.ReviewLimits) []fact {
	off := "nothing"
	if len(l.Off) > 0 {
		off = strings.Join(l.Off, ", ")
	}
	return []fact{{"Quiet", plural(l.QuietDays, "day") + " without a post"}, {"Never used", plural(l.UnusedDays, "day") + " old"}, {"Waits too long", plural(l.WaitingDays, "day")},
		{"Address unused", plural(l.AliasDays, "day")}, {"Same people", fmt.Sprintf("%d percent in common, of %d people or more", l.SamePercent, l.SamePeople)},
		{"Sole owner", "of " + plural(l.SoleGroups, "group") + " or more"}, {"Not looked for", off}}
}

func (a *app) findingLimits() *cobra.Command {
	return a.reads(&cobra.Command{Use: "limits", Short: "Show from when on something is found", Args: cobra.NoArgs, Example: "  ivytable finding limits"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			l, err := c.ReviewLimits(ctx)
			if err != nil {
				return err
			}
			return a.facts(l, limitFacts(l)...)
		})
}

func (a *app) findingSetLimits() *cobra.Command {
	var given api.ReviewLimits
	var off listFlags
	c := &cobra.Command{Use: "set-limits", Short: "Change from when on something is found; everything is looked at again", Args: cobra.NoArgs,
		Example: "  ivytable finding set-limits --quiet-days 365 --preview\n  ivytable finding set-limits --add-skipped alias_unused,one_owner"}
	f := c.Flags()
	fields := []struct {
		flag, says string
		of         func(*api.ReviewLimits) *int
	}{
		{"quiet-days", "days without a post", func(l *api.ReviewLimits) *int { return &l.QuietDays }},
		{"unused-days", "days since it was made, without any post", func(l *api.ReviewLimits) *int { return &l.UnusedDays }},
		{"waiting-days", "days for which something waits", func(l *api.ReviewLimits) *int { return &l.WaitingDays }},
		{"alias-days", "days without mail to a further address", func(l *api.ReviewLimits) *int { return &l.AliasDays }},
		{"same-people", "people whom two groups need to be compared", func(l *api.ReviewLimits) *int { return &l.SamePeople }},
		{"same-percent", "percent of their people whom two groups have in common", func(l *api.ReviewLimits) *int { return &l.SamePercent }},
		{"sole-groups", "groups of which somebody is alone the owner", func(l *api.ReviewLimits) *int { return &l.SoleGroups }},
	}
	for _, x := range fields {
		f.IntVar(x.of(&given), x.flag, 0, x.says)
	}
	off.flags(f, "skipped", "a kind that is not looked for")
	return a.changes(c, func(ctx context.Context, c *client.Client, _ []string) error {
		l, err := c.ReviewLimits(ctx)
		if err != nil {
			return err
		}
		for _, x := range fields {
			if f.Changed(x.flag) {
				*x.of(&l) = *x.of(&given)
			}
		}
		if l.Off, err = off.edit(l.Off); err != nil {
			return err
		}
		version := strconv.Quote(fmt.Sprint(l.Version))
		l.Version = 0
		if l, err = c.Guarded(version).SetReviewLimits(ctx, l); err != nil {
			return err
		}
		return a.facts(l, limitFacts(l)...)
	})
}
