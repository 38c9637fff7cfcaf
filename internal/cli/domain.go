package cli

import (
	"context"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var domainColumns = []column[api.Domain]{
	{name: "name", value: func(d api.Domain) any { return d.Name }, whole: true},
	{name: "main", value: func(d api.Domain) any { return d.Main }, show: func(d api.Domain) string {
		if d.Main {
			return "the main one"
		}
		return ""
	}},
	{name: "groups", value: func(d api.Domain) any { return d.Groups }},
	{name: "aliases", value: func(d api.Domain) any { return d.Aliases }},
	{name: "people", value: func(d api.Domain) any { return d.People }},
	{name: "former_addresses", heading: "OLD ADDRESSES", value: func(d api.Domain) any { return d.Former }},
	{name: "version", value: func(d api.Domain) any { return d.Version }, csvOnly: true},
}

func (a *app) domainCommands() *cobra.Command {
	list := a.reads(&cobra.Command{Use: "list", Short: "List the mail domains, and what lies in each", Args: cobra.NoArgs, Example: "  ivytable domain list"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			all, err := c.Domains(ctx)
			if err != nil {
				return err
			}
			return printAll(a, all, all.Items, domainColumns)
		})
	add := a.changes(&cobra.Command{Use: "add DOMAIN", Short: "Add a mail domain", Args: cobra.ExactArgs(1), Example: "  ivytable domain add islands.merrowline.example --preview"},
		func(ctx context.Context, c *client.Client, args []string) error {
			d, err := c.AddDomain(ctx, args[0])
			if err != nil {
				return err
			}
			return a.done(d, "Groups and people can have addresses at %s from now on.", d.Name)
		}, keyed)
	lead := a.changes(&cobra.Command{Use: "main DOMAIN", Short: "Make a mail domain the main one", Args: cobra.ExactArgs(1), Example: "  ivytable domain main crew.merrowline.example --preview"},
		func(ctx context.Context, c *client.Client, args []string) error {
			d, err := c.LeadDomain(ctx, args[0])
			if err != nil {
				return err
			}
			return a.done(d, "An address that is given without its domain lies in %s from now on.", d.Name)
		}, guarded)
	retire := a.changes(&cobra.Command{Use: "retire DOMAIN", Short: "Retire a mail domain in which nothing lies any more", Args: cobra.ExactArgs(1), Example: "  ivytable domain retire islands.merrowline.example --preview"},
		func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.RetireDomain(ctx, args[0]); err != nil {
				return err
			}
			return a.done(nil, "%s is no longer a mail domain of this workspace.", args[0])
		}, guarded)
	return noun("domain", "Mail domains: list, add, main, retire", list, add, lead, retire)
}
