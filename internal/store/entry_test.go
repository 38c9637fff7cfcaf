package store

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"
	"github.com/pressly/goose/v3"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/localdb/dbtest"
)

// A workspace that was made before people were staffed keeps what it has.
func TestTablesWithDataAreBroughtUpToDate(t *testing.T) {
	old, err := dbtest.Schema(dsn, "ivytable_upgrade")
	if err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("mysql", old)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	files, err := fs.Sub(migrations, "migrations")
	if err != nil {
		t.Fatal(err)
	}
	p, err := goose.NewProvider(goose.DialectMySQL, db, files)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.UpTo(ctx, 14); err != nil {
		t.Fatal(err)
	}
	group, person := NewID(), NewID()
	for _, q := range []string{
		`INSERT INTO people (id, address, addr_key, name, external, active, workspace_role, password_hash, attributes, created_at) VALUES ('` + person.String() + `', 'a@old.example', 'a@old.example', 'A', 0, 1, '', '', '{"department": "Deck"}', NOW())`,
		`INSERT INTO mail_groups (id, name, address, addr_key, description, language, traits, find, see_people, read_archive, post, write_owners, add_people, speak_as, speak_for, join_audience, join_how, leaving, externals, hold, suspicious,
			owners, moderators, members, external_members, nested, renewed_at, expires_at, retired, chosen, standing, standing_by, version, created_at)
			VALUES ('` + group.String() + `', 'Old', 'old@old.example', 'old@old.example', '', 'en', '', 4, 3, 3, 3, 4, 1, 0, 0, 4, 1, 0, 0, 1, 1, 1, 0, 0, 0, 0, NOW(), '9999-01-01', 0, 0, '', '', 7, NOW())`,
		`INSERT INTO memberships (group_id, member_id, kind, role, mail, added_at, added_by) VALUES ('` + group.String() + `', '` + person.String() + `', 1, 3, 1, NOW(), 'x')`,
	} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	pool, err := Open(ctx, old)
	if err != nil {
		t.Fatal(err)
	}
	defer pool.Close()
	s := pool.Reads(ctx)
	g, err := s.Group(group)
	if err != nil || !g.DefaultMail || g.ByRule || g.Welcome != "" || g.Version != 7 {
		t.Errorf("the group: %+v, %v", g, err)
	}
	if m, err := s.Membership(group, person); err != nil || m.ByRule || m.Role != expand.Owner {
		t.Errorf("the membership: %+v, %v", m, err)
	}
	if p, err := s.Person(person); err != nil || p.Version != 1 || p.DepartedAt != nil {
		t.Errorf("the person: %+v, %v", p, err)
	}
}

func TestOneOpenRequestAndOneOpenInvitation(t *testing.T) {
	s := open(t)
	group, person, now := NewID(), NewID(), time.Now().UTC()
	r := Request{ID: NewID(), GroupID: group, PersonID: person, Kind: ToJoin, State: Undecided, MadeAt: now}
	if err := s.AddRequest(r); err != nil {
		t.Fatal(err)
	}
	again := r
	again.ID = NewID()
	if err := s.AddRequest(again); !errors.Is(err, ErrDuplicate) {
		t.Errorf("two open requests: %v", err)
	}
	r.State = Declined
	if err := s.SaveRequest(r); err != nil {
		t.Fatal(err)
	}
	if err := s.AddRequest(again); err != nil {
		t.Errorf("after a decision: %v", err)
	}
	if err := s.EndRequests(group, []uuid.UUID{person}, ToLeave, now); err != nil {
		t.Fatal(err)
	}
	if got, _ := s.LockRequest(again.ID); got.State != Undecided {
		t.Error("a request of another kind was closed")
	}
	if err := s.EndRequests(group, []uuid.UUID{person}, ToJoin, now); err != nil {
		t.Fatal(err)
	}
	if got, _ := s.LockRequest(again.ID); got.State != Withdrawn {
		t.Errorf("not closed: %+v", got)
	}

	invitation := func(hash byte) Invitation {
		return Invitation{ID: NewID(), Hash: append(make([]byte, 31), hash), GroupID: group, Address: "a@b.example", AddrKey: "a@b.example", Role: expand.Member, State: Undecided, MadeAt: now, ExpiresAt: now}
	}
	if err := s.AddInvitations([]Invitation{invitation(1)}); err != nil {
		t.Fatal(err)
	}
	if err := s.AddInvitations([]Invitation{invitation(2)}); !errors.Is(err, ErrDuplicate) {
		t.Errorf("two open invitations: %v", err)
	}
	if err := s.CallBackInvitations(group, []string{"a@b.example"}, now); err != nil {
		t.Fatal(err)
	}
	if err := s.AddInvitations([]Invitation{invitation(3)}); err != nil {
		t.Errorf("after the first was called back: %v", err)
	}
	if _, err := s.InvitationByHash(make([]byte, 32)); !errors.Is(err, ErrNotFound) {
		t.Errorf("an invitation of no secret: %v", err)
	}
}

