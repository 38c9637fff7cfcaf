package mail_test

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/mail"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/post"
	"ivytable.example/ivytable/internal/workspace/review"
)

const outsider = "pilot@harbour.example"

// handOver sends a message to a group and hands it over; it returns the copies that went out, and what they said.
func handOver(t *testing.T, l *kit.Kit, group, subject string) (copies []post.Copy, texts []string) {
	t.Helper()
	if err := l.Send(t, group, kit.Member, true, subject); err != nil {
		t.Fatal(err)
	}
	jobs, err := l.Post.Claim(ctx, time.Hour, 10)
	if err != nil {
		t.Fatal(err)
	}
	for _, j := range jobs {
		if err := j.Open(ctx); err != nil {
			t.Fatal(err)
		}
		for len(j.To) > 0 {
			some, err := j.Next(ctx, 1, 100)
			if err != nil {
				t.Fatal(err)
			}
			b, err := io.ReadAll(j.Message(ctx, some[0]))
			if err != nil {
				t.Fatal(err)
			}
			var r []post.Result
			for _, to := range some[0].To {
				r = append(r, post.Result{Recipient: to})
			}
			if err := j.Record(ctx, r, time.Time{}); err != nil {
				t.Fatal(err)
			}
			if some[0].Sender != "" {
				copies, texts = append(copies, some[0]), append(texts, string(b))
			}
		}
	}
	return copies, texts
}

// back sends a report to whoever an envelope of ours was from.
func back(t *testing.T, l *kit.Kit, to, report string) {
	t.Helper()
	raw := "From: Mail Delivery <mailer-daemon@relay.example>\r\nSubject: Undelivered\r\n" + report
	head, body, _ := strings.Cut(raw, "\r\n\r\n")
	d, err := l.Post.Find(ctx, kit.Address(t, to), true)
	if err != nil {
		t.Fatal(err)
	}
	a := kit.Arrived(t, "mailer-daemon@relay.example", false, "Undelivered", body, d)
	a.ReturnPath, a.Automatic = "", true
	a.Report = mail.ReadReport(kit.Address(t, "mailer-daemon@relay.example"), []byte(head+"\r\n"), strings.NewReader(body))
	if err := l.Post.Accept(ctx, a); err != nil {
		t.Fatal(err)
	}
}

// failedFor is a report of RFC 3464 about one recipient.
func failedFor(address, action, status string) string {
	return "MIME-Version: 1.0\r\nContent-Type: multipart/report; report-type=delivery-status; boundary=b\r\n\r\n--b\r\nContent-Type: text/plain\r\n\r\nSorry.\r\n--b\r\nContent-Type: message/delivery-status\r\n\r\n" +
		"Reporting-MTA: dns; relay.example\r\n\r\nFinal-Recipient: rfc822; " + address + "\r\nAction: " + action + "\r\nStatus: " + status + "\r\nDiagnostic-Code: smtp; 550 " + status + " no such box\r\n--b--\r\n"
}

func withOutsider(t *testing.T, l *kit.Kit, name string) api.Group {
	t.Helper()
	g := l.Make(t, name, func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("externals=adders leave=free")
	})
	if _, err := l.Member.Add(ctx, l.Actor(t, kit.Owner), g.Address, api.NewMembers{People: []api.NewPerson{{Address: outsider}}}, 0); err != nil {
		t.Fatal(err)
	}
	l.Queued(t)
	return g
}

func state(t *testing.T, l *kit.Kit, address string) api.MailState {
	t.Helper()
	p, err := l.People.Read(ctx, l.Actor(t, kit.Administrator), address)
	if err != nil {
		t.Fatal(err)
	}
	return p.Mail
}

