package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

// source are the flags by which a list of people is named.
type source struct {
	file, of string
	everyone bool
	takenOut int64
	columns  map[string]string
}

func (s *source) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&s.file, "list", "", "file with people: addresses, Name <address>, names, or CSV; - reads standard input")
	f.StringVar(&s.of, "people-of", "", "the people of this group, also of groups nested in it")
	f.BoolVar(&s.everyone, "everyone", false, "everyone in the workspace")
	f.Int64Var(&s.takenOut, "taken-out-by", 0, "those whom this entry of the history took out of its group, in the roles that they had")
	f.StringToStringVar(&s.columns, "column", nil, "what a heading of a CSV file stands for, such as Kontakt=address")
}

// list returns the list that the flags name, nil for none.
func (s *source) list(a *app, role string) (*api.PeopleList, error) {
	l := api.PeopleList{Of: s.of, Everyone: s.everyone, TakenOut: s.takenOut, Columns: s.columns, Role: role}
	var err error
	switch s.file {
	case "":
		if s.of == "" && !s.everyone && s.takenOut == 0 {
			return nil, nil
		}
	case "-":
		l.File, err = io.ReadAll(a.in)
	default:
		l.File, err = os.ReadFile(s.file)
	}
	if err == nil && s.file != "" && len(strings.TrimSpace(string(l.File))) == 0 {
		err = fmt.Errorf("the list is empty")
	}
	return &l, err
}

func (a *app) groupCreate() *cobra.Command {
	var n api.NewGroup
	var set, members []string
	var key string
	var from source
	c := &cobra.Command{
		Use: "create NAME", Short: "Create a group", Args: cobra.ExactArgs(1),
		Long: "Create a group for somebody. The address is proposed from the name unless it is given.\nAdministrators are not in the group unless they name themselves.",
		Example: "  ivytable group create \"Slipway Repairs\" --owner oda.fenn@merrowline.example \\\n" +
			"    --owner bram.tolley@merrowline.example --member pilot@gannetport.example \\\n    --set externals=owners --set post=workspace\n" +
			"  ivytable group create \"Night Crew\" --start team-room --owner oda.fenn@merrowline.example \\\n    --people-of night-dispatch@merrowline.example --alias nights",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			patch, err := patchOf(set)
			if err != nil {
				return err
			}
			n.Name, n.PolicyPatch = args[0], patch
			for _, m := range members {
				address, role, _ := strings.Cut(m, "=")
				n.People = append(n.People, api.NewPerson{Address: address, Role: role})
			}
			if n.Owners == nil {
				n.Owners = []string{}
			}
			l, err := from.list(a, "")
			if err != nil {
				return err
			}
			if l != nil {
				n.Lists = []api.PeopleList{*l}
			}
			g, err := c.CreateGroup(ctx, n, key)
			if err != nil {
				return err
			}
			if err := a.showGroup(g); err != nil {
				return err
			}
			a.hint("Try it: ivytable rehearse post %s --as %s", g.Address, g.Owners[0].Address)
			return nil
		}),
	}
	f := c.Flags()
	f.StringVar(&n.Address, "address", "", "its address, when not as proposed")
	f.StringSliceVar(&n.Aliases, "alias", nil, "a further address; repeat for more")
	f.StringVar(&n.Description, "description", "", "why it exists")
	f.StringVar(&n.StartingPoint, "start", "", "a starting point, as listed by: ivytable start list")
	f.StringSliceVar(&n.Traits, "trait", nil, "what it does: archive, desk, calendar, access; repeat for more")
	f.StringVar(&n.Language, "language", "", "of its notices: en or de")
	f.StringVar(&n.Delivery, "default-delivery", "", "whether new members get each message: each or none")
	f.StringVar(&n.Welcome, "welcome", "", "said to new members")
	f.StringSliceVar(&n.Owners, "owner", nil, "address of an owner; repeat for more")
	f.StringSliceVar(&members, "member", nil, "address of a member or of a group to nest, or ADDRESS=ROLE; repeat for more")
	from.flags(c)
	f.StringVar(&n.Rule, "rule", "", "a rule of membership, such as 'department eq \"Deck\"'")
	f.BoolVar(&n.Quiet, "quiet", false, "don't mail people that they were added")
	f.StringArrayVar(&set, "set", nil, "an answer or setting, such as post=anyone; repeat for more")
	f.StringVar(&key, "idempotency-key", "", "makes a repeat of the same command harmless")
	return c
}

