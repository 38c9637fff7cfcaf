package workspace

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
)

// errLastOwner protects the last owner of a group.
func errLastOwner(name string, g *store.Group) error {
	return fail(Conflict, "%s is the last owner of %s. Make somebody else an owner first.", name, g.Name)
}

// target is a member that a change names.
type target struct {
	given string
	id    uuid.UUID
	row   store.MemberRow
	err   error // why it can't be changed
	same  bool  // it is so already
}

// targets finds the members of a group that identifiers and addresses name.
func (w *Workspace) targets(ctx context.Context, g *store.Group, given []string) ([]target, error) {
	out := make([]target, len(given))
	keys := map[int]string{}
	for i, x := range given {
		out[i] = target{given: cut(x, 320), err: fail(NotFound, "%s is not in %s.", cut(x, 100), g.Name)}
		if id, err := uuid.Parse(x); err == nil {
			out[i].id = id
		} else if a, err := mailaddr.Parse(x); err == nil {
			keys[i] = a.Key()
		}
	}
	all := make([]string, 0, len(keys))
	for _, k := range keys {
		all = append(all, k)
	}
	people, err := w.store.PeopleByKeys(ctx, all)
	if err != nil || len(keys) == 0 {
		return out, err
	}
	groups, err := w.store.GroupsByKeys(ctx, all)
	for i, k := range keys {
		if p, ok := people[k]; ok {
			out[i].id = p.ID
		} else if n, ok := groups[k]; ok {
			out[i].id = n.ID
		}
	}
	return out, err
}

// ChangeMembers changes the role or the delivery of members, or takes them out, in
// one step. Whoever can be changed is; the results say why the others were not.
func (w *Workspace) ChangeMembers(ctx context.Context, a Actor, ref string, patch api.MembersPatch) (api.MembersChanged, error) {
	g, _, err := w.findFor(ctx, a, changePeople, ref)
	if err != nil {
		return api.MembersChanged{}, err
	}
	targets, err := w.changeMembers(ctx, a, &g, patch)
	if err != nil {
		return api.MembersChanged{}, err
	}
	out := api.MembersChanged{Results: make([]api.MemberChanged, len(targets))}
	for i, t := range targets {
		r := api.MemberChanged{Given: t.given, Name: t.row.Name, Address: t.row.Address, Outcome: "changed"}
		switch e := new(Error); {
		case errors.As(t.err, &e):
			r.Outcome, r.Says = "refused", e.Says
		case t.same:
			r.Outcome, r.Says = "same", "Is so already; nothing was changed."
		default:
			out.Changed++
		}
		out.Results[i] = r
	}
	return out, nil
}

func (w *Workspace) changeMembers(ctx context.Context, a Actor, found *store.Group, patch api.MembersPatch) ([]target, error) {
	var p problems
	role, ok := expand.ParseRole(patch.Role)
	if patch.Role != "" && !ok {
		p.add("role", patch.Role, "%s", badRole(patch.Role))
	}
	if patch.Delivery != "" && patch.Delivery != "each" && patch.Delivery != "none" {
		p.add("delivery", patch.Delivery, "There is no delivery %q: choose each or none.", patch.Delivery)
	}
	if patch.Role == "" && patch.Delivery == "" && !patch.Remove || patch.Remove && (patch.Role != "" || patch.Delivery != "") {
		p.add("role", nil, "Say what to change: role or delivery, or else remove.")
	}
	if err := p.err(); err != nil {
		return nil, err
	}
	first, err := w.targets(ctx, found, patch.Members)
	if err != nil {
		return nil, err
	}
	var all []target
	err = w.store.Tx(ctx, func(t *store.Store) error {
		all = append([]target(nil), first...)
		g, err := t.LockGroup(ctx, found.ID)
		if err != nil {
			return err
		}
		ids := make([]uuid.UUID, 0, len(all))
		for _, x := range all {
			if x.id != uuid.Nil {
				ids = append(ids, x.id)
			}
		}
		rows, err := t.LockMembers(ctx, g.ID, ids)
		if err != nil {
			return err
		}
		in := make(map[uuid.UUID]store.MemberRow, len(rows))
		for _, r := range rows {
			in[r.MemberID] = r
		}
		return w.applyToMembers(ctx, t, a, &g, all, in, role, patch)
	})
	return all, err
}

