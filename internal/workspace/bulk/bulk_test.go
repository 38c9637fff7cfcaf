package bulk_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
)

// fleet makes groups that a filter finds by a word.
func fleet(t *testing.T, word string, n int, change ...func(i int, n *api.NewGroup)) []api.Group {
	t.Helper()
	var out []api.Group
	for i := range n {
		out = append(out, k.Make(t, fmt.Sprintf("%s %d", word, i), func(n *api.NewGroup) {
			for _, c := range change {
				c(i, n)
			}
		}))
	}
	return out
}

func named(word string) *api.BulkList {
	return &api.BulkList{Filter: fmt.Sprintf("name sw %q", word)}
}

// make begins a change, and goes through with it.
func change(t *testing.T, by workspace.Actor, n api.NewBulk) api.Bulk {
	t.Helper()
	looked := kit.Preview(t, by, func(by workspace.Actor) error { return kit.Last(k.Bulk.Begin(ctx, by, n)) })
	b, err := k.Bulk.Begin(ctx, by, n)
	if err != nil {
		t.Fatal(err)
	}
	b = finish(t, by, b)
	if looked.Total != b.Total || looked.Ready != b.Changed || looked.Counts["same"] != b.Same || looked.Counts["refused"] != b.Refused {
		t.Errorf("it was said to come to %+v, and came to %+v", looked.Counts, b)
	}
	return b
}

func finish(t *testing.T, by workspace.Actor, b api.Bulk) api.Bulk {
	t.Helper()
	if err := k.Bulk.Run(ctx); err != nil {
		t.Fatal(err)
	}
	b, err := k.Bulk.Read(ctx, by, b.ID)
	if err != nil || b.State == "running" {
		t.Fatalf("%+v, %v", b, err)
	}
	return b
}

func undone(t *testing.T, by workspace.Actor, b api.Bulk) api.Bulk {
	t.Helper()
	looked := kit.Preview(t, by, func(by workspace.Actor) error { return kit.Last(k.Bulk.Undo(ctx, by, b.ID)) })
	u, err := k.Bulk.Undo(ctx, by, b.ID)
	if err != nil {
		t.Fatal(err)
	}
	u = finish(t, by, u)
	if looked.Ready != u.Changed || looked.Counts["refused"] != u.Refused {
		t.Errorf("undoing was said to come to %+v, and came to %+v", looked.Counts, u)
	}
	return u
}

func read(t *testing.T, g api.Group) api.Group {
	t.Helper()
	return kit.First(k.Group.Read(ctx, k.Actor(t, kit.Administrator), g.Address))
}

func TestALanguageOfManyAndBack(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	all := fleet(t, "Babel", 120, func(i int, n *api.NewGroup) { n.Language = []string{"en", "de"}[i%2] })
	b := change(t, ines, api.NewBulk{List: named("Babel"), Language: "de"})
	if b.Total != 120 || b.Changed != 60 || b.Same != 60 || b.Refused != 0 || b.State != "done" || !b.MayUndo {
		t.Fatalf("%+v", b)
	}
	if read(t, all[0]).Language != "de" {
		t.Error("the first was not changed")
	}
	// in the workspace's history it is one entry, in a group's its own
	h := kit.First(k.History.List(ctx, ines, "", "", "", 1)).Items[0]
	own := kit.First(k.History.List(ctx, ines, all[0].Address, "", "", 1)).Items[0]
	if h.Kind != "groups.change" || !strings.Contains(h.Says, "changed 60 of 120 groups") || own.Kind != "group.change" || own.ChangeID != h.ChangeID || own.Actor.Address != kit.Administrator {
		t.Errorf("%+v\n%+v", h, own)
	}
	// one was changed since: it stays
	english := "en"
	if _, err := k.Group.Change(ctx, ines, all[2].Address, api.GroupPatch{Language: &english}, 0); err != nil {
		t.Fatal(err)
	}
	u := undone(t, ines, b)
	if u.Total != 60 || u.Changed != 59 || u.Refused != 1 || u.UndoOf != b.ID {
		t.Errorf("%+v", u)
	}
	items := kit.First(k.Bulk.Items(ctx, ines, u.ID, "refused", "", 10))
	if items.Total != 1 || len(items.Items) != 1 || items.Items[0].Address != all[2].Address || !strings.Contains(items.Items[0].Says, "changed since") {
		t.Errorf("%+v", items)
	}
	for i, g := range all {
		if want := []string{"en", "de"}[i%2]; read(t, g).Language != want {
			t.Fatalf("%s is not as it was", g.Name)
		}
	}
	if _, err := k.Bulk.Undo(ctx, ines, b.ID); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("undone twice: %v", err)
	}
	if _, err := k.Bulk.Undo(ctx, ines, u.ID); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("an undoing undone: %v", err)
	}
	page := kit.First(k.Bulk.Items(ctx, ines, b.ID, "", "", 50))
	seen := len(page.Items)
	for page.Next != "" {
		page = kit.First(k.Bulk.Items(ctx, ines, b.ID, "", page.Next, 50))
		seen += len(page.Items)
	}
	if seen != 120 {
		t.Errorf("%d items on all pages", seen)
	}
}

