package workspace_test

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
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

func TestRequestsToJoinAndLeave(t *testing.T) {
	oda, petra, signe := k.Actor(t, kit.Owner), k.Actor(t, kit.Colleague), k.Actor(t, kit.Auditor)
	g := k.Group(t, "Asked For", func(n *api.NewGroup) { n.Leave = "asking" })
	closed := k.Group(t, "Shut", func(n *api.NewGroup) { n.Join = &api.JoinPatch{Audience: "nobody"}; n.Leave = "fixed" })
	open := k.Group(t, "Open Door", func(n *api.NewGroup) { n.Join = &api.JoinPatch{How: "freely"} })
	k.Queued(t)
	if w, err := k.W.Join(ctx, petra, g.Address, api.Wish{Note: "I take nights"}); err != nil || w.Outcome != "asked" {
		t.Fatalf("%+v, %v", w, err)
	}
	if l := k.Letters(t); len(l) != 1 || l[0].To[0] != kit.Owner || !strings.Contains(l[0].Subject, "Petra Vane asks to join Asked For") || !strings.Contains(l[0].Text, "I take nights") {
		t.Errorf("the owner is not told: %+v", l)
	}
	if kind, _ := kindOf(t, last(k.W.Join(ctx, petra, g.Address, api.Wish{}))); kind != workspace.Conflict {
		t.Error("asked twice")
	}
	if kind, says := kindOf(t, last(k.W.Join(ctx, petra, closed.Address, api.Wish{}))); kind != workspace.NotAllowed || !strings.Contains(says, "by invitation only") || !strings.Contains(says, "shut-owners@") {
		t.Errorf("a closed group: %v %s", kind, says)
	}
	if w, err := k.W.Join(ctx, petra, open.Address, api.Wish{}); err != nil || w.Outcome != "done" {
		t.Errorf("an open one: %+v, %v", w, err)
	}
	if _, err := k.W.Join(ctx, signe, g.Address, api.Wish{}); err != nil {
		t.Error(err)
	}
	if w, err := k.W.Leave(ctx, k.Actor(t, kit.Member), g.Address, api.Wish{}); err != nil || w.Outcome != "asked" {
		t.Errorf("leaving by asking: %+v, %v", w, err)
	}
	if kind, _ := kindOf(t, last(k.W.Leave(ctx, k.Actor(t, kit.Member), closed.Address, api.Wish{}))); kind != workspace.NotAllowed {
		t.Error("left a fixed group")
	}
	mine, err := k.W.Requests(ctx, petra, "", true, "", 10)
	if err != nil || mine.Items[0].Group.Name != "Asked For" || mine.Items[0].State != "open" {
		t.Errorf("mine: %+v, %v", mine, err)
	}
	p, err := k.W.Requests(ctx, k.Actor(t, kit.Moderator), "", false, "", 50)
	ids := []string{}
	for _, r := range p.Items {
		if r.Group.Name == "Asked For" {
			ids = append(ids, r.ID)
		}
	}
	if err != nil || len(ids) != 3 {
		t.Fatalf("for the moderator: %+v, %v", p, err)
	}
	if p, _ := k.W.Requests(ctx, petra, "", false, "", 50); p.Total != 0 {
		t.Error("a colleague sees requests of groups of others")
	}
	if d, err := k.W.DecideRequests(ctx, petra, api.Decisions{Requests: ids, Verdict: "approve"}); err != nil || d[0].Outcome != "refused" {
		t.Errorf("a colleague decides: %+v, %v", d, err)
	}
	k.Queued(t)
	d, err := k.W.DecideRequests(ctx, oda, api.Decisions{Requests: []string{ids[0], ids[2], "nonsense"}, Verdict: "approve"})
	if err != nil || d[0].Outcome != "approved" || d[1].Outcome != "approved" || d[2].Outcome != "refused" {
		t.Fatalf("%+v, %v", d, err)
	}
	if d, err = k.W.DecideRequests(ctx, oda, api.Decisions{Requests: ids[:2], Verdict: "decline", Reason: "Dispatch only"}); err != nil || d[0].Outcome != "refused" || d[1].Outcome != "declined" || !strings.Contains(d[0].Says, "approved already by") {
		t.Fatalf("%+v, %v", d, err)
	}
	letters := k.Letters(t)
	i := slices.IndexFunc(letters, func(l kit.Letter) bool { return l.To[0] == kit.Auditor })
	if len(letters) != 3 || i < 0 || !strings.Contains(letters[i].Text, "Dispatch only") {
		t.Errorf("those who asked are not told: %+v", letters)
	}
	now, _ := k.W.Group(ctx, oda, g.Address)
	if now.Counts != (api.Counts{Owners: 1, Moderators: 1, Members: 1}) { // Petra came, Tove went
		t.Errorf("%+v", now.Counts)
	}
	if _, err := k.W.Join(ctx, signe, g.Address, api.Wish{}); err != nil {
		t.Errorf("asked again after a no: %v", err)
	}
	mine, _ = k.W.Requests(ctx, signe, "", true, "", 10)
	if err := k.W.WithdrawRequest(ctx, signe, mine.Items[0].ID); err != nil {
		t.Error(err)
	}
	if err := k.W.WithdrawRequest(ctx, signe, mine.Items[0].ID); err == nil {
		t.Error("withdrawn twice")
	}
	k.Queued(t)
}

