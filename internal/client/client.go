// Package client is the typed client of the HTTP interface. The command line and
// the tests use it.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"ivytable.example/ivytable/internal/api"
)

// Client asks one service. Make one with New.
type Client struct {
	url   string
	token string
	http  *http.Client
}

// New returns a client of the service at url, which asks with token, or as nobody
// where it is empty.
func New(url, token string) *Client {
	return &Client{strings.TrimSuffix(url, "/"), token, &http.Client{Timeout: 2 * time.Minute}}
}

// Error is an answer that says no.
type Error struct {
	api.ProblemDetails
}

func (e *Error) Error() string { return e.Detail }

type option func(*http.Request)

func ifMatch(version int) option {
	return func(r *http.Request) {
		if version > 0 {
			r.Header.Set("If-Match", strconv.Quote(strconv.Itoa(version)))
		}
	}
}

// Do sends one request; in and out may be nil. Path begins under /api/v1.
func (c *Client) Do(ctx context.Context, method, path string, in, out any, options ...option) error {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return err
		}
		body = bytes.NewReader(b)
	}
	r, err := http.NewRequestWithContext(ctx, method, c.url+"/api/v1"+path, body)
	if err != nil {
		return fmt.Errorf("the address of the service can't be used: %w", err)
	}
	if in != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	if c.token != "" {
		r.Header.Set("Authorization", "Bearer "+c.token)
	}
	for _, o := range options {
		o(r)
	}
	res, err := c.http.Do(r)
	if err != nil {
		return fmt.Errorf("the service at %s does not answer: %w", c.url, err)
	}
	defer res.Body.Close()
	if res.StatusCode >= 300 {
		e := &Error{}
		if err := json.NewDecoder(res.Body).Decode(&e.ProblemDetails); err != nil || e.Detail == "" {
			e.Status, e.Detail = res.StatusCode, "The service answered "+res.Status+" without saying why."
		}
		return e
	}
	if out == nil || res.StatusCode == http.StatusNoContent {
		return nil
	}
	if err := json.NewDecoder(res.Body).Decode(out); err != nil {
		return fmt.Errorf("the answer of the service can't be read: %w", err)
	}
	return nil
}

func get[T any](ctx context.Context, c *Client, path string, q url.Values) (out T, err error) {
	if len(q) > 0 {
		path += "?" + q.Encode()
	}
	return out, c.Do(ctx, http.MethodGet, path, nil, &out)
}

func send[T any](ctx context.Context, c *Client, method, path string, in any, options ...option) (out T, err error) {
	return out, c.Do(ctx, method, path, in, &out, options...)
}

func at(parts ...string) string {
	for i, p := range parts {
		parts[i] = url.PathEscape(p)
	}
	return "/" + strings.Join(parts, "/")
}

// Paging asks for a page of a list. The zero value asks for the first.
type Paging struct {
	Cursor string
	Limit  int
}

func (p Paging) values() url.Values {
	q := url.Values{}
	if p.Cursor != "" {
		q.Set("cursor", p.Cursor)
	}
	if p.Limit > 0 {
		q.Set("limit", strconv.Itoa(p.Limit))
	}
	return q
}

// SignIn signs in with a password and returns a token for days, by that name.
func (c *Client) SignIn(ctx context.Context, in api.SignIn, name string, days int) (api.Token, error) {
	var session *http.Cookie
	keep := c.http.Transport
	c.http.Transport = cookies(func(k *http.Cookie) { session = k })
	err := c.Do(ctx, http.MethodPost, "/session", in, nil)
	c.http.Transport = keep
	if err != nil || session == nil {
		return api.Token{}, err
	}
	with := func(r *http.Request) { r.Header.Del("Authorization"); r.AddCookie(session) }
	t, err := send[api.Token](ctx, c, http.MethodPost, "/tokens", api.NewToken{Name: name, Days: days}, with)
	if err != nil {
		return t, err
	}
	c.token = t.Secret
	return t, c.Do(ctx, http.MethodDelete, "/session", nil, nil, with)
}

// cookies is a transport that shows the cookies that answers set.
type cookies func(*http.Cookie)

func (f cookies) RoundTrip(r *http.Request) (*http.Response, error) {
	res, err := http.DefaultTransport.RoundTrip(r)
	if err == nil {
		for _, k := range res.Cookies() {
			f(k)
		}
	}
	return res, err
}

// Me returns who asks.
func (c *Client) Me(ctx context.Context) (api.Me, error) { return get[api.Me](ctx, c, "/me", nil) }

// Tokens lists the tokens of who asks.
func (c *Client) Tokens(ctx context.Context) ([]api.Token, error) {
	return get[[]api.Token](ctx, c, "/tokens", nil)
}

// CreateToken makes a token.
func (c *Client) CreateToken(ctx context.Context, n api.NewToken) (api.Token, error) {
	return send[api.Token](ctx, c, http.MethodPost, "/tokens", n)
}

// RevokeToken ends a token.
func (c *Client) RevokeToken(ctx context.Context, id string) error {
	return c.Do(ctx, http.MethodDelete, at("tokens", id), nil, nil)
}

// GroupList says which groups to list.
type GroupList struct {
	Paging
	Q, Scope, Sort string
	States         []string
}

