package cli

import (
	"context"
	"fmt"
	"path"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

func (a *app) requestCommands() *cobra.Command {
	var paging client.Paging
	var mine bool
	list := &cobra.Command{
		Use: "list [GROUP]", Short: "List requests to join or leave that wait for you", Args: cobra.MaximumNArgs(1),
		Example: "  ivytable request list\n  ivytable request list choir@merrowline.example\n  ivytable request list --mine",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Requests(ctx, strings.Join(args, ""), mine, paging)
			if err != nil {
				return err
			}
			rows := make([][]string, len(p.Items))
			for i, r := range p.Items {
				rows[i] = []string{r.ID, r.Kind, r.Group.Name, r.Person.Name, r.State, r.MadeAt.Format("2 Jan 2006"), r.Note}
			}
			if err := a.list(p, []string{"ID", "TO", "GROUP", "WHO", "STATE", "SINCE", "NOTE"}, rows); err != nil {
				return err
			}
			a.more(p.Next, len(p.Items), p.Total)
			return nil
		}),
	}
	paged(list, &paging)
	list.Flags().BoolVar(&mine, "mine", false, "those that you made, in every state")
	decide := func(verdict, short string) *cobra.Command {
		var reason string
		c := &cobra.Command{
			Use: verdict + " ID...", Short: short, Args: cobra.MinimumNArgs(1),
			Example: fmt.Sprintf("  ivytable request %s 01935c1e-7a10-7000-8000-3f1f2a9c5b11 --reason \"Thursdays, 18:30\"", verdict),
			RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
				done, err := c.DecideRequests(ctx, api.Decisions{Requests: args, Verdict: verdict, Reason: reason})
				if err != nil {
					return err
				}
				rows := make([][]string, len(done))
				refused := 0
				for i, d := range done {
					rows[i] = []string{d.Person, d.Group, d.Outcome, d.Says}
					if d.Outcome == "refused" {
						refused++
					}
				}
				if err := a.list(done, []string{"WHO", "GROUP", "OUTCOME", "WHY"}, rows); err != nil {
					return err
				}
				if refused > 0 {
					return fmt.Errorf("%d of %d could not be decided; they are listed with the reason", refused, len(done))
				}
				return nil
			}),
		}
		c.Flags().StringVar(&reason, "reason", "", "why, mailed to whoever asked")
		return c
	}
	withdraw := &cobra.Command{
		Use: "withdraw ID", Short: "Take back a request of yours", Args: cobra.ExactArgs(1), Example: "  ivytable request withdraw 01935c1e-7a10-7000-8000-3f1f2a9c5b11",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			return c.WithdrawRequest(ctx, args[0])
		}),
	}
	return noun("request", "Requests to join or leave: list, approve, decline, withdraw", list,
		decide("approve", "Approve requests; who asked is told by mail"), decide("decline", "Decline requests; who asked is told by mail"), withdraw)
}

// secret is the last part of a link, which may be given whole.
func secret(link string) string { return path.Base(strings.TrimSpace(link)) }

func (a *app) showOffer(o api.Offer) error {
	return a.facts(o, [2]string{"Group", o.Group.Name + " <" + o.Group.Address + ">"}, [2]string{"For", o.Description}, [2]string{"Reach", o.Sentence},
		[2]string{"Owners", strings.Join(o.Owners, ", ")}, [2]string{"Sent to", o.For}, [2]string{"By", o.By}, [2]string{"State", o.State}, [2]string{"Says", o.Says}, [2]string{"Ends", day(&o.ExpiresAt, nil)})
}

func (a *app) invitationCommands() *cobra.Command {
	var paging client.Paging
	list := &cobra.Command{
		Use: "list GROUP", Short: "List invitations that were not answered", Args: cobra.ExactArgs(1), Example: "  ivytable invitation list harbour-liaison@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.Invitations(ctx, args[0], paging)
			if err != nil {
				return err
			}
			rows := make([][]string, len(p.Items))
			for i, x := range p.Items {
				rows[i] = []string{x.Address, x.Role, x.MadeBy, x.MadeAt.Format("2 Jan 2006"), x.ExpiresAt.Format("2 Jan 2006")}
			}
			if err := a.list(p, []string{"ADDRESS", "AS", "BY", "SINCE", "EXPIRES"}, rows); err != nil {
				return err
			}
			a.more(p.Next, len(p.Items), p.Total)
			return nil
		}),
	}
	paged(list, &paging)
	back := &cobra.Command{
		Use: "call-back GROUP ADDRESS", Short: "End an invitation before it is answered", Args: cobra.ExactArgs(2),
		Example: "  ivytable invitation call-back harbour-liaison@merrowline.example pilot@gannetport.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			return c.CallBackInvitation(ctx, args[0], args[1])
		}),
	}
	show := &cobra.Command{
		Use: "show LINK", Short: "Show what an invitation is to; nothing happens", Args: cobra.ExactArgs(1), Example: "  ivytable invitation show http://127.0.0.1:8480/invitations/…",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			o, err := c.Invitation(ctx, secret(args[0]))
			if err != nil {
				return err
			}
			return a.showOffer(o)
		}),
	}
	answer := func(verb, short string) *cobra.Command {
		return &cobra.Command{Use: verb + " LINK", Short: short, Args: cobra.ExactArgs(1), Example: "  ivytable invitation " + verb + " http://127.0.0.1:8480/invitations/…",
			RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
				o, err := c.AnswerInvitation(ctx, secret(args[0]), verb)
				if err != nil {
					return err
				}
				return a.showOffer(o)
			})}
	}
	return noun("invitation", "Invitations into a group: list, call back, show, accept, decline", list, back, show, answer("accept", "Accept an invitation"), answer("decline", "Decline an invitation"))
}

