package post_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/post"
)

// write sends a message to a group, as its envelope and header say, and returns the letters that came of it.
func write(t *testing.T, ref string, change func(a *post.Arrived)) []kit.Letter {
	t.Helper()
	k.Letters(t)
	to, err := k.Post.Find(ctx, kit.Address(t, ref), false)
	if err != nil {
		t.Fatal(err)
	}
	a := post.Arrived{MessageID: "<1@gannetport.example>", Author: kit.Address(t, "quay@gannetport.example"), ReturnPath: "quay@gannetport.example", Subject: "A lost bag", Header: []byte("From: quay@gannetport.example\r\n"),
		Body: strings.NewReader("x"), Size: 1, To: []post.Incoming{{To: to}}}
	change(&a)
	if err := k.Post.Accept(ctx, a); err != nil {
		t.Fatal(err)
	}
	var out []kit.Letter
	for _, l := range k.Letters(t) {
		if strings.Contains(l.Text, "We answer within a day.") {
			out = append(out, l)
		}
	}
	return out
}

func answering(t *testing.T, name, words string) api.Group {
	t.Helper()
	g := k.Make(t, name)
	text, notice := "We answer within a day.\n\nThe office", "Away at the fair this week."
	if _, err := k.Group.Change(ctx, k.Actor(t, kit.Administrator), g.Address, api.GroupPatch{Mail: api.MailPatch{Answer: &text, Notice: &notice}}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Reach.ChangePolicy(ctx, k.Actor(t, kit.Administrator), g.Address, kit.Policy("post=anyone "+words), 0); err != nil {
		t.Fatal(err)
	}
	return g
}

func TestAnswers(t *testing.T) {
	g := answering(t, "Lost Bags", "hold=outsiders")
	got := write(t, g.Address, func(*post.Arrived) {})
	if len(got) != 1 {
		t.Fatalf("%+v", got)
	}
	for _, want := range []string{"Subject: Auto: A lost bag", "From: \"Lost Bags\" <lost-bags@merrowline.example>", "Auto-Submitted: auto-replied", "In-Reply-To: <1@gannetport.example>", "To: <quay@gannetport.example>", "The office", "Away at the fair this week."} {
		if !strings.Contains(got[0].Text, want) {
			t.Errorf("no %q in %s", want, got[0].Text)
		}
	}
	var sender string
	k.SQL(t, "SELECT sender FROM mailings WHERE kind = 'notice' ORDER BY received_at DESC, id DESC LIMIT 1", &sender)
	if sender != "" {
		t.Errorf("the answer can be answered: it comes from %q", sender)
	}
	if again := write(t, g.Address, func(*post.Arrived) {}); len(again) != 0 {
		t.Errorf("answered twice: %+v", again)
	}
	k.Move(8)
	if again := write(t, g.Address, func(*post.Arrived) {}); len(again) != 1 {
		t.Errorf("after the period: %+v", again)
	}
	for name, change := range map[string]func(a *post.Arrived){
		"automatic":             func(a *post.Arrived) { a.Automatic = true },
		"of a list":             func(a *post.Arrived) { a.Listed = true },
		"without a return path": func(a *post.Arrived) { a.ReturnPath = "" },
		"of a daemon": func(a *post.Arrived) {
			a.ReturnPath, a.Author = "MAILER-DAEMON@x.example", kit.Address(t, "mailer-daemon@x.example")
		},
		"of another list's bounces": func(a *post.Arrived) { a.ReturnPath = "talk-bounces@x.example" },
		"by somebody else's return": func(a *post.Arrived) { a.ReturnPath = "victim@x.example" },
		"that claims a colleague": func(a *post.Arrived) {
			a.ReturnPath, a.Author = kit.Colleague, kit.Address(t, kit.Colleague)
		},
		"of a member": func(a *post.Arrived) {
			a.Proven, a.ReturnPath, a.Author = true, kit.Member, kit.Address(t, kit.Member)
		},
	} {
		fresh := strings.ReplaceAll(strings.ReplaceAll(name, " ", "."), "'", "") + "@gannetport.example" // whom nobody has answered
		if got := write(t, g.Address, func(a *post.Arrived) {
			a.ReturnPath, a.Author = fresh, kit.Address(t, fresh)
			change(a)
		}); len(got) != 0 {
			t.Errorf("a message %s is answered: %+v", name, got)
		}
		if got := write(t, g.Address, func(a *post.Arrived) { a.ReturnPath, a.Author = fresh, kit.Address(t, fresh) }); len(got) != 1 {
			t.Errorf("%s, who was not answered for that, is not answered now: %+v", fresh, got)
		}
	}
	if got := write(t, g.Address, func(a *post.Arrived) {
		a.Proven, a.ReturnPath, a.Author = true, kit.Colleague, kit.Address(t, kit.Colleague)
	}); len(got) != 1 || !strings.Contains(got[0].Text, "Auto:") {
		t.Errorf("a colleague: %+v", got)
	}
}

// Two groups that answer don't answer each other, and who is told that their post waits gets one letter.
func TestAnswersAndOtherLetters(t *testing.T) {
	one, two := answering(t, "Echo One", "hold=nobody"), answering(t, "Echo Two", "hold=nobody")
	if got := write(t, one.Address, func(a *post.Arrived) {
		a.Proven, a.ReturnPath, a.Author = true, two.Address, kit.Address(t, two.Address)
	}); len(got) != 0 {
		t.Errorf("a group answers a group: %+v", got)
	}
	g := answering(t, "Told Once", "hold=outsiders")
	got := write(t, g.Address, func(a *post.Arrived) {
		a.Proven, a.ReturnPath, a.Author = true, "bags@gannetport.example", kit.Address(t, "bags@gannetport.example")
	})
	if len(got) != 1 || !strings.Contains(got[0].Subject, "Waiting for approval") || !strings.Contains(got[0].Text, "Away at the fair") {
		t.Errorf("%+v", got)
	}
}

// Of many messages at once one is answered, and a flood of invented senders gets a bounded number of answers.
func TestAnswersAtOnce(t *testing.T) {
	g := answering(t, "Flooded", "hold=nobody")
	to, err := k.Post.Find(ctx, kit.Address(t, g.Address), false)
	if err != nil {
		t.Fatal(err)
	}
	k.Letters(t)
	send := func(who string) error {
		return k.Post.Accept(ctx, post.Arrived{MessageID: "<x@x>", Author: kit.Address(t, who), ReturnPath: who, Subject: "x", Header: []byte("From: x@x.example\r\n"), Body: strings.NewReader("x"), Size: 1, To: []post.Incoming{{To: to}}})
	}
	var wait sync.WaitGroup
	for range 40 {
		wait.Go(func() {
			if err := send("one@gannetport.example"); err != nil {
				t.Error(err)
			}
		})
	}
	wait.Wait()
	k.SQL(t, "UPDATE spent SET n = 495 WHERE kind = 'answers'")
	for i := range 20 {
		if err := send(fmt.Sprintf("invented-%d@gannetport.example", i)); err != nil {
			t.Fatal(err)
		}
	}
	one, all := 0, 0
	for _, l := range k.Letters(t) {
		if strings.Contains(l.Text, "Auto-Submitted: auto-replied") {
			if all++; l.To[0] == "one@gannetport.example" {
				one++
			}
		}
	}
	if one != 1 || all != 1+5 {
		t.Errorf("%d answers to one, %d in all", one, all)
	}
}

// What is settled about a domain holds for somebody known from there, too, and what is settled about themselves goes
// before it.
func TestWhatIsSettledAboutADomain(t *testing.T) {
	g := answering(t, "Of One Domain", "externals=owners hold=nobody")
	admin := k.Actor(t, kit.Administrator)
	const known, other = "known@settled.example", "other@settled.example"
	if err := kit.Last(k.Member.Add(ctx, admin, g.Address, api.NewMembers{Quiet: true, People: []api.NewPerson{{Address: known}}}, 0)); err != nil {
		t.Fatal(err)
	}
	settle := func(who, what string) {
		t.Helper()
		if err := k.Rules.SetOverride(ctx, admin, g.Address, who, api.NewOverride{Override: what}, 0); err != nil {
			t.Fatal(err)
		}
	}
	settle("*@settled.example", "barred")
	for _, who := range []string{known, other} {
		if err := k.Send(t, g.Address, who, true, "barred"); err == nil {
			t.Errorf("%s writes from a domain that is barred", who)
		}
	}
	settle(known, "trusted")
	if err := k.Send(t, g.Address, known, true, "trusted"); err != nil {
		t.Errorf("who is trusted, of a domain that is barred: %v", err)
	}
}
