package cli

import (
	"context"
	"fmt"
	"os"
	"path"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

// asking makes a command that joins or leaves a group, or asks to.
func (a *app) asking(use, short, example string, ask func(*client.Client, context.Context, string, api.JoinRequest) (api.JoinResult, error)) *cobra.Command {
	var r api.JoinRequest
	c := a.changes(&cobra.Command{Use: use, Short: short, Args: cobra.ExactArgs(1), Example: example},
		func(ctx context.Context, c *client.Client, args []string) error {
			done, err := ask(c, ctx, args[0], r)
			if err != nil {
				return err
			}
			return a.done(done, "%s", done.Says)
		}, keyed)
	c.Flags().StringVar(&r.Note, "note", "", "what to say to whoever decides")
	return c
}

func (a *app) groupJoin() *cobra.Command {
	return a.asking("join GROUP", "Join a group, or ask to", "  ivytable group join choir@merrowline.example", (*client.Client).Join)
}

func (a *app) groupLeave() *cobra.Command {
	var sure bool
	c := a.asking("leave GROUP", "Leave a group, or ask to", "  ivytable group leave choir@merrowline.example", func(c *client.Client, ctx context.Context, group string, r api.JoinRequest) (api.JoinResult, error) {
		if err := a.askOwner(ctx, c, group, sure); err != nil {
			return api.JoinResult{}, err
		}
		return c.Leave(ctx, group, r)
	})
	sureFlag(c, &sure)
	return c
}

func sureFlag(c *cobra.Command, sure *bool) {
	c.Flags().BoolVar(sure, "yes", false, "don't ask whether an owner or moderator means to leave")
}

// askOwner asks somebody who runs a group whether they mean to leave it.
func (a *app) askOwner(ctx context.Context, c *client.Client, group string, sure bool) error {
	if sure || c.Looks() {
		return nil
	}
	p, err := c.MyPart(ctx, group)
	if err != nil || p.Role != "owner" && p.Role != "moderator" {
		return err
	}
	if f, ok := a.in.(*os.File); !ok || !term.IsTerminal(int(f.Fd())) {
		return usagef("you are %s of %s and would no longer run it: say --yes if you mean it", withArticle(p.Role), p.Group.Name)
	}
	fmt.Fprintf(a.err, "You are %s of %s and would no longer run it. Leave it? [y/N] ", withArticle(p.Role), p.Group.Name)
	var answer string
	if _, err := fmt.Fscanln(a.in, &answer); err != nil || !strings.HasPrefix(strings.ToLower(answer), "y") {
		return fmt.Errorf("nothing was changed")
	}
	return nil
}

// withArticle names a role in a sentence.
func withArticle(role string) string {
	if role == "owner" {
		return "an owner"
	}
	return "a " + role
}

var requestColumns = []column[api.Request]{
	{name: "id", value: func(r api.Request) any { return r.ID }, whole: true},
	{name: "kind", heading: "TO", value: func(r api.Request) any { return r.Kind }},
	{name: "group", value: func(r api.Request) any { return r.Group.Address }, show: func(r api.Request) string { return r.Group.Name }},
	{name: "person", heading: "WHO", value: func(r api.Request) any { return r.Person.Address }, show: func(r api.Request) string { return r.Person.Name }},
	{name: "state", value: func(r api.Request) any { return r.State }},
	{name: "made_at", heading: "SINCE", value: func(r api.Request) any { return r.MadeAt }, show: func(r api.Request) string { return dayOf(r.MadeAt) }, whole: true},
	{name: "note", value: func(r api.Request) any { return r.Note }},
	{name: "decided_by", value: func(r api.Request) any { return r.DecidedBy }, csvOnly: true},
	{name: "decided_at", value: func(r api.Request) any { return r.DecidedAt }, csvOnly: true},
}

func (a *app) requestCommands() *cobra.Command {
	var p paging
	var mine bool
	show := a.reads(&cobra.Command{
		Use: "list [GROUP]", Short: "List requests to join or leave that wait for you", Args: cobra.MaximumNArgs(1),
		Example: "  ivytable request list\n  ivytable request list choir@merrowline.example\n  ivytable request list --mine",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		return list(a, &p, func(p client.Paging) (api.Page[api.Request], error) {
			return c.Requests(ctx, strings.Join(args, ""), mine, p)
		}, requestColumns)
	})
	paged(show, &p)
	show.Flags().BoolVar(&mine, "mine", false, "those that you made, in every state")
	withdraw := a.changes(&cobra.Command{Use: "withdraw ID", Short: "Take back a request of yours", Args: cobra.ExactArgs(1), Example: "  ivytable request withdraw 01935c1e-7a10-7000-8000-3f1f2a9c5b11"},
		func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.WithdrawRequest(ctx, args[0]); err != nil {
				return err
			}
			return a.done(nil, "Your request is taken back.")
		})
	return noun("request", "Requests to join or leave: list, approve, decline, withdraw", show,
		a.decides("request", "approve", "Approve requests; who asked is told by mail", (*client.Client).DecideRequests),
		a.decides("request", "decline", "Decline requests; who asked is told by mail", (*client.Client).DecideRequests), withdraw)
}

