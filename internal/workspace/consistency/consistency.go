// Package consistency checks that the records agree with those that they follow from, such as the counts in a group's row with its
// members, and makes them right.
package consistency

import (
	"context"
	"fmt"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/history"
)

// Service is the check of the records.
type Service struct {
	k       *workspace.Kernel
	history *history.Service
}

// New returns the service of a workspace.
func New(k *workspace.Kernel, h *history.Service) *Service { return &Service{k, h} }

const (
	seals   = "history-seals" // the check that the history makes
	maxSaid = 100             // records that are named of one check
)

// Check reads all records and says which are not as they have to be.
func (s *Service) Check(ctx context.Context, by workspace.Actor) (api.Consistency, error) {
	if err := by.Allow(access.CheckRecords); err != nil {
		return api.Consistency{}, err
	}
	out, err := look(s.k.View(ctx, by).Read)
	if err != nil {
		return out, err
	}
	v, err := s.history.Verify(ctx, by, nil)
	if err != nil {
		return out, err
	}
	row := api.Checked{Name: seals, About: "the entries of the history, against their seals", Wrong: v.Total, Says: []string{}}
	for _, f := range v.Faults {
		row.Says = append(row.Says, f.Says)
	}
	out.Checks = append(out.Checks, row)
	return total(out), nil
}

func look(read *store.Reads) (out api.Consistency, err error) {
	for _, c := range store.Checks() {
		wrong, err := c.Find(read)
		if err != nil {
			return out, err
		}
		says := append([]string{}, wrong[:min(len(wrong), maxSaid)]...)
		out.Checks = append(out.Checks, api.Checked{Name: c.Name, About: c.About, Wrong: len(wrong), Says: says, Repairable: c.Repairable()})
	}
	return total(out), nil
}

func total(out api.Consistency) api.Consistency {
	out.Wrong = 0
	kinds := 0
	for _, c := range out.Checks {
		out.Wrong += c.Wrong
		if c.Wrong > 0 {
			kinds++
		}
	}
	out.Says = fmt.Sprintf("All records agree: %s.", number.Of(len(out.Checks), "check"))
	if out.Wrong > 0 {
		is := map[bool]string{true: "is", false: "are"}[out.Wrong == 1]
		out.Says = fmt.Sprintf("%s %s wrong, found by %d of %d checks.", number.Of(out.Wrong, "record"), is, kinds, len(out.Checks))
	}
	return out
}

// Repair makes right what the service can make right by itself, in one change. Everybody who changes a person or a group waits meanwhile.
func (s *Service) Repair(ctx context.Context, by workspace.Actor) (api.Consistency, error) {
	if err := by.Allow(access.RepairRecords); err != nil {
		return api.Consistency{}, err
	}
	var out api.Consistency
	err := s.k.Do(ctx, by, func(c *workspace.Change) error {
		if err := c.Tx.LockEverything(); err != nil {
			return err
		}
		if err := c.Allow(access.RepairRecords); err != nil {
			return err
		}
		var err error
		if out, err = look(c.Read); err != nil {
			return err
		}
		var fact event.RecordsRepaired
		left := 0
		for i, x := range store.Checks() {
			found := &out.Checks[i]
			switch {
			case found.Wrong == 0:
				continue
			case !x.Repairable():
				left += found.Wrong
				continue
			}
			if err := x.Repair(c.Tx); err != nil {
				return err
			}
			found.Repaired = true
			fact.Checks = append(fact.Checks, fmt.Sprintf("%s (%d)", found.Name, found.Wrong))
			fact.Records += found.Wrong
		}
		if out.Says = "There is nothing to repair."; fact.Records > 0 {
			out.Says = number.Of(fact.Records, "record") + " repaired."
			if err := c.Record(fact, nil); err != nil {
				return err
			}
		}
		if left > 0 {
			out.Says += fmt.Sprintf(" %s can't be repaired by the service: see what is said of each.", number.Of(left, "record"))
		}
		c.Says(out.Says)
		return nil
	})
	return out, err
}
