package workspace

import (
	"context"
	"fmt"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/store"
)

// DepartureEffect says what it would do if somebody left the organisation.
func (w *Workspace) DepartureEffect(ctx context.Context, a Actor, ref string) (api.DepartureEffect, error) {
	out := api.DepartureEffect{LastOwner: []api.PersonGroup{}}
	if err := allow(a, changeDirectory); err != nil {
		return out, err
	}
	p, err := w.findPerson(ctx, ref)
	if err != nil {
		return out, err
	}
	rows, err := w.store.GroupsOf(ctx, p.ID)
	if err != nil {
		return out, err
	}
	for _, r := range rows {
		if r.Ended {
			continue
		}
		out.Groups++
		if r.Role == expand.Owner {
			out.Owned++
			if r.Owners == 1 {
				out.LastOwner = append(out.LastOwner, personGroup(r))
			}
		}
	}
	out.Says = fmt.Sprintf("%s is in %s and owns %d of them. Their mail stops and they can no longer sign in; if they return, all is as before.", p.Name, groupsOf(out.Groups), out.Owned)
	if n := len(out.LastOwner); n > 0 {
		out.Says += fmt.Sprintf(" %d would have no active owner: name who takes them over.", n)
	}
	return out, nil
}

func groupsOf(n int) string {
	if n == 1 {
		return "1 group"
	}
	return fmt.Sprintf("%d groups", n)
}

// Depart marks that somebody has left the organisation: they can't sign in, get no
// mail, and leave the groups that they were in by rule. What only they own is handed
// to somebody, or left to the caretaker, who is told.
func (w *Workspace) Depart(ctx context.Context, a Actor, ref string, d api.Departure) (api.PersonDetails, error) {
	none := api.PersonDetails{}
	if err := allow(a, changeDirectory); err != nil {
		return none, err
	}
	found, err := w.findPerson(ctx, ref)
	if err != nil {
		return none, err
	}
	if found.External {
		return none, fail(Conflict, "%s is an address outside the workspace. Take it out of its groups instead.", found.Address)
	}
	var heir store.Person
	if d.HandTo != "" {
		heir, err = w.findPerson(ctx, d.HandTo)
		if err != nil || !heir.Active || heir.External || heir.ID == found.ID {
			return none, wrong("hand_to", d.HandTo, fmt.Sprintf("Nobody else who is here has the address %s.", cut(d.HandTo, 100)))
		}
	}
	var p store.Person
	err = w.directoryTx(ctx, func(t *store.Store, b *ruleBook) error {
		if p, err = t.LockPerson(ctx, found.ID); err != nil {
			return err
		}
		if !p.Active {
			return fail(Conflict, "%s has left already.", p.Name)
		}
		if p.WorkspaceRole == Administrator {
			if err := keepAdministrators(ctx, t, p, 1); err != nil {
				return err
			}
		}
		before, gone := p, []store.Person{p}
		if err := w.depart(ctx, t, a, gone, heir); err != nil {
			return err
		}
		p = gone[0]
		return w.follow(ctx, t, a, b, gone, changedPaths(before, p), p.Name+" left the organisation")
	})
	if err != nil {
		return none, err
	}
	w.o.Wake()
	return w.details(ctx, a, p)
}

