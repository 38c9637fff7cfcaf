package post_test

import (
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/post"
)

// claim takes the only job that is due, and opens it.
func claim(t *testing.T, l *kit.Kit) *post.Job {
	t.Helper()
	jobs, err := l.Post.Claim(ctx, time.Hour, 10)
	if err != nil || len(jobs) != 1 {
		t.Fatalf("%d jobs are due, %v", len(jobs), err)
	}
	if err := jobs[0].Open(ctx); err != nil {
		t.Fatal(err)
	}
	return jobs[0]
}

// claimOf takes what is due, opens what has a subject, and ends the rest, which are letters.
func claimOf(t *testing.T, l *kit.Kit, subject string) (out *post.Job) {
	t.Helper()
	for _, j := range kit.First(l.Post.Claim(ctx, time.Hour, 20)) {
		if err := j.Open(ctx); err != nil {
			t.Fatal(err)
		}
		if strings.Contains(string(j.Header), "Subject: "+subject) {
			out = j
		} else if err := j.End(ctx); err != nil {
			t.Fatal(err)
		}
	}
	if out == nil {
		t.Fatalf("nothing is due of %q", subject)
	}
	return out
}

// results says the same of all recipients.
func results(to []string, o post.Outcome) (out []post.Result) {
	for _, a := range to {
		out = append(out, post.Result{Recipient: a, Outcome: o, Reply: "450 4.2.1 Busy."})
	}
	return out
}

// A message reaches those who were in the group when it was let through, and still are when
// it is handed over.
func TestWhoWasInItAndStillIs(t *testing.T) {
	l := k.Fresh(t, "post_asof")
	g, inner := l.Make(t, "As It Was"), l.Make(t, "Nested Later")
	oda := l.Actor(t, kit.Owner)
	l.MoveBy(time.Second)
	if err := l.Send(t, g.Address, kit.Owner, true, "before"); err != nil {
		t.Fatal(err)
	}
	l.Move(1)
	for _, who := range []string{kit.Colleague, inner.Address} {
		if _, err := l.Member.Add(ctx, oda, g.Address, api.NewMembers{People: []api.NewPerson{{Address: who}}}, 0); err != nil {
			t.Fatal(err)
		}
	}
	if err := l.Member.Remove(ctx, oda, g.Address, kit.Member, 0); err != nil {
		t.Fatal(err)
	}
	if to := l.Queued(t)["before"]; len(to) != 2 || slices.Contains(to, kit.Colleague) || slices.Contains(to, kit.Member) {
		t.Errorf("before, it goes to %v; want those who were in it then and are still", to)
	}
	if err := l.Send(t, g.Address, kit.Owner, true, "after"); err != nil {
		t.Fatal(err)
	}
	if to := l.Queued(t)["after"]; !slices.Contains(to, kit.Colleague) || !slices.Contains(to, kit.Member) {
		t.Errorf("after, it goes to %v", to) // the member comes by the nested group
	}
}

