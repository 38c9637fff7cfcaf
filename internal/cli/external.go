package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var externalColumns = []column[api.External]{
	{name: "id", value: func(x api.External) any { return x.ID }, csvOnly: true},
	{name: "address", value: func(x api.External) any { return x.Person.Address }, whole: true},
	{name: "name", value: func(x api.External) any { return x.Person.Name }, csvOnly: true},
	{name: "group", value: func(x api.External) any { return x.Group.Address }, show: func(x api.External) string { return x.Group.Name }},
	{name: "voucher", value: func(x api.External) any { return nameOf(x.Voucher).Address }, show: func(x api.External) string {
		if x.VoucherLeft {
			return x.Voucher.Name + " (left)"
		}
		if x.Voucher == nil {
			return "nobody"
		}
		return x.Voucher.Name
	}},
	{name: "until", value: func(x api.External) any { return x.Until }, show: func(x api.External) string {
		if x.Until == "" {
			return "no end"
		}
		if d, err := time.Parse(time.DateOnly, x.Until); err == nil {
			return dayOf(d)
		}
		return x.Until
	}, whole: true},
	{name: "reason", value: func(x api.External) any { return x.Reason }},
	{name: "refused", value: func(x api.External) any { return x.Refused }, csvOnly: true},
	{name: "since", value: func(x api.External) any { return x.Since }, csvOnly: true},
	{name: "delivery", value: func(x api.External) any { return x.Delivery }, csvOnly: true},
}

func (a *app) externalCommands() *cobra.Command {
	return noun("external", "External members of all groups: list, change, rules, set-rules", a.externalList(), a.externalChange(), a.externalRules(), a.externalSet())
}

// externalFlags are the flags by which external members are found.
func externalFlags(c *cobra.Command, l *client.ExternalList) {
	f := c.Flags()
	f.StringVar(&l.Q, "search", "", "beginnings of words of a name or address")
	f.StringVar(&l.Group, "group", "", "of this group")
	f.StringVar(&l.Domain, "domain", "", "from this domain or below it")
	f.StringVar(&l.Voucher, "voucher", "", "for whom this person vouches")
	f.BoolVar(&l.Alone, "alone", false, "for whom nobody vouches who is here")
	f.BoolVar(&l.Endless, "endless", false, "without an end")
	f.IntVar(&l.Within, "ending-within", 0, "whose time ends within so many days")
	f.BoolVar(&l.Refused, "refused", false, "whom the workspace would not take any more")
}

func (a *app) externalList() *cobra.Command {
	var l client.ExternalList
	var p paging
	c := a.reads(&cobra.Command{
		Use: "list", Short: "List external members: of all groups, or of those that you own, and those for whom you vouch", Args: cobra.NoArgs,
		Example: "  ivytable external list --ending-within 30\n  ivytable external list --domain gannetport.example --alone\n  ivytable external list --group harbour-liaison@merrowline.example --output csv",
	}, func(ctx context.Context, c *client.Client, _ []string) error {
		return list(a, &p, func(p client.Paging) (api.Page[api.External], error) {
			l.Paging = p
			return c.Externals(ctx, l)
		}, externalColumns)
	})
	externalFlags(c, &l)
	paged(c, &p)
	return c
}

