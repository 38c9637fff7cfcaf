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
	s, err := Open(ctx, old)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	g, err := s.Group(ctx, group)
	if err != nil || !g.DefaultMail || g.Ruled || g.Welcome != "" || g.Version != 7 {
		t.Errorf("the group: %+v, %v", g, err)
	}
	if m, err := s.Membership(ctx, group, person); err != nil || m.ByRule || m.Role != expand.Owner {
		t.Errorf("the membership: %+v, %v", m, err)
	}
	if p, err := s.Person(ctx, person); err != nil || p.Version != 1 || p.DepartedAt != nil {
		t.Errorf("the person: %+v, %v", p, err)
	}
}

func TestOneOpenRequestAndOneOpenInvitation(t *testing.T) {
	s := open(t)
	group, person, now := NewID(), NewID(), time.Now().UTC()
	r := Request{ID: NewID(), GroupID: group, PersonID: person, Kind: ToJoin, State: Undecided, MadeAt: now}
	if err := s.AddRequest(ctx, r); err != nil {
		t.Fatal(err)
	}
	again := r
	again.ID = NewID()
	if err := s.AddRequest(ctx, again); !errors.Is(err, ErrDuplicate) {
		t.Errorf("two open requests: %v", err)
	}
	r.State = Declined
	if err := s.SaveRequest(ctx, r); err != nil {
		t.Fatal(err)
	}
	if err := s.AddRequest(ctx, again); err != nil {
		t.Errorf("after a decision: %v", err)
	}
	if err := s.EndRequests(ctx, group, []uuid.UUID{person}, ToLeave, now); err != nil {
		t.Fatal(err)
	}
	if got, _ := s.LockRequest(ctx, again.ID); got.State != Undecided {
		t.Error("a request of another kind was closed")
	}
	if err := s.EndRequests(ctx, group, []uuid.UUID{person}, ToJoin, now); err != nil {
		t.Fatal(err)
	}
	if got, _ := s.LockRequest(ctx, again.ID); got.State != Withdrawn {
		t.Errorf("not closed: %+v", got)
	}

	invitation := func(hash byte) Invitation {
		return Invitation{ID: NewID(), Hash: append(make([]byte, 31), hash), GroupID: group, Address: "a@b.example", AddrKey: "a@b.example", Role: expand.Member, State: Undecided, MadeAt: now, ExpiresAt: now}
	}
	if err := s.AddInvitations(ctx, []Invitation{invitation(1)}); err != nil {
		t.Fatal(err)
	}
	if err := s.AddInvitations(ctx, []Invitation{invitation(2)}); !errors.Is(err, ErrDuplicate) {
		t.Errorf("two open invitations: %v", err)
	}
	if err := s.CallBackInvitations(ctx, group, []string{"a@b.example"}, now); err != nil {
		t.Fatal(err)
	}
	if err := s.AddInvitations(ctx, []Invitation{invitation(3)}); err != nil {
		t.Errorf("after the first was called back: %v", err)
	}
	if _, err := s.InvitationByHash(ctx, make([]byte, 32)); !errors.Is(err, ErrNotFound) {
		t.Errorf("an invitation of no secret: %v", err)
	}
}

