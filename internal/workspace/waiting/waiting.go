// Package waiting is all that needs somebody's decision, of every kind, in one list: posts held
// for approval, requests to join or leave, changes of who is in by rule that a guard holds back, groups
// that would be in others.
package waiting

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/consent"
	"ivytable.example/ivytable/internal/workspace/joining"
	"ivytable.example/ivytable/internal/workspace/people"
	"ivytable.example/ivytable/internal/workspace/post"
	"ivytable.example/ivytable/internal/workspace/round"
	"ivytable.example/ivytable/internal/workspace/rules"
)

// Service is what waits.
type Service struct {
	k       *workspace.Kernel
	post    *post.Service
	joining *joining.Service
	rules   *rules.Service
	consent *consent.Service
	round   *round.Service
}

// New returns the service of a workspace; the others do what is decided.
func New(k *workspace.Kernel, p *post.Service, j *joining.Service, r *rules.Service, c *consent.Service, o *round.Service) *Service {
	return &Service{k, p, j, r, c, o}
}

// Kinds are the kinds of what waits.
var Kinds = []string{store.WaitingPost, store.ToJoin, store.ToLeave, store.WaitingRule, store.WaitingNest, store.WaitingRound}

// query is what waits for the actor: of all groups, or of those that they help to run, also as the helper of
// an area.
func query(v *workspace.View) (store.WaitingQuery, error) {
	if v.By.Administers() {
		return store.WaitingQuery{Own: v.By.Person.ID}, nil
	}
	q := store.WaitingQuery{Person: v.By.Person.ID, Areas: map[string]store.Areas{}}
	for kind, do := range map[string]access.Action{store.WaitingPost: access.DecidePosts, store.ToJoin: access.DecideRequests, store.WaitingRule: access.ChangeRule, store.WaitingNest: access.ChangeGroup, store.WaitingRound: access.RenewGroup} {
		areas, err := v.AreasFor(do)
		if err != nil {
			return q, err
		}
		q.Areas[kind] = areas
	}
	return q, nil
}

// Count counts what waits for the actor's decision.
func Count(v *workspace.View) (int, error) {
	q, err := query(v)
	if err != nil {
		return 0, err
	}
	n, err := v.Read.CountWaiting(q)
	return int(n), err
}

// List lists what waits for the actor's decision, oldest first: of one group, or of all; of
// some kinds, or of every kind.
func (s *Service) List(ctx context.Context, by workspace.Actor, ref string, kinds []string, cursor string, limit int) (api.Page[api.Waiting], error) {
	none := api.Page[api.Waiting]{}
	if err := by.SignedIn(); err != nil {
		return none, err
	}
	var bad workspace.Problems
	for _, k := range kinds {
		bad.OneOf("kind", k, Kinds...)
	}
	if err := bad.Err(); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	q, err := query(v)
	if err != nil {
		return none, err
	}
	q.Kinds, q.Limit = kinds, limit
	if ref != "" {
		g, err := v.FindGroup(ref, access.DecidePosts)
		if err != nil {
			return none, err
		}
		q.Group = g.ID
	}
	if q.After, err = v.Cursor(cursor, "all that waits", q.Group, q.Person, kinds); err != nil {
		return none, err
	}
	p, err := v.Read.Waiting(q)
	if err != nil {
		return none, err
	}
	about, err := read(v, p.Items)
	return workspace.Page(p, func(w store.WaitingItem) api.Waiting { return about.shape(v, w) }), err
}

// details is what belongs to items that wait.
type details struct {
	groups   map[uuid.UUID]store.Group
	mailings map[uuid.UUID]store.Mailing
	messages map[uuid.UUID]store.Message
	requests map[uuid.UUID]store.Request
	people   map[uuid.UUID]store.Person
	rules    map[uuid.UUID]store.GroupRule
	consents map[uuid.UUID]store.Consent
	in       map[uuid.UUID][]uuid.UUID
	asked    map[uuid.UUID]store.RoundGroup
	rounds   map[uuid.UUID]store.Round
}

// read reads what belongs to items, all at once.
func read(v *workspace.View, items []store.WaitingItem) (d details, err error) {
	ids := map[string][]uuid.UUID{}
	var groups []uuid.UUID
	for _, w := range items {
		kind := w.Kind
		if kind == store.ToLeave {
			kind = store.ToJoin
		}
		ids[kind], groups = append(ids[kind], w.ID), append(groups, w.GroupID)
	}
	if d.consents, err = v.Read.ConsentsByID(ids[store.WaitingNest]); err != nil {
		return d, err
	}
	var outer []uuid.UUID
	for _, x := range d.consents {
		outer = append(outer, x.OuterID)
	}
	if d.in, err = v.Read.NestedIn(outer); err != nil {
		return d, err
	}
	if d.groups, err = v.Read.GroupsByID(append(groups, outer...)); err != nil {
		return d, err
	}
	if d.mailings, err = v.Read.Mailings(ids[store.WaitingPost]); err != nil {
		return d, err
	}
	var messages, who []uuid.UUID
	for _, m := range d.mailings {
		messages = append(messages, m.MessageID)
	}
	if d.messages, err = v.Read.Messages(messages, false); err != nil {
		return d, err
	}
	if d.requests, err = v.Read.RequestsByID(ids[store.ToJoin]); err != nil {
		return d, err
	}
	for _, r := range d.requests {
		who = append(who, r.PersonID)
	}
	if d.people, err = v.Read.PeopleByID(who); err != nil {
		return d, err
	}
	if d.asked, err = v.Read.AskedByID(ids[store.WaitingRound]); err != nil {
		return d, err
	}
	var rounds []uuid.UUID
	for _, a := range d.asked {
		rounds = append(rounds, a.RoundID)
	}
	if d.rounds, err = v.Read.RoundsByID(rounds); err != nil {
		return d, err
	}
	d.rules, err = v.Read.RulesOf(ids[store.WaitingRule])
	return d, err
}

