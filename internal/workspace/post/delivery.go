package post

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Job is a message that is to be handed to the relay for some of its recipients.
type Job struct {
	Message    uuid.UUID
	Sender     string
	Raw        []byte
	Deliveries []Delivery

	rows []store.Delivery
}

// Delivery is one recipient of a job, and what became of the attempt.
type Delivery struct {
	Recipient string
	Attempts  int // those before this one
	Outcome   Outcome
	NextAt    time.Time // with Later
	Error     string    // with Later and Failed
}

// Outcome is what became of an attempt to deliver.
type Outcome int

// The outcomes.
const (
	Sent   Outcome = iota // the relay has taken it over
	Later                 // it is tried again
	Failed                // it is given up
)

// Claim takes up to limit due deliveries of one message for the length of a lease; nil
// where nothing is due.
func (s *Service) Claim(ctx context.Context, lease time.Duration, limit int) (*Job, error) {
	var j *Job
	err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		m, rows, err := c.Tx.Claim(lease, limit)
		if err != nil {
			return err
		}
		j = &Job{Message: m.ID, Sender: m.Sender, Raw: m.Raw, rows: rows, Deliveries: make([]Delivery, len(rows))}
		for i, r := range rows {
			j.Deliveries[i] = Delivery{Recipient: r.Recipient, Attempts: r.Attempts}
		}
		return nil
	})
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	return j, err
}

// Extend keeps a job for another lease.
func (s *Service) Extend(ctx context.Context, j *Job, lease time.Duration) error {
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error { return c.Tx.ExtendLease(j.rows, lease) })
}

// Finish records what became of a job.
func (s *Service) Finish(ctx context.Context, j *Job) error {
	now := time.Now().UTC()
	for i, d := range j.Deliveries {
		row := &j.rows[i]
		row.Attempts = d.Attempts + 1
		switch d.Outcome {
		case Sent:
			row.State = store.Sent
		case Failed:
			row.State, row.DoneAt, row.LastError = store.Failed, &now, workspace.Cut(d.Error, 500)
		case Later:
			row.NextAt, row.LastError = d.NextAt, workspace.Cut(d.Error, 500)
		}
	}
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error { return c.Tx.FinishDeliveries(j.rows) })
}

// CountQueued returns how many deliveries are queued.
func (s *Service) CountQueued(ctx context.Context) (int64, error) {
	return s.k.View(ctx, workspace.Service).Read.CountDeliveries(store.Queued)
}
