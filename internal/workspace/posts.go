package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
)

// Part is which of a group's addresses a message was sent to.
type Part int8

// The parts.
const (
	ToGroup   Part = iota
	ToOwners       // LOCAL-owners@DOMAIN
	ToBounces      // LOCAL-bounces@DOMAIN
)

// Target is where a message goes.
type Target struct {
	Group store.Group
	Part  Part
}

// Target returns the group that an address leads to. Its error is NotFound for an
// address of nobody, Conflict for a group that takes no mail because it has ended.
func (w *Workspace) Target(ctx context.Context, a mailaddr.Address) (Target, error) {
	var t Target
	key := a.Key()
	local, domain, _ := strings.Cut(key, "@")
	if l, ok := strings.CutSuffix(local, mailaddr.OwnersSuffix); ok {
		t.Part, key = ToOwners, l+"@"+domain
	} else if l, ok := strings.CutSuffix(local, mailaddr.BouncesSuffix); ok {
		t.Part, key = ToBounces, l+"@"+domain
	}
	g, err := w.store.GroupByAddress(ctx, key)
	if errors.Is(err, store.ErrNotFound) {
		return t, fail(NotFound, "There is no group with the address %s.", a)
	}
	if err != nil {
		return t, err
	}
	t.Group = g
	if t.Part == ToBounces {
		return t, nil
	}
	return t, w.takesMail(ctx, &g)
}

func (w *Workspace) takesMail(ctx context.Context, g *store.Group) error {
	e, err := w.expiry(ctx)
	if err != nil {
		return err
	}
	switch e.policy.State(g.Life(), w.now(ctx)) {
	case lifecycle.Lapsed:
		return fail(Conflict, "The group %s has lapsed and takes no mail. Its owners or an administrator can restore it.", g.Address)
	case lifecycle.Retired:
		return fail(Conflict, "The group %s was retired and takes no mail. Its owners or an administrator can restore it.", g.Address)
	}
	return nil
}

// Decide says what would become of a message by author to a target.
func (w *Workspace) Decide(ctx context.Context, t Target, author mailaddr.Address, proven bool) (policy.Decision, store.Person, error) {
	p, err := w.store.PersonByKey(ctx, author.Key())
	known := err == nil && p.Active
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return policy.Decision{}, p, err
	}
	domains, err := w.store.Domains(ctx)
	if err != nil {
		return policy.Decision{}, p, err
	}
	settled, err := w.store.StandingOf(ctx, t.Group.ID, author.Key())
	if err != nil {
		return policy.Decision{}, p, err
	}
	who := policy.Author{Rung: policy.Anyone, Workspace: slices.Contains(domains, author.Domain()), Proven: proven, Standing: settled.Standing}
	if known {
		s, err := w.standingOf(ctx, p, &t.Group)
		if err != nil {
			return policy.Decision{}, p, err
		}
		who.Rung = s.rung
		if m, err := w.store.Membership(ctx, t.Group.ID, p.ID); err == nil {
			who.Newcomer = w.now(ctx).Sub(m.AddedAt) < policy.NewcomerDays*24*time.Hour
		}
	}
	rules := t.Group.Policy()
	if t.Part == ToOwners { // the same rules, asked about writing to the owners
		rules.Answers[policy.Post] = rules.Answers[policy.WriteOwners]
	}
	return rules.Post(who), p, nil
}

// recipients returns who gets a message to a target, each address once.
func (w *Workspace) recipients(ctx context.Context, t Target) ([]string, error) {
	if t.Part == ToOwners {
		return w.noticeRecipients(ctx, &t.Group)
	}
	below, err := w.store.NestedBelow(ctx, t.Group.ID, w.now(ctx))
	if err != nil {
		return nil, err
	}
	entries, err := w.store.PeopleIn(ctx, expand.Reach(t.Group.ID, below))
	if err != nil {
		return nil, err
	}
	var out []string
	for _, e := range expand.People(t.Group.ID, entries) {
		if e.Mail {
			out = append(out, e.Address)
		}
	}
	return out, nil
}

// Incoming is a message that arrived for a target. Raw is what would go out.
type Incoming struct {
	Target    Target
	Author    mailaddr.Address
	Proven    bool
	MessageID string
	Subject   string
	Raw       []byte
	Sender    string // of the envelope on the way out
}

// Refused says that the rules refuse a message.
type Refused struct {
	Group    store.Group
	Decision policy.Decision
}

