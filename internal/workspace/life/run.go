package life

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// together is with how many groups one transaction deals.
const together = 200

// ServedSetting is the name under which the days are counted on which the service ran.
const ServedSetting = "served"

// Run does what the passing of time brings: it asks for the notices that are due, renews groups that are in use, lets
// those lapse whose time has run out, writes the letters, matches all groups with the rules once a day, and deletes
// those for good whose recovery window has passed. It is safe to run from several instances at once, and again after
// dying at any point.
func (s *Service) Run(ctx context.Context) error {
	served, err := s.serve(ctx)
	if err != nil {
		return err
	}
	for _, step := range []func() error{
		func() error { return s.match(ctx, served) },
		func() error { return s.due(ctx, served) },
		func() error { return s.tryAgain(ctx) },
		func() error { return s.write(ctx) },
		func() error { return s.purge(ctx, served) },
		func() error { return s.free(ctx) },
	} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// serve counts today as a day on which the service ran, once, and returns what was counted so far. A clock that jumps ahead
// counts as one day. Where it goes back, nothing is counted until its next day: then it has stayed there, and days count from
// there on, so that a clock that once ran ahead stops nothing until the time that it showed.
func (s *Service) serve(ctx context.Context) (out store.Served, err error) {
	v := s.k.View(ctx, workspace.Service)
	if _, err := v.Read.Setting(ServedSetting, &out); err != nil {
		return out, err
	}
	t, err := v.Terms()
	if err != nil {
		return out, err
	}
	if today := t.Date(v.Now()); today == out.Day && out.Back == "" || today == out.Back {
		return out, nil
	}
	err = s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		out = store.Served{}
		version, err := c.Tx.LockSetting(ServedSetting, &out)
		if err != nil {
			return err
		}
		switch today := t.Date(c.Now()); {
		case today > out.Day, out.Back != "" && today > out.Back && today < out.Day:
			out.Day, out.Days, out.Back = today, out.Days+1, ""
		case today == out.Day:
			out.Back = ""
		case today != out.Back:
			if err := c.Record(event.ClockWentBack{From: out.Day, To: today}, nil); err != nil {
				return err
			}
			out.Back, out.Matched = today, ""
		default:
			return nil
		}
		return c.Tx.SaveSetting(ServedSetting, out, version+1)
	})
	return out, err
}

// match gives every living group the date that the rules say, once a day: which rule names a group changes with it.
func (s *Service) match(ctx context.Context, served store.Served) error {
	if served.Matched == served.Day {
		return nil
	}
	v := s.k.View(ctx, workspace.Service)
	t, err := v.Terms()
	if err != nil {
		return err
	}
	if len(t.Rules) > 0 {
		filters, err := v.TermFilters(t)
		if err != nil {
			return err
		}
		groups, err := v.Read.Terms(v.FilterTime(t), filters, nil)
		if err != nil {
			return err
		}
		changed, err := relive(v, t, groups)
		if err != nil {
			return err
		}
		ids := make([]uuid.UUID, len(changed))
		for i, x := range changed {
			ids[i] = x.ID
		}
		for some := range slices.Chunk(ids, together) {
			if err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error { return rematch(c, some) }); err != nil {
				return err
			}
		}
	}
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		var now store.Served
		version, err := c.Tx.LockSetting(ServedSetting, &now)
		if err != nil {
			return err
		}
		now.Matched = served.Day
		return c.Tx.SaveSetting(ServedSetting, now, version+1)
	})
}

// rematch gives groups the dates that the rules say now.
func rematch(c *workspace.Change, ids []uuid.UUID) error {
	t, err := c.HoldTerms()
	if err != nil {
		return err
	}
	filters, err := c.TermFilters(t)
	if err != nil {
		return err
	}
	groups, err := c.Tx.LockTerms(c.FilterTime(t), filters, ids)
	if err != nil {
		return err
	}
	all, err := relive(&c.View, t, groups)
	if err != nil {
		return err
	}
	return moves{all: all, apart: true}.apply(c, t)
}

// step is what is to be done about one group: it is told of, renewed by what happened in it, or ends.
type step struct {
	group          uuid.UUID
	address, owner string
}

