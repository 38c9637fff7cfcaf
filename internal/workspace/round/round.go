// Package round asks those who own groups to confirm that these are needed and right: who is asked, what is answered, what becomes
// of groups about which nobody answers, and the evidence of it all.
package round

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/round"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Service is the rounds of a workspace.
type Service struct {
	k     *workspace.Kernel
	Begun workspace.Bell // rings when a round begins
}

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k, workspace.NewBell()} }

var errNoRound = workspace.Fail(workspace.NotFound, "There is no such round.")

var states = map[int8]string{store.RoundOpen: "open", store.RoundOver: "over", store.RoundStopped: "stopped"}

// find reads the round that an identifier names.
func find(v *workspace.View, id string) (store.Round, error) {
	u, err := uuid.Parse(id)
	if err != nil {
		return store.Round{}, errNoRound
	}
	r, err := v.Read.Round(u)
	if errors.Is(err, store.ErrNotFound) {
		err = errNoRound
	}
	return r, err
}

func numbers(s string) []int {
	out := []int{}
	for _, w := range strings.Fields(s) {
		n, _ := strconv.Atoi(w) // it was written here
		out = append(out, n)
	}
	return out
}

func words(all []int) string {
	out := make([]string, len(all))
	for i, n := range all {
		out[i] = strconv.Itoa(n)
	}
	return strings.Join(out, " ")
}

// planOf is when a round is at what.
func planOf(t workspace.Terms, r store.Round) round.Plan {
	return round.Plan{Calendar: t.Life.Calendar, Begun: r.BegunAt, End: r.EndsAt, Reminders: numbers(r.Reminders), Silence: round.Silence(r.Silence)}
}

// dueOn is the last day on which to answer.
func dueOn(t workspace.Terms, r store.Round) string { return t.Date(t.Life.After(r.EndsAt, -1)) }

func asksOf(questions string) []api.Asks {
	out := []api.Asks{}
	for _, q := range round.Questions {
		if slices.Contains(strings.Fields(questions), string(q.Question)) {
			out = append(out, api.Asks{Question: string(q.Question), Says: q.Asks})
		}
	}
	return out
}

func shapeCounts(c store.RoundCount) api.RoundCounts {
	return api.RoundCounts{Total: c.Total, Waiting: c.Waiting, Kept: c.Kept, Retired: c.Retired, Silent: c.Silent, Gone: c.Gone}
}

func shape(v *workspace.View, t workspace.Terms, r store.Round, counts store.RoundCount) api.Round {
	out := api.Round{ID: r.ID.String(), Name: r.Name, Filter: r.Filter, Questions: asksOf(r.Questions), DueOn: dueOn(t, r), DaysLeft: t.Life.Days(v.Now(), r.EndsAt) - 1, Reminders: numbers(r.Reminders),
		StandIn: r.StandIn, Silence: r.Silence, EveryMonths: r.EveryMonths, Note: r.Note, State: states[r.State], Counts: shapeCounts(counts), By: r.Maker,
		BegunAt: v.In(r.BegunAt), ToldAt: v.InPtr(r.LastToldAt), ClosedAt: v.InPtr(r.ClosedAt), Version: r.Version}
	if r.NextAt != nil {
		out.NextOn = t.Date(*r.NextAt)
	}
	if r.Previous != nil {
		out.Previous = r.Previous.String()
	}
	return out
}

func shapes(v *workspace.View, rows []store.Round) ([]api.Round, error) {
	t, err := v.Terms()
	if err != nil {
		return nil, err
	}
	ids := make([]uuid.UUID, len(rows))
	for i, r := range rows {
		ids[i] = r.ID
	}
	counts, err := v.Read.RoundCounts(ids)
	out := make([]api.Round, len(rows))
	for i, r := range rows {
		out[i] = shape(v, t, r, counts[r.ID])
	}
	return out, err
}

