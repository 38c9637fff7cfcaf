package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Who is a person in a path.
type Who struct {
	Person string `path:"ref" maxLength:"400" doc:"Identifier or address"`
}

func taggedPerson(p api.PersonDetails, err error) (*tagged[api.PersonDetails], error) {
	return tag(p, p.Version, err)
}

func (s *server) listPeople(ctx context.Context, by workspace.Actor, in *struct {
	Paging
	Q     string `query:"q" maxLength:"200" doc:"Beginnings of words of the name or address"`
	Kind  string `query:"kind" enum:"here,departed,external" doc:"here when left out"`
	Lacks string `query:"lacks" maxLength:"60" doc:"Only those who have no value for this field"`
	Sort  string `query:"sort" enum:"name,match" doc:"match: those whom q may mean, the best first, on one page and not counted"`
}) (*reply[api.Page[api.Person]], error) {
	return body(s.s.People.List(ctx, by, people.Query{Q: in.Q, Kind: in.Kind, Lacks: in.Lacks, Sort: in.Sort, Cursor: in.Cursor, Limit: in.Limit}))
}

func (s *server) createPerson(ctx context.Context, by workspace.Actor, in *struct {
	Repeat
	Body api.NewPersonEntry
}) (*tagged[api.PersonDetails], error) {
	return taggedPerson(s.s.Directory.Create(ctx, by, in.Body))
}

func (s *server) readPerson(ctx context.Context, by workspace.Actor, in *Who) (*tagged[api.PersonDetails], error) {
	return taggedPerson(s.s.People.Read(ctx, by, in.Person))
}

func (s *server) changePerson(ctx context.Context, by workspace.Actor, in *struct {
	Who
	Match
	Body api.PersonPatch
}) (*tagged[api.PersonDetails], error) {
	return taggedPerson(matched(in.Match, func(v int) (api.PersonDetails, error) {
		return s.s.Directory.Change(ctx, by, in.Person, in.Body, v)
	}))
}

func (s *server) departPerson(ctx context.Context, by workspace.Actor, in *struct {
	Who
	Match
	Body api.Departure
}) (*tagged[api.PersonDetails], error) {
	return taggedPerson(matched(in.Match, func(v int) (api.PersonDetails, error) {
		return s.s.Directory.Depart(ctx, by, in.Person, in.Body, v)
	}))
}

func (s *server) returnPerson(ctx context.Context, by workspace.Actor, in *struct {
	Who
	Match
}) (*tagged[api.PersonDetails], error) {
	return taggedPerson(matched(in.Match, func(v int) (api.PersonDetails, error) {
		return s.s.Directory.Return(ctx, by, in.Person, v)
	}))
}

func (s *server) sendPasswordLink(ctx context.Context, by workspace.Actor, in *struct {
	Who
	Repeat
}) (*none, error) {
	return nil, s.s.Account.SendLink(ctx, by, in.Person)
}

func (s *server) importPeople(ctx context.Context, by workspace.Actor, in *struct {
	Repeat
	Body api.Import
}) (*reply[api.ImportResult], error) {
	return body(s.s.Directory.Import(ctx, by, in.Body))
}
