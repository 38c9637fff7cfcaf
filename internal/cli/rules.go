package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

func (a *app) policyCommands() *cobra.Command {
	show := &cobra.Command{
		Use: "show GROUP", Short: "Show a group's policy in words", Args: cobra.ExactArgs(1),
		Example: "  ivytable policy show night-dispatch@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Policy(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showPicture(p, p)
		}),
	}
	effect := &cobra.Command{
		Use: "effect GROUP NAME=VALUE...", Short: "Show what a change would do", Args: cobra.MinimumNArgs(2),
		Example: "  ivytable policy effect night-dispatch@merrowline.example post=anyone hold=nobody",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			patch, err := patchOf(args[1:])
			if err != nil {
				return err
			}
			e, err := c.PolicyEffect(ctx, args[0], patch)
			if err != nil {
				return err
			}
			return a.showEffect(e)
		}),
	}
	var version int
	change := &cobra.Command{
		Use: "change GROUP NAME=VALUE...", Short: "Change a group's policy", Args: cobra.MinimumNArgs(2),
		Long: "Change a group's policy. Names are questions (find, see_people, read, post, write_owners,\nadd_people, speak_as, speak_for), privacy, and settings (join.audience, join.how, leave,\n" +
			"externals, hold, suspicious). Audiences are nobody, owners, moderators, members,\nworkspace, anyone.",
		Example: "  ivytable policy change night-dispatch@merrowline.example post=anyone hold=nobody",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			patch, err := patchOf(args[1:])
			if err != nil {
				return err
			}
			g, err := c.ChangePolicy(ctx, args[0], patch, version)
			if err != nil {
				return err
			}
			return a.facts(g, [2]string{"Now:", g.Sentence})
		}),
	}
	change.Flags().IntVar(&version, "if-version", 0, "change it only when the group is still this version")
	return noun("policy", "A group's policy: show, try a change, change", show, effect, change)
}

func (a *app) showPicture(value any, p api.Picture) error {
	pairs := [][2]string{{"Reach", p.Sentence}}
	answers := p.Policy
	pairs = append(pairs, [2]string{"find", answers.Find}, [2]string{"see_people", answers.SeePeople}, [2]string{"read", answers.Read}, [2]string{"post", answers.Post},
		[2]string{"write_owners", answers.WriteOwners}, [2]string{"add_people", answers.AddPeople}, [2]string{"speak_as", answers.SpeakAs}, [2]string{"speak_for", answers.SpeakFor},
		[2]string{"join", p.Join.Audience + ", " + p.Join.How}, [2]string{"leave", p.Leave}, [2]string{"externals", p.Externals},
		[2]string{"hold", p.Hold}, [2]string{"suspicious", p.Suspicious})
	for _, s := range p.StandIns {
		var parts []string
		if len(s.Can) > 0 {
			parts = append(parts, "can "+strings.Join(s.Can, ", "))
		}
		if len(s.Cant) > 0 {
			parts = append(parts, "can't "+strings.Join(s.Cant, ", "))
		}
		who := "A " + s.Who
		if s.Who == "owner" {
			who = "An owner"
		}
		pairs = append(pairs, [2]string{who, strings.Join(parts, "; ")})
	}
	for _, f := range p.Contradictions {
		pairs = append(pairs, [2]string{"Not possible", f.Says + " " + f.Mend})
	}
	for _, f := range p.Warnings {
		pairs = append(pairs, [2]string{"Warning", f.Says + " " + f.Mend})
	}
	return a.facts(value, pairs...)
}

func (a *app) showEffect(e api.Effect) error {
	if a.output != "table" {
		rows := make([][]string, len(e.Shifts))
		for i, s := range e.Shifts {
			rows[i] = []string{s.Field, s.From, s.To, s.Says}
		}
		return a.list(e, []string{"what", "from", "to", "effect"}, rows)
	}
	if len(e.Shifts) == 0 {
		fmt.Fprintln(a.out, "This changes nothing: the policy is so already.")
	}
	for _, s := range e.Shifts {
		fmt.Fprintf(a.out, "%s: %s → %s\n    %s\n", s.Field, s.From, s.To, wrap(s.Says, 4))
	}
	for _, f := range e.Picture.Contradictions {
		fmt.Fprintln(a.out, wrap("Not possible: "+f.Says+" "+f.Mend, 4))
	}
	for _, f := range e.Picture.Warnings {
		fmt.Fprintln(a.out, wrap("Warning: "+f.Says+" "+f.Mend, 4))
	}
	return nil
}

