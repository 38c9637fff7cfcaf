package member_test

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/member"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

// mixed is a list with everything in it that a list can have.
const mixed = "Petra Vane <petra.vane@merrowline.example>, " + kit.Member + "; " + kit.Auditor + "\n" +
	"Skerry, Ines <ines.skerry@merrowline.example>\n" +
	"petra.vane@merrowline.example\n" + // again
	"nobody.here@merrowline.example\n" +
	"pertra.vane@merrowline.example\n" + // a slip
	"oda.fenn@merowline.example\n" + // a slip in the domain
	"pilot@gannetport.example\n" +
	kit.Left + "\n" +
	"not an address@\n" +
	"Double\n" +
	"barred@gannetport.example\n"

var doubles = sync.OnceFunc(func() {
	ines := workspace.Actor{Person: kit.First(k.Read().PersonByKey(kit.Administrator))}
	for _, x := range []string{"one", "two"} {
		kit.First(k.Directory.Create(ctx, ines, api.NewPersonEntry{Address: "double." + x + "@merrowline.example", Name: "Double " + x}))
	}
})

func TestEveryLineIsLookedAtBeforeAnythingHappens(t *testing.T) {
	doubles()
	oda := k.Actor(t, kit.Owner)
	g := k.Staffed(t, "Looked At")
	r, err := k.Member.Read(ctx, oda, api.PeopleListRequest{PeopleList: api.PeopleList{Text: mixed}, Group: g.Address})
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]int{"new": 3, "already": 1, "repeated": 1, "unknown": 3, "external": 1, "departed": 1, "refused": 1, "ambiguous": 1, "barred": 1}
	if fmt.Sprint(r.Counts) != fmt.Sprint(want) || r.Total != 13 || r.List.Kind != "text" || !strings.HasPrefix(r.Says, "4 of 13 entries are added;") {
		t.Errorf("counts %v of %d; %s", r.Counts, r.Total, r.Says)
	}
	line := func(given string) api.Line {
		i := slices.IndexFunc(r.Sample, func(a api.Line) bool { return a.Given == given })
		if i < 0 {
			t.Fatalf("%s is not shown", given)
		}
		return r.Sample[i]
	}
	if l := line("pertra.vane@merrowline.example"); l.Line != 5 || !strings.Contains(l.Says, "typing mistakes") || len(l.Choices) != 1 || l.Choices[0].Address != kit.Colleague {
		t.Errorf("%+v", l)
	}
	if l := line("oda.fenn@merowline.example"); len(l.Choices) != 1 || l.Choices[0].Address != kit.Owner {
		t.Errorf("a slip in the domain: %+v", l)
	}
	if l := line("Double"); len(l.Choices) != 2 {
		t.Errorf("ambiguous: %+v", l)
	}
	if l := line("Skerry, Ines <ines.skerry@merrowline.example>"); l.Name != "Ines Skerry" || l.Status != "new" {
		t.Errorf("%+v", l)
	}
	if now, _ := k.Group.Read(ctx, oda, g.Address); now.Counts != g.Counts {
		t.Errorf("something happened: %+v", now.Counts)
	}
	for _, c := range []struct {
		l    api.PeopleList
		says string
	}{
		{api.PeopleList{}, "one way"}, {api.PeopleList{Text: "x", Everyone: true}, "one way"}, {api.PeopleList{File: []byte("PK\x03\x04")}, "spreadsheet"},
		{api.PeopleList{Text: "Department,Title\nDeck,x\n"}, "None of the columns holds addresses"}, {api.PeopleList{Of: "nothing@merrowline.example"}, "There is no group"},
	} {
		if _, says := kit.KindOf(t, kit.Last(k.Member.Read(ctx, oda, api.PeopleListRequest{PeopleList: c.l, Group: g.Address}))); !strings.Contains(says, c.says) {
			t.Errorf("%+v: %s", c.l, says)
		}
	}
	if kind, _ := kit.KindOf(t, kit.Last(k.Member.Read(ctx, k.Actor(t, kit.Colleague), api.PeopleListRequest{PeopleList: api.PeopleList{Text: "x"}, Group: g.Address}))); kind != workspace.NotAllowed {
		t.Error("a colleague looks at lists for a group of others")
	}
}

