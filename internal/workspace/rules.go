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
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
)

// defaultGuard is the share, in percent, of those in by rule who may go at once.
const defaultGuard = 20

// subject is a person as rules see them.
func subject(f store.PersonFacts) rule.Subject {
	attributes := map[string]string{}
	_ = json.Unmarshal(f.Attributes, &attributes) // written by us; an unreadable one counts as none
	return rule.NewSubject(f.Address, f.Name, f.Active, f.CreatedAt.Format(time.RFC3339), attributes)
}

func factsOf(p store.Person) store.PersonFacts {
	return store.PersonFacts{ID: p.ID, Address: p.Address, Name: p.Name, Active: p.Active, Attributes: p.Attributes, CreatedAt: p.CreatedAt}
}

// paths returns the attributes that a rule uses.
func paths(r *rule.Rule) []string {
	var out []string
	for _, a := range r.Attributes() {
		out = append(out, a.Path)
	}
	return out
}

// matching returns everybody in the workspace whom a rule takes. The rules are locked,
// so that nobody changes who is not asked about it.
func matching(ctx context.Context, t *store.Store, r *rule.Rule) (out []store.PersonFacts, err error) {
	err = t.EachPersonFacts(ctx, func(f store.PersonFacts) error {
		if r.Eval(subject(f)) == rule.Match {
			out = append(out, f)
		}
		return nil
	})
	return out, err
}

func wrongRule(expression string, err error) error {
	return wrong("expression", cut(expression, 200), err.Error())
}

// difference says who of the matching people would come into a group, and who that
// is in it by rule would go.
func (w *Workspace) difference(ctx context.Context, t *store.Store, group uuid.UUID, match []store.PersonFacts) (come []store.PersonFacts, leave []uuid.UUID, byRule int, err error) {
	in, err := t.MembersByRule(ctx, group)
	if err != nil {
		return nil, nil, 0, err
	}
	barred, err := t.Barred(ctx, group)
	if err != nil {
		return nil, nil, 0, err
	}
	stay := make(map[uuid.UUID]bool, len(match))
	for _, f := range match {
		stay[f.ID] = true
		if _, is := in[f.ID]; !is && !barred[strings.ToLower(f.Address)] {
			come = append(come, f)
		}
	}
	for id, is := range in {
		if is {
			byRule++
			if !stay[id] {
				leave = append(leave, id)
			}
		}
	}
	return come, leave, byRule, nil
}

// guarded reports whether so many may not go at once. One person alone always may.
func guarded(leaving, byRule, guard int) bool { return leaving > 1 && 100*leaving > guard*byRule }

// comeAndGo puts people into g, which is locked, because of its rule, takes others
// out, and writes one entry of the history.
func (w *Workspace) comeAndGo(ctx context.Context, t *store.Store, a Actor, g *store.Group, come []store.PersonFacts, leave []uuid.UUID, how entrance, changes []api.FieldChange) error {
	now := w.now(ctx)
	ids := slices.Clone(leave)
	for _, f := range come {
		ids = append(ids, f.ID)
	}
	in, err := t.RuledMembers(ctx, g.ID, ids) // somebody may have been quicker
	if err != nil {
		return err
	}
	list := changeList{shown: changes}
	var rows []store.Membership
	var affected []store.Affected
	var told []string
	for _, f := range come {
		if _, is := in[f.ID]; is {
			continue
		}
		rows = append(rows, store.Membership{GroupID: g.ID, MemberID: f.ID, Kind: store.KindPerson, Role: expand.Member, Mail: g.DefaultMail, AddedAt: now, AddedBy: "the rule", ByRule: true})
		affected = append(affected, store.Affected{PersonID: f.ID, Now: expand.Member.String()})
		list.add(f.Address, nil, expand.Member.String())
		told = append(told, f.Address)
	}
	if err := t.AddMemberships(ctx, rows); err != nil {
		return err
	}
	gone := slices.DeleteFunc(slices.Clone(leave), func(id uuid.UUID) bool { return !in[id] }) // who was put in by hand meanwhile stays
	people, err := t.PeopleByID(ctx, gone)
	if err != nil {
		return err
	}
	for _, id := range gone {
		affected = append(affected, store.Affected{PersonID: id, Was: expand.Member.String()})
		list.add(people[id].Address, expand.Member.String(), nil)
	}
	if err := t.DeleteMemberships(ctx, g.ID, gone); err != nil {
		return err
	}
	g.Members += len(rows) - len(gone)
	if err := t.SaveGroup(ctx, g, false); err != nil {
		return err
	}
	if !how.quiet && len(told) > 0 {
		if err := w.send(ctx, t, g, told, w.addedLetter(*g, a)); err != nil {
			return err
		}
	}
	return recordOf(ctx, t, a, now, how.action, g, g.Address, list.list(), affected)
}

// Rule returns the rule of a group.
func (w *Workspace) Rule(ctx context.Context, a Actor, ref string) (api.Rule, error) {
	g, _, err := w.findFor(ctx, a, seePeople, ref)
	if err != nil {
		return api.Rule{}, err
	}
	return w.ruleOf(ctx, &g)
}

func (w *Workspace) ruleOf(ctx context.Context, g *store.Group) (api.Rule, error) {
	r, err := w.store.Rule(ctx, g.ID)
	if errors.Is(err, store.ErrNotFound) {
		return api.Rule{}, fail(NotFound, "%s has no rule: its people are put in by hand.", g.Name)
	} else if err != nil {
		return api.Rule{}, err
	}
	out := api.Rule{Expression: r.Expression, Guard: r.Guard, SetBy: r.SetBy, SetAt: r.SetAt}
	if len(r.Held) > 0 {
		if err := json.Unmarshal(r.Held, &out.Held); err != nil {
			return out, fmt.Errorf("read a rule: %w", err)
		}
	}
	out.Members, err = w.store.CountByRule(ctx, g.ID)
	return out, err
}

