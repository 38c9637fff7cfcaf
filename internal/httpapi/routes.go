package httpapi

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

// Parts of requests that several routes share. Exported, for only then are they
// filled where they are embedded.
type (
	Paging struct {
		Cursor string `query:"cursor" maxLength:"2000" doc:"The next of the page before"`
		Limit  int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
	}
	Ref struct {
		Group string `path:"ref" maxLength:"400" doc:"Identifier or address of the group"`
	}
	Match struct {
		IfMatch string `header:"If-Match" doc:"The ETag that was read; the change is refused when there is a newer one"`
	}
)

type reply[T any] struct {
	Body T
}

type tagged[T any] struct {
	ETag string `header:"ETag"`
	Body T
}

func taggedGroup(g api.Group, err error) (*tagged[api.Group], error) {
	return &tagged[api.Group]{ETag: strconv.Quote(strconv.Itoa(g.Version)), Body: g}, err
}

// version reads an If-Match; 0 stands for none.
func (m Match) version() (int, error) {
	if m.IfMatch == "" || m.IfMatch == "*" {
		return 0, nil
	}
	n, err := strconv.Atoi(strings.Trim(strings.TrimPrefix(m.IfMatch, "W/"), `"`))
	if err != nil || n < 1 {
		return 0, &workspace.Error{Kind: workspace.Stale, Says: fmt.Sprintf("If-Match has to be an ETag that this service gave out, not %.40q.", m.IfMatch)}
	}
	return n, nil
}

// route adds an operation. Its error goes out as a problem.
func route[I, O any](s *server, a huma.API, method, path, name, summary string, status int, do func(context.Context, workspace.Actor, *I) (*O, error)) {
	op := huma.Operation{OperationID: name, Method: method, Path: path, Summary: summary, DefaultStatus: status, MaxBodyBytes: 4 << 20}
	if takesLists[name] {
		op.MaxBodyBytes = 48 << 20 // a list of 32 MB, as base64
	}
	if name == "sign-in" || strings.HasSuffix(path, "/invitations/{secret}") || strings.Contains(path, "/password-links") {
		op.Security = []map[string][]string{}
	}
	huma.Register(a, op, func(ctx context.Context, in *I) (*O, error) {
		out, err := do(ctx, actor(ctx), in)
		if err != nil {
			if se := huma.StatusError(nil); errors.As(err, &se) {
				return nil, err
			}
			return nil, s.problem(ctx, err)
		}
		return out, nil
	})
}

// takesLists are the operations to which a list of people is given.
var takesLists = map[string]bool{"create-group": true, "add-members": true, "read-roster": true, "import-people": true}

type none struct{}

// body returns do's answer as a reply.
func body[T any](v T, err error) (*reply[T], error) { return &reply[T]{v}, err }

const v1 = "/api/v1"