func TestTraitsOfMany(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	all := fleet(t, "Habit", 3, func(i int, n *api.NewGroup) { n.Traits = [][]string{{"desk"}, {"calendar", "archive"}, {"archive"}}[i] })
	b := change(t, ines, api.NewBulk{List: named("Habit"), Traits: &api.TraitsChange{On: []string{"archive"}, Off: []string{"desk"}}})
	if b.Changed != 1 || b.Same != 2 || !slices.Equal(read(t, all[0]).Traits, []string{"archive"}) || !slices.Equal(read(t, all[1]).Traits, []string{"calendar", "archive"}) {
		t.Errorf("%+v, %v", b, read(t, all[0]).Traits)
	}
	if undone(t, ines, b); !slices.Equal(read(t, all[0]).Traits, []string{"desk"}) {
		t.Errorf("%v", read(t, all[0]).Traits)
	}
}

func TestManyRetireAndComeBack(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	all := fleet(t, "Season", 4)
	around := k.Make(t, "Around the seasons", func(n *api.NewGroup) {
		n.People = []api.NewPerson{{Address: all[0].Address}, {Address: all[1].Address}}
	})
	before := read(t, around).Counts.People
	b := change(t, ines, api.NewBulk{List: named("Season"), Retire: true})
	if b.Changed != 4 || read(t, all[3]).State != "retired" || read(t, around).Counts.People >= before && before > 1 {
		t.Errorf("%+v, and around them %d of %d", b, read(t, around).Counts.People, before)
	}
	if _, err := k.Life.Restore(ctx, ines, all[0].Address, 0); err != nil {
		t.Fatal(err)
	}
	u := undone(t, ines, b)
	if u.Changed != 3 || u.Same != 1 || read(t, all[3]).State != "active" || read(t, around).Counts.People != before {
		t.Errorf("%+v", u)
	}
}

