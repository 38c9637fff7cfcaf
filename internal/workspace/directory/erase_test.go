package directory_test

import (
	"encoding/json"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

// What names somebody is taken out of the history and the directory, and the chain of seals holds.
func TestErasingAPerson(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	seal := func() {
		t.Helper()
		if err := k.History.Seal(ctx); err != nil {
			t.Fatal(err)
		}
	}
	whole := func(when string) {
		t.Helper()
		v, err := k.History.Verify(ctx, ines, nil)
		if err != nil || len(v.Faults) > 0 {
			t.Errorf("%s: %+v, %v", when, v.Faults, err)
		}
	}
	gone := person(t, "Mara Ericson", "")
	like := person(t, "Mara Ericsons", "")
	g := k.Make(t, "Erasing", func(n *api.NewGroup) {
		n.Owners = []string{gone, kit.Owner}
		n.Description = "Run by Mara Ericson, " + gone + "; not by Mara Ericsons."
	}).Address
	by := k.Actor(t, gone)
	says := "Ask Mara Ericson."
	if _, err := k.Group.Change(ctx, by, g, api.GroupPatch{Welcome: &says}, 0); err != nil {
		t.Fatal(err)
	}
	newer := "mara.new@" + kit.Domain
	if _, err := k.Directory.Change(ctx, ines, gone, api.PersonPatch{Address: &newer}, 0); err != nil {
		t.Fatal(err)
	}
	n := api.Erasure{Reason: "Their letter of the third"}
	if _, err := k.Directory.Erase(ctx, ines, newer, n, 0); !workspace.IsKind(err, workspace.Conflict) || !strings.Contains(err.Error(), "is here") {
		t.Errorf("somebody who is here: %v", err)
	}
	if _, err := k.Directory.Depart(ctx, ines, newer, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Directory.Erase(ctx, ines, newer, n, 0); !workspace.IsKind(err, workspace.Conflict) || !strings.Contains(err.Error(), "not sealed yet") {
		t.Errorf("before the last entries are sealed: %v", err)
	}
	seal()
	whole("before")
	for _, bad := range []string{"", " ", "Mara Ericson asked", "By " + newer} {
		if _, err := k.Directory.Erase(ctx, ines, newer, api.Erasure{Reason: bad}, 0); !workspace.IsKind(err, workspace.Invalid) {
			t.Errorf("%q: %v", bad, err)
		}
	}
	p := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(k.Directory.Erase(ctx, by, newer, n, 0)) })
	whole("after a look")
	out, err := k.Directory.Erase(ctx, ines, newer, n, 0)
	if err != nil || out.Entries < 4 || p.Total != out.Entries {
		t.Fatalf("%+v, %v; it was said to be %d", out, err, p.Total)
	}
	seal()
	whole("afterwards")
	var left string
	k.SQL(t, "SELECT COALESCE(GROUP_CONCAT(CONCAT(id, ' ', kind, ' ', actor, ' ', data) SEPARATOR ' | '), '') FROM history WHERE CONCAT(actor, data) REGEXP 'mara\\\\.(ericson|new)@|Mara Ericson[^s]'", &left)
	if left != "" {
		t.Errorf("it stands in the history still: %s", left)
	}
	var kept int
	k.SQL(t, "SELECT COUNT(*) FROM history WHERE data LIKE '%Mara Ericsons%'", &kept)
	if kept == 0 {
		t.Error("somebody of a like name was erased, too")
	}
	if q, err := k.People.Read(ctx, ines, out.Address); err != nil || q.Name != "An erased person" || len(q.Attributes) != 0 {
		b, _ := json.Marshal(q)
		t.Errorf("%s, %v", b, err)
	}
	for _, a := range []string{gone, newer} {
		if _, err := k.People.Read(ctx, ines, a); !workspace.IsKind(err, workspace.NotFound) {
			t.Errorf("%s is known still: %v", a, err)
		}
	}
	if q, err := k.People.Read(ctx, ines, like); err != nil || q.Name != "Mara Ericsons" {
		t.Errorf("%+v, %v", q, err)
	}
	// their addresses are free
	if _, err := k.Directory.Create(ctx, ines, api.NewPersonEntry{Address: gone, Name: "Somebody New"}); err != nil {
		t.Errorf("%v", err)
	}
	seal()
	// whoever edits an entry can't pass that off as an erasure
	k.SQL(t, "UPDATE history_seals SET names = seal, salt = REPEAT(CHAR(0), 16), erased_in = (SELECT erased_in FROM (SELECT erased_in FROM history_seals WHERE erased_in IS NOT NULL LIMIT 1) x) WHERE names IS NULL ORDER BY place DESC LIMIT 1")
	v, err := k.History.Verify(ctx, ines, nil)
	if err != nil || len(v.Faults) < 2 {
		t.Errorf("%+v, %v", v.Faults, err)
	}
	found := false
	for _, f := range v.Faults {
		found = found || f.Kind == "erased"
	}
	if !found {
		t.Errorf("%+v", v.Faults)
	}
}
