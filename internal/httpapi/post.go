package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func (s *server) rehearse(ctx context.Context, by workspace.Actor, in *struct{ Body api.Rehearsal }) (*reply[api.Decision], error) {
	return body(s.s.Post.Rehearse(ctx, by, in.Body))
}

func (s *server) listWaiting(ctx context.Context, by workspace.Actor, in *Paging) (*reply[api.Page[api.Post]], error) {
	return body(s.s.Post.Waiting(ctx, by, "", in.Cursor, in.Limit))
}

func (s *server) listGroupWaiting(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Paging
}) (*reply[api.Page[api.Post]], error) {
	return body(s.s.Post.Waiting(ctx, by, in.Group, in.Cursor, in.Limit))
}

func (s *server) listUndelivered(ctx context.Context, by workspace.Actor, in *struct{ Paging }) (*reply[api.Page[api.Undelivered]], error) {
	return body(s.s.Post.Undelivered(ctx, by, "", in.Cursor, in.Limit))
}

func (s *server) listGroupUndelivered(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Paging
}) (*reply[api.Page[api.Undelivered]], error) {
	return body(s.s.Post.Undelivered(ctx, by, in.Group, in.Cursor, in.Limit))
}

func (s *server) retryUndelivered(ctx context.Context, by workspace.Actor, in *struct{ Body api.Retries }) (*reply[api.DecidedAll], error) {
	return body(s.s.Post.TryAgain(ctx, by, in.Body))
}

func (s *server) decidePosts(ctx context.Context, by workspace.Actor, in *struct{ Body api.Decisions }) (*reply[api.DecidedAll], error) {
	return body(s.s.Post.DecideWaiting(ctx, by, in.Body))
}