func TestWhoeverIsBarredStaysOut(t *testing.T) {
	oda, petra := k.Actor(t, kit.Owner), k.Actor(t, kit.Colleague)
	g := k.Group(t, "Barring", func(n *api.NewGroup) {
		n.Policy, n.Join = map[string]string{"post": "workspace"}, &api.JoinPatch{How: "freely"}
		n.People = append(n.People, api.NewPerson{Address: kit.Colleague})
	})
	if err := post(t, g.Address, kit.Colleague, true, "before"); err != nil {
		t.Fatal(err)
	}
	if err := k.W.SetStanding(ctx, k.Actor(t, kit.Moderator), g.Address, kit.Colleague, api.NewStanding{Standing: "barred", Reason: "Shouts"}); err != nil {
		t.Fatal(err)
	}
	if now, _ := k.W.Group(ctx, oda, g.Address); now.Counts.Members != 1 {
		t.Errorf("is still in it: %+v", now.Counts)
	}
	if err := post(t, g.Address, kit.Colleague, true, "after"); err == nil || !strings.Contains(err.Error(), "barred") {
		t.Errorf("still writes: %v", err)
	}
	if d, err := k.W.Rehearse(ctx, oda, api.Rehearsal{Action: "post", Group: g.Address, As: kit.Colleague}); err != nil || d.Rule != "person.barred" {
		t.Errorf("rehearsed: %+v, %v", d, err)
	}
	if kind, says := kindOf(t, last(k.W.Join(ctx, petra, g.Address, api.Wish{}))); kind != workspace.NotAllowed || !strings.Contains(says, "barred") {
		t.Errorf("joins: %v %s", kind, says)
	}
	if all, _ := k.W.AddMembers(ctx, oda, g.Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Colleague}}}); all.Results[0].Status != "barred" {
		t.Errorf("is added: %+v", all)
	}
	if s, err := k.W.Standings(ctx, oda, g.Address); err != nil || len(s) != 1 || s[0].Name != "Petra Vane" || s[0].Reason != "Shouts" {
		t.Errorf("%+v, %v", s, err)
	}
	if err := k.W.SetStanding(ctx, oda, g.Address, kit.Colleague, api.NewStanding{Standing: "none"}); err != nil {
		t.Fatal(err)
	}
	if _, err := k.W.Join(ctx, petra, g.Address, api.Wish{}); err != nil {
		t.Errorf("after the bar was lifted: %v", err)
	}
	if err := k.W.SetStanding(ctx, oda, g.Address, kit.Colleague, api.NewStanding{Standing: "held"}); err != nil {
		t.Fatal(err)
	}
	if d, _ := k.W.Rehearse(ctx, oda, api.Rehearsal{Action: "post", Group: g.Address, As: kit.Colleague}); d.Rule != "person.held" || d.Outcome != "hold" {
		t.Errorf("held: %+v", d)
	}
	if kind, _ := kindOf(t, k.W.SetStanding(ctx, oda, g.Address, kit.Colleague, api.NewStanding{Standing: "loved"})); kind != workspace.Invalid {
		t.Error("an unknown standing was taken")
	}
	k.Queued(t)
}

func TestMembersAreFilteredAndExported(t *testing.T) {
	oda := k.Actor(t, kit.Owner)
	g := staffed(t, "Filtered")
	inner := k.Group(t, "Filtered Inner")
	if _, err := k.W.AddMembers(ctx, oda, g.Address, api.NewMembers{Quiet: true, People: []api.NewPerson{{Address: "=cmd@gannetport.example"}, {Address: inner.Address}, {Address: kit.Colleague}}}); err != nil {
		t.Fatal(err)
	}
	if _, err := k.W.ChangeMember(ctx, oda, g.Address, kit.Colleague, api.MemberPatch{Delivery: "none"}); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		l    workspace.MemberList
		want int64
	}{
		{workspace.MemberList{}, 6}, {workspace.MemberList{Role: "owner"}, 1}, {workspace.MemberList{Kind: "external"}, 1}, {workspace.MemberList{Kind: "group"}, 1}, {workspace.MemberList{Kind: "person"}, 4},
		{workspace.MemberList{Delivery: "none"}, 1}, {workspace.MemberList{Delivery: "each"}, 5}, {workspace.MemberList{Q: "petr va"}, 1}, {workspace.MemberList{Kind: "departed"}, 0},
		{workspace.MemberList{Way: "hand"}, 6}, {workspace.MemberList{Way: "rule"}, 0}, {workspace.MemberList{Since: "2026-01-01"}, 6}, {workspace.MemberList{Since: "2030-01-01"}, 0}, {workspace.MemberList{Q: "tove", Role: "owner"}, 0},
	} {
		c.l.Limit = 50
		if p, err := k.W.Members(ctx, oda, g.Address, c.l); err != nil || p.Total != c.want || int64(len(p.Items)) != c.want {
			t.Errorf("%+v: %d, %v; want %d", c.l, p.Total, err, c.want)
		}
	}
	for _, l := range []workspace.MemberList{{Role: "king"}, {Delivery: "x"}, {Kind: "x"}, {Way: "x"}, {Since: "yesterday"}} {
		if kind, _ := kindOf(t, last(k.W.Members(ctx, oda, g.Address, l))); kind != workspace.Invalid {
			t.Errorf("%+v was taken", l)
		}
	}
	var b bytes.Buffer
	if err := k.W.ExportMembers(ctx, oda, g.Address, workspace.MemberList{}, func(name string) io.Writer {
		if name != "filtered.csv" {
			t.Errorf("named %s", name)
		}
		return &b
	}); err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(&b).ReadAll()
	if err != nil || len(rows) != 7 || !slices.Equal(rows[0], workspace.MemberColumns) || rows[1][1] != kit.Owner {
		t.Errorf("%v, %v", rows, err)
	}
	begun := false
	if err := k.W.ExportMembers(ctx, k.Actor(t, kit.Colleague), k.Group(t, "Not Exported").Address, workspace.MemberList{}, func(string) io.Writer { begun = true; return io.Discard }); err == nil || begun {
		t.Error("a colleague exports who is in a group that does not show it")
	}
}

