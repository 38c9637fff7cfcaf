package client

import (
	"context"
	"net/http"

	"ivytable.example/ivytable/internal/api"
)

// Domains lists the mail domains, the main one first.
func (c *Client) Domains(ctx context.Context) (api.Page[api.Domain], error) {
	return get[api.Page[api.Domain]](ctx, c, "/domains", nil)
}

// AddDomain adds a mail domain.
func (c *Client) AddDomain(ctx context.Context, name string) (api.Domain, error) {
	return change[api.Domain](ctx, c, http.MethodPost, "/domains", api.NewDomain{Name: name})
}

// LeadDomain makes a mail domain the main one.
func (c *Client) LeadDomain(ctx context.Context, name string) (api.Domain, error) {
	return change[api.Domain](ctx, c, http.MethodPut, at("domains", name, "main"), nil)
}

// RetireDomain retires a mail domain in which nothing lies any more.
func (c *Client) RetireDomain(ctx context.Context, name string) error {
	_, err := change[none](ctx, c, http.MethodDelete, at("domains", name), nil, at("domains", name, "removal"))
	return err
}
