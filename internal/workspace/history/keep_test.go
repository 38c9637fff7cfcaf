package history_test

import (
	"fmt"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

// What is older than the history is kept is forgotten, once, and the rest can be followed from there on.
func TestOldEntriesAreForgotten(t *testing.T) {
	l, signe := history(t, "forgotten", 5)
	ines := l.Actor(t, kit.Administrator)
	old, err := l.History.Sealed(ctx, signe)
	if err != nil {
		t.Fatal(err)
	}
	gone := kit.First(l.Directory.Create(ctx, ines, api.NewPersonEntry{Address: "long.gone@" + kit.Domain, Name: "Long Gone"})).Address
	if _, err := l.Directory.Depart(ctx, ines, gone, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	sealed(t, l)
	if _, err := l.Directory.Erase(ctx, ines, gone, api.Erasure{Reason: "Asked for"}, 0); err != nil {
		t.Fatal(err)
	}
	sealed(t, l)
	last, err := l.History.Sealed(ctx, signe)
	if err != nil {
		t.Fatal(err)
	}
	l.Move(400)
	l.Make(t, "Later")
	n := api.HistoryKeeping{Months: 12, Every: "week"}
	p := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(l.History.SetKeeping(ctx, by, n, 0)) })
	if !strings.Contains(p.Says, "is forgotten tonight") {
		t.Errorf("%q", p.Says)
	}
	if _, err := l.History.SetKeeping(ctx, ines, n, 0); err != nil {
		t.Fatal(err)
	}
	sealed(t, l)
	var all sync.WaitGroup
	for range 4 { // instances
		all.Go(func() {
			if err := l.History.Keep(ctx); err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if v := verify(t, l, signe); v.Total != 0 { // before the entry that says so is sealed, too
		t.Errorf("%+v", v)
	}
	sealed(t, l)
	h, err := l.History.List(ctx, ines, "", "", "", 100)
	if err != nil {
		t.Fatal(err)
	}
	var kinds []string
	for _, e := range h.Items {
		kinds = append(kinds, e.Kind)
	}
	if got := strings.Join(kinds, " "); got != "history.forget history.keep people.add group.create" {
		t.Errorf("there is left %s", got)
	}
	if got := h.Items[0].Says; got != fmt.Sprintf("The service forgot %d entries of the history from before 28 Dec 2026: the chain begins after place %[1]d.", last.Place) {
		t.Errorf("%s", got)
	}
	v := verify(t, l, signe, api.KeptSeal{Place: last.Place, Seal: last.Seal}, api.KeptSeal{Place: old.Place, Seal: old.Seal})
	if v.Total != 0 || !strings.Contains(v.Says, fmt.Sprintf("It begins after place %d", last.Place)) || !strings.Contains(v.Says, "1 prove nothing any more") {
		t.Errorf("%+v", v)
	}
	if v := verify(t, l, signe, api.KeptSeal{Place: last.Place, Seal: old.Seal}); v.Total == 0 {
		t.Errorf("another seal at the beginning is taken: %+v", v)
	}
	// the next day, and nothing is old
	l.Move(1)
	if err := l.History.Keep(ctx); err != nil {
		t.Fatal(err)
	}
	sealed(t, l)
	if v := verify(t, l, signe); v.Total != 0 || v.Right != 4 {
		t.Errorf("%+v", v)
	}
	// a clock that jumps forgets nothing
	l.Move(3700)
	for range 3 {
		if err := l.History.Keep(ctx); err != nil {
			t.Fatal(err)
		}
	}
	sealed(t, l)
	if v := verify(t, l, signe); v.Total != 0 || v.Right != 4 {
		t.Errorf("after a jump: %+v", v)
	}
	l.Move(-3700)
	// a year that passes does: each day as many as passed, all but what was done last, by entries that say so
	for range 372 {
		l.Move(1)
		if err := l.History.Keep(ctx); err != nil {
			t.Fatal(err)
		}
		sealed(t, l)
	}
	if v := verify(t, l, signe); v.Total != 0 || v.Right != 1 {
		t.Errorf("%+v", v)
	}
	// and whoever shortens it is shown from when on, and has it so the same night
	n.Months = 24
	if _, err := l.History.SetKeeping(ctx, ines, n, 0); err != nil {
		t.Fatal(err)
	}
	l.Make(t, "Last")
	l.Move(380)
	n.Months = 12
	if _, err := l.History.SetKeeping(ctx, ines, n, 0); err != nil {
		t.Fatal(err)
	}
	sealed(t, l)
	if err := l.History.Keep(ctx); err != nil {
		t.Fatal(err)
	}
	sealed(t, l)
	if v := verify(t, l, signe); v.Total != 0 || v.Right != 2 {
		t.Errorf("shortened: %+v", v)
	}
}

// Who deletes the beginning of the history, beyond what was forgotten or at all, is found.
func TestTheBeginningIsProven(t *testing.T) {
	for name, c := range map[string]struct {
		sql  []string
		kind string
	}{
		"more than was forgotten": {[]string{"DELETE FROM history_people WHERE history_id IN (SELECT entry FROM history_seals WHERE place = 11)", "DELETE FROM history WHERE id IN (SELECT entry FROM history_seals WHERE place = 11)", "DELETE FROM history_seals WHERE place = 11"}, "missing"},
		"what says so is edited":  {[]string{"UPDATE history SET data = REPLACE(data, '\"place\": 10', '\"place\": 11') WHERE kind = 'history.forget'", "UPDATE history SET data = REPLACE(data, '\"place\":10', '\"place\":11') WHERE kind = 'history.forget'", "DELETE FROM history_seals WHERE place = 11"}, "edited"},
		"what says so is gone":    {[]string{"DELETE FROM history WHERE kind = 'history.forget'"}, "missing"},
	} {
		t.Run(name, func(t *testing.T) {
			l, signe := history(t, "begins_"+strings.ReplaceAll(name, " ", ""), 5)
			ines := l.Actor(t, kit.Administrator)
			l.Move(400)
			if _, err := l.History.SetKeeping(ctx, ines, api.HistoryKeeping{Months: 12}, 0); err != nil {
				t.Fatal(err)
			}
			sealed(t, l)
			for i := range 3 {
				l.Make(t, fmt.Sprintf("Later %d", i))
			}
			sealed(t, l)
			if err := l.History.Keep(ctx); err != nil {
				t.Fatal(err)
			}
			sealed(t, l)
			if v := verify(t, l, signe); v.Total != 0 {
				t.Fatalf("%+v", v)
			}
			for _, q := range c.sql {
				l.SQL(t, q)
			}
			v := verify(t, l, signe)
			found := false
			for _, f := range v.Faults {
				found = found || f.Kind == c.kind
			}
			if !found {
				t.Errorf("%+v", v)
			}
		})
	}
}

// The last seal is mailed to whoever keeps it, once in a while, by however many instances.
func TestSealsAreMailed(t *testing.T) {
	l, _ := history(t, "mailed", 2)
	ines := l.Actor(t, kit.Administrator)
	for _, bad := range []api.HistoryKeeping{{Months: 3}, {Months: -1}, {Months: 601}, {Every: "hour"}, {SealsTo: []string{"nobody@" + kit.Domain}}, {SealsTo: []string{"x@port.example"}}, {SealsTo: []string{"no address"}}} {
		if _, err := l.History.SetKeeping(ctx, ines, bad, 0); !workspace.IsKind(err, workspace.Invalid) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	if _, err := l.History.SetKeeping(ctx, l.Actor(t, kit.Auditor), api.HistoryKeeping{}, 0); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("an auditor: %v", err)
	}
	if _, err := l.History.SetKeeping(ctx, ines, api.HistoryKeeping{SealsTo: []string{kit.Auditor, kit.Colleague}, Every: "week"}, 0); err != nil {
		t.Fatal(err)
	}
	sealed(t, l)
	l.Letters(t)
	mailed := func() (out []kit.Letter) {
		t.Helper()
		var all sync.WaitGroup
		for range 4 {
			all.Go(func() {
				if err := l.History.Keep(ctx); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
		return l.Letters(t)
	}
	s, err := l.History.Sealed(ctx, ines)
	if err != nil {
		t.Fatal(err)
	}
	first := mailed()
	if len(first) != 2 || !strings.Contains(first[0].Text, fmt.Sprintf("Place %d, seal %s", s.Place, s.Seal)) || !strings.Contains(first[0].Text, fmt.Sprintf("--kept \"%d %s\"", s.Place, s.Seal)) {
		t.Fatalf("%+v", first)
	}
	for day := 1; day < 15; day++ {
		l.Move(1)
		if n, want := len(mailed()), map[bool]int{true: 2}[day%7 == 0]; n != want {
			t.Errorf("on day %d there are %d letters, want %d", day, n, want)
		}
	}
	// whoever has left gets none
	if _, err := l.Directory.Depart(ctx, ines, kit.Colleague, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	l.Letters(t)
	l.Move(7)
	if again := mailed(); len(again) != 1 || again[0].To[0] != kit.Auditor {
		t.Errorf("%+v", again)
	}
}
