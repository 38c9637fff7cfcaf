package cli

import (
	"context"
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

func (a *app) publicCommands() *cobra.Command {
	return noun("public", "What anyone on the internet sees of groups: show, set", a.publicShow(), a.publicSet())
}

func publicFacts(p api.PublicPages) []fact {
	pages, in := "none: nothing is shown on the internet", "no"
	if p.Pages {
		pages = "each group that anyone may find has one"
	}
	if p.List {
		in = "yes"
	}
	return []fact{{"Pages", pages}, {"In a list", in}, {"Anyone may find", plural(p.Groups, "group")}}
}

func (a *app) publicShow() *cobra.Command {
	return a.reads(&cobra.Command{Use: "show", Short: "Show what the workspace shows on the internet", Args: cobra.NoArgs, Example: "  ivytable public show\n  ivytable group list --filter 'find eq \"anyone\"'"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			p, err := c.PublicPages(ctx)
			if err != nil {
				return err
			}
			return a.facts(p, publicFacts(p)...)
		})
}

func (a *app) publicSet() *cobra.Command {
	var given api.PublicPages
	c := &cobra.Command{Use: "set", Short: "Change what the workspace shows on the internet", Args: cobra.NoArgs,
		Example: "  ivytable public set --pages --list --preview\n  ivytable public set --pages=false --list=false"}
	f := c.Flags()
	f.BoolVar(&given.Pages, "pages", false, "groups that anyone may find have a page on the internet")
	f.BoolVar(&given.List, "list", false, "they stand in a list there")
	return a.changes(c, func(ctx context.Context, c *client.Client, _ []string) error {
		if !f.Changed("pages") && !f.Changed("list") {
			return usagef("say what changes: --pages, --list")
		}
		p, err := c.PublicPages(ctx)
		if err != nil {
			return err
		}
		if f.Changed("pages") {
			p.Pages = given.Pages
		}
		if f.Changed("list") {
			p.List = given.List
		}
		if p, err = c.Guarded(strconv.Quote(fmt.Sprint(p.Version))).SetPublicPages(ctx, p); err != nil {
			return err
		}
		return a.facts(p, publicFacts(p)...)
	})
}
