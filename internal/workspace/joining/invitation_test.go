package joining_test

import (
	"slices"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

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
	g := k.Staffed(t, "Invited")
	k.Queued(t)
	all, err := k.Member.Add(ctx, oda, g.Address, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: kit.Colleague, Role: "moderator"}, {Address: "pilot@gannetport.example"}, {Address: kit.Member}, {Address: g.Address}}}, 0)
	if err != nil || all.Added != 2 || all.Results[2].Outcome != "already" || all.Results[3].Outcome != "refused" {
		t.Fatalf("%+v, %v", all, err)
	}
	if now, _ := k.Group.Read(ctx, oda, g.Address); now.Counts != g.Counts {
		t.Error("the invited were put in")
	}
	secrets := map[string]string{}
	for _, l := range k.Letters(t) {
		secrets[l.To[0]] = offered(t, l)
	}
	for by, want := range map[string]workspace.Kind{"": workspace.SignedOut, kit.Administrator: workspace.NotAllowed, kit.Member: workspace.NotAllowed} { // whoever holds somebody's link
		for _, answer := range []string{"accept", "decline"} {
			if kind, says := kit.KindOf(t, kit.Last(k.Joining.Answer(ctx, k.Actor(t, by), secrets[kit.Colleague], api.Answer{Answer: answer}))); kind != want || !strings.Contains(says, "is for "+kit.Colleague) {
				t.Errorf("%q answers for a colleague: %v %s", by, kind, says)
			}
		}
	}
	for range 3 { // looking changes nothing
		if o, err := k.Joining.Invitation(ctx, secrets[kit.Colleague]); err != nil || o.State != "open" || o.For != kit.Colleague || !o.SignIn || o.Group.Name != "Invited" {
			t.Fatalf("%+v, %v", o, err)
		}
	}
	if o, err := k.Joining.Answer(ctx, k.Actor(t, kit.Colleague), secrets[kit.Colleague], api.Answer{Answer: "accept"}); err != nil || o.State != "accepted" {
		t.Errorf("%+v, %v", o, err)
	}
	if o, err := k.Joining.Answer(ctx, workspace.Actor{}, secrets["pilot@gannetport.example"], api.Answer{Answer: "decline"}); err != nil || o.State != "declined" {
		t.Errorf("%+v, %v", o, err)
	}
	if kind, says := kit.KindOf(t, kit.Last(k.Joining.Answer(ctx, workspace.Actor{}, secrets["pilot@gannetport.example"], api.Answer{Answer: "accept"}))); kind != workspace.Conflict || !strings.Contains(says, "declined already") {
		t.Errorf("answered twice: %v %s", kind, says)
	}
	now, _ := k.Group.Read(ctx, oda, g.Address)
	if now.Counts != (api.Counts{Owners: 1, Moderators: 2, Members: 1, People: 4}) {
		t.Errorf("%+v", now.Counts)
	}

	again := func() string {
		if _, err := k.Member.Add(ctx, oda, g.Address, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: "pilot@gannetport.example"}}}, 0); err != nil {
			t.Fatal(err)
		}
		return offered(t, k.Letters(t)[0])
	}
	old, fresh := again(), again()
	if kind, _ := kit.KindOf(t, kit.Last(k.Joining.Answer(ctx, workspace.Actor{}, old, api.Answer{Answer: "accept"}))); kind != workspace.Conflict {
		t.Error("an invitation that was replaced is good")
	}
	if p, err := k.Joining.Invitations(ctx, oda, g.Address, "", 10); err != nil || p.Total != 1 {
		t.Errorf("open: %+v, %v", p, err)
	}
	if err := k.Joining.CallBackInvitation(ctx, oda, g.Address, "Pilot@gannetport.example"); err != nil {
		t.Fatal(err)
	}
	if o, _ := k.Joining.Invitation(ctx, fresh); o.State != "called back" {
		t.Errorf("called back, but %+v", o)
	}
	fresh = again()
	k.Move(15)
	defer k.Move(-15)
	if kind, says := kit.KindOf(t, kit.Last(k.Joining.Answer(ctx, workspace.Actor{}, fresh, api.Answer{Answer: "accept"}))); kind != workspace.Conflict || !strings.Contains(says, "ended on") {
		t.Errorf("after its end: %v %s", kind, says)
	}
	for answer, secret := range map[string]string{"perhaps": fresh, "accept": "nonsense"} {
		if err := kit.Last(k.Joining.Answer(ctx, workspace.Actor{}, secret, api.Answer{Answer: answer})); err == nil {
			t.Errorf("%s was taken", answer)
		}
	}
}

func TestAnInvitationIsAcceptedOnce(t *testing.T) {
	g := k.Staffed(t, "Once Invited")
	k.Queued(t)
	if _, err := k.Member.Add(ctx, k.Actor(t, kit.Owner), g.Address, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: "pilot@gannetport.example"}}}, 0); err != nil {
		t.Fatal(err)
	}
	secret := offered(t, k.Letters(t)[0])
	var all sync.WaitGroup
	errs := make([]error, 4)
	for i := range errs {
		all.Go(func() {
			errs[i] = kit.Last(k.Joining.Answer(ctx, workspace.Actor{}, secret, api.Answer{Answer: "accept"}))
		})
	}
	all.Wait()
	won := slices.DeleteFunc(errs, func(err error) bool { return err != nil })
	if now, _ := k.Group.Read(ctx, k.Actor(t, kit.Owner), g.Address); len(won) != 1 || now.Counts.External != 1 {
		t.Errorf("%d won; %+v", len(won), now.Counts)
	}
}

