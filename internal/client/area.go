package client

import (
	"context"
	"net/http"

	"ivytable.example/ivytable/internal/api"
)

// Areas returns which groups are handed to helpers: all areas, or those in which the caller helps.
func (c *Client) Areas(ctx context.Context) (api.Areas, error) {
	return get[api.Areas](ctx, c, "/areas", nil)
}

// SetAreas sets all areas, in place of those before.
func (c *Client) SetAreas(ctx context.Context, n api.NewAreas) (api.Areas, error) {
	return change[api.Areas](ctx, c, http.MethodPut, "/areas", n)
}