func one(v *workspace.View, r store.Round) (api.Round, error) {
	all, err := shapes(v, []store.Round{r})
	if err != nil {
		return api.Round{}, err
	}
	return all[0], nil
}

// List returns a page of rounds, newest first.
func (s *Service) List(ctx context.Context, by workspace.Actor, cursor string, limit int) (api.Page[api.Round], error) {
	none := api.Page[api.Round]{}
	if err := by.Allow(access.ReadReview); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	after, err := v.Cursor(cursor, "rounds")
	if err != nil {
		return none, err
	}
	p, err := v.Read.Rounds(after, limit)
	if err != nil {
		return none, err
	}
	items, err := shapes(v, p.Items)
	return api.Page[api.Round]{Items: items, Next: p.Next.String(), Total: p.Total}, err
}

// Read returns a round.
func (s *Service) Read(ctx context.Context, by workspace.Actor, id string) (api.Round, error) {
	if err := by.Allow(access.ReadReview); err != nil {
		return api.Round{}, err
	}
	v := s.k.View(ctx, by)
	r, err := find(v, id)
	if err != nil {
		return api.Round{}, err
	}
	return one(v, r)
}

// Groups returns a page of the groups of a round: in some states, or those whose name or address begins with something.
func (s *Service) Groups(ctx context.Context, by workspace.Actor, id string, in []string, q, cursor string, limit int) (api.Page[api.RoundGroup], error) {
	none := api.Page[api.RoundGroup]{}
	if err := by.Allow(access.ReadReview); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	r, err := find(v, id)
	if err != nil {
		return none, err
	}
	query := store.AskedQuery{Round: r.ID, Q: strings.TrimSpace(q), Limit: limit}
	var bad workspace.Problems
	for i, x := range in {
		bad.OneOf(fmt.Sprintf("state[%d]", i), x, store.AskedStates...)
		query.States = append(query.States, int8(slices.Index(store.AskedStates, x)+1))
	}
	if err := bad.Err(); err != nil {
		return none, err
	}
	if query.After, err = v.Cursor(cursor, "groups of a round", r.ID, in, query.Q); err != nil {
		return none, err
	}
	p, err := v.Read.Asked(query)
	return workspace.Page(p, func(a store.RoundGroup) api.RoundGroup { return shapeGroup(v, a) }), err
}

func lines(s string) []string { return append([]string{}, strings.Fields(s)...) }

func shapeGroup(v *workspace.View, a store.RoundGroup) api.RoundGroup {
	out := api.RoundGroup{ID: a.ID.String(), Group: api.Name{Name: a.Name, Address: a.Address}, Owners: lines(a.Owners), People: a.People, External: a.External, State: store.AskedStates[a.State-1],
		Nobody: a.Nobody, AskedAt: v.In(a.AskedAt), Confirmed: lines(a.Confirmed), Removed: a.Removed, Note: a.Note, Says: a.Says, AnsweredAt: v.InPtr(a.AnsweredAt), Via: a.Via}
	if a.AnsweredBy != "" {
		out.AnsweredBy = &api.Name{Name: a.Answerer, Address: a.AnsweredBy}
	}
	return out
}

// Progress returns how far the parts of a round are: by mail domain, by owner, or by the areas of helpers.
func (s *Service) Progress(ctx context.Context, by workspace.Actor, id, what string) (api.Page[api.RoundPart], error) {
	none := api.Page[api.RoundPart]{}
	if err := by.Allow(access.ReadReview); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	r, err := find(v, id)
	if err != nil {
		return none, err
	}
	var bad workspace.Problems
	bad.OneOf("by", what, "domain", "owner", "area")
	if err := bad.Err(); err != nil {
		return none, err
	}
	var rows []store.RoundCount
	if what == "area" {
		rows, err = inAreas(v, r.ID)
	} else {
		rows, err = v.Read.RoundBy(r.ID, what, maxParts)
	}
	out := make([]api.RoundPart, len(rows))
	for i, x := range rows {
		out[i] = api.RoundPart{Name: x.Name, RoundCounts: shapeCounts(x)}
	}
	return workspace.Whole(out), err
}

