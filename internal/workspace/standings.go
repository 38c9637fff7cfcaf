package workspace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
)

var standings = map[string]policy.Standing{"none": policy.NoStanding, "barred": policy.Barred, "trusted": policy.Trusted, "held": policy.Held}

// Standings lists what is settled about people in a group: who is barred, trusted or held.
func (w *Workspace) Standings(ctx context.Context, a Actor, ref string) ([]api.StandingOf, error) {
	g, _, err := w.findFor(ctx, a, settlePerson, ref)
	if err != nil {
		return nil, err
	}
	rows, err := w.store.Standings(ctx, g.ID)
	if err != nil {
		return nil, err
	}
	keys := make([]string, len(rows))
	for i, r := range rows {
		keys[i] = r.AddrKey
	}
	people, err := w.store.PeopleByKeys(ctx, keys)
	out := make([]api.StandingOf, len(rows))
	for i, r := range rows {
		out[i] = api.StandingOf{Address: r.AddrKey, Name: people[r.AddrKey].Name, Standing: r.Standing.String(), Reason: r.Reason, By: r.SetBy, At: r.SetAt}
	}
	return out, err
}

// SetStanding bars an address from a group, trusts it, holds it, or takes that back.
// Whoever is barred is taken out, and what they asked for or were offered ends.
func (w *Workspace) SetStanding(ctx context.Context, a Actor, ref, address string, n api.NewStanding) error {
	found, _, err := w.findFor(ctx, a, settlePerson, ref)
	if err != nil {
		return err
	}
	addr, err := parseAddress("address", address)
	if err != nil {
		return err
	}
	to, ok := standings[n.Standing]
	if !ok {
		return wrong("standing", n.Standing, fmt.Sprintf("There is no standing %q: choose barred, trusted, held or none.", n.Standing))
	}
	return w.store.Tx(ctx, func(t *store.Store) error {
		g, err := t.LockGroup(ctx, found.ID)
		if err != nil {
			return err
		}
		was, err := t.StandingOf(ctx, g.ID, addr.Key())
		if err != nil || was.Standing == to && was.Reason == strings.TrimSpace(n.Reason) {
			return err
		}
		now := w.now(ctx)
		if err := t.SetStanding(ctx, store.Standing{GroupID: g.ID, AddrKey: addr.Key(), Standing: to, Reason: strings.TrimSpace(n.Reason), SetBy: a.Person.Address, SetAt: now}); err != nil {
			return err
		}
		p, err := t.PersonByKey(ctx, addr.Key())
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if to == policy.Barred {
			if err := w.putOut(ctx, t, a, &g, p, addr.Key()); err != nil {
				return err
			}
		}
		changes := []api.FieldChange{{Field: addr.Key(), From: was.Standing.String(), To: to.String()}}
		if n.Reason != "" {
			changes = append(changes, api.FieldChange{Field: "reason", To: strings.TrimSpace(n.Reason)})
		}
		affected := slices.DeleteFunc([]store.Affected{{PersonID: p.ID}}, func(x store.Affected) bool { return x.PersonID == uuid.Nil })
		return recordOf(ctx, t, a, now, "standing.set", &g, g.Address, changes, affected)
	})
}

// putOut ends all that somebody who is barred has in g, which is locked.
func (w *Workspace) putOut(ctx context.Context, t *store.Store, a Actor, g *store.Group, p store.Person, key string) error {
	now := w.now(ctx)
	if err := t.CallBackInvitations(ctx, g.ID, []string{key}, now); err != nil || p.ID == uuid.Nil {
		return err
	}
	if err := t.EndRequests(ctx, g.ID, []uuid.UUID{p.ID}, store.ToJoin, now); err != nil {
		return err
	}
	rows, err := t.LockMembers(ctx, g.ID, []uuid.UUID{p.ID})
	if err != nil || len(rows) == 0 {
		return err
	}
	rows[0].ByRule = false // a bar goes before the rule
	all := []target{{given: p.Address, id: p.ID}}
	err = w.applyToMembers(ctx, t, a, g, all, map[uuid.UUID]store.MemberRow{p.ID: rows[0]}, 0, api.MembersPatch{Remove: true})
	return errors.Join(err, all[0].err)
}