func (a *app) addressCommands() *cobra.Command {
	var domain string
	one := func(use, short, example string, ask func(context.Context, *client.Client, string) (api.Proposal, error)) *cobra.Command {
		return &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1), Example: example,
			RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
				p, err := ask(ctx, c, args[0])
				if err != nil {
					return err
				}
				var near []string
				for _, n := range p.Near {
					near = append(near, fmt.Sprintf("%s (%s %s)", n.Address, n.Kind, n.Name))
				}
				return a.facts(p, [2]string{"Name", p.Name}, [2]string{"Address", p.Address}, [2]string{"Status", p.Status}, [2]string{"Says", p.Says}, [2]string{"Near", strings.Join(near, ", ")}, [2]string{"Note", strings.Join(p.Notes, " ")})
			})}
	}
	propose := one("propose NAME", "The address that a name proposes", "  ivytable address propose \"Slipway Repairs\" --domain crew.merrowline.example",
		func(ctx context.Context, c *client.Client, name string) (api.Proposal, error) {
			return c.Propose(ctx, client.Proposing{Name: name, Domain: domain})
		})
	propose.Flags().StringVar(&domain, "domain", "", "one of the workspace's domains; its main one when left out")
	check := one("check ADDRESS", "Whether a group can have an address", "  ivytable address check night-dispatch@merrowline.example",
		func(ctx context.Context, c *client.Client, address string) (api.Proposal, error) {
			return c.Propose(ctx, client.Proposing{Address: address})
		})
	return noun("address", "Addresses for groups: propose, check", propose, check)
}

func (a *app) rehearseCommand() *cobra.Command {
	var as string
	var unproven bool
	c := &cobra.Command{
		Use: "rehearse ACTION GROUP", Short: "Show what would happen, without doing it", Args: cobra.ExactArgs(2),
		Long: "Show what would happen and why. ACTION is post, or a question of the policy: find,\nsee_people, read, write_owners, add_people, speak_as, speak_for.",
		Example: "  ivytable rehearse post night-dispatch@merrowline.example --as stranger@elsewhere.example\n" +
			"  ivytable rehearse read safety-board@merrowline.example --as tove.alder@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			proven := !unproven
			if as == "" {
				me, err := c.Me(ctx)
				if err != nil {
					return err
				}
				as = me.Address
			}
			d, err := c.Rehearse(ctx, api.Rehearsal{Action: args[0], Group: args[1], As: as, Proven: &proven})
			if err != nil {
				return err
			}
			return a.showDecision(d)
		}),
	}
	c.Flags().StringVar(&as, "as", "", "address of who would do it (default: you)")
	c.Flags().BoolVar(&unproven, "unproven", false, "as mail that nothing proves the author of")
	return c
}

func (a *app) showDecision(d api.Decision) error {
	pairs := [][2]string{{"Outcome", d.Outcome}, {"Decided by", d.Rule}}
	for i, r := range d.Reasons {
		name := ""
		if i == 0 {
			name = "Because"
		}
		pairs = append(pairs, [2]string{name, r.Rule + ": " + r.Says})
		if r.Mend != nil {
			pairs = append(pairs, [2]string{"To change it", *r.Mend})
		}
	}
	if d.Recipients != nil {
		text := plural(d.Recipients.Count, "person")
		if len(d.Recipients.Sample) > 0 {
			text += ", such as " + strings.Join(d.Recipients.Sample, ", ")
		}
		pairs = append(pairs, [2]string{"Would reach", text})
	}
	return a.facts(d, pairs...)
}

func (a *app) waitingCommands() *cobra.Command {
	var paging client.Paging
	list := &cobra.Command{
		Use: "list [GROUP]", Short: "List posts that wait for your decision", Args: cobra.MaximumNArgs(1),
		Example: "  ivytable waiting list\n  ivytable waiting list night-dispatch@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Waiting(ctx, strings.Join(args, ""), paging)
			if err != nil {
				return err
			}
			rows := make([][]string, len(p.Items))
			for i, w := range p.Items {
				rows[i] = []string{w.ID, w.Group.Name, w.Author, w.Subject, w.Decision.Rule, moment(w.ReceivedAt)}
			}
			if err := a.list(p, []string{"ID", "GROUP", "AUTHOR", "SUBJECT", "HELD BY", "SINCE"}, rows); err != nil {
				return err
			}
			a.more(p.Next, len(p.Items), p.Total)
			return nil
		}),
	}
	paged(list, &paging)
	var reason string
	decide := func(verdict, short string) *cobra.Command {
		return &cobra.Command{
			Use: verdict + " ID", Short: short, Args: cobra.ExactArgs(1),
			Example: fmt.Sprintf("  ivytable waiting %s 01935c1e-7a10-7000-8000-3f1f2a9c5b11", verdict),
			RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
				return c.DecidePost(ctx, args[0], api.Verdict{Verdict: verdict, Reason: reason})
			}),
		}
	}
	decline := decide("decline", "Decline a post; a proven author is told")
	decline.Flags().StringVar(&reason, "reason", "", "why, for the author")
	return noun("waiting", "What needs your decision: list, approve, decline", list, decide("approve", "Pass a post on to the group"), decline)
}

