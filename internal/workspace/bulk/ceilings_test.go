package bulk_test

import (
	"strings"
	"testing"

	kit "ivytable.example/ivytable/internal/testkit"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/workspace"
)

// A ceiling holds for whoever makes a group, changes its policy, moves it or undoes a change; groups above come down
// in one change, which is undone as one once the ceiling is lifted.
func TestCeilings(t *testing.T) {
	k, admin := k.Hands(t, "bulk_ceilings")
	owner := k.Actor(t, kit.Owner)
	wide := k.Make(t, "Wide Open", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("find=anyone read=anyone post=anyone") })
	crew := k.Make(t, "Crew Open", func(n *api.NewGroup) {
		n.Address, n.PolicyPatch = "crew-open@"+kit.Second, kit.Policy("post=anyone")
	})
	narrow := k.Make(t, "Narrow")
	ended := k.Make(t, "Ended Open", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone") })
	if _, err := k.Life.Retire(ctx, admin, ended.Address, 0); err != nil {
		t.Fatal(err)
	}
	post := func(g api.Group) string {
		t.Helper()
		now, err := k.Group.Read(ctx, admin, g.Address)
		if err != nil {
			t.Fatal(err)
		}
		return now.Policy.Post
	}
	low := api.NewCeilings{Ceilings: []api.NewCeiling{{Setting: "post", AtMost: "workspace", Filter: `domain eq "` + kit.Domain + `"`, Reason: "Strangers write to the front desk."}}}
	look := kit.Preview(t, admin, func(by workspace.Actor) error { return kit.Last(k.Bulk.SetCeilings(ctx, by, low, 0)) })
	if look.Total != 2 || !strings.Contains(look.Says, "2 groups are above") || !strings.Contains(look.Sample[0].Says, "post from anyone to workspace; owned by Oda Fenn") {
		t.Errorf("%+v", look)
	}
	if post(wide) != "anyone" {
		t.Error("looking at it brought a group down")
	}
	k.Letters(t)
	set, err := k.Bulk.SetCeilings(ctx, admin, low, 0)
	if err != nil || set.Change == "" {
		t.Fatalf("%+v, %v", set, err)
	}
	if err := k.Bulk.Run(ctx); err != nil {
		t.Fatal(err)
	}
	letters := k.Letters(t)
	if len(letters) != 1 || letters[0].Subject != "The reach of 2 of your groups is narrower now" || !strings.Contains(letters[0].Text, "Ended Open, Wide Open") || !strings.Contains(letters[0].Text, "Strangers write to the front desk.") {
		t.Errorf("letters: %+v", letters)
	}
	for g, want := range map[string]string{wide.Address: "workspace", crew.Address: "anyone", narrow.Address: "members", ended.Address: "workspace"} {
		if got := post(api.Group{Address: g}); got != want {
			t.Errorf("%s: %s, want %s", g, got, want)
		}
	}

	// Every way that leads above is closed.
	refused := func(way string, err error) {
		t.Helper()
		if !workspace.IsKind(err, workspace.Invalid) || !strings.Contains(err.Error(), "Strangers write to the front desk.") {
			t.Errorf("%s: %v", way, err)
		}
	}
	_, err = k.Reach.ChangePolicy(ctx, owner, wide.Address, kit.Policy("post=anyone"), 0)
	refused("a change by its owner", err)
	_, err = k.Reach.ChangePolicy(ctx, admin, narrow.Address, kit.Policy("post=anyone"), 0)
	refused("a change by an administrator", err)
	_, err = k.Group.Create(ctx, admin, api.NewGroup{Name: "New Open", Owners: []string{kit.Owner}, PolicyPatch: kit.Policy("post=anyone")})
	refused("a new group", err)
	_, err = k.Group.Create(ctx, admin, api.NewGroup{Name: "New Intake", Owners: []string{kit.Owner}, StartingPoint: "intake"})
	refused("a starting point", err)
	moved := "crew-open@" + kit.Domain
	_, err = k.Group.Change(ctx, owner, crew.Address, api.GroupPatch{Address: &moved}, 0)
	refused("a move", err)
	b, err := k.Bulk.Begin(ctx, admin, api.NewBulk{Groups: []string{narrow.Address}, Policy: &api.PolicyPatch{Policy: &api.AnswersPatch{Post: "anyone"}}})
	if err != nil {
		t.Fatal(err)
	}
	if err := k.Bulk.Run(ctx); err != nil {
		t.Fatal(err)
	}
	if b, _ = k.Bulk.Read(ctx, admin, b.ID); b.Refused != 1 {
		t.Errorf("a change of many: %+v", b)
	}
	if look := kit.Preview(t, admin, func(by workspace.Actor) error { return kit.Last(k.Bulk.Undo(ctx, by, set.Change)) }); look.Ready != 0 {
		t.Errorf("undoing while it holds: %+v", look)
	}
	if p, _, err := k.Reach.Policy(ctx, owner, wide.Address); err != nil || p.Settings[3].Name != "post" || p.Settings[3].Ceiling == nil || p.Settings[3].Ceiling.AtMost != "workspace" {
		t.Errorf("%+v, %v", p.Settings[3], err)
	}

	// Lifted, all comes back as one.
	if look := kit.Preview(t, admin, func(by workspace.Actor) error {
		return kit.Last(k.Bulk.SetCeilings(ctx, by, api.NewCeilings{Ceilings: []api.NewCeiling{}}, 0))
	}); !strings.Contains(look.Says, "can choose more than before") {
		t.Errorf("raised: %q", look.Says)
	}
	if _, err := k.Bulk.SetCeilings(ctx, admin, api.NewCeilings{Ceilings: []api.NewCeiling{}}, set.Version); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Bulk.Undo(ctx, admin, set.Change); err != nil {
		t.Fatal(err)
	}
	if err := k.Bulk.Run(ctx); err != nil {
		t.Fatal(err)
	}
	if post(wide) != "anyone" || post(ended) != "anyone" {
		t.Errorf("undone: %s, %s", post(wide), post(ended))
	}
}

