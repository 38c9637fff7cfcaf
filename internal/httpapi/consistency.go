package httpapi

import (
	"context"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func (s *server) checkRecords(ctx context.Context, by workspace.Actor, _ *struct{}) (*reply[api.Consistency], error) {
	return body(s.s.Consistency.Check(ctx, by))
}

func (s *server) repairRecords(ctx context.Context, by workspace.Actor, _ *struct{}) (*reply[api.Consistency], error) {
	return body(s.s.Consistency.Repair(ctx, by))
}
