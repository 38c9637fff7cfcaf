package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/naming"
)

func (s *server) proposeAddress(ctx context.Context, by workspace.Actor, in *struct {
	Name    string `query:"name" maxLength:"400"`
	Address string `query:"address" maxLength:"400" doc:"Checks this one; a local part alone takes the domain"`
	Domain  string `query:"domain" maxLength:"255"`
	Start   string `query:"starting_point" maxLength:"100" doc:"What the group would be begun from"`
	As      string `query:"creator" maxLength:"320" doc:"As if this person made the group"`
	Group   string `query:"group" maxLength:"400" doc:"A group that would move there"`
}) (*reply[api.Proposal], error) {
	return body(s.s.Naming.Propose(ctx, by, naming.Proposing{Name: in.Name, Address: in.Address, Domain: in.Domain, As: in.As, StartingPoint: in.Start, Group: in.Group}))
}

func taggedNaming(n api.Naming, err error) (*tagged[api.Naming], error) {
	return tag(n, n.Version, err)
}

func (s *server) readNaming(ctx context.Context, by workspace.Actor, _ *none) (*tagged[api.Naming], error) {
	return taggedNaming(s.s.Naming.Read(ctx, by))
}

func (s *server) changeNaming(ctx context.Context, by workspace.Actor, in *struct {
	Match
	Body api.Naming
}) (*tagged[api.Naming], error) {
	return taggedNaming(matched(in.Match, func(v int) (api.Naming, error) { return s.s.Naming.Set(ctx, by, in.Body, v) }))
}

func (s *server) listStartingPoints(ctx context.Context, by workspace.Actor, _ *none) (*reply[api.Page[api.StartingPoint]], error) {
	return body(s.s.Naming.StartingPoints(ctx, by))
}

func (s *server) listDiffering(ctx context.Context, by workspace.Actor, in *struct {
	Paging
	Start string `query:"starting_point" maxLength:"100" doc:"Of this one; of all when left out"`
}) (*reply[api.Page[api.Differing]], error) {
	return body(s.s.Naming.Differing(ctx, by, in.Start, in.Cursor, in.Limit))
}

// OneStartingPoint is a starting point in a path.
type OneStartingPoint struct {
	Name string `path:"name" maxLength:"100"`
}

func taggedStart(p api.StartingPoint, err error) (*tagged[api.StartingPoint], error) {
	return tag(p, p.Version, err)
}

func (s *server) readStartingPoint(ctx context.Context, by workspace.Actor, in *OneStartingPoint) (*tagged[api.StartingPoint], error) {
	return taggedStart(s.s.Naming.StartingPoint(ctx, by, in.Name))
}

func (s *server) saveStartingPoint(ctx context.Context, by workspace.Actor, in *struct {
	OneStartingPoint
	Match
	Body api.NewStartingPoint
}) (*tagged[api.StartingPoint], error) {
	return taggedStart(matched(in.Match, func(v int) (api.StartingPoint, error) {
		return s.s.Naming.SaveStartingPoint(ctx, by, in.Name, in.Body, v)
	}))
}

func (s *server) deleteStartingPoint(ctx context.Context, by workspace.Actor, in *struct {
	OneStartingPoint
	Match
}) (*none, error) {
	v, err := in.version()
	if err != nil {
		return nil, err
	}
	return nil, s.s.Naming.DeleteStartingPoint(ctx, by, in.Name, v)
}
