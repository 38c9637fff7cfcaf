package round

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/round"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/life"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"
)

// recipients returns who answers for groups of a round, by group: their owners who are here, else whoever stands in, else
// their caretakers.
func recipients(v *workspace.View, r store.Round, groups []uuid.UUID) (map[uuid.UUID][]string, error) {
	if r.StandIn == "" {
		return v.RecipientsOf(groups)
	}
	owners, err := v.Read.Owners(groups)
	out := map[uuid.UUID][]string{}
	for _, id := range groups {
		for _, o := range owners[id] {
			if o.Active {
				out[id] = append(out[id], o.Address)
			}
		}
		if len(out[id]) == 0 {
			out[id] = []string{r.StandIn}
		}
	}
	return out, err
}

// Mine returns what the actor is asked: about groups that they own or answer for as helpers, and about those that nobody
// owns where that is theirs.
func (s *Service) Mine(ctx context.Context, by workspace.Actor, cursor string, limit int) (api.Page[api.RoundQuestion], error) {
	none := api.Page[api.RoundQuestion]{}
	if err := by.SignedIn(); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	q := store.AskedQuery{States: []int8{store.AskedWaiting}, Mine: by.Person.ID, All: by.Administers(), Limit: limit}
	open, err := v.Read.RoundsAtWork(v.Now())
	if err != nil {
		return none, err
	}
	for _, r := range open {
		if strings.EqualFold(r.StandIn, by.Person.Address) {
			q.Nobody = append(q.Nobody, r.ID)
		}
	}
	if q.Areas, err = v.AreasFor(access.RenewGroup); err != nil {
		return none, err
	}
	if q.After, err = v.Cursor(cursor, "what a round asks", by.Person.ID); err != nil {
		return none, err
	}
	p, err := v.Read.Asked(q)
	if err != nil {
		return none, err
	}
	items, err := questions(v, p.Items)
	return api.Page[api.RoundQuestion]{Items: items, Next: p.Next.String(), Total: p.Total}, err
}

// questions shapes what is asked, with what there is to know of the groups by now.
func questions(v *workspace.View, rows []store.RoundGroup) ([]api.RoundQuestion, error) {
	var ids, of []uuid.UUID
	for _, a := range rows {
		ids, of = append(ids, a.GroupID), append(of, a.RoundID)
	}
	groups, err := v.Read.GroupsByID(ids)
	if err != nil {
		return nil, err
	}
	rounds, err := v.Read.RoundsByID(of)
	if err != nil {
		return nil, err
	}
	owners, err := v.Read.Owners(ids)
	if err != nil {
		return nil, err
	}
	sizes, err := v.Read.Sizes(ids)
	if err != nil {
		return nil, err
	}
	relations, err := v.RelationsOf(v.By.Person, ids)
	if err != nil {
		return nil, err
	}
	last, err := v.Read.LastAnswers(ids, v.Now())
	if err != nil {
		return nil, err
	}
	since := map[uuid.UUID]time.Time{}
	for id, g := range groups {
		since[id] = g.CreatedAt
		if at, known := last[id]; known {
			since[id] = at
		}
	}
	moved, err := v.Read.MovedSince(since)
	if err != nil {
		return nil, err
	}
	t, err := v.Terms()
	if err != nil {
		return nil, err
	}
	out := []api.RoundQuestion{}
	for _, a := range rows {
		g, there := groups[a.GroupID]
		if !there {
			continue
		}
		r := rounds[a.RoundID]
		in := workspace.Group{Group: g, Relation: relations[g.ID]}
		_, confirmed := last[g.ID]
		q := api.RoundQuestion{ID: a.ID.String(), Round: r.Name, RoundID: r.ID.String(), Note: r.Note, Questions: asksOf(r.Questions), DueOn: dueOn(t, r), DaysLeft: t.Life.Days(v.Now(), r.EndsAt) - 1, Silence: r.Silence,
			Group: api.Name{Name: g.Name, Address: g.Address}, Description: g.Description, Sentence: g.Policy.Sentence(), Owners: []string{}, People: sizes[g.ID], External: g.ExternalMembers,
			Since: v.In(since[g.ID]), First: !confirmed, Came: moved[g.ID].Came, Left: moved[g.ID].Left, MayRetire: v.May(access.RetireGroup, &in), MayChange: v.May(access.ChangePeople, &in)}
		for _, o := range owners[g.ID] {
			q.Owners = append(q.Owners, o.Name)
		}
		out = append(out, q)
	}
	return out, nil
}