func TestAddressesOfOneGroup(t *testing.T) {
	s := open(t)
	g, other := newGroup("Quays", "quays@own.example"), newGroup("Piers", "piers@own.example")
	for _, x := range []*Group{g, other} {
		if err := s.AddGroup(x); err != nil {
			t.Fatal(err)
		}
	}
	set := func(address string, aliases ...string) error {
		return s.Transact(ctx, false, func(t *Tx) error {
			locked, err := t.LockGroup(g.ID)
			if err != nil {
				return err
			}
			was := locked
			locked.Address, locked.AddrKey = address, address
			if err := t.SetAddresses(&locked, aliases, time.Now().UTC()); err != nil {
				return err
			}
			return t.SaveGroup(&locked, was)
		})
	}
	if err := set("new-quays@own.example", "quays@own.example", "new.quays@own.example"); err != nil {
		t.Fatal(err)
	}
	for _, a := range []string{"new-quays@own.example", "quays@own.example", "new.quays@own.example"} {
		if got, err := s.GroupByAddress(a); err != nil || got.ID != g.ID {
			t.Errorf("%s leads to %+v, %v", a, got.Address, err)
		}
	}
	for _, taken := range []string{"piers@own.example", "p1ers@own.example"} {
		want := taken == "piers@own.example"
		if err := set("new-quays@own.example", taken); errors.Is(err, ErrDuplicate) != want && want {
			t.Errorf("%s was taken: %v", taken, err)
		}
	}
	if err := set("pier5@own.example", "quays@own.example"); err != nil {
		t.Fatal(err)
	}
	if err := s.AddGroup(newGroup("Again", "new_quays@own.example")); err != nil {
		t.Errorf("an address that was given up stays taken: %v", err)
	}
	page, err := s.Groups(GroupQuery{Q: "pier5", Sort: ByName, Limit: 5})
	if err != nil || len(page.Items) != 1 || page.Items[0].ID != g.ID {
		t.Errorf("not found by its new address: %+v, %v", page.Items, err)
	}
}

func TestTypeAhead(t *testing.T) {
	s := open(t)
	var people []Person
	for i, name := range []string{"Zelda Ahead", "Zeno Ahead", "Zélie Ähead", "Zeta Behind", "Gone Ahead", "Outside Ahead"} {
		p := newPerson(fmt.Sprintf("ahead-%d@zz.example", i))
		p.Name, p.Active, p.External = name, name != "Gone Ahead", name == "Outside Ahead"
		people = append(people, p)
	}
	if err := s.AddPeople(people); err != nil {
		t.Fatal(err)
	}
	for q, want := range map[string]string{"zel": "Zelda Ahead Zélie Ähead", "ze ahe": "Zelda Ahead Zeno Ahead Zélie Ähead Zeta Behind", "zel ahead": "Zelda Ahead Zélie Ähead", "ZÉLIE": "Zélie Ähead", "ahead-3": "Zeta Behind", "": "", "qq z%": "", "behind zeta zeta": "Zeta Behind"} {
		found, err := s.TypeAhead(q, 10)
		var names []string
		for _, p := range found {
			names = append(names, p.Name)
		}
		slices.Sort(names)
		wanted := want
		if q == "ze ahe" { // every address begins with ahead
			wanted = "Zelda Ahead Zeno Ahead Zeta Behind Zélie Ähead"
		}
		if err != nil || strings.Join(names, " ") != wanted {
			t.Errorf("%q finds %q, %v; want %q", q, names, err, wanted)
		}
	}
	if found, err := s.TypeAhead("ahead", 2); err != nil || len(found) != 2 || found[0].ID == found[1].ID {
		t.Errorf("at most two: %+v, %v", found, err)
	}
}