func TestWhatCanBeAddedIsAddedAndTheRestIsListed(t *testing.T) {
	doubles()
	oda := k.Actor(t, kit.Owner)
	g := k.Staffed(t, "All That Can")
	k.Queued(t)
	all, err := k.Member.Add(ctx, oda, g.Address, api.NewMembers{List: &api.PeopleList{Text: mixed}}, 0)
	if err != nil || all.Added != 4 || len(all.Results) != 13 || all.Results[0].Outcome == "added" || all.Results[12].Outcome != "added" {
		t.Fatalf("%+v, %v", all, err)
	}
	now, _ := k.Group.Read(ctx, oda, g.Address)
	if now.Counts != (api.Counts{Owners: 1, Moderators: 1, Members: 5, External: 1, People: 7}) {
		t.Errorf("%+v", now.Counts)
	}
	h, _ := k.History.List(ctx, oda, g.Address, "", "", 1)
	if h.Items[0].Kind != "people.add" || kit.First(k.History.Affected(ctx, oda, h.Items[0].ID, "", 50)).Total != 4 {
		t.Errorf("it is not one recorded change: %+v", h.Items[0])
	}
	if to := k.Queued(t)["You are now in All That Can"]; len(to) != 4 {
		t.Errorf("told: %v", to)
	}
	table := "E-Mail;Name;Rolle\r\n" + kit.Colleague + ";Petra;Moderator\r\nnew.one@port.example;;\r\nx;y;z\r\n"
	g = k.Staffed(t, "By Table")
	if all, err = k.Member.Add(ctx, oda, g.Address, api.NewMembers{List: &api.PeopleList{File: []byte(table)}, Quiet: true}, 0); err != nil || all.Added != 2 {
		t.Fatalf("%+v, %v", all, err)
	}
	m, _ := k.Members(oda, g.Address, member.Query{Role: "moderator", Limit: 10})
	if m.Total != 2 {
		t.Errorf("a role of the table was lost: %+v", m.Items)
	}
	if q := k.Queued(t); len(q) != 0 {
		t.Errorf("quietly, but told: %v", q)
	}
}

func TestPeopleOfAGroupAndEveryone(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	inner := k.Make(t, "Source Inner", func(n *api.NewGroup) { n.People = append(n.People, api.NewPerson{Address: kit.Colleague}) })
	outer := k.Make(t, "Source Outer", func(n *api.NewGroup) { n.People = []api.NewPerson{{Address: inner.Address}} })
	g, err := k.Group.Create(ctx, ines, api.NewGroup{Name: "Copied", Owners: []string{kit.Auditor}, Lists: []api.PeopleList{{Of: outer.Address}}, Quiet: true})
	if err != nil || g.Counts != (api.Counts{Owners: 1, Members: 4, People: 5}) {
		t.Errorf("copied: %+v, %v", g.Counts, err)
	}
	if _, err := k.Member.Add(ctx, ines, inner.Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Administrator}}, Quiet: true}, 0); err != nil {
		t.Fatal(err)
	}
	if now, _ := k.Group.Read(ctx, ines, g.Address); now.Counts.Members != 4 {
		t.Error("a copy follows")
	}
	nested, err := k.Group.Create(ctx, ines, api.NewGroup{Name: "Follows", Owners: []string{kit.Auditor}, People: []api.NewPerson{{Address: inner.Address}}, Quiet: true})
	if err != nil {
		t.Fatal(err)
	}
	if p, err := k.Member.EffectiveMembers(ctx, ines, nested.Address, "", "", 50); err != nil || p.Total != 6 {
		t.Errorf("nested, it reaches %d, %v; want 6", p.Total, err)
	}
	n, _ := k.Read().CountPeople()
	all, err := k.Member.Add(ctx, ines, g.Address, api.NewMembers{List: &api.PeopleList{Everyone: true}, Quiet: true}, 0)
	if err != nil || all.Added != int(n)-5 || all.Counts["already"] != 5 {
		t.Errorf("everyone: %d of %d, %v, %v", all.Added, n, all.Counts, err)
	}
	if kind, _ := kit.KindOf(t, kit.Last(k.Member.Add(ctx, k.Actor(t, kit.Colleague), outer.Address, api.NewMembers{List: &api.PeopleList{Of: g.Address}}, 0))); kind != workspace.NotAllowed {
		t.Error("a colleague staffs a group of others")
	}
}

