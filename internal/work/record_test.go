package work

import (
	"context"
	"errors"
	"log/slog"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/workspace/post"
)

// What became of a message is recorded as soon as the database is back: what is not recorded
// would be sent again.
func TestRecordIsTriedUntilItIsDone(t *testing.T) {
	r := New(Options{})
	log := slog.New(slog.DiscardHandler)
	failures := 3
	if !r.record(context.Background(), log, func() error {
		if failures--; failures >= 0 {
			return errors.New("the database has gone")
		}
		return nil
	}) || failures != -1 {
		t.Errorf("given up with %d failures to come", failures)
	}
	if r.record(context.Background(), log, func() error { return post.ErrLost }) {
		t.Error("a job that was lost counts as ours")
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	if r.record(ctx, log, func() error { return errors.New("the database has gone") }) {
		t.Error("a job counts as recorded")
	}
}

// A slow relay has fewer recipients in hand, a fast one more.
func TestTransactionsFollowTheRelay(t *testing.T) {
	r := New(Options{})
	sizes := []int32{r.size.Load()}
	for _, took := range []time.Duration{3 * time.Second, 3 * time.Second, time.Second, time.Millisecond, time.Millisecond, time.Millisecond} {
		r.adapt(took)
		sizes = append(sizes, r.size.Load())
	}
	want := []int32{100, 50, 25, 25, 50, 100, 100}
	for i := range want {
		if sizes[i] != want[i] {
			t.Fatalf("sizes %v; want %v", sizes, want)
		}
	}
	for range 20 {
		r.adapt(time.Minute)
	}
	if n := r.size.Load(); n != smallest {
		t.Errorf("as small as %d", n)
	}
}
