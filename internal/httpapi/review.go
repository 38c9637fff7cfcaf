package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/review"
)

// FindingsAsked is which findings a list has.
type FindingsAsked struct {
	Kinds    []string `query:"kind" doc:"Of these kinds alone"`
	Severity string   `query:"severity" enum:"serious,doubtful,minor"`
	State    string   `query:"state" enum:"open,assigned,accepted" doc:"Assigned ones are open, too"`
	Group    string   `query:"group" maxLength:"400" doc:"Of this group"`
	Filter   string   `query:"filter" maxLength:"4000" doc:"Of the groups that this filter names"`
	Mine     bool     `query:"mine" doc:"Of my own groups, and what is mine to mend"`
}

func (f FindingsAsked) query() review.Query {
	return review.Query{Kinds: f.Kinds, Severity: f.Severity, State: f.State, Group: f.Group, Filter: f.Filter, Mine: f.Mine}
}

func (s *server) listFindings(ctx context.Context, by workspace.Actor, in *struct {
	Paging
	FindingsAsked
}) (*reply[api.Page[api.Finding]], error) {
	q := in.query()
	q.Cursor, q.Limit = in.Cursor, in.Limit
	return body(s.s.Review.List(ctx, by, q))
}

func (s *server) listFindingKinds(ctx context.Context, by workspace.Actor, in *FindingsAsked) (*reply[api.FindingKinds], error) {
	return body(s.s.Review.Kinds(ctx, by, in.query()))
}

func (s *server) listReviewDays(ctx context.Context, by workspace.Actor, in *struct {
	Days int `query:"days" minimum:"1" maximum:"1100" default:"90" doc:"How many days back"`
}) (*reply[api.Page[api.ReviewDay]], error) {
	return body(s.s.Review.Trend(ctx, by, in.Days))
}

func (s *server) acceptFindings(ctx context.Context, by workspace.Actor, in *struct{ Body api.FindingsAccepted }) (*reply[api.FindingsDecided], error) {
	return body(s.s.Review.Accept(ctx, by, in.Body))
}

func (s *server) assignFindings(ctx context.Context, by workspace.Actor, in *struct{ Body api.FindingsAssigned }) (*reply[api.FindingsDecided], error) {
	return body(s.s.Review.Assign(ctx, by, in.Body))
}

func (s *server) readReviewLimits(ctx context.Context, by workspace.Actor, _ *struct{}) (*tagged[api.ReviewLimits], error) {
	r, err := s.s.Review.Limits(ctx, by)
	return tag(r, r.Version, err)
}

func (s *server) changeReviewLimits(ctx context.Context, by workspace.Actor, in *struct {
	Match
	Body api.ReviewLimits
}) (*tagged[api.ReviewLimits], error) {
	r, err := matched(in.Match, func(v int) (api.ReviewLimits, error) { return s.s.Review.SetLimits(ctx, by, in.Body, v) })
	return tag(r, r.Version, err)
}
