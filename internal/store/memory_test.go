package store

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
)

// total returns how many groups a list says there are.
func total(t *testing.T, s *Tx) int64 {
	t.Helper()
	p, err := s.Groups(GroupQuery{Q: "kept", Sort: ByName, Limit: 2})
	if err != nil {
		t.Fatal(err)
	}
	return p.Total
}

func add(t *testing.T, s *Tx, g *Group) *Group {
	t.Helper()
	if err := s.AddGroup(g); err != nil {
		t.Fatal(err)
	}
	return g
}

func TestATransactionShowsOnceItIsCommitted(t *testing.T) {
	s := open(t)
	before := total(t, s.Tx)
	regret := errors.New("regret")
	err := s.Transact(ctx, false, func(tx *Tx) error {
		add(t, tx, newGroup("Kept One", "kept-one@merrowline.example"))
		if n := total(t, tx); n != before+1 {
			t.Errorf("the transaction sees %d groups, not its own", n)
		}
		if n := total(t, s.Tx); n != before {
			t.Errorf("others see %d groups before it is committed", n)
		}
		return regret
	})
	if !errors.Is(err, regret) || total(t, s.Tx) != before {
		t.Errorf("rolled back: %v, %d groups", err, total(t, s.Tx))
	}
	err = s.Transact(ctx, false, func(tx *Tx) error {
		add(t, tx, newGroup("Kept Two", "kept-two@merrowline.example"))
		total(t, s.Tx)
		return nil
	})
	if n := total(t, s.Tx); err != nil || n != before+1 {
		t.Errorf("committed: %v, %d groups", err, n)
	}
}

