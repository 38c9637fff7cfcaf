package workspace_test

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

// rule sets rules of naming for the length of a test.
func rule(t *testing.T, n api.Naming) {
	t.Helper()
	ines := k.Actor(t, kit.Administrator)
	if _, err := k.W.SetNaming(ctx, ines, n, 0); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if _, err := k.W.SetNaming(ctx, ines, api.Naming{Creators: "administrators"}, 0); err != nil {
			t.Error(err)
		}
	})
}

func TestNamesAreRuledWhileTheyAreTyped(t *testing.T) {
	ines, petra := k.Actor(t, kit.Administrator), k.Actor(t, kit.Colleague)
	if _, err := k.W.Propose(ctx, petra, workspace.Proposing{Name: "x"}); err == nil {
		t.Error("a colleague proposes a name although only administrators create")
	}
	rule(t, api.Naming{Creators: "workspace", Suffix: " ({department})", Words: []string{"payroll"}, Beginnings: []string{"All"}})
	for _, c := range []struct {
		as                    workspace.Actor
		name, address         string
		want, at, status, say string
	}{
		{petra, "Lost Keys", "", "Lost Keys (Dispatch)", "lost-keys-dispatch@merrowline.example", "free", ""},
		{petra, "Lost Keys", "keys", "Lost Keys (Dispatch)", "keys-dispatch@merrowline.example", "free", ""},
		{petra, "Night PAYROLL", "", "Night PAYROLL (Dispatch)", "night-payroll-dispatch@merrowline.example", "against", "payroll is reserved"},
		{petra, "All Hands", "", "All Hands (Dispatch)", "all-hands-dispatch@merrowline.example", "against", "official groups"},
		{petra, "Payrolls", "", "Payrolls (Dispatch)", "payrolls-dispatch@merrowline.example", "free", ""},
		{ines, "Night Payroll", "", "Night Payroll", "night-payroll@merrowline.example", "free", ""},
	} {
		p, err := k.W.Propose(ctx, c.as, workspace.Proposing{Name: c.name, Address: c.address})
		if err != nil || p.Name != c.want || p.Address != c.at || p.Status != c.status || !strings.Contains(p.Says, c.say) {
			t.Errorf("%s: %+v, %v; want %q at %s, %s", c.name, p, err, c.want, c.at, c.status)
		}
	}
	if p, _ := k.W.Propose(ctx, ines, workspace.Proposing{Name: "Payroll"}); len(p.Notes) != 2 || !strings.Contains(p.Notes[0], "does not bind you") {
		t.Errorf("an administrator is not told of the exemption: %+v", p.Notes)
	}
	if p, err := k.W.Propose(ctx, ines, workspace.Proposing{Name: "Payroll", As: kit.Member}); err != nil || p.Status != "against" {
		t.Errorf("as somebody else: %+v, %v", p, err)
	}
	if _, err := k.W.Propose(ctx, petra, workspace.Proposing{Name: "Payroll", As: kit.Member}); err == nil {
		t.Error("a colleague tries names as somebody else")
	}

	g, err := k.W.CreateGroup(ctx, petra, api.NewGroup{Name: "Found Keys", Quiet: true}, "")
	if err != nil || g.Name != "Found Keys (Dispatch)" || g.Address != "found-keys-dispatch@merrowline.example" || g.MyRole != "owner" {
		t.Errorf("made by a colleague: %+v, %v", g, err)
	}
	if kind, says := kindOf(t, last(k.W.CreateGroup(ctx, petra, api.NewGroup{Name: "Payroll"}, ""))); kind != workspace.Invalid || !strings.Contains(says, "name: The word payroll is reserved") {
		t.Errorf("against a rule: %v %s", kind, says)
	}
	if kind, says := kindOf(t, last(k.W.CreateGroup(ctx, k.Actor(t, kit.Auditor), api.NewGroup{Name: "Audit"}, ""))); kind != workspace.NotAllowed {
		t.Errorf("an auditor creates: %v %s", kind, says)
	}
	name := "The Payroll"
	if kind, _ := kindOf(t, last(k.W.ChangeGroup(ctx, petra, g.Address, api.GroupPatch{Name: &name}, 0))); kind != workspace.Invalid {
		t.Error("a rename goes around the rules")
	}
	if now, err := k.W.ChangeGroup(ctx, ines, g.Address, api.GroupPatch{Name: &name}, 0); err != nil || now.Name != name || now.Address != g.Address {
		t.Errorf("renamed by an administrator: %+v, %v", now, err)
	}
}

