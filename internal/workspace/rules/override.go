package rules

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// SetOverride bars an address from a group, trusts it, holds it, or takes that back. Whoever
// is not barred any more comes in again where the rule of the group takes them.
func (s *Service) SetOverride(ctx context.Context, by workspace.Actor, ref, address string, n api.NewOverride, version int) error {
	o, err := member.NewOverride(address, n, version)
	if err != nil {
		return err
	}
	rules := func(c *workspace.Change) error {
		_, err := c.Tx.RLockRules()
		return err
	}
	return s.k.OnGroupAfter(ctx, by, ref, access.SetOverrides, rules, func(c *workspace.Change, g *workspace.Locked) error {
		lifted, err := member.Settle(c, g, o)
		if err != nil || lifted == nil {
			return err
		}
		return takeBack(c, g, *lifted)
	})
}

// takeBack lets somebody into g, which is locked, whom nothing but a bar kept out of it.
func takeBack(c *workspace.Change, g *workspace.Locked, p store.Person) error {
	kept, err := c.Read.Rule(g.ID)
	if errors.Is(err, store.ErrNotFound) || err == nil && c.Ended(&g.Group.Group) {
		return nil
	} else if err != nil {
		return err
	}
	r, err := c.ParseRule(kept.Expression)
	if err != nil {
		return fmt.Errorf("the rule of %s: %w", g.ID, err)
	}
	if !p.Active || p.External || r.Eval(Subject(factsOf(p))) != rule.Match {
		return nil
	}
	in, err := c.Read.RuledMembers(g.ID, []uuid.UUID{p.ID})
	if _, is := in[p.ID]; is || err != nil {
		return err
	}
	c.Says(c.Report.Says + " The rule of the group takes them in again.")
	if c.Previewing() {
		return nil
	}
	return applyRule(c, g, []store.PersonFacts{factsOf(p)}, nil, event.RuleFollowed{Cause: "a bar was lifted"}, false)
}
