// Package life is how long groups live: the rule of the workspace, renewing, retiring and
// restoring by hand, and what happens by itself when time passes.
package life

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/rules"
)

// Service is the life of groups.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// Renew begins a group's term again.
func (s *Service) Renew(ctx context.Context, by workspace.Actor, ref string, n api.Renewal, version int) (api.Group, error) {
	return s.onGroup(ctx, by, ref, access.RenewGroup, version, func(c *workspace.Change, g *workspace.Locked, t workspace.Terms) error {
		if err := c.Alive(&g.Group.Group); err != nil {
			return err
		}
		from := g.Life().Expires
		if err := Renew(c, n.Reason, g); err != nil {
			return err
		}
		until := t.Date(g.Life().Expires)
		c.Effect(api.Effect{Field: "expires_on", From: t.Date(from), To: until})
		c.Says(fmt.Sprintf("%s is renewed. It has no end.", g.Name))
		if until != "" {
			c.Says(fmt.Sprintf("%s is renewed until %s.", g.Name, workspace.DateIn("en", g.ExpiresAt.In(t.Life.Zone))))
		}
		if r := t.Life.Rule(g.TermRule); r != nil && r.Length.Until() != "" && g.Life().Expires.Equal(from) {
			c.Says(fmt.Sprintf("%s ends on %s by its rule %s: renew it once its first notice has come, for a year more.", g.Name, workspace.DateIn("en", g.ExpiresAt.In(t.Life.Zone)), r.Name))
		}
		return nil
	})
}

// onGroup makes a change of the life of a group and returns it.
func (s *Service) onGroup(ctx context.Context, by workspace.Actor, ref string, do access.Action, version int, f func(*workspace.Change, *workspace.Locked, workspace.Terms) error) (api.Group, error) {
	var id uuid.UUID
	err := s.k.OnGroup(ctx, by, ref, do, func(c *workspace.Change, g *workspace.Locked) error {
		id = g.ID
		if err := g.CheckVersion(version); err != nil {
			return err
		}
		e, err := c.Terms()
		if err != nil {
			return err
		}
		return f(c, g, e)
	})
	return group.ReadAfter(s.k.View(ctx, by), id, err)
}

// Retire ends a group by hand. It can be restored for the recovery window.
func (s *Service) Retire(ctx context.Context, by workspace.Actor, ref string, version int) (api.Group, error) {
	return s.onGroup(ctx, by, ref, access.RetireGroup, version, func(c *workspace.Change, g *workspace.Locked, e workspace.Terms) error {
		if c.Ended(&g.Group.Group) {
			return workspace.Fail(workspace.Conflict, "%s has ended already.", g.Name)
		}
		if g.Kept != "" {
			return workspace.Fail(workspace.Conflict, "%s", WhyKept(&g.Group.Group))
		}
		if err := End(c, g); err != nil {
			return err
		}
		until := e.Life.PurgeAt(g.Life())
		c.Effect(api.Effect{Field: "state", From: "active", To: "retired", Count: g.Owners + g.Moderators + g.Members})
		c.Says(fmt.Sprintf("%s takes no mail any more. It can be restored, with everything in it, until %s.", g.Name, workspace.DateIn("en", until.In(e.Life.Zone))))
		return nil
	})
}

// WhyKept says why a group that is under hold can't be retired.
func WhyKept(g *store.Group) string {
	return fmt.Sprintf("%s is under hold, so it can't be retired: %s put it there: %s", g.Name, g.KeptBy, g.Kept)
}

// rows are groups that are locked, as they are stored.
func rows(groups []*workspace.Locked) []*store.Group {
	out := make([]*store.Group, len(groups))
	for i, g := range groups {
		out[i] = &g.Group.Group
	}
	return out
}

// Renew begins the terms of groups again, which are locked and live.
func Renew(c *workspace.Change, reason string, groups ...*workspace.Locked) error {
	t, err := c.Terms()
	if err != nil {
		return err
	}
	from := make([]time.Time, len(groups))
	for i, g := range groups {
		from[i] = g.Life().Expires
	}
	if err := c.Relive(true, rows(groups)...); err != nil {
		return err
	}
	for i, g := range groups {
		if err := c.Save(g); err != nil {
			return err
		}
		if err := c.Record(event.GroupRenewed{From: t.Date(from[i]), Until: t.Date(g.Life().Expires), Reason: strings.TrimSpace(reason)}, &g.Group.Group); err != nil {
			return err
		}
	}
	return nil
}

// End retires groups, which are locked, live and are not under hold.
func End(c *workspace.Change, groups ...*workspace.Locked) error {
	t, err := c.Terms()
	if err != nil {
		return err
	}
	var served store.Served
	if _, err := c.Read.CachedSetting(ServedSetting, &served); err != nil {
		return err
	}
	if err := end(c, served, true, groups...); err != nil {
		return err
	}
	for _, g := range groups {
		if err := c.Record(event.GroupRetired{Until: t.Date(t.Life.PurgeAt(g.Life()))}, &g.Group.Group); err != nil {
			return err
		}
	}
	return nil
}

// Bring restores groups, which are locked and have ended. Where they have a rule of membership, the rules are locked too.
func Bring(c *workspace.Change, groups ...*workspace.Locked) error {
	t, err := c.Terms()
	if err != nil {
		return err
	}
	was := make([]lifecycle.State, len(groups))
	for i, g := range groups {
		was[i] = g.Life().State(c.Now())
	}
	if err := c.Relive(true, rows(groups)...); err != nil {
		return err
	}
	for i, g := range groups {
		if err := c.Save(g); err != nil {
			return err
		}
		if err := c.Record(event.GroupRestored{Was: string(was[i]), Until: t.Date(g.Life().Expires)}, &g.Group.Group); err != nil {
			return err
		}
		if !g.ByRule {
			continue
		}
		if err := follow(c, g); err != nil { // people's attributes may have changed since
			return err
		}
	}
	return nil
}