func TestChangesOfRulesAreCounted(t *testing.T) {
	s := open(t)
	now := time.Now().UTC()
	g := newGroup("rule-one", "rule-one@rules.example")
	if err := s.AddGroup(g); err != nil {
		t.Fatal(err)
	}
	read := func() (expression string, version int) {
		t.Helper()
		err := s.Transact(ctx, false, func(tx *Tx) (err error) {
			expression = ""
			if version, err = tx.RLockRules(); err != nil {
				return err
			}
			return tx.EachRule(func(group uuid.UUID, x string) error {
				if group == g.ID {
					expression = x
				}
				return nil
			})
		})
		if err != nil {
			t.Fatal(err)
		}
		return expression, version
	}
	_, before := read()
	for _, step := range []struct {
		do   func() error
		want string
	}{
		{func() error {
			return s.SetRule(GroupRule{GroupID: g.ID, Expression: "title pr", Guard: 20, SetAt: now})
		}, "title pr"},
		{func() error {
			return s.SetRule(GroupRule{GroupID: g.ID, Expression: "locality pr", Guard: 20, SetAt: now})
		}, "locality pr"},
		{func() error { return s.DeleteRule(g.ID) }, ""},
	} {
		if err := step.do(); err != nil {
			t.Fatal(err)
		}
		got, version := read()
		if got != step.want || version <= before {
			t.Errorf("the rule is %q, want %q; the number of changes went from %d to %d", got, step.want, before, version)
		}
		before = version
	}
	if _, err := s.Rule(g.ID); !errors.Is(err, ErrNotFound) {
		t.Errorf("a rule that was deleted: %v", err)
	}
}

func TestHistoryIsFoundFromThePerson(t *testing.T) {
	s := open(t)
	now := time.Now().UTC()
	person, other := NewID(), NewID()
	note := func(kind string, by *uuid.UUID, affected ...Affected) {
		t.Helper()
		e := Event{ChangeID: NewID(), At: now, Actor: "x", Kind: kind, Data: []byte("{}"), ActorID: by}
		if err := s.AddEvents([]Event{e}, [][]Affected{affected}); err != nil {
			t.Fatal(err)
		}
	}
	for i := range 7 {
		var by *uuid.UUID
		if i%2 == 0 {
			by = &person
		}
		note(fmt.Sprintf("own-%d", i), by, Affected{PersonID: other}, Affected{PersonID: NewID(), Was: "member"})
	}
	note("each-1", nil, Affected{PersonID: person})
	note("each-2", nil, Affected{PersonID: other})
	note("by-address", nil, Affected{PersonID: AddressID("other@history.example")})
	walk := func(who uuid.UUID) string {
		var out []string
		for before := int64(0); ; {
			rows, err := s.EventsOfPerson(who, AddressID(map[bool]string{true: "other@history.example"}[who == other]), before, 2)
			if err != nil {
				t.Fatal(err)
			}
			for _, r := range rows {
				out, before = append(out, r.Kind), r.ID
			}
			if len(rows) < 2 {
				return strings.Join(out, " ")
			}
		}
	}
	if got := walk(person); got != "each-1 own-6 own-4 own-2 own-0" {
		t.Errorf("of who did it: %s", got)
	}
	if got := walk(other); got != "by-address each-2 own-6 own-5 own-4 own-3 own-2 own-1 own-0" {
		t.Errorf("of whom it affected: %s", got)
	}
}

