package client

import (
	"context"
	"net/http"
	"net/url"
	"strings"

	"ivytable.example/ivytable/internal/api"
)

// GroupList says which groups to list.
type GroupList struct {
	Paging
	Q, Scope, Filter, Sort string
	States                 []string
}

// Groups lists groups.
func (c *Client) Groups(ctx context.Context, l GroupList) (api.Page[api.Group], error) {
	return get[api.Page[api.Group]](ctx, c, "/groups", l.query())
}

func (l GroupList) query() url.Values {
	return set(l.values(), map[string]string{"q": l.Q, "scope": l.Scope, "filter": l.Filter, "sort": l.Sort, "state": strings.Join(l.States, ",")})
}

// Group reads one group.
func (c *Client) Group(ctx context.Context, ref string) (api.Group, error) {
	return get[api.Group](ctx, c, at("groups", ref), nil)
}

// CreateGroup makes a group.
func (c *Client) CreateGroup(ctx context.Context, n api.NewGroup) (api.Group, error) {
	return change[api.Group](ctx, c, http.MethodPost, "/groups", n)
}

// ChangeGroup changes what a group is called and how long it lives.
func (c *Client) ChangeGroup(ctx context.Context, ref string, patch api.GroupPatch) (api.Group, error) {
	return change[api.Group](ctx, c, http.MethodPatch, at("groups", ref), patch)
}

// Policy returns a group's policy in words.
func (c *Client) Policy(ctx context.Context, ref string) (api.PolicySummary, error) {
	return get[api.PolicySummary](ctx, c, at("groups", ref, "policy"), nil)
}

// ChangePolicy changes a group's policy.
func (c *Client) ChangePolicy(ctx context.Context, ref string, patch api.PolicyPatch) (api.Group, error) {
	return change[api.Group](ctx, c, http.MethodPatch, at("groups", ref, "policy"), patch)
}

// LookAlikes returns groups like one that is yet to be made.
func (c *Client) LookAlikes(ctx context.Context, q api.LookAlikeRequest) (api.Page[api.LookAlike], error) {
	return ask[api.Page[api.LookAlike]](ctx, c, "/look-alikes", q)
}
