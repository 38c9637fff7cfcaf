package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"ivytable.example/ivytable/internal/api"
)

// Retire ends a group.
func (c *Client) Retire(ctx context.Context, ref string) (api.Group, error) {
	return change[api.Group](ctx, c, http.MethodDelete, at("groups", ref), nil, at("groups", ref, "retirement"))
}

// Renew begins a group's term again.
func (c *Client) Renew(ctx context.Context, ref string) (api.Group, error) {
	return change[api.Group](ctx, c, http.MethodPost, at("groups", ref, "renewal"), nil)
}

// Restore brings a group back.
func (c *Client) Restore(ctx context.Context, ref string) (api.Group, error) {
	return change[api.Group](ctx, c, http.MethodPost, at("groups", ref, "restoration"), nil)
}

// Expiry reads the rule for how long groups live.
func (c *Client) Expiry(ctx context.Context) (api.Expiry, error) {
	return get[api.Expiry](ctx, c, "/expiry", nil)
}

// SetExpiry puts a new rule in force.
func (c *Client) SetExpiry(ctx context.Context, e api.Expiry) (api.Expiry, error) {
	return change[api.Expiry](ctx, c, http.MethodPut, "/expiry", e)
}

// Forecast counts the groups that expire in the coming weeks.
func (c *Client) Forecast(ctx context.Context, weeks int) (api.Page[api.Week], error) {
	return get[api.Page[api.Week]](ctx, c, "/expiry/forecast", url.Values{"weeks": {strconv.Itoa(weeks)}})
}

// MoveClock moves the time of a demo.
func (c *Client) MoveClock(ctx context.Context, days int) (api.Clock, error) {
	return ask[api.Clock](ctx, c, "/demo/clock", api.ClockMove{Days: days})
}
