package directory

import (
	"context"
	"strings"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Back takes changes of somebody's entry back, where none of its fields was changed since.
func (s *Service) Back(ctx context.Context, by workspace.Actor, ref string, changes []event.Change) (api.PersonDetails, error) {
	p, err := people.Find(s.k.View(ctx, by), ref)
	if err != nil {
		return api.PersonDetails{}, err
	}
	patch := api.PersonPatch{Attributes: map[string]string{}}
	fields := people.Fields(p)
	for _, x := range changes {
		now := fields[x.Field]
		switch x.Field {
		case "name":
			now, patch.Name = p.Name, &x.From
		case "address":
			now, patch.Address = p.Address, &x.From
		case "workspace_role":
			role := x.From
			if role == "" {
				role = noRole
			}
			now, patch.WorkspaceRole = p.WorkspaceRole, &role
		case "former_addresses":
			return api.PersonDetails{}, workspace.Fail(workspace.Conflict, "Addresses that lead to nobody any more may be others' by now. Set them by hand.")
		default:
			patch.Attributes[x.Field] = x.From
		}
		if now != x.To {
			return api.PersonDetails{}, workspace.Fail(workspace.Conflict, "%s was changed to %q since. Change it by hand.", workspace.UpperFirst(strings.ReplaceAll(x.Field, "_", " ")), workspace.Cut(now, 100))
		}
	}
	return s.Change(ctx, by, p.ID.String(), patch, p.Version)
}
