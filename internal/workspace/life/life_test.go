package life_test

import (
	"errors"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/life"
	"ivytable.example/ivytable/internal/workspace/naming"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

var half = all("180 days", 30, 15, 1)

// all is one rule for all groups.
func all(length string, notices ...int) api.Terms {
	return api.Terms{Rules: []api.TermRule{{Name: "Everything else", Length: length}}, Notices: notices, RecoveryDays: 30, AddressDays: 5, Caretakers: []api.Caretaker{{Address: kit.Auditor}}, TimeZone: zone}
}

// days lets days pass on each of which the service runs.
func days(t *testing.T, l *kit.Kit, n int) {
	t.Helper()
	for range n {
		l.Move(1)
		run(t, l)
	}
}

func run(t *testing.T, l *kit.Kit) map[string][]string {
	t.Helper()
	if err := l.Life.Run(ctx); err != nil {
		t.Fatal(err)
	}
	return l.Queued(t)
}

func TestALife(t *testing.T) {
	l := k.Fresh(t, "life")
	ines, oda := l.Actor(t, kit.Administrator), l.Actor(t, kit.Owner)
	renewed, lapsed := l.Make(t, "Renewed"), l.Make(t, "Left Alone")
	look := func() *api.Preview {
		return kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(l.Life.SetTerms(ctx, by, half, 0)) })
	}
	if e := look(); e.Total != 2 || e.Says != "Of 2 groups, 2 get a date." || len(e.Sample) != 2 || e.Sample[0].From != "" || e.Sample[0].To != "2027-05-22" {
		t.Errorf("effect: %+v", e)
	}
	if _, err := l.Life.SetTerms(ctx, ines, half, 0); err != nil {
		t.Fatal(err)
	}
	if sent := l.Queued(t); len(sent) != 1 || !slices.Equal(sent["2 groups expire earlier than before"], []string{kit.Owner}) {
		t.Errorf("told that there is an end: %v", sent)
	}
	if g, _ := l.Group.Read(ctx, oda, renewed.Address); *g.Term.DaysLeft != 180 || g.State != "active" {
		t.Errorf("after the policy: %+v, %s", g.Term, g.State)
	}
	if again := look(); again.Says != "No date of a group changes." {
		t.Errorf("the same policy again: %s", again.Says)
	}

	l.Move(150)
	if err := l.Life.Run(ctx); err != nil {
		t.Fatal(err)
	}
	letters := l.Letters(t)
	if len(letters) != 1 || letters[0].Subject != "2 groups expire soon" || !slices.Equal(letters[0].To, []string{kit.Owner}) ||
		!strings.Contains(letters[0].Text, "- Left Alone ("+lapsed.Address+"): in 30 days, on 22 May 2027\r\n") || !strings.Contains(letters[0].Text, "/groups/"+lapsed.Address+"/term\r\n") || !strings.Contains(letters[0].Text, ">Renewed (") {
		t.Errorf("30 days before: %+v", letters)
	}
	if sent := run(t, l); len(sent) != 0 {
		t.Errorf("the notices came twice: %v", sent)
	}
	if g, _ := l.Group.Read(ctx, oda, lapsed.Address); g.State != "due" {
		t.Errorf("30 days before it is %s", g.State)
	}
	if g, err := l.Life.Renew(ctx, oda, renewed.Address, api.Renewal{Reason: "Still needed."}, 0); err != nil || *g.Term.DaysLeft != 180 {
		t.Errorf("renewed: %+v, %v", g.Term, err)
	}

	l.Move(29)
	if sent := run(t, l); len(sent) != 1 || sent["Left Alone expires tomorrow, on 22 May 2027"] == nil {
		t.Errorf("a day before, after a long sleep: %v", sent)
	}
	l.Move(1)
	mail := func() error { return l.Send(t, lapsed.Address, kit.Owner, true, "to it") }
	if err := mail(); err == nil {
		t.Error("its time is over, but it takes mail until somebody looks")
	}
	for what, err := range map[string]error{
		"renewed": kit.Last(l.Life.Renew(ctx, oda, lapsed.Address, api.Renewal{}, 0)), "retired": kit.Last(l.Life.Retire(ctx, oda, lapsed.Address, 0)),
		"changed": kit.Last(l.Reach.ChangePolicy(ctx, oda, lapsed.Address, api.PolicyPatch{Hold: "everyone"}, 0)),
		"joined":  kit.Last(l.Member.Add(ctx, oda, lapsed.Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Colleague}}}, 0)),
	} {
		if err == nil {
			t.Errorf("%s after its end, before anybody looked", what)
		} else if kind, _ := kit.KindOf(t, err); kind != workspace.Conflict {
			t.Errorf("%s: %v", what, err)
		}
	}
	if sent := run(t, l); len(sent) != 1 || sent["Left Alone has lapsed and can be restored until 21 Jun 2027"] == nil {
		t.Errorf("lapsed: %v", sent)
	}
	if kind, says := kit.KindOf(t, mail()); kind != workspace.Conflict || !strings.Contains(says, "has lapsed and takes no mail") {
		t.Errorf("mail to it: %d, %s", kind, says)
	}
	if p, _ := l.Naming.Propose(ctx, ines, naming.Proposing{Name: "", Address: lapsed.Address}); p.Status != "taken" {
		t.Errorf("its address is %s", p.Status)
	}
	if _, err := l.Life.Renew(ctx, oda, lapsed.Address, api.Renewal{}, 0); err == nil {
		t.Error("renewed after its end")
	}

	days(t, l, 29)
	back, err := l.Life.Restore(ctx, oda, lapsed.Address, 0)
	if err != nil || back.State != "active" || back.Counts != lapsed.Counts || *back.Term.DaysLeft != 180 || back.Sentence != lapsed.Sentence {
		t.Errorf("restored: %+v, %v", back, err)
	}
	if err := mail(); err != nil {
		t.Errorf("mail to it after: %v", err)
	}

	if _, err := l.Life.Retire(ctx, oda, lapsed.Address, 0); err != nil {
		t.Fatal(err)
	}
	days(t, l, 30)
	if _, err := l.Life.Restore(ctx, ines, lapsed.Address, 0); err == nil {
		t.Error("restored after the recovery window")
	} else if kind, _ := kit.KindOf(t, err); kind != workspace.NotFound {
		t.Error(err)
	}
	if p, _ := l.Naming.Propose(ctx, ines, naming.Proposing{Name: "", Address: lapsed.Address}); p.Status != "taken" || !strings.Contains(p.Says, "deleted for good") {
		t.Errorf("just purged, its address is %s: %s", p.Status, p.Says)
	}
	left, err := l.Life.Purged(ctx, ines, "", 10)
	if err != nil || left.Total != 1 || left.Items[0].Address != lapsed.Address || left.Items[0].Ended != "retired" || !slices.Equal(left.Items[0].Owners, []string{kit.Owner}) {
		t.Errorf("what is left: %+v, %v", left, err)
	}
	r := kit.Preview(t, ines, func(by workspace.Actor) error {
		return kit.Last(l.Directory.Import(ctx, by, api.Import{Text: "E-mail,Name\n" + lapsed.Address + ",Somebody\nnew.one@merrowline.example,New One\n"}))
	})
	if r.Ready != 1 || len(r.Sample) == 0 || !strings.Contains(r.Sample[0].Says, "which was deleted for good, had this address") {
		t.Errorf("somebody with its address is imported: %+v", r)
	}
	if _, err := l.Directory.Create(ctx, ines, api.NewPersonEntry{Address: lapsed.Address, Name: "Somebody"}); err == nil || !strings.Contains(err.Error(), "deleted for good") {
		t.Errorf("somebody with its address: %v", err)
	}
	days(t, l, 5)
	if p, _ := l.Naming.Propose(ctx, ines, naming.Proposing{Name: "", Address: lapsed.Address}); p.Status != "free" {
		t.Errorf("some days later its address is %s", p.Status)
	}
	h, err := l.History.List(ctx, ines, "", "", "", 50)
	var actions []string
	for _, e := range h.Items {
		if e.Group != nil && e.Group.Address == lapsed.Address {
			actions = append(actions, e.Kind)
		}
	}
	slices.Reverse(actions)
	if got := strings.Join(actions, " "); err != nil || got != "group.create people.add notice.send notice.send group.lapse notice.send group.restore group.retire notice.send group.purge group.free" {
		t.Errorf("history: %s, %v", got, err)
	}
}

