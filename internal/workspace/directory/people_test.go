package directory_test

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

func TestTheDirectoryOfPeople(t *testing.T) {
	l, ines := k.Hands(t, "people")
	for _, c := range []struct {
		list people.Query
		want int64
	}{
		{people.Query{}, 16}, {people.Query{Q: "han 7"}, 1}, {people.Query{Q: "merrow ines"}, 1}, {people.Query{Kind: "departed"}, 1},
		{people.Query{Lacks: "locality"}, 7}, {people.Query{Lacks: "department"}, 0}, {people.Query{Q: "nobody"}, 0},
	} {
		c.list.Limit = 50
		if p, err := l.People.List(ctx, ines, c.list); err != nil || p.Total != c.want {
			t.Errorf("%+v: %d, %v; want %d", c.list, p.Total, err, c.want)
		}
	}
	for q, want := range map[string]string{"od": "Oda Fenn", "fen": "Oda Fenn", "oda.f": "Oda Fenn", "hand 9": "Hand 9", "9 han": "Hand 9", "ODA FENN": "Oda Fenn"} {
		if found, err := l.People.List(ctx, ines, people.Query{Q: q, Sort: "match", Limit: 8}); err != nil || len(found.Items) != 1 || found.Items[0].Name != want {
			t.Errorf("%q: %+v, %v", q, found, err)
		}
	}
	if found, _ := l.People.List(ctx, ines, people.Query{Q: "rurik", Sort: "match", Limit: 8}); len(found.Items) != 0 {
		t.Error("somebody who left is offered")
	}
	g := l.Make(t, "Person Page")
	hidden := l.Make(t, "Person Page Hidden", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("see_people=owners") })
	d, err := l.People.Read(ctx, ines, kit.Owner)
	if err != nil || len(d.Groups) != 2 || !d.Groups[0].LastOwner || d.Groups[0].Role != "owner" || !slices.Contains(d.May, "change_directory") {
		t.Errorf("%+v, %v", d, err)
	}
	if d, err := l.People.Read(ctx, l.Actor(t, kit.Member), kit.Owner); err != nil || len(d.Groups) != 1 || d.Groups[0].Address != g.Address || len(d.May) != 0 {
		t.Errorf("seen by a member: %+v, %v (hidden: %s)", d, err, hidden.Address)
	}
	if d, err := l.People.Read(ctx, l.Actor(t, kit.Colleague), kit.Owner); err != nil || len(d.Groups) != 0 {
		t.Errorf("seen by a colleague: %+v, %v", d, err)
	}
	h, err := l.History.OfPerson(ctx, ines, kit.Owner, "", 10)
	if err != nil || len(h.Items) != 2 || h.Items[0].Kind != "people.add" {
		t.Errorf("history: %+v, %v", h, err)
	}

	for field, n := range map[string]api.NewPersonEntry{"address": {Address: "x@elsewhere.example", Name: "X"}, "name": {Address: "x@merrowline.example", Name: " "}, "attributes.shoe": {Address: "x@merrowline.example", Name: "X", Attributes: map[string]string{"shoe": "38"}},
		"workspace_role": {Address: "x@merrowline.example", Name: "X", WorkspaceRole: "king"}} {
		if kind, says := kit.KindOf(t, kit.Last(l.Directory.Create(ctx, ines, n))); kind != workspace.Invalid || !strings.Contains(says, field+": ") {
			t.Errorf("%s: %v %s", field, kind, says)
		}
	}
	if kind, says := kit.KindOf(t, kit.Last(l.Directory.Create(ctx, ines, api.NewPersonEntry{Address: g.Address, Name: "X"}))); kind != workspace.Conflict || !strings.Contains(says, "belongs to the group Person Page") {
		t.Errorf("%v %s", kind, says)
	}
	name := "Oda Fenn-Alder"
	now, err := l.Directory.Change(ctx, ines, kit.Owner, api.PersonPatch{Name: &name, Attributes: map[string]string{"title": "Dispatcher", "department": ""}}, d.Version)
	if err != nil || now.Name != name || now.Attributes["title"] != "Dispatcher" || now.Attributes["department"] != "" {
		t.Errorf("%+v, %v", now, err)
	}
	if found, _ := l.People.List(ctx, ines, people.Query{Q: "fenn ald", Sort: "match", Limit: 8}); len(found.Items) != 1 {
		t.Error("not found by the new name")
	}
	if kind, _ := kit.KindOf(t, kit.Last(l.Directory.Change(ctx, ines, kit.Owner, api.PersonPatch{Name: &name}, d.Version))); kind != workspace.Stale {
		t.Error("an old version was taken")
	}
	none := "none"
	if kind, says := kit.KindOf(t, kit.Last(l.Directory.Change(ctx, ines, kit.Administrator, api.PersonPatch{WorkspaceRole: &none}, 0))); kind != workspace.Conflict || !strings.Contains(says, "last administrator") {
		t.Errorf("%v %s", kind, says)
	}
	if kind, _ := kit.KindOf(t, kit.Last(l.Directory.Depart(ctx, ines, kit.Administrator, api.Departure{}, 0))); kind != workspace.Conflict {
		t.Error("the last administrator left")
	}
}

