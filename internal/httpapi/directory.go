package httpapi

import (
	"context"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

// Who is a person in a path.
type Who struct {
	Person string `path:"ref" maxLength:"400" doc:"Identifier or address"`
}

func taggedPerson(p api.PersonDetails, err error) (*tagged[api.PersonDetails], error) {
	return &tagged[api.PersonDetails]{ETag: strconv.Quote(strconv.Itoa(p.Version)), Body: p}, err
}

func (s *server) registerDirectory(a huma.API) {
	w := s.w
	const people, one = v1 + "/people", v1 + "/people/{ref}"
	route(s, a, "GET", people, "list-people", "The directory of people", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Paging
		Q     string `query:"q" maxLength:"200" doc:"Beginnings of words of the name or address"`
		Kind  string `query:"kind" doc:"here when left out, departed or external"`
		Lacks string `query:"lacks" doc:"Only those who have no value for this field"`
	}) (*reply[api.Page[api.Person]], error) {
		return body(w.People(ctx, by, workspace.PeopleList{Q: in.Q, Kind: in.Kind, Lacks: in.Lacks, Cursor: in.Cursor, Limit: in.Limit}))
	})
	route(s, a, "GET", v1+"/people-suggestions", "suggest-people", "Whom the beginning of a name or an address may mean", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Q     string `query:"q" maxLength:"200"`
		Limit int    `query:"limit" minimum:"1" maximum:"20" default:"8"`
	}) (*reply[[]api.Person], error) {
		return body(w.SuggestPeople(ctx, by, in.Q, in.Limit))
	})
	route(s, a, "POST", people, "create-person", "Put somebody into the directory", 201, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.NewPersonEntry }) (*tagged[api.PersonDetails], error) {
		return taggedPerson(w.CreatePerson(ctx, by, in.Body))
	})
	route(s, a, "GET", one, "read-person", "One person, with their groups", 200, func(ctx context.Context, by workspace.Actor, in *Who) (*tagged[api.PersonDetails], error) {
		return taggedPerson(w.Person(ctx, by, in.Person))
	})
	route(s, a, "PATCH", one, "change-person", "Change an entry of the directory", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Who
		Match
		Body api.PersonPatch
	}) (*tagged[api.PersonDetails], error) {
		v, err := in.version()
		if err != nil {
			return nil, err
		}
		return taggedPerson(w.ChangePerson(ctx, by, in.Person, in.Body, v))
	})
	route(s, a, "GET", one+"/departure", "departure-effect", "What it would do if somebody left", 200, func(ctx context.Context, by workspace.Actor, in *Who) (*reply[api.DepartureEffect], error) {
		return body(w.DepartureEffect(ctx, by, in.Person))
	})
	route(s, a, "POST", one+"/departure", "depart-person", "Somebody leaves the organisation", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Who
		Body api.Departure
	}) (*tagged[api.PersonDetails], error) {
		return taggedPerson(w.Depart(ctx, by, in.Person, in.Body))
	})
	route(s, a, "DELETE", one+"/departure", "return-person", "Somebody who had left is here again", 200, func(ctx context.Context, by workspace.Actor, in *Who) (*tagged[api.PersonDetails], error) {
		return taggedPerson(w.Return(ctx, by, in.Person))
	})
	route(s, a, "GET", one+"/history", "list-person-history", "What somebody did, and what was done to them", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Who
		Paging
	}) (*reply[api.Page[api.HistoryEntry]], error) {
		return body(w.HistoryOfPerson(ctx, by, in.Person, in.Cursor, in.Limit))
	})
	route(s, a, "POST", v1+"/people-imports", "import-people", "Make the directory like a CSV file, or say what that would do", 200, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.Import }) (*reply[api.ImportResult], error) {
		return body(w.ImportPeople(ctx, by, in.Body))
	})
	route(s, a, "POST", one+"/password-link", "send-password-link", "Mail somebody a link by which they choose a password", 204, func(ctx context.Context, by workspace.Actor, in *Who) (*none, error) {
		return nil, w.SendPasswordLink(ctx, by, in.Person)
	})
	route(s, a, "POST", v1+"/password-links", "ask-password-link", "Have a link mailed by which one chooses a password", 202, func(ctx context.Context, _ workspace.Actor, in *struct{ Body api.PasswordWish }) (*none, error) {
		return nil, w.AskPasswordLink(ctx, in.Body.Address)
	})
	route(s, a, "GET", v1+"/password-links/{secret}", "read-password-link", "Whose password a link is for", 200, func(ctx context.Context, _ workspace.Actor, in *Secret) (*reply[api.PasswordLink], error) {
		return body(w.PasswordLink(ctx, in.Secret))
	})
	route(s, a, "POST", v1+"/password-links/{secret}", "choose-password", "Choose a password", 204, func(ctx context.Context, _ workspace.Actor, in *struct {
		Secret
		Body api.NewPassword
	}) (*none, error) {
		return nil, w.ChoosePassword(ctx, in.Secret.Secret, in.Body.Password)
	})
	route(s, a, "PUT", v1+"/me/password", "change-password", "Change my password", 204, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.PasswordChange }) (*none, error) {
		return nil, w.ChangePassword(ctx, by, in.Body)
	})
}
