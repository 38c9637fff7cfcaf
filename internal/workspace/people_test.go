package workspace_test

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

func TestTheDirectoryOfPeople(t *testing.T) {
	l, ines := directory(t, "people")
	for _, c := range []struct {
		list workspace.PeopleList
		want int64
	}{
		{workspace.PeopleList{}, 16}, {workspace.PeopleList{Q: "han 7"}, 1}, {workspace.PeopleList{Q: "merrow ines"}, 1}, {workspace.PeopleList{Kind: "departed"}, 1},
		{workspace.PeopleList{Lacks: "locality"}, 7}, {workspace.PeopleList{Lacks: "department"}, 0}, {workspace.PeopleList{Q: "nobody"}, 0},
	} {
		c.list.Limit = 50
		if p, err := l.W.People(ctx, ines, c.list); err != nil || p.Total != c.want {
			t.Errorf("%+v: %d, %v; want %d", c.list, p.Total, err, c.want)
		}
	}
	for q, want := range map[string]string{"od": "Oda Fenn", "fen": "Oda Fenn", "oda.f": "Oda Fenn", "hand 9": "Hand 9", "9 han": "Hand 9", "ODA FENN": "Oda Fenn"} {
		if found, err := l.W.SuggestPeople(ctx, ines, q, 8); err != nil || len(found) != 1 || found[0].Name != want {
			t.Errorf("%q: %+v, %v", q, found, err)
		}
	}
	if found, _ := l.W.SuggestPeople(ctx, ines, "rurik", 8); len(found) != 0 {
		t.Error("somebody who left is offered")
	}
	g := l.Group(t, "Person Page")
	hidden := l.Group(t, "Person Page Hidden", func(n *api.NewGroup) { n.Policy = map[string]string{"see_people": "owners"} })
	d, err := l.W.Person(ctx, ines, kit.Owner)
	if err != nil || len(d.Groups) != 2 || !d.Groups[0].LastOwner || d.Groups[0].Role != "owner" || !slices.Contains(d.May, "change_directory") {
		t.Errorf("%+v, %v", d, err)
	}
	if d, err := l.W.Person(ctx, l.Actor(t, kit.Member), kit.Owner); err != nil || len(d.Groups) != 1 || d.Groups[0].Address != g.Address || len(d.May) != 0 {
		t.Errorf("seen by a member: %+v, %v (hidden: %s)", d, err, hidden.Address)
	}
	if d, err := l.W.Person(ctx, l.Actor(t, kit.Colleague), kit.Owner); err != nil || len(d.Groups) != 0 {
		t.Errorf("seen by a colleague: %+v, %v", d, err)
	}
	h, err := l.W.HistoryOfPerson(ctx, ines, kit.Owner, "", 10)
	if err != nil || len(h.Items) != 2 || h.Items[0].Action != "people.add" {
		t.Errorf("history: %+v, %v", h, err)
	}

	for field, n := range map[string]api.NewPersonEntry{"address": {Address: "x@elsewhere.example", Name: "X"}, "name": {Address: "x@merrowline.example", Name: " "}, "attributes.shoe": {Address: "x@merrowline.example", Name: "X", Attributes: map[string]string{"shoe": "38"}},
		"workspace_role": {Address: "x@merrowline.example", Name: "X", WorkspaceRole: "king"}} {
		if kind, says := kindOf(t, last(l.W.CreatePerson(ctx, ines, n))); kind != workspace.Invalid || !strings.Contains(says, field+": ") {
			t.Errorf("%s: %v %s", field, kind, says)
		}
	}
	if kind, says := kindOf(t, last(l.W.CreatePerson(ctx, ines, api.NewPersonEntry{Address: g.Address, Name: "X"}))); kind != workspace.Conflict || !strings.Contains(says, "belongs to the group Person Page") {
		t.Errorf("%v %s", kind, says)
	}
	name := "Oda Fenn-Alder"
	now, err := l.W.ChangePerson(ctx, ines, kit.Owner, api.PersonPatch{Name: &name, Attributes: map[string]string{"title": "Dispatcher", "department": ""}}, d.Version)
	if err != nil || now.Name != name || now.Attributes["title"] != "Dispatcher" || now.Attributes["department"] != "" {
		t.Errorf("%+v, %v", now, err)
	}
	if found, _ := l.W.SuggestPeople(ctx, ines, "fenn ald", 8); len(found) != 1 {
		t.Error("not found by the new name")
	}
	if kind, _ := kindOf(t, last(l.W.ChangePerson(ctx, ines, kit.Owner, api.PersonPatch{Name: &name}, d.Version))); kind != workspace.Stale {
		t.Error("an old version was taken")
	}
	none := ""
	if kind, says := kindOf(t, last(l.W.ChangePerson(ctx, ines, kit.Administrator, api.PersonPatch{WorkspaceRole: &none}, 0))); kind != workspace.Conflict || !strings.Contains(says, "last administrator") {
		t.Errorf("%v %s", kind, says)
	}
	if kind, _ := kindOf(t, last(l.W.Depart(ctx, ines, kit.Administrator, api.Departure{}))); kind != workspace.Conflict {
		t.Error("the last administrator left")
	}
}

