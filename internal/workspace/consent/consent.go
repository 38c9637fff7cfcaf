// Package consent is what those who run a group agree to about its being in another: groups in groups
// take two sides.
package consent

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// Service is consent to nesting.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// All lists which groups are in which, oldest first, with what is agreed and what is doubtful about it;
// with asked, only what those who run the inner groups have not agreed to yet.
func (s *Service) All(ctx context.Context, by workspace.Actor, asked bool, cursor string, limit int) (api.Page[api.Nested], error) {
	none := api.Page[api.Nested]{}
	if err := by.Allow(access.ReadNestings); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	after, err := v.Cursor(cursor, "consents", asked)
	if err != nil {
		return none, err
	}
	return list(v, store.ConsentQuery{Asked: asked, After: after, Limit: limit})
}

// Of lists what is agreed and asked for about groups in one, and about it in others: to those who add
// people to it the first alone.
func (s *Service) Of(ctx context.Context, by workspace.Actor, ref, cursor string, limit int) (api.Page[api.Nested], error) {
	none := api.Page[api.Nested]{}
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.ReadGroup)
	if err != nil {
		return none, err
	}
	q := store.ConsentQuery{Outer: g.ID, Limit: limit}
	if v.May(access.ReadHistory, &g) {
		q.Inner = g.ID
	} else if !v.May(access.AddPeople, &g) {
		return none, workspace.Fail(workspace.NotAllowed, "Only its owners, administrators, auditors and those who add people see what is agreed about it.")
	}
	if q.After, err = v.Cursor(cursor, "consents of", q.Outer, q.Inner); err != nil {
		return none, err
	}
	return list(v, q)
}

// hidden stands for a group that the actor can't find.
const hidden = "A group that you can't find"

func list(v *workspace.View, q store.ConsentQuery) (api.Page[api.Nested], error) {
	p, err := v.Read.Consents(q)
	if err != nil {
		return api.Page[api.Nested]{}, err
	}
	var ids []uuid.UUID
	for _, x := range p.Items {
		ids = append(ids, x.OuterID, x.GroupID)
	}
	groups, err := v.Read.GroupsByID(ids)
	if err != nil {
		return api.Page[api.Nested]{}, err
	}
	visible, err := v.Visible(ids)
	if err != nil {
		return api.Page[api.Nested]{}, err
	}
	in, err := v.Read.NestedIn(ids)
	return workspace.Page(p, func(x store.Consent) api.Nested {
		outer, inner := groups[x.OuterID], groups[x.GroupID]
		out := api.Nested{ID: x.ID.String(), Consent: x.Scope.String(), In: slices.Contains(in[x.OuterID], x.GroupID),
			Outer: api.Name{Name: outer.Name, Address: outer.Address}, Inner: api.Name{Name: inner.Name, Address: inner.Address},
			By: x.AskedBy, Since: v.In(x.AskedAt), DecidedBy: x.DecidedBy, DecidedAt: v.InPtr(x.DecidedAt), Doubts: []string{}}
		o, seesOuter := visible[x.OuterID]
		i, seesInner := visible[x.GroupID]
		out.MayDecide = seesInner && v.May(access.ChangeGroup, &i)
		out.MayEnd = seesOuter && (v.May(access.ChangePeople, &o) || !out.In && v.May(access.AddPeople, &o))
		if !seesInner { // whoever decides for the inner group has to know the outer one
			out.Inner, out.DecidedBy = api.Name{Name: hidden}, ""
			return out
		}
		out.Doubts = doubts(&outer, &inner)
		return out
	}), err
}

// doubts are what the outer group's policy allows that the inner one's does not.
func doubts(outer, inner *store.Group) []string {
	out := []string{}
	doubt := func(is bool, format string, args ...any) {
		if is {
			out = append(out, fmt.Sprintf(format, args...))
		}
	}
	o, i := outer.Policy, inner.Policy
	doubt(o[policy.Post] > i[policy.Post], "%s takes mail from %s, %s from %s alone.", outer.Name, o[policy.Post].Who(), inner.Name, i[policy.Post].Who())
	doubt(i[policy.Find] < policy.Workspace && i[policy.Find] < o[policy.Find], "%s can be found by %s alone.", inner.Name, i[policy.Find].Who())
	doubt(i[policy.SeePeople] < o[policy.SeePeople], "%s shows its people to %s alone.", inner.Name, i[policy.SeePeople].Who())
	doubt(inner.ExternalMembers > 0 && o[policy.Externals] == policy.ExternalsBarred, "The external members of %s get nothing, since %s takes none.", inner.Name, outer.Name)
	return out
}

