package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

// filterCommands tell what filters can say.
func (a *app) filterCommands() *cobra.Command {
	columns := []column[api.FilterAttribute]{
		{name: "name", value: func(f api.FilterAttribute) any { return f.Name }, whole: true},
		{name: "kind", value: func(f api.FilterAttribute) any { return f.Kind }},
		{name: "label", heading: "WHAT IT IS", value: func(f api.FilterAttribute) any { return f.Label }},
		{name: "operators", value: func(f api.FilterAttribute) any { return strings.Join(f.Operators, " ") }, csvOnly: true},
		{name: "choices", heading: "CAN BE", value: func(f api.FilterAttribute) any { return strings.Join(f.Choices, ", ") }, runs: true},
		{name: "many", value: func(f api.FilterAttribute) any { return f.Many }, csvOnly: true},
	}
	return noun("filter", "Filters: what they can say", a.reads(&cobra.Command{
		Use: "names LIST", Short: "List what a filter of groups, people or history can ask about", Args: cobra.ExactArgs(1), ValidArgs: []string{"groups", "people", "history"},
		Long: `A filter is an expression in the grammar of SCIM filters (RFC 7644, 3.4.2.2): comparisons such as
owners eq 0, joined by and, or, not ( ). Operators: eq ne co sw ew gt ge lt le pr. Texts, days, moments
and choices stand in double quotes, numbers, true and false without. What is unknown is no match. Of an
audience, gt and lt follow the ladder from nobody to anyone.`,
		Example: "  ivytable filter names groups\n  ivytable group list --filter 'post eq \"anyone\" and hold eq \"nobody\"'",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		all, err := c.DescribeFilter(ctx, args[0])
		if err != nil {
			return err
		}
		return printAll(a, all, all.Items, columns)
	}))
}

// exports is a command that writes a whole list.
func (a *app) exports(c *cobra.Command, write func(ctx context.Context, c *client.Client, args []string, format string) error) *cobra.Command {
	format := c.Flags().String("format", "csv", "csv, or jsonl: a line of JSON for each")
	return a.reads(c, func(ctx context.Context, c *client.Client, args []string) error { return write(ctx, c, args, *format) })
}

// filtering is what a list is asked for: a view, the filter that was written, and the flags
// that stand for parts of one.
type filtering struct {
	list, view, text string
	sort             *string         // set from the view where no other is given
	parts            []func() string // each a comparison, or "" where its flag was not given
}

// filtered gives a command the flags for a view and a filter of a list.
func (a *app) filtered(c *cobra.Command, list string, f *filtering, sort *string, example string) {
	f.list, f.sort = list, sort
	c.Flags().StringVar(&f.view, "view", "", "what this view lists, by its name or identifier; see: ivytable view list")
	c.Flags().StringVar(&f.text, "filter", "", "an expression such as '"+example+"'; see: ivytable filter names")
}

// of returns all that is asked for as one filter.
func (f *filtering) of(ctx context.Context, c *client.Client) (string, error) {
	var all []string
	if f.view != "" {
		v, err := viewOf(ctx, c, f.list, f.view)
		if err != nil {
			return "", err
		}
		if v.Filter != "" {
			all = append(all, "("+v.Filter+")")
		}
		*f.sort = cmp.Or(*f.sort, v.Sort)
	}
	if f.text != "" {
		all = append(all, "("+f.text+")")
	}
	for _, part := range f.parts {
		if p := part(); p != "" {
			all = append(all, p)
		}
	}
	if len(all) == 1 && f.text != "" {
		return f.text, nil // so that what is wrong with it stands where it was written
	}
	return strings.Join(all, " and "), nil
}

// on adds a flag that stands for a comparison.
func (f *filtering) on(c *cobra.Command, name, comparison, usage string) {
	given := c.Flags().Bool(name, false, usage)
	f.parts = append(f.parts, func() string {
		if *given {
			return comparison
		}
		return ""
	})
}

// with adds a flag whose value is compared with: comparison ends where that stands.
func (f *filtering) with(c *cobra.Command, name, comparison, usage string) {
	value := c.Flags().String(name, "", usage)
	f.parts = append(f.parts, func() string {
		if *value == "" {
			return ""
		}
		b, _ := json.Marshal(*value)
		return comparison + string(b)
	})
}
