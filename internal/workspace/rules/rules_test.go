package rules_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/member"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

const quayDeck = `department eq "deck" and addresses.locality eq "Gannet Quay"`

func TestMembershipByRule(t *testing.T) {
	l, ines := k.Hands(t, "rules")
	g := l.Make(t, "Quay Deck", func(n *api.NewGroup) {
		n.People = append(n.People, api.NewPerson{Address: "hand-0@merrowline.example"})
	})
	look := func(expression string) *api.RuleMatch {
		return kit.Preview(t, ines, func(by workspace.Actor) error {
			return kit.Last(l.Rules.Set(ctx, by, g.Address, api.NewRule{Expression: expression}, 0))
		}).Rule
	}
	e := look(quayDeck)
	if !e.Valid || e.Match != 7 || e.Come != 6 || e.Go != 0 || e.Near != 3 || len(e.Coming) != 6 {
		t.Errorf("effect: %+v", e)
	}
	if e.NearMiss[0].Name.Name != "Hand 8" || e.NearMiss[0].Says != "addresses.locality is empty." || !slices.ContainsFunc(e.NearMiss, func(n api.NearMiss) bool {
		return n.Name.Name == "Hand 7" && n.Says == "addresses.locality is North Ness."
	}) {
		t.Errorf("near misses: %+v", e.NearMiss)
	}
	if i := slices.IndexFunc(e.Lacking, func(x api.LackCount) bool { return x.Attribute == "addresses.locality" }); i < 0 || e.Lacking[i].People != 7 || e.People != 16 {
		t.Errorf("lacking: %+v of %d", e.Lacking, e.People)
	}
	if now, _ := l.Group.Read(ctx, ines, g.Address); now.Counts != g.Counts || now.ByRule {
		t.Errorf("trying it changed something: %+v", now)
	}
	if e, err := l.Rules.Match(ctx, ines, api.RuleQuestion{Expression: "department is x"}); err != nil || e.Rule.Valid || e.Rule.At != 11 || !strings.Contains(e.Says, "operator") {
		t.Errorf("a rule that can't be read: %+v, %v", e, err)
	}

	l.Queued(t)
	r, err := l.Rules.Set(ctx, l.Actor(t, kit.Owner), g.Address, api.NewRule{Expression: quayDeck}, 0)
	if err != nil || r.Members != 6 || r.Guard != 20 {
		t.Fatalf("%+v, %v", r, err)
	}
	if to := l.Queued(t)["You are now in Quay Deck"]; len(to) != 6 {
		t.Errorf("told: %v", to)
	}
	count := func(want int) {
		t.Helper()
		if now, err := l.Group.Read(ctx, ines, g.Address); err != nil || now.Counts.Members != want || !now.ByRule {
			t.Errorf("%+v, %v; want %d members", now.Counts, err, want)
		}
	}
	set := func(who string, attributes map[string]string) {
		t.Helper()
		if _, err := l.Directory.Change(ctx, ines, who+"@merrowline.example", api.PersonPatch{Attributes: attributes}, 0); err != nil {
			t.Fatal(err)
		}
	}
	count(8) // Tove, Hand 0 by hand, 6 by rule
	set("hand-8", map[string]string{"locality": "gannet quay"})
	count(9)
	set("hand-1", map[string]string{"department": "Engine"})
	count(8)
	h, _ := l.History.List(ctx, ines, g.Address, "", "", 1)
	if h.Items[0].Kind != "rule.follow" || !strings.Contains(h.Items[0].Says, "the entry of Hand 1 changed") || !strings.Contains(fmt.Sprint(h.Items[0].Fields), "hand-1@merrowline.example") {
		t.Errorf("not recorded: %+v", h.Items[0])
	}
	if p, _ := l.History.OfPerson(ctx, ines, "hand-1@merrowline.example", "", 5); p.Items[0].Kind != "rule.follow" || p.Items[0].Group.Address != g.Address {
		t.Errorf("not in the person's history: %+v", p.Items)
	}
	version, _ := l.Group.Read(ctx, ines, g.Address)
	set("hand-2", map[string]string{"title": "Bosun"}) // not asked about
	if now, _ := l.Group.Read(ctx, ines, g.Address); now.Version != version.Version {
		t.Error("a rule was followed that does not use the attribute")
	}
	set("hand-0", map[string]string{"department": "Engine"}) // in by hand
	count(8)
	if kind, says := kit.KindOf(t, l.Member.Remove(ctx, ines, g.Address, "hand-2@merrowline.example", 0)); kind != workspace.Conflict || !strings.Contains(says, "by its rule") {
		t.Errorf("taken out by hand: %v %s", kind, says)
	}
	if err := l.Rules.SetOverride(ctx, ines, g.Address, "hand-2@merrowline.example", api.NewOverride{Override: "barred"}, 0); err != nil {
		t.Fatal(err)
	}
	count(7)
	set("hand-2", map[string]string{"department": "Deck ", "locality": "North Ness"})
	set("hand-2", map[string]string{"locality": "Gannet Quay"})
	count(7) // is barred
	x, err := l.Rules.Explain(ctx, ines, api.RuleQuestion{Group: g.Address, Person: "hand-7@merrowline.example"})
	if err != nil || x.Verdict != "no match" || x.Parts[0].Failed || !x.Parts[1].Failed || x.Parts[1].Says != "addresses.locality is North Ness." {
		t.Errorf("explained: %+v, %v", x, err)
	}
	if _, err := l.Directory.Depart(ctx, ines, "hand-3@merrowline.example", api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	count(6)
	if _, err := l.Directory.Return(ctx, ines, "hand-3@merrowline.example", 0); err != nil {
		t.Fatal(err)
	}
	count(7)
	if _, err := l.Directory.Create(ctx, ines, api.NewPersonEntry{Address: "newhand@merrowline.example", Name: "New Hand", Attributes: map[string]string{"department": "DECK", "locality": "Gannet Quay"}}); err != nil {
		t.Fatal(err)
	}
	count(8)

	if _, err := l.Life.Retire(ctx, ines, g.Address, 0); err != nil {
		t.Fatal(err)
	}
	set("hand-4", map[string]string{"department": "Engine"})
	if g, err := l.Life.Restore(ctx, ines, g.Address, 0); err != nil || g.Counts.Members != 7 {
		t.Errorf("after it was away: %+v, %v", g.Counts, err)
	}
	if err := l.Rules.Delete(ctx, ines, g.Address, true, 0); err != nil {
		t.Fatal(err)
	}
	if m, _ := l.Members(ines, g.Address, member.Query{Way: "hand", Role: "member", Limit: 50}); m.Total != 7 {
		t.Errorf("kept: %d", m.Total)
	}
	if kind, _ := kit.KindOf(t, kit.Last(l.Rules.Read(ctx, ines, g.Address))); kind != workspace.NotFound {
		t.Error("the rule is still there")
	}
}

func TestTheGuardOfARule(t *testing.T) {
	l, ines := k.Hands(t, "guard")
	g, err := l.Group.Create(ctx, ines, api.NewGroup{Name: "Guarded", Owners: []string{kit.Owner}, Rule: `department eq "Deck"`, Quiet: true})
	if err != nil || g.Counts.Members != 9 {
		t.Fatalf("%+v, %v", g.Counts, err)
	}
	narrow := api.NewRule{Expression: `department eq "Deck" and addresses.locality eq "North Ness"`}
	if kind, says := kit.KindOf(t, kit.Last(l.Rules.Set(ctx, ines, g.Address, narrow, 0))); kind != workspace.Conflict || !strings.Contains(says, "8 of the 9") {
		t.Errorf("%v %s", kind, says)
	}
	if r, _ := l.Rules.Read(ctx, ines, g.Address); r.Expression != `department eq "Deck"` || r.Members != 9 {
		t.Errorf("half done: %+v", r)
	}
	l.Queued(t)
	lines := []string{"address,department"}
	for i := range 4 {
		lines = append(lines, fmt.Sprintf("hand-%d@merrowline.example,Engine", i))
	}
	if _, err := l.Directory.Import(ctx, ines, api.Import{Text: strings.Join(lines, "\n")}); err != nil {
		t.Fatal(err)
	}
	r, err := l.Rules.Read(ctx, ines, g.Address)
	if err != nil || r.Members != 9 || r.Pending == nil || r.Pending.Go != 4 || r.Pending.Cause != "people were imported" {
		t.Fatalf("the guard let them go: %+v, %v", r, err)
	}
	if to := l.Queued(t)["Many people would leave Guarded: please look"]; !slices.Equal(to, []string{kit.Owner}) {
		t.Errorf("told: %v", to)
	}
	if kind, _ := kit.KindOf(t, kit.Last(l.Rules.Release(ctx, l.Actor(t, kit.Member), g.Address, 0))); kind != workspace.NotAllowed {
		t.Error("a member let it happen")
	}
	if r, err = l.Rules.Release(ctx, l.Actor(t, kit.Owner), g.Address, 0); err != nil || r.Members != 5 || r.Pending != nil {
		t.Errorf("released: %+v, %v", r, err)
	}
	narrow.Confirm = true
	if r, err = l.Rules.Set(ctx, ines, g.Address, narrow, 0); err != nil || r.Members != 1 {
		t.Errorf("confirmed: %+v, %v", r, err)
	}
	for _, bad := range []string{"", "department", `locality eq "x"`, strings.Repeat("x", 4500)} {
		if kind, says := kit.KindOf(t, kit.Last(l.Rules.Set(ctx, ines, g.Address, api.NewRule{Expression: bad}, 0))); kind != workspace.Invalid || !strings.Contains(says, "expression: ") {
			t.Errorf("%.20s: %v %s", bad, kind, says)
		}
	}
}

func TestARuleIsCompleted(t *testing.T) {
	l, ines := k.Hands(t, "complete")
	for _, c := range [][3]string{{"dep", "attribute", "department"}, {"department ", "operator", "sw"}, {`department eq "`, "value", `"Deck"`}, {`department eq "eng`, "value", `"Engine"`}, {`department eq "Deck" `, "join", "and"}, {`addresses[locality eq "`, "value", `"Gannet Quay"`}} {
		e, err := l.Views.Complete(ctx, ines, "", c[0], len(c[0]))
		if err != nil || e.What != c[1] || !slices.ContainsFunc(e.Choices, func(x api.RuleChoice) bool { return x.Text == c[2] }) {
			t.Errorf("%s: %+v, %v", c[0], e, err)
		}
	}
}

// While a group is away its rule moves nobody; it is followed when the group is back.
func TestAGroupThatIsAwayFollowsItsRuleWhenItIsBack(t *testing.T) {
	l, ines := k.Hands(t, "awayrule")
	g := l.Make(t, "Away for a while")
	if _, err := l.Rules.Set(ctx, ines, g.Address, api.NewRule{Expression: `department eq "Dive"`}, 0); err != nil {
		t.Fatal(err)
	}
	dive := func(who, department string) {
		t.Helper()
		if _, err := l.Directory.Change(ctx, ines, who, api.PersonPatch{Attributes: map[string]string{"department": department}}, 0); err != nil {
			t.Fatal(err)
		}
	}
	count := func() int {
		t.Helper()
		r, err := l.Rules.Read(ctx, ines, g.Address)
		if err != nil {
			t.Fatal(err)
		}
		return r.Members
	}
	dive("hand-0@merrowline.example", "Dive")
	if n := count(); n != 1 {
		t.Fatalf("%d are in it by rule", n)
	}
	if _, err := l.Life.Retire(ctx, ines, g.Address, 0); err != nil {
		t.Fatal(err)
	}
	dive("hand-0@merrowline.example", "Deck")
	dive("hand-1@merrowline.example", "Dive")
	if _, err := l.Directory.Import(ctx, ines, api.Import{Text: "mail,department\nhand-2@merrowline.example,Dive\nhand-3@merrowline.example,Dive\n"}); err != nil {
		t.Fatal(err)
	}
	if n := count(); n != 1 {
		t.Errorf("a group that is away has %d by rule", n)
	}
	if _, err := l.Life.Restore(ctx, ines, g.Address, 0); err != nil {
		t.Fatal(err)
	}
	if n := count(); n != 3 {
		t.Errorf("%d are in it by rule once it is back", n)
	}
	if err := l.Rules.Delete(ctx, ines, g.Address, true, 0); err != nil {
		t.Fatal(err)
	}
	dive("hand-4@merrowline.example", "Dive")
	if m, err := l.Members(ines, g.Address, member.Query{Q: "hand-4", Limit: 5}); err != nil || m.Total != 0 {
		t.Errorf("a rule that was taken away still puts people in: %+v, %v", m.Items, err)
	}
}

// A rule takes somebody back when nothing but a bar kept them out, and keeps whom it put in
// through a promotion and back.
func TestABarAndARole(t *testing.T) {
	l, ines := k.Hands(t, "rules_bar_role")
	oda := l.Actor(t, kit.Owner)
	g := l.Make(t, "Deck Hands")
	if _, err := l.Rules.Set(ctx, ines, g.Address, api.NewRule{Expression: `department eq "Deck"`}, 0); err != nil {
		t.Fatal(err)
	}
	const hand = "hand-1@merrowline.example"
	stands := func(want string) {
		t.Helper()
		got := "out"
		for _, m := range kit.First(l.Members(oda, g.Address, member.Query{Limit: 50})).Items {
			if m.Address == hand {
				got = fmt.Sprintf("%s, by rule %v", m.Role, m.ByRule)
			}
		}
		if got != want {
			t.Errorf("the hand is %s; want %s", got, want)
		}
	}
	override := func(to string) {
		t.Helper()
		if err := l.Rules.SetOverride(ctx, oda, g.Address, hand, api.NewOverride{Override: to}, 0); err != nil {
			t.Fatal(err)
		}
	}
	role := func(to string) {
		t.Helper()
		if _, err := l.Member.ChangeOne(ctx, oda, g.Address, hand, api.MemberPatch{Role: to}, 0); err != nil {
			t.Fatal(err)
		}
	}
	department := func(to string) {
		t.Helper()
		if _, err := l.Directory.Change(ctx, ines, hand, api.PersonPatch{Attributes: map[string]string{"department": to}}, 0); err != nil {
			t.Fatal(err)
		}
	}
	stands("member, by rule true")
	override("barred")
	stands("out")
	looking, report := oda.Previewing()
	if err := l.Rules.SetOverride(ctx, looking, g.Address, hand, api.NewOverride{Override: "none"}, 0); !workspace.Previewed(err) || !strings.Contains(report.Says, "takes them in again") {
		t.Errorf("looked at: %s, %v", report.Says, err)
	}
	override("none")
	stands("member, by rule true")
	role("moderator")
	stands("moderator, by rule false")
	department("Engine")
	stands("moderator, by rule false") // a hand gave the role
	department("Deck")
	role("member")
	stands("member, by rule true")
	department("Engine")
	stands("out")
	override("barred")
	override("held")
	stands("out") // the rule does not take them
	department("Deck")
	stands("member, by rule true")
}