// Give agrees that a group is in another, or changes what was agreed.
func (s *Service) Give(ctx context.Context, by workspace.Actor, ref, outer string, n api.NewConsent) (api.Nested, error) {
	scope, ok := admission.ParseScope(n.Consent)
	if !ok {
		return api.Nested{}, workspace.Wrong("consent", n.Consent, "Choose counted or seen.")
	}
	v := s.k.View(ctx, by)
	inner, err := v.FindGroup(ref, access.ChangeGroup)
	if err != nil {
		return api.Nested{}, err
	}
	x, err := between(v, &inner, outer, true)
	if err != nil {
		return api.Nested{}, err
	}
	if err := s.decide(ctx, by, x, scope, "", nil); err != nil {
		return api.Nested{}, err
	}
	p, err := list(s.k.View(ctx, by), store.ConsentQuery{Outer: x.OuterID, Inner: x.GroupID, Both: true, Limit: 1})
	if err != nil || len(p.Items) == 0 {
		return api.Nested{}, err
	}
	return p.Items[0], nil
}

// End ends that one of two groups is in the other, or what is asked for about it, from either side.
func (s *Service) End(ctx context.Context, by workspace.Actor, ref, other, reason string) error {
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.ReadGroup)
	if err != nil {
		return err
	}
	if v.May(access.ChangeGroup, &g) {
		x, err := between(v, &g, other, true)
		if err == nil {
			return s.decide(ctx, by, x, admission.AskedFor, reason, nil)
		} else if !workspace.IsKind(err, workspace.NotFound) {
			return err
		}
	}
	if !v.May(access.AddPeople, &g) && !v.May(access.ChangePeople, &g) {
		return workspace.Fail(workspace.NotAllowed, "%s", access.ChangePeople.Refusal()) // does not tell what is asked
	}
	x, err := between(v, &g, other, false)
	if err != nil {
		return err
	}
	return s.withdraw(ctx, by, x, reason)
}

// between returns what is agreed or asked for about a group that the actor may act for and another: as
// the inner one, or the outer one.
func between(v *workspace.View, g *workspace.Group, other string, inner bool) (store.Consent, error) {
	none := workspace.Fail(workspace.NotFound, "Nothing is asked for or agreed about %s and %q.", g.Name, workspace.Cut(other, 100))
	o, err := v.LookUp(other) // whoever is asked for consent may not be able to find the other one
	if workspace.IsKind(err, workspace.NotFound) {
		return store.Consent{}, none
	} else if err != nil {
		return store.Consent{}, err
	}
	pair := store.Pair{Outer: g.ID, Inner: o.ID}
	if inner {
		pair = store.Pair{Outer: o.ID, Inner: g.ID}
	}
	x, err := v.Read.ConsentOf(pair)
	if errors.Is(err, store.ErrNotFound) {
		v.Hush()
		return x, none
	}
	return x, err
}

// pair locks the two groups of a consent, and it. nesting says that one may come into the other.
func pair(c *workspace.Change, x store.Consent, nesting bool) (outer, inner *workspace.Locked, now store.Consent, err error) {
	none := workspace.Fail(workspace.NotFound, "Nothing is asked for or agreed about that any more.")
	if nesting {
		if err := c.Tx.LockNesting(); err != nil {
			return nil, nil, x, err
		}
	}
	groups, err := c.Tx.LockGroups([]uuid.UUID{x.OuterID, x.GroupID})
	if err != nil {
		return nil, nil, x, err
	}
	c.Now()
	if err := c.RefreshActor(); err != nil {
		return nil, nil, x, err
	}
	for _, g := range groups {
		relation, err := c.RelationOf(c.By.Person, &g)
		if err != nil {
			return nil, nil, x, err
		}
		held := workspace.Hold(g)
		if held.Relation = relation; g.ID == x.OuterID {
			outer = held
		} else {
			inner = held
		}
	}
	if outer == nil || inner == nil {
		return nil, nil, x, none
	}
	now, err = c.Tx.LockConsent(x.OuterID, x.GroupID)
	if errors.Is(err, store.ErrNotFound) {
		err = none
	}
	return outer, inner, now, err
}

