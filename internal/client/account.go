package client

import (
	"context"
	"net/http"

	"ivytable.example/ivytable/internal/api"
)

// SignIn signs in with a password and returns a token for days, by that name.
func (c *Client) SignIn(ctx context.Context, in api.SignIn, name string, days int) (api.Token, error) {
	res, err := c.open(ctx, http.MethodPost, "/session", in)
	if err != nil {
		return api.Token{}, err
	}
	res.Body.Close()
	with := func(r *http.Request) {
		r.Header.Del("Authorization")
		for _, k := range res.Cookies() {
			r.AddCookie(k)
		}
	}
	var t api.Token
	if err := c.do(ctx, http.MethodPost, "/tokens", api.NewToken{Name: name, Days: days}, &t, with); err != nil {
		return t, err
	}
	return t, c.do(ctx, http.MethodDelete, "/session", nil, nil, with)
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