func TestWhoHasLeftCantAcceptAnInvitation(t *testing.T) {
	l, ines := directory(t, "invited_left")
	g := l.Group(t, "Too Late")
	l.Queued(t)
	if _, err := l.W.AddMembers(ctx, ines, g.Address, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: kit.Colleague}}}); err != nil {
		t.Fatal(err)
	}
	secret := offered(t, l.Letters(t)[0])
	if _, err := l.W.Depart(ctx, ines, kit.Colleague, api.Departure{}); err != nil {
		t.Fatal(err)
	}
	before, _ := l.W.Group(ctx, ines, g.Address)
	if kind, says := kindOf(t, last(l.W.AnswerInvitation(ctx, workspace.Actor{}, secret, api.Answer{Answer: "accept"}))); kind != workspace.Conflict || !strings.Contains(says, "having left") {
		t.Errorf("%v %s", kind, says)
	}
	if now, _ := l.W.Group(ctx, ines, g.Address); now.Counts != before.Counts {
		t.Errorf("%+v, was %+v", now.Counts, before.Counts)
	}
	if _, err := l.W.Return(ctx, ines, kit.Colleague); err != nil {
		t.Fatal(err)
	}
	if o, err := l.W.AnswerInvitation(ctx, workspace.Actor{}, secret, api.Answer{Answer: "accept"}); err != nil || o.State != "accepted" {
		t.Errorf("back again: %+v, %v", o, err)
	}
}

