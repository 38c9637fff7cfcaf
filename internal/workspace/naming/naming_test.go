package naming_test

import (
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/naming"
)

func TestAddressProposals(t *testing.T) {
	k.Make(t, "Harbour Watch")
	ines := k.Actor(t, kit.Administrator)
	for _, c := range [][4]string{
		{"Slip & Way Crew", "", "free", "slip-way-crew@merrowline.example"},
		{"Harbour Watch", "", "taken", "harbour-watch@merrowline.example"},
		{"", "harbour.watch", "alike", "harbour.watch@merrowline.example"},
		{"", "harbourwatch", "free", "harbourwatch@merrowline.example"},
		{"Abuse", "", "reserved", "abuse@merrowline.example"},
		{"夜", "", "invalid", ""},
	} {
		p, err := k.Naming.Propose(ctx, ines, naming.Proposing{Name: c[0], Address: c[1]})
		if err != nil || p.Status != c[2] || p.Address != c[3] || p.Says == "" {
			t.Errorf("%q %q: %+v, %v; want %s %s", c[0], c[1], p, err, c[2], c[3])
		}
	}
	p, _ := k.Naming.Propose(ctx, ines, naming.Proposing{Name: "", Address: "harbourwatch"})
	if len(p.Near) != 1 || p.Near[0].How != "resembling" || !strings.Contains(p.Says, "resembles") {
		t.Errorf("near harbourwatch: %+v", p)
	}
	if _, err := mailaddr.Parse(p.Address); err != nil {
		t.Error(err)
	}
}

// What stands in the way of an address is told to whoever can't find it as what can't be had at all: a hidden group, one that is like its
// address, its former address and that of one that was deleted say no more than a reserved one does.
func TestWhatIsHiddenIsNotAvailable(t *testing.T) {
	l := k.Fresh(t, "not_available")
	ines, oda := l.Actor(t, kit.Administrator), l.Actor(t, kit.Owner)
	hide := kit.Policy("find=members join.audience=nobody")
	l.Make(t, "Unfound", func(n *api.NewGroup) { n.PolicyPatch = hide; n.Aliases = []string{"unfound-alias"} })
	moved := l.Make(t, "Moved", func(n *api.NewGroup) { n.PolicyPatch = hide })
	shown := l.Make(t, "Shown")
	for _, g := range []api.Group{moved, shown} {
		to := "new-" + g.Address
		if _, err := l.Group.Change(ctx, ines, g.Address, api.GroupPatch{Address: &to}, 0); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := l.Directory.Change(ctx, ines, kit.Moderator, api.PersonPatch{Address: new("bram.again@merrowline.example")}, 0); err != nil {
		t.Fatal(err)
	}
	l.SetNaming(t, api.Naming{Creators: "workspace"})
	petra := l.Actor(t, kit.Colleague)
	var says string
	for _, local := range []string{"postmaster", "admin", "unfound", "unf0und", "unfound-alias", "moved", "new-moved", "bram.tolley"} {
		p, err := l.Naming.Propose(ctx, petra, naming.Proposing{Address: local})
		if says == "" {
			says = p.Says
		}
		if err != nil || p.Status != "unavailable" || p.Says != says || len(p.Near) > 0 {
			t.Errorf("%s: %+v, %v", local, p, err)
		}
		if a, err := l.Naming.Propose(ctx, ines, naming.Proposing{Address: local}); err != nil || a.Status == "unavailable" {
			t.Errorf("an administrator is told of %s: %+v, %v", local, a, err)
		}
	}
	if p, err := l.Naming.Propose(ctx, petra, naming.Proposing{Address: "new-shown"}); err != nil || p.Status != "taken" || len(p.Near) != 1 {
		t.Errorf("of a group that they can find: %+v, %v", p, err)
	}
	if p, err := l.Naming.Propose(ctx, oda, naming.Proposing{Address: "unfound"}); err != nil || p.Status != "taken" {
		t.Errorf("its owner: %+v, %v", p, err)
	}
}

func TestNamesAreRuledWhileTheyAreTyped(t *testing.T) {
	ines, petra := k.Actor(t, kit.Administrator), k.Actor(t, kit.Colleague)
	if _, err := k.Naming.Propose(ctx, petra, naming.Proposing{Name: "x"}); err == nil {
		t.Error("a colleague proposes a name although only administrators create")
	}
	k.SetNaming(t, api.Naming{Creators: "workspace", Pattern: "{name} ({department})", Words: []string{"payroll"}, Beginnings: []string{"All"}})
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
		p, err := k.Naming.Propose(ctx, c.as, naming.Proposing{Name: c.name, Address: c.address})
		if err != nil || p.Name != c.want || p.Address != c.at || p.Status != c.status || !strings.Contains(p.Says, c.say) {
			t.Errorf("%s: %+v, %v; want %q at %s, %s", c.name, p, err, c.want, c.at, c.status)
		}
	}
	if p, _ := k.Naming.Propose(ctx, ines, naming.Proposing{Name: "Payroll"}); len(p.Notes) != 2 || !strings.Contains(p.Notes[0], "does not bind you") {
		t.Errorf("an administrator is not told of the exemption: %+v", p.Notes)
	}
	if p, err := k.Naming.Propose(ctx, ines, naming.Proposing{Name: "Payroll", As: kit.Member}); err != nil || p.Status != "against" {
		t.Errorf("as somebody else: %+v, %v", p, err)
	}
	if _, err := k.Naming.Propose(ctx, petra, naming.Proposing{Name: "Payroll", As: kit.Member}); err == nil {
		t.Error("a colleague tries names as somebody else")
	}

	g, err := k.Group.Create(ctx, petra, api.NewGroup{Name: "Found Keys", Quiet: true})
	if err != nil || g.Name != "Found Keys (Dispatch)" || g.Address != "found-keys-dispatch@merrowline.example" || g.MyRole != "owner" {
		t.Errorf("made by a colleague: %+v, %v", g, err)
	}
	if kind, says := kit.KindOf(t, kit.Last(k.Group.Create(ctx, petra, api.NewGroup{Name: "Payroll"}))); kind != workspace.Invalid || !strings.Contains(says, "name: The word payroll is reserved") {
		t.Errorf("against a rule: %v %s", kind, says)
	}
	if kind, says := kit.KindOf(t, kit.Last(k.Group.Create(ctx, k.Actor(t, kit.Auditor), api.NewGroup{Name: "Audit"}))); kind != workspace.NotAllowed {
		t.Errorf("an auditor creates: %v %s", kind, says)
	}
	name := "The Payroll"
	if kind, _ := kit.KindOf(t, kit.Last(k.Group.Change(ctx, petra, g.Address, api.GroupPatch{Name: &name}, 0))); kind != workspace.Invalid {
		t.Error("a rename goes around the rules")
	}
	if now, err := k.Group.Change(ctx, ines, g.Address, api.GroupPatch{Name: &name}, 0); err != nil || now.Name != name || now.Address != g.Address {
		t.Errorf("renamed by an administrator: %+v, %v", now, err)
	}
}

