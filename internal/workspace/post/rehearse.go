package post

import (
	"context"
	"errors"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// shape is a decision as the interface shows it.
func shape(d store.Decision) api.Decision {
	out := api.Decision{Outcome: d.Outcome, Rule: d.Rule, Reasons: make([]api.Reason, len(d.Reasons))}
	for i, r := range d.Reasons {
		out.Reasons[i] = api.Reason(r)
	}
	return out
}

// Rehearse answers what would happen, without doing it. The actor may ask as
// themselves, or as anybody about a group that they help to run.
func (s *Service) Rehearse(ctx context.Context, by workspace.Actor, r api.Rehearsal) (api.Decision, error) {
	none := api.Decision{}
	as, err := workspace.ParseAddress("as", r.As)
	if err != nil {
		return none, err
	}
	do := access.Rehearse
	if as.Key() == by.Person.AddrKey {
		do = access.ReadGroup
	}
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(r.Group, do)
	if err != nil {
		return none, err
	}
	if r.Action == "post" {
		return rehearsePost(v, g, as, r.Proven == nil || *r.Proven)
	}
	q, err := policy.ParseSetting(r.Action)
	if err != nil || !q.Question() {
		return none, workspace.Wrong("action", r.Action, "There is no question %q: choose find, see_people, read, post, write_owners, add_people, speak_as, speak_for.", workspace.Cut(r.Action, 50))
	}
	rung := policy.Anyone
	if p, err := v.Read.PersonByKey(as.Key()); err == nil && p.Active {
		relation, err := v.RelationOf(p, &g.Group)
		if err != nil {
			return none, err
		}
		rung = relation.Rung
	} else if err != nil && !errors.Is(err, store.ErrNotFound) {
		return none, err
	}
	return shape(stored(g.Policy.Allows(q, rung))), nil
}

// rehearsePost decides about a post. Its recipients are told to whoever may see the people
// of the group.
func rehearsePost(v *workspace.View, g workspace.Group, as mailaddr.Address, proven bool) (api.Decision, error) {
	if err := takesMail(v, &g.Group); err != nil {
		var e *workspace.Error
		if !errors.As(err, &e) {
			return api.Decision{}, err
		}
		mend := "Restore the group."
		return api.Decision{Outcome: "refuse", Rule: "state", Reasons: []api.Reason{{Rule: "state", Says: e.Says, Mend: &mend}}}, nil
	}
	if as.Key() == v.By.Person.AddrKey && g.Relation.Rung > policy.Moderators && !v.By.Subject().ReadsAll() {
		proven = true // nobody but staff asks about mail without proof
	}
	d, _, err := decide(v, &g.Group, ToGroup, as, proven, false)
	if err != nil {
		return api.Decision{}, err
	}
	out := shape(stored(d))
	if d.Outcome != policy.Refuse && v.May(access.SeePeople, &g) {
		entries, hidden, err := member.Visible(v, &g.Group)
		if err != nil {
			return out, err
		}
		to := addresses(entries)
		out.Recipients = &api.Recipients{Count: len(to), Sample: append([]string{}, to[:min(len(to), 5)]...), Hidden: hidden}
	}
	return out, nil
}
