package cli

import (
	"context"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

func (a *app) memberCommands() *cobra.Command {
	return noun("member", "People in a group: list, try a list, add, invite, change, remove",
		a.memberList(), a.memberTry(), a.memberAdd("add", "Add people", "direct"), a.memberAdd("invite", "Invite people by mail; they may decline", "invite"), a.memberChange(), a.memberRemove())
}

func (a *app) memberList() *cobra.Command {
	var l client.MemberList
	var all bool
	c := &cobra.Command{
		Use: "list GROUP", Short: "List who is in a group", Args: cobra.ExactArgs(1),
		Example: "  ivytable member list night-dispatch@merrowline.example --role owner\n  ivytable member list harbour-liaison@merrowline.example --kind external\n" +
			"  ivytable member list all-staff@merrowline.example --all > all-staff.csv",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			if all {
				return c.ExportMembers(ctx, args[0], l, a.out)
			}
			p, err := c.Members(ctx, args[0], l)
			if err != nil {
				return err
			}
			rows := make([][]string, len(p.Items))
			for i, m := range p.Items {
				kind := ""
				switch {
				case m.Kind == "group":
					kind = "nested group"
				case m.External:
					kind = "external"
				case !m.Active:
					kind = "has left"
				case m.ByRule:
					kind = "by rule"
				}
				rows[i] = []string{m.Name, m.Address, m.Role, m.Delivery, kind, m.AddedAt.Format("2 Jan 2006")}
			}
			if err := a.list(p, []string{"NAME", "ADDRESS", "ROLE", "DELIVERY", "", "SINCE"}, rows); err != nil {
				return err
			}
			a.more(p.Next, len(p.Items), p.Total)
			return nil
		}),
	}
	paged(c, &l.Paging)
	f := c.Flags()
	f.StringVar(&l.Q, "search", "", "beginnings of words of a name or address")
	f.StringVar(&l.Role, "role", "", "owner, moderator or member")
	f.StringVar(&l.Delivery, "delivery", "", "each or none")
	f.StringVar(&l.Kind, "kind", "", "person, external, group or departed")
	f.StringVar(&l.Way, "way", "", "rule: in because of the group's rule; hand: all others")
	f.StringVar(&l.Since, "since", "", "in since this date, such as 2026-11-23")
	f.BoolVar(&all, "all", false, "write all of them as CSV")
	return c
}

// added prints what became of people, with their lines where they are of a list.
func (a *app) added(value any, all []api.Added) error {
	headings, rows := []string{"GIVEN", "WHO", "IS", "WHY OR WHAT TO DO"}, addedRows(all)
	if slices.ContainsFunc(all, func(r api.Added) bool { return r.Line > 0 }) {
		headings = append([]string{"LINE"}, headings...)
		for i, r := range all {
			rows[i] = append([]string{fmt.Sprint(r.Line)}, rows[i]...)
		}
	}
	return a.list(value, headings, rows)
}

func addedRows(list []api.Added) [][]string {
	rows := make([][]string, len(list))
	for i, r := range list {
		says := r.Says
		for j, c := range r.Choices {
			if j == 0 {
				says += " Perhaps "
			} else {
				says += ", "
			}
			says += c.Address
		}
		is := r.Status
		if r.Outcome == "added" || r.Outcome == "invited" {
			is += ", " + r.Outcome
		}
		rows[i] = []string{r.Given, r.Name, is, says}
	}
	return rows
}

func (a *app) memberTry() *cobra.Command {
	var from source
	var role string
	c := &cobra.Command{
		Use: "try GROUP", Short: "Show who the people of a list are, before anything happens", Args: cobra.ExactArgs(1),
		Example: "  ivytable member try night-dispatch@merrowline.example --list crew.csv\n  cat names.txt | ivytable member try choir@merrowline.example --list -",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			l, err := from.list(a, role)
			if err != nil {
				return err
			}
			if l == nil {
				return usagef("say whom to look at: --list, --people-of, --everyone or --taken-out-by")
			}
			r, err := c.Roster(ctx, api.RosterRequest{PeopleList: *l, Group: args[0]})
			if err != nil {
				return err
			}
			for i := range r.Lines {
				if r.Lines[i].Outcome == "added" {
					r.Lines[i].Outcome = "" // nothing was done
				}
			}
			if err := a.added(r, r.Lines); err != nil {
				return err
			}
			if a.output == "table" {
				fmt.Fprintf(a.out, "\n%d of %d can be added.\n", r.Ready, r.Total)
			}
			return nil
		}),
	}
	from.flags(c)
	c.Flags().StringVar(&role, "role", "", "owner, moderator or member, where the list does not say")
	return c
}

