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

// ending makes a command about the end of a group.
func (a *app) ending(verb, short string, end func(*client.Client, context.Context, string) (api.Group, error), says func(api.Group) string) *cobra.Command {
	return a.changes(&cobra.Command{Use: verb + " GROUP", Short: short, Args: cobra.ExactArgs(1), Example: fmt.Sprintf("  ivytable group %s winter-timetable@merrowline.example", verb)},
		func(ctx context.Context, c *client.Client, args []string) error {
			g, err := end(c, ctx, args[0])
			if err != nil {
				return err
			}
			return a.done(g, "%s", says(g))
		}, guarded)
}

func (a *app) groupRenew() *cobra.Command {
	var n api.Renewal
	c := a.ending("renew", "Begin a group's term again", func(c *client.Client, ctx context.Context, ref string) (api.Group, error) {
		return c.Renew(ctx, ref, n)
	}, func(g api.Group) string {
		if g.Term.ExpiresOn == nil {
			return g.Name + " is renewed: it has no end."
		}
		return fmt.Sprintf("%s is renewed: it expires %s.", g.Name, dayIn(g.Term.ExpiresOn, g.Term.DaysLeft))
	})
	c.Flags().StringVar(&n.Reason, "reason", "", "why it is still needed, for the history")
	return c
}

func (a *app) groupRetire() *cobra.Command {
	return a.ending("retire", "End a group; it can be restored for a time", (*client.Client).Retire, func(g api.Group) string {
		return fmt.Sprintf("%s is retired and takes no mail. It can be restored until %s.", g.Name, day(g.Term.RestorableUntil))
	})
}

func (a *app) groupRestore() *cobra.Command {
	return a.ending("restore", "Bring a group back with everything in it", (*client.Client).Restore, func(g api.Group) string {
		return fmt.Sprintf("%s is back with %s.", g.Name, plural(g.Counts.People, "person"))
	})
}

func (a *app) groupHold() *cobra.Command {
	var n api.Hold
	c := a.changes(&cobra.Command{Use: "hold GROUP", Short: "Keep a group from being retired or deleted for good", Args: cobra.ExactArgs(1),
		Example: "  ivytable group hold safety-board@merrowline.example --reason \"Inquiry of the harbour authority\""},
		func(ctx context.Context, c *client.Client, args []string) error {
			g, err := c.Hold(ctx, args[0], n)
			if err != nil {
				return err
			}
			return a.done(g, "%s is under hold: it is neither retired nor deleted for good.", g.Name)
		}, guarded)
	c.Flags().StringVar(&n.Reason, "reason", "", "why, for whoever wonders in a year")
	return c
}

func (a *app) groupRelease() *cobra.Command {
	return a.ending("release", "End the hold on a group", (*client.Client).Release, func(g api.Group) string {
		return g.Name + " is under hold no more."
	})
}

var purgedColumns = []column[api.PurgedGroup]{
	{name: "name", value: func(g api.PurgedGroup) any { return g.Name }},
	{name: "address", value: func(g api.PurgedGroup) any { return g.Address }, whole: true},
	{name: "ended", value: func(g api.PurgedGroup) any { return g.Ended }},
	{name: "ended_at", heading: "ON", value: func(g api.PurgedGroup) any { return g.EndedAt }},
	{name: "purged_at", heading: "GONE SINCE", value: func(g api.PurgedGroup) any { return g.PurgedAt }},
	{name: "free_on", heading: "ADDRESS FREE", value: func(g api.PurgedGroup) any { return g.FreeOn }, show: func(g api.PurgedGroup) string { return day(&g.FreeOn) }},
	{name: "people", value: func(g api.PurgedGroup) any { return g.People }, csvOnly: true},
	{name: "owners", value: func(g api.PurgedGroup) any { return strings.Join(g.Owners, ", ") }, csvOnly: true},
	{name: "aliases", value: func(g api.PurgedGroup) any { return strings.Join(g.Aliases, ", ") }, csvOnly: true},
	{name: "description", value: func(g api.PurgedGroup) any { return g.Description }, csvOnly: true},
}

func (a *app) groupGone() *cobra.Command {
	var p paging
	c := a.reads(&cobra.Command{Use: "gone", Short: "List what is left of groups that were deleted for good", Args: cobra.NoArgs, Example: "  ivytable group gone"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			return list(a, &p, func(p client.Paging) (api.Page[api.PurgedGroup], error) { return c.Purged(ctx, p) }, purgedColumns)
		})
	paged(c, &p)
	return c
}