func TestGroupsThatBreakANewRuleAreReported(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	k.Make(t, "Customs House Keys")
	e := kit.Preview(t, ines, func(by workspace.Actor) error {
		return kit.Last(k.Naming.Set(ctx, by, api.Naming{Creators: "administrators", Words: []string{"customs house"}}, 0))
	})
	if e.Total != 1 || e.Sample[0].Name != "Customs House Keys" || !strings.Contains(e.Says, "1 of 3 groups breaks") {
		t.Errorf("%+v", e)
	}
	for field, n := range map[string]api.Naming{"pattern": {Creators: "workspace", Pattern: "{shoe} {name}"}, "words": {Creators: "workspace", Words: []string{"-"}}, "creators": {Creators: "nobody"}} {
		if kind, says := kit.KindOf(t, kit.Last(k.Naming.Set(ctx, ines, n, 0))); kind != workspace.Invalid || !strings.Contains(says, field+": ") {
			t.Errorf("%s: %v %s", field, kind, says)
		}
	}
	n, _ := k.Naming.Read(ctx, ines)
	if _, err := k.Naming.Set(ctx, ines, n, n.Version); err != nil {
		t.Fatal(err)
	}
	if kind, _ := kit.KindOf(t, kit.Last(k.Naming.Set(ctx, ines, n, n.Version))); kind != workspace.Stale {
		t.Error("an old version was taken")
	}
}

func TestAddressesForEveryScript(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	for name, want := range map[string]string{"Größe & Maß": "grosse-mass", "Ærø Ångström": "aero-angstrom", "Ομάδα": "omada", "Команда моря": "komanda-morya", "Crème brûlée": "creme-brulee",
		"🚢 Ferry ⚓ Crew": "ferry-crew", "O’Hara's": "oharas", strings.Repeat("Harbour ", 25): strings.TrimSuffix(strings.Repeat("harbour-", 8), "-")} {
		p, err := k.Naming.Propose(ctx, ines, naming.Proposing{Name: name})
		if err != nil || p.Address != want+"@merrowline.example" || p.Status != "free" {
			t.Errorf("%s: %+v, %v; want %s", name, p, err, want)
		}
	}
	for name, says := range map[string]string{"社長室": "Type an address", "🚢": "no letter or digit", "شركة": "Type an address"} {
		if p, err := k.Naming.Propose(ctx, ines, naming.Proposing{Name: name}); err != nil || p.Status != "invalid" || p.Address != "" || !strings.Contains(p.Says, says) {
			t.Errorf("%s is guessed at: %+v, %v", name, p, err)
		}
	}
	g := k.Make(t, "Night Boats")
	for _, like := range []string{"NIGHT-BOATS", "night.boats", "night_b0ats"} {
		if p, _ := k.Naming.Propose(ctx, ines, naming.Proposing{Name: "x", Address: like}); p.Status != "taken" && p.Status != "alike" {
			t.Errorf("%s beside %s: %+v", like, g.Address, p)
		}
	}
	if p, _ := k.Naming.Propose(ctx, ines, naming.Proposing{Name: "x", Address: "nіght-boats"}); p.Status != "invalid" || !strings.Contains(p.Says, "only looks like") {
		t.Errorf("a look-alike letter: %+v", p)
	}
	k.Make(t, "Secret Boats", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("find=members join.audience=nobody")
	})
	k.SetNaming(t, api.Naming{Creators: "workspace"})
	if p, err := k.Naming.Propose(ctx, k.Actor(t, kit.Colleague), naming.Proposing{Name: "Secret Boats"}); err != nil || p.Status != "unavailable" || strings.Contains(p.Says, "Secret") || len(p.Near) != 0 {
		t.Errorf("a hidden group is told of: %+v, %v", p, err)
	}
}