// Restore brings a group that ended back, with everything in it, and renews it. Where it
// has a rule, people come and go as it says now.
func (s *Service) Restore(ctx context.Context, by workspace.Actor, ref string, version int) (api.Group, error) {
	found, err := s.k.View(ctx, by).FindGroup(ref, access.RestoreGroup)
	if err != nil {
		return api.Group{}, err
	}
	err = s.k.Do(ctx, by, func(c *workspace.Change) error {
		if found.ByRule {
			if err := c.Tx.LockRules(); err != nil {
				return err
			}
		}
		g, err := c.LockGroup(found.ID, ref, access.RestoreGroup)
		if err != nil {
			return err
		}
		if err := g.CheckVersion(version); err != nil {
			return err
		}
		state := g.Life().State(c.Now())
		if !state.Ended() {
			return workspace.Fail(workspace.Conflict, "%s has not ended: there is nothing to restore.", g.Name)
		}
		if err := Bring(c, g); err != nil {
			return err
		}
		c.Effect(api.Effect{Field: "state", From: string(state), To: "active", Count: g.Owners + g.Moderators + g.Members})
		c.Says(fmt.Sprintf("%s is back, with everything in it.", g.Name))
		if g.Departed > 0 {
			c.Says(fmt.Sprintf("%s is back, with everything in it but %s in it who left the organisation.", g.Name, number.Of(g.Departed, "person")))
		}
		if g.Owners == 0 {
			c.Warn([]*fault.Fault{fault.New("owners", "Give it one.", "Nobody who is here owns it.")})
		}
		return nil
	})
	return group.ReadAfter(s.k.View(ctx, by), found.ID, err)
}

// Hold puts a group under hold: it is neither retired nor deleted for good until it is released. It may lapse.
func (s *Service) Hold(ctx context.Context, by workspace.Actor, ref string, n api.Hold, version int) (api.Group, error) {
	return s.onGroup(ctx, by, ref, access.HoldGroup, version, func(c *workspace.Change, g *workspace.Locked, _ workspace.Terms) error {
		reason := strings.TrimSpace(n.Reason)
		switch {
		case reason == "":
			return workspace.Wrong("reason", n.Reason, "Say why it is under hold, for whoever wonders in a year.")
		case g.Kept != "":
			return workspace.Fail(workspace.Conflict, "%s is under hold already: %s", g.Name, g.Kept)
		}
		now := c.Now()
		c.Effect(api.Effect{Field: "under_hold", To: reason})
		c.Says(fmt.Sprintf("%s is neither retired nor deleted for good until it is released.", g.Name))
		return SetHold(c, g, reason, c.By.String(), &now)
	})
}

// Release ends the hold on a group.
func (s *Service) Release(ctx context.Context, by workspace.Actor, ref string, version int) (api.Group, error) {
	return s.onGroup(ctx, by, ref, access.HoldGroup, version, func(c *workspace.Change, g *workspace.Locked, t workspace.Terms) error {
		if g.Kept == "" {
			return workspace.Fail(workspace.Conflict, "%s is not under hold.", g.Name)
		}
		c.Effect(api.Effect{Field: "under_hold", From: g.Kept})
		c.Says(fmt.Sprintf("%s is under hold no more.", g.Name))
		if g.EndedAt != nil && !c.Now().Before(t.Life.PurgeAt(g.Life())) {
			c.Says(fmt.Sprintf("%s is under hold no more. Its time to be restored is over: it is deleted for good soon.", g.Name))
		}
		return SetHold(c, g, "", "", nil)
	})
}

// SetHold puts a group under hold, which is locked, or, without a reason, releases it.
func SetHold(c *workspace.Change, g *workspace.Locked, reason, by string, at *time.Time) error {
	was := g.Kept
	g.Kept, g.KeptBy, g.KeptAt = reason, by, at
	if err := c.Save(g); err != nil {
		return err
	}
	if reason == "" {
		return c.Record(event.GroupReleased{Reason: was}, &g.Group.Group)
	}
	return c.Record(event.GroupHeld{Reason: reason}, &g.Group.Group)
}

// Purged lists what is left of groups that are gone, the last first.
func (s *Service) Purged(ctx context.Context, by workspace.Actor, cursor string, limit int) (api.Page[api.PurgedGroup], error) {
	none := api.Page[api.PurgedGroup]{}
	if err := by.Allow(access.ReadTerms); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	after, err := v.Cursor(cursor, "purged")
	if err != nil {
		return none, err
	}
	t, err := v.Terms()
	if err != nil {
		return none, err
	}
	p, err := v.Read.PurgedGroups(after, limit)
	return workspace.Page(p, func(g store.PurgedGroup) api.PurgedGroup {
		out := api.PurgedGroup{ID: g.ID.String(), Name: g.Name, Address: g.Address, Aliases: lines(g.Aliases), Description: g.Description, Owners: lines(g.Owners), People: g.People,
			CreatedAt: v.In(g.CreatedAt), EndedAt: v.In(g.EndedAt), Ended: "lapsed", PurgedAt: v.In(g.PurgedAt), FreeOn: t.Date(g.FreeAt)}
		if g.Retired {
			out.Ended = "retired"
		}
		return out
	}), err
}

// follow brings a group that was away up to date with its rule.
func follow(c *workspace.Change, g *workspace.Locked) error {
	kept, err := c.Read.Rule(g.ID)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	} else if err != nil {
		return err
	}
	return rules.Evaluate(c, g, kept, false)
}