// Two instances that run at once send each notice once and lapse each group once.
func TestExpiryRunsInSeveralInstances(t *testing.T) {
	l := k.Fresh(t, "instances")
	for _, name := range []string{"Alpha", "Bravo", "Charlie", "Delta"} {
		l.Make(t, name)
	}
	if _, err := l.Life.SetTerms(ctx, l.Actor(t, kit.Administrator), half, 0); err != nil {
		t.Fatal(err)
	}
	together := func() map[string][]string {
		var all sync.WaitGroup
		for range 3 {
			all.Go(func() {
				if err := l.Life.Run(ctx); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
		return l.Queued(t)
	}
	l.Move(150)
	together()
	l.Move(15)
	if sent := together(); len(sent) != 1 || len(sent["4 groups expire soon"]) != 1 {
		t.Errorf("notices: %v", sent)
	}
	l.Move(14)
	together()
	l.Move(1)
	if sent := together(); len(sent) != 1 || len(sent["4 groups have lapsed and can be restored"]) != 1 {
		t.Errorf("lapses: %v", sent)
	}
}

// After the service was away, or the clock jumped, nobody is cut off whose owners were not
// told in time: the end moves by what is missing, and the letter says why.
func TestNobodyIsCutOffUnwarned(t *testing.T) {
	for name, c := range map[string]struct {
		days    []int // on which the service was there, from the renewal on
		expires string
		says    string // in the last letter
	}{
		"away over all of it":         {[]int{0, 200}, "11 Jul 2027", "It was to expire on 22 May 2027"},
		"away over the first notice":  {[]int{0, 160}, "1 Jun 2027", "It was to expire on 22 May 2027"},
		"away over the last notice":   {[]int{0, 150, 165, 181}, "24 May 2027", "It was to expire on 22 May 2027"},
		"away over all but the first": {[]int{0, 150, 300}, "20 Sep 2027", "It was to expire on 22 May 2027"},
		"there at every notice":       {[]int{0, 150, 165, 179}, "22 May 2027", "expires tomorrow"},
		"away between":                {[]int{0, 150, 179}, "22 May 2027", "expires tomorrow"},
	} {
		t.Run(name, func(t *testing.T) {
			l := k.Fresh(t, "away_"+strings.NewReplacer(" ", "").Replace(name))
			g := l.Make(t, "Away")
			if _, err := l.Life.SetTerms(ctx, l.Actor(t, kit.Administrator), half, 0); err != nil {
				t.Fatal(err)
			}
			was, last := 0, ""
			for _, day := range c.days {
				l.Move(day - was)
				was = day
				for range 2 { // what moved is told of the next time
					if err := l.Life.Run(ctx); err != nil {
						t.Fatal(err)
					}
				}
				for _, x := range l.Letters(t) {
					last = x.Subject + "\n" + x.Text
				}
			}
			now, err := l.Group.Read(ctx, l.Actor(t, kit.Owner), g.Address)
			if err != nil || now.Term.EndedAt != nil || now.Term.ExpiresOn == nil || !strings.Contains(last, c.says) || !strings.Contains(last, "on "+c.expires) {
				t.Errorf("%+v, %v; the last letter: %s", now.Term, err, last)
			}
			l.Move(kit.DaysUntil(t, l.Now(), *now.Term.ExpiresOn))
			if err := l.Send(t, g.Address, kit.Owner, true, "at its end"); !workspace.IsKind(err, workspace.Throttled) {
				t.Errorf("mail before anybody came by: %v", err)
			}
			if err := l.Life.Run(ctx); err != nil {
				t.Fatal(err)
			}
			now, err = l.Group.Read(ctx, l.Actor(t, kit.Owner), g.Address)
			if told := strings.Contains(last, "expires tomorrow"); err != nil || (now.Term.EndedAt != nil) != told {
				t.Errorf("at its end: %+v, %v; told the day before: %v", now.Term, err, told)
			}
		})
	}
}

// A clock that ran ahead and came back stops neither matching nor deletion, and days that it skipped count as one.
func TestAClockThatCameBack(t *testing.T) {
	l := k.Fresh(t, "clock_back")
	ines := l.Actor(t, kit.Administrator)
	terms := api.Terms{Rules: []api.TermRule{{Name: "All", Length: "100 days"}}, Notices: []int{30}, RecoveryDays: 10, AddressDays: 30, TimeZone: "UTC"}
	if _, err := l.Life.SetTerms(ctx, ines, terms, 0); err != nil {
		t.Fatal(err)
	}
	g, stays := l.Make(t, "Retired"), l.Make(t, "Stays")
	run := func() {
		t.Helper()
		if err := l.Life.Run(ctx); err != nil {
			t.Fatal(err)
		}
		l.Letters(t)
		if err := l.Life.Run(ctx); err != nil {
			t.Fatal(err)
		}
	}
	run()
	if _, err := l.Life.Retire(ctx, ines, g.Address, 0); err != nil {
		t.Fatal(err)
	}
	run()
	for range 30 { // it jumps to and fro within a day
		l.Move(1000)
		run()
		l.Move(-1000)
		run()
	}
	back := 0
	for _, e := range kit.First(l.History.List(ctx, ines, "", "", "", 200)).Items {
		if e.Kind == "clock.back" {
			back++
		}
	}
	if back == 0 {
		t.Error("nothing is said of the clock")
	}
	gone := func() bool {
		_, err := l.Read().Group(uuid.MustParse(g.ID))
		return errors.Is(err, store.ErrNotFound)
	}
	if gone() {
		t.Fatal("the jumps of one day deleted a group")
	}
	l.SQL(t, "UPDATE mail_groups SET term_rule = '' WHERE address = '"+stays.Address+"'")
	for day := 1; day <= 12; day++ {
		l.Move(1)
		run()
		if gone() && day < 8 {
			t.Errorf("deleted after %d days", day)
		}
	}
	if !gone() {
		t.Error("it was never deleted")
	}
	var rule string
	if l.SQL(t, "SELECT term_rule FROM mail_groups WHERE address = '"+stays.Address+"'", &rule); rule != "All" {
		t.Errorf("it was not matched with the rules: %q", rule)
	}
}

func TestExemptAndCaretaker(t *testing.T) {
	l := k.Fresh(t, "exempt")
	ines := l.Actor(t, kit.Administrator)
	g := l.Make(t, "Exempt")
	reason := "Required by law"
	if _, err := l.Group.Change(ctx, l.Actor(t, kit.Owner), g.Address, api.GroupPatch{Exempt: &reason}, 0); err == nil {
		t.Error("an owner exempted a group")
	} else if kind, _ := kit.KindOf(t, err); kind != workspace.NotAllowed {
		t.Error(err)
	}
	if _, err := l.Life.SetTerms(ctx, ines, half, 0); err != nil {
		t.Fatal(err)
	}
	for until, says := range map[string]string{"2026-11-23": "past", "soon": "Write the day"} {
		if _, err := l.Group.Change(ctx, ines, g.Address, api.GroupPatch{Exempt: &reason, ExemptUntil: &until}, 0); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("exempt until %s: %v", until, err)
		}
	}
	until := "2027-01-31"
	if _, err := l.Group.Change(ctx, ines, g.Address, api.GroupPatch{ExemptUntil: &until}, 0); err == nil || !strings.Contains(err.Error(), "not exempt") {
		t.Errorf("to look again at what is not exempt: %v", err)
	}
	if g, err := l.Group.Change(ctx, ines, g.Address, api.GroupPatch{Exempt: &reason, ExemptUntil: &until}, 0); err != nil || g.Term.ExpiresOn != nil || g.Term.Exempt.By != kit.Administrator || *g.Term.Exempt.Until != until {
		t.Errorf("exempt: %+v, %v", g.Term, err)
	}
	none := ""
	if g, err := l.Group.Change(ctx, ines, g.Address, api.GroupPatch{Exempt: &none}, 0); err != nil || g.Term.ExpiresOn == nil || g.Term.Rule != "Everything else" {
		t.Errorf("no longer exempt: %+v, %v", g.Term, err)
	}
	if p, err := l.Group.List(ctx, ines, group.Query{Filter: `exempt_until pr`, Limit: 5}); err != nil || p.Total != 0 {
		t.Errorf("still to look at: %+v, %v", p, err)
	}

	l.Write(t, func(tx *store.Tx) error {
		return tx.DeleteMemberships(uuid.MustParse(g.ID), []uuid.UUID{l.Actor(t, kit.Owner).Person.ID})
	})
	l.Letters(t)
	l.Move(160)
	for subject, to := range run(t, l) {
		if !slices.Equal(to, []string{kit.Auditor}) {
			t.Errorf("%s went to %v", subject, to)
		}
	}
}

func TestSetTermsRefuses(t *testing.T) {
	l := k.Fresh(t, "refuses")
	ines := l.Actor(t, kit.Administrator)
	for _, c := range []struct {
		with func(*api.Terms)
		says string
	}{
		{func(e *api.Terms) { e.Rules[0].Length = "0 days" }, "rules[0].length: A term of 0 days is too short."},
		{func(e *api.Terms) { e.Rules[0].Length = "20 years" }, "rules[0].length: A term of 20 years is too long."},
		{func(e *api.Terms) { e.Rules[0].Length = "a while" }, `rules[0].length: A length can't be "a while".`},
		{func(e *api.Terms) { e.Rules[0].Length = "2020-01-01" }, "rules[0].length: 2020-01-01 is past."},
		{func(e *api.Terms) { e.Rules[0].Filter = "owners is 0" }, "rules[0].filter: "},
		{func(e *api.Terms) { e.Rules[0].Filter = "days_left lt 10" }, "rules[0].filter: A rule can't ask about days_left"},
		{func(e *api.Terms) { e.Rules = append(e.Rules, e.Rules[0]) }, "rules[1].name: There are two rules called Everything else."},
		{func(e *api.Terms) { e.Notices = []int{1, 30} }, "notices: The notices 1, 30"},
		{func(e *api.Terms) { e.Notices = nil }, "notices: There has to be at least one"},
		{func(e *api.Terms) { e.Notices = []int{200} }, "rules[0].notices: A notice can't come 200 days before"},
		{func(e *api.Terms) { e.RecoveryDays = 1 }, "recovery_days: "},
		{func(e *api.Terms) { e.Caretakers[0].Address = "desk" }, "caretakers[0].address: There is no @"},
		{func(e *api.Terms) { e.Caretakers[0].Filter = "state eq 1" }, "caretakers[0].filter: "},
		{func(e *api.Terms) { e.TimeZone = "Tidal/Middle" }, `time_zone: There is no time zone "Tidal/Middle"`},
	} {
		e := all("180 days", 30, 15, 1)
		c.with(&e)
		_, err := l.Life.SetTerms(ctx, ines, e, 0)
		if err == nil {
			t.Errorf("%+v was taken", e)
			continue
		}
		if kind, says := kit.KindOf(t, err); kind != workspace.Invalid || !strings.Contains(says, c.says) {
			t.Errorf("%d, %q; want %q", kind, says, c.says)
		}
	}
	if _, err := l.Life.SetTerms(ctx, ines, half, 7); err == nil {
		t.Error("a version that is not there was taken")
	}
}

// Of two who put the first rule in force at once, each having read that there is
// none, one wins and the other is told.
func TestTheFirstRuleIsOnes(t *testing.T) {
	l := k.Fresh(t, "first_rule")
	ines := l.Actor(t, kit.Administrator)
	read, err := l.Life.Terms(ctx, ines)
	if err != nil || read.Version != 1 || len(read.Rules) != 0 {
		t.Fatalf("before: %+v, %v", read, err)
	}
	errs := make([]error, 2)
	var all sync.WaitGroup
	for i := range errs {
		all.Go(func() { _, errs[i] = l.Life.SetTerms(ctx, ines, half, read.Version) })
	}
	all.Wait()
	if (errs[0] == nil) == (errs[1] == nil) {
		t.Fatalf("%v; %v", errs[0], errs[1])
	}
	for _, err := range errs {
		if err != nil {
			if kind, _ := kit.KindOf(t, err); kind != workspace.Stale {
				t.Error(err)
			}
		}
	}
	if now, err := l.Life.Terms(ctx, ines); err != nil || now.Version != 2 || len(now.Rules) != 1 {
		t.Errorf("after: %+v, %v", now, err)
	}
}

func TestForecast(t *testing.T) {
	l := k.Fresh(t, "forecast")
	ines := l.Actor(t, kit.Administrator)
	l.Make(t, "First")
	if _, err := l.Life.SetTerms(ctx, ines, all("40 days", 7), 0); err != nil {
		t.Fatal(err)
	}
	l.Move(3)
	l.Make(t, "Second")
	weeks, err := l.Life.Forecast(ctx, ines, life.Asking{By: "owner"})
	got := make([]int, 0, 8)
	for _, w := range weeks.Items {
		got = append(got, w.Groups)
	}
	if err != nil || len(got) != 52 || weeks.Total != 2 || !slices.Equal(got[:8], []int{0, 0, 0, 0, 0, 2, 0, 0}) {
		t.Errorf("%v, %v; one after 37 days, one after 40", got, err)
	}
	if w := weeks.Items[5]; len(w.Parts) != 1 || w.Parts[0] != (api.PeriodPart{Name: "Oda Fenn", Groups: 2}) {
		t.Errorf("by owner: %+v", w)
	} else if list, err := l.Group.List(ctx, ines, group.Query{Filter: w.Filter, Limit: 5}); err != nil || list.Total != 2 {
		t.Errorf("the list that a week leads to: %+v, %v", list, err)
	}
	if _, err := l.Life.SetTerms(ctx, ines, all("2 years", 7), 0); err != nil {
		t.Fatal(err)
	}
	far, err := l.Life.Forecast(ctx, ines, life.Asking{By: "rule"})
	if n := len(far.Items); err != nil || n < 63 || n > 65 || far.Items[n-1].Groups != 2 || far.Items[n-1].Parts[0].Name != "Everything else" || far.Items[52].From != far.Items[51].To {
		t.Errorf("two years ahead: %d periods, %+v, %v", n, far.Items[n-1], err)
	}
	for who, want := range map[string]int64{kit.Owner: 2, kit.Member: 0} {
		if p, err := l.Life.Forecast(ctx, l.Actor(t, who), life.Asking{Scope: "owned"}); err != nil || p.Total != want {
			t.Errorf("what %s owns: %d, %v", who, p.Total, err)
		}
		if _, err := l.Life.Forecast(ctx, l.Actor(t, who), life.Asking{}); !workspace.IsKind(err, workspace.NotAllowed) {
			t.Errorf("%s reads all: %v", who, err)
		}
	}
}

// A group that expires on a day expires on that day by letter, list, history and preview,
// and takes mail until midnight there.
func TestADayIsTheSameEverywhere(t *testing.T) {
	l := k.Fresh(t, "one_day")
	ines := l.Actor(t, kit.Administrator)
	g := l.Make(t, "By The Day")
	e := all("40 days", 7)
	r := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(l.Life.SetTerms(ctx, by, e, 0)) })
	const day = "2027-01-02"
	if len(r.Sample) != 1 || r.Sample[0].To != day {
		t.Errorf("the preview says %+v", r.Sample)
	}
	if _, err := l.Life.SetTerms(ctx, ines, e, 0); err != nil {
		t.Fatal(err)
	}
	now, err := l.Group.Read(ctx, ines, g.Address)
	if err != nil || *now.Term.ExpiresOn != day || now.CreatedAt.Format(time.RFC3339) != "2026-11-23T22:00:00+13:00" {
		t.Errorf("the group says %s and %s, %v", *now.Term.ExpiresOn, now.CreatedAt.Format(time.RFC3339), err)
	}
	weeks, err := l.Life.Forecast(ctx, ines, life.Asking{})
	for _, w := range weeks.Items {
		if w.Groups > 0 && (w.From > day || w.To <= day) {
			t.Errorf("the forecast says the week of %s, %v", w.From, err)
		}
	}
	l.Move(33)
	if sent := run(t, l); sent["By The Day expires in 7 days, on 2 Jan 2027"] == nil {
		t.Errorf("the letter says %v", sent)
	}
	l.Move(6) // 22:00 of the day before
	if err := l.Send(t, g.Address, kit.Member, true, "the last evening"); err != nil {
		t.Errorf("two hours before its end: %v", err)
	}
	l.MoveBy(119 * time.Minute)
	if err := l.Send(t, g.Address, kit.Member, true, "the last minute"); err != nil {
		t.Errorf("a minute before its end: %v", err)
	}
	l.MoveBy(time.Minute) // midnight there; 11:00 in UTC
	if err := l.Send(t, g.Address, kit.Member, true, "too late"); err == nil {
		t.Error("it takes mail on the day on which it expired")
	}
	run(t, l)
	h, err := l.History.List(ctx, ines, g.Address, `kind eq "group.lapse"`, "", 1)
	if err != nil || h.Items[0].Fields["until"] != "2027-02-01" || h.Items[0].At.Format(time.DateOnly) != day {
		t.Errorf("the history says %+v, %v", h.Items, err)
	}
	if now, _ = l.Group.Read(ctx, ines, g.Address); *now.Term.RestorableUntil != "2027-02-01" {
		t.Errorf("it can be restored until %s", *now.Term.RestorableUntil)
	}
}

