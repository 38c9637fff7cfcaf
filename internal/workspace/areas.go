package workspace

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/filter"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
)

// AreasSetting is the name under which areas are kept.
const AreasSetting = "areas"

// Area is the groups that a filter names, handed to helper administrators with a list of powers.
type Area struct {
	Name    string      `json:"name"`
	Filter  string      `json:"filter"` // of core/filter's Groups, about what AreaFacts names
	Powers  []string    `json:"powers"`
	Helpers []uuid.UUID `json:"helpers"`
	SetBy   string      `json:"set_by"`
	SetAt   time.Time   `json:"set_at"`
}

// AreaFacts is what the filter of an area can ask about: what stands in the row of a group, and neither its
// people nor its policy, over which helpers have power.
var AreaFacts = []string{"domain", "starting_point", "address", "name", "language", "traits"}

// Areas are those in force, with their version.
func (v *View) Areas() (all []Area, version int, err error) {
	version, err = v.Read.Setting(AreasSetting, &all)
	return all, version + 1, err
}

// helped is an area of somebody's.
type helped struct {
	Area
	rule   *rule.Rule
	powers access.Powers
}

// helpers are who helps in which areas, as far as a view has read them.
type helpers struct {
	of    map[uuid.UUID][]helped
	exact bool // as they are, and not as they are kept
}

func (h *helpers) read(read func(string, any) (int, error)) error {
	var all []Area
	if _, err := read(AreasSetting, &all); err != nil {
		return err
	}
	h.of = map[uuid.UUID][]helped{}
	for _, a := range all {
		f, err := filter.Groups.Parse(a.Filter)
		if err != nil { // it was checked when it was set
			continue
		}
		powers, _ := access.ParsePowers(a.Powers)
		for _, id := range a.Helpers {
			h.of[id] = append(h.of[id], helped{a, f, powers})
		}
	}
	return nil
}

// areasOf returns the areas in which somebody helps. Most help in none, which is known without a look at the
// database; what is permitted is read there.
func (v *View) areasOf(p store.Person) ([]helped, error) {
	if p.ID == uuid.Nil || !p.Active || p.External || p.WorkspaceRole != "" {
		return nil, nil // administrators need none, and auditors change nothing
	}
	if v.helpers.of == nil {
		if err := v.helpers.read(v.Read.CachedSetting); err != nil {
			return nil, err
		}
	}
	if len(v.helpers.of[p.ID]) > 0 && !v.helpers.exact {
		if err := v.helpers.read(v.Read.Setting); err != nil {
			return nil, err
		}
		v.helpers.exact = true
	}
	return v.helpers.of[p.ID], nil
}

// factsOf is a group as the filter of an area asks about it.
func factsOf(g *store.Group) rule.Subject {
	_, domain, _ := strings.Cut(g.AddrKey, "@")
	facts := map[string][]string{"domain": {domain}, "starting_point": {g.StartingPoint}, "address": {g.Address}, "name": {g.Name}, "language": {g.Language}, "traits": {}}
	if g.Traits != "" {
		facts["traits"] = strings.Split(g.Traits, ",")
	}
	return filter.Groups.NewSubject(facts)
}

// PowersOf returns what somebody may do with a group as a helper of its areas.
func (v *View) PowersOf(p store.Person, g *store.Group) (out access.Powers, err error) {
	all, err := v.areasOf(p)
	if err != nil || len(all) == 0 {
		return 0, err
	}
	facts := factsOf(g)
	for _, a := range all {
		if a.rule.Eval(facts) == rule.Match {
			out |= a.powers
		}
	}
	return out, nil
}

// MyAreas returns the areas in which the actor helps.
func (v *View) MyAreas() (out []Area, err error) {
	all, err := v.areasOf(v.By.Person)
	for _, a := range all {
		out = append(out, a.Area)
	}
	return out, err
}

