package workspace_test

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
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

func staffed(t *testing.T, name string) api.Group {
	t.Helper()
	g := k.Group(t, name, func(n *api.NewGroup) { n.Externals = "owners" })
	if err := k.W.SetStanding(ctx, k.Actor(t, kit.Owner), g.Address, "barred@gannetport.example", api.NewStanding{Standing: "barred"}); err != nil {
		t.Fatal(err)
	}
	return g
}

var doubles = sync.OnceFunc(func() {
	for _, x := range []string{"one", "two"} {
		if _, err := k.W.CreatePerson(ctx, workspace.Actor{Person: first(k.Store.PersonByKey(ctx, kit.Administrator))}, api.NewPersonEntry{Address: "double." + x + "@merrowline.example", Name: "Double " + x}); err != nil {
			panic(err)
		}
	}
})

func first[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}

func TestEveryLineIsLookedAtBeforeAnythingHappens(t *testing.T) {
	doubles()
	oda := k.Actor(t, kit.Owner)
	g := staffed(t, "Looked At")
	r, err := k.W.Roster(ctx, oda, api.RosterRequest{PeopleList: api.PeopleList{Text: mixed}, Group: g.Address})
	if err != nil {
		t.Fatal(err)
	}
	want := map[string]int{"new": 3, "already": 1, "repeated": 1, "unknown": 3, "external": 1, "departed": 1, "refused": 3, "ambiguous": 1, "barred": 1}
	if fmt.Sprint(r.Counts) != fmt.Sprint(want) || r.Ready != 4 || r.Total != 15 || r.Kind != "text" {
		t.Errorf("counts %v, ready %d of %d", r.Counts, r.Ready, r.Total)
	}
	line := func(given string) api.Added {
		i := slices.IndexFunc(r.Lines, func(a api.Added) bool { return a.Given == given })
		if i < 0 {
			t.Fatalf("%s is not shown", given)
		}
		return r.Lines[i]
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
	if now, _ := k.W.Group(ctx, oda, g.Address); now.Counts != g.Counts {
		t.Errorf("something happened: %+v", now.Counts)
	}
	for _, c := range []struct {
		l    api.PeopleList
		says string
	}{
		{api.PeopleList{}, "one way"}, {api.PeopleList{Text: "x", Everyone: true}, "one way"}, {api.PeopleList{File: []byte("PK\x03\x04")}, "spreadsheet"},
		{api.PeopleList{Text: "Department,Title\nDeck,x\n"}, "None of the columns holds addresses"}, {api.PeopleList{Of: "nothing@merrowline.example"}, "There is no group"},
	} {
		if _, says := kindOf(t, last(k.W.Roster(ctx, oda, api.RosterRequest{PeopleList: c.l, Group: g.Address}))); !strings.Contains(says, c.says) {
			t.Errorf("%+v: %s", c.l, says)
		}
	}
	if kind, _ := kindOf(t, last(k.W.Roster(ctx, k.Actor(t, kit.Colleague), api.RosterRequest{PeopleList: api.PeopleList{Text: "x"}, Group: g.Address}))); kind != workspace.NotAllowed {
		t.Error("a colleague looks at lists for a group of others")
	}
}

func TestWhatCanBeAddedIsAddedAndTheRestIsListed(t *testing.T) {
	doubles()
	oda := k.Actor(t, kit.Owner)
	g := staffed(t, "All That Can")
	k.Queued(t)
	all, err := k.W.AddMembers(ctx, oda, g.Address, api.NewMembers{List: &api.PeopleList{Text: mixed}})
	if err != nil || all.Added != 4 || len(all.Results) != 15 || all.Results[0].Outcome == "added" || all.Results[14].Outcome != "added" {
		t.Fatalf("%+v, %v", all, err)
	}
	now, _ := k.W.Group(ctx, oda, g.Address)
	if now.Counts != (api.Counts{Owners: 1, Moderators: 1, Members: 5, External: 1}) {
		t.Errorf("%+v", now.Counts)
	}
	h, _ := k.W.History(ctx, oda, g.Address, "", 1)
	if h.Items[0].Action != "people.add" || len(h.Items[0].Changes) != 4 {
		t.Errorf("it is not one recorded change: %+v", h.Items[0])
	}
	if to := k.Queued(t)["You are now in All That Can"]; len(to) != 4 {
		t.Errorf("told: %v", to)
	}
	table := "E-Mail;Name;Rolle\r\n" + kit.Colleague + ";Petra;Moderator\r\nnew.one@port.example;;\r\nx;y;z\r\n"
	g = staffed(t, "By Table")
	if all, err = k.W.AddMembers(ctx, oda, g.Address, api.NewMembers{List: &api.PeopleList{File: []byte(table)}, Quiet: true}); err != nil || all.Added != 2 {
		t.Fatalf("%+v, %v", all, err)
	}
	m, _ := k.W.Members(ctx, oda, g.Address, workspace.MemberList{Role: "moderator", Limit: 10})
	if m.Total != 2 {
		t.Errorf("a role of the table was lost: %+v", m.Items)
	}
	if q := k.Queued(t); len(q) != 0 {
		t.Errorf("quietly, but told: %v", q)
	}
}

func TestPeopleOfAGroupAndEveryone(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	inner := k.Group(t, "Source Inner", func(n *api.NewGroup) { n.People = append(n.People, api.NewPerson{Address: kit.Colleague}) })
	outer := k.Group(t, "Source Outer", func(n *api.NewGroup) { n.People = []api.NewPerson{{Address: inner.Address}} })
	g, err := k.W.CreateGroup(ctx, ines, api.NewGroup{Name: "Copied", Owners: []string{kit.Auditor}, Lists: []api.PeopleList{{Of: outer.Address}}, Quiet: true}, "")
	if err != nil || g.Counts != (api.Counts{Owners: 1, Members: 4}) {
		t.Errorf("copied: %+v, %v", g.Counts, err)
	}
	if _, err := k.W.AddMembers(ctx, ines, inner.Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Administrator}}, Quiet: true}); err != nil {
		t.Fatal(err)
	}
	if now, _ := k.W.Group(ctx, ines, g.Address); now.Counts.Members != 4 {
		t.Error("a copy follows")
	}
	nested, err := k.W.CreateGroup(ctx, ines, api.NewGroup{Name: "Follows", Owners: []string{kit.Auditor}, People: []api.NewPerson{{Address: inner.Address}}, Quiet: true}, "")
	if err != nil {
		t.Fatal(err)
	}
	if p, err := k.W.Reached(ctx, ines, nested.Address, "", "", 50); err != nil || p.Total != 6 {
		t.Errorf("nested, it reaches %d, %v; want 6", p.Total, err)
	}
	n, _ := k.Store.CountPeople(ctx)
	all, err := k.W.AddMembers(ctx, ines, g.Address, api.NewMembers{List: &api.PeopleList{Everyone: true}, Quiet: true})
	if err != nil || all.Added != int(n)-5 || all.Counts["already"] != 5 {
		t.Errorf("everyone: %d of %d, %v, %v", all.Added, n, all.Counts, err)
	}
	if kind, _ := kindOf(t, last(k.W.AddMembers(ctx, k.Actor(t, kit.Colleague), outer.Address, api.NewMembers{List: &api.PeopleList{Of: g.Address}}))); kind != workspace.NotAllowed {
		t.Error("a colleague staffs a group of others")
	}
}

