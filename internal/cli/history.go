package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var historyColumns = []column[api.HistoryEntry]{
	{name: "id", heading: "ENTRY", value: func(e api.HistoryEntry) any { return e.ID }, whole: true},
	{name: "at", heading: "WHEN", value: func(e api.HistoryEntry) any { return e.At }, whole: true},
	{name: "kind", value: func(e api.HistoryEntry) any { return e.Kind }, csvOnly: true},
	{name: "actor", value: func(e api.HistoryEntry) any { return e.Actor.Address }, csvOnly: true},
	{name: "via", value: func(e api.HistoryEntry) any { return e.Via }, csvOnly: true},
	{name: "group", value: func(e api.HistoryEntry) any {
		if e.Group == nil {
			return ""
		}
		return e.Group.Address
	}, csvOnly: true},
	{name: "change_id", value: func(e api.HistoryEntry) any { return e.ChangeID }, csvOnly: true},
	{name: "says", heading: "WHAT HAPPENED", value: func(e api.HistoryEntry) any { return e.Says }, runs: true},
}

var affectedColumns = []column[api.Affected]{
	{name: "name", value: func(x api.Affected) any { return x.Name }},
	{name: "address", value: func(x api.Affected) any { return x.Address }, whole: true},
	{name: "was", value: func(x api.Affected) any { return x.Was }},
	{name: "now", value: func(x api.Affected) any { return x.Now }},
}

func (a *app) historyCommands() *cobra.Command {
	var p, of paging
	var f filtering
	all := a.reads(&cobra.Command{
		Use: "list [GROUP]", Short: "List what changed, newest first", Args: cobra.MaximumNArgs(1),
		Example: "  ivytable history list\n  ivytable history list night-dispatch@merrowline.example --all\n  ivytable history list --filter 'kind eq \"group.retire\" and at gt \"2026-11-01T00:00:00Z\"'",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		filter, err := f.of(ctx, c)
		if err != nil {
			return err
		}
		return list(a, &p, func(p client.Paging) (api.Page[api.HistoryEntry], error) {
			return c.History(ctx, strings.Join(args, ""), filter, p)
		}, historyColumns)
	})
	paged(all, &p)
	a.filtered(all, "history", &f, new(string), `kind eq "people.add"`)
	var exported filtering
	export := a.exports(&cobra.Command{Use: "export", Short: "Write all that changed, newest first", Args: cobra.NoArgs, Example: "  ivytable history export --filter 'actor eq \"ines.skerry@merrowline.example\"' > history.csv"},
		func(ctx context.Context, c *client.Client, _ []string, format string) error {
			filter, err := exported.of(ctx, c)
			if err != nil {
				return err
			}
			return c.ExportHistory(ctx, filter, format, a.out)
		})
	a.filtered(export, "history", &exported, new(string), `kind eq "people.add"`)
	show := a.reads(&cobra.Command{Use: "show ENTRY", Short: "Show one entry: what changed, and how it can be undone", Args: cobra.ExactArgs(1), Example: "  ivytable history show 214"},
		func(ctx context.Context, c *client.Client, args []string) error {
			id, err := entryOf(args[0])
			if err != nil {
				return err
			}
			e, err := c.HistoryEntry(ctx, id)
			if err != nil {
				return err
			}
			affected, err := c.Affected(ctx, id, client.Paging{Limit: 5})
			if err != nil {
				return err
			}
			return a.showEntry(e, affected)
		})
	affected := a.reads(&cobra.Command{Use: "affected ENTRY", Short: "List everybody whom an entry affected", Args: cobra.ExactArgs(1), Example: "  ivytable history affected 214"},
		func(ctx context.Context, c *client.Client, args []string) error {
			id, err := entryOf(args[0])
			if err != nil {
				return err
			}
			return list(a, &of, func(p client.Paging) (api.Page[api.Affected], error) { return c.Affected(ctx, id, p) }, affectedColumns)
		})
	paged(affected, &of)
	undo := a.changes(&cobra.Command{Use: "undo ENTRY", Short: "Take back what an entry did, where nothing was changed since", Args: cobra.ExactArgs(1), Example: "  ivytable history undo 214 --preview"},
		func(ctx context.Context, c *client.Client, args []string) error {
			id, err := entryOf(args[0])
			if err != nil {
				return err
			}
			u, err := c.UndoEntry(ctx, id)
			if err != nil {
				return err
			}
			if u.Change != "" {
				return a.done(u, "%s Look: ivytable change show %s", u.Says, u.Change)
			}
			return a.done(u, "%s", u.Says)
		})
	return noun("history", "Who changed what: list, export, show, affected, undo, seal, verify, keeping, keep", all, export, show, affected, undo, a.historySeal(), a.historyVerify(), a.historyKeeping(), a.historyKeep())
}