// maxParts is how many parts of a round are told apart.
const maxParts = 500

func inAreas(v *workspace.View, id uuid.UUID) (out []store.RoundCount, err error) {
	names, filters, err := v.AreaRules()
	if err != nil {
		return nil, err
	}
	at := store.FilterTime{Now: v.Now()}
	for i, f := range filters {
		c, err := v.Read.RoundIn(id, f, nil, at)
		if err != nil {
			return nil, err
		}
		c.Name = names[i]
		out = append(out, c)
	}
	rest, err := v.Read.RoundIn(id, nil, filters, at)
	if rest.Name = "In no area"; rest.Total > 0 {
		out = append(out, rest)
	}
	return out, err
}

// plan reads what a round is to be, and checks it.
func plan(v *workspace.View, t workspace.Terms, n api.NewRound) (r store.Round, err error) {
	var bad workspace.Problems
	r = store.Round{Name: strings.TrimSpace(n.Name), Filter: strings.TrimSpace(n.Filter), Silence: n.Silence, Note: strings.TrimSpace(n.Note), EveryMonths: n.EveryMonths, Told: -1, State: store.RoundOpen, Version: 1}
	if r.Name == "" {
		bad.Add("name", "", "Give it a name, such as Autumn round.")
	}
	if r.Silence == "" {
		r.Silence = string(round.Nothing)
	}
	bad.OneOf("silence", r.Silence, round.Silences...)
	var questions []string
	for i, q := range n.Questions {
		if !slices.ContainsFunc(round.Questions, func(x struct {
			Question round.Question
			Asks     string
		}) bool {
			return string(x.Question) == q
		}) {
			bad.Add(fmt.Sprintf("questions[%d]", i), q, "There is no question %q: choose needed, people, policy or owner.", workspace.Cut(q, 40))
		} else if !slices.Contains(questions, q) {
			questions = append(questions, q)
		}
	}
	if len(questions) == 0 {
		bad.Add("questions", nil, "Say what is to be confirmed: needed, people, policy or owner.")
	}
	r.Questions = strings.Join(questions, " ")
	if _, err := v.Filter("groups", r.Filter); err != nil {
		return r, err
	}
	if r.StandIn, err = standIn(v, n.StandIn, &bad); err != nil {
		return r, err
	}
	r.BegunAt = v.Now()
	setDue(t, &r, v.Now(), n.DueOn, n.Reminders, &bad)
	if n.EveryMonths < 0 || n.EveryMonths > 60 {
		bad.Add("every_months", n.EveryMonths, "It can begin again after 1 to 60 months; 0 is for once.")
	}
	if n.EveryMonths > 0 {
		next := planOf(t, r).Next(n.EveryMonths)
		if r.NextAt = &next; !next.After(r.EndsAt) {
			bad.Add("every_months", n.EveryMonths, "It would begin again before it is over, on %s.", workspace.DateIn("en", next.In(t.Life.Zone)))
		}
	}
	return r, bad.Err()
}

