package post

import (
	"context"
	"errors"
	"sync"

	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// maxAsked is how many questions are read together.
const maxAsked = 64

// asks reads what decisions ask of the records: what is asked while something is read is read together, in one statement, which costs the
// database hardly more for eight messages than for two.
type asks struct {
	mu      sync.Mutex
	queue   []*question
	running bool
}

// question is one that waits for its answer.
type question struct {
	store.Question
	answer store.Asked
	done   chan error
}

// ask returns what is asked about one message. The identifier of a group is nil in its answer where it has gone.
func (q *asks) ask(ctx context.Context, k *workspace.Kernel, of []store.Question) ([]store.Asked, error) {
	if len(of) == 0 {
		return nil, nil
	}
	mine := make([]*question, len(of))
	for i, x := range of {
		mine[i] = &question{Question: x, done: make(chan error, 1)}
	}
	q.mu.Lock()
	q.queue = append(q.queue, mine...)
	if !q.running {
		q.running = true
		go q.run(k)
	}
	q.mu.Unlock()
	out := make([]store.Asked, len(of))
	for i, x := range mine {
		select {
		case err := <-x.done:
			if err != nil {
				return nil, err
			}
			out[i] = x.answer
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	return out, nil
}

// next returns whose answers are read next; nobody at the end.
func (q *asks) next() (some []*question) {
	q.mu.Lock()
	defer q.mu.Unlock()
	n := min(len(q.queue), maxAsked)
	some, q.queue = q.queue[:n:n], q.queue[n:]
	q.running = n > 0
	return some
}

func (q *asks) run(k *workspace.Kernel) {
	for some := q.next(); len(some) > 0; some = q.next() {
		err := read(k, some)
		for _, x := range some {
			one := err
			if err != nil && len(some) > 1 && !errors.Is(err, context.DeadlineExceeded) { // one of them is to blame, and holds up no other
				one = read(k, []*question{x})
			}
			x.done <- one
		}
	}
}

func read(k *workspace.Kernel, some []*question) error {
	ctx, cancel := context.WithTimeout(context.Background(), recordWithin)
	defer cancel()
	all := make([]store.Question, len(some))
	for i, x := range some {
		all[i] = x.Question
	}
	answers, err := k.View(ctx, workspace.Service).Read.AskedTogether(all)
	for i, a := range answers {
		some[i].answer = a
	}
	return err
}