// Who is in the group, and how its mail reaches them, is asked again at each attempt: of a message that was put off, and of one that is
// tried again by hand.
func TestWhoIsInItAtEachAttempt(t *testing.T) {
	l := k.Fresh(t, "each_attempt")
	ines := l.Actor(t, kit.Administrator)
	hand := func(i int) string { return fmt.Sprintf("hand-%d@merrowline.example", i) }
	for i := range 5 {
		if _, err := l.Directory.Create(ctx, ines, api.NewPersonEntry{Address: hand(i), Name: fmt.Sprintf("Hand %d", i)}); err != nil {
			t.Fatal(err)
		}
	}
	inner := l.Make(t, "Of Attempts")
	outer := l.Make(t, "Attempts", func(n *api.NewGroup) {
		for i := range 4 {
			n.People = append(n.People, api.NewPerson{Address: hand(i)})
		}
		n.People = append(n.People, api.NewPerson{Address: inner.Address})
	})
	if _, err := l.Member.Add(ctx, ines, inner.Address, api.NewMembers{People: []api.NewPerson{{Address: hand(4)}}}, 0); err != nil {
		t.Fatal(err)
	}
	l.MoveBy(time.Minute)
	for name, outcome := range map[string]post.Outcome{"put off": post.Later, "given up": post.GivenUp} {
		for i, leave := range []func() error{
			func() error { return l.Member.Remove(ctx, ines, outer.Address, hand(0), 0) },
			func() error { return kit.Last(l.Directory.Depart(ctx, ines, hand(1), api.Departure{}, 0)) },
			func() error {
				return kit.Last(l.Member.ChangeOne(ctx, l.Actor(t, hand(2)), outer.Address, hand(2), api.MemberPatch{Delivery: "none"}, 0))
			},
			func() error {
				return kit.Last(l.Member.ChangeOne(ctx, l.Actor(t, hand(3)), outer.Address, hand(3), api.MemberPatch{Delivery: "digest"}, 0))
			},
			func() error { return l.Member.Remove(ctx, ines, inner.Address, hand(4), 0) },
		} {
			if err := l.Send(t, outer.Address, kit.Owner, true, name); err != nil {
				t.Fatal(err)
			}
			j := claimOf(t, l, name)
			if !slices.Contains(j.To, hand(i)) {
				t.Fatalf("%s, %d: it goes to %v", name, i, j.To)
			}
			n := len(j.To)
			if err := j.Record(ctx, results(j.To, outcome), time.Now().Add(-time.Second)); err != nil {
				t.Fatal(err)
			}
			if err := leave(); err != nil {
				t.Fatal(err)
			}
			again := func(to string) error { return kit.Last(l.Post.SendAgain(ctx, ines, j.Mailing.String(), to)) }
			if outcome == post.GivenUp {
				if err := again(hand(i)); !workspace.IsKind(err, workspace.Conflict) || !strings.Contains(err.Error(), "does not go to "+hand(i)+" any more") {
					t.Errorf("%s, %d: by hand again: %v", name, i, err)
				}
				if _, err := l.Post.TryAgain(ctx, ines, api.Retries{IDs: []string{j.Mailing.String()}}); err != nil {
					t.Fatal(err)
				}
			}
			next := claimOf(t, l, name)
			if slices.Contains(next.To, hand(i)) || len(next.To) != n-1 {
				t.Errorf("%s, %d: the second attempt goes to %v", name, i, next.To)
			}
			if err := next.Record(ctx, results(next.To, post.Sent), time.Time{}); err != nil {
				t.Fatal(err)
			}
			for _, d := range kit.First(l.Post.Deliveries(ctx, ines, j.Mailing.String(), "", "", "", 50)).Items {
				if d.State != "handed_over" {
					t.Errorf("%s, %d: the trace has %+v", name, i, d)
				}
			}
			l.Queued(t)
			// in again for what follows, as before
			switch i {
			case 0, 1:
				if i == 1 {
					if _, err := l.Directory.Return(ctx, ines, hand(1), 0); err != nil {
						t.Fatal(err)
					}
				}
				if _, err := l.Member.Add(ctx, ines, outer.Address, api.NewMembers{People: []api.NewPerson{{Address: hand(i)}}}, 0); err != nil {
					t.Fatal(err)
				}
			case 2, 3:
				if _, err := l.Member.ChangeOne(ctx, l.Actor(t, hand(i)), outer.Address, hand(i), api.MemberPatch{Delivery: "each"}, 0); err != nil {
					t.Fatal(err)
				}
			case 4:
				if _, err := l.Member.Add(ctx, ines, inner.Address, api.NewMembers{People: []api.NewPerson{{Address: hand(4)}}}, 0); err != nil {
					t.Fatal(err)
				}
			}
			l.MoveBy(time.Minute)
			l.Queued(t)
		}
	}
}

