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

var areaColumns = []column[api.Area]{
	{name: "name", value: func(x api.Area) any { return x.Name }},
	{name: "filter", heading: "WHERE", value: func(x api.Area) any { return x.Filter }, runs: true},
	{name: "groups", value: func(x api.Area) any { return x.Groups }},
	{name: "powers", value: func(x api.Area) any { return strings.Join(x.Powers, ", ") }, show: func(x api.Area) string {
		if len(x.Powers) == 0 {
			return "look"
		}
		return strings.Join(x.Powers, ", ")
	}},
	{name: "helpers", value: func(x api.Area) any { return strings.Join(addressesOf(x.Helpers), ", ") }, runs: true},
	{name: "set_by", value: func(x api.Area) any { return x.SetBy }, csvOnly: true},
	{name: "set_at", value: func(x api.Area) any { return x.SetAt }, csvOnly: true},
}

func addressesOf(all []api.Helper) (out []string) {
	for _, h := range all {
		text := h.Address
		if h.Departed {
			text += " (left)"
		}
		out = append(out, text)
	}
	return out
}

func (a *app) areaCommands() *cobra.Command {
	show := a.reads(&cobra.Command{Use: "list", Short: "List which groups are handed to helpers, and what they may do there", Args: cobra.NoArgs, Example: "  ivytable area list"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			all, err := c.Areas(ctx)
			if err != nil {
				return err
			}
			return printAll(a, all, all.Areas, areaColumns)
		})
	var n api.NewArea
	set := a.changes(&cobra.Command{
		Use: "set NAME", Short: "Hand groups to helpers, or change an area", Args: cobra.ExactArgs(1),
		Long:    wrap("Hand the groups that a filter names to helpers, with powers: people, change (names, addresses, texts), policy, life (renew, retire, restore), posts (those that wait), create. With none they look. The filter may ask about domain, starting_point, address, name, language and traits.", 0),
		Example: "  ivytable area set Crew --filter 'domain eq \"crew.merrowline.example\"' --power people --power posts \\\n    --helper jonas.keel@crew.merrowline.example --preview",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		n.Name = args[0]
		if n.Powers == nil {
			n.Powers = []string{}
		}
		if n.Helpers == nil {
			n.Helpers = []string{}
		}
		return a.changeAreas(ctx, c, args[0], &n)
	})
	f := set.Flags()
	f.StringVar(&n.Filter, "filter", "", "which groups")
	f.StringSliceVar(&n.Powers, "power", nil, "what helpers may do: people, owners, change, policy, life, posts, create; repeat for more")
	f.StringSliceVar(&n.Helpers, "helper", nil, "address of somebody who helps; repeat for more")
	end := a.changes(&cobra.Command{Use: "end NAME", Short: "End an area: nobody helps there any more", Args: cobra.ExactArgs(1), Example: "  ivytable area end Crew"},
		func(ctx context.Context, c *client.Client, args []string) error {
			return a.changeAreas(ctx, c, args[0], nil)
		})
	return noun("area", "Groups that are handed to helpers: list, set, end", show, set, end)
}

// changeAreas sets the areas with one of a name replaced, or ended.
func (a *app) changeAreas(ctx context.Context, c *client.Client, name string, by *api.NewArea) error {
	all, err := c.Areas(ctx)
	if err != nil {
		return err
	}
	n := api.NewAreas{Areas: []api.NewArea{}}
	at := -1
	for i, x := range all.Areas {
		if strings.EqualFold(x.Name, name) {
			at = i
		}
		helpers := []string{}
		for _, h := range x.Helpers {
			if !h.Departed {
				helpers = append(helpers, h.Address)
			}
		}
		n.Areas = append(n.Areas, api.NewArea{Name: x.Name, Filter: x.Filter, Powers: x.Powers, Helpers: helpers})
	}
	switch {
	case by == nil && at < 0:
		return fmt.Errorf("there is no area %s; see: ivytable area list", name)
	case by == nil:
		n.Areas = slices.Delete(n.Areas, at, at+1)
	case at < 0:
		n.Areas = append(n.Areas, *by)
	default:
		n.Areas[at] = *by
	}
	done, err := c.Guarded(strconv.Quote(fmt.Sprint(all.Version))).SetAreas(ctx, n)
	if err != nil {
		return err
	}
	return a.done(done, "The areas are set.")
}
