package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var bulkColumns = []column[api.Bulk]{
	{name: "id", value: func(b api.Bulk) any { return b.ID }, whole: true},
	{name: "state", value: func(b api.Bulk) any { return b.State }},
	{name: "changed", value: func(b api.Bulk) any { return b.Changed }},
	{name: "same", value: func(b api.Bulk) any { return b.Same }, csvOnly: true},
	{name: "refused", value: func(b api.Bulk) any { return b.Refused }},
	{name: "total", value: func(b api.Bulk) any { return b.Total }},
	{name: "made_at", heading: "BEGUN", value: func(b api.Bulk) any { return b.MadeAt }, csvOnly: true},
	{name: "by", value: func(b api.Bulk) any { return b.By }, csvOnly: true},
	{name: "undo_of", value: func(b api.Bulk) any { return b.UndoOf }, csvOnly: true},
	{name: "says", heading: "WHAT IT DOES", value: func(b api.Bulk) any { return b.Says }, runs: true},
}

var bulkItemColumns = []column[api.BulkItem]{
	{name: "group", value: func(x api.BulkItem) any { return x.Group }, csvOnly: true},
	{name: "name", value: func(x api.BulkItem) any { return x.Name }},
	{name: "address", value: func(x api.BulkItem) any { return x.Address }, whole: true},
	{name: "outcome", value: func(x api.BulkItem) any { return x.Outcome }},
	{name: "says", heading: "WHY", value: func(x api.BulkItem) any { return x.Says }, runs: true},
}