// Whoever has another address by the next attempt gets the message there, in a group with another nested in it too, and so do those who run it.
func TestAnAddressThatChangedMeanwhile(t *testing.T) {
	l := k.Fresh(t, "address_changed")
	ines := l.Actor(t, kit.Administrator)
	inner := l.Make(t, "Changed Within")
	plain, nests := l.Make(t, "Changed Plain"), l.Make(t, "Changed Nests", func(n *api.NewGroup) { n.People = append(n.People, api.NewPerson{Address: inner.Address}) })
	was := kit.Owner
	for i, to := range []string{plain.Address, nests.Address, strings.Replace(plain.Address, "@", "-owners@", 1)} {
		l.Queued(t)
		l.MoveBy(time.Minute)
		if err := l.Send(t, to, kit.Member, true, "to them"); err != nil {
			t.Fatal(err)
		}
		j := claimOf(t, l, "to them")
		if !slices.Contains(j.To, was) {
			t.Fatalf("%s: it goes to %v", to, j.To)
		}
		n := len(j.To)
		if err := j.Record(ctx, results(j.To, post.Later), time.Now().Add(-time.Second)); err != nil {
			t.Fatal(err)
		}
		now := fmt.Sprintf("oda.anew-%d@merrowline.example", i)
		if _, err := l.Directory.Change(ctx, ines, was, api.PersonPatch{Address: &now}, 0); err != nil {
			t.Fatal(err)
		}
		if next := claimOf(t, l, "to them"); len(next.To) != n || !slices.Contains(next.To, now) {
			t.Errorf("%s: the second attempt goes to %v", to, next.To)
		}
		was = now
	}
}

// A worker that dies between two transactions is followed by another, which skips nobody and
// repeats nobody.
func TestAJobIsTakenUp(t *testing.T) {
	l := k.Fresh(t, "post_taken_up")
	g := l.Make(t, "Taken Up")
	if err := l.Send(t, g.Address, kit.Member, true, "in parts"); err != nil {
		t.Fatal(err)
	}
	j := claim(t, l)
	all := slices.Clone(j.To)
	if len(all) != 3 || !slices.IsSorted(all) {
		t.Fatalf("it goes to %v", all)
	}
	copies, err := j.Next(ctx, 1, 1)
	first := copies[0].To
	if err != nil || len(first) != 1 {
		t.Fatal(first, err)
	}
	if err := j.Record(ctx, results(first, post.Sent), time.Time{}); err != nil {
		t.Fatal(err)
	}
	// here it dies; its lease runs out
	l.SQL(t, "UPDATE jobs SET next_at = NOW(6) - INTERVAL 1 DAY")
	next := claim(t, l)
	if !slices.Equal(next.To, all[1:]) {
		t.Errorf("the next worker hands it to %v of %v", next.To, all)
	}
	if err := j.Record(ctx, results(j.To[:1], post.Sent), time.Time{}); !errors.Is(err, post.ErrLost) {
		t.Errorf("the first comes back to life and records: %v", err)
	}
	if err := next.Record(ctx, results(next.To, post.Sent), time.Time{}); err != nil {
		t.Fatal(err)
	}
	p, err := l.Read().Progress([]uuid.UUID{next.Mailing}, 1)
	if err != nil || p[next.Mailing].HandedOver != 3 || len(p[next.Mailing].Jobs) != 0 {
		t.Errorf("at the end: %+v, %v", p, err)
	}
}

// A body of many rows comes out as it came in, from its beginning each time it is read.
func TestALongBody(t *testing.T) {
	l := k.Fresh(t, "post_long")
	g := l.Make(t, "Long Body")
	body := strings.Repeat("0123456789abcde\n", 3*store.BodyRow/16) + "end"
	to, err := l.Post.Find(ctx, kit.Address(t, g.Address), false)
	if err != nil {
		t.Fatal(err)
	}
	if err := l.Post.Accept(ctx, kit.Arrived(t, kit.Member, true, "long", body, to)); err != nil {
		t.Fatal(err)
	}
	j := claim(t, l)
	for range 2 {
		b, err := io.ReadAll(j.Message(ctx, post.Copy{Header: j.Header}))
		if err != nil || string(b) != string(j.Header)+body {
			t.Fatalf("%d octets of %d, %v", len(b), len(j.Header)+len(body), err)
		}
	}
	l.SQL(t, "DELETE FROM message_bodies WHERE part = 2")
	if b, err := io.ReadAll(j.Message(ctx, post.Copy{Header: j.Header})); err == nil {
		t.Errorf("a body of which a row is missing was read as whole: %d octets", len(b))
	}
}