func TestDepartureHandsOver(t *testing.T) {
	l, ines := k.Hands(t, "departure")
	alone := l.Make(t, "Alone", func(n *api.NewGroup) { n.Description = "What only Oda does" })
	shared := l.Make(t, "Shared", func(n *api.NewGroup) { n.Owners = append(n.Owners, kit.Colleague) })
	_, token, err := l.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: kit.Owner, Password: kit.Password})
	if err != nil {
		t.Fatal(err)
	}
	e := kit.Preview(t, ines, func(by workspace.Actor) error {
		return kit.Last(l.Directory.Depart(ctx, by, kit.Owner, api.Departure{}, 0))
	})
	if !strings.Contains(e.Says, "is in 2 groups and owns 2 of them") || e.Total != 1 || e.Sample[0].Address != alone.Address {
		t.Fatalf("%+v", e)
	}
	for _, to := range []string{"nobody@merrowline.example", kit.Owner, kit.Left} {
		if kind, _ := kit.KindOf(t, kit.Last(l.Directory.Depart(ctx, ines, kit.Owner, api.Departure{Successor: to}, 0))); kind != workspace.Invalid {
			t.Errorf("handed to %s", to)
		}
	}
	l.Queued(t)
	p, err := l.Directory.Depart(ctx, ines, kit.Owner, api.Departure{Successor: kit.Member}, 0)
	if err != nil || p.Active || p.DepartedAt == nil {
		t.Fatalf("%+v, %v", p, err)
	}
	if _, err := l.Account.Authenticate(ctx, "session", token); err == nil {
		t.Error("is still signed in")
	}
	letters := l.Letters(t)
	if len(letters) != 1 || letters[0].To[0] != kit.Member || letters[0].Subject != "You now own Alone" || !strings.Contains(letters[0].Text, "What only Oda does") {
		t.Errorf("%+v", letters)
	}
	m, _ := l.Members(ines, alone.Address, member.Query{Role: "owner", Limit: 10})
	if m.Total != 2 || m.Items[0].Active || m.Items[1].Address != kit.Member {
		t.Errorf("owners: %+v", m.Items)
	}
	if r, _ := l.Member.Change(ctx, ines, alone.Address, api.MembersPatch{Members: []string{kit.Member}, Role: "member"}, 0); r.Changed != 0 || !strings.Contains(r.Results[0].Says, "last owner") {
		t.Errorf("the last owner who is here was lost: %+v", r)
	}
	if r, _ := l.Member.Change(ctx, ines, shared.Address, api.MembersPatch{Members: []string{kit.Owner}, Remove: true}, 0); r.Changed != 1 {
		t.Errorf("who has left can't be taken out: %+v", r)
	}
	if kind, _ := kit.KindOf(t, kit.Last(l.Directory.Depart(ctx, ines, kit.Owner, api.Departure{}, 0))); kind != workspace.Conflict {
		t.Error("left twice")
	}
	if p, err = l.Directory.Return(ctx, ines, kit.Owner, 0); err != nil || !p.Active || len(p.Groups) != 1 {
		t.Errorf("returned: %+v, %v", p, err)
	}
	if _, err := l.Directory.Depart(ctx, ines, kit.Member, api.Departure{}, 0); err != nil { // Oda owns Alone again
		t.Fatal(err)
	}
	l.Queued(t)
	if _, err := l.Directory.Depart(ctx, ines, kit.Owner, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	if to := l.Queued(t)["Alone has no owner"]; !slices.Equal(to, []string{kit.Administrator}) {
		t.Errorf("nobody is told that it has no owner: %v", to)
	}
	h, _ := l.History.OfPerson(ctx, ines, kit.Owner, "", 1)
	if h.Items[0].Kind != "person.depart" || !strings.Contains(h.Items[0].Says, "nobody owns Alone now") {
		t.Errorf("not recorded: %+v", h.Items[0])
	}
}

