package directory_test

import (
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/external"
	"ivytable.example/ivytable/internal/workspace/member"
)

// person makes somebody with a manager.
func person(t *testing.T, name, manager string) string {
	t.Helper()
	n := api.NewPersonEntry{Address: strings.ToLower(strings.ReplaceAll(name, " ", ".")) + "@" + kit.Domain, Name: name}
	if manager != "" {
		n.Attributes = map[string]string{"manager": manager}
	}
	return kit.First(k.Directory.Create(ctx, k.Actor(t, kit.Administrator), n)).Address
}

func ownersOf(t *testing.T, ref string) string {
	t.Helper()
	var out []string
	for _, o := range kit.First(k.Group.Read(ctx, k.Actor(t, kit.Administrator), ref)).Owners {
		if !o.Departed {
			out = append(out, o.Name)
		}
	}
	return strings.Join(out, ", ")
}

// What somebody leaves behind goes to whom the rules name, and comes back when they return, where nobody decided otherwise.
func TestWhatSomebodyLeavesBehind(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	rules := func(owned, vouched []string) {
		t.Helper()
		if _, err := k.Directory.SetDepartures(ctx, ines, api.DepartureRules{Owned: owned, Vouched: vouched}, 0); err != nil {
			t.Fatal(err)
		}
	}
	rules([]string{"manager", "moderator", "caretaker"}, []string{"manager", "owner"})
	defer rules(nil, nil)
	boss := person(t, "Ada Boss", "")
	leaver := person(t, "Lee Leaver", boss)
	group := func(name string, change ...func(*api.NewGroup)) string {
		return k.Make(t, name, append([]func(*api.NewGroup){func(n *api.NewGroup) {
			n.Owners, n.PolicyPatch = []string{leaver}, kit.Policy("externals=owners")
		}}, change...)...).Address
	}
	// of the first two the manager is a member already, which is what they are again afterwards
	in := func(n *api.NewGroup) { n.People = append(n.People, api.NewPerson{Address: boss}) }
	alone, second, shared, kept := group("Left Alone", in), group("Left Second", in), group("Left Shared", func(n *api.NewGroup) { n.Owners = append(n.Owners, kit.Owner) }), group("Left Kept")
	// the manager may not be in this one: it goes to the next whom the rules name
	barred := group("Left Barred")
	if err := k.Rules.SetOverride(ctx, ines, barred, boss, api.NewOverride{Override: "barred"}, 0); err != nil {
		t.Fatal(err)
	}
	n := api.NewMembers{People: []api.NewPerson{{Address: "pilot@port.example"}}}
	n.Voucher = leaver
	if _, err := k.Member.Add(ctx, ines, alone, n, 0); err != nil {
		t.Fatal(err)
	}
	k.Letters(t)
	p := kit.Preview(t, ines, func(by workspace.Actor) error {
		return kit.Last(k.Directory.Depart(ctx, by, leaver, api.Departure{}, 0))
	})
	if !strings.Contains(p.Says, "By the rules 4 that nobody else owns go to others.") {
		t.Errorf("%q", p.Says)
	}
	if _, err := k.Directory.Depart(ctx, ines, leaver, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	for ref, want := range map[string]string{alone: "Ada Boss", second: "Ada Boss", kept: "Ada Boss", shared: "Oda Fenn", barred: "Bram Tolley"} {
		if got := ownersOf(t, ref); got != want {
			t.Errorf("%s is owned by %q", ref, got)
		}
	}
	voucher := func() string {
		all := kit.First(k.External.List(ctx, ines, external.Query{Group: alone, Limit: 5})).Items
		if len(all) != 1 || all[0].Voucher == nil {
			t.Fatalf("%+v", all)
		}
		return all[0].Voucher.Name
	}
	if voucher() != "Ada Boss" {
		t.Errorf("%s vouches", voucher())
	}
	told := 0
	for _, l := range k.Letters(t) {
		for _, to := range l.To {
			if to == boss {
				told++
			}
		}
	}
	if told != 2 { // one about the groups, one about the external member
		t.Errorf("the manager got %d letters", told)
	}
	entry := kit.First(k.History.List(ctx, ines, "", "", "", 20)).Items
	if i := indexOf(entry, "person.depart"); i < 0 || !strings.Contains(entry[i].Says, "by the rules Ada Boss owns Left") {
		t.Errorf("%+v", entry)
	}
	// somebody decides otherwise about one of them
	if _, err := k.Member.Add(ctx, ines, kept, api.NewMembers{People: []api.NewPerson{{Address: kit.Colleague, Role: "owner"}}}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Member.Change(ctx, ines, kept, api.MembersPatch{Members: []string{boss}, Role: "moderator"}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Member.Change(ctx, ines, kept, api.MembersPatch{Members: []string{boss}, Role: "owner"}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Directory.Return(ctx, ines, leaver, 0); err != nil {
		t.Fatal(err)
	}
	for ref, want := range map[string]string{alone: "Lee Leaver", second: "Lee Leaver", shared: "Lee Leaver, Oda Fenn", kept: "Lee Leaver, Ada Boss, Petra Vane"} {
		got := strings.Split(ownersOf(t, ref), ", ")
		if len(got) != len(strings.Split(want, ", ")) {
			t.Errorf("%s is owned by %q, want %q", ref, got, want)
		}
		for _, x := range got {
			if !strings.Contains(want, x) {
				t.Errorf("%s is owned by %q, want %q", ref, got, want)
			}
		}
	}
	if m := kit.First(k.Members(ines, alone, member.Query{Limit: 20})).Items; !slices.ContainsFunc(m, func(m api.Member) bool { return m.Address == boss && m.Role == "member" }) {
		t.Errorf("the manager is no member: %+v", m)
	}
	if voucher() != "Lee Leaver" {
		t.Errorf("%s vouches", voucher())
	}
}

func indexOf(all []api.HistoryEntry, kind string) int {
	for i, e := range all {
		if e.Kind == kind {
			return i
		}
	}
	return -1
}

// A sync departs people by the same rules, and returns them.
func TestASyncHandsOver(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	if _, err := k.Directory.SetDepartures(ctx, ines, api.DepartureRules{Owned: []string{"manager", "moderator", "caretaker"}}, 0); err != nil {
		t.Fatal(err)
	}
	defer k.Directory.SetDepartures(ctx, ines, api.DepartureRules{}, 0)
	boss := person(t, "Sy Boss", "")
	one, two := person(t, "Sy One", boss), person(t, "Sy Two", "")
	first := k.Make(t, "Synced One", func(n *api.NewGroup) { n.Owners, n.People = []string{one}, nil }).Address
	second := k.Make(t, "Synced Two", func(n *api.NewGroup) { n.Owners = []string{two} }).Address
	all := func(but ...string) string {
		lines := "address,name\n"
		people, err := k.Read().PeopleHere(store.Cursor{}, 1000)
		if err != nil {
			t.Fatal(err)
		}
		for _, p := range people {
			if !strings.Contains(strings.Join(but, " "), p.Address) {
				lines += p.Address + "," + p.Name + "\n"
			}
		}
		return lines
	}
	before := all()
	if _, err := k.Directory.Import(ctx, ines, api.Import{Text: all(one, two), Sync: true, Force: true}); err != nil {
		t.Fatal(err)
	}
	if got := ownersOf(t, first); got != "Sy Boss" {
		t.Errorf("the first is owned by %q", got)
	}
	if got := ownersOf(t, second); got != "Bram Tolley" { // its moderator
		t.Errorf("the second is owned by %q", got)
	}
	if _, err := k.Directory.Import(ctx, ines, api.Import{Text: before, Sync: true, Force: true}); err != nil {
		t.Fatal(err)
	}
	if got := ownersOf(t, first); got != "Sy One" {
		t.Errorf("back, the first is owned by %q", got)
	}
	if got := ownersOf(t, second); got != "Sy Two" {
		t.Errorf("back, the second is owned by %q", got)
	}
}