// Members share a copy; somebody external has one of their own, with a link of their own, by which one click ends it.
func TestCopiesAndOneClick(t *testing.T) {
	l := k.Fresh(t, "mail_copies")
	g := withOutsider(t, l, "Copies")
	copies, texts := handOver(t, l, g.Address, "to all")
	if len(copies) != 2 || len(copies[0].To) != 3 || !slices.Equal(copies[1].To, []string{outsider}) {
		t.Fatalf("copies: %+v", copies)
	}
	if copies[0].Sender == copies[1].Sender || !strings.HasPrefix(copies[0].Sender, "returned-") || len(copies[0].Sender) > 64+len("@merrowline.example") {
		t.Errorf("senders of the envelopes: %s, %s", copies[0].Sender, copies[1].Sender)
	}
	if page := "List-Unsubscribe: <http://console.example/groups/" + g.ID + ">,\r\n <mailto:x-request@merrowline.example?subject=unsubscribe>\r\n"; !strings.Contains(texts[0], page) || strings.Contains(texts[0], "One-Click") || strings.Contains(texts[0], "/own/") {
		t.Errorf("members get %s", texts[0])
	}
	_, rest, _ := strings.Cut(texts[1], "List-Unsubscribe: <http://console.example/own/")
	secret, _, _ := strings.Cut(rest, ">")
	if !strings.Contains(texts[1], ">,\r\n <mailto:x-request@merrowline.example?subject=unsubscribe>\r\nList-Unsubscribe-Post: List-Unsubscribe=One-Click\r\n") || secret == "" {
		t.Fatalf("the outsider gets %s", texts[1])
	}
	if is, err := l.External.Own(ctx, secret); err != nil || is.Person.Address != outsider || is.State != "in" {
		t.Errorf("looking at it: %+v, %v", is, err)
	}
	for _, wrong := range []string{secret[:len(secret)-2] + "AA", secret[1:], "x" + secret} {
		if _, err := l.External.Own(ctx, wrong); err == nil {
			t.Errorf("a link that was altered opens: %s", wrong)
		}
	}
	nobody := l.Actor(t, "")
	var all sync.WaitGroup
	for range 50 { // once is as good as many times at once
		all.Go(func() {
			if is, err := l.External.Unsubscribe(ctx, nobody, secret); err != nil || is.State != "out" {
				t.Errorf("one click: %+v, %v", is, err)
			}
		})
	}
	all.Wait()
	if copies, _ := handOver(t, l, g.Address, "without them"); len(copies) != 1 {
		t.Errorf("afterwards: %+v", copies)
	}
	if is, err := l.External.Own(ctx, secret); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("the link of who has left describes the group: %+v, %v", is, err)
	}
	l.MoveBy(time.Minute) // it was a link into another membership than the one that begins now
	if _, err := l.Member.Add(ctx, l.Actor(t, kit.Administrator), g.Address, api.NewMembers{People: []api.NewPerson{{Address: outsider}}}, 0); err != nil {
		t.Fatal(err)
	}
	if is, err := l.External.Own(ctx, secret); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("the link of before opens: %+v, %v", is, err)
	}
	if is, err := l.External.Unsubscribe(ctx, nobody, secret); err != nil || is.State != "out" || is.Group.Name != "" || is.Description != "" {
		t.Errorf("one click on the link of before: %+v, %v", is, err)
	}
}

// Where one can't leave by oneself, one click ends the mail.
func TestOneClickWhereLeavingIsFixed(t *testing.T) {
	l := k.Fresh(t, "mail_fixed")
	g := withOutsider(t, l, "Fixed")
	if _, err := l.Reach.ChangePolicy(ctx, l.Actor(t, kit.Owner), g.Address, api.PolicyPatch{Leave: "fixed"}, 0); err != nil {
		t.Fatal(err)
	}
	_, texts := handOver(t, l, g.Address, "fixed")
	_, rest, _ := strings.Cut(texts[1], "/own/")
	secret, _, _ := strings.Cut(rest, ">")
	for range 2 {
		if is, err := l.External.Unsubscribe(ctx, l.Actor(t, ""), secret); err != nil || is.State != "in" || is.Delivery != "none" {
			t.Errorf("one click: %+v, %v", is, err)
		}
	}
	if copies, _ := handOver(t, l, g.Address, "without them"); len(copies) != 1 {
		t.Errorf("afterwards: %+v", copies)
	}
}