func TestPeopleAreImported(t *testing.T) {
	l, ines := k.Hands(t, "import")
	const file = "E-Mail;Display name;Abteilung;Ort;Schuhe\r\n" +
		"hand-0@merrowline.example;Hand 0;Deck;North Ness;38\r\n" + // changes
		"hand-1@merrowline.example;Hand 1;Deck;Gannet Quay;39\r\n" + // the same
		"fresh@crew.merrowline.example;Fresh Face;Engine;;40\r\n" + // new
		"rurik.gale@merrowline.example;Rurik Gale;Workshop;;\r\n" + // returns
		"x@elsewhere.example;X;;;\r\n" +
		"broken;Y;;;\r\n" +
		"hand-0@merrowline.example;Again;;;\r\n"
	want := map[string]int{"changed": 1, "same": 1, "new": 1, "returned": 1, "wrong": 3}
	look := func(q api.Import) *api.Preview {
		return kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(l.Directory.Import(ctx, by, q)) })
	}
	looked := look(api.Import{Text: file})
	if fmt.Sprint(looked.Counts) != fmt.Sprint(want) || looked.List.Columns[4].Stands != "" || looked.List.Delimiter != ";" || looked.Sample[0].Outcome != "wrong" {
		t.Fatalf("%+v", looked)
	}
	if i := slices.IndexFunc(looked.Sample, func(x api.Line) bool {
		return x.Outcome == "wrong" && strings.Contains(x.Says, "stands on line 2")
	}); i < 0 {
		t.Errorf("%+v", looked.Sample)
	}
	if n, _ := l.Read().CountPeople(); n != 16 {
		t.Errorf("a look at it left %d people", n)
	}
	r, err := l.Directory.Import(ctx, ines, api.Import{Text: file})
	if err != nil || r.Says != looked.Says || fmt.Sprint(r.Counts) != fmt.Sprint(looked.Counts) {
		t.Fatalf("%+v, %v", r, err)
	}
	if n, _ := l.Read().CountPeople(); n != 18 {
		t.Errorf("%d people", n)
	}
	p, _ := l.People.Read(ctx, ines, "hand-0@merrowline.example")
	if p.Attributes["locality"] != "North Ness" || p.Name != "Hand 0" {
		t.Errorf("%+v", p)
	}
	if _, err := l.Account.SignInToSend(ctx, "192.0.2.1", kit.Left, kit.Password); err == nil {
		t.Error("who returned has the password of before")
	}
	h, _ := l.History.List(ctx, ines, "", "", "", 5)
	if i := slices.IndexFunc(h.Items, func(e api.HistoryEntry) bool { return e.Kind == "people.import" }); i < 0 || kit.First(l.History.Affected(ctx, ines, h.Items[i].ID, "", 50)).Total != 3 {
		t.Errorf("%+v", h.Items)
	}
	if looked = look(api.Import{Text: file}); looked.Counts["same"] != 4 || looked.Counts["changed"] != 0 {
		t.Errorf("again: %+v", looked.Counts)
	}

	short := "mail\r\n" + kit.Administrator + "\r\n"
	looked = look(api.Import{Text: short, Sync: true})
	if looked.Counts["departed"] != 17 || len(looked.Problems) != 1 || !strings.Contains(looked.Problems[0].Says, "force it") {
		t.Errorf("sync: %+v", looked)
	}
	if kind, says := kit.KindOf(t, kit.Last(l.Directory.Import(ctx, ines, api.Import{Text: short, Sync: true}))); kind != workspace.Conflict || !strings.Contains(says, "17 of 18") {
		t.Errorf("%v %s", kind, says)
	}
	if r, err = l.Directory.Import(ctx, ines, api.Import{Text: short, Sync: true, Force: true}); err != nil || r.Counts["departed"] != 17 {
		t.Fatalf("%+v, %v", r, err)
	}
	if n, _ := l.Read().CountPeople(); n != 1 {
		t.Errorf("%d people are here", n)
	}
	for _, c := range []struct {
		q    api.Import
		says string
	}{{api.Import{Text: "a@b.example\n"}, "No column"}, {api.Import{Text: "name\nX\n"}, "No column"}, {api.Import{File: []byte("PK\x03\x04")}, "spreadsheet"},
		{api.Import{Text: "a,mail\nx,y@merrowline.example\n", Columns: map[string]string{"a": "address", "mail": "address"}}, "both stand for address"}} {
		if _, says := kit.KindOf(t, kit.Last(l.Directory.Import(ctx, ines, c.q))); !strings.Contains(says, c.says) {
			t.Errorf("%+v: %s", c.q, says)
		}
	}
}

