package life

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Run sends the notices that are due, lets groups lapse whose time has run out, and purges
// those whose recovery window has passed. It is safe to run from several instances at
// once, and again after dying at any point.
func (s *Service) Run(ctx context.Context) error {
	v := s.k.View(ctx, workspace.Service)
	e, err := v.Expiry()
	if err != nil {
		return err
	}
	until := e.Policy.After(v.Now(), e.Policy.First())
	for after := (store.Cursor{}); ; {
		page, err := v.Read.ExpiryCandidates(until, after, 500)
		if err != nil {
			return err
		}
		if err := s.runPage(ctx, v, e, page.Items); err != nil {
			return err
		}
		if after = page.Next; after.Empty() {
			break
		}
	}
	return s.purge(ctx, v, e)
}

func (s *Service) runPage(ctx context.Context, v *workspace.View, e workspace.Expiry, groups []store.Group) error {
	ids := make([]uuid.UUID, len(groups))
	for i, g := range groups {
		ids[i] = g.ID
	}
	sent, err := v.Read.NoticesSent(ids)
	if err != nil {
		return err
	}
	owners, err := v.Read.Owners(ids)
	if err != nil {
		return err
	}
	var steps []step
	for _, g := range groups {
		var days []int
		for _, n := range given(sent[g.ID], g.ExpiresAt) {
			days = append(days, n.Day)
		}
		x := step{group: g.ID, address: g.Address}
		if len(owners[g.ID]) > 0 {
			x.owner = owners[g.ID][0].Address
		}
		if v.Ended(&g) {
			steps = append(steps, x)
		} else if day, ok := e.Policy.Notice(g.ExpiresAt, v.Now(), days); ok {
			x.notice, x.day = true, day
			steps = append(steps, x)
		}
	}
	// those of one owner are done together, so that one letter tells of them
	slices.SortStableFunc(steps, func(x, y step) int { return strings.Compare(x.owner, y.owner) })
	for some := range slices.Chunk(steps, together) {
		err := s.steps(ctx, some)
		if errors.Is(err, store.ErrDuplicate) { // another instance was first with some of them
			err = s.oneByOne(ctx, some)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// together is with how many groups one transaction deals.
const together = 200

// step is what is to be done about one group: it ends, or a notice of that goes out.
type step struct {
	group          uuid.UUID
	address, owner string
	notice         bool
	day            int
}

func (s *Service) oneByOne(ctx context.Context, all []step) error {
	for _, x := range all {
		if err := s.steps(ctx, []step{x}); err != nil && !errors.Is(err, store.ErrDuplicate) {
			return err
		}
	}
	return nil
}

func (s *Service) steps(ctx context.Context, all []step) error {
	ids := make([]uuid.UUID, len(all))
	for i, x := range all {
		ids[i] = x.group
	}
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		if _, err := c.Tx.LockGroups(ids); err != nil {
			return err
		}
		for _, x := range all {
			var err error
			if x.notice {
				err = notify(c, x.group, x.day)
			} else {
				err = lapse(c, x.group)
			}
			if err != nil {
				return fmt.Errorf("expiry of %s: %w", x.address, err)
			}
		}
		return nil
	})
}

// given returns the notices that were given of one end.
func given(all []store.Notice, expires time.Time) (out []lifecycle.Given) {
	for _, n := range all {
		if n.ExpiresAt.Equal(expires) {
			out = append(out, lifecycle.Given{Day: n.Day, At: n.GivenAt, First: n.First})
		}
	}
	return out
}

// extend moves the end of a group of which nobody was told in time, since the service was
// away or the clock jumped, and reports whether it did. The first notice, where that was in
// time, counts for the new end too.
func extend(c *workspace.Change, e workspace.Expiry, g *workspace.Locked) (from time.Time, moved bool, err error) {
	sent, err := c.Read.NoticesSent([]uuid.UUID{g.ID})
	if err != nil {
		return from, false, err
	}
	was, had := g.ExpiresAt, given(sent[g.ID], g.ExpiresAt)
	to, late := e.Policy.Extended(was, c.Now(), had)
	if !late {
		return was, false, nil
	}
	g.ExpiresAt = to
	for _, n := range had {
		if n.First {
			if err := c.Tx.RecordNotice(store.Notice{GroupID: g.ID, ExpiresAt: to, Day: n.Day, GivenAt: n.At, First: true}); err != nil {
				return was, false, err
			}
		}
	}
	if err := c.Save(g); err != nil {
		return was, false, err
	}
	return was, true, c.Record(event.TermExtended{From: e.Date(was), To: e.Date(to)}, &g.Group.Group)
}

// notify sends one notice, once: its record and its mail are one change. Where it is the first
// and late, the end moves, so that there is as much time as was promised.
func notify(c *workspace.Change, id uuid.UUID, day int) error {
	locked, err := c.Tx.LockGroup(id)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	} else if err != nil {
		return err
	}
	g := workspace.Hold(locked)
	e, err := c.Expiry()
	if err != nil {
		return err
	}
	if now, due := e.Policy.Notice(g.ExpiresAt, c.Now(), nil); c.Ended(&g.Group.Group) || !due || now > day {
		return nil // renewed meanwhile, or ended
	}
	was, moved, err := extend(c, e, g)
	if err != nil {
		return err
	}
	if moved {
		day = e.Policy.First()
	}
	return tell(c, e, g, day, was)
}

