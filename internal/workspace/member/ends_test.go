package member_test

import (
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

func TestAMembershipEnds(t *testing.T) {
	l := k.Fresh(t, "ends")
	ines, oda := l.Actor(t, kit.Administrator), l.Actor(t, kit.Owner)
	day := func(days int) string { return l.Now().In(time.UTC).AddDate(0, 0, days).Format(time.DateOnly) }
	g := l.Make(t, "Summer Relief", func(n *api.NewGroup) { n.Externals = "owners" })
	other := l.Make(t, "Summer Watch")
	last := day(20)
	for until, says := range map[string]string{"soon": "is no date", day(-1): "is over", "2999-01-01": "years ahead"} {
		if kind, got := kit.KindOf(t, kit.Last(l.Member.ChangeOne(ctx, oda, g.Address, kit.Member, api.MemberPatch{Until: until}, 0))); kind != workspace.Invalid || !strings.Contains(got, says) {
			t.Errorf("until %s: %v %s", until, kind, got)
		}
	}
	if kind, says := kit.KindOf(t, kit.Last(l.Member.ChangeOne(ctx, oda, g.Address, kit.Owner, api.MemberPatch{Until: last}, 0))); kind != workspace.Conflict || !strings.Contains(says, "last owner") {
		t.Errorf("the last owner: %v %s", kind, says)
	}
	if kind, _ := kit.KindOf(t, kit.Last(l.Member.ChangeOne(ctx, l.Actor(t, kit.Member), g.Address, kit.Member, api.MemberPatch{Until: "none"}, 0))); kind != workspace.NotAllowed {
		t.Error("a member changes the end of their own membership")
	}
	for _, x := range []api.Group{g, other} {
		if m, err := l.Member.ChangeOne(ctx, oda, x.Address, kit.Member, api.MemberPatch{Until: last}, 0); err != nil || m.Until != last {
			t.Fatalf("%+v, %v", m, err)
		}
	}
	added, err := l.Member.Add(ctx, oda, g.Address, api.NewMembers{Until: last, People: []api.NewPerson{{Address: kit.Colleague}, {Address: "pump@fuel.example", Until: day(40)}, {Address: kit.Auditor, Until: "x"}}}, 0)
	if err != nil || added.Added != 2 || !strings.Contains(added.Results[2].Says, "is no date") {
		t.Fatalf("%+v, %v", added, err)
	}
	if _, err := l.Member.Add(ctx, ines, g.Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Administrator, Role: "owner", Until: last}}}, 0); err != nil {
		t.Fatal(err)
	}
	l.Queued(t)
	run := func() map[string][]string {
		t.Helper()
		var all sync.WaitGroup
		for range 3 {
			all.Go(func() {
				if err := l.Member.Run(ctx); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
		return l.Queued(t)
	}
	if sent := run(); len(sent) != 0 {
		t.Errorf("told 20 days before: %v", sent)
	}
	l.Move(14)
	if err := l.Member.Run(ctx); err != nil {
		t.Fatal(err)
	}
	told := map[string]int{}
	for _, x := range l.Letters(t) {
		for _, to := range x.To {
			told[to]++
		}
		if slices.Contains(x.To, kit.Member) && (!strings.Contains(x.Text, "Summer Relief (") || !strings.Contains(x.Text, "Summer Watch (")) {
			t.Errorf("one letter of both groups: %s", x.Text)
		}
	}
	if told[kit.Member] != 1 || told[kit.Colleague] != 1 || told[kit.Owner] != 1 {
		t.Errorf("told a week before: %v", told)
	}
	if sent := run(); len(sent) != 0 {
		t.Errorf("told twice: %v", sent)
	}
	l.Move(6) // the last day itself
	run()
	in := func() string {
		m, err := l.Members(ines, g.Address, member.Query{Limit: 50})
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, x := range m.Items {
			out = append(out, x.Name)
		}
		slices.Sort(out)
		return strings.Join(out, ", ")
	}
	before := in()
	if !strings.Contains(before, "Tove Alder") {
		t.Errorf("gone on the last day: %s", before)
	}
	l.Move(1)
	run()
	if got := in(); strings.Contains(got, "Tove Alder") || strings.Contains(got, "Ines Skerry") || !strings.Contains(got, "Oda Fenn") || !strings.Contains(got, "pump@fuel.example") {
		t.Errorf("the day after: %s; before: %s", got, before)
	}
	now, err := l.Group.Read(ctx, ines, g.Address)
	if err != nil || now.Counts.Owners != 1 || now.Counts.External != 1 {
		t.Errorf("counts: %+v, %v", now.Counts, err)
	}
	h, err := l.History.OfPerson(ctx, ines, kit.Member, "", 50)
	if i := slices.IndexFunc(h.Items, func(e api.HistoryEntry) bool { return e.Kind == "people.remove" }); err != nil || i < 0 || !strings.Contains(h.Items[i].Says, "their time in it was over") {
		t.Errorf("history: %+v, %v", h.Items, err)
	}
	l.Agrees(t)

	// who owns a group alone by then stays
	if _, err := l.Member.Add(ctx, ines, other.Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Administrator, Role: "owner", Until: day(2)}}}, 0); err != nil {
		t.Fatal(err)
	}
	if err := l.Member.Remove(ctx, ines, other.Address, kit.Owner, 0); err != nil {
		t.Fatal(err)
	}
	l.Move(3)
	run()
	if m, err := l.Members(ines, other.Address, member.Query{Role: "owner", Limit: 5}); err != nil || len(m.Items) != 1 || m.Items[0].Address != kit.Administrator || m.Items[0].Until != "" {
		t.Errorf("the last owner, whose time is over: %+v, %v", m.Items, err)
	}
}
