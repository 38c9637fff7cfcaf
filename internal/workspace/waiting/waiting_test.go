package waiting_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

func TestOneListOfAllThatWaits(t *testing.T) {
	l, ines := k.Hands(t, "allwaits")
	g := l.Make(t, "Held Up", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("hold=everyone post=workspace leave=asking") })
	if err := l.Send(t, g.Address, kit.Colleague, true, "for approval"); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Joining.Join(ctx, l.Actor(t, kit.Colleague), g.Address, api.JoinRequest{Note: "me too"}); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Joining.Leave(ctx, l.Actor(t, kit.Member), g.Address, api.JoinRequest{}); err != nil {
		t.Fatal(err)
	}
	ruled := l.Make(t, "Guarded")
	if _, err := l.Rules.Set(ctx, ines, ruled.Address, api.NewRule{Expression: `department eq "Deck"`}, 0); err != nil {
		t.Fatal(err)
	}
	var moved strings.Builder
	moved.WriteString("address,department\n")
	for i := range 4 {
		fmt.Fprintf(&moved, "hand-%d@merrowline.example,Engine\n", i)
	}
	if _, err := l.Directory.Import(ctx, ines, api.Import{Text: moved.String()}); err != nil {
		t.Fatal(err)
	}
	before, err := l.Rules.Read(ctx, ines, ruled.Address)
	if err != nil || before.Pending == nil {
		t.Fatalf("%+v, %v", before, err)
	}
	in := before.Pending.Go

	list := func(who string, kinds ...string) []api.Waiting {
		t.Helper()
		var all []api.Waiting
		by := l.Actor(t, who)
		p, err := l.Waiting.List(ctx, by, "", kinds, "", 1) // a page for each
		for ; ; p, err = l.Waiting.List(ctx, by, "", kinds, p.Next, 1) {
			if err != nil {
				t.Fatal(err)
			}
			all = append(all, p.Items...)
			if p.Next == "" {
				break
			}
		}
		if int(p.Total) != len(all) {
			t.Errorf("%d of %d for %s", len(all), p.Total, who)
		}
		return all
	}
	kinds := func(all []api.Waiting) string {
		var out []string
		for _, w := range all {
			out = append(out, w.Kind)
		}
		slices.Sort(out)
		return strings.Join(out, " ")
	}
	for who, want := range map[string]string{kit.Administrator: "join leave post rule", kit.Owner: "join leave post rule", kit.Moderator: "join leave post", kit.Colleague: ""} {
		if got := kinds(list(who)); got != want {
			t.Errorf("for %s waits %q, not %q", who, got, want)
		}
		if me, err := l.Me(ctx, l.Actor(t, who)); err != nil || me.Waiting != len(strings.Fields(want)) {
			t.Errorf("%s is told that %d wait, %v", who, me.Waiting, err)
		}
	}
	if got := kinds(list(kit.Owner, "join", "rule")); got != "join rule" {
		t.Errorf("of two kinds: %q", got)
	}
	if p, err := l.Waiting.List(ctx, ines, g.Address, nil, "", 10); err != nil || p.Total != 3 {
		t.Errorf("in one group: %d, %v", p.Total, err)
	}
	if _, err := l.Waiting.List(ctx, l.Actor(t, kit.Member), g.Address, nil, "", 10); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("a member: %v", err)
	}
	var ids []string
	for _, w := range list(kit.Owner) {
		ids = append(ids, w.ID)
		if w.Group.Name == "" || w.At.IsZero() || w.Kind == "post" && (w.Subject != "for approval" || w.Says == "") || w.Kind == "join" && (w.Subject != "me too" || w.Who.Address != kit.Colleague) || w.Kind == "rule" && !strings.Contains(w.Subject, fmt.Sprint(in)) {
			t.Errorf("%+v", w)
		}
	}
	// who may not decide one of them is told nothing of it, and the others are decided
	done, err := l.Waiting.Decide(ctx, l.Actor(t, kit.Moderator), api.Decisions{IDs: ids, Verdict: "approve"})
	if err != nil || done.Decided != 3 || !slices.ContainsFunc(done.Results, func(d api.Decided) bool {
		return d.Outcome == "refused" && strings.Contains(d.Says, "nothing") && d.Group == ""
	}) {
		t.Errorf("%+v, %v", done, err)
	}
	// those whom a rule would let go stay, by hand
	done, err = l.Waiting.Decide(ctx, l.Actor(t, kit.Owner), api.Decisions{IDs: ids, Verdict: "decline"})
	if err != nil || done.Decided != 1 {
		t.Errorf("%+v, %v", done, err)
	}
	after, err := l.Rules.Read(ctx, ines, ruled.Address)
	if now := kit.First(l.Group.Read(ctx, ines, ruled.Address)); err != nil || after.Pending != nil || after.Members != before.Members-in || now.Counts.Members < before.Members {
		t.Errorf("%+v, %+v, %v", after, now.Counts, err)
	}
	if left := list(kit.Owner); len(left) != 0 {
		t.Errorf("%+v waits still", left)
	}
	// a token for posts decides about no people
	narrowed := l.Actor(t, kit.Owner)
	narrowed.Scopes = access.Scopes{access.ScopeGroups}
	if _, err := l.Joining.Join(ctx, l.Actor(t, kit.Auditor), g.Address, api.JoinRequest{}); err != nil {
		t.Fatal(err)
	}
	asked := list(kit.Owner)
	if done, err := l.Waiting.Decide(ctx, narrowed, api.Decisions{IDs: []string{asked[0].ID}, Verdict: "approve"}); err != nil || done.Decided != 0 || !strings.Contains(done.Results[0].Says, "token") {
		t.Errorf("%+v, %v", done, err)
	}
}