func TestSeveralRolesAtOnceKeepTheLastOwner(t *testing.T) {
	oda := k.Actor(t, kit.Owner)
	g := k.Make(t, "Several", func(n *api.NewGroup) { n.People = append(n.People, api.NewPerson{Address: kit.Colleague}) })
	r, err := k.Member.Change(ctx, oda, g.Address, api.MembersPatch{Members: []string{kit.Member, kit.Colleague, "nobody@x.example", kit.Member}, Role: "moderator"}, 0)
	if err != nil || r.Changed != 2 || r.Results[2].Outcome != "refused" || r.Results[3].Outcome != "refused" {
		t.Errorf("%+v, %v", r, err)
	}
	h, _ := k.History.List(ctx, oda, g.Address, "", "", 1)
	if h.Items[0].Kind != "people.change" || kit.First(k.History.Affected(ctx, oda, h.Items[0].ID, "", 50)).Total != 2 {
		t.Errorf("%+v", h.Items[0])
	}
	if r, _ = k.Member.Change(ctx, oda, g.Address, api.MembersPatch{Members: []string{kit.Member}, Role: "moderator"}, 0); r.Results[0].Outcome != "same" {
		t.Errorf("%+v", r)
	}
	if r, _ = k.Member.Change(ctx, oda, g.Address, api.MembersPatch{Members: []string{kit.Owner, kit.Member}, Remove: true}, 0); r.Changed != 1 || !strings.Contains(r.Results[0].Says, "last owner") {
		t.Errorf("%+v", r)
	}
	if kind, says := kit.KindOf(t, kit.Last(k.Joining.Leave(ctx, oda, g.Address, api.JoinRequest{}))); kind != workspace.Conflict || !strings.Contains(says, "last owner") {
		t.Errorf("the last owner left: %v %s", kind, says)
	}
	if err := k.Rules.SetOverride(ctx, k.Actor(t, kit.Administrator), g.Address, kit.Owner, api.NewOverride{Override: "barred"}, 0); err == nil {
		t.Error("the last owner was barred")
	}
	if s, _ := k.Member.Overrides(ctx, oda, g.Address, "", 100); len(s.Items) != 0 {
		t.Errorf("half done: %+v", s)
	}
	for _, p := range []api.MembersPatch{{Members: []string{kit.Member}}, {Members: []string{kit.Member}, Role: "king"}, {Members: []string{kit.Member}, Role: "owner", Remove: true}} {
		if kind, _ := kit.KindOf(t, kit.Last(k.Member.Change(ctx, oda, g.Address, p, 0))); kind != workspace.Invalid {
			t.Errorf("%+v was taken", p)
		}
	}
}

func TestTwoOwnersCantBothBeLost(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	for i := range 4 {
		g := k.Make(t, fmt.Sprintf("Two Owners %d", i), func(n *api.NewGroup) { n.Owners = append(n.Owners, kit.Colleague) })
		var all sync.WaitGroup
		lost := make([]int, 2)
		for j, who := range []string{kit.Owner, kit.Colleague} {
			all.Go(func() {
				r, err := k.Member.Change(ctx, ines, g.Address, api.MembersPatch{Members: []string{who}, Remove: true}, 0)
				if err != nil {
					t.Error(err)
				}
				lost[j] = r.Changed
			})
		}
		all.Wait()
		now, _ := k.Group.Read(ctx, ines, g.Address)
		if lost[0]+lost[1] != 1 || now.Counts.Owners != 1 || len(now.Owners) != 1 {
			t.Errorf("lost %v; %+v", lost, now.Owners)
		}
	}
}