// offered returns the secret of the link in a letter.
func offered(t *testing.T, l kit.Letter) string {
	t.Helper()
	_, rest, ok := strings.Cut(l.Text, "http://console.example/invitations/")
	if !ok {
		t.Fatalf("no link in\n%s", l.Text)
	}
	return rest[:32]
}

func TestInvitationsAreAnsweredByLink(t *testing.T) {
	oda := k.Actor(t, kit.Owner)
	g := staffed(t, "Invited")
	k.Queued(t)
	all, err := k.W.AddMembers(ctx, oda, g.Address, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: kit.Colleague, Role: "moderator"}, {Address: "pilot@gannetport.example"}, {Address: kit.Member}, {Address: g.Address}}})
	if err != nil || all.Added != 2 || all.Results[2].Outcome != "already" || all.Results[3].Outcome != "refused" {
		t.Fatalf("%+v, %v", all, err)
	}
	if now, _ := k.W.Group(ctx, oda, g.Address); now.Counts != g.Counts {
		t.Error("the invited were put in")
	}
	secrets := map[string]string{}
	for _, l := range k.Letters(t) {
		secrets[l.To[0]] = offered(t, l)
	}
	for range 3 { // looking changes nothing
		if o, err := k.W.Invitation(ctx, secrets[kit.Colleague]); err != nil || o.State != "open" || o.For != kit.Colleague || o.Group.Name != "Invited" {
			t.Fatalf("%+v, %v", o, err)
		}
	}
	if o, err := k.W.AnswerInvitation(ctx, workspace.Actor{}, secrets[kit.Colleague], api.Answer{Answer: "accept"}); err != nil || o.State != "accepted" {
		t.Errorf("%+v, %v", o, err)
	}
	if o, err := k.W.AnswerInvitation(ctx, workspace.Actor{}, secrets["pilot@gannetport.example"], api.Answer{Answer: "decline"}); err != nil || o.State != "declined" {
		t.Errorf("%+v, %v", o, err)
	}
	if kind, says := kindOf(t, last(k.W.AnswerInvitation(ctx, workspace.Actor{}, secrets["pilot@gannetport.example"], api.Answer{Answer: "accept"}))); kind != workspace.Conflict || !strings.Contains(says, "declined already") {
		t.Errorf("answered twice: %v %s", kind, says)
	}
	now, _ := k.W.Group(ctx, oda, g.Address)
	if now.Counts != (api.Counts{Owners: 1, Moderators: 2, Members: 1}) {
		t.Errorf("%+v", now.Counts)
	}

	again := func() string {
		if _, err := k.W.AddMembers(ctx, oda, g.Address, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: "pilot@gannetport.example"}}}); err != nil {
			t.Fatal(err)
		}
		return offered(t, k.Letters(t)[0])
	}
	old, fresh := again(), again()
	if kind, _ := kindOf(t, last(k.W.AnswerInvitation(ctx, workspace.Actor{}, old, api.Answer{Answer: "accept"}))); kind != workspace.Conflict {
		t.Error("an invitation that was replaced is good")
	}
	if p, err := k.W.Invitations(ctx, oda, g.Address, "", 10); err != nil || p.Total != 1 {
		t.Errorf("open: %+v, %v", p, err)
	}
	if err := k.W.CallBackInvitation(ctx, oda, g.Address, "Pilot@gannetport.example"); err != nil {
		t.Fatal(err)
	}
	if o, _ := k.W.Invitation(ctx, fresh); o.State != "called back" {
		t.Errorf("called back, but %+v", o)
	}
	fresh = again()
	k.Move(15)
	defer k.Move(-15)
	if kind, says := kindOf(t, last(k.W.AnswerInvitation(ctx, workspace.Actor{}, fresh, api.Answer{Answer: "accept"}))); kind != workspace.Conflict || !strings.Contains(says, "ended on") {
		t.Errorf("after its end: %v %s", kind, says)
	}
	for answer, secret := range map[string]string{"perhaps": fresh, "accept": "nonsense"} {
		if err := last(k.W.AnswerInvitation(ctx, workspace.Actor{}, secret, api.Answer{Answer: answer})); err == nil {
			t.Errorf("%s was taken", answer)
		}
	}
}

