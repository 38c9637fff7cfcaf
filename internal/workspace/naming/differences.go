package naming

import (
	"context"
	"slices"
	"strings"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/texts"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Start is what a group has that is begun from a starting point: a whole policy, traits and texts.
type Start struct {
	Name, Title string
	Policy      policy.Policy
	Traits      string
	Mail        *bool       // whether new members get each message; nil: as the group has it
	Welcome     string      // "": as the group has it
	Texts       texts.Texts // what is empty is as the group has it
}

// StartOf reads a starting point as what a group becomes by it.
func StartOf(p store.StartingPoint) Start {
	after, _ := workspace.ApplyPatch(policy.Default(), workspace.PolicyPatch(p.Settings))
	out := Start{Name: p.Name, Title: p.Title, Policy: after, Traits: p.Traits, Welcome: p.Welcome, Texts: p.Mail.Texts}
	if p.Delivery != "" {
		each := p.Delivery == "each"
		out.Mail = &each
	}
	return out
}

// Put makes a group what the starting point says.
func (s Start) Put(g *store.Group) {
	g.StartingPoint, g.Policy, g.Traits = s.Name, s.Policy, s.Traits
	if s.Mail != nil {
		g.DefaultMail = *s.Mail
	}
	if s.Welcome != "" {
		g.Welcome = s.Welcome
	}
	own := &g.Mail.Texts
	for _, x := range []struct {
		from string
		to   *string
	}{{s.Texts.Reply, &own.Reply}, {s.Texts.Tag, &own.Tag}, {s.Texts.Footer, &own.Footer}, {s.Texts.Answer, &own.Answer}, {s.Texts.Notice, &own.Notice}, {s.Texts.From, &own.From}} {
		if x.from != "" {
			*x.to = x.from
		}
	}
	if s.Texts.Answer != "" {
		own.AnswerDays = s.Texts.AnswerDays
	}
}

// Differences are how a group differs from what the starting point says, the starting point first.
func (s Start) Differences(g *store.Group) []api.Difference {
	out := []api.Difference{}
	differs := func(field, from, to string) {
		if from != to {
			out = append(out, api.Difference{Field: field, From: from, To: to})
		}
	}
	then := *g
	s.Put(&then)
	for _, field := range policy.Names() {
		differs(field, then.Policy.Get(field), g.Policy.Get(field))
	}
	sorted := func(traits string) string {
		all := SplitTraits(traits)
		slices.Sort(all)
		return strings.Join(all, ", ")
	}
	differs("traits", sorted(then.Traits), sorted(g.Traits))
	differs("default_delivery", workspace.Delivery(then.DefaultMail), workspace.Delivery(g.DefaultMail))
	differs("welcome", then.Welcome, g.Welcome)
	for _, x := range workspace.TextChanges(then.Mail.Texts, g.Mail.Texts) {
		differs(x.Field, x.From, x.To)
	}
	return out
}

// Changes are the fields beside the policy that a starting point sets and in which a group differs from what it was.
func Changes(was, is *store.Group) (out []event.Change) {
	for _, x := range []event.Change{{Field: "starting_point", From: was.StartingPoint, To: is.StartingPoint}, {Field: "traits", From: was.Traits, To: is.Traits}, {Field: "welcome", From: was.Welcome, To: is.Welcome},
		{Field: "default_delivery", From: workspace.Delivery(was.DefaultMail), To: workspace.Delivery(is.DefaultMail)}} {
		if x.From != x.To {
			out = append(out, x)
		}
	}
	return append(out, workspace.TextChanges(was.Mail.Texts, is.Mail.Texts)...)
}

// Differing lists the living groups that differ from the starting point that they were begun from, and how:
// of one starting point, or of all. They are read whole: a declared full review.
func (s *Service) Differing(ctx context.Context, by workspace.Actor, name, cursor string, limit int) (api.Page[api.Differing], error) {
	none := api.Page[api.Differing]{}
	if err := by.Allow(access.ReadMany); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	rows, err := v.Read.StartingPoints()
	if err != nil {
		return none, err
	}
	starts := map[string]Start{}
	for _, p := range append(slices.Clone(builtIn), rows...) {
		if name == "" || p.Name == name {
			starts[p.Name] = StartOf(p)
		}
	}
	if len(starts) == 0 {
		return none, errNoStart(name)
	}
	after, err := v.Cursor(cursor, "differing", name)
	if err != nil {
		return none, err
	}
	e, err := v.Terms()
	if err != nil {
		return none, err
	}
	var all []store.Group
	err = v.Read.EachGroup(store.GroupQuery{States: []lifecycle.State{lifecycle.Active, lifecycle.Due}, Sort: store.ByName, Time: v.FilterTime(e)}, func(groups []store.Group) error {
		for _, g := range groups {
			if start, ok := starts[g.StartingPoint]; ok && len(start.Differences(&g)) > 0 {
				all = append(all, g)
			}
		}
		return nil
	})
	if err != nil {
		return none, err
	}
	slices.SortFunc(all, func(a, b store.Group) int { return strings.Compare(place(a), place(b)) })
	out := api.Page[api.Differing]{Items: []api.Differing{}, Total: int64(len(all))}
	at := 0
	if !after.Empty() {
		at = slices.IndexFunc(all, func(g store.Group) bool { return strings.Compare(place(g), after.Value) > 0 })
		if at < 0 {
			return out, nil
		}
	}
	page := all[at:min(at+limit, len(all))]
	for i := range page {
		g := &page[i]
		start := starts[g.StartingPoint]
		out.Items = append(out.Items, api.Differing{ID: g.ID.String(), Group: api.Name{Name: g.Name, Address: g.Address}, StartingPoint: start.Name, Title: start.Title, Differences: start.Differences(g)})
	}
	if at+len(page) < len(all) {
		last := page[len(page)-1]
		out.Next = store.Cursor{Value: place(last), ID: last.ID, Total: out.Total, Of: after.Of}.String()
	}
	return out, nil
}

// place is where a group stands in a list by name.
func place(g store.Group) string { return strings.ToLower(g.Name) + "\x00" + g.ID.String() }
