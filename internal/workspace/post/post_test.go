package post_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/post"
)

func TestPosts(t *testing.T) {
	g := k.Make(t, "Posting")
	if err := k.Send(t, g.Address, kit.Member, true, "proven"); err != nil {
		t.Fatal(err)
	}
	if err := k.Send(t, g.Address, kit.Member, false, "unproven"); err != nil {
		t.Fatal(err)
	}
	if err := k.Send(t, g.Address, "stranger@elsewhere.example", false, "strange"); !workspace.IsKind(err, workspace.NotFound) {
		t.Fatalf("a stranger, who can't find the group: %v", err)
	}
	var no *post.Refused
	if err := k.Send(t, g.Address, kit.Colleague, true, "strange"); !errors.As(err, &no) || !strings.Contains(no.Error(), "Only its members may write to this group.") {
		t.Fatalf("a colleague: %v", err)
	}
	sent := k.Queued(t)
	slices.Sort(sent["proven"])
	if !slices.Equal(sent["proven"], []string{kit.Moderator, kit.Owner, kit.Member}) || sent["unproven"] != nil || sent["strange"] != nil {
		t.Errorf("queued: %v", sent)
	}

	if _, err := k.Member.ChangeOne(ctx, k.Actor(t, kit.Moderator), g.Address, kit.Moderator, api.MemberPatch{Delivery: "none"}, 0); err != nil {
		t.Fatal(err)
	}
	mod := k.Actor(t, kit.Moderator)
	waiting, err := k.Waiting.List(ctx, mod, g.Address, []string{"post"}, "", 10)
	if err != nil || len(waiting.Items) != 1 || waiting.Items[0].Subject != "unproven" || waiting.Items[0].Says == "" {
		t.Fatalf("waiting: %+v, %v", waiting, err)
	}
	id := waiting.Items[0].ID
	if err := k.Decide(k.Actor(t, kit.Member), id, "approve", ""); err == nil {
		t.Error("a member approved")
	}
	if err := k.Decide(mod, id, "maybe", ""); err == nil {
		t.Error("an unknown verdict was taken")
	}
	if err := k.Decide(mod, id, "approve", ""); err != nil {
		t.Fatal(err)
	}
	if err := k.Decide(mod, id, "approve", ""); err == nil {
		t.Error("approved twice")
	} else if !strings.Contains(err.Error(), "has been accepted already, by") {
		t.Error(err)
	}
	if sent := k.Queued(t)["unproven"]; len(sent) != 2 || slices.Contains(sent, kit.Moderator) {
		t.Errorf("approved, it goes to %v; the moderator wants none", sent)
	}

	if _, err := k.Reach.ChangePolicy(ctx, k.Actor(t, kit.Owner), g.Address, api.PolicyPatch{Hold: "everyone"}, 0); err != nil {
		t.Fatal(err)
	}
	if err := k.Send(t, g.Address, kit.Member, true, "held"); err != nil {
		t.Fatal(err)
	}
	waiting, _ = k.Waiting.List(ctx, mod, g.Address, []string{"post"}, "", 10)
	if err := k.Decide(mod, waiting.Items[0].ID, "decline", "Off topic"); err != nil {
		t.Fatal(err)
	}
	if sent := k.Queued(t); !slices.Equal(sent["Declined: held"], []string{kit.Member}) || !slices.Equal(sent["Waiting for approval: held"], []string{kit.Member}) || len(sent) != 2 {
		t.Errorf("declined: %v", sent)
	}
}

