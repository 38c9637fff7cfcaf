package client

import (
	"context"
	"net/http"

	"ivytable.example/ivytable/internal/api"
)

// PublicPages returns what the workspace shows on the internet.
func (c *Client) PublicPages(ctx context.Context) (api.PublicPages, error) {
	return get[api.PublicPages](ctx, c, "/public-pages", nil)
}

// SetPublicPages changes what the workspace shows on the internet.
func (c *Client) SetPublicPages(ctx context.Context, n api.PublicPages) (api.PublicPages, error) {
	return change[api.PublicPages](ctx, c, http.MethodPut, "/public-pages", n)
}

// PublicGroups lists the groups that anyone on the internet may find.
func (c *Client) PublicGroups(ctx context.Context, q string, p Paging) (api.Page[api.PublicGroupHead], error) {
	return get[api.Page[api.PublicGroupHead]](ctx, c, "/public/groups", set(p.values(), map[string]string{"q": q}))
}

// PublicGroup returns a group as anyone on the internet sees it.
func (c *Client) PublicGroup(ctx context.Context, ref string) (api.PublicGroup, error) {
	return get[api.PublicGroup](ctx, c, "/public"+at("groups", ref), nil)
}

// Approach has a letter sent to an address outside the workspace, by which it joins a group or asks to.
func (c *Client) Approach(ctx context.Context, ref string, n api.Approach) (api.Approached, error) {
	return change[api.Approached](ctx, c, http.MethodPost, "/public"+at("groups", ref, "joining"), n)
}

// Proof says what a letter's link is for by which an address is proven.
func (c *Client) Proof(ctx context.Context, secret string) (api.ProofLink, error) {
	return get[api.ProofLink](ctx, c, "/public"+at("proofs", secret), nil)
}

// Prove proves an address by a letter's link.
func (c *Client) Prove(ctx context.Context, secret string) (api.ProofLink, error) {
	return change[api.ProofLink](ctx, c, http.MethodPost, "/public"+at("proofs", secret), nil)
}