func TestGroupsThatBreakANewRuleAreReported(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	k.Group(t, "Customs House Keys")
	e, err := k.W.NamingEffect(ctx, ines, api.Naming{Creators: "administrators", Words: []string{"customs house"}})
	if err != nil || e.Broken != 1 || e.Sample[0].Name != "Customs House Keys" || !strings.Contains(e.Says, "1 of the") {
		t.Errorf("%+v, %v", e, err)
	}
	for field, n := range map[string]api.Naming{"prefix": {Creators: "workspace", Prefix: "{shoe} "}, "words": {Creators: "workspace", Words: []string{"-"}}, "creators": {Creators: "nobody"}} {
		if kind, says := kindOf(t, last(k.W.SetNaming(ctx, ines, n, 0))); kind != workspace.Invalid || !strings.Contains(says, field+": ") {
			t.Errorf("%s: %v %s", field, kind, says)
		}
	}
	n, _ := k.W.Naming(ctx, ines)
	if _, err := k.W.SetNaming(ctx, ines, n, n.Version); err != nil {
		t.Fatal(err)
	}
	if kind, _ := kindOf(t, last(k.W.SetNaming(ctx, ines, n, n.Version))); kind != workspace.Stale {
		t.Error("an old version was taken")
	}
}

func TestAddressesForEveryScript(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	for name, want := range map[string]string{"Größe & Maß": "grosse-mass", "Ærø Ångström": "aero-angstrom", "Ομάδα": "omada", "Команда моря": "komanda-morya", "Crème brûlée": "creme-brulee",
		"🚢 Ferry ⚓ Crew": "ferry-crew", "O’Hara's": "oharas", strings.Repeat("Harbour ", 25): strings.TrimSuffix(strings.Repeat("harbour-", 8), "-")} {
		p, err := k.W.Propose(ctx, ines, workspace.Proposing{Name: name})
		if err != nil || p.Address != want+"@merrowline.example" || p.Status != "free" {
			t.Errorf("%s: %+v, %v; want %s", name, p, err, want)
		}
	}
	for name, says := range map[string]string{"社長室": "Type an address", "🚢": "no letter or digit", "شركة": "Type an address"} {
		if p, err := k.W.Propose(ctx, ines, workspace.Proposing{Name: name}); err != nil || p.Status != "invalid" || p.Address != "" || !strings.Contains(p.Says, says) {
			t.Errorf("%s is guessed at: %+v, %v", name, p, err)
		}
	}
	g := k.Group(t, "Night Boats")
	for _, like := range []string{"NIGHT-BOATS", "night.boats", "night_b0ats"} {
		if p, _ := k.W.Propose(ctx, ines, workspace.Proposing{Name: "x", Address: like}); p.Status != "taken" && p.Status != "alike" {
			t.Errorf("%s beside %s: %+v", like, g.Address, p)
		}
	}
	if p, _ := k.W.Propose(ctx, ines, workspace.Proposing{Name: "x", Address: "nіght-boats"}); p.Status != "invalid" || !strings.Contains(p.Says, "only looks like") {
		t.Errorf("a look-alike letter: %+v", p)
	}
	k.Group(t, "Secret Boats", func(n *api.NewGroup) {
		n.Policy, n.Join = map[string]string{"find": "members"}, &api.JoinPatch{Audience: "nobody"}
	})
	rule(t, api.Naming{Creators: "workspace"})
	if p, err := k.W.Propose(ctx, k.Actor(t, kit.Colleague), workspace.Proposing{Name: "Secret Boats"}); err != nil || p.Status != "taken" || strings.Contains(p.Says, "Secret") || len(p.Near) != 0 {
		t.Errorf("a hidden group is told of: %+v, %v", p, err)
	}
}

