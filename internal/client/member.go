package client

import (
	"context"
	"io"
	"net/http"
	"net/url"

	"ivytable.example/ivytable/internal/api"
)

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
	res, err := c.open(ctx, http.MethodGet, at("groups", ref, "member-export")+"?"+l.values().Encode(), nil)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	_, err = io.Copy(out, res.Body)
	return err
}

// AddMembers puts people into a group, or invites them.
func (c *Client) AddMembers(ctx context.Context, ref string, n api.NewMembers) (api.AddedAll, error) {
	return change[api.AddedAll](ctx, c, http.MethodPost, at("groups", ref, "members"), n)
}

// PeopleList says who the people of a list are.
func (c *Client) PeopleList(ctx context.Context, q api.PeopleListRequest) (api.Preview, error) {
	return ask[api.Preview](ctx, c, "/people-lists", q)
}

// ChangeMembers changes several memberships at once.
func (c *Client) ChangeMembers(ctx context.Context, ref string, p api.MembersPatch) (api.MembersChanged, error) {
	return change[api.MembersChanged](ctx, c, http.MethodPatch, at("groups", ref, "members"), p, at("groups", ref, "members", "changes"))
}

// ChangeMember changes a role or delivery.
func (c *Client) ChangeMember(ctx context.Context, ref, who string, patch api.MemberPatch) (api.Member, error) {
	return change[api.Member](ctx, c, http.MethodPatch, at("groups", ref, "members", who), patch)
}

// RemoveMember takes somebody out of a group.
func (c *Client) RemoveMember(ctx context.Context, ref, who string) error {
	_, err := change[none](ctx, c, http.MethodDelete, at("groups", ref, "members", who), nil, at("groups", ref, "members", who, "removal"))
	return err
}

// EffectiveMembers lists everybody whom a group reaches.
func (c *Client) EffectiveMembers(ctx context.Context, ref, q string, p Paging) (api.Page[api.EffectiveMember], error) {
	return get[api.Page[api.EffectiveMember]](ctx, c, at("groups", ref, "effective-members"), set(p.values(), map[string]string{"q": q}))
}

// Nesting says what is nested in a group and what it is nested in.
func (c *Client) Nesting(ctx context.Context, ref string) (api.Nesting, error) {
	return get[api.Nesting](ctx, c, at("groups", ref, "nesting"), nil)
}

// Overrides lists who is barred from a group, trusted or held.
func (c *Client) Overrides(ctx context.Context, ref string, p Paging) (api.Page[api.Override], error) {
	return get[api.Page[api.Override]](ctx, c, at("groups", ref, "overrides"), p.values())
}

// Override returns what is settled about one address in a group.
func (c *Client) Override(ctx context.Context, ref, address string) (api.Override, error) {
	return get[api.Override](ctx, c, at("groups", ref, "overrides", address), nil)
}

// SetOverride bars an address from a group, trusts it, holds it, or takes that back.
func (c *Client) SetOverride(ctx context.Context, ref, address string, n api.NewOverride) error {
	_, err := change[none](ctx, c, http.MethodPut, at("groups", ref, "overrides", address), n)
	return err
}

// Nestings lists which groups are nested in which; with asked, only those whose owners have not agreed yet.
func (c *Client) Nestings(ctx context.Context, asked bool, p Paging) (api.Page[api.Nested], error) {
	q := p.values()
	if asked {
		q.Set("asked", "true")
	}
	return get[api.Page[api.Nested]](ctx, c, "/nestings", q)
}

// Consents lists what is agreed and asked for about groups in one, and about it in others.
func (c *Client) Consents(ctx context.Context, ref string, p Paging) (api.Page[api.Nested], error) {
	return get[api.Page[api.Nested]](ctx, c, at("groups", ref, "consents"), p.values())
}

// GiveConsent agrees that a group is in another.
func (c *Client) GiveConsent(ctx context.Context, ref, outer string, n api.NewConsent) (api.Nested, error) {
	return change[api.Nested](ctx, c, http.MethodPut, at("groups", ref, "consents", outer), n)
}

// EndConsent ends that one of two groups is in the other, or what is asked for about it.
func (c *Client) EndConsent(ctx context.Context, ref, other, reason string) error {
	path := at("groups", ref, "consents", other)
	if reason != "" {
		path += "?" + url.Values{"reason": {reason}}.Encode()
	}
	_, err := change[none](ctx, c, http.MethodDelete, path, nil, at("groups", ref, "consents", other, "removal"))
	return err
}
