package history_test

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

// history makes some, and seals it.
func history(t *testing.T, schema string, n int) (*kit.Kit, workspace.Actor) {
	t.Helper()
	l := k.Fresh(t, schema)
	for i := range n {
		l.Make(t, fmt.Sprintf("Group %d", i))
	}
	sealed(t, l)
	return l, l.Actor(t, kit.Auditor)
}

func sealed(t *testing.T, l *kit.Kit) {
	t.Helper()
	if err := l.History.Seal(ctx); err != nil {
		t.Fatal(err)
	}
}

func verify(t *testing.T, l *kit.Kit, by workspace.Actor, kept ...api.KeptSeal) api.Verification {
	t.Helper()
	v, err := l.History.Verify(ctx, by, kept)
	if err != nil {
		t.Fatal(err)
	}
	return v
}

func TestAWholeHistory(t *testing.T) {
	l, signe := history(t, "whole", 5)
	s, err := l.History.Sealed(ctx, signe)
	if err != nil || s.Place != 10 || len(s.Seal) != 64 {
		t.Errorf("%+v, %v", s, err)
	}
	if v := verify(t, l, signe, api.KeptSeal{Place: s.Place, Seal: strings.ToUpper(s.Seal)}); v.Total != 0 || v.Right != 10 || v.Says != "The history is whole: 10 entries, each as it was sealed." {
		t.Errorf("%+v", v)
	}
	l.Make(t, "Later")
	sealed(t, l)
	if v := verify(t, l, signe, api.KeptSeal{Place: s.Place, Seal: s.Seal}); v.Total != 0 || v.Right != 12 {
		t.Errorf("later: %+v", v)
	}
	for _, bad := range []string{"", "5f1c", strings.Repeat("x", 64)} {
		if _, err := l.History.Verify(ctx, signe, []api.KeptSeal{{Place: 1, Seal: bad}}); !workspace.IsKind(err, workspace.Invalid) {
			t.Errorf("a kept seal %q: %v", bad, err)
		}
	}
	if _, err := l.History.Verify(ctx, l.Actor(t, kit.Owner), nil); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("an owner verifies: %v", err)
	}
}

// Whatever is done to the records behind the service's back is found.
func TestTamperedRecords(t *testing.T) {
	for name, c := range map[string]struct {
		sql  []string
		kind string
		from int64 // the place from which on nothing is proven; 0 for an entry without a place
	}{
		"who did it":         {[]string{"UPDATE history SET actor = 'x@y.example' WHERE id = 3"}, "edited", 3},
		"what was done":      {[]string{"UPDATE history SET data = REPLACE(data, 'Oda', 'Ada') WHERE id = 4"}, "edited", 4},
		"when":               {[]string{"UPDATE history SET at = at + INTERVAL 1 MICROSECOND WHERE id = 1"}, "edited", 1},
		"in which group":     {[]string{"UPDATE history SET group_id = (SELECT group_id FROM history WHERE id = 1) WHERE id = 7"}, "edited", 7},
		"that it was hidden": {[]string{"UPDATE history SET part = TRUE WHERE id = 5"}, "edited", 5},
		"whom it affected":   {[]string{"DELETE FROM history_people WHERE history_id = 6"}, "edited", 6},
		"which role":         {[]string{"UPDATE history_people SET now = 'member' WHERE history_id = 6 AND now = 'owner'"}, "edited", 6},
		"taken out":          {[]string{"DELETE FROM history WHERE id = 8"}, "missing", 8},
		"taken out with its seal": {[]string{"DELETE FROM history WHERE id = 8", "DELETE FROM history_seals WHERE entry = 8"},
			"missing", 8},
		"the end cut off":    {[]string{"DELETE FROM history WHERE id > 8", "DELETE FROM history_seals WHERE entry > 8"}, "missing", 9},
		"put in with a seal": {[]string{"INSERT INTO history_seals (place, entry, salt, seal) SELECT place + 100, entry + 100, salt, seal FROM history_seals WHERE place = 2"}, "missing", 11},
		"in another order": {[]string{"UPDATE history SET id = -2 WHERE id = 2", "UPDATE history SET id = 2 WHERE id = 3", "UPDATE history SET id = 3 WHERE id = -2",
			"UPDATE history_people SET history_id = -2 WHERE history_id = 2", "UPDATE history_people SET history_id = 2 WHERE history_id = 3", "UPDATE history_people SET history_id = 3 WHERE history_id = -2"}, "reordered", 2},
		"its seal": {[]string{"UPDATE history_seals SET seal = REVERSE(seal) WHERE place = 4"}, "edited", 4},
		"its salt": {[]string{"UPDATE history_seals SET salt = REVERSE(salt) WHERE place = 4"}, "edited", 4},
	} {
		t.Run(name, func(t *testing.T) {
			l, signe := history(t, "tampered_"+strings.ReplaceAll(name, " ", ""), 5)
			for _, q := range c.sql {
				l.SQL(t, q)
			}
			v := verify(t, l, signe)
			if v.Total == 0 || v.Faults[0].Kind != c.kind || v.Faults[0].Place != c.from || !strings.Contains(v.Says, "not what it was") {
				t.Errorf("%+v", v)
			}
			if c.from > 0 && !strings.Contains(v.Says, fmt.Sprintf("Up to place %d of the chain it is proven.", c.from-1)) {
				t.Errorf("%s", v.Says)
			}
		})
	}
}

