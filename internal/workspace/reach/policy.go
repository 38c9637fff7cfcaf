package reach

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/naming"
)

// Summarise puts a policy in words: that of a new group with a patch over it. A
// contradiction is part of the summary, not an error.
func (s *Service) Summarise(ctx context.Context, by workspace.Actor, patch api.PolicyPatch) (*api.PolicySummary, error) {
	if err := naming.AllowCreate(s.k.View(ctx, by), access.CreateGroup); err != nil {
		return nil, err
	}
	p, bad := workspace.ApplyPatch(policy.Default(), patch)
	if err := bad.Err(); err != nil {
		return nil, err
	}
	v := s.k.View(ctx, by)
	all, _, err := v.Ceilings()
	return v.SummaryUnder(p, all, "", ""), err
}

// Policy returns the policy of a group in words, and its version.
func (s *Service) Policy(ctx context.Context, by workspace.Actor, ref string) (*api.PolicySummary, int, error) {
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.ReadGroup)
	if err != nil {
		return nil, 0, err
	}
	all, _, err := v.Ceilings()
	return v.SummaryUnder(g.Policy, all, g.Address, g.StartingPoint), g.Version, err
}

// ChangePolicy changes a group's policy and keeps the effect with the change.
func (s *Service) ChangePolicy(ctx context.Context, by workspace.Actor, ref string, patch api.PolicyPatch, version int) (api.Group, error) {
	return s.change(ctx, by, ref, version, func(*workspace.Change, policy.Policy) (api.PolicyPatch, error) { return patch, nil }, nil)
}

// Begin makes a group what a starting point says, its policy, traits and texts, and keeps the effect with the
// change.
func (s *Service) Begin(ctx context.Context, by workspace.Actor, ref, name string, version int) (api.Group, error) {
	if err := by.SignedIn(); err != nil {
		return api.Group{}, err
	}
	row, err := naming.Begin(s.k.View(ctx, by), name)
	if err != nil {
		return api.Group{}, err
	}
	start := naming.StartOf(row)
	return s.change(ctx, by, ref, version, func(*workspace.Change, policy.Policy) (api.PolicyPatch, error) {
		return workspace.PolicyPatch(start.Policy.Encode()), nil
	}, &start)
}

// change changes a group's policy by what a patch says, and with a starting point what else that sets.
func (s *Service) change(ctx context.Context, by workspace.Actor, ref string, version int, patch func(*workspace.Change, policy.Policy) (api.PolicyPatch, error), start *naming.Start) (api.Group, error) {
	var id uuid.UUID
	everybody, err := s.k.View(ctx, by).Read.CachedCountPeople()
	if err != nil {
		return api.Group{}, err
	}
	var ceilings []workspace.Ceiling
	err = s.k.OnGroupAfter(ctx, by, ref, access.ChangePolicy, func(c *workspace.Change) (err error) {
		ceilings, err = c.HoldCeilings()
		return err
	}, func(c *workspace.Change, g *workspace.Locked) error {
		id = g.ID
		if err := g.CheckVersion(version); err != nil {
			return err
		}
		if err := c.Alive(&g.Group.Group); err != nil {
			return err
		}
		if start != nil && !c.May(access.ChangeGroup, &g.Group) {
			return workspace.Fail(workspace.NotAllowed, "%s", access.ChangeGroup.Refusal())
		}
		before := g.Policy
		p, err := patch(c, before)
		if err != nil {
			return err
		}
		after, bad := workspace.ApplyPatch(before, p)
		bad = append(append(bad, workspace.Contradictions(after)...), workspace.AboveCeilings(ceilings, after, g.Address, begun(g, start))...)
		if err := bad.Err(); err != nil && !c.By.Preview {
			return err
		}
		if err := effects(c, g, before, after, int(everybody)); err != nil {
			return err
		}
		r := c.Report
		r.Policy, r.Problems = c.SummaryUnder(after, ceilings, g.Address, g.StartingPoint), append(r.Problems, bad...)
		c.Warn(c.Doubts(after))
		c.Says("Nothing changes.")
		if n := len(r.Effects); n > 0 {
			verb := "change"
			if n == 1 {
				verb = "changes"
			}
			c.Says(fmt.Sprintf("%s %s in %s. %s", number.Of(n, "setting"), verb, g.Name, after.Sentence()))
		}
		others := rest(g, start)
		for _, x := range others {
			r.Effects = append(r.Effects, api.Effect{Field: x.Field, From: x.From, To: x.To})
		}
		if len(others) > 0 && r.Says == "Nothing changes." {
			c.Says(fmt.Sprintf("%s of %s changes, and its reach stays.", number.Of(len(others), "field"), g.Name))
		}
		if len(r.Effects) == 0 || len(bad) > 0 {
			return nil
		}
		if len(others) > 0 {
			then := g.Group.Group
			start.Put(&then)
			then.Policy = before
			g.Group.Group = then
			if err := c.Save(g); err != nil {
				return err
			}
			if err := c.Record(event.GroupChanged{Changed: others}, &g.Group.Group); err != nil || after == before {
				return err
			}
		}
		var fact event.PolicyChanged
		for _, e := range r.Effects[:len(r.Effects)-len(others)] {
			fact.Changed = append(fact.Changed, event.Change{Field: e.Field, From: e.From, To: e.To, Says: e.Says})
		}
		if err := waiting(c, g, after); err != nil {
			return err
		}
		g.Policy = after
		if err := c.Save(g); err != nil {
			return err
		}
		return c.Record(fact, &g.Group.Group)
	})
	return group.ReadAfter(s.k.View(ctx, by), id, err)
}