func TestAnInvitationIsAcceptedOnce(t *testing.T) {
	g := staffed(t, "Once Invited")
	k.Queued(t)
	if _, err := k.W.AddMembers(ctx, k.Actor(t, kit.Owner), g.Address, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: "pilot@gannetport.example"}}}); err != nil {
		t.Fatal(err)
	}
	secret := offered(t, k.Letters(t)[0])
	var all sync.WaitGroup
	errs := make([]error, 4)
	for i := range errs {
		all.Go(func() {
			errs[i] = last(k.W.AnswerInvitation(ctx, workspace.Actor{}, secret, api.Answer{Answer: "accept"}))
		})
	}
	all.Wait()
	won := slices.DeleteFunc(errs, func(err error) bool { return err != nil })
	if now, _ := k.W.Group(ctx, k.Actor(t, kit.Owner), g.Address); len(won) != 1 || now.Counts.External != 1 {
		t.Errorf("%d won; %+v", len(won), now.Counts)
	}
}

func TestJoinLinks(t *testing.T) {
	oda, petra := k.Actor(t, kit.Owner), k.Actor(t, kit.Colleague)
	g := k.Group(t, "Linked", func(n *api.NewGroup) { n.Join = &api.JoinPatch{Audience: "nobody"} })
	l, err := k.W.CreateJoinLink(ctx, oda, g.Address, api.NewJoinLink{Days: 7, Most: 1, Note: "Notice board"})
	if err != nil {
		t.Fatal(err)
	}
	secret := l.URL[strings.LastIndexByte(l.URL, '/')+1:]
	if o, err := k.W.ShowJoinLink(ctx, petra, secret); err != nil || o.State != "open" || o.Group.Name != "Linked" {
		t.Errorf("%+v, %v", o, err)
	}
	if _, err := k.W.UseJoinLink(ctx, workspace.Actor{}, secret); err == nil {
		t.Error("nobody used it")
	}
	if kind, _ := kindOf(t, last(k.W.UseJoinLink(ctx, k.Actor(t, kit.Member), secret))); kind != workspace.Conflict {
		t.Error("who is in it used the link up")
	}
	if w, err := k.W.UseJoinLink(ctx, petra, secret); err != nil || w.Outcome != "done" {
		t.Errorf("%+v, %v", w, err)
	}
	if kind, says := kindOf(t, last(k.W.UseJoinLink(ctx, k.Actor(t, kit.Auditor), secret))); kind != workspace.Conflict || !strings.Contains(says, "as many have used it") {
		t.Errorf("used up: %v %s", kind, says)
	}
	l, _ = k.W.CreateJoinLink(ctx, oda, g.Address, api.NewJoinLink{})
	secret = l.URL[strings.LastIndexByte(l.URL, '/')+1:]
	if err := k.W.CallBackJoinLink(ctx, oda, g.Address, l.ID); err != nil {
		t.Fatal(err)
	}
	if kind, says := kindOf(t, last(k.W.UseJoinLink(ctx, k.Actor(t, kit.Auditor), secret))); kind != workspace.Conflict || !strings.Contains(says, "called back") {
		t.Errorf("called back: %v %s", kind, says)
	}
	l, _ = k.W.CreateJoinLink(ctx, oda, g.Address, api.NewJoinLink{Days: 1})
	secret = l.URL[strings.LastIndexByte(l.URL, '/')+1:]
	if all, err := k.W.JoinLinks(ctx, oda, g.Address); err != nil || len(all) != 1 || all[0].URL != "" {
		t.Errorf("good ones: %+v, %v", all, err)
	}
	k.Move(2)
	defer k.Move(-2)
	if o, _ := k.W.ShowJoinLink(ctx, petra, secret); o.State != "expired" {
		t.Errorf("after its end: %+v", o)
	}
}

