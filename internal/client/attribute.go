package client

import (
	"context"
	"net/http"

	"ivytable.example/ivytable/internal/api"
)

// Attributes lists what the organisation keeps of people beside the attributes of SCIM.
func (c *Client) Attributes(ctx context.Context) (api.Page[api.OwnAttribute], error) {
	return get[api.Page[api.OwnAttribute]](ctx, c, "/attributes", nil)
}

// SaveAttribute declares an attribute, or changes what is said of one.
func (c *Client) SaveAttribute(ctx context.Context, name string, n api.NewAttribute) (api.OwnAttribute, error) {
	return change[api.OwnAttribute](ctx, c, http.MethodPut, at("attributes", name), n)
}

// DeleteAttribute deletes an attribute, with what people have in it.
func (c *Client) DeleteAttribute(ctx context.Context, name string) error {
	_, err := change[none](ctx, c, http.MethodDelete, at("attributes", name), nil, at("attributes", name, "removal"))
	return err
}
