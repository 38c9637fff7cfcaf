package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
	"ivytable.example/ivytable/internal/core/policy"
)

func noun(use, short string, subs ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short}
	c.AddCommand(subs...)
	return c
}

// paged are the flags of a list.
func paged(c *cobra.Command, p *client.Paging) {
	c.Flags().IntVar(&p.Limit, "limit", 50, "how many to list, 200 at most")
	c.Flags().StringVar(&p.Cursor, "cursor", "", "where to go on, as a list before said")
}

// more tells how a list goes on.
func (a *app) more(next string, shown int, total int64) {
	if next != "" && a.output == "table" {
		fmt.Fprintf(a.err, "%d of %d shown. Go on with --cursor %s\n", shown, total, next)
	}
}

func (a *app) groupCommands() *cobra.Command {
	return noun("group", "Groups: list, create, change, join, leave, renew, retire, restore",
		a.groupList(), a.groupShow(), a.groupCreate(), a.groupChange(), a.groupLike(), a.groupTree(), a.groupReaches(), a.groupJoin(), a.groupLeave(),
		a.groupEnd("renew", "Start a group's term anew", (*client.Client).Renew, func(g api.Group) string {
			return fmt.Sprintf("%s is renewed: it expires %s.", g.Name, day(g.Term.ExpiresAt, g.Term.DaysLeft))
		}),
		a.groupEnd("retire", "End a group; it can be restored for 30 days", (*client.Client).Retire, func(g api.Group) string {
			return fmt.Sprintf("%s is retired and takes no mail. It can be restored until %s.", g.Name, day(g.Term.RestorableTill, nil))
		}),
		a.groupEnd("restore", "Bring a group back with everything in it", (*client.Client).Restore, func(g api.Group) string {
			return fmt.Sprintf("%s is back with %s.", g.Name, plural(people(g), "person"))
		}))
}

func people(g api.Group) int { return g.Counts.Owners + g.Counts.Moderators + g.Counts.Members }

func (a *app) groupList() *cobra.Command {
	var l client.GroupList
	c := &cobra.Command{
		Use: "list [WORDS]", Short: "List the groups that you can find",
		Long:    "List the groups that you can find. WORDS are beginnings of words of a name or address.",
		Example: "  ivytable group list\n  ivytable group list night dis\n  ivytable group list --state due --sort expires\n  ivytable group list --scope owned --output csv\n  ivytable group list --scope joinable",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			l.Q = strings.Join(args, " ")
			p, err := c.Groups(ctx, l)
			if err != nil {
				return err
			}
			rows := make([][]string, len(p.Items))
			for i, g := range p.Items {
				rows[i] = []string{g.Name, g.Address, g.State, fmt.Sprint(g.Counts.Owners), fmt.Sprint(people(g)), g.Policy.Post, expires(g)}
			}
			if err := a.list(p, []string{"NAME", "ADDRESS", "STATE", "OWNERS", "PEOPLE", "WHO WRITES", "EXPIRES"}, rows); err != nil {
				return err
			}
			a.more(p.Next, len(p.Items), p.Total)
			return nil
		}),
	}
	paged(c, &l.Paging)
	c.Flags().StringSliceVar(&l.States, "state", nil, "only these states: active, due, lapsed, retired")
	c.Flags().StringVar(&l.Scope, "scope", "", "mine: groups you are in; owned: groups you own; joinable: groups you could join")
	c.Flags().StringVar(&l.Sort, "sort", "", "name, people, post, expires, created; a leading - turns it round")
	return c
}

// expires is the date of the end for a list, where there is room for no more.
func expires(g api.Group) string {
	if g.Term.EndedAt != nil {
		return "ended " + day(g.Term.EndedAt, nil)
	}
	return day(g.Term.ExpiresAt, nil)
}

func (a *app) groupShow() *cobra.Command {
	return &cobra.Command{
		Use: "show GROUP", Short: "Show one group", Args: cobra.ExactArgs(1),
		Example: "  ivytable group show night-dispatch@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			g, err := c.Group(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showGroup(g)
		}),
	}
}

func (a *app) showGroup(g api.Group) error {
	var names []string
	for _, o := range g.Owners {
		names = append(names, fmt.Sprintf("%s <%s>", o.Name, o.Address))
	}
	term := day(g.Term.ExpiresAt, g.Term.DaysLeft)
	switch {
	case g.Term.Standing != nil:
		term = fmt.Sprintf("never: standing, by %s (%s)", g.Term.Standing.By, g.Term.Standing.Reason)
	case g.Term.EndedAt != nil:
		term = fmt.Sprintf("ended %s; restorable until %s", day(g.Term.EndedAt, nil), day(g.Term.RestorableTill, nil))
	}
	in := []string{plural(g.Counts.Owners, "owner"), plural(g.Counts.Moderators, "moderator"), plural(g.Counts.Members, "member")}
	if g.Counts.External > 0 {
		in = append(in, fmt.Sprintf("%d of them external", g.Counts.External))
	}
	if g.ByRule {
		in = append(in, "with a rule")
	}
	if g.Counts.Nested > 0 {
		in = append(in, plural(g.Counts.Nested, "nested group"))
	}
	return a.facts(g,
		[2]string{"Name", g.Name}, [2]string{"Address", g.Address}, [2]string{"Also", strings.Join(g.Aliases, ", ")}, [2]string{"For", g.Description},
		[2]string{"Does", strings.Join(g.Traits, ", ")}, [2]string{"Reach", g.Sentence}, [2]string{"Owners", strings.Join(names, ", ")}, [2]string{"People", strings.Join(in, ", ")},
		[2]string{"State", g.State}, [2]string{"Expires", term}, [2]string{"My role", g.MyRole})
}

// patchOf makes a policy patch of NAME=VALUE words.
func patchOf(words []string) (p api.PolicyPatch, err error) {
	for _, w := range words {
		name, value, ok := strings.Cut(w, "=")
		if !ok {
			return p, usagef("%q has to be written as NAME=VALUE, such as post=anyone", w)
		}
		if err := new(policy.Policy).Set(name, policy.Default().Get(name)); err != nil {
			return p, usage{err}
		}
		p.Set(name, value)
	}
	return p, nil
}

func (a *app) groupEnd(verb, short string, do func(*client.Client, context.Context, string) (api.Group, error), says func(api.Group) string) *cobra.Command {
	return &cobra.Command{
		Use: verb + " GROUP", Short: short, Args: cobra.ExactArgs(1),
		Example: fmt.Sprintf("  ivytable group %s winter-timetable@merrowline.example", verb),
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			g, err := do(c, ctx, args[0])
			if err != nil {
				return err
			}
			return a.facts(g, [2]string{"Done:", says(g)})
		}),
	}
}
