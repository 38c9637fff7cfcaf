package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
)

var roundColumns = []column[api.Round]{
	{name: "id", value: func(r api.Round) any { return r.ID }, whole: true},
	{name: "name", value: func(r api.Round) any { return r.Name }},
	{name: "state", value: func(r api.Round) any { return r.State }},
	{name: "due_on", value: func(r api.Round) any { return r.DueOn }},
	{name: "groups", value: func(r api.Round) any { return r.Counts.Total }},
	{name: "waiting", value: func(r api.Round) any { return r.Counts.Waiting }},
	{name: "kept", value: func(r api.Round) any { return r.Counts.Kept }},
	{name: "retired", value: func(r api.Round) any { return r.Counts.Retired }},
	{name: "silent", value: func(r api.Round) any { return r.Counts.Silent }},
	{name: "filter", value: func(r api.Round) any { return r.Filter }, csvOnly: true},
}

var roundGroupColumns = []column[api.RoundGroup]{
	{name: "id", value: func(g api.RoundGroup) any { return g.ID }, csvOnly: true},
	{name: "group", value: func(g api.RoundGroup) any { return g.Group.Address }, whole: true},
	{name: "state", value: func(g api.RoundGroup) any { return g.State }},
	{name: "people", value: func(g api.RoundGroup) any { return g.People }},
	{name: "external", value: func(g api.RoundGroup) any { return g.External }},
	{name: "owners", value: func(g api.RoundGroup) any { return strings.Join(g.Owners, "; ") }, csvOnly: true},
	{name: "answered_by", value: func(g api.RoundGroup) any { return nameOf(g.AnsweredBy).Address }},
	{name: "answered_at", value: func(g api.RoundGroup) any { return g.AnsweredAt }, csvOnly: true},
	{name: "confirmed", value: func(g api.RoundGroup) any { return strings.Join(g.Confirmed, "; ") }, csvOnly: true},
	{name: "says", value: func(g api.RoundGroup) any { return strings.TrimSpace(g.Says + " " + g.Note) }},
}

var roundPartColumns = []column[api.RoundPart]{
	{name: "name", value: func(p api.RoundPart) any { return p.Name }, whole: true},
	{name: "groups", value: func(p api.RoundPart) any { return p.Total }},
	{name: "waiting", value: func(p api.RoundPart) any { return p.Waiting }},
	{name: "kept", value: func(p api.RoundPart) any { return p.Kept }},
	{name: "retired", value: func(p api.RoundPart) any { return p.Retired }},
	{name: "silent", value: func(p api.RoundPart) any { return p.Silent }},
	{name: "gone", value: func(p api.RoundPart) any { return p.Gone }},
}

var questionColumns = []column[api.RoundQuestion]{
	{name: "id", value: func(q api.RoundQuestion) any { return q.ID }, whole: true},
	{name: "group", value: func(q api.RoundQuestion) any { return q.Group.Address }, whole: true},
	{name: "round", value: func(q api.RoundQuestion) any { return q.Round }},
	{name: "due_on", value: func(q api.RoundQuestion) any { return q.DueOn }},
	{name: "people", value: func(q api.RoundQuestion) any { return q.People }},
	{name: "external", value: func(q api.RoundQuestion) any { return q.External }},
	{name: "came", value: func(q api.RoundQuestion) any { return q.Came }},
	{name: "left", value: func(q api.RoundQuestion) any { return q.Left }},
}

func (a *app) roundCommands() *cobra.Command {
	return noun("round", "Ask owners to confirm their groups: list, show, begin, change, end, groups, progress, evidence, mine, answer",
		a.roundList(), a.roundShow(), a.roundBegin(), a.roundChange(), a.roundEnd(), a.roundGroups(), a.roundProgress(), a.roundEvidence(), a.roundMine(), a.roundAnswer())
}

func (a *app) roundList() *cobra.Command {
	var p paging
	c := a.reads(&cobra.Command{Use: "list", Short: "List rounds, newest first", Args: cobra.NoArgs, Example: "  ivytable round list"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			return list(a, &p, func(p client.Paging) (api.Page[api.Round], error) { return c.Rounds(ctx, p) }, roundColumns)
		})
	paged(c, &p)
	return c
}

const exampleRound = "01a21b6c-10e2-7a43-8c5e-3f1f2a9c5b11"

func (a *app) roundShow() *cobra.Command {
	return a.reads(&cobra.Command{Use: "show ROUND", Short: "Show how far a round is", Args: cobra.ExactArgs(1), Example: "  ivytable round show " + exampleRound},
		func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.Round(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showRound(r)
		})
}