func TestAddressesOfOneGroup(t *testing.T) {
	s := open(t)
	g, other := newGroup("Quays", "quays@own.example"), newGroup("Piers", "piers@own.example")
	for _, x := range []*Group{g, other} {
		if err := s.AddGroup(ctx, x); err != nil {
			t.Fatal(err)
		}
	}
	set := func(address string, aliases ...string) error {
		return s.Tx(ctx, func(t *Store) error {
			locked, err := t.LockGroup(ctx, g.ID)
			if err != nil {
				return err
			}
			locked.Address, locked.AddrKey = address, address
			if err := t.SetAddresses(ctx, &locked, aliases); err != nil {
				return err
			}
			return t.SaveGroup(ctx, &locked, false)
		})
	}
	if err := set("new-quays@own.example", "quays@own.example", "new.quays@own.example"); err != nil {
		t.Fatal(err)
	}
	for _, a := range []string{"new-quays@own.example", "quays@own.example", "new.quays@own.example"} {
		if got, err := s.GroupByAddress(ctx, a); err != nil || got.ID != g.ID {
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
	if err := s.AddGroup(ctx, newGroup("Again", "new_quays@own.example")); err != nil {
		t.Errorf("an address that was given up stays taken: %v", err)
	}
	page, err := s.Groups(ctx, GroupQuery{Q: "pier5", Sort: ByName, Limit: 5})
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
	if err := s.AddPeople(ctx, people); err != nil {
		t.Fatal(err)
	}
	for q, want := range map[string]string{"zel": "Zelda Ahead Zélie Ähead", "ze ahe": "Zelda Ahead Zeno Ahead Zélie Ähead Zeta Behind", "zel ahead": "Zelda Ahead Zélie Ähead", "ZÉLIE": "Zélie Ähead", "ahead-3": "Zeta Behind", "": "", "qq z%": "", "behind zeta zeta": "Zeta Behind"} {
		found, err := s.TypeAhead(ctx, q, 10)
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
	if found, err := s.TypeAhead(ctx, "ahead", 2); err != nil || len(found) != 2 || found[0].ID == found[1].ID {
		t.Errorf("at most two: %+v, %v", found, err)
	}
}

func TestChangesOfRulesAreCounted(t *testing.T) {
	s := open(t)
	now := time.Now().UTC()
	g := newGroup("rule-one", "rule-one@rules.example")
	if err := s.AddGroup(ctx, g); err != nil {
		t.Fatal(err)
	}
	read := func() (expression string, version int) {
		t.Helper()
		err := s.Tx(ctx, func(tx *Store) (err error) {
			expression = ""
			if version, err = tx.HoldRules(ctx); err != nil {
				return err
			}
			return tx.EachRule(ctx, func(group uuid.UUID, x string) error {
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
			return s.SetRule(ctx, GroupRule{GroupID: g.ID, Expression: "title pr", Guard: 20, SetAt: now})
		}, "title pr"},
		{func() error {
			return s.SetRule(ctx, GroupRule{GroupID: g.ID, Expression: "locality pr", Guard: 20, SetAt: now})
		}, "locality pr"},
		{func() error { return s.DeleteRule(ctx, g.ID) }, ""},
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
	if _, err := s.Rule(ctx, g.ID); !errors.Is(err, ErrNotFound) {
		t.Errorf("a rule that was deleted: %v", err)
	}
}

func TestHistoryIsFoundFromThePerson(t *testing.T) {
	s := open(t)
	now := time.Now().UTC()
	person, other := NewID(), NewID()
	for i := range 7 {
		c := Change{At: now, Actor: "x", Action: fmt.Sprintf("own-%d", i), Changes: []byte("[]")}
		if i%2 == 0 {
			c.ActorID = &person
		}
		if err := s.AddHistoryOf(ctx, c, []Affected{{PersonID: other}, {PersonID: NewID(), Was: "member"}}); err != nil {
			t.Fatal(err)
		}
	}
	if err := s.AddHistoryEach(ctx, []Change{{At: now, Action: "each-1", Changes: []byte("[]")}, {At: now, Action: "each-2", Changes: []byte("[]")}}, []Affected{{PersonID: person}, {PersonID: other}}); err != nil {
		t.Fatal(err)
	}
	walk := func(who uuid.UUID) string {
		var out []string
		for before := int64(0); ; {
			rows, next, err := s.HistoryOfPerson(ctx, who, before, 2)
			if err != nil {
				t.Fatal(err)
			}
			for _, r := range rows {
				out = append(out, r.Action)
			}
			if before = next; next == 0 {
				return strings.Join(out, " ")
			}
		}
	}
	if got := walk(person); got != "each-1 own-6 own-4 own-2 own-0" {
		t.Errorf("of who did it: %s", got)
	}
	if got := walk(other); got != "each-2 own-6 own-5 own-4 own-3 own-2 own-1 own-0" {
		t.Errorf("of whom it affected: %s", got)
	}
}

func TestPurgeLeavesNothing(t *testing.T) {
	s := open(t)
	now := time.Now().UTC()
	g, outer := newGroup("Purged", "purged@gone.example"), newGroup("Purged Outer", "purged-outer@gone.example")
	outer.Nested = 1
	for _, x := range []*Group{g, outer} {
		if err := s.AddGroup(ctx, x); err != nil {
			t.Fatal(err)
		}
	}
	p := newPerson("purged-person@gone.example")
	if err := s.AddPeople(ctx, []Person{p}); err != nil {
		t.Fatal(err)
	}
	for _, err := range []error{
		s.AddMemberships(ctx, []Membership{{GroupID: g.ID, MemberID: p.ID, Kind: KindPerson, Role: expand.Owner, AddedAt: now}, {GroupID: outer.ID, MemberID: g.ID, Kind: KindGroup, Role: expand.Member, AddedAt: now}}),
		s.AddRequest(ctx, Request{ID: NewID(), GroupID: g.ID, PersonID: p.ID, Kind: ToLeave, State: Undecided, MadeAt: now}),
		s.AddInvitations(ctx, []Invitation{{ID: NewID(), Hash: make([]byte, 32), GroupID: g.ID, Address: "x@y.example", AddrKey: "x@y.example", State: Undecided, MadeAt: now, ExpiresAt: now}}),
		s.AddJoinLink(ctx, JoinLink{ID: NewID(), Hash: make([]byte, 32), GroupID: g.ID, MadeAt: now, ExpiresAt: now}),
		s.SetStanding(ctx, Standing{GroupID: g.ID, AddrKey: "x@y.example", Standing: policy.Barred, SetAt: now}),
		s.SetRule(ctx, GroupRule{GroupID: g.ID, Expression: "title pr", SetAt: now}),
		s.AddMessage(ctx, Message{ID: NewID(), GroupID: &g.ID, Kind: KindPost, State: Accepted, Raw: []byte("x"), Decision: []byte("{}"), ReceivedAt: now}, []string{"x@y.example"}),
		s.Purge(ctx, g.ID),
	} {
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, table := range []string{"memberships", "requests", "invitations", "join_links", "standings", "group_rules", "messages", "notices"} {
		var n int
		if err := s.with(ctx).Raw("SELECT COUNT(*) FROM "+table+" WHERE group_id = ?", g.ID).Scan(&n).Error; err != nil || n != 0 {
			t.Errorf("%d rows in %s, %v", n, table, err)
		}
	}
	if now, _ := s.Group(ctx, outer.ID); now.Nested != 0 {
		t.Errorf("the outer group counts %d nested", now.Nested)
	}
	if _, err := s.GroupByAddress(ctx, g.AddrKey); !errors.Is(err, ErrNotFound) {
		t.Errorf("its address is kept: %v", err)
	}
}

func TestWhomAGroupReaches(t *testing.T) {
	s := open(t)
	now := time.Now().UTC()
	root, inner := newGroup("Reach Root", "reach-root@r.example"), newGroup("Reach Inner", "reach-inner@r.example")
	for _, g := range []*Group{root, inner} {
		if err := s.AddGroup(ctx, g); err != nil {
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
	if err := errors.Join(s.AddPeople(ctx, people), s.AddMemberships(ctx, rows)); err != nil {
		t.Fatal(err)
	}
	seen := map[uuid.UUID]ReachedRow{}
	for after := (Cursor{}); ; {
		page, err := s.Reached(ctx, root.ID, []uuid.UUID{root.ID, inner.ID}, "", after, 2)
		if err != nil || page.Total != 9 {
			t.Fatalf("%d, %v", page.Total, err)
		}
		for _, r := range page.Items {
			seen[r.ID] = r
		}
		if after = page.Next; after == (Cursor{}) {
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
	over, err := s.Overlaps(ctx, []uuid.UUID{people[0].ID, people[2].ID, people[1].ID}, 2, now, 10)
	if err != nil || len(over) != 2 || over[0] != (Overlap{inner.ID, 3}) || over[1] != (Overlap{root.ID, 2}) {
		t.Errorf("overlaps: %+v, %v", over, err)
	}
}
