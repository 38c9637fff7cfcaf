package post

import (
	"context"
	"errors"
	"io"
	"slices"
	"sync"
	"sync/atomic"
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

	patience = time.Millisecond // with messages that are being decided about, so that they are recorded with the next
	glance   = 100 * time.Microsecond
)

// intake records messages that come at the same time in one transaction: while one is committed, those that come meanwhile
// gather for the next.
type intake struct {
	mu       sync.Mutex
	queue    []*entrance
	running  bool
	arriving atomic.Int32 // messages that are being decided about
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

// next returns who is recorded next; nobody at the end.
func (q *intake) next() (batch []*entrance) {
	for end := time.Now().Add(patience); q.arriving.Load() > 0 && time.Now().Before(end); {
		time.Sleep(glance)
	}
	q.mu.Lock()
	defer q.mu.Unlock()
	octets := 0
	for len(q.queue) > 0 && len(batch) < maxMessages && octets < maxOctets {
		e := q.queue[0]
		octets += len(e.p.mail.Message.Header) + e.p.mail.Message.Size
		batch, q.queue = append(batch, e), q.queue[1:]
	}
	q.running = len(batch) > 0
	return batch
}

func (q *intake) run(s *Service) {
	for batch := q.next(); len(batch) > 0; batch = q.next() {
		all := make([]*decided, len(batch))
		for i, e := range batch {
			all[i] = e.p
		}
		err := s.recordPlain(all)
		if err == nil || len(batch) == 1 || errors.Is(err, context.DeadlineExceeded) { // the database does not answer: nobody is to blame
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
			continue
		}
		j.job = *j.recorded
		h.take(j)
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
	j := &Job{Mailing: m.ID, s: s, recorded: row, octets: len(p.mail.Message.Header) + p.mail.Message.Size}
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
