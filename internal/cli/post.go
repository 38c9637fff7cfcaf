package cli

import (
	"cmp"
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var waitingColumns = []column[api.Waiting]{
	{name: "id", value: func(w api.Waiting) any { return w.ID }, whole: true},
	{name: "kind", heading: "TO", value: func(w api.Waiting) any { return w.Kind }},
	{name: "group", value: func(w api.Waiting) any { return w.Group.Address }, show: func(w api.Waiting) string { return w.Group.Name }},
	{name: "who", value: func(w api.Waiting) any { return w.Who.Address }, show: func(w api.Waiting) string { return w.Who.Name }},
	{name: "proven", value: func(w api.Waiting) any { return w.Proven }, csvOnly: true},
	{name: "subject", heading: "ABOUT", value: func(w api.Waiting) any { return w.Subject }},
	{name: "says", value: func(w api.Waiting) any { return w.Says }, csvOnly: true},
	{name: "size", value: func(w api.Waiting) any { return w.Size }, csvOnly: true},
	{name: "at", heading: "SINCE", value: func(w api.Waiting) any { return w.At }, show: func(w api.Waiting) string { return dayOf(w.At) }, whole: true},
}

func (a *app) waitingCommands() *cobra.Command {
	var p paging
	var kinds []string
	show := a.reads(&cobra.Command{
		Use: "list [GROUP]", Short: "List what needs your decision: posts, requests, changes by rules, groups in others", Args: cobra.MaximumNArgs(1),
		Example: "  ivytable waiting list\n  ivytable waiting list night-dispatch@merrowline.example --kind post",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		return list(a, &p, func(p client.Paging) (api.Page[api.Waiting], error) {
			return c.Waiting(ctx, strings.Join(args, ""), kinds, p)
		}, waitingColumns)
	})
	show.Flags().StringSliceVar(&kinds, "kind", nil, "only these kinds: post, join, leave, rule, nest")
	paged(show, &p)
	return noun("waiting", "What needs your decision: list, show, approve, decline", show, a.waitingShow(),
		a.decides("waiting", "approve", "Pass posts on, let people in or out, let a rule have its way, let groups be in others", (*client.Client).DecideWaiting),
		a.decides("waiting", "decline", "Turn posts and requests away, keep whom a rule would let go", (*client.Client).DecideWaiting))
}

func (a *app) waitingShow() *cobra.Command {
	var because string
	c := a.reads(&cobra.Command{
		Use: "show ID", Short: "Read a message that waits for approval, as text", Args: cobra.ExactArgs(1),
		Long:    wrap("Read a message that waits for approval, as text. Administrators whom nobody else gave a part in its group say why; that is recorded, and its owners are told.", 0),
		Example: "  ivytable waiting show 01935c1e-7a10-7000-8000-3f1f2a9c5b11\n  ivytable waiting show 01935c1e-7a10-7000-8000-3f1f2a9c5b11 --reason 'Its author complained'",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		read := func() (api.HeldPost, error) { return c.HeldPost(ctx, args[0]) }
		if because != "" {
			read = func() (api.HeldPost, error) { return c.ReadHeldPost(ctx, args[0], because) }
		}
		p, err := read()
		if err != nil {
			return err
		}
		var files, why []string
		for _, f := range p.Files {
			files = append(files, fmt.Sprintf("%s (%s, %d bytes)", cmp.Or(f.Name, "without a name"), f.Type, f.Size))
		}
		for _, r := range p.Reasons {
			why = append(why, r.Says)
		}
		proven := "nothing proves who wrote it"
		if p.Proven {
			proven = "it is proven who wrote it"
		}
		if p.Cut {
			p.Text += "\n[There is more than is shown.]"
		}
		return a.facts(p, fact{"From", p.From}, fact{"", proven}, fact{"To", p.To}, fact{"Group", p.Group.Name}, fact{"Subject", p.Subject}, fact{"Date", p.Date},
			fact{"Why it waits", strings.Join(why, " ")}, fact{"Files", strings.Join(files, ", ")}, fact{"", p.Unreadable}, fact{"Text", "\n" + p.Text})
	})
	c.Flags().StringVar(&because, "reason", "", "why you read it, as an administrator without a part in the group")
	return c
}

var undeliveredColumns = []column[api.Undelivered]{
	{name: "id", value: func(u api.Undelivered) any { return u.ID }, whole: true},
	{name: "group", value: func(u api.Undelivered) any { return nameOf(u.Group).Address }, show: func(u api.Undelivered) string { return nameOf(u.Group).Name }},
	{name: "author", value: func(u api.Undelivered) any { return u.Author }, csvOnly: true},
	{name: "subject", value: func(u api.Undelivered) any { return u.Subject }},
	{name: "received_at", value: func(u api.Undelivered) any { return u.ReceivedAt }, csvOnly: true},
	{name: "handed_over", heading: "DONE", value: func(u api.Undelivered) any { return u.HandedOver }},
	{name: "failed", value: func(u api.Undelivered) any { return u.Failed }},
	{name: "next_at", heading: "NEXT", value: func(u api.Undelivered) any { return u.NextAt }, show: func(u api.Undelivered) string {
		if u.NextAt == nil {
			return "given up"
		}
		return u.NextAt.Format("15:04:05")
	}, whole: true},
	{name: "says", heading: "WHAT HAPPENED", value: func(u api.Undelivered) any { return u.Says }},
}

func nameOf(n *api.Name) api.Name {
	if n == nil {
		return api.Name{}
	}
	return *n
}

func (a *app) undeliveredCommands() *cobra.Command {
	var p paging
	show := a.reads(&cobra.Command{
		Use: "list [GROUP]", Short: "List mail that could not be handed to everybody, or not yet", Args: cobra.MaximumNArgs(1),
		Long:    "List mail that the mail system refused or put off, for all groups that you help to run or\nfor one. --output json has who was refused, and what the mail system said of each.",
		Example: "  ivytable undelivered list\n  ivytable undelivered list night-dispatch@merrowline.example --output json",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		return list(a, &p, func(p client.Paging) (api.Page[api.Undelivered], error) {
			return c.Undelivered(ctx, strings.Join(args, ""), p)
		}, undeliveredColumns)
	})
	paged(show, &p)
	retry := a.changes(&cobra.Command{
		Use: "retry ID...", Short: "Try mail again at once, also for those who were given up", Args: cobra.MinimumNArgs(1),
		Example: "  ivytable undelivered retry 01935c1e-7a10-7000-8000-3f1f2a9c5b11",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		done, err := c.RetryUndelivered(ctx, api.Retries{IDs: args})
		if err != nil {
			return err
		}
		return a.showDecided(done, "tried again")
	})
	return noun("undelivered", "Mail that did not reach everybody: list, retry", show, retry)
}

var postColumns = []column[api.Post]{
	{name: "id", value: func(p api.Post) any { return p.ID }, whole: true},
	{name: "received_at", heading: "CAME IN", value: func(p api.Post) any { return p.ReceivedAt }, show: func(p api.Post) string { return moment(p.ReceivedAt) }, whole: true},
	{name: "author", value: func(p api.Post) any { return p.Author }},
	{name: "subject", value: func(p api.Post) any { return p.Subject }},
	{name: "state", value: func(p api.Post) any { return p.State }, csvOnly: true},
	{name: "handed_over", value: func(p api.Post) any { return p.HandedOver }, csvOnly: true},
	{name: "failed", value: func(p api.Post) any { return p.Failed }, csvOnly: true},
	{name: "says", heading: "WHAT BECAME OF IT", value: func(p api.Post) any { return p.Says }, runs: true},
}

var deliveryStates = map[string]string{"handed_over": "handed over", "returned": "came back", "refused": "refused", "trying": "tried again", "waiting": "waits"}

var deliveryColumns = []column[api.Delivery]{
	{name: "recipient", value: func(d api.Delivery) any { return d.Recipient }},
	{name: "state", value: func(d api.Delivery) any { return d.State }, show: func(d api.Delivery) string { return deliveryStates[d.State] }, whole: true},
	{name: "at", heading: "WHEN", value: func(d api.Delivery) any { return d.At }, show: func(d api.Delivery) string {
		if d.At == nil {
			return ""
		}
		return moment(*d.At)
	}, whole: true},
	{name: "next_at", value: func(d api.Delivery) any { return d.NextAt }, csvOnly: true},
	{name: "attempts", heading: "TRIED", value: func(d api.Delivery) any { return d.Attempts }},
	{name: "reply", heading: "THE MAIL SYSTEM SAID", value: func(d api.Delivery) any { return d.Reply }, runs: true},
}

// postCommands are those about what became of messages to groups.
func (a *app) postCommands() *cobra.Command {
	var p, of paging
	var to, recipient, state string
	all := a.reads(&cobra.Command{Use: "list GROUP", Short: "List messages to a group, and what became of each", Args: cobra.ExactArgs(1),
		Long:    wrap("List messages to a group, newest first: all, for those who decide about its posts; for others those that they wrote, and those that were to reach them. They are kept for 30 days.", 0),
		Example: "  ivytable post list night-dispatch@merrowline.example\n  ivytable post list night-dispatch@merrowline.example --to tove.alder@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			return list(a, &p, func(p client.Paging) (api.Page[api.Post], error) { return c.Posts(ctx, args[0], to, p) }, postColumns)
		})
	all.Flags().StringVar(&to, "to", "", "those alone that were to reach this address")
	paged(all, &p)
	deliveries := a.reads(&cobra.Command{Use: "deliveries POST", Short: "List what became of a message for each whom it was to reach", Args: cobra.ExactArgs(1),
		Example: "  ivytable post deliveries 01935c1e-7a10-7000-8000-3f1f2a9c5b11\n  ivytable post deliveries 01935c1e-7a10-7000-8000-3f1f2a9c5b11 --state refused --output csv"},
		func(ctx context.Context, c *client.Client, args []string) error {
			return list(a, &of, func(p client.Paging) (api.Page[api.Delivery], error) {
				return c.Deliveries(ctx, args[0], recipient, state, p)
			}, deliveryColumns)
		})
	deliveries.Flags().StringVar(&recipient, "to", "", "of this address alone")
	deliveries.Flags().StringVar(&state, "state", "", "those alone: handed_over, returned, refused, trying, waiting")
	paged(deliveries, &of)
	again := a.changes(&cobra.Command{Use: "again POST ADDRESS", Short: "Send a message again to one of those whom it was to reach", Args: cobra.ExactArgs(2),
		Example: "  ivytable post again 01935c1e-7a10-7000-8000-3f1f2a9c5b11 tove.alder@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			d, err := c.SendAgain(ctx, args[0], args[1])
			if err != nil {
				return err
			}
			return a.done(d, "It goes to %s again. Look: ivytable post deliveries %s --to %s", d.Recipient, args[0], d.Recipient)
		})
	return noun("post", "What became of messages to groups: list, deliveries, again", all, deliveries, again)
}
