package bulk

import (
	"encoding/json"
	"errors"
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

// aliases gives groups further addresses, or takes some away.
type aliases struct {
	plain
	api.AliasesChange
}

func (*aliases) scope() access.Scope { return access.ScopeGroups }

func (*aliases) kind() string { return "aliases" }
func (x *aliases) says() string {
	switch {
	case x.AddIn != "":
		return "they can be written to at " + x.AddIn + ", too"
	case x.RemoveIn != "":
		return "they lose their further addresses at " + x.RemoveIn
	}
	return fmt.Sprintf("they lose the further addresses to which no mail came for %s", number.Of(x.UnusedDays, "day"))
}

func (x *aliases) check(v *workspace.View) error {
	said := 0
	for _, is := range []bool{x.AddIn != "", x.RemoveIn != "", x.UnusedDays != 0} {
		if is {
			said++
		}
	}
	if said != 1 {
		return workspace.Wrong("aliases", nil, "Say one thing of their further addresses: add_in, remove_in or unused_days.")
	}
	domains, err := v.Domains()
	if err != nil {
		return err
	}
	x.AddIn, x.RemoveIn = strings.ToLower(strings.TrimPrefix(x.AddIn, "@")), strings.ToLower(strings.TrimPrefix(x.RemoveIn, "@"))
	var bad workspace.Problems
	if x.AddIn != "" && !slices.Contains(domains, x.AddIn) {
		bad.Add("aliases.add_in", workspace.Cut(x.AddIn, 100), "%q is no mail domain of the workspace. There are: %s.", workspace.Cut(x.AddIn, 100), strings.Join(domains, ", "))
	}
	if x.RemoveIn != "" && !slices.Contains(domains, x.RemoveIn) {
		bad.Add("aliases.remove_in", workspace.Cut(x.RemoveIn, 100), "%q is no mail domain of the workspace. There are: %s.", workspace.Cut(x.RemoveIn, 100), strings.Join(domains, ", "))
	}
	if x.UnusedDays != 0 && (x.UnusedDays < 7 || x.UnusedDays > 3650) {
		bad.Add("aliases.unused_days", x.UnusedDays, "It has to be from 7 to 3650 days.")
	}
	return bad.Err()
}

// wasAliases are the further addresses of a group before a change, and after it.
type wasAliases struct{ From, To []string }

// of returns what the further addresses of groups are and become, by group.
func (x *aliases) of(v *workspace.View, groups []store.Group) (map[uuid.UUID]wasAliases, error) {
	ids := make([]uuid.UUID, len(groups))
	for i, g := range groups {
		ids[i] = g.ID
	}
	all, err := v.Read.AliasUse(ids)
	if err != nil {
		return nil, err
	}
	out := make(map[uuid.UUID]wasAliases, len(groups))
	for _, g := range groups {
		w := wasAliases{[]string{}, []string{}}
		for _, a := range all[g.ID] {
			w.From = append(w.From, a.Address)
			unused := x.UnusedDays > 0 && !a.LastUsed().After(v.Now().AddDate(0, 0, -x.UnusedDays))
			if !unused && (x.RemoveIn == "" || !strings.HasSuffix(a.Address, "@"+x.RemoveIn)) {
				w.To = append(w.To, a.Address)
			}
		}
		if to := naming.LocalOf(g.Address) + "@" + x.AddIn; x.AddIn != "" && to != g.Address && !slices.Contains(w.To, to) {
			w.To = append(w.To, to)
			slices.Sort(w.To)
		}
		out[g.ID] = w
	}
	return out, nil
}

func (x *aliases) decide(v *workspace.View, groups []store.Group) ([]verdict, error) {
	of, err := x.of(v, groups)
	if err != nil {
		return nil, err
	}
	out := make([]verdict, len(groups))
	for i := range groups {
		if out[i], err = moved(v, &groups[i], of[groups[i].ID]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// moved says whether a group can have other further addresses: those that it gets have to be free.
func moved(v *workspace.View, g *store.Group, w wasAliases) (verdict, error) {
	if slices.Equal(w.From, w.To) {
		return verdict{outcome: store.ItemSame}, nil
	}
	more := slices.DeleteFunc(slices.Clone(w.To), func(a string) bool { return slices.Contains(w.From, a) })
	var bad workspace.Problems
	if _, err := naming.CheckAliases(v, more, g.Address, g.ID, &bad); err != nil {
		return verdict{}, err
	}
	if e := new(workspace.Error); errors.As(bad.Err(), &e) && len(e.Problems) > 0 {
		return refused("%s", e.Problems[0].Says), nil
	}
	return verdict{outcome: store.ItemChanged}, nil
}

func (x *aliases) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	rows := make([]store.Group, len(groups))
	for i, g := range groups {
		rows[i] = g.Group.Group
	}
	of, err := x.of(&c.View, rows)
	if err != nil {
		return nil, err
	}
	was := make(map[uuid.UUID]json.RawMessage, len(groups))
	for _, g := range groups {
		w := of[g.ID]
		if err := errors.Join(setAliases(c, g, w.From, w.To), keep(was, g.ID, w)); err != nil {
			return nil, err
		}
	}
	return was, nil
}

func setAliases(c *workspace.Change, g *workspace.Locked, from, to []string) error {
	g.Touch()
	if err := c.Tx.SetAddresses(&g.Group.Group, to, c.Now()); err != nil {
		return err
	}
	if err := c.Save(g); err != nil {
		return err
	}
	return c.Record(event.GroupChanged{Changed: []event.Change{{Field: "aliases", From: strings.Join(from, ", "), To: strings.Join(to, ", ")}}}, &g.Group.Group)
}

func (x *aliases) left(v *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	of, err := x.of(v, groups)
	if err != nil {
		return nil, err
	}
	out := make([]verdict, len(groups))
	for i := range groups {
		g := &groups[i]
		var w wasAliases
		if json.Unmarshal(was[g.ID], &w) != nil || !slices.Equal(w.To, of[g.ID].From) {
			out[i] = refused("Its further addresses were changed since.")
		} else if out[i], err = moved(v, g, wasAliases{w.To, w.From}); err != nil {
			return nil, err
		}
	}
	return out, nil
}

func (*aliases) back(c *workspace.Change, groups []*workspace.Locked, was map[uuid.UUID]json.RawMessage) error {
	for _, g := range groups {
		var w wasAliases
		if err := json.Unmarshal(was[g.ID], &w); err != nil {
			return err
		}
		if err := setAliases(c, g, w.To, w.From); err != nil {
			return err
		}
	}
	return nil
}
