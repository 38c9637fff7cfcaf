package joining

import (
	"context"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// MyPart describes the actor's own part in a group. Whoever is in it sees that, whether they can find the group or not; who can't is told
// neither what it says of itself nor who owns it.
func (s *Service) MyPart(ctx context.Context, by workspace.Actor, ref string) (api.OwnPart, error) {
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.OwnPart)
	if err != nil {
		return api.OwnPart{}, err
	}
	m, err := MemberOf(v, &g, by.Person, by.Subject(), g.Relation)
	if err != nil {
		return api.OwnPart{}, err
	}
	out, err := PartOf(v, &g.Group, by.Person, m)
	if !v.May(access.ReadGroup, &g) {
		out.Description, out.Owners = "", []string{}
	}
	return out, err
}

// PartOf describes somebody's part in a group, which they would leave as m.
func PartOf(v *workspace.View, g *store.Group, p store.Person, as admission.Member) (api.OwnPart, error) {
	out := api.OwnPart{Group: api.Name{Name: g.Name, Address: g.Address}, Description: g.Description, Person: api.Name{Name: p.Name, Address: p.Address}, Delivery: "none", State: "in", Owners: []string{}}
	owners, err := v.Read.Owners([]uuid.UUID{g.ID})
	if err != nil {
		return out, err
	}
	for _, o := range owners[g.ID] {
		if o.Active {
			out.Owners = append(out.Owners, o.Name)
		}
	}
	m, err := v.Read.Membership(g.ID, p.ID)
	if errors.Is(err, store.ErrNotFound) {
		out.State = "out"
		return out, nil
	} else if err != nil {
		return out, err
	}
	out.Role, out.Delivery, out.Until, out.Paused = m.Role.String(), m.Delivery(), v.LastDay(m.EndsAt), p.Paused(v.Now())
	if v.Ended(g) {
		out.State = "ended"
	}
	switch verdict := admission.Out(admission.Leaving, v.Door(g), as); verdict.Outcome {
	case admission.Admitted:
		out.Leaving = "free"
	case admission.Asked:
		out.Leaving = "asking"
	default:
		out.Leaving, out.Says = "fixed", fmt.Sprintf("%s You can write to them at %s.", verdict.Says, workspace.OwnersOf(g))
	}
	return out, nil
}