// Whoever wrote a message that the mail system refuses is told, once; not who was refused;
// and owners see it, and have it tried again.
func TestRefusedByTheMailSystem(t *testing.T) {
	l := k.Fresh(t, "post_refused")
	g := l.Make(t, "Refused There")
	oda := l.Actor(t, kit.Owner)
	if err := l.Send(t, g.Address, kit.Member, true, "hard to place"); err != nil {
		t.Fatal(err)
	}
	j := claim(t, l)
	mixed := []post.Result{{Recipient: j.To[0], Outcome: post.GivenUp, Reply: "550 5.1.1 There is no such box."}, {Recipient: j.To[1], Outcome: post.Later, Reply: "450 4.2.1 Busy."}, {Recipient: j.To[2]}}
	bad, busy := j.To[0], j.To[1]
	if err := j.Record(ctx, mixed, time.Now().Add(-time.Second)); err != nil {
		t.Fatal(err)
	}
	u := kit.First(l.Post.Undelivered(ctx, oda, g.Address, "", 10)).Items
	if len(u) != 1 || u[0].HandedOver != 1 || u[0].Failed != 2 || !u[0].Trying || u[0].NextAt == nil || len(u[0].Recipients) != 2 || u[0].Recipients[0].Address != bad {
		t.Fatalf("undelivered: %+v", u)
	}
	again := claim(t, l) // nobody is told as long as it is tried
	if !slices.Equal(again.To, []string{busy}) {
		t.Fatalf("the second attempt goes to %v", again.To)
	}
	if err := again.Record(ctx, results(again.To, post.Sent), time.Time{}); err != nil {
		t.Fatal(err)
	}
	letters := l.Letters(t)
	if len(letters) != 1 || letters[0].Subject != "Not delivered to "+g.Address || !slices.Equal(letters[0].To, []string{kit.Member}) {
		t.Fatalf("the author is told: %+v", letters)
	}
	text := letters[0].Text
	for _, want := range []string{"multipart/report", "Final-Recipient: rfc822; " + g.Address, "Action: failed", "Status: 5.1.1", "Subject: hard to place"} {
		if !strings.Contains(text, want) {
			t.Errorf("the report lacks %q:\n%s", want, text)
		}
	}
	if strings.Contains(text, bad) && bad != kit.Member {
		t.Errorf("the report says who was refused:\n%s", text)
	}
	if p := kit.First(l.Post.Undelivered(ctx, l.Actor(t, kit.Colleague), "", "", 10)); len(p.Items) != 0 {
		t.Errorf("a colleague sees %+v", p.Items)
	}
	for _, who := range []string{kit.Member, kit.Colleague, kit.Auditor} {
		if d, err := l.Post.TryAgain(ctx, l.Actor(t, who), api.Retries{IDs: []string{u[0].ID}}); err != nil || d.Results[0].Outcome != "refused" || strings.Contains(d.Results[0].Says, g.Name) {
			t.Errorf("%s had it tried again: %+v, %v", who, d, err)
		}
	}
	d, err := l.Post.TryAgain(ctx, oda, api.Retries{IDs: []string{u[0].ID}})
	if err != nil || d.Decided != 1 {
		t.Fatalf("tried again: %+v, %v", d, err)
	}
	third := claim(t, l)
	if !slices.Equal(third.To, []string{bad}) {
		t.Errorf("the third attempt goes to %v", third.To)
	}
	if err := third.Record(ctx, results(third.To, post.GivenUp), time.Time{}); err != nil {
		t.Fatal(err)
	}
	if sent := l.Letters(t); len(sent) != 0 {
		t.Errorf("the author is told again: %+v", sent)
	}
	if _, err := l.Post.TryAgain(ctx, oda, api.Retries{IDs: []string{u[0].ID}}); err != nil {
		t.Fatal(err)
	}
	last := claim(t, l)
	if err := last.Record(ctx, results(last.To, post.Sent), time.Time{}); err != nil {
		t.Fatal(err)
	}
	if p := kit.First(l.Post.Undelivered(ctx, oda, g.Address, "", 10)); len(p.Items) != 0 {
		t.Errorf("delivered, it is still there: %+v", p.Items)
	}
}