func TestLookAlikesAreShownBeforeASecondOneIsMade(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	made := k.Group(t, "Pontoon Repairs", func(n *api.NewGroup) { n.People = append(n.People, api.NewPerson{Address: kit.Colleague}) })
	hidden := k.Group(t, "Pontoon Repair Money", func(n *api.NewGroup) {
		n.Policy, n.Join = map[string]string{"find": "owners", "see_people": "owners", "read": "owners"}, &api.JoinPatch{Audience: "nobody"}
	})
	for _, c := range []struct {
		q   api.LookAlikeRequest
		why string
	}{
		{api.LookAlikeRequest{Name: "The Pontoon Repair"}, "name"},
		{api.LookAlikeRequest{Name: "PОNTООN repair"}, "name"}, // with Cyrillic О
		{api.LookAlikeRequest{Name: "Something else", Address: "pontoon.repairs@merrowline.example"}, "address"},
		{api.LookAlikeRequest{Name: "Something else", People: []string{kit.Owner, kit.Moderator, kit.Member, kit.Colleague}}, "people"},
	} {
		found, err := k.W.LookAlikes(ctx, ines, c.q)
		i := slices.IndexFunc(found, func(x api.LookAlike) bool { return x.Address == made.Address })
		if err != nil || i < 0 || !slices.Contains(found[i].Why, c.why) || found[i].Says == "" || len(found[i].Owners) != 1 {
			t.Errorf("%+v: %+v, %v", c.q, found, err)
		}
	}
	if found, _ := k.W.LookAlikes(ctx, ines, api.LookAlikeRequest{Name: "Quarterly Budget"}); len(found) != 0 {
		t.Errorf("like everything: %+v", found)
	}
	rule(t, api.Naming{Creators: "workspace"})
	found, err := k.W.LookAlikes(ctx, k.Actor(t, kit.Colleague), api.LookAlikeRequest{Name: "Pontoon Repair Money"})
	if err != nil || slices.ContainsFunc(found, func(x api.LookAlike) bool { return x.Address == hidden.Address }) {
		t.Errorf("a hidden group is told of: %+v, %v", found, err)
	}
}

func TestStartingPoints(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	all, err := k.W.StartingPoints(ctx, ines)
	if err != nil || len(all) < 5 {
		t.Fatalf("%+v, %v", all, err)
	}
	for _, s := range all[:5] {
		g := k.Group(t, "Begun from "+s.Name, func(n *api.NewGroup) { n.StartingPoint = s.Name })
		if !s.BuiltIn || g.Sentence != s.Sentence || !slices.Equal(g.Traits, s.Traits) {
			t.Errorf("%s: %q %v; want %q %v", s.Name, g.Sentence, g.Traits, s.Sentence, s.Traits)
		}
	}
	g := k.Group(t, "Begun otherwise", func(n *api.NewGroup) {
		n.StartingPoint, n.Policy, n.Traits = "confidential", map[string]string{"post": "anyone"}, []string{"calendar"}
	})
	if g.Policy.Find != "members" || g.Policy.Post != "anyone" || !slices.Equal(g.Traits, []string{"calendar"}) {
		t.Errorf("what is chosen does not go before the starting point: %+v", g)
	}
	s, err := k.W.SaveStartingPoint(ctx, ines, "like-that", api.NewStartingPoint{Title: "Like that", From: g.Address})
	if err != nil || s.Sentence != g.Sentence || s.BuiltIn {
		t.Errorf("from a group: %+v, %v", s, err)
	}
	if h := k.Group(t, "Begun from a group", func(n *api.NewGroup) { n.StartingPoint = "like-that" }); h.Sentence != g.Sentence || !slices.Equal(h.Traits, g.Traits) {
		t.Errorf("made like it: %+v", h)
	}
	if err := k.W.DeleteStartingPoint(ctx, ines, "like-that"); err != nil {
		t.Error(err)
	}
	for name, n := range map[string]api.NewStartingPoint{"team-room": {}, "Not So": {}, "fine": {Traits: []string{"juggling"}}, "fine-too": {Policy: api.PolicyPatch{Privacy: "secret"}}} {
		if kind, says := kindOf(t, last(k.W.SaveStartingPoint(ctx, ines, name, n))); kind != workspace.Invalid {
			t.Errorf("%s: %v %s", name, kind, says)
		}
	}
	if kind, says := kindOf(t, last(k.W.CreateGroup(ctx, ines, api.NewGroup{Name: "From nothing", StartingPoint: "like-that", Owners: []string{kit.Owner}}, ""))); kind != workspace.Invalid || !strings.Contains(says, "choose team-room") {
		t.Errorf("%v %s", kind, says)
	}
}

