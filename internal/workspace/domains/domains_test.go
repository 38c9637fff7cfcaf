package domains_test

import (
	"errors"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

func TestDomains(t *testing.T) {
	l := k.Fresh(t, "list")
	ines := l.Actor(t, kit.Administrator)
	const islands = "islands.merrowline.example"
	for name, says := range map[string]string{"islands": "only one part", "a b.example": "can't stand", "MERROWLINE.example.": "already"} {
		if _, got := kit.KindOf(t, kit.Last(l.Domains.Add(ctx, ines, api.NewDomain{Name: name}))); !strings.Contains(got, says) {
			t.Errorf("%s: %s", name, got)
		}
	}
	l.Make(t, "Pilots", func(n *api.NewGroup) {
		n.Externals, n.People = "owners", []api.NewPerson{{Address: "pilot@islands.merrowline.example"}}
	})
	if kind, says := kit.KindOf(t, kit.Last(l.Domains.Add(ctx, ines, api.NewDomain{Name: islands}))); kind != workspace.Conflict || !strings.Contains(says, "external members") {
		t.Errorf("with outsiders in it: %v %s", kind, says)
	}
	if err := l.Member.Remove(ctx, ines, "pilots", "pilot@"+islands, 0); err != nil {
		t.Fatal(err)
	}
	const coast = "coast.merrowline.example"
	add := func(by workspace.Actor) error {
		return kit.Last(l.Domains.Add(ctx, by, api.NewDomain{Name: "Coast.merrowline.EXAMPLE"}))
	}
	if look := kit.Preview(t, ines, add); !strings.Contains(look.Says, coast) {
		t.Errorf("%+v", look)
	}
	if err := add(kit.Keyed(ines, "once")); err != nil {
		t.Fatal(err)
	}
	if err := add(kit.Keyed(ines, "once")); err != nil {
		t.Errorf("repeated with its key: %v", err)
	}
	if err := l.Send(t, "quay@"+coast, kit.Colleague, true, "x"); err == nil {
		t.Error("mail to nobody was taken")
	}
	g := l.Make(t, "Quay", func(n *api.NewGroup) { n.Address = "quay@" + coast })
	p, err := l.Directory.Create(ctx, ines, api.NewPersonEntry{Address: "liv@" + coast, Name: "Liv Strand"})
	if err != nil {
		t.Fatal(err)
	}
	all, err := l.Domains.List(ctx, ines)
	if err != nil || len(all.Items) != 3 || !all.Items[0].Main || all.Items[2].Groups != 1 || all.Items[2].People != 1 {
		t.Fatalf("%+v, %v", all, err)
	}
	retire := func() string {
		_, says := kit.KindOf(t, l.Domains.Retire(ctx, ines, coast, 0))
		return says
	}
	if says := retire(); !strings.Contains(says, "1 group, 0 aliases, 1 person and 0 addresses of before lie in it, such as quay@"+coast) {
		t.Errorf("%s", says)
	}
	// the main one
	if kind, says := kit.KindOf(t, kit.Last(l.Domains.Lead(ctx, ines, coast, all.Items[0].Version+7))); kind != workspace.Stale {
		t.Errorf("%v %s", kind, says)
	}
	if d, err := l.Domains.Lead(ctx, ines, coast, all.Items[0].Version); err != nil || !d.Main {
		t.Fatalf("%+v, %v", d, err)
	}
	if found, err := l.Group.Read(ctx, ines, "quay"); err != nil || found.ID != g.ID {
		t.Errorf("by its local part: %+v, %v", found, err)
	}
	if says := retire(); !strings.Contains(says, "is the main domain") {
		t.Error(says)
	}
	if _, err := l.Domains.Lead(ctx, ines, kit.Domain, 0); err != nil {
		t.Fatal(err)
	}
	// emptied and retired
	to, away := "quay@"+kit.Domain, "liv@"+kit.Domain
	none := []string{}
	if _, err := l.Group.Change(ctx, ines, g.Address, api.GroupPatch{Address: &to}, 0); err != nil {
		t.Fatal(err)
	}
	if says := retire(); !strings.Contains(says, "1 alias,") {
		t.Error(says)
	}
	if _, err := l.Group.Change(ctx, ines, to, api.GroupPatch{Aliases: &none}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Directory.Change(ctx, ines, p.ID, api.PersonPatch{Address: &away, Former: &none}, 0); err != nil {
		t.Fatal(err)
	}
	if err := l.Domains.Retire(ctx, ines, coast, 0); err != nil {
		t.Fatal(err)
	}
	if kind, _ := kit.KindOf(t, kit.Last(l.Group.Create(ctx, ines, api.NewGroup{Name: "Late", Address: "late@" + coast, Owners: []string{kit.Owner}}))); kind != workspace.Invalid {
		t.Error("a group is made in a domain that was retired")
	}
}

// While a domain is retired, others make groups in it: in the end either it is there, or
// nothing lies in it.
func TestADomainIsRetiredWhileItIsUsed(t *testing.T) {
	l := k.Fresh(t, "race")
	ines := l.Actor(t, kit.Administrator)
	for round := range 5 {
		const name = "race.merrowline.example"
		if _, err := l.Domains.Add(ctx, ines, api.NewDomain{Name: name}); err != nil {
			t.Fatal(err)
		}
		var all sync.WaitGroup
		made := make([]error, 4)
		var retired error
		for i := range made {
			all.Go(func() {
				_, made[i] = l.Group.Create(ctx, ines, api.NewGroup{Name: "Racer", Address: string(rune('a'+i)) + "-racer@" + name, Owners: []string{kit.Owner}, Quiet: true})
			})
		}
		all.Go(func() { retired = l.Domains.Retire(ctx, ines, name, 0) })
		all.Wait()
		n := 0
		for _, err := range made {
			var no *workspace.Error
			if err == nil {
				n++
			} else if !errors.As(err, &no) {
				t.Errorf("round %d: %v", round, err)
			}
		}
		if (n > 0) == (retired == nil) {
			t.Fatalf("round %d: %d groups were made, and it was retired: %v", round, n, retired)
		}
		if retired == nil {
			continue
		}
		if n == 0 {
			t.Fatalf("round %d: it was not retired, although nothing lies in it: %v", round, retired)
		}
		return
	}
}
