package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"

	"ivytable.example/ivytable/internal/api"
)

// PeopleList says which people to list. Empty texts stand for all who are here.
type PeopleList struct {
	Paging
	Q, Kind, Lacks string
}

// People lists the directory of people.
func (c *Client) People(ctx context.Context, l PeopleList) (api.Page[api.Person], error) {
	return get[api.Page[api.Person]](ctx, c, "/people", set(l.values(), map[string]string{"q": l.Q, "kind": l.Kind, "lacks": l.Lacks}))
}

// SuggestPeople returns the people whom the beginning of a name may mean.
func (c *Client) SuggestPeople(ctx context.Context, q string, limit int) ([]api.Person, error) {
	return get[[]api.Person](ctx, c, "/people-suggestions", url.Values{"q": {q}, "limit": {strconv.Itoa(limit)}})
}

// Person returns one person with their groups.
func (c *Client) Person(ctx context.Context, ref string) (api.PersonDetails, error) {
	return get[api.PersonDetails](ctx, c, at("people", ref), nil)
}

// CreatePerson puts somebody into the directory.
func (c *Client) CreatePerson(ctx context.Context, n api.NewPersonEntry) (api.PersonDetails, error) {
	return send[api.PersonDetails](ctx, c, http.MethodPost, "/people", n)
}

// ChangePerson changes an entry of the directory; with a version above 0 only when
// it is still that one.
func (c *Client) ChangePerson(ctx context.Context, ref string, p api.PersonPatch, version int) (api.PersonDetails, error) {
	return send[api.PersonDetails](ctx, c, http.MethodPatch, at("people", ref), p, ifMatch(version))
}

// DepartureEffect says what it would do if somebody left.
func (c *Client) DepartureEffect(ctx context.Context, ref string) (api.DepartureEffect, error) {
	return get[api.DepartureEffect](ctx, c, at("people", ref, "departure"), nil)
}

// Depart says that somebody leaves the organisation.
func (c *Client) Depart(ctx context.Context, ref string, d api.Departure) (api.PersonDetails, error) {
	return send[api.PersonDetails](ctx, c, http.MethodPost, at("people", ref, "departure"), d)
}

// Return says that somebody who had left is here again.
func (c *Client) Return(ctx context.Context, ref string) (api.PersonDetails, error) {
	return send[api.PersonDetails](ctx, c, http.MethodDelete, at("people", ref, "departure"), nil)
}

// HistoryOfPerson lists what somebody did, and what was done to them.
func (c *Client) HistoryOfPerson(ctx context.Context, ref string, p Paging) (api.Page[api.HistoryEntry], error) {
	return get[api.Page[api.HistoryEntry]](ctx, c, at("people", ref, "history"), p.values())
}

// ImportPeople makes the directory like a CSV file, or says what that would do.
func (c *Client) ImportPeople(ctx context.Context, q api.Import) (api.ImportResult, error) {
	return send[api.ImportResult](ctx, c, http.MethodPost, "/people-imports", q)
}

// SendPasswordLink mails somebody a link by which they choose a password.
func (c *Client) SendPasswordLink(ctx context.Context, ref string) error {
	_, err := send[struct{}](ctx, c, http.MethodPost, at("people", ref, "password-link"), nil)
	return err
}

// ChangePassword changes one's own password.
func (c *Client) ChangePassword(ctx context.Context, p api.PasswordChange) error {
	_, err := send[struct{}](ctx, c, http.MethodPut, "/me/password", p)
	return err
}

// Proposing is a question for an address.
type Proposing struct {
	Name, Address, Domain, Creator, Group string
}

// Propose returns what a group would be called and its address, or checks the
// address given.
func (c *Client) Propose(ctx context.Context, q Proposing) (api.Proposal, error) {
	return get[api.Proposal](ctx, c, "/address-proposals", set(url.Values{}, map[string]string{"name": q.Name, "address": q.Address, "domain": q.Domain, "creator": q.Creator, "group": q.Group}))
}

// LookAlikes returns groups like one that is yet to be made.
func (c *Client) LookAlikes(ctx context.Context, q api.LookAlikeRequest) ([]api.LookAlike, error) {
	return send[[]api.LookAlike](ctx, c, http.MethodPost, "/look-alikes", q)
}

// Naming reads the rules of naming.
func (c *Client) Naming(ctx context.Context) (api.Naming, error) {
	return get[api.Naming](ctx, c, "/naming", nil)
}

// SetNaming puts rules of naming in force; with a Version above 0 only over those.
func (c *Client) SetNaming(ctx context.Context, n api.Naming) (api.Naming, error) {
	return send[api.Naming](ctx, c, http.MethodPut, "/naming", n, ifMatch(n.Version))
}

// NamingEffect says which groups break rules that are not in force yet.
func (c *Client) NamingEffect(ctx context.Context, n api.Naming) (api.NamingEffect, error) {
	return send[api.NamingEffect](ctx, c, http.MethodPost, "/naming/effect", n)
}

// StartingPoints lists what a group can be begun from.
func (c *Client) StartingPoints(ctx context.Context) ([]api.StartingPoint, error) {
	return get[[]api.StartingPoint](ctx, c, "/starting-points", nil)
}

// SaveStartingPoint makes or changes a starting point.
func (c *Client) SaveStartingPoint(ctx context.Context, name string, n api.NewStartingPoint) (api.StartingPoint, error) {
	return send[api.StartingPoint](ctx, c, http.MethodPut, at("starting-points", name), n)
}

// DeleteStartingPoint deletes a starting point.
func (c *Client) DeleteStartingPoint(ctx context.Context, name string) error {
	return c.Do(ctx, http.MethodDelete, at("starting-points", name), nil, nil)
}
