package httpapi

import (
	"context"
	"io"

	"github.com/danielgtaylor/huma/v2"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/life"
)

// GuardedRef is a group in a path, guarded by what was read of it.
type GuardedRef struct {
	Ref
	Match
}

func (s *server) retireGroup(ctx context.Context, by workspace.Actor, in *GuardedRef) (*tagged[api.Group], error) {
	return taggedGroup(matched(in.Match, func(v int) (api.Group, error) { return s.s.Life.Retire(ctx, by, in.Group, v) }))
}

func (s *server) renewGroup(ctx context.Context, by workspace.Actor, in *struct {
	GuardedRef
	Body *api.Renewal // nil: without a reason
}) (*tagged[api.Group], error) {
	var n api.Renewal
	if in.Body != nil {
		n = *in.Body
	}
	return taggedGroup(matched(in.Match, func(v int) (api.Group, error) { return s.s.Life.Renew(ctx, by, in.Group, n, v) }))
}

func (s *server) restoreGroup(ctx context.Context, by workspace.Actor, in *GuardedRef) (*tagged[api.Group], error) {
	return taggedGroup(matched(in.Match, func(v int) (api.Group, error) { return s.s.Life.Restore(ctx, by, in.Group, v) }))
}

func (s *server) holdGroup(ctx context.Context, by workspace.Actor, in *struct {
	GuardedRef
	Body api.Hold
}) (*tagged[api.Group], error) {
	return taggedGroup(matched(in.Match, func(v int) (api.Group, error) { return s.s.Life.Hold(ctx, by, in.Group, in.Body, v) }))
}

func (s *server) releaseGroup(ctx context.Context, by workspace.Actor, in *GuardedRef) (*tagged[api.Group], error) {
	return taggedGroup(matched(in.Match, func(v int) (api.Group, error) { return s.s.Life.Release(ctx, by, in.Group, v) }))
}

func taggedTerms(t api.Terms, err error) (*tagged[api.Terms], error) {
	return tag(t, t.Version, err)
}

func (s *server) readTerms(ctx context.Context, by workspace.Actor, _ *none) (*tagged[api.Terms], error) {
	return taggedTerms(s.s.Life.Terms(ctx, by))
}

func (s *server) changeTerms(ctx context.Context, by workspace.Actor, in *struct {
	Match
	Body api.Terms
}) (*tagged[api.Terms], error) {
	return taggedTerms(matched(in.Match, func(v int) (api.Terms, error) { return s.s.Life.SetTerms(ctx, by, in.Body, v) }))
}

func (s *server) tryTerms(ctx context.Context, by workspace.Actor, in *struct{ Body api.TermTrial }) (*reply[api.TermTried], error) {
	return body(s.s.Life.Try(ctx, by, in.Body))
}

func (s *server) forecastTerms(ctx context.Context, by workspace.Actor, in *struct {
	By     string `query:"by" enum:"rule,domain,owner" doc:"What the groups of each period are counted by; left out: the whole"`
	Filter string `query:"filter" maxLength:"2000" doc:"Only groups that it names, in the grammar of SCIM filters"`
	Scope  string `query:"scope" enum:"owned" doc:"owned: only groups that you own"`
}) (*reply[api.Page[api.Period]], error) {
	return body(s.s.Life.Forecast(ctx, by, life.Asking{By: in.By, Filter: in.Filter, Scope: in.Scope}))
}

func (s *server) listPurged(ctx context.Context, by workspace.Actor, in *struct{ Paging }) (*reply[api.Page[api.PurgedGroup]], error) {
	return body(s.s.Life.Purged(ctx, by, in.Cursor, in.Limit))
}

func (s *server) readTold(ctx context.Context, _ workspace.Actor, in *Secret) (*reply[api.Told], error) {
	return body(s.s.Life.Told(ctx, in.Secret))
}

func (s *server) renewTold(ctx context.Context, by workspace.Actor, in *struct {
	Secret
	Body api.ToldRenewal
}) (*reply[api.Told], error) {
	return body(s.s.Life.RenewTold(ctx, by, in.Secret.Secret, in.Body))
}

func (s *server) readCaretakerAsked(ctx context.Context, _ workspace.Actor, in *Secret) (*reply[api.CaretakerAsked], error) {
	return body(s.s.Life.CaretakerAsked(ctx, in.Secret))
}

func (s *server) agreeToCare(ctx context.Context, by workspace.Actor, in *Secret) (*reply[api.CaretakerAsked], error) {
	return body(s.s.Life.AgreeToCare(ctx, by, in.Secret))
}

func (s *server) makeFeed(ctx context.Context, by workspace.Actor, _ *none) (*reply[api.Feed], error) {
	return body(s.s.Life.MakeFeed(ctx, by))
}

func (s *server) callFeedBack(ctx context.Context, by workspace.Actor, _ *none) (*none, error) {
	return nil, s.s.Life.CallFeedBack(ctx, by)
}

func (s *server) readCalendar(_ context.Context, _ workspace.Actor, in *Secret) (*huma.StreamResponse, error) {
	return s.export(func(ctx context.Context, open func(string) io.Writer) error {
		return s.s.Life.Calendar(ctx, in.Secret, open)
	}), nil
}

func (s *server) moveClock(ctx context.Context, by workspace.Actor, in *struct{ Body api.ClockMove }) (*reply[api.Clock], error) {
	return body(s.s.MoveClock(ctx, by, in.Body.Days))
}