// Nobody but who reads it can be told about groups without owners, now and later.
func TestTheCaretakerReadsTheirMail(t *testing.T) {
	l := k.Fresh(t, "caretaker")
	ines := l.Actor(t, kit.Administrator)
	g := l.Make(t, "Desk for groups")
	for _, who := range []string{"nobody@merrowline.example", kit.Left} {
		e := all("180 days", 30)
		e.Caretakers[0].Address = who
		if kind, says := kit.KindOf(t, kit.Last(l.Life.SetTerms(ctx, ines, e, 0))); kind != workspace.Invalid || !strings.Contains(says, "Nobody reads mail") {
			t.Errorf("%s: %v %s", who, kind, says)
		}
	}
	e := all("180 days", 30)
	e.Caretakers[0].Address = g.Address
	if _, err := l.Life.SetTerms(ctx, ines, e, 0); err != nil {
		t.Fatal(err)
	}
	// a group that ends tells nobody: the administrators are told then
	if _, err := l.Life.Retire(ctx, ines, g.Address, 0); err != nil {
		t.Fatal(err)
	}
	orphan := l.Make(t, "Orphan", func(n *api.NewGroup) { n.Owners, n.People = []string{kit.Colleague}, nil })
	l.Letters(t)
	if _, err := l.Directory.Depart(ctx, ines, kit.Colleague, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	for _, x := range l.Letters(t) {
		if strings.Contains(x.Subject, orphan.Name) && !slices.Contains(x.To, kit.Administrator) {
			t.Errorf("the letter went to %v", x.To)
		}
	}
}
