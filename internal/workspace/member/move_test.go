package member_test

import (
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

func TestSomebodyMoves(t *testing.T) {
	l, ines := k.Hands(t, "moves")
	oda := l.Actor(t, kit.Owner)
	const who, like = "hand-1@merrowline.example", "hand-2@merrowline.example"
	make := func(name string, change ...func(*api.NewGroup)) api.Group {
		t.Helper()
		return l.Make(t, name, change...)
	}
	hidden := func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("find=owners see_people=owners read=owners join.audience=nobody")
	}
	with := func(role string, people ...string) func(*api.NewGroup) {
		return func(n *api.NewGroup) {
			for _, x := range people {
				n.People = append(n.People, api.NewPerson{Address: x, Role: role})
			}
		}
	}
	old, fresh := make("Day Deck", with("", who)), make("Night Deck", with("", like))
	both, led := make("Tea Round", with("", who, like)), make("Rota Makers", with("moderator", like))
	barred, secret := make("Pump Crew", with("", like)), make("Layoffs", hidden, with("", like))
	ruled := make("By Department")
	if _, err := l.Rules.Set(ctx, ines, ruled.Address, api.NewRule{Expression: `userName eq "` + like + `"`}, 0); err != nil {
		t.Fatal(err)
	}
	if err := l.Rules.SetOverride(ctx, ines, barred.Address, who, api.NewOverride{Override: "barred"}, 0); err != nil {
		t.Fatal(err)
	}
	l.Queued(t)
	want := map[string]string{old.Name: "removed", fresh.Name: "added", both.Name: "already", led.Name: "added", barred.Name: "refused", secret.Name: "added", ruled.Name: "same"}
	check := func(what string, lines []api.Line, want map[string]string) {
		t.Helper()
		got := map[string]string{}
		for _, x := range lines {
			got[x.Name] = x.Outcome
			if x.Outcome == "refused" && x.Says == "" {
				t.Errorf("%s: %s is refused without a word", what, x.Name)
			}
		}
		for name, outcome := range want {
			if got[name] != outcome {
				t.Errorf("%s: %s is %s; want %s", what, name, got[name], outcome)
			}
		}
		if len(got) != len(want) {
			t.Errorf("%s: %v; want %v", what, got, want)
		}
	}
	m := api.Moves{Leave: []string{old.Address}, Like: like, Roles: true}
	look := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(l.Member.Move(ctx, by, who, m)) })
	check("preview", look.Sample, want)
	if in, _ := l.Members(ines, fresh.Address, member.Query{Q: "hand 1", Limit: 5}); in.Total != 0 {
		t.Error("a look at it moved somebody")
	}
	// an owner of some of the groups does what they may, and sees nothing of the rest
	if out, err := l.Member.Move(ctx, l.Actor(t, like), who, api.Moves{Like: like, Join: []api.JoinGroup{{Group: secret.Address}, {Group: "nothing-here"}}}); err != nil || out.Changed != 0 {
		t.Errorf("by somebody without a right: %+v, %v", out, err)
	} else if a, b := out.Results[0], out.Results[1]; a.Says != b.Says || a.Outcome != b.Outcome || a.Name != b.Name {
		t.Errorf("a hidden group and none are told apart: %+v, %+v", a, b)
	}
	colleague, err := l.Member.Move(ctx, l.Actor(t, kit.Colleague), who, api.Moves{Like: like})
	if err != nil || colleague.Changed != 0 {
		t.Errorf("by a colleague: %+v, %v", colleague, err)
	}
	for _, x := range colleague.Results {
		if x.Name == secret.Name {
			t.Error("a colleague learns of a hidden group")
		}
	}
	out, err := l.Member.Move(ctx, oda, who, m)
	if err != nil || out.Changed != 4 {
		t.Fatalf("%+v, %v", out, err)
	}
	check("done", out.Results, want)
	if in, _ := l.Members(ines, led.Address, member.Query{Q: "hand 1", Limit: 5}); in.Total != 1 || in.Items[0].Role != expand.Moderator.String() {
		t.Errorf("the same role: %+v", in.Items)
	}
	letters := l.Letters(t)
	if len(letters) != 1 || letters[0].Subject != "You are now in 3 more groups" || !strings.Contains(letters[0].Text, "- "+fresh.Name+" (") {
		t.Errorf("letters: %+v", letters)
	}
	// the last owner stays, oneself leaves what is free
	out, err = l.Member.Move(ctx, oda, kit.Owner, api.Moves{Leave: []string{old.Address}})
	if err != nil || out.Changed != 0 || !strings.Contains(out.Results[0].Says, "last owner") {
		t.Errorf("%+v, %v", out, err)
	}
	if out, err = l.Member.Move(ctx, l.Actor(t, who), who, api.Moves{Leave: []string{both.Address, "tea-round"}}); err != nil || out.Changed != 1 || out.Results[1].Status != "repeated" {
		t.Errorf("%+v, %v", out, err)
	}
	for says, m := range map[string]api.Moves{"Say what to do": {}, "no role": {Join: []api.JoinGroup{{Group: old.Address, Role: "king"}}}, "no date": {Like: like, Until: "x"}, "Name a colleague": {Like: who}, "nobody": {Like: "x"}} {
		if kind, got := kit.KindOf(t, kit.Last(l.Member.Move(ctx, ines, who, m))); kind != workspace.Invalid || !strings.Contains(got, says) {
			t.Errorf("%+v: %v %s", m, kind, got)
		}
	}
	l.Agrees(t)
}
