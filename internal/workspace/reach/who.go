package reach

import (
	"context"
	"strconv"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// WhoMay lists who may do something with a group, and why: people of the workspace by name,
// external members, addresses about which something is settled, and everybody else. Whom something that is settled
// about them keeps from it is listed too.
//
// With a draft, NAME=VALUE words of settings, only those are listed for whom it would be otherwise then.
func (s *Service) WhoMay(ctx context.Context, by workspace.Actor, ref, action, draft, cursor string, limit int) (api.Page[api.Permitted], error) {
	none := api.Page[api.Permitted]{}
	w, err := s.who(ctx, by, ref, action, draft)
	if err != nil {
		return none, err
	}
	after, err := w.v.Cursor(cursor, "who may", w.g.ID, action, draft)
	if err != nil {
		return none, err
	}
	page := store.Page[api.Permitted]{Total: after.Total}
	var last store.Cursor
	err = w.each(ctx, after, func(p api.Permitted, at store.Cursor) bool {
		switch {
		case len(page.Items) < limit:
			page.Items, last = append(page.Items, p), at
		case page.Next.Empty():
			page.Next = last
		}
		if after.Empty() {
			page.Total++
			return true // they are counted to the end
		}
		return page.Next.Empty()
	})
	if !page.Next.Empty() {
		page.Next.Of, page.Next.Total = after.Of, page.Total
	}
	out := workspace.Page(page, func(p api.Permitted) api.Permitted { return p })
	out.Hidden = w.sight.Hidden
	return out, err
}

// ExportWhoMay writes all who may do something with a group, and why.
func (s *Service) ExportWhoMay(ctx context.Context, by workspace.Actor, ref, action, draft string, x workspace.Export) error {
	w, err := s.who(ctx, by, ref, action, draft)
	if err != nil {
		return err
	}
	out := x.Begin("who-may-"+strings.ReplaceAll(action, "_", "-"), []string{"address", "name", "external", "role", "through", "outcome", "was", "rule", "says"})
	var failed error
	n := 0
	err = w.each(ctx, store.Cursor{}, func(p api.Permitted, _ store.Cursor) bool {
		failed = out.Row(p, func() []string {
			return []string{api.Cell(p.Address), api.Cell(p.Name), strconv.FormatBool(p.External), p.Role, api.Cell(strings.Join(p.Through, "; ")), p.Outcome, p.Was, p.Rule, api.Cell(p.Says)}
		})
		if n++; failed == nil && n%chunk == 0 {
			failed = out.Flush()
		}
		return failed == nil
	})
	if err == nil {
		err = failed
	}
	return out.End(err)
}

// who is the question who may do something with a group.
type who struct {
	asked
	action string
	sight  *member.Sight
	wide   bool   // all colleagues may come into question
	now    *asked // with a draft: as it is now
}

func (s *Service) who(ctx context.Context, by workspace.Actor, ref, action, draft string) (who, error) {
	var bad workspace.Problems
	bad.OneOf("action", action, Listed...)
	if action == "" {
		bad.Add("action", "", "Say what they may do: %s.", strings.Join(Listed, ", "))
	}
	if err := bad.Err(); err != nil {
		return who{}, err
	}
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.Rehearse)
	if err != nil {
		return who{}, err
	}
	w, err := whoMay(v, &g, action)
	if err != nil || draft == "" {
		return w, err
	}
	after := g.Policy
	for word := range strings.FieldsSeq(draft) {
		name, value, _ := strings.Cut(word, "=")
		if err := after.Set(name, value); err != nil {
			bad.Fault("draft", draft, err)
		}
	}
	w.draft(after)
	return w, bad.Err()
}

func whoMay(v *workspace.View, g *workspace.Group, action string) (w who, err error) {
	w.action = action
	if w.asked, err = open(v, g); err != nil {
		return w, err
	}
	if w.sight, err = member.Look(v, g); err != nil {
		return w, err
	}
	w.wide = g.Policy[setting(action)] >= policy.Workspace
	sized := g.Group
	err = v.Read.Size(&sized)
	w.wide = w.wide || sized.People > large
	return w, err
}

// large is from how many people of a group on all of the workspace are walked through: to pick those of a
// large group out, some at a time, costs more.
const large = 5000

// draft asks about another policy, and says with each what is so now.
func (w *who) draft(p policy.Policy) {
	now := w.asked
	other := *w.g
	other.Policy = p
	w.now, w.g = &now, &other
	w.wide = w.wide || p[setting(w.action)] >= policy.Workspace
}