func TestJoinLinks(t *testing.T) {
	oda, petra := k.Actor(t, kit.Owner), k.Actor(t, kit.Colleague)
	g := k.Make(t, "Linked", func(n *api.NewGroup) { n.Join = &api.JoinPatch{Audience: "nobody"} })
	l, err := k.Joining.CreateLink(ctx, oda, g.Address, api.NewJoinLink{Days: 7, Max: 1, Note: "Notice board"})
	if err != nil {
		t.Fatal(err)
	}
	secret := l.URL[strings.LastIndexByte(l.URL, '/')+1:]
	if o, err := k.Joining.Link(ctx, petra, secret); err != nil || o.State != "open" || o.Group.Name != "Linked" {
		t.Errorf("%+v, %v", o, err)
	}
	if _, err := k.Joining.UseLink(ctx, workspace.Actor{}, secret); err == nil {
		t.Error("nobody used it")
	}
	if kind, _ := kit.KindOf(t, kit.Last(k.Joining.UseLink(ctx, k.Actor(t, kit.Member), secret))); kind != workspace.Conflict {
		t.Error("who is in it used the link up")
	}
	if w, err := k.Joining.UseLink(ctx, petra, secret); err != nil || w.Outcome != "done" {
		t.Errorf("%+v, %v", w, err)
	}
	if kind, says := kit.KindOf(t, kit.Last(k.Joining.UseLink(ctx, k.Actor(t, kit.Auditor), secret))); kind != workspace.Conflict || !strings.Contains(says, "as many have used it") {
		t.Errorf("used up: %v %s", kind, says)
	}
	l, _ = k.Joining.CreateLink(ctx, oda, g.Address, api.NewJoinLink{})
	secret = l.URL[strings.LastIndexByte(l.URL, '/')+1:]
	if err := k.Joining.CallBackLink(ctx, oda, g.Address, l.ID); err != nil {
		t.Fatal(err)
	}
	if kind, says := kit.KindOf(t, kit.Last(k.Joining.UseLink(ctx, k.Actor(t, kit.Auditor), secret))); kind != workspace.Conflict || !strings.Contains(says, "called back") {
		t.Errorf("called back: %v %s", kind, says)
	}
	l, _ = k.Joining.CreateLink(ctx, oda, g.Address, api.NewJoinLink{Days: 1})
	secret = l.URL[strings.LastIndexByte(l.URL, '/')+1:]
	if all, err := k.Joining.Links(ctx, oda, g.Address, "", 100); err != nil || len(all.Items) != 1 || all.Items[0].URL != "" {
		t.Errorf("good ones: %+v, %v", all, err)
	}
	k.Move(2)
	defer k.Move(-2)
	if o, _ := k.Joining.Link(ctx, petra, secret); o.State != "expired" {
		t.Errorf("after its end: %+v", o)
	}
}

func TestWhoHasLeftCantAcceptAnInvitation(t *testing.T) {
	l, ines := k.Hands(t, "invited_left")
	g := l.Make(t, "Too Late")
	l.Queued(t)
	if _, err := l.Member.Add(ctx, ines, g.Address, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: kit.Colleague}}}, 0); err != nil {
		t.Fatal(err)
	}
	secret := offered(t, l.Letters(t)[0])
	if _, err := l.Directory.Depart(ctx, ines, kit.Colleague, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	before, _ := l.Group.Read(ctx, ines, g.Address)
	for _, by := range []workspace.Actor{{}, l.Actor(t, kit.Colleague)} {
		if kind, says := kit.KindOf(t, kit.Last(l.Joining.Answer(ctx, by, secret, api.Answer{Answer: "accept"}))); kind != workspace.SignedOut {
			t.Errorf("%v %s", kind, says)
		}
	}
	if now, _ := l.Group.Read(ctx, ines, g.Address); now.Counts != before.Counts {
		t.Errorf("%+v, was %+v", now.Counts, before.Counts)
	}
	if _, err := l.Directory.Return(ctx, ines, kit.Colleague, 0); err != nil {
		t.Fatal(err)
	}
	if o, err := l.Joining.Answer(ctx, l.Actor(t, kit.Colleague), secret, api.Answer{Answer: "accept"}); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("back again: %+v, %v", o, err)
	}
}

// Somebody who is barred can't come in by an invitation that is still in their mail.
func TestBarEndsInvitations(t *testing.T) {
	const guest = "late.guest@gannetport.example"
	oda := k.Actor(t, kit.Owner)
	g := k.Make(t, "Invited Then Barred", func(n *api.NewGroup) { n.Externals = "owners" })
	k.Queued(t)
	if _, err := k.Member.Add(ctx, oda, g.Address, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: guest}}}, 0); err != nil {
		t.Fatal(err)
	}
	if p, err := k.Joining.Invitations(ctx, oda, g.Address, "", 5); err != nil || len(p.Items) != 1 {
		t.Fatalf("%+v, %v", p, err)
	}
	if err := k.Rules.SetOverride(ctx, oda, g.Address, guest, api.NewOverride{Override: "barred"}, 0); err != nil {
		t.Fatal(err)
	}
	if p, err := k.Joining.Invitations(ctx, oda, g.Address, "", 5); err != nil || len(p.Items) > 0 {
		t.Errorf("%+v, %v", p, err)
	}
	k.Queued(t)
}