func (r *Refused) Error() string {
	return fmt.Sprintf("%s does not take this message. %s", r.Group.Address, r.Decision.Says())
}

// Accept decides about messages that arrived together and records them, their
// decisions and their deliveries in one transaction. When the rules refuse one,
// nothing is recorded and the error is a *[Refused].
func (w *Workspace) Accept(ctx context.Context, in []Incoming) error {
	type ready struct {
		m  store.Message
		to []string
	}
	var all []ready
	now := w.now(ctx)
	for _, x := range in {
		r := ready{m: store.Message{ID: store.NewID(), GroupID: &x.Target.Group.ID, Kind: store.KindPost, State: store.Accepted, Part: int8(x.Target.Part), MessageID: x.MessageID, Sender: x.Sender,
			Author: x.Author.String(), Proven: x.Proven, Subject: cut(x.Subject, 900), Size: len(x.Raw), Raw: x.Raw, Decision: json.RawMessage("{}"), ReceivedAt: now}}
		if x.Target.Part == ToBounces {
			r.m.Kind = store.KindBounce
			all = append(all, r)
			continue
		}
		d, p, err := w.Decide(ctx, x.Target, x.Author, x.Proven)
		if err != nil {
			return err
		}
		if d.Outcome == policy.Refuse {
			return &Refused{x.Target.Group, d}
		}
		if p.ID != uuid.Nil {
			r.m.AuthorID = &p.ID
		}
		if r.m.Decision, err = json.Marshal(decision(d)); err != nil {
			return err
		}
		if d.Outcome == policy.HoldIt {
			r.m.State = store.Waiting
		} else if r.to, err = w.recipients(ctx, x.Target); err != nil {
			return err
		}
		all = append(all, r)
	}
	err := w.store.Tx(ctx, func(t *store.Store) error {
		for _, r := range all {
			if err := t.AddMessage(ctx, r.m, r.to); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		w.o.Wake()
	}
	return err
}

func decision(d policy.Decision) api.Decision {
	out := api.Decision{Outcome: d.Outcome.String(), Rule: d.RuleName(), Reasons: []api.Reason{}}
	for _, r := range d.Reasons() {
		reason := api.Reason{Rule: r.Rule, Says: r.Says}
		if r.Mend != "" {
			reason.Mend = &r.Mend
		}
		out.Reasons = append(out.Reasons, reason)
	}
	return out
}

// Rehearse answers what would happen, without doing it. The actor may ask as
// themselves, or as anybody about a group that they help to run.
func (w *Workspace) Rehearse(ctx context.Context, a Actor, r api.Rehearsal) (api.Decision, error) {
	none := api.Decision{}
	as, err := parseAddress("as", r.As)
	if err != nil {
		return none, err
	}
	do := rehearse
	if as.Key() == a.Person.AddrKey {
		do = readGroup
	}
	g, s, err := w.findFor(ctx, a, do, r.Group)
	if err != nil {
		return none, err
	}
	if r.Action == "post" {
		return w.rehearsePost(ctx, a, s, Target{Group: g}, as, r.Proven == nil || *r.Proven)
	}
	q, err := policy.ParseQuestion(r.Action)
	if err != nil {
		return none, wrong("action", r.Action, upperFirst(err.Error())+".")
	}
	rung := policy.Anyone
	if p, err := w.store.PersonByKey(ctx, as.Key()); err == nil && p.Active {
		s, err := w.standingOf(ctx, p, &g)
		if err != nil {
			return none, err
		}
		rung = s.rung
	} else if err != nil && !errors.Is(err, store.ErrNotFound) {
		return none, err
	}
	rules := g.Policy()
	return decision(rules.Allows(q, rung)), nil
}

// rehearsePost decides about a post. Its recipients are told to whoever may see
// the people of the group.
func (w *Workspace) rehearsePost(ctx context.Context, a Actor, s standing, t Target, as mailaddr.Address, proven bool) (api.Decision, error) {
	if err := w.takesMail(ctx, &t.Group); err != nil {
		var e *Error
		if !errors.As(err, &e) {
			return api.Decision{}, err
		}
		mend := "Restore the group."
		return api.Decision{Outcome: "refuse", Rule: "state", Reasons: []api.Reason{{Rule: "state", Says: e.Says, Mend: &mend}}}, nil
	}
	if as.Key() == a.Person.AddrKey && s.rung > policy.Moderators && !a.readsAll() {
		proven = true // nobody but staff asks about mail without proof
	}
	d, _, err := w.Decide(ctx, t, as, proven)
	if err != nil {
		return api.Decision{}, err
	}
	out := decision(d)
	if d.Outcome != policy.Refuse && a.may(seePeople, &t.Group, s) {
		to, err := w.recipients(ctx, t)
		if err != nil {
			return out, err
		}
		out.Recipients = &api.Recipients{Count: len(to), Sample: orEmpty(to[:min(len(to), 5)])}
	}
	return out, nil
}

// WaitingPosts lists posts that wait for approval: of one group, or of all those
// that the actor decides about.
func (w *Workspace) WaitingPosts(ctx context.Context, a Actor, ref, cursor string, limit int) (api.Page[api.Post], error) {
	none := api.Page[api.Post]{}
	if err := signedIn(a); err != nil {
		return none, err
	}
	after, err := store.ParseCursor(cursor)
	if err != nil {
		return none, wrong("cursor", cursor, says(err)+".")
	}
	var only, mine uuid.UUID
	switch {
	case ref != "":
		g, _, err := w.findFor(ctx, a, decidePosts, ref)
		if err != nil {
			return none, err
		}
		only = g.ID
	case !a.administrator():
		mine = a.Person.ID
	}
	page, err := w.store.WaitingPosts(ctx, mine, only, after, limit)
	if err != nil {
		return none, err
	}
	var ids []uuid.UUID
	for _, m := range page.Items {
		ids = append(ids, *m.GroupID)
	}
	groups, err := w.store.GroupsByID(ctx, ids)
	return pageOf(page, func(m store.Message) api.Post {
		g := groups[*m.GroupID]
		p := api.Post{ID: m.ID.String(), Group: api.Name{Name: g.Name, Address: g.Address}, Author: m.Author, Proven: m.Proven, Subject: m.Subject, Size: m.Size, ReceivedAt: m.ReceivedAt}
		_ = json.Unmarshal(m.Decision, &p.Decision) // written by Accept
		return p
	}), err
}

// DecidePost approves or declines a post that waits. A declined author is told,
// when it is proven who that is.
func (w *Workspace) DecidePost(ctx context.Context, a Actor, id string, v api.Verdict) error {
	if err := signedIn(a); err != nil {
		return err
	}
	none := fail(NotFound, "There is no post %q that waits for you.", cut(id, 50))
	u, err := uuid.Parse(id)
	if err != nil {
		return none
	}
	if v.Verdict != "approve" && v.Verdict != "decline" {
		return wrong("verdict", v.Verdict, fmt.Sprintf("There is no verdict %q: choose approve or decline.", v.Verdict))
	}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		m, err := t.LockMessage(ctx, u)
		if errors.Is(err, store.ErrNotFound) || err == nil && (m.Kind != store.KindPost || m.GroupID == nil) {
			return none
		}
		if err != nil {
			return err
		}
		g, err := t.Group(ctx, *m.GroupID)
		if err != nil {
			return err
		}
		if s, err := w.standingOf(ctx, a.Person, &g); err != nil || !a.may(decidePosts, &g, s) {
			return errors.Join(err, none)
		}
		if m.State != store.Waiting {
			return fail(Conflict, "%s has been %s already, by %s.", m.Subject, m.State, m.DecidedBy)
		}
		action, state := "post.approve", store.Accepted
		if v.Verdict == "decline" {
			action, state = "post.decline", store.Declined
			if m.Proven {
				if err := w.send(ctx, t, &g, []string{m.Author}, w.letter(letterPostDeclined, g, "", map[string]string{"subject": m.Subject, "reason": v.Reason})); err != nil {
					return err
				}
			}
		} else {
			if err := w.takesMail(ctx, &g); err != nil {
				return err
			}
			to, err := w.recipients(ctx, Target{g, Part(m.Part)})
			if err != nil {
				return err
			}
			if err := t.AddDeliveries(ctx, m.ID, to); err != nil {
				return err
			}
		}
		if err := t.DecideMessage(ctx, m.ID, state, a.Person.Address, v.Reason); err != nil {
			return err
		}
		changes := []api.FieldChange{{Field: "subject", From: m.Subject, To: m.Subject}, {Field: "state", From: store.Waiting, To: state}}
		if v.Reason != "" {
			changes = append(changes, api.FieldChange{Field: "reason", To: v.Reason})
		}
		return record(ctx, t, a, w.now(ctx), action, &g, m.Author, changes)
	})
	if err == nil {
		w.o.Wake()
	}
	return err
}