func TestLoopsAreRefusedWithTheirPath(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	made := []api.Group{k.Group(t, "Deep 0")}
	for i := 1; i < 8; i++ {
		g := k.Group(t, fmt.Sprintf("Deep %d", i))
		if r, err := k.W.AddMembers(ctx, ines, made[i-1].Address, api.NewMembers{People: []api.NewPerson{{Address: g.Address}}}); err != nil || r.Added != 1 {
			t.Fatalf("%+v, %v", r, err)
		}
		made = append(made, g)
	}
	r, err := k.W.AddMembers(ctx, ines, made[3].Address, api.NewMembers{People: []api.NewPerson{{Address: made[0].Address}, {Address: made[3].Address}}})
	if err != nil || !strings.Contains(r.Results[0].Says, "Deep 0 › Deep 1 › Deep 2 › Deep 3") || !strings.Contains(r.Results[1].Says, "in itself") {
		t.Errorf("%+v, %v", r, err)
	}
	ninth := k.Group(t, "Deep 8")
	for _, c := range [][2]string{{made[7].Address, ninth.Address}, {ninth.Address, made[0].Address}} {
		if r, _ := k.W.AddMembers(ctx, ines, c[0], api.NewMembers{People: []api.NewPerson{{Address: c[1]}}}); r.Added != 0 || !strings.Contains(r.Results[0].Says, "8 deep at most") {
			t.Errorf("%s in %s: %+v", c[1], c[0], r)
		}
	}
	n, err := k.W.Nesting(ctx, ines, made[3].Address)
	if err != nil || len(n.Groups) != 8 || len(n.Edges) != 7 || n.Groups[0].Depth != -3 || n.Groups[7].Depth != 4 {
		t.Errorf("%+v, %v", n, err)
	}
	p, err := k.W.Reached(ctx, ines, made[0].Address, "tove", "", 10)
	if err != nil || p.Total != 1 || len(p.Items[0].Through) != 8 || p.Items[0].Role != "member" {
		t.Errorf("%+v, %v", p, err)
	}
	k.Queued(t)
	if err := post(t, made[0].Address, kit.Member, true, "to all of them"); err != nil {
		t.Fatal(err)
	}
	if to := k.Queued(t)["to all of them"]; len(to) != 3 {
		t.Errorf("goes to %v", to)
	}
	if _, err := k.W.Retire(ctx, ines, made[4].Address, 0); err != nil {
		t.Fatal(err)
	}
	if n, _ := k.W.Nesting(ctx, ines, made[3].Address); len(n.Groups) != 4 {
		t.Errorf("a group that has ended is drawn: %+v", n.Groups)
	}
}

func TestWhoRunsItAndHowToJoin(t *testing.T) {
	petra := k.Actor(t, kit.Colleague)
	g := k.Group(t, "Discovered")
	k.Group(t, "Discovered Shut", func(n *api.NewGroup) { n.Join = &api.JoinPatch{Audience: "nobody"} })
	p, err := k.W.Groups(ctx, petra, workspace.GroupList{Q: "discovered", Scope: "joinable", Limit: 10})
	if err != nil || p.Total != 1 || p.Items[0].Address != g.Address || p.Items[0].Owners[0].Name != "Oda Fenn" {
		t.Errorf("%+v, %v", p, err)
	}
	if p, _ := k.W.Groups(ctx, k.Actor(t, kit.Member), workspace.GroupList{Q: "discovered", Scope: "joinable", Limit: 10}); p.Total != 0 {
		t.Error("a member could join again")
	}
	k.Queued(t)
	if err := post(t, "discovered-owners@merrowline.example", kit.Colleague, true, "May I come?"); err != nil {
		t.Fatal(err)
	}
	if to := k.Queued(t)["May I come?"]; !slices.Equal(to, []string{kit.Owner}) {
		t.Errorf("the owners' mail goes to %v", to)
	}
}
