package cli

import (
	"context"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var nestedColumns = []column[api.Nested]{
	{name: "inner", heading: "GROUP", value: func(n api.Nested) any { return n.Inner.Address }, show: func(n api.Nested) string { return n.Inner.Name }},
	{name: "outer", heading: "IN", value: func(n api.Nested) any { return n.Outer.Address }, show: func(n api.Nested) string { return n.Outer.Name }},
	{name: "consent", value: func(n api.Nested) any { return n.Consent }, show: consentOf, whole: true},
	{name: "in", value: func(n api.Nested) any { return n.In }, csvOnly: true},
	{name: "by", value: func(n api.Nested) any { return n.By }, csvOnly: true},
	{name: "since", value: func(n api.Nested) any { return n.Since }, show: func(n api.Nested) string { return dayOf(n.Since) }, whole: true},
	{name: "decided_by", value: func(n api.Nested) any { return n.DecidedBy }, csvOnly: true},
	{name: "doubts", value: func(n api.Nested) any { return strings.Join(n.Doubts, " ") }},
}

func consentOf(n api.Nested) string {
	if n.Consent == "asked" && n.In {
		return "asked, in it"
	}
	return n.Consent
}

func (a *app) nestingCommands() *cobra.Command {
	var p paging
	var asked bool
	show := a.reads(&cobra.Command{
		Use: "list [GROUP]", Short: "List which groups are in which, with what is agreed and what is doubtful about it", Args: cobra.MaximumNArgs(1),
		Long:    wrap("List which groups are in which: all of the workspace, or those in GROUP and those that it is in. A group is in another by consent of both sides: asked says that its owners have not agreed yet, counted that its people may be counted in the other one, seen that they are seen there.", 0),
		Example: "  ivytable nesting list --asked\n  ivytable nesting list all-crew@merrowline.example",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		return list(a, &p, func(p client.Paging) (api.Page[api.Nested], error) {
			if len(args) == 1 {
				return c.Consents(ctx, args[0], p)
			}
			return c.Nestings(ctx, asked, p)
		}, nestedColumns)
	})
	show.Flags().BoolVar(&asked, "asked", false, "only what owners have not agreed to yet")
	paged(show, &p)

	var n api.NewConsent
	agree := a.changes(&cobra.Command{
		Use: "agree GROUP OUTER", Short: "Agree that a group is in another, for its side", Args: cobra.ExactArgs(2),
		Example: "  ivytable nesting agree night-dispatch@merrowline.example all-crew@merrowline.example\n  ivytable nesting agree night-dispatch@merrowline.example all-crew@merrowline.example --consent seen",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		x, err := c.GiveConsent(ctx, args[0], args[1], n)
		if err != nil {
			return err
		}
		return one(a, x, nestedColumns, fact{"Group", x.Inner.Name}, fact{"In", x.Outer.Name}, fact{"Consent", consentOf(x)})
	})
	agree.Flags().StringVar(&n.Consent, "consent", "counted", "whether its people are seen there, or only counted")

	var reason string
	end := a.changes(&cobra.Command{
		Use: "end GROUP OTHER", Short: "End that one of two groups is in the other, or is asked for, from either side", Args: cobra.ExactArgs(2),
		Example: "  ivytable nesting end night-dispatch@merrowline.example all-crew@merrowline.example --reason \"We have a list of our own\"",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		if err := c.EndConsent(ctx, args[0], args[1], reason); err != nil {
			return err
		}
		return a.done(nil, "%s and %s are apart.", args[0], args[1])
	})
	end.Flags().StringVar(&reason, "reason", "", "mailed to the other side")
	return noun("nesting", "Groups in groups: list, agree, end", show, agree, end)
}