// decide agrees for the inner group, or, with AskedFor, does not. named is told which groups they are.
func (s *Service) decide(ctx context.Context, by workspace.Actor, x store.Consent, scope admission.Scope, reason string, named func(outer, inner *store.Group)) error {
	return s.k.Do(ctx, by, func(c *workspace.Change) error {
		outer, inner, x, err := pair(c, x, scope != admission.AskedFor)
		if err != nil {
			return err
		}
		if !c.May(access.ChangeGroup, &inner.Group) {
			return workspace.Fail(workspace.NotAllowed, "%s", access.ChangeGroup.Refusal())
		}
		if named != nil {
			named(&outer.Group.Group, &inner.Group.Group)
		}
		in, err := c.Read.MemberIDs(outer.ID, []uuid.UUID{inner.ID})
		if err != nil {
			return err
		}
		if scope == admission.AskedFor {
			return refuse(c, outer, inner, x, in[inner.ID], reason)
		}
		if err := c.Alive(&outer.Group.Group); err != nil {
			return err
		}
		was := x.Scope
		if !in[inner.ID] {
			err = enter(c, outer, inner, x, scope)
		} else if x, why := member.Given(c, &outer.Group.Group, &inner.Group.Group, x, scope); why != "" {
			err = workspace.Wrong("consent", scope.String(), "%s", why)
		} else {
			err = errors.Join(c.Tx.SaveConsent(x), c.Record(event.ConsentGiven{Outer: workspace.WhoGroup(&outer.Group.Group), Inner: workspace.WhoGroup(&inner.Group.Group), Scope: scope.String(), Was: was.String()}, &inner.Group.Group))
		}
		if err != nil {
			return err
		}
		c.Says(fmt.Sprintf("%s is in %s, where its people are %s.", inner.Name, outer.Name, scope))
		if was != admission.AskedFor {
			return nil
		}
		to, err := c.NoticeRecipients(&outer.Group.Group)
		if err != nil {
			return err
		}
		if !slices.Contains(to, x.AskedBy) && strings.Contains(x.AskedBy, "@") {
			to = append(to, x.AskedBy)
		}
		to = slices.DeleteFunc(to, func(a string) bool { return a == c.By.Person.Address })
		return c.Send(&outer.Group.Group, to, c.ConsentLetter(workspace.LetterNestAgreed, &outer.Group.Group, &outer.Group.Group, &inner.Group.Group, workspace.GroupPath(&outer.Group.Group, "people"),
			map[string]string{"scope": workspace.Phrase(outer.Language, scope.String())}))
	})
}

// enter puts the inner group into the outer one, as whoever asked for it may.
func enter(c *workspace.Change, outer, inner *workspace.Locked, x store.Consent, scope admission.Scope) error {
	asker, err := c.Read.PersonByKey(strings.ToLower(x.AskedBy))
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return err
	}
	gone := workspace.Fail(workspace.Conflict, "%s, who asked for it, may no longer add people to %s. Its owners can ask again.", cmp.Or(asker.Name, x.AskedBy), outer.Name)
	if err != nil || !asker.Active {
		return gone
	}
	relation, err := c.RelationOf(asker, &outer.Group.Group)
	if err != nil {
		return err
	}
	subject := workspace.Actor{Person: asker}.Subject()
	if !subject.May(access.AddPeople, relation, &outer.Policy) {
		return gone
	}
	results := []member.Result{member.OfGroup(inner.Group)}
	as := admission.As{Role: expand.Member, Staff: subject.May(access.ChangePeople, relation, &outer.Policy), Alone: true}
	if err := member.Admit(&c.View, &outer.Group.Group, results, admission.Approving, as); err != nil {
		return err
	}
	if err := member.Join(c, outer, results, member.Entrance{Scope: scope}); err != nil {
		return err
	}
	if !results[0].OK() {
		return workspace.Fail(workspace.Conflict, "%s", results[0].Says)
	}
	return nil
}

// refuse ends for the inner group what is agreed or asked for.
func refuse(c *workspace.Change, outer, inner *workspace.Locked, x store.Consent, in bool, reason string) error {
	c.Says(fmt.Sprintf("%s is not in %s. Its people get no mail of it by that.", inner.Name, outer.Name))
	if in {
		return member.Part(c, outer, inner.ID, reason)
	}
	if err := c.Tx.DeleteConsents(outer.ID, []uuid.UUID{inner.ID}); err != nil {
		return err
	}
	if err := member.Unasked(c, &outer.Group.Group, &inner.Group.Group, &outer.Group.Group, "declined", reason); err != nil {
		return err
	}
	return c.Record(event.ConsentEnded{Outer: workspace.WhoGroup(&outer.Group.Group), Inner: workspace.WhoGroup(&inner.Group.Group), How: "declined", Reason: reason}, &outer.Group.Group)
}

