package joining_test

import (
	"slices"
	"strings"
	"testing"

	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/member"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func TestRequestsToJoinAndLeave(t *testing.T) {
	oda, petra, signe := k.Actor(t, kit.Owner), k.Actor(t, kit.Colleague), k.Actor(t, kit.Auditor)
	g := k.Make(t, "Asked For", func(n *api.NewGroup) { n.Leave = "asking" })
	closed := k.Make(t, "Shut", func(n *api.NewGroup) { n.Join = &api.JoinPatch{Audience: "nobody"}; n.Leave = "fixed" })
	open := k.Make(t, "Open Door", func(n *api.NewGroup) { n.Join = &api.JoinPatch{How: "freely"} })
	k.Queued(t)
	if w, err := k.Joining.Join(ctx, petra, g.Address, api.JoinRequest{Note: "I take nights"}); err != nil || w.Outcome != "asked" {
		t.Fatalf("%+v, %v", w, err)
	}
	if l := k.Letters(t); len(l) != 1 || l[0].To[0] != kit.Owner || !strings.Contains(l[0].Subject, "Petra Vane asks to join Asked For") || !strings.Contains(l[0].Text, "I take nights") {
		t.Errorf("the owner is not told: %+v", l)
	}
	if kind, _ := kit.KindOf(t, kit.Last(k.Joining.Join(ctx, petra, g.Address, api.JoinRequest{}))); kind != workspace.Conflict {
		t.Error("asked twice")
	}
	if kind, says := kit.KindOf(t, kit.Last(k.Joining.Join(ctx, petra, closed.Address, api.JoinRequest{}))); kind != workspace.NotAllowed || !strings.Contains(says, "by invitation only") || !strings.Contains(says, "shut-owners@") {
		t.Errorf("a closed group: %v %s", kind, says)
	}
	if w, err := k.Joining.Join(ctx, petra, open.Address, api.JoinRequest{}); err != nil || w.Outcome != "done" {
		t.Errorf("an open one: %+v, %v", w, err)
	}
	if _, err := k.Joining.Join(ctx, signe, g.Address, api.JoinRequest{}); err != nil {
		t.Error(err)
	}
	if w, err := k.Joining.Leave(ctx, k.Actor(t, kit.Member), g.Address, api.JoinRequest{}); err != nil || w.Outcome != "asked" {
		t.Errorf("leaving by asking: %+v, %v", w, err)
	}
	if kind, _ := kit.KindOf(t, kit.Last(k.Joining.Leave(ctx, k.Actor(t, kit.Member), closed.Address, api.JoinRequest{}))); kind != workspace.NotAllowed {
		t.Error("left a fixed group")
	}
	mine, err := k.Joining.Requests(ctx, petra, "", true, "", 10)
	if err != nil || mine.Items[0].Group.Name != "Asked For" || mine.Items[0].State != "open" {
		t.Errorf("mine: %+v, %v", mine, err)
	}
	p, err := k.Joining.Requests(ctx, k.Actor(t, kit.Moderator), "", false, "", 50)
	ids := []string{}
	for _, r := range p.Items {
		if r.Group.Name == "Asked For" {
			ids = append(ids, r.ID)
		}
	}
	if err != nil || len(ids) != 3 {
		t.Fatalf("for the moderator: %+v, %v", p, err)
	}
	if p, _ := k.Joining.Requests(ctx, petra, "", false, "", 50); p.Total != 0 {
		t.Error("a colleague sees requests of groups of others")
	}
	if d, err := k.Joining.Decide(ctx, petra, api.Decisions{IDs: ids, Verdict: "approve"}); err != nil || d.Results[0].Outcome != "refused" {
		t.Errorf("a colleague decides: %+v, %v", d, err)
	}
	k.Queued(t)
	d, err := k.Joining.Decide(ctx, oda, api.Decisions{IDs: []string{ids[0], ids[2], "nonsense"}, Verdict: "approve"})
	if err != nil || d.Results[0].Outcome != "approved" || d.Results[1].Outcome != "approved" || d.Results[2].Outcome != "refused" {
		t.Fatalf("%+v, %v", d, err)
	}
	if d, err = k.Joining.Decide(ctx, oda, api.Decisions{IDs: ids[:2], Verdict: "decline", Reason: "Dispatch only"}); err != nil || d.Results[0].Outcome != "refused" || d.Results[1].Outcome != "declined" || !strings.Contains(d.Results[0].Says, "approved already by") {
		t.Fatalf("%+v, %v", d, err)
	}
	letters := k.Letters(t)
	i := slices.IndexFunc(letters, func(l kit.Letter) bool { return l.To[0] == kit.Auditor })
	if len(letters) != 3 || i < 0 || !strings.Contains(letters[i].Text, "Dispatch only") {
		t.Errorf("those who asked are not told: %+v", letters)
	}
	now, _ := k.Group.Read(ctx, oda, g.Address)
	if now.Counts != (api.Counts{Owners: 1, Moderators: 1, Members: 1, People: 3}) { // Petra came, Tove went
		t.Errorf("%+v", now.Counts)
	}
	if _, err := k.Joining.Join(ctx, signe, g.Address, api.JoinRequest{}); err != nil {
		t.Errorf("asked again after a no: %v", err)
	}
	mine, _ = k.Joining.Requests(ctx, signe, "", true, "", 10)
	if err := k.Joining.Withdraw(ctx, signe, mine.Items[0].ID); err != nil {
		t.Error(err)
	}
	if err := k.Joining.Withdraw(ctx, signe, mine.Items[0].ID); err == nil {
		t.Error("withdrawn twice")
	}
	k.Queued(t)
}