func (a *app) memberAdd(verb, short, way string) *cobra.Command {
	var role string
	var from source
	var quiet bool
	back := ""
	if way == "direct" {
		back = "\n  ivytable member add night-dispatch@merrowline.example --taken-out-by 214 # undo a removal"
	}
	c := &cobra.Command{
		Use: verb + " GROUP [ADDRESS...]", Short: short, Args: cobra.MinimumNArgs(1),
		Long: short + ". Whoever can be is; the others are listed with the reason, and the exit code is 1.",
		Example: fmt.Sprintf("  ivytable member %s night-dispatch@merrowline.example tove.alder@merrowline.example --role moderator\n"+
			"  ivytable member %s night-dispatch@merrowline.example --list crew.csv", verb, verb) + back,
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			if len(args) == 2 && args[1] == "-" { // as the last argument of a pipe
				args, from.file = args[:1], "-"
			}
			n := api.NewMembers{Way: way, Quiet: quiet}
			for _, x := range args[1:] {
				n.People = append(n.People, api.NewPerson{Address: x, Role: role})
			}
			var err error
			if n.List, err = from.list(a, role); err != nil {
				return err
			}
			if n.List == nil && len(n.People) == 0 {
				return usagef("say whom: addresses, --list, --people-of, --everyone or --taken-out-by")
			}
			all, err := c.AddMembers(ctx, args[0], n)
			if err != nil {
				return err
			}
			if err := a.added(all, all.Results); err != nil {
				return err
			}
			total := 0
			for _, n := range all.Counts {
				total += n
			}
			if all.Added < total {
				return fmt.Errorf("%d of %d were %sd; the others are listed with the reason", all.Added, total, map[string]string{"direct": "adde", "invite": "invite"}[way])
			}
			return nil
		}),
	}
	c.Flags().StringVar(&role, "role", "", "owner, moderator or member; member when left out")
	if way == "direct" {
		c.Flags().BoolVar(&quiet, "quiet", false, "don't mail people that they were added")
	}
	from.flags(c)
	return c
}

func (a *app) memberChange() *cobra.Command {
	var patch api.MembersPatch
	c := &cobra.Command{
		Use: "change GROUP ADDRESS...", Short: "Change a role or delivery, of several at once", Args: cobra.MinimumNArgs(2),
		Example: "  ivytable member change night-dispatch@merrowline.example tove.alder@merrowline.example --role owner",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			if patch.Role == "" && patch.Delivery == "" {
				return usagef("nothing to change: give --role or --delivery")
			}
			if len(args) == 2 {
				m, err := c.ChangeMember(ctx, args[0], args[1], api.MemberPatch{Role: patch.Role, Delivery: patch.Delivery})
				if err != nil {
					return err
				}
				return a.facts(m, [2]string{"Name", m.Name}, [2]string{"Role", m.Role}, [2]string{"Delivery", m.Delivery})
			}
			patch.Members = args[1:]
			return a.changeMembers(ctx, c, args[0], patch)
		}),
	}
	c.Flags().StringVar(&patch.Role, "role", "", "owner, moderator or member")
	c.Flags().StringVar(&patch.Delivery, "delivery", "", "each or none")
	return c
}

func (a *app) changeMembers(ctx context.Context, c *client.Client, ref string, patch api.MembersPatch) error {
	all, err := c.ChangeMembers(ctx, ref, patch)
	if err != nil {
		return err
	}
	rows := make([][]string, len(all.Results))
	refused := 0
	for i, r := range all.Results {
		rows[i] = []string{r.Given, r.Name, r.Outcome, r.Says}
		if r.Outcome == "refused" {
			refused++
		}
	}
	if err := a.list(all, []string{"GIVEN", "WHO", "OUTCOME", "WHY"}, rows); err != nil {
		return err
	}
	if refused > 0 {
		return fmt.Errorf("%d of %d were changed; the others are listed with the reason", all.Changed, len(all.Results))
	}
	return nil
}

func (a *app) memberRemove() *cobra.Command {
	return &cobra.Command{
		Use: "remove GROUP ADDRESS...", Short: "Take people out of a group", Args: cobra.MinimumNArgs(2),
		Example: "  ivytable member remove night-dispatch@merrowline.example tove.alder@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			if len(args) > 2 {
				return a.changeMembers(ctx, c, args[0], api.MembersPatch{Members: args[1:], Remove: true})
			}
			if err := c.RemoveMember(ctx, args[0], args[1]); err != nil {
				return err
			}
			a.hint("Put them back with: ivytable member add %s %s", args[0], args[1])
			return nil
		}),
	}
}