func TestMovingAnAddressKeepsTheOldOne(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := k.Group(t, "Old Quay", func(n *api.NewGroup) { n.Aliases = []string{"the-quay"} })
	if !slices.Equal(g.Aliases, []string{"the-quay@merrowline.example"}) {
		t.Fatalf("aliases: %v", g.Aliases)
	}
	name, address := "New Quay", "new-quay@crew.merrowline.example"
	if g, _ = k.W.ChangeGroup(ctx, ines, g.ID, api.GroupPatch{Name: &name}, 0); g.Address != "old-quay@merrowline.example" {
		t.Errorf("a new name moved it to %s", g.Address)
	}
	g, err := k.W.ChangeGroup(ctx, ines, g.ID, api.GroupPatch{Address: &address}, g.Version)
	if err != nil || g.Address != address || !slices.Equal(g.Aliases, []string{"old-quay@merrowline.example", "the-quay@merrowline.example"}) {
		t.Fatalf("moved: %+v, %v", g, err)
	}
	for _, ref := range append(g.Aliases, g.Address) {
		if to, err := k.W.Target(ctx, kit.Address(t, ref)); err != nil || to.Group.ID.String() != g.ID {
			t.Errorf("mail to %s: %+v, %v", ref, to.Group.Address, err)
		}
		if err := post(t, ref, kit.Member, true, "to "+ref); err != nil {
			t.Errorf("mail to %s: %v", ref, err)
		}
	}
	for _, words := range []string{"new quay", "old quay", "the quay"} {
		if p, err := k.W.Groups(ctx, ines, workspace.GroupList{Q: words, Limit: 5}); err != nil || p.Total != 1 {
			t.Errorf("search for %q finds %d, %v", words, p.Total, err)
		}
	}
	if kind, _ := kindOf(t, last(k.W.CreateGroup(ctx, ines, api.NewGroup{Name: "Another", Address: "old-quay@merrowline.example", Owners: []string{kit.Owner}}, ""))); kind != workspace.Conflict {
		t.Error("somebody took the old address")
	}
	own := []string{"new.quay@crew.merrowline.example"}
	if g, err = k.W.ChangeGroup(ctx, ines, g.ID, api.GroupPatch{Aliases: &own}, 0); err != nil || !slices.Equal(g.Aliases, own) {
		t.Errorf("a typing mistake of its own: %+v, %v", g.Aliases, err)
	}
	bad := []string{kit.Owner, "postmaster", "x@elsewhere.example"}
	if kind, says := kindOf(t, last(k.W.ChangeGroup(ctx, ines, g.ID, api.GroupPatch{Aliases: &bad}, 0))); kind != workspace.Invalid || strings.Count(says, "aliases[") != 3 {
		t.Errorf("%v %s", kind, says)
	}
	k.Queued(t)
}

func TestTwoMoveToTheSameAddress(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	a, b := k.Group(t, "Mover A"), k.Group(t, "Mover B")
	address := "the-same-place@merrowline.example"
	errs := make([]error, 2)
	var all sync.WaitGroup
	for i, g := range []api.Group{a, b} {
		all.Go(func() { _, errs[i] = k.W.ChangeGroup(ctx, ines, g.ID, api.GroupPatch{Address: &address}, 0) })
	}
	all.Wait()
	if (errs[0] == nil) == (errs[1] == nil) {
		t.Fatalf("%v; %v", errs[0], errs[1])
	}
	for _, err := range errs {
		if err == nil {
			continue
		}
		if _, says := kindOf(t, err); !strings.Contains(says, "belongs to the group Mover") {
			t.Errorf("the loser is told %s", says)
		}
	}
}

