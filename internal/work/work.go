// Package work does what happens by itself: deliveries, expiry, forgetting old
// sessions. Any number of instances may run; each job is done once.
package work

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"

	"ivytable.example/ivytable/internal/mail"
	"ivytable.example/ivytable/internal/service"
	"ivytable.example/ivytable/internal/workspace/post"
)

const (
	// batch is how many recipients go to the relay in one transaction at most; RFC 5321,
	// 4.5.3.1.8 obliges every relay to take 100. A relay that is slow is given fewer, so that
	// fewer get a message twice when the service dies while it has them in hand.
	batch    = 100
	smallest = 5
	slow     = 2 * time.Second

	// inFlight is how many messages are handed over at once: so many that a few which the relay
	// takes slowly hold up no other.
	inFlight = 64
	atOnce   = 16 // jobs that are claimed at once
	lanes    = 6  // connections for one job
	many     = 4  // transactions from which on a job has so many

	lastWords = 20 * time.Second // for what is in the relay's hands when the service stops
)

var deliveries = promauto.NewCounterVec(prometheus.CounterOpts{
	Name: "ivytable_deliveries_total", Help: "Attempts to deliver to one recipient, by result.",
}, []string{"result"})

var waiting = promauto.NewGauge(prometheus.GaugeOpts{
	Name: "ivytable_jobs_waiting", Help: "Messages that are to be handed over, those of all instances.",
})

// Options are what the work is done with.
type Options struct {
	Relays      *mail.Relays // that mail leaves through
	ExpiryEvery time.Duration
	Lease       time.Duration // for how long a claimed job is one worker's; 0: 15 s. It is renewed while the worker lives, so it only bounds how long those of a dead one wait.
	Log         *slog.Logger
}

// Runner does the work of a workspace.
type Runner struct {
	s    *service.Service
	o    Options
	wake chan struct{}
	size atomic.Int32 // recipients in one transaction
	away atomic.Bool  // the relay did not answer when it was last asked
	idle lines
}

// New returns a runner. Its Wake method is for the workspace's Options, so the service is
// given with Run.
func New(o Options) *Runner {
	if o.Lease == 0 {
		o.Lease = 15 * time.Second
	}
	r := &Runner{o: o, wake: make(chan struct{}, 1)}
	r.size.Store(batch)
	return r
}

// Wake tells that mail was queued. It never blocks.
func (r *Runner) Wake() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// Run works until ctx ends, and finishes what it has begun.
func (r *Runner) Run(ctx context.Context, s *service.Service) {
	r.s = s
	var all sync.WaitGroup
	all.Go(func() { r.deliver(ctx) })
	for _, j := range s.Jobs(r.o.ExpiryEvery) {
		all.Go(func() { r.every(ctx, j) })
	}
	all.Go(func() {
		r.every(ctx, service.Job{Name: "count jobs", Every: 15 * time.Second, Do: func(ctx context.Context) error {
			n, err := s.Post.CountJobs(ctx)
			waiting.Set(float64(n))
			return err
		}})
	})
	all.Wait()
}

