package views_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/people"
)

func TestViewsAreKept(t *testing.T) {
	ines, oda, auditor := k.Actor(t, kit.Administrator), k.Actor(t, kit.Owner), k.Actor(t, kit.Auditor)
	mine, err := k.Views.Save(ctx, oda, "", api.NewView{Name: "My desks", List: "groups", Filter: `traits eq "desk"`, Columns: []string{"name", "people"}, Sort: "-people"}, 0)
	if err != nil || mine.Whose != "mine" || !slices.Equal(mine.Columns, []string{"name", "people"}) {
		t.Fatalf("%+v, %v", mine, err)
	}
	shared, err := k.Views.Save(ctx, ines, "", api.NewView{Name: "My desks", List: "groups", Filter: `owners eq 1`, Shared: true}, 0) // another's name is free
	if err != nil || shared.Whose != "administrators" {
		t.Fatalf("%+v, %v", shared, err)
	}
	whose := func(by workspace.Actor) string {
		p, err := k.Views.List(ctx, by, "groups")
		if err != nil {
			t.Fatal(err)
		}
		seen := map[string]bool{}
		for _, v := range p.Items {
			seen[v.Whose] = true
		}
		return fmt.Sprint(seen["built_in"], seen["administrators"], seen["mine"])
	}
	for _, c := range []struct {
		by   workspace.Actor
		want string
	}{{ines, "true true false"}, {auditor, "true true false"}, {oda, "true false true"}} {
		if got := whose(c.by); got != c.want {
			t.Errorf("%s sees views built in, shared, of their own: %s; want %s", c.by, got, c.want)
		}
	}
	for _, c := range []struct {
		by   workspace.Actor
		n    api.NewView
		kind workspace.Kind
		says string
	}{
		{oda, api.NewView{Name: "my DESKS", List: "groups"}, workspace.Invalid, "already"},
		{oda, api.NewView{Name: "Open", List: "groups", Shared: true}, workspace.NotAllowed, "Only administrators"},
		{auditor, api.NewView{Name: "Open", List: "groups", Shared: true}, workspace.NotAllowed, "Only administrators"},
		{oda, api.NewView{Name: "Waits", List: "groups", Filter: "waiting gt 0"}, workspace.NotAllowed, "may not ask"},
		{oda, api.NewView{Name: "Quiet", List: "groups", Sort: "quiet"}, workspace.Invalid, "can't be sorted"},
		{oda, api.NewView{Name: "Numbers", List: "people", Filter: `employeeNumber sw "1"`}, workspace.NotAllowed, "may not ask about employeeNumber"},
		{oda, api.NewView{Name: " ", List: "groups"}, workspace.Invalid, "empty"},
		{oda, api.NewView{Name: "x", List: "groups", Columns: []string{"no column"}}, workspace.Invalid, "no name of a column"},
		{oda, api.NewView{Name: "x", List: "groups", Filter: "("}, workspace.Invalid, "breaks off"},
	} {
		if kind, says := kit.KindOf(t, kit.Last(k.Views.Save(ctx, c.by, "", c.n, 0))); kind != c.kind || !strings.Contains(says, c.says) {
			t.Errorf("%+v: %v %s", c.n, kind, says)
		}
	}
	if _, err := k.Views.Save(ctx, ines, mine.ID, api.NewView{Name: "Taken", List: "groups"}, 0); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("an administrator changes somebody's view: %v", err)
	}
	changed, err := k.Views.Save(ctx, oda, mine.ID, api.NewView{Name: "My desks", List: "groups", Filter: `traits eq "archive"`}, mine.Version)
	if err != nil || changed.Version != 2 || changed.Filter != `traits eq "archive"` {
		t.Errorf("%+v, %v", changed, err)
	}
	if _, err := k.Views.Save(ctx, oda, mine.ID, api.NewView{Name: "My desks", List: "groups"}, 1); !workspace.IsKind(err, workspace.Stale) {
		t.Errorf("from an old version: %v", err)
	}
	if err := k.Views.Delete(ctx, oda, mine.ID, 0); err != nil || whose(oda) != "true false false" {
		t.Errorf("deleted: %v, %s", err, whose(oda))
	}
}

// What is built in can be listed by whoever is offered it.
func TestBuiltInViewsListWhatTheySay(t *testing.T) {
	for _, who := range []string{kit.Administrator, kit.Auditor, kit.Colleague} {
		by := k.Actor(t, who)
		all, err := k.Views.List(ctx, by, "")
		if err != nil {
			t.Fatal(err)
		}
		for _, v := range all.Items {
			switch v.List {
			case "groups":
				_, err = k.Group.List(ctx, by, group.Query{Filter: v.Filter, Sort: v.Sort, Limit: 5})
			case "people":
				_, err = k.People.List(ctx, by, people.Query{Filter: v.Filter, Sort: v.Sort, Limit: 5})
			case "history":
				if by.Subject().ReadsAll() {
					_, err = k.History.List(ctx, by, "", v.Filter, "", 5)
				}
			}
			if err != nil {
				t.Errorf("%s: %s: %v", who, v.Name, err)
			}
		}
	}
	if _, err := k.Views.List(ctx, workspace.Actor{}, ""); !workspace.IsKind(err, workspace.SignedOut) {
		t.Errorf("nobody: %v", err)
	}
}

func TestFiltersAreDescribedAndCompleted(t *testing.T) {
	ines, petra := k.Actor(t, kit.Administrator), k.Actor(t, kit.Colleague)
	for _, list := range workspace.Lists {
		all, some := kit.First(k.Views.Describe(ctx, ines, list)), kit.First(k.Views.Describe(ctx, petra, list))
		if len(all.Items) < 6 || list != "history" && len(some.Items) >= len(all.Items) {
			t.Errorf("%s: %d attributes for an administrator, %d for a colleague", list, len(all.Items), len(some.Items))
		}
	}
	offers := func(by workspace.Actor, list, text, want string) bool {
		c, err := k.Views.Complete(ctx, by, list, text, len(text))
		return err == nil && slices.ContainsFunc(c.Choices, func(x api.RuleChoice) bool { return x.Text == want })
	}
	for _, c := range []struct {
		list, text, want string
	}{{"groups", "own", "owners"}, {"groups", "owners ", "gt"}, {"groups", "post eq ", `"anyone"`}, {"groups", `post eq "any`, `"anyone"`}, {"groups", `domain eq "`, `"merrowline.example"`}, {"groups", "owners eq 0 ", "and"},
		{"groups", "wait", "waiting"}, {"history", "kind eq ", `"group.create"`}, {"people", "last_", "last_sign_in"}} {
		if !offers(ines, c.list, c.text, c.want) {
			t.Errorf("%s: %s is not followed by %s", c.list, c.text, c.want)
		}
	}
	if offers(petra, "groups", "wait", "waiting") || offers(petra, "people", "employee", "employeeNumber") {
		t.Error("a colleague is offered what they may not ask about")
	}
}
