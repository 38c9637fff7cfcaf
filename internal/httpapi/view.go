package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

// OneView is a view in a path.
type OneView struct {
	ID string `path:"id" maxLength:"60"`
}

func (s *server) describeFilter(ctx context.Context, by workspace.Actor, in *struct {
	List string `path:"list" enum:"groups,people,history"`
}) (*reply[api.Page[api.FilterAttribute]], error) {
	return body(s.s.Views.Describe(ctx, by, in.List))
}

// Writing is an expression that is being written.
type Writing struct {
	Text string `query:"text" maxLength:"5000"`
	At   int    `query:"at" minimum:"0" doc:"In octets"`
}

func (s *server) completeFilter(ctx context.Context, by workspace.Actor, in *struct {
	List string `path:"list" enum:"groups,people,history"`
	Writing
}) (*reply[api.RuleCompletion], error) {
	return body(s.s.Views.Complete(ctx, by, in.List, in.Text, in.At))
}

func (s *server) completeRule(ctx context.Context, by workspace.Actor, in *struct{ Writing }) (*reply[api.RuleCompletion], error) {
	return body(s.s.Views.Complete(ctx, by, "", in.Text, in.At))
}

func (s *server) listViews(ctx context.Context, by workspace.Actor, in *struct {
	List string `query:"list" enum:"groups,people,history" doc:"Of all lists when left out"`
}) (*reply[api.Page[api.View]], error) {
	return body(s.s.Views.List(ctx, by, in.List))
}

func (s *server) readView(ctx context.Context, by workspace.Actor, in *OneView) (*tagged[api.View], error) {
	return taggedView(s.s.Views.Read(ctx, by, in.ID))
}

func taggedView(v api.View, err error) (*tagged[api.View], error) {
	return tag(v, v.Version, err)
}

func (s *server) createView(ctx context.Context, by workspace.Actor, in *struct {
	Repeat
	Body api.NewView
}) (*tagged[api.View], error) {
	return taggedView(s.s.Views.Save(ctx, by, "", in.Body, 0))
}

func (s *server) changeView(ctx context.Context, by workspace.Actor, in *struct {
	OneView
	Match
	Body api.NewView
}) (*tagged[api.View], error) {
	v, err := in.version()
	if err != nil {
		return nil, err
	}
	return taggedView(s.s.Views.Save(ctx, by, in.ID, in.Body, v))
}

func (s *server) deleteView(ctx context.Context, by workspace.Actor, in *struct {
	OneView
	Match
}) (*none, error) {
	v, err := in.version()
	if err != nil {
		return nil, err
	}
	return nil, s.s.Views.Delete(ctx, by, in.ID, v)
}