// Groups lists groups.
func (c *Client) Groups(ctx context.Context, l GroupList) (api.Page[api.Group], error) {
	v := l.values()
	for k, s := range map[string]string{"q": l.Q, "scope": l.Scope, "sort": l.Sort, "state": strings.Join(l.States, ",")} {
		if s != "" {
			v.Set(k, s)
		}
	}
	return get[api.Page[api.Group]](ctx, c, "/groups", v)
}

// Group reads one group.
func (c *Client) Group(ctx context.Context, ref string) (api.Group, error) {
	return get[api.Group](ctx, c, at("groups", ref), nil)
}

// CreateGroup makes a group; key, where it is not empty, makes a repeat harmless.
func (c *Client) CreateGroup(ctx context.Context, n api.NewGroup, key string) (api.Group, error) {
	return send[api.Group](ctx, c, http.MethodPost, "/groups", n, func(r *http.Request) {
		if key != "" {
			r.Header.Set("Idempotency-Key", key)
		}
	})
}

// ChangeGroup changes a group; with a version above 0 only when it is still that one.
func (c *Client) ChangeGroup(ctx context.Context, ref string, patch api.GroupPatch, version int) (api.Group, error) {
	return send[api.Group](ctx, c, http.MethodPatch, at("groups", ref), patch, ifMatch(version))
}

// Retire ends a group.
func (c *Client) Retire(ctx context.Context, ref string) (api.Group, error) {
	return send[api.Group](ctx, c, http.MethodDelete, at("groups", ref), nil)
}

// Renew starts a group's term anew.
func (c *Client) Renew(ctx context.Context, ref string) (api.Group, error) {
	return send[api.Group](ctx, c, http.MethodPost, at("groups", ref, "renewal"), nil)
}

// Restore brings a group back.
func (c *Client) Restore(ctx context.Context, ref string) (api.Group, error) {
	return send[api.Group](ctx, c, http.MethodPost, at("groups", ref, "restoration"), nil)
}

// Policy returns a group's policy in words.
func (c *Client) Policy(ctx context.Context, ref string) (api.Picture, error) {
	return get[api.Picture](ctx, c, at("groups", ref, "policy"), nil)
}

// PolicyEffect says what a change would do.
func (c *Client) PolicyEffect(ctx context.Context, ref string, patch api.PolicyPatch) (api.Effect, error) {
	return send[api.Effect](ctx, c, http.MethodPost, at("groups", ref, "policy", "effect"), patch)
}

// ChangePolicy changes a group's policy.
func (c *Client) ChangePolicy(ctx context.Context, ref string, patch api.PolicyPatch, version int) (api.Group, error) {
	return send[api.Group](ctx, c, http.MethodPatch, at("groups", ref, "policy"), patch, ifMatch(version))
}

// Rehearse asks what would happen.
func (c *Client) Rehearse(ctx context.Context, r api.Rehearsal) (api.Decision, error) {
	return send[api.Decision](ctx, c, http.MethodPost, "/rehearsals", r)
}

// Waiting lists posts that wait for a decision: of one group, or all.
func (c *Client) Waiting(ctx context.Context, ref string, p Paging) (api.Page[api.Post], error) {
	path := "/waiting"
	if ref != "" {
		path = at("groups", ref, "waiting")
	}
	return get[api.Page[api.Post]](ctx, c, path, p.values())
}

// DecidePost approves or declines a post.
func (c *Client) DecidePost(ctx context.Context, id string, v api.Verdict) error {
	return c.Do(ctx, http.MethodPost, at("waiting", id), v, nil)
}

// History lists changes: of one group, or of the workspace.
func (c *Client) History(ctx context.Context, ref string, p Paging) (api.Page[api.HistoryEntry], error) {
	path := "/history"
	if ref != "" {
		path = at("groups", ref, "history")
	}
	return get[api.Page[api.HistoryEntry]](ctx, c, path, p.values())
}

// Expiry reads the rule for how long groups live.
func (c *Client) Expiry(ctx context.Context) (api.Expiry, error) {
	return get[api.Expiry](ctx, c, "/expiry", nil)
}

// ExpiryEffect says what a new rule would do.
func (c *Client) ExpiryEffect(ctx context.Context, e api.Expiry) (api.ExpiryEffect, error) {
	return send[api.ExpiryEffect](ctx, c, http.MethodPost, "/expiry/effect", e)
}

// SetExpiry puts a new rule in force; with a Version above 0 only over that one.
func (c *Client) SetExpiry(ctx context.Context, e api.Expiry) (api.Expiry, error) {
	return send[api.Expiry](ctx, c, http.MethodPut, "/expiry", e, ifMatch(e.Version))
}

// Forecast counts the groups that expire in the coming weeks.
func (c *Client) Forecast(ctx context.Context, weeks int) ([]api.Week, error) {
	return get[[]api.Week](ctx, c, "/expiry/forecast", url.Values{"weeks": {strconv.Itoa(weeks)}})
}

// MoveClock moves the time of a demo.
func (c *Client) MoveClock(ctx context.Context, days int) (api.Clock, error) {
	return send[api.Clock](ctx, c, http.MethodPost, "/demo/clock", api.ClockMove{Days: days})
}