func TestStartingPoints(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	all, err := k.Naming.StartingPoints(ctx, ines)
	if err != nil || len(all.Items) < 5 {
		t.Fatalf("%+v, %v", all, err)
	}
	for _, s := range all.Items[:5] {
		g := k.Make(t, "Begun from "+s.Name, func(n *api.NewGroup) { n.StartingPoint = s.Name })
		if !s.BuiltIn || g.Sentence != s.Sentence || !slices.Equal(g.Traits, s.Traits) {
			t.Errorf("%s: %q %v; want %q %v", s.Name, g.Sentence, g.Traits, s.Sentence, s.Traits)
		}
	}
	g := k.Make(t, "Begun otherwise", func(n *api.NewGroup) {
		n.StartingPoint, n.PolicyPatch, n.Traits = "confidential", kit.Policy("post=anyone"), []string{"calendar"}
	})
	if g.Policy.Find != "members" || g.Policy.Post != "anyone" || !slices.Equal(g.Traits, []string{"calendar"}) {
		t.Errorf("what is chosen does not go before the starting point: %+v", g)
	}
	s, err := k.Naming.SaveStartingPoint(ctx, ines, "like-that", api.NewStartingPoint{Title: "Like that", From: g.Address}, 0)
	if err != nil || s.Sentence != g.Sentence || s.BuiltIn {
		t.Errorf("from a group: %+v, %v", s, err)
	}
	if h := k.Make(t, "Begun from a group", func(n *api.NewGroup) { n.StartingPoint = "like-that" }); h.Sentence != g.Sentence || !slices.Equal(h.Traits, g.Traits) {
		t.Errorf("made like it: %+v", h)
	}
	if err := k.Naming.DeleteStartingPoint(ctx, ines, "like-that", 0); err != nil {
		t.Error(err)
	}
	for name, n := range map[string]api.NewStartingPoint{"team-room": {}, "Not So": {}, "fine": {Traits: []string{"juggling"}}, "fine-too": {Policy: api.PolicyPatch{Privacy: "secret"}}} {
		if kind, says := kit.KindOf(t, kit.Last(k.Naming.SaveStartingPoint(ctx, ines, name, n, 0))); kind != workspace.Invalid {
			t.Errorf("%s: %v %s", name, kind, says)
		}
	}
	if kind, says := kit.KindOf(t, kit.Last(k.Group.Create(ctx, ines, api.NewGroup{Name: "From nothing", StartingPoint: "like-that", Owners: []string{kit.Owner}}))); kind != workspace.Invalid || !strings.Contains(says, "choose team-room") {
		t.Errorf("%v %s", kind, says)
	}
}

// What is not said of a starting point that is saved stays as it is.
func TestSavingOneFieldKeepsTheRest(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	first, err := k.Naming.SaveStartingPoint(ctx, ines, "kept-whole", api.NewStartingPoint{Title: "Kept whole", About: new("For trials"), Policy: kit.Policy("post=anyone hold=everyone"), Traits: []string{"desk"}, Delivery: "none", Welcome: new("Hello")}, 0)
	if err != nil {
		t.Fatal(err)
	}
	again, err := k.Naming.SaveStartingPoint(ctx, ines, "kept-whole", api.NewStartingPoint{Title: "Another title", Policy: kit.Policy("hold=outsiders")}, first.Version)
	if err != nil || again.Title != "Another title" || again.About != "For trials" || !slices.Equal(again.Traits, []string{"desk"}) || again.Delivery != "none" || again.Welcome != "Hello" {
		t.Errorf("%+v, %v", again, err)
	}
	if again.Policy.Policy == nil || again.Policy.Policy.Post != "anyone" || again.Policy.Hold != "outsiders" {
		t.Errorf("its policy is %+v", again.Policy)
	}
	if last, err := k.Naming.SaveStartingPoint(ctx, ines, "kept-whole", api.NewStartingPoint{About: new(""), Traits: []string{}}, 0); err != nil || last.About != "" || len(last.Traits) != 0 || last.Title != "Another title" {
		t.Errorf("%+v, %v", last, err)
	}
}
