package post

import (
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// Bounds of what the hands of one process hold.
const (
	maxHeldJobs   = 512      // jobs
	maxInMemory   = 64 << 20 // octets of messages that were handed on
	gatherResults = 20 * time.Millisecond
	enoughResults = 16 // that are written down at once

	// atStake is for how many recipients at most the relay is asked to take messages over, or has taken them, before that is written down: so many get a message
	// twice at most when this process is killed.
	atStake = 100
)

// Hands are the jobs that one process works on: those that it accepted itself and that were handed on in memory, and those that it
// claimed from the table. What became of them is gathered, and written down together.
type Hands struct {
	s      *Service
	worker uuid.UUID
	lease  time.Duration
	on     chan *Job

	mu         sync.Mutex
	moved      sync.Cond // something was written down, or lost
	held       map[int64]*Job
	reserved   int // places, those of held jobs too
	octets     int
	away       bool // nothing is taken in memory: the relay is away
	closed     bool
	unrecorded []result
	handing    int // recipients in the window
	due        chan struct{}
	enough     chan struct{} // to write down sooner: somebody waits for it
	stopped    chan struct{}
}

// errClosed says that nothing is gathered any more.
var errClosed = errors.New("the hands are closed")

// result is a transaction that the relay took, or how far a job is done.
type result struct {
	j      *Job
	sent   []string // nil: it was recorded before
	mark   int64
	at     time.Time
	done   string // with whom the job is done; "": as before
	last   bool   // of the job
	weight int    // recipients who leave the window with it
}

// Enter waits until the relay can be asked to take a message over for so many more recipients. They leave again by [Job.Took] or [Hands.Left].
func (h *Hands) Enter(recipients int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for h.handing > 0 && h.handing+recipients > atStake {
		h.hurry()
		h.moved.Wait()
	}
	h.handing += recipients
}

// Left says that the relay took nothing over for recipients in the window, or that it is recorded.
func (h *Hands) Left(recipients int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.handing -= recipients
	h.moved.Broadcast()
}

// Hands returns hands that hold a job for the length of a lease before it is to be kept again.
// Until [Hands.Close], messages that this process accepts are handed on to them; where there are several, to the first.
func (s *Service) Hands(lease time.Duration) *Hands {
	h := &Hands{s: s, worker: store.NewID(), lease: lease, on: make(chan *Job, maxHeldJobs), held: map[int64]*Job{}, due: make(chan struct{}, 1), enough: make(chan struct{}, 1), stopped: make(chan struct{})}
	h.moved.L = &h.mu
	s.hands.CompareAndSwap(nil, h)
	go h.write()
	return h
}

// On gives jobs that were accepted by this process.
func (h *Hands) On() <-chan *Job { return h.on }

// Away says whether the relay is away. While it is, jobs are left in the table.
func (h *Hands) Away(is bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.away = is
}

// reserve makes room for a job that is about to be recorded.
func (h *Hands) reserve(j *Job) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.closed || h.away || h.reserved >= maxHeldJobs || h.octets+j.octets > maxInMemory {
		return false
	}
	h.reserved++
	h.octets += j.octets
	return true
}

// free gives the room of a job back.
func (h *Hands) free(j *Job) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.drop(j)
}

func (h *Hands) drop(j *Job) {
	h.reserved--
	h.octets -= j.octets
	delete(h.held, j.job.ID)
}

// take puts a job, which was recorded, where On gives it.
func (h *Hands) take(j *Job) {
	j.hands, j.worker, j.lease = h, h.worker, h.lease
	h.mu.Lock()
	h.held[j.job.ID] = j
	closed := h.closed
	h.mu.Unlock()
	if closed {
		_ = h.Release(context.Background(), j)
		return
	}
	h.on <- j // there is room, since it was reserved
}

// maxReadTogether is how many recipients are read at once for several jobs; beyond that each is read by itself.
const maxReadTogether = 2000

// takeTogether takes jobs of groups that were recorded at once, with their recipients, who are read in one statement.
func (h *Hands) takeTogether(jobs []*Job) {
	ctx, cancel := context.WithTimeout(context.Background(), recordWithin)
	defer cancel()
	v := h.s.k.View(ctx, workspace.Service)
	var few []*Job
	var groups []*store.Group
	var then []time.Time
	for _, j := range jobs {
		if j.of != nil && j.mailbox != ToOwners {
			few, groups, then = append(few, j), append(groups, j.of), append(then, j.job.AsOf)
		}
	}
	now := time.Now()
	if all, err := member.RecipientsTogether(v, groups, then, maxReadTogether); err == nil {
		for i, j := range few {
			j.all, j.readAt = all[i], now
		}
	}
	for _, j := range jobs {
		h.take(j)
	}
}

