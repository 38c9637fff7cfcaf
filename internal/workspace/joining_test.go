package workspace_test

import (
	"bytes"
	"encoding/csv"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

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