func (a *app) externalChange() *cobra.Command {
	var l client.ExternalList
	var n api.ExternalsPatch
	var by, reason string
	c := &cobra.Command{
		Use: "change [ID...]", Short: "Prolong external members, take them out, or say who vouches for them", Args: cobra.ArbitraryArgs,
		Long: wrap("Change external members: those whose IDs are given (GROUP.PERSON, as external list --output csv has them), or all that the flags find. Each is changed by itself; the results say what became of them.", 0),
		Example: "  ivytable external change --group harbour-liaison@merrowline.example --ending-within 30 --until 2027-06-30\n" +
			"  ivytable external change --voucher rurik.gale@merrowline.example --new-voucher oda.fenn@merrowline.example\n  ivytable external change --domain tidefuel.example --remove --preview",
	}
	change := a.changes(c, func(ctx context.Context, cl *client.Client, args []string) error {
		n.Voucher, n.Reason = by, nil
		if c.Flags().Changed("reason") {
			n.Reason = &reason
		}
		if n.IDs = args; len(args) == 0 {
			if l == (client.ExternalList{}) {
				return usagef("say which: IDs, or flags such as --group and --domain")
			}
			for l.Limit = 200; ; {
				p, err := cl.Externals(ctx, l)
				if err != nil {
					return err
				}
				for _, x := range p.Items {
					n.IDs = append(n.IDs, x.ID)
				}
				if l.Cursor = p.Next; l.Cursor == "" {
					break
				}
			}
			if len(n.IDs) == 0 {
				return fmt.Errorf("no external member is like that")
			}
		}
		var all api.DecidedAll
		for ids := n.IDs; len(ids) > 0; {
			n.IDs, ids = ids[:min(500, len(ids))], ids[min(500, len(ids)):]
			done, err := cl.ChangeExternals(ctx, n)
			if err != nil {
				return err
			}
			all.Results, all.Decided = append(all.Results, done.Results...), all.Decided+done.Decided
		}
		return a.showDecided(all, "changed")
	})
	externalFlags(c, &l)
	f := c.Flags()
	f.StringVar(&n.Until, "until", "", "their last day, such as 2027-01-31, or none")
	f.StringVar(&by, "new-voucher", "", "who of the workspace vouches for them from now on")
	f.StringVar(&reason, "reason", "", "why they are in it")
	f.BoolVar(&n.Remove, "remove", false, "take them out")
	return change
}

func externalFacts(r api.ExternalRules) []fact {
	or := func(s, none string) string {
		if s == "" {
			return none
		}
		return s
	}
	days := "for good"
	if r.Days > 0 {
		days = plural(r.Days, "day") + ", then somebody has to prolong it"
	}
	return []fact{{"External members", map[bool]string{true: "allowed, where a group takes them", false: "not allowed in any group"}[r.Allowed]},
		{"Only from", or(strings.Join(r.Only, ", "), "every domain")}, {"Never from", or(strings.Join(r.Not, ", "), "no domain in particular")},
		{"Come in", map[bool]string{true: "when they have agreed by a letter", false: "at once when somebody adds them"}[r.Invited]}, {"Stay", days}}
}

func (a *app) externalRules() *cobra.Command {
	return a.reads(&cobra.Command{Use: "rules", Short: "Show what the workspace says of external members", Args: cobra.NoArgs, Example: "  ivytable external rules"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			r, err := c.ExternalRules(ctx)
			if err != nil {
				return err
			}
			return a.facts(r, externalFacts(r)...)
		})
}

func (a *app) externalSet() *cobra.Command {
	var given api.ExternalRules
	var only, never listFlags
	c := &cobra.Command{Use: "set-rules", Short: "Change what the workspace says of external members", Args: cobra.NoArgs,
		Example: "  ivytable external set-rules --add-refused-domain lucky-draw.example --days 365 --preview\n  ivytable external set-rules --allowed=false"}
	f := c.Flags()
	f.BoolVar(&given.Allowed, "allowed", true, "groups may take external members")
	only.flags(f, "allowed-domain", "a domain from which they are taken, and from no others but those of this list; without any, from every domain")
	never.flags(f, "refused-domain", "a domain from which nobody is taken")
	f.BoolVar(&given.Invited, "by-letter", false, "they come in when they have agreed by a letter")
	f.IntVar(&given.Days, "days", 0, "for how many days they are in before somebody prolongs it; 0 for good")
	return a.changes(c, func(ctx context.Context, c *client.Client, _ []string) error {
		r, err := c.ExternalRules(ctx)
		if err != nil {
			return err
		}
		for flag, to := range map[string]func(){"allowed": func() { r.Allowed = given.Allowed },
			"by-letter": func() { r.Invited = given.Invited }, "days": func() { r.Days = given.Days }} {
			if f.Changed(flag) {
				to()
			}
		}
		if r.Only, err = only.edit(r.Only); err != nil {
			return err
		}
		if r.Not, err = never.edit(r.Not); err != nil {
			return err
		}
		version := strconv.Quote(fmt.Sprint(r.Version))
		if r, err = c.Guarded(version).SetExternalRules(ctx, r); err != nil {
			return err
		}
		return a.facts(r, externalFacts(r)...)
	})
}
