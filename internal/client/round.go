package client

import (
	"context"
	"io"
	"net/http"
	"net/url"
	"strings"

	"ivytable.example/ivytable/internal/api"
)

// Rounds lists rounds, newest first.
func (c *Client) Rounds(ctx context.Context, p Paging) (api.Page[api.Round], error) {
	return get[api.Page[api.Round]](ctx, c, "/rounds", p.values())
}

// Round returns a round.
func (c *Client) Round(ctx context.Context, id string) (api.Round, error) {
	return get[api.Round](ctx, c, at("rounds", id), nil)
}

// BeginRound asks those who own groups to confirm them.
func (c *Client) BeginRound(ctx context.Context, n api.NewRound) (api.Round, error) {
	return change[api.Round](ctx, c, http.MethodPost, "/rounds", n)
}

// ChangeRound changes a round that is open.
func (c *Client) ChangeRound(ctx context.Context, id string, n api.RoundPatch) (api.Round, error) {
	return change[api.Round](ctx, c, http.MethodPatch, at("rounds", id), n)
}

// EndRound ends a round before its day.
func (c *Client) EndRound(ctx context.Context, id string) (api.Round, error) {
	return change[api.Round](ctx, c, http.MethodPost, at("rounds", id, "end"), nil)
}

// RoundGroups lists the groups of a round, in some states or in any.
func (c *Client) RoundGroups(ctx context.Context, id string, states []string, q string, p Paging) (api.Page[api.RoundGroup], error) {
	return get[api.Page[api.RoundGroup]](ctx, c, at("rounds", id, "groups"), set(p.values(), map[string]string{"state": strings.Join(states, ","), "q": q}))
}

// RoundProgress returns how far the parts of a round are.
func (c *Client) RoundProgress(ctx context.Context, id, by string) (api.Page[api.RoundPart], error) {
	return get[api.Page[api.RoundPart]](ctx, c, at("rounds", id, "progress"), url.Values{"by": {by}})
}

// RoundEvidence writes what was answered in a round.
func (c *Client) RoundEvidence(ctx context.Context, id, format string, to io.Writer) error {
	return c.export(ctx, at("exports", "rounds", id), url.Values{}, format, to)
}

// RoundQuestions lists groups that I am asked to confirm.
func (c *Client) RoundQuestions(ctx context.Context, p Paging) (api.Page[api.RoundQuestion], error) {
	return get[api.Page[api.RoundQuestion]](ctx, c, "/round-questions", p.values())
}

// AnswerRound answers for groups.
func (c *Client) AnswerRound(ctx context.Context, n api.RoundAnswer) (api.DecidedAll, error) {
	return change[api.DecidedAll](ctx, c, http.MethodPost, "/round-answers", n)
}

// RoundLetter returns what the letter of a round asked.
func (c *Client) RoundLetter(ctx context.Context, secret string) (api.RoundTold, error) {
	return get[api.RoundTold](ctx, c, at("round-letters", secret), nil)
}

// KeepAsked keeps groups as they are by the link of a letter.
func (c *Client) KeepAsked(ctx context.Context, secret string, n api.RoundKept) (api.RoundTold, error) {
	return ask[api.RoundTold](ctx, c, at("round-letters", secret), n)
}

// Report returns the state of the directory on one page.
func (c *Client) Report(ctx context.Context) (api.Report, error) {
	return get[api.Report](ctx, c, "/report", nil)
}
