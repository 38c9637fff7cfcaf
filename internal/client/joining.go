package client

import (
	"context"
	"net/http"

	"ivytable.example/ivytable/internal/api"
)

// Join joins a group, or asks to.
func (c *Client) Join(ctx context.Context, ref string, r api.JoinRequest) (api.JoinResult, error) {
	return change[api.JoinResult](ctx, c, http.MethodPost, at("groups", ref, "joining"), r)
}

// Leave leaves a group, or asks to.
func (c *Client) Leave(ctx context.Context, ref string, r api.JoinRequest) (api.JoinResult, error) {
	return change[api.JoinResult](ctx, c, http.MethodPost, at("groups", ref, "leaving"), r)
}

// MyPart returns my own part in a group.
func (c *Client) MyPart(ctx context.Context, ref string) (api.OwnPart, error) {
	return get[api.OwnPart](ctx, c, at("groups", ref, "my-part"), nil)
}

// Requests lists requests: of one group, those that wait for me, or those that I made.
func (c *Client) Requests(ctx context.Context, ref string, mine bool, p Paging) (api.Page[api.Request], error) {
	path, v := "/requests", p.values()
	switch {
	case ref != "":
		path = at("groups", ref, "requests")
	case mine:
		v.Set("mine", "true")
	}
	return get[api.Page[api.Request]](ctx, c, path, v)
}

// DecideRequests approves or declines requests.
func (c *Client) DecideRequests(ctx context.Context, d api.Decisions) (api.DecidedAll, error) {
	return change[api.DecidedAll](ctx, c, http.MethodPost, "/requests/decisions", d)
}

// WithdrawRequest takes back a request of mine.
func (c *Client) WithdrawRequest(ctx context.Context, id string) error {
	_, err := change[none](ctx, c, http.MethodDelete, at("requests", id), nil, at("requests", id, "withdrawal"))
	return err
}

// Invitations lists the invitations of a group that were not answered.
func (c *Client) Invitations(ctx context.Context, ref string, p Paging) (api.Page[api.Invitation], error) {
	return get[api.Page[api.Invitation]](ctx, c, at("groups", ref, "invitations"), p.values())
}

// CallBackInvitation ends an invitation.
func (c *Client) CallBackInvitation(ctx context.Context, ref, address string) error {
	_, err := change[none](ctx, c, http.MethodDelete, at("groups", ref, "invitations", address), nil, at("groups", ref, "invitations", address, "call-back"))
	return err
}

// Invitation says what an invitation is to.
func (c *Client) Invitation(ctx context.Context, secret string) (api.LinkPreview, error) {
	return get[api.LinkPreview](ctx, c, at("invitations", secret), nil)
}

// AnswerInvitation accepts or declines an invitation.
func (c *Client) AnswerInvitation(ctx context.Context, secret, answer string) (api.LinkPreview, error) {
	return change[api.LinkPreview](ctx, c, http.MethodPost, at("invitations", secret), api.Answer{Answer: answer})
}

// JoinLinks lists the links into a group.
func (c *Client) JoinLinks(ctx context.Context, ref string, p Paging) (api.Page[api.JoinLink], error) {
	return get[api.Page[api.JoinLink]](ctx, c, at("groups", ref, "join-links"), p.values())
}

// CreateJoinLink makes a link into a group.
func (c *Client) CreateJoinLink(ctx context.Context, ref string, n api.NewJoinLink) (api.JoinLink, error) {
	return change[api.JoinLink](ctx, c, http.MethodPost, at("groups", ref, "join-links"), n)
}

// CallBackJoinLink ends a link.
func (c *Client) CallBackJoinLink(ctx context.Context, ref, id string) error {
	_, err := change[none](ctx, c, http.MethodDelete, at("groups", ref, "join-links", id), nil, at("groups", ref, "join-links", id, "call-back"))
	return err
}

// UseJoinLink enters a group by a link.
func (c *Client) UseJoinLink(ctx context.Context, secret string) (api.JoinResult, error) {
	return change[api.JoinResult](ctx, c, http.MethodPost, at("join-links", secret), nil)
}