// Claim takes up to limit jobs from the table that are due.
func (h *Hands) Claim(ctx context.Context, limit int) ([]*Job, error) {
	h.mu.Lock()
	limit = min(limit, maxHeldJobs-h.reserved)
	h.mu.Unlock()
	if limit <= 0 {
		return nil, nil
	}
	jobs, err := h.s.claim(ctx, h.worker, h.lease, limit)
	if err != nil {
		return nil, err
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	jobs = slices.DeleteFunc(jobs, func(j *Job) bool { return h.held[j.job.ID] != nil }) // held, and its lease ran out meanwhile
	for _, j := range jobs {
		j.hands = h
		h.held[j.job.ID] = j
		h.reserved++
	}
	return jobs, nil
}

// Let ends the work on a job: it is held until what was gathered of it is written down.
func (h *Hands) Let(j *Job) {
	h.mu.Lock()
	defer h.mu.Unlock()
	j.let = true
	h.dropLet(j)
}

func (h *Hands) dropLet(j *Job) {
	if j.let && j.pending == 0 && h.held[j.job.ID] == j {
		h.drop(j)
	}
}

// Release leaves a job that was not begun in the table, for whoever asks first.
func (h *Hands) Release(ctx context.Context, j *Job) error {
	h.free(j)
	err := j.change(ctx, func(c *workspace.Change) error { return c.Tx.ReleaseJobs(h.worker, j.job.ID) })
	if errors.Is(err, ErrLost) {
		return nil
	}
	return err
}

// Keep renews the leases of all that is held. Jobs that are another worker's by now are lost: their work is ended.
func (h *Hands) Keep(ctx context.Context) error {
	h.mu.Lock()
	ids := make([]int64, 0, len(h.held))
	for id := range h.held {
		ids = append(ids, id)
	}
	h.mu.Unlock()
	if len(ids) == 0 {
		return nil
	}
	var kept []int64
	err := h.s.k.Do(ctx, workspace.Service, func(c *workspace.Change) (err error) {
		kept, err = c.Tx.ExtendJobs(ids, h.worker, h.lease)
		return err
	})
	if err != nil || len(kept) == len(ids) {
		return err
	}
	slices.Sort(kept)
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, id := range ids {
		if _, ours := slices.BinarySearch(kept, id); !ours && h.held[id] != nil && h.held[id].pending == 0 {
			h.lose(h.held[id])
		}
	}
	return nil
}

func (h *Hands) lose(j *Job) {
	j.gone = true
	if j.lost != nil {
		j.lost()
	}
	h.moved.Broadcast()
}

// gather keeps what the relay took until it is written down.
func (h *Hands) gather(r result) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	switch {
	case r.j.gone:
		h.handing -= r.weight
		h.moved.Broadcast()
		return ErrLost
	case h.closed:
		return errClosed
	}
	r.j.pending++
	h.unrecorded = append(h.unrecorded, r)
	select {
	case h.due <- struct{}{}:
	default:
	}
	if len(h.unrecorded) >= enoughResults {
		h.hurry()
	}
	return nil
}

// hurry has what was gathered written down now.
func (h *Hands) hurry() {
	select {
	case h.enough <- struct{}{}:
	default:
	}
}

// written waits until all is written down that was gathered of a job.
func (h *Hands) written(j *Job) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	for j.pending > 0 && !j.gone {
		h.hurry()
		h.moved.Wait()
	}
	if j.gone {
		return ErrLost
	}
	return nil
}

// write writes down what was gathered until Close.
func (h *Hands) write() {
	defer close(h.stopped)
	for range h.due {
		select {
		case <-h.enough:
		case <-time.After(gatherResults):
		}
		h.mu.Lock()
		batch := h.unrecorded
		h.unrecorded = nil
		h.mu.Unlock()
		lost := h.writeDown(batch)
		h.mu.Lock()
		for _, j := range lost {
			h.lose(j)
		}
		for _, r := range batch {
			r.j.pending--
			h.handing -= r.weight
			h.dropLet(r.j)
		}
		h.moved.Broadcast()
		h.mu.Unlock()
	}
}

// writeDown writes results down, however often it has to try: what is not written down would be sent again. It returns the jobs that
// were lost to another worker.
func (h *Hands) writeDown(batch []result) (lost []*Job) {
	try := func(some []result) error {
		for wait := 50 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
			ctx, cancel := context.WithTimeout(context.Background(), recordWithin)
			err := h.s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error { return writeResults(c, h.worker, some) })
			cancel()
			if err == nil || errors.Is(err, store.ErrNotFound) {
				return err
			}
			h.mu.Lock()
			closed := h.closed
			h.mu.Unlock()
			if closed {
				return err
			}
			time.Sleep(wait)
		}
	}
	if len(batch) == 0 || try(batch) == nil {
		return nil
	}
	of := map[*Job][]result{}
	for _, r := range batch {
		of[r.j] = append(of[r.j], r)
	}
	for j, some := range of {
		if try(some) != nil {
			lost = append(lost, j)
		}
	}
	return lost
}

// writeResults writes down what the relay took of jobs of a worker. Its error is ErrNotFound where one of them is not the worker's any more.
func writeResults(c *workspace.Change, worker uuid.UUID, all []result) error {
	var sent []store.Transmission
	var ended []int64
	last := map[int64]string{} // recipient with whom a job is done so far
	for _, r := range all {
		id := r.j.job.ID
		if len(r.sent) > 0 {
			sent = append(sent, store.Sent(r.j.Mailing, id, r.sent, r.mark, r.at))
		}
		switch {
		case r.last:
			ended = append(ended, id)
			delete(last, id)
		case r.done != "":
			last[id] = r.done
		}
	}
	if err := c.Tx.AddTransmissions(sent); err != nil {
		return err
	}
	for id, to := range last {
		if err := c.Tx.JobHandedTo(id, worker, to); err != nil {
			return err
		}
	}
	return c.Tx.EndJobs(ended, worker)
}

// Close writes down what was gathered, and leaves what was not begun in the table.
func (h *Hands) Close(ctx context.Context) error {
	h.s.hands.CompareAndSwap(h, nil)
	h.mu.Lock()
	h.closed = true
	h.moved.Broadcast()
	h.mu.Unlock()
	close(h.due)
	<-h.stopped
	h.mu.Lock()
	rest := h.unrecorded
	h.unrecorded = nil
	h.mu.Unlock()
	h.writeDown(rest)
	return h.s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error { return c.Tx.ReleaseJobs(h.worker) })
}
