package bulk

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// owners makes people owners, beside those there are or in their place.
type owners struct {
	plain
	api.OwnersChange
	people []store.Person
}

func (*owners) scope() access.Scope { return access.ScopePeople }

func (*owners) kind() string { return "owners" }
func (x *owners) says() string {
	var who []event.Who
	for _, p := range x.people {
		who = append(who, workspace.Who(p))
	}
	out := event.Of(who...).String() + " becomes an owner"
	if len(who) > 1 {
		out = event.Of(who...).String() + " become owners"
	}
	if x.Replace {
		out += ", in place of those there are"
	}
	return out
}

func (x *owners) check(v *workspace.View) error {
	var bad workspace.Problems
	for i, a := range x.Add {
		p, err := people.Find(v, a)
		if workspace.IsKind(err, workspace.NotFound) || err == nil && (p.External || !p.Active) {
			bad.Add(fmt.Sprintf("owners.add[%d]", i), workspace.Cut(a, 100), "Nobody who is here has the address %s.", workspace.Cut(a, 100))
		} else if err != nil {
			return err
		}
		x.Add[i], x.people = p.Address, append(x.people, p)
	}
	return bad.Err()
}

// find reads who becomes an owner. Somebody who has left meanwhile is refused in each group.
func (x *owners) find(v *workspace.View) error {
	if x.people != nil {
		return nil
	}
	for _, a := range x.Add {
		p, err := people.Find(v, a)
		if err != nil {
			return err
		}
		x.people = append(x.people, p)
	}
	return nil
}

// standing is where the people of a change stand in some groups.
type standing struct {
	roles  map[uuid.UUID]map[uuid.UUID]expand.Role // by person and group
	barred map[uuid.UUID]map[uuid.UUID]bool
	owners map[uuid.UUID][]store.OwnerRow // by group
}

func (x *owners) standing(v *workspace.View, groups []uuid.UUID) (s standing, err error) {
	if err := x.find(v); err != nil {
		return s, err
	}
	s = standing{map[uuid.UUID]map[uuid.UUID]expand.Role{}, map[uuid.UUID]map[uuid.UUID]bool{}, nil}
	for _, p := range x.people {
		if s.roles[p.ID], err = v.Read.Roles(p.ID, groups); err != nil {
			return s, err
		}
		if s.barred[p.ID], err = v.Read.BarredFrom(p.AddrKey, groups); err != nil {
			return s, err
		}
	}
	s.owners, err = v.Read.Owners(groups)
	return s, err
}

// others returns the owners of a group who are none of the people of the change.
func (x *owners) others(s standing, group uuid.UUID) (out []store.OwnerRow) {
	for _, o := range s.owners[group] {
		mine := false
		for _, p := range x.people {
			mine = mine || p.ID == o.MemberID
		}
		if !mine {
			out = append(out, o)
		}
	}
	return out
}

func (x *owners) decide(v *workspace.View, groups []store.Group) ([]verdict, error) {
	ids := make([]uuid.UUID, len(groups))
	for i, g := range groups {
		ids[i] = g.ID
	}
	s, err := x.standing(v, ids)
	if err != nil {
		return nil, err
	}
	return each(groups, func(g *store.Group) verdict {
		out := verdict{outcome: store.ItemSame}
		if x.Replace && len(x.others(s, g.ID)) > 0 {
			out.outcome = store.ItemChanged
		}
		d := v.Door(g)
		for _, p := range x.people {
			role := s.roles[p.ID][g.ID]
			who := admission.Candidate{Name: p.Name, Address: p.Address, Departed: !p.Active}
			if s.barred[p.ID][g.ID] {
				who.Override = policy.Barred
			}
			may := admission.In(admission.HandedOver, d, who, admission.As{Role: expand.Owner, Staff: true})
			if role == expand.Owner && may.Outcome == admission.Admitted {
				continue
			}
			if may.Outcome != admission.Admitted {
				return refused("%s", may.Says)
			}
			out.outcome = store.ItemChanged
		}
		return out
	})
}

// wasOwners is who owned a group before: the roles of those who became owners ("" for who was
// not in it), and who was one until then.
type wasOwners struct {
	Roles  map[uuid.UUID]string
	Former []uuid.UUID
}