func (a *app) groupChange() *cobra.Command {
	var name, description, standing, address, language, welcome, delivery string
	var add, drop, traits []string
	var chosen bool
	var version int
	c := &cobra.Command{
		Use: "change GROUP", Short: "Change what a group is called, where it is, what it does, how long it lives", Args: cobra.ExactArgs(1),
		Long: "Change a group. With a new name the address stays; with a new address the old one stays\nas an alias.",
		Example: "  ivytable group change night-dispatch@merrowline.example --description \"The night shift's calls\"\n" +
			"  ivytable group change night-dispatch@merrowline.example --address nights --add-alias night-calls\n" +
			"  ivytable group change safety-board@merrowline.example --standing \"Required by the harbour authority\"",
	}
	c.RunE = a.run(func(ctx context.Context, cl *client.Client, args []string) error {
		var p api.GroupPatch
		given := false
		for flag, to := range map[string]func(){
			"name": func() { p.Name = &name }, "description": func() { p.Description = &description }, "address": func() { p.Address = &address },
			"language": func() { p.Language = &language }, "welcome": func() { p.Welcome = &welcome }, "default-delivery": func() { p.Delivery = &delivery },
			"trait": func() { p.Traits = &traits }, "standing": func() { p.Standing = &standing }, "chosen": func() { p.Chosen = &chosen },
		} {
			if c.Flags().Changed(flag) {
				to()
				given = true
			}
		}
		if len(add)+len(drop) > 0 {
			g, err := cl.Group(ctx, args[0])
			if err != nil {
				return err
			}
			keep := slices.DeleteFunc(append(g.Aliases, add...), func(x string) bool {
				return slices.ContainsFunc(drop, func(d string) bool { return d == x || d+"@"+strings.SplitN(g.Address, "@", 2)[1] == x })
			})
			p.Aliases, given = &keep, true
			if version == 0 {
				version = g.Version
			}
		}
		if !given {
			return usagef("nothing to change: give --name, --address or another option")
		}
		g, err := cl.ChangeGroup(ctx, args[0], p, version)
		if err != nil {
			return err
		}
		return a.showGroup(g)
	})
	f := c.Flags()
	f.StringVar(&name, "name", "", "a new name; the address stays")
	f.StringVar(&address, "address", "", "a new address; the old one stays as an alias")
	f.StringSliceVar(&add, "add-alias", nil, "a further address; repeat for more")
	f.StringSliceVar(&drop, "drop-alias", nil, "a further address to give up; repeat for more")
	f.StringVar(&description, "description", "", "why it exists")
	f.StringSliceVar(&traits, "trait", nil, "all that it does: archive, desk, calendar, access; empty for nothing")
	f.StringVar(&language, "language", "", "of its notices: en or de")
	f.StringVar(&delivery, "default-delivery", "", "whether new members get each message: each or none")
	f.StringVar(&welcome, "welcome", "", "said to new members")
	f.StringVar(&standing, "standing", "", "why it never expires; empty takes that back")
	f.BoolVar(&chosen, "chosen", false, "the term applies to it where it applies to chosen groups")
	f.IntVar(&version, "if-version", 0, "change it only when it is still this version")
	return c
}

