package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func taggedGroup(g api.Group, err error) (*tagged[api.Group], error) { return tag(g, g.Version, err) }

func (s *server) listGroups(ctx context.Context, by workspace.Actor, in *struct {
	Paging
	GroupFilter
}) (*reply[api.Page[api.Group]], error) {
	q := in.query()
	q.Cursor, q.Limit = in.Cursor, in.Limit
	return body(s.s.Group.List(ctx, by, q))
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

func (s *server) lookAlikes(ctx context.Context, by workspace.Actor, in *struct{ Body api.LookAlikeRequest }) (*reply[api.Page[api.LookAlike]], error) {
	return body(s.s.Group.LookAlikes(ctx, by, in.Body))
}