func (a *app) expiryCommands() *cobra.Command {
	show := &cobra.Command{
		Use: "show", Short: "Show how long groups live", Args: cobra.NoArgs, Example: "  ivytable expiry show",
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			e, err := c.Expiry(ctx)
			if err != nil {
				return err
			}
			return a.showExpiry(e)
		}),
	}
	var weeks int
	forecast := &cobra.Command{
		Use: "forecast", Short: "Count the groups that expire in the coming weeks", Args: cobra.NoArgs, Example: "  ivytable expiry forecast --weeks 8",
		RunE: a.run(func(ctx context.Context, c *client.Client, _ []string) error {
			w, err := c.Forecast(ctx, weeks)
			if err != nil {
				return err
			}
			rows := make([][]string, len(w))
			for i, x := range w {
				rows[i] = []string{x.Begins.Format("2 Jan 2006"), fmt.Sprint(x.Groups), strings.Repeat("▪", min(x.Groups, 60))}
			}
			return a.list(w, []string{"WEEK OF", "GROUPS", ""}, rows)
		}),
	}
	forecast.Flags().IntVar(&weeks, "weeks", 26, "how many weeks, 104 at most")
	return noun("expiry", "How long groups live: show, try a change, change, forecast", show, a.expirySet("effect", "Show what a new rule would do", false), a.expirySet("change", "Change how long groups live", true), forecast)
}

func (a *app) showExpiry(e api.Expiry) error {
	term := "off: groups never expire"
	if e.TermDays > 0 {
		term = plural(e.TermDays, "day") + " after the last renewal"
	}
	caretaker := e.Caretaker
	if caretaker == "" {
		caretaker = "none: the administrators are told"
	}
	var days []string
	for _, d := range e.Notices {
		days = append(days, fmt.Sprint(d))
	}
	return a.facts(e, [2]string{"Term", term}, [2]string{"Applies to", e.Scope + " groups"}, [2]string{"Notices", strings.Join(days, ", ") + " days before"},
		[2]string{"Caretaker", caretaker}, [2]string{"Time zone", e.TimeZone}, [2]string{"Version", fmt.Sprint(e.Version)})
}

func (a *app) expirySet(verb, short string, save bool) *cobra.Command {
	var given api.Expiry
	c := &cobra.Command{
		Use: verb, Short: short, Args: cobra.NoArgs, Long: short + ". What is not given stays as it is.",
		Example: fmt.Sprintf("  ivytable expiry %s --term-days 180 --notices 30,15,1 --caretaker groups.desk@merrowline.example", verb),
	}
	c.RunE = a.run(func(ctx context.Context, cl *client.Client, _ []string) error {
		e, err := cl.Expiry(ctx)
		if err != nil {
			return err
		}
		for flag, take := range map[string]func(){
			"term-days": func() { e.TermDays = given.TermDays }, "scope": func() { e.Scope = given.Scope }, "notices": func() { e.Notices = given.Notices },
			"caretaker": func() { e.Caretaker = given.Caretaker }, "time-zone": func() { e.TimeZone = given.TimeZone },
		} {
			if c.Flags().Changed(flag) {
				take()
			}
		}
		if save {
			if e, err = cl.SetExpiry(ctx, e); err != nil {
				return err
			}
			return a.showExpiry(e)
		}
		effect, err := cl.ExpiryEffect(ctx, e)
		if err != nil {
			return err
		}
		rows := make([][]string, len(effect.Sample))
		for i, m := range effect.Sample {
			rows[i] = []string{m.Name, m.Address, day(m.From, nil), day(m.To, nil)}
		}
		if a.output == "table" {
			fmt.Fprintln(a.out, wrap(effect.Says, 0))
			if len(rows) == 0 {
				return nil
			}
			fmt.Fprintln(a.out)
		}
		return a.list(effect, []string{"NAME", "ADDRESS", "FROM", "TO"}, rows)
	})
	f := c.Flags()
	f.IntVar(&given.TermDays, "term-days", 0, "days from a renewal to the end; 0 turns expiry off")
	f.StringVar(&given.Scope, "scope", "", "all, chosen or none")
	f.IntSliceVar(&given.Notices, "notices", nil, "days before the end on which owners are told, such as 30,15,1")
	f.StringVar(&given.Caretaker, "caretaker", "", "address that gets the notices of groups with no owner")
	f.StringVar(&given.TimeZone, "time-zone", "", "in which days are counted, such as UTC")
	return c
}
