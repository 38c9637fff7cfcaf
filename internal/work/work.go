// Package work does what happens by itself: deliveries, expiry, forgetting old
// sessions. Any number of instances may run; each job is done once.
package work

import (
	"context"
	"errors"
	"log/slog"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"

	"ivytable.example/ivytable/internal/mail"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// lease is for how long claimed deliveries are one worker's. It is renewed while
// the worker lives, so it only bounds how long those of a dead one wait.
const lease = 15 * time.Second

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
	Log         *slog.Logger
}

// Runner does the work of a workspace.
type Runner struct {
	store *store.Store
	w     *workspace.Workspace
	o     Options
	wake  chan struct{}
}

// New returns a runner. Its Wake method is for the workspace's Options, so the
// workspace is given with Run.
func New(s *store.Store, o Options) *Runner {
	return &Runner{store: s, o: o, wake: make(chan struct{}, 1)}
}

// Wake tells that mail was queued. It never blocks.
func (r *Runner) Wake() {
	select {
	case r.wake <- struct{}{}:
	default:
	}
}

// Run works until ctx ends, and finishes what it has begun.
func (r *Runner) Run(ctx context.Context, w *workspace.Workspace) {
	r.w = w
	var all sync.WaitGroup
	for range r.o.Workers {
		all.Go(func() { r.deliver(ctx) })
	}
	all.Go(func() { r.every(ctx, r.o.ExpiryEvery, "expiry", r.w.RunExpiry) })
	all.Go(func() {
		r.every(ctx, time.Hour, "old sessions", func(ctx context.Context) error { return r.store.DeleteExpiredCredentials(ctx, time.Now().UTC()) })
	})
	all.Go(func() {
		r.every(ctx, 15*time.Second, "the count of deliveries", func(ctx context.Context) error {
			n, err := r.store.CountDeliveries(ctx, store.Queued)
			waiting.Set(float64(n))
			return err
		})
	})
	all.Wait()
}

// every runs a job now and then again at an interval; a failure is logged and left
// to the next time.
func (r *Runner) every(ctx context.Context, interval time.Duration, name string, job func(context.Context) error) {
	tick := time.NewTicker(interval)
	defer tick.Stop()
	for {
		if err := job(ctx); err != nil && ctx.Err() == nil {
			r.o.Log.Error("work failed", "job", name, "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// deliver takes deliveries one batch after the other, and waits when there are none.
func (r *Runner) deliver(ctx context.Context) {
	courier := mail.NewCourier(r.o.Relay, r.o.Domain)
	defer courier.Close()
	idle := time.NewTicker(time.Second)
	defer idle.Stop()
	for ctx.Err() == nil {
		m, rows, err := r.store.Claim(ctx, lease, batch)
		if err == nil {
			r.Wake() // there may be more, for a worker that waits
			r.attempt(context.WithoutCancel(ctx), courier, m, rows)
			continue
		}
		if !errors.Is(err, store.ErrNotFound) && ctx.Err() == nil {
			r.o.Log.Error("work failed", "job", "deliveries", "error", err)
		}
		select {
		case <-ctx.Done():
		case <-r.wake:
		case <-idle.C:
		}
	}
}

func (r *Runner) attempt(ctx context.Context, courier *mail.Courier, m store.Message, rows []store.Delivery) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	go r.keep(ctx, rows)
	to := make([]string, len(rows))
	for i, d := range rows {
		to[i] = d.Recipient
	}
	now := time.Now().UTC()
	for i, err := range courier.Send(ctx, m.Sender, to, m.Raw) {
		d := &rows[i]
		d.Attempts++
		switch {
		case err == nil:
			d.State = store.Sent
			deliveries.WithLabelValues("sent").Inc()
			continue
		case mail.Permanent(err), d.Attempts >= len(pauses)+1:
			d.State, d.DoneAt = store.Failed, &now
			deliveries.WithLabelValues("failed").Inc()
		default:
			d.NextAt = time.Now().UTC().Add(pauses[d.Attempts-1])
			deliveries.WithLabelValues("put off").Inc()
		}
		d.LastError = err.Error()
		d.LastError = d.LastError[:min(len(d.LastError), 500)]
		r.o.Log.Warn("delivery", "message", m.ID, "recipient", d.Recipient, "attempt", d.Attempts, "given_up", d.State == store.Failed, "error", err)
	}
	if err := r.store.FinishDeliveries(ctx, rows); err != nil {
		r.o.Log.Error("work failed", "job", "record deliveries", "error", err)
	}
}

// keep renews the lease of rows until ctx ends.
func (r *Runner) keep(ctx context.Context, rows []store.Delivery) {
	tick := time.NewTicker(lease / 3)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := r.store.ExtendLease(ctx, rows, lease); err != nil && ctx.Err() == nil {
				r.o.Log.Error("work failed", "job", "keep a lease", "error", err)
			}
		}
	}
}

// pauses are the times between attempts: five days in all, as RFC 5321, 4.5.4.1 has it.
var pauses = func() []time.Duration {
	p := []time.Duration{2 * time.Second, 10 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute, 30 * time.Minute}
	for total := time.Duration(0); total < 5*24*time.Hour; total += 2 * time.Hour {
		p = append(p, 2*time.Hour)
	}
	return p
}()