// What comes back counts for those alone to whom the transaction went, and once; three on three days pause the mail of all groups, until
// somebody says that the address works again.
func TestReturnedMail(t *testing.T) {
	l := k.Fresh(t, "mail_returned")
	g := withOutsider(t, l, "Returned")
	var others []string
	for i := range 3 {
		copies, _ := handOver(t, l, g.Address, fmt.Sprintf("day %d", i))
		shared, own := copies[0].Sender, copies[1].Sender
		back(t, l, shared, failedFor(outsider, "failed", "5.1.1")) // it did not go to them in that transaction
		back(t, l, own, failedFor(kit.Owner, "failed", "5.1.1"))   // nor this to the owner
		back(t, l, own, failedFor(outsider, "delayed", "4.4.1"))   // nothing is final
		back(t, l, own[:len(own)-25]+"aaaaaa"+own[len(own)-19:], failedFor(outsider, "failed", "5.1.1"))
		if s := state(t, l, outsider); s.Paused {
			t.Fatalf("day %d: paused by what says nothing of them", i)
		}
		for range 3 { // one message is one, however often it comes back
			back(t, l, own, failedFor(strings.ToUpper(outsider), "failed", "5.1.1"))
		}
		others = append(others, own)
		if s := state(t, l, outsider); s.Paused != (i == 2) {
			t.Fatalf("day %d: %+v", i, s)
		}
		l.Move(1)
	}
	sent := l.Queued(t)
	if !slices.Equal(sent["No mail of groups reaches "+outsider+" any more"], []string{outsider}) || len(sent["Mail to "+outsider+" comes back"]) != 1 || len(sent) != 2 {
		t.Errorf("letters: %v", sent)
	}
	comesBack := func() bool {
		t.Helper()
		if err := l.Review.Follow(ctx); err != nil {
			t.Fatal(err)
		}
		page, err := l.Review.List(ctx, l.Actor(t, kit.Administrator), review.Query{Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		return slices.ContainsFunc(page.Items, func(f api.Finding) bool { return f.Kind == "comes_back" })
	}
	if !comesBack() {
		t.Error("it is no finding")
	}
	if copies, _ := handOver(t, l, g.Address, "while paused"); len(copies) != 1 {
		t.Errorf("while it is paused: %+v", copies)
	}
	if _, err := l.Pause.Resume(ctx, l.Actor(t, kit.Member), outsider); err == nil {
		t.Error("a member could resume it")
	}
	if s, err := l.Pause.Resume(ctx, l.Actor(t, kit.Administrator), outsider); err != nil || s.Paused {
		t.Fatalf("resumed: %+v, %v", s, err)
	}
	if comesBack() {
		t.Error("it is a finding still")
	}
	l.MoveBy(time.Minute)
	copies, _ := handOver(t, l, g.Address, "again")
	if len(copies) != 2 {
		t.Fatalf("when it goes on: %+v", copies)
	}
	back(t, l, copies[1].Sender, failedFor(outsider, "failed", "5.1.1"))
	if s := state(t, l, outsider); s.Paused {
		t.Error("what came back before counts again")
	}
	var n int
	l.SQL(t, "SELECT COUNT(*) FROM returns", &n)
	if n != 4 || len(others) != 3 {
		t.Errorf("%d returns are recorded", n)
	}
}

// A report without fields counts by its words, where they name somebody whom it went to, and say that it is for good.
func TestReportsInPlainWords(t *testing.T) {
	l := k.Fresh(t, "mail_plain")
	g := withOutsider(t, l, "Plain")
	for i, c := range []struct {
		words string
		want  int
	}{
		{"Content-Type: text/plain\r\n\r\nYour message to pilot@harbour.example failed:\r\n550 5.1.1 user unknown\r\n", 1},
		{"Content-Type: text/plain\r\n\r\n<pilot@harbour.example>: 5.2.1 disabled.\r\n", 1},
		{"Content-Type: text/plain\r\n\r\n<pilot@harbour.example>: 451 4.3.0 later\r\n", 0},
		{"Content-Type: text/plain\r\n\r\n<copilot@harbour.example>: 550 5.1.1 no\r\n", 0},
		{"Content-Type: text/plain\r\n\r\npilot@harbour.example.net: 550 5.1.1 no\r\n", 0},
		{"Content-Type: text/plain\r\n\r\nI am away until Monday. pilot@harbour.example\r\n", 0},
		{"Content-Type: multipart/mixed; boundary=b\r\n\r\nnothing", 0},
	} {
		copies, _ := handOver(t, l, g.Address, fmt.Sprintf("plain %d", i))
		var before, after int
		l.SQL(t, "SELECT COUNT(*) FROM returns", &before)
		back(t, l, copies[1].Sender, "MIME-Version: 1.0\r\n"+c.words)
		l.SQL(t, "SELECT COUNT(*) FROM returns", &after)
		if after-before != c.want {
			t.Errorf("%q: %d returns", c.words, after-before)
		}
	}
}

// The author is told, once, where a message came back from everybody.
func TestWhatReachedNobody(t *testing.T) {
	l := k.Fresh(t, "mail_nobody")
	g := withOutsider(t, l, "Reaching None")
	copies, _ := handOver(t, l, g.Address, "to nobody")
	for _, c := range copies {
		for _, to := range c.To {
			if n := len(l.Queued(t)); n != 0 {
				t.Fatalf("before %s: %d letters", to, n)
			}
			back(t, l, c.Sender, failedFor(to, "failed", "5.1.1"))
		}
	}
	if sent := l.Queued(t); !slices.Equal(sent["Not delivered to "+g.Address], []string{kit.Member}) {
		t.Errorf("letters: %v", sent)
	}
}

// Who is away gets nothing until they are back.
func TestAway(t *testing.T) {
	l := k.Fresh(t, "mail_away")
	g := l.Make(t, "Holidays")
	member := l.Actor(t, kit.Member)
	until := l.Now().AddDate(0, 0, 9).Format(time.DateOnly)
	if s, err := l.Pause.Pause(ctx, member, kit.Member, api.MailPause{Until: until}); err != nil || !s.Paused || s.Until != until || s.Why != store.PausedAway {
		t.Fatalf("paused: %+v, %v", s, err)
	}
	for _, wrong := range []string{"", "tomorrow", "2001-01-01", "2999-01-01"} {
		if _, err := l.Pause.Pause(ctx, member, kit.Member, api.MailPause{Until: wrong}); err == nil {
			t.Errorf("until %q is taken", wrong)
		}
	}
	if _, err := l.Pause.Pause(ctx, member, kit.Owner, api.MailPause{Until: until}); err == nil {
		t.Error("a member could pause the mail of somebody else")
	}
	if copies, _ := handOver(t, l, g.Address, "away"); len(copies) != 1 || slices.Contains(copies[0].To, kit.Member) {
		t.Errorf("while away: %+v", copies)
	}
	d, err := l.Reach.Rehearse(ctx, l.Actor(t, kit.Owner), api.Rehearsal{Action: "post", Group: g.Address, As: kit.Owner})
	if err != nil || d.Recipients == nil || d.Recipients.Count != 2 || d.Recipients.Without != 1 {
		t.Errorf("a rehearsal says that it goes to %+v, %v", d.Recipients, err)
	}
	l.Move(11)
	if copies, _ := handOver(t, l, g.Address, "back"); len(copies) != 1 || !slices.Contains(copies[0].To, kit.Member) {
		t.Errorf("when they are back: %+v", copies)
	}
}