func TestDepartureHandsOver(t *testing.T) {
	l, ines := directory(t, "departure")
	alone := l.Group(t, "Alone", func(n *api.NewGroup) { n.Description = "What only Oda does" })
	shared := l.Group(t, "Shared", func(n *api.NewGroup) { n.Owners = append(n.Owners, kit.Colleague) })
	_, token, err := l.W.SignIn(ctx, kit.Owner, kit.Password)
	if err != nil {
		t.Fatal(err)
	}
	e, err := l.W.DepartureEffect(ctx, ines, kit.Owner)
	if err != nil || e.Groups != 2 || e.Owned != 2 || len(e.LastOwner) != 1 || e.LastOwner[0].Address != alone.Address {
		t.Fatalf("%+v, %v", e, err)
	}
	for _, to := range []string{"nobody@merrowline.example", kit.Owner, kit.Left} {
		if kind, _ := kindOf(t, last(l.W.Depart(ctx, ines, kit.Owner, api.Departure{HandTo: to}))); kind != workspace.Invalid {
			t.Errorf("handed to %s", to)
		}
	}
	l.Queued(t)
	p, err := l.W.Depart(ctx, ines, kit.Owner, api.Departure{HandTo: kit.Member})
	if err != nil || p.Active || p.DepartedAt == nil {
		t.Fatalf("%+v, %v", p, err)
	}
	if _, err := l.W.Authenticate(ctx, "session", token); err == nil {
		t.Error("is still signed in")
	}
	letters := l.Letters(t)
	if len(letters) != 1 || letters[0].To[0] != kit.Member || letters[0].Subject != "You now own Alone" || !strings.Contains(letters[0].Text, "What only Oda does") {
		t.Errorf("%+v", letters)
	}
	m, _ := l.W.Members(ctx, ines, alone.Address, workspace.MemberList{Role: "owner", Limit: 10})
	if m.Total != 2 || m.Items[0].Active || m.Items[1].Address != kit.Member {
		t.Errorf("owners: %+v", m.Items)
	}
	if r, _ := l.W.ChangeMembers(ctx, ines, alone.Address, api.MembersPatch{Members: []string{kit.Member}, Role: "member"}); r.Changed != 0 || !strings.Contains(r.Results[0].Says, "last owner") {
		t.Errorf("the last owner who is here was lost: %+v", r)
	}
	if r, _ := l.W.ChangeMembers(ctx, ines, shared.Address, api.MembersPatch{Members: []string{kit.Owner}, Remove: true}); r.Changed != 1 {
		t.Errorf("who has left can't be taken out: %+v", r)
	}
	if kind, _ := kindOf(t, last(l.W.Depart(ctx, ines, kit.Owner, api.Departure{}))); kind != workspace.Conflict {
		t.Error("left twice")
	}
	if p, err = l.W.Return(ctx, ines, kit.Owner); err != nil || !p.Active || len(p.Groups) != 1 {
		t.Errorf("returned: %+v, %v", p, err)
	}
	if _, err := l.W.Depart(ctx, ines, kit.Member, api.Departure{}); err != nil { // Oda owns Alone again
		t.Fatal(err)
	}
	l.Queued(t)
	if _, err := l.W.Depart(ctx, ines, kit.Owner, api.Departure{}); err != nil {
		t.Fatal(err)
	}
	if to := l.Queued(t)["Alone has no owner"]; !slices.Equal(to, []string{kit.Administrator}) {
		t.Errorf("nobody is told that it has no owner: %v", to)
	}
	h, _ := l.W.HistoryOfPerson(ctx, ines, kit.Owner, "", 1)
	if h.Items[0].Action != "person.depart" || !strings.Contains(fmt.Sprint(h.Items[0].Changes), "no owner") {
		t.Errorf("not recorded: %+v", h.Items[0])
	}
}

