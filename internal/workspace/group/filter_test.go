package group_test

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"io"
	"slices"
	"strconv"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/naming"
)

// names returns which groups a list has, in its order.
func names(t *testing.T, by workspace.Actor, q group.Query) []string {
	t.Helper()
	q.Limit = 200
	p, err := k.Group.List(ctx, by, q)
	if err != nil {
		t.Fatalf("%+v: %v", q, err)
	}
	var out []string
	for _, g := range p.Items {
		out = append(out, g.Name)
	}
	return out
}

// A size, a filter and an order tell a colleague nothing of a group that they may not find.
func TestANestedHiddenGroupDoesNotCount(t *testing.T) {
	hidden := k.Make(t, "Sums of a secret", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("find=members join.audience=nobody")
		n.People = []api.NewPerson{{Address: kit.Member}, {Address: kit.Moderator}}
	})
	around := k.Make(t, "Sums around it", func(n *api.NewGroup) { n.People = []api.NewPerson{{Address: hidden.Address}} })
	k.Unagree(t, around, hidden)
	alone := k.Make(t, "Sums alone", func(n *api.NewGroup) { n.People = []api.NewPerson{{Address: kit.Colleague}} })
	ines, petra := k.Actor(t, kit.Administrator), k.Actor(t, kit.Colleague)
	all := kit.First(k.Group.Read(ctx, ines, around.Address)).Counts
	seen := kit.First(k.Group.Read(ctx, petra, around.Address)).Counts
	if all.People != 3 || all.More || seen.People != 1 || !seen.More {
		t.Errorf("an administrator sees %+v, a colleague %+v", all, seen)
	}
	if got := names(t, ines, group.Query{Q: "sums", Filter: "people gt 1"}); !slices.Contains(got, around.Name) {
		t.Errorf("an administrator finds %q", got)
	}
	if got := names(t, petra, group.Query{Q: "sums", Filter: "people gt 1"}); slices.Contains(got, around.Name) {
		t.Errorf("a colleague finds %q", got)
	}
	if got := names(t, ines, group.Query{Q: "sums", Sort: "-people"}); len(got) != 3 || got[2] != alone.Name {
		t.Errorf("an administrator's order: %q", got)
	}
	if got := names(t, petra, group.Query{Q: "sums", Sort: "-people"}); !slices.Equal(got, []string{alone.Name, around.Name}) {
		t.Errorf("a colleague's order: %q", got)
	}
	// what it reaches through a group that is found counts for everybody
	if _, err := k.Reach.ChangePolicy(ctx, ines, hidden.Address, kit.Policy("find=workspace"), 0); err != nil {
		t.Fatal(err)
	}
	if now := kit.First(k.Group.Read(ctx, petra, around.Address)).Counts; now.People != all.People || now.More {
		t.Errorf("once it can be found, a colleague sees %+v", now)
	}
}

func TestFiltersThatCannotBeRead(t *testing.T) {
	ines, petra := k.Actor(t, kit.Administrator), k.Actor(t, kit.Colleague)
	for _, c := range []struct {
		by     workspace.Actor
		filter string
		at     int
		says   string
	}{
		{ines, `ownrs eq 0`, 0, "owners"},
		{ines, `owners eq "0"`, 10, "without quotes"},
		{ines, `post eq "everybody"`, 8, "nobody, owners, moderators, members, workspace and anyone"},
		{ines, `post gt anyone`, 8, "in double quotes"},
		{ines, `state gt "due"`, 6, "Use eq, ne or pr"},
		{ines, `owners eq 0 and`, 15, "The filter breaks off"},
		{ines, `expires_on lt "soon"`, 14, "2027-03-18"},
		{petra, `name pr and waiting gt 0`, 12, "You may not ask about waiting"},
		{petra, `not (quiet_days gt 3)`, 5, "You may not ask about quiet_days"},
	} {
		_, err := k.Group.List(ctx, c.by, group.Query{Filter: c.filter, Limit: 5})
		var p []api.Problem
		if e, ok := err.(*workspace.Error); ok {
			p = e.Problems
		}
		if len(p) != 1 || p[0].Field != "filter" || p[0].At == nil || *p[0].At != c.at || !strings.Contains(p[0].Says, c.says) {
			t.Errorf("%s: %v, %+v", c.filter, err, p)
		}
	}
	if _, err := k.Group.List(ctx, petra, group.Query{Sort: "quiet", Limit: 5}); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("a colleague sorts by quiet: %v", err)
	}
}