func entryOf(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, usagef("an entry is named by its number, not %q", text)
	}
	return id, nil
}

func (a *app) showEntry(e api.HistoryEntry, affected api.Page[api.Affected]) error {
	facts := []fact{{"Entry", fmt.Sprint(e.ID)}, {"When", moment(e.At)}, {"What", e.Says}, {"By way of", e.Via}}
	for i, c := range e.Changes {
		name := ""
		if i == 0 {
			name = "Changed"
		}
		facts = append(facts, fact{name, changeText(c)})
	}
	var who []string
	for _, x := range affected.Items {
		text := x.Address
		if x.Was != "" || x.Now != "" {
			text += fmt.Sprintf(" (%s → %s)", orNone(x.Was), orNone(x.Now))
		}
		who = append(who, text)
	}
	if n := int(affected.Total) - len(who); n > 0 {
		who = append(who, fmt.Sprintf("and %s more: ivytable history affected %d", number(n), e.ID))
	}
	undo := "Undo"
	if !e.Undo.Possible {
		undo = "No undo"
	}
	facts = append(facts, fact{"Affected", strings.Join(who, ", ")}, fact{undo, e.Undo.Says}, fact{"Change", e.ChangeID}, fact{"Request", e.Request})
	return one(a, e, historyColumns, facts...)
}

func changeText(c api.Change) string {
	text := fmt.Sprintf("%s: %s → %s", c.Label, orNone(inWords(c.From)), orNone(inWords(c.To)))
	if c.Says != "" {
		text += ". " + c.Says
	}
	return text
}

func changesText(changes []api.Change) string {
	var parts []string
	for _, c := range changes {
		parts = append(parts, changeText(c))
	}
	return strings.Join(parts, "; ")
}

func (a *app) historySeal() *cobra.Command {
	return a.reads(&cobra.Command{Use: "seal", Short: "Print the last seal of the history, to be kept elsewhere", Args: cobra.NoArgs,
		Long:    wrap("Print the last seal of the history. Whoever keeps it elsewhere, on paper or in a mail, can prove later that nothing before it was changed: ivytable history verify --kept.", 0),
		Example: "  ivytable history seal >> seals.txt"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			s, err := c.Seal(ctx)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return one(a, s, sealColumns)
			}
			fmt.Fprintf(a.out, "%d %s\n", s.Place, s.Seal)
			return nil
		})
}

var sealColumns = []column[api.Seal]{
	{name: "place", value: func(s api.Seal) any { return s.Place }},
	{name: "entry", value: func(s api.Seal) any { return s.Entry }},
	{name: "seal", value: func(s api.Seal) any { return s.Seal }},
}

var faultColumns = []column[api.SealFault]{
	{name: "place", value: func(f api.SealFault) any { return f.Place }},
	{name: "entry", value: func(f api.SealFault) any { return f.Entry }},
	{name: "kind", heading: "FAULT", value: func(f api.SealFault) any { return f.Kind }},
	{name: "says", value: func(f api.SealFault) any { return f.Says }, runs: true},
}

