package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

// GuardedRef is a group in a path, guarded by what was read of it.
type GuardedRef struct {
	Ref
	Match
}

func (s *server) retireGroup(ctx context.Context, by workspace.Actor, in *GuardedRef) (*tagged[api.Group], error) {
	return taggedGroup(matched(in.Match, func(v int) (api.Group, error) { return s.s.Life.Retire(ctx, by, in.Group, v) }))
}

func (s *server) renewGroup(ctx context.Context, by workspace.Actor, in *GuardedRef) (*tagged[api.Group], error) {
	return taggedGroup(matched(in.Match, func(v int) (api.Group, error) { return s.s.Life.Renew(ctx, by, in.Group, v) }))
}

func (s *server) restoreGroup(ctx context.Context, by workspace.Actor, in *GuardedRef) (*tagged[api.Group], error) {
	return taggedGroup(matched(in.Match, func(v int) (api.Group, error) { return s.s.Life.Restore(ctx, by, in.Group, v) }))
}

func taggedExpiry(e api.Expiry, err error) (*tagged[api.Expiry], error) {
	return tag(e, e.Version, err)
}

func (s *server) readExpiry(ctx context.Context, by workspace.Actor, _ *none) (*tagged[api.Expiry], error) {
	return taggedExpiry(s.s.Life.Expiry(ctx, by))
}

func (s *server) changeExpiry(ctx context.Context, by workspace.Actor, in *struct {
	Match
	Body api.Expiry
}) (*tagged[api.Expiry], error) {
	return taggedExpiry(matched(in.Match, func(v int) (api.Expiry, error) { return s.s.Life.SetExpiry(ctx, by, in.Body, v) }))
}

func (s *server) forecastExpiry(ctx context.Context, by workspace.Actor, in *struct {
	Weeks int `query:"weeks" minimum:"1" maximum:"104" default:"26"`
}) (*reply[api.Page[api.Week]], error) {
	return body(s.s.Life.Forecast(ctx, by, in.Weeks))
}

func (s *server) moveClock(ctx context.Context, by workspace.Actor, in *struct{ Body api.ClockMove }) (*reply[api.Clock], error) {
	return body(s.s.MoveClock(ctx, by, in.Body.Days))
}
