package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
)

func taggedGroup(g api.Group, err error) (*tagged[api.Group], error) { return tag(g, g.Version, err) }

func (s *server) listGroups(ctx context.Context, by workspace.Actor, in *struct {
	Paging
	Q     string   `query:"q" maxLength:"200" doc:"Beginnings of words of the name or address"`
	State []string `query:"state" maxItems:"4" enum:"active,due,lapsed,retired"`
	Scope string   `query:"scope" enum:"mine,owned,joinable" doc:"All that I can find when left out"`
	Sort  string   `query:"sort" enum:"name,people,post,expires,created,-name,-people,-post,-expires,-created" doc:"A leading - for the other direction; by name when left out"`
}) (*reply[api.Page[api.Group]], error) {
	return body(s.s.Group.List(ctx, by, group.Query{Q: in.Q, States: in.State, Scope: in.Scope, Sort: in.Sort, Cursor: in.Cursor, Limit: in.Limit}))
}

func (s *server) createGroup(ctx context.Context, by workspace.Actor, in *struct {
	Repeat
	Body api.NewGroup
}) (*tagged[api.Group], error) {
	return taggedGroup(s.s.Group.Create(ctx, by, in.Body))
}

func (s *server) readGroup(ctx context.Context, by workspace.Actor, in *Ref) (*tagged[api.Group], error) {
	return taggedGroup(s.s.Group.Read(ctx, by, in.Group))
}

func (s *server) changeGroup(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Match
	Body api.GroupPatch
}) (*tagged[api.Group], error) {
	return taggedGroup(matched(in.Match, func(v int) (api.Group, error) { return s.s.Group.Change(ctx, by, in.Group, in.Body, v) }))
}

func (s *server) readPolicy(ctx context.Context, by workspace.Actor, in *Ref) (*tagged[*api.PolicySummary], error) {
	p, version, err := s.s.Group.Policy(ctx, by, in.Group)
	return tag(p, version, err)
}

func (s *server) changePolicy(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Match
	Body api.PolicyPatch
}) (*tagged[api.Group], error) {
	return taggedGroup(matched(in.Match, func(v int) (api.Group, error) { return s.s.Group.ChangePolicy(ctx, by, in.Group, in.Body, v) }))
}

func (s *server) summarisePolicy(ctx context.Context, by workspace.Actor, in *struct{ Body api.PolicyPatch }) (*reply[*api.PolicySummary], error) {
	return body(s.s.Group.Summarise(ctx, by, in.Body))
}

func (s *server) lookAlikes(ctx context.Context, by workspace.Actor, in *struct{ Body api.LookAlikeRequest }) (*reply[api.Page[api.LookAlike]], error) {
	return body(s.s.Group.LookAlikes(ctx, by, in.Body))
}
