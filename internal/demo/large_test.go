package demo

import (
	"context"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/localdb/dbtest"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

func TestLarge(t *testing.T) {
	ctx := context.Background()
	own, err := dbtest.Schema(dsn, "ivytable_large")
	if err != nil {
		t.Fatal(err)
	}
	s, err := store.Open(ctx, own)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	size := Size{People: 300, Groups: 40, Memberships: 800}
	admin, err := Large(ctx, s, size, time.Now().UTC())
	if err != nil {
		t.Fatal(err)
	}
	w := workspace.New(s, workspace.Options{})
	a := workspace.Actor{Person: admin}
	if n, _ := s.CountPeople(ctx); n != int64(size.People) {
		t.Errorf("%d people; want %d", n, size.People)
	}
	page, err := w.Groups(ctx, a, workspace.GroupList{Limit: 200})
	if err != nil || page.Total != int64(size.Groups) {
		t.Fatalf("%d groups, %v; want %d", page.Total, err, size.Groups)
	}
	memberships := 0
	for _, g := range page.Items {
		m, err := w.Members(ctx, a, g.Address, workspace.MemberList{Limit: 200})
		in := g.Counts.Owners + g.Counts.Moderators + g.Counts.Members
		if err != nil || int(m.Total) != in || len(g.Owners) != g.Counts.Owners {
			t.Errorf("%s counts %d, has %d, %v", g.Name, in, m.Total, err)
		}
		memberships += in
	}
	if memberships < size.Memberships/2 || memberships > 2*size.Memberships {
		t.Errorf("%d memberships; want about %d", memberships, size.Memberships)
	}
	if found, err := w.SuggestPeople(ctx, a, "person 000299", 5); err != nil || len(found) != 1 {
		t.Errorf("the last person is not found: %+v, %v", found, err)
	}
	if e, err := w.RuleEffect(ctx, a, api.RuleQuestion{Expression: `department eq "Deck"`}); err != nil || e.Match == 0 || e.Match == size.People {
		t.Errorf("the people have no attributes: %+v, %v", e, err)
	}
}
