package workspace

import (
	"slices"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
)

// tellOfOneself tells the owners of groups that an administrator put themselves into these, or into a role, by whichever way: it is told from what
// was recorded. That is never quiet, since by it they read what only the group reads. Owners whose place they took are told too.
func (c *Change) tellOfOneself() error {
	if !c.By.Administers() {
		return nil
	}
	me := c.By.Person.ID
	roles, replaced := map[uuid.UUID]expand.Role{}, map[uuid.UUID][]uuid.UUID{} // by group
	var groups, raised, gone []uuid.UUID
	for i, e := range c.events {
		if e.GroupID == nil || e.Kind == string(event.GroupCreated{}.Kind()) {
			continue
		}
		for _, a := range c.affected[i] {
			was, _ := expand.ParseRole(a.Was)
			now, _ := expand.ParseRole(a.Now)
			switch {
			case a.PersonID == me && now > was:
				if roles[*e.GroupID] == 0 {
					groups = append(groups, *e.GroupID)
				}
				roles[*e.GroupID] = now
				if was != 0 {
					raised = append(raised, *e.GroupID)
				}
			case was == expand.Owner && now != expand.Owner:
				replaced[*e.GroupID] = append(replaced[*e.GroupID], a.PersonID)
				gone = append(gone, a.PersonID)
			}
		}
	}
	if len(groups) == 0 {
		return nil
	}
	if err := c.Tx.Appoint(raised, me, c.By.String(), c.Now()); err != nil {
		return err
	}
	rows, err := c.Read.GroupsByID(groups)
	if err != nil {
		return err
	}
	owners, err := c.Read.Owners(groups)
	if err != nil {
		return err
	}
	former, err := c.Read.PeopleByID(gone)
	if err != nil {
		return err
	}
	for _, id := range groups {
		g, there := rows[id]
		if !there || g.CreatedAt.Equal(c.Now()) { // they found it
			continue
		}
		var to []string
		for _, o := range owners[id] {
			if o.Active && o.MemberID != me {
				to = append(to, o.Address)
			}
		}
		for _, p := range replaced[id] {
			if x := former[p]; x.Active && p != me {
				to = append(to, x.Address)
			}
		}
		l := c.GroupLetter(LetterSelfAppointed, &g, GroupPath(&g, "people"), map[string]string{"by": c.By.Name(), "role": RoleIn(g.Language, roles[id].String())})
		if err := c.Send(&g, slices.Compact(slices.Sorted(slices.Values(to))), l); err != nil {
			return err
		}
	}
	return nil
}