func TestOwnersOfMany(t *testing.T) {
	ines, oda := k.Actor(t, kit.Administrator), k.Actor(t, kit.Owner)
	all := fleet(t, "Estate", 5)
	k.Make(t, "Estate not", func(n *api.NewGroup) { n.Name = "Elsewhere" })
	if err := k.Rules.SetOverride(ctx, ines, all[1].Address, kit.Colleague, api.NewOverride{Override: "barred"}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Life.Retire(ctx, ines, all[2].Address, 0); err != nil {
		t.Fatal(err)
	}
	k.Letters(t)
	b := change(t, ines, api.NewBulk{List: named("Estate"), Owners: &api.OwnersChange{Add: []string{kit.Colleague, kit.Member}, Replace: true}})
	if b.Changed != 3 || b.Refused != 2 {
		t.Fatalf("%+v", b)
	}
	refused := kit.First(k.Bulk.Items(ctx, ines, b.ID, "refused", "", 10)).Items
	if len(refused) != 2 || !strings.Contains(refused[0].Says+refused[1].Says, "barred") || !strings.Contains(refused[0].Says+refused[1].Says, "has ended") {
		t.Errorf("%+v", refused)
	}
	now := read(t, all[0])
	if now.Counts.Owners != 2 || len(now.Owners) != 2 || now.Counts.People != all[0].Counts.People+1 {
		t.Errorf("%+v, %+v", now.Owners, now.Counts)
	}
	if g := kit.First(k.Group.Read(ctx, oda, all[0].Address)); g.MyRole != "member" {
		t.Errorf("who owned it is %s", g.MyRole)
	}
	told := 0
	for _, l := range k.Letters(t) {
		if strings.Contains(l.Subject, "You now own 3 groups") {
			told++
		}
	}
	if told != 2 {
		t.Errorf("%d of 2 new owners got their one letter", told)
	}
	u := undone(t, ines, b)
	if u.Changed != 3 {
		t.Errorf("%+v", u)
	}
	if now := read(t, all[0]); now.Counts != all[0].Counts || len(now.Owners) != 1 || now.Owners[0].Address != kit.Owner {
		t.Errorf("%+v, %+v", now.Owners, now.Counts)
	}
	k.Agrees(t)
	// beside those there are
	if b := change(t, ines, api.NewBulk{Groups: []string{all[0].Address, all[0].ID, all[3].Address}, Owners: &api.OwnersChange{Add: []string{kit.Owner, kit.Moderator}}}); b.Total != 2 || b.Changed != 2 || read(t, all[3]).Counts.Owners != 2 {
		t.Errorf("%+v", b)
	}
}

func TestAChangeIsStoppedAndGoesOn(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	fleet(t, "Halted", 3)
	b, err := k.Bulk.Begin(ctx, ines, api.NewBulk{List: named("Halted"), Language: "de"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := k.Bulk.Undo(ctx, ines, b.ID); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("undone while it runs: %v", err)
	}
	stopped, err := k.Bulk.Stop(ctx, ines, b.ID)
	if err != nil || stopped.State != "stopped" || stopped.Come != 0 {
		t.Errorf("%+v, %v", stopped, err)
	}
	if finish(t, ines, b).Changed != 0 {
		t.Error("a change that was stopped went on")
	}
	if _, err := k.Bulk.Stop(ctx, ines, b.ID); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("stopped twice: %v", err)
	}
	// one whose worker died is taken up by another, once its lease is over
	b, err = k.Bulk.Begin(ctx, ines, api.NewBulk{List: named("Halted"), Language: "de"})
	if err != nil {
		t.Fatal(err)
	}
	k.SQL(t, "UPDATE bulk_changes SET worker = UUID(), lease_until = NOW(6) + INTERVAL 1 DAY WHERE id = '"+b.ID+"'")
	if err := k.Bulk.Run(ctx); err != nil {
		t.Fatal(err)
	}
	if now := kit.First(k.Bulk.Read(ctx, ines, b.ID)); now.Come != 0 {
		t.Errorf("another's work was done: %+v", now)
	}
	k.SQL(t, "UPDATE bulk_changes SET lease_until = '2020-01-01' WHERE id = '"+b.ID+"'")
	if now := finish(t, ines, b); now.Changed != 3 {
		t.Errorf("%+v", now)
	}
	// whoever may no longer make it does not
	rosa := kit.First(k.Directory.Create(ctx, ines, api.NewPersonEntry{Address: "rosa.keel@merrowline.example", Name: "Rosa Keel", WorkspaceRole: "administrator"}))
	b, err = k.Bulk.Begin(ctx, k.Actor(t, rosa.Address), api.NewBulk{List: named("Halted"), Language: "en"})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := k.Directory.Depart(ctx, ines, rosa.Address, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	if now := finish(t, ines, b); now.State != "stopped" || now.Changed != 0 || !strings.Contains(now.Reason, "Rosa Keel") {
		t.Errorf("%+v", now)
	}
}

func TestWhatCannotBeChangedForMany(t *testing.T) {
	ines, oda := k.Actor(t, kit.Administrator), k.Actor(t, kit.Owner)
	g := fleet(t, "Wrongly", 2)[0]
	two := 3
	for _, c := range []struct {
		by   workspace.Actor
		n    api.NewBulk
		kind workspace.Kind
		says string
	}{
		{oda, api.NewBulk{Groups: []string{g.Address}, Language: "de"}, workspace.NotAllowed, "Only administrators"},
		{ines, api.NewBulk{Groups: []string{g.Address}}, workspace.Invalid, "one thing"},
		{ines, api.NewBulk{Groups: []string{g.Address}, Language: "de", Retire: true}, workspace.Invalid, "one thing"},
		{ines, api.NewBulk{Language: "de"}, workspace.Invalid, "which groups"},
		{ines, api.NewBulk{Groups: []string{g.Address}, List: named("Wrongly"), Language: "de"}, workspace.Invalid, "which groups"},
		{ines, api.NewBulk{Groups: []string{g.Address, "nothing@merrowline.example"}, Language: "de"}, workspace.Invalid, "no group \"nothing@"},
		{ines, api.NewBulk{List: named("No such thing"), Language: "de"}, workspace.Invalid, "no such group"},
		{ines, api.NewBulk{List: &api.BulkList{Filter: "nonsense"}, Language: "de"}, workspace.Invalid, "There should be"},
		{ines, api.NewBulk{List: named("Wrongly"), Expected: &two, Retire: true}, workspace.Conflict, "2 groups by now, not 3"},
		{ines, api.NewBulk{List: named("Wrongly"), Owners: &api.OwnersChange{Add: []string{"pilot@port.example"}}}, workspace.Invalid, "Nobody who is here"},
		{ines, api.NewBulk{List: named("Wrongly"), Owners: &api.OwnersChange{Add: []string{kit.Left}}}, workspace.Invalid, "Nobody who is here"},
		{ines, api.NewBulk{List: named("Wrongly"), Traits: &api.TraitsChange{On: []string{"desk"}, Off: []string{"desk"}}}, workspace.Invalid, "twice"},
		{ines, api.NewBulk{List: named("Wrongly"), Traits: &api.TraitsChange{}}, workspace.Invalid, "which traits"},
	} {
		if kind, says := kit.KindOf(t, kit.Last(k.Bulk.Begin(ctx, c.by, c.n))); kind != c.kind || !strings.Contains(says, c.says) {
			t.Errorf("%+v: %v %s", c.n, kind, says)
		}
	}
	if p := kit.First(k.Group.List(ctx, ines, group.Query{Filter: `name sw "Wrongly" and state eq "active"`, Limit: 5})); p.Total != 2 {
		t.Errorf("%d are left", p.Total)
	}
}

// What changes of many groups kept is forgotten a year after they ended, and not while they run.
func TestOldChangesAreForgotten(t *testing.T) {
	l := k.Fresh(t, "bulk_old")
	ines := l.Actor(t, kit.Administrator)
	g := l.Make(t, "Old Change")
	b := kit.First(l.Bulk.Begin(ctx, ines, api.NewBulk{Groups: []string{g.Address}, Language: "de"}))
	runs := kit.First(l.Bulk.Begin(ctx, ines, api.NewBulk{Groups: []string{g.Address}, Language: "en"}))
	if err := l.Bulk.Run(ctx); err != nil {
		t.Fatal(err)
	}
	l.SQL(t, "UPDATE bulk_changes SET ended_at = NULL, state = 'running' WHERE id = '"+runs.ID+"'")
	there := func() (n int) {
		t.Helper()
		if err := l.Bulk.Forget(ctx); err != nil {
			t.Fatal(err)
		}
		l.SQL(t, "SELECT (SELECT COUNT(*) FROM bulk_changes) * 10 + (SELECT COUNT(*) FROM bulk_items)", &n)
		return n
	}
	l.Move(364)
	if n := there(); n != 22 {
		t.Errorf("before its time: %d", n)
	}
	l.Move(2)
	if n := there(); n != 11 {
		t.Errorf("after a year: %d", n)
	}
	if _, err := l.Bulk.Read(ctx, ines, b.ID); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("%v", err)
	}
}
