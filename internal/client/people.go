package client

import (
	"context"
	"net/http"
	"net/url"

	"ivytable.example/ivytable/internal/api"
)

// PeopleQuery says which people to list. Empty texts stand for all who are here. Sorted by
// match, they are those whom Q may mean, the best first.
type PeopleQuery struct {
	Paging
	Q, Kind, Lacks, Filter, Sort string
}

// People lists the directory of people.
func (c *Client) People(ctx context.Context, q PeopleQuery) (api.Page[api.Person], error) {
	return get[api.Page[api.Person]](ctx, c, "/people", q.query())
}

func (q PeopleQuery) query() url.Values {
	return set(q.values(), map[string]string{"q": q.Q, "kind": q.Kind, "lacks": q.Lacks, "filter": q.Filter, "sort": q.Sort})
}

// Person returns one person with their groups.
func (c *Client) Person(ctx context.Context, ref string) (api.PersonDetails, error) {
	return get[api.PersonDetails](ctx, c, at("people", ref), nil)
}

// CreatePerson puts somebody into the directory.
func (c *Client) CreatePerson(ctx context.Context, n api.NewPersonEntry) (api.PersonDetails, error) {
	return change[api.PersonDetails](ctx, c, http.MethodPost, "/people", n)
}

// ChangePerson changes an entry of the directory.
func (c *Client) ChangePerson(ctx context.Context, ref string, p api.PersonPatch) (api.PersonDetails, error) {
	return change[api.PersonDetails](ctx, c, http.MethodPatch, at("people", ref), p)
}

// Depart says that somebody leaves the organisation.
func (c *Client) Depart(ctx context.Context, ref string, d api.Departure) (api.PersonDetails, error) {
	return change[api.PersonDetails](ctx, c, http.MethodPost, at("people", ref, "departure"), d)
}

// MovePerson puts somebody into groups and takes them out of others.
func (c *Client) MovePerson(ctx context.Context, ref string, m api.Moves) (api.Moved, error) {
	return change[api.Moved](ctx, c, http.MethodPost, at("people", ref, "moves"), m)
}

// Return says that somebody who had left is here again.
func (c *Client) Return(ctx context.Context, ref string) (api.PersonDetails, error) {
	return change[api.PersonDetails](ctx, c, http.MethodDelete, at("people", ref, "departure"), nil, at("people", ref, "return"))
}

// SendPasswordLink mails somebody a link by which they choose a password.
func (c *Client) SendPasswordLink(ctx context.Context, ref string) error {
	_, err := change[none](ctx, c, http.MethodPost, at("people", ref, "password-link"), nil)
	return err
}

// ImportPeople makes the directory like a CSV file.
func (c *Client) ImportPeople(ctx context.Context, q api.Import) (api.ImportResult, error) {
	return change[api.ImportResult](ctx, c, http.MethodPost, "/people-imports", q)
}

// DepartureRules returns who takes over what somebody leaves behind.
func (c *Client) DepartureRules(ctx context.Context) (api.DepartureRules, error) {
	return get[api.DepartureRules](ctx, c, "/departure-rules", nil)
}

// SetDepartureRules changes who takes over what somebody leaves behind.
func (c *Client) SetDepartureRules(ctx context.Context, n api.DepartureRules) (api.DepartureRules, error) {
	return change[api.DepartureRules](ctx, c, http.MethodPut, "/departure-rules", n)
}

// Erase takes what names somebody out of the directory and the history.
func (c *Client) Erase(ctx context.Context, ref string, n api.Erasure) (api.Erased, error) {
	return change[api.Erased](ctx, c, http.MethodPost, at("people", ref, "erasure"), n)
}

// PauseMail stops the mail of all groups to somebody up to and with a day.
func (c *Client) PauseMail(ctx context.Context, ref, until string) (api.MailState, error) {
	return change[api.MailState](ctx, c, http.MethodPut, at("people", ref, "mail-pause"), api.MailPause{Until: until})
}

// ResumeMail lets the mail of groups reach somebody again.
func (c *Client) ResumeMail(ctx context.Context, ref string) (api.MailState, error) {
	return change[api.MailState](ctx, c, http.MethodDelete, at("people", ref, "mail-pause"), nil, at("people", ref, "mail-pause", "end"))
}

// SetDigestTime says when somebody gets their digests.
func (c *Client) SetDigestTime(ctx context.Context, ref string, d api.DigestTime) (api.MailState, error) {
	return change[api.MailState](ctx, c, http.MethodPut, at("people", ref, "digest-time"), d)
}