// withdraw ends for the outer group what is agreed or asked for.
func (s *Service) withdraw(ctx context.Context, by workspace.Actor, x store.Consent, reason string) error {
	return s.k.Do(ctx, by, func(c *workspace.Change) error {
		outer, inner, _, err := pair(c, x, false)
		if err != nil {
			return err
		}
		in, err := c.Read.MemberIDs(outer.ID, []uuid.UUID{inner.ID})
		if err != nil {
			return err
		}
		if in[inner.ID] {
			if !c.May(access.ChangePeople, &outer.Group) {
				return workspace.Fail(workspace.NotAllowed, "%s", access.ChangePeople.Refusal())
			}
			c.Says(fmt.Sprintf("%s is not in %s. Its people get no mail of it by that.", inner.Name, outer.Name))
			return member.TakeOut(c, outer, inner.ID, admission.Removing)
		}
		if !c.May(access.AddPeople, &outer.Group) {
			return workspace.Fail(workspace.NotAllowed, "%s", access.AddPeople.Refusal())
		}
		c.Says(fmt.Sprintf("The owners of %s are no longer asked.", inner.Name))
		if err := c.Tx.DeleteConsents(outer.ID, []uuid.UUID{inner.ID}); err != nil {
			return err
		}
		fact := event.ConsentEnded{Outer: workspace.WhoGroup(&outer.Group.Group), Inner: workspace.WhoGroup(&inner.Group.Group), How: "withdrawn", Reason: reason}
		return errors.Join(c.Record(fact, &outer.Group.Group), c.Record(fact, &inner.Group.Group))
	})
}

// DecideOne agrees to, or declines, one consent that is asked for.
func (s *Service) DecideOne(ctx context.Context, by workspace.Actor, id uuid.UUID, d api.Decisions, out *api.Decided) error {
	none := workspace.Fail(workspace.NotFound, "There is nothing %q that waits for you.", id)
	v := s.k.View(ctx, by)
	x, err := v.Read.Consent(id)
	if errors.Is(err, store.ErrNotFound) {
		return none
	} else if err != nil {
		return err
	}
	if _, err := v.FindGroup(x.GroupID.String(), access.ChangeGroup); err != nil {
		return none // who may not decide is told nothing of it
	}
	if x.Scope != admission.AskedFor {
		return workspace.Fail(workspace.Conflict, "That was agreed already by %s.", x.DecidedBy)
	}
	scope := admission.AskedFor
	if d.Verdict == "approve" {
		scope, _ = admission.ParseScope(cmp.Or(d.Consent, admission.Counted.String()))
	}
	return s.decide(ctx, by, x, scope, strings.TrimSpace(d.Reason), func(outer, inner *store.Group) {
		out.Person, out.Group = inner.Name, outer.Name
	})
}

// untold is how many consents are told of in one step.
const untold = 200

// Run writes to those who run groups that are in others without their consent, and were not told of it
// yet: groups that were nested before both sides were asked.
func (s *Service) Run(ctx context.Context) error {
	for {
		if n, err := s.tellSome(ctx); err != nil || n < untold {
			return err
		}
	}
}

func (s *Service) tellSome(ctx context.Context) (n int, err error) {
	err = s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		if err := c.Tx.LockNesting(); err != nil { // one instance tells of all, so that one letter does
			return err
		}
		all, err := c.Tx.UntoldConsents(untold)
		n = len(all)
		if err != nil || n == 0 {
			return err
		}
		var ids, told []uuid.UUID
		for _, x := range all {
			ids, told = append(ids, x.GroupID, x.OuterID), append(told, x.ID)
		}
		groups, err := c.Read.GroupsByID(ids)
		if err != nil {
			return err
		}
		for _, x := range all {
			inner, outer := groups[x.GroupID], groups[x.OuterID]
			if c.Ended(&inner) || c.Ended(&outer) {
				continue
			}
			to, err := c.NoticeRecipients(&inner)
			if err != nil {
				return err
			}
			since := workspace.DateIn(inner.Language, c.In(x.AskedAt))
			if err := c.Send(&inner, to, c.ConsentLetter(workspace.LetterNestAsked, &inner, &outer, &inner, "/waiting", map[string]string{"by": cmp.Or(x.AskedBy, c.By.Name()), "since": since})); err != nil {
				return err
			}
		}
		return c.Tx.ConsentsTold(told)
	})
	return n, err
}
