package group

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/mailaddr"
	corenaming "ivytable.example/ivytable/internal/core/naming"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/naming"
)

// mostly is the share of people, in percent of the larger of two groups, from which
// on they count as mostly the same.
const mostly = 70

// LookAlikes returns groups that may be the one that somebody is about to make again:
// with a like name, a like address, or mostly the same people. It shows only what the
// actor can find, at most 5.
func (s *Service) LookAlikes(ctx context.Context, by workspace.Actor, q api.LookAlikeRequest) (api.Page[api.LookAlike], error) {
	v := s.k.View(ctx, by)
	if err := naming.AllowCreate(v, access.CreateGroup); err != nil {
		return api.Page[api.LookAlike]{}, err
	}
	f := finder{v: v, why: map[uuid.UUID][]string{}, share: map[uuid.UUID]int{}}
	for _, step := range []func(api.LookAlikeRequest) error{f.byAddress, f.byPeople, f.byName} {
		if err := step(q); err != nil {
			return api.Page[api.LookAlike]{}, err
		}
	}
	out, err := f.shape()
	return workspace.Whole(out), err
}

// finder collects groups that are like another, and why.
type finder struct {
	v      *workspace.View
	why    map[uuid.UUID][]string
	share  map[uuid.UUID]int // how many of the same people
	groups map[uuid.UUID]workspace.Group
}

func (f *finder) add(id uuid.UUID, reason string) {
	if !slices.Contains(f.why[id], reason) {
		f.why[id] = append(f.why[id], reason)
	}
}

func (f *finder) byAddress(q api.LookAlikeRequest) error {
	addr, err := mailaddr.Parse(q.Address)
	if err != nil {
		return nil // there is nothing to compare yet
	}
	near, err := f.v.Read.AddressesNear(addr)
	for _, n := range near {
		if n.Kind == store.KindGroup || n.Kind == store.KindAlias {
			f.add(n.Ref, "address")
		}
	}
	return err
}

func (f *finder) byPeople(q api.LookAlikeRequest) error {
	var keys []string
	for _, x := range q.People {
		if addr, err := mailaddr.Parse(x); err == nil {
			keys = append(keys, addr.Key())
		}
	}
	people, err := f.v.Read.PeopleByKeys(keys)
	if n := len(people); err != nil || n < 3 {
		return err
	}
	ids := make([]uuid.UUID, 0, len(people))
	for _, p := range people {
		ids = append(ids, p.ID)
	}
	over, err := f.v.Read.Overlaps(ids, (len(ids)*mostly+99)/100, f.v.Now(), 20)
	for _, o := range over {
		f.share[o.GroupID] = o.N
	}
	return err
}

// byName compares names, and reads all groups that were found.
func (f *finder) byName(q api.LookAlikeRequest) error {
	words := telling(q.Name)
	named, err := f.v.Read.GroupsByWords(words, 50)
	if err != nil {
		return err
	}
	all := slices.Clone(named)
	for id := range f.why {
		all = append(all, id)
	}
	for id := range f.share {
		all = append(all, id)
	}
	if f.groups, err = f.v.Visible(all); err != nil {
		return err
	}
	for _, id := range named {
		if g, ok := f.groups[id]; ok && corenaming.Alike(words, telling(g.Name)) {
			f.add(id, "name")
		}
	}
	for id, n := range f.share {
		if g, ok := f.groups[id]; ok && f.v.May(access.SeePeople, &g) && 100*n >= mostly*(g.Owners+g.Moderators+g.Members) {
			f.add(id, "people")
		}
	}
	return nil
}

// telling returns the words that tell a name from others, as an eye takes them.
func telling(name string) []string { return corenaming.Telling(store.Words(mailaddr.Skeleton(name))) }

func (f *finder) shape() ([]api.LookAlike, error) {
	ids := make([]uuid.UUID, 0, len(f.why))
	for id := range f.why {
		if _, ok := f.groups[id]; ok {
			ids = append(ids, id)
		}
	}
	if len(ids) == 0 {
		return nil, nil
	}
	owners, err := f.v.Read.Owners(ids)
	if err != nil {
		return nil, err
	}
	var out []api.LookAlike
	for _, id := range ids {
		g := f.groups[id]
		x := api.LookAlike{Name: g.Name, Address: g.Address, Owners: []api.Name{}, People: g.Owners + g.Moderators + g.Members, Why: f.why[id],
			State: string(g.Life().State(f.v.Now()))}
		for _, o := range owners[id] {
			x.Owners = append(x.Owners, api.Name{Name: o.Name, Address: o.Address})
		}
		var parts []string
		for _, r := range x.Why {
			parts = append(parts, map[string]string{"name": "has a like name", "address": "has a like address", "people": fmt.Sprintf("has %d of the same people", f.share[id])}[r])
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
