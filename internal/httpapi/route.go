package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

// route is one row of the table of routes, and, where its change can be looked at first,
// the row of its preview.
type route struct {
	method, path, id, summary string
	public                    bool          // nobody has to be signed in
	here                      bool          // it is for who lacks a second factor too
	scope                     string        // that a token needs
	status                    int           // of a good answer
	body                      int64         // octets of the largest request
	lasts                     time.Duration // after which it is given up
	preview, previewID        string        // the path and the name of its preview; "" for none

	add func(s *server, a huma.API, r route)
}

const v1 = "/api/v1"

// How much a request may send, and for how long it may be worked at.
const (
	smallBody  = 4 << 20
	listBody   = 48 << 20 // a list of 32 MB, as base64
	publicBody = 16 << 10 // of what nobody has to be signed in for
	quickWork  = 30 * time.Second
	longWork   = 10 * time.Minute // what reads or writes everybody
	noReaction = http.StatusNoContent
)

// on is a row of the table of routes.
func on[I, O any](method, path, id, summary string, do func(context.Context, workspace.Actor, *I) (*O, error), options ...func(*route)) route {
	r := route{method: method, path: path, id: id, summary: summary, status: http.StatusOK, body: smallBody, lasts: quickWork, scope: "everything"}
	if method == http.MethodGet {
		r.scope = "read"
	}
	for _, o := range options {
		o(&r)
	}
	r.add = func(s *server, a huma.API, r route) {
		huma.Register(a, r.operation(), func(ctx context.Context, in *I) (*O, error) {
			ctx, cancel := context.WithTimeout(ctx, r.lasts)
			defer cancel()
			ctx, outcome := workspace.Watched(ctx)
			out, err := do(ctx, actorOf(ctx, in), in)
			if err = outcome(err); err != nil {
				return nil, s.outgoing(ctx, err)
			}
			return out, nil
		})
		if r.preview == "" {
			return
		}
		p := r
		p.method, p.path, p.id, p.status, p.summary = http.MethodPost, r.preview, r.previewID, http.StatusOK, "What it would do: "+lowerFirst(r.summary)
		op := p.operation()
		op.Extensions["x-preview-of"] = r.id
		huma.Register(a, op, func(ctx context.Context, in *I) (*reply[*api.Preview], error) {
			ctx, cancel := context.WithTimeout(ctx, r.lasts)
			defer cancel()
			by, report := actorOf(ctx, in).Previewing()
			ctx, outcome := workspace.Watched(ctx)
			_, err := do(ctx, by, in)
			return previewed(report, outcome(err), func(err error) error { return s.outgoing(ctx, err) })
		})
	}
	return r
}

// previewed answers a look at a change. What keeps the change from being done is part of
// the answer; what the actor may not even look at is an error.
func previewed(report *api.Preview, err error, outgoing func(error) error) (*reply[*api.Preview], error) {
	var e *workspace.Error
	switch {
	case err == nil, workspace.Previewed(err):
		return &reply[*api.Preview]{report}, nil
	case !errors.As(err, &e) || e.Kind != workspace.Invalid && e.Kind != workspace.Conflict:
		return nil, outgoing(err)
	}
	report.Says = e.Says
	report.Problems = append(report.Problems, e.Problems...)
	if len(e.Problems) == 0 {
		report.Problems = append(report.Problems, api.Problem{Says: e.Says})
	}
	return &reply[*api.Preview]{report}, nil
}

// actorOf is who asks, with the key that the request has.
func actorOf(ctx context.Context, in any) workspace.Actor {
	by := actor(ctx)
	if k, ok := in.(interface{ key() string }); ok {
		by.Key = k.key()
	}
	return by
}

func (r route) register(s *server, a huma.API) { r.add(s, a, r) }

func (r route) operation() huma.Operation {
	op := huma.Operation{OperationID: r.id, Method: r.method, Path: v1 + r.path, Summary: r.summary, DefaultStatus: r.status, MaxBodyBytes: r.body}
	if r.public {
		op.Security = []map[string][]string{}
	}
	op.Metadata = map[string]any{scopeKey: r.scope, hereKey: r.here}
	op.Extensions = map[string]any{"x-scope": r.scope}
	return op
}

// Options of a row.

// public is for what nobody has to be signed in for.
func public(r *route) { r.public, r.body = true, publicBody }

// Under these names an operation keeps what its route says.
const (
	scopeKey = "scope"
	hereKey  = "here"
)

// here is for what is about how one signs in, so that who lacks a second factor can set one up.
func here(r *route) { r.here = true }

// scoped is for what a token with a scope is enough for. Without it a token needs the scope
// read for GET, and everything for all else.
func scoped(s string) func(*route) { return func(r *route) { r.scope = s } }

// lists is for what a list of people can be given to.
func lists(r *route) { r.body, r.lasts = listBody, longWork }

// long is for what reads or writes everybody, or everything.
func long(r *route) { r.lasts = longWork }

// makes is for what makes something.
func makes(r *route) { r.status = http.StatusCreated }

// silent is for what answers with nothing.
func silent(r *route) { r.status = noReaction }

// looks is for a change that can be looked at first.
func looks(r *route) { r.preview, r.previewID = r.path+"/preview", "preview-"+r.id }

