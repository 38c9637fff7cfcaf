package client

import (
	"context"
	"io"
	"net/http"
	"net/url"

	"ivytable.example/ivytable/internal/api"
)

// Rehearse asks what would happen.
func (c *Client) Rehearse(ctx context.Context, r api.Rehearsal) (api.Decision, error) {
	return ask[api.Decision](ctx, c, "/rehearsals", r)
}

// Asked is what people may do with a group; with a draft, NAME=VALUE words, for whom it would be
// otherwise.
type Asked struct{ Action, Draft string }

func (a Asked) of(q url.Values) url.Values {
	return set(q, map[string]string{"action": a.Action, "draft": a.Draft})
}

// Permitted lists who may do something with a group, and why.
func (c *Client) Permitted(ctx context.Context, ref string, a Asked, p Paging) (api.Page[api.Permitted], error) {
	return get[api.Page[api.Permitted]](ctx, c, at("groups", ref, "permitted"), a.of(p.values()))
}

// ExportPermitted writes all who may do something with a group to out, as csv or jsonl.
func (c *Client) ExportPermitted(ctx context.Context, ref string, a Asked, format string, out io.Writer) error {
	return c.export(ctx, at("groups", ref, "permitted-export"), a.of(url.Values{}), format, out)
}

// Abilities lists what somebody may do with the groups that they are in, or with all.
func (c *Client) Abilities(ctx context.Context, person string, all bool, p Paging) (api.Page[api.Abilities], error) {
	return get[api.Page[api.Abilities]](ctx, c, at("people", person, "abilities"), set(p.values(), map[string]string{"all": ifSo(all)}))
}

// ExportAbilities writes what somebody may do with groups to out, as csv or jsonl.
func (c *Client) ExportAbilities(ctx context.Context, person string, all bool, format string, out io.Writer) error {
	return c.export(ctx, at("people", person, "abilities-export"), set(url.Values{}, map[string]string{"all": ifSo(all)}), format, out)
}

func ifSo(b bool) string {
	if b {
		return "true"
	}
	return ""
}

// BeginAgain makes a group what a starting point says.
func (c *Client) BeginAgain(ctx context.Context, ref, startingPoint string) (api.Group, error) {
	return change[api.Group](ctx, c, http.MethodPost, at("groups", ref, "starting-point"), api.Beginning{StartingPoint: startingPoint})
}
