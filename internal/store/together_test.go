package store

import (
	"bytes"
	"reflect"
	"slices"
	"testing"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
)

// What is asked together is answered as each question by itself.
func TestAskedTogether(t *testing.T) {
	s := open(t)
	now := time.Now().UTC().Truncate(time.Microsecond)
	var groups []uuid.UUID
	for _, name := range []string{"asked-one", "asked-two"} {
		g := newGroup(name, name+"@x.example")
		if err := s.AddGroup(g); err != nil {
			t.Fatal(err)
		}
		groups = append(groups, g.ID)
	}
	in, out, former, guest := newPerson("asked-in@x.example"), newPerson("asked-out@x.example"), newPerson("asked-now@x.example"), newPerson("asked-guest@far.example")
	guest.External, out.Active = true, false
	if err := s.AddPeople([]Person{in, out, former, guest}); err != nil {
		t.Fatal(err)
	}
	if err := s.db.Exec("INSERT INTO addresses (addr_key, address, alike, loose, kind, ref) VALUES ('asked-then@x.example', 'asked-then@x.example', 'a', 'a', ?, ?)", KindFormer, former.ID).Error; err != nil {
		t.Fatal(err)
	}
	if err := s.AddMemberships([]Membership{{GroupID: groups[0], MemberID: in.ID, Kind: KindPerson, Role: expand.Owner, AddedAt: now}, {GroupID: groups[1], MemberID: former.ID, Kind: KindPerson, Role: expand.Moderator, AddedAt: now},
		{GroupID: groups[1], MemberID: guest.ID, Kind: KindPerson, Role: expand.Member, AddedAt: now}}); err != nil {
		t.Fatal(err)
	}
	for key, kind := range map[string]policy.Override{"asked-in@x.example": policy.Held, "*@far.example": policy.Barred, "asked-now@x.example": policy.Trusted} {
		if err := s.SetOverride(Override{GroupID: groups[1], AddrKey: key, Kind: kind, SetAt: now}); err != nil {
			t.Fatal(err)
		}
	}
	var all []Question
	for _, g := range append(slices.Clone(groups), NewID()) {
		for _, author := range []string{in.AddrKey, out.AddrKey, former.AddrKey, "asked-then@x.example", guest.AddrKey, "stranger@far.example", "stranger@near.example", "", "ask'ed\\@x.example"} {
			all = append(all, Question{g, author})
		}
	}
	fresh := open(t) // which keeps no group yet
	together, err := fresh.AskedTogether(all)
	if err != nil {
		t.Fatal(err)
	}
	kinds := map[policy.Override]bool{}
	for i, q := range all {
		alone, err := s.AskedTogether([]Question{q})
		if err != nil {
			t.Fatal(err)
		}
		if a, b := together[i], alone[0]; a.Group.ID != b.Group.ID || a.Group.Version != b.Group.Version || !reflect.DeepEqual(a.Author, b.Author) {
			t.Errorf("%s: %+v together, %+v alone", q.Author, a.Author, b.Author)
		}
		if gone := together[i].Group.ID == uuid.Nil; gone != (i >= 18) {
			t.Errorf("%d: the group is gone: %v", i, gone)
		}
		kinds[together[i].Author.Override] = true
	}
	if len(kinds) != 4 {
		t.Errorf("overrides that were met: %v", kinds)
	}
	if p := together[12].Author; p.Person.ID != former.ID || p.Role != expand.Moderator {
		t.Errorf("whoever had another address: %+v", p)
	}
}

// Recipients of several groups that are read together are those of each.
func TestMailInEach(t *testing.T) {
	s := open(t)
	now := time.Now().UTC().Truncate(time.Microsecond)
	var people []Person
	for _, name := range []string{"a", "b", "c", "d", "e"} {
		people = append(people, newPerson("each-"+name+"@x.example"))
	}
	later := now.Add(time.Hour)
	people[1].Active, people[2].MailPausedUntil, people[3].External = false, &later, true
	if err := s.AddPeople(people); err != nil {
		t.Fatal(err)
	}
	var of []MailOf
	for i, name := range []string{"each-one", "each-two", "each-none"} {
		g := newGroup(name, name+"@x.example")
		if err := s.AddGroup(g); err != nil {
			t.Fatal(err)
		}
		var rows []Membership
		for k, p := range people {
			if i < 2 && k >= i {
				rows = append(rows, Membership{GroupID: g.ID, MemberID: p.ID, Kind: KindPerson, Role: expand.Member, Mail: k != 0 || i == 0, How: int8(k % 3), AddedAt: now.Add(time.Duration(k-3) * time.Minute)})
			}
		}
		if err := s.AddMemberships(rows); err != nil {
			t.Fatal(err)
		}
		for _, then := range []time.Time{{}, now.Add(-2 * time.Minute), now} {
			of = append(of, MailOf{g.ID, AsOf{Then: then, Now: now}})
		}
	}
	got, err := s.MailInEach(of, 100)
	if err != nil {
		t.Fatal(err)
	}
	most := 0
	for i, x := range of {
		want, err := s.MailIn(x.Group, x.AsOf)
		if err != nil {
			t.Fatal(err)
		}
		by := func(a, b Recipient) int { return slices.Compare([]byte(a.Address), []byte(b.Address)) }
		slices.SortFunc(want, by)
		slices.SortFunc(got[i], by)
		if !slices.Equal(got[i], want) {
			t.Errorf("%d: %+v, want %+v", i, got[i], want)
		}
		most = max(most, len(want))
	}
	if most != 3 {
		t.Errorf("at most %d recipients", most)
	}
	if all, err := s.MailInEach(of[:6], 4); all != nil || err != nil {
		t.Errorf("of more than wanted: %v, %v", all, err)
	}
}

// A body that turns out to be shorter than it was is not recorded: nobody gets half a message.
func TestABodyCutShort(t *testing.T) {
	s := open(t)
	for _, size := range []int{1, ShortBody, ShortBody + 1, BodyRow + 1} {
		m := Whole(Message{ID: NewID(), ReceivedAt: time.Now().UTC()}, nil, "", []byte("Subject: x\r\n"), make([]byte, size), []string{"x@y.example"})
		m.Body = bytes.NewReader(make([]byte, size-1))
		if err := s.AddMail(m); err == nil {
			t.Errorf("a body of %d octets, one of which is missing, is recorded", size)
		}
		m.Body = bytes.NewReader(make([]byte, size))
		if err := s.AddMail(m); err != nil {
			t.Errorf("a body of %d octets: %v", size, err)
		}
	}
}