// Answer answers for groups, for each by itself; the results say what became of them.
func (s *Service) Answer(ctx context.Context, by workspace.Actor, n api.RoundAnswer) (api.DecidedAll, error) {
	if err := by.SignedIn(); err != nil {
		return api.DecidedAll{}, err
	}
	if err := by.Cover(string(access.ScopePeople)); err != nil {
		return api.DecidedAll{}, err
	}
	if n.Answer == "retire" { // is a change of groups, by whichever way
		if err := by.Cover(string(access.ScopeGroups)); err != nil {
			return api.DecidedAll{}, err
		}
	}
	var bad workspace.Problems
	bad.OneOf("answer", n.Answer, "keep", "retire", "hand_over")
	switch {
	case n.Answer == "hand_over" && n.To == "":
		bad.Add("to", "", "Say who owns them in your place.")
	case n.Answer != "hand_over" && n.To != "":
		bad.Add("to", n.To, "Only with hand_over somebody else owns them.")
	case n.Answer != "keep" && len(n.Remove) > 0:
		bad.Add("remove", nil, "Only with keep people are taken out.")
	case len(n.Remove) > 0 && len(n.IDs) > 1:
		bad.Add("remove", nil, "People are taken out of one group at a time: answer for the others apart.")
	}
	if err := bad.Err(); err != nil {
		return api.DecidedAll{}, err
	}
	done := map[string]string{"keep": "kept", "retire": "retired", "hand_over": "handed over"}[n.Answer]
	return workspace.EachOf(by, n.IDs, "group", done, func(by workspace.Actor, id string, out *api.Decided) error {
		return s.answer(ctx, by, id, n, out)
	})
}

// DecideOne answers for a group from the list of all that waits: to approve it is to keep the group as it is.
func (s *Service) DecideOne(ctx context.Context, by workspace.Actor, id uuid.UUID, d api.Decisions, out *api.Decided) error {
	a, err := s.k.View(ctx, by).Read.AskedByID([]uuid.UUID{id})
	if err != nil {
		return err
	}
	if _, there := a[id]; !there {
		return errNotAsked(id.String())
	}
	n := api.RoundAnswer{Answer: "keep", Note: d.Reason, Confirmed: nil}
	if d.Verdict != "approve" {
		return workspace.Fail(workspace.Conflict, "Answer it on its own page: take people out, hand the group over, or retire it.")
	}
	r, err := s.k.View(ctx, by).Read.Round(a[id].RoundID)
	if err != nil {
		return err
	}
	n.Confirmed = strings.Fields(r.Questions)
	return s.answer(ctx, by, id.String(), n, out)
}

func errNotAsked(id string) error {
	return workspace.Fail(workspace.NotFound, "You are not asked about %q.", workspace.Cut(id, 50))
}

// answer answers for one group.
func (s *Service) answer(ctx context.Context, by workspace.Actor, id string, n api.RoundAnswer, out *api.Decided) error {
	u, err := uuid.Parse(id)
	if err != nil {
		return errNotAsked(id)
	}
	v := s.k.View(ctx, by)
	all, err := v.Read.AskedByID([]uuid.UUID{u})
	if err != nil {
		return err
	}
	a, there := all[u]
	if !there {
		return errNotAsked(id)
	}
	r, err := v.Read.Round(a.RoundID)
	if err != nil {
		return err
	}
	return s.k.Do(ctx, by, func(c *workspace.Change) error {
		if _, err := c.Tx.RLockSetting(workspace.AreasSetting, new([]workspace.Area)); err != nil { // who helps
			return err
		}
		groups, err := c.Tx.LockGroups([]uuid.UUID{a.GroupID})
		if err != nil {
			return err
		}
		if err := c.RefreshActor(); err != nil {
			return err
		}
		row, there := groups[a.GroupID]
		if !there {
			return errNotAsked(id)
		}
		g, mine := c.Allowed(row, id, access.RenewGroup)
		if mine != nil {
			if !workspace.IsKind(mine, workspace.NotFound) && !workspace.IsKind(mine, workspace.NotAllowed) && !workspace.IsKind(mine, workspace.SignedOut) {
				return mine
			}
			to, err := recipients(&c.View, r, []uuid.UUID{row.ID})
			if err != nil {
				return err
			}
			if c.By.Person.Address == "" || !slices.ContainsFunc(to[row.ID], func(x string) bool { return strings.EqualFold(x, c.By.Person.Address) }) {
				return errNotAsked(id)
			}
			g = workspace.Hold(row)
		}
		asked, err := c.Tx.LockAsked(r.ID, []uuid.UUID{row.ID})
		if err != nil || len(asked) == 0 {
			return errors.Join(err, errNotAsked(id))
		}
		a := asked[0]
		out.Group = g.Name
		if err := takes(r, a); err != nil {
			return err
		}
		if c.Ended(&row) {
			return workspace.Fail(workspace.Conflict, "%s has ended meanwhile.", g.Name)
		}
		switch n.Answer {
		case "keep":
			return keep(c, r, a, g, n)
		case "retire":
			return retire(c, r, a, g, n)
		}
		return handOver(c, r, a, g, n)
	})
}

