package bulk_test

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
)

// exported returns the export of the groups that begin with a word.
func exported(t *testing.T, word string) [][]string {
	t.Helper()
	var out bytes.Buffer
	if err := k.Group.Export(context.Background(), k.Actor(t, kit.Administrator), group.Query{Filter: fmt.Sprintf("name sw %q", word), Limit: 1000}, workspace.Export{Format: "csv", Open: func(string) io.Writer { return &out }}); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&out).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	return rows
}

// edited writes a sheet again, with cells set by line and column.
func edited(t *testing.T, rows [][]string, set map[int]map[string]string) string {
	t.Helper()
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	for i, row := range rows {
		row = slices.Clone(row)
		for column, cell := range set[i+1] {
			at := slices.Index(rows[0], column)
			if at < 0 {
				t.Fatalf("there is no column %s", column)
			}
			row[at] = cell
		}
		if err := w.Write(row); err != nil {
			t.Fatal(err)
		}
	}
	w.Flush()
	return out.String()
}

func applied(t *testing.T, n api.GroupSheet) api.Bulk {
	t.Helper()
	ines := k.Actor(t, kit.Administrator)
	looked := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(k.Bulk.Sheet(ctx, by, n)) })
	b, err := k.Bulk.Sheet(ctx, ines, n)
	if err != nil {
		t.Fatal(err)
	}
	if b = finish(t, ines, b); looked.Ready != b.Changed || b.Refused != 0 {
		t.Errorf("it was said to come to %+v, and came to %+v", looked.Counts, b)
	}
	return b
}

// An export goes out, is edited and comes in: what was edited changes, and undone it is as before, to the octet.
func TestASheetGoesOutAndIn(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	all := fleet(t, "Ledger", 6, func(i int, n *api.NewGroup) {
		n.Description, n.Welcome = "=SUM(A1), said \"quoted\"\nin two lines", "Hello; and welcome"
	})
	before := exported(t, "Ledger")
	line := func(i int) int { // of a group in the sheet
		return slices.IndexFunc(before, func(row []string) bool { return slices.Contains(row, all[i].Address) }) + 1
	}
	// what nobody touched changes nothing
	p := kit.Preview(t, ines, func(by workspace.Actor) error {
		return kit.Last(k.Bulk.Sheet(ctx, by, api.GroupSheet{Text: edited(t, before, nil)}))
	})
	if p.Ready != 0 || p.Counts["same"] != 6 || p.Counts["refused"] != 0 || !strings.Contains(p.Says, "passed over") {
		t.Errorf("%+v", p)
	}
	if _, err := k.Bulk.Sheet(ctx, ines, api.GroupSheet{Text: edited(t, before, nil)}); !workspace.IsKind(err, workspace.Invalid) || !strings.Contains(err.Error(), "Nothing in the sheet differs") {
		t.Errorf("%v", err)
	}
	k.Letters(t)
	b := applied(t, api.GroupSheet{Text: edited(t, before, map[int]map[string]string{
		line(0): {"name": "Ledger of ships", "description": "What ships cost.", "language": "de", "traits": "desk; archive", "default_delivery": "none", "welcome": "", "aliases": "old-ledger; old-ledger@crew.merrowline.example"},
		line(1): {"post": "anyone", "hold": "outsiders", "find": "workspace"},
		line(2): {"owner": kit.Colleague + "; Tove Alder <" + kit.Member + ">"},
		line(3): {"exempt": "As long as there are books"},
	})})
	if b.Total != 4 || b.Changed != 4 || b.Kind != "sheet" {
		t.Fatalf("%+v", b)
	}
	g := read(t, all[0])
	if g.Name != "Ledger of ships" || g.Description != "What ships cost." || g.Language != "de" || strings.Join(g.Traits, " ") != "archive desk" || g.Delivery != "none" || g.Welcome != "" || len(g.Aliases) != 2 {
		t.Errorf("%+v", g)
	}
	if g := read(t, all[1]); g.Policy.Post != "anyone" || g.Hold != "outsiders" {
		t.Errorf("%+v", g)
	}
	if g := read(t, all[2]); len(g.Owners) != 2 || g.Counts.Owners != 2 || g.Counts.Members != 1 {
		t.Errorf("%+v, %+v", g.Owners, g.Counts)
	}
	if g := read(t, all[3]); g.Term.Exempt == nil || g.Term.Exempt.Reason != "As long as there are books" {
		t.Errorf("%+v", g.Term)
	}
	told := k.Queued(t)
	if to := told["You now own 1 group"]; len(to) != 2 {
		t.Errorf("%v", told)
	}
	if u := undone(t, ines, b); u.Changed != 4 || u.Refused != 0 {
		t.Errorf("%+v", u)
	}
	after := exported(t, "Ledger")
	for i, row := range after {
		for j, cell := range row {
			if column := before[0][j]; cell != before[i][j] && column != "renewed_at" && column != "version" {
				t.Errorf("line %d, %s: %q, was %q", i+1, column, cell, before[i][j])
			}
		}
	}
	// the export is older than what was done since: who edited it meanwhile is not gone over unseen
	older := api.GroupSheet{Text: edited(t, before, map[int]map[string]string{line(4): {"description": "New"}, line(2): {"description": "New"}})}
	if _, err := k.Bulk.Sheet(ctx, ines, older); !workspace.IsKind(err, workspace.Invalid) || !strings.Contains(err.Error(), "Somebody has edited it since") {
		t.Errorf("%v", err)
	}
	older.LeaveOut = true
	if b := applied(t, older); b.Changed != 1 || read(t, all[2]).Description == "New" || read(t, all[4]).Description != "New" {
		t.Errorf("%+v", b)
	}
	before = exported(t, "Ledger")
	if _, err := k.Member.Add(ctx, ines, all[3].Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Colleague, Role: "owner"}}}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Bulk.Sheet(ctx, ines, api.GroupSheet{Text: edited(t, before, map[int]map[string]string{line(3): {"description": "New"}})}); err == nil || !strings.Contains(err.Error(), "Somebody has edited it since") {
		t.Errorf("an owner who was added would be taken out: %v", err)
	}
	before = exported(t, "Ledger")
	// what was changed since is left alone
	b = applied(t, api.GroupSheet{Text: edited(t, before, map[int]map[string]string{line(4): {"description": "Newest"}, line(5): {"description": "New", "post": "anyone"}})})
	newer := "Newer"
	if _, err := k.Group.Change(ctx, ines, all[5].Address, api.GroupPatch{Description: &newer}, 0); err != nil {
		t.Fatal(err)
	}
	if u := undone(t, ines, b); u.Changed != 1 || u.Refused != 1 {
		t.Errorf("%+v", u)
	}
	if g := read(t, all[5]); g.Description != "Newer" || g.Policy.Post != "anyone" {
		t.Errorf("%+v", g)
	}
}