func (a *app) showRound(r api.Round) error {
	var asks []string
	for _, q := range r.Questions {
		asks = append(asks, q.Question)
	}
	var reminders []string
	for _, n := range r.Reminders {
		reminders = append(reminders, plural(n, "day")+" before")
	}
	again := ""
	if r.NextOn != "" {
		again = fmt.Sprintf("every %s; next on %s", plural(r.EveryMonths, "month"), r.NextOn)
	}
	c := r.Counts
	return one(a, r, roundColumns, fact{"Round", r.Name}, fact{"ID", r.ID}, fact{"State", r.State}, fact{"Groups", number(c.Total)}, fact{"Where", r.Filter}, fact{"Asks", strings.Join(asks, ", ")}, fact{"Until", fmt.Sprintf("%s (in %s)", r.DueOn, plural(r.DaysLeft, "day"))},
		fact{"Reminders", strings.Join(reminders, ", ")}, fact{"Without owner", r.StandIn}, fact{"No answer", r.Silence}, fact{"Again", again},
		fact{"Answered", fmt.Sprintf("%s kept, %s retired", number(c.Kept), number(c.Retired))}, fact{"Not yet", number(c.Waiting)}, fact{"Silent", fmt.Sprintf("%s, and %s gone otherwise", number(c.Silent), number(c.Gone))})
}

func (a *app) roundBegin() *cobra.Command {
	var n api.NewRound
	c := a.changes(&cobra.Command{Use: "begin NAME", Short: "Ask those who own groups to confirm them; look first, with --preview", Args: cobra.ExactArgs(1),
		Example: "  ivytable round begin 'Autumn round' --ask needed,people --due 2027-11-30 --remind 14,3 --preview\n  ivytable round begin 'Outsiders' --filter 'external gt 0' --ask people --due 2027-03-31 --remind 7 --silence caretaker --every-months 6"},
		func(ctx context.Context, c *client.Client, args []string) error {
			n.Name = args[0]
			r, err := c.BeginRound(ctx, n)
			if err != nil {
				return err
			}
			return a.showRound(r)
		}, keyed)
	f := c.Flags()
	f.StringVar(&n.Filter, "filter", "", "about the living groups that this filter names; about all when left out")
	f.StringSliceVar(&n.Questions, "ask", []string{"needed", "people"}, "what is to be confirmed: needed, people, policy, owner")
	f.StringVar(&n.DueOn, "due", "", "the last day on which to answer, such as 2027-03-31")
	f.IntSliceVar(&n.Reminders, "remind", nil, "so many days before it, the most first")
	f.StringVar(&n.StandIn, "stand-in", "", "who answers for groups without owners; their caretakers when left out")
	f.StringVar(&n.Silence, "silence", "nothing", "what becomes of groups about which nobody answers: nothing, retire, caretaker")
	f.IntVar(&n.EveryMonths, "every-months", 0, "begin again so many months after it began")
	f.StringVar(&n.Note, "note", "", "a sentence for the letters")
	return c
}

func (a *app) roundChange() *cobra.Command {
	var due, silence, name, note string
	var reminders []int
	var months int
	c := &cobra.Command{Use: "change ROUND", Short: "Change a round that is open: its day, its reminders, what becomes of silence", Args: cobra.ExactArgs(1), Example: "  ivytable round change " + exampleRound + " --due 2027-12-15"}
	a.changes(c, func(ctx context.Context, cl *client.Client, args []string) error {
		var n api.RoundPatch
		given := c.Flags().Changed
		for _, x := range []struct {
			flag string
			from *string
			to   **string
		}{{"due", &due, &n.DueOn}, {"silence", &silence, &n.Silence}, {"name", &name, &n.Name}, {"note", &note, &n.Note}} {
			if given(x.flag) {
				*x.to = x.from
			}
		}
		if given("remind") {
			n.Reminders = &reminders
		}
		if given("every-months") {
			n.EveryMonths = &months
		}
		r, err := cl.ChangeRound(ctx, args[0], n)
		if err != nil {
			return err
		}
		return a.showRound(r)
	}, guarded)
	f := c.Flags()
	f.StringVar(&due, "due", "", "the last day on which to answer")
	f.StringVar(&silence, "silence", "", "what becomes of groups about which nobody answers: nothing, retire, caretaker")
	f.StringVar(&name, "name", "", "what people call it")
	f.StringVar(&note, "note", "", "a sentence for the letters")
	f.IntSliceVar(&reminders, "remind", nil, "so many days before it, the most first")
	f.IntVar(&months, "every-months", 0, "begin again so many months after it began; 0 for no more")
	return c
}

func (a *app) roundEnd() *cobra.Command {
	return a.changes(&cobra.Command{Use: "end ROUND", Short: "End a round before its day; what was answered stays", Args: cobra.ExactArgs(1), Example: "  ivytable round end " + exampleRound + " --preview"},
		func(ctx context.Context, c *client.Client, args []string) error {
			r, err := c.EndRound(ctx, args[0])
			if err != nil {
				return err
			}
			return a.showRound(r)
		}, guarded)
}

