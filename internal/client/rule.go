package client

import (
	"context"
	"net/http"
	"strconv"

	"ivytable.example/ivytable/internal/api"
)

// Rule reads the rule of membership of a group.
func (c *Client) Rule(ctx context.Context, ref string) (api.Rule, error) {
	return get[api.Rule](ctx, c, at("groups", ref, "rule"), nil)
}

// SetRule puts a rule of membership in force.
func (c *Client) SetRule(ctx context.Context, ref string, n api.NewRule) (api.Rule, error) {
	return change[api.Rule](ctx, c, http.MethodPut, at("groups", ref, "rule"), n)
}

// DeleteRule takes a rule of membership away, and those out who are in by it where
// remove says so.
func (c *Client) DeleteRule(ctx context.Context, ref string, remove bool) error {
	_, err := change[none](ctx, c, http.MethodDelete, at("groups", ref, "rule")+"?remove="+strconv.FormatBool(remove), nil, at("groups", ref, "rule", "removal"))
	return err
}

// ReleaseRule lets a change happen that waits because of the guard.
func (c *Client) ReleaseRule(ctx context.Context, ref string) (api.Rule, error) {
	return change[api.Rule](ctx, c, http.MethodPost, at("groups", ref, "rule", "release"), nil)
}

// MatchRule says whom a rule would take in a new group.
func (c *Client) MatchRule(ctx context.Context, q api.RuleQuestion) (api.Preview, error) {
	return ask[api.Preview](ctx, c, "/rules/preview", q)
}

// ExplainRule says how a rule stands for one person.
func (c *Client) ExplainRule(ctx context.Context, q api.RuleQuestion) (api.RuleExplanation, error) {
	return ask[api.RuleExplanation](ctx, c, "/rules/explanation", q)
}