// setDue sets the day and the reminders of a round.
func setDue(t workspace.Terms, r *store.Round, now time.Time, day string, reminders []int, bad *workspace.Problems) {
	if _, err := time.Parse(time.DateOnly, day); err != nil {
		bad.Add("due_on", workspace.Cut(day, 40), "Write the last day on which to answer as 2027-03-31.")
		return
	}
	r.EndsAt = t.Life.After(t.Life.Noon(day), 1).UTC()
	switch length := t.Life.Days(r.BegunAt, r.EndsAt) - 1; {
	case t.Life.Days(now, r.EndsAt) < 2:
		bad.Add("due_on", day, "People need a day at least to answer: choose a day to come.")
	case length > round.MaxDays:
		bad.Add("due_on", day, "A round goes on for %d days at most.", round.MaxDays)
	case r.Silence == string(round.Retire) && length < round.FirstLead:
		bad.Add("due_on", day, "Where silence retires groups, people have to be told %d days before: choose %s or a later day.", round.FirstLead, t.Date(t.Life.After(r.BegunAt, round.FirstLead)))
	}
	for i, n := range reminders {
		at := fmt.Sprintf("reminders[%d]", i)
		switch {
		case n < 0 || n > round.MaxDays:
			bad.Add(at, n, "Remind from 0 to %d days before.", round.MaxDays)
		case i > 0 && n >= reminders[i-1]:
			bad.Add(at, n, "Name the reminders in their order, the most days first: %d comes after %d.", n, reminders[i-1])
		case !t.Life.After(r.EndsAt, -1-n).After(r.BegunAt):
			bad.Add(at, n, "%d days before %s is past.", n, day)
		}
	}
	if r.Silence == string(round.Retire) && (len(reminders) == 0 || reminders[len(reminders)-1] < round.LastLead) {
		bad.Add("reminders", reminders, "Where silence retires groups, remind people at last %s before.", number.Of(round.LastLead, "day"))
	}
	r.Reminders = words(reminders)
}

// standIn reads who answers for groups without owners.
func standIn(v *workspace.View, given string, bad *workspace.Problems) (string, error) {
	if given = strings.TrimSpace(given); given == "" {
		return "", nil
	}
	a, err := mailaddr.Parse(given)
	var p store.Person
	if err == nil {
		p, err = v.Read.PersonByKey(a.Key())
	}
	if err != nil && !errors.Is(err, store.ErrNotFound) && a.Key() != "" {
		return "", err
	}
	if err != nil || !p.Active || p.External {
		bad.Add("stand_in", workspace.Cut(given, 100), "There is nobody %q in the workspace who could answer.", workspace.Cut(given, 100))
	}
	return p.Address, nil
}

// Begin begins a round. Its letters go out right after it.
func (s *Service) Begin(ctx context.Context, by workspace.Actor, n api.NewRound) (api.Round, error) {
	if err := by.Allow(access.ChangeReview); err != nil {
		return api.Round{}, err
	}
	var out api.Round
	err := workspace.Once(ctx, s.k, by, n, &out, func(c *workspace.Change) error {
		if err := c.Allow(access.ChangeReview); err != nil {
			return err
		}
		t, err := c.Terms()
		if err != nil {
			return err
		}
		r, err := plan(&c.View, t, n)
		if err != nil {
			return err
		}
		made := c.By.Person.ID
		r.ID, r.MadeBy, r.Maker = c.ID(), &made, c.By.String()
		out, err = begin(c, t, r)
		return err
	})
	s.Begun.Ring()
	return out, err
}

