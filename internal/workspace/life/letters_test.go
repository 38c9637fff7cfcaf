package life_test

import (
	"bytes"
	"context"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/life"
	"ivytable.example/ivytable/internal/workspace/post"
)

// linkOf returns the secret of the link in the one letter to an address.
func linkOf(t *testing.T, letters []kit.Letter, to, path string) string {
	t.Helper()
	for _, x := range letters {
		if _, rest, found := strings.Cut(x.Text, path); found && slices.Contains(x.To, to) {
			return rest[:32]
		}
	}
	t.Fatalf("no letter to %s has a link to %s: %+v", to, path, letters)
	return ""
}

func inForce(t *testing.T, l *kit.Kit, terms api.Terms) {
	t.Helper()
	if _, err := l.Life.SetTerms(ctx, l.Actor(t, kit.Administrator), terms, 0); err != nil {
		t.Fatal(err)
	}
	l.Letters(t)
}

func letters(t *testing.T, l *kit.Kit) []kit.Letter {
	t.Helper()
	if err := l.Life.Run(ctx); err != nil {
		t.Fatal(err)
	}
	return l.Letters(t)
}

func TestRenewedByTheLinkOfALetter(t *testing.T) {
	l := k.Fresh(t, "by_letter")
	one, two := l.Make(t, "One"), l.Make(t, "Two")
	inForce(t, l, half)
	l.Move(150)
	secret := linkOf(t, letters(t, l), kit.Owner, "/renew/")
	told, err := l.Life.Told(ctx, secret)
	if err != nil || told.Recipient != kit.Owner || len(told.Groups) != 2 || !told.Groups[0].Renewable || *told.Groups[0].DaysLeft != 30 {
		t.Fatalf("%+v, %v", told, err)
	}
	nobody := workspace.Actor{}
	if _, err := l.Life.RenewTold(ctx, nobody, secret, api.ToldRenewal{Groups: []string{one.ID, "nonsense"}}); !workspace.IsKind(err, workspace.Invalid) {
		t.Errorf("a group of which it did not tell: %v", err)
	}
	if p := kit.Preview(t, nobody, func(by workspace.Actor) error {
		return kit.Last(l.Life.RenewTold(ctx, by, secret, api.ToldRenewal{Groups: []string{one.ID}}))
	}); p.Says != "1 group renewed." {
		t.Errorf("the preview says %q", p.Says)
	}
	if _, err := l.Life.RenewTold(ctx, nobody, secret, api.ToldRenewal{Groups: []string{one.ID, one.ID}, Reason: " Still needed. "}); err != nil {
		t.Fatal(err)
	}
	if g, _ := l.Group.Read(ctx, l.Actor(t, kit.Owner), one.Address); *g.Term.DaysLeft != 180 {
		t.Errorf("after: %+v", g.Term)
	}
	h, err := l.History.List(ctx, l.Actor(t, kit.Administrator), one.Address, `kind eq "group.renew"`, "", 5)
	if err != nil || len(h.Items) != 1 || h.Items[0].Actor.Address != kit.Owner || h.Items[0].Via != "link" || !strings.Contains(h.Items[0].Says, "Still needed, by a link in a letter") {
		t.Errorf("%+v, %v", h.Items, err)
	}
	// whoever owns it no more does nothing by an old letter
	if _, err := l.Member.Add(ctx, l.Actor(t, kit.Administrator), two.Address, api.NewMembers{Quiet: true, People: []api.NewPerson{{Address: kit.Colleague, Role: "owner"}}}, 0); err != nil {
		t.Fatal(err)
	}
	if err := l.Member.Remove(ctx, l.Actor(t, kit.Administrator), two.Address, kit.Owner, 0); err != nil {
		t.Fatal(err)
	}
	if told, err := l.Life.Told(ctx, secret); err != nil || len(told.Groups) != 1 || told.Groups[0].Address != one.Address {
		t.Errorf("what they are told then: %+v, %v", told, err)
	}
	if _, err := l.Life.RenewTold(ctx, nobody, secret, api.ToldRenewal{Groups: []string{two.ID}}); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("by whoever owned it: %v", err)
	}
	if _, err := l.Life.RenewTold(ctx, nobody, strings.Repeat("x", 32), api.ToldRenewal{Groups: []string{two.ID}}); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("by no link: %v", err)
	}
	l.Move(100)
	if _, err := l.Life.Told(ctx, secret); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("by a link whose time is over: %v", err)
	}
}

