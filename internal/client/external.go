package client

import (
	"context"
	"net/http"
	"strconv"

	"ivytable.example/ivytable/internal/api"
)

// ExternalList says which external members to list. The zero value stands for all.
type ExternalList struct {
	Q, Group, Domain, Voucher string
	Alone, Endless, Refused   bool
	Within                    int // whose time ends within so many days; 0: whenever
	Paging
}

// Externals lists the external members of all groups, as far as they are the caller's to see.
func (c *Client) Externals(ctx context.Context, l ExternalList) (api.Page[api.External], error) {
	q := set(l.values(), map[string]string{"q": l.Q, "group": l.Group, "domain": l.Domain, "voucher": l.Voucher})
	for name, on := range map[string]bool{"alone": l.Alone, "endless": l.Endless, "refused": l.Refused} {
		if on {
			q.Set(name, "true")
		}
	}
	if l.Within > 0 {
		q.Set("ending_within", strconv.Itoa(l.Within))
	}
	return get[api.Page[api.External]](ctx, c, "/externals", q)
}

// ChangeExternals prolongs external members, takes them out, or says who vouches for them.
func (c *Client) ChangeExternals(ctx context.Context, n api.ExternalsPatch) (api.DecidedAll, error) {
	return change[api.DecidedAll](ctx, c, http.MethodPost, "/externals/changes", n)
}

// ExternalRules returns what the workspace says of external members.
func (c *Client) ExternalRules(ctx context.Context) (api.ExternalRules, error) {
	return get[api.ExternalRules](ctx, c, "/external-rules", nil)
}

// SetExternalRules changes what the workspace says of external members.
func (c *Client) SetExternalRules(ctx context.Context, n api.ExternalRules) (api.ExternalRules, error) {
	return change[api.ExternalRules](ctx, c, http.MethodPut, "/external-rules", n)
}

// OwnPart describes somebody's own part in a group, by the secret of a link.
func (c *Client) OwnPart(ctx context.Context, secret string) (api.OwnPart, error) {
	return get[api.OwnPart](ctx, c, at("own", secret), nil)
}

// ChangeOwnPart changes somebody's own part in a group, by the secret of a link.
func (c *Client) ChangeOwnPart(ctx context.Context, secret string, n api.OwnChange) (api.OwnPart, error) {
	return change[api.OwnPart](ctx, c, http.MethodPost, at("own", secret), n)
}
