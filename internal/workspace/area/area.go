// Package area is which groups are handed to helper administrators, and what they may do there. What they may is
// decided with everything else, in core/access.
package area

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/filter"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Service is areas.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// List returns the areas of the workspace: all, or, for who is no administrator, those in which they help.
func (s *Service) List(ctx context.Context, by workspace.Actor) (api.Areas, error) {
	if err := by.SignedIn(); err != nil {
		return api.Areas{}, err
	}
	v := s.k.View(ctx, by)
	all, version, err := v.Areas()
	if err != nil {
		return api.Areas{}, err
	}
	if !by.Subject().MayHere(access.ReadAreas, false) {
		all, err = v.MyAreas()
	}
	if err != nil {
		return api.Areas{}, err
	}
	return shape(v, all, version)
}

func shape(v *workspace.View, all []workspace.Area, version int) (api.Areas, error) {
	out := api.Areas{Areas: []api.Area{}, Known: []api.Power{}, Version: version}
	for _, p := range access.ListPowers() {
		out.Known = append(out.Known, api.Power{Name: p.Name, Says: p.Says})
	}
	var ids []uuid.UUID
	for _, a := range all {
		ids = append(ids, a.Helpers...)
	}
	who, err := v.Read.PeopleByID(ids)
	if err != nil {
		return out, err
	}
	for _, a := range all {
		x := api.Area{Name: a.Name, Filter: a.Filter, Powers: append([]string{}, a.Powers...), Helpers: []api.Helper{}, SetBy: a.SetBy, SetAt: v.In(a.SetAt)}
		for _, id := range a.Helpers {
			if p, known := who[id]; known {
				x.Helpers = append(x.Helpers, api.Helper{Name: p.Name, Address: p.Address, Departed: !p.Active})
			}
		}
		if x.Groups, err = count(v, a); err != nil {
			return out, err
		}
		out.Areas = append(out.Areas, x)
	}
	return out, nil
}

// asSet are areas as somebody sets them.
func asSet(v *workspace.View, all []workspace.Area) (out api.NewAreas, err error) {
	shown, err := shape(v, all, 0)
	for _, a := range shown.Areas {
		n := api.NewArea{Name: a.Name, Filter: a.Filter, Powers: a.Powers}
		for _, h := range a.Helpers {
			n.Helpers = append(n.Helpers, h.Address)
		}
		out.Areas = append(out.Areas, n)
	}
	return out, err
}

// count counts the groups of an area, ended ones too.
func count(v *workspace.View, a workspace.Area) (int, error) {
	f, err := filter.Groups.Parse(a.Filter)
	if err != nil { // it was checked when it was set
		return 0, nil
	}
	page, err := v.Read.Groups(store.GroupQuery{Filter: f, Sort: store.ByName, Time: store.FilterTime{Now: v.Now()}, Limit: 1})
	return int(page.Total), err
}

// read makes areas of what was given, and says what is wrong with them.
func read(v *workspace.View, given []api.NewArea) (out []workspace.Area, err error) {
	var bad workspace.Problems
	for i, n := range given {
		a := workspace.Area{Name: strings.TrimSpace(n.Name), Filter: strings.TrimSpace(n.Filter), Powers: n.Powers, Helpers: []uuid.UUID{}}
		if powers, unknown := access.ParsePowers(n.Powers); unknown == "" {
			a.Powers = powers.Names()
		}
		for j, address := range n.Helpers {
			field := fmt.Sprintf("areas[%d].helpers[%d]", i, j)
			p, err := people.Find(v, address)
			switch {
			case workspace.IsKind(err, workspace.NotFound), err == nil && p.External:
				bad.Add(field, workspace.Cut(address, 320), "Nobody of the workspace has the address %s.", workspace.Cut(address, 100))
			case err != nil:
				return nil, err
			case p.WorkspaceRole == string(access.Auditor):
				bad.Add(field, address, "%s is an auditor: auditors change nothing.", p.Name)
			case p.WorkspaceRole != "":
				bad.Add(field, address, "%s is an administrator, who may do all of that anyway.", p.Name)
			case !p.Active:
				bad.Add(field, address, "%s has left the organisation.", p.Name)
			case !slices.Contains(a.Helpers, p.ID):
				a.Helpers = append(a.Helpers, p.ID)
			}
		}
		if len(n.Helpers) == 0 {
			bad.Add(fmt.Sprintf("areas[%d].helpers", i), nil, "An area needs somebody who helps there.")
		}
		out = append(out, a)
	}
	workspace.CheckAreas(&bad, out)
	return out, bad.Err()
}

