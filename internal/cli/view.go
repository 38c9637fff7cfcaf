package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var viewColumns = []column[api.View]{
	{name: "id", value: func(v api.View) any { return v.ID }, csvOnly: true},
	{name: "name", value: func(v api.View) any { return v.Name }, whole: true},
	{name: "list", value: func(v api.View) any { return v.List }},
	{name: "whose", value: func(v api.View) any { return v.Whose }, show: func(v api.View) string { return strings.ReplaceAll(v.Whose, "_", " ") }},
	{name: "sort", value: func(v api.View) any { return v.Sort }},
	{name: "filter", value: func(v api.View) any { return v.Filter }, runs: true},
	{name: "columns", value: func(v api.View) any { return strings.Join(v.Columns, " ") }, csvOnly: true},
	{name: "version", value: func(v api.View) any { return v.Version }, csvOnly: true},
}

// viewOf finds a view of a list, or of any, by its identifier or its name.
func viewOf(ctx context.Context, c *client.Client, list, given string) (api.View, error) {
	all, err := c.Views(ctx, list)
	if err != nil {
		return api.View{}, err
	}
	var found []api.View
	var names []string
	for _, v := range all.Items {
		if v.ID == given {
			return v, nil
		}
		if strings.EqualFold(v.Name, given) {
			found = append(found, v)
		}
		names = append(names, v.Name)
	}
	switch len(found) {
	case 1:
		return found[0], nil
	case 0:
		return api.View{}, fmt.Errorf("there is no view %q: there are %s", given, strings.Join(names, "; "))
	}
	return api.View{}, fmt.Errorf("there are %d views %q: name one by its identifier, which ivytable view list --output csv shows", len(found), given)
}

func (a *app) viewCommands() *cobra.Command {
	of := func(c *cobra.Command) *string {
		return c.Flags().String("list", "", "only views of groups, people or history")
	}
	all := &cobra.Command{Use: "list", Short: "List the views that you can use", Args: cobra.NoArgs, Example: "  ivytable view list\n  ivytable group list --view quiet"}
	allOf := of(all)
	a.reads(all, func(ctx context.Context, c *client.Client, _ []string) error {
		p, err := c.Views(ctx, *allOf)
		if err != nil {
			return err
		}
		return printAll(a, p, p.Items, viewColumns)
	})
	show := &cobra.Command{Use: "show VIEW", Short: "Show one view", Args: cobra.ExactArgs(1), Example: "  ivytable view show quiet"}
	showOf := of(show)
	a.reads(show, func(ctx context.Context, c *client.Client, args []string) error {
		v, err := viewOf(ctx, c, *showOf, args[0])
		if err != nil {
			return err
		}
		return a.showView(v)
	})
	var n api.NewView
	save := &cobra.Command{
		Use: "save NAME", Short: "Keep a filter and an order under a name, or change those of a view", Args: cobra.ExactArgs(1),
		Example: "  ivytable view save \"Open desks\" --filter 'traits eq \"desk\" and post eq \"anyone\"' --sort=-people\n  ivytable view save \"Deck without a place\" --list people --filter 'department eq \"Deck\" and addresses.locality eq null' --shared",
	}
	a.changes(save, func(ctx context.Context, c *client.Client, args []string) error {
		n.Name = args[0]
		p, err := c.Views(ctx, n.List)
		if err != nil {
			return err
		}
		whose := map[bool]string{true: "administrators", false: "mine"}[n.Shared]
		for _, v := range p.Items {
			if v.Whose != whose || !strings.EqualFold(v.Name, n.Name) {
				continue
			}
			if !save.Flags().Changed("filter") {
				n.Filter = v.Filter
			}
			if !save.Flags().Changed("sort") {
				n.Sort = v.Sort
			}
			if !save.Flags().Changed("column") {
				n.Columns = v.Columns
			}
			v, err := c.ChangeView(ctx, v.ID, n)
			if err != nil {
				return err
			}
			return a.showView(v)
		}
		v, err := c.CreateView(ctx, n)
		if err != nil {
			return err
		}
		return a.showView(v)
	}, guarded, keyed)
	f := save.Flags()
	f.StringVar(&n.List, "list", "groups", "groups, people or history")
	f.StringVar(&n.Filter, "filter", "", "what it lists; see: ivytable filter names")
	f.StringVar(&n.Sort, "sort", "", "its order, as the list takes it")
	f.StringSliceVar(&n.Columns, "column", nil, "a column that the console shows; repeat for more")
	f.BoolVar(&n.Shared, "shared", false, "for all administrators")
	remove := &cobra.Command{Use: "delete VIEW", Short: "Delete a view; what it lists stays", Args: cobra.ExactArgs(1), Example: "  ivytable view delete \"Open desks\""}
	removeOf := of(remove)
	a.changes(remove, func(ctx context.Context, c *client.Client, args []string) error {
		v, err := viewOf(ctx, c, *removeOf, args[0])
		if err != nil {
			return err
		}
		if err := c.DeleteView(ctx, v.ID); err != nil {
			return err
		}
		return a.done(nil, "The view %s is deleted. What it listed stays as it is.", v.Name)
	}, guarded)
	return noun("view", "Views: filters and orders of lists, kept under a name", all, show, save, remove)
}

func (a *app) showView(v api.View) error {
	return one(a, v, viewColumns, fact{"Name", v.Name}, fact{"Of", v.List}, fact{"Whose", strings.ReplaceAll(v.Whose, "_", " ")}, fact{"Lists", v.Filter}, fact{"Sorted by", v.Sort}, fact{"Columns", strings.Join(v.Columns, " ")})
}
