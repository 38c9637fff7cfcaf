package client

import (
	"context"
	"net/http"

	"ivytable.example/ivytable/internal/api"
)

// ChangeMany begins one change of many groups.
func (c *Client) ChangeMany(ctx context.Context, n api.NewBulk) (api.Bulk, error) {
	return change[api.Bulk](ctx, c, http.MethodPost, "/changes", n)
}

// Changes lists the changes that many groups went through, newest first.
func (c *Client) Changes(ctx context.Context, p Paging) (api.Page[api.Bulk], error) {
	return get[api.Page[api.Bulk]](ctx, c, "/changes", p.values())
}

// Change returns how far a change of many groups is.
func (c *Client) Change(ctx context.Context, id string) (api.Bulk, error) {
	return get[api.Bulk](ctx, c, at("changes", id), nil)
}

// ChangeItems lists what became of the groups of a change: of those with an outcome, or of
// all.
func (c *Client) ChangeItems(ctx context.Context, id, outcome string, p Paging) (api.Page[api.BulkItem], error) {
	return get[api.Page[api.BulkItem]](ctx, c, at("changes", id, "items"), set(p.values(), map[string]string{"outcome": outcome}))
}

// StopChange stops a change of many groups.
func (c *Client) StopChange(ctx context.Context, id string) (api.Bulk, error) {
	return change[api.Bulk](ctx, c, http.MethodPost, at("changes", id, "stop"), nil)
}

// UndoChange begins to undo a change of many groups.
func (c *Client) UndoChange(ctx context.Context, id string) (api.Bulk, error) {
	return change[api.Bulk](ctx, c, http.MethodPost, at("changes", id, "undo"), nil)
}

// ApplySheet begins one change by which groups become what an edited export says.
func (c *Client) ApplySheet(ctx context.Context, n api.GroupSheet) (api.Bulk, error) {
	return change[api.Bulk](ctx, c, http.MethodPost, "/group-sheets", n)
}