// tell writes to those who are told about a group when it ends, and records that; was is the
// end that it had, where it moved.
func tell(c *workspace.Change, e workspace.Expiry, g *workspace.Locked, day int, was time.Time) error {
	why := ""
	if !was.Equal(g.ExpiresAt) {
		why = workspace.DateIn(g.Language, was.In(e.Policy.Zone))
	}
	to, err := c.NoticeRecipients(&g.Group.Group)
	if err != nil {
		return err
	}
	left := e.Policy.Days(c.Now(), g.ExpiresAt)
	n := store.Notice{GroupID: g.ID, ExpiresAt: g.ExpiresAt, Day: day, GivenAt: c.Now(), First: day == e.Policy.First() && left >= day}
	if err := c.Tx.RecordNotice(n); err != nil {
		return err
	}
	l := c.GroupLetter(workspace.LetterDue, &g.Group.Group, workspace.GroupPath(&g.Group.Group, "term"), map[string]string{"when": workspace.DaysIn(g.Language, left),
		"date": workspace.DateIn(g.Language, g.ExpiresAt.In(e.Policy.Zone)), "recovery": fmt.Sprint(lifecycle.RecoveryDays), "was": why})
	if err := c.Send(&g.Group.Group, to, l); err != nil {
		return err
	}
	return c.Record(event.NoticeSent{Days: day, To: to}, &g.Group.Group)
}

// lapse ends a group whose time has run out, where its owners were told in time.
func lapse(c *workspace.Change, id uuid.UUID) error {
	locked, err := c.Tx.LockGroup(id)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	} else if err != nil {
		return err
	}
	g := workspace.Hold(locked)
	if g.EndedAt != nil || !c.Ended(&g.Group.Group) {
		return nil // restored, renewed or ended meanwhile
	}
	e, err := c.Expiry()
	if err != nil {
		return err
	}
	was, moved, err := extend(c, e, g)
	if err != nil {
		return err
	}
	if day, due := e.Policy.Notice(g.ExpiresAt, c.Now(), nil); moved && due {
		return tell(c, e, g, day, was)
	}
	to, err := c.NoticeRecipients(&g.Group.Group)
	if err != nil {
		return err
	}
	now := c.Now()
	g.EndedAt, g.Retired = &now, false
	until := e.Policy.PurgeAt(g.Life())
	if err := c.Save(g); err != nil {
		return err
	}
	l := c.GroupLetter(workspace.LetterLapsed, &g.Group.Group, workspace.GroupPath(&g.Group.Group, "term"), map[string]string{"date": workspace.DateIn(g.Language, until.In(e.Policy.Zone))})
	if err := c.Send(&g.Group.Group, to, l); err != nil {
		return err
	}
	return c.Record(event.GroupLapsed{Until: e.Date(until)}, &g.Group.Group)
}

// purge deletes groups that can no longer be restored.
func (s *Service) purge(ctx context.Context, v *workspace.View, e workspace.Expiry) error {
	for {
		groups, err := v.Read.EndedBefore(e.Policy.After(v.Now(), 1-lifecycle.RecoveryDays), 100)
		if err != nil {
			return err
		}
		purged := 0
		for _, g := range groups {
			if v.Now().Before(e.Policy.PurgeAt(g.Life())) {
				continue
			}
			if err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error { return purgeGroup(c, e, g.ID) }); err != nil {
				return err
			}
			purged++
		}
		if purged == 0 {
			return nil
		}
	}
}

func purgeGroup(c *workspace.Change, e workspace.Expiry, id uuid.UUID) error {
	if err := c.Tx.LockNesting(); err != nil { // so that nobody nests it meanwhile
		return err
	}
	g, err := c.Tx.LockGroup(id)
	if errors.Is(err, store.ErrNotFound) || err == nil && (g.EndedAt == nil || c.Now().Before(e.Policy.PurgeAt(g.Life()))) {
		return nil // purged by another instance, or restored meanwhile
	} else if err != nil {
		return err
	}
	if err := c.Tx.Purge(id); err != nil {
		return err
	}
	return c.Record(event.GroupPurged{}, &g)
}