// What is on a page is read again where its version, or an owner's name, changed.
func TestAPageShowsWhatChanged(t *testing.T) {
	s := open(t)
	p := newPerson("wren.kept@merrowline.example")
	if err := s.AddPeople([]Person{p}); err != nil {
		t.Fatal(err)
	}
	g := add(t, s.Tx, newGroup("Kept Page", "kept-page@merrowline.example"))
	if err := s.AddMemberships([]Membership{{GroupID: g.ID, MemberID: p.ID, Kind: KindPerson, Role: expand.Owner, AddedAt: time.Now()}}); err != nil {
		t.Fatal(err)
	}
	look := func() (Group, GroupExtras) {
		t.Helper()
		page, err := s.Groups(GroupQuery{Q: "kept page", Sort: ByName, Limit: 5})
		if err != nil || len(page.Items) != 1 {
			t.Fatalf("%+v, %v", page, err)
		}
		around, err := s.GroupExtras(p.ID, page.Items)
		if err != nil {
			t.Fatal(err)
		}
		return page.Items[0], around[0]
	}
	look()
	for _, c := range []struct {
		name   string
		change func(*Tx) error
		seen   func(Group, GroupExtras) bool
	}{
		{"a description", func(tx *Tx) error {
			g, err := tx.LockGroup(g.ID)
			was := g
			g.Description = "said again"
			return errors.Join(err, tx.SaveGroup(&g, was))
		}, func(g Group, _ GroupExtras) bool { return g.Description == "said again" }},
		{"an owner's name", func(tx *Tx) error {
			p, err := tx.LockPerson(p.ID)
			p.Name = "Wren Kestrel"
			return errors.Join(err, tx.SavePerson(&p, true))
		}, func(_ Group, a GroupExtras) bool { return a.Owners[0].Name == "Wren Kestrel" }},
		{"an alias", func(tx *Tx) error {
			g, err := tx.LockGroup(g.ID)
			return errors.Join(err, tx.SetAddresses(&g, []string{"kept-alias@merrowline.example"}, time.Now().UTC()), tx.SaveGroup(&g, g))
		}, func(_ Group, a GroupExtras) bool { return len(a.Aliases) == 1 }},
		{"a role", func(tx *Tx) error {
			g, err := tx.LockGroup(g.ID)
			return errors.Join(err, tx.DeleteMemberships(g.ID, []uuid.UUID{p.ID}), tx.SaveGroup(&g, g))
		}, func(_ Group, a GroupExtras) bool { return a.Role == 0 && len(a.Owners) == 0 }},
	} {
		if err := s.Transact(ctx, false, c.change); err != nil {
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
	before := total(t, s.Tx)
	add(t, other.Tx, newGroup("Kept Elsewhere", "kept-elsewhere@merrowline.example"))
	s.memory.mu.Lock()
	for _, key := range s.memory.counts.Keys() {
		k, _ := s.memory.counts.Peek(key)
		if left := time.Until(k.until); left > keptFor {
			t.Errorf("%x is kept for %v", key, left)
		}
		k.until = time.Now()
		s.memory.counts.Add(key, k)
	}
	s.memory.mu.Unlock()
	if n := total(t, s.Tx); n != before+1 {
		t.Errorf("%d groups, %d before", n, before)
	}
}

// What somebody can find is read each time: a page that was kept for colleagues shows nothing that
// another process hid since, and nobody is shown what was kept for somebody in a hidden group.
func TestNothingHiddenIsKept(t *testing.T) {
	s, other := open(t), open(t)
	inside, outside := newPerson("inside.hidden@merrowline.example"), newPerson("outside.hidden@merrowline.example")
	if err := s.AddPeople([]Person{inside, outside}); err != nil {
		t.Fatal(err)
	}
	hidden, inner := add(t, s.Tx, newGroup("Hiddenkept One", "hiddenkept-one@merrowline.example")), add(t, s.Tx, newGroup("Hiddenkept Two", "hiddenkept-two@merrowline.example"))
	if err := s.AddMemberships([]Membership{
		{GroupID: hidden.ID, MemberID: inner.ID, Kind: KindGroup, Role: expand.Member, AddedAt: time.Now()},
		{GroupID: inner.ID, MemberID: inside.ID, Kind: KindPerson, Role: expand.Member, AddedAt: time.Now()},
	}); err != nil {
		t.Fatal(err)
	}
	found := func(step string, p Person, want int64) {
		t.Helper()
		for range 2 { // read, then kept
			page, err := s.Groups(GroupQuery{Q: "hiddenkept", Viewer: p.ID, Sort: ByName, Limit: 5, Time: FilterTime{Now: time.Now()}})
			if err != nil || page.Total != want || int64(len(page.Items)) != want {
				t.Errorf("%s: %s finds %d, %d on the page, want %d, %v", step, p.Address, page.Total, len(page.Items), want, err)
			}
		}
	}
	find := func(a policy.Audience) {
		t.Helper()
		if err := other.Transact(ctx, false, func(tx *Tx) error {
			g, err := tx.LockGroup(hidden.ID)
			was := g
			g.Policy[policy.Find] = a
			return errors.Join(err, tx.SaveGroup(&g, was))
		}); err != nil {
			t.Fatal(err)
		}
	}
	found("at first", inside, 2)
	found("at first", outside, 2)
	find(policy.Members)
	found("hidden from colleagues", outside, 1)
	found("hidden from colleagues", inside, 2)
	find(policy.Owners)
	found("hidden from members", inside, 1)
	find(policy.Members)
	found("shown to members", inside, 2)
	end := func(at *time.Time) {
		t.Helper()
		if err := other.Transact(ctx, false, func(tx *Tx) error {
			g, err := tx.LockGroup(hidden.ID)
			was := g
			g.EndedAt = at
			return errors.Join(err, tx.SaveGroup(&g, was))
		}); err != nil {
			t.Fatal(err)
		}
	}
	now := time.Now().UTC()
	end(&now)
	found("ended, through a nested group", inside, 1)
	end(nil)
	found("and back", inside, 2)
	for step, c := range []struct {
		want int64
		do   func(*Tx) error
	}{
		{1, func(tx *Tx) error { return tx.DeleteMemberships(hidden.ID, []uuid.UUID{inner.ID}) }},
		{2, func(tx *Tx) error {
			return tx.AddMemberships([]Membership{{GroupID: hidden.ID, MemberID: inner.ID, Kind: KindGroup, Role: expand.Member, AddedAt: time.Now()}})
		}},
	} {
		if err := other.Transact(ctx, false, c.do); err != nil {
			t.Fatal(err)
		}
		found(fmt.Sprint("nested elsewhere ", step), inside, c.want)
	}
	if err := other.Transact(ctx, false, func(tx *Tx) error { return tx.DeleteMemberships(inner.ID, []uuid.UUID{inside.ID}) }); err != nil {
		t.Fatal(err)
	}
	found("out of the inner group", inside, 1)
}

// Whatever a transaction writes to a table that something is kept of, it says so.
func TestWhatIsWrittenIsForgotten(t *testing.T) {
	s := open(t)
	tables := map[subject]*regexp.Regexp{
		ofGroups: regexp.MustCompile("\\b(mail_groups|memberships)\\b"), ofPeople: regexp.MustCompile("\\b(UPDATE|INTO) .?people\\b"), ofSettings: regexp.MustCompile("\\bsettings\\b"),
	}
	var wrote subject
	after := func(tx *gorm.DB) {
		sql := tx.Statement.SQL.String()
		target, _, _ := strings.Cut(sql, " SELECT ") // what is only read for it does not count
		for of, table := range tables {
			if table.MatchString(target) {
				wrote |= of
			}
		}
	}
	for _, err := range []error{
		s.db.Callback().Create().After("gorm:create").Register("test:written", after), s.db.Callback().Update().After("gorm:update").Register("test:written", after),
		s.db.Callback().Delete().After("gorm:delete").Register("test:written", after), s.db.Callback().Raw().After("gorm:raw").Register("test:written", after),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	p, q := newPerson("wren.written@merrowline.example"), newPerson("una.written@merrowline.example")
	g := newGroup("Written Down", "written-down@merrowline.example")
	in := []Membership{{GroupID: g.ID, MemberID: p.ID, Kind: KindPerson, Role: expand.Owner, AddedAt: time.Now()}}
	for _, c := range []struct {
		name  string
		of    subject
		write func(*Tx) error
	}{
		{"AddPeople", ofPeople, func(tx *Tx) error { return tx.AddPeople([]Person{p, q}) }},
		{"AddGroup", ofGroups, func(tx *Tx) error { return tx.AddGroup(g) }},
		{"AddMemberships", ofGroups, func(tx *Tx) error { return tx.AddMemberships(in) }},
		{"SetRoles", ofGroups, func(tx *Tx) error { return tx.SetRoles(g.ID, []uuid.UUID{p.ID}, expand.Member) }},
		{"SetMail", ofGroups, func(tx *Tx) error { return tx.SetMail(g.ID, []uuid.UUID{p.ID}, false, Each) }},
		{"SaveMembership", ofGroups, func(tx *Tx) error { return tx.SaveMembership(in[0]) }},
		{"SaveGroup", ofGroups, func(tx *Tx) error {
			locked, err := tx.LockGroup(g.ID)
			was := locked
			locked.Name = "Written Again"
			return errors.Join(err, tx.SaveGroup(&locked, was))
		}},
		{"SavePerson", ofPeople, func(tx *Tx) error {
			locked, err := tx.LockPerson(p.ID)
			locked.Name = "Wren Plover"
			return errors.Join(err, tx.SavePerson(&locked, true))
		}},
		{"SetPassword", ofPeople, func(tx *Tx) error { return tx.SetPassword(p.ID, "x") }},
		{"SetSignedIn", ofPeople, func(tx *Tx) error { return tx.SetSignedIn(p.ID, time.Now()) }},
		{"MovePerson", ofPeople, func(tx *Tx) error { return tx.MovePerson(&q, parsed(t, "una.moved@merrowline.example")) }},
		{"SaveSetting", ofSettings, func(tx *Tx) error { return tx.SaveSetting("written", 1, 1) }},
		{"SetRule", ofSettings, func(tx *Tx) error {
			return tx.SetRule(GroupRule{GroupID: g.ID, Expression: "active eq true", SetAt: time.Now()})
		}},
		{"DeleteMemberships", ofGroups, func(tx *Tx) error { return tx.DeleteMemberships(g.ID, []uuid.UUID{p.ID}) }},
		{"Purge", ofGroups, func(tx *Tx) error {
			return tx.Purge(PurgedGroup{ID: g.ID, CreatedAt: time.Now(), EndedAt: time.Now(), PurgedAt: time.Now(), FreeAt: time.Now()})
		}},
	} {
		err := s.Transact(ctx, false, func(tx *Tx) error {
			tx.written, wrote = 0, 0
			if err := c.write(tx); err != nil {
				return err
			}
			if tx.written&c.of == 0 || wrote&^tx.written != 0 {
				t.Errorf("%s: wrote %b, said %b", c.name, wrote, tx.written)
			}
			return nil
		})
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
		}
	}
}

func TestNoTwoQueriesAreTakenForEachOther(t *testing.T) {
	seen := map[digest]int{}
	for i, args := range [][]any{{"a b", "c"}, {"a", "b c"}, {"ab", "c"}, {"a", "bc"}, {[]string{"a", "b"}}, {[]string{"a b"}}, {"1"}, {1}, {true}, {nil}, {}} {
		if j, twice := seen[digestOf("q", args)]; twice {
			t.Errorf("%#v is taken for the %dth", args, j)
		}
		seen[digestOf("q", args)] = i
	}
}

// A group that is deleted while a page is read leaves no hole in it, and does not make
// it look like the last page.
func TestAGroupIsDeletedWhileAPageIsRead(t *testing.T) {
	s, other := open(t), open(t)
	var made []*Group
	for i := range 6 {
		made = append(made, add(t, other.Tx, newGroup(fmt.Sprintf("Holed %d", i), fmt.Sprintf("holed-%d@merrowline.example", i))))
	}
	once := sync.OnceFunc(func() {
		if err := other.Purge(PurgedGroup{ID: made[1].ID, CreatedAt: time.Now(), EndedAt: time.Now(), PurgedAt: time.Now(), FreeAt: time.Now()}); err != nil {
			t.Error(err)
		}
	})
	asked := func(tx *gorm.DB) {
		if strings.HasPrefix(tx.Statement.SQL.String(), "SELECT g.id, CAST") {
			once()
		}
	}
	if err := s.db.Callback().Row().After("gorm:row").Register("test:purge", asked); err != nil {
		t.Fatal(err)
	}
	page, err := s.Groups(GroupQuery{Q: "holed", Sort: ByName, Limit: 3})
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, g := range page.Items {
		got = append(got, g.Name)
	}
	if !slices.Equal(got, []string{"Holed 0", "Holed 2"}) || page.Next.Empty() {
		t.Errorf("the page holds %v, and goes on at %+v", got, page.Next)
	}
}

// Parts of a larger change leave the length of a list as it was for a moment; its last part, and any other change, are counted at once.
func TestPartsOfAChangeAreCountedAfterAWhile(t *testing.T) {
	s := open(t)
	add := func(name string, part bool) {
		t.Helper()
		err := s.Transact(ctx, false, func(tx *Tx) error {
			if part {
				tx.Part()
			}
			return tx.AddGroup(newGroup(name, strings.ReplaceAll(strings.ToLower(name), " ", "-")+"@merrowline.example"))
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	add("Kept Whole", false)
	n := total(t, s.Tx)
	add("Kept Part One", true)
	first, _ := s.Groups(GroupQuery{Q: "kept part", Sort: ByName, Limit: 5})
	if got := total(t, s.Tx); got != n || len(first.Items) != 1 {
		t.Errorf("after a part there are %d, not %d; its page has %d", got, n, len(first.Items))
	}
	add("Kept Part Two", false)
	if got := total(t, s.Tx); got != n+2 {
		t.Errorf("after the last part there are %d, not %d", got, n+2)
	}
	s.memory.mu.Lock()
	s.memory.counted = time.Now().Add(-lag)
	s.memory.mu.Unlock()
	add("Kept Part Three", true)
	if got := total(t, s.Tx); got != n+3 {
		t.Errorf("after a while there are %d, not %d", got, n+3)
	}
}
