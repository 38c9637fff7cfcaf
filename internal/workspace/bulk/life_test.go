package bulk_test

import (
	"reflect"
	"strings"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

// Every change of how long many groups live is what was said of it, and undone they are as before.
func TestLivesOfMany(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	terms := api.Terms{Rules: []api.TermRule{{Name: "Fleet", Filter: `name sw "Living"`, Length: "180 days"}}, Notices: []int{30}, RecoveryDays: 60, TimeZone: "UTC"}
	if _, err := k.Life.SetTerms(ctx, ines, terms, 0); err != nil {
		t.Fatal(err)
	}
	k.Move(1)
	defer k.Move(-1)
	all := fleet(t, "Living", 5)
	for i := range all {
		if i < 3 {
			continue
		}
		var err error
		if i == 3 {
			_, err = k.Life.Retire(ctx, ines, all[i].Address, 0)
		} else {
			_, err = k.Life.Hold(ctx, ines, all[i].Address, api.Hold{Reason: "A claim."}, 0)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	term := func() (out []api.Term) {
		for _, g := range all {
			now, err := k.Group.Read(ctx, ines, g.Address)
			if err != nil {
				t.Fatal(err)
			}
			out = append(out, now.Term)
		}
		return out
	}
	for name, c := range map[string]struct {
		change                 api.NewBulk
		changed, same, refused int
		is                     func(api.Term) bool // of the first group, afterwards
		exact                  bool                // undone, all is exactly as it was
	}{
		"renew":   {api.NewBulk{Renew: &api.Renewal{Reason: "All of them"}}, 4, 0, 1, func(t api.Term) bool { return t.ExpiresOn != nil }, true},
		"exempt":  {api.NewBulk{Exempt: &api.ExemptChange{Reason: "As long as they sail", Until: "2027-11-01"}}, 5, 0, 0, func(t api.Term) bool { return t.ExpiresOn == nil && *t.Exempt.Until == "2027-11-01" }, true},
		"hold":    {api.NewBulk{Hold: &api.Hold{Reason: "An inquiry"}}, 4, 1, 0, func(t api.Term) bool { return t.Hold.Reason == "An inquiry" }, true},
		"release": {api.NewBulk{Release: true}, 1, 4, 0, func(t api.Term) bool { return t.Hold == nil }, true},
		"retire":  {api.NewBulk{Retire: true}, 3, 1, 1, func(t api.Term) bool { return t.EndedAt != nil }, false},
		"restore": {api.NewBulk{Restore: true}, 1, 4, 0, func(t api.Term) bool { return t.EndedAt == nil }, false},
	} {
		k.MoveBy(time.Minute)
		before := term()
		c.change.List = named("Living")
		b := change(t, ines, c.change)
		if b.Changed != c.changed || b.Same != c.same || b.Refused != c.refused {
			t.Errorf("%s: %+v", name, b)
		}
		if now := term(); !c.is(now[0]) {
			t.Errorf("%s: %+v", name, now[0])
		}
		k.MoveBy(time.Minute)
		undone(t, ines, b)
		if after := term(); c.exact && !reflect.DeepEqual(before, after) {
			t.Errorf("%s and back: %+v, then %+v", name, before, after)
		} else if !c.exact && (before[0].EndedAt == nil) != (after[0].EndedAt == nil) {
			t.Errorf("%s and back: %+v, then %+v", name, before[0], after[0])
		}
	}
	for _, bad := range []api.NewBulk{{Exempt: &api.ExemptChange{Reason: "x", Until: "2020-01-01"}}, {Exempt: &api.ExemptChange{Until: "2028-01-01"}}, {Exempt: &api.ExemptChange{Reason: "x", Until: "soon"}}, {Retire: true, Restore: true}} {
		bad.List = named("Living")
		if _, err := k.Bulk.Begin(ctx, ines, bad); !workspace.IsKind(err, workspace.Invalid) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
	if p := kit.Preview(t, ines, func(by workspace.Actor) error {
		return kit.Last(k.Bulk.Begin(ctx, by, api.NewBulk{Retire: true, List: named("Living")}))
	}); !strings.Contains(p.Sample[0].Says, "under hold") {
		t.Errorf("why one is not retired: %+v", p.Sample)
	}
	if _, err := k.Life.SetTerms(ctx, ines, api.Terms{Notices: []int{30}, RecoveryDays: 60, TimeZone: "UTC"}, 0); err != nil {
		t.Fatal(err)
	}
}