// takes reports why a group of a round takes no answer any more.
func takes(r store.Round, a store.RoundGroup) error {
	late := a.State == store.AskedSilent && r.State == store.RoundOver
	if a.State == store.AskedWaiting || late {
		return nil
	}
	switch {
	case a.AnsweredAt != nil:
		return workspace.Fail(workspace.Conflict, "%s has answered about %s already.", a.Answerer, a.Name)
	case r.State == store.RoundStopped:
		return workspace.Fail(workspace.Conflict, "%s was ended: nobody is asked any more.", r.Name)
	}
	return workspace.Fail(workspace.Conflict, "%s has ended meanwhile.", a.Name)
}

// settle writes an answer.
func settle(c *workspace.Change, a store.RoundGroup, state int8, note, says string) error {
	now, id := c.Now(), c.ID()
	a.State, a.Note, a.AnsweredBy, a.Answerer, a.Via, a.AnsweredAt, a.ChangeID = state, strings.TrimSpace(note), c.By.String(), c.By.Name(), c.By.Via, &now, &id
	if says != "" {
		a.Says = strings.TrimSpace(a.Says + " " + says)
	}
	return c.Tx.SaveAsked([]store.RoundGroup{a})
}

// keep confirms a group, once those are out who should not be in it. Its term begins again, so that nobody is asked twice.
func keep(c *workspace.Change, r store.Round, a store.RoundGroup, g *workspace.Locked, n api.RoundAnswer) error {
	var asked, confirmed []round.Question
	for _, q := range strings.Fields(r.Questions) {
		asked = append(asked, round.Question(q))
	}
	for _, q := range n.Confirmed {
		confirmed = append(confirmed, round.Question(q))
	}
	if left := round.Open(asked, confirmed); len(left) > 0 {
		return workspace.Wrong("confirmed", n.Confirmed, "To keep %s, confirm each of: %s. Missing: %s.", g.Name, strings.Join(strings.Fields(r.Questions), ", "), strings.Join(plain(left), ", "))
	}
	if len(n.Remove) > 0 && !c.May(access.ChangePeople, &g.Group) {
		return workspace.Fail(workspace.NotAllowed, "You can't take anybody out of %s. Ask its owners.", g.Name)
	}
	for i, address := range n.Remove {
		p, err := people.Find(&c.View, address)
		if err == nil {
			var in map[uuid.UUID]bool
			if in, err = c.Read.MemberIDs(g.ID, []uuid.UUID{p.ID}); err == nil && !in[p.ID] {
				err = workspace.Fail(workspace.NotFound, "not in it")
			}
		}
		if workspace.IsKind(err, workspace.NotFound) {
			return workspace.Wrong(fmt.Sprintf("remove[%d]", i), workspace.Cut(address, 100), "%s is not in %s.", workspace.Cut(address, 100), g.Name)
		} else if err != nil {
			return err
		}
		if err := member.TakeOut(c, g, p.ID, admission.Removing); err != nil {
			return err
		}
	}
	if slices.Contains(asked, round.Needed) && !g.Life().Expires.IsZero() {
		if err := life.Renew(c, "Confirmed in "+r.Name, g); err != nil {
			return err
		}
	}
	a.Confirmed, a.Removed = strings.Join(plain(confirmed), " "), len(n.Remove)
	c.Says(fmt.Sprintf("%s is confirmed.", g.Name))
	if err := settle(c, a, store.AskedKept, n.Note, ""); err != nil {
		return err
	}
	return c.Record(event.RoundAnswered{Round: r.Name, Confirmed: plain(confirmed), Removed: a.Removed, Note: n.Note}, &g.Group.Group)
}

