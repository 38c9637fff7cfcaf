package bulk

import (
	"encoding/json"
	"ivytable.example/ivytable/internal/core/access"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/texts"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/naming"
)

// starting makes groups what a starting point says: its whole policy, its traits and texts.
type starting struct {
	plain
	Name string
}

func (*starting) scope() access.Scope { return access.ScopePolicy }

func (*starting) kind() string   { return "starting point" }
func (x *starting) says() string { return "they become what the starting point " + x.Name + " says" }

func (x *starting) check(v *workspace.View) error {
	_, err := naming.Begin(v, x.Name)
	return err
}

func (*starting) before(c *workspace.Change) error {
	_, err := c.HoldCeilings()
	return err
}

// begun is what a starting point sets in a group, as far as it is kept to be undone.
type begun struct {
	Start, Policy, Traits, Welcome string
	Mail                           bool
	Texts                          texts.Texts
}

func begunOf(g *store.Group) begun {
	return begun{g.StartingPoint, g.Policy.Encode(), g.Traits, g.Welcome, g.DefaultMail, g.Mail.Texts}
}

func (b begun) put(g *store.Group) error {
	p, err := policy.Decode(b.Policy)
	g.StartingPoint, g.Policy, g.Traits, g.Welcome, g.DefaultMail, g.Mail.Texts = b.Start, p, b.Traits, b.Welcome, b.Mail, b.Texts
	return err
}

func (x *starting) decide(v *workspace.View, groups []store.Group) ([]verdict, error) {
	row, err := naming.Begin(v, x.Name)
	if err != nil {
		return nil, err
	}
	start := naming.StartOf(row)
	all, _, err := v.Ceilings()
	if err != nil {
		return nil, err
	}
	return each(groups, func(g *store.Group) verdict {
		then := *g
		start.Put(&then)
		switch {
		case begunOf(&then) == begunOf(g):
			return verdict{outcome: store.ItemSame}
		case v.Ended(g):
			return refused("It has ended.")
		}
		return fits(all, &then, then.Policy)
	})
}

func (x *starting) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	row, err := naming.Begin(&c.View, x.Name)
	if err != nil {
		return nil, err
	}
	start := naming.StartOf(row)
	was := make(map[uuid.UUID]json.RawMessage, len(groups))
	for _, g := range groups {
		then := g.Group.Group
		start.Put(&then)
		from, to := begunOf(&g.Group.Group), begunOf(&then)
		if err := become(c, g, to); err != nil {
			return nil, err
		}
		if was[g.ID], err = json.Marshal([2]begun{from, to}); err != nil {
			return nil, err
		}
	}
	return was, nil
}

// become gives a group what a starting point sets, and records what that changes.
func become(c *workspace.Change, g *workspace.Locked, to begun) error {
	then := g.Group.Group
	if err := to.put(&then); err != nil {
		return err
	}
	fact := event.GroupChanged{Changed: naming.Changes(&g.Group.Group, &then)}
	after := then.Policy
	before := g.Policy
	then.Policy = before
	g.Group.Group = then
	if len(fact.Changed) > 0 {
		if err := c.Record(fact, &g.Group.Group); err != nil {
			return err
		}
	}
	if after != before {
		return setPolicy(c, g, after)
	}
	return c.Save(g)
}

func (x *starting) left(v *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	all, _, err := v.Ceilings()
	if err != nil {
		return nil, err
	}
	return each(groups, func(g *store.Group) verdict {
		var w [2]begun
		if json.Unmarshal(was[g.ID], &w) != nil || begunOf(g) != w[1] {
			return refused("It was changed since.")
		}
		then := *g
		if err := w[0].put(&then); err != nil {
			return refused("What it was before can't be read.")
		}
		return fits(all, &then, then.Policy)
	})
}

func (x *starting) back(c *workspace.Change, groups []*workspace.Locked, was map[uuid.UUID]json.RawMessage) error {
	for _, g := range groups {
		var w [2]begun
		if err := json.Unmarshal(was[g.ID], &w); err != nil {
			return err
		}
		if err := become(c, g, w[0]); err != nil {
			return err
		}
	}
	return nil
}
