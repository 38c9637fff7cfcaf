package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
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
	PeopleFilter
}) (*reply[api.Page[api.Person]], error) {
	q := in.query()
	q.Cursor, q.Limit = in.Cursor, in.Limit
	return body(s.s.People.List(ctx, by, q))
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

func (s *server) movePerson(ctx context.Context, by workspace.Actor, in *struct {
	Who
	Repeat
	Body api.Moves
}) (*reply[api.Moved], error) {
	return body(s.s.Member.Move(ctx, by, in.Person, in.Body))
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

func (s *server) readDepartures(ctx context.Context, by workspace.Actor, _ *struct{}) (*tagged[api.DepartureRules], error) {
	r, err := s.s.Directory.Departures(ctx, by)
	return tag(r, r.Version, err)
}

func (s *server) changeDepartures(ctx context.Context, by workspace.Actor, in *struct {
	Match
	Body api.DepartureRules
}) (*tagged[api.DepartureRules], error) {
	r, err := matched(in.Match, func(v int) (api.DepartureRules, error) { return s.s.Directory.SetDepartures(ctx, by, in.Body, v) })
	return tag(r, r.Version, err)
}

func (s *server) erasePerson(ctx context.Context, by workspace.Actor, in *struct {
	Who
	Match
	Body api.Erasure
}) (*reply[api.Erased], error) {
	return body(matched(in.Match, func(v int) (api.Erased, error) { return s.s.Directory.Erase(ctx, by, in.Person, in.Body, v) }))
}

func (s *server) pauseMail(ctx context.Context, by workspace.Actor, in *struct {
	Who
	Body api.MailPause
}) (*reply[api.MailState], error) {
	return body(s.s.Pause.Pause(ctx, by, in.Person, in.Body))
}

func (s *server) resumeMail(ctx context.Context, by workspace.Actor, in *Who) (*reply[api.MailState], error) {
	return body(s.s.Pause.Resume(ctx, by, in.Person))
}

func (s *server) setDigestTime(ctx context.Context, by workspace.Actor, in *struct {
	Who
	Body api.DigestTime
}) (*reply[api.MailState], error) {
	return body(s.s.Pause.SetDigestTime(ctx, by, in.Person, in.Body))
}
