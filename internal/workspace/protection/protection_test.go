package protection_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

var (
	ctx = context.Background()
	k   *kit.Kit
)

func TestMain(m *testing.M) { kit.Main(m, "protection", &k, nil) }

// set changes what protects a workspace.
func set(t *testing.T, l *kit.Kit, change func(*api.Protection)) {
	t.Helper()
	ines := l.Actor(t, kit.Administrator)
	p, err := l.Protection.Read(ctx, ines)
	if err != nil {
		t.Fatal(err)
	}
	change(&p)
	if _, err := l.Protection.Set(ctx, ines, p, p.Version); err != nil {
		t.Fatal(err)
	}
}

func TestProtection(t *testing.T) {
	l := k.Fresh(t, "protection_set")
	ines := l.Actor(t, kit.Administrator)
	p, err := l.Protection.Read(ctx, l.Actor(t, kit.Auditor))
	if err != nil || p.SecondFactor != "nobody" || p.Groups != 10 || !slices.Contains(p.Shown, "title") || slices.Contains(p.Shown, "employeeNumber") {
		t.Fatalf("at first: %+v, %v", p, err)
	}
	if _, err := l.Protection.Read(ctx, l.Actor(t, kit.Owner)); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("an owner reads it: %v", err)
	}
	p.Groups, p.Shown = 3, []string{"title", "title", "costCenter"}
	by, report := ines.Previewing()
	if _, err := l.Protection.Set(ctx, by, p, 0); !workspace.Previewed(err) || len(report.Effects) != 2 {
		t.Errorf("looked at: %+v, %v", report, err)
	}
	now, err := l.Protection.Set(ctx, ines, p, p.Version)
	if err != nil || now.Groups != 3 || strings.Join(now.Shown, " ") != "costCenter title" || now.Version != p.Version+1 {
		t.Errorf("set: %+v, %v", now, err)
	}
	if now.FromOne != 1000 || now.ToGroup != 2000 {
		t.Errorf("mail of an hour, at first: %d, %d", now.FromOne, now.ToGroup)
	}
	p = now
	p.FromOne, p.ToGroup = 50, 0 // left out, it stays
	if now, err = l.Protection.Set(ctx, ines, p, p.Version); err != nil || now.FromOne != 50 || now.ToGroup != 2000 {
		t.Errorf("mail of an hour: %+v, %v", now, err)
	}
	if read := kit.First(l.Protection.Read(ctx, ines)); read.FromOne != 50 || read.ToGroup != 2000 {
		t.Errorf("mail of an hour, read again: %+v", read)
	}
	if _, err := l.Protection.Set(ctx, ines, p, p.Version); !workspace.IsKind(err, workspace.Stale) {
		t.Errorf("set from what it was: %v", err)
	}
	p.Shown, p.SecondFactor = []string{"shoeSize"}, "somebody"
	if _, err := l.Protection.Set(ctx, ines, p, 0); !workspace.IsKind(err, workspace.Invalid) || !strings.Contains(err.Error(), "second_factor") && !strings.Contains(fmt.Sprint(err), "somebody") {
		t.Errorf("nonsense: %v", err)
	}
}