func TestPeopleAreImported(t *testing.T) {
	l, ines := directory(t, "import")
	const file = "E-Mail;Display name;Abteilung;Ort;Schuhe\r\n" +
		"hand-0@merrowline.example;Hand 0;Deck;North Ness;38\r\n" + // changes
		"hand-1@merrowline.example;Hand 1;Deck;Gannet Quay;39\r\n" + // the same
		"fresh@crew.merrowline.example;Fresh Face;Engine;;40\r\n" + // new
		"rurik.gale@merrowline.example;Rurik Gale;Workshop;;\r\n" + // returns
		"x@elsewhere.example;X;;;\r\n" +
		"broken;Y;;;\r\n" +
		"hand-0@merrowline.example;Again;;;\r\n"
	want := map[string]int{"changed": 1, "same": 1, "new": 1, "returned": 1, "wrong": 3}
	r, err := l.W.ImportPeople(ctx, ines, api.Import{Text: file, DryRun: true})
	if err != nil || r.Done || fmt.Sprint(r.Counts) != fmt.Sprint(want) || r.Columns[4].Stands != "" || r.Delimiter != ";" || r.Lines[0].Outcome != "wrong" {
		t.Fatalf("%+v, %v", r, err)
	}
	if i := slices.IndexFunc(r.Lines, func(x api.ImportLine) bool {
		return x.Outcome == "wrong" && strings.Contains(x.Says, "stands on line 2")
	}); i < 0 {
		t.Errorf("%+v", r.Lines)
	}
	if n, _ := l.Store.CountPeople(ctx); n != 16 {
		t.Errorf("a dry run left %d people", n)
	}
	if r, err = l.W.ImportPeople(ctx, ines, api.Import{Text: file}); err != nil || !r.Done {
		t.Fatalf("%+v, %v", r, err)
	}
	if n, _ := l.Store.CountPeople(ctx); n != 18 {
		t.Errorf("%d people", n)
	}
	p, _ := l.W.Person(ctx, ines, "hand-0@merrowline.example")
	if p.Attributes["locality"] != "North Ness" || p.Name != "Hand 0" {
		t.Errorf("%+v", p)
	}
	if _, err := l.W.CheckPassword(ctx, kit.Left, kit.Password); err != nil {
		t.Errorf("the password of who returned was lost: %v", err)
	}
	h, _ := l.W.History(ctx, ines, "", "", 5)
	if i := slices.IndexFunc(h.Items, func(e api.HistoryEntry) bool { return e.Action == "people.import" }); i < 0 || len(h.Items[i].Changes) != 4 {
		t.Errorf("%+v", h.Items)
	}
	if r, err = l.W.ImportPeople(ctx, ines, api.Import{Text: file, DryRun: true}); err != nil || r.Counts["same"] != 4 || r.Counts["changed"] != 0 {
		t.Errorf("again: %+v, %v", r.Counts, err)
	}

	short := "mail\r\n" + kit.Administrator + "\r\n"
	r, err = l.W.ImportPeople(ctx, ines, api.Import{Text: short, Sync: true, DryRun: true})
	if err != nil || r.Counts["departed"] != 17 || !strings.Contains(r.Says, "forced") {
		t.Errorf("sync: %+v, %v", r, err)
	}
	if kind, says := kindOf(t, last(l.W.ImportPeople(ctx, ines, api.Import{Text: short, Sync: true}))); kind != workspace.Conflict || !strings.Contains(says, "17 of 18") {
		t.Errorf("%v %s", kind, says)
	}
	if r, err = l.W.ImportPeople(ctx, ines, api.Import{Text: short, Sync: true, Force: true}); err != nil || !r.Done {
		t.Fatalf("%+v, %v", r, err)
	}
	if n, _ := l.Store.CountPeople(ctx); n != 1 {
		t.Errorf("%d people are here", n)
	}
	for _, c := range []struct {
		q    api.Import
		says string
	}{{api.Import{Text: "a@b.example\n"}, "No column"}, {api.Import{Text: "name\nX\n"}, "No column"}, {api.Import{File: []byte("PK\x03\x04")}, "spreadsheet"},
		{api.Import{Text: "a,mail\nx,y@merrowline.example\n", Columns: map[string]string{"a": "address", "mail": "address"}}, "both stand for address"}} {
		if _, says := kindOf(t, last(l.W.ImportPeople(ctx, ines, c.q))); !strings.Contains(says, c.says) {
			t.Errorf("%+v: %s", c.q, says)
		}
	}
}

