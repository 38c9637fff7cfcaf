package demo

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"

	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/localdb/dbtest"
	"ivytable.example/ivytable/internal/service"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/review"
)

var dsn string

func TestMain(m *testing.M) { dbtest.Main(m, "demo", &dsn) }

func TestFill(t *testing.T) {
	ctx := context.Background()
	s, err := store.Open(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	today := time.Date(2026, 11, 23, 5, 0, 0, 0, time.UTC)
	if made, err := Fill(ctx, s, today); err != nil || !made {
		t.Fatalf("%v, %v", made, err)
	}
	if made, err := Fill(ctx, s, today); err != nil || made {
		t.Errorf("filled twice: %v, %v", made, err)
	}
	if n, _ := s.Reads(ctx).CountPeople(); n != 237 {
		t.Errorf("%d people are here; want 237, and three who have left", n)
	}
	w, err := service.New(ctx, s, workspace.Options{Now: func() time.Time { return today }})
	if err != nil {
		t.Fatal(err)
	}
	ines, _, err := w.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: Administrator, Password: Password})
	if err != nil {
		t.Fatal(err)
	}
	for _, who := range []string{Owner, Member, Auditor} {
		if _, _, err := w.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: who, Password: Password}); err != nil {
			t.Errorf("%s: %v", who, err)
		}
	}
	if h, err := w.History.List(ctx, ines, "", "", "", 1); err != nil || h.Items[0].At.After(today) {
		t.Errorf("the sample goes on into the future: %+v, %v", h.Items, err)
	}
	for _, state := range lifecycle.States {
		p, err := w.Group.List(ctx, ines, group.Query{States: []string{string(state)}, Limit: 200})
		if err != nil || p.Total < 2 {
			t.Errorf("%s: %d groups, %v", state, p.Total, err)
		}
	}
	all, err := w.Group.List(ctx, ines, group.Query{Limit: 200})
	if err != nil || all.Total < 60 {
		t.Errorf("%d groups, %v", all.Total, err)
	}
	ownerless, external, nested := 0, 0, 0
	for _, g := range all.Items {
		here := 0
		for _, o := range g.Owners {
			if !o.Departed {
				here++
			}
		}
		if g.Counts.Owners != here {
			t.Errorf("%s: %d owners counted, %d here", g.Name, g.Counts.Owners, here)
		}
		if g.Counts.Owners == 0 {
			ownerless++
		}
		external += g.Counts.External
		nested += g.Counts.Nested
	}
	if ownerless == 0 || external == 0 || nested == 0 {
		t.Errorf("%d groups without an owner, %d external members, %d nested groups", ownerless, external, nested)
	}
	if p, err := w.Joining.Requests(ctx, ines, "", false, "", 50); err != nil || p.Total < 6 {
		t.Errorf("%d requests wait, %v", p.Total, err)
	}
	if r, err := w.Rules.Read(ctx, ines, "gannet-quay-deck@crew.merrowline.example"); err != nil || r.Members < 5 {
		t.Errorf("by rule: %+v, %v", r, err)
	}
	if n, err := w.Naming.Read(ctx, ines); err != nil || len(n.Words) == 0 {
		t.Errorf("naming: %+v, %v", n, err)
	}
	found, err := w.Review.Kinds(ctx, ines, review.Query{})
	if err != nil {
		t.Fatal(err)
	}
	for _, k := range found.Items {
		if k.Open == 0 {
			t.Errorf("nothing of the kind %s is found", k.Kind)
		}
	}
	if p, err := w.Waiting.List(ctx, ines, "", []string{"post"}, "", 50); err != nil || p.Total < 5 {
		t.Errorf("%d posts wait, %v", p.Total, err)
	}
}

func TestForget(t *testing.T) {
	dir := t.TempDir()
	precious := filepath.Join(dir, "precious")
	if err := os.WriteFile(precious, nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Forget(dir); err == nil {
		t.Error("a folder that is no demo's was deleted")
	}
	if _, err := os.Stat(precious); err != nil {
		t.Error(err)
	}
	if err := os.WriteFile(filepath.Join(dir, marker), nil, 0o600); err != nil {
		t.Fatal(err)
	}
	if err := Forget(dir); err != nil {
		t.Error(err)
	}
	if left, _ := os.ReadDir(dir); len(left) != 0 {
		t.Errorf("left: %v", left)
	}
	if err := Forget(filepath.Join(dir, "absent")); err != nil {
		t.Error(err)
	}
}