// Leaving, and how its mail reaches one, depends on being in a group alone, also where its members can't find it.
func TestOnesOwnPart(t *testing.T) {
	ines, petra, tove := k.Actor(t, kit.Administrator), k.Actor(t, kit.Colleague), k.Actor(t, kit.Member)
	g := k.Make(t, "Unseen", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("find=owners see_people=owners read=owners join.audience=nobody")
		n.Description = "Told to nobody."
	})
	if _, err := k.Group.Read(ctx, tove, g.Address); !workspace.IsKind(err, workspace.NotFound) {
		t.Fatalf("a member finds it: %v", err)
	}
	if p, err := k.Joining.MyPart(ctx, tove, g.Address); err != nil || p.Role != "member" || p.Delivery != "each" || p.Leaving != "free" || p.Description != "" || len(p.Owners) > 0 {
		t.Errorf("%+v, %v", p, err)
	}
	if m, err := k.Member.ChangeOne(ctx, tove, g.Address, kit.Member, api.MemberPatch{Delivery: "digest"}, 0); err != nil || m.Delivery != "digest" {
		t.Errorf("%+v, %v", m, err)
	}
	for what, err := range map[string]error{
		"looks":        kit.Last(k.Joining.MyPart(ctx, petra, g.Address)),
		"leaves":       kit.Last(k.Joining.Leave(ctx, petra, g.Address, api.JoinRequest{})),
		"wants mail":   kit.Last(k.Member.ChangeOne(ctx, petra, g.Address, kit.Colleague, api.MemberPatch{Delivery: "each"}, 0)),
		"takes out":    k.Member.Remove(ctx, petra, g.Address, kit.Colleague, 0),
		"takes others": k.Member.Remove(ctx, tove, g.Address, kit.Moderator, 0),
	} {
		if _, says := kit.KindOf(t, err); !strings.HasPrefix(says, "There is no group") {
			t.Errorf("who may not find it %s: %v", what, err)
		}
	}
	for who, want := range map[string]string{kit.Member: "allow", kit.Colleague: "refuse"} { // as it is rehearsed
		if r, err := k.Reach.Rehearse(ctx, ines, api.Rehearsal{Action: "leave", Group: g.Address, As: who}); err != nil || r.Outcome != want {
			t.Errorf("rehearsed for %s: %+v, %v", who, r, err)
		}
	}
	if _, err := k.Joining.Leave(ctx, tove, g.Address, api.JoinRequest{}); err != nil {
		t.Error(err)
	}
	if err := k.Member.Remove(ctx, k.Actor(t, kit.Moderator), g.Address, kit.Moderator, 0); err != nil {
		t.Errorf("a moderator takes themselves out: %v", err)
	}
	if m := kit.First(k.Members(ines, g.Address, member.Query{Limit: 5})); len(m.Items) != 1 {
		t.Errorf("in it are %+v", m.Items)
	}
}