func (a *app) changeCommands() *cobra.Command {
	var p, of paging
	all := a.reads(&cobra.Command{Use: "list", Short: "List changes that many groups went through, newest first", Args: cobra.NoArgs, Example: "  ivytable change list"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			return list(a, &p, func(p client.Paging) (api.Page[api.Bulk], error) { return c.Changes(ctx, p) }, bulkColumns)
		})
	paged(all, &p)
	show := a.reads(&cobra.Command{Use: "show ID", Short: "Show how far a change is", Args: cobra.ExactArgs(1), Example: "  ivytable change show 01a2173e-5377-7236-a4de-0c1170501247"},
		func(ctx context.Context, c *client.Client, args []string) error {
			b, err := c.Change(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showBulk(b)
		})
	items := &cobra.Command{Use: "items ID", Short: "List what became of each group", Args: cobra.ExactArgs(1), Example: "  ivytable change items 01a2173e-5377-7236-a4de-0c1170501247 --outcome refused"}
	outcome := items.Flags().String("outcome", "", "only changed, same or refused")
	a.reads(items, func(ctx context.Context, c *client.Client, args []string) error {
		return list(a, &of, func(p client.Paging) (api.Page[api.BulkItem], error) { return c.ChangeItems(ctx, args[0], *outcome, p) }, bulkItemColumns)
	})
	paged(items, &of)
	stop := a.changes(&cobra.Command{Use: "stop ID", Short: "Stop a change; what it has done stays", Args: cobra.ExactArgs(1), Example: "  ivytable change stop 01a2173e-5377-7236-a4de-0c1170501247"},
		func(ctx context.Context, c *client.Client, args []string) error {
			b, err := c.StopChange(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showBulk(b)
		})
	undo := &cobra.Command{Use: "undo ID", Short: "Undo a change in every group that is still as it left it", Args: cobra.ExactArgs(1), Example: "  ivytable change undo 01a2173e-5377-7236-a4de-0c1170501247 --preview"}
	undoLater := leaves(undo)
	a.changes(undo, func(ctx context.Context, c *client.Client, args []string) error {
		b, err := c.UndoChange(ctx, args[0])
		if err != nil {
			return err
		}
		return a.follow(ctx, c, b, *undoLater)
	}, keyed)
	return noun("change", "One change of many groups: groups, sheet, list, show, items, stop, undo", a.changeGroups(), a.changeSheet(), all, show, items, stop, undo)
}

func leaves(c *cobra.Command) *bool {
	return c.Flags().Bool("no-wait", false, "don't wait until it is done")
}

func (a *app) changeGroups() *cobra.Command {
	var l client.GroupList
	var f filtering
	var n api.NewBulk
	var add, instead, on, off, settings []string
	var aliases api.AliasesChange
	var outside api.ExternalsChange
	var outsideWhy string
	var renewed bool
	var reason, hold string
	var exempt api.ExemptChange
	c := &cobra.Command{
		Use: "groups [GROUP…]", Short: "Change many groups at once: those named, or all of a list",
		Long:    "Change many groups at once: those named, or all that --words, --view, --filter and the flags beside them list.\nLook first, with --preview. What it changes can be undone as one.",
		Example: "  ivytable change groups --without-owner --add-owner oda.fenn@merrowline.example --preview\n  ivytable change groups --filter 'domain eq \"crew.merrowline.example\"' --language de\n  ivytable change groups --filter 'finding eq \"open_unheld\"' --set hold=outsiders --preview\n  ivytable change groups night-dispatch@merrowline.example berths@merrowline.example --trait-on desk\n  ivytable change groups --filter 'external gt 0' --external-at tidefuel.example --external-out --preview\n  ivytable change groups --view quiet --retire --preview\n  ivytable change groups --filter 'term_rule eq \"Ships\"' --exempt \"As long as they sail\" --exempt-until 2028-01-31",
	}
	later := leaves(c)
	words := c.Flags().String("words", "", "beginnings of words of a name or address")
	a.changes(c, func(ctx context.Context, cl *client.Client, args []string) error {
		filter, err := f.of(ctx, cl)
		if err != nil {
			return err
		}
		asked := filter != "" || *words != "" || len(l.States) > 0
		switch {
		case len(args) > 0 && asked:
			return usagef("name groups, or say which list they are: not both")
		case len(args) == 0 && !asked:
			return usagef("say which groups: name them, or list them by --filter, --view or another flag")
		case len(args) > 0:
			n.Groups = args
		default:
			n.List = &api.BulkList{Q: *words, States: l.States, Filter: filter}
		}
		switch {
		case len(add) > 0 && len(instead) > 0:
			return usagef("--add-owner leaves the owners there are and --owners replaces them: give one of the two")
		case len(add)+len(instead) > 0:
			n.Owners = &api.OwnersChange{Add: append(add, instead...), Replace: len(instead) > 0}
		}
		changed := c.Flags().Changed
		if renewed {
			n.Renew = &api.Renewal{Reason: reason}
		}
		if changed("exempt") || changed("exempt-until") {
			n.Exempt = &exempt
		}
		if hold != "" {
			n.Hold = &api.Hold{Reason: hold}
		}
		if len(on)+len(off) > 0 {
			n.Traits = &api.TraitsChange{On: on, Off: off}
		}
		if changed("alias-in") || changed("no-alias-in") || changed("no-alias-unused") {
			n.Aliases = &aliases
		}
		if changed("external-why") {
			outside.Reason = &outsideWhy
		}
		if changed("external-why") || changed("external-until") || changed("external-voucher") || changed("external-out") {
			n.Externals = &outside
		} else if changed("external-at") || changed("external-unvouched") {
			return usagef("--external-at and --external-unvouched say which external members: say, too, what becomes of them, by --external-until, --external-voucher, --external-why or --external-out")
		}
		if len(settings) > 0 {
			patch, err := patchOf(settings)
			if err != nil {
				return err
			}
			n.Policy = &patch
		}
		b, err := cl.ChangeMany(ctx, n)
		if err != nil {
			return err
		}
		return a.follow(ctx, cl, b, *later)
	}, keyed)
	a.asksForGroups(c, &l, &f)
	_ = c.Flags().MarkHidden("sort")
	_ = c.Flags().MarkHidden("scope")
	g := c.Flags()
	g.StringSliceVar(&add, "add-owner", nil, "make this address an owner, beside those there are; repeat for more")
	g.StringSliceVar(&instead, "owners", nil, "make this address an owner in place of those there are; repeat for more")
	g.StringVar(&n.Language, "language", "", "the language of notices: en, de")
	g.StringSliceVar(&on, "trait-on", nil, "switch this trait on: archive, desk, calendar, access")
	g.StringSliceVar(&off, "trait-off", nil, "switch this trait off")
	g.StringSliceVar(&settings, "set", nil, "a setting of their policy as NAME=VALUE; repeat for more")
	g.StringVar(&aliases.AddIn, "alias-in", "", "a mail domain in which each can be written to, too")
	g.StringVar(&aliases.RemoveIn, "no-alias-in", "", "a mail domain in which they lose their further addresses")
	g.IntVar(&aliases.UnusedDays, "no-alias-unused", 0, "take away further addresses to which no mail came for so many days")
	g.StringVar(&outside.Until, "external-until", "", "the last day of their external members, such as 2027-01-31, or none")
	g.StringVar(&outside.Voucher, "external-voucher", "", "who vouches for their external members from now on, by address")
	g.StringVar(&outsideWhy, "external-why", "", "why their external members are in them")
	g.BoolVar(&outside.Remove, "external-out", false, "take their external members out")
	g.StringVar(&outside.Domain, "external-at", "", "of their external members, those alone at this mail domain and below it")
	g.BoolVar(&outside.Alone, "external-unvouched", false, "of their external members, those alone for whom nobody vouches who is here")
	g.StringVar(&n.Start, "starting-point", "", "give them the whole policy, the traits and the texts of this starting point")
	g.BoolVar(&n.Retire, "retire", false, "retire them; they can be restored")
	g.BoolVar(&n.Restore, "restore", false, "restore them, with everything in them")
	g.BoolVar(&renewed, "renew", false, "begin their terms again")
	g.StringVar(&reason, "reason", "", "with --renew: why they are still needed, for the history")
	g.StringVar(&exempt.Reason, "exempt", "", "why no term rule is for them; empty gives them back to the rules")
	g.StringVar(&exempt.Until, "exempt-until", "", "the day on which to look at that again")
	g.StringVar(&hold, "hold", "", "put them under hold: why they are neither retired nor deleted for good")
	g.BoolVar(&n.Release, "release", false, "end the hold on them")
	expected := g.Int("expect", -1, "refuse it unless there are so many groups")
	c.PreRun = func(*cobra.Command, []string) {
		if *expected >= 0 {
			n.Expected = expected
		}
	}
	return c
}

func (a *app) changeSheet() *cobra.Command {
	var n api.GroupSheet
	c := &cobra.Command{
		Use: "sheet FILE", Short: "Give many groups what an edited export says of each; - reads what is piped in", Args: cobra.ExactArgs(1),
		Long:    "Give many groups what an edited export says of each. Write one with ivytable group export, edit it, and look at the difference\nwith --preview: it names the lines that can't be done by their numbers. Columns that are left out stay as they are.\nWhat it changes can be undone as one.",
		Example: "  ivytable group export --filter 'domain eq \"crew.merrowline.example\"' > crew.csv\n  ivytable change sheet crew.csv --preview\n  ivytable change sheet crew.csv",
	}
	later := leaves(c)
	a.changes(c, func(ctx context.Context, cl *client.Client, args []string) (err error) {
		if n.File, err = a.readFile(args[0]); err != nil {
			return err
		}
		b, err := cl.ApplySheet(ctx, n)
		if err != nil {
			return err
		}
		return a.follow(ctx, cl, b, *later)
	}, keyed)
	c.Flags().BoolVar(&n.LeaveOut, "leave-out", false, "leave lines out that can't be done, in place of refusing the sheet")
	return c
}

// follow shows how a change goes on, until it has ended.
func (a *app) follow(ctx context.Context, c *client.Client, b api.Bulk, later bool) error {
	for b.State == "running" && !later && b.ID != "" {
		a.progress(b.Come, int64(b.Total), false)
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(300 * time.Millisecond):
		}
		var err error
		if b, err = c.Change(ctx, b.ID); err != nil {
			return err
		}
	}
	a.progress(b.Come, int64(b.Total), true)
	if err := a.showBulk(b); err != nil {
		return err
	}
	if b.Refused > 0 || b.State == "stopped" {
		return fmt.Errorf("%s of %s could not be changed; see: ivytable change items %s --outcome refused", number(b.Refused), number(b.Total), b.ID)
	}
	return nil
}

func (a *app) showBulk(b api.Bulk) error {
	state := b.State
	if b.State == "running" {
		state = fmt.Sprintf("running, %s of %s so far", number(b.Come), number(b.Total))
	}
	undone := ""
	switch {
	case b.Undone != "":
		undone = "undone by " + b.Undone
	case b.MayUndo:
		undone = "ivytable change undo " + b.ID
	}
	return one(a, b, bulkColumns, fact{"Change", b.ID}, fact{"Does", b.Says}, fact{"State", strings.TrimSpace(state + " " + b.Reason)}, fact{"Changed", fmt.Sprintf("%s of %s", number(b.Changed), number(b.Total))},
		fact{"So already", number(b.Same)}, fact{"Refused", number(b.Refused)}, fact{"By", b.By}, fact{"Undo", undone})
}