func TestCeilingsRefuseBadInput(t *testing.T) {
	k, admin := k.Hands(t, "bulk_ceilings_bad")
	for says, c := range map[string]api.NewCeiling{
		`There is no ceiling for "hold"`: {Setting: "hold", AtMost: "nobody"}, `There is no ceiling for "colour"`: {Setting: "colour", AtMost: "nobody"},
		"bounds nothing": {Setting: "post", AtMost: "anyone"}, "A ceiling is an audience": {Setting: "post", AtMost: "everybody"},
		"can't ask about post": {Setting: "post", AtMost: "members", Filter: `post eq "anyone"`}, "can't ask about people": {Setting: "post", AtMost: "members", Filter: "people gt 5"},
	} {
		if _, err := k.Bulk.SetCeilings(ctx, admin, api.NewCeilings{Ceilings: []api.NewCeiling{c}}, 0); !workspace.IsKind(err, workspace.Invalid) || !strings.Contains(err.Error(), says) {
			t.Errorf("%+v: %v; want %q", c, err, says)
		}
	}
	if _, err := k.Bulk.SetCeilings(ctx, admin, api.NewCeilings{Ceilings: []api.NewCeiling{{Setting: "post", AtMost: "members", Filter: "domain eq"}}}, 0); !workspace.IsKind(err, workspace.Invalid) {
		t.Errorf("a filter that can't be read: %v", err)
	}
	twice := api.NewCeiling{Setting: "post", AtMost: "members"}
	if _, err := k.Bulk.SetCeilings(ctx, admin, api.NewCeilings{Ceilings: []api.NewCeiling{twice, twice}}, 0); !workspace.IsKind(err, workspace.Invalid) {
		t.Errorf("twice: %v", err)
	}
	for _, who := range []string{kit.Owner, kit.Auditor, kit.Colleague} {
		if _, err := k.Bulk.SetCeilings(ctx, k.Actor(t, who), api.NewCeilings{}, 0); !workspace.IsKind(err, workspace.NotAllowed) {
			t.Errorf("%s: %v", who, err)
		}
	}
	if _, err := k.Bulk.SetCeilings(ctx, admin, api.NewCeilings{}, 7); !workspace.IsKind(err, workspace.Stale) {
		t.Errorf("an old version: %v", err)
	}
}

// A token that is not good for people or policy changes neither for many groups, nor undoes that.
func TestChangesOfManyNeedTheScopeOfWhatTheyDo(t *testing.T) {
	k, admin := k.Hands(t, "bulk_scopes")
	g := k.Make(t, "Scoped")
	narrow, wide := admin, admin
	narrow.Scopes, wide.Scopes = access.Scopes{access.ScopeGroups}, access.Scopes{access.ScopeGroups, access.ScopePeople, access.ScopePolicy}
	for name, n := range map[string]api.NewBulk{
		"policy":   {Groups: []string{g.Address}, Policy: &api.PolicyPatch{Leave: "asking"}},
		"ceilings": {Groups: []string{g.Address}, Ceilings: true},
		"owners":   {Groups: []string{g.Address}, Owners: &api.OwnersChange{Add: []string{kit.Colleague}}},
	} {
		if _, err := k.Bulk.Begin(ctx, narrow, n); !workspace.IsKind(err, workspace.NotAllowed) {
			t.Errorf("%s: %v", name, err)
		}
		b, err := k.Bulk.Begin(ctx, wide, n)
		if err != nil {
			t.Fatal(err)
		}
		if err := k.Bulk.Run(ctx); err != nil {
			t.Fatal(err)
		}
		if name == "ceilings" { // it changed nothing
			continue
		}
		if _, err := k.Bulk.Undo(ctx, narrow, b.ID); !workspace.IsKind(err, workspace.NotAllowed) {
			t.Errorf("undoing %s: %v", name, err)
		}
	}
	if _, err := k.Bulk.Begin(ctx, narrow, api.NewBulk{Groups: []string{g.Address}, Language: "de"}); err != nil {
		t.Errorf("language: %v", err)
	}
}
