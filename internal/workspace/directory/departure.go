package directory

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/area"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"
	"ivytable.example/ivytable/internal/workspace/rules"
)

// Depart marks that somebody has left the organisation: they can't sign in, get no
// mail, and leave the groups that they were in by rule. What only they own goes to a
// successor, or is left to the caretaker, who is told.
func (s *Service) Depart(ctx context.Context, by workspace.Actor, ref string, d api.Departure, version int) (api.PersonDetails, error) {
	none := api.PersonDetails{}
	if err := by.Allow(access.ChangeDirectory); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	found, err := people.Find(v, ref)
	if err != nil {
		return none, err
	}
	if found.External {
		return none, workspace.Fail(workspace.Conflict, "%s is an address outside the workspace. Take it out of its groups instead.", found.Address)
	}
	ids := []uuid.UUID{found.ID}
	var successor store.Person
	if d.Successor != "" {
		successor, err = people.Find(v, d.Successor)
		if err != nil || !successor.Active || successor.External || successor.ID == found.ID {
			return none, noSuccessor(d.Successor)
		}
		ids = append(ids, successor.ID)
	}
	by.Key = ""
	err = s.change(ctx, by, nil, &made{}, func(c *workspace.Change, book *rules.Book) error {
		areas, err := area.Hold(c)
		if err != nil {
			return err
		}
		locked, err := c.Tx.LockPeople(ids)
		if err != nil {
			return err
		}
		p := locked[found.ID]
		if version > 0 && version != p.Version {
			return workspace.StaleGroup(p.Name, version, p.Version)
		}
		if !p.Active {
			return workspace.Fail(workspace.Conflict, "%s has left already.", p.Name)
		}
		if successor.ID != uuid.Nil && !locked[successor.ID].Active {
			return noSuccessor(d.Successor)
		}
		if isAdministrator(p) {
			if err := keepAdministrators(c, p, 1); err != nil {
				return err
			}
		}
		if err := c.Allow(access.ChangeDirectory); err != nil {
			return err
		}
		return depart(c, book, []store.Person{p}, locked[successor.ID], areas, p.Name+" left the organisation", nil, nil)
	})
	return s.details(ctx, by, found.ID, err)
}

func noSuccessor(given string) error {
	return workspace.Wrong("successor", workspace.Cut(given, 320), "Nobody else who is here has the address %s.", workspace.Cut(given, 100))
}

