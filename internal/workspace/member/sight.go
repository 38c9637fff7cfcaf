package member

import (
	"cmp"
	"slices"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Sight is who is in a group, as far as the actor sees it: what nested groups don't show them
// counts for nobody, so that no answer about somebody tells that they are in there.
type Sight struct {
	Hidden string // says that there are people in it whom the actor doesn't see

	v      *workspace.View
	group  *workspace.Group
	reach  reach
	shown  []uuid.UUID
	groups map[uuid.UUID]workspace.Group
}

// Place is where somebody stands with a group.
type Place struct {
	Relation access.Relation
	Through  []string  // names of nested groups by which they are in it
	Added    time.Time // to the group itself; zero for nobody of its own
	ByRule   bool
}

// Look returns who is in a group, as far as the actor sees it.
func Look(v *workspace.View, g *workspace.Group) (*Sight, error) {
	s := &Sight{v: v, group: g}
	if !v.May(access.SeePeople, g) {
		s.Hidden = "This group does not show you who is in it: everybody else counts as a colleague here."
		return s, nil
	}
	var err error
	if s.reach, err = reachOf(v, &g.Group, store.AsOf{}); err != nil {
		return nil, err
	}
	s.shown, s.groups, s.Hidden, err = s.reach.shown(v)
	if s.Hidden != "" {
		s.Hidden = "Some of its people are in nested groups that you can't see: they count as members, which is not shown here."
	}
	return s, err
}

// Groups are the groups whose people the actor sees, the group itself first.
func (s *Sight) Groups() []uuid.UUID { return s.shown }

// Places returns where people stand, by who they are. The actor sees their own place whatever the
// group shows.
func (s *Sight) Places(people []store.Person) (map[uuid.UUID]Place, error) {
	ids := make([]uuid.UUID, len(people))
	for i, p := range people {
		ids[i] = p.ID
	}
	var rows []store.Membership
	if len(s.shown) > 0 {
		var err error
		if rows, err = s.v.Read.Among(s.shown, ids); err != nil {
			return nil, err
		}
	}
	of := make(map[uuid.UUID][]store.Membership, len(rows))
	for _, m := range rows {
		of[m.MemberID] = append(of[m.MemberID], m)
	}
	out := make(map[uuid.UUID]Place, len(people))
	for _, p := range people {
		var place Place
		var own expand.Role
		inside := false
		for _, m := range of[p.ID] {
			switch {
			case m.GroupID == s.group.ID:
				own, place.Added, place.ByRule = m.Role, m.AddedAt, m.ByRule
			case !p.External || s.reach.open[m.GroupID]:
				inside = true
				place.Through = append(place.Through, cmp.Or(s.groups[m.GroupID].Name, hiddenGroup))
			}
		}
		slices.Sort(place.Through)
		place.Relation = access.RelationOf(own, inside, p.External)
		if p.ID == s.v.By.Person.ID {
			place.Relation = s.group.Relation
		}
		out[p.ID] = place
	}
	return out, nil
}
