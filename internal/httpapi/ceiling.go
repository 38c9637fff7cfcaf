package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func taggedCeilings(c api.Ceilings, err error) (*tagged[api.Ceilings], error) {
	return tag(c, c.Version, err)
}

func (s *server) readCeilings(ctx context.Context, by workspace.Actor, _ *none) (*tagged[api.Ceilings], error) {
	return taggedCeilings(s.s.Bulk.Ceilings(ctx, by))
}

func (s *server) changeCeilings(ctx context.Context, by workspace.Actor, in *struct {
	Match
	Body api.NewCeilings
}) (*tagged[api.Ceilings], error) {
	return taggedCeilings(matched(in.Match, func(v int) (api.Ceilings, error) { return s.s.Bulk.SetCeilings(ctx, by, in.Body, v) }))
}