// begin puts the groups into a round and writes it.
func begin(c *workspace.Change, t workspace.Terms, r store.Round) (out api.Round, err error) {
	f, err := c.Filter("groups", r.Filter)
	if err != nil {
		return out, err
	}
	var nobody int
	if r.Total, nobody, err = c.Tx.AskRound(r, f, c.FilterTime(t)); err != nil {
		return out, workspace.Filtered(err)
	}
	if r.Total == 0 {
		return out, workspace.Wrong("filter", r.Filter, "No living group is named by this filter, so there is nobody to ask.")
	}
	c.Says(fmt.Sprintf("%s asked about by %s, until %s.", workspace.UpperFirst(number.Of(r.Total, "group")), r.Name, dueOn(t, r)))
	c.Effect(api.Effect{Field: "groups", Count: r.Total, Says: fmt.Sprintf("Those who own %s are asked, each in one letter about all that are theirs.", number.Of(r.Total-nobody, "group"))})
	if nobody > 0 {
		who := r.StandIn
		if who == "" {
			who = "their caretakers"
		}
		c.Effect(api.Effect{Field: "without_owner", Count: nobody, Says: fmt.Sprintf("%s without an owner: %s asked.", workspace.UpperFirst(number.Of(nobody, "group")), map[bool]string{true: who + " are", false: who + " is"}[r.StandIn == ""])})
	}
	for _, n := range numbers(r.Reminders) {
		c.Effect(api.Effect{Field: "reminder", To: t.Date(t.Life.After(r.EndsAt, -1-n)), Says: fmt.Sprintf("Whoever has not answered is reminded on %s.", workspace.DateIn("en", t.Life.After(r.EndsAt, -1-n).In(t.Life.Zone)))})
	}
	c.Effect(api.Effect{Field: "silence", To: r.Silence, Says: map[string]string{"nothing": "What nobody answers about stays as it is, and is listed.", "retire": "What nobody answers about is retired. It can be restored.", "caretaker": "What nobody answers about is told to their caretakers."}[r.Silence]})
	if r.NextAt != nil {
		c.Effect(api.Effect{Field: "next_on", To: t.Date(*r.NextAt), Says: fmt.Sprintf("It begins again on %s.", workspace.DateIn("en", r.NextAt.In(t.Life.Zone)))})
	}
	if err := c.Tx.SaveRound(r); err != nil {
		return out, err
	}
	if err := c.Record(event.RoundBegun{ID: r.ID.String(), Name: r.Name, Filter: r.Filter, Groups: r.Total, Due: dueOn(t, r), Silence: r.Silence}, nil); err != nil {
		return out, err
	}
	return shape(&c.View, t, r, store.RoundCount{Total: r.Total, Waiting: r.Total}), nil
}

// asSet is what can be changed of a round, as somebody sets it.
func asSet(t workspace.Terms, r store.Round) api.RoundPatch {
	due, reminders, every := dueOn(t, r), numbers(r.Reminders), r.EveryMonths
	return api.RoundPatch{Name: &r.Name, DueOn: &due, Reminders: &reminders, Silence: &r.Silence, EveryMonths: &every, Note: &r.Note}
}

// Change changes a round that is open.
func (s *Service) Change(ctx context.Context, by workspace.Actor, id string, n api.RoundPatch, version int) (api.Round, error) {
	return s.onOpen(ctx, by, id, version, func(c *workspace.Change, t workspace.Terms, r *store.Round) error {
		var bad workspace.Problems
		was := *r
		if n.Name != nil {
			if r.Name = strings.TrimSpace(*n.Name); r.Name == "" {
				bad.Add("name", "", "Give it a name, such as Autumn round.")
			}
		}
		if n.Note != nil {
			r.Note = strings.TrimSpace(*n.Note)
		}
		if n.Silence != nil {
			r.Silence = *n.Silence
			bad.OneOf("silence", r.Silence, round.Silences...)
		}
		day, reminders := dueOn(t, *r), numbers(r.Reminders)
		if n.DueOn != nil {
			day = *n.DueOn
		}
		if n.Reminders != nil {
			reminders = *n.Reminders
		}
		if n.DueOn != nil || n.Reminders != nil || n.Silence != nil {
			setDue(t, r, c.Now(), day, reminders, &bad)
		}
		if n.EveryMonths != nil {
			r.EveryMonths, r.NextAt = *n.EveryMonths, nil
			if r.EveryMonths < 0 || r.EveryMonths > 60 {
				bad.Add("every_months", r.EveryMonths, "It can begin again after 1 to 60 months; 0 is for once.")
			} else if r.EveryMonths > 0 {
				next := planOf(t, *r).Next(r.EveryMonths)
				r.NextAt = &next
			}
		}
		if r.NextAt != nil && !r.NextAt.After(r.EndsAt) {
			bad.Add("every_months", r.EveryMonths, "It would begin again before it is over, on %s.", t.Date(*r.NextAt))
		}
		if err := bad.Err(); err != nil {
			return err
		}
		if retires := r.Silence == string(round.Retire); retires && (was.Silence != r.Silence || r.EndsAt.Before(was.EndsAt)) {
			r.Told, r.Wave, r.FirstToldAt, r.LastToldAt = -1, r.Wave+1, nil, nil // who was told something else is told anew, and has their time
		}
		var changes []event.Change
		add := func(field, from, to string) {
			if from != to {
				changes = append(changes, event.Change{Field: field, From: from, To: to})
				c.Effect(api.Effect{Field: field, From: from, To: to})
			}
		}
		add("name", was.Name, r.Name)
		add("due_on", dueOn(t, was), dueOn(t, *r))
		add("reminders", was.Reminders, r.Reminders)
		add("silence", was.Silence, r.Silence)
		add("every_months", fmt.Sprint(was.EveryMonths), fmt.Sprint(r.EveryMonths))
		add("note", was.Note, r.Note)
		if len(changes) == 0 {
			c.Says("Nothing changes.")
			return nil
		}
		c.Says(fmt.Sprintf("%s is changed. Those who have been told already are told of it by the next letter.", r.Name))
		r.Version++
		if err := c.Tx.SaveRound(*r); err != nil {
			return err
		}
		return c.Record(event.RoundChanged{Before: event.Was(asSet(t, was), r.Version), ID: r.ID.String(), Name: r.Name, Changed: changes}, nil)
	})
}