func TestPurgeLeavesNothing(t *testing.T) {
	s := open(t)
	now := time.Now().UTC()
	g, outer := newGroup("Purged", "purged@gone.example"), newGroup("Purged Outer", "purged-outer@gone.example")
	outer.Nested = 1
	for _, x := range []*Group{g, outer} {
		if err := s.AddGroup(x); err != nil {
			t.Fatal(err)
		}
	}
	p := newPerson("purged-person@gone.example")
	if err := s.AddPeople([]Person{p}); err != nil {
		t.Fatal(err)
	}
	for _, err := range []error{
		s.AddMemberships([]Membership{{GroupID: g.ID, MemberID: p.ID, Kind: KindPerson, Role: expand.Owner, AddedAt: now}, {GroupID: outer.ID, MemberID: g.ID, Kind: KindGroup, Role: expand.Member, AddedAt: now}}),
		s.AddRequest(Request{ID: NewID(), GroupID: g.ID, PersonID: p.ID, Kind: ToLeave, State: Undecided, MadeAt: now}),
		s.AddInvitations([]Invitation{{ID: NewID(), Hash: make([]byte, 32), GroupID: g.ID, Address: "x@y.example", AddrKey: "x@y.example", State: Undecided, MadeAt: now, ExpiresAt: now}}),
		s.AddJoinLink(JoinLink{ID: NewID(), Hash: make([]byte, 32), GroupID: g.ID, MadeAt: now, ExpiresAt: now}),
		s.SetOverride(Override{GroupID: g.ID, AddrKey: "x@y.example", Kind: policy.Barred, SetAt: now}),
		s.SetRule(GroupRule{GroupID: g.ID, Expression: "title pr", SetAt: now}),
		s.AddMail(Whole(Message{ID: NewID(), ReceivedAt: now}, &g.ID, "", []byte("Subject: x\r\n"), []byte("x"), []string{"x@y.example"})),
		s.Purge(PurgedGroup{ID: g.ID, Name: g.Name, Address: g.Address, CreatedAt: now, EndedAt: now, PurgedAt: now, FreeAt: now.AddDate(0, 0, 90)}),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, table := range []string{"memberships", "requests", "invitations", "join_links", "overrides", "group_settings", "group_rules", "mailings", "notices"} {
		var n int
		if err := s.db.WithContext(ctx).Raw("SELECT COUNT(*) FROM "+table+" WHERE group_id = ?", g.ID).Scan(&n).Error; err != nil || n != 0 {
			t.Errorf("%d rows in %s, %v", n, table, err)
		}
	}
	if now, _ := s.Group(outer.ID); now.Nested != 0 {
		t.Errorf("the outer group counts %d nested", now.Nested)
	}
	if _, err := s.GroupByAddress(g.AddrKey); !errors.Is(err, ErrNotFound) {
		t.Errorf("its address leads somewhere: %v", err)
	}
	for days, free := range map[int]bool{89: false, 90: true} {
		if all, err := s.FreeAddresses(now.AddDate(0, 0, days), 10); err != nil || (len(all) == 1) != free {
			t.Errorf("after %d days: %v, %v", days, all, err)
		}
		if err := s.AddGroup(newGroup("Another", g.Address)); errors.Is(err, ErrDuplicate) == free {
			t.Errorf("its address after %d days: %v", days, err)
		}
	}
}

func TestWhomAGroupReaches(t *testing.T) {
	s := open(t)
	now := time.Now().UTC()
	root, inner := newGroup("Reach Root", "reach-root@r.example"), newGroup("Reach Inner", "reach-inner@r.example")
	for _, g := range []*Group{root, inner} {
		if err := s.AddGroup(g); err != nil {
			t.Fatal(err)
		}
	}
	var people []Person
	var rows []Membership
	for i := range 9 {
		p := newPerson(fmt.Sprintf("reached-%d@r.example", i))
		p.Name = fmt.Sprintf("Same Name %d", i/3) // names that repeat must not hide anybody
		people = append(people, p)
		rows = append(rows, Membership{GroupID: inner.ID, MemberID: p.ID, Kind: KindPerson, Role: expand.Owner, AddedAt: now})
		if i%2 == 0 {
			rows = append(rows, Membership{GroupID: root.ID, MemberID: p.ID, Kind: KindPerson, Role: expand.Moderator, AddedAt: now})
		}
	}
	if err := errors.Join(s.AddPeople(people), s.AddMemberships(rows)); err != nil {
		t.Fatal(err)
	}
	seen := map[uuid.UUID]EffectiveMember{}
	for after := (Cursor{}); ; {
		page, err := s.EffectiveMembers(root.ID, []uuid.UUID{root.ID, inner.ID}, []uuid.UUID{root.ID, inner.ID}, "", after, 2)
		if err != nil || page.Total != 9 {
			t.Fatalf("%d, %v", page.Total, err)
		}
		for _, r := range page.Items {
			seen[r.ID] = r
		}
		if after = page.Next; after.Empty() {
			break
		}
	}
	for i, p := range people {
		r := seen[p.ID]
		want, role := 1, expand.Role(0)
		if i%2 == 0 {
			want, role = 2, expand.Moderator
		}
		if len(r.Through) != want || r.Role != role || want == 2 && r.Through[0] != root.ID {
			t.Errorf("%s: %+v; want %d groups, role %d", p.Address, r, want, role)
		}
	}
	over, err := s.Overlaps([]uuid.UUID{people[0].ID, people[2].ID, people[1].ID}, 2, now, 10)
	if err != nil || len(over) != 2 || over[0] != (Overlap{inner.ID, 3}) || over[1] != (Overlap{root.ID, 2}) {
		t.Errorf("overlaps: %+v, %v", over, err)
	}
}

// Many people are locked, saved, and found anew by their names, as one is.
func TestManyPeopleAreSavedAtOnce(t *testing.T) {
	s := open(t)
	var people []Person
	for i := range 7 {
		p := newPerson(fmt.Sprintf("many-%d@saved.example", i))
		p.Name, p.PasswordHash, p.Version = fmt.Sprintf("Manifold %d", i), "kept", 1
		people = append(people, p)
	}
	if err := s.AddPeople(people); err != nil {
		t.Fatal(err)
	}
	var ids []uuid.UUID
	for _, p := range people {
		ids = append(ids, p.ID)
	}
	missing := NewID()
	err := s.Transact(ctx, false, func(tx *Tx) error {
		locked, err := tx.LockPeople(append(ids, missing))
		if err != nil || len(locked) != 7 {
			return fmt.Errorf("%d locked, %w", len(locked), err)
		}
		var all, renamed []Person
		for i, id := range ids {
			p := locked[id]
			p.PasswordHash = "" // what is signed in with is not written here
			p.Attributes = fmt.Appendf(nil, `{"title": "Mate %d"}`, i)
			if i < 3 {
				p.Name = fmt.Sprintf("Renamed %d", i)
				renamed = append(renamed, p)
			}
			all = append(all, p)
		}
		return tx.SavePeople(all, renamed)
	})
	if err != nil {
		t.Fatal(err)
	}
	for i, id := range ids {
		p, err := s.Person(id)
		if err != nil || p.Version != 2 || p.PasswordHash != "kept" || !strings.Contains(string(p.Attributes), fmt.Sprintf("Mate %d", i)) {
			t.Errorf("%+v, %v", p, err)
		}
	}
	for q, want := range map[string]int{"manifold": 4, "renamed": 3, "saved": 7} {
		if found, err := s.TypeAhead(q, 20); err != nil || len(found) != want {
			t.Errorf("%s finds %d, want %d, %v", q, len(found), want, err)
		}
	}
}

// What people leave behind are living groups that nobody else owns who is here, each
// once, whoever of them it is told of.
func TestWhatIsLockOrphanedBy(t *testing.T) {
	s := open(t)
	now := time.Now().UTC()
	person := map[string]Person{}
	for _, name := range []string{"goes-1", "goes-2", "stays", "gone"} {
		p := newPerson(name + "@left.example")
		p.Active = name == "stays"
		person[name] = p
		if err := s.AddPeople([]Person{p}); err != nil {
			t.Fatal(err)
		}
	}
	for name, owners := range map[string][]string{"left-alone": {"goes-1"}, "left-both": {"goes-1", "goes-2", "gone"}, "left-not": {"goes-1", "stays"}, "left-other": {"gone"}, "left-ended": {"goes-2"}} {
		g := newGroup(name, name+"@left.example")
		if name == "left-ended" {
			g.EndedAt = &now
		}
		if err := s.AddGroup(g); err != nil {
			t.Fatal(err)
		}
		for _, o := range owners {
			if err := s.AddMemberships([]Membership{{GroupID: g.ID, MemberID: person[o].ID, Kind: KindPerson, Role: expand.Owner, AddedAt: now}}); err != nil {
				t.Fatal(err)
			}
		}
	}
	err := s.Transact(ctx, false, func(tx *Tx) error {
		left, err := tx.LockOrphanedBy([]uuid.UUID{person["goes-1"].ID, person["goes-2"].ID}, nil)
		var got []string
		for _, e := range left {
			got = append(got, e.Address)
			if e.Owner != person["goes-1"].ID && e.Owner != person["goes-2"].ID {
				t.Errorf("%s is said to be left by somebody else", e.Address)
			}
		}
		if !slices.Equal(got, []string{"left-alone@left.example", "left-both@left.example"}) {
			t.Errorf("%v", got)
		}
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
}

// An entry of the history tells whom it took out, not whom it changed or put in.
func TestWhomAnEntryTookOut(t *testing.T) {
	s := open(t)
	g := newGroup("Entry", "entry@out.example")
	if err := s.AddGroup(g); err != nil {
		t.Fatal(err)
	}
	out, in, moved := NewID(), NewID(), NewID()
	e := Event{ChangeID: NewID(), At: time.Now().UTC(), Kind: "people.remove", GroupID: &g.ID, Data: []byte("{}")}
	if err := s.AddEvents([]Event{e}, [][]Affected{{{PersonID: out, Was: "owner"}, {PersonID: in, Now: "member"}, {PersonID: moved, Was: "owner", Now: "member"}}}); err != nil {
		t.Fatal(err)
	}
	rows, err := s.Events(g.ID, nil, 0, 1)
	if err != nil || len(rows) != 1 {
		t.Fatalf("%+v, %v", rows, err)
	}
	affected, err := s.TakenOutBy(rows[0].ID)
	if err != nil || len(affected) != 1 || affected[0].PersonID != out || affected[0].Was != "owner" {
		t.Errorf("%+v, %v", affected, err)
	}
	if all, n, err := s.AffectedBy(rows[0].ID, uuid.Nil, 2); err != nil || n != 3 || len(all) != 2 {
		t.Errorf("%+v of %d, %v", all, n, err)
	}
	if _, err := s.Event(rows[0].ID + 1_000_000); !errors.Is(err, ErrNotFound) {
		t.Errorf("an entry that is not there: %v", err)
	}
}

// Memberships are told with whether they are by rule, of the group and of the person.
func TestMembershipsByRule(t *testing.T) {
	s := open(t)
	now := time.Now().UTC()
	g, h := newGroup("By rule", "by-rule@rows.example"), newGroup("By hand", "by-hand@rows.example")
	a, b := newPerson("row-a@rows.example"), newPerson("row-b@rows.example")
	for _, err := range []error{s.AddGroup(g), s.AddGroup(h), s.AddPeople([]Person{a, b}), s.AddMemberships([]Membership{
		{GroupID: g.ID, MemberID: a.ID, Kind: KindPerson, Role: expand.Member, AddedAt: now, ByRule: true},
		{GroupID: g.ID, MemberID: b.ID, Kind: KindPerson, Role: expand.Member, AddedAt: now},
		{GroupID: h.ID, MemberID: a.ID, Kind: KindPerson, Role: expand.Member, AddedAt: now}})} {
		if err != nil {
			t.Fatal(err)
		}
	}
	in, err := s.RuledMembers(g.ID, []uuid.UUID{a.ID, b.ID, NewID()})
	if err != nil || len(in) != 2 || !in[a.ID] || in[b.ID] {
		t.Errorf("%v, %v", in, err)
	}
	got := map[[2]uuid.UUID]bool{}
	err = s.EachMembershipOf([]uuid.UUID{a.ID, b.ID}, func(person, group uuid.UUID, byRule bool) { got[[2]uuid.UUID{person, group}] = byRule })
	if err != nil || len(got) != 3 || !got[[2]uuid.UUID{a.ID, g.ID}] || got[[2]uuid.UUID{a.ID, h.ID}] {
		t.Errorf("%v, %v", got, err)
	}
}
