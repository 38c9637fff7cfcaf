package review

import (
	"context"
	"fmt"
	"slices"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/review"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// limit is one of the limits: its name, its bounds, and where it stands.
type limit struct {
	name     string
	min, max int
	of       func(*review.Limits) *int
	says     string
}

var limits = []limit{
	{"quiet_days", 7, 3650, func(l *review.Limits) *int { return &l.QuietDays }, "days without a post"},
	{"unused_days", 1, 3650, func(l *review.Limits) *int { return &l.UnusedDays }, "days since it was made"},
	{"waiting_days", 1, 365, func(l *review.Limits) *int { return &l.WaitingDays }, "days for which something waits"},
	{"alias_days", 7, 3650, func(l *review.Limits) *int { return &l.AliasDays }, "days without mail to it"},
	{"same_people", 2, 10000, func(l *review.Limits) *int { return &l.SameCount }, "people whom two groups need to be compared"},
	{"same_percent", 50, 100, func(l *review.Limits) *int { return &l.SamePercent }, "percent of the people of two groups who are in both"},
	{"sole_groups", 2, 10000, func(l *review.Limits) *int { return &l.SoleGroups }, "groups of which somebody is alone the owner"},
}

func shapeLimits(s store.ReviewSettings, version int) api.ReviewLimits {
	out := api.ReviewLimits{Off: append([]string{}, s.Off...), Version: version}
	l := s.Limits
	out.QuietDays, out.UnusedDays, out.WaitingDays, out.AliasDays, out.SamePeople, out.SamePercent, out.SoleGroups = l.QuietDays, l.UnusedDays, l.WaitingDays, l.AliasDays, l.SameCount, l.SamePercent, l.SoleGroups
	return out
}

func readLimits(n api.ReviewLimits) (store.ReviewSettings, error) {
	out := store.ReviewSettings{Off: slices.Clone(n.Off)}
	out.Limits = review.Limits{QuietDays: n.QuietDays, UnusedDays: n.UnusedDays, WaitingDays: n.WaitingDays, AliasDays: n.AliasDays, SameCount: n.SamePeople, SamePercent: n.SamePercent, SoleGroups: n.SoleGroups}
	var bad workspace.Problems
	for _, l := range limits {
		if v := *l.of(&out.Limits); v < l.min || v > l.max {
			bad.Add(l.name, v, "%s has to be from %d to %d %s.", l.name, l.min, l.max, l.says)
		}
	}
	for i, k := range n.Off {
		bad.OneOf(fmt.Sprintf("off[%d]", i), k, review.Names()...)
	}
	slices.Sort(out.Off)
	out.Off = slices.Compact(out.Off)
	return out, bad.Err()
}

// Limits returns from when on something is found.
func (s *Service) Limits(ctx context.Context, by workspace.Actor) (api.ReviewLimits, error) {
	if err := by.Allow(access.ReadReview); err != nil {
		return api.ReviewLimits{}, err
	}
	settings := Defaults()
	version, err := s.k.View(ctx, by).Read.Setting(LimitsSetting, &settings)
	return shapeLimits(settings, version+1), err
}

// SetLimits changes from when on something is found. The whole directory is looked at with them: it is said how many findings
// there are then.
func (s *Service) SetLimits(ctx context.Context, by workspace.Actor, n api.ReviewLimits, version int) (api.ReviewLimits, error) {
	if err := by.Allow(access.ChangeReview); err != nil {
		return api.ReviewLimits{}, err
	}
	next, err := readLimits(n)
	if err != nil {
		return api.ReviewLimits{}, err
	}
	var out api.ReviewLimits
	err = workspace.ChangeSetting(ctx, s.k, by, access.ChangeReview, LimitsSetting, "the limits of the review", version, Defaults(), func(c *workspace.Change, before store.ReviewSettings, current int) error {
		out = shapeLimits(next, current+2)
		var changes []event.Change
		was := before.Limits
		for _, l := range limits {
			if from, to := *l.of(&was), *l.of(&next.Limits); from != to {
				changes = append(changes, event.Change{Field: l.name, From: fmt.Sprint(from), To: fmt.Sprint(to)})
			}
		}
		for _, d := range review.Kinds() {
			off, will := slices.Contains(before.Off, string(d.Kind)), slices.Contains(next.Off, string(d.Kind))
			if off != will {
				changes = append(changes, event.Change{Field: string(d.Kind), From: onOff(off), To: onOff(will)})
			}
		}
		for _, x := range changes {
			c.Effect(api.Effect{Field: x.Field, From: x.From, To: x.To})
		}
		if len(changes) == 0 {
			c.Says("Nothing changes.")
			return nil
		}
		var st store.ReviewState
		at, err := c.Tx.LockSetting(stateSetting, &st)
		if err != nil {
			return err
		}
		counts, err := c.Read.CountFindings(store.FindingQuery{Time: store.FilterTime{Now: c.Now()}})
		if err != nil {
			return err
		}
		found, groups, err := s.newLook(&c.View, next).everything("")
		if err != nil {
			return err
		}
		after := map[string]int{}
		for _, x := range found {
			for _, f := range x.Findings {
				after[string(f.Kind)]++
			}
		}
		total := 0
		for _, d := range review.Kinds() {
			n := 0
			for _, k := range counts {
				if k.Kind == string(d.Kind) {
					n = k.Open + k.Accepted
				}
			}
			if total += after[string(d.Kind)]; n != after[string(d.Kind)] {
				c.Effect(api.Effect{Field: string(d.Kind), From: fmt.Sprint(n), To: fmt.Sprint(after[string(d.Kind)]), Says: d.Title})
			}
		}
		says := fmt.Sprintf("Of %s, the review then finds %s.", number.Of(groups, "group"), number.Of(total, "thing"))
		c.Says(says)
		if c.Previewing() {
			return nil
		}
		if err := c.Tx.SaveSetting(LimitsSetting, next, current+1); err != nil {
			return err
		}
		if err := s.everything(c, st, at); err != nil {
			return err
		}
		return c.Record(event.LimitsChanged{Before: event.Was(shapeLimits(before, current+1), current+2), Changed: changes, Effect: says}, nil)
	})
	return out, err
}

func onOff(off bool) string {
	if off {
		return "not looked for"
	}
	return "looked for"
}