var decidedColumns = []column[api.Decided]{
	{name: "id", value: func(d api.Decided) any { return d.ID }, csvOnly: true},
	{name: "person", heading: "WHO", value: func(d api.Decided) any { return d.Person }},
	{name: "group", value: func(d api.Decided) any { return d.Group }},
	{name: "subject", value: func(d api.Decided) any { return d.Subject }},
	{name: "outcome", value: func(d api.Decided) any { return d.Outcome }, whole: true},
	{name: "says", heading: "WHY", value: func(d api.Decided) any { return d.Says }, runs: true},
}

// decides makes a command that approves or declines several requests or posts.
func (a *app) decides(noun, verdict, short string, decide func(*client.Client, context.Context, api.Decisions) (api.DecidedAll, error)) *cobra.Command {
	var reason, consent string
	var author bool
	c := a.changes(&cobra.Command{
		Use: verdict + " ID...", Short: short, Args: cobra.MinimumNArgs(1),
		Example: fmt.Sprintf("  ivytable %s %s 01935c1e-7a10-7000-8000-3f1f2a9c5b11 --reason \"Thursdays, 18:30\"", noun, verdict),
	}, func(ctx context.Context, c *client.Client, args []string) error {
		d := api.Decisions{IDs: args, Verdict: verdict, Reason: reason, Consent: consent}
		if author {
			d.Author = map[string]string{"approve": "trust", "decline": "bar"}[verdict]
		}
		done, err := decide(c, ctx, d)
		if err != nil {
			return err
		}
		return a.showDecided(done, "decided")
	})
	c.Flags().StringVar(&reason, "reason", "", "why, mailed to whoever asked or wrote")
	switch {
	case noun == "waiting" && verdict == "decline":
		c.Flags().BoolVar(&author, "bar", false, "of posts: bar their authors from the group, too")
	case noun == "waiting":
		c.Flags().BoolVar(&author, "trust", false, "of posts: mail of their authors never waits in the group from now on")
		c.Flags().StringVar(&consent, "consent", "", "of groups that would be in others: whether their people are seen there, or only counted; counted when left out")
	}
	return c
}

// showDecided says what became of each, and fails where one could not be done, which what
// names.
func (a *app) showDecided(done api.DecidedAll, what string) error {
	if err := printAll(a, done, done.Results, decidedColumns); err != nil {
		return err
	}
	if no := len(done.Results) - done.Decided; no > 0 {
		return fmt.Errorf("%d of %d could not be %s; they are listed with the reason", no, len(done.Results), what)
	}
	return nil
}

// secret is the last part of a link, which may be given whole.
func secret(link string) string { return path.Base(strings.TrimSpace(link)) }

func (a *app) showLink(l api.LinkPreview) error {
	return a.facts(l, fact{"Group", l.Group.Name + " <" + l.Group.Address + ">"}, fact{"For", l.Description}, fact{"Reach", l.Sentence},
		fact{"Owners", strings.Join(l.Owners, ", ")}, fact{"Sent to", l.For}, fact{"By", l.By}, fact{"State", l.State}, fact{"Says", l.Says}, fact{"Ends", dayOf(l.ExpiresAt)})
}

var invitationColumns = []column[api.Invitation]{
	{name: "id", value: func(i api.Invitation) any { return i.ID }, csvOnly: true},
	{name: "address", value: func(i api.Invitation) any { return i.Address }, whole: true},
	{name: "role", heading: "AS", value: func(i api.Invitation) any { return i.Role }},
	{name: "made_by", heading: "BY", value: func(i api.Invitation) any { return i.MadeBy }},
	{name: "made_at", heading: "SINCE", value: func(i api.Invitation) any { return i.MadeAt }, show: func(i api.Invitation) string { return dayOf(i.MadeAt) }, whole: true},
	{name: "expires_at", heading: "EXPIRES", value: func(i api.Invitation) any { return i.ExpiresAt }, show: func(i api.Invitation) string { return dayOf(i.ExpiresAt) }, whole: true},
}

