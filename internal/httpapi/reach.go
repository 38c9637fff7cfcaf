package httpapi

import (
	"context"
	"io"

	"github.com/danielgtaylor/huma/v2"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func (s *server) readPolicy(ctx context.Context, by workspace.Actor, in *Ref) (*tagged[*api.PolicySummary], error) {
	p, version, err := s.s.Reach.Policy(ctx, by, in.Group)
	return tag(p, version, err)
}

func (s *server) changePolicy(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Match
	Body api.PolicyPatch
}) (*tagged[api.Group], error) {
	return taggedGroup(matched(in.Match, func(v int) (api.Group, error) { return s.s.Reach.ChangePolicy(ctx, by, in.Group, in.Body, v) }))
}

func (s *server) summarisePolicy(ctx context.Context, by workspace.Actor, in *struct{ Body api.PolicyPatch }) (*reply[*api.PolicySummary], error) {
	return body(s.s.Reach.Summarise(ctx, by, in.Body))
}

func (s *server) rehearse(ctx context.Context, by workspace.Actor, in *struct{ Body api.Rehearsal }) (*reply[api.Decision], error) {
	return body(s.s.Reach.Rehearse(ctx, by, in.Body))
}

// Asked is what people may do with a group.
type Asked struct {
	Action string `query:"action" enum:"find,see_people,read,join,add_people,post,write_owners,speak_as,speak_for" required:"true"`
	Draft  string `query:"draft" maxLength:"1000" doc:"NAME=VALUE words of settings: only those for whom it would be otherwise with them"`
}

func (s *server) listPermitted(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Paging
	Asked
}) (*reply[api.Page[api.Permitted]], error) {
	return body(s.s.Reach.WhoMay(ctx, by, in.Group, in.Action, in.Draft, in.Cursor, in.Limit))
}

func (s *server) exportPermitted(_ context.Context, by workspace.Actor, in *struct {
	Ref
	Asked
	Format
}) (*huma.StreamResponse, error) {
	return s.export(func(ctx context.Context, open func(string) io.Writer) error {
		return s.s.Reach.ExportWhoMay(ctx, by, in.Group, in.Action, in.Draft, workspace.Export{Format: in.Format.Format, Open: open})
	}), nil
}

// OfAll says with which groups.
type OfAll struct {
	All bool `query:"all" doc:"With all groups, in place of those that the person is in"`
}

func (s *server) listAbilities(ctx context.Context, by workspace.Actor, in *struct {
	Who
	Paging
	OfAll
}) (*reply[api.Page[api.Abilities]], error) {
	return body(s.s.Reach.Abilities(ctx, by, in.Person, in.All, in.Cursor, in.Limit))
}

func (s *server) exportAbilities(_ context.Context, by workspace.Actor, in *struct {
	Who
	OfAll
	Format
}) (*huma.StreamResponse, error) {
	return s.export(func(ctx context.Context, open func(string) io.Writer) error {
		return s.s.Reach.ExportAbilities(ctx, by, in.Person, in.All, workspace.Export{Format: in.Format.Format, Open: open})
	}), nil
}

func (s *server) readWriting(ctx context.Context, by workspace.Actor, in *struct {
	To string `query:"to" required:"true" maxLength:"400" doc:"Identifier or address of the group"`
}) (*reply[api.Writing], error) {
	return body(s.s.Reach.Writing(ctx, by, in.To))
}

func (s *server) beginAgain(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Match
	Body api.Beginning
}) (*tagged[api.Group], error) {
	g, err := matched(in.Match, func(v int) (api.Group, error) { return s.s.Reach.Begin(ctx, by, in.Group, in.Body.StartingPoint, v) })
	return tag(g, g.Version, err)
}
