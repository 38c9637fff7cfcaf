package store

import (
	"context"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/localdb/dbtest"
)

var (
	dsn string
	ctx = context.Background()
)

func TestMain(m *testing.M) { dbtest.Main(m, "store", &dsn) }

// handle is a pool with the writes of a transaction, each of which is committed at once.
type handle struct {
	*Pool
	*Tx
}

func open(t *testing.T) handle {
	t.Helper()
	p, err := Open(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(p.Close)
	h := handle{p, &Tx{Reads: *p.Reads(ctx)}}
	h.inDomains(t, strings.Fields("a b dead elsewhere gone history left merrowline crew.merrowline n near old out own p q r rows rules s saved x y zz"))
	return h
}

// inDomains gives the workspace mail domains under example.
func (h handle) inDomains(t *testing.T, names []string) {
	t.Helper()
	for i := range names {
		names[i] += ".example"
	}
	if err := h.SetDomains(names); err != nil {
		t.Fatal(err)
	}
}

func parsed(t *testing.T, s string) mailaddr.Address {
	t.Helper()
	a, err := mailaddr.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

func newGroup(name, addr string) *Group {
	now := time.Now().UTC().Truncate(time.Microsecond)
	g := &Group{ID: NewID(), Name: name, Address: addr, AddrKey: addr, RenewedAt: now, ExpiresAt: Forever, CreatedAt: now, Version: 1}
	g.Policy = policy.Default()
	return g
}

func newPerson(addr string) Person {
	return Person{ID: NewID(), Address: addr, AddrKey: addr, Name: "Somebody", Active: true, Attributes: []byte("{}"), CreatedAt: time.Now().UTC()}
}

func TestTwoStartsAtOnce(t *testing.T) {
	empty, err := dbtest.Schema(dsn, "ivytable_store_twice")
	if err != nil {
		t.Fatal(err)
	}
	var all sync.WaitGroup
	for range 2 {
		all.Go(func() {
			s, err := Open(ctx, empty)
			if err != nil {
				t.Error(err)
				return
			}
			s.Close()
		})
	}
	all.Wait()
}

func TestTheDatabaseRefusesTwins(t *testing.T) {
	s := open(t)
	if err := s.AddGroup(newGroup("Deck", "deck-10@a.example")); err != nil {
		t.Fatal(err)
	}
	for _, twin := range []string{"deck-10@a.example", "deck-lo@a.example", "deck_10@a.example"} {
		if err := s.AddGroup(newGroup("Twin", twin)); !errors.Is(err, ErrDuplicate) {
			t.Errorf("%s beside deck-10@a.example: %v", twin, err)
		}
	}
	p := newPerson("deck-10@a.example")
	if err := s.Transact(ctx, false, func(t *Tx) error { return t.AddPeople([]Person{p}) }); !errors.Is(err, ErrDuplicate) {
		t.Errorf("a person with a group's address: %v", err)
	}
	if _, err := s.PersonByKey(p.AddrKey); !errors.Is(err, ErrNotFound) {
		t.Errorf("half of the person stayed: %v", err)
	}
	m := Membership{GroupID: NewID(), MemberID: NewID(), Kind: KindPerson, Role: expand.Member, AddedAt: time.Now().UTC()}
	if err := s.AddMemberships([]Membership{m}); err != nil {
		t.Fatal(err)
	}
	if err := s.AddMemberships([]Membership{m}); !errors.Is(err, ErrDuplicate) {
		t.Errorf("a second membership: %v", err)
	}
}

func TestAddressesNear(t *testing.T) {
	s := open(t)
	if err := s.AddGroup(newGroup("Night", "night-watch@near.example")); err != nil {
		t.Fatal(err)
	}
	for in, want := range map[string]string{"Night-Watch@near.example": "same", "night.watch@near.example": "alike", "nightwatch@near.example": "loose", "day-watch@near.example": ""} {
		near, err := s.AddressesNear(parsed(t, in))
		got := ""
		if len(near) > 0 {
			got = map[[2]bool]string{{true, true}: "same", {false, true}: "alike", {false, false}: "loose"}[[2]bool{near[0].Same, near[0].Alike}]
		}
		if err != nil || got != want {
			t.Errorf("%s: %q, %v; want %q", in, got, err, want)
		}
	}
}

func TestWords(t *testing.T) {
	got := Words("Nächt-Dispatch 2", "NACHT dispatch", "Größ")
	if want := []string{"nacht", "dispatch", "2", "groß"}; !slices.Equal(got, want) {
		t.Errorf("Words = %q; want %q", got, want)
	}
}

// Every page together is the whole list once, in order, whatever it is sorted by
// and whichever way.
func TestPagesOfGroups(t *testing.T) {
	s := open(t)
	for i := range 23 {
		g := newGroup(fmt.Sprintf("Paged %02d", i*7%23), fmt.Sprintf("paged-%02d@p.example", i))
		g.Members, g.Policy[policy.Post] = i%4, policy.Audience(i%3)
		g.CreatedAt = g.CreatedAt.Add(time.Duration(i%5) * time.Hour)
		if i%3 == 0 {
			g.ExpiresAt = time.Date(2027, 1, 1+i%4, 0, 0, 0, 0, time.UTC)
		}
		if err := s.AddGroup(g); err != nil {
			t.Fatal(err)
		}
	}
	for sort := range groupOrders {
		var whole []Group
		for _, desc := range []bool{false, true} {
			p, err := s.Groups(GroupQuery{Q: "paged", Sort: sort, Desc: desc, Limit: 200})
			if err != nil || p.Total != 23 || len(p.Items) != 23 || !p.Next.Empty() {
				t.Fatalf("%s: total %d, %d, %v", sort, p.Total, len(p.Items), err)
			}
			if desc {
				slices.Reverse(p.Items)
			} else {
				whole = p.Items
			}
			if !slices.EqualFunc(whole, p.Items, func(a, b Group) bool { return a.ID == b.ID }) {
				t.Errorf("%s has another order from its end", sort)
			}
			if desc {
				slices.Reverse(p.Items)
			}
			for after := (Cursor{}); ; {
				some, err := s.Groups(GroupQuery{Q: "paged", Sort: sort, Desc: desc, After: after, Limit: 5})
				if err != nil || some.Total != 23 {
					t.Fatalf("%s: total %d, %v", sort, some.Total, err)
				}
				for _, g := range some.Items {
					if len(p.Items) == 0 || p.Items[0].ID != g.ID {
						t.Fatalf("%s desc=%v: %s is not in its place on a page", sort, desc, g.Name)
					}
					p.Items = p.Items[1:]
				}
				if after = some.Next; after.Empty() {
					break
				}
				if after, err = ParseCursor(after.String()); err != nil {
					t.Fatal(err)
				}
			}
			if len(p.Items) != 0 {
				t.Errorf("%s desc=%v: %d are on no page", sort, desc, len(p.Items))
			}
		}
		for i, g := range whole[1:] {
			before := whole[i]
			if sort == ByCreated && g.CreatedAt.Before(before.CreatedAt) || sort == ByExpires && g.ExpiresAt.Before(before.ExpiresAt) || sort == ByAddress && g.AddrKey < before.AddrKey {
				t.Errorf("by %s, %s stands after %s", sort, g.Name, before.Name)
			}
		}
	}
	if p, err := s.Groups(GroupQuery{Q: "paged", Sort: ByName, Limit: 23}); err != nil || !p.Next.Empty() || len(p.Items) != 23 {
		t.Errorf("a page as long as the list: %d, then %q, %v", len(p.Items), p.Next, err)
	}
	if _, err := ParseCursor("nonsense"); err == nil {
		t.Error("a cursor that nobody gave out was read")
	}
}

func TestStatesInSQLAreThoseOfTheCore(t *testing.T) {
	s := open(t)
	p := lifecycle.Terms{Notices: lifecycle.Leads{30}}
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	want := map[lifecycle.State]int{}
	for i, days := range []int{-2, 0, 1, 29, 30, 31, 200} {
		for _, ended := range []string{"", "lapsed", "retired"} {
			g := newGroup("Stated", fmt.Sprintf("stated-%d-%s@s.example", i, ended))
			g.ExpiresAt, g.DueAt = p.After(now, days), p.After(now, days-30)
			if ended != "" {
				g.EndedAt, g.Retired = &now, ended == "retired"
			}
			if err := s.AddGroup(g); err != nil {
				t.Fatal(err)
			}
			want[g.Life().State(now)]++
		}
	}
	for _, state := range lifecycle.States {
		page, err := s.Groups(GroupQuery{Q: "stated", States: []lifecycle.State{state}, Time: FilterTime{Now: now, Calendar: p.Calendar}, Sort: ByName, Limit: 200})
		if err != nil || int(page.Total) != want[state] {
			t.Errorf("%s: %d, %v; the core says %d", state, page.Total, err, want[state])
		}
		for _, g := range page.Items {
			if got := g.Life().State(now); got != state {
				t.Errorf("%s is %s for the core, %s for the database", g.Address, got, state)
			}
		}
	}
}

// Groups are found by a setting that came after them.
func TestSettingsThatCameLaterAreIndexed(t *testing.T) {
	s := open(t)
	g := newGroup("Before", "before-the-setting@merrowline.example")
	if err := s.AddGroup(g); err != nil {
		t.Fatal(err)
	}
	count := func() (n int64) {
		t.Helper()
		if err := s.Pool.db.Model(&groupSetting{}).Where("group_id = ? AND setting = 'hold' AND value = ?", g.ID, policy.Default()[policy.Holding]).Count(&n).Error; err != nil {
			t.Fatal(err)
		}
		return n
	}
	if err := s.Pool.db.Exec("DELETE FROM group_settings WHERE setting = 'hold'").Error; err != nil || count() != 0 {
		t.Fatal(err)
	}
	if open(t); count() != 1 {
		t.Errorf("it is in the index %d times", count())
	}
}

func TestNesting(t *testing.T) {
	s := open(t)
	now := time.Now().UTC()
	person := newPerson("nested@n.example")
	if err := s.AddPeople([]Person{person}); err != nil {
		t.Fatal(err)
	}
	top, mid, low, gone := newGroup("Top", "top@n.example"), newGroup("Mid", "mid@n.example"), newGroup("Low", "low@n.example"), newGroup("Gone", "gone@n.example")
	gone.EndedAt = &now
	for _, g := range []*Group{top, mid, low, gone} {
		if err := s.AddGroup(g); err != nil {
			t.Fatal(err)
		}
	}
	row := func(g, m uuid.UUID, kind int8) Membership {
		return Membership{GroupID: g, MemberID: m, Kind: kind, Role: expand.Member, Mail: true, AddedAt: now}
	}
	if err := s.AddMemberships([]Membership{row(top.ID, mid.ID, KindGroup), row(mid.ID, low.ID, KindGroup), row(top.ID, gone.ID, KindGroup),
		row(low.ID, top.ID, KindGroup), row(low.ID, person.ID, KindPerson), row(gone.ID, person.ID, KindPerson)}); err != nil {
		t.Fatal(err)
	}
	edges, err := s.NestedBelow(top.ID, now, AsOf{})
	if err != nil {
		t.Fatal(err)
	}
	if got := expand.Reach(top.ID, edges); !slices.Equal(got, []uuid.UUID{top.ID, mid.ID, low.ID}) {
		t.Errorf("below top: %v", got)
	}
	above, err := s.Above(person.ID, false, now)
	if err != nil || len(above) != 3 || slices.Contains(above, gone.ID) {
		t.Errorf("above the person: %v, %v; want low, mid, top", above, err)
	}
	entries, err := s.PeopleIn([]uuid.UUID{top.ID, mid.ID, low.ID}, AsOf{})
	if err != nil || len(entries) != 1 || entries[0].Address != person.Address {
		t.Errorf("people: %v, %v", entries, err)
	}
}

// A worker that dies keeps its jobs for the length of its lease and no longer; two workers
// never have the same one, and the one that lost it can record nothing.
func TestClaim(t *testing.T) {
	s := open(t)
	if jobs, err := s.ClaimJobs(NewID(), time.Second, 10); err != nil || len(jobs) != 0 {
		t.Fatalf("an empty queue: %v, %v", jobs, err)
	}
	for i := range 40 {
		if err := s.AddMail(Whole(Message{ID: NewID(), ReceivedAt: time.Now().UTC()}, nil, "", []byte("Subject: x\r\n"), []byte("x"), []string{fmt.Sprintf("r%d@q.example", i)})); err != nil {
			t.Fatal(err)
		}
	}
	var mu sync.Mutex
	seen, began := map[int64]int{}, time.Now()
	var all sync.WaitGroup
	for range 4 {
		all.Go(func() {
			for {
				var jobs []Job
				err := s.Transact(ctx, false, func(tx *Tx) (err error) {
					jobs, err = tx.ClaimJobs(NewID(), time.Hour, 7)
					return err
				})
				if err != nil {
					t.Error(err)
				}
				if err != nil {
					return
				}
				mu.Lock()
				for _, j := range jobs {
					seen[j.ID]++
				}
				done := len(seen) == 40 || time.Since(began) > time.Minute // what others hold at the moment is passed over
				mu.Unlock()
				if done {
					return
				}
			}
		})
	}
	all.Wait()
	for id, n := range seen {
		if n != 1 {
			t.Errorf("job %d was claimed %d times", id, n)
		}
	}
	if len(seen) != 40 {
		t.Errorf("%d of 40 claimed", len(seen))
	}
	if err := s.db.WithContext(ctx).Exec("UPDATE jobs SET next_at = NOW(6) - INTERVAL 1 SECOND ORDER BY id LIMIT 1").Error; err != nil {
		t.Fatal(err)
	}
	first, second := NewID(), NewID()
	jobs, err := s.ClaimJobs(first, -time.Second, 10)
	if err != nil || len(jobs) != 1 {
		t.Fatalf("one whose lease has run out: %v, %v", jobs, err)
	}
	if again, err := s.ClaimJobs(second, time.Hour, 10); err != nil || len(again) != 1 || again[0].ID != jobs[0].ID {
		t.Fatalf("another worker: %v, %v", again, err)
	}
	for what, err := range map[string]error{"end several": s.EndJobs([]int64{jobs[0].ID}, first), "put off": s.PutOffJob(jobs[0].ID, first, time.Now(), ""), "go on": s.JobHandedTo(jobs[0].ID, first, "x"), "end": s.EndJob(jobs[0].ID, first)} {
		if !errors.Is(err, ErrNotFound) {
			t.Errorf("the worker that lost it could %s it: %v", what, err)
		}
	}
	if kept, err := s.ExtendJobs([]int64{jobs[0].ID}, first, time.Hour); err != nil || len(kept) != 0 {
		t.Errorf("the worker that lost it keeps it: %v, %v", kept, err)
	}
	if kept, err := s.ExtendJobs([]int64{jobs[0].ID}, second, time.Hour); err != nil || len(kept) != 1 {
		t.Errorf("the worker that has it keeps %v, %v", kept, err)
	}
	if err := s.EndJob(jobs[0].ID, second); err != nil {
		t.Error(err)
	}
}

// Two transactions that take two rows in opposite order both get through.
func TestTxTriesAgainAfterADeadlock(t *testing.T) {
	s := open(t)
	a, b := newGroup("One", "one@dead.example"), newGroup("Two", "two@dead.example")
	for _, g := range []*Group{a, b} {
		if err := s.AddGroup(g); err != nil {
			t.Fatal(err)
		}
	}
	met := make(chan struct{})
	var once sync.Once
	var first sync.WaitGroup
	first.Add(2)
	runs := make([]int, 2)
	var all sync.WaitGroup
	for i, order := range [][2]uuid.UUID{{a.ID, b.ID}, {b.ID, a.ID}} {
		all.Go(func() {
			err := s.Transact(ctx, false, func(tx *Tx) error {
				runs[i]++
				if _, err := tx.LockGroup(order[0]); err != nil {
					return err
				}
				if runs[i] == 1 {
					first.Done()
					first.Wait()
					once.Do(func() { close(met) })
				}
				g, err := tx.LockGroup(order[1])
				if err != nil {
					return err
				}
				was := g
				g.Members++
				return tx.SaveGroup(&g, was)
			})
			if err != nil {
				t.Errorf("transaction %d: %v", i, err)
			}
		})
	}
	all.Wait()
	<-met
	if runs[0]+runs[1] < 3 {
		t.Errorf("no transaction was tried again: %v", runs)
	}
}

// parseID reads an identifier.
func parseID(t *testing.T, s string) uuid.UUID {
	t.Helper()
	id, err := uuid.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return id
}

// unnaming are the columns of text that name nobody, or whose erasure has a way of its own, each with why.
var unnaming = map[string][]string{
	"an address, which is deleted":                        {"addresses.*", "answers.addr_key", "caretaker_proofs.addr_key", "overrides.addr_key", "proofs.*", "sign_in_attempts.*"},
	"the history, whose entries have a way of their own":  {"history.*", "history_people.*"},
	"the person's own":                                    {"people.*", "person_values.*", "words.word", "credentials.*", "second_factors.secret", "known_sources.source", "recovery_codes.*"},
	"who did something, which is replaced by its name":    {"*_by", "*.maker"},
	"a word of ours":                                      {"*.kind", "*.state", "*.via", "*.outcome", "*.status", "*.mailbox", "*.open_once", "*.request_id", "*.idem_key", "group_settings.setting", "mail_groups.policy", "mail_groups.traits", "mail_groups.language", "mail_groups.promises", "mail_groups.starting_point", "saved_views.sort", "saved_views.list", "saved_views.columns", "starting_points.settings", "starting_points.traits", "starting_points.delivery", "starting_points.name", "rounds.questions", "rounds.reminders", "rounds.silence", "round_groups.confirmed", "settings.name", "signing_keys.*", "digests.zone", "domains.name"},
	"what a group, a term rule or a round is called":      {"mail_groups.name", "mail_groups.name_key", "mail_groups.address", "mail_groups.addr_key", "mail_groups.domain", "mail_groups.term_rule", "mail_groups.term_key", "purged_groups.name", "purged_groups.address", "purged_groups.aliases", "round_groups.name", "round_groups.address", "rounds.name"},
	"numbers of others":                                   {"findings.others"},
	"asked about before":                                  {"jobs.handed_to"},
	"bodies of mail, which are deleted after thirty days": {"messages.short_body", "message_bodies.octets", "mailings.edits"},
	"the tables of migrations":                            {"goose_lock.locked_by"},
}

func TestEveryTextIsErased(t *testing.T) {
	db := open(t).Pool.Reads(ctx).db
	var columns []struct{ TableName, ColumnName string }
	err := db.Raw(`SELECT table_name, column_name FROM information_schema.columns WHERE table_schema = DATABASE()
		AND (data_type IN ('varchar', 'text', 'mediumtext', 'longtext', 'tinytext', 'blob', 'mediumblob', 'longblob', 'varbinary', 'json')) AND table_name <> 'history_left'`).Scan(&columns).Error
	if err != nil || len(columns) < 100 {
		t.Fatal(len(columns), err)
	}
	said := func(table, column string) bool {
		for _, n := range naming {
			if n.table == table && n.column == column {
				return true
			}
		}
		for _, all := range unnaming {
			for _, x := range all {
				if ok, err := path.Match(x, table+"."+column); ok || err != nil {
					return true
				}
			}
		}
		return false
	}
	there := map[string]bool{}
	for _, c := range columns {
		there[c.TableName+"."+c.ColumnName] = true
		if !said(c.TableName, c.ColumnName) {
			t.Errorf("nothing says what becomes of %s.%s when somebody is erased", c.TableName, c.ColumnName)
		}
	}
	for _, n := range naming {
		if !there[n.table+"."+n.column] {
			t.Errorf("there is no %s.%s", n.table, n.column)
		}
	}
}