func TestWhoeverIsBarredStaysOut(t *testing.T) {
	oda, petra := k.Actor(t, kit.Owner), k.Actor(t, kit.Colleague)
	g := k.Make(t, "Barring", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("post=workspace join.how=freely")
		n.People = append(n.People, api.NewPerson{Address: kit.Colleague})
	})
	if err := k.Send(t, g.Address, kit.Colleague, true, "before"); err != nil {
		t.Fatal(err)
	}
	if err := k.Rules.SetOverride(ctx, k.Actor(t, kit.Moderator), g.Address, kit.Colleague, api.NewOverride{Override: "barred", Reason: "Shouts"}, 0); err != nil {
		t.Fatal(err)
	}
	if now, _ := k.Group.Read(ctx, oda, g.Address); now.Counts.Members != 1 {
		t.Errorf("is still in it: %+v", now.Counts)
	}
	if err := k.Send(t, g.Address, kit.Colleague, true, "after"); err == nil || !strings.Contains(err.Error(), "barred") {
		t.Errorf("still writes: %v", err)
	}
	if d, err := k.Reach.Rehearse(ctx, oda, api.Rehearsal{Action: "post", Group: g.Address, As: kit.Colleague}); err != nil || d.Rule != "person.barred" {
		t.Errorf("rehearsed: %+v, %v", d, err)
	}
	if kind, says := kit.KindOf(t, kit.Last(k.Joining.Join(ctx, petra, g.Address, api.JoinRequest{}))); kind != workspace.NotAllowed || !strings.Contains(says, "barred") {
		t.Errorf("joins: %v %s", kind, says)
	}
	if all, _ := k.Member.Add(ctx, oda, g.Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Colleague}}}, 0); all.Results[0].Status != "barred" {
		t.Errorf("is added: %+v", all)
	}
	if s, err := k.Member.Overrides(ctx, oda, g.Address, "", 100); err != nil || len(s.Items) != 1 || s.Items[0].Name != "Petra Vane" || s.Items[0].Reason != "Shouts" {
		t.Errorf("%+v, %v", s, err)
	}
	if err := k.Rules.SetOverride(ctx, oda, g.Address, kit.Colleague, api.NewOverride{Override: "none"}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Joining.Join(ctx, petra, g.Address, api.JoinRequest{}); err != nil {
		t.Errorf("after the bar was lifted: %v", err)
	}
	if err := k.Rules.SetOverride(ctx, oda, g.Address, kit.Colleague, api.NewOverride{Override: "held"}, 0); err != nil {
		t.Fatal(err)
	}
	if d, _ := k.Reach.Rehearse(ctx, oda, api.Rehearsal{Action: "post", Group: g.Address, As: kit.Colleague}); d.Rule != "person.held" || d.Outcome != "hold" {
		t.Errorf("held: %+v", d)
	}
	if kind, _ := kit.KindOf(t, k.Rules.SetOverride(ctx, oda, g.Address, kit.Colleague, api.NewOverride{Override: "loved"}, 0)); kind != workspace.Invalid {
		t.Error("an unknown override was taken")
	}
	k.Queued(t)
}

func TestWhoRunsItAndHowToJoin(t *testing.T) {
	petra := k.Actor(t, kit.Colleague)
	g := k.Make(t, "Discovered")
	k.Make(t, "Discovered Shut", func(n *api.NewGroup) { n.Join = &api.JoinPatch{Audience: "nobody"} })
	p, err := k.Group.List(ctx, petra, group.Query{Q: "discovered", Scope: "joinable", Limit: 10})
	if err != nil || p.Total != 1 || p.Items[0].Address != g.Address || p.Items[0].Owners[0].Name != "Oda Fenn" {
		t.Errorf("%+v, %v", p, err)
	}
	if p, _ := k.Group.List(ctx, k.Actor(t, kit.Member), group.Query{Q: "discovered", Scope: "joinable", Limit: 10}); p.Total != 0 {
		t.Error("a member could join again")
	}
	k.Queued(t)
	if err := k.Send(t, "discovered-owners@merrowline.example", kit.Colleague, true, "May I come?"); err != nil {
		t.Fatal(err)
	}
	if to := k.Queued(t)["May I come?"]; !slices.Equal(to, []string{kit.Owner}) {
		t.Errorf("the owners' mail goes to %v", to)
	}
}

