package cli

import (
	"context"
	"fmt"
	"strings"

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
	return noun("domain", "Mail domains: list, add, main, retire, check, keys", list, add, lead, retire, a.domainCheck(), a.domainKeys(), a.domainMakeKey(), a.domainUseKey(), a.domainDeleteKey())
}

var recordColumns = []column[api.DomainRecord]{
	{name: "part", value: func(r api.DomainRecord) any { return r.Part }, show: func(r api.DomainRecord) string { return strings.ToUpper(r.Part) }},
	{name: "state", value: func(r api.DomainRecord) any { return r.State }},
	{name: "name", value: func(r api.DomainRecord) any { return r.Name }, whole: true},
	{name: "says", value: func(r api.DomainRecord) any { return r.Says }},
	{name: "found", value: func(r api.DomainRecord) any { return r.Found }, csvOnly: true},
	{name: "wanted", value: func(r api.DomainRecord) any { return r.Wanted }, csvOnly: true},
}

func (a *app) domainCheck() *cobra.Command {
	return a.reads(&cobra.Command{Use: "check DOMAIN", Short: "Say what a mail domain publishes, and what is missing so that mail in its name is believed", Args: cobra.ExactArgs(1), Example: "  ivytable domain check merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			d, err := c.CheckDomain(ctx, args[0])
			if err != nil {
				return err
			}
			if a.output != "table" {
				return printAll(a, d, d.Items, recordColumns)
			}
			for _, r := range d.Items {
				fmt.Fprintf(a.out, "%-6s %-9s %s\n", strings.ToUpper(r.Part), r.State, wrap(r.Says, 17))
				for _, l := range [][2]string{{"at", r.Name}, {"found", clip(r.Found, lineWidth-15)}, {"wanted", r.Wanted}} { // what is wanted is copied
					if l[1] != "" {
						fmt.Fprintf(a.out, "       %-7s %s\n", l[0], l[1])
					}
				}
			}
			return nil
		})
}

var keyColumns = []column[api.SigningKey]{
	{name: "selector", value: func(k api.SigningKey) any { return k.Selector }, whole: true},
	{name: "used", value: func(k api.SigningKey) any { return k.Used }, show: func(k api.SigningKey) string {
		return map[bool]string{true: "signs mail"}[k.Used]
	}},
	{name: "made_at", heading: "MADE", value: func(k api.SigningKey) any { return k.MadeAt }, show: func(k api.SigningKey) string { return dayOf(k.MadeAt) }},
	{name: "name", heading: "RECORD AT", value: func(k api.SigningKey) any { return k.Name }, whole: true},
	{name: "record", value: func(k api.SigningKey) any { return k.Record }, csvOnly: true},
}

func (a *app) domainKeys() *cobra.Command {
	return a.reads(&cobra.Command{Use: "keys DOMAIN", Short: "List the keys that mail of a domain is signed with (RFC 6376)", Args: cobra.ExactArgs(1), Example: "  ivytable domain keys merrowline.example\n  ivytable domain keys merrowline.example --output csv"},
		func(ctx context.Context, c *client.Client, args []string) error {
			all, err := c.SigningKeys(ctx, args[0])
			if err != nil {
				return err
			}
			return printAll(a, all, all.Items, keyColumns)
		})
}

func (a *app) domainMakeKey() *cobra.Command {
	return a.changes(&cobra.Command{Use: "make-key DOMAIN", Short: "Make a key for mail of a domain; nothing is signed with it yet", Args: cobra.ExactArgs(1), Example: "  ivytable domain make-key merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			k, err := c.MakeKey(ctx, args[0])
			if err != nil {
				return err
			}
			err = a.done(k, "Publish this TXT record, then look whether it is seen, with: ivytable domain check %s Then: ivytable domain use-key %[1]s %s", args[0], k.Selector)
			if err == nil && a.output == "table" {
				fmt.Fprintf(a.out, "\n%s\n%s\n", k.Name, k.Record)
			}
			return err
		})
}

func (a *app) domainUseKey() *cobra.Command {
	return a.changes(&cobra.Command{Use: "use-key DOMAIN SELECTOR", Short: "Sign mail of a domain with one of its keys from now on", Args: cobra.ExactArgs(2), Example: "  ivytable domain use-key merrowline.example ivy20270102"},
		func(ctx context.Context, c *client.Client, args []string) error {
			k, err := c.UseKey(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			return a.done(k, "Mail in the name of %s is signed with %s from now on.", args[0], args[1])
		})
}

func (a *app) domainDeleteKey() *cobra.Command {
	return a.changes(&cobra.Command{Use: "delete-key DOMAIN SELECTOR", Short: "Delete a key that is not used", Args: cobra.ExactArgs(2), Example: "  ivytable domain delete-key merrowline.example ivy20260102"},
		func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.DeleteKey(ctx, args[0], args[1]); err != nil {
				return err
			}
			return a.done(nil, "The key %s of %s is deleted.", args[1], args[0])
		})
}