var periodColumns = []column[api.Period]{
	{name: "from", value: func(p api.Period) any { return p.From }, show: func(p api.Period) string { return day(&p.From) }},
	{name: "to", value: func(p api.Period) any { return p.To }, csvOnly: true},
	{name: "groups", value: func(p api.Period) any { return p.Groups }, show: func(p api.Period) string {
		return fmt.Sprintf("%4d  %s", p.Groups, strings.Repeat("▪", min(p.Groups, 40)))
	}},
	{name: "parts", heading: "OF THEM", value: func(p api.Period) any { return parts(p) }, runs: true},
}

func parts(p api.Period) string {
	var out []string
	for _, x := range p.Parts {
		out = append(out, fmt.Sprintf("%s %d", x.Name, x.Groups))
	}
	return strings.Join(out, ", ")
}

var ruleColumns = []column[api.TermRule]{
	{name: "name", value: func(r api.TermRule) any { return r.Name }},
	{name: "length", value: func(r api.TermRule) any { return r.Length }},
	{name: "groups", value: func(r api.TermRule) any { return r.Groups }},
	{name: "notices", value: func(r api.TermRule) any { return days(r.Notices) }},
	{name: "renewed_by", heading: "RENEWED BY", value: func(r api.TermRule) any { return strings.Join(r.RenewedBy, ", ") }},
	{name: "filter", heading: "WHERE", value: func(r api.TermRule) any { return r.Filter }, show: func(r api.TermRule) string {
		if r.Filter == "" {
			return "all groups"
		}
		return r.Filter
	}, runs: true},
}

func days(all []int) string {
	var out []string
	for _, d := range all {
		out = append(out, fmt.Sprint(d))
	}
	return strings.Join(out, ", ")
}

func (a *app) termCommands() *cobra.Command {
	list := a.reads(&cobra.Command{Use: "list", Short: "List the term rules in their order, with the notices and caretakers", Args: cobra.NoArgs, Example: "  ivytable term list"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			t, err := c.Terms(ctx)
			if err != nil {
				return err
			}
			return a.showTerms(t)
		})
	end := a.changes(&cobra.Command{Use: "end NAME", Short: "End a term rule", Args: cobra.ExactArgs(1), Example: "  ivytable term end \"Seasonal routes\" --preview"},
		func(ctx context.Context, c *client.Client, args []string) error {
			return a.changeTerms(ctx, c, func(t *api.Terms) error {
				at, err := ruleAt(t, args[0])
				if err == nil {
					t.Rules = slices.Delete(t.Rules, at, at+1)
				}
				return err
			})
		}, guarded)
	try := a.reads(&cobra.Command{Use: "try GROUP", Short: "Say which term rule takes a group, and why", Args: cobra.ExactArgs(1), Example: "  ivytable term try night-dispatch@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			t, err := c.TryTerms(ctx, api.TermTrial{Group: args[0]})
			if err != nil {
				return err
			}
			facts := []fact{{"Says", t.Says}}
			for _, s := range t.Steps {
				says := "doesn't name it"
				switch {
				case s.Takes:
					says = "takes it"
				case s.Names:
					says = "names it, too late"
				}
				facts = append(facts, fact{s.Rule, says + ": " + strings.Join(s.Why, " ")})
			}
			return a.facts(t, facts...)
		})
	var by, filter string
	forecast := a.reads(&cobra.Command{Use: "forecast", Short: "Count the groups that expire, by week for a year and by month beyond", Args: cobra.NoArgs, Example: "  ivytable term forecast --by rule\n  ivytable term forecast --filter 'external gt 0'"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			p, err := c.Forecast(ctx, by, filter, "")
			if err != nil {
				return err
			}
			if a.output == "table" { // weeks in which nothing happens say nothing
				p.Items = slices.DeleteFunc(p.Items, func(p api.Period) bool { return p.Groups == 0 })
			}
			if err := printAll(a, p, p.Items, periodColumns); err != nil {
				return err
			}
			a.aside(fmt.Sprintf("%s in all. Weeks and months without any are left out of the table.", plural(int(p.Total), "group")))
			return nil
		})
	forecast.Flags().StringVar(&by, "by", "", "what to count them by: rule, domain or owner")
	forecast.Flags().StringVar(&filter, "filter", "", "only groups that it names")
	var off bool
	calendar := a.changes(&cobra.Command{Use: "calendar", Short: "Make the address of a calendar of when groups expire", Args: cobra.NoArgs,
		Long:    "Make the address of a calendar in the iCalendar format, for a calendar program: of your groups\nand, for administrators and auditors, of all. Whoever has the address reads it. One that you had\nbefore is called back.",
		Example: "  ivytable term calendar\n  ivytable term calendar --call-back"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			if off {
				if err := c.CallBackCalendar(ctx); err != nil {
					return err
				}
				return a.done(struct{}{}, "Nobody can read the calendar any more.")
			}
			feed, err := c.MakeCalendar(ctx)
			if err != nil {
				return err
			}
			return a.facts(feed, fact{"Calendar", feed.URL})
		})
	calendar.Flags().BoolVar(&off, "call-back", false, "end the calendar that there is")
	return noun("term", "How long groups live: list, set, end, settings, caretaker, try, forecast, calendar", list, a.termSet(), end, a.termSettings(), a.termCaretaker(), try, forecast, calendar)
}

