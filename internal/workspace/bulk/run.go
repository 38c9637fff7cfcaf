package bulk

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// lease is for how long a change is one worker's; it is renewed with each chunk.
const lease = 30 * time.Second

// Run goes through changes that nobody is at, until there are none.
func (s *Service) Run(ctx context.Context) error {
	for worker := store.NewID(); ; {
		var b store.BulkChange
		now := s.k.RealTime()
		err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) (err error) {
			b, err = c.Tx.ClaimBulk(worker, now, now.Add(lease))
			return err
		})
		if errors.Is(err, store.ErrNotFound) {
			return nil
		} else if err != nil {
			return err
		}
		for more := true; more; {
			if more, err = s.step(ctx, worker, b.ID); err != nil {
				return err
			}
		}
	}
}

// step changes the next groups of a change, and reports whether there are more for this
// worker.
func (s *Service) step(ctx context.Context, worker, id uuid.UUID) (more bool, err error) {
	v := s.k.View(ctx, workspace.Service)
	b, err := v.Read.Bulk(id)
	if err != nil {
		return false, err
	}
	maker, err := v.Read.Person(b.MadeBy)
	if err != nil {
		return false, err
	}
	until := s.k.RealTime().Add(lease)
	by := workspace.Actor{Person: maker, Via: b.Via, RequestID: b.RequestID, Part: b.ID}
	err = s.k.Do(ctx, by, func(c *workspace.Change) error {
		more = false
		b, err := c.Tx.LockBulk(id)
		if err != nil {
			return err
		}
		if b.State != store.BulkRunning || b.Worker == nil || *b.Worker != worker {
			return nil
		}
		if err := c.Allow(access.ChangeMany); err != nil { // they may no longer
			return end(c, &b, store.BulkStopped, workspace.Cut(c.By.Name()+" may not make it any more. "+err.Error(), 500))
		}
		d, err := doerOf(b)
		if err != nil {
			return err
		}
		if err := d.before(c); err != nil {
			return err
		}
		if err := s.some(c, d, &b); err != nil {
			return err
		}
		if b.Next < b.Total {
			more = true
			c.Tx.Part()
			b.LeaseUntil = until
			return c.Tx.SaveBulk(b)
		}
		if err := d.after(c, &b); err != nil {
			return err
		}
		return end(c, &b, store.BulkDone, "")
	})
	return more, err
}

// some changes the next groups of b.
func (s *Service) some(c *workspace.Change, d doer, b *store.BulkChange) error {
	rows, err := c.Read.BulkItems(b.ID, "", b.Next, chunk)
	if err != nil {
		return err
	}
	ids := make([]uuid.UUID, len(rows))
	for i, r := range rows {
		ids[i] = r.GroupID
	}
	locked, err := c.Tx.LockGroups(ids)
	if err != nil {
		return err
	}
	groups := inOrder(ids, locked)
	verdicts, err := d.decide(&c.View, groups)
	if err != nil {
		return err
	}
	var change []*workspace.Locked
	verdict := make(map[uuid.UUID]verdict, len(groups))
	for i, g := range groups {
		if verdict[g.ID] = verdicts[i]; verdicts[i].outcome == store.ItemChanged {
			change = append(change, workspace.Hold(g))
		}
	}
	was := map[uuid.UUID]json.RawMessage{}
	if len(change) > 0 {
		if was, err = d.do(c, change); err != nil {
			return err
		}
	}
	items := make([]store.BulkItem, len(rows))
	for i, r := range rows {
		x, there := verdict[r.GroupID]
		if !there {
			x = refused("The group is not there any more.")
		}
		items[i] = r.BulkItem
		items[i].Outcome, items[i].Says, items[i].Was = x.outcome, workspace.Cut(x.says, 500), was[r.GroupID]
		switch x.outcome {
		case store.ItemChanged:
			b.Changed++
		case store.ItemSame:
			b.Same++
		default:
			b.Refused++
		}
	}
	b.Next += len(rows)
	return c.Tx.SaveBulkItems(items)
}

// end ends a change, which is locked, and records it.
func end(c *workspace.Change, b *store.BulkChange, state, reason string) error {
	now := c.Now()
	b.State, b.Reason, b.EndedAt, b.Worker = state, reason, &now, nil
	if err := c.Tx.SaveBulk(*b); err != nil {
		return err
	}
	return c.RecordWhole(event.ManyChanged{Change: b.ID.String(), Says: b.Says, Total: b.Total, Changed: b.Changed, Same: b.Same, Refused: b.Refused, Stopped: state == store.BulkStopped, Undid: b.UndoOf != nil})
}

// doerOf returns what does a change that was recorded.
func doerOf(b store.BulkChange) (doer, error) {
	if b.Kind == undoing {
		of := b
		of.ID, of.Kind = *b.UndoOf, ""
		return &undo{of: of}, nil
	}
	d, err := decode(b.ID, b.Body)
	if err != nil {
		return nil, fmt.Errorf("the change %s: %w", b.ID, err)
	}
	return d, nil
}
