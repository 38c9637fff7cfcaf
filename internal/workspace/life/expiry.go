package life

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Expiry returns the rule for how long groups live.
func (s *Service) Expiry(ctx context.Context, by workspace.Actor) (api.Expiry, error) {
	if err := by.Allow(access.ReadExpiry); err != nil {
		return api.Expiry{}, err
	}
	e, err := s.k.View(ctx, by).Expiry()
	return shape(e.Expiry, e.Version), err
}

func shape(e store.Expiry, version int) api.Expiry {
	return api.Expiry{TermDays: e.TermDays, Scope: e.Scope, Notices: e.Notices, Caretaker: e.Caretaker, TimeZone: e.TimeZone, Version: version}
}

func check(v *workspace.View, e api.Expiry) (workspace.Expiry, error) {
	var p workspace.Problems
	out, err := workspace.NewExpiry(store.Expiry{TermDays: e.TermDays, Scope: e.Scope, Notices: e.Notices, Caretaker: e.Caretaker, TimeZone: e.TimeZone}, 0)
	if err != nil || e.TimeZone == "" || e.TimeZone == "Local" {
		p.Add("time_zone", e.TimeZone, "There is no time zone %q. Write its IANA name, such as UTC or Atlantic/Faroe.", e.TimeZone)
	}
	if f := out.Policy.Check(); f != nil {
		given := map[string]any{"notices": e.Notices, "term_days": e.TermDays, "scope": e.Scope}[f.Field]
		p.Fault(f.Field, given, f)
	}
	if e.Caretaker != "" {
		if _, err := workspace.ParseAddress("caretaker", e.Caretaker); err != nil {
			p.Add("caretaker", workspace.Cut(e.Caretaker, 100), "%s", err.Error())
		} else if reads, err := v.Reads(e.Caretaker); err != nil {
			return out, err
		} else if !reads {
			p.Add("caretaker", workspace.Cut(e.Caretaker, 100), "Nobody reads mail to %s here. Name somebody of the workspace, or a group that lives.", workspace.Cut(e.Caretaker, 100))
		}
	}
	return out, p.Err()
}

// SetExpiry puts a new rule in force and gives every living group its date by it. It reads
// every living group: a declared full review.
func (s *Service) SetExpiry(ctx context.Context, by workspace.Actor, e api.Expiry, version int) (api.Expiry, error) {
	if err := by.Allow(access.ChangeExpiry); err != nil {
		return api.Expiry{}, err
	}
	next, err := check(s.k.View(ctx, by), e)
	if err != nil {
		return api.Expiry{}, err
	}
	err = s.k.Do(ctx, by, func(c *workspace.Change) error {
		before := workspace.DefaultExpiry()
		current, err := c.Tx.LockSetting(workspace.ExpirySetting, &before)
		if err != nil {
			return err
		}
		if err := c.Allow(access.ChangeExpiry); err != nil {
			return err
		}
		if version > 0 && version != current+1 {
			return workspace.Fail(workspace.Stale, "Somebody changed the expiry policy since you read it (version %d, now %d). Read it again, then make your change.", version, current+1)
		}
		dates, err := recalculate(c, next)
		if err != nil {
			return err
		}
		next.Version = current + 2
		changes := differences(before, next.Expiry)
		fact := event.ExpiryChanged{Changed: changes, Effect: c.Report.Says}
		for _, x := range slices.Backward(changes) {
			c.Report.Effects = append([]api.Effect{{Field: x.Field, From: x.From, To: x.To}}, c.Report.Effects...)
		}
		if c.Previewing() {
			return nil
		}
		if err := c.Tx.SaveSetting(workspace.ExpirySetting, next.Expiry, current+1); err != nil {
			return err
		}
		if err := c.Tx.SetExpiry(dates); err != nil {
			return err
		}
		return c.Record(fact, nil)
	})
	return shape(next.Expiry, next.Version), err
}

func differences(a, b store.Expiry) []event.Change {
	var out []event.Change
	add := func(field, from, to string) {
		if from != to {
			out = append(out, event.Change{Field: field, From: from, To: to})
		}
	}
	days := func(all []int) string { return strings.Trim(strings.ReplaceAll(fmt.Sprint(all), " ", ", "), "[]") }
	add("term_days", fmt.Sprint(a.TermDays), fmt.Sprint(b.TermDays))
	add("scope", a.Scope, b.Scope)
	add("notices", days(a.Notices), days(b.Notices))
	add("caretaker", a.Caretaker, b.Caretaker)
	add("time_zone", a.TimeZone, b.TimeZone)
	return out
}

// tally counts what a new rule does to the dates of groups.
type tally struct{ groups, gain, lose, earlier, later, soon, ownerless int }

