package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func (s *server) readPublicPages(ctx context.Context, by workspace.Actor, _ *struct{}) (*tagged[api.PublicPages], error) {
	p, err := s.s.Public.Rules(ctx, by)
	return tag(p, p.Version, err)
}

func (s *server) changePublicPages(ctx context.Context, by workspace.Actor, in *struct {
	Match
	Body api.PublicPages
}) (*tagged[api.PublicPages], error) {
	p, err := matched(in.Match, func(v int) (api.PublicPages, error) { return s.s.Public.SetRules(ctx, by, in.Body, v) })
	return tag(p, p.Version, err)
}

// kept is an answer that is the same for everybody and may be kept for a minute, by caches on the way too.
type kept[T any] struct {
	Cache string `header:"Cache-Control"`
	Body  T
}

func keep[T any](v T, err error) (*kept[T], error) { return &kept[T]{"public, max-age=60", v}, err }

func (s *server) listPublicGroups(ctx context.Context, by workspace.Actor, in *struct {
	Paging
	Q string `query:"q" maxLength:"200" doc:"Beginnings of words of the name or address"`
}) (*kept[api.Page[api.PublicGroupHead]], error) {
	return keep(s.s.Public.List(ctx, by, in.Q, in.Cursor, in.Limit))
}

func (s *server) readPublicGroup(ctx context.Context, by workspace.Actor, in *Ref) (*kept[api.PublicGroup], error) {
	return keep(s.s.Public.Read(ctx, by, in.Group))
}

func (s *server) approachGroup(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Body api.Approach
}) (*reply[api.Approached], error) {
	return body(s.s.Public.Approach(ctx, by, in.Group, in.Body))
}

func (s *server) readProof(ctx context.Context, _ workspace.Actor, in *Secret) (*reply[api.ProofLink], error) {
	return body(s.s.Public.Proof(ctx, in.Secret))
}

func (s *server) proveAddress(ctx context.Context, by workspace.Actor, in *Secret) (*reply[api.ProofLink], error) {
	return body(s.s.Public.Prove(ctx, by, in.Secret))
}
