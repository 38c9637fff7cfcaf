package member

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Before is what those whom an entry of the history affected go back to, beside the roles that it names.
type Before struct {
	Delivery string // which they had: each or none; "": it was not changed
	Out      bool   // they go, although the entry did not let them in

	At time.Time // of the entry: who came in after it came in again
}

// sameEntry is how long after an entry those whom it let in may stand in the group: each a microsecond after the one before.
const sameEntry = time.Second

// Back gives people of a group back what they had before an entry of the history affected them: their roles and their delivery, or that
// they were not in it. Whose part was changed since keeps it; the results say so.
func (s *Service) Back(ctx context.Context, by workspace.Actor, ref string, affected []store.Affected, before Before) (api.MembersChanged, error) {
	var out api.MembersChanged
	err := s.k.OnGroup(ctx, by, ref, access.ChangePeople, func(c *workspace.Change, g *workspace.Locked) error {
		if err := c.Alive(&g.Group.Group); err != nil {
			return err
		}
		ids := make([]uuid.UUID, len(affected))
		for i, a := range affected {
			ids[i] = a.PersonID
		}
		rows, err := c.Tx.LockMembers(g.ID, ids)
		if err != nil {
			return err
		}
		in := make(map[uuid.UUID]store.MemberRow, len(rows))
		for _, r := range rows {
			in[r.MemberID] = r
		}
		parts := map[change][]Target{}
		var order []change
		var left []Target // as they are
		for _, a := range affected {
			row, is := in[a.PersonID]
			t := Target{Given: row.Address, ID: a.PersonID, Row: row}
			switch {
			case !is:
				if t.Given, t.Row.Name, err = called(&c.View, a); err != nil {
					return err
				}
				t.Err = workspace.Fail(workspace.Conflict, "Is not in %s any more.", g.Name)
			case row.Role.String() != a.Now:
				t.Err = workspace.Fail(workspace.Conflict, "Is %s by now, not %s.", row.Role, a.Now)
			case a.Was == "" && !before.Out && row.AddedAt.After(before.At.Add(sameEntry)):
				t.Err = workspace.Fail(workspace.Conflict, "Came into %s again since.", g.Name)
			case before.Delivery != "" && row.Delivery() == before.Delivery:
				t.Err = workspace.Fail(workspace.Conflict, "Has chosen another delivery since.")
			}
			if t.Err != nil {
				left = append(left, t)
				continue
			}
			x := change{exit: admission.Removing, staff: true, remove: before.Out || a.Was == ""}
			if !x.remove {
				x.delivery = before.Delivery
				if a.Was != a.Now {
					x.role, _ = expand.ParseRole(a.Was)
				}
			}
			if parts[x] == nil {
				order = append(order, x)
			}
			parts[x] = append(parts[x], t)
		}
		all := left
		owners, err := activeOwners(&c.View, g.ID)
		if err != nil {
			return err
		}
		slices.SortStableFunc(order, func(a, b change) int { return int(b.role) - int(a.role) }) // who becomes an owner first, so that none is the last
		for _, x := range order {
			if err := applyKnowing(c, g, parts[x], x, owners); err != nil {
				return err
			}
			all = append(all, parts[x]...)
		}
		out.Changed = report(c, all, func(t *Target) bool { return t.to == "" })
		out.Results = c.Report.Sample
		out.Says = fmt.Sprintf("%d of %d in %s go back to what they were.", out.Changed, len(all), g.Name)
		c.Says(out.Says)
		if out.Changed == 0 && !c.Previewing() {
			return workspace.Fail(workspace.Conflict, "Nobody in %s is as the entry left them. %s", g.Name, firstSays(out.Results))
		}
		return nil
	})
	return out, err
}

func firstSays(lines []api.Line) string {
	for _, l := range lines {
		if l.Says != "" {
			return fmt.Sprintf("%s: %s", l.Given, l.Says)
		}
	}
	return ""
}

// called says how somebody or a group that an entry affected is called by now.
func called(v *workspace.View, a store.Affected) (address, name string, err error) {
	if a.Label != nil {
		return *a.Label, "", nil
	}
	people, err := v.Read.PeopleByID([]uuid.UUID{a.PersonID})
	p := people[a.PersonID]
	return p.Address, p.Name, err
}
