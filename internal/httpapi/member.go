package httpapi

import (
	"context"
	"fmt"
	"io"

	"github.com/danielgtaylor/huma/v2"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// MemberFilter says which members of a group are wanted.
type MemberFilter struct {
	Q        string `query:"q" maxLength:"200" doc:"Beginnings of words of the name or address"`
	Role     string `query:"role" enum:"owner,moderator,member"`
	Delivery string `query:"delivery" enum:"each,digest,conversations,none"`
	Kind     string `query:"kind" enum:"person,external,group,departed"`
	Way      string `query:"way" enum:"rule,hand" doc:"rule: in because of the group's rule; hand: all others"`
	Since    string `query:"since" format:"date" doc:"In since this day, such as 2026-11-23"`
}

func (f MemberFilter) list(p Paging) member.Query {
	return member.Query{Q: f.Q, Role: f.Role, Delivery: f.Delivery, Kind: f.Kind, Way: f.Way, Since: f.Since, Cursor: p.Cursor, Limit: p.Limit}
}

func (s *server) listMembers(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Paging
	MemberFilter
}) (*tagged[api.Page[api.Member]], error) {
	p, revision, err := s.s.Member.List(ctx, by, in.Group, in.list(in.Paging))
	return &tagged[api.Page[api.Member]]{fmt.Sprintf(`"r%d"`, revision), p}, err
}

func (s *server) exportMembers(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	MemberFilter
}) (*huma.StreamResponse, error) {
	return s.export(func(ctx context.Context, open func(string) io.Writer) error {
		return s.s.Member.Export(ctx, by, in.Group, in.list(Paging{}), open)
	}), nil
}

func (s *server) addMembers(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Match
	Repeat
	Body api.NewMembers
}) (*reply[api.AddedAll], error) {
	r, err := in.revision()
	if err != nil {
		return nil, err
	}
	return body(s.s.Member.Add(ctx, by, in.Group, in.Body, r))
}

func (s *server) changeMembers(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Match
	Body api.MembersPatch
}) (*reply[api.MembersChanged], error) {
	r, err := in.revision()
	if err != nil {
		return nil, err
	}
	return body(s.s.Member.Change(ctx, by, in.Group, in.Body, r))
}

// OneMember is a member of a group in a path.
type OneMember struct {
	Ref
	Member string `path:"member" maxLength:"400" doc:"Identifier or address"`
}

func (s *server) changeMember(ctx context.Context, by workspace.Actor, in *struct {
	OneMember
	Match
	Body api.MemberPatch
}) (*reply[api.Member], error) {
	r, err := in.revision()
	if err != nil {
		return nil, err
	}
	return body(s.s.Member.ChangeOne(ctx, by, in.Group, in.Member, in.Body, r))
}

func (s *server) removeMember(ctx context.Context, by workspace.Actor, in *struct {
	OneMember
	Match
}) (*none, error) {
	r, err := in.revision()
	if err != nil {
		return nil, err
	}
	return nil, s.s.Member.Remove(ctx, by, in.Group, in.Member, r)
}

func (s *server) readPeopleList(ctx context.Context, by workspace.Actor, in *struct{ Body api.PeopleListRequest }) (*reply[*api.Preview], error) {
	return body(s.s.Member.Read(ctx, by, in.Body))
}

func (s *server) listEffectiveMembers(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Paging
	Q string `query:"q" maxLength:"200" doc:"Beginnings of words of the name or address"`
}) (*reply[api.Page[api.EffectiveMember]], error) {
	return body(s.s.Member.EffectiveMembers(ctx, by, in.Group, in.Q, in.Cursor, in.Limit))
}

func (s *server) readNesting(ctx context.Context, by workspace.Actor, in *Ref) (*reply[api.Nesting], error) {
	return body(s.s.Member.Nesting(ctx, by, in.Group))
}

func (s *server) listNestings(ctx context.Context, by workspace.Actor, in *struct {
	Paging
	Asked bool `query:"asked" doc:"Only what the owners of the inner groups have not agreed to yet"`
}) (*reply[api.Page[api.Nested]], error) {
	return body(s.s.Consent.All(ctx, by, in.Asked, in.Cursor, in.Limit))
}

func (s *server) listConsents(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Paging
}) (*reply[api.Page[api.Nested]], error) {
	return body(s.s.Consent.Of(ctx, by, in.Group, in.Cursor, in.Limit))
}

// OneConsent is what is agreed about a group and another, in a path.
type OneConsent struct {
	Ref
	Other string `path:"other" maxLength:"400" doc:"Identifier or address of the other group"`
}

func (s *server) giveConsent(ctx context.Context, by workspace.Actor, in *struct {
	OneConsent
	Body api.NewConsent
}) (*reply[api.Nested], error) {
	return body(s.s.Consent.Give(ctx, by, in.Group, in.Other, in.Body))
}

func (s *server) endConsent(ctx context.Context, by workspace.Actor, in *struct {
	OneConsent
	Reason string `query:"reason" maxLength:"500" doc:"Mailed to the other side"`
}) (*none, error) {
	return nil, s.s.Consent.End(ctx, by, in.Group, in.Other, in.Reason)
}

// OneOverride is an address in a group, in a path.
type OneOverride struct {
	Ref
	Address string `path:"address" maxLength:"320"`
}

func (s *server) listOverrides(ctx context.Context, by workspace.Actor, in *struct {
	Ref
	Paging
}) (*reply[api.Page[api.Override]], error) {
	return body(s.s.Member.Overrides(ctx, by, in.Group, in.Cursor, in.Limit))
}

func (s *server) readOverride(ctx context.Context, by workspace.Actor, in *OneOverride) (*tagged[api.Override], error) {
	o, err := s.s.Member.Override(ctx, by, in.Group, in.Address)
	return tag(o, o.Version, err)
}

func (s *server) setOverride(ctx context.Context, by workspace.Actor, in *struct {
	OneOverride
	Match
	Body api.NewOverride
}) (*none, error) {
	v, err := in.version()
	if err != nil {
		return nil, err
	}
	return nil, s.s.Rules.SetOverride(ctx, by, in.Group, in.Address, in.Body, v)
}
