package bulk_test

import (
	"slices"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

// Groups that strayed from their starting point are listed with how, brought back as one change, and put back as
// they were by one undo.
func TestGroupsComeBackToTheirStartingPoint(t *testing.T) {
	l := k.Fresh(t, "bulk_starting")
	ines := l.Actor(t, kit.Administrator)
	var all []string
	for _, name := range []string{"Strayed One", "Strayed Two", "Strayed Not"} {
		g := l.Make(t, name, func(n *api.NewGroup) { n.StartingPoint, n.PolicyPatch = "team-room", api.PolicyPatch{} })
		all = append(all, g.Address)
	}
	plain := l.Make(t, "Begun From Nothing")
	if _, err := l.Reach.ChangePolicy(ctx, ines, all[0], kit.Policy("post=anyone leave=asking"), 0); err != nil {
		t.Fatal(err)
	}
	traits, welcome := []string{"desk"}, "Hello"
	if _, err := l.Group.Change(ctx, ines, all[1], api.GroupPatch{Traits: &traits, Welcome: &welcome}, 0); err != nil {
		t.Fatal(err)
	}
	differing := func(name string) map[string][]string {
		t.Helper()
		out := map[string][]string{}
		for cursor := ""; ; {
			p, err := l.Naming.Differing(ctx, ines, name, cursor, 1)
			if err != nil {
				t.Fatal(err)
			}
			for _, x := range p.Items {
				for _, d := range x.Differences {
					out[x.Group.Name] = append(out[x.Group.Name], d.Field+" "+d.From+" "+d.To)
				}
			}
			if cursor = p.Next; cursor == "" {
				return out
			}
		}
	}
	got := differing("")
	if len(got) != 2 || !slices.Contains(got["Strayed One"], "post workspace anyone") || !slices.Contains(got["Strayed One"], "leave free asking") || len(got["Strayed One"]) != 2 || len(got["Strayed Two"]) != 1 {
		t.Errorf("%v", got)
	}
	if got := differing("intake"); len(got) != 0 {
		t.Errorf("of another: %v", got)
	}
	run := func(n api.NewBulk) api.Bulk {
		t.Helper()
		b, err := l.Bulk.Begin(ctx, ines, n)
		if err == nil {
			err = l.Bulk.Run(ctx)
		}
		if err == nil {
			b, err = l.Bulk.Read(ctx, ines, b.ID)
		}
		if err != nil {
			t.Fatal(err)
		}
		return b
	}
	look := kit.Preview(t, ines, func(by workspace.Actor) error {
		return kit.Last(l.Bulk.Begin(ctx, by, api.NewBulk{Groups: append(all, plain.Address), Start: "team-room"}))
	})
	if look.Ready != 3 {
		t.Errorf("%+v", look)
	}
	b := run(api.NewBulk{Groups: append(all, plain.Address), Start: "team-room"})
	if b.Changed != 3 || len(differing("")) != 0 {
		t.Errorf("%+v, %v", b, differing(""))
	}
	g := kit.First(l.Group.Read(ctx, ines, plain.Address))
	if g.StartingPoint != "team-room" || g.Policy.Post != "workspace" || !slices.Equal(g.Traits, []string{"archive", "calendar"}) {
		t.Errorf("%+v", g)
	}
	undo, err := l.Bulk.Undo(ctx, ines, b.ID)
	if err == nil {
		err = l.Bulk.Run(ctx)
	}
	if err != nil {
		t.Fatal(err)
	}
	if undo, err = l.Bulk.Read(ctx, ines, undo.ID); err != nil || undo.Changed != 3 || len(differing("")) != 2 {
		t.Errorf("undone: %+v, %v, %v", undo, err, differing(""))
	}
	if g = kit.First(l.Group.Read(ctx, ines, plain.Address)); g.StartingPoint != "" {
		t.Errorf("%+v", g)
	}
	for _, bad := range []api.NewBulk{{Groups: all, Start: "nothing"}, {Groups: all, Start: "team-room", Language: "de"}} {
		if _, err := l.Bulk.Begin(ctx, ines, bad); err == nil {
			t.Errorf("%+v was begun", bad)
		}
	}
	if _, err := l.Naming.Differing(ctx, l.Actor(t, kit.Owner), "", "", 10); err == nil {
		t.Error("an owner lists them")
	}
}
