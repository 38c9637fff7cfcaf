package post

import (
	"context"
	"errors"
	"io"
	"slices"
	"sync"
	"time"

	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Bounds of what is recorded together.
const (
	maxTogether  = store.BodyRow // octets of a body that is recorded with others
	maxMessages  = 64
	maxOctets    = 4 << 20 // of their headers and bodies
	recordWithin = 30 * time.Second

	// Senders mostly wait for an answer before their next message. Those whose messages came together are given a little time to come
	// together again: one transaction costs little more for eight than for one.
	patience = 3 * time.Millisecond
	moment   = 20 * time.Millisecond // after which nobody is waited for
)

// intake records messages that come at the same time in one transaction: while one is committed, those that come meanwhile
// gather for the next.
type intake struct {
	mu       sync.Mutex
	queue    []*entrance
	running  bool
	together int           // messages that came with the last that were recorded, and while those were
	recorded time.Time     // then
	wanted   int           // messages that are waited for
	there    chan struct{} // closed once they are there; nil: nobody waits
}

// entrance is a message that waits to be recorded.
type entrance struct {
	p    *decided
	done chan error
}

// take records a message, and hands on what is to be done about it. Whoever gives up before its turn has come takes it back; after that
// it waits, since it may be recorded already.
func (q *intake) take(ctx context.Context, s *Service, p *decided) error {
	e := &entrance{p, make(chan error, 1)}
	q.mu.Lock()
	q.queue = append(q.queue, e)
	if !q.running {
		q.running = true
		go q.run(s)
	}
	if q.there != nil && len(q.queue) >= q.wanted {
		close(q.there)
		q.there = nil
	}
	q.mu.Unlock()
	select {
	case err := <-e.done:
		return err
	case <-ctx.Done():
	}
	q.mu.Lock()
	i := slices.Index(q.queue, e)
	if i >= 0 {
		q.queue = slices.Delete(q.queue, i, i+1)
	}
	q.mu.Unlock()
	if i >= 0 {
		return ctx.Err()
	}
	return <-e.done
}

// next returns who is recorded next; nobody at the end. Last is how many were just now.
func (q *intake) next(last int) (batch []*entrance) {
	q.mu.Lock()
	defer q.mu.Unlock()
	if last > 0 {
		q.together, q.recorded = last+len(q.queue), time.Now()
	}
	q.await(min(q.together, maxMessages))
	octets := 0
	for len(q.queue) > 0 && len(batch) < maxMessages && octets < maxOctets {
		e := q.queue[0]
		octets += len(e.p.mail.Message.Header) + e.p.mail.Message.Size
		batch, q.queue = append(batch, e), q.queue[1:]
	}
	q.running = len(batch) > 0
	return batch
}

// await waits, as long as patience allows, until as many messages are there as came together a moment ago.
func (q *intake) await(n int) {
	if n < 2 || len(q.queue) >= n || time.Since(q.recorded) > moment {
		return
	}
	there, late := make(chan struct{}), time.NewTimer(patience)
	q.wanted, q.there = n, there
	q.mu.Unlock()
	select {
	case <-there:
	case <-late.C:
	}
	late.Stop()
	q.mu.Lock()
	q.there = nil
}

func (q *intake) run(s *Service) {
	for batch := q.next(0); len(batch) > 0; batch = q.next(len(batch)) {
		all := make([]*decided, len(batch))
		for i, e := range batch {
			all[i] = e.p
		}
		err := s.recordPlain(all)
		if err == nil || len(batch) == 1 || errors.Is(err, context.DeadlineExceeded) || workspace.Away(err) != "" { // the database does not answer: nobody is to blame
			for _, e := range batch {
				e.done <- err
			}
			continue
		}
		for _, e := range batch { // one of them is to blame, and holds up no other
			e.done <- s.recordPlain([]*decided{e.p})
		}
	}
}

// recordPlain records messages, and hands their jobs on to the hands of this process as far as those are free.
func (s *Service) recordPlain(all []*decided) error {
	h := s.hands.Load()
	var mine []*Job
	left := false // a job is for whoever asks for it
	for _, p := range all {
		for i := range p.mail.Jobs {
			p.mail.Jobs[i].ID, p.mail.Jobs[i].Worker = 0, nil
			j := s.handOn(h, p, &p.mail.Jobs[i])
			if j == nil {
				left = true
				continue
			}
			mine = append(mine, j)
		}
	}
	ctx, cancel := context.WithTimeout(context.Background(), recordWithin)
	defer cancel()
	err := s.k.Do(ctx, workspace.Actor{Via: "smtp"}, func(c *workspace.Change) error {
		if err := record(c, all...); err != nil {
			return err
		}
		if left {
			c.MailQueued()
		}
		return unchanged(c, all...)
	})
	for _, j := range mine {
		if err != nil {
			h.free(j)
		}
		j.job = *j.recorded
	}
	switch {
	case err != nil:
	case len(mine) > 1: // whoever sent them need not wait for this
		go h.takeTogether(mine)
	case len(mine) == 1:
		h.take(mine[0])
	}
	return err
}

// handOn returns the job of a message that is being recorded as the hands of this process get it, with all in memory that it asks for;
// nil where they have no room.
func (s *Service) handOn(h *Hands, p *decided, row *store.Job) *Job {
	if h == nil {
		return nil
	}
	var m *store.Mailing
	for i := range p.mail.Mailings {
		if p.mail.Mailings[i].ID == row.MailingID {
			m = &p.mail.Mailings[i]
		}
	}
	j := &Job{Mailing: m.ID, s: s, known: true, recorded: row, octets: len(p.mail.Message.Header) + p.mail.Message.Size}
	if !h.reserve(j) {
		return nil
	}
	body := make([]byte, p.mail.Message.Size)
	j.first.Store(&body)
	if _, err := io.ReadFull(io.NewSectionReader(p.mail.Body, 0, int64(len(body))), body); err != nil || j.fill(*m, p.mail.Message) != nil {
		h.free(j)
		return nil // whoever opens it says what is wrong
	}
	if m.GroupID != nil {
		g := p.groups[*m.GroupID]
		j.of = &g
	}
	row.Worker, row.NextAt = &h.worker, time.Now().UTC().Add(h.lease)
	return j
}