func (a *app) roundGroups() *cobra.Command {
	var p paging
	var states []string
	var words string
	c := a.reads(&cobra.Command{Use: "groups ROUND", Short: "List the groups of a round, with what was answered", Args: cobra.ExactArgs(1), Example: "  ivytable round groups " + exampleRound + " --state waiting,silent"},
		func(ctx context.Context, c *client.Client, args []string) error {
			return list(a, &p, func(p client.Paging) (api.Page[api.RoundGroup], error) {
				return c.RoundGroups(ctx, args[0], states, words, p)
			}, roundGroupColumns)
		})
	c.Flags().StringSliceVar(&states, "state", nil, "waiting, kept, retired, silent or gone")
	c.Flags().StringVar(&words, "words", "", "a beginning of the name or of the address")
	paged(c, &p)
	return c
}

func (a *app) roundProgress() *cobra.Command {
	by := "domain"
	c := a.reads(&cobra.Command{Use: "progress ROUND", Short: "Show how far the parts of a round are", Args: cobra.ExactArgs(1), Example: "  ivytable round progress " + exampleRound + " --by owner"},
		func(ctx context.Context, c *client.Client, args []string) error {
			p, err := c.RoundProgress(ctx, args[0], by)
			if err != nil {
				return err
			}
			return printAll(a, p, p.Items, roundPartColumns)
		})
	c.Flags().StringVar(&by, "by", by, "domain, owner or area")
	return c
}

func (a *app) roundEvidence() *cobra.Command {
	return a.exports(&cobra.Command{Use: "evidence ROUND", Short: "Write what was answered, by whom and when, with the entries of the history", Args: cobra.ExactArgs(1),
		Long:    "Write what was answered about each group of a round, by whom and when, as CSV or as lines of JSON.\nEach answer names the entry of the history that says the same, and its seal: ivytable history verify tells whether that stands.",
		Example: "  ivytable round evidence " + exampleRound + " > round.csv"},
		func(ctx context.Context, c *client.Client, args []string, format string) error {
			return c.RoundEvidence(ctx, args[0], format, a.out)
		})
}

func (a *app) roundMine() *cobra.Command {
	var p paging
	c := a.reads(&cobra.Command{Use: "mine", Short: "List the groups that you are asked to confirm", Args: cobra.NoArgs, Example: "  ivytable round mine"},
		func(ctx context.Context, c *client.Client, _ []string) error {
			return list(a, &p, func(p client.Paging) (api.Page[api.RoundQuestion], error) { return c.RoundQuestions(ctx, p) }, questionColumns)
		})
	paged(c, &p)
	return c
}

func (a *app) roundAnswer() *cobra.Command {
	var n api.RoundAnswer
	c := a.changes(&cobra.Command{Use: "answer ID...", Short: "Confirm groups, hand them over or retire them", Args: cobra.MinimumNArgs(1),
		Long:    "Confirm groups that you are asked about, hand them over or retire them. The IDs are those of ivytable round mine.\nTo keep a group, confirm everything that the round asks. What is confirmed begins its term again.",
		Example: "  ivytable round answer 01a21b6c-2b0e-7f11-9d2a-6c0f2a9c5b11 --keep --confirm needed,people\n  ivytable round answer 01a21b6c-2b0e-7f11-9d2a-6c0f2a9c5b11 --hand-over-to tove.alder@merrowline.example\n  ivytable round answer 01a21b6c-2b0e-7f11-9d2a-6c0f2a9c5b11 --retire --note 'The season is over.'"},
		func(ctx context.Context, c *client.Client, args []string) error {
			n.IDs = args
			d, err := c.AnswerRound(ctx, n)
			if err != nil {
				return err
			}
			return a.showDecided(d, "answered")
		})
	var keep, retire bool
	f := c.Flags()
	f.BoolVar(&keep, "keep", false, "they are needed and right")
	f.BoolVar(&retire, "retire", false, "they are not needed: they can be restored")
	f.StringVar(&n.To, "hand-over-to", "", "who owns them in your place, and is asked then")
	f.StringSliceVar(&n.Confirmed, "confirm", nil, "with --keep: what you confirm, all that the round asks")
	f.StringSliceVar(&n.Remove, "without", nil, "with --keep: addresses of people who are taken out of it")
	f.StringVar(&n.Note, "note", "", "is kept with the answer")
	c.MarkFlagsOneRequired("keep", "retire", "hand-over-to")
	c.MarkFlagsMutuallyExclusive("keep", "retire", "hand-over-to")
	c.PreRun = func(*cobra.Command, []string) {
		switch {
		case keep:
			n.Answer = "keep"
		case retire:
			n.Answer = "retire"
		default:
			n.Answer = "hand_over"
		}
	}
	return c
}
