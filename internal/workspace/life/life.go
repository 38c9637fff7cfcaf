// Package life is how long groups live: the rule of the workspace, renewing, retiring and
// restoring by hand, and what happens by itself when time passes.
package life

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
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
func (s *Service) Renew(ctx context.Context, by workspace.Actor, ref string, version int) (api.Group, error) {
	return s.onGroup(ctx, by, ref, access.RenewGroup, version, func(c *workspace.Change, g *workspace.Locked, e workspace.Expiry) error {
		if err := c.Alive(&g.Group.Group); err != nil {
			return err
		}
		from := g.Life().Expires
		g.RenewedAt = c.Now()
		g.SetExpires(e.Policy.Expiry(g.Life(), c.Now()))
		until := e.Date(g.Life().Expires)
		c.Effect(api.Effect{Field: "expires_on", From: e.Date(from), To: until})
		c.Says(fmt.Sprintf("%s is renewed. It has no end.", g.Name))
		if until != "" {
			c.Says(fmt.Sprintf("%s is renewed until %s.", g.Name, workspace.DateIn("en", g.ExpiresAt.In(e.Policy.Zone))))
		}
		if err := c.Save(g); err != nil {
			return err
		}
		return c.Record(event.GroupRenewed{From: e.Date(from), Until: until}, &g.Group.Group)
	})
}

// onGroup makes a change of the life of a group and returns it.
func (s *Service) onGroup(ctx context.Context, by workspace.Actor, ref string, do access.Action, version int, f func(*workspace.Change, *workspace.Locked, workspace.Expiry) error) (api.Group, error) {
	var id uuid.UUID
	err := s.k.OnGroup(ctx, by, ref, do, func(c *workspace.Change, g *workspace.Locked) error {
		id = g.ID
		if err := g.CheckVersion(version); err != nil {
			return err
		}
		e, err := c.Expiry()
		if err != nil {
			return err
		}
		return f(c, g, e)
	})
	return group.ReadAfter(s.k.View(ctx, by), id, err)
}

// Retire ends a group by hand. It can be restored for the recovery window.
func (s *Service) Retire(ctx context.Context, by workspace.Actor, ref string, version int) (api.Group, error) {
	return s.onGroup(ctx, by, ref, access.RetireGroup, version, func(c *workspace.Change, g *workspace.Locked, e workspace.Expiry) error {
		if c.Ended(&g.Group.Group) {
			return workspace.Fail(workspace.Conflict, "%s has ended already.", g.Name)
		}
		if err := End(c, g); err != nil {
			return err
		}
		until := e.Policy.PurgeAt(g.Life())
		c.Effect(api.Effect{Field: "state", From: "active", To: "retired", Count: g.Owners + g.Moderators + g.Members})
		c.Says(fmt.Sprintf("%s takes no mail any more. It can be restored, with everything in it, until %s.", g.Name, workspace.DateIn("en", until.In(e.Policy.Zone))))
		return nil
	})
}

// End retires g, which is locked and lives.
func End(c *workspace.Change, g *workspace.Locked) error {
	e, err := c.Expiry()
	if err != nil {
		return err
	}
	now := c.Now()
	g.EndedAt, g.Retired = &now, true
	if err := c.Save(g); err != nil {
		return err
	}
	return c.Record(event.GroupRetired{Until: e.Date(e.Policy.PurgeAt(g.Life()))}, &g.Group.Group)
}

// Bring restores g, which is locked and has ended. Where it has a rule, the rules are locked
// too.
func Bring(c *workspace.Change, g *workspace.Locked) error {
	e, err := c.Expiry()
	if err != nil {
		return err
	}
	was := e.Policy.State(g.Life(), c.Now())
	g.EndedAt, g.Retired, g.RenewedAt = nil, false, c.Now()
	g.SetExpires(e.Policy.Expiry(g.Life(), c.Now()))
	if err := c.Save(g); err != nil {
		return err
	}
	if err := c.Record(event.GroupRestored{Was: string(was), Until: e.Date(g.Life().Expires)}, &g.Group.Group); err != nil || !g.ByRule {
		return err
	}
	return follow(c, g) // people's attributes may have changed since
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
		e, err := c.Expiry()
		if err != nil {
			return err
		}
		state := e.Policy.State(g.Life(), c.Now())
		if !state.Ended() {
			return workspace.Fail(workspace.Conflict, "%s has not ended: there is nothing to restore.", g.Name)
		}
		if err := Bring(c, g); err != nil {
			return err
		}
		c.Effect(api.Effect{Field: "state", From: string(state), To: "active", Count: g.Owners + g.Moderators + g.Members})
		c.Says(fmt.Sprintf("%s is back, with everything in it.", g.Name))
		return nil
	})
	return group.ReadAfter(s.k.View(ctx, by), found.ID, err)
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