func (x *owners) do(c *workspace.Change, groups []*workspace.Locked) (map[uuid.UUID]json.RawMessage, error) {
	ids := make([]uuid.UUID, len(groups))
	byID := make(map[uuid.UUID]*workspace.Locked, len(groups))
	for i, g := range groups {
		ids[i], byID[g.ID] = g.ID, g
	}
	s, err := x.standing(&c.View, ids)
	if err != nil {
		return nil, err
	}
	was := make(map[uuid.UUID]wasOwners, len(groups))
	facts := make(map[uuid.UUID]event.OwnersSet, len(groups))
	affected := map[uuid.UUID][]store.Affected{}
	for _, id := range ids {
		was[id] = wasOwners{Roles: map[uuid.UUID]string{}}
	}
	var rows []store.Membership
	for _, p := range x.people {
		var raised []uuid.UUID
		for _, id := range ids {
			g, role := byID[id], s.roles[p.ID][id]
			if role == expand.Owner {
				continue
			}
			if role == 0 {
				rows = append(rows, store.Membership{GroupID: id, MemberID: p.ID, Kind: store.KindPerson, Role: expand.Owner, Mail: g.DefaultMail, AddedAt: c.Now(), AddedBy: c.By.String()})
			} else {
				raised = append(raised, id)
				count(g, role, true, -1)
			}
			count(g, expand.Owner, true, +1)
			was[id].Roles[p.ID] = role.String()
			f := facts[id]
			f.New = append(f.New, workspace.Who(p))
			facts[id] = f
			affected[id] = append(affected[id], store.Affected{PersonID: p.ID, Was: role.String(), Now: expand.Owner.String()})
		}
		if err := errors.Join(c.Tx.SetRoles(p.ID, raised, expand.Owner), c.Tx.EndRequestsOf(p.ID, ids, store.ToJoin, c.Now()), c.Tx.CallBackInvitationsOf(p.AddrKey, ids, c.Now())); err != nil {
			return nil, err
		}
	}
	former := map[uuid.UUID][]uuid.UUID{} // by person
	for _, id := range ids {
		if !x.Replace {
			break
		}
		for _, o := range x.others(s, id) {
			former[o.MemberID] = append(former[o.MemberID], id)
			count(byID[id], expand.Owner, o.Active, -1)
			count(byID[id], expand.Member, o.Active, +1)
			w, f := was[id], facts[id]
			w.Former, f.Former = append(w.Former, o.MemberID), append(f.Former, event.Who{Name: o.Name, Address: o.Address})
			was[id], facts[id] = w, f
			affected[id] = append(affected[id], store.Affected{PersonID: o.MemberID, Was: expand.Owner.String(), Now: expand.Member.String()})
		}
	}
	for p, in := range former {
		if err := c.Tx.SetRoles(p, in, expand.Member); err != nil {
			return nil, err
		}
	}
	if err := c.Tx.AddMemberships(rows); err != nil {
		return nil, err
	}
	out := make(map[uuid.UUID]json.RawMessage, len(groups))
	for _, g := range groups {
		g.TouchOwned(affected[g.ID])
		if err := c.Save(g); err != nil {
			return nil, err
		}
		if err := c.Record(facts[g.ID], &g.Group.Group, affected[g.ID]...); err != nil {
			return nil, err
		}
		if out[g.ID], err = json.Marshal(was[g.ID]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// count keeps the counts of a group in step with a role that somebody, who is here or has
// left, has or no longer has.
func count(g *workspace.Locked, role expand.Role, here bool, by int) {
	switch {
	case !here:
		g.Departed += by
	case role == expand.Owner:
		g.Owners += by
	case role == expand.Moderator:
		g.Moderators += by
	default:
		g.Members += by
	}
}

// after tells those who became owners, each in one letter.
func (x *owners) after(c *workspace.Change, b *store.BulkChange) error {
	if err := x.find(&c.View); err != nil || b.Changed == 0 {
		return err
	}
	for _, p := range x.people {
		if err := tellOwner(c, p, b.Changed); err != nil {
			return err
		}
	}
	return nil
}

// tellOwner tells somebody that they own so many groups more.
func tellOwner(c *workspace.Change, p store.Person, groups int) error {
	if !p.Active || p.ID == c.By.Person.ID {
		return nil
	}
	lang, _, _ := strings.Cut(people.Fields(p)["preferredLanguage"], "-")
	l := c.Letter(workspace.LetterOwnsMany, lang, "/mine", map[string]string{"count": workspace.Counted(lang, groups, "group"), "by": c.By.Name(), "address": p.Address})
	return c.Send(nil, []string{p.Address}, l)
}

// left says whether owners are still as they were left.
func (x *owners) left(v *workspace.View, groups []store.Group, was map[uuid.UUID]json.RawMessage) ([]verdict, error) {
	ids := make([]uuid.UUID, len(groups))
	for i, g := range groups {
		ids[i] = g.ID
	}
	s, err := x.standing(v, ids)
	if err != nil {
		return nil, err
	}
	return each(groups, func(g *store.Group) verdict {
		var w wasOwners
		if json.Unmarshal(was[g.ID], &w) != nil {
			return refused("It is not known who owned it.")
		}
		for p := range w.Roles {
			if s.roles[p][g.ID] != expand.Owner {
				return refused("Its owners were changed since.")
			}
		}
		return verdict{outcome: store.ItemChanged}
	})
}

func (x *owners) back(c *workspace.Change, groups []*workspace.Locked, was map[uuid.UUID]json.RawMessage) error {
	for _, g := range groups {
		var w wasOwners
		if err := json.Unmarshal(was[g.ID], &w); err != nil {
			return err
		}
		ids := append([]uuid.UUID{}, w.Former...)
		for p := range w.Roles {
			ids = append(ids, p)
		}
		rows, err := c.Tx.LockMembers(g.ID, ids)
		if err != nil {
			return err
		}
		fact := event.OwnersSet{Undone: true}
		var affected []store.Affected
		for _, m := range rows {
			to := expand.Owner
			if before, ok := w.Roles[m.MemberID]; ok {
				to, _ = expand.ParseRole(before) // 0: they were not in it
			}
			if to == m.Role {
				continue
			}
			who := event.Who{Name: m.Name, Address: m.Address}
			count(g, m.Role, m.Active, -1)
			if to == 0 {
				err = c.Tx.DeleteMemberships(g.ID, []uuid.UUID{m.MemberID})
			} else {
				count(g, to, m.Active, +1)
				err = c.Tx.SetRole(g.ID, []uuid.UUID{m.MemberID}, to)
			}
			if err != nil {
				return err
			}
			if to == expand.Owner {
				fact.New = append(fact.New, who)
			} else {
				fact.Former = append(fact.Former, who)
			}
			affected = append(affected, store.Affected{PersonID: m.MemberID, Was: m.Role.String(), Now: to.String()})
		}
		g.TouchOwned(affected)
		if err := c.Save(g); err != nil {
			return err
		}
		if err := c.Record(fact, &g.Group.Group, affected...); err != nil {
			return err
		}
	}
	return nil
}
