package client

import (
	"context"
	"net/http"

	"ivytable.example/ivytable/internal/api"
)

// SignIn signs in with a password, and returns a client that asks within that session.
func (c *Client) SignIn(ctx context.Context, in api.SignIn) (session *Client, err error) {
	res, err := c.open(ctx, http.MethodPost, "/session", in)
	if err != nil {
		return nil, err
	}
	res.Body.Close()
	out := *c
	out.token, out.cookies = "", res.Cookies()
	return &out, nil
}

// SignOut ends a session.
func (c *Client) SignOut(ctx context.Context) error {
	return c.do(ctx, http.MethodDelete, "/session", nil, nil)
}

// SecondFactor says whether who asks has a second factor.
func (c *Client) SecondFactor(ctx context.Context) (api.SecondFactor, error) {
	return get[api.SecondFactor](ctx, c, "/me/second-factor", nil)
}

// BeginFactor makes a secret for a second factor, within a session.
func (c *Client) BeginFactor(ctx context.Context, password string) (api.NewFactor, error) {
	return ask[api.NewFactor](ctx, c, "/me/second-factor", api.FactorBegin{Password: password})
}

// ConfirmFactor puts a second factor in force that was begun.
func (c *Client) ConfirmFactor(ctx context.Context, code string) (api.RecoveryCodes, error) {
	var out api.RecoveryCodes
	return out, c.do(ctx, http.MethodPut, "/me/second-factor", api.FactorCode{Code: code}, &out)
}

// EndFactor turns the second factor of who asks off, within a session.
func (c *Client) EndFactor(ctx context.Context, in api.FactorEnd) error {
	return c.do(ctx, http.MethodPost, "/me/second-factor/end", in, nil)
}

// TakeFactor turns somebody's second factor off.
func (c *Client) TakeFactor(ctx context.Context, who string) error {
	_, err := change[none](ctx, c, http.MethodDelete, at("people", who, "second-factor"), nil, at("people", who, "second-factor", "removal"))
	return err
}

// Protection returns what protects the workspace.
func (c *Client) Protection(ctx context.Context) (api.Protection, error) {
	return get[api.Protection](ctx, c, "/protection", nil)
}

// SetProtection changes what protects the workspace.
func (c *Client) SetProtection(ctx context.Context, p api.Protection) (api.Protection, error) {
	return change[api.Protection](ctx, c, http.MethodPut, "/protection", p)
}

// Me returns who asks.
func (c *Client) Me(ctx context.Context) (api.Me, error) { return get[api.Me](ctx, c, "/me", nil) }

// ChangePassword changes one's own password.
func (c *Client) ChangePassword(ctx context.Context, p api.PasswordChange) error {
	return c.do(ctx, http.MethodPut, "/me/password", p, nil)
}

// Tokens lists the tokens of who asks.
func (c *Client) Tokens(ctx context.Context, p Paging) (api.Page[api.Token], error) {
	return get[api.Page[api.Token]](ctx, c, "/tokens", p.values())
}

// CreateToken makes a token.
func (c *Client) CreateToken(ctx context.Context, n api.NewToken) (api.Token, error) {
	return change[api.Token](ctx, c, http.MethodPost, "/tokens", n)
}

// RevokeToken ends a token.
func (c *Client) RevokeToken(ctx context.Context, id string) error {
	_, err := change[none](ctx, c, http.MethodDelete, at("tokens", id), nil, at("tokens", id, "end"))
	return err
}