func (a *app) invitationCommands() *cobra.Command {
	var p paging
	show := a.reads(&cobra.Command{Use: "list GROUP", Short: "List invitations that were not answered", Args: cobra.ExactArgs(1), Example: "  ivytable invitation list harbour-liaison@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			return list(a, &p, func(p client.Paging) (api.Page[api.Invitation], error) { return c.Invitations(ctx, args[0], p) }, invitationColumns)
		})
	paged(show, &p)
	back := a.changes(&cobra.Command{
		Use: "call-back GROUP ADDRESS", Short: "End an invitation before it is answered", Args: cobra.ExactArgs(2),
		Example: "  ivytable invitation call-back harbour-liaison@merrowline.example pilot@gannetport.example",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		if err := c.CallBackInvitation(ctx, args[0], args[1]); err != nil {
			return err
		}
		return a.done(nil, "The invitation of %s to %s is called back.", args[1], args[0])
	})
	single := a.reads(&cobra.Command{Use: "show LINK", Short: "Show what an invitation is to; nothing happens", Args: cobra.ExactArgs(1), Example: "  ivytable invitation show http://127.0.0.1:8480/invitations/…"},
		func(ctx context.Context, c *client.Client, args []string) error {
			l, err := c.Invitation(ctx, secret(args[0]))
			if err != nil {
				return err
			}
			return a.showLink(l)
		})
	answer := func(verb, short string) *cobra.Command {
		return a.changes(&cobra.Command{Use: verb + " LINK", Short: short, Args: cobra.ExactArgs(1), Example: "  ivytable invitation " + verb + " http://127.0.0.1:8480/invitations/…"},
			func(ctx context.Context, c *client.Client, args []string) error {
				l, err := c.AnswerInvitation(ctx, secret(args[0]), verb)
				if err != nil {
					return err
				}
				return a.showLink(l)
			})
	}
	return noun("invitation", "Invitations into a group: list, call back, show, accept, decline", show, back, single, answer("accept", "Accept an invitation"), answer("decline", "Decline an invitation"))
}

var joinLinkColumns = []column[api.JoinLink]{
	{name: "id", value: func(l api.JoinLink) any { return l.ID }, whole: true},
	{name: "note", heading: "FOR", value: func(l api.JoinLink) any { return l.Note }},
	{name: "uses", heading: "USED", value: func(l api.JoinLink) any { return l.Uses }, show: uses},
	{name: "max", value: func(l api.JoinLink) any { return l.Max }, csvOnly: true},
	{name: "made_by", heading: "BY", value: func(l api.JoinLink) any { return l.MadeBy }},
	{name: "expires_at", heading: "EXPIRES", value: func(l api.JoinLink) any { return l.ExpiresAt }, show: func(l api.JoinLink) string { return dayOf(l.ExpiresAt) }, whole: true},
	{name: "url", value: func(l api.JoinLink) any { return l.URL }, csvOnly: true},
}

func uses(l api.JoinLink) string {
	if l.Max == 0 {
		return fmt.Sprint(l.Uses)
	}
	return fmt.Sprintf("%d of %d", l.Uses, l.Max)
}

func (a *app) joinLinkCommands() *cobra.Command {
	var p paging
	show := a.reads(&cobra.Command{Use: "list GROUP", Short: "List the links by which people enter a group", Args: cobra.ExactArgs(1), Example: "  ivytable join-link list choir@merrowline.example"},
		func(ctx context.Context, c *client.Client, args []string) error {
			return list(a, &p, func(p client.Paging) (api.Page[api.JoinLink], error) { return c.JoinLinks(ctx, args[0], p) }, joinLinkColumns)
		})
	paged(show, &p)
	var n api.NewJoinLink
	create := a.changes(&cobra.Command{
		Use: "create GROUP", Short: "Make a link by which people enter a group; it is shown once", Args: cobra.ExactArgs(1),
		Example: "  ivytable join-link create choir@merrowline.example --days 7 --max 20 --note \"Notice board\"",
	}, func(ctx context.Context, c *client.Client, args []string) error {
		l, err := c.CreateJoinLink(ctx, args[0], n)
		if err != nil {
			return err
		}
		return one(a, l, joinLinkColumns, fact{"Link", l.URL}, fact{"Used", uses(l)}, fact{"Ends", dayOf(l.ExpiresAt)})
	}, keyed)
	create.PreRunE = func(c *cobra.Command, _ []string) error {
		if c.Flags().Changed("days") && n.Days < 1 {
			return usagef("--days has to be 1 to 365: a link that can't be used is none")
		}
		return nil
	}
	create.Flags().IntVar(&n.Days, "days", 14, "for how long it can be used, 365 at most")
	create.Flags().IntVar(&n.Max, "max", 0, "for how many people; 0 for any number")
	create.Flags().StringVar(&n.Note, "note", "", "whom it is for")
	back := a.changes(&cobra.Command{Use: "call-back GROUP ID", Short: "End a link at once", Args: cobra.ExactArgs(2), Example: "  ivytable join-link call-back choir@merrowline.example 01935c1e-7a10-7000-8000-3f1f2a9c5b11"},
		func(ctx context.Context, c *client.Client, args []string) error {
			if err := c.CallBackJoinLink(ctx, args[0], args[1]); err != nil {
				return err
			}
			return a.done(nil, "The link into %s can't be used any more. Those who came in by it stay.", args[0])
		})
	use := a.changes(&cobra.Command{Use: "use LINK", Short: "Enter a group by a link", Args: cobra.ExactArgs(1), Example: "  ivytable join-link use http://127.0.0.1:8480/join/…"},
		func(ctx context.Context, c *client.Client, args []string) error {
			done, err := c.UseJoinLink(ctx, secret(args[0]))
			if err != nil {
				return err
			}
			return a.done(done, "%s", done.Says)
		}, keyed)
	return noun("join-link", "Links into a group: list, create, call back, use", show, create, back, use)
}