// A file in which many are missing: what they own, are in and sign in with is seen to
// as if each had left alone, but the guard of a rule stops the many.
func TestManyDepartAtOnce(t *testing.T) {
	l, ines := directory(t, "manydepart")
	group := func(name string, owners ...string) api.Group {
		t.Helper()
		g, err := l.W.CreateGroup(ctx, ines, api.NewGroup{Name: name, Owners: owners, Quiet: true}, "")
		if err != nil {
			t.Fatal(err)
		}
		return g
	}
	both := group("Owned by two who go", "hand-1@merrowline.example", "hand-2@merrowline.example")
	kept := group("Owned by one who stays too", "hand-1@merrowline.example", kit.Owner)
	ruled := group("Ruled and left", kit.Owner)
	if _, err := l.W.SetRule(ctx, ines, ruled.Address, api.NewRule{Expression: `displayName sw "Hand"`}); err != nil {
		t.Fatal(err)
	}
	before, err := l.W.Rule(ctx, ines, ruled.Address)
	if err != nil || before.Members < 3 {
		t.Fatalf("%+v, %v", before, err)
	}
	_, secret, err := l.W.SignIn(ctx, kit.Member, kit.Password)
	if err != nil {
		t.Fatal(err)
	}
	l.Queued(t)

	if kind, says := kindOf(t, last(l.W.ImportPeople(ctx, ines, api.Import{Text: "mail\nhand-0@merrowline.example\n", Sync: true, Force: true}))); kind != workspace.Conflict || !strings.Contains(says, "last administrator") {
		t.Errorf("%v %s", kind, says)
	}
	if n, _ := l.Store.CountPeople(ctx); n != 16 {
		t.Fatalf("a sync that was refused left %d people", n)
	}

	file := "mail,name\n" + kit.Administrator + ",\n" + kit.Owner + ",Oda Wren-Fenn\nhand-0@merrowline.example,\n"
	r, err := l.W.ImportPeople(ctx, ines, api.Import{Text: file, Sync: true, Force: true})
	if err != nil || r.Counts["departed"] != 13 || r.Counts["changed"] != 1 {
		t.Fatalf("%+v, %v", r.Counts, err)
	}
	if _, err := l.W.Authenticate(ctx, store.SessionCredential, secret); err == nil {
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
		h, err := l.W.HistoryOfPerson(ctx, ines, who, "", 50)
		if i := slices.IndexFunc(h.Items, func(e api.HistoryEntry) bool { return e.Action == "person.depart" }); err != nil || i < 0 {
			t.Errorf("the departure of %s is not recorded: %+v, %v", who, h.Items, err)
		}
	}
	if g, err := l.W.Group(ctx, ines, both.Address); err != nil || g.Counts.Owners != 2 {
		t.Errorf("owners who left are not kept for their return: %+v, %v", g.Counts, err)
	}
	after, err := l.W.Rule(ctx, ines, ruled.Address)
	if err != nil || after.Members != before.Members || after.Held == nil || after.Held.Go != before.Members-1 {
		t.Errorf("the guard let %d of %d go: %+v, %v", before.Members-after.Members, before.Members, after.Held, err)
	}
	if after, err = l.W.ReleaseRule(ctx, ines, ruled.Address); err != nil || after.Members != 1 {
		t.Errorf("released: %+v, %v", after, err)
	}
	for q, want := range map[string]int{"wren": 1, "oda fenn": 1, "hand": 1} {
		if found, err := l.W.SuggestPeople(ctx, ines, q, 8); err != nil || len(found) != want {
			t.Errorf("%s finds %d people, %v", q, len(found), err)
		}
	}
	if _, err := l.W.CheckPassword(ctx, kit.Owner, kit.Password); err != nil {
		t.Errorf("who was renamed can't sign in: %v", err)
	}
}

// While a file is read, somebody changes one of those in it.
func TestAnImportOfWhatIsOld(t *testing.T) {
	l, ines := directory(t, "importold")
	var all sync.WaitGroup
	errs := make([]error, 3)
	for i := range errs {
		all.Go(func() {
			_, errs[i] = l.W.ImportPeople(ctx, ines, api.Import{Text: fmt.Sprintf("mail,title\nhand-0@merrowline.example,Mate %d\nhand-1@merrowline.example,Mate %d\n", i, i)})
		})
	}
	all.Wait()
	for _, err := range errs {
		if err != nil {
			if kind, says := kindOf(t, err); kind != workspace.Stale || !strings.Contains(says, "Import it again") {
				t.Errorf("%v %s", kind, says)
			}
		}
	}
	a, _ := l.W.Person(ctx, ines, "hand-0@merrowline.example")
	b, _ := l.W.Person(ctx, ines, "hand-1@merrowline.example")
	if a.Attributes["title"] == "" || a.Attributes["title"] != b.Attributes["title"] {
		t.Errorf("half of one and half of another was imported: %v, %v", a.Attributes, b.Attributes)
	}
}

func TestTwoChangeOnePerson(t *testing.T) {
	l, ines := directory(t, "twochange")
	var all sync.WaitGroup
	errs := make([]error, 4)
	for i := range errs {
		all.Go(func() {
			_, errs[i] = l.W.ChangePerson(ctx, ines, "hand-0@merrowline.example", api.PersonPatch{Attributes: map[string]string{"title": fmt.Sprint(i)}}, 1)
		})
	}
	all.Wait()
	won := slices.DeleteFunc(slices.Clone(errs), func(err error) bool { return err != nil })
	if len(won) != 1 {
		t.Errorf("%v", errs)
	}
}
