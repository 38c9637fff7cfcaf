package member

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Move puts somebody into groups and takes them out of others, as one change: into those that are
// named, and into those that a colleague is in. Each group decides by its own rules; the results
// say what became of each.
func (s *Service) Move(ctx context.Context, by workspace.Actor, ref string, m api.Moves) (out api.Moved, err error) {
	if err := by.Allow(access.SearchPeople); err != nil {
		return out, err
	}
	v := s.k.View(ctx, by)
	p, err := people.Find(v, ref)
	if err != nil {
		return out, err
	}
	if (p.External || !p.Active) && by.Allow(access.ReadDeparted) != nil {
		return out, workspace.Fail(workspace.NotFound, "There is nobody %q in the workspace. Give an address or an identifier.", workspace.Cut(ref, 100))
	}
	if _, err := ParseUntil(v, m.Until); err != nil {
		return out, err
	}
	if len(m.Join) == 0 && len(m.Leave) == 0 && m.Like == "" {
		return out, workspace.Wrong("join", nil, "Say what to do: groups to join, groups to leave, or a colleague in whose groups they are to be.")
	}
	steps, err := planned(v, p, m)
	if err != nil {
		return out, err
	}
	err = workspace.Once(ctx, s.k, by, []any{p.ID, m}, &out, func(c *workspace.Change) error {
		end, err := ParseUntil(&c.View, m.Until)
		if err != nil {
			return err
		}
		var ids []uuid.UUID
		for _, x := range steps {
			if x.group.ID != uuid.Nil {
				ids = append(ids, x.group.ID)
			}
		}
		locked, err := c.Tx.LockGroups(ids)
		if err != nil {
			return err
		}
		c.Now()
		if err := c.RefreshActor(); err != nil {
			return err
		}
		joined, left := 0, 0
		lines := make([]api.Line, len(steps))
		for i, x := range steps {
			lines[i] = x.line
			if x.group.ID == uuid.Nil || x.settled {
				continue
			}
			if err := x.do(c, p, locked[x.group.ID], end, &lines[i]); err != nil {
				return err
			}
			switch lines[i].Outcome {
			case "added":
				joined++
			case "removed":
				left++
			}
		}
		r := c.Report
		r.Sample, r.Total, r.Ready = lines, len(lines), joined+left
		c.Says(fmt.Sprintf("%s comes into %s and goes out of %d.", p.Name, number.Of(joined, "group"), left))
		out = api.Moved{Results: lines, Changed: joined + left, Says: r.Says}
		return nil
	})
	return out, err
}

// moveStep is what is to be done about one group.
type moveStep struct {
	group   store.Group // zero: there is none that the actor can find
	leave   bool
	role    expand.Role
	settled bool // there is nothing to do; the line says why
	line    api.Line
}

// planned reads which groups somebody is to come into and go out of.
func planned(v *workspace.View, p store.Person, m api.Moves) ([]moveStep, error) {
	var steps []moveStep
	var refs []string
	for _, j := range m.Join {
		role, ok := expand.ParseRole(j.Role)
		if !ok && j.Role != "" {
			return nil, workspace.Wrong("join", j.Role, "There is no role %q: choose owner, moderator, member.", j.Role)
		}
		steps = append(steps, moveStep{role: max(role, expand.Member)})
		refs = append(refs, j.Group)
	}
	for _, ref := range m.Leave {
		steps = append(steps, moveStep{leave: true})
		refs = append(refs, ref)
	}
	found, err := named(v, refs)
	if err != nil {
		return nil, err
	}
	seen := map[uuid.UUID]bool{}
	for i := range steps {
		x := &steps[i]
		g, ok := found[i]
		if !ok {
			x.line = api.Line{Given: workspace.Cut(refs[i], 200), Outcome: "refused", Status: "unknown", Says: "There is no group here that you can find."}
			continue
		}
		x.group = g.Group
		x.line = api.Line{Name: g.Name, Address: g.Address}
		if seen[g.ID] {
			x.settled, x.line.Outcome, x.line.Status, x.line.Says = true, "already", "repeated", "The group is named twice."
		}
		seen[g.ID] = true
	}
	if m.Like == "" {
		return steps, nil
	}
	more, err := like(v, p, m, seen)
	return append(steps, more...), err
}