// begun is what a group is begun from, once start is put into it.
func begun(g *workspace.Locked, start *naming.Start) string {
	if start != nil {
		return start.Name
	}
	return g.StartingPoint
}

// rest is what a starting point changes in a group beside its policy.
func rest(g *workspace.Locked, start *naming.Start) []event.Change {
	if start == nil {
		return nil
	}
	then := g.Group.Group
	start.Put(&then)
	return naming.Changes(&g.Group.Group, &then)
}

// Back takes changes of a group's policy back, where none of its settings was changed since.
func (s *Service) Back(ctx context.Context, by workspace.Actor, ref string, changes []event.Change) (api.Group, error) {
	return s.change(ctx, by, ref, 0, func(_ *workspace.Change, now policy.Policy) (api.PolicyPatch, error) {
		var patch api.PolicyPatch
		for _, x := range changes {
			if got := now.Get(x.Field); got != x.To {
				return patch, workspace.Fail(workspace.Conflict, "%s was changed to %s since. Change it by hand.", workspace.UpperFirst(strings.ReplaceAll(x.Field, "_", " ")), got)
			}
			patch.Set(x.Field, x.From)
		}
		return patch, nil
	}, nil)
}

// maxNames is how many are named of those who gain or lose something.
const maxNames = 5

// effects reports what a change of policy does, to how many, and to whom.
func effects(c *workspace.Change, g *workspace.Locked, before, after policy.Policy, everybody int) error {
	if before == after {
		c.Report.Effects = []api.Effect{}
		return nil
	}
	n, err := population(&c.View, g.Group.Group, everybody)
	if err != nil {
		return err
	}
	c.Report.Effects = workspace.PolicyEffects(before, after, n)
	if !c.By.Preview {
		return nil
	}
	for i := range c.Report.Effects {
		e := &c.Report.Effects[i]
		if !slices.Contains(Listed, e.Field) || len(e.Gains)+len(e.Loses) == 0 {
			continue
		}
		if e.Names, err = names(c, g, e.Field, after); err != nil {
			return err
		}
	}
	return nil
}

// names are some of those for whom something is decided otherwise by another policy.
func names(c *workspace.Change, g *workspace.Locked, action string, after policy.Policy) (out []string, err error) {
	w, err := whoMay(&c.View, &g.Group, action)
	if err != nil {
		return nil, err
	}
	w.draft(after)
	seen := 0
	err = w.each(c.Ctx, store.Cursor{}, func(p api.Permitted, _ store.Cursor) bool {
		if seen++; p.Was != "" && p.Was != p.Outcome && p.Address != "*" {
			out = append(out, p.Name)
		}
		return len(out) < maxNames && seen < 4*chunk
	})
	return out, err
}

// population says how many people stand on each rung of a group, of everybody in the workspace.
func population(v *workspace.View, g store.Group, everybody int) (policy.Population, error) {
	if err := v.Read.Size(&g); err != nil {
		return policy.Population{}, err
	}
	all := v.By.Subject().ReadsAll()
	reached, outside := g.People, g.ExternalMembers
	if !all {
		reached = g.Shown
	}
	if g.Nested > 0 {
		var err error
		if outside, err = v.Read.ExternalReach(g.ID, v.Now(), !all); err != nil {
			return policy.Population{}, err
		}
	}
	inside := max(0, reached-outside)
	return policy.Population{Owners: g.Owners, Moderators: g.Moderators, Members: max(0, inside-g.Owners-g.Moderators), External: outside, Colleagues: max(0, everybody-inside)}, nil
}
