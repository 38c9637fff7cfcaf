package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var ceilingColumns = []column[api.Ceiling]{
	{name: "setting", value: func(c api.Ceiling) any { return c.Setting }},
	{name: "at_most", heading: "AT MOST", value: func(c api.Ceiling) any { return c.AtMost }},
	{name: "filter", heading: "WHERE", value: func(c api.Ceiling) any { return c.Filter }},
	{name: "reason", heading: "WHY", value: func(c api.Ceiling) any { return c.Reason }, runs: true},
	{name: "set_by", heading: "SET BY", value: func(c api.Ceiling) any { return c.SetBy }, whole: true},
	{name: "set_at", value: func(c api.Ceiling) any { return c.SetAt }, csvOnly: true},
}

func (a *app) ceilingCommands() *cobra.Command {
	show := a.reads(&cobra.Command{Use: "list", Short: "List how far groups may go", Args: cobra.NoArgs, Example: "  ivytable ceiling list"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			all, err := c.Ceilings(ctx)
			if err != nil {
				return err
			}
			return printAll(a, all, all.Ceilings, ceilingColumns)
		})
	var filter, reason string
	set := a.changes(&cobra.Command{
		Use: "set SETTING AUDIENCE", Short: "Set the widest audience that groups may choose; those above come down", Args: cobra.ExactArgs(2),
		Long: wrap("Set the widest audience that groups may choose for a setting: all, or those that a filter over domain and starting_point names. Groups that go further come down in one change, which can be undone once the ceiling is lifted.", 0),
		Example: "  ivytable ceiling set post workspace --filter 'domain eq \"crew.merrowline.example\"' --reason 'Crew lists are for us.' --preview\n" +
			"  ivytable ceiling set see_people members",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		return a.changeCeilings(ctx, c, func(all []api.NewCeiling) []api.NewCeiling {
			return append(all, api.NewCeiling{Setting: args[0], AtMost: args[1], Filter: filter, Reason: reason})
		}, args[0], filter)
	})
	set.Flags().StringVar(&filter, "filter", "", "which groups: a filter over domain and starting_point")
	set.Flags().StringVar(&reason, "reason", "", "why, told to whoever would go further")
	var lifted string
	lift := a.changes(&cobra.Command{Use: "lift SETTING", Short: "Lift a ceiling", Args: cobra.ExactArgs(1), Example: "  ivytable ceiling lift post --filter 'domain eq \"crew.merrowline.example\"'"},
		func(ctx context.Context, c *client.Client, args []string) error {
			return a.changeCeilings(ctx, c, func(all []api.NewCeiling) []api.NewCeiling { return all }, args[0], lifted)
		})
	lift.Flags().StringVar(&lifted, "filter", "", "the filter of the ceiling")
	return noun("ceiling", "How far groups may go: list, set, lift", show, set, lift)
}

// changeCeilings sets the ceilings with those of a setting and a filter replaced.
func (a *app) changeCeilings(ctx context.Context, c *client.Client, add func([]api.NewCeiling) []api.NewCeiling, setting, filter string) error {
	all, err := c.Ceilings(ctx)
	if err != nil {
		return err
	}
	n := api.NewCeilings{Ceilings: []api.NewCeiling{}}
	found := false
	for _, x := range all.Ceilings {
		if x.Setting == setting && x.Filter == filter {
			found = true
			continue
		}
		n.Ceilings = append(n.Ceilings, api.NewCeiling{Setting: x.Setting, AtMost: x.AtMost, Filter: x.Filter, Reason: x.Reason})
	}
	kept := len(n.Ceilings)
	if n.Ceilings = add(n.Ceilings); len(n.Ceilings) == kept && !found {
		return fmt.Errorf("there is no ceiling for %s with this filter; see: ivytable ceiling list", setting)
	}
	done, err := c.Guarded(strconv.Quote(fmt.Sprint(all.Version))).SetCeilings(ctx, n)
	if err != nil {
		return err
	}
	if done.Change != "" {
		return a.done(done, "The ceilings are set. Groups above come down: ivytable change show %s", done.Change)
	}
	return a.done(done, "The ceilings are set. No group was above.")
}