// depart marks people, who are locked, as departed, sees to what only they own, and lets
// rules follow. Others return in the same change, and more groups are locked with those of both.
//
// Their roles in the workspace, delegations, passwords and links end, and don't come back with them: somebody has to give them again.
func depart(c *workspace.Change, book *rules.Book, who []store.Person, successor store.Person, areas area.Held, cause string, returned []store.Person, more []uuid.UUID) error {
	if err := tellDeparture(c, who, successor, areas); err != nil {
		return err
	}
	now := c.Now()
	gone := slices.Clone(who)
	ids := make([]uuid.UUID, len(gone))
	at := make(map[uuid.UUID]int, len(gone))
	facts := make([]event.PersonDeparted, len(gone))
	var paths []string
	for i := range gone {
		before := gone[i]
		gone[i].Active, gone[i].DepartedAt, gone[i].WorkspaceRole, gone[i].PasswordHash = false, &now, "", ""
		ids[i], at[gone[i].ID], facts[i] = gone[i].ID, i, event.PersonDeparted{Of: workspace.Who(gone[i]), Role: before.WorkspaceRole}
		if i == 0 {
			paths = rules.ChangedPaths(before, gone[i])
		}
	}
	if err := c.Tx.SavePeople(gone, nil); err != nil {
		return err
	}
	if err := c.Tx.EndAccess(gone); err != nil {
		return err
	}
	if err := areas.Without(c, ids); err != nil {
		return err
	}
	h, err := newHeirs(&c.View, gone)
	if err != nil {
		return err
	}
	moves, err := book.Plan(c, gone, paths)
	if err != nil {
		return err
	}
	handed, err := handedGroups(&c.View, returned)
	if err != nil {
		return err
	}
	left, err := c.Tx.LockOrphanedBy(ids, slices.Concat(moves.Groups(), more, handed))
	if err != nil {
		return err
	}
	for _, g := range left {
		f := &facts[at[g.Owner]]
		to, byRule := successor, false
		if successor.ID == uuid.Nil {
			row, err := c.Tx.LockGroup(g.GroupID)
			if err != nil {
				return err
			}
			if to, byRule, err = h.owner(&c.View, &row, g.Owner); err != nil {
				return err
			}
			if byRule {
				role, err := c.Read.Roles(to.ID, []uuid.UUID{g.GroupID})
				if err != nil {
					return err
				}
				h.rows = append(h.rows, store.Handover{PersonID: g.Owner, GroupID: g.GroupID, Kind: store.HandedOwner, SubjectID: g.GroupID, ToID: to.ID, Was: role[g.GroupID], ChangeID: c.ID(), At: now})
			} else {
				to = store.Person{}
			}
		}
		who := event.Who{Name: g.Name, Address: g.Address}
		if byRule {
			f.Handed = append(f.Handed, event.Handed{Group: who, To: workspace.Who(to)})
		} else if f.Left = append(f.Left, who); successor.ID != uuid.Nil {
			f.HandedTo = workspace.Who(successor)
		}
		if err := handOver(c, g.GroupID, gone[at[g.Owner]], to); err != nil {
			return err
		}
	}
	if err := h.vouchers(c); err != nil {
		return err
	}
	if err := member.VouchersLeft(c, gone); err != nil { // what is left to nobody
		return err
	}
	if err := c.Tx.AddHandovers(h.rows); err != nil {
		return err
	}
	if err := putBack(c, returned); err != nil {
		return err
	}
	for i, f := range facts {
		if err := c.Record(f, nil, store.Affected{PersonID: ids[i]}); err != nil {
			return err
		}
	}
	return moves.Apply(c, cause)
}

// tellDeparture says what it does that people leave.
func tellDeparture(c *workspace.Change, who []store.Person, successor store.Person, areas area.Held) error {
	if len(who) != 1 {
		return nil
	}
	rows, err := c.Read.GroupsOf(who[0].ID)
	if err != nil {
		return err
	}
	h, err := newHeirs(&c.View, who)
	if err != nil {
		return err
	}
	in, owned, last, handed := 0, 0, 0, 0
	for _, r := range rows {
		if r.Ended {
			continue
		}
		in++
		if r.Role != expand.Owner {
			continue
		}
		if owned++; r.Owners == 1 {
			last++
			l := api.Line{Name: r.Name, Address: r.Address, Role: r.Role.String(), Outcome: "ownerless", Says: "Nobody else owns it."}
			if successor.ID != uuid.Nil {
				l.Outcome, l.To, l.Says = "handed_over", successor.Address, ""
			} else if g, err := c.Read.Group(r.GroupID); err != nil {
				return err
			} else if to, ok, err := h.owner(&c.View, &g, who[0].ID); err != nil {
				return err
			} else if ok {
				l.Outcome, l.To, l.Says = "handed_over", to.Address, "By the rules for departures."
				handed++
			}
			c.Report.Sample = append(c.Report.Sample, l)
		}
	}
	c.Report.Total = last
	c.Says(fmt.Sprintf("%s is in %s and owns %d of them. Their mail stops and they can no longer sign in; if they return, they are in their groups again.", who[0].Name, number.Of(in, "group"), owned))
	ends := []string{"Their password"}
	if role := who[0].WorkspaceRole; role != "" {
		ends = append(ends, "their role "+role)
	}
	for _, name := range areas.Of(who[0].ID) {
		ends = append(ends, "their delegation "+name)
	}
	verb := "ends and does"
	if len(ends) > 1 {
		ends[len(ends)-2] += " and " + ends[len(ends)-1]
		ends, verb = ends[:len(ends)-1], "end and do"
	}
	c.Report.Says += fmt.Sprintf(" %s %s not come back with them.", strings.Join(ends, ", "), verb)
	switch {
	case last > 0 && successor.ID == uuid.Nil:
		if handed > 0 {
			c.Report.Says += fmt.Sprintf(" By the rules %d that nobody else owns go to others.", handed)
		}
		if last > handed {
			c.Report.Says += fmt.Sprintf(" %d would have no active owner: name who takes them over.", last-handed)
		}
	case last > 0:
		c.Report.Says += fmt.Sprintf(" %s takes over %d that nobody else owns.", successor.Name, last)
	}
	return nil
}

