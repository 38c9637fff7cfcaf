package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/external"
)

func (s *server) listExternals(ctx context.Context, by workspace.Actor, in *struct {
	Paging
	Q       string `query:"q" maxLength:"200" doc:"Beginnings of words of the name or address"`
	Group   string `query:"group" maxLength:"400" doc:"Of this group"`
	Domain  string `query:"domain" maxLength:"253" doc:"From this domain or below it"`
	Voucher string `query:"voucher" maxLength:"400" doc:"For whom this person vouches"`
	Alone   bool   `query:"alone" doc:"For whom nobody vouches who is here"`
	Endless bool   `query:"endless" doc:"Without an end"`
	Within  int    `query:"ending_within" minimum:"0" maximum:"3650" doc:"Whose time ends within so many days"`
	Refused bool   `query:"refused" doc:"Whom the workspace would not take any more"`
}) (*reply[api.Page[api.External]], error) {
	return body(s.s.External.List(ctx, by, external.Query{Q: in.Q, Group: in.Group, Domain: in.Domain, Voucher: in.Voucher, Alone: in.Alone, Endless: in.Endless, Days: in.Within, Refused: in.Refused, Cursor: in.Cursor, Limit: in.Limit}))
}

func (s *server) changeExternals(ctx context.Context, by workspace.Actor, in *struct{ Body api.ExternalsPatch }) (*reply[api.DecidedAll], error) {
	return body(s.s.External.Change(ctx, by, in.Body))
}

func (s *server) readExternalRules(ctx context.Context, by workspace.Actor, _ *struct{}) (*tagged[api.ExternalRules], error) {
	r, err := s.s.External.Rules(ctx, by)
	return tag(r, r.Version, err)
}

func (s *server) changeExternalRules(ctx context.Context, by workspace.Actor, in *struct {
	Match
	Body api.ExternalRules
}) (*tagged[api.ExternalRules], error) {
	r, err := matched(in.Match, func(v int) (api.ExternalRules, error) { return s.s.External.SetRules(ctx, by, in.Body, v) })
	return tag(r, r.Version, err)
}

func (s *server) readOwnPart(ctx context.Context, _ workspace.Actor, in *Secret) (*reply[api.OwnPart], error) {
	return body(s.s.External.Own(ctx, in.Secret))
}

func (s *server) changeOwnPart(ctx context.Context, by workspace.Actor, in *struct {
	Secret
	Body api.OwnChange
}) (*reply[api.OwnPart], error) {
	return body(s.s.External.ChangeOwn(ctx, by, in.Secret.Secret, in.Body))
}