// Set sets the areas of the workspace, in place of those before. Helpers are told of what is new or over for
// them.
func (s *Service) Set(ctx context.Context, by workspace.Actor, n api.NewAreas, version int) (api.Areas, error) {
	if err := by.Allow(access.ChangeAreas); err != nil {
		return api.Areas{}, err
	}
	if err := by.ByHand(); err != nil {
		return api.Areas{}, err
	}
	next, err := read(s.k.View(ctx, by), n.Areas)
	if err != nil {
		return api.Areas{}, err
	}
	var out api.Areas
	err = workspace.ChangeSetting(ctx, s.k, by, access.ChangeAreas, workspace.AreasSetting, "the areas", version, []workspace.Area(nil), func(c *workspace.Change, before []workspace.Area, current int) error {
		for i := range next { // who set one that stays, and when, stays too
			next[i].SetBy, next[i].SetAt = c.By.Person.Address, c.Now()
			for _, b := range before {
				if b.Name == next[i].Name && b.Filter == next[i].Filter && slices.Equal(b.Powers, next[i].Powers) && slices.Equal(b.Helpers, next[i].Helpers) {
					next[i].SetBy, next[i].SetAt = b.SetBy, b.SetAt
				}
			}
		}
		from, err := lines(&c.View, before)
		if err != nil {
			return err
		}
		to, err := lines(&c.View, next)
		if err != nil {
			return err
		}
		if out, err = shape(&c.View, next, current+2); err != nil {
			return err
		}
		if slices.Equal(from, to) {
			c.Says("Nothing changes.")
			out.Version = current + 1
			return nil
		}
		c.Effect(api.Effect{Field: "areas", From: strings.Join(from, "; "), To: strings.Join(to, "; ")})
		says := []string{}
		for _, a := range out.Areas {
			says = append(says, fmt.Sprintf("%s has %s.", a.Name, number.Of(a.Groups, "group")))
		}
		if len(says) == 0 {
			says = append(says, "Nobody helps any more.")
		}
		c.Says(strings.Join(says, " "))
		if err := c.Tx.SaveSetting(workspace.AreasSetting, next, current+1); err != nil {
			return err
		}
		if err := tell(c, before, next); err != nil {
			return err
		}
		was, err := asSet(&c.View, before)
		if err != nil {
			return err
		}
		return c.Record(event.AreasChanged{Before: event.Was(was, current+2), From: from, To: to}, nil)
	})
	return out, err
}

// Held are the areas of the workspace, locked.
type Held struct {
	all     []workspace.Area
	version int
}

// Hold locks the areas, for what people lose who leave the organisation.
func Hold(c *workspace.Change) (h Held, err error) {
	h.version, err = c.Tx.LockSetting(workspace.AreasSetting, &h.all)
	return h, err
}

// Of returns the names of the areas in which somebody helps.
func (h Held) Of(person uuid.UUID) (names []string) {
	for _, a := range h.all {
		if slices.Contains(a.Helpers, person) {
			names = append(names, a.Name)
		}
	}
	return names
}

// Without takes people out of all areas: who returns helps in none before somebody says so again.
func (h Held) Without(c *workspace.Change, gone []uuid.UUID) error {
	next := make([]workspace.Area, len(h.all))
	changed := false
	for i, a := range h.all {
		next[i] = a
		next[i].Helpers = slices.DeleteFunc(slices.Clone(a.Helpers), func(id uuid.UUID) bool { return slices.Contains(gone, id) })
		changed = changed || len(next[i].Helpers) < len(a.Helpers)
	}
	if !changed {
		return nil
	}
	from, err := lines(&c.View, h.all)
	if err != nil {
		return err
	}
	to, err := lines(&c.View, next)
	if err != nil {
		return err
	}
	was, err := asSet(&c.View, h.all)
	if err != nil {
		return err
	}
	if err := c.Tx.SaveSetting(workspace.AreasSetting, next, h.version+1); err != nil {
		return err
	}
	return c.Record(event.AreasChanged{Before: event.Was(was, h.version+2), From: from, To: to}, nil)
}

// lines puts areas in words, for the history.
func lines(v *workspace.View, all []workspace.Area) ([]string, error) {
	var ids []uuid.UUID
	for _, a := range all {
		ids = append(ids, a.Helpers...)
	}
	who, err := v.Read.PeopleByID(ids)
	out := []string{}
	for _, a := range all {
		var names []string
		for _, id := range a.Helpers {
			names = append(names, who[id].Name)
		}
		powers := strings.Join(a.Powers, ", ")
		if powers == "" {
			powers = "look"
		}
		out = append(out, fmt.Sprintf("%s where %s: %s by %s", a.Name, a.Filter, powers, strings.Join(names, ", ")))
	}
	slices.Sort(out)
	return out, err
}

// tell writes to those who help in an area as they did not before, and to those who don't any more.
func tell(c *workspace.Change, before, next []workspace.Area) error {
	of := func(all []workspace.Area) map[uuid.UUID]map[string]string {
		out := map[uuid.UUID]map[string]string{}
		for _, a := range all {
			powers, _ := access.ParsePowers(a.Powers)
			for _, id := range a.Helpers {
				if out[id] == nil {
					out[id] = map[string]string{}
				}
				out[id][a.Name] = a.Filter + "\n" + strings.Join(powers.Names(), ", ")
			}
		}
		return out
	}
	was, is := of(before), of(next)
	var ids []uuid.UUID
	for _, a := range slices.Concat(before, next) {
		ids = append(ids, a.Helpers...)
	}
	slices.SortFunc(ids, func(a, b uuid.UUID) int { return strings.Compare(a.String(), b.String()) })
	ids = slices.Compact(ids)
	who, err := c.Read.PeopleByID(ids)
	if err != nil {
		return err
	}
	for _, id := range ids {
		p := who[id]
		if !p.Active {
			continue
		}
		lang, _, _ := strings.Cut(people.Fields(p)["preferredLanguage"], "-")
		send := func(kind, area, powers string) error {
			return c.Send(nil, []string{p.Address}, c.Letter(kind, lang, "/mine", map[string]string{"person": p.Name, "by": c.By.Name(), "area": area, "powers": powers, "address": p.Address}))
		}
		for _, a := range next {
			if now := is[id][a.Name]; now != "" && now != was[id][a.Name] {
				_, powers, _ := strings.Cut(now, "\n")
				if powers == "" {
					powers = "–"
				}
				if err := send(workspace.LetterHelps, a.Name, powers); err != nil {
					return err
				}
			}
		}
		for _, a := range before {
			if was[id][a.Name] != "" && is[id][a.Name] == "" {
				if err := send(workspace.LetterHelpOver, a.Name, ""); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