// judge decides about one of the list.
func (w *who) judge(name, address string, external bool, at member.Place, who func(asked) somebody) (out api.Permitted, listed bool) {
	told := w.decide(w.action, who(w.asked))
	out = api.Permitted{Name: name, Address: address, External: external, Role: roleName(at.Relation.Role), Through: at.Through, Outcome: told.Outcome.String(), Rule: told.Rule, Says: says(told)}
	if out.Through == nil {
		out.Through = []string{}
	}
	listed = told.Outcome != policy.Refuse || strings.HasPrefix(told.Rule, "person.") // what is settled about them keeps them from it
	if w.now != nil {
		was := w.now.decide(w.action, who(*w.now)).Outcome
		out.Was = was.String()
		listed = was != told.Outcome
	}
	return out, listed
}

// chunk is how many people are looked at at once.
const chunk = 500

// The parts of the list.
const (
	ofWorkspace = iota
	ofOutside
	settled
	everybodyElse
)

// place says where in which part of the list a row stands.
func place(part int, value string, id uuid.UUID) store.Cursor {
	return store.Cursor{Value: strconv.Itoa(part) + value, ID: id}
}

// each calls f with all who may, after a place in the list, until it answers no.
func (w *who) each(ctx context.Context, after store.Cursor, f func(api.Permitted, store.Cursor) bool) error {
	part := ofWorkspace
	if !after.Empty() {
		if after.Value == "" || after.Value[0] < '0' || after.Value[0] > '0'+everybodyElse {
			return workspace.Wrong("cursor", workspace.Cut(after.Value, 100), "The cursor can't be read. Begin the list from its start.")
		}
		part, after.Value = int(after.Value[0]-'0'), after.Value[1:]
	}
	for ; part <= everybodyElse; part, after = part+1, (store.Cursor{}) {
		for {
			if err := ctx.Err(); err != nil {
				return err
			}
			next, more, err := w.some(part, after, f)
			if err != nil || !more {
				return err
			}
			if next.Empty() {
				break
			}
			after = next
		}
	}
	return nil
}

// some calls f with those of the next few of a part who may. The place it returns is empty at the
// end of the part.
func (w *who) some(part int, after store.Cursor, f func(api.Permitted, store.Cursor) bool) (next store.Cursor, more bool, err error) {
	switch part {
	case everybodyElse:
		p, listed := w.judge("Anybody else", "*", true, member.Place{}, func(x asked) somebody { return x.address(mailaddr.Address{}, policy.NoOverride, true) })
		return next, !listed || f(p, place(part, "*", uuid.Nil)), nil
	case settled:
		return w.settled(after, f)
	}
	people, err := w.people(part, after)
	if err != nil || len(people) == 0 {
		return next, true, err
	}
	places, err := w.sight.Places(people)
	if err != nil {
		return next, false, err
	}
	keys := make([]string, len(people))
	for i, p := range people {
		keys[i] = p.AddrKey
	}
	overrides, err := w.v.Read.OverridesOf(w.g.ID, keys)
	if err != nil {
		return next, false, err
	}
	for _, p := range people {
		at := places[p.ID]
		one, listed := w.judge(p.Name, p.Address, p.External, at, func(x asked) somebody { return x.person(p, at, overrides[p.AddrKey], true) })
		if listed && !f(one, place(part, p.Name, p.ID)) {
			return next, false, nil
		}
	}
	if last := people[len(people)-1]; len(people) == chunk {
		next = store.Cursor{Value: last.Name, ID: last.ID}
	}
	return next, true, nil
}

// people returns the next few of a part: all colleagues where they may come into question.
func (w *who) people(part int, after store.Cursor) ([]store.Person, error) {
	if part == ofWorkspace && w.wide {
		return w.v.Read.PeopleHere(after, chunk)
	}
	return w.v.Read.PeopleAround(append([]uuid.UUID{w.g.ID}, w.sight.Groups()...), part == ofOutside, after, chunk)
}

// settled is some for addresses that are nobody's in the directory, about which something is settled.
func (w *who) settled(after store.Cursor, f func(api.Permitted, store.Cursor) bool) (next store.Cursor, more bool, err error) {
	page, err := w.v.Read.Overrides(w.g.ID, after, chunk)
	if err != nil {
		return next, false, err
	}
	keys := make([]string, len(page.Items))
	for i, r := range page.Items {
		keys[i] = r.AddrKey
	}
	known, err := w.v.Read.PeopleByKeys(keys)
	if err != nil {
		return next, false, err
	}
	for _, r := range page.Items {
		if p, is := known[r.AddrKey]; is && p.Active {
			continue // was among the others, where they come into question
		}
		a, err := mailaddr.Parse(strings.Replace(r.AddrKey, "*@", "anybody@", 1))
		if err != nil {
			return next, false, err
		}
		one, listed := w.judge("", r.AddrKey, !w.ours(a.Key()), member.Place{}, func(x asked) somebody { return x.address(a, r.Kind, true) })
		if listed && !f(one, place(settled, r.AddrKey, uuid.Nil)) {
			return next, false, nil
		}
	}
	return page.Next, true, nil
}

func roleName(r expand.Role) string {
	if r == 0 {
		return "none"
	}
	return r.String()
}