func (a *app) historyVerify() *cobra.Command {
	var kept []string
	c := a.reads(&cobra.Command{Use: "verify", Short: "Go along the whole history, and say what is not as it was", Args: cobra.NoArgs,
		Long:    wrap("Go along the whole history. Each entry was sealed after the one before it, so it shows where one was edited, taken out, put in or moved, and from where on nothing is proven. With a seal that was kept elsewhere it shows, too, where the end was made anew.", 0),
		Example: "  ivytable history verify\n  ivytable history verify --kept \"104211 5f1c0a...\""},
		func(ctx context.Context, c *client.Client, _ []string) error {
			var seals []api.KeptSeal
			for _, k := range kept {
				place, seal, found := strings.Cut(strings.TrimSpace(k), " ")
				n, err := strconv.ParseInt(place, 10, 64)
				if !found || err != nil || n < 1 {
					return usagef("a kept seal is written as it was printed: its place, a space, and the seal")
				}
				seals = append(seals, api.KeptSeal{Place: n, Seal: strings.TrimSpace(seal)})
			}
			v, err := c.VerifyHistory(ctx, seals...)
			if err != nil {
				return err
			}
			if a.output != "table" || v.Total > 0 {
				if err := printAll(a, v, v.Faults, faultColumns); err != nil {
					return err
				}
			}
			if v.Total > 0 {
				return fmt.Errorf("%s", v.Says)
			}
			return a.done(v, "%s", v.Says)
		})
	c.Flags().StringArrayVar(&kept, "kept", nil, "a seal that was kept elsewhere, as it was printed; repeat for more")
	return c
}

func keepingFacts(k api.HistoryKeeping) []fact {
	long := "for good"
	if k.Months > 0 {
		long = plural(k.Months, "month")
	}
	seals := "to nobody"
	if len(k.SealsTo) > 0 {
		seals = "each " + k.Every + ", to " + strings.Join(k.SealsTo, ", ")
	}
	return []fact{{"Kept", long}, {"Seals mailed", seals}, {"Oldest entry", inWords(k.From)}}
}

func (a *app) historyKeeping() *cobra.Command {
	return a.reads(&cobra.Command{Use: "keeping", Short: "Show for how long the history is kept, and who gets its seals", Args: cobra.NoArgs, Example: "  ivytable history keeping"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			k, err := c.HistoryKeeping(ctx)
			if err != nil {
				return err
			}
			return a.facts(k, keepingFacts(k)...)
		})
}

func (a *app) historyKeep() *cobra.Command {
	var months int
	var to listFlags
	var every string
	c := &cobra.Command{Use: "keep", Short: "Change for how long the history is kept, and who gets its seals", Args: cobra.NoArgs,
		Long:    wrap("Change for how many months the history is kept, and who gets its last seal by mail. What is older is forgotten at night; the chain of seals can be followed from there on. What is not given stays.", 0),
		Example: "  ivytable history keep --months 84 --preview\n  ivytable history keep --add-recipient signe.holm@merrowline.example --every week"}
	f := c.Flags()
	f.IntVar(&months, "months", 0, "for how many months it is kept, 12 at least; 0: for good")
	to.flags(f, "recipient", "address of somebody of the workspace who gets the seals")
	f.StringVar(&every, "every", "", "how often they get one: day, week, month")
	return a.changes(c, func(ctx context.Context, c *client.Client, _ []string) error {
		k, err := c.HistoryKeeping(ctx)
		if err != nil {
			return err
		}
		if f.Changed("months") {
			k.Months = months
		}
		if k.SealsTo, err = to.edit(k.SealsTo); err != nil {
			return err
		}
		if f.Changed("every") {
			k.Every = every
		}
		version, from := strconv.Quote(fmt.Sprint(k.Version)), k.From
		k.From = ""
		if k, err = c.Guarded(version).SetHistoryKeeping(ctx, k); err != nil {
			return err
		}
		k.From = from
		return a.facts(k, keepingFacts(k)...)
	})
}
