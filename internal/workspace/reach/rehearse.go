package reach

import (
	"context"
	"errors"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// Rehearse answers what would happen, without doing it. The actor may ask as themselves, as a
// role, or as anybody about a group that they help to run.
func (s *Service) Rehearse(ctx context.Context, by workspace.Actor, r api.Rehearsal) (api.Decision, error) {
	none := api.Decision{}
	var bad workspace.Problems
	bad.OneOf("action", r.Action, Actions...)
	bad.OneOf("role", r.Role, Roles...)
	switch {
	case r.Action == "":
		bad.Add("action", "", "Say what would be done: %s.", strings.Join(Actions, ", "))
	case (r.As == "") == (r.Role == ""):
		bad.Add("as", r.As, "Say who would do it: an address, or a role in its place.")
	case r.With != "" && r.Action != "nest":
		bad.Add("with", r.With, "Only nesting is asked with another group.")
	}
	if err := bad.Err(); err != nil {
		return none, err
	}
	proven := r.Proven == nil || *r.Proven
	v := s.k.View(ctx, by)
	if r.Role != "" {
		g, err := v.FindGroup(r.Group, access.ReadGroup)
		if err != nil {
			return none, err
		}
		x, err := open(v, &g)
		if err != nil {
			return none, err
		}
		return x.answer(r, x.role(r.Role, proven), "")
	}
	as, err := workspace.ParseAddress("as", r.As)
	if err != nil {
		return none, err
	}
	p, err := v.Read.PersonByKey(as.Key())
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return none, err
	}
	do := access.Rehearse
	self := p.ID != uuid.Nil && p.ID == by.Person.ID
	if self {
		do = access.ReadGroup
	}
	g, err := v.FindGroup(r.Group, do)
	if err != nil {
		return none, err
	}
	if self && g.Relation.Rung > policy.Moderators && !by.Subject().ReadsAll() {
		proven = true // nobody but those who run it ask about mail without proof
	}
	x, err := open(v, &g)
	if err != nil {
		return none, err
	}
	if p.ID == uuid.Nil {
		o, err := v.Read.Holds(g.ID, as.Key())
		if err != nil {
			return none, err
		}
		return x.answer(r, x.address(as, o, proven), "")
	}
	sight, err := member.Look(v, &g)
	if err != nil {
		return none, err
	}
	places, err := sight.Places([]store.Person{p})
	if err != nil {
		return none, err
	}
	o, err := v.Read.Holds(g.ID, p.AddrKey)
	if err != nil {
		return none, err
	}
	hidden := sight.Hidden
	if self {
		hidden = ""
	}
	return x.answer(r, x.person(p, places[p.ID], o, proven), hidden)
}

// answer decides, and says whom a post would reach.
func (x asked) answer(r api.Rehearsal, who somebody, hidden string) (api.Decision, error) {
	told := x.decide(r.Action, who)
	if r.Action == "nest" && told.Outcome == policy.Allow && r.With != "" {
		inner, err := x.nest(r.With, who)
		if err != nil {
			return api.Decision{}, err
		}
		if inner.Outcome != policy.Allow {
			told = inner
		}
	}
	out := shape(told)
	out.Hidden = hidden
	if r.Action == "post" {
		out.Notice = x.g.Mail.Notice
	}
	if told.Outcome == policy.Refuse || r.Action != "post" || !x.v.May(access.SeePeople, x.g) {
		return out, nil
	}
	var err error
	out.Recipients, err = recipients(x.v, x.g)
	return out, err
}

// nest decides about putting another group into this one.
func (x asked) nest(inner string, who somebody) (policy.Told, error) {
	g, err := x.v.FindGroup(inner, access.ReadGroup)
	if err != nil {
		return policy.Told{}, err
	}
	c, err := member.InnerGroup(x.v, x.g.ID, &g)
	if err != nil {
		return policy.Told{}, err
	}
	var there access.Relation // where they stand with the group that would be put into this one
	if who.person.ID != uuid.Nil {
		if there, err = x.v.RelationOf(who.person, &g.Group); err != nil {
			return policy.Told{}, err
		}
	}
	c.Agrees = who.subject.May(access.ChangeGroup, there, &g.Policy)
	door := x.v.Door(&x.g.Group)
	as := admission.As{Role: expand.Member, Staff: who.subject.May(access.ChangePeople, who.relation, &x.g.Policy), Other: true}
	return admission.In(admission.Adding, door, c, as).Told(door, policy.AddPeople), nil
}

// Writing says to somebody who is about to write to a group what they should know: what would become of
// it, what the group says to those who write, and how many people it reaches.
func (s *Service) Writing(ctx context.Context, by workspace.Actor, ref string) (api.Writing, error) {
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.ReadGroup)
	if err != nil {
		return api.Writing{}, err
	}
	x, err := open(v, &g)
	if err != nil {
		return api.Writing{}, err
	}
	sight, err := member.Look(v, &g)
	if err != nil {
		return api.Writing{}, err
	}
	places, err := sight.Places([]store.Person{by.Person})
	if err != nil {
		return api.Writing{}, err
	}
	o, err := v.Read.Holds(g.ID, by.Person.AddrKey)
	if err != nil {
		return api.Writing{}, err
	}
	told := x.decide("post", x.person(by.Person, places[by.Person.ID], o, true))
	out := api.Writing{Group: api.Name{Name: g.Name, Address: g.Address}, Outcome: told.Outcome.String(), Says: says(told), Notice: g.Mail.Notice, Replies: workspace.MailTexts(g.Mail.Texts).Reply}
	if v.May(access.SeePeople, &g) {
		err = v.Read.Size(&g.Group)
		n := g.Shown
		out.People = &n
	}
	return out, err
}

// maxWays is how many of the recipients of a rehearsed post are named.
const maxWays = 20

// recipients says whom a post would reach, as far as the actor sees who is in the group, and the way
// to some of them.
func recipients(v *workspace.View, g *workspace.Group) (*api.Recipients, error) {
	out := &api.Recipients{Sample: []string{}}
	var some []uuid.UUID
	var err error
	if out.Count, out.Without, some, out.Hidden, err = member.Reached(v, &g.Group, maxWays); err != nil {
		return nil, err
	}
	people, err := v.Read.PeopleByID(some)
	if err != nil {
		return nil, err
	}
	sight, err := member.Look(v, g)
	if err != nil {
		return nil, err
	}
	list := make([]store.Person, 0, len(some))
	for _, id := range some {
		list = append(list, people[id])
		if len(out.Sample) < 5 {
			out.Sample = append(out.Sample, people[id].Address)
		}
	}
	places, err := sight.Places(list)
	for _, p := range list {
		w := api.Way{Name: p.Name, Address: p.Address, External: p.External, Through: places[p.ID].Through}
		if r := places[p.ID].Relation.Role; r != 0 {
			w.Role, w.Through = r.String(), nil
		}
		out.Ways = append(out.Ways, w)
	}
	return out, err
}