func TestTwoAddTheSamePersonAtOnce(t *testing.T) {
	g := k.Staffed(t, "Added Twice")
	var all sync.WaitGroup
	var mu sync.Mutex
	outcomes := map[string]int{}
	for range 6 {
		all.Go(func() {
			r, err := k.Member.Add(ctx, k.Actor(t, kit.Owner), g.Address, api.NewMembers{People: []api.NewPerson{{Address: "same.pilot@gannetport.example"}}, Quiet: true}, 0)
			mu.Lock()
			defer mu.Unlock()
			if err != nil {
				t.Error(err)
				return
			}
			outcomes[r.Results[0].Outcome]++
		})
	}
	all.Wait()
	now, _ := k.Group.Read(ctx, k.Actor(t, kit.Owner), g.Address)
	if outcomes["added"] != 1 || outcomes["already"] != 5 || now.Counts.External != 1 {
		t.Errorf("%v; %+v", outcomes, now.Counts)
	}
}

// A removal of many is undone whole, though the history shows the first fifty.
func TestManyArePutBackFromTheHistory(t *testing.T) {
	l, ines := k.Hands(t, "putback")
	nested := l.Make(t, "Nested and back")
	var lines []string
	for i := range 120 {
		lines = append(lines, fmt.Sprintf("Buoy %d <buoy-%d@port.example>", i, i))
	}
	g := l.Make(t, "Emptied and filled", func(n *api.NewGroup) { n.Externals = "owners" })
	if r, err := l.Member.Add(ctx, ines, g.Address, api.NewMembers{People: []api.NewPerson{{Address: nested.Address}}, List: &api.PeopleList{Text: strings.Join(lines, "\n")}, Quiet: true}, 0); err != nil || r.Added != 121 {
		t.Fatalf("%d added, %v", r.Added, err)
	}
	before, err := l.Group.Read(ctx, ines, g.Address)
	if err != nil {
		t.Fatal(err)
	}
	gone := []string{kit.Moderator, kit.Member, nested.Address}
	for i := range 120 {
		gone = append(gone, fmt.Sprintf("buoy-%d@port.example", i))
	}
	if _, err := l.Member.Change(ctx, ines, g.Address, api.MembersPatch{Members: gone, Remove: true}, 0); err != nil {
		t.Fatal(err)
	}
	h, err := l.History.List(ctx, ines, g.Address, "", "", 1)
	if err != nil || h.Items[0].Kind != "people.remove" {
		t.Fatalf("%+v, %v", h, err)
	}
	entry := h.Items[0].ID
	back := api.NewMembers{List: &api.PeopleList{TakenOut: entry}, Quiet: true}
	for _, c := range []struct {
		name, as string
		list     api.PeopleList
	}{
		{"an entry that is not there", kit.Administrator, api.PeopleList{TakenOut: entry + 1000}},
		{"one that took nobody out", kit.Administrator, api.PeopleList{TakenOut: entry - 1}},
		{"one of a history that is not theirs", kit.Colleague, api.PeopleList{TakenOut: entry}},
	} {
		own := l.Make(t, "For "+c.name, func(n *api.NewGroup) { n.Owners = append(n.Owners, kit.Colleague) })
		_, err := l.Member.Add(ctx, l.Actor(t, c.as), own.Address, api.NewMembers{List: &c.list}, 0)
		if _, says := kit.KindOf(t, err); !strings.Contains(says, "list.taken_out_by: No entry") {
			t.Errorf("%s: %s", c.name, says)
		}
	}
	r, err := l.Member.Add(ctx, ines, g.Address, back, 0)
	if err != nil || r.Added != 123 {
		t.Fatalf("%d put back, %v", r.Added, err)
	}
	after, err := l.Group.Read(ctx, ines, g.Address)
	if err != nil || after.Counts != before.Counts {
		t.Errorf("%+v before, %+v after, %v", before.Counts, after.Counts, err)
	}
	if r, err := l.Member.Add(ctx, ines, g.Address, back, 0); err != nil || r.Added != 0 {
		t.Errorf("again: %d added, %v", r.Added, err)
	}
}
