package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

// InDomain is a mail domain in a path.
type InDomain struct {
	Domain string `path:"name" maxLength:"255"`
}

func taggedDomain(d api.Domain, err error) (*tagged[api.Domain], error) {
	return tag(d, d.Version, err)
}

func (s *server) listDomains(ctx context.Context, by workspace.Actor, _ *none) (*reply[api.Page[api.Domain]], error) {
	return body(s.s.Domains.List(ctx, by))
}

func (s *server) addDomain(ctx context.Context, by workspace.Actor, in *struct {
	Repeat
	Body api.NewDomain
}) (*tagged[api.Domain], error) {
	return taggedDomain(s.s.Domains.Add(ctx, by, in.Body))
}

func (s *server) leadDomain(ctx context.Context, by workspace.Actor, in *struct {
	InDomain
	Match
}) (*tagged[api.Domain], error) {
	return taggedDomain(matched(in.Match, func(v int) (api.Domain, error) { return s.s.Domains.Lead(ctx, by, in.Domain, v) }))
}

func (s *server) retireDomain(ctx context.Context, by workspace.Actor, in *struct {
	InDomain
	Match
}) (*none, error) {
	v, err := in.version()
	if err != nil {
		return nil, err
	}
	return nil, s.s.Domains.Retire(ctx, by, in.Domain, v)
}
