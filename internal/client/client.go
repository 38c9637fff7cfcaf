// Package client is the typed client of the HTTP interface, a file a subject. The command
// line and the tests use it.
package client

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
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
	url     string
	token   string
	cookies []*http.Cookie // of a session
	http    *http.Client

	key  string       // of changes, which makes a repeat harmless
	tag  string       // of what changes began from
	look *api.Preview // with a value, changes are only looked at
}

// New returns a client of the service at url, which asks with token, or as nobody
// where it is empty.
func New(url, token string) *Client {
	return &Client{url: strings.TrimSuffix(url, "/"), token: token, http: &http.Client{Timeout: 11 * time.Minute}}
}

// Keyed returns a client whose changes carry an Idempotency-Key: of several requests that
// are the same, with the same key, the first alone makes something.
func (c *Client) Keyed(key string) *Client {
	out := *c
	out.key = key
	return &out
}

// Guarded returns a client whose changes are made only where what they change still has
// this ETag.
func (c *Client) Guarded(tag string) *Client {
	out := *c
	out.tag = tag
	return &out
}

// GuardedBy is Guarded by a version that was read, where c is not guarded already.
func (c *Client) GuardedBy(version int) *Client {
	if c.tag != "" {
		return c
	}
	return c.Guarded(strconv.Quote(strconv.Itoa(version)))
}

// Looking returns a client whose changes are only looked at: what they would do is written
// to p, and their error is ErrLooked.
func (c *Client) Looking(p *api.Preview) *Client {
	out := *c
	out.look = p
	return &out
}

// ErrLooked ends a change that was only looked at.
var ErrLooked = errors.New("the change was only looked at")

// Error is an answer that says no.
type Error struct {
	api.ProblemDetails
}

func (e *Error) Error() string { return e.Detail }

// open sends one request and returns the answer, unless it says no.
func (c *Client) open(ctx context.Context, method, path string, in any, options ...func(*http.Request)) (*http.Response, error) {
	var body io.Reader
	if in != nil {
		b, err := json.Marshal(in)
		if err != nil {
			return nil, err
		}
		body = bytes.NewReader(b)
	}
	r, err := http.NewRequestWithContext(ctx, method, c.url+"/api/v1"+path, body)
	if err != nil {
		return nil, fmt.Errorf("the address of the service can't be used: %w", err)
	}
	if in != nil {
		r.Header.Set("Content-Type", "application/json")
	}
	if c.token != "" {
		r.Header.Set("Authorization", "Bearer "+c.token)
	}
	for _, k := range c.cookies {
		r.AddCookie(k)
	}
	for _, o := range options {
		o(r)
	}
	res, err := c.http.Do(r)
	if err != nil {
		return nil, fmt.Errorf("the service at %s does not answer: %w", c.url, err)
	}
	if res.StatusCode < 300 {
		return res, nil
	}
	defer res.Body.Close()
	e := &Error{}
	if err := json.NewDecoder(res.Body).Decode(&e.ProblemDetails); err != nil || e.Detail == "" {
		e.Status, e.Detail = res.StatusCode, "The service answered "+res.Status+" without saying why."
	}
	return nil, e
}

// do sends one request and reads the answer into out, which may be nil.
func (c *Client) do(ctx context.Context, method, path string, in, out any, options ...func(*http.Request)) error {
	res, err := c.open(ctx, method, path, in, options...)
	if err != nil {
		return err
	}
	defer res.Body.Close()
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
	return out, c.do(ctx, http.MethodGet, path, nil, &out)
}

// ask sends a question that has a body.
func ask[T any](ctx context.Context, c *Client, path string, in any) (out T, err error) {
	return out, c.do(ctx, http.MethodPost, path, in, &out)
}

// none is the answer of what answers nothing.
type none = struct{}

// change asks for a change. Its preview is at the same path, or at that of looked where
// that says another.
func change[T any](ctx context.Context, c *Client, method, path string, in any, looked ...string) (out T, err error) {
	headers := func(r *http.Request) {
		if c.key != "" {
			r.Header.Set("Idempotency-Key", c.key)
		}
		if c.tag != "" {
			r.Header.Set("If-Match", c.tag)
		}
	}
	if c.look == nil {
		return out, c.do(ctx, method, path, in, &out, headers)
	}
	at, query, _ := strings.Cut(path, "?")
	if len(looked) > 0 {
		at = looked[0]
	}
	if at += "/preview"; query != "" {
		at += "?" + query
	}
	if err := c.do(ctx, http.MethodPost, at, in, c.look, headers); err != nil {
		return out, err
	}
	return out, ErrLooked
}

// at makes a path of its parts.
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

// set puts those values into v that are not empty.
func set(v url.Values, pairs map[string]string) url.Values {
	for k, s := range pairs {
		if s != "" {
			v.Set(k, s)
		}
	}
	return v
}

// Looks reports whether changes are only looked at.
func (c *Client) Looks() bool { return c.look != nil }