func TestSeveralRolesAtOnceKeepTheLastOwner(t *testing.T) {
	oda := k.Actor(t, kit.Owner)
	g := k.Group(t, "Several", func(n *api.NewGroup) { n.People = append(n.People, api.NewPerson{Address: kit.Colleague}) })
	r, err := k.W.ChangeMembers(ctx, oda, g.Address, api.MembersPatch{Members: []string{kit.Member, kit.Colleague, "nobody@x.example", kit.Member}, Role: "moderator"})
	if err != nil || r.Changed != 2 || r.Results[2].Outcome != "refused" || r.Results[3].Outcome != "refused" {
		t.Errorf("%+v, %v", r, err)
	}
	h, _ := k.W.History(ctx, oda, g.Address, "", 1)
	if h.Items[0].Action != "people.change" || len(h.Items[0].Changes) != 2 {
		t.Errorf("%+v", h.Items[0])
	}
	if r, _ = k.W.ChangeMembers(ctx, oda, g.Address, api.MembersPatch{Members: []string{kit.Member}, Role: "moderator"}); r.Results[0].Outcome != "same" {
		t.Errorf("%+v", r)
	}
	if r, _ = k.W.ChangeMembers(ctx, oda, g.Address, api.MembersPatch{Members: []string{kit.Owner, kit.Member}, Remove: true}); r.Changed != 1 || !strings.Contains(r.Results[0].Says, "last owner") {
		t.Errorf("%+v", r)
	}
	if kind, says := kindOf(t, last(k.W.Leave(ctx, oda, g.Address, api.Wish{}))); kind != workspace.Conflict || !strings.Contains(says, "last owner") {
		t.Errorf("the last owner left: %v %s", kind, says)
	}
	if err := k.W.SetStanding(ctx, k.Actor(t, kit.Administrator), g.Address, kit.Owner, api.NewStanding{Standing: "barred"}); err == nil {
		t.Error("the last owner was barred")
	}
	if s, _ := k.W.Standings(ctx, oda, g.Address); len(s) != 0 {
		t.Errorf("half done: %+v", s)
	}
	for _, p := range []api.MembersPatch{{Members: []string{kit.Member}}, {Members: []string{kit.Member}, Role: "king"}, {Members: []string{kit.Member}, Role: "owner", Remove: true}} {
		if kind, _ := kindOf(t, last(k.W.ChangeMembers(ctx, oda, g.Address, p))); kind != workspace.Invalid {
			t.Errorf("%+v was taken", p)
		}
	}
}