// Somebody outside takes care of groups without owners only once they have agreed.
func TestACaretakerOutside(t *testing.T) {
	l := k.Fresh(t, "outside")
	const desk = "desk@gannetport.example"
	orphan := l.Make(t, "Orphan", func(n *api.NewGroup) { n.Owners, n.People = []string{kit.Colleague}, nil })
	terms := all("180 days", 30, 15, 1)
	terms.Caretakers = []api.Caretaker{{Address: desk, Filter: `name eq "Orphan"`}, {Address: kit.Auditor}}
	if _, err := l.Life.SetTerms(ctx, l.Actor(t, kit.Administrator), terms, 0); err != nil {
		t.Fatal(err)
	}
	secret := linkOf(t, l.Letters(t), desk, "/caretaker/")
	if _, err := l.Directory.Depart(ctx, l.Actor(t, kit.Administrator), kit.Colleague, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	l.Letters(t)
	l.Move(150)
	if sent := run(t, l)["Orphan expires in 30 days, on 22 May 2027"]; !slices.Equal(sent, []string{kit.Auditor}) {
		t.Errorf("before they agreed the letter went to %v", sent)
	}
	if asked, err := l.Life.AgreeToCare(ctx, workspace.Actor{}, secret); err != nil || !asked.Agreed || asked.Address != desk {
		t.Errorf("%+v, %v", asked, err)
	}
	l.Move(15)
	renew := linkOf(t, letters(t, l), desk, "/renew/")
	if _, err := l.Life.RenewTold(ctx, workspace.Actor{}, renew, api.ToldRenewal{Groups: []string{orphan.ID}}); err != nil {
		t.Errorf("the caretaker renews: %v", err)
	}
	if got, _ := l.Life.Terms(ctx, l.Actor(t, kit.Administrator)); got.Caretakers[0].State != "reads" {
		t.Errorf("%+v", got.Caretakers)
	}
	terms.Caretakers = terms.Caretakers[1:] // and is one no more
	inForce(t, l, terms)
	if _, err := l.Life.RenewTold(ctx, workspace.Actor{}, renew, api.ToldRenewal{Groups: []string{orphan.ID}}); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("whoever was the caretaker: %v", err)
	}
	if _, err := l.Life.AgreeToCare(ctx, workspace.Actor{}, secret); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("agreeing to what is not asked any more: %v", err)
	}
}

// A group that is in use renews itself, where its rule says so, and its owners are not bothered.
func TestRenewedByUse(t *testing.T) {
	l := k.Fresh(t, "use")
	terms := all("180 days", 30, 15, 1)
	terms.Rules[0].RenewedBy = []string{"post", "join"}
	inForce(t, l, terms)
	written, joined, quiet := l.Make(t, "Written"), l.Make(t, "Joined", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("join.how=freely join.audience=workspace") }), l.Make(t, "Quiet")
	l.Move(100)
	if err := l.Send(t, written.Address, kit.Owner, true, "in use"); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Joining.Join(ctx, l.Actor(t, kit.Colleague), joined.Address, api.JoinRequest{}); err != nil {
		t.Fatal(err)
	}
	l.Letters(t)
	l.Move(50)
	if sent := run(t, l); len(sent) != 1 || sent["Quiet expires in 30 days, on 22 May 2027"] == nil {
		t.Errorf("told: %v", sent)
	}
	for ref, want := range map[string]int{written.Address: 130, joined.Address: 130, quiet.Address: 30} {
		if g, err := l.Group.Read(ctx, l.Actor(t, kit.Administrator), ref); err != nil || *g.Term.DaysLeft != want {
			t.Errorf("%s has %d days left, %v; want %d", ref, *g.Term.DaysLeft, err, want)
		}
	}
	h, err := l.History.List(ctx, l.Actor(t, kit.Administrator), written.Address, `kind eq "group.renew"`, "", 5)
	if err != nil || len(h.Items) != 1 || !strings.Contains(h.Items[0].Says, "since it was in use on 3 Mar 2027") {
		t.Errorf("%+v, %v", h.Items, err)
	}
}

// The last notice goes to the managers of owners too, without a link that renews.
func TestManagersAreTold(t *testing.T) {
	l := k.Fresh(t, "managers")
	l.SQL(t, `UPDATE people SET attributes = JSON_SET(attributes, '$.manager', 'signe.holm@merrowline.example') WHERE address = '`+kit.Owner+`'`)
	l.Make(t, "Managed")
	terms := all("180 days", 30, 15, 1)
	terms.Managers, terms.Caretakers = true, nil
	inForce(t, l, terms)
	l.Move(150)
	if sent := run(t, l); len(sent) != 1 {
		t.Errorf("the first notice: %v", sent)
	}
	l.Move(29)
	got := letters(t, l)
	for _, x := range got {
		if slices.Contains(x.To, kit.Auditor) {
			if !strings.HasPrefix(x.Subject, "Managed expires tomorrow, and its owners have not answered") || strings.Contains(x.Text, "/renew/") {
				t.Errorf("%s\n%s", x.Subject, x.Text)
			}
			return
		}
	}
	t.Errorf("the manager was not told: %+v", got)
}

