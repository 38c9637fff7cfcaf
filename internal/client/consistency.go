package client

import (
	"context"
	"net/http"

	"ivytable.example/ivytable/internal/api"
)

// CheckRecords says whether the records agree with those that they follow from.
func (c *Client) CheckRecords(ctx context.Context) (api.Consistency, error) {
	return get[api.Consistency](ctx, c, at("service", "check"), nil)
}

// RepairRecords makes right what the service can make right by itself.
func (c *Client) RepairRecords(ctx context.Context) (api.Consistency, error) {
	return change[api.Consistency](ctx, c, http.MethodPost, at("service", "repairs"), nil)
}
