package client

import (
	"context"
	"net/http"
	"net/url"
	"strings"

	"ivytable.example/ivytable/internal/api"
)

// Waiting lists what waits for a decision: in one group, or in all; of some kinds, or of every
// kind.
func (c *Client) Waiting(ctx context.Context, ref string, kinds []string, p Paging) (api.Page[api.Waiting], error) {
	path := "/waiting"
	if ref != "" {
		path = at("groups", ref, "waiting")
	}
	return get[api.Page[api.Waiting]](ctx, c, path, set(p.values(), map[string]string{"kind": strings.Join(kinds, ",")}))
}

// Undelivered lists mail that could not be handed to everybody, or not yet: to one group, or
// to all that I help to run.
func (c *Client) Undelivered(ctx context.Context, ref string, p Paging) (api.Page[api.Undelivered], error) {
	path := "/undelivered"
	if ref != "" {
		path = at("groups", ref, "undelivered")
	}
	return get[api.Page[api.Undelivered]](ctx, c, path, p.values())
}

// RetryUndelivered has mail tried again.
func (c *Client) RetryUndelivered(ctx context.Context, r api.Retries) (api.DecidedAll, error) {
	return change[api.DecidedAll](ctx, c, http.MethodPost, "/undelivered/retries", r)
}

// DecideWaiting approves or declines what waits, whatever its kind.
func (c *Client) DecideWaiting(ctx context.Context, d api.Decisions) (api.DecidedAll, error) {
	return change[api.DecidedAll](ctx, c, http.MethodPost, "/waiting/decisions", d)
}

// ReadHeldPost is HeldPost for an administrator whom nobody else gave a part in the group, and says why.
func (c *Client) ReadHeldPost(ctx context.Context, id, reason string) (api.HeldPost, error) {
	return ask[api.HeldPost](ctx, c, at("waiting", id, "message"), api.Because{Reason: reason})
}

// HeldPost shows a message that waits for approval, as text.
func (c *Client) HeldPost(ctx context.Context, id string) (api.HeldPost, error) {
	return get[api.HeldPost](ctx, c, at("waiting", id, "message"), nil)
}

// Writing says what somebody should know who is about to write to a group.
func (c *Client) Writing(ctx context.Context, to string) (api.Writing, error) {
	return get[api.Writing](ctx, c, "/writing", url.Values{"to": {to}})
}

// Posts lists posts to a group: all, for those who decide about them; else mine, and those that were to reach me. With a recipient, those
// that were to reach that address.
func (c *Client) Posts(ctx context.Context, ref, recipient string, p Paging) (api.Page[api.Post], error) {
	return get[api.Page[api.Post]](ctx, c, at("groups", ref, "posts"), set(p.values(), map[string]string{"recipient": recipient}))
}

// Deliveries lists what became of a post for each whom it was to reach.
func (c *Client) Deliveries(ctx context.Context, post, recipient, state string, p Paging) (api.Page[api.Delivery], error) {
	return get[api.Page[api.Delivery]](ctx, c, at("posts", post, "deliveries"), set(p.values(), map[string]string{"recipient": recipient, "state": state}))
}

// SendAgain sends a post again to one of those whom it was to reach.
func (c *Client) SendAgain(ctx context.Context, post, recipient string) (api.Delivery, error) {
	return change[api.Delivery](ctx, c, http.MethodPost, at("posts", post, "again"), api.SendAgain{Recipient: recipient})
}