// due goes through the groups whose first notice is due.
func (s *Service) due(ctx context.Context, served store.Served) error {
	v := s.k.View(ctx, workspace.Service)
	t, err := v.Terms()
	if err != nil {
		return err
	}
	for after := (store.Cursor{}); ; {
		page, err := v.Read.DueGroups(v.Now(), after, 500)
		if err != nil {
			return err
		}
		steps, err := look(v, t, page.Items)
		if err != nil {
			return err
		}
		for some := range slices.Chunk(steps, together) {
			err := s.steps(ctx, served, some)
			if errors.Is(err, store.ErrDuplicate) { // another instance was first with some of them
				err = s.oneByOne(ctx, served, some)
			}
			if err != nil {
				return err
			}
		}
		if after = page.Next; after.Empty() {
			return nil
		}
	}
}

// look returns those of the groups about which something is to be done.
func look(v *workspace.View, t workspace.Terms, groups []store.Group) (out []step, err error) {
	ids := make([]uuid.UUID, len(groups))
	for i, g := range groups {
		ids[i] = g.ID
	}
	notices, err := v.Read.Notices(ids)
	if err != nil {
		return nil, err
	}
	active, err := activity(v, t, groups)
	if err != nil {
		return nil, err
	}
	for _, g := range groups {
		x := decide(t, &g, v.Now(), notices[g.ID], active[g.ID])
		if x != (what{}) {
			out = append(out, step{group: g.ID, address: g.Address})
		}
	}
	return out, nil
}

// activity returns when groups were last used in the way that renews them, where that is after their last renewal.
func activity(v *workspace.View, t workspace.Terms, groups []store.Group) (map[uuid.UUID]time.Time, error) {
	out := map[uuid.UUID]time.Time{}
	var ids []uuid.UUID
	by := map[uuid.UUID][]lifecycle.Renewer{}
	for _, g := range groups {
		if r := t.Life.Rule(g.TermRule); r != nil && len(r.RenewedBy) > 0 {
			ids, by[g.ID] = append(ids, g.ID), r.RenewedBy
		}
	}
	posts, joins, err := v.Read.LastActivity(ids)
	if err != nil {
		return nil, err
	}
	for _, g := range groups {
		for _, x := range by[g.ID] {
			at := map[lifecycle.Renewer]time.Time{lifecycle.ByPost: posts[g.ID], lifecycle.ByJoin: joins[g.ID]}[x]
			if at.After(g.RenewedAt) && at.After(out[g.ID]) {
				out[g.ID] = at
			}
		}
	}
	return out, nil
}

// what is to be done about a group that is due; the zero value is nothing.
type what struct {
	renew  time.Time // it is renewed by what happened in it then
	extend time.Time // its end moves here
	notice int       // this notice is asked for
	tell   bool
	lapse  bool
}

// decide says what is to be done about a group that is due.
func decide(t workspace.Terms, g *store.Group, now time.Time, notices []store.NoticeAsked, active time.Time) (out what) {
	life := g.Life()
	r := t.Life.Rule(g.TermRule)
	leads := t.Life.Leads(r)
	asked := of(notices, life)
	end := life.Expires
	if to, moved := t.Life.Extended(leads, end, now, asked); moved {
		out.extend, end = to, to
		asked = slices.DeleteFunc(asked, func(n lifecycle.Notice) bool { return !t.Life.Told(to, []lifecycle.Notice{n}) })
	}
	if out.lapse = !now.Before(end); !out.lapse {
		if out.notice, out.tell = t.Life.Next(leads, end, now, asked); !out.tell {
			out.notice = 0
		}
	}
	if !active.IsZero() {
		renewed := t.Life.Renew(life, r, active)
		later := renewed.Expires.IsZero() || renewed.Expires.After(life.Expires)
		if later && (out != what{} || now.Before(renewed.Due)) {
			return what{renew: active}
		}
	}
	return out
}

// of returns the notices of the end that a group has, as the core decides by them.
func of(all []store.NoticeAsked, life lifecycle.Life) (out []lifecycle.Notice) {
	for _, n := range all {
		if n.ExpiresAt.Equal(life.Expires) && !n.AskedAt.Before(life.Renewed) {
			out = append(out, n.Core())
		}
	}
	return out
}