func (a *app) linkCommands() *cobra.Command {
	list := &cobra.Command{
		Use: "list GROUP", Short: "List the links by which people enter a group", Args: cobra.ExactArgs(1), Example: "  ivytable link list choir@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			all, err := c.JoinLinks(ctx, args[0])
			if err != nil {
				return err
			}
			rows := make([][]string, len(all))
			for i, l := range all {
				rows[i] = []string{l.ID, l.Note, uses(l), l.MadeBy, l.ExpiresAt.Format("2 Jan 2006")}
			}
			return a.list(all, []string{"ID", "FOR", "USED", "BY", "EXPIRES"}, rows)
		}),
	}
	var n api.NewJoinLink
	create := &cobra.Command{
		Use: "create GROUP", Short: "Make a link by which people enter a group; it is shown once", Args: cobra.ExactArgs(1),
		Example: "  ivytable link create choir@merrowline.example --days 7 --most 20 --note \"Notice board\"",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			l, err := c.CreateJoinLink(ctx, args[0], n)
			if err != nil {
				return err
			}
			return a.facts(l, [2]string{"Link", l.URL}, [2]string{"Used", uses(l)}, [2]string{"Ends", day(&l.ExpiresAt, nil)})
		}),
	}
	create.Flags().IntVar(&n.Days, "days", 14, "for how long it can be used, 365 at most")
	create.Flags().IntVar(&n.Most, "most", 0, "for how many people; 0 for any number")
	create.Flags().StringVar(&n.Note, "note", "", "whom it is for")
	back := &cobra.Command{
		Use: "call-back GROUP ID", Short: "End a link at once", Args: cobra.ExactArgs(2), Example: "  ivytable link call-back choir@merrowline.example 01935c1e-7a10-7000-8000-3f1f2a9c5b11",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			return c.CallBackJoinLink(ctx, args[0], args[1])
		}),
	}
	use := &cobra.Command{
		Use: "use LINK", Short: "Enter a group by a link", Args: cobra.ExactArgs(1), Example: "  ivytable link use http://127.0.0.1:8480/join/…",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			w, err := c.UseJoinLink(ctx, secret(args[0]))
			if err != nil {
				return err
			}
			return a.facts(w, [2]string{"Done:", w.Says})
		}),
	}
	return noun("link", "Links into a group: list, create, call back, use", list, create, back, use)
}

func uses(l api.JoinLink) string {
	if l.Most == 0 {
		return fmt.Sprint(l.Uses)
	}
	return fmt.Sprintf("%d of %d", l.Uses, l.Most)
}

func (a *app) standingCommands() *cobra.Command {
	list := &cobra.Command{
		Use: "list GROUP", Short: "List who is barred from a group, trusted or held", Args: cobra.ExactArgs(1), Example: "  ivytable standing list choir@merrowline.example",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			all, err := c.Standings(ctx, args[0])
			if err != nil {
				return err
			}
			rows := make([][]string, len(all))
			for i, s := range all {
				rows[i] = []string{s.Address, s.Standing, s.By, s.At.Format("2 Jan 2006"), s.Reason}
			}
			return a.list(all, []string{"ADDRESS", "IS", "BY", "SINCE", "WHY"}, rows)
		}),
	}
	var reason string
	set := &cobra.Command{
		Use: "set GROUP ADDRESS STANDING", Short: "Bar an address, trust it, hold it, or take that back", Args: cobra.ExactArgs(3),
		Long:    "STANDING is barred (neither in the group nor writing to it), trusted (mail is never held),\nheld (mail always waits) or none (as the policy says).",
		Example: "  ivytable standing set questions@merrowline.example prize@lucky-draw.example barred --reason \"Sends advertising\"",
		RunE: a.run(func(ctx context.Context, c *client.Client, args []string) error {
			return c.SetStanding(ctx, args[0], args[1], api.NewStanding{Standing: args[2], Reason: reason})
		}),
	}
	set.Flags().StringVar(&reason, "reason", "", "why, for those who run the group")
	return noun("standing", "What is settled about people in a group: list, set", list, set)
}
