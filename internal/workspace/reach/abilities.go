package reach

import (
	"context"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"
	"ivytable.example/ivytable/internal/workspace/post"
)

// Abilities lists what somebody may do with groups, and why: with those that they are in, or with
// all that the actor can find. Everybody may ask about themselves.
func (s *Service) Abilities(ctx context.Context, by workspace.Actor, ref string, all bool, cursor string, limit int) (api.Page[api.Abilities], error) {
	none := api.Page[api.Abilities]{}
	a, err := s.abilities(ctx, by, ref, all)
	if err != nil {
		return none, err
	}
	after, err := a.v.Cursor(cursor, "abilities", a.person.ID, all)
	if err != nil {
		return none, err
	}
	page, err := a.page(after, limit)
	if err != nil {
		return none, err
	}
	items, err := a.of(page.Items)
	out := workspace.Page(page, func(store.Group) struct{} { return struct{}{} })
	return api.Page[api.Abilities]{Items: items, Next: out.Next, Total: out.Total}, err
}

// ExportAbilities writes what somebody may do with groups, and why: a line for each group and what can
// be done.
func (s *Service) ExportAbilities(ctx context.Context, by workspace.Actor, ref string, all bool, x workspace.Export) error {
	a, err := s.abilities(ctx, by, ref, all)
	if err != nil {
		return err
	}
	out := x.Begin("abilities", []string{"group", "address", "state", "role", "inside", "settled", "action", "outcome", "rule", "says"})
	write := func(groups []store.Group) error {
		items, err := a.of(groups)
		if err != nil {
			return err
		}
		for _, i := range items {
			for _, m := range i.May {
				one := i
				one.May = []api.Ability{m}
				if err := out.Row(one, func() []string {
					inside := "no"
					if i.Inside {
						inside = "yes"
					}
					return []string{api.Cell(i.Group.Name), api.Cell(i.Group.Address), i.State, i.Role, inside, i.Settled, m.Action, m.Outcome, m.Rule, api.Cell(m.Says)}
				}); err != nil {
					return err
				}
			}
		}
		return out.Flush()
	}
	if !all {
		page, err := a.page(store.Cursor{}, len(a.in)+1)
		if err != nil {
			return err
		}
		return out.End(write(page.Items))
	}
	q, err := a.query()
	if err != nil {
		return out.End(err)
	}
	return out.End(a.v.Read.EachGroup(q, write))
}

// abilities is the question what somebody may do.
type abilities struct {
	v       *workspace.View
	e       workspace.Terms
	person  store.Person
	all     bool
	in      []uuid.UUID // the groups that they are in, where not all are asked about
	settled map[uuid.UUID]policy.Override
	domains []string
}

func (s *Service) abilities(ctx context.Context, by workspace.Actor, ref string, all bool) (a abilities, err error) {
	if err := by.SignedIn(); err != nil {
		return a, err
	}
	a.v, a.all = s.k.View(ctx, by), all
	if ref != by.Person.ID.String() && !strings.EqualFold(ref, by.Person.Address) {
		if err := by.Allow(access.ReadReach); err != nil {
			return a, err
		}
	}
	if a.person, err = people.Find(a.v, ref); err != nil {
		return a, err
	}
	if a.e, err = a.v.ShownTerms(); err != nil {
		return a, err
	}
	if a.domains, err = a.v.Domains(); err != nil {
		return a, err
	}
	if a.settled, err = a.v.Read.OverridesAbout(a.person.AddrKey); err != nil {
		return a, err
	}
	if !all {
		if a.in, err = a.v.Read.Above(a.person.ID, a.person.External, a.v.Now()); err != nil {
			return a, err
		}
	}
	return a, nil
}

func (a abilities) query() (q store.GroupQuery, err error) {
	q = store.GroupQuery{Sort: store.ByName, Time: a.v.FilterTime(a.e)}
	if !a.v.By.Subject().ReadsAll() {
		q.Viewer = a.v.By.Person.ID
		q.Also, err = a.v.AreaFilters(access.ReadGroup)
	}
	return q, err
}

// page returns a page of the groups that are asked about.
func (a abilities) page(after store.Cursor, limit int) (store.Page[store.Group], error) {
	if a.all {
		q, err := a.query()
		if err != nil {
			return store.Page[store.Group]{}, err
		}
		q.After, q.Limit = after, limit
		return a.v.Read.Groups(q)
	}
	visible, err := a.v.Visible(a.in)
	if err != nil {
		return store.Page[store.Group]{}, err
	}
	var groups []store.Group
	for _, g := range visible {
		groups = append(groups, g.Group)
	}
	key := func(g store.Group) string { return strings.ToLower(g.Name) + "\x00" + g.ID.String() }
	slices.SortFunc(groups, func(x, y store.Group) int { return strings.Compare(key(x), key(y)) })
	page := store.Page[store.Group]{Total: int64(len(groups))}
	for _, g := range groups {
		switch {
		case !after.Empty() && key(g) <= after.Value:
		case len(page.Items) < limit:
			page.Items = append(page.Items, g)
		default:
			page.Next = store.Cursor{Value: key(page.Items[limit-1]), ID: page.Items[limit-1].ID, Total: page.Total, Of: after.Of}
			return page, nil
		}
	}
	return page, nil
}

// of answers for some groups.
func (a abilities) of(groups []store.Group) ([]api.Abilities, error) {
	out := make([]api.Abilities, 0, len(groups))
	ids := make([]uuid.UUID, len(groups))
	for i, g := range groups {
		ids[i] = g.ID
	}
	relations, err := a.v.RelationsOf(a.person, ids)
	if err != nil || len(ids) == 0 {
		return out, err
	}
	own, err := a.v.Read.Among(ids, []uuid.UUID{a.person.ID})
	if err != nil {
		return out, err
	}
	memberships := map[uuid.UUID]store.Membership{}
	for _, m := range own {
		memberships[m.GroupID] = m
	}
	var holding []uuid.UUID
	for _, g := range groups {
		if g.Policy[policy.Holding] == policy.HoldNewcomers {
			holding = append(holding, g.ID)
		}
	}
	seasoned, err := post.SeasonedIn(a.v, a.person.ID, holding)
	if err != nil {
		return out, err
	}
	for _, g := range groups {
		m := memberships[g.ID]
		at := member.Place{Relation: relations[g.ID], Added: m.AddedAt, ByRule: m.ByRule}
		x := asked{v: a.v, g: &workspace.Group{Group: g, Relation: at.Relation}, domains: a.domains, ends: post.TakesMail(a.v, &g), seasoned: map[uuid.UUID]bool{a.person.ID: seasoned[g.ID]}}
		settled := a.settled[g.ID]
		who := x.person(a.person, at, settled, true)
		item := api.Abilities{Group: api.Name{Name: g.Name, Address: g.Address}, State: string(g.Life().State(a.v.Now())), Role: roleName(at.Relation.Role),
			Inside: at.Relation.Rung <= policy.Members, Settled: settled.String()}
		for _, action := range append(slices.Clone(Listed), "leave") {
			t := x.decide(action, who)
			item.May = append(item.May, api.Ability{Action: action, Outcome: t.Outcome.String(), Rule: t.Rule, Says: says(t)})
		}
		out = append(out, item)
	}
	return out, nil
}
