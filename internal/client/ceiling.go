package client

import (
	"context"
	"net/http"

	"ivytable.example/ivytable/internal/api"
)

// Ceilings returns how far groups may go.
func (c *Client) Ceilings(ctx context.Context) (api.Ceilings, error) {
	return get[api.Ceilings](ctx, c, "/ceilings", nil)
}

// SetCeilings sets all ceilings of the workspace.
func (c *Client) SetCeilings(ctx context.Context, n api.NewCeilings) (api.Ceilings, error) {
	return change[api.Ceilings](ctx, c, http.MethodPut, "/ceilings", n)
}
