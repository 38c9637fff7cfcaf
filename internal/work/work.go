// Package work does what happens by itself: deliveries, expiry, forgetting old
// sessions. Any number of instances may run; each job is done once.
package work

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"

	"ivytable.example/ivytable/internal/mail"
	"ivytable.example/ivytable/internal/service"
	"ivytable.example/ivytable/internal/workspace/post"
)

// batch is how many recipients go to the relay in one transaction; RFC 5321,
// 4.5.3.1.8 obliges every relay to take 100.
const batch = 100

var deliveries = promauto.NewCounterVec(prometheus.CounterOpts{
	Name: "ivytable_deliveries_total", Help: "Attempts to deliver to one recipient, by result.",
}, []string{"result"})

var waiting = promauto.NewGauge(prometheus.GaugeOpts{
	Name: "ivytable_deliveries_waiting", Help: "Deliveries that are queued, those of all instances.",
})

// Options are what the work is done with.
type Options struct {
	Relay       string // host:port
	Domain      string // by which we greet the relay
	Workers     int
	ExpiryEvery time.Duration
	Lease       time.Duration // for how long claimed deliveries are one worker's; 0: 15 s. It is renewed while the worker lives, so it only bounds how long those of a dead one wait.
	Log         *slog.Logger
}

// Runner does the work of a workspace.
type Runner struct {
	s    *service.Service
	o    Options
	wake chan struct{}
}

// New returns a runner. Its Wake method is for the workspace's Options, so the service is
// given with Run.
func New(o Options) *Runner {
	if o.Lease == 0 {
		o.Lease = 15 * time.Second
	}
	return &Runner{o: o, wake: make(chan struct{}, 1)}
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
	for range r.o.Workers {
		all.Go(func() { r.deliver(ctx) })
	}
	for _, j := range s.Jobs(r.o.ExpiryEvery) {
		all.Go(func() { r.every(ctx, j) })
	}
	all.Go(func() {
		r.every(ctx, service.Job{Name: "count deliveries", Every: 15 * time.Second, Do: func(ctx context.Context) error {
			n, err := s.Post.CountQueued(ctx)
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
		}
	}
}

// deliver takes one job after the other, and waits when there are none.
func (r *Runner) deliver(ctx context.Context) {
	relay := mail.NewRelayClient(r.o.Relay, r.o.Domain)
	defer relay.Close()
	idle := time.NewTicker(time.Second)
	defer idle.Stop()
	for ctx.Err() == nil {
		j, err := r.s.Post.Claim(ctx, r.o.Lease, batch)
		if err == nil && j != nil {
			r.Wake() // there may be more, for a worker that waits
			r.attempt(context.WithoutCancel(ctx), relay, j)
			continue
		}
		if err != nil && ctx.Err() == nil {
			r.o.Log.Error("work failed", "job", "deliveries", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-r.wake:
		case <-idle.C:
		}
	}
}

func (r *Runner) attempt(ctx context.Context, relay *mail.RelayClient, j *post.Job) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go r.keep(ctx, j)
	to := make([]string, len(j.Deliveries))
	for i, d := range j.Deliveries {
		to[i] = d.Recipient
	}
	for i, err := range relay.Send(ctx, j.Sender, to, j.Raw) {
		d := &j.Deliveries[i]
		switch {
		case err == nil:
			deliveries.WithLabelValues("sent").Inc()
			continue
		case mail.Permanent(err), d.Attempts >= len(retryDelays):
			d.Outcome = post.Failed
			deliveries.WithLabelValues("failed").Inc()
		default:
			d.Outcome, d.NextAt = post.Later, time.Now().UTC().Add(retryDelays[d.Attempts])
			deliveries.WithLabelValues("put off").Inc()
		}
		d.Error = err.Error()
		r.o.Log.Warn("delivery", "message", j.Message, "recipient", d.Recipient, "attempt", d.Attempts+1, "given_up", d.Outcome == post.Failed, "error", err)
	}
	if err := r.s.Post.Finish(ctx, j); err != nil {
		r.o.Log.Error("work failed", "job", "record deliveries", "error", err)
	}
}

// keep renews the lease of a job until ctx ends.
func (r *Runner) keep(ctx context.Context, j *post.Job) {
	tick := time.NewTicker(r.o.Lease / 3)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := r.s.Post.Extend(ctx, j, r.o.Lease); err != nil && ctx.Err() == nil {
				r.o.Log.Error("work failed", "job", "keep a lease", "error", err)
			}
		}
	}
}

// retryDelays are the times between attempts: five days in all (RFC 5321, 4.5.4.1).
var retryDelays = func() []time.Duration {
	p := []time.Duration{2 * time.Second, 10 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute, 30 * time.Minute}
	for total := time.Duration(0); total < 5*24*time.Hour; total += 2 * time.Hour {
		p = append(p, 2*time.Hour)
	}
	return p
}()
