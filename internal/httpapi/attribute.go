package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

// OneAttribute is an attribute of the organisation's own in a path.
type OneAttribute struct {
	Attribute string `path:"name" maxLength:"100"`
}

func (s *server) listAttributes(ctx context.Context, by workspace.Actor, _ *none) (*reply[api.Page[api.OwnAttribute]], error) {
	return body(s.s.Attributes.List(ctx, by))
}

func (s *server) saveAttribute(ctx context.Context, by workspace.Actor, in *struct {
	OneAttribute
	Match
	Body api.NewAttribute
}) (*tagged[api.OwnAttribute], error) {
	a, err := matched(in.Match, func(v int) (api.OwnAttribute, error) {
		return s.s.Attributes.Save(ctx, by, in.Attribute, in.Body, v)
	})
	return tag(a, a.Version, err)
}

func (s *server) deleteAttribute(ctx context.Context, by workspace.Actor, in *struct {
	OneAttribute
	Match
}) (*none, error) {
	v, err := in.version()
	if err != nil {
		return nil, err
	}
	return nil, s.s.Attributes.Delete(ctx, by, in.Attribute, v)
}