// An entry that no sealer saw is found, as soon as no change can be under way any more that it could belong to.
func TestAddedRecords(t *testing.T) {
	l, signe := history(t, "added", 3)
	for _, q := range []string{"UPDATE history SET id = id + 500", "UPDATE history_people SET history_id = history_id + 500", "DELETE FROM history_seals", "UPDATE settings SET value = 'null' WHERE name = 'sealed'"} {
		l.SQL(t, q) // so that there is room before them
	}
	for range 3 {
		sealed(t, l)
		l.MoveBy(20 * time.Minute)
	}
	if v := verify(t, l, signe); v.Total != 0 || v.Right != 6 {
		t.Fatalf("before: %+v", v)
	}
	l.SQL(t, "INSERT INTO history (id, change_id, at, kind, actor, via, data, request_id) SELECT 77, change_id, at, kind, actor, via, data, '' FROM history LIMIT 1")
	sealed(t, l)
	if v := verify(t, l, signe); v.Total != 1 || v.Faults[0].Kind != "added" || v.Faults[0].Entry != 77 {
		t.Errorf("%+v", v)
	}
}

// Who makes the chain anew from an entry on is found by a seal that was kept elsewhere, and by that alone.
func TestARewrittenEnd(t *testing.T) {
	l, signe := history(t, "rewritten", 5)
	kept, err := l.History.Sealed(ctx, signe)
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{"UPDATE history SET actor = 'x@y.example' WHERE id = 3", "DELETE FROM history_seals", "UPDATE settings SET value = 'null' WHERE name = 'sealed'"} {
		l.SQL(t, q)
	}
	sealed(t, l)
	if v := verify(t, l, signe); v.Total != 0 {
		t.Errorf("without the seal that was kept: %+v", v)
	}
	if v := verify(t, l, signe, api.KeptSeal{Place: kept.Place, Seal: kept.Seal}); v.Total != 1 || v.Faults[0].Kind != "rewritten" || v.Faults[0].Place != kept.Place {
		t.Errorf("with it: %+v", v)
	}
}

// Several instances seal at once, while changes go on: each entry once, without gaps, and none waits.
func TestSealersTogether(t *testing.T) {
	l, signe := history(t, "together", 1)
	done := make(chan struct{})
	var sealers sync.WaitGroup
	for range 3 {
		sealers.Go(func() {
			for {
				select {
				case <-done:
					return
				default:
					if err := l.History.Seal(ctx); err != nil {
						t.Error(err)
					}
				}
			}
		})
	}
	var makers sync.WaitGroup
	for i := range 4 {
		makers.Go(func() {
			for j := range 12 {
				if _, err := l.Group.Create(ctx, l.Actor(t, kit.Administrator), api.NewGroup{Name: fmt.Sprintf("Of %d no %d", i, j), Owners: []string{kit.Owner}, Quiet: true}); err != nil {
					t.Error(err)
				}
			}
		})
	}
	makers.Wait()
	close(done)
	sealers.Wait()
	l.MoveBy(time.Minute) // those that came late
	sealed(t, l)
	var n int64
	l.SQL(t, "SELECT COUNT(*) FROM history", &n)
	if v := verify(t, l, signe); v.Total != 0 || v.Right != n || v.Seal.Place != n {
		t.Errorf("%d entries: %+v", n, v)
	}
}

// A change that ends late, with a number before those that are sealed, is sealed too.
func TestLateEntries(t *testing.T) {
	l, signe := history(t, "late", 1)
	hold, begun := make(chan struct{}), make(chan struct{})
	var all sync.WaitGroup
	all.Go(func() {
		err := l.Pool.Transact(ctx, false, func(tx *store.Tx) error {
			e := store.Event{ChangeID: store.NewID(), At: l.Now(), Kind: "group.purge", Via: "service", Actor: "the service", Data: []byte(`{"v":1,"fact":{}}`)}
			if err := tx.AddEvents([]store.Event{e}, make([][]store.Affected, 1)); err != nil {
				return err
			}
			close(begun)
			<-hold
			return nil
		})
		if err != nil {
			t.Error(err)
		}
	})
	<-begun
	l.Make(t, "Meanwhile")
	sealed(t, l)
	close(hold)
	all.Wait()
	l.MoveBy(time.Minute)
	sealed(t, l)
	v := verify(t, l, signe)
	if v.Total != 0 || v.Right != 5 {
		t.Errorf("%+v", v)
	}
	rows, err := l.Read().Events(uuid.Nil, nil, 0, 50)
	if err != nil || !slices.ContainsFunc(rows, func(e store.Event) bool { return e.Kind == "group.purge" }) {
		t.Errorf("%v, %v", rows, err)
	}
}