// handOver sees to a group, which is locked, that its last owner p leaves. The successor
// owns it from now on; without one its caretaker is told.
func handOver(c *workspace.Change, id uuid.UUID, p, successor store.Person) error {
	locked, err := c.Tx.LockGroup(id)
	if err != nil {
		return err
	}
	g := workspace.Hold(locked)
	path := workspace.GroupPath(&g.Group.Group, "people")
	if successor.ID == uuid.Nil {
		to, err := c.Caretakers(&g.Group.Group)
		if err != nil {
			return err
		}
		return c.Send(&g.Group.Group, to, c.GroupLetter(workspace.LetterOwnerless, &g.Group.Group, path, map[string]string{"person": p.Name}))
	}
	if err := member.MakeOwner(c, g, successor); err != nil {
		return err
	}
	return c.Send(&g.Group.Group, []string{successor.Address}, c.GroupLetter(workspace.LetterHandedOver, &g.Group.Group, path, map[string]string{"person": p.Name, "by": c.By.Name()}))
}

// Return marks that somebody who had left is here again. They are in their groups as
// before, and rules of membership take them in at once.
func (s *Service) Return(ctx context.Context, by workspace.Actor, ref string, version int) (api.PersonDetails, error) {
	none := api.PersonDetails{}
	if err := by.Allow(access.ChangeDirectory); err != nil {
		return none, err
	}
	found, err := people.Find(s.k.View(ctx, by), ref)
	if err != nil {
		return none, err
	}
	by.Key = ""
	err = s.change(ctx, by, nil, &made{}, func(c *workspace.Change, book *rules.Book) error {
		p, err := c.Tx.LockPerson(found.ID)
		if err != nil {
			return err
		}
		if err := c.Allow(access.ChangeDirectory); err != nil {
			return err
		}
		if version > 0 && version != p.Version {
			return workspace.StaleGroup(p.Name, version, p.Version)
		}
		if p.Active {
			return workspace.Fail(workspace.Conflict, "%s is here already.", p.Name)
		}
		if err := notErased(p); err != nil {
			return err
		}
		if p.Released() {
			return workspace.Fail(workspace.Conflict, "Somebody else has the address %s by now. Give %s another one first, by the identifier %s.", p.Address, p.Name, p.ID)
		}
		before := p
		p.Active, p.DepartedAt, p.WorkspaceRole, p.PasswordHash = true, nil, "", ""
		c.Says(fmt.Sprintf("%s is here again, in their groups as before. They have no role in the workspace, no delegation and no password: give them what they need again.", p.Name))
		if err := c.Tx.SavePerson(&p, false); err != nil {
			return err
		}
		if err := c.Tx.EndAccess([]store.Person{p}); err != nil { // also what was made while they left
			return err
		}
		if err := c.Record(event.PersonReturned{Of: workspace.Who(p)}, nil, store.Affected{PersonID: p.ID}); err != nil {
			return err
		}
		return comeBack(c, book, []store.Person{p}, []store.Person{p}, rules.ChangedPaths(before, p), p.Name+" returned")
	})
	return s.details(ctx, by, found.ID, err)
}
