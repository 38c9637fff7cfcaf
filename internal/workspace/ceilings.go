package workspace

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/core/filter"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
)

// CeilingsSetting is the name under which ceilings are kept.
const CeilingsSetting = "ceilings"

// Ceiling is how far groups may go in one setting: all, or those that a filter names.
type Ceiling struct {
	Filter  string    `json:"filter"` // of core/filter's Groups, about what CeilingFacts names; "" for all groups
	Setting string    `json:"setting"`
	AtMost  string    `json:"at_most"`
	Reason  string    `json:"reason"`
	SetBy   string    `json:"set_by"`
	SetAt   time.Time `json:"set_at"`
}

// CeilingFacts is what the filter of a ceiling can ask about: what a group is begun with and who
// runs it does not change at will.
var CeilingFacts = []string{"domain", "starting_point"}

// Ceilings are those in force, with their version.
func (v *View) Ceilings() (all []Ceiling, version int, err error) {
	version, err = v.Read.Setting(CeilingsSetting, &all)
	return all, version + 1, err
}

// HoldCeilings is Ceilings for a change that goes by them: they stay as they are until it ends.
func (c *Change) HoldCeilings() (all []Ceiling, err error) {
	_, err = c.Tx.RLockSetting(CeilingsSetting, &all)
	return all, err
}

// CeilingsOf returns how far a group may go, and by which of the ceilings in each setting.
func CeilingsOf(all []Ceiling, address, startingPoint string) (out policy.Ceilings, by map[policy.Setting]Ceiling) {
	_, domain, _ := strings.Cut(address, "@")
	subject := filter.Groups.NewSubject(map[string][]string{"domain": {strings.ToLower(domain)}, "starting_point": {startingPoint}})
	by = map[policy.Setting]Ceiling{}
	for _, c := range all {
		if c.Filter != "" {
			f, err := filter.Groups.Parse(c.Filter)
			if err != nil || f.Eval(subject) != rule.Match { // it was checked when it was set
				continue
			}
		}
		s, most, ok := c.bound()
		if !ok {
			continue
		}
		if now, bound := out.Of(s); !bound || most < now {
			by[s] = c
		}
		out.Bound(s, most)
	}
	return out, by
}

// bound reads what a ceiling bounds.
func (c Ceiling) bound() (s policy.Setting, most policy.Audience, ok bool) {
	s, err := policy.ParseSetting(c.Setting)
	if err != nil || !s.Bounded() {
		return s, most, false
	}
	most, err = policy.Find.Parse(c.AtMost)
	return s, most, err == nil
}

// AboveCeilings are the problems of a policy that goes further than a group may.
func AboveCeilings(all []Ceiling, p policy.Policy, address, startingPoint string) (bad Problems) {
	of, by := CeilingsOf(all, address, startingPoint)
	for _, f := range p.Above(of) {
		name := strings.TrimPrefix(f.Field, "policy.")
		s, err := policy.ParseSetting(name)
		if err != nil {
			continue
		}
		says := f.Words()
		if c := by[s]; c.Reason != "" {
			says += " " + c.SetBy + " set that: " + c.Reason
		} else {
			says += " " + c.SetBy + " set that."
		}
		bad.Add(f.Field, p.Get(name), "%s", says)
	}
	return bad
}

// CheckCeilings adds what is wrong with ceilings.
func CheckCeilings(p *Problems, all []Ceiling) {
	seen := map[string]bool{}
	for i, c := range all {
		field := fmt.Sprintf("ceilings[%d].", i)
		s, err := policy.ParseSetting(c.Setting)
		if err != nil || !s.Bounded() {
			p.Add(field+"setting", Cut(c.Setting, 60), "There is no ceiling for %q. Choose %s.", Cut(c.Setting, 60), strings.Join(BoundedSettings(), ", "))
		} else if _, err := policy.Find.Parse(c.AtMost); err != nil {
			p.Add(field+"at_most", Cut(c.AtMost, 60), "A ceiling is an audience: nobody, owners, moderators, members, workspace. With anyone it bounds nothing.")
		} else if c.AtMost == "anyone" {
			p.Add(field+"at_most", c.AtMost, "With anyone a ceiling bounds nothing. Leave it out.")
		}
		if c.Filter != "" {
			f, err := filter.Groups.Parse(c.Filter)
			if err != nil {
				p.Add(field+"filter", Cut(c.Filter, 200), "%s", Words(err))
			} else {
				for _, a := range f.Attributes() {
					if !slices.Contains(CeilingFacts, a.Path) {
						p.Add(field+"filter", Cut(c.Filter, 200), "A ceiling can't ask about %s. Ask about %s.", a.Path, strings.Join(CeilingFacts, ", "))
					}
				}
			}
		}
		if key := c.Setting + " " + c.Filter; seen[key] {
			p.Add(field+"setting", c.Setting, "There are two ceilings for %s of the same groups.", c.Setting)
		} else {
			seen[key] = true
		}
	}
}

// BoundedSettings are the names of the settings that a ceiling can bound.
func BoundedSettings() (out []string) {
	for _, d := range policy.Describe() {
		if d.Bounded {
			out = append(out, d.Name)
		}
	}
	return out
}

// UnderCeilings is the policy of a group as its ceilings let it be.
func UnderCeilings(all []Ceiling, g *store.Group) policy.Policy {
	of, _ := CeilingsOf(all, g.Address, g.StartingPoint)
	return g.Policy.Under(of)
}
