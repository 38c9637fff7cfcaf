package bulk

import (
	"encoding/json"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// policies changes settings of groups' policies, or brings them under the ceilings that hold.
type policies struct {
	plain
	patch api.PolicyPatch
	under bool
}

func (*policies) scope() access.Scope { return access.ScopePolicy }

func (x *policies) kind() string {
	if x.under {
		return "ceilings"
	}
	return "policy"
}

func (x *policies) says() string {
	if x.under {
		return "their policies come down under the ceilings of the workspace"
	}
	var words []string
	x.patch.Each(func(name, value string) {
		said := name + " " + value
		for _, d := range policy.Describe() {
			for _, c := range d.Choices {
				if d.Name == name && c.Name == value {
					said = strings.ToLower(d.Asks[:1]) + d.Asks[1:] + ": " + c.In
				}
			}
		}
		words = append(words, said)
	})
	return strings.Join(words, "; ")
}

func (x *policies) check(*workspace.View) error {
	if x.under {
		return nil
	}
	_, bad := workspace.ApplyPatch(policy.Default(), x.patch) // what contradicts itself is for each group to say
	if len(bad) == 0 && workspace.PolicyWords(x.patch) == "" {
		bad.Add("policy", nil, "Say which settings change: %s.", strings.Join(policy.Names(), ", "))
	}
	return bad.Err()
}

func (*policies) before(c *workspace.Change) error {
	_, err := c.HoldCeilings()
	return err
}

// of returns what the policy of a group becomes.
func (x *policies) of(all []workspace.Ceiling, g *store.Group) policy.Policy {
	if x.under {
		return workspace.UnderCeilings(all, g)
	}
	p, _ := workspace.ApplyPatch(g.Policy, x.patch)
	return p
}

func (x *policies) decide(v *workspace.View, groups []store.Group) ([]verdict, error) {
	all, _, err := v.Ceilings()
	if err != nil {
		return nil, err
	}
	return each(groups, func(g *store.Group) verdict {
		after := x.of(all, g)
		switch {
		case after == g.Policy:
			return verdict{outcome: store.ItemSame}
		case !x.under && v.Ended(g):
			return refused("It has ended.")
		}
		return fits(all, g, after)
	})
}

// fits says whether a group may have a policy.
func fits(all []workspace.Ceiling, g *store.Group, p policy.Policy) verdict {
	if bad := append(workspace.Contradictions(p), workspace.AboveCeilings(all, p, g.Address, g.StartingPoint)...); len(bad) > 0 {
		return refused("%s", bad[0].Says)
	}
	return verdict{outcome: store.ItemChanged}
}

func (x *policies) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	all, _, err := c.Ceilings()
	if err != nil {
		return nil, err
	}
	was := make(map[uuid.UUID]json.RawMessage, len(groups))
	for _, g := range groups {
		from := g.Policy
		if err := setPolicy(c, g, x.of(all, &g.Group.Group)); err != nil {
			return nil, err
		}
		if was[g.ID], err = json.Marshal(wasField{from.Encode(), g.Policy.Encode()}); err != nil {
			return nil, err
		}
	}
	return was, nil
}

// maxNamed is how many of their groups a letter to an owner names.
const maxNamed = 10

// after tells owners whose groups came down under a ceiling, each in one letter.
func (x *policies) after(c *workspace.Change, b *store.BulkChange) error {
	if !x.under || b.Changed == 0 {
		return nil
	}
	ids, err := c.Read.BulkChanged(b.ID)
	if err != nil {
		return err
	}
	all, _, err := c.Ceilings()
	if err != nil {
		return err
	}
	var why []string
	for _, ceiling := range all {
		if ceiling.Reason != "" && !slices.Contains(why, ceiling.Reason) {
			why = append(why, ceiling.Reason)
		}
	}
	mine := map[uuid.UUID][]string{} // names of groups, by owner
	for some := range slices.Chunk(ids, 1000) {
		groups, err := c.Read.GroupsByID(some)
		if err != nil {
			return err
		}
		owners, err := c.Read.Owners(some)
		if err != nil {
			return err
		}
		for _, g := range inOrder(some, groups) {
			for _, o := range owners[g.ID] {
				if o.Active && o.MemberID != c.By.Person.ID {
					mine[o.MemberID] = append(mine[o.MemberID], g.Name)
				}
			}
		}
	}
	who, err := c.Read.PeopleByID(slices.Collect(maps.Keys(mine)))
	if err != nil {
		return err
	}
	for id, names := range mine {
		p := who[id]
		lang, _, _ := strings.Cut(people.Fields(p)["preferredLanguage"], "-")
		l := c.Letter(workspace.LetterCeiling, lang, "/mine", map[string]string{"count": strconv.Itoa(len(names)), "by": c.By.Name(), "address": p.Address, "why": strings.Join(why, " "), "groups": listed(names)})
		if err := c.Send(nil, []string{p.Address}, l); err != nil {
			return err
		}
	}
	return nil
}

// listed writes names of groups, as many as a letter names.
func listed(names []string) string {
	if len(names) > maxNamed {
		names = append(slices.Clone(names[:maxNamed]), "…")
	}
	return strings.Join(names, ", ")
}

// setPolicy gives a group a policy, and records what that changes.
func setPolicy(c *workspace.Change, g *workspace.Locked, after policy.Policy) error {
	everybody, err := c.Read.CountPeople()
	if err != nil {
		return err
	}
	var fact event.PolicyChanged
	for _, e := range workspace.PolicyEffects(g.Policy, after, population(&g.Group.Group, int(everybody))) {
		fact.Changed = append(fact.Changed, event.Change{Field: e.Field, From: e.From, To: e.To, Says: e.Says})
	}
	g.Policy = after
	if err := c.Save(g); err != nil {
		return err
	}
	return c.Record(fact, &g.Group.Group)
}

// population says how many people stand on each rung of a group by themselves, of everybody in the
// workspace.
func population(g *store.Group, everybody int) policy.Population {
	inside := g.Owners + g.Moderators + g.Members - g.ExternalMembers
	return policy.Population{Owners: g.Owners, Moderators: g.Moderators, Members: max(0, g.Members-g.ExternalMembers), External: g.ExternalMembers, Colleagues: max(0, everybody-inside)}
}

// restored is the policy of a group with the settings that a change set as they were before, and whether
// they are all as it left them.
func (*policies) restored(g *store.Group, raw json.RawMessage) (p policy.Policy, untouched bool) {
	var w wasField
	if json.Unmarshal(raw, &w) != nil {
		return p, false
	}
	from, err := policy.Decode(w.From)
	if err != nil {
		return p, false
	}
	to, err := policy.Decode(w.To)
	if err != nil {
		return p, false
	}
	p = g.Policy
	for s := range policy.Settings {
		if from[s] == to[s] {
			continue
		}
		if g.Policy[s] != to[s] {
			return p, false
		}
		p[s] = from[s]
	}
	return p, true
}

func (x *policies) left(v *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	all, _, err := v.Ceilings()
	if err != nil {
		return nil, err
	}
	return each(groups, func(g *store.Group) verdict {
		p, untouched := x.restored(g, was[g.ID])
		if !untouched {
			return refused("Its policy was changed since.")
		}
		return fits(all, g, p)
	})
}

func (x *policies) back(c *workspace.Change, groups []*workspace.Locked, was map[uuid.UUID]json.RawMessage) error {
	for _, g := range groups {
		p, _ := x.restored(&g.Group.Group, was[g.ID])
		if err := setPolicy(c, g, p); err != nil {
			return err
		}
	}
	return nil
}
