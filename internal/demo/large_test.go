package demo

import (
	"context"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/localdb/dbtest"
	"ivytable.example/ivytable/internal/service"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"
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
	w, err := service.New(ctx, s, workspace.Options{})
	if err != nil {
		t.Fatal(err)
	}
	a := workspace.Actor{Person: admin}
	if n, _ := s.Reads(ctx).CountPeople(); n != int64(size.People) {
		t.Errorf("%d people; want %d", n, size.People)
	}
	page, err := w.Group.List(ctx, a, group.Query{Limit: 200})
	if err != nil || page.Total != int64(size.Groups) {
		t.Fatalf("%d groups, %v; want %d", page.Total, err, size.Groups)
	}
	memberships := 0
	for _, g := range page.Items {
		m, _, err := w.Member.List(ctx, a, g.Address, member.Query{Limit: 200})
		in := g.Counts.Owners + g.Counts.Moderators + g.Counts.Members
		if err != nil || int(m.Total) != in || len(g.Owners) != g.Counts.Owners {
			t.Errorf("%s counts %d, has %d, %v", g.Name, in, m.Total, err)
		}
		memberships += in
	}
	if memberships < size.Memberships/2 || memberships > 2*size.Memberships {
		t.Errorf("%d memberships; want about %d", memberships, size.Memberships)
	}
	if found, err := w.People.List(ctx, a, people.Query{Q: "person 000299", Sort: "match", Limit: 5}); err != nil || len(found.Items) != 1 {
		t.Errorf("the last person is not found: %+v, %v", found, err)
	}
	if e, err := w.Rules.Match(ctx, a, api.RuleQuestion{Expression: `department eq "Deck"`}); err != nil || e.Rule.Match == 0 || e.Rule.Match == size.People {
		t.Errorf("the people have no attributes: %+v, %v", e, err)
	}
}
