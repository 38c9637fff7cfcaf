package demo

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
)

// Size is how large a generated workspace is.
type Size struct {
	People, Groups, Memberships int
}

// Large fills empty records with a workspace of a size, for measuring. The first
// person is its administrator. It is the same for the same size, but for dates,
// which begin at now, and identifiers.
func Large(ctx context.Context, pool *store.Pool, size Size, now time.Time) (administrator store.Person, err error) {
	r := rand.New(rand.NewPCG(3, 5))
	people := make([]store.Person, size.People)
	for i := range people {
		address := fmt.Sprintf("person-%06d@%s", i, mainDomain)
		attributes := fmt.Appendf(nil, `{"department": %q, "locality": %q, "employeeNumber": "E%06d"}`, departments[r.IntN(len(departments))], localities[r.IntN(len(localities))], i)
		people[i] = store.Person{ID: store.NewID(), Address: address, AddrKey: address, Active: true, Attributes: attributes, CreatedAt: now, Version: 1,
			Name: firstNames[r.IntN(len(firstNames))] + " " + familyNames[r.IntN(len(familyNames))]}
	}
	for i := 500; i < len(people); i += 1000 {
		outside := fmt.Sprintf("outsider-%d@partner.example", i)
		people[i].External, people[i].Address, people[i].AddrKey, people[i].Attributes = true, outside, outside, []byte("{}")
	}
	people[0].WorkspaceRole = "administrator"
	if err := pool.Transact(ctx, false, func(tx *store.Tx) error {
		return errors.Join(tx.SetDomains([]string{mainDomain}), tx.AddPeople(people))
	}); err != nil {
		return administrator, err
	}
	var rows []store.Membership
	var groups []*store.Group
	flush := func() error {
		err := pool.Transact(ctx, false, func(tx *store.Tx) error { return errors.Join(tx.AddGroups(groups), tx.AddMemberships(rows)) })
		rows, groups = rows[:0], groups[:0]
		return err
	}
	each := size.Memberships / size.Groups
	for i := range size.Groups { // 1 to twice as many people in each
		address := fmt.Sprintf("group-%05d@%s", i, mainDomain)
		g := &store.Group{ID: store.NewID(), Name: fmt.Sprintf("%s %s %05d", departments[r.IntN(len(departments))], localities[r.IntN(len(localities))], i), Address: address, AddrKey: address,
			Description: "A group of the measurement.", Language: "en", DefaultMail: true, RenewedAt: now, CreatedAt: now, ExpiresAt: now.AddDate(0, 0, r.IntN(365)).Truncate(24 * time.Hour), Version: 1}
		g.Policy = policy.Default()
		g.Policy[policy.Post] = policy.Owners + policy.Audience(r.IntN(5))
		if i%10 == 9 { // known to its members alone
			g.Policy[policy.Find], g.Policy[policy.JoinAudience] = policy.Members, policy.Nobody
		}
		in := map[uuid.UUID]bool{}
		for n := 1 + r.IntN(2*each-1); len(in) < n; {
			m := people[r.IntN(len(people))]
			if in[m.ID] {
				continue
			}
			in[m.ID] = true
			role := expand.Member
			if len(in) <= 2 {
				role = expand.Owner
				g.Owners++
			} else {
				g.Members++
			}
			if m.External {
				g.ExternalMembers++
			}
			rows = append(rows, store.Membership{GroupID: g.ID, MemberID: m.ID, Kind: store.KindPerson, Role: role, Mail: true, AddedAt: now, AddedBy: people[0].Address})
		}
		groups = append(groups, g)
		if len(rows) > 20000 {
			if err := flush(); err != nil {
				return administrator, err
			}
		}
	}
	if err := flush(); err != nil {
		return administrator, err
	}
	return people[0], pool.Analyze(ctx)
}
