package main

import (
	"fmt"
	"runtime"
	"slices"
	"sync/atomic"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/life"
	"ivytable.example/ivytable/internal/workspace/review"
)

// scanned are the tables that a look at the whole directory reads, with the columns that it needs of each.
var scanned = []string{
	"SELECT id, name, address, description, policy, owners, external_members, created_at, exempt, exempt_until FROM mail_groups", "SELECT group_id, member_id FROM memberships", "SELECT id, attributes FROM people",
	"SELECT group_id, people FROM group_sizes", "SELECT group_id, last_at FROM group_posts", "SELECT group_id, member_id, voucher_id FROM external_members", "SELECT outer_id, group_id FROM consents",
	"SELECT ref, address, added_at, used_at FROM addresses WHERE kind = 3", "SELECT group_id, expression FROM group_rules", "SELECT group_id, made_at FROM requests WHERE state = 'open'", "SELECT group_id, received_at FROM mailings WHERE state = 'waiting'",
}

// review times a look at the whole directory against one scan of each table that it reads, and notes the memory that it takes.
func (b *bench) review() (row, error) {
	runtime.GC()
	var before runtime.MemStats
	runtime.ReadMemStats(&before)
	var most atomic.Uint64
	done := make(chan struct{})
	go func() {
		for tick := time.NewTicker(20 * time.Millisecond); ; {
			select {
			case <-done:
				tick.Stop()
				return
			case <-tick.C:
				var m runtime.MemStats
				runtime.ReadMemStats(&m)
				most.Store(max(most.Load(), m.HeapAlloc))
			}
		}
	}()
	took, base, err := inTurn(3, func() error { return b.w.Review.Everything(b.ctx) }, func() error {
		for _, q := range scanned {
			if err := b.bare(q)(); err != nil {
				return err
			}
		}
		return nil
	})
	close(done)
	if err != nil {
		return row{}, err
	}
	k, err := b.w.Review.Kinds(b.ctx, b.admin, review.Query{})
	return row{work: "a look at the whole directory for findings", floor: "one scan of each table that it reads", goal: "<= 3x, < 512 MB", took: took, base: base,
		note: fmt.Sprintf("%d findings, %d MB more in use", k.Open, (most.Load()-before.HeapAlloc)>>20)}, err
}

// follow times what follows one change of a group: its findings are current again.
func (b *bench) follow() (row, error) {
	i := 0
	took, base, err := inTurn(15, func() error {
		i++
		return b.w.Review.Follow(b.ctx)
	}, func() error {
		said := fmt.Sprintf("Changed %d times", i)
		_, err := b.w.Group.Change(b.ctx, b.admin, "group-00001@merrowline.example", api.GroupPatch{Description: &said}, 0)
		return err
	})
	return row{work: "what the review does after a change of one group", floor: "the change", goal: "no page waits", took: took, base: base}, err
}

// listMeanwhile times a page of groups while all of them go through one change: of 20 pages the slowest but one, against the
// same on a usual day, when ten groups change each second.
func (b *bench) listMeanwhile() (row, error) {
	page := func(into *[]time.Duration) error {
		time.Sleep(10 * time.Millisecond) // somebody who looks, not a flood
		d, err := timed(func() error {
			_, err := b.w.Group.List(b.ctx, b.admin, group.Query{States: []string{"active"}, Sort: "-people", Limit: 50})
			return err
		})
		*into = append(*into, d)
		return err
	}
	var meanwhile, usual []time.Duration
	for _, to := range []string{"en", "de"} {
		for i := range 300 {
			if i%10 == 0 { // ten groups a second change
				says := fmt.Sprintf("Changed for the %d. time", i)
				if _, err := b.w.Group.Change(b.ctx, b.admin, fmt.Sprintf("group-%05d@merrowline.example", i+1), api.GroupPatch{Description: &says}, 0); err != nil {
					return row{}, err
				}
			}
			if err := page(&usual); err != nil {
				return row{}, err
			}
		}
		if _, err := b.w.Bulk.Begin(b.ctx, b.admin, api.NewBulk{Language: to, List: &api.BulkList{}}); err != nil {
			return row{}, err
		}
		done := make(chan error, 1)
		go func() { done <- b.w.Bulk.Run(b.ctx) }()
		for running := true; running; {
			select {
			case err := <-done:
				if running = false; err != nil {
					return row{}, err
				}
			default:
				if err := page(&meanwhile); err != nil {
					return row{}, err
				}
			}
		}
	}
	p95 := func(d []time.Duration) time.Duration {
		slices.Sort(d)
		return d[len(d)*95/100]
	}
	return row{work: fmt.Sprintf("a page of groups while %d of them change, its p95", b.size.Groups), floor: "the same, while ten change each second", goal: "<= 2x", took: p95(meanwhile), base: p95(usual), note: fmt.Sprintf("%d pages meanwhile", len(meanwhile))}, nil
}