func (s *Service) oneByOne(ctx context.Context, served store.Served, all []step) error {
	for _, x := range all {
		if err := s.steps(ctx, served, []step{x}); err != nil && !errors.Is(err, store.ErrDuplicate) {
			return err
		}
	}
	return nil
}

func (s *Service) steps(ctx context.Context, served store.Served, all []step) error {
	ids := make([]uuid.UUID, len(all))
	for i, x := range all {
		ids[i] = x.group
	}
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		groups, err := c.Tx.LockGroups(ids)
		if err != nil {
			return err
		}
		t, err := c.Terms()
		if err != nil {
			return err
		}
		notices, err := c.Read.Notices(ids)
		if err != nil {
			return err
		}
		active, err := activity(&c.View, t, slices.Collect(maps.Values(groups)))
		if err != nil {
			return err
		}
		for _, x := range all {
			g, there := groups[x.group]
			if !there || g.EndedAt != nil || c.Now().Before(g.DueAt) {
				continue // it ended or was renewed meanwhile
			}
			if err := do(c, t, served, workspace.Hold(g), decide(t, &g, c.Now(), notices[g.ID], active[g.ID]), notices[g.ID]); err != nil {
				return fmt.Errorf("the end of %s: %w", g.Address, err)
			}
		}
		return nil
	})
}

// do does what is to be done about a group, which is locked. What it tells and its event are one change.
func do(c *workspace.Change, t workspace.Terms, served store.Served, g *workspace.Locked, x what, notices []store.NoticeAsked) error {
	life := g.Life()
	if !x.renew.IsZero() {
		rules, err := c.RulesFor(t, []uuid.UUID{g.ID})
		if err != nil {
			return err
		}
		g.SetLife(t.Life.Renew(life, rules[g.ID], x.renew))
		if err := c.Save(g); err != nil {
			return err
		}
		return c.Record(event.GroupRenewed{From: t.Date(life.Expires), Until: t.Date(g.Life().Expires), Since: t.Date(x.renew)}, &g.Group.Group)
	}
	if x == (what{}) {
		return nil
	}
	var was *time.Time
	if !x.extend.IsZero() {
		r := t.Life.Rule(g.TermRule)
		if r == nil { // it was renamed a moment ago
			return nil
		}
		to := t.Life.Until(life, r, x.extend)
		if err := c.Carry(t, g.ID, life, to, notices); err != nil {
			return err
		}
		was = &life.Expires
		g.SetLife(to)
		if err := c.Record(event.TermExtended{From: t.Date(life.Expires), To: t.Date(x.extend)}, &g.Group.Group); err != nil {
			return err
		}
	}
	if x.lapse {
		return lapse(c, t, served, g)
	}
	if was != nil {
		if err := c.Save(g); err != nil {
			return err
		}
	}
	if !x.tell {
		return nil
	}
	n := store.Notice{GroupID: g.ID, ExpiresAt: g.ExpiresAt, Day: x.notice, AskedAt: c.Now(), Was: was}
	n.First = x.notice == t.Life.Leads(t.Life.Rule(g.TermRule)).First()
	return c.Tx.AskNotices([]store.Notice{n})
}

// lapse ends a group whose time has run out, where its owners were told in time.
func lapse(c *workspace.Change, t workspace.Terms, served store.Served, g *workspace.Locked) error {
	if err := end(c, served, false, g); err != nil {
		return err
	}
	return c.Record(event.GroupLapsed{Until: t.Date(t.Life.PurgeAt(g.Life()))}, &g.Group.Group)
}

// end ends groups, and asks for the letters that tell of it.
func end(c *workspace.Change, served store.Served, retired bool, groups ...*workspace.Locked) error {
	now := c.Now()
	notices := make([]store.Notice, len(groups))
	for i, g := range groups {
		g.EndedAt, g.Retired, g.EndedServed = &now, retired, served.Days
		if err := c.Save(g); err != nil {
			return err
		}
		notices[i] = store.Notice{GroupID: g.ID, ExpiresAt: now, Day: lifecycle.Lapses, AskedAt: now}
	}
	return c.Tx.AskNotices(notices)
}