// Delegated reports whether somebody is a delegated administrator of any groups.
func (v *View) Delegated(person uuid.UUID) (bool, error) {
	if v.helpers.of == nil || !v.helpers.exact {
		if err := v.helpers.read(v.Read.Setting); err != nil {
			return false, err
		}
		v.helpers.exact = true
	}
	return len(v.helpers.of[person]) > 0, nil
}

// MayAppoint says why the actor may not change somebody's role in a group so; "" where they may. founding says that the group is being
// created.
func (v *View) MayAppoint(g *store.Group, r access.Relation, person uuid.UUID, from, to expand.Role, founding bool) (string, error) {
	if r.Powers == 0 || from == to {
		return "", nil
	}
	a := access.Appointment{From: from, To: to, Delegate: person == v.By.Person.ID, Founding: founding}
	if !a.Delegate {
		var err error
		if a.Delegate, err = v.Delegated(person); err != nil {
			return "", err
		}
	}
	return v.By.Subject().MayAppoint(r, a), nil
}

// AreaFilters are the areas in which the actor may do something, as filters of lists.
func (v *View) AreaFilters(do access.Action) (out []*rule.Rule, err error) {
	all, err := v.areasOf(v.By.Person)
	for _, a := range all {
		if a.powers.Cover(do) {
			out = append(out, a.rule)
		}
	}
	return out, err
}

// AreasFor are the areas in which the actor may do something, for lists of what is in their groups.
func (v *View) AreasFor(do access.Action) (store.Areas, error) {
	filters, err := v.AreaFilters(do)
	return store.Areas{Filters: filters, Time: store.FilterTime{Now: v.Now()}}, err
}

// CreatesIn reports whether the actor may create groups in an area of theirs: in any, or, where g is given, in
// one that it would be in.
func (v *View) CreatesIn(g *store.Group) (bool, error) {
	all, err := v.areasOf(v.By.Person)
	for _, a := range all {
		if a.powers&access.PowerCreate != 0 && (g == nil || a.rule.Eval(factsOf(g)) == rule.Match) {
			return true, err
		}
	}
	return false, err
}

// CheckAreas adds what is wrong with areas.
func CheckAreas(p *Problems, all []Area) {
	seen := map[string]bool{}
	for i, a := range all {
		field := fmt.Sprintf("areas[%d].", i)
		if a.Name == "" {
			p.Add(field+"name", "", "An area needs a name, such as Crew.")
		} else if key := strings.ToLower(a.Name); seen[key] {
			p.Add(field+"name", a.Name, "There are two areas called %s.", a.Name)
		} else {
			seen[key] = true
		}
		if _, unknown := access.ParsePowers(a.Powers); unknown != "" {
			names := []string{}
			for _, x := range access.ListPowers() {
				names = append(names, x.Name)
			}
			p.Add(field+"powers", Cut(unknown, 60), "There is no power %q. Choose of %s.", Cut(unknown, 60), strings.Join(names, ", "))
		}
		if a.Filter == "" {
			p.Add(field+"filter", "", "Say which groups: a filter over %s. All groups are for administrators.", strings.Join(AreaFacts, ", "))
			continue
		}
		f, err := filter.Groups.Parse(a.Filter)
		if err != nil {
			p.Add(field+"filter", Cut(a.Filter, 200), "%s", Words(err))
			continue
		}
		for _, x := range f.Attributes() {
			if !slices.Contains(AreaFacts, x.Path) {
				p.Add(field+"filter", Cut(a.Filter, 200), "An area can't ask about %s, over which its helpers may have power. Ask about %s.", x.Path, strings.Join(AreaFacts, ", "))
			}
		}
	}
}

// AreaRules returns the names of all areas with their filters.
func (v *View) AreaRules() (names []string, rules []*rule.Rule, err error) {
	all, _, err := v.Areas()
	for _, a := range all {
		r, bad := filter.Groups.Parse(a.Filter)
		if bad == nil { // it was checked when it was set
			names, rules = append(names, a.Name), append(rules, r)
		}
	}
	return names, rules, err
}