// A message to two groups of which one refuses is recorded for neither.
func TestAcceptIsAllOrNothing(t *testing.T) {
	open := k.Make(t, "Both Open", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=workspace") })
	k.Queued(t)
	shut := k.Make(t, "Both Shut", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=owners") })
	var to []post.Destination
	for _, ref := range []string{open.Address, shut.Address} {
		target, err := k.Post.Find(ctx, kit.Address(t, ref), false)
		if err != nil {
			t.Fatal(err)
		}
		to = append(to, target)
	}
	if err := k.Post.Accept(ctx, kit.Arrived(t, kit.Colleague, true, "both", "", to...)); err == nil {
		t.Error("accepted")
	}
	if sent := k.Queued(t); len(sent) != 0 {
		t.Errorf("queued: %v", sent)
	}
}

// A message to several groups has the decision of each, in whatever order they are named.
func TestEachGroupDecides(t *testing.T) {
	open := k.Make(t, "Each Open", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=workspace hold=nobody") })
	held := k.Make(t, "Each Held", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=workspace hold=everyone") })
	third := k.Make(t, "Each Third", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=workspace hold=nobody") })
	refs := []string{open.Address, held.Address, third.Address}
	for i := range refs {
		var to []post.Destination
		for n := range refs {
			to = append(to, kit.First(k.Post.Find(ctx, kit.Address(t, refs[(i+n)%3]), false)))
		}
		subject := fmt.Sprintf("each decides %d", i)
		if err := k.Post.Accept(ctx, kit.Arrived(t, kit.Colleague, true, subject, "", to...)); err != nil {
			t.Fatal(err)
		}
		var got string
		k.SQL(t, "SELECT GROUP_CONCAT(m.state ORDER BY g.address) FROM mailings m JOIN messages x ON x.id = m.message_id JOIN mail_groups g ON g.id = m.group_id WHERE x.subject = '"+subject+"'", &got)
		if got != "waiting,accepted,accepted" {
			t.Errorf("sent to %v, what becomes of it at held, open, third: %s", to, got)
		}
	}
	k.Queued(t)
}

func TestWriteToTheOwners(t *testing.T) {
	g := k.Make(t, "Asked", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("write_owners=anyone") })
	if err := k.Send(t, "asked-owners@merrowline.example", "stranger@elsewhere.example", false, "question"); err != nil {
		t.Fatal(err)
	}
	waiting, _ := k.Waiting.List(ctx, k.Actor(t, kit.Owner), g.Address, []string{"post"}, "", 10)
	if len(waiting.Items) != 1 {
		t.Fatalf("an outsider's question: %+v", waiting)
	}
	if err := k.Decide(k.Actor(t, kit.Owner), waiting.Items[0].ID, "approve", ""); err != nil {
		t.Fatal(err)
	}
	if sent := k.Queued(t)["question"]; !slices.Equal(sent, []string{kit.Owner}) {
		t.Errorf("approved, it goes to %v", sent)
	}
	if err := k.Send(t, "asked-owners@merrowline.example", kit.Colleague, true, "from a colleague"); err != nil {
		t.Fatal(err)
	}
	if sent := k.Queued(t)["from a colleague"]; !slices.Equal(sent, []string{kit.Owner}) {
		t.Errorf("went to %v", sent)
	}
}

// What has waited longest comes first.
func TestOldestWaitsFirst(t *testing.T) {
	g := k.Make(t, "In Line", func(n *api.NewGroup) { n.Hold = "everyone" })
	want := []string{"one", "two", "three", "four", "five"}
	for _, subject := range want {
		if err := k.Send(t, g.Address, kit.Member, true, subject); err != nil {
			t.Fatal(err)
		}
	}
	var got []string
	for cursor := ""; ; {
		p, err := k.Waiting.List(ctx, k.Actor(t, kit.Owner), g.Address, []string{"post"}, cursor, 2)
		if err != nil {
			t.Fatal(err)
		}
		for _, x := range p.Items {
			got = append(got, x.Subject)
		}
		if cursor = p.Next; cursor == "" {
			break
		}
	}
	if !slices.Equal(got, want) {
		t.Errorf("they wait as %v", got)
	}
}

// What a program writes is treated like other mail, unless the group says otherwise.
func TestAutomaticMail(t *testing.T) {
	for setting, want := range map[string]string{"deliver": "sent", "hold": "waits", "refuse": "refused"} {
		g := k.Make(t, "Alarms "+setting, func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("automatic=" + setting) })
		to, err := k.Post.Find(ctx, kit.Address(t, g.Address), false)
		if err != nil {
			t.Fatal(err)
		}
		for _, automatic := range []bool{true, false} {
			k.Queued(t)
			a := kit.Arrived(t, kit.Member, true, "alarm", "", to)
			a.Automatic = automatic
			got := "sent"
			var no *post.Refused
			if err := k.Post.Accept(ctx, a); errors.As(err, &no) && no.Decision.RuleName() == "automatic.refuse" {
				got = "refused"
			} else if err != nil {
				t.Fatal(err)
			} else if len(k.Queued(t)["alarm"]) == 0 {
				got = "waits"
			}
			if automatic && got != want || !automatic && got != "sent" {
				t.Errorf("with %s, automatic %v: %s", setting, automatic, got)
			}
		}
	}
}

// What is settled about a domain outside holds for all its addresses, by every way, unless
// something is settled about the address itself.
func TestADomainIsBarredOrHeld(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := k.Make(t, "Away from spam", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("post=anyone hold=nobody suspicious=deliver externals=owners")
		n.People = []api.NewPerson{{Address: "one@spam.example"}, {Address: "two@port.example"}}
	})
	settle := func(who, what string) {
		t.Helper()
		if err := k.Rules.SetOverride(ctx, ines, g.Address, who, api.NewOverride{Override: what}, 0); err != nil {
			t.Fatal(err)
		}
	}
	settle("*@spam.example", "barred")
	if now := kit.First(k.Group.Read(ctx, ines, g.Address)); now.Counts.External != 1 {
		t.Errorf("%+v", now.Counts)
	}
	if err := k.Send(t, g.Address, "other@SPAM.example", true, "buy"); err == nil {
		t.Error("mail from a barred domain was taken")
	}
	added, err := k.Member.Add(ctx, ines, g.Address, api.NewMembers{People: []api.NewPerson{{Address: "three@spam.example"}}}, 0)
	if err != nil || added.Added != 0 || added.Results[0].Status != "barred" {
		t.Errorf("%+v, %v", added, err)
	}
	settle("fair@spam.example", "trusted")
	if err := k.Send(t, g.Address, "fair@spam.example", true, "a fair word"); err != nil {
		t.Errorf("who is trusted by themselves: %v", err)
	}
	if err := k.Rules.SetOverride(ctx, ines, g.Address, "*@merrowline.example", api.NewOverride{Override: "barred"}, 0); !workspace.IsKind(err, workspace.Invalid) {
		t.Errorf("a domain of the workspace: %v", err)
	}
	settle("*@spam.example", "none")
	if err := k.Send(t, g.Address, "other@spam.example", true, "once more"); err != nil {
		t.Errorf("after the bar was lifted: %v", err)
	}
}
