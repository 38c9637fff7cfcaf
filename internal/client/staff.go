package client

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"

	"ivytable.example/ivytable/internal/api"
)

// set puts those values into v that are not empty.
func set(v url.Values, pairs map[string]string) url.Values {
	for k, s := range pairs {
		if s != "" {
			v.Set(k, s)
		}
	}
	return v
}

// MemberList says which members of a group to list. Empty texts stand for all.
type MemberList struct {
	Paging
	Q, Role, Delivery, Kind, Way, Since string
}

func (l MemberList) values() url.Values {
	return set(l.Paging.values(), map[string]string{"q": l.Q, "role": l.Role, "delivery": l.Delivery, "kind": l.Kind, "way": l.Way, "since": l.Since})
}

// Members lists who is in a group.
func (c *Client) Members(ctx context.Context, ref string, l MemberList) (api.Page[api.Member], error) {
	return get[api.Page[api.Member]](ctx, c, at("groups", ref, "members"), l.values())
}

// ExportMembers writes who is in a group to out, as CSV.
func (c *Client) ExportMembers(ctx context.Context, ref string, l MemberList, out io.Writer) error {
	l.Paging = Paging{}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, c.url+"/api/v1"+at("groups", ref, "member-export")+"?"+l.values().Encode(), nil)
	if err != nil {
		return err
	}
	r.Header.Set("Authorization", "Bearer "+c.token)
	res, err := c.http.Do(r)
	if err != nil {
		return fmt.Errorf("the service at %s does not answer: %w", c.url, err)
	}
	defer res.Body.Close()
	if res.StatusCode >= 300 {
		e := &Error{}
		if err := json.NewDecoder(res.Body).Decode(&e.ProblemDetails); err != nil {
			return err
		}
		return e
	}
	_, err = io.Copy(out, res.Body)
	return err
}

// AddMembers puts people into a group, or invites them.
func (c *Client) AddMembers(ctx context.Context, ref string, n api.NewMembers) (api.AddedAll, error) {
	return send[api.AddedAll](ctx, c, http.MethodPost, at("groups", ref, "members"), n)
}

// Roster says who the people of a list are.
func (c *Client) Roster(ctx context.Context, q api.RosterRequest) (api.Roster, error) {
	return send[api.Roster](ctx, c, http.MethodPost, "/rosters", q)
}

// ChangeMembers changes several memberships at once.
func (c *Client) ChangeMembers(ctx context.Context, ref string, p api.MembersPatch) (api.MembersChanged, error) {
	return send[api.MembersChanged](ctx, c, http.MethodPatch, at("groups", ref, "members"), p)
}

// ChangeMember changes a role or delivery.
func (c *Client) ChangeMember(ctx context.Context, ref, who string, patch api.MemberPatch) (api.Member, error) {
	return send[api.Member](ctx, c, http.MethodPatch, at("groups", ref, "members", who), patch)
}

// RemoveMember takes somebody out of a group.
func (c *Client) RemoveMember(ctx context.Context, ref, who string) error {
	return c.Do(ctx, http.MethodDelete, at("groups", ref, "members", who), nil, nil)
}

// Reached lists everybody whom a group reaches.
func (c *Client) Reached(ctx context.Context, ref, q string, p Paging) (api.Page[api.Reached], error) {
	return get[api.Page[api.Reached]](ctx, c, at("groups", ref, "reached"), set(p.values(), map[string]string{"q": q}))
}

// Nesting says what is nested in a group and what it is nested in.
func (c *Client) Nesting(ctx context.Context, ref string) (api.Nesting, error) {
	return get[api.Nesting](ctx, c, at("groups", ref, "nesting"), nil)
}

// Join joins a group, or asks to.
func (c *Client) Join(ctx context.Context, ref string, wish api.Wish) (api.Wished, error) {
	return send[api.Wished](ctx, c, http.MethodPost, at("groups", ref, "joining"), wish)
}

// Leave leaves a group, or asks to.
func (c *Client) Leave(ctx context.Context, ref string, wish api.Wish) (api.Wished, error) {
	return send[api.Wished](ctx, c, http.MethodPost, at("groups", ref, "leaving"), wish)
}

// Requests lists requests: of one group, those that wait for me, or those that I made.
func (c *Client) Requests(ctx context.Context, ref string, mine bool, p Paging) (api.Page[api.Request], error) {
	path, v := "/requests", p.values()
	switch {
	case ref != "":
		path = at("groups", ref, "requests")
	case mine:
		v.Set("mine", "true")
	}
	return get[api.Page[api.Request]](ctx, c, path, v)
}