func (a *app) groupLike() *cobra.Command {
	var q api.LookAlikeRequest
	c := &cobra.Command{
		Use: "like NAME", Short: "List groups that a new one would resemble", Args: cobra.ExactArgs(1),
		Long:    "List groups with a like name or address, or with mostly the same people, before a second\none is made.",
		Example: "  ivytable group like \"Dispatch Nights\" --address night.dispatch@merrowline.example \\\n    --person oda.fenn@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			q.Name = args[0]
			found, err := c.LookAlikes(ctx, q)
			if err != nil {
				return err
			}
			rows := make([][]string, len(found))
			for i, x := range found {
				rows[i] = []string{x.Name, x.Address, x.State, fmt.Sprint(x.People), strings.Join(x.Why, ", "), x.Says}
			}
			return a.list(found, []string{"NAME", "ADDRESS", "STATE", "PEOPLE", "LIKE IN", "SAYS"}, rows)
		}),
	}
	c.Flags().StringVar(&q.Address, "address", "", "the address that it would have")
	c.Flags().StringSliceVar(&q.People, "person", nil, "address of somebody who would be in it; repeat for more")
	return c
}

func (a *app) groupTree() *cobra.Command {
	return &cobra.Command{
		Use: "tree GROUP", Short: "Draw what is nested in a group and what it is nested in", Args: cobra.ExactArgs(1),
		Example: "  ivytable group tree deck@crew.merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			n, err := c.Nesting(ctx, args[0])
			if err != nil {
				return err
			}
			byID := map[string]api.NestedGroup{}
			below := map[string][]string{}
			top := map[string]bool{}
			for _, g := range n.Groups {
				byID[g.ID], top[g.ID] = g, true
			}
			for _, e := range n.Edges {
				below[e.Outer] = append(below[e.Outer], e.Inner)
				delete(top, e.Inner)
			}
			var rows [][]string
			var walk func(id, indent string)
			walk = func(id, indent string) {
				g := byID[id]
				name := g.Name
				if g.Depth == 0 {
					name += " ◂"
				}
				rows = append(rows, []string{indent + name, g.Address, fmt.Sprint(g.People)})
				for _, x := range below[id] {
					walk(x, indent+"   ")
				}
			}
			for _, g := range n.Groups {
				if top[g.ID] {
					walk(g.ID, "")
				}
			}
			return a.list(n, []string{"GROUP", "ADDRESS", "PEOPLE"}, rows)
		}),
	}
}

func (a *app) groupReaches() *cobra.Command {
	var q string
	var paging client.Paging
	c := &cobra.Command{
		Use: "reaches GROUP", Short: "List everybody whom a group reaches, and through which group", Args: cobra.ExactArgs(1),
		Example: "  ivytable group reaches deck@crew.merrowline.example --search keel",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Reached(ctx, args[0], q, paging)
			if err != nil {
				return err
			}
			rows := make([][]string, len(p.Items))
			for i, r := range p.Items {
				rows[i] = []string{r.Name, r.Address, r.Role, strings.Join(r.Through, ", ")}
			}
			if err := a.list(p, []string{"NAME", "ADDRESS", "OWN ROLE", "THROUGH"}, rows); err != nil {
				return err
			}
			a.more(p.Next, len(p.Items), p.Total)
			return nil
		}),
	}
	paged(c, &paging)
	c.Flags().StringVar(&q, "search", "", "beginnings of words of a name or address")
	return c
}

func (a *app) wish(use, short, example string, do func(*client.Client, context.Context, string, api.Wish) (api.Wished, error)) *cobra.Command {
	var wish api.Wish
	c := &cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1), Example: example,
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			w, err := do(c, ctx, args[0], wish)
			if err != nil {
				return err
			}
			return a.facts(w, [2]string{"Done:", w.Says})
		})}
	c.Flags().StringVar(&wish.Note, "note", "", "what to say to whoever decides")
	return c
}

func (a *app) groupJoin() *cobra.Command {
	return a.wish("join GROUP", "Join a group, or ask to", "  ivytable group join choir@merrowline.example", (*client.Client).Join)
}

func (a *app) groupLeave() *cobra.Command {
	return a.wish("leave GROUP", "Leave a group, or ask to", "  ivytable group leave choir@merrowline.example", (*client.Client).Leave)
}
