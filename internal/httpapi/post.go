package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

// WaitingKinds is what of all that waits is wanted.
type WaitingKinds struct {
	Kind []string `query:"kind" maxItems:"6" enum:"post,join,leave,rule,nest,round" doc:"Of every kind when left out"`
}

func (s *server) listWaiting(ctx context.Context, by workspace.Actor, in *struct {
	Paging
	WaitingKinds
}) (*reply[api.Page[api.Waiting]], error) {
	return body(s.s.Waiting.List(ctx, by, "", in.Kind, in.Cursor, in.Limit))
}

func (s *server) listGroupWaiting(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Paging
	WaitingKinds
}) (*reply[api.Page[api.Waiting]], error) {
	return body(s.s.Waiting.List(ctx, by, in.Group, in.Kind, in.Cursor, in.Limit))
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

func (s *server) decideWaiting(ctx context.Context, by workspace.Actor, in *struct{ Body api.Decisions }) (*reply[api.DecidedAll], error) {
	return body(s.s.Waiting.Decide(ctx, by, in.Body))
}

func (s *server) readHeldPost(ctx context.Context, by workspace.Actor, in *struct {
	ID string `path:"id" maxLength:"50"`
}) (*reply[api.HeldPost], error) {
	return body(s.s.Post.Held(ctx, by, in.ID))
}

func (s *server) readHeldPostBecause(ctx context.Context, by workspace.Actor, in *struct {
	ID   string `path:"id" maxLength:"50"`
	Body api.Because
}) (*reply[api.HeldPost], error) {
	return body(s.s.Post.Read(ctx, by, in.ID, in.Body.Reason))
}

func (s *server) listPosts(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Paging
	Recipient string `query:"recipient" maxLength:"320" doc:"Those alone that were to reach this address"`
}) (*reply[api.Page[api.Post]], error) {
	return body(s.s.Post.Posts(ctx, by, in.Group, in.Recipient, in.Cursor, in.Limit))
}

func (s *server) listDeliveries(ctx context.Context, by workspace.Actor, in *struct {
	ID string `path:"id" maxLength:"40"`
	Paging
	Recipient string `query:"recipient" maxLength:"320" doc:"Of this address alone"`
	State     string `query:"state" enum:"handed_over,returned,refused,trying,waiting"`
}) (*reply[api.Page[api.Delivery]], error) {
	return body(s.s.Post.Deliveries(ctx, by, in.ID, in.Recipient, in.State, in.Cursor, in.Limit))
}

func (s *server) sendAgain(ctx context.Context, by workspace.Actor, in *struct {
	ID   string `path:"id" maxLength:"40"`
	Body api.SendAgain
}) (*reply[api.Delivery], error) {
	return body(s.s.Post.SendAgain(ctx, by, in.ID, in.Body.Recipient))
}
