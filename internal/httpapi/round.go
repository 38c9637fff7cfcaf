package httpapi

import (
	"context"
	"io"

	"github.com/danielgtaylor/huma/v2"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

// OneRound is the path of a round.
type OneRound struct {
	ID string `path:"id" maxLength:"40" doc:"Its identifier"`
}

func (s *server) listRounds(ctx context.Context, by workspace.Actor, in *Paging) (*reply[api.Page[api.Round]], error) {
	return body(s.s.Round.List(ctx, by, in.Cursor, in.Limit))
}

func (s *server) beginRound(ctx context.Context, by workspace.Actor, in *struct {
	Repeat
	Body api.NewRound
}) (*reply[api.Round], error) {
	return body(s.s.Round.Begin(ctx, by, in.Body))
}

func (s *server) readRound(ctx context.Context, by workspace.Actor, in *OneRound) (*tagged[api.Round], error) {
	r, err := s.s.Round.Read(ctx, by, in.ID)
	return tag(r, r.Version, err)
}

func (s *server) changeRound(ctx context.Context, by workspace.Actor, in *struct {
	OneRound
	Match
	Body api.RoundPatch
}) (*tagged[api.Round], error) {
	r, err := matched(in.Match, func(v int) (api.Round, error) { return s.s.Round.Change(ctx, by, in.ID, in.Body, v) })
	return tag(r, r.Version, err)
}

func (s *server) endRound(ctx context.Context, by workspace.Actor, in *struct {
	OneRound
	Match
}) (*tagged[api.Round], error) {
	r, err := matched(in.Match, func(v int) (api.Round, error) { return s.s.Round.End(ctx, by, in.ID, v) })
	return tag(r, r.Version, err)
}

func (s *server) listRoundGroups(ctx context.Context, by workspace.Actor, in *struct {
	OneRound
	Paging
	State []string `query:"state" maxItems:"5" enum:"waiting,kept,retired,silent,gone" doc:"Of any state, when left out"`
	Q     string   `query:"q" maxLength:"200" doc:"A beginning of the name or of the address"`
}) (*reply[api.Page[api.RoundGroup]], error) {
	return body(s.s.Round.Groups(ctx, by, in.ID, in.State, in.Q, in.Cursor, in.Limit))
}

func (s *server) listRoundProgress(ctx context.Context, by workspace.Actor, in *struct {
	OneRound
	By string `query:"by" enum:"domain,owner,area" default:"domain" doc:"owner: who owned them first when it began"`
}) (*reply[api.Page[api.RoundPart]], error) {
	return body(s.s.Round.Progress(ctx, by, in.ID, in.By))
}

func (s *server) exportRound(_ context.Context, by workspace.Actor, in *struct {
	OneRound
	Format
}) (*huma.StreamResponse, error) {
	return s.export(func(ctx context.Context, open func(string) io.Writer) error {
		return s.s.Round.Evidence(ctx, by, in.ID, workspace.Export{Format: in.Format.Format, Open: open})
	}), nil
}

func (s *server) listRoundQuestions(ctx context.Context, by workspace.Actor, in *Paging) (*reply[api.Page[api.RoundQuestion]], error) {
	return body(s.s.Round.Mine(ctx, by, in.Cursor, in.Limit))
}

func (s *server) answerRound(ctx context.Context, by workspace.Actor, in *struct{ Body api.RoundAnswer }) (*reply[api.DecidedAll], error) {
	return body(s.s.Round.Answer(ctx, by, in.Body))
}

func (s *server) readRoundLetter(ctx context.Context, _ workspace.Actor, in *Secret) (*reply[api.RoundTold], error) {
	return body(s.s.Round.Told(ctx, in.Secret))
}

func (s *server) keepAsked(ctx context.Context, by workspace.Actor, in *struct {
	Secret
	Body api.RoundKept
}) (*reply[api.RoundTold], error) {
	return body(s.s.Round.KeepTold(ctx, by, in.Secret.Secret, in.Body))
}

func (s *server) readReport(ctx context.Context, by workspace.Actor, _ *struct{}) (*reply[api.Report], error) {
	return body(s.s.Round.Report(ctx, by, s.s.Review))
}