// every runs a job now and then again at its interval; a failure is logged and left to the
// next time.
func (r *Runner) every(ctx context.Context, j service.Job) {
	tick := time.NewTicker(j.Every)
	defer tick.Stop()
	for {
		if err := j.Do(ctx); err != nil && ctx.Err() == nil {
			r.o.Log.Error("work failed", "job", j.Name, "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		case <-j.Woken:
		}
	}
}

// deliver begins jobs as long as there are not too many in flight: those that this process accepted, which are handed on in memory, and
// those in the table as they become due. The table is asked when mail was queued otherwise, and once a second for what was put off,
// or is left of a worker that died. While the relay is away, one job each second finds out whether it is back, so that those that wait
// cost nothing.
func (r *Runner) deliver(ctx context.Context) {
	hands := r.s.Post.Hands(r.o.Lease)
	var all sync.WaitGroup
	free := make(chan struct{}, inFlight)
	var more atomic.Bool // there may be jobs in the table that found no room
	begin := func(j *post.Job) {
		free <- struct{}{}
		all.Go(func() {
			defer func() {
				<-free
				if more.Swap(false) {
					r.Wake()
				}
			}()
			defer hands.Let(j)
			r.attempt(ctx, hands, j)
		})
	}
	claim := func() {
		for ctx.Err() == nil {
			limit := min(atOnce, inFlight-len(free))
			if r.away.Load() {
				limit = min(1, limit)
			}
			if limit <= 0 {
				more.Store(true)
				return
			}
			jobs, err := hands.Claim(ctx, limit)
			if err != nil && ctx.Err() == nil {
				r.o.Log.Error("work failed", "job", "claim", "error", err)
			}
			for _, j := range jobs {
				begin(j)
			}
			if len(jobs) < limit || r.away.Load() {
				return
			}
		}
	}
	keeping, stop := context.WithCancel(context.WithoutCancel(ctx))
	go r.keep(keeping, hands)
	idle := time.NewTicker(time.Second)
	defer idle.Stop()
	for claim(); ctx.Err() == nil; {
		select {
		case <-ctx.Done():
		case j := <-hands.On():
			if !r.away.Load() {
				begin(j)
			} else if err := hands.Release(ctx, j); err != nil {
				r.o.Log.Error("work failed", "job", "leave a message for later", "error", err) // its lease runs out
			}
		case <-r.wake:
			if !r.away.Load() {
				claim()
			}
		case <-idle.C:
			claim()
			if old := r.idle.before(time.Now().Add(-unused)); len(old) > 0 {
				go closeAll(old)
			}
		}
	}
	done := make(chan struct{})
	go func() { all.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(lastWords):
	}
	stop()
	last, cancel := context.WithTimeout(context.WithoutCancel(ctx), lastWords)
	defer cancel()
	if err := hands.Close(last); err != nil {
		r.o.Log.Error("work failed", "job", "leave what was not begun", "error", err)
	}
	closeAll(r.idle.before(time.Now().Add(unused)))
}

// relay returns a connection to the relay.
func (r *Runner) relay() *mail.RelayClient {
	if relay := r.idle.take(); relay != nil {
		return relay
	}
	return r.o.Relays.Client()
}

// giveBack keeps a connection to the relay for the next job, or closes it.
func (r *Runner) giveBack(relay *mail.RelayClient) {
	if relay != nil && relay.Connected() && !r.idle.put(relay, time.Now()) {
		relay.Close()
	}
}

// attempt hands one job to the relay, some recipients after the other, until it is done, ctx
// ends, or the relay does not answer. What has begun is finished and recorded, whatever becomes of
// ctx. A job with many recipients goes over several connections.
func (r *Runner) attempt(ctx context.Context, hands *post.Hands, j *post.Job) {
	work, cancel := context.WithCancel(context.WithoutCancel(ctx))
	defer cancel()
	j.OnLost(cancel)
	log := r.o.Log.With("message", j.Mailing)
	if err := j.Open(work); err != nil {
		log.Error("work failed", "job", "open a message", "error", err)
		return // its lease runs out
	}
	var relays [lanes]*mail.RelayClient
	defer func() {
		for _, relay := range relays {
			r.giveBack(relay)
		}
	}()
	var shared signature
	for {
		size := int(r.size.Load())
		n := 1
		if len(j.To) > many*size {
			n = lanes
		}
		copies, err := j.Next(work, n, size)
		if err != nil {
			log.Error("work failed", "job", "read recipients", "error", err)
			return
		}
		if len(copies) == 0 {
			r.record(work, log, func() error { return j.End(work) })
			return
		}
		if err := r.sign(work, j, copies, &shared); err != nil {
			log.Error("work failed", "job", "sign a message", "error", err)
			return
		}
		var parts [lanes]part
		var all sync.WaitGroup
		began := time.Now()
		for i, c := range copies {
			p := &parts[i]
			p.to = c.To
			if relays[i] == nil {
				relays[i] = r.relay()
			}
			relay := relays[i]
			send := func() { r.send(work, hands, j, log, relay, c, p) }
			if len(copies) == 1 {
				send()
			} else {
				all.Go(send)
			}
		}
		all.Wait()
		if !r.settle(work, hands, j, log, parts[:len(copies)], time.Since(began)) || len(j.To) == 0 || ctx.Err() != nil {
			return
		}
	}
}

// send hands one copy over, and has it recorded for whom the relay took it as soon as it has said so. Those who are too many for one
// transaction of the relay go in the next, at once.
func (r *Runner) send(ctx context.Context, hands *post.Hands, j *post.Job, log *slog.Logger, relay *mail.RelayClient, c post.Copy, p *part) {
	r.transact(ctx, hands, j, log, relay, c, p)
	for {
		var rest []int // places of those who were too many
		took := 0
		for i, err := range p.results {
			if mail.TooMany(err) {
				rest = append(rest, i)
			} else if err == nil {
				took++
			}
		}
		if p.err != nil || len(rest) == 0 || took == 0 || ctx.Err() != nil {
			return
		}
		r.size.Store(int32(took))
		var further part
		to := make([]string, len(rest))
		for i, at := range rest {
			to[i] = c.To[at]
		}
		r.transact(ctx, hands, j, log, relay, j.Part(c, to), &further)
		again := 0
		for i, at := range rest {
			if i < len(further.results) && further.err == nil {
				p.results[at] = further.results[i]
			}
			if mail.TooMany(p.results[at]) {
				again++
			}
		}
		if again == len(rest) { // it takes nobody more
			return
		}
	}
}

// transact hands one copy over in one transaction.
func (r *Runner) transact(ctx context.Context, hands *post.Hands, j *post.Job, log *slog.Logger, relay *mail.RelayClient, c post.Copy, p *part) {
	entered := false
	enter := func() { hands.Enter(len(c.To)); entered = true }
	p.results, p.err = relay.Send(ctx, mail.Outgoing{From: c.Sender, Header: c.Header, EightBit: j.EightBit, Message: j.Message(ctx, c), End: enter}, c.To)
	var took []string
	for i, err := range p.results {
		if p.err == nil && err == nil {
			took = append(took, c.To[i])
		}
	}
	switch {
	case len(took) > 0:
		weight := len(c.To)
		r.record(ctx, log, func() error {
			err := j.Took(ctx, c, took, weight)
			weight = 0 // they have left the window
			return err
		})
	case entered:
		hands.Left(len(c.To))
	}
}

// signature is that of the copies of a message that are alike.
type signature struct {
	header []byte
	field  string
}

// sign signs copies of a message, where a domain has a key in whose name it can be; those that are alike once.
func (r *Runner) sign(ctx context.Context, j *post.Job, copies []post.Copy, shared *signature) error {
	key, err := r.s.Signing.KeyFor(ctx, j.InTheNameOf()...)
	if err != nil || key == nil {
		return err
	}
	for i := range copies {
		c := &copies[i]
		if !bytes.Equal(c.Header, shared.header) {
			field, err := mail.Sign(key.Domain, key.Selector, key.Signer, c.Header, j.Message(ctx, *c))
			if err != nil {
				return err
			}
			*shared = signature{c.Header, field}
		}
		c.Header = append([]byte(shared.field), c.Header...)
	}
	return nil
}

// part is some recipients of a job, with what the relay said of them.
type part struct {
	to      []string
	results []error
	err     error // nothing came of it for anybody
}

// settle records what came of parts of a job that were handed over at the same time, and reports whether to go on with it.
func (r *Runner) settle(ctx context.Context, hands *post.Hands, j *post.Job, log *slog.Logger, parts []part, took time.Duration) bool {
	failed := 0
	var last error
	away := false
	for _, p := range parts {
		if p.err != nil {
			failed, last = failed+1, p.err
			if answered, _ := mail.Answered(p.err); !answered {
				away = true
			}
		}
	}
	if r.away.Swap(away) != away {
		hands.Away(away)
	}
	r.adapt(took)
	again, ok := j.Again()
	if failed == len(parts) && ok {
		for _, p := range parts {
			deliveries.WithLabelValues("put off").Add(float64(len(p.to)))
		}
		log.Warn("the relay took nothing over", "attempt", j.Attempts+1, "again", again, "error", last)
		r.record(ctx, log, func() error { return j.PutOff(ctx, again, mail.Reply(last)) })
		return false
	}
	for _, p := range parts { // in their order: up to where a job is done is kept
		if !r.record(ctx, log, func() error { return j.Record(ctx, r.judge(log, p.to, p.results, p.err, ok), again) }) {
			return false
		}
	}
	return true
}

// judge says what became of recipients. Without another attempt, nobody is put off.
func (r *Runner) judge(log *slog.Logger, to []string, results []error, whole error, again bool) []post.Result {
	out := make([]post.Result, len(to))
	for i, a := range to {
		out[i].Recipient = a
		err := results[i]
		if whole != nil {
			err = whole
		}
		if err == nil {
			deliveries.WithLabelValues("sent").Inc()
			continue
		}
		out[i].Reply, out[i].Outcome = mail.Reply(err), post.Later
		if _, permanent := mail.Answered(err); permanent || !again {
			out[i].Outcome = post.GivenUp
			deliveries.WithLabelValues("failed").Inc()
		} else {
			deliveries.WithLabelValues("put off").Inc()
		}
		log.Warn("delivery", "recipient", a, "given_up", out[i].Outcome == post.GivenUp, "error", err)
	}
	return out
}

// adapt makes the transactions with a slow relay smaller, and with one that is fast larger.
func (r *Runner) adapt(took time.Duration) {
	n := r.size.Load()
	switch {
	case took > slow:
		n = max(n/2, smallest)
	case took < slow/4:
		n = min(n*2, batch)
	}
	r.size.Store(n)
}

// record keeps what became of an attempt: it tries until that is done, since what is not
// recorded is done again. It reports whether the job is still ours.
func (r *Runner) record(ctx context.Context, log *slog.Logger, f func() error) bool {
	for wait := 50 * time.Millisecond; ; wait = min(2*wait, 5*time.Second) {
		err := f()
		switch {
		case err == nil:
			return true
		case errors.Is(err, post.ErrLost), ctx.Err() != nil:
			log.Warn("a job was lost to another worker")
			return false
		}
		log.Error("work failed", "job", "record what became of a message", "error", err)
		select {
		case <-ctx.Done():
			return false
		case <-time.After(wait):
		}
	}
}

// keep renews the leases of jobs until ctx ends.
func (r *Runner) keep(ctx context.Context, hands *post.Hands) {
	tick := time.NewTicker(r.o.Lease / 3)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := hands.Keep(ctx); err != nil && ctx.Err() == nil {
				r.o.Log.Error("work failed", "job", "keep leases", "error", err)
			}
		}
	}
}
