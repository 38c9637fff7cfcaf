package bulk

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/naming"
)

func shapeCeilings(v *workspace.View, all []workspace.Ceiling, version int) api.Ceilings {
	out := api.Ceilings{Ceilings: []api.Ceiling{}, Version: version}
	for _, c := range all {
		out.Ceilings = append(out.Ceilings, api.Ceiling{Setting: c.Setting, AtMost: c.AtMost, Filter: c.Filter, Reason: c.Reason, SetBy: c.SetBy, SetAt: v.In(c.SetAt)})
	}
	return out
}

// Ceilings returns the ceilings of the workspace.
func (s *Service) Ceilings(ctx context.Context, by workspace.Actor) (api.Ceilings, error) {
	v := s.k.View(ctx, by)
	if err := naming.AllowCreate(v, access.ReadCeilings); err != nil {
		return api.Ceilings{}, err
	}
	all, version, err := v.Ceilings()
	return shapeCeilings(v, all, version), err
}

// SetCeilings sets the ceilings of the workspace. Groups above them come down in one change of many
// groups, which begins with it.
func (s *Service) SetCeilings(ctx context.Context, by workspace.Actor, n api.NewCeilings, version int) (api.Ceilings, error) {
	if err := by.Allow(access.ChangeCeilings); err != nil {
		return api.Ceilings{}, err
	}
	next := make([]workspace.Ceiling, len(n.Ceilings))
	for i, c := range n.Ceilings {
		next[i] = workspace.Ceiling{Setting: c.Setting, AtMost: c.AtMost, Filter: strings.TrimSpace(c.Filter), Reason: strings.TrimSpace(c.Reason)}
	}
	var bad workspace.Problems
	workspace.CheckCeilings(&bad, next)
	if err := bad.Err(); err != nil {
		return api.Ceilings{}, err
	}
	var out api.Ceilings
	err := workspace.ChangeSetting(ctx, s.k, by, access.ChangeCeilings, workspace.CeilingsSetting, "the ceilings", version, []workspace.Ceiling(nil), func(c *workspace.Change, before []workspace.Ceiling, current int) error {
		for i := range next { // who set one that stays, and when, stays too
			next[i].SetBy, next[i].SetAt = c.By.Person.Address, c.Now()
			for _, b := range before {
				if b.Setting == next[i].Setting && b.AtMost == next[i].AtMost && b.Filter == next[i].Filter && b.Reason == next[i].Reason {
					next[i] = b
				}
			}
		}
		out = shapeCeilings(&c.View, next, current+1)
		from, to := lines(before), lines(next)
		if slices.Equal(from, to) {
			c.Says("Nothing changes.")
			return nil
		}
		c.Effect(api.Effect{Field: "ceilings", From: strings.Join(from, "; "), To: strings.Join(to, "; ")})
		out.Version = current + 2
		if err := c.Tx.SaveSetting(workspace.CeilingsSetting, next, current+1); err != nil {
			return err
		}
		above, freer, err := touched(c, before, next)
		if err != nil {
			return err
		}
		says := []string{}
		if len(above) > 0 {
			says = append(says, fmt.Sprintf("%s above the new ceilings and come down in one change.", are(len(above), "group is", "groups are")))
		}
		if freer > 0 {
			says = append(says, fmt.Sprintf("Owners of %s can choose more than before.", number.Of(freer, "group")))
		}
		if len(says) == 0 {
			says = append(says, "No group is above the new ceilings.")
		}
		c.Says(strings.Join(says, " "))
		if err := c.Record(event.CeilingsChanged{Before: event.Was(shapeCeilings(&c.View, before, current+1), current+2), From: from, To: to, Above: len(above)}, nil); err != nil || len(above) == 0 {
			return err
		}
		b := store.BulkChange{ID: c.ID(), Kind: "ceilings", State: store.BulkRunning, Total: len(above), MadeBy: c.By.Person.ID, Maker: c.By.String(), Via: c.By.Via, RequestID: c.By.RequestID, MadeAt: c.Now()}
		if b.Body, err = json.Marshal(api.NewBulk{Ceilings: true}); err != nil {
			return err
		}
		b.Says, out.Change = (&policies{under: true}).says(), b.ID.String()
		return c.Tx.AddBulk(b, above, nil)
	})
	s.Begun.Ring()
	return out, err
}

func are(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}

// lines puts ceilings in words, for the history.
func lines(all []workspace.Ceiling) []string {
	out := []string{}
	for _, c := range all {
		l := c.Setting + " at most " + c.AtMost
		if c.Filter != "" {
			l += " where " + c.Filter
		}
		if c.Reason != "" {
			l += " (" + c.Reason + ")"
		}
		out = append(out, l)
	}
	slices.Sort(out)
	return out
}

// touched returns the groups that are above new ceilings, with a line for each of the first in the report,
// and how many may go further than before.
func touched(c *workspace.Change, before, next []workspace.Ceiling) (above []uuid.UUID, freer int, err error) {
	var named []store.Group
	err = c.Read.EachGroup(store.GroupQuery{Sort: store.ByName}, func(groups []store.Group) error {
		for _, g := range groups {
			was, _ := workspace.CeilingsOf(before, g.Address, g.StartingPoint)
			now, _ := workspace.CeilingsOf(next, g.Address, g.StartingPoint)
			if now.Wider(was) {
				freer++
			}
			if g.Policy.Under(now) == g.Policy {
				continue
			}
			if above = append(above, g.ID); len(named) < sampled {
				named = append(named, g)
			}
		}
		return nil
	})
	if err != nil || !c.By.Preview {
		return above, freer, err
	}
	ids := make([]uuid.UUID, len(named))
	for i, g := range named {
		ids[i] = g.ID
	}
	owners, err := c.Read.Owners(ids)
	for _, g := range named {
		after := workspace.UnderCeilings(next, &g)
		var what, who []string
		for _, e := range workspace.PolicyEffects(g.Policy, after, population(&g, 0)) {
			what = append(what, fmt.Sprintf("%s from %s to %s", e.Field, e.From, e.To))
		}
		for _, o := range owners[g.ID] {
			who = append(who, o.Name)
		}
		if len(who) == 0 {
			who = []string{"nobody"}
		}
		c.Report.Sample = append(c.Report.Sample, api.Line{Name: g.Name, Address: g.Address, Outcome: store.ItemChanged, Says: strings.Join(what, ", ") + "; owned by " + strings.Join(who, ", ")})
	}
	c.Report.Total = len(above)
	return above, freer, err
}
