package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func taggedRule(r api.Rule, err error) (*tagged[api.Rule], error) { return tag(r, r.Version, err) }

func (s *server) readRule(ctx context.Context, by workspace.Actor, in *Ref) (*tagged[api.Rule], error) {
	return taggedRule(s.s.Rules.Read(ctx, by, in.Group))
}

func (s *server) setRule(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Match
	Body api.NewRule
}) (*tagged[api.Rule], error) {
	return taggedRule(matched(in.Match, func(v int) (api.Rule, error) { return s.s.Rules.Set(ctx, by, in.Group, in.Body, v) }))
}

func (s *server) deleteRule(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Match
	Remove bool `query:"remove" doc:"Take those out who are in by it; else they stay"`
}) (*none, error) {
	v, err := in.version()
	if err != nil {
		return nil, err
	}
	return nil, s.s.Rules.Delete(ctx, by, in.Group, !in.Remove, v)
}

func (s *server) releaseRule(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Match
}) (*tagged[api.Rule], error) {
	return taggedRule(matched(in.Match, func(v int) (api.Rule, error) { return s.s.Rules.Release(ctx, by, in.Group, v) }))
}

func (s *server) matchRule(ctx context.Context, by workspace.Actor, in *struct{ Body api.RuleQuestion }) (*reply[*api.Preview], error) {
	return body(s.s.Rules.Match(ctx, by, in.Body))
}

func (s *server) explainRule(ctx context.Context, by workspace.Actor, in *struct{ Body api.RuleQuestion }) (*reply[api.RuleExplanation], error) {
	return body(s.s.Rules.Explain(ctx, by, in.Body))
}
