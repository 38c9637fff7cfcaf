package cli

import (
	"context"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var attributeColumns = []column[api.OwnAttribute]{
	{name: "name", value: func(x api.OwnAttribute) any { return x.Name }, whole: true},
	{name: "label", value: func(x api.OwnAttribute) any { return x.Label }},
	{name: "kind", value: func(x api.OwnAttribute) any { return x.Kind }},
	{name: "seen", heading: "SEEN BY", value: func(x api.OwnAttribute) any { return x.Seen }, show: func(x api.OwnAttribute) string {
		if x.Seen {
			return "everybody"
		}
		return "administrators, auditors"
	}},
	{name: "schema", value: func(x api.OwnAttribute) any { return x.Schema }, csvOnly: true},
	{name: "version", value: func(x api.OwnAttribute) any { return x.Version }, csvOnly: true},
}

func (a *app) attributeCommands() *cobra.Command {
	list := a.reads(&cobra.Command{Use: "list", Short: "List what the organisation keeps of people beside the attributes of SCIM", Args: cobra.NoArgs, Example: "  ivytable attribute list"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			all, err := c.Attributes(ctx)
			if err != nil {
				return err
			}
			return printAll(a, all, all.Items, attributeColumns)
		})
	var n api.NewAttribute
	save := a.changes(&cobra.Command{
		Use: "save NAME", Short: "Declare an attribute, or change what is said of one", Args: cobra.ExactArgs(1),
		Long:    "Declare an attribute of people, or change what is said of one. Rules of membership, filters, name patterns and imports know it from then on.",
		Example: "  ivytable attribute save shift --label \"Shift\" --seen\n  ivytable attribute save radioCallSign --preview\n  ivytable person change tove.alder@merrowline.example --set shift=B",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		x, err := c.SaveAttribute(ctx, args[0], n)
		if err != nil {
			return err
		}
		return one(a, x, attributeColumns, fact{"Name", x.Name}, fact{"Label", x.Label}, fact{"Kind", x.Kind}, fact{"Seen by", map[bool]string{true: "everybody", false: "administrators and auditors"}[x.Seen]}, fact{"Schema", x.Schema})
	}, guarded)
	save.Flags().StringVar(&n.Label, "label", "", "what people read; the name when left out")
	save.Flags().StringVar(&n.Kind, "kind", "", "text, number, boolean or day; text when left out")
	save.Flags().BoolVar(&n.Seen, "seen", false, "colleagues see it of each other")
	remove := a.changes(&cobra.Command{Use: "delete NAME", Short: "Delete an attribute, with what people have in it", Args: cobra.ExactArgs(1), Example: "  ivytable attribute delete shift --preview"},
		func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.DeleteAttribute(ctx, args[0]); err != nil {
				return err
			}
			return a.done(nil, "The directory no longer keeps %s.", args[0])
		}, guarded)
	return noun("attribute", "Attributes of the organisation's own: list, save, delete", list, save, remove)
}