func TestTwoOwnersCantBothBeLost(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	for i := range 4 {
		g := k.Group(t, fmt.Sprintf("Two Owners %d", i), func(n *api.NewGroup) { n.Owners = append(n.Owners, kit.Colleague) })
		var all sync.WaitGroup
		lost := make([]int, 2)
		for j, who := range []string{kit.Owner, kit.Colleague} {
			all.Go(func() {
				r, err := k.W.ChangeMembers(ctx, ines, g.Address, api.MembersPatch{Members: []string{who}, Remove: true})
				if err != nil {
					t.Error(err)
				}
				lost[j] = r.Changed
			})
		}
		all.Wait()
		now, _ := k.W.Group(ctx, ines, g.Address)
		if lost[0]+lost[1] != 1 || now.Counts.Owners != 1 || len(now.Owners) != 1 {
			t.Errorf("lost %v; %+v", lost, now.Owners)
		}
	}
}

func TestTwoAddTheSamePersonAtOnce(t *testing.T) {
	g := staffed(t, "Added Twice")
	var all sync.WaitGroup
	var mu sync.Mutex
	outcomes := map[string]int{}
	for range 6 {
		all.Go(func() {
			r, err := k.W.AddMembers(ctx, k.Actor(t, kit.Owner), g.Address, api.NewMembers{People: []api.NewPerson{{Address: "same.pilot@gannetport.example"}}, Quiet: true})
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
	now, _ := k.W.Group(ctx, k.Actor(t, kit.Owner), g.Address)
	if outcomes["added"] != 1 || outcomes["already"] != 5 || now.Counts.External != 1 {
		t.Errorf("%v; %+v", outcomes, now.Counts)
	}
}

// A removal of many is undone whole, though the history shows the first fifty.
func TestManyArePutBackFromTheHistory(t *testing.T) {
	l, ines := directory(t, "putback")
	nested := l.Group(t, "Nested and back")
	var lines []string
	for i := range 120 {
		lines = append(lines, fmt.Sprintf("Buoy %d <buoy-%d@port.example>", i, i))
	}
	g := l.Group(t, "Emptied and filled", func(n *api.NewGroup) { n.Externals = "owners" })
	if r, err := l.W.AddMembers(ctx, ines, g.Address, api.NewMembers{People: []api.NewPerson{{Address: nested.Address}}, List: &api.PeopleList{Text: strings.Join(lines, "\n")}, Quiet: true}); err != nil || r.Added != 121 {
		t.Fatalf("%d added, %v", r.Added, err)
	}
	before, err := l.W.Group(ctx, ines, g.Address)
	if err != nil {
		t.Fatal(err)
	}
	gone := []string{kit.Moderator, kit.Member, nested.Address}
	for i := range 120 {
		gone = append(gone, fmt.Sprintf("buoy-%d@port.example", i))
	}
	if _, err := l.W.ChangeMembers(ctx, ines, g.Address, api.MembersPatch{Members: gone, Remove: true}); err != nil {
		t.Fatal(err)
	}
	h, err := l.W.History(ctx, ines, g.Address, "", 1)
	if err != nil || h.Items[0].Action != "people.remove" {
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
		own := l.Group(t, "For "+c.name, func(n *api.NewGroup) { n.Owners = append(n.Owners, kit.Colleague) })
		_, err := l.W.AddMembers(ctx, l.Actor(t, c.as), own.Address, api.NewMembers{List: &c.list})
		if _, says := kindOf(t, err); !strings.Contains(says, "list.taken_out_by: No entry") {
			t.Errorf("%s: %s", c.name, says)
		}
	}
	r, err := l.W.AddMembers(ctx, ines, g.Address, back)
	if err != nil || r.Added != 123 {
		t.Fatalf("%d put back, %v", r.Added, err)
	}
	after, err := l.W.Group(ctx, ines, g.Address)
	if err != nil || after.Counts != before.Counts {
		t.Errorf("%+v before, %+v after, %v", before.Counts, after.Counts, err)
	}
	if r, err := l.W.AddMembers(ctx, ines, g.Address, back); err != nil || r.Added != 0 {
		t.Errorf("again: %d added, %v", r.Added, err)
	}
}
