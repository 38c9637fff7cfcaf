package attributes_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/filter"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/naming"
	"ivytable.example/ivytable/internal/workspace/people"
	"ivytable.example/ivytable/internal/workspace/rules"
)

func TestWhatAnOrganisationKeepsOfItsOwn(t *testing.T) {
	l, ines := k.Hands(t, "own")
	petra := l.Actor(t, kit.Colleague)
	for name, says := range map[string]string{"title": "has title already", "locality": "already", "emails": "already", "groups": "means something else", "address": "means something else", "eq": "means something else", "a b": "no name", "": "characters", "9x": "no name"} {
		if kind, got := kit.KindOf(t, kit.Last(l.Attributes.Save(ctx, ines, name, api.NewAttribute{}, 0))); kind != workspace.Invalid || !strings.Contains(got, says) {
			t.Errorf("%q: %v %s", name, kind, got)
		}
	}
	for name, n := range map[string]api.NewAttribute{"shift": {Label: "Shift", Seen: true}, "crane": {Kind: "boolean"}, "berth": {Kind: "number"}, "medicalUntil": {Kind: "day"}} {
		if a, err := l.Attributes.Save(ctx, ines, name, n, 0); err != nil || a.Name != name || a.Schema != rule.OwnSchema {
			t.Fatalf("%+v, %v", a, err)
		}
	}
	if kind, _ := kit.KindOf(t, kit.Last(l.Attributes.Save(ctx, ines, "SHIFT", api.NewAttribute{}, 0))); kind != workspace.Invalid {
		t.Error("a second one that differs in case")
	}
	if kind, _ := kit.KindOf(t, kit.Last(l.Attributes.Save(ctx, ines, "berth", api.NewAttribute{Kind: "text"}, 0))); kind != workspace.Invalid {
		t.Error("the kind changes")
	}
	if a, err := l.Attributes.Save(ctx, ines, "berth", api.NewAttribute{Label: "Berth"}, 0); err != nil || a.Kind != "number" || a.Label != "Berth" {
		t.Errorf("%+v, %v", a, err)
	}
	if all, err := l.Attributes.List(ctx, petra); err != nil || len(all.Items) != 1 || all.Items[0].Name != "shift" {
		t.Errorf("a colleague sees %+v, %v", all, err)
	}

	// values, by hand and by a list
	for field, v := range map[string]string{"berth": "twelve", "crane": "maybe", "medicalUntil": "soon"} {
		if kind, says := kit.KindOf(t, kit.Last(l.Directory.Change(ctx, ines, "hand-1@merrowline.example", api.PersonPatch{Attributes: map[string]string{field: v}}, 0))); kind != workspace.Invalid || !strings.Contains(says, "attributes."+field) {
			t.Errorf("%s: %v %s", field, kind, says)
		}
	}
	p, err := l.Directory.Change(ctx, ines, "hand-1@merrowline.example", api.PersonPatch{Attributes: map[string]string{"shift": "B", "crane": "TRUE", "berth": "012", "medicalUntil": "2027-01-31"}}, 0)
	if err != nil || p.Attributes["crane"] != "true" || p.Attributes["berth"] != "12" {
		t.Fatalf("%+v, %v", p, err)
	}
	file := "mail,Shift,BERTH,crane\nhand-2@merrowline.example,b,7,false\nhand-3@merrowline.example,A,x,\nhand-4@merrowline.example,Ü,100,true\n"
	r, err := l.Directory.Import(ctx, ines, api.Import{Text: file})
	if err != nil || r.Counts["changed"] != 2 || r.Counts["wrong"] != 1 || !strings.Contains(r.Lines[0].Says, "whole number") {
		t.Fatalf("%+v, %v", r, err)
	}
	if d, err := l.People.Read(ctx, petra, "hand-1@merrowline.example"); err != nil || d.Attributes["shift"] != "B" || d.Attributes["berth"] != "" {
		t.Errorf("a colleague sees %+v, %v", d.Attributes, err)
	}

	// filters, as the core says
	own := []rule.Own{{Name: "shift"}, {Name: "crane", Kind: rule.Boolean}, {Name: "berth", Kind: rule.Number}, {Name: "medicalUntil", Kind: rule.Day}}
	for expression, want := range map[string]string{
		`shift eq "b"`: "1 2", `shift sw "Ü"`: "4", `shift eq "u\u0308"`: "4", `shift pr`: "1 2 4", `berth gt 7`: "1 4", `berth le 12`: "1 2", `not (berth gt 7)`: "2",
		`crane eq true`: "1 4", `crane eq false`: "2", `medicalUntil lt "2027-02-01"`: "1", `medicalUntil eq "2027-01-31"`: "1", rule.OwnSchema + `:shift eq "B"`: "1 2",
		`department eq "Deck" and berth ge 100`: "4", `shift eq null and displayName sw "Hand 9"`: "9",
	} {
		page, err := l.People.List(ctx, ines, people.Query{Filter: expression, Limit: 50})
		var got []string
		for _, x := range page.Items {
			got = append(got, strings.TrimPrefix(x.Name, "Hand "))
		}
		slices.Sort(got)
		if err != nil || strings.Join(got, " ") != want {
			t.Errorf("%s: %v, %v; want %s", expression, got, err, want)
		}
		f, err := filter.People.With(own).Parse(expression)
		if err != nil {
			t.Fatal(err)
		}
		got = nil
		if err := l.Read().EachPersonFacts(func(facts store.PersonFacts) error {
			if f.Eval(rules.Subject(facts)) == rule.Match {
				got = append(got, strings.TrimPrefix(facts.Name, "Hand "))
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		slices.Sort(got)
		if strings.Join(got, " ") != want {
			t.Errorf("%s by the core: %v; want %s", expression, got, want)
		}
	}
	if kind, _ := kit.KindOf(t, kit.Last(l.People.List(ctx, petra, people.Query{Filter: `berth gt 7`, Limit: 5}))); kind != workspace.NotAllowed {
		t.Error("a colleague asks about what they don't see")
	}
	if page, err := l.People.List(ctx, petra, people.Query{Filter: `shift eq "b"`, Limit: 5}); err != nil || page.Total != 2 {
		t.Errorf("%+v, %v", page, err)
	}
	if e, err := l.Views.Complete(ctx, ines, "people", "ber", 3); err != nil || !slices.ContainsFunc(e.Choices, func(c api.RuleChoice) bool { return c.Text == "berth" && c.About == "Berth" }) {
		t.Errorf("%+v, %v", e, err)
	}

	// rules, and names
	g := l.Make(t, "Big Berths")
	if _, err := l.Rules.Set(ctx, ines, g.Address, api.NewRule{Expression: `berth ge 10`}, 0); err != nil {
		t.Fatal(err)
	}
	not := l.Make(t, "Without A Shift")
	if _, err := l.Rules.Set(ctx, ines, not.Address, api.NewRule{Expression: `not (shift pr)`}, 0); err != nil {
		t.Fatal(err)
	}
	in := func(g api.Group, who string) bool {
		t.Helper()
		m, err := l.Members(ines, g.Address, member.Query{Q: who, Limit: 5})
		if err != nil {
			t.Fatal(err)
		}
		return m.Total == 1
	}
	if !in(g, "hand 1") || in(g, "hand 2") || in(not, "hand 1") || !in(not, "hand 5") {
		t.Error("rules over attributes of one's own take in others")
	}
	if _, err := l.Directory.Change(ctx, ines, "hand-2@merrowline.example", api.PersonPatch{Attributes: map[string]string{"berth": "40"}}, 0); err != nil || !in(g, "hand 2") {
		t.Errorf("does not follow: %v", err)
	}
	if _, err := l.Directory.Create(ctx, ines, api.NewPersonEntry{Address: "new@merrowline.example", Name: "New Hand"}); err != nil || !in(not, "new hand") {
		t.Errorf("somebody new without a value is not taken in: %v", err)
	}
	l.SetNaming(t, api.Naming{Creators: "workspace", Pattern: "{name} [{shift}]"})
	if p, err := l.Naming.Propose(ctx, ines, naming.Proposing{Name: "Rota", As: "hand-1@merrowline.example"}); err != nil || p.Name != "Rota [B]" {
		t.Errorf("%+v, %v", p, err)
	}

	// deleting
	if kind, says := kit.KindOf(t, l.Attributes.Delete(ctx, ines, "berth", 0)); kind != workspace.Conflict || !strings.Contains(says, g.Address) {
		t.Errorf("used by a rule: %v %s", kind, says)
	}
	if kind, says := kit.KindOf(t, l.Attributes.Delete(ctx, ines, "medicalUntil", 1)); kind != workspace.Stale {
		t.Errorf("%v %s", kind, says)
	}
	if err := l.Rules.Delete(ctx, ines, not.Address, false, 0); err != nil {
		t.Fatal(err)
	}
	if kind, says := kit.KindOf(t, l.Attributes.Delete(ctx, ines, "shift", 0)); kind != workspace.Conflict || !strings.Contains(says, "pattern of names") {
		t.Errorf("used by the pattern: %v %s", kind, says)
	}
	l.SetNaming(t, api.Naming{Creators: "workspace"})
	if look := kit.Preview(t, ines, func(by workspace.Actor) error { return l.Attributes.Delete(ctx, by, "shift", 0) }); !strings.Contains(look.Says, "3 people have in it is lost") {
		t.Errorf("%+v", look)
	}
	if err := l.Attributes.Delete(ctx, ines, "shift", 0); err != nil {
		t.Fatal(err)
	}
	if d, err := l.People.Read(ctx, ines, "hand-1@merrowline.example"); err != nil || fmt.Sprint(d.Attributes["shift"]) != "" || d.Attributes["berth"] != "12" {
		t.Errorf("%+v, %v", d.Attributes, err)
	}
	if kind, _ := kit.KindOf(t, kit.Last(l.People.List(ctx, ines, people.Query{Filter: `shift pr`, Limit: 5}))); kind != workspace.Invalid {
		t.Error("a filter asks about what is no longer kept")
	}
}

// What colleagues don't see of each other is told by no name of a group, and a rule is read again when
// it is put in force.
func TestNamesDontTellWhatIsNotSeen(t *testing.T) {
	l, ines := k.Hands(t, "untold")
	if _, err := l.Attributes.Save(ctx, ines, "grade", api.NewAttribute{Kind: "number"}, 0); err != nil {
		t.Fatal(err)
	}
	rules := api.Naming{Creators: "workspace", Pattern: "{name} ({grade})", Words: []string{}, Beginnings: []string{}}
	for _, pattern := range []string{"{name} ({grade})", "{name} {employeeNumber}"} {
		rules.Pattern = pattern
		if kind, says := kit.KindOf(t, kit.Last(l.Naming.Set(ctx, ines, rules, 0))); kind != workspace.Invalid || !strings.Contains(says, "would tell it to everybody") {
			t.Errorf("%s: %v %s", pattern, kind, says)
		}
	}
	rules.Pattern = "{name} ({department})"
	if _, err := l.Naming.Set(ctx, ines, rules, 0); err != nil {
		t.Error(err)
	}
	if _, err := l.Attributes.Save(ctx, ines, "grade", api.NewAttribute{Seen: true}, 0); err != nil {
		t.Fatal(err)
	}
	rules.Pattern = "{name} ({grade})"
	if _, err := l.Naming.Set(ctx, ines, rules, 0); err != nil {
		t.Error(err)
	}
}