// Whatever somebody asked for ends when they come in or go another way, or are barred.
func TestRequestsEndWithWhatTheyAskFor(t *testing.T) {
	oda, petra, tove := k.Actor(t, kit.Owner), k.Actor(t, kit.Colleague), k.Actor(t, kit.Member)
	state := func(g api.Group, by workspace.Actor) string {
		t.Helper()
		p, err := k.Joining.Requests(ctx, by, "", true, "", 50)
		if err != nil {
			t.Fatal(err)
		}
		for _, r := range p.Items {
			if r.Group.Address == g.Address {
				return r.State
			}
		}
		return "none"
	}
	bar := func(g api.Group) error {
		return k.Rules.SetOverride(ctx, oda, g.Address, kit.Colleague, api.NewOverride{Override: "barred"}, 0)
	}
	remove := func(g api.Group) error { return k.Member.Remove(ctx, oda, g.Address, kit.Member, 0) }
	for name, x := range map[string]struct {
		by   workspace.Actor
		ends func(api.Group) error
	}{
		"added": {petra, func(g api.Group) error {
			return kit.Last(k.Member.Add(ctx, oda, g.Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Colleague}}}, 0))
		}},
		"barred from joining": {petra, bar},
		"taken out":           {tove, remove},
		"by rule": {petra, func(g api.Group) error {
			return kit.Last(k.Rules.Set(ctx, oda, g.Address, api.NewRule{Expression: `department eq "Dispatch"`}, 0))
		}},
	} {
		g := k.Make(t, "Ends When "+name, func(n *api.NewGroup) { n.Leave = "asking" })
		ask := k.Joining.Join
		if x.by.Person.ID == tove.Person.ID {
			ask = k.Joining.Leave
		}
		if w, err := ask(ctx, x.by, g.Address, api.JoinRequest{}); err != nil || w.Outcome != "asked" || state(g, x.by) != "open" {
			t.Fatalf("%s: %+v, %v", name, w, err)
		}
		if err := x.ends(g); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		s := state(g, x.by)
		if s == "open" || s == "none" {
			t.Errorf("%s: the request is %s", name, s)
		}
		if s == "declined" != slices.ContainsFunc(k.Letters(t), func(l kit.Letter) bool {
			return slices.Equal(l.To, []string{kit.Colleague}) && strings.Contains(l.Text, "declined that you join")
		}) {
			t.Errorf("%s: declined, or not, without a word", name)
		}
		if p, err := k.Joining.Requests(ctx, oda, g.Address, false, "", 5); err != nil || p.Total != 0 {
			t.Errorf("%s: %d wait for a decision, %v", name, p.Total, err)
		}
	}
	k.Queued(t)
}

// An external person has no account: what opens to the workspace does not open to them.
func TestExternalPeopleAreNobodyHere(t *testing.T) {
	const guest = "guest@gannetport.example"
	k.Make(t, "With A Guest", func(n *api.NewGroup) {
		n.Externals, n.People = "owners", []api.NewPerson{{Address: guest}}
	})
	open := k.Make(t, "Open To Colleagues", func(n *api.NewGroup) {
		n.Externals, n.Join = "owners", &api.JoinPatch{How: "freely"}
	})
	by := k.Actor(t, guest)
	if !by.Person.External || !by.Person.Active {
		t.Fatalf("%+v", by.Person)
	}
	if _, err := k.Group.Read(ctx, by, open.Address); !workspace.IsKind(err, workspace.SignedOut) {
		t.Errorf("finds a group: %v", err)
	}
	if _, err := k.Joining.Join(ctx, by, open.Address, api.JoinRequest{}); err == nil {
		t.Error("joins a group")
	}
	if p, err := k.Group.List(ctx, by, group.Query{Limit: 50}); err == nil && p.Total > 0 {
		t.Errorf("lists %d groups", p.Total)
	}
	if now, _ := k.Group.Read(ctx, k.Actor(t, kit.Owner), open.Address); now.Counts.External != 0 {
		t.Errorf("%+v", now.Counts)
	}
	k.Queued(t)
}

// A moderator settles nothing about an owner, who would be gone.
func TestNobodyActsOnAHigherRole(t *testing.T) {
	g := k.Make(t, "Ranks", func(n *api.NewGroup) { n.Owners = []string{kit.Owner, kit.Colleague} })
	set := func(by, on, to string) error {
		return k.Rules.SetOverride(ctx, k.Actor(t, by), g.Address, on, api.NewOverride{Override: to}, 0)
	}
	for _, to := range []string{"barred", "held", "trusted", "none"} {
		if kind, says := kit.KindOf(t, set(kit.Moderator, kit.Colleague, to)); kind != workspace.NotAllowed || !strings.Contains(says, "Petra Vane is an owner of Ranks") {
			t.Errorf("%s: %v %s", to, kind, says)
		}
	}
	if now, _ := k.Group.Read(ctx, k.Actor(t, kit.Owner), g.Address); now.Counts.Owners != 2 {
		t.Errorf("%+v", now.Counts)
	}
	for _, c := range [][2]string{{kit.Moderator, kit.Member}, {kit.Owner, kit.Moderator}, {kit.Administrator, kit.Colleague}} {
		if err := set(c[0], c[1], "held"); err != nil {
			t.Errorf("%s about %s: %v", c[0], c[1], err)
		}
	}
	k.Queued(t)
}