// applyToMembers makes a change to those targets that it can be made to.
func (w *Workspace) applyToMembers(ctx context.Context, t *store.Store, a Actor, g *store.Group, all []target, in map[uuid.UUID]store.MemberRow, role expand.Role, patch api.MembersPatch) error {
	owners, err := activeOwners(ctx, t, g.ID)
	if err != nil {
		return err
	}
	var ids []uuid.UUID
	var affected []store.Affected
	changes := changeList{}
	for i := range all {
		x := &all[i]
		row, ok := in[x.id]
		if !ok {
			continue // its error says so
		}
		delete(in, x.id) // one that is named twice is changed once
		x.row, x.err = row, nil
		was, now := row.Role.String(), row.Role.String()
		switch {
		case patch.Remove:
			now = ""
			if row.ByRule {
				x.err = fail(Conflict, "%s is in %s by its rule. Change the rule, or bar the person.", row.Name, g.Name)
			}
		case role > expand.Member && row.Kind == store.KindGroup:
			x.err = wrong("role", patch.Role, "A group can be in a group as a member only.")
		case role > expand.Member && row.External:
			x.err = wrong("role", patch.Role, fmt.Sprintf("An address outside the workspace can't be %s: it has no account here.", article(role)))
		case role != 0:
			now = role.String()
		}
		if x.err == nil && row.Role == expand.Owner && now != "owner" {
			if delete(owners, row.MemberID); len(owners) == 0 {
				owners[row.MemberID] = true
				x.err = errLastOwner(row.Name, g)
			}
		}
		mail := patch.Delivery == "each"
		if x.same = x.err == nil && was == now && (patch.Delivery == "" || mail == row.Mail); x.same || x.err != nil {
			continue
		}
		if was != now {
			count(g, row.Kind, row.Role, row.External, -1)
			if !patch.Remove {
				count(g, row.Kind, role, row.External, +1)
			}
		}
		ids, affected = append(ids, row.MemberID), append(affected, store.Affected{PersonID: row.MemberID, Was: was, Now: now})
		switch {
		case patch.Remove:
			changes.add(row.Address, was, nil)
		case was != now:
			changes.add(row.Address, was, now)
		default:
			changes.add(row.Address, "delivery "+delivery(row.Mail), "delivery "+patch.Delivery)
		}
		if role != 0 {
			x.row.Role = role
		}
		if patch.Delivery != "" {
			x.row.Mail = mail
		}
	}
	if len(ids) == 0 {
		return nil
	}
	action := "people.change"
	if patch.Remove {
		action = "people.remove"
		err = errors.Join(t.DeleteMemberships(ctx, g.ID, ids), t.EndRequests(ctx, g.ID, ids, store.ToLeave, w.now(ctx)))
	}
	if role != 0 {
		err = errors.Join(err, t.SetRole(ctx, g.ID, ids, role))
	}
	if patch.Delivery != "" {
		err = errors.Join(err, t.SetMail(ctx, g.ID, ids, patch.Delivery == "each"))
	}
	if err != nil {
		return err
	}
	if err := t.SaveGroup(ctx, g, false); err != nil {
		return err
	}
	return recordOf(ctx, t, a, w.now(ctx), action, g, g.Address, changes.list(), affected)
}

// activeOwners returns the owners of a group who have not left the organisation.
func activeOwners(ctx context.Context, t *store.Store, group uuid.UUID) (map[uuid.UUID]bool, error) {
	rows, err := t.Owners(ctx, []uuid.UUID{group})
	out := map[uuid.UUID]bool{}
	for _, o := range rows[group] {
		if o.Active {
			out[o.MemberID] = true
		}
	}
	return out, err
}

// ChangeMember changes the role or the delivery of one member.
func (w *Workspace) ChangeMember(ctx context.Context, a Actor, ref, who string, patch api.MemberPatch) (api.Member, error) {
	do := changePeople
	if patch.Role == "" && a.is(who) {
		do = readGroup // one's own delivery
	}
	g, _, err := w.findFor(ctx, a, do, ref)
	if err != nil {
		return api.Member{}, err
	}
	all, err := w.changeMembers(ctx, a, &g, api.MembersPatch{Members: []string{who}, Role: patch.Role, Delivery: patch.Delivery})
	if err != nil {
		return api.Member{}, err
	}
	return member(all[0].row), all[0].err
}

// is reports whether who, an identifier or an address, names the actor.
func (a Actor) is(who string) bool {
	return strings.EqualFold(who, a.Person.Address) || who == a.Person.ID.String()
}

// RemoveMember takes somebody out of a group; oneself where the group lets its
// members leave freely.
func (w *Workspace) RemoveMember(ctx context.Context, a Actor, ref, who string) error {
	g, s, err := w.findFor(ctx, a, readGroup, ref)
	if err != nil {
		return err
	}
	if !a.may(changePeople, &g, s) {
		switch {
		case !a.is(who):
			return fail(NotAllowed, "%s", permits[changePeople].says) // does not tell who is in it
		case g.Leaving == policy.LeaveAsking && s.role != 0:
			return fail(NotAllowed, "You can't leave %s by yourself. Ask its owners to let you go.", g.Name)
		case g.Leaving == policy.LeaveFixed && s.role != 0:
			return fail(NotAllowed, "The members of %s are fixed: nobody leaves by themselves.", g.Name)
		}
	}
	all, err := w.changeMembers(ctx, a, &g, api.MembersPatch{Members: []string{who}, Remove: true})
	if err != nil {
		return err
	}
	return all[0].err
}
