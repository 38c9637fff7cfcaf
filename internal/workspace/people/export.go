package people

import (
	"context"
	"strconv"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Export writes all people of a list, with all that the actor sees of each. Its columns are
// those that an import of people reads.
func (s *Service) Export(ctx context.Context, by workspace.Actor, l Query, x workspace.Export) error {
	if err := by.Allow(access.SearchPeople); err != nil {
		return err
	}
	v := s.k.View(ctx, by)
	q, err := l.query(v)
	if err != nil {
		return err
	}
	known, err := v.FieldNames()
	if err != nil {
		return err
	}
	var fields []string
	for _, f := range known {
		if v.SeesAttribute(f) {
			fields = append(fields, f)
		}
	}
	out := x.Begin("people", append([]string{"address", "name", "active", "external", "workspace_role", "created_at"}, fields...))
	return out.End(workspace.Filtered(v.Read.EachPerson(q, func(people []store.Person) error {
		for _, p := range people {
			shaped := Shape(v, p)
			if err := out.Row(shaped, func() []string {
				row := []string{api.Cell(p.Address), api.Cell(p.Name), strconv.FormatBool(p.Active), strconv.FormatBool(p.External), p.WorkspaceRole, v.In(p.CreatedAt).Format(time.RFC3339)}
				for _, f := range fields {
					row = append(row, api.Cell(shaped.Attributes[f]))
				}
				return row
			}); err != nil {
				return err
			}
		}
		return out.Flush()
	})))
}