// named finds the groups that the actor can find by their addresses, local parts or identifiers.
func named(v *workspace.View, refs []string) (map[int]workspace.Group, error) {
	domains, err := v.Domains()
	if err != nil {
		return nil, err
	}
	ids, keys := map[int]uuid.UUID{}, map[int]string{}
	var all []string
	for i, ref := range refs {
		if id, err := uuid.Parse(ref); err == nil {
			ids[i] = id
			continue
		}
		a, err := mailaddr.Parse(ref)
		if err != nil && len(domains) > 0 {
			a, err = mailaddr.Parse(ref + "@" + domains[0])
		}
		if err == nil {
			keys[i], all = a.Key(), append(all, a.Key())
		}
	}
	groups, err := v.Read.GroupsByKeys(all)
	if err != nil {
		return nil, err
	}
	var wanted []uuid.UUID
	for i, k := range keys {
		if g, ok := groups[k]; ok {
			ids[i] = g.ID
		}
	}
	for _, id := range ids {
		wanted = append(wanted, id)
	}
	visible, err := v.Visible(wanted)
	out := map[int]workspace.Group{}
	for i, id := range ids {
		if g, ok := visible[id]; ok {
			out[i] = g
		}
	}
	return out, err
}

// like reads the groups of a colleague, as far as the actor sees that they are in them, without those
// that are named already.
func like(v *workspace.View, p store.Person, m api.Moves, seen map[uuid.UUID]bool) ([]moveStep, error) {
	other, err := people.Find(v, m.Like)
	if err != nil || other.External && v.By.Allow(access.ReadDeparted) != nil {
		return nil, workspace.Wrong("like", workspace.Cut(m.Like, 320), "There is nobody %q in the workspace.", workspace.Cut(m.Like, 100))
	}
	if other.ID == p.ID {
		return nil, workspace.Wrong("like", m.Like, "%s is in their own groups already. Name a colleague.", p.Name)
	}
	rows, err := v.Read.GroupsOf(other.ID)
	if err != nil {
		return nil, err
	}
	var ids []uuid.UUID
	for _, r := range rows {
		ids = append(ids, r.GroupID)
	}
	visible, err := v.Visible(ids)
	if err != nil {
		return nil, err
	}
	var out []moveStep
	for _, r := range rows {
		g, ok := visible[r.GroupID]
		if !ok || r.Ended || seen[r.GroupID] || other.ID != v.By.Person.ID && !v.May(access.SeePeople, &g) {
			continue
		}
		x := moveStep{group: g.Group, role: expand.Member, line: api.Line{Name: r.Name, Address: r.Address}}
		if m.Roles {
			x.role = r.Role
		}
		if r.Ruled() {
			x.settled, x.line.Outcome, x.line.Status, x.line.Says = true, "same", "rule", fmt.Sprintf("%s is in it by its rule. Whoever matches the rule comes in by themselves.", other.Name)
		}
		out = append(out, x)
	}
	return out, nil
}

// do carries out one step. An error of it ends the change; what the group does not allow is said in
// the line.
func (x moveStep) do(c *workspace.Change, p store.Person, g store.Group, end *time.Time, line *api.Line) error {
	refuse := func(err error) error {
		var no *workspace.Error
		if !errors.As(err, &no) {
			return err
		}
		line.Outcome, line.Says = "refused", no.Says
		return nil
	}
	if g.ID == uuid.Nil {
		line.Outcome, line.Says = "refused", "It is gone."
		return nil
	}
	if x.leave {
		held, err := c.Allowed(g, g.Address, access.ReadGroup)
		if err != nil {
			return refuse(err)
		}
		exit := admission.Removing
		if c.By.Person.ID == p.ID {
			exit = admission.Leaving
		} else if !c.May(access.ChangePeople, &held.Group) {
			line.Outcome, line.Says = "refused", access.ChangePeople.Refusal()
			return nil
		}
		if err := TakeOut(c, held, p.ID, exit); err != nil {
			return refuse(err)
		}
		line.Outcome = "removed"
		return nil
	}
	held, err := c.Allowed(g, g.Address, access.AddPeople)
	if err == nil {
		err = c.Alive(&held.Group.Group)
	}
	if err != nil {
		return refuse(err)
	}
	results := Oneself(p, x.role)
	results[0].Ends = end
	if err := Admit(&c.View, &held.Group.Group, results, admission.Adding, admission.As{Staff: staff(&c.View, &held.Group)}); err != nil {
		return err
	}
	err = Enter(c, held, results, Entrance{})
	r := results[0]
	line.Outcome, line.Status, line.Says, line.Role = r.Outcome, r.Status, r.Says, x.role.String()
	return err
}