func ruleAt(t *api.Terms, name string) (int, error) {
	at := slices.IndexFunc(t.Rules, func(r api.TermRule) bool { return strings.EqualFold(r.Name, name) })
	if at < 0 {
		return at, fmt.Errorf("there is no term rule %s; see: ivytable term list", name)
	}
	return at, nil
}

// changeTerms reads how long groups live, changes that, and puts it in force.
func (a *app) changeTerms(ctx context.Context, c *client.Client, change func(*api.Terms) error) error {
	t, err := c.Terms(ctx)
	if err != nil {
		return err
	}
	if err := change(&t); err != nil {
		return err
	}
	from := t.Version
	t.Version = 0
	done, err := c.GuardedBy(from).SetTerms(ctx, t)
	if err != nil {
		return err
	}
	return a.showTerms(done)
}

func (a *app) showTerms(t api.Terms) error {
	if a.output != "table" {
		return printAll(a, t, t.Rules, ruleColumns)
	}
	if len(t.Rules) == 0 {
		fmt.Fprintln(a.out, "There are no term rules: groups never expire.")
	} else {
		printTable(a, t.Rules, ruleColumns)
	}
	fmt.Fprintln(a.out)
	facts := []fact{{"Notices", days(t.Notices) + " days before, where a rule says nothing else"}, {"Restorable", plural(t.RecoveryDays, "day")}, {"Addresses", "free " + plural(t.AddressDays, "day") + " after a group is gone"}}
	if t.Managers {
		facts = append(facts, fact{"Managers", "get the last notice, too"})
	}
	for _, c := range t.Caretakers {
		says := c.Address
		if c.Filter != "" {
			says += " where " + c.Filter
		}
		if c.State == "asked" {
			says += " (asked, has not agreed yet)"
		} else if c.State == "nobody" {
			says += " (nobody reads it)"
		}
		facts = append(facts, fact{"Caretaker", says})
	}
	if len(t.Caretakers) == 0 {
		facts = append(facts, fact{"Caretaker", "none: the administrators are told"})
	}
	return a.facts(t, append(facts, fact{"Time zone", t.TimeZone}, fact{"Version", fmt.Sprint(t.Version)})...)
}

func (a *app) termSet() *cobra.Command {
	var given api.TermRule
	var before string
	var first, own bool
	c := &cobra.Command{
		Use: "set NAME", Short: "Make a term rule, or change one", Args: cobra.ExactArgs(1),
		Long:    wrap("Make a term rule, or change one: what is not given stays as it is. The first rule that names a group holds for it; a new rule comes last but for one that names all groups. A length is such as 180 days, 26 weeks, 6 months, 2 years, a day such as 2027-03-31 (each year), or never.", 0),
		Example: "  ivytable term set \"With outsiders\" --length \"3 months\" --filter 'external gt 0' --before \"Everything else\" --preview\n  ivytable term set \"Everything else\" --length \"1 year\" --renewed-by post",
	}
	a.changes(c, func(ctx context.Context, cl *client.Client, args []string) error {
		return a.changeTerms(ctx, cl, func(t *api.Terms) error {
			at := slices.IndexFunc(t.Rules, func(r api.TermRule) bool { return strings.EqualFold(r.Name, args[0]) })
			r := api.TermRule{Name: args[0]}
			if at >= 0 {
				r = t.Rules[at]
				t.Rules = slices.Delete(t.Rules, at, at+1)
			} else if at = len(t.Rules); at > 0 && t.Rules[at-1].Filter == "" {
				at--
			}
			changed := c.Flags().Changed
			if changed("length") {
				r.Length = given.Length
			}
			if changed("filter") {
				r.Filter = given.Filter
			}
			if changed("notices") {
				r.Notices = given.Notices
			}
			if own {
				r.Notices = nil
			}
			if changed("renewed-by") {
				r.RenewedBy = slices.DeleteFunc(given.RenewedBy, func(s string) bool { return s == "" })
			}
			if r.Length == "" {
				return usagef("say how long: --length \"6 months\", or another")
			}
			if first {
				at = 0
			}
			if before != "" {
				var err error
				if at, err = ruleAt(t, before); err != nil {
					return err
				}
			}
			t.Rules = slices.Insert(t.Rules, at, r)
			return nil
		})
	}, guarded)
	f := c.Flags()
	f.StringVar(&given.Length, "length", "", "how long groups live without renewal")
	f.StringVar(&given.Filter, "filter", "", "which groups; left out: all")
	f.IntSliceVar(&given.Notices, "notices", nil, "days before the end on which owners are told, such as 21,7,1")
	f.BoolVar(&own, "usual-notices", false, "no notices of its own: those of the workspace")
	f.StringSliceVar(&given.RenewedBy, "renewed-by", nil, "what renews groups by itself: post, join; repeat for more, empty for nothing")
	f.StringVar(&before, "before", "", "the rule before which it comes")
	f.BoolVar(&first, "first", false, "it comes first")
	return c
}