// A file in which many are missing: what they own, are in and sign in with is seen to
// as if each had left alone, but the guard of a rule stops the many.
func TestManyDepartAtOnce(t *testing.T) {
	l, ines := k.Hands(t, "manydepart")
	group := func(name string, owners ...string) api.Group {
		t.Helper()
		g, err := l.Group.Create(ctx, ines, api.NewGroup{Name: name, Owners: owners, Quiet: true})
		if err != nil {
			t.Fatal(err)
		}
		return g
	}
	both := group("Owned by two who go", "hand-1@merrowline.example", "hand-2@merrowline.example")
	kept := group("Owned by one who stays too", "hand-1@merrowline.example", kit.Owner)
	byRule := group("Ruled and left", kit.Owner)
	if _, err := l.Rules.Set(ctx, ines, byRule.Address, api.NewRule{Expression: `displayName sw "Hand"`}, 0); err != nil {
		t.Fatal(err)
	}
	before, err := l.Rules.Read(ctx, ines, byRule.Address)
	if err != nil || before.Members < 3 {
		t.Fatalf("%+v, %v", before, err)
	}
	_, secret, err := l.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: kit.Member, Password: kit.Password})
	if err != nil {
		t.Fatal(err)
	}
	l.Queued(t)

	if kind, says := kit.KindOf(t, kit.Last(l.Directory.Import(ctx, ines, api.Import{Text: "mail\nhand-0@merrowline.example\n", Sync: true, Force: true}))); kind != workspace.Conflict || !strings.Contains(says, "last administrator") {
		t.Errorf("%v %s", kind, says)
	}
	if n, _ := l.Read().CountPeople(); n != 16 {
		t.Fatalf("a sync that was refused left %d people", n)
	}

	file := "mail,name\n" + kit.Administrator + ",\n" + kit.Owner + ",Oda Wren-Fenn\nhand-0@merrowline.example,\n"
	r, err := l.Directory.Import(ctx, ines, api.Import{Text: file, Sync: true, Force: true})
	if err != nil || r.Counts["departed"] != 13 || r.Counts["changed"] != 1 {
		t.Fatalf("%+v, %v", r.Counts, err)
	}
	if _, err := l.Account.Authenticate(ctx, store.SessionCredential, secret); err == nil {
		t.Error("somebody who left is still signed in")
	}
	told := l.Queued(t)
	if to := told["Owned by two who go has no owner"]; !slices.Equal(to, []string{kit.Administrator}) {
		t.Errorf("who is told that it has no owner: %v", to)
	}
	if to, is := told[kept.Name+" has no owner"]; is {
		t.Errorf("%v are told of a group that has an owner", to)
	}
	for _, who := range []string{"hand-1@merrowline.example", "hand-2@merrowline.example"} {
		h, err := l.History.OfPerson(ctx, ines, who, "", 50)
		if i := slices.IndexFunc(h.Items, func(e api.HistoryEntry) bool { return e.Kind == "person.depart" }); err != nil || i < 0 {
			t.Errorf("the departure of %s is not recorded: %+v, %v", who, h.Items, err)
		}
	}
	if g, err := l.Group.Read(ctx, ines, both.Address); err != nil || g.Counts.Owners != 0 || g.Counts.Departed != 2 || len(g.Owners) != 2 || !g.Owners[0].Departed {
		t.Errorf("owners who left are not kept for their return: %+v, %v", g.Counts, err)
	}
	after, err := l.Rules.Read(ctx, ines, byRule.Address)
	if err != nil || after.Members != before.Members || after.Pending == nil || after.Pending.Go != before.Members-1 {
		t.Errorf("the guard let %d of %d go: %+v, %v", before.Members-after.Members, before.Members, after.Pending, err)
	}
	if after, err = l.Rules.Release(ctx, ines, byRule.Address, 0); err != nil || after.Members != 1 {
		t.Errorf("released: %+v, %v", after, err)
	}
	for q, want := range map[string]int{"wren": 1, "oda fenn": 1, "hand": 1} {
		if found, err := l.People.List(ctx, ines, people.Query{Q: q, Sort: "match", Limit: 8}); err != nil || len(found.Items) != want {
			t.Errorf("%s finds %d people, %v", q, len(found.Items), err)
		}
	}
	if _, err := l.Account.SignInToSend(ctx, "192.0.2.1", kit.Owner, kit.Password); err != nil {
		t.Errorf("who was renamed can't sign in: %v", err)
	}
}

