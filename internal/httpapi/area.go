package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func (s *server) readAreas(ctx context.Context, by workspace.Actor, _ *none) (*tagged[api.Areas], error) {
	a, err := s.s.Area.List(ctx, by)
	return tag(a, a.Version, err)
}

func (s *server) changeAreas(ctx context.Context, by workspace.Actor, in *struct {
	Match
	Body api.NewAreas
}) (*tagged[api.Areas], error) {
	a, err := matched(in.Match, func(v int) (api.Areas, error) { return s.s.Area.Set(ctx, by, in.Body, v) })
	return tag(a, a.Version, err)
}