func (a *app) termSettings() *cobra.Command {
	var given api.Terms
	c := &cobra.Command{
		Use: "settings", Short: "Change notices, the time to restore, and more", Args: cobra.NoArgs, Long: "Change what holds for all groups that expire. What is not given stays as it is.",
		Example: "  ivytable term settings --notices 42,14,3 --recovery-days 60 --preview",
	}
	a.changes(c, func(ctx context.Context, cl *client.Client, _ []string) error {
		return a.changeTerms(ctx, cl, func(t *api.Terms) error {
			for flag, take := range map[string]func(){
				"notices": func() { t.Notices = given.Notices }, "recovery-days": func() { t.RecoveryDays = given.RecoveryDays }, "address-days": func() { t.AddressDays = given.AddressDays },
				"managers": func() { t.Managers = given.Managers }, "time-zone": func() { t.TimeZone = given.TimeZone },
			} {
				if c.Flags().Changed(flag) {
					take()
				}
			}
			return nil
		})
	}, guarded)
	f := c.Flags()
	f.IntSliceVar(&given.Notices, "notices", nil, "days before the end on which owners are told, such as 42,14,3")
	f.IntVar(&given.RecoveryDays, "recovery-days", 60, "for how long a group that ended can be restored")
	f.IntVar(&given.AddressDays, "address-days", 90, "for how long the addresses of a group that is gone are nobody's")
	f.BoolVar(&given.Managers, "managers", false, "the last notice goes to the owners' managers, too")
	f.StringVar(&given.TimeZone, "time-zone", "", "in which days are counted, such as UTC")
	return c
}

func (a *app) termCaretaker() *cobra.Command {
	var filter string
	var off, first bool
	c := &cobra.Command{
		Use: "caretaker ADDRESS", Short: "Say who is told about groups without owners", Args: cobra.ExactArgs(1),
		Long:    wrap("Say who is told about groups without owners: somebody of the workspace, a group that lives, or an address outside, which is asked first. Of several the first that names a group is told; one that names all groups comes last.", 0),
		Example: "  ivytable term caretaker signe.holm@merrowline.example --filter 'domain eq \"crew.merrowline.example\"'\n  ivytable term caretaker signe.holm@merrowline.example --end",
	}
	a.changes(c, func(ctx context.Context, cl *client.Client, args []string) error {
		return a.changeTerms(ctx, cl, func(t *api.Terms) error {
			at := slices.IndexFunc(t.Caretakers, func(x api.Caretaker) bool { return strings.EqualFold(x.Address, args[0]) })
			if at >= 0 {
				t.Caretakers = slices.Delete(t.Caretakers, at, at+1)
			}
			switch {
			case off && at < 0:
				return fmt.Errorf("%s is no caretaker; see: ivytable term list", args[0])
			case off:
				return nil
			case first:
				at = 0
			case at < 0:
				if at = len(t.Caretakers); at > 0 && filter != "" && t.Caretakers[at-1].Filter == "" {
					at--
				}
			}
			t.Caretakers = slices.Insert(t.Caretakers, at, api.Caretaker{Address: args[0], Filter: filter})
			return nil
		})
	}, guarded)
	f := c.Flags()
	f.StringVar(&filter, "filter", "", "of which groups; left out: all")
	f.BoolVar(&first, "first", false, "it comes before the others")
	f.BoolVar(&off, "end", false, "they are a caretaker no more")
	return c
}

func (a *app) clockCommand() *cobra.Command {
	var days int
	move := a.reads(&cobra.Command{Use: "move", Short: "Move the time of a demo forward", Args: cobra.NoArgs, Example: "  ivytable clock move --days 30\n  ivytable clock move --days 0"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			t, err := c.MoveClock(ctx, days)
			if err != nil {
				return err
			}
			return a.done(t, "It is %s now.", moment(t.Now))
		})
	move.Flags().IntVar(&days, "days", 1, "by how many days; 0 goes back to the real time")
	return noun("clock", "The time of a demo: move", move)
}