// looksAs is looks under another name: what looked at a change by that name before.
func looksAs(id string) func(*route) {
	return func(r *route) { looks(r); r.previewID = id }
}

// looksAt is looks at another path, where two changes share one.
func looksAt(path string) func(*route) {
	return func(r *route) { r.preview, r.previewID = path+"/preview", "preview-"+r.id }
}

// outgoing turns an error of a use case into what goes out.
func (s *server) outgoing(ctx context.Context, err error) error {
	if se := huma.StatusError(nil); errors.As(err, &se) {
		return err
	}
	return s.problem(ctx, err)
}

// knownParameters refuses parameters that an operation does not have, or that are given
// twice: a list that ignored its filter would show everything.
func knownParameters(a huma.API) func(huma.Context, func(huma.Context)) {
	return func(ctx huma.Context, next func(huma.Context)) {
		u := ctx.URL()
		given, err := url.ParseQuery(u.RawQuery)
		if err != nil {
			_ = huma.WriteErr(a, ctx, http.StatusUnprocessableEntity, "validation failed", &huma.ErrorDetail{Location: "query", Message: "can't be read: " + err.Error(), Value: u.RawQuery})
			return
		}
		var known []string
		for _, p := range ctx.Operation().Parameters {
			if p.In == "query" {
				known = append(known, p.Name)
			}
		}
		var unknown []error
		for name, values := range given {
			if len(values) > 1 {
				unknown = append(unknown, &huma.ErrorDetail{Location: "query." + name, Message: "is given more than once", Value: values})
			}
			if !slices.Contains(known, name) {
				unknown = append(unknown, &huma.ErrorDetail{Location: "query." + name, Message: fmt.Sprintf("there is no parameter of this name; there are %s", listed(known)), Value: given.Get(name)})
			}
		}
		if len(unknown) > 0 {
			_ = huma.WriteErr(a, ctx, http.StatusUnprocessableEntity, "validation failed", unknown...)
			return
		}
		next(ctx)
	}
}

func listed(names []string) string {
	if len(names) == 0 {
		return "none here"
	}
	slices.Sort(names)
	return strings.Join(names, ", ")
}

func lowerFirst(s string) string { return strings.ToLower(s[:1]) + s[1:] }

// Parts of requests that several routes share. Exported, for only then are they
// filled where they are embedded.
type (
	// Filtered is what of a list is wanted.
	Filtered struct {
		Filter string `query:"filter" maxLength:"4000" doc:"An expression in the grammar of SCIM filters (RFC 7644, 3.4.2.2) over the attributes that /filters describes"`
	}
	// Paging is the part of a list that is wanted.
	Paging struct {
		Cursor string `query:"cursor" maxLength:"2000" doc:"The next of the page before"`
		Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
	}
	// Ref is a group in a path.
	Ref struct {
		Group string `path:"ref" maxLength:"400" doc:"Identifier or address of the group"`
	}
	// Match guards a change by what was read.
	Match struct {
		IfMatch string `header:"If-Match" doc:"The ETag that was read; the change is refused when there is a newer one"`
	}
	// Repeat makes a repeat of a request harmless.
	Repeat struct {
		Key string `header:"Idempotency-Key" maxLength:"100" doc:"Of the client's choice. A repeat of the same request with the same key makes nothing; it is answered as the first one was, without secrets"`
	}
	// ID is the identifier of something in a path.
	ID struct {
		ID string `path:"id" maxLength:"100"`
	}
	// Secret is what a link by mail ends in.
	Secret struct {
		Secret string `path:"secret" maxLength:"100"`
	}
)

func (r *Repeat) key() string { return r.Key }

type (
	reply[T any]  struct{ Body T }
	tagged[T any] struct {
		ETag string `header:"ETag"`
		Body T
	}
	none struct{}
)

// body returns a use case's answer as a reply.
func body[T any](v T, err error) (*reply[T], error) { return &reply[T]{v}, err }

// tag returns a use case's answer with the ETag of a version.
func tag[T any](v T, version int, err error) (*tagged[T], error) {
	return &tagged[T]{strconv.Quote(strconv.Itoa(version)), v}, err
}

// version reads an If-Match; 0 stands for none.
func (m Match) version() (int, error) { return m.read("") }

// revision reads an If-Match of the members of a group.
func (m Match) revision() (int, error) { return m.read("r") }

func (m Match) read(prefix string) (int, error) {
	if m.IfMatch == "" || m.IfMatch == "*" {
		return 0, nil
	}
	text, ok := strings.CutPrefix(strings.Trim(strings.TrimPrefix(m.IfMatch, "W/"), `"`), prefix)
	n, err := strconv.Atoi(text)
	if !ok || err != nil || n < 1 {
		return 0, workspace.Fail(workspace.Stale, "If-Match has to be an ETag that this service gave out for this, not %.40q.", m.IfMatch)
	}
	return n, nil
}

// matched calls a use case with the version of an If-Match.
func matched[T any](m Match, do func(version int) (T, error)) (T, error) {
	v, err := m.version()
	if err != nil {
		var none T
		return none, err
	}
	return do(v)
}

// accepted is for what is seen to later.
func accepted(r *route) { r.status = http.StatusAccepted }
