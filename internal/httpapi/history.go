package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func (s *server) listHistory(ctx context.Context, by workspace.Actor, in *struct {
	Paging
	Filtered
}) (*reply[api.Page[api.HistoryEntry]], error) {
	return body(s.s.History.List(ctx, by, "", in.Filter, in.Cursor, in.Limit))
}

func (s *server) readSeal(ctx context.Context, by workspace.Actor, _ *none) (*reply[api.Seal], error) {
	return body(s.s.History.Sealed(ctx, by))
}

func (s *server) verifyHistory(ctx context.Context, by workspace.Actor, in *struct{ Body api.Verify }) (*reply[api.Verification], error) {
	return body(s.s.History.Verify(ctx, by, in.Body.Kept))
}

func (s *server) listGroupHistory(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Paging
	Filtered
}) (*reply[api.Page[api.HistoryEntry]], error) {
	return body(s.s.History.List(ctx, by, in.Group, in.Filter, in.Cursor, in.Limit))
}

func (s *server) listPersonHistory(ctx context.Context, by workspace.Actor, in *struct {
	Who
	Paging
}) (*reply[api.Page[api.HistoryEntry]], error) {
	return body(s.s.History.OfPerson(ctx, by, in.Person, in.Cursor, in.Limit))
}

// OneEntry is an entry of the history in a path.
type OneEntry struct {
	Entry int64 `path:"entry" minimum:"1"`
}

func (s *server) readHistoryEntry(ctx context.Context, by workspace.Actor, in *OneEntry) (*reply[api.HistoryEntry], error) {
	return body(s.s.History.Read(ctx, by, in.Entry))
}

func (s *server) readKeeping(ctx context.Context, by workspace.Actor, _ *none) (*tagged[api.HistoryKeeping], error) {
	a, err := s.s.History.Keeping(ctx, by)
	return tag(a, a.Version, err)
}

func (s *server) changeKeeping(ctx context.Context, by workspace.Actor, in *struct {
	Match
	Body api.HistoryKeeping
}) (*tagged[api.HistoryKeeping], error) {
	a, err := matched(in.Match, func(v int) (api.HistoryKeeping, error) { return s.s.History.SetKeeping(ctx, by, in.Body, v) })
	return tag(a, a.Version, err)
}

func (s *server) undoEntry(ctx context.Context, by workspace.Actor, in *OneEntry) (*reply[api.Undone], error) {
	return body(s.s.Undo.Entry(ctx, by, in.Entry))
}

func (s *server) listAffected(ctx context.Context, by workspace.Actor, in *struct {
	OneEntry
	Paging
}) (*reply[api.Page[api.Affected]], error) {
	return body(s.s.History.Affected(ctx, by, in.Entry, in.Cursor, in.Limit))
}