// SetRule puts a rule of membership in force. It is refused where more people would
// go than the guard allows, unless that is confirmed.
func (w *Workspace) SetRule(ctx context.Context, a Actor, ref string, n api.NewRule) (api.Rule, error) {
	found, _, err := w.findFor(ctx, a, changeRule, ref)
	if err != nil {
		return api.Rule{}, err
	}
	if err := w.alive(ctx, &found); err != nil {
		return api.Rule{}, err
	}
	r, err := rule.Parse(n.Expression)
	if err != nil {
		return api.Rule{}, wrongRule(n.Expression, err)
	}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		if err := t.LockRules(ctx); err != nil {
			return err
		}
		match, err := matching(ctx, t, r)
		if err != nil {
			return err
		}
		g, err := t.LockGroup(ctx, found.ID)
		if err != nil {
			return err
		}
		before, err := t.Rule(ctx, g.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		next := store.GroupRule{GroupID: g.ID, Expression: r.String(), Guard: defaultGuard, SetBy: a.Person.Address, SetAt: w.now(ctx)}
		if before.Expression != "" {
			next.Guard = before.Guard
		}
		if n.Guard != nil {
			next.Guard = *n.Guard
		}
		come, leave, byRule, err := w.difference(ctx, t, g.ID, match)
		if err != nil {
			return err
		}
		if guarded(len(leave), byRule, next.Guard) && !n.Confirm {
			return fail(Conflict, "%d of the %d people who are in by the rule would go, more than the guard of %d percent allows. Confirm it if that is meant.", len(leave), byRule, next.Guard)
		}
		if err := t.SetRule(ctx, next); err != nil {
			return err
		}
		g.Ruled = true
		changes := []api.FieldChange{}
		changed(&changes, "rule", before.Expression, next.Expression)
		changed(&changes, "guard", before.Guard, next.Guard)
		return w.comeAndGo(ctx, t, a, &g, come, leave, entrance{action: "rule.set"}, changes)
	})
	if err != nil {
		return api.Rule{}, err
	}
	w.o.Wake()
	return w.ruleOf(ctx, &found)
}

// DeleteRule takes the rule of a group away. Those who are in by it stay, as if put
// in by hand, or go.
func (w *Workspace) DeleteRule(ctx context.Context, a Actor, ref string, keep bool) error {
	found, _, err := w.findFor(ctx, a, changeRule, ref)
	if err != nil {
		return err
	}
	return w.store.Tx(ctx, func(t *store.Store) error {
		if err := t.LockRules(ctx); err != nil {
			return err
		}
		g, err := t.LockGroup(ctx, found.ID)
		if err != nil {
			return err
		}
		r, err := t.Rule(ctx, g.ID)
		if errors.Is(err, store.ErrNotFound) {
			return fail(NotFound, "%s has no rule.", g.Name)
		} else if err != nil {
			return err
		}
		var leave []uuid.UUID
		if keep {
			err = t.KeepMembersByRule(ctx, g.ID)
		} else {
			_, leave, _, err = w.difference(ctx, t, g.ID, nil)
		}
		if err != nil {
			return err
		}
		if err := t.DeleteRule(ctx, g.ID); err != nil {
			return err
		}
		g.Ruled = false
		return w.comeAndGo(ctx, t, a, &g, nil, leave, entrance{action: "rule.delete"}, []api.FieldChange{{Field: "rule", From: r.Expression, To: nil}})
	})
}

// ReleaseRule lets a change happen that waits because of the guard: the rule is
// evaluated anew for everybody.
func (w *Workspace) ReleaseRule(ctx context.Context, a Actor, ref string) (api.Rule, error) {
	found, _, err := w.findFor(ctx, a, changeRule, ref)
	if err != nil {
		return api.Rule{}, err
	}
	if err := w.reevaluate(ctx, a, found.ID, true); err != nil {
		return api.Rule{}, err
	}
	return w.ruleOf(ctx, &found)
}

// reevaluate follows the rule of a group, where it has one, for everybody. Without
// sure, those stay whom the guard protects, and a person is asked.
func (w *Workspace) reevaluate(ctx context.Context, a Actor, group uuid.UUID, sure bool) error {
	if _, err := w.store.Rule(ctx, group); errors.Is(err, store.ErrNotFound) {
		return nil
	}
	err := w.store.Tx(ctx, func(t *store.Store) error {
		if err := t.LockRules(ctx); err != nil {
			return err
		}
		kept, err := t.Rule(ctx, group)
		if errors.Is(err, store.ErrNotFound) {
			return nil
		} else if err != nil {
			return err
		}
		r, err := rule.Parse(kept.Expression)
		if err != nil {
			return fmt.Errorf("the rule of %s: %w", group, err)
		}
		match, err := matching(ctx, t, r)
		if err != nil {
			return err
		}
		g, err := t.LockGroup(ctx, group)
		if err != nil {
			return err
		}
		come, leave, byRule, err := w.difference(ctx, t, group, match)
		if err != nil {
			return err
		}
		return w.followRule(ctx, t, a, &g, kept, come, leave, byRule, sure, "the rule was evaluated anew")
	})
	w.o.Wake()
	return err
}