// forecast times when all groups expire, by week, against a scan of the days.
func (b *bench) forecast() (row, error) {
	took, base, err := inTurn(15, func() error {
		_, err := b.w.Life.Forecast(b.ctx, b.admin, life.Asking{By: "rule"})
		return err
	}, b.bare("SELECT id, expires_at, term_rule FROM mail_groups WHERE ended_at IS NULL"))
	return row{work: fmt.Sprintf("forecast of %d groups", b.size.Groups), floor: "a scan of their days", goal: "< 1 s", took: took, base: base}, err
}

// terms times a look at other term rules, which gives every group another day.
func (b *bench) terms() (row, error) {
	i := 0
	took, base, err := inTurn(5, func() error {
		i++
		by, _ := b.admin.Previewing()
		t := api.Terms{Rules: []api.TermRule{{Name: "Big ones", Filter: "members gt 100", Length: fmt.Sprintf("%d days", 400+i)}, {Name: "Everything else", Length: fmt.Sprintf("%d days", 200+i)}},
			Notices: []int{42, 14, 3}, RecoveryDays: 60, AddressDays: 90, TimeZone: "UTC"}
		_, err := b.w.Life.SetTerms(b.ctx, by, t, 0)
		if workspace.Previewed(err) {
			return nil
		}
		return err
	}, b.bare("SELECT * FROM mail_groups WHERE ended_at IS NULL"))
	return row{work: fmt.Sprintf("a look at other term rules for %d groups", b.size.Groups), floor: "a scan of them", goal: "< 1 s", took: took, base: base}, err
}

// round times the beginning of a round about all groups, against as many rows that are written at once.
func (b *bench) round() (row, error) {
	i := 0
	took, base, err := inTurn(3, func() error {
		i++
		n := api.NewRound{Name: fmt.Sprintf("Round %d", i), Questions: []string{"people"}, DueOn: b.now.AddDate(0, 1, 0).Format(time.DateOnly)}
		r, err := b.w.Round.Begin(b.ctx, b.admin, n)
		if err == nil {
			_, err = b.w.Round.End(b.ctx, b.admin, r.ID, 0)
		}
		return err
	}, func() error {
		_, err := b.db.Exec("CREATE OR REPLACE TABLE bench_round AS SELECT id, name, address, description FROM mail_groups WHERE ended_at IS NULL")
		return err
	})
	return row{work: fmt.Sprintf("a round about %d groups begins and ends", b.size.Groups), floor: "their rows, copied at once", goal: "< 5 s", took: took, base: base}, err
}

// verify times going along the history against a scan of it.
func (b *bench) verify() (row, error) {
	if err := b.w.History.Seal(b.ctx); err != nil {
		return row{}, err
	}
	var n int64
	if err := b.db.QueryRow("SELECT COUNT(*) FROM history_seals").Scan(&n); err != nil {
		return row{}, err
	}
	took, base, err := inTurn(3, func() error {
		v, err := b.w.History.Verify(b.ctx, b.admin, nil)
		if err == nil && len(v.Faults) > 0 {
			err = fmt.Errorf("the history is not as it was: %+v", v.Faults[0])
		}
		return err
	}, b.bare("SELECT s.place, s.entry, s.salt, s.seal, h.* FROM history_seals s JOIN history h ON h.id = s.entry ORDER BY s.place"))
	return row{work: fmt.Sprintf("to verify a history of %d entries", n), floor: "a scan of it", goal: ">= 200,000 entries a second", took: took, base: base, note: fmt.Sprintf("%.0f entries a second", float64(n)/took.Seconds())}, err
}