// Nobody is sent reports for what only claims to be theirs, unless it reached nobody; and never for
// a message without a return path.
func TestReportsAreNoAmplifier(t *testing.T) {
	l := k.Fresh(t, "post_reports")
	g := l.Make(t, "Reported On", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=nobody suspicious=deliver") })
	to, err := l.Post.Find(ctx, kit.Address(t, g.Address), false)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		path    string
		proven  bool
		reached bool
		reports int
	}{{"claimed@elsewhere.example", false, true, 0}, {"claimed@elsewhere.example", false, false, 1}, {"", false, false, 0}, {kit.Member, true, true, 1}} {
		a := kit.Arrived(t, "claimed@elsewhere.example", c.proven, "x", "", to)
		a.ReturnPath = c.path
		if err := l.Post.Accept(ctx, a); err != nil {
			t.Fatal(err)
		}
		j := claim(t, l)
		r := results(j.To, post.GivenUp)
		if c.reached {
			r[0].Outcome = post.Sent
		}
		if err := j.Record(ctx, r, time.Time{}); err != nil {
			t.Fatal(err)
		}
		if sent := l.Letters(t); len(sent) != c.reports {
			t.Errorf("%+v: %d reports", c, len(sent))
		}
	}
}

// What comes back to a group is kept for a while, not for ever, and not whole.
func TestWhatIsKeptHasBounds(t *testing.T) {
	l := k.Fresh(t, "post_kept")
	g := l.Make(t, "Kept Within Bounds", func(n *api.NewGroup) { n.Hold = "everyone" })
	back, err := l.Post.Find(ctx, kit.Address(t, strings.Replace(g.Address, "@", "-bounces@", 1)), true)
	if err != nil {
		t.Fatal(err)
	}
	for range 60 {
		if err := l.Post.Accept(ctx, kit.Arrived(t, "mailer@elsewhere.example", false, "came back", strings.Repeat("x", 100_000), back)); err != nil {
			t.Fatal(err)
		}
	}
	var n, octets int64
	l.SQL(t, "SELECT COUNT(*), SUM(LENGTH(header) + COALESCE(LENGTH(short_body), 0)) + (SELECT COALESCE(SUM(LENGTH(octets)), 0) FROM message_bodies) FROM messages", &n, &octets)
	if n != 50 || octets > 50*(33<<10) {
		t.Errorf("%d reports of %d octets are kept", n, octets)
	}
	var last error
	for i := range 501 {
		last = l.Send(t, g.Address, kit.Member, true, "held")
		if i < 500 && last != nil {
			t.Fatalf("post %d: %v", i, last)
		}
	}
	if !workspace.IsKind(last, workspace.Throttled) {
		t.Errorf("one post more than may wait: %v", last)
	}
	if err := l.Decide(l.Actor(t, kit.Owner), kit.First(l.Waiting.List(ctx, l.Actor(t, kit.Owner), g.Address, []string{"post"}, "", 1)).Items[0].ID, "decline", ""); err != nil {
		t.Fatal(err)
	}
	if err := l.Send(t, g.Address, kit.Member, true, "held"); err != nil {
		t.Errorf("with room again: %v", err)
	}
	l.Letters(t)
	l.Move(31)
	if err := l.Post.Forget(ctx); err != nil {
		t.Fatal(err)
	}
	if w := kit.First(l.Waiting.List(ctx, l.Actor(t, kit.Owner), g.Address, []string{"post"}, "", 1)); w.Total != 500 {
		t.Errorf("%d posts still wait", w.Total)
	}
	for _, table := range []string{"messages", "mailings"} {
		if l.SQL(t, "SELECT COUNT(*) FROM "+table, &n); n != 500 {
			t.Errorf("%d rows of %s are kept after a month", n, table)
		}
	}
}