// What somebody may do in a day has an end: by whichever way, however many at once. They are
// told what is left, and an administrator sees it.
func TestBudgets(t *testing.T) {
	l := k.Fresh(t, "protection_budgets")
	l.SetNaming(t, api.Naming{Creators: "workspace"})
	set(t, l, func(p *api.Protection) { p.Groups, p.Outsiders, p.Letters = 5, 4, 30 })
	tove := l.Actor(t, kit.Member)
	left := func(kind string, want int) {
		t.Helper()
		if me, err := l.Me(ctx, tove); err != nil || me.Left[kind] != want {
			t.Errorf("%d %s are left, %v; want %d", me.Left[kind], kind, err, want)
		}
	}
	left("groups", 5)
	var all sync.WaitGroup
	var mu sync.Mutex
	made := 0
	if _, err := l.Group.Create(ctx, tove, api.NewGroup{Name: "Mine 0", PolicyPatch: kit.Policy("externals=owners")}); err != nil {
		t.Fatal(err)
	}
	for i := range 20 {
		all.Go(func() {
			i++
			_, err := l.Group.Create(ctx, tove, api.NewGroup{Name: fmt.Sprintf("Mine %d", i), PolicyPatch: kit.Policy("externals=owners")})
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				made++
			} else if !workspace.IsKind(err, workspace.Throttled) || !strings.Contains(err.Error(), "of 5 a day") {
				t.Errorf("group %d: %v", i, err)
			}
		})
	}
	all.Wait()
	if made != 4 {
		t.Errorf("%d groups more were made", made)
	}
	left("groups", 0)
	hits := kit.First(l.History.List(ctx, l.Actor(t, kit.Administrator), "", "", "", 200)).Items
	hits = slices.DeleteFunc(hits, func(e api.HistoryEntry) bool { return e.Kind != "budget.spent" })
	if len(hits) != 1 || hits[0].Actor.Address != kit.Member {
		t.Errorf("the history has %+v", hits)
	}
	mine := kit.First(l.Group.Read(ctx, tove, "mine-0@merrowline.example"))
	if mine.Address == "" {
		t.Fatal("no group to invite into")
	}
	invite := func(n int, domain string, preview bool) error {
		by := tove
		if preview {
			by, _ = by.Previewing()
		}
		add := api.NewMembers{Way: "invite"}
		for i := range n {
			add.People = append(add.People, api.NewPerson{Address: fmt.Sprintf("guest-%d-%d@%s", n, i, domain)})
		}
		_, err := l.Member.Add(ctx, by, mine.Address, add, 0)
		if workspace.Previewed(err) {
			err = nil
		}
		return err
	}
	direct := api.NewMembers{}
	for i := range 5 {
		direct.People = append(direct.People, api.NewPerson{Address: fmt.Sprintf("put-in-%d@elsewhere.example", i)})
	}
	if _, err := l.Member.Add(ctx, tove, mine.Address, direct, 0); !workspace.IsKind(err, workspace.Throttled) || !strings.Contains(err.Error(), "4 more outsiders") {
		t.Errorf("five outsiders who are not asked: %v", err)
	}
	for _, preview := range []bool{true, false} {
		if err := invite(5, "elsewhere.example", preview); !workspace.IsKind(err, workspace.Throttled) || !strings.Contains(err.Error(), "4 more outsiders") {
			t.Errorf("five outsiders, looked at %v: %v", preview, err)
		}
	}
	left("outsiders", 4) // refused whole
	if err := invite(3, "elsewhere.example", false); err != nil {
		t.Fatal(err)
	}
	left("outsiders", 1)
	left("letters", 27)
	if err := invite(2, "gannetport.example", false); !workspace.IsKind(err, workspace.Throttled) {
		t.Errorf("two more outsiders: %v", err)
	}
	l.Move(1)
	left("groups", 5)
	left("outsiders", 4)
	if _, err := l.Member.Add(ctx, tove, mine.Address, api.NewMembers{List: &api.PeopleList{Everyone: true}}, 0); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("everybody was put in: %v", err)
	}
	set(t, l, func(p *api.Protection) { p.Groups, p.Letters = 0, 0 })
	if _, err := l.Group.Create(ctx, l.Actor(t, kit.Administrator), api.NewGroup{Name: "By Ines", Owners: []string{kit.Owner}}); err != nil {
		t.Errorf("an administrator has no budget: %v", err)
	}
	if _, err := l.Member.Add(ctx, tove, mine.Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Colleague}}}, 0); !workspace.IsKind(err, workspace.Throttled) {
		t.Errorf("a letter that there is no budget for: %v", err)
	}
}

