package review

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/core/policy"
)

var now = time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)

// healthy is a group about which nothing is found.
func healthy() Facts {
	return Facts{Name: "Night Dispatch", Description: "Calls and handovers of the night shift.", Policy: policy.Default(), Owners: 2, People: 12,
		Created: now.AddDate(-1, 0, 0), LastPost: now.AddDate(0, 0, -3), Departments: map[string]int{}}
}

func kindsOf(all []Finding) (out []string) {
	for _, f := range all {
		out = append(out, string(f.Kind))
	}
	return out
}

func TestExamine(t *testing.T) {
	days := func(n int) time.Time { return now.AddDate(0, 0, -n) }
	for _, x := range []struct {
		says   string // the kinds, and a part of the first sentence
		change func(*Facts)
	}{
		{"", func(*Facts) {}},
		{"no_owner: reaches 12 people", func(g *Facts) { g.Owners = 0 }},
		{"one_owner: One owner, and 12 people", func(g *Facts) { g.Owners = 1 }},
		{"nobody: reaches nobody", func(g *Facts) { g.Owners, g.People = 1, 0 }},
		{"", func(g *Facts) { g.Owners, g.People = 1, 1 }},
		{"owner_left: Tove Alder, who owned it, has left", func(g *Facts) { g.OwnersLeft = []string{"Tove Alder"} }},
		{"owner_left: Tove Alder and Oda Fenn, who owned it, have left", func(g *Facts) { g.OwnersLeft = []string{"Tove Alder", "Oda Fenn"} }},
		{"quiet: 180 days ago", func(g *Facts) { g.LastPost = days(180) }},
		{"", func(g *Facts) { g.LastPost = days(180).Add(time.Second) }},
		{"never_used: Made 90 days ago", func(g *Facts) { g.LastPost, g.Created = time.Time{}, days(90) }},
		{"", func(g *Facts) { g.LastPost, g.Created = time.Time{}, days(89) }},
		{"strangers: 2 of them are from outside", func(g *Facts) { g.External, g.Policy[policy.Find] = 2, policy.Members }},
		{"strangers: 1 of them is from outside", func(g *Facts) { g.External, g.Policy[policy.Find] = 1, policy.Owners }},
		{"", func(g *Facts) { g.External = 2 }},
		{"open_unheld: reaches 12 people", func(g *Facts) { g.Policy[policy.Post], g.Policy[policy.Holding] = policy.Anyone, policy.HoldNobody }},
		{"", func(g *Facts) { g.Policy[policy.Post] = policy.Anyone }},
		{"unvouched: for 1 of its 2 external members", func(g *Facts) { g.External, g.Unvouched = 2, 1 }},
		{"comes_back: Mail to 1 of its 2 external members comes back", func(g *Facts) { g.External, g.Returned = 2, 1 }},
		{"not_described: no description", func(g *Facts) { g.Description = " " }},
		{"says_nothing: no more than its name", func(g *Facts) { g.Description = "The night dispatch group" }},
		{"says_nothing: no more than its name", func(g *Facts) { g.Description = "tbd" }},
		{"rule_nobody: matches nobody", func(g *Facts) { g.HasRule = true }},
		{"rule_unfilled: asks about costCenter, which nobody has", func(g *Facts) { g.HasRule, g.RuleUnfilled = true, []string{"costCenter"} }},
		{"", func(g *Facts) { g.HasRule, g.RuleMatches = true, 3 }},
		{"waiting_long: 2 things wait for a decision, the oldest for 14 days", func(g *Facts) { g.Waiting, g.WaitsSince = 2, days(14) }},
		{"waiting_long: 1 thing waits", func(g *Facts) { g.Waiting, g.WaitsSince = 1, days(20) }},
		{"", func(g *Facts) { g.Waiting, g.WaitsSince = 2, days(13) }},
		{"not_agreed: Nobody has agreed that 5 groups are in it", func(g *Facts) { g.NotAgreed = 5 }},
		{"alias_unused: No mail came to old@merrowline.example", func(g *Facts) { g.Aliases = []Alias{{Address: "old@merrowline.example", Since: days(400)}} }},
		{"", func(g *Facts) { g.Aliases = []Alias{{Since: days(400), Used: days(3)}, {Since: days(3)}} }},
		{"exempt_again: 5 days ago", func(g *Facts) { g.Exempt, g.ExemptUntil = true, days(5) }},
		{"", func(g *Facts) { g.Exempt, g.ExemptUntil = true, days(-5) }},
		{"", func(g *Facts) { g.ExemptUntil = days(5) }},
		{"owner_elsewhere: 6 of its 8 people are of Deck; its owners are of Office", func(g *Facts) {
			g.Departments, g.OwnerDepartments = map[string]int{"Deck": 6, "Office": 2}, []string{"Office", "Office"}
		}},
		{"", func(g *Facts) {
			g.Departments, g.OwnerDepartments = map[string]int{"Deck": 6, "Office": 2}, []string{"Office", "Deck"}
		}},
		{"", func(g *Facts) {
			g.Departments, g.OwnerDepartments = map[string]int{"Deck": 5, "Office": 2}, []string{"Office"}
		}}, // not three in four
		{"no_owner,open_unheld,not_described: Nobody owns it", func(g *Facts) {
			g.Description, g.Owners, g.Policy[policy.Post], g.Policy[policy.Holding] = "", 0, policy.Anyone, policy.HoldNobody
		}},
	} {
		g := healthy()
		x.change(&g)
		got := Examine(&g, DefaultLimits(), now)
		kinds, part, _ := strings.Cut(x.says, ": ")
		if all := strings.Join(kindsOf(got), ","); all != kinds || all != "" && !strings.Contains(got[0].Says, part) {
			t.Errorf("%s is wanted, %+v is found", x.says, got)
		}
	}
}

