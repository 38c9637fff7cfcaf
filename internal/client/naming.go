package client

import (
	"context"
	"net/http"
	"net/url"

	"ivytable.example/ivytable/internal/api"
)

// Proposing is a question for an address.
type Proposing struct {
	Name, Address, Domain, StartingPoint, Creator, Group string
}

// Propose returns what a group would be called and its address, or checks the
// address given.
func (c *Client) Propose(ctx context.Context, q Proposing) (api.Proposal, error) {
	return get[api.Proposal](ctx, c, "/address-proposals", set(url.Values{}, map[string]string{"name": q.Name, "address": q.Address, "domain": q.Domain, "starting_point": q.StartingPoint, "creator": q.Creator, "group": q.Group}))
}

// Naming reads the rules of naming.
func (c *Client) Naming(ctx context.Context) (api.Naming, error) {
	return get[api.Naming](ctx, c, "/naming", nil)
}

// SetNaming puts rules of naming in force.
func (c *Client) SetNaming(ctx context.Context, n api.Naming) (api.Naming, error) {
	return change[api.Naming](ctx, c, http.MethodPut, "/naming", n)
}

// StartingPoints lists what a group can be begun from.
func (c *Client) StartingPoints(ctx context.Context) (api.Page[api.StartingPoint], error) {
	return get[api.Page[api.StartingPoint]](ctx, c, "/starting-points", nil)
}

// StartingPoint returns one starting point.
func (c *Client) StartingPoint(ctx context.Context, name string) (api.StartingPoint, error) {
	return get[api.StartingPoint](ctx, c, at("starting-points", name), nil)
}

// SaveStartingPoint makes or changes a starting point.
func (c *Client) SaveStartingPoint(ctx context.Context, name string, n api.NewStartingPoint) (api.StartingPoint, error) {
	return change[api.StartingPoint](ctx, c, http.MethodPut, at("starting-points", name), n)
}

// DeleteStartingPoint deletes a starting point.
func (c *Client) DeleteStartingPoint(ctx context.Context, name string) error {
	_, err := change[none](ctx, c, http.MethodDelete, at("starting-points", name), nil, at("starting-points", name, "removal"))
	return err
}

// Differing lists the groups that differ from the starting point that they were begun from: of one, or of all.
func (c *Client) Differing(ctx context.Context, start string, p Paging) (api.Page[api.Differing], error) {
	return get[api.Page[api.Differing]](ctx, c, "/starting-point-differences", set(p.values(), map[string]string{"starting_point": start}))
}
