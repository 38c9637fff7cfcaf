package workspace

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/naming"
	"ivytable.example/ivytable/internal/store"
)

// mostly is the share of people, in percent of the larger of two groups, from which
// on they count as mostly the same.
const mostly = 70

// LookAlikes returns groups that may be the one that somebody is about to make
// again: with a like name, a like address, or mostly the same people. It shows only
// what the actor can find, at most 5.
func (w *Workspace) LookAlikes(ctx context.Context, a Actor, q api.LookAlikeRequest) ([]api.LookAlike, error) {
	if err := w.allowCreate(ctx, a); err != nil {
		return nil, err
	}
	why := map[uuid.UUID][]string{}
	share := map[uuid.UUID]int{}
	add := func(id uuid.UUID, reason string) {
		if !slices.Contains(why[id], reason) {
			why[id] = append(why[id], reason)
		}
	}
	words := telling(q.Name)
	named, err := w.store.GroupsByWords(ctx, words, 50)
	if err != nil {
		return nil, err
	}
	if addr, err := mailaddr.Parse(q.Address); err == nil {
		near, err := w.store.AddressesNear(ctx, addr)
		if err != nil {
			return nil, err
		}
		for _, n := range near {
			if n.Kind != store.KindPerson {
				add(n.Ref, "address")
			}
		}
	}
	var keys []string
	for _, x := range q.People {
		if addr, err := mailaddr.Parse(x); err == nil {
			keys = append(keys, addr.Key())
		}
	}
	people, err := w.store.PeopleByKeys(ctx, keys)
	if err != nil {
		return nil, err
	}
	if n := len(people); n >= 3 {
		ids := make([]uuid.UUID, 0, n)
		for _, p := range people {
			ids = append(ids, p.ID)
		}
		over, err := w.store.Overlaps(ctx, ids, (n*mostly+99)/100, w.now(ctx), 20)
		if err != nil {
			return nil, err
		}
		for _, o := range over {
			share[o.GroupID] = o.N
		}
	}
	all := slices.Clone(named)
	for id := range why {
		all = append(all, id)
	}
	for id := range share {
		all = append(all, id)
	}
	groups, err := w.store.GroupsByID(ctx, all)
	if err != nil {
		return nil, err
	}
	for _, id := range named {
		if g, ok := groups[id]; ok && naming.Alike(words, telling(g.Name)) {
			add(id, "name")
		}
	}
	for id, n := range share {
		if g := groups[id]; 100*n >= mostly*(g.Owners+g.Moderators+g.Members) {
			add(id, "people")
		}
	}
	return w.shapeLookAlikes(ctx, a, groups, why, share)
}

// telling returns the words that tell a name from others, as an eye takes them.
func telling(name string) []string { return naming.Telling(store.Words(mailaddr.Skeleton(name))) }

func (w *Workspace) shapeLookAlikes(ctx context.Context, a Actor, groups map[uuid.UUID]store.Group, why map[uuid.UUID][]string, share map[uuid.UUID]int) ([]api.LookAlike, error) {
	ids := make([]uuid.UUID, 0, len(why))
	for id := range why {
		ids = append(ids, id)
	}
	out := []api.LookAlike{}
	if len(ids) == 0 {
		return out, nil
	}
	standings, err := w.standingsOf(ctx, a.Person, ids)
	if err != nil {
		return nil, err
	}
	owners, err := w.store.Owners(ctx, ids)
	if err != nil {
		return nil, err
	}
	e, err := w.expiry(ctx)
	if err != nil {
		return nil, err
	}
	for _, id := range ids {
		g, ok := groups[id]
		if !ok || !a.may(readGroup, &g, standings[id]) {
			continue
		}
		x := api.LookAlike{Name: g.Name, Address: g.Address, Owners: []api.Name{}, People: g.Owners + g.Moderators + g.Members, Why: why[id],
			State: string(e.policy.State(g.Life(), w.now(ctx)))}
		for _, o := range owners[id] {
			x.Owners = append(x.Owners, api.Name{Name: o.Name, Address: o.Address})
		}
		var parts []string
		for _, r := range x.Why {
			parts = append(parts, map[string]string{"name": "has a like name", "address": "has a like address", "people": fmt.Sprintf("has %d of the same people", share[id])}[r])
		}
		x.Says = g.Name + " " + strings.Join(parts, " and ") + "."
		out = append(out, x)
	}
	slices.SortFunc(out, func(x, y api.LookAlike) int {
		if n := len(y.Why) - len(x.Why); n != 0 {
			return n
		}
		return strings.Compare(x.Name, y.Name)
	})
	return out[:min(len(out), 5)], nil
}
