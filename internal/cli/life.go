package cli

import (
	"context"
	"fmt"
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
	return a.ending("renew", "Begin a group's term again", (*client.Client).Renew, func(g api.Group) string {
		return fmt.Sprintf("%s is renewed: it expires %s.", g.Name, dayIn(g.Term.ExpiresOn, g.Term.DaysLeft))
	})
}

func (a *app) groupRetire() *cobra.Command {
	return a.ending("retire", "End a group; it can be restored for 30 days", (*client.Client).Retire, func(g api.Group) string {
		return fmt.Sprintf("%s is retired and takes no mail. It can be restored until %s.", g.Name, day(g.Term.RestorableUntil))
	})
}

func (a *app) groupRestore() *cobra.Command {
	return a.ending("restore", "Bring a group back with everything in it", (*client.Client).Restore, func(g api.Group) string {
		return fmt.Sprintf("%s is back with %s.", g.Name, plural(g.Counts.People, "person"))
	})
}

var weekColumns = []column[api.Week]{
	{name: "begins", heading: "WEEK OF", value: func(w api.Week) any { return w.Begins }, show: func(w api.Week) string { return inWords(w.Begins) }},
	{name: "groups", value: func(w api.Week) any { return w.Groups }, show: func(w api.Week) string {
		return fmt.Sprintf("%3d  %s", w.Groups, strings.Repeat("▪", min(w.Groups, 60)))
	}},
}

func (a *app) expiryCommands() *cobra.Command {
	show := a.reads(&cobra.Command{Use: "show", Short: "Show how long groups live", Args: cobra.NoArgs, Example: "  ivytable expiry show"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			e, err := c.Expiry(ctx)
			if err != nil {
				return err
			}
			return a.showExpiry(e)
		})
	var weeks int
	forecast := a.reads(&cobra.Command{Use: "forecast", Short: "Count the groups that expire in the coming weeks", Args: cobra.NoArgs, Example: "  ivytable expiry forecast --weeks 8"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			w, err := c.Forecast(ctx, weeks)
			if err != nil {
				return err
			}
			return printAll(a, w, w.Items, weekColumns)
		})
	forecast.Flags().IntVar(&weeks, "weeks", 26, "how many weeks, 104 at most")
	return noun("expiry", "How long groups live: show, change, forecast", show, a.expiryChange(), forecast)
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
	return a.facts(e, fact{"Term", term}, fact{"Applies to", map[string]string{"all": "all groups", "chosen": "groups that were chosen", "none": "no group"}[e.Scope]}, fact{"Notices", strings.Join(days, ", ") + " days before"},
		fact{"Caretaker", caretaker}, fact{"Time zone", e.TimeZone}, fact{"Version", fmt.Sprint(e.Version)})
}

func (a *app) expiryChange() *cobra.Command {
	var given api.Expiry
	c := &cobra.Command{
		Use: "change", Short: "Change how long groups live", Args: cobra.NoArgs, Long: "Change how long groups live. What is not given stays as it is.",
		Example: "  ivytable expiry change --term-days 180 --notices 30,15,1 --caretaker signe.holm@merrowline.example --preview",
	}
	a.changes(c, func(ctx context.Context, cl *client.Client, _ []string) error {
		e, err := cl.Expiry(ctx)
		if err != nil {
			return err
		}
		if !c.Flags().Changed("if-version") {
			cl = cl.Guarded(fmt.Sprintf("%q", fmt.Sprint(e.Version)))
		}
		for flag, take := range map[string]func(){
			"term-days": func() { e.TermDays = given.TermDays }, "scope": func() { e.Scope = given.Scope }, "notices": func() { e.Notices = given.Notices },
			"caretaker": func() { e.Caretaker = given.Caretaker }, "time-zone": func() { e.TimeZone = given.TimeZone },
		} {
			if c.Flags().Changed(flag) {
				take()
			}
		}
		if e, err = cl.SetExpiry(ctx, e); err != nil {
			return err
		}
		return a.showExpiry(e)
	}, guarded)
	f := c.Flags()
	f.IntVar(&given.TermDays, "term-days", 0, "days from a renewal to the end; 0 turns expiry off")
	f.StringVar(&given.Scope, "scope", "", "all, chosen or none")
	f.IntSliceVar(&given.Notices, "notices", nil, "days before the end on which owners are told, such as 30,15,1")
	f.StringVar(&given.Caretaker, "caretaker", "", "address that gets the notices of groups with no owner")
	f.StringVar(&given.TimeZone, "time-zone", "", "in which days are counted, such as UTC")
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
