package client

import (
	"context"
	"net/http"

	"ivytable.example/ivytable/internal/api"
)

// CheckDomain says what a mail domain publishes, and what is missing.
func (c *Client) CheckDomain(ctx context.Context, name string) (api.DomainCheck, error) {
	return get[api.DomainCheck](ctx, c, at("domains", name, "check"), nil)
}

// SigningKeys returns the keys that mail of a domain is signed with.
func (c *Client) SigningKeys(ctx context.Context, domain string) (api.Page[api.SigningKey], error) {
	return get[api.Page[api.SigningKey]](ctx, c, at("domains", domain, "keys"), nil)
}

// MakeKey makes a key for mail of a domain.
func (c *Client) MakeKey(ctx context.Context, domain string) (api.SigningKey, error) {
	return change[api.SigningKey](ctx, c, http.MethodPost, at("domains", domain, "keys"), nil)
}

// UseKey has mail of a domain signed with one of its keys.
func (c *Client) UseKey(ctx context.Context, domain, selector string) (api.SigningKey, error) {
	return change[api.SigningKey](ctx, c, http.MethodPost, at("domains", domain, "keys", selector, "use"), nil)
}

// DeleteKey deletes a key that is not used.
func (c *Client) DeleteKey(ctx context.Context, domain, selector string) error {
	_, err := change[struct{}](ctx, c, http.MethodDelete, at("domains", domain, "keys", selector), nil, at("domains", domain, "keys", selector, "removal"))
	return err
}