// register adds every route of the interface.
func (s *server) register(a huma.API) {
	w := s.w

	route(s, a, "POST", v1+"/session", "sign-in", "Sign in", 200, s.signIn)
	route(s, a, "DELETE", v1+"/session", "sign-out", "Sign out", 204, s.signOut)
	route(s, a, "GET", v1+"/me", "me", "Who am I", 200, func(ctx context.Context, by workspace.Actor, _ *none) (*reply[api.Me], error) {
		return body(w.Me(ctx, by))
	})
	route(s, a, "GET", v1+"/tokens", "list-tokens", "My tokens", 200, func(ctx context.Context, by workspace.Actor, _ *none) (*reply[[]api.Token], error) {
		return body(w.Tokens(ctx, by))
	})
	route(s, a, "POST", v1+"/tokens", "create-token", "Make a token for scripts", 201, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.NewToken }) (*reply[api.Token], error) {
		return body(w.CreateToken(ctx, by, in.Body))
	})
	route(s, a, "DELETE", v1+"/tokens/{id}", "revoke-token", "End a token", 204, func(ctx context.Context, by workspace.Actor, in *struct {
		ID string `path:"id" maxLength:"100"`
	}) (*none, error) {
		return nil, w.RevokeToken(ctx, by, in.ID)
	})

	s.registerGroups(a)
	s.registerMembers(a)
	s.registerStaff(a)
	s.registerDirectory(a)
	s.registerRules(a)

	route(s, a, "POST", v1+"/policy-pictures", "picture-policy", "A policy for a new group, in words", 200, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.PolicyPatch }) (*reply[api.Picture], error) {
		return body(w.Picture(ctx, by, in.Body))
	})
	route(s, a, "POST", v1+"/rehearsals", "rehearse", "What would happen if", 200, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.Rehearsal }) (*reply[api.Decision], error) {
		return body(w.Rehearse(ctx, by, in.Body))
	})
	route(s, a, "GET", v1+"/waiting", "list-waiting", "Posts that wait for my decision", 200, func(ctx context.Context, by workspace.Actor, in *Paging) (*reply[api.Page[api.Post]], error) {
		return body(w.WaitingPosts(ctx, by, "", in.Cursor, in.Limit))
	})
	route(s, a, "POST", v1+"/waiting/{id}", "decide-post", "Approve or decline a post", 204, func(ctx context.Context, by workspace.Actor, in *struct {
		ID   string `path:"id" maxLength:"100"`
		Body api.Verdict
	}) (*none, error) {
		return nil, w.DecidePost(ctx, by, in.ID, in.Body)
	})
	route(s, a, "GET", v1+"/history", "list-history", "What changed in the workspace", 200, func(ctx context.Context, by workspace.Actor, in *Paging) (*reply[api.Page[api.HistoryEntry]], error) {
		return body(w.History(ctx, by, "", in.Cursor, in.Limit))
	})
	s.registerExpiry(a)
	route(s, a, "POST", v1+"/demo/clock", "move-clock", "Move the time of a demo", 200, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.ClockMove }) (*reply[api.Clock], error) {
		return body(w.MoveClock(ctx, by, in.Body.Days))
	})
}

func (s *server) registerGroups(a huma.API) {
	w := s.w
	const group = v1 + "/groups/{ref}"
	route(s, a, "GET", v1+"/groups", "list-groups", "Groups that I can find", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Paging
		Q     string   `query:"q" maxLength:"200" doc:"Beginnings of words of the name or address"`
		State []string `query:"state" maxItems:"4" doc:"active, due, lapsed, retired"`
		Scope string   `query:"scope" doc:"mine, owned or joinable; all when left out"`
		Sort  string   `query:"sort" doc:"name, people, post, expires, created; a leading - turns it round"`
	}) (*reply[api.Page[api.Group]], error) {
		return body(w.Groups(ctx, by, workspace.GroupList{Q: in.Q, States: in.State, Scope: in.Scope, Sort: in.Sort, Cursor: in.Cursor, Limit: in.Limit}))
	})
	route(s, a, "POST", v1+"/groups", "create-group", "Create a group", 201, func(ctx context.Context, by workspace.Actor, in *struct {
		Key  string `header:"Idempotency-Key" maxLength:"100" doc:"Makes a repeat of the same request harmless"`
		Body api.NewGroup
	}) (*tagged[api.Group], error) {
		return taggedGroup(w.CreateGroup(ctx, by, in.Body, in.Key))
	})
	route(s, a, "GET", group, "read-group", "One group", 200, func(ctx context.Context, by workspace.Actor, in *Ref) (*tagged[api.Group], error) {
		return taggedGroup(w.Group(ctx, by, in.Group))
	})
	route(s, a, "PATCH", group, "change-group", "Change what a group is called and how long it lives", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Match
		Body api.GroupPatch
	}) (*tagged[api.Group], error) {
		v, err := in.version()
		if err != nil {
			return nil, err
		}
		return taggedGroup(w.ChangeGroup(ctx, by, in.Group, in.Body, v))
	})
	route(s, a, "DELETE", group, "retire-group", "Retire a group; it can be restored for 30 days", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Match
	}) (*tagged[api.Group], error) {
		v, err := in.version()
		if err != nil {
			return nil, err
		}
		return taggedGroup(w.Retire(ctx, by, in.Group, v))
	})
	route(s, a, "GET", group+"/policy", "read-policy", "A group's policy in words", 200, func(ctx context.Context, by workspace.Actor, in *Ref) (*reply[api.Picture], error) {
		return body(w.PolicyOf(ctx, by, in.Group))
	})
	route(s, a, "PATCH", group+"/policy", "change-policy", "Change a group's policy", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Match
		Body api.PolicyPatch
	}) (*tagged[api.Group], error) {
		v, err := in.version()
		if err != nil {
			return nil, err
		}
		return taggedGroup(w.ChangePolicy(ctx, by, in.Group, in.Body, v))
	})
	route(s, a, "POST", group+"/policy/effect", "policy-effect", "What a change of policy would do", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Body api.PolicyPatch
	}) (*reply[api.Effect], error) {
		return body(w.PolicyEffect(ctx, by, in.Group, in.Body))
	})
	route(s, a, "POST", group+"/renewal", "renew-group", "Start a group's term anew", 200, func(ctx context.Context, by workspace.Actor, in *Ref) (*tagged[api.Group], error) {
		return taggedGroup(w.Renew(ctx, by, in.Group))
	})
	route(s, a, "POST", group+"/restoration", "restore-group", "Bring a group back", 200, func(ctx context.Context, by workspace.Actor, in *Ref) (*tagged[api.Group], error) {
		return taggedGroup(w.Restore(ctx, by, in.Group))
	})
	route(s, a, "GET", group+"/waiting", "list-group-waiting", "Posts to a group that wait for approval", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Paging
	}) (*reply[api.Page[api.Post]], error) {
		return body(w.WaitingPosts(ctx, by, in.Group, in.Cursor, in.Limit))
	})
	route(s, a, "GET", group+"/history", "list-group-history", "What changed in a group", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Paging
	}) (*reply[api.Page[api.HistoryEntry]], error) {
		return body(w.History(ctx, by, in.Group, in.Cursor, in.Limit))
	})
}

