package bulk_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

// Further addresses come to many groups and go again; one that somebody else has stays theirs.
func TestAliasesOfMany(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	domains := kit.First(k.Domains.List(ctx, ines)).Items
	if len(domains) < 2 {
		t.Fatal("there is one domain")
	}
	second := domains[1].Name
	all := fleet(t, "Pennant", 4, func(i int, n *api.NewGroup) {
		if i == 1 {
			n.Aliases = []string{"old-pennant-1"}
		}
	})
	k.Make(t, "Somebody Else's Pennant", func(n *api.NewGroup) { n.Address = "pennant-3@" + second })
	aliases := func() (out [][]string) {
		for _, g := range all {
			out = append(out, read(t, g).Aliases)
		}
		return out
	}
	before := aliases()
	b := change(t, ines, api.NewBulk{List: named("Pennant"), Aliases: &api.AliasesChange{AddIn: second}})
	if b.Changed != 3 || b.Refused != 1 {
		t.Fatalf("%+v", b)
	}
	if got := read(t, all[1]).Aliases; !slices.Equal(got, []string{"old-pennant-1@" + domains[0].Name, "pennant-1@" + second}) {
		t.Errorf("%q", got)
	}
	if items := kit.First(k.Bulk.Items(ctx, ines, b.ID, "refused", "", 10)).Items; len(items) != 1 || !strings.Contains(items[0].Says, "belongs to the group Somebody Else's Pennant") {
		t.Errorf("%+v", items)
	}
	if again := change(t, ines, api.NewBulk{List: named("Pennant"), Aliases: &api.AliasesChange{AddIn: second}}); again.Same != 3 || again.Changed != 0 {
		t.Errorf("again: %+v", again)
	}
	// one address went to somebody else meanwhile: undoing leaves alone what has changed
	none := []string{}
	if _, err := k.Group.Change(ctx, ines, all[2].Address, api.GroupPatch{Aliases: &none}, 0); err != nil {
		t.Fatal(err)
	}
	if u := undone(t, ines, b); u.Changed != 2 || u.Refused != 1 {
		t.Errorf("%+v", u)
	}
	if after := aliases(); fmt.Sprint(after) != fmt.Sprint(before) {
		t.Errorf("%v, was %v", after, before)
	}

	k.Move(40)
	defer k.Move(-40)
	gone := change(t, ines, api.NewBulk{List: named("Pennant"), Aliases: &api.AliasesChange{UnusedDays: 30}})
	if gone.Changed != 1 || gone.Same != 3 || len(read(t, all[1]).Aliases) != 0 {
		t.Errorf("%+v", gone)
	}
	k.Make(t, "Took It", func(n *api.NewGroup) { n.Address = "old-pennant-1@" + domains[0].Name })
	if u := undone(t, ines, gone); u.Refused != 1 || u.Changed != 0 {
		t.Errorf("an address that is another group's came back: %+v", u)
	}
	for _, bad := range []api.AliasesChange{{}, {AddIn: "elsewhere.example"}, {UnusedDays: 3}, {AddIn: second, RemoveIn: second}} {
		if err := kit.Last(k.Bulk.Begin(ctx, ines, api.NewBulk{List: named("Pennant"), Aliases: &bad})); !workspace.IsKind(err, workspace.Invalid) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
}
