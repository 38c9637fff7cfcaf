package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var checkedColumns = []column[api.Checked]{
	{name: "name", heading: "CHECK", value: func(c api.Checked) any { return c.Name }},
	{name: "wrong", value: func(c api.Checked) any { return c.Wrong }},
	{name: "outcome", value: func(c api.Checked) any {
		switch {
		case c.Wrong == 0:
			return "right"
		case c.Repaired:
			return "repaired"
		case c.Repairable:
			return "can be repaired"
		}
		return "wrong"
	}},
	{name: "says", heading: "WHAT IS WRONG", value: func(c api.Checked) any {
		return strings.Join(c.Says[:min(len(c.Says), 3)], "; ")
	}, runs: true},
}

func (a *app) serviceCommands() *cobra.Command {
	var repair bool
	check := a.reads(&cobra.Command{Use: "check", Short: "Check that the records of the service agree with each other", Args: cobra.NoArgs,
		Long: wrap("Check that the records agree with those that they follow from: counts and sizes of groups, search words, addresses, mail that is to be delivered, the seals of the history. "+
			"With --repair the service makes right what it can make right by itself, in one change that the history names. While it does, changes of people and groups wait.", 0),
		Example: "  ivytable service check\n  ivytable service check --repair"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			read := c.CheckRecords
			if repair {
				read = c.RepairRecords
			}
			found, err := read(ctx)
			if err != nil {
				return err
			}
			if err := printAll(a, found, found.Checks, checkedColumns); err != nil {
				return err
			}
			for _, x := range found.Checks {
				if x.Wrong > 0 && !x.Repaired {
					hint := ""
					if !repair {
						hint = " Repair them: ivytable service check --repair"
					}
					return errors.New(found.Says + hint)
				}
			}
			if a.output == "table" {
				fmt.Fprintln(a.out, found.Says)
			}
			return nil
		})
	check.Flags().BoolVar(&repair, "repair", false, "make right what the service can make right by itself")
	return noun("service", "Look after the records of the service", check)
}
