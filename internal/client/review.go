package client

import (
	"context"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"ivytable.example/ivytable/internal/api"
)

// FindingList says which findings to list. The zero value stands for all.
type FindingList struct {
	Kinds                          []string
	Severity, State, Group, Filter string
	Mine                           bool
	Paging
}

func (l FindingList) query(q url.Values) url.Values {
	q = set(q, map[string]string{"kind": strings.Join(l.Kinds, ","), "severity": l.Severity, "state": l.State, "group": l.Group, "filter": l.Filter})
	if l.Mine {
		q.Set("mine", "true")
	}
	return q
}

// Findings lists what is wrong or doubtful, what weighs most first.
func (c *Client) Findings(ctx context.Context, l FindingList) (api.Page[api.Finding], error) {
	return get[api.Page[api.Finding]](ctx, c, "/findings", l.query(l.values()))
}

// FindingKinds returns the kinds of findings, with how many of each a list has.
func (c *Client) FindingKinds(ctx context.Context, l FindingList) (api.FindingKinds, error) {
	return get[api.FindingKinds](ctx, c, "/finding-kinds", l.query(url.Values{}))
}

// ReviewDays returns how many findings there were on each of some days back.
func (c *Client) ReviewDays(ctx context.Context, days int) (api.Page[api.ReviewDay], error) {
	return get[api.Page[api.ReviewDay]](ctx, c, "/finding-days", url.Values{"days": {strconv.Itoa(days)}})
}

// AcceptFindings says of findings that they are known and fine.
func (c *Client) AcceptFindings(ctx context.Context, n api.FindingsAccepted) (api.FindingsDecided, error) {
	return change[api.FindingsDecided](ctx, c, http.MethodPost, "/findings/acceptances", n)
}

// AssignFindings gives findings to somebody to mend.
func (c *Client) AssignFindings(ctx context.Context, n api.FindingsAssigned) (api.FindingsDecided, error) {
	return change[api.FindingsDecided](ctx, c, http.MethodPost, "/findings/assignments", n)
}

// ReviewLimits returns from when on something is found.
func (c *Client) ReviewLimits(ctx context.Context) (api.ReviewLimits, error) {
	return get[api.ReviewLimits](ctx, c, "/review-limits", nil)
}

// SetReviewLimits changes from when on something is found.
func (c *Client) SetReviewLimits(ctx context.Context, n api.ReviewLimits) (api.ReviewLimits, error) {
	return change[api.ReviewLimits](ctx, c, http.MethodPut, "/review-limits", n)
}