// TestEveryKind holds that each kind can be found, has words and a mend.
func TestEveryKind(t *testing.T) {
	if len(kinds) != 22 {
		t.Errorf("%d kinds", len(kinds))
	}
	last := Serious
	for _, d := range Kinds() {
		if d.Title == "" || d.Many == "" || d.Why == "" || len(d.Mends) == 0 || d.Severity > last {
			t.Errorf("%+v, after one of severity %s", d, last)
		}
		last = d.Severity
	}
	if _, known := Describe("gone"); known {
		t.Error("a kind that is none is described")
	}
}

func TestReopens(t *testing.T) {
	for _, x := range []struct {
		f        Finding
		accepted int
		want     bool
	}{
		{Finding{Kind: Strangers, Count: 3}, 2, true}, {Finding{Kind: Strangers, Count: 2}, 2, false}, {Finding{Kind: Strangers, Count: 1}, 2, false}, {Finding{Kind: Quiet, Count: 400}, 200, false},
	} {
		if got := x.f.Reopens(x.accepted); got != x.want {
			t.Errorf("%+v accepted at %d: %v", x.f, x.accepted, got)
		}
	}
}

func id(n int) (out ID) {
	for i := range 4 {
		out[15-i] = byte(n >> (8 * i))
	}
	return out
}

func TestTwins(t *testing.T) {
	var all []Named
	for i, x := range []string{"Deck Shift A|deck-a@crew.example", "Deck Shift B|deck-b@crew.example", "The Timetable Team|timetable@a.example", "Timetables|timetables@a.example",
		"Crew, Deck|crew@a.example", "Deck Crew|deck@a.example", "Stores|stores@a.example", "Spares|stores@crew.example", "Group|group@a.example", "Team|team@a.example"} {
		name, address, _ := strings.Cut(x, "|")
		all = append(all, Named{id(i), name, address, Key(name)})
	}
	got := Twins(all)
	var names []string
	for i, g := range all {
		if f, found := got[id(i)]; found {
			names = append(names, g.Name+": "+f.Says)
		}
	}
	want := []string{"The Timetable Team: There is Timetables (timetables@a.example), too.", "Timetables: There is The Timetable Team (timetable@a.example), too.",
		"Crew, Deck: There is Deck Crew (deck@a.example), too.", "Deck Crew: There is Crew, Deck (crew@a.example), too.",
		"Stores: There is Spares (stores@crew.example), too.", "Spares: There is Stores (stores@a.example), too."}
	if !slices.Equal(names, want) {
		t.Errorf("%s", strings.Join(names, "\n"))
	}
}

// TestCrowd compares what is likely with what is so, over random groups: no pair that has nearly the same people is missed, within what
// chance allows, and none is named that is far from it.
func TestCrowd(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	l := DefaultLimits()
	members := map[ID]map[int]bool{}
	for i := range 400 {
		in := map[int]bool{}
		if i%2 == 1 { // nearly the one before
			for m := range members[id(i-1)] {
				if r.IntN(100) < 96 {
					in[m] = true
				}
			}
		} else {
			for range 3 + r.IntN(60) {
				in[r.IntN(5000)] = true
			}
		}
		members[id(i)] = in
	}
	var c Crowd
	for g, in := range members {
		for m := range in {
			c.Add(g, id(100000+m))
		}
	}
	share := func(a, b ID) int {
		both := 0
		for m := range members[a] {
			if members[b][m] {
				both++
			}
		}
		return 100 * both / max(1, len(members[a])+len(members[b])-both)
	}
	likely := map[Pair]bool{}
	for _, p := range c.Likely(l) {
		likely[p] = true
		if share(p[0], p[1]) < 40 {
			t.Errorf("%v have %d percent in common", p, share(p[0], p[1]))
		}
	}
	missed, all := 0, 0
	for i := range 400 {
		for j := i + 1; j < 400; j++ {
			if p := (Pair{id(i), id(j)}); min(len(members[id(i)]), len(members[id(j)])) >= l.SameCount && share(id(i), id(j)) >= l.SamePercent {
				if all++; !likely[p] {
					missed++
				}
			}
		}
	}
	if all < 50 || missed > 0 {
		t.Errorf("%d of %d pairs are missed", missed, all)
	}
}

func TestCrowds(t *testing.T) {
	l := DefaultLimits()
	f, ok := Crowds([]Shared{{id(1), "B", "b@a.example", 9, 10}, {id(2), "A", "a@a.example", 19, 20}, {id(3), "C", "c@a.example", 8, 10}, {id(4), "D", "d@a.example", 4, 4}}, l)
	if want := "Nearly the same people as A (a@a.example; 19 of 20 people) and B (b@a.example; 9 of 10 people)."; !ok || f.Says != want || f.Count != 95 || !slices.Equal(f.Names, []ID{id(1), id(2)}) {
		t.Errorf("%+v, %v", f, ok)
	}
	if _, ok := Crowds([]Shared{{id(3), "C", "c@a.example", 8, 10}}, l); ok {
		t.Error("eight of ten are nearly the same")
	}
}

func BenchmarkExamine(b *testing.B) {
	g := healthy()
	l := DefaultLimits()
	for b.Loop() {
		if all := Examine(&g, l, now); len(all) > 0 {
			b.Fatal(fmt.Sprint(all))
		}
	}
}