// While a file is read, somebody changes one of those in it.
func TestAnImportOfWhatIsOld(t *testing.T) {
	l, ines := k.Hands(t, "importold")
	var all sync.WaitGroup
	errs := make([]error, 3)
	for i := range errs {
		all.Go(func() {
			_, errs[i] = l.Directory.Import(ctx, ines, api.Import{Text: fmt.Sprintf("mail,title\nhand-0@merrowline.example,Mate %d\nhand-1@merrowline.example,Mate %d\n", i, i)})
		})
	}
	all.Wait()
	for _, err := range errs {
		if err != nil {
			if kind, says := kit.KindOf(t, err); kind != workspace.Stale || !strings.Contains(says, "Import it again") {
				t.Errorf("%v %s", kind, says)
			}
		}
	}
	a, _ := l.People.Read(ctx, ines, "hand-0@merrowline.example")
	b, _ := l.People.Read(ctx, ines, "hand-1@merrowline.example")
	if a.Attributes["title"] == "" || a.Attributes["title"] != b.Attributes["title"] {
		t.Errorf("half of one and half of another was imported: %v, %v", a.Attributes, b.Attributes)
	}
}

func TestTwoChangeOnePerson(t *testing.T) {
	l, ines := k.Hands(t, "twochange")
	var all sync.WaitGroup
	errs := make([]error, 4)
	for i := range errs {
		all.Go(func() {
			_, errs[i] = l.Directory.Change(ctx, ines, "hand-0@merrowline.example", api.PersonPatch{Attributes: map[string]string{"title": fmt.Sprint(i)}}, 1)
		})
	}
	all.Wait()
	won := slices.DeleteFunc(slices.Clone(errs), func(err error) bool { return err != nil })
	if len(won) != 1 {
		t.Errorf("%v", errs)
	}
}

// Whoever returns, by whichever way, has no role in the workspace, no delegation and no password until somebody gives them again.
func TestWhatDoesNotComeBack(t *testing.T) {
	l := k.Fresh(t, "not_back")
	ines := l.Actor(t, kit.Administrator)
	if _, err := l.Directory.Change(ctx, ines, kit.Colleague, api.PersonPatch{WorkspaceRole: new("administrator")}, 0); err != nil {
		t.Fatal(err)
	}
	areas := api.NewAreas{Areas: []api.NewArea{{Name: "All", Filter: `domain eq "` + kit.Domain + `"`, Powers: []string{"people"}, Helpers: []string{kit.Member}}}}
	if _, err := l.Area.Set(ctx, ines, areas, 0); err != nil {
		t.Fatal(err)
	}
	for who, says := range map[string]string{kit.Colleague: "their role administrator", kit.Member: "their delegation All"} {
		looked := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(l.Directory.Depart(ctx, by, who, api.Departure{}, 0)) })
		if !strings.Contains(looked.Says, says) {
			t.Errorf("%s leaves: %s", who, looked.Says)
		}
	}
	ways := map[string]func(who string) error{
		"by hand": func(who string) error { return kit.Last(l.Directory.Return(ctx, ines, who, 0)) },
		"by import": func(who string) error {
			return kit.Last(l.Directory.Import(ctx, ines, api.Import{Text: "address,name\n" + who + ",Somebody Back\n"}))
		},
	}
	for way, back := range ways {
		for _, who := range []string{kit.Colleague, kit.Member} {
			if _, err := l.Directory.Depart(ctx, ines, who, api.Departure{}, 0); err != nil {
				t.Fatal(err)
			}
			if err := back(who); err != nil {
				t.Fatal(err)
			}
			p := kit.First(l.Read().PersonByKey(who))
			if !p.Active || p.WorkspaceRole != "" || p.PasswordHash != "" {
				t.Errorf("%s, %s: here %t, role %q, a password: %t", who, way, p.Active, p.WorkspaceRole, p.PasswordHash != "")
			}
			if helpers := kit.First(l.Area.List(ctx, ines)).Areas[0].Helpers; who == kit.Member && len(helpers) > 0 {
				t.Errorf("%s, %s: a delegation came back", who, way)
			}
		}
	}
}