func (s *server) registerExpiry(a huma.API) {
	w := s.w
	tag := func(e api.Expiry, err error) (*tagged[api.Expiry], error) {
		return &tagged[api.Expiry]{ETag: strconv.Quote(strconv.Itoa(e.Version)), Body: e}, err
	}
	route(s, a, "GET", v1+"/expiry", "read-expiry", "How long groups live", 200, func(ctx context.Context, by workspace.Actor, _ *none) (*tagged[api.Expiry], error) {
		return tag(w.Expiry(ctx, by))
	})
	route(s, a, "PUT", v1+"/expiry", "change-expiry", "Change how long groups live", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Match
		Body api.Expiry
	}) (*tagged[api.Expiry], error) {
		v, err := in.version()
		if err != nil {
			return nil, err
		}
		return tag(w.SetExpiry(ctx, by, in.Body, v))
	})
	route(s, a, "POST", v1+"/expiry/effect", "expiry-effect", "What a new rule would do", 200, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.Expiry }) (*reply[api.ExpiryEffect], error) {
		return body(w.ExpiryEffect(ctx, by, in.Body))
	})
	route(s, a, "GET", v1+"/expiry/forecast", "expiry-forecast", "Groups that expire in the coming weeks", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Weeks int `query:"weeks" minimum:"1" maximum:"104" default:"26"`
	}) (*reply[[]api.Week], error) {
		return body(w.Forecast(ctx, by, in.Weeks))
	})
}

type signedInReply struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
	Body      api.Me
}

func (s *server) cookie(value string, age int) http.Cookie {
	return http.Cookie{Name: sessionCookie, Value: value, Path: "/", MaxAge: age, HttpOnly: true, Secure: s.o.Secure, SameSite: http.SameSiteStrictMode}
}

func (s *server) signIn(ctx context.Context, _ workspace.Actor, in *struct{ Body api.SignIn }) (*signedInReply, error) {
	by, secret, err := s.w.SignIn(ctx, in.Body.Address, in.Body.Password)
	if err != nil {
		return nil, err
	}
	me, err := s.w.Me(ctx, by)
	return &signedInReply{s.cookie(secret, int(workspace.SessionLasts.Seconds())), me}, err
}

func (s *server) signOut(ctx context.Context, by workspace.Actor, _ *none) (*struct {
	SetCookie http.Cookie `header:"Set-Cookie"`
}, error) {
	out := &struct {
		SetCookie http.Cookie `header:"Set-Cookie"`
	}{s.cookie("", -1)}
	return out, s.w.SignOut(ctx, by)
}
