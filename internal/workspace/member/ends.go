package member

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// endless takes the end of a membership away.
const endless = "none"

// toldBefore is how long before the end of a membership its people and owners are told.
const toldBefore = 7 * 24 * time.Hour

// farthest is how far ahead a membership can end.
const farthest = 50 // years

// ParseUntil reads the last day of a membership, in the zone of the workspace: the moment after
// it, or nil for one that does not end.
func ParseUntil(v *workspace.View, day string) (*time.Time, error) {
	if day == "" || day == endless {
		return nil, nil
	}
	zone := v.Zone()
	d, err := time.ParseInLocation(time.DateOnly, day, zone)
	if err != nil {
		return nil, workspace.Wrong("until", workspace.Cut(day, 40), "%q is no date. Write the last day as 2027-01-31, or none.", workspace.Cut(day, 40))
	}
	end := d.AddDate(0, 0, 1)
	switch now := v.Now(); {
	case !end.After(now):
		return nil, workspace.Wrong("until", day, "%s is over. Choose today or a later day.", day)
	case end.After(now.AddDate(farthest, 0, 0)):
		return nil, workspace.Wrong("until", day, "%s is more than %d years ahead. Leave the end out instead.", day, farthest)
	}
	end = end.UTC()
	return &end, nil
}

func lastDay(v *workspace.View, ends time.Time) time.Time {
	return ends.In(v.Zone()).Add(-time.Nanosecond)
}

// Run ends the memberships whose time is over, and tells of those that end soon. Several
// instances can do it at once.
func (s *Service) Run(ctx context.Context) error {
	v := s.k.View(ctx, workspace.Service)
	for _, x := range []struct {
		until  time.Time
		untold bool
		do     func(c *workspace.Change, g *workspace.Locked, rows []store.MemberRow) error
	}{{v.Now(), false, end}, {v.Now().Add(toldBefore), true, tellEnd}} {
		for after := (store.Membership{}); ; {
			due, err := v.Read.MembershipsEnding(x.until, x.untold, after, 500)
			if err != nil {
				return err
			}
			if len(due) == 0 {
				break
			}
			if err := s.endings(ctx, due, x.do); err != nil {
				return err
			}
			after = due[len(due)-1]
		}
	}
	return nil
}

// endings does something about memberships, those of all groups together, so that one letter tells
// of several.
func (s *Service) endings(ctx context.Context, due []store.Membership, do func(c *workspace.Change, g *workspace.Locked, rows []store.MemberRow) error) error {
	of := map[uuid.UUID][]uuid.UUID{}
	var ids []uuid.UUID
	for _, m := range due {
		if of[m.GroupID] == nil {
			ids = append(ids, m.GroupID)
		}
		of[m.GroupID] = append(of[m.GroupID], m.MemberID)
	}
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		groups, err := c.Tx.LockGroups(ids)
		if err != nil {
			return err
		}
		slices.SortFunc(ids, func(a, b uuid.UUID) int { return cmp.Compare(groups[a].AddrKey, groups[b].AddrKey) })
		for _, id := range ids {
			g, there := groups[id]
			if !there {
				continue
			}
			rows, err := c.Tx.LockMembers(id, of[id])
			if err != nil {
				return err
			}
			if err := do(c, workspace.Hold(g), rows); err != nil {
				return fmt.Errorf("memberships of %s that end: %w", g.Address, err)
			}
		}
		return nil
	})
}

// end takes members out of g, which is locked, whose time is over. Who owns it alone stays, without
// an end.
func end(c *workspace.Change, g *workspace.Locked, rows []store.MemberRow) error {
	for _, r := range rows {
		if r.EndsAt == nil || r.EndsAt.After(c.Now()) {
			continue // has more time by now
		}
		err := TakeOut(c, g, r.MemberID, admission.Ending)
		if workspace.IsKind(err, workspace.Conflict) {
			err = applyTo(c, g, []Target{{ID: r.MemberID}}, change{ends: &ends{}, staff: true})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// tellEnd tells members and owners of g, which is locked, that the time of the members ends.
func tellEnd(c *workspace.Change, g *workspace.Locked, rows []store.MemberRow) error {
	var ids []uuid.UUID
	owners, err := c.NoticeRecipients(&g.Group.Group)
	if err != nil {
		return err
	}
	for _, r := range rows {
		if r.EndsAt == nil || r.EndTold || r.EndsAt.After(c.Now().Add(toldBefore)) {
			continue
		}
		ids = append(ids, r.MemberID)
		if c.Ended(&g.Group.Group) {
			continue
		}
		to := slices.Clone(owners)
		fill := map[string]string{"person": r.Name, "date": workspace.DateIn(g.Language, lastDay(&c.View, *r.EndsAt))}
		switch {
		case r.External: // they can't open the page of the group
			path, err := OwnLink(c, g.ID, r.MemberID)
			if err != nil {
				return err
			}
			if err := c.Send(&g.Group.Group, []string{r.Address}, c.GroupLetter(workspace.LetterEnding, &g.Group.Group, path, fill)); err != nil {
				return err
			}
			voucher, err := voucherOf(c, g.ID, r.MemberID)
			if err != nil {
				return err
			}
			if voucher != "" && !slices.Contains(to, voucher) {
				to = append(to, voucher)
			}
		case r.Kind == store.KindPerson && r.Active && !slices.Contains(to, r.Address):
			to = append([]string{r.Address}, to...)
		}
		l := c.GroupLetter(workspace.LetterEnding, &g.Group.Group, workspace.GroupPath(&g.Group.Group, "people"), fill)
		l.Apart = true
		if err := c.Send(&g.Group.Group, to, l); err != nil {
			return err
		}
	}
	return c.Tx.EndsTold(g.ID, ids)
}

// ends is the end that memberships are given.
type ends struct {
	at  *time.Time // nil: none
	day string
	out workspace.Outside // what holds for external members
}

// newEnds reads a part of a change; nil where it is not given.
func newEnds(v *workspace.View, until string) (*ends, error) {
	if until == "" {
		return nil, nil
	}
	at, err := ParseUntil(v, until)
	return &ends{at: at, day: until}, err
}

// decide says whether a membership may be given the end.
func (e *ends) decide(v *workspace.View, row store.MemberRow, group string, last bool) admission.Verdict {
	if most := v.StaysUntil(e.out); row.External && most != nil && (e.at == nil || e.at.After(*most)) {
		return admission.Verdict{Outcome: admission.Refused, Status: "external", Says: fmt.Sprintf("External members stay for %s at most before somebody prolongs it. Choose %s or an earlier day.", number.Of(e.out.Days, "day"), v.LastDay(most))}
	}
	switch {
	case row.EndsAt == nil && e.at == nil, row.EndsAt != nil && e.at != nil && row.EndsAt.Equal(*e.at):
		return admission.Verdict{Outcome: admission.Already}
	case e.at != nil && row.Ruled():
		return admission.Verdict{Outcome: admission.Refused, Status: "rule", Says: fmt.Sprintf("%s is in %s by its rule, as long as they match it. Change the rule instead.", row.Name, group)}
	case e.at != nil && last && row.Role == expand.Owner:
		return admission.Verdict{Outcome: admission.Refused, Status: "last_owner", Says: fmt.Sprintf("%s is the last owner of %s. Make somebody else an owner first.", row.Name, group)}
	}
	return admission.Verdict{Outcome: admission.Admitted}
}