func TestWholeListsAreExported(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := k.Make(t, "=Exported", func(n *api.NewGroup) {
		n.Address, n.StartingPoint, n.Description = "exported@merrowline.example", "intake", "With a \"quote\",\nand a line"
	})
	var out bytes.Buffer
	open := func(string) io.Writer { return &out }
	if err := k.Group.Export(ctx, ines, group.Query{Q: "exported"}, workspace.Export{Format: "csv", Open: open}); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&out).ReadAll()
	if err != nil || len(rows) != 2 {
		t.Fatalf("%q, %v", rows, err)
	}
	cell := func(name string) string { return rows[1][slices.Index(rows[0], name)] }
	if cell("name") != "'=Exported" || cell("owner") != "Oda Fenn <"+kit.Owner+">" || cell("post") != "anyone" || cell("starting_point") != "intake" || cell("people") != strconv.Itoa(g.Counts.People) || !strings.Contains(cell("description"), "line") {
		t.Errorf("%q", rows)
	}
	out.Reset()
	if err := k.Group.Export(ctx, ines, group.Query{Q: "exported"}, workspace.Export{Format: "jsonl", Open: open}); err != nil {
		t.Fatal(err)
	}
	var line api.Group
	if err := json.Unmarshal(out.Bytes(), &line); err != nil || line.ID != g.ID || strings.Count(out.String(), "\n") != 1 {
		t.Errorf("%s, %v", out.String(), err)
	}
	err = k.Group.Export(ctx, ines, group.Query{Filter: "nonsense"}, workspace.Export{Format: "csv", Open: func(string) io.Writer { t.Error("an export that is refused was begun"); return io.Discard }})
	if !workspace.IsKind(err, workspace.Invalid) {
		t.Error(err)
	}
}

func TestSearchesFindWhatIsMeant(t *testing.T) {
	ines, petra := k.Actor(t, kit.Administrator), k.Actor(t, kit.Colleague)
	k.Make(t, "Lighthouse Keepers")
	k.Make(t, "Windmill Rota", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("find=owners see_people=owners read=owners join.audience=nobody")
	})
	for _, c := range []struct {
		by           workspace.Actor
		q            string
		want, notice string
	}{
		{ines, "lighthouse-keepers@merrowline.example", "Lighthouse Keepers", ""},
		{ines, "<Lighthouse-Keepers@merrow", "Lighthouse Keepers", ""},
		{ines, "mailto:lighthouse-keepers@merrowline.example,", "Lighthouse Keepers", ""},
		{ines, "lighthouse-keepers@crew.merrowline.example", "", ""},
		{ines, "keepers", "Lighthouse Keepers", ""},
		{ines, "keep lighth", "Lighthouse Keepers", ""},
		{petra, "lihgthouse", "Lighthouse Keepers", "found by \"lighthouse\""},
		{petra, "lighhouse kepers", "", ""}, // one word at a time
		{petra, "kepers", "Lighthouse Keepers", "found by \"keepers\""},
		{ines, "winmill", "Windmill Rota", "found by \"windmill\""},
		{petra, "winmill", "", ""}, // what is hidden is not what somebody meant
		{petra, "windmill", "", ""},
	} {
		page, err := k.Group.List(ctx, c.by, group.Query{Q: c.q, Limit: 10})
		got := ""
		if len(page.Items) > 0 {
			got = page.Items[0].Name
		}
		if err != nil || got != c.want || c.notice == "" != (page.Note == "") || !strings.Contains(page.Note, c.notice) {
			t.Errorf("%q by %s: %q, note %q, %v", c.q, c.by.Person.Name, got, page.Note, err)
		}
	}
}

func TestNamesThatLookTheSame(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	pier := k.Make(t, "Pier Customs")
	alike, err := k.Group.LookAlikes(ctx, ines, api.LookAlikeRequest{Name: "\u0420i\u0435r \u0421ustoms"}) // Р, е and С are Cyrillic
	if err != nil || len(alike.Items) != 1 || alike.Items[0].Address != pier.Address {
		t.Errorf("of a name in letters that look Latin: %+v, %v", alike, err)
	}
	k.Make(t, "\u0420ump \u041e\u0440erators", func(n *api.NewGroup) { n.Address = "pumps@merrowline.example" })
	if alike, err = k.Group.LookAlikes(ctx, ines, api.LookAlikeRequest{Name: "Pump Operators"}); err != nil || len(alike.Items) != 1 {
		t.Errorf("like one that only looks Latin: %+v, %v", alike, err)
	}
	g := k.Make(t, "Gru\u0308nes Netz", func(n *api.NewGroup) { n.Address = "netz@merrowline.example" })
	if g.Name != "Gr\u00fcnes Netz" {
		t.Errorf("ü of two code points is kept as %q", g.Name)
	}
	p, err := k.Naming.Propose(ctx, ines, naming.Proposing{Name: "GRU\u0308NES netz", Domain: "crew.merrowline.example"})
	if err != nil || p.Status != "free" || len(p.Notes) != 1 || !strings.Contains(p.Notes[0], g.Address) {
		t.Errorf("a second one of the name at another address: %+v, %v", p, err)
	}
	preview := kit.Preview(t, ines, func(by workspace.Actor) error {
		return kit.Last(k.Group.Create(ctx, by, api.NewGroup{Name: "Gr\u00fcnes Netz", Address: "netz-2@merrowline.example", Owners: []string{kit.Administrator}}))
	})
	if len(preview.Warnings) == 0 || preview.Warnings[len(preview.Warnings)-1].Field != "name" {
		t.Errorf("the preview of a second one does not warn: %+v", preview.Warnings)
	}
	if p, err = k.Naming.Propose(ctx, ines, naming.Proposing{Name: "x", Address: "@merrowline.example"}); err != nil || p.Status != "invalid" {
		t.Errorf("an empty local part: %+v, %v", p, err)
	}
}