func (d details) shape(v *workspace.View, w store.WaitingItem) api.Waiting {
	g := d.groups[w.GroupID]
	out := api.Waiting{ID: w.ID.String(), Kind: w.Kind, Group: api.Name{Name: g.Name, Address: g.Address}, At: v.In(w.At)}
	switch w.Kind {
	case store.WaitingPost:
		m := d.mailings[w.ID]
		x := d.messages[m.MessageID]
		out.Who, out.Subject, out.Proven, out.Size, out.Says = api.Name{Name: x.Author, Address: x.Author}, x.Subject, x.Proven, x.Size, post.WhyHeld(m)
	case store.WaitingRule:
		var p store.PendingRuleChange
		_ = json.Unmarshal(d.rules[w.ID].Pending, &p) // written by the rules
		out.Subject = fmt.Sprintf("%s would leave by its rule", number.Of(p.Go, "member"))
		out.Says = workspace.UpperFirst(p.Cause) + ". Approve it, and they go; decline it, and they stay as members by hand."
	case store.WaitingNest:
		x := d.consents[w.ID]
		outer := d.groups[x.OuterID]
		out.Who, out.Proven, out.Subject = api.Name{Name: outer.Name, Address: outer.Address}, true, fmt.Sprintf("May it be in %s?", outer.Name)
		out.Says = fmt.Sprintf("%s asks. Its people would get the mail of %s.", cmp.Or(x.AskedBy, "Somebody"), outer.Address)
		if slices.Contains(d.in[x.OuterID], x.GroupID) {
			out.Says = fmt.Sprintf("It is in %s since %s, by %s. Approve it, and it stays; decline it, and its people get that mail no more.", outer.Address, v.In(x.AskedAt).Format("2 Jan 2006"), cmp.Or(x.AskedBy, "somebody"))
		}
	case store.WaitingRound:
		r := d.rounds[d.asked[w.ID].RoundID]
		out.Who, out.Proven, out.Subject = api.Name{Name: cmp.Or(r.Maker, "An administrator"), Address: r.Maker}, true, fmt.Sprintf("Is it needed and right? By %s", v.In(r.EndsAt.AddDate(0, 0, -1)).Format("2 Jan 2006"))
		out.Says = fmt.Sprintf("%s asks. Approve it to keep the group as it is; for everything else, answer on the page of what is to be confirmed.", r.Name)
	default:
		r := d.requests[w.ID]
		p := d.people[r.PersonID]
		f := v.Sees(people.Fields(p), false)
		about := slices.DeleteFunc([]string{f["title"], f["department"], f["locality"]}, func(s string) bool { return s == "" })
		if p.External {
			about = []string{workspace.FromOutside}
		}
		out.External = p.External
		out.Who, out.Subject, out.Says, out.Proven = api.Name{Name: p.Name, Address: p.Address}, r.Note, strings.Join(about, ", "), true
	}
	return out
}

// Decide approves or declines what waits, each by itself, whatever its kind; the results say
// what became of them.
func (s *Service) Decide(ctx context.Context, by workspace.Actor, d api.Decisions) (api.DecidedAll, error) {
	if err := by.SignedIn(); err != nil {
		return api.DecidedAll{}, err
	}
	return workspace.DecideEach(by, d, "decision", func(by workspace.Actor, id string, out *api.Decided) error {
		none := workspace.Fail(workspace.NotFound, "There is nothing %q that waits for you.", workspace.Cut(id, 50))
		u, err := uuid.Parse(id)
		if err != nil {
			return none
		}
		v := s.k.View(ctx, by)
		if _, err := v.Read.Mailing(u); err == nil {
			return s.post.DecideOne(ctx, by, id, d, out)
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := by.Cover(string(access.ScopePeople)); err != nil { // what follows is about people
			return err
		}
		if _, err := v.Read.Request(u); err == nil {
			return s.joining.DecideOne(ctx, by, id, d, out)
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if err := s.consent.DecideOne(ctx, by, u, d, out); !workspace.IsKind(err, workspace.NotFound) {
			return err
		}
		if err := s.round.DecideOne(ctx, by, u, d, out); !workspace.IsKind(err, workspace.NotFound) {
			return err
		}
		err = s.rules.Decide(ctx, by, id, d.Verdict == "approve", out)
		if workspace.IsKind(err, workspace.NotFound) || workspace.IsKind(err, workspace.NotAllowed) {
			return none // who may not decide is told nothing of it
		}
		return err
	})
}
