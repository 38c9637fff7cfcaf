package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

// reported is a number of the report as a row.
type reported struct {
	part   string
	count  int
	what   string
	list   string
	filter string
}

var reportColumns = []column[reported]{
	{name: "part", value: func(r reported) any { return r.part }},
	{name: "count", value: func(r reported) any { return r.count }},
	{name: "what", value: func(r reported) any { return r.what }},
	{name: "list", value: func(r reported) any { return r.list }, csvOnly: true},
	{name: "filter", value: func(r reported) any { return r.filter }, csvOnly: true},
}

func (a *app) reportCommand() *cobra.Command {
	return a.reads(&cobra.Command{Use: "report", Short: "Show the state of the directory on one page", Args: cobra.NoArgs,
		Long:    "Show the state of the directory on one page: groups, people, what expires, what the review found, outsiders, the biggest groups, rounds.\nAs CSV each number names the list that it counts, and its filter.",
		Example: "  ivytable report\n  ivytable report --output csv > report.csv"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			r, err := c.Report(ctx)
			if err != nil {
				return err
			}
			var rows []reported
			for _, p := range []struct {
				part string
				all  []api.ReportNumber
			}{{"groups", r.Groups}, {"expiring", r.Expiring}, {"people", r.People}} {
				for _, n := range p.all {
					filter := n.Filter
					if n.State != "" {
						filter = strings.TrimSpace("state " + n.State + " " + filter)
					}
					rows = append(rows, reported{p.part, n.Count, n.Says, n.List, filter})
				}
			}
			for _, k := range r.Findings.Items {
				if k.Open > 0 {
					rows = append(rows, reported{"findings", k.Open, strings.ToLower(k.Title), "findings", k.Filter})
				}
			}
			for _, d := range r.Externals {
				rows = append(rows, reported{"outsiders", d.Memberships, fmt.Sprintf("memberships of %s from %s", plural(d.People, "outsider"), d.Domain), "externals", d.Domain})
			}
			for _, g := range r.Biggest {
				rows = append(rows, reported{"biggest", g.People, g.Group.Address, "", ""})
			}
			for _, x := range r.Rounds {
				rows = append(rows, reported{"rounds", x.Counts.Total, fmt.Sprintf("groups in %s: %d confirmed, %d retired, %d silent, %d waiting", x.Name, x.Counts.Kept, x.Counts.Retired, x.Counts.Silent, x.Counts.Waiting), "", ""})
			}
			return printAll(a, r, rows, reportColumns)
		})
}
