package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

// OneChange is a change of many groups in a path.
type OneChange struct {
	ID string `path:"id" maxLength:"60"`
}

func (s *server) listBulks(ctx context.Context, by workspace.Actor, in *struct{ Paging }) (*reply[api.Page[api.Bulk]], error) {
	return body(s.s.Bulk.List(ctx, by, in.Cursor, in.Limit))
}

func (s *server) beginBulk(ctx context.Context, by workspace.Actor, in *struct {
	Repeat
	Body api.NewBulk
}) (*reply[api.Bulk], error) {
	return body(s.s.Bulk.Begin(ctx, by, in.Body))
}

func (s *server) readBulk(ctx context.Context, by workspace.Actor, in *OneChange) (*reply[api.Bulk], error) {
	return body(s.s.Bulk.Read(ctx, by, in.ID))
}

func (s *server) listBulkItems(ctx context.Context, by workspace.Actor, in *struct {
	OneChange
	Paging
	Outcome string `query:"outcome" enum:"changed,same,refused" doc:"All when left out"`
}) (*reply[api.Page[api.BulkItem]], error) {
	return body(s.s.Bulk.Items(ctx, by, in.ID, in.Outcome, in.Cursor, in.Limit))
}

func (s *server) stopBulk(ctx context.Context, by workspace.Actor, in *OneChange) (*reply[api.Bulk], error) {
	return body(s.s.Bulk.Stop(ctx, by, in.ID))
}

func (s *server) undoBulk(ctx context.Context, by workspace.Actor, in *struct {
	OneChange
	Repeat
}) (*reply[api.Bulk], error) {
	return body(s.s.Bulk.Undo(ctx, by, in.ID))
}

func (s *server) applySheet(ctx context.Context, by workspace.Actor, in *struct {
	Repeat
	Body api.GroupSheet
}) (*reply[api.Bulk], error) {
	return body(s.s.Bulk.Sheet(ctx, by, in.Body))
}
