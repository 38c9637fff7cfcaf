package life

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Asking says what a forecast is of.
type Asking struct {
	By     string // rule, domain, owner, or "" for the whole alone
	Filter string // of core/filter's Groups
	Scope  string // "" for all groups, owned for the actor's own
}

// maxParts is how many parts of a period are named; the rest is one.
const maxParts = 8

// Forecast counts the groups that end in each week of a year, and in each month after it. Weeks begin today.
func (s *Service) Forecast(ctx context.Context, by workspace.Actor, a Asking) (api.Page[api.Period], error) {
	none := api.Page[api.Period]{}
	v := s.k.View(ctx, by)
	var bad workspace.Problems
	bad.OneOf("by", a.By, "rule", "domain", "owner")
	bad.OneOf("scope", a.Scope, "owned")
	if err := bad.Err(); err != nil {
		return none, err
	}
	t, all, err := endings(v, a)
	if err != nil {
		return none, err
	}
	named, err := namer(v, a.By)
	if err != nil {
		return none, err
	}
	var last time.Time
	if len(all) > 0 {
		last = all[len(all)-1].ExpiresAt.Add(time.Nanosecond)
	}
	at := spans(t.Life.Calendar, v.Now(), last)
	out := make([]api.Period, len(at)-1)
	parts := make([]map[string]int, len(out))
	for i := range out {
		out[i].From, out[i].To = t.Date(at[i]), t.Date(at[i+1])
		out[i].Filter = fmt.Sprintf("expires_on ge %q and expires_on lt %q", out[i].From, out[i].To)
		if a.Filter != "" {
			out[i].Filter += " and (" + a.Filter + ")"
		}
	}
	for _, x := range all {
		i := span(at, x.ExpiresAt)
		if i < 0 {
			continue
		}
		out[i].Groups++
		for _, name := range named(x) {
			if parts[i] == nil {
				parts[i] = map[string]int{}
			}
			parts[i][name]++
		}
	}
	for i, p := range parts {
		out[i].Parts = largest(p)
	}
	page := workspace.Whole(out)
	page.Total = int64(len(all))
	return page, nil
}

// endings are the living groups with an end that are asked for, soonest first.
func endings(v *workspace.View, a Asking) (t workspace.Terms, out []store.Ending, err error) {
	if a.Scope == "" {
		err = v.By.Allow(access.ReadTerms)
	} else {
		err = v.By.SignedIn()
	}
	if err != nil {
		return t, nil, err
	}
	if t, err = v.Terms(); err != nil {
		return t, nil, err
	}
	q := store.GroupQuery{Time: v.FilterTime(t)}
	if q.Filter, err = v.Filter("groups", a.Filter); err != nil {
		return t, nil, err
	}
	if a.Scope != "" {
		q.Mine, q.Role = v.By.Person.ID, int8(expand.Owner)
	}
	if !v.By.Subject().ReadsAll() {
		q.Viewer = v.By.Person.ID
	}
	err = v.Read.Endings(q, func(x store.Ending) { out = append(out, x) })
	return t, out, err
}

// namer says to which parts of a forecast a group belongs.
func namer(v *workspace.View, by string) (func(store.Ending) []string, error) {
	switch by {
	case "rule":
		return func(x store.Ending) []string { return []string{x.Rule} }, nil
	case "domain":
		return func(x store.Ending) []string {
			_, domain, _ := strings.Cut(x.Address, "@")
			return []string{domain}
		}, nil
	case "owner":
		owners, err := v.Read.OwnerIDs()
		if err != nil {
			return nil, err
		}
		ids := map[uuid.UUID]bool{}
		for _, all := range owners {
			for _, id := range all {
				ids[id] = true
			}
		}
		people, err := v.Read.PeopleByID(slices.Collect(maps.Keys(ids)))
		if err != nil {
			return nil, err
		}
		return func(x store.Ending) (out []string) {
			for _, id := range owners[x.ID] {
				out = append(out, people[id].Name)
			}
			if len(out) == 0 {
				out = []string{"nobody"}
			}
			return out
		}, nil
	}
	return func(store.Ending) []string { return nil }, nil
}

func largest(of map[string]int) (out []api.PeriodPart) {
	for name, n := range of {
		out = append(out, api.PeriodPart{Name: name, Groups: n})
	}
	slices.SortFunc(out, func(a, b api.PeriodPart) int {
		return cmp.Or(cmp.Compare(b.Groups, a.Groups), strings.Compare(a.Name, b.Name))
	})
	if len(out) > maxParts {
		rest := 0
		for _, p := range out[maxParts-1:] {
			rest += p.Groups
		}
		out = append(out[:maxParts-1], api.PeriodPart{Name: "others", Groups: rest})
	}
	return out
}
