package store

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
)

// a sizing does random things that change whom groups reach.
type sizing struct {
	t      *testing.T
	s      *Pool
	groups []uuid.UUID
	people []uuid.UUID
}

func (z *sizing) do(r *rand.Rand) {
	g, p := z.groups[r.IntN(len(z.groups))], z.people[r.IntN(len(z.people))]
	err := z.s.Transact(ctx, false, func(tx *Tx) error {
		onGroup := func(f func(g *Group)) error {
			was, err := tx.LockGroup(g)
			if err != nil {
				return err
			}
			now := was
			f(&now)
			return tx.SaveGroup(&now, was)
		}
		switch r.IntN(9) {
		case 0, 1, 2: // people come, or go
			if _, err := tx.LockGroup(g); err != nil {
				return err
			}
			in, err := tx.MemberIDs(g, []uuid.UUID{p})
			if err != nil {
				return err
			}
			if in[p] {
				return tx.DeleteMemberships(g, []uuid.UUID{p})
			}
			who, err := tx.Person(p)
			if err != nil || !who.Active {
				return err
			}
			return tx.AddMemberships([]Membership{{GroupID: g, MemberID: p, Kind: KindPerson, Role: expand.Member}})
		case 3: // somebody leaves the organisation, or returns
			who, err := tx.LockPerson(p)
			if err != nil || who.External {
				return err
			}
			who.Active = !who.Active
			if r.IntN(2) == 0 {
				return tx.SavePerson(&who, false)
			}
			return tx.SavePeople([]Person{who}, nil)
		case 4, 5: // a group comes into another of a higher number, or goes
			if err := tx.LockNesting(); err != nil {
				return err
			}
			i := r.IntN(len(z.groups) - 1)
			inner, outer := z.groups[i], z.groups[i+1+r.IntN(len(z.groups)-i-1)]
			if _, err := tx.LockGroup(outer); err != nil {
				return err
			}
			in, err := tx.MemberIDs(outer, []uuid.UUID{inner})
			if err != nil {
				return err
			}
			if in[inner] {
				return tx.DeleteMemberships(outer, []uuid.UUID{inner})
			}
			return tx.AddMemberships([]Membership{{GroupID: outer, MemberID: inner, Kind: KindGroup, Role: expand.Member}})
		case 6: // a group ends, or is restored
			return onGroup(func(g *Group) {
				now := time.Now().UTC().Truncate(time.Microsecond)
				if g.EndedAt == nil {
					g.EndedAt = &now
				} else {
					g.EndedAt = nil
				}
			})
		case 7: // it is hidden, or found
			return onGroup(func(g *Group) { g.Policy[policy.Find] = policy.Members + policy.Audience(r.IntN(2)) })
		}
		return onGroup(func(g *Group) { g.Policy[policy.Externals] = policy.Value(r.IntN(2)) }) // it takes external members, or none
	})
	if err != nil {
		z.t.Error(err)
	}
}

// Whatever happens, alone and many at once, sizes are those that a count finds.
func TestSizesAreThoseThatACountFinds(t *testing.T) {
	s := open(t)
	z := sizing{t: t, s: s.Pool}
	for i := range 12 {
		g := newGroup(fmt.Sprintf("Sized %d", i), fmt.Sprintf("sized-%d@merrowline.example", i))
		g.Policy = policy.Default()
		add(t, s.Tx, g)
		z.groups = append(z.groups, g.ID)
	}
	var people []Person
	for i := range 15 {
		a := fmt.Sprintf("sized-person-%d@merrowline.example", i)
		people = append(people, Person{ID: NewID(), Address: a, AddrKey: a, Name: a, Active: true, External: i%5 == 0, Attributes: []byte("{}"), CreatedAt: time.Now().UTC(), Version: 1})
		z.people = append(z.people, people[i].ID)
	}
	if err := s.AddPeople(people); err != nil {
		t.Fatal(err)
	}
	check := func(when string) {
		t.Helper()
		wrong, err := z.s.Reads(ctx).CheckSizes()
		wrong = slices.DeleteFunc(wrong, func(w string) bool { // other tests write without a transaction
			return !slices.ContainsFunc(z.groups, func(id uuid.UUID) bool { return strings.HasPrefix(w, id.String()) })
		})
		if err != nil || len(wrong) > 0 {
			t.Fatalf("%s: %v, %v", when, wrong, err)
		}
	}
	r := rand.New(rand.NewPCG(10, 26))
	for i := range 300 {
		z.do(r)
		if i%10 == 0 {
			check(fmt.Sprintf("after %d changes", i+1))
		}
	}
	check("after all")
	var all sync.WaitGroup
	for w := range 6 {
		all.Go(func() {
			r := rand.New(rand.NewPCG(uint64(w), 11))
			for range 60 {
				z.do(r)
			}
		})
	}
	all.Wait()
	check("after many at once")
}
