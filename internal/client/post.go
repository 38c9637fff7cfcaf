package client

import (
	"context"
	"net/http"

	"ivytable.example/ivytable/internal/api"
)

// Rehearse asks what would happen.
func (c *Client) Rehearse(ctx context.Context, r api.Rehearsal) (api.Decision, error) {
	return ask[api.Decision](ctx, c, "/rehearsals", r)
}

// Waiting lists posts that wait for a decision: of one group, or all.
func (c *Client) Waiting(ctx context.Context, ref string, p Paging) (api.Page[api.Post], error) {
	path := "/waiting"
	if ref != "" {
		path = at("groups", ref, "waiting")
	}
	return get[api.Page[api.Post]](ctx, c, path, p.values())
}

// Undelivered lists mail that could not be handed to everybody, or not yet: to one group, or
// to all that I help to run.
func (c *Client) Undelivered(ctx context.Context, ref string, p Paging) (api.Page[api.Undelivered], error) {
	path := "/undelivered"
	if ref != "" {
		path = at("groups", ref, "undelivered")
	}
	return get[api.Page[api.Undelivered]](ctx, c, path, p.values())
}

// RetryUndelivered has mail tried again.
func (c *Client) RetryUndelivered(ctx context.Context, r api.Retries) (api.DecidedAll, error) {
	return change[api.DecidedAll](ctx, c, http.MethodPost, "/undelivered/retries", r)
}

// DecidePosts approves or declines posts.
func (c *Client) DecidePosts(ctx context.Context, d api.Decisions) (api.DecidedAll, error) {
	return change[api.DecidedAll](ctx, c, http.MethodPost, "/waiting/decisions", d)
}