// Lines that can't be done are refused by their numbers, and refuse the sheet unless they are left out.
func TestASheetRefusesLines(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	all := fleet(t, "Docket", 9)
	if _, err := k.Life.Retire(ctx, ines, all[8].Address, 0); err != nil {
		t.Fatal(err)
	}
	k.Make(t, "Somebody's Docket", func(n *api.NewGroup) { n.Address = "taken-docket@" + kit.Domain })
	lines := []string{"address,description,language,post,owner,aliases,state",
		all[0].Address + ",Good,en,members," + kit.Owner + ",,active",
		"nothing@" + kit.Domain + ",x,en,members," + kit.Owner + ",,active",
		all[0].Address + ",Twice,en,members," + kit.Owner + ",,active",
		all[1].Address + ",x,fr,members," + kit.Owner + ",,active",
		all[2].Address + ",x,en,everybody," + kit.Owner + ",,active",
		all[3].Address + ",x,en,members,,,active",
		all[4].Address + ",x,en,members,nobody.at.all@" + kit.Domain + ",,active",
		all[5].Address + ",x,en,members," + kit.Owner + ",taken-docket,active",
		all[6].Address + ",x,en,members," + kit.Owner + ",,active,too many",
		all[7].Address + "," + strings.Repeat("x", 2001) + ",en,members," + kit.Owner + ",,active",
		all[8].Address + ",x,en,members," + kit.Owner + ",,active",
		all[7].Address + ",,en,members," + kit.Owner + ",,retired"}
	n := api.GroupSheet{Text: strings.Join(lines, "\n")}
	p := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(k.Bulk.Sheet(ctx, by, n)) })
	got := map[int]string{}
	for _, l := range p.Sample {
		if l.Outcome == "refused" {
			got[l.Line] = l.Says
		}
	}
	for line, want := range map[int]string{3: "There is no group", 4: "Line 2 is about", 5: "fr", 6: "everybody", 7: "owner names nobody", 8: "Nobody who is here", 9: "belongs to the group Somebody's Docket", 10: "8 fields", 11: "2001 characters", 12: "It has ended", 13: "Line 11 is about"} {
		if !strings.Contains(got[line], want) {
			t.Errorf("line %d: %q, want %q", line, got[line], want)
		}
		delete(got, line)
	}
	if len(got) > 0 || p.Ready != 1 {
		t.Errorf("%v, %d ready", got, p.Ready)
	}
	if _, err := k.Bulk.Sheet(ctx, ines, n); !workspace.IsKind(err, workspace.Invalid) || !strings.Contains(err.Error(), "line 3") {
		t.Errorf("%v", err)
	}
	n.LeaveOut = true
	if b := applied(t, n); b.Total != 1 || read(t, all[0]).Description != "Good" {
		t.Errorf("%+v", b)
	}
	for text, want := range map[string]string{"": "headings", "name\nx": "id or address", "address\n" + all[0].Address: "changes anything", "address,name,name\nx,y,z": "two columns"} {
		if _, err := k.Bulk.Sheet(ctx, ines, api.GroupSheet{Text: text}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", text, err)
		}
	}
	for _, who := range []string{kit.Owner, kit.Auditor} {
		if _, err := k.Bulk.Sheet(ctx, k.Actor(t, who), n); !workspace.IsKind(err, workspace.NotAllowed) {
			t.Errorf("%s: %v", who, err)
		}
	}
}