// Colleagues see of each other what they are to see, by whichever way; auditors and
// administrators see all, and everybody their own.
func TestWhatColleaguesSee(t *testing.T) {
	l := k.Fresh(t, "protection_shown")
	l.SetNaming(t, api.Naming{Creators: "workspace"})
	ines := l.Actor(t, kit.Administrator)
	const number = "E-4711"
	if _, err := l.Directory.Create(ctx, ines, api.NewPersonEntry{Address: "liv.strand@merrowline.example", Name: "Liv Strand",
		Attributes: map[string]string{"title": "Mate", "employeeNumber": number, "locality": "Gannet Quay"}}); err != nil {
		t.Fatal(err)
	}
	tove, liv := l.Actor(t, kit.Member), l.Actor(t, "liv.strand@merrowline.example")
	list := func(by workspace.Actor, sort string) string {
		return fmt.Sprintf("%+v", kit.First(l.People.List(ctx, by, people.Query{Q: "liv", Sort: sort, Limit: 5})).Items)
	}
	for way, shown := range map[string]func(by workspace.Actor) string{
		"a list":       func(by workspace.Actor) string { return list(by, "") },
		"a completion": func(by workspace.Actor) string { return list(by, "match") },
		"their page": func(by workspace.Actor) string {
			return fmt.Sprintf("%+v", kit.First(l.People.Read(ctx, by, liv.Person.Address)))
		},
	} {
		if got := shown(tove); strings.Contains(got, number) || !strings.Contains(got, "Mate") {
			t.Errorf("a colleague sees by %s: %s", way, got)
		}
		for _, by := range []workspace.Actor{ines, l.Actor(t, kit.Auditor), liv} {
			if got := shown(by); !strings.Contains(got, number) {
				t.Errorf("%s sees by %s: %s", by.Person.Name, way, got)
			}
		}
	}
	rule := `employeeNumber eq "` + number + `"`
	mine, err := l.Group.Create(ctx, tove, api.NewGroup{Name: "Toves"})
	if err != nil {
		t.Fatal(err)
	}
	match, err := l.Rules.Match(ctx, tove, api.RuleQuestion{Expression: rule})
	if err == nil {
		err = fmt.Errorf("%s", match.Says)
	}
	for way, err := range map[string]error{
		"whom one would take":    err,
		"a rule of theirs":       kit.Last(l.Rules.Set(ctx, tove, mine.Address, api.NewRule{Expression: rule}, 0)),
		"a new group with one":   kit.Last(l.Group.Create(ctx, tove, api.NewGroup{Name: "By Number", Rule: rule})),
		"how it stands for Liv":  kit.Last(l.Rules.Explain(ctx, tove, api.RuleQuestion{Expression: rule, Person: liv.Person.Address, Group: mine.Address})),
		"who lacks one":          kit.Last(l.People.List(ctx, tove, people.Query{Lacks: "employeeNumber", Limit: 5})),
		"under a not, in a part": kit.Last(l.Rules.Set(ctx, tove, mine.Address, api.NewRule{Expression: `title pr and not (employeeNumber sw "E")`}, 0)),
	} {
		if err == nil || !strings.Contains(fmt.Sprint(err), "don't see the employee") {
			t.Errorf("a colleague asks by %s: %v", way, err)
		}
	}
	text := `employeeNumber eq "`
	c, err := l.Views.Complete(ctx, tove, "", text, len(text))
	if err != nil || len(c.Choices) > 0 {
		t.Errorf("a colleague is offered %+v, %v", c.Choices, err)
	}
	if _, err := l.Rules.Set(ctx, ines, mine.Address, api.NewRule{Expression: rule}, 0); err != nil {
		t.Errorf("an administrator: %v", err)
	}
	set(t, l, func(p *api.Protection) { p.Shown = append(p.Shown, "employeeNumber") })
	if got := list(tove, ""); !strings.Contains(got, number) {
		t.Errorf("once it is shown, a colleague sees %s", got)
	}
}
