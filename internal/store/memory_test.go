package store

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"ivytable.example/ivytable/internal/core/expand"
)

// total returns how many groups a list says there are.
func total(t *testing.T, s *Store) int64 {
	t.Helper()
	p, err := s.Groups(ctx, GroupQuery{Q: "kept", Sort: ByName, Limit: 2})
	if err != nil {
		t.Fatal(err)
	}
	return p.Total
}

func add(t *testing.T, s *Store, g *Group) *Group {
	t.Helper()
	if err := s.AddGroup(ctx, g); err != nil {
		t.Fatal(err)
	}
	return g
}

func TestATransactionShowsOnceItIsCommitted(t *testing.T) {
	s := open(t)
	before := total(t, s)
	regret := errors.New("regret")
	err := s.Tx(ctx, func(tx *Store) error {
		add(t, tx, newGroup("Kept One", "kept-one@merrowline.example"))
		if n := total(t, tx); n != before+1 {
			t.Errorf("the transaction sees %d groups, not its own", n)
		}
		if n := total(t, s); n != before {
			t.Errorf("others see %d groups before it is committed", n)
		}
		return regret
	})
	if !errors.Is(err, regret) || total(t, s) != before {
		t.Errorf("rolled back: %v, %d groups", err, total(t, s))
	}
	err = s.Tx(ctx, func(tx *Store) error {
		add(t, tx, newGroup("Kept Two", "kept-two@merrowline.example"))
		total(t, s)
		return nil
	})
	if n := total(t, s); err != nil || n != before+1 {
		t.Errorf("committed: %v, %d groups", err, n)
	}
}

// What is on a page is read again where its version, or an owner's name, changed.
func TestAPageShowsWhatChanged(t *testing.T) {
	s := open(t)
	p := newPerson("wren.kept@merrowline.example")
	if err := s.AddPeople(ctx, []Person{p}); err != nil {
		t.Fatal(err)
	}
	g := add(t, s, newGroup("Kept Page", "kept-page@merrowline.example"))
	if err := s.AddMemberships(ctx, []Membership{{GroupID: g.ID, MemberID: p.ID, Kind: KindPerson, Role: expand.Owner, AddedAt: time.Now()}}); err != nil {
		t.Fatal(err)
	}
	look := func() (Group, Around) {
		t.Helper()
		page, err := s.Groups(ctx, GroupQuery{Q: "kept page", Sort: ByName, Limit: 5})
		if err != nil || len(page.Items) != 1 {
			t.Fatalf("%+v, %v", page, err)
		}
		around, err := s.Around(ctx, p.ID, page.Items)
		if err != nil {
			t.Fatal(err)
		}
		return page.Items[0], around[g.ID]
	}
	look()
	for _, c := range []struct {
		name   string
		change func(*Store) error
		seen   func(Group, Around) bool
	}{
		{"a description", func(tx *Store) error {
			g, err := tx.LockGroup(ctx, g.ID)
			g.Description = "said anew"
			return errors.Join(err, tx.SaveGroup(ctx, &g, false))
		}, func(g Group, _ Around) bool { return g.Description == "said anew" }},
		{"an owner's name", func(tx *Store) error {
			p, err := tx.LockPerson(ctx, p.ID)
			p.Name = "Wren Kestrel"
			return errors.Join(err, tx.SavePerson(ctx, &p, true))
		}, func(_ Group, a Around) bool { return a.Owners[0].Name == "Wren Kestrel" }},
		{"an alias", func(tx *Store) error {
			g, err := tx.LockGroup(ctx, g.ID)
			return errors.Join(err, tx.SetAddresses(ctx, &g, []string{"kept-alias@merrowline.example"}), tx.SaveGroup(ctx, &g, false))
		}, func(_ Group, a Around) bool { return len(a.Aliases) == 1 }},
		{"a role", func(tx *Store) error {
			g, err := tx.LockGroup(ctx, g.ID)
			return errors.Join(err, tx.DeleteMemberships(ctx, g.ID, []uuid.UUID{p.ID}), tx.SaveGroup(ctx, &g, false))
		}, func(_ Group, a Around) bool { return a.Role == 0 && len(a.Owners) == 0 }},
	} {
		if err := s.Tx(ctx, c.change); err != nil {
			t.Fatal(err)
		}
		if g, a := look(); !c.seen(g, a) {
			t.Errorf("%s does not show: %+v, %+v", c.name, g, a)
		}
	}
}

// What another process committed shows when what was kept is old.
func TestWhatIsKeptGrowsOld(t *testing.T) {
	s, other := open(t), open(t)
	before := total(t, s)
	add(t, other, newGroup("Kept Elsewhere", "kept-elsewhere@merrowline.example"))
	s.memory.mu.Lock()
	for key, k := range s.memory.counts {
		if left := time.Until(k.until); left > keptFor {
			t.Errorf("%s is kept for %v", key, left)
		}
		k.until = time.Now()
		s.memory.counts[key] = k
	}
	s.memory.mu.Unlock()
	if n := total(t, s); n != before+1 {
		t.Errorf("%d groups, %d before", n, before)
	}
}

func TestTheMemoryIsBounded(t *testing.T) {
	var m map[int]int
	for i := range 1000 {
		put(&m, 100, i, i)
		if len(m) > 100 || m[i] != i {
			t.Fatalf("%d are kept, the last as %d", len(m), m[i])
		}
	}
}

// A group that is deleted while a page is read leaves no hole in it, and does not make
// it look like the last page.
func TestAGroupIsDeletedWhileAPageIsRead(t *testing.T) {
	s, other := open(t), open(t)
	var made []*Group
	for i := range 6 {
		made = append(made, add(t, other, newGroup(fmt.Sprintf("Holed %d", i), fmt.Sprintf("holed-%d@merrowline.example", i))))
	}
	once := sync.OnceFunc(func() {
		if err := other.Purge(ctx, made[1].ID); err != nil {
			t.Error(err)
		}
	})
	asked := func(tx *gorm.DB) {
		if strings.HasPrefix(tx.Statement.SQL.String(), "SELECT id, version") {
			once()
		}
	}
	if err := s.db.Callback().Row().After("gorm:row").Register("test:purge", asked); err != nil {
		t.Fatal(err)
	}
	page, err := s.Groups(ctx, GroupQuery{Q: "holed", Sort: ByName, Limit: 3})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, g := range page.Items {
		got = append(got, g.Name)
	}
	if !slices.Equal(got, []string{"Holed 0", "Holed 2", "Holed 3"}) || page.Next == (Cursor{}) {
		t.Errorf("the page holds %v, and goes on at %+v", got, page.Next)
	}
}