// End ends a round before its day: nobody is asked any more, and what was not answered stays as it is.
func (s *Service) End(ctx context.Context, by workspace.Actor, id string, version int) (api.Round, error) {
	return s.onOpen(ctx, by, id, version, func(c *workspace.Change, _ workspace.Terms, r *store.Round) error {
		counts, err := c.Read.RoundCounts([]uuid.UUID{r.ID})
		if err != nil {
			return err
		}
		x := counts[r.ID]
		now := c.Now()
		r.State, r.ClosedAt, r.NextAt = store.RoundStopped, &now, nil
		r.Version++
		c.Says(fmt.Sprintf("%s is ended. %s not answered about, and stay as they are.", r.Name, workspace.UpperFirst(number.Of(x.Waiting, "group"))+map[bool]string{true: " was", false: " were"}[x.Waiting == 1]))
		if err := c.Tx.EndAsked(r.ID); err != nil {
			return err
		}
		if err := c.Tx.SaveRound(*r); err != nil {
			return err
		}
		return c.Record(event.RoundEnded{Name: r.Name, Early: true, Kept: x.Kept, Retired: x.Retired, Silent: x.Waiting + x.Silent, Gone: x.Gone}, nil)
	})
}

// onOpen changes a round that is open.
func (s *Service) onOpen(ctx context.Context, by workspace.Actor, id string, version int, f func(*workspace.Change, workspace.Terms, *store.Round) error) (api.Round, error) {
	if err := by.Allow(access.ChangeReview); err != nil {
		return api.Round{}, err
	}
	found, err := find(s.k.View(ctx, by), id)
	if err != nil {
		return api.Round{}, err
	}
	var out api.Round
	err = s.k.Do(ctx, by, func(c *workspace.Change) error {
		r, err := c.Tx.LockRound(found.ID)
		if err != nil {
			return err
		}
		if err := c.Allow(access.ChangeReview); err != nil {
			return err
		}
		if version > 0 && version != r.Version {
			return workspace.StaleGroup(r.Name, version, r.Version)
		}
		if r.State != store.RoundOpen {
			return workspace.Fail(workspace.Conflict, "%s is over: nothing of it can be changed.", r.Name)
		}
		t, err := c.Terms()
		if err != nil {
			return err
		}
		if err := f(c, t, &r); err != nil {
			return err
		}
		out, err = one(&c.View, r)
		return err
	})
	return out, err
}