// purge deletes groups for good that can no longer be restored: those whose letter about their end was handed over, and
// after whose end the service ran for as many days as they can be restored. So a clock that jumps deletes nothing.
func (s *Service) purge(ctx context.Context, served store.Served) error {
	v := s.k.View(ctx, workspace.Service)
	t, err := v.Terms()
	if err != nil {
		return err
	}
	for after := (store.Cursor{}); ; {
		page, err := v.Read.EndedBefore(t.Life.After(v.Now(), 1-t.RecoveryDays), served.Days-t.RecoveryDays, after, 100)
		if err != nil {
			return err
		}
		for _, g := range page.Items {
			if v.Now().Before(t.Life.PurgeAt(g.Life())) {
				continue
			}
			if err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error { return purgeGroup(c, t, served, g.ID) }); err != nil && !errors.Is(err, store.ErrDuplicate) {
				return err
			}
		}
		if after = page.Next; after.Empty() {
			return nil
		}
	}
}

func purgeGroup(c *workspace.Change, t workspace.Terms, served store.Served, id uuid.UUID) error {
	if err := c.Tx.LockNesting(); err != nil { // so that nobody nests it meanwhile
		return err
	}
	g, err := c.Tx.LockGroup(id)
	if errors.Is(err, store.ErrNotFound) || err == nil && (g.EndedAt == nil || g.Kept != "" || g.EndedServed > served.Days-t.RecoveryDays || c.Now().Before(t.Life.PurgeAt(g.Life()))) {
		return nil // purged by another instance, restored or put under hold meanwhile
	} else if err != nil {
		return err
	}
	notices, err := c.Read.Notices([]uuid.UUID{id})
	if err != nil {
		return err
	}
	i := slices.IndexFunc(notices[id], func(n store.NoticeAsked) bool { return n.Day == lifecycle.Lapses && n.ExpiresAt.Equal(*g.EndedAt) })
	if i < 0 { // it ended before there were such letters
		return c.Tx.AskNotices([]store.Notice{{GroupID: id, ExpiresAt: *g.EndedAt, Day: lifecycle.Lapses, AskedAt: c.Now()}})
	} else if notices[id][i].Given == nil {
		return nil // nobody was told yet
	}
	left, err := stub(c, t, &g)
	if err != nil {
		return err
	}
	if err := c.Tx.Purge(left); err != nil {
		return err
	}
	return c.Record(event.GroupPurged{}, &g)
}

// stub is what is left of a group that is deleted for good.
func stub(c *workspace.Change, t workspace.Terms, g *store.Group) (store.PurgedGroup, error) {
	aliases, err := c.Read.Aliases([]uuid.UUID{g.ID})
	if err != nil {
		return store.PurgedGroup{}, err
	}
	owners, err := c.Read.Owners([]uuid.UUID{g.ID})
	if err != nil {
		return store.PurgedGroup{}, err
	}
	var names []string
	for _, o := range owners[g.ID] {
		names = append(names, o.Address)
	}
	return store.PurgedGroup{
		ID: g.ID, Name: g.Name, Address: g.Address, Aliases: strings.Join(aliases[g.ID], "\n"), Description: g.Description, Owners: strings.Join(names, "\n"), People: g.Owners + g.Moderators + g.Members,
		CreatedAt: g.CreatedAt, EndedAt: *g.EndedAt, Retired: g.Retired, PurgedAt: c.Now(), FreeAt: t.Life.After(c.Now(), t.AddressDays).UTC(),
	}, nil
}

// free gives back the addresses of groups that are gone.
func (s *Service) free(ctx context.Context) error {
	for more := true; more; {
		err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
			groups, err := c.Tx.FreeAddresses(c.Now(), together)
			if err != nil {
				return err
			}
			more = len(groups) == together
			for _, g := range groups {
				all := append([]string{g.Address}, lines(g.Aliases)...)
				if err := c.Record(event.AddressesFreed{Addresses: all}, &store.Group{ID: g.ID, Name: g.Name, Address: g.Address}); err != nil {
					return err
				}
			}
			return c.Tx.ForgetNoticeLinks(c.Now())
		})
		if err != nil {
			return err
		}
	}
	return nil
}

func lines(s string) []string {
	if s == "" {
		return []string{}
	}
	return strings.Split(s, "\n")
}