// A notice whose letter nobody took does not count: the caretaker is told, and the end waits.
func TestALetterThatReachesNobody(t *testing.T) {
	l := k.Fresh(t, "unreached")
	g := l.Make(t, "Unreached")
	inForce(t, l, half)
	l.Move(150)
	if err := l.Life.Run(ctx); err != nil {
		t.Fatal(err)
	}
	jobs, err := l.Post.Claim(ctx, time.Hour, 10)
	if err != nil || len(jobs) != 1 {
		t.Fatalf("%d, %v", len(jobs), err)
	}
	if err := jobs[0].Open(ctx); err != nil {
		t.Fatal(err)
	}
	if err := jobs[0].Record(ctx, []post.Result{{Recipient: kit.Owner, Outcome: post.GivenUp, Reply: "550 no such box"}}, time.Time{}); err != nil {
		t.Fatal(err)
	}
	if sent := run(t, l); len(sent) != 0 {
		t.Errorf("at once again: %v", sent)
	}
	l.Move(1)
	if sent := run(t, l)["Unreached expires in 29 days, on 22 May 2027"]; !slices.Equal(sent, []string{kit.Owner, kit.Auditor}) && !slices.Equal(sent, []string{kit.Auditor, kit.Owner}) {
		t.Errorf("a day later: %v", sent)
	}
	run(t, l)
	if now, err := l.Group.Read(ctx, l.Actor(t, kit.Owner), g.Address); err != nil || *now.Term.DaysLeft != 30 {
		t.Errorf("its end did not move by the day that was lost: %+v, %v", now.Term, err)
	}
}

func TestCalendar(t *testing.T) {
	l := k.Fresh(t, "calendar")
	l.Make(t, "Comma, and; more")
	inForce(t, l, half)
	read := func(who string) string {
		t.Helper()
		feed, err := l.Life.MakeFeed(ctx, l.Actor(t, who))
		if err != nil {
			t.Fatal(err)
		}
		var b bytes.Buffer
		if err := l.Life.Calendar(context.Background(), feed.URL[strings.LastIndexByte(feed.URL, '/')+1:], func(string) io.Writer { return &b }); err != nil {
			t.Fatal(err)
		}
		return strings.ReplaceAll(b.String(), "\r\n ", "")
	}
	if own := read(kit.Owner); !strings.HasPrefix(own, "BEGIN:VCALENDAR\r\n") || strings.Count(own, "BEGIN:VEVENT") != 1 || !strings.Contains(own, `SUMMARY:Comma\, and\; more expires`) || !strings.Contains(own, "DTSTART;VALUE=DATE:20270522") {
		t.Errorf("%s", own)
	}
	if own := read(kit.Member); strings.Contains(own, "VEVENT") {
		t.Errorf("of somebody who owns nothing: %s", own)
	}
	if whole := read(kit.Administrator); !strings.Contains(whole, "SUMMARY:1 group expires") {
		t.Errorf("%s", whole)
	}
	first, err := l.Life.MakeFeed(ctx, l.Actor(t, kit.Owner))
	if err != nil {
		t.Fatal(err)
	}
	read(kit.Owner) // which calls that one back
	if err := l.Life.Calendar(ctx, first.URL[strings.LastIndexByte(first.URL, '/')+1:], func(string) io.Writer { return io.Discard }); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("one that was called back: %v", err)
	}
}

// Which rule holds follows what a group is by then, and the page says why.
func TestRulesFollowTheGroups(t *testing.T) {
	l := k.Fresh(t, "follow")
	ines := l.Actor(t, kit.Administrator)
	g := l.Make(t, "Follower", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("externals=owners") })
	terms := all("180 days", 30)
	terms.Rules = append([]api.TermRule{{Name: "Outsiders", Filter: "external gt 0", Length: "90 days"}, {Name: "Nothing", Filter: `name eq "nothing"`, Length: "60 days"}}, terms.Rules...)
	r := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(l.Life.SetTerms(ctx, by, terms, 0)) })
	if len(r.Warnings) != 2 || !strings.Contains(r.Warnings[0].Says, "names no group") || len(r.Series) < 52 {
		t.Errorf("%+v", r)
	}
	inForce(t, l, terms)
	tried, err := l.Life.Try(ctx, ines, api.TermTrial{Group: g.Address})
	if err != nil || tried.Rule != "Everything else" || len(tried.Steps) != 3 || tried.Steps[0].Names || !strings.Contains(tried.Steps[0].Why[0], "external gt 0 does not hold") {
		t.Errorf("%+v, %v", tried, err)
	}
	if _, err := l.Member.Add(ctx, ines, g.Address, api.NewMembers{People: []api.NewPerson{{Address: "guest@gannetport.example"}}}, 0); err != nil {
		t.Fatal(err)
	}
	l.Letters(t)
	l.Move(1)
	if sent := run(t, l); sent["Follower now expires on 21 Feb 2027"] == nil {
		t.Errorf("told that the end is nearer: %v", sent)
	}
	now, err := l.Group.Read(ctx, ines, g.Address)
	if err != nil || now.Term.Rule != "Outsiders" || *now.Term.DaysLeft != 89 {
		t.Errorf("the day after: %+v, %v", now.Term, err)
	}
	if tried, err = l.Life.Try(ctx, ines, api.TermTrial{Group: g.Address, Terms: &half}); err != nil || tried.Rule != "Everything else" || tried.ExpiresOn != "2027-05-22" {
		t.Errorf("by other terms: %+v, %v", tried, err)
	}
	if p, err := l.Life.Forecast(ctx, ines, life.Asking{Filter: "external gt 0"}); err != nil || p.Total != 1 {
		t.Errorf("the forecast of those with outsiders: %d, %v", p.Total, err)
	}
}