func plain(all []round.Question) []string {
	out := make([]string, 0, len(all))
	for _, q := range round.Questions { // in their order, each once, and none that is none
		if slices.Contains(all, q.Question) {
			out = append(out, string(q.Question))
		}
	}
	return out
}

// retire ends a group that is not needed.
func retire(c *workspace.Change, r store.Round, a store.RoundGroup, g *workspace.Locked, n api.RoundAnswer) error {
	if !c.May(access.RetireGroup, &g.Group) {
		return workspace.Fail(workspace.NotAllowed, "You can't retire %s. Its owners can, and administrators.", g.Name)
	}
	if g.Kept != "" {
		return workspace.Fail(workspace.Conflict, "%s", life.WhyKept(&g.Group.Group))
	}
	if err := life.End(c, g); err != nil {
		return err
	}
	c.Says(fmt.Sprintf("%s is retired. It can be restored.", g.Name))
	if err := settle(c, a, store.AskedRetired, n.Note, ""); err != nil {
		return err
	}
	return c.Record(event.RoundAnswered{Round: r.Name, Retired: true, Note: n.Note}, &g.Group.Group)
}

// handOver makes somebody else an owner in the place of the actor. They are asked then.
func handOver(c *workspace.Change, r store.Round, a store.RoundGroup, g *workspace.Locked, n api.RoundAnswer) error {
	if !c.May(access.ChangePeople, &g.Group) {
		return workspace.Fail(workspace.NotAllowed, "You can't hand %s over. Its owners can, and administrators.", g.Name)
	}
	p, err := people.Find(&c.View, n.To)
	switch {
	case workspace.IsKind(err, workspace.NotFound) || err == nil && (p.External || !p.Active):
		return workspace.Wrong("to", workspace.Cut(n.To, 100), "Nobody who is here has the address %s.", workspace.Cut(n.To, 100))
	case err != nil:
		return err
	case p.ID == c.By.Person.ID:
		return workspace.Wrong("to", n.To, "That is you. Name somebody else, or keep it.")
	}
	owners, err := c.Read.Owners([]uuid.UUID{g.ID})
	if err != nil {
		return err
	}
	owns := func(id uuid.UUID) bool {
		return slices.ContainsFunc(owners[g.ID], func(o store.OwnerRow) bool { return o.MemberID == id })
	}
	if !owns(p.ID) {
		if err := member.MakeOwner(c, g, p); err != nil {
			return err
		}
	}
	if owns(c.By.Person.ID) && !c.Previewing() { // what is only looked at has put nobody in
		if err := member.StepDown(c, g, c.By.Person.ID, expand.Member); err != nil {
			return err
		}
	}
	t, err := c.Terms()
	if err != nil {
		return err
	}
	a.State, a.Nobody = store.AskedWaiting, false
	a.Says = workspace.Cut(strings.TrimSpace(fmt.Sprintf("%s Handed over by %s to %s on %s.", a.Says, c.By.Name(), p.Name, workspace.DateIn("en", c.Now().In(t.Life.Zone)))), 1000)
	if n.Note != "" {
		a.Note = strings.TrimSpace(n.Note)
	}
	c.Says(fmt.Sprintf("%s owns %s now, and is asked about it.", p.Name, g.Name))
	if err := c.Tx.SaveAsked([]store.RoundGroup{a}); err != nil {
		return err
	}
	l := c.GroupLetter(workspace.LetterRoundHanded, &g.Group.Group, "/confirm", map[string]string{"by": c.By.Name(), "round": r.Name, "note": strings.TrimSpace(n.Note), "date": workspace.DateIn(g.Language, t.Life.After(r.EndsAt, -1).In(t.Life.Zone))})
	return c.Send(&g.Group.Group, []string{p.Address}, l)
}