// recalculate works out the date of every living group under a rule, and says how that
// differs from today's.
func recalculate(c *workspace.Change, next workspace.Expiry) (map[uuid.UUID]time.Time, error) {
	now := c.Now()
	dates := map[uuid.UUID]time.Time{}
	var n tally
	type moved struct {
		name, address string
		from, to      time.Time
	}
	var all []moved
	soon := next.Policy.After(now, next.Policy.First())
	err := c.Tx.LockLiveGroups(func(batch []store.Group) error {
		for _, g := range batch {
			life := g.Life()
			if next.Policy.State(life, now) == lifecycle.Lapsed {
				continue // its time ran out; a new rule does not bring it back
			}
			to := next.Policy.Expiry(life, now)
			if n.add(life.Expires, to, soon, g.Owners); !to.Equal(life.Expires) {
				dates[g.ID] = to
				all = append(all, moved{g.Name, g.Address, life.Expires, to})
			}
		}
		return nil
	})
	sort.Slice(all, func(i, j int) bool {
		a, b := all[i], all[j]
		if a.to.IsZero() != b.to.IsZero() {
			return b.to.IsZero()
		}
		return a.to.Before(b.to) || a.to.Equal(b.to) && a.address < b.address
	})
	for _, m := range all[:min(len(all), 10)] {
		c.Report.Sample = append(c.Report.Sample, api.Line{Name: m.name, Address: m.address, Outcome: "moved", From: next.Date(m.from), To: next.Date(m.to)})
	}
	c.Report.Total = len(all)
	n.tell(c)
	return dates, err
}

func (n *tally) add(from, to, soon time.Time, owners int) {
	n.groups++
	if !to.IsZero() && owners == 0 {
		n.ownerless++
	}
	if !to.IsZero() && !to.After(soon) {
		n.soon++
	}
	switch {
	case to.Equal(from):
	case from.IsZero():
		n.gain++
	case to.IsZero():
		n.lose++
	case to.Before(from):
		n.earlier++
	default:
		n.later++
	}
}

// tell puts a tally in words, part by part and as a whole.
func (n *tally) tell(c *workspace.Change) {
	if n.gain+n.lose+n.earlier+n.later == 0 {
		c.Says("No date of a group changes.")
		return
	}
	s := fmt.Sprintf("Of %d groups,", n.groups)
	if n.groups == 1 {
		s = "Of one group,"
	}
	for _, part := range []struct {
		field, one, many string
		n                int
	}{{"gain", "1 gets a date", "%d get a date", n.gain}, {"lose", "1 loses its date", "%d lose their date", n.lose},
		{"earlier", "1 expires earlier", "%d expire earlier", n.earlier}, {"later", "1 expires later", "%d expire later", n.later}} {
		if part.n == 0 {
			continue
		}
		words := part.one
		if part.n > 1 {
			words = fmt.Sprintf(part.many, part.n)
		}
		s += " " + words + ","
		c.Effect(api.Effect{Field: part.field, Count: part.n, Says: words + "."})
	}
	s = s[:len(s)-1] + "."
	if n.soon > 0 {
		s += fmt.Sprintf(" Owners of %d are told at once; no group ends before they are.", n.soon)
		c.Effect(api.Effect{Field: "due_soon", Count: n.soon, Says: fmt.Sprintf("%s inside their first notice at once.", workspace.Number(n.soon, "group"))})
	}
	if n.ownerless > 0 {
		c.Effect(api.Effect{Field: "ownerless", Count: n.ownerless, Says: fmt.Sprintf("%s with a date, but no owner: the caretaker is told.", workspace.Number(n.ownerless, "group"))})
	}
	c.Says(s)
}

// Forecast counts the groups that expire in each of the coming weeks. Weeks begin today.
func (s *Service) Forecast(ctx context.Context, by workspace.Actor, weeks int) (api.Page[api.Week], error) {
	if err := by.Allow(access.ReadExpiry); err != nil {
		return api.Page[api.Week]{}, err
	}
	v := s.k.View(ctx, by)
	e, err := v.Expiry()
	if err != nil {
		return api.Page[api.Week]{}, err
	}
	today := e.Policy.Day(v.Now())
	dates, err := v.Read.ExpiryDates(today.UTC(), e.Policy.After(today, 7*weeks).UTC())
	out := make([]api.Week, weeks)
	for i := range out {
		out[i].Begins = e.Policy.After(today, 7*i).Format(time.DateOnly)
	}
	for _, d := range dates {
		if i := e.Policy.Days(today, d.ExpiresAt) / 7; i >= 0 && i < weeks {
			out[i].Groups += d.N
		}
	}
	return workspace.Whole(out), err
}