func TestTraitsWelcomeAndDelivery(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	k.Queued(t)
	g := k.Group(t, "Traits", func(n *api.NewGroup) {
		n.Quiet, n.Traits, n.Welcome, n.Delivery, n.Description = false, []string{"archive", "desk"}, "Bring your own cup.", "none", "For those who drink tea"
	})
	if !slices.Equal(g.Traits, []string{"archive", "desk"}) || g.Delivery != "none" {
		t.Errorf("%+v", g)
	}
	m, err := k.W.Members(ctx, ines, g.Address, workspace.MemberList{Limit: 10})
	if err != nil || m.Items[0].Delivery != "none" {
		t.Errorf("%+v, %v", m, err)
	}
	letters := k.Letters(t)
	if len(letters) != 1 || letters[0].Subject != "You are now in Traits" || len(letters[0].To) != 3 {
		t.Fatalf("%+v", letters)
	}
	for _, part := range []string{"Ines Skerry put you into", "For those who drink tea", "Bring your own cup.", "no messages, until you ask", "traits-owners@merrowline.example", "http://console.example/groups/traits@"} {
		if !strings.Contains(letters[0].Text, part) {
			t.Errorf("those who were added are not told %q:\n%s", part, letters[0].Text)
		}
	}
	if strings.Contains(letters[0].Text, kit.Member) {
		t.Error("those who were added are told of each other")
	}
	none := []string{}
	each := "each"
	if g, err = k.W.ChangeGroup(ctx, ines, g.Address, api.GroupPatch{Traits: &none, Delivery: &each}, 0); err != nil || len(g.Traits) != 0 || g.Delivery != "each" {
		t.Errorf("switched off: %+v, %v", g, err)
	}
	wrong := []string{"archive", "juggling"}
	if kind, says := kindOf(t, last(k.W.ChangeGroup(ctx, ines, g.Address, api.GroupPatch{Traits: &wrong}, 0))); kind != workspace.Invalid || !strings.Contains(says, "juggling") {
		t.Errorf("%v %s", kind, says)
	}
}

var braces = regexp.MustCompile(`\{[a-z]+\}`)

func TestNoticesInEveryLanguage(t *testing.T) {
	filled := func(w workspace.Wording) []string {
		texts := append(slices.Clone(w.Paragraphs), w.Subject, w.Link, w.Why)
		set := map[string]bool{}
		for _, x := range texts {
			for _, b := range braces.FindAllString(x, -1) {
				set[b] = true
			}
		}
		return slices.Sorted(maps.Keys(set))
	}
	all := workspace.Letters()
	for kind, english := range all["en"] {
		for tag, letters := range all {
			w, ok := letters[kind]
			if !ok || w.Subject == "" || w.Why == "" || (w.Link == "") != (english.Link == "") || len(w.Paragraphs) != len(english.Paragraphs) {
				t.Errorf("%s in %s: %+v", kind, tag, w)
			}
			if got, want := fmt.Sprint(filled(w)), fmt.Sprint(filled(english)); got != want {
				t.Errorf("%s in %s fills in %s; in English %s", kind, tag, got, want)
			}
			if tag != "en" && slices.Equal(w.Paragraphs, english.Paragraphs) {
				t.Errorf("%s in %s is not translated", kind, tag)
			}
		}
	}
	k.Queued(t)
	k.Group(t, "Hafenmeister", func(n *api.NewGroup) { n.Quiet, n.Language = false, "de" })
	letters := k.Letters(t)
	if len(letters) != 1 || letters[0].Subject != "Sie sind jetzt in Hafenmeister" || !strings.Contains(letters[0].Text, "Content-Language: de") || !strings.Contains(letters[0].Text, "<html lang=\"de\">") || !strings.Contains(letters[0].Text, "jede Nachricht") {
		t.Errorf("%+v", letters)
	}
}