// depart marks people, who are locked, as departed. Following rules is left to the
// caller.
func (w *Workspace) depart(ctx context.Context, t *store.Store, a Actor, people []store.Person, heir store.Person) error {
	now := w.now(ctx)
	ids := make([]uuid.UUID, len(people))
	byID := make(map[uuid.UUID]int, len(people))
	changes := make([][]api.FieldChange, len(people))
	for i := range people {
		people[i].Active, people[i].DepartedAt = false, &now
		ids[i], byID[people[i].ID] = people[i].ID, i
		changes[i] = []api.FieldChange{{Field: "active", From: true, To: false}}
	}
	if err := t.SavePeople(ctx, people, nil); err != nil {
		return err
	}
	if err := t.EndCredentials(ctx, ids); err != nil {
		return err
	}
	left, err := t.LeftBy(ctx, ids)
	if err != nil {
		return err
	}
	for _, e := range left {
		i := byID[e.Owner]
		to, err := w.handOver(ctx, t, a, e.GroupID, people[i], heir)
		if err != nil {
			return err
		}
		changes[i] = append(changes[i], api.FieldChange{Field: e.Address, From: "owned", To: to})
	}
	entries, affected := make([]store.Change, len(people)), make([]store.Affected, len(people))
	for i, p := range people {
		if entries[i], err = entry(a, now, "person.depart", nil, p.Address, changes[i]); err != nil {
			return err
		}
		affected[i] = store.Affected{PersonID: p.ID}
	}
	return t.AddHistoryEach(ctx, entries, affected)
}

// handOver sees to a group that its last owner p leaves. The heir owns it from now
// on; without one its caretaker is told. It says what became of the group.
func (w *Workspace) handOver(ctx context.Context, t *store.Store, a Actor, id uuid.UUID, p, heir store.Person) (string, error) {
	g, err := t.LockGroup(ctx, id)
	if err != nil {
		return "", err
	}
	if heir.ID == uuid.Nil {
		e, err := w.expiry(ctx)
		if err != nil {
			return "", err
		}
		to := []string{e.Caretaker}
		if e.Caretaker == "" {
			if to, err = t.Administrators(ctx); err != nil {
				return "", err
			}
		}
		return "no owner", w.send(ctx, t, &g, to, w.letter(letterOwnerless, g, groupPath(g, "people"), map[string]string{"person": p.Name}))
	}
	rows, err := t.LockMembers(ctx, id, []uuid.UUID{heir.ID})
	if err != nil {
		return "", err
	}
	if len(rows) > 0 {
		all := []target{{given: heir.Address, id: heir.ID}}
		err = w.applyToMembers(ctx, t, a, &g, all, map[uuid.UUID]store.MemberRow{heir.ID: rows[0]}, expand.Owner, api.MembersPatch{Role: "owner"})
	} else {
		err = w.join(ctx, t, a, &g, oneself(heir, expand.Owner), entrance{action: "people.add", quiet: true})
	}
	if err != nil {
		return "", err
	}
	return heir.Address, w.send(ctx, t, &g, []string{heir.Address}, w.letter(letterHandedOver, g, groupPath(g, "people"), map[string]string{"person": p.Name, "by": a.name()}))
}

// Return marks that somebody who had left is here again. They are in their groups as
// before, and rules of membership take them in at once.
func (w *Workspace) Return(ctx context.Context, a Actor, ref string) (api.PersonDetails, error) {
	none := api.PersonDetails{}
	if err := allow(a, changeDirectory); err != nil {
		return none, err
	}
	found, err := w.findPerson(ctx, ref)
	if err != nil {
		return none, err
	}
	var p store.Person
	err = w.directoryTx(ctx, func(t *store.Store, b *ruleBook) error {
		if p, err = t.LockPerson(ctx, found.ID); err != nil {
			return err
		}
		if p.Active {
			return fail(Conflict, "%s is here already.", p.Name)
		}
		before := p
		p.Active, p.DepartedAt = true, nil
		if err := t.SavePerson(ctx, &p, false); err != nil {
			return err
		}
		if err := recordOf(ctx, t, a, w.now(ctx), "person.return", nil, p.Address, []api.FieldChange{{Field: "active", From: false, To: true}}, []store.Affected{{PersonID: p.ID}}); err != nil {
			return err
		}
		return w.follow(ctx, t, a, b, []store.Person{p}, changedPaths(before, p), p.Name+" returned")
	})
	if err != nil {
		return none, err
	}
	w.o.Wake()
	return w.details(ctx, a, p)
}
