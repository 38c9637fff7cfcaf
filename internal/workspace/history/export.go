package history

import (
	"context"
	"strconv"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/workspace"
)

// Export writes all entries of the history that a filter matches, newest first.
func (s *Service) Export(ctx context.Context, by workspace.Actor, text string, x workspace.Export) error {
	if err := by.Allow(access.ReadWorkspaceHistory); err != nil {
		return err
	}
	v := s.k.View(ctx, by)
	r, err := v.Filter("history", text)
	if err != nil {
		return err
	}
	out := x.Begin("history", []string{"id", "at", "kind", "actor", "via", "group", "change_id", "says"})
	const some = 1000
	for before := int64(0); ; {
		rows, err := v.Read.Events(uuid.Nil, r, before, some)
		if err != nil {
			return out.End(workspace.Filtered(err))
		}
		for _, row := range rows {
			e, err := shape(v, row)
			if err != nil {
				return out.End(err)
			}
			err = out.Row(e, func() []string {
				group := ""
				if e.Group != nil {
					group = e.Group.Address
				}
				return []string{strconv.FormatInt(e.ID, 10), e.At.Format(time.RFC3339), e.Kind, api.Cell(e.Actor.Address), e.Via, api.Cell(group), e.ChangeID, api.Cell(e.Says)}
			})
			if err != nil {
				return out.End(err)
			}
		}
		if len(rows) < some {
			return out.End(nil)
		}
		if err := out.Flush(); err != nil {
			return err
		}
		before = rows[len(rows)-1].ID
	}
}
