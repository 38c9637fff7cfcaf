package mail_test

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
)

// Whoever signs in writes as a group, or named as its sender, exactly where a rehearsal says that they may; the
// header says so, and so does the history of the group.
func TestSpeakingForAGroup(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	target := k.Make(t, "Spoken To", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=workspace hold=nobody") })
	n := 0
	for _, policies := range []string{"speak_as=nobody speak_for=nobody", "speak_as=owners speak_for=members", "speak_as=nobody speak_for=workspace", "speak_as=members speak_for=nobody"} {
		n++
		g := k.Make(t, fmt.Sprintf("Voice %d", n), func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("find=workspace " + policies) })
		may := func(action, as string) bool {
			t.Helper()
			d, err := k.Reach.Rehearse(ctx, ines, api.Rehearsal{Action: action, Group: g.Address, As: as})
			if err != nil {
				t.Fatal(err)
			}
			return d.Outcome == "allow"
		}
		for _, who := range []string{kit.Owner, kit.Moderator, kit.Member, kit.Colleague} {
			as, under := may("speak_as", who), may("speak_for", who)
			for _, named := range []bool{false, true} {
				n++
				subject := fmt.Sprint("spoken ", n)
				sender := ""
				if named {
					sender = "Sender: " + who + "\r\n"
				}
				k.Letters(t)
				err := dial(t, who).SendMail(who, []string{target.Address}, strings.NewReader("From: "+g.Address+"\r\n"+sender+"Subject: "+subject+"\r\n\r\nHello.\r\n"))
				what := fmt.Sprintf("%s, %s, named %v", policies, who, named)
				if !as && !under {
					expect(t, what, err, 550, smtp.EnhancedCode{5, 7, 1}, "You may not write in the name of "+g.Address)
					continue
				}
				if err != nil {
					t.Errorf("%s: %v", what, err)
					continue
				}
				letters := k.Letters(t)
				if len(letters) != 1 {
					t.Errorf("%s: %d letters", what, len(letters))
					continue
				}
				text := letters[0].Text
				if !strings.Contains(text, "From: "+g.Address) || strings.Contains(text, "Sender:") != (!as || named) || strings.Contains(text, "Sender:") && !strings.Contains(text, "<"+who+">") {
					t.Errorf("%s: %s", what, text)
				}
				h, err := k.History.List(ctx, k.Actor(t, kit.Owner), g.Address, "", "", 1)
				if err != nil || len(h.Items) != 1 || h.Items[0].Kind != "post.speak" || h.Items[0].Actor.Address != who || !strings.Contains(h.Items[0].Says, subject) {
					t.Errorf("%s: the history says %+v, %v", what, h.Items, err)
				}
			}
		}
	}
}

// What somebody may do in the name of a group, they may do by their own rights: the group lends a name, and no
// way in. Nobody else's field makes them speak, and what can't be found is for nobody.
func TestSpeakingOpensNothing(t *testing.T) {
	voice := k.Make(t, "Lent", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("speak_as=workspace find=workspace") })
	closed := k.Make(t, "Not Lent To", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=members find=workspace hold=nobody") })
	held := k.Make(t, "Holds All", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=workspace hold=everyone") })
	hidden := k.Make(t, "Lent Hidden", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("find=members see_people=members read=members join.audience=nobody speak_as=members")
	})
	ended := k.Make(t, "Lent Once", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("speak_as=workspace find=workspace") })
	if _, err := k.Life.Retire(ctx, k.Actor(t, kit.Administrator), ended.Address, 0); err != nil {
		t.Fatal(err)
	}
	send := func(as, from, to, subject string) error {
		return dial(t, as).SendMail(kit.Colleague, []string{to}, strings.NewReader(message(from, subject)))
	}
	expect(t, "where they may not write", send(kit.Colleague, voice.Address, closed.Address, "x"), 550, smtp.EnhancedCode{5, 7, 1}, "Only its members may write")
	expect(t, "as a group that has ended", send(kit.Colleague, ended.Address, held.Address, "x"), 550, smtp.EnhancedCode{5, 2, 1}, "retired")
	k.Queued(t)
	if err := send(kit.Colleague, voice.Address, held.Address, "lent and held"); err != nil {
		t.Fatal(err)
	}
	owner := k.Actor(t, kit.Owner)
	w, err := k.Waiting.List(ctx, owner, held.Address, []string{"post"}, "", 10)
	if err != nil || len(w.Items) != 1 {
		t.Fatalf("%+v, %v", w, err)
	}
	p, err := k.Post.Held(ctx, owner, w.Items[0].ID)
	if err != nil || p.WrittenBy != kit.Colleague || p.Author != voice.Address {
		t.Errorf("%+v, %v", p, err)
	}
	if err := k.Decide(owner, w.Items[0].ID, "decline", "Not here"); err != nil {
		t.Fatal(err)
	}
	for subject, to := range k.Queued(t) {
		if len(to) != 1 || to[0] != kit.Colleague {
			t.Errorf("%s went to %v, not to who wrote it alone", subject, to)
		}
	}
	// without signing in, and as what can't be found, a group's address is one that nothing proves
	for _, c := range []struct{ as, from string }{{"", voice.Address}, {kit.Colleague, hidden.Address}} {
		if err := send(c.as, c.from, held.Address, "forged"); err != nil {
			var e *smtp.SMTPError
			if !errors.As(err, &e) {
				t.Fatal(err)
			}
			continue
		}
		w, err := k.Waiting.List(ctx, owner, held.Address, []string{"post"}, "", 10)
		if err != nil || len(w.Items) == 0 || w.Items[len(w.Items)-1].Proven {
			t.Errorf("%v: %+v, %v", c, w.Items, err)
		}
	}
	h, err := k.History.List(ctx, k.Actor(t, kit.Administrator), hidden.Address, "", "", 10)
	for _, e := range h.Items {
		if e.Kind == "post.speak" {
			t.Errorf("somebody spoke for a group that they can't find: %+v, %v", e, err)
		}
	}
}
