package account

import (
	"context"
	"runtime"
	"sync"

	"ivytable.example/ivytable/internal/workspace"
)

// Bounds of how many passwords may wait to be tried: hashing one takes memory and a
// twentieth of a second.
const (
	maxTrying       = 64
	maxTryingSource = 16 // of one source, so that the others get their turn soon
)

// queue lets passwords be tried a few at once, and turns away those who would wait too long.
type queue struct {
	mu     sync.Mutex
	all    int
	source map[string]int
	slots  chan struct{}
}

// newQueue tries fewer at once than wrong passwords shut out: each counts as wrong while it is
// tried, and a program that signs in many times at once with the right one must not shut itself
// out.
func newQueue() *queue {
	return &queue{source: map[string]int{}, slots: make(chan struct{}, min(runtime.NumCPU(), maxFailures/2))}
}

// enter waits for a turn. It is refused at once where too many wait already.
func (q *queue) enter(ctx context.Context, source string) (leave func(), err error) {
	q.mu.Lock()
	if q.all >= maxTrying || q.source[source] >= maxTryingSource {
		q.mu.Unlock()
		return nil, workspace.Later(2, "Too many sign in at once just now. Try again in a few seconds.")
	}
	q.all++
	q.source[source]++
	q.mu.Unlock()
	out := func() {
		q.mu.Lock()
		defer q.mu.Unlock()
		q.all--
		if q.source[source]--; q.source[source] == 0 {
			delete(q.source, source)
		}
	}
	select {
	case q.slots <- struct{}{}:
		return func() { <-q.slots; out() }, nil
	case <-ctx.Done():
		out()
		return nil, ctx.Err()
	}
}