// DecideRequests approves or declines requests.
func (c *Client) DecideRequests(ctx context.Context, d api.Decisions) ([]api.Decided, error) {
	return send[[]api.Decided](ctx, c, http.MethodPost, "/requests/decisions", d)
}

// WithdrawRequest takes back a request of mine.
func (c *Client) WithdrawRequest(ctx context.Context, id string) error {
	return c.Do(ctx, http.MethodDelete, at("requests", id), nil, nil)
}

// Invitations lists the invitations of a group that were not answered.
func (c *Client) Invitations(ctx context.Context, ref string, p Paging) (api.Page[api.Invitation], error) {
	return get[api.Page[api.Invitation]](ctx, c, at("groups", ref, "invitations"), p.values())
}

// CallBackInvitation ends an invitation.
func (c *Client) CallBackInvitation(ctx context.Context, ref, address string) error {
	return c.Do(ctx, http.MethodDelete, at("groups", ref, "invitations", address), nil, nil)
}

// Invitation says what an invitation is to.
func (c *Client) Invitation(ctx context.Context, secret string) (api.Offer, error) {
	return get[api.Offer](ctx, c, at("invitations", secret), nil)
}

// AnswerInvitation accepts or declines an invitation.
func (c *Client) AnswerInvitation(ctx context.Context, secret, answer string) (api.Offer, error) {
	return send[api.Offer](ctx, c, http.MethodPost, at("invitations", secret), api.Answer{Answer: answer})
}

// JoinLinks lists the links into a group.
func (c *Client) JoinLinks(ctx context.Context, ref string) ([]api.JoinLink, error) {
	return get[[]api.JoinLink](ctx, c, at("groups", ref, "join-links"), nil)
}

// CreateJoinLink makes a link into a group.
func (c *Client) CreateJoinLink(ctx context.Context, ref string, n api.NewJoinLink) (api.JoinLink, error) {
	return send[api.JoinLink](ctx, c, http.MethodPost, at("groups", ref, "join-links"), n)
}

// CallBackJoinLink ends a link.
func (c *Client) CallBackJoinLink(ctx context.Context, ref, id string) error {
	return c.Do(ctx, http.MethodDelete, at("groups", ref, "join-links", id), nil, nil)
}

// UseJoinLink enters a group by a link.
func (c *Client) UseJoinLink(ctx context.Context, secret string) (api.Wished, error) {
	return send[api.Wished](ctx, c, http.MethodPost, at("join-links", secret), nil)
}

// Standings lists who is barred from a group, trusted or held.
func (c *Client) Standings(ctx context.Context, ref string) ([]api.StandingOf, error) {
	return get[[]api.StandingOf](ctx, c, at("groups", ref, "standings"), nil)
}

// SetStanding bars an address from a group, trusts it, holds it, or takes that back.
func (c *Client) SetStanding(ctx context.Context, ref, address string, n api.NewStanding) error {
	return c.Do(ctx, http.MethodPut, at("groups", ref, "standings", address), n, nil)
}

// Rule reads the rule of membership of a group.
func (c *Client) Rule(ctx context.Context, ref string) (api.Rule, error) {
	return get[api.Rule](ctx, c, at("groups", ref, "rule"), nil)
}

// SetRule puts a rule of membership in force.
func (c *Client) SetRule(ctx context.Context, ref string, n api.NewRule) (api.Rule, error) {
	return send[api.Rule](ctx, c, http.MethodPut, at("groups", ref, "rule"), n)
}

// DeleteRule takes a rule of membership away, and those out who are in by it where
// remove says so.
func (c *Client) DeleteRule(ctx context.Context, ref string, remove bool) error {
	return c.Do(ctx, http.MethodDelete, at("groups", ref, "rule")+"?remove="+strconv.FormatBool(remove), nil, nil)
}

// ReleaseRule lets a change happen that waits because of the guard.
func (c *Client) ReleaseRule(ctx context.Context, ref string) (api.Rule, error) {
	return send[api.Rule](ctx, c, http.MethodPost, at("groups", ref, "rule", "release"), nil)
}

// RuleEffect says whom a rule would take.
func (c *Client) RuleEffect(ctx context.Context, q api.RuleQuestion) (api.RuleEffect, error) {
	return send[api.RuleEffect](ctx, c, http.MethodPost, "/rules/effect", q)
}

// ExplainRule says how a rule stands for one person.
func (c *Client) ExplainRule(ctx context.Context, q api.RuleQuestion) (api.RuleExplanation, error) {
	return send[api.RuleExplanation](ctx, c, http.MethodPost, "/rules/explanation", q)
}
