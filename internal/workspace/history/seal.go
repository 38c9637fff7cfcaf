package history

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/seal"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// SealedSetting is the name under which it is kept how far the history is sealed.
const SealedSetting = "sealed"

const (
	sealAtOnce  = 2000
	longest     = 15 * time.Minute // longer than any change takes
	lookForGaps = 5 * time.Second
	maxFaults   = 1000
)

// Seal gives seals to the entries that have none: in the order of one sealer, whichever instance that is, so that no
// change waits for another.
func (s *Service) Seal(ctx context.Context) error {
	for {
		more := false
		v := s.k.View(ctx, workspace.Service)
		var seen store.Sealing
		if _, err := v.Read.Setting(SealedSetting, &seen); err != nil {
			return err
		}
		now := s.k.RealTime()
		gaps := now.Sub(seen.GapsAt) >= lookForGaps && seen.Low < seen.Entry
		if fresh, err := v.Read.Unsealed(seen.Entry, 0, 1); err != nil || len(fresh) == 0 && !gaps {
			return err
		}
		err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) (err error) {
			more, err = sealSome(c, now, gaps)
			return err
		})
		if err != nil || !more {
			return err
		}
	}
}

// sealSome seals the next entries, and, where it is time to, those that an earlier number came late with.
func sealSome(c *workspace.Change, now time.Time, gaps bool) (more bool, err error) {
	var st store.Sealing
	version, err := c.Tx.LockSetting(SealedSetting, &st)
	if err != nil {
		return false, err
	}
	var late []*seal.Entry
	if gaps {
		if late, err = c.Read.Unsealed(st.Low, st.Entry, sealAtOnce); err != nil {
			return false, err
		}
		st.GapsAt = now
	}
	fresh, err := c.Read.Unsealed(st.Entry, 0, sealAtOnce)
	if err != nil {
		return false, err
	}
	all := make([]seal.Sealed, 0, len(late)+len(fresh))
	before := read(st.Seal)
	for _, e := range slices.Concat(late, fresh) {
		salt := make([]byte, seal.SaltSize)
		rand.Read(salt)
		st.Place++
		before = seal.Next(before, st.Place, e, e.Names(salt))
		all = append(all, seal.Sealed{Place: st.Place, Number: e.Number, Salt: salt, Seal: before})
		st.Entry = max(st.Entry, e.Number)
	}
	st.Seal = before.String()
	if len(late) < sealAtOnce && now.Sub(st.MarkAt) >= longest {
		st.Low, st.Mark, st.MarkAt = st.Mark, st.Entry, now
	}
	if err := c.Tx.AddSeals(all); err != nil {
		return false, err
	}
	return len(fresh) == sealAtOnce || len(late) == sealAtOnce, c.Tx.SaveSetting(SealedSetting, st, version+1)
}

func read(text string) (h seal.Hash) {
	b, _ := hex.DecodeString(text)
	copy(h[:], b)
	return h
}

// Sealed says how far the history is sealed, by the last seal: to be kept elsewhere.
func (s *Service) Sealed(ctx context.Context, by workspace.Actor) (api.Seal, error) {
	if err := by.Allow(access.ReadWorkspaceHistory); err != nil {
		return api.Seal{}, err
	}
	v := s.k.View(ctx, by)
	var st store.Sealing
	_, err := v.Read.Setting(SealedSetting, &st)
	return api.Seal{Place: st.Place, Entry: st.Entry, Seal: st.Seal}, err
}

// Verify goes along the whole chain and says what is wrong with it. Seals that were kept elsewhere are compared with those
// that are there.
func (s *Service) Verify(ctx context.Context, by workspace.Actor, kept []api.KeptSeal) (api.Verification, error) {
	none := api.Verification{}
	if err := by.Allow(access.ReadWorkspaceHistory); err != nil {
		return none, err
	}
	var bad workspace.Problems
	for i, k := range kept {
		if b, err := hex.DecodeString(k.Seal); err != nil || len(b) != len(seal.Hash{}) {
			bad.Add(fmt.Sprintf("kept[%d].seal", i), workspace.Cut(k.Seal, 80), "A seal is %d hexadecimal digits.", 2*len(seal.Hash{}))
		}
	}
	if err := bad.Err(); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	var st store.Sealing
	if _, err := v.Read.Setting(SealedSetting, &st); err != nil {
		return none, err
	}
	last, err := v.Read.LastSeal()
	if err != nil {
		return none, err
	}
	begins, forgetting, err := start(v)
	if err != nil {
		return none, err
	}
	checked, left, faults, err := s.check(ctx, by, begins, last)
	if err != nil {
		return none, err
	}
	odd, err := s.erased(v, left)
	if err != nil {
		return none, err
	}
	faults = append(faults, odd...)
	faults, err = s.ends(v, st, begins, last, kept, faults)
	if err != nil {
		return none, err
	}
	slices.SortStableFunc(faults, func(a, b seal.Fault) int {
		switch {
		case a.Place == b.Place:
			return int(a.Number - b.Number)
		case a.Place == 0: // has none
			return 1
		case b.Place == 0:
			return -1
		}
		return int(a.Place - b.Place)
	})
	gone := 0
	for _, k := range kept {
		if k.Place < begins.Place {
			gone++
		}
	}
	out := api.Verification{Right: checked, Faults: []api.SealFault{}, Total: len(faults), Seal: api.Seal{Place: st.Place, Entry: st.Entry, Seal: st.Seal}}
	for _, f := range faults[:min(len(faults), maxFaults)] {
		out.Faults = append(out.Faults, api.SealFault{Kind: string(f.Kind), Place: f.Place, Entry: f.Number, Says: f.Says})
	}
	switch {
	case len(faults) == 0 && last == 0:
		out.Says = "Nothing of the history is sealed yet. Look again in a moment."
	case len(faults) == 0:
		out.Says = fmt.Sprintf("The history is whole: %s, each as it was sealed.", number.Of(int(checked), "entry"))
		if forgetting > 0 {
			out.Says += fmt.Sprintf(" It begins after place %d: what was from before %s is not kept any more, as entry %d says.", begins.Place, begins.Before, forgetting)
		}
	case faults[0].Place > 0:
		out.Says = fmt.Sprintf("The history is not what it was: %s. Up to place %d of the chain it is proven.", number.Of(len(faults), "fault"), faults[0].Place-1)
	default:
		out.Says = fmt.Sprintf("The history is not what it was: %s.", number.Of(len(faults), "fault"))
	}
	if gone > 0 {
		out.Says += fmt.Sprintf(" Of the seals that were kept elsewhere, %d prove nothing any more: they are of places before that.", gone)
	}
	return out, nil
}

// check goes along the chain from where it begins up to a place, in parts at once.
func (s *Service) check(ctx context.Context, by workspace.Actor, begins event.HistoryForgotten, last int64) (right int64, left []seal.Left, faults []seal.Fault, err error) {
	parts := int64(runtime.NumCPU())
	length := last - begins.Place
	if length < 10*sealAtOnce {
		parts = 1
	}
	var all sync.WaitGroup
	var mu sync.Mutex
	var errs []error
	for i := range parts {
		from, to := begins.Place+length*i/parts, begins.Place+length*(i+1)/parts
		all.Go(func() {
			v := s.k.View(ctx, by)
			c := seal.From(begins.Place, read(begins.Seal))
			if from > begins.Place {
				before, err := v.Read.SealAt(from)
				if err != nil && !errors.Is(err, store.ErrNotFound) {
					mu.Lock()
					errs = append(errs, err)
					mu.Unlock()
					return
				}
				c = seal.From(from, before)
			}
			err := v.Read.SealsBetween(from, to, func(some []seal.Sealed) error {
				for _, x := range some {
					c.Check(x)
				}
				return ctx.Err()
			})
			c.End()
			mu.Lock()
			defer mu.Unlock()
			errs, right, left, faults = append(errs, err), right+c.Count, append(left, c.Left...), append(faults, c.Faults...)
		})
	}
	all.Wait()
	return right, left, faults, errors.Join(errs...)
}

// erased finds what is wrong with entries out of which names were taken, of which this is left.
func (s *Service) erased(v *workspace.View, left []seal.Left) ([]seal.Fault, error) {
	noted, err := v.Read.Left()
	if err != nil {
		return nil, err
	}
	asked, err := v.Read.EventsOf(slices.Collect(maps.Keys(noted)), string(event.PersonErased{}.Kind()))
	if err != nil {
		return nil, err
	}
	var requests []seal.Request
	for change, left := range noted {
		r := seal.Request{Left: left}
		if row, known := asked[change]; known {
			e, err := event.Decode(event.Kind(row.Kind), row.Via, row.Data)
			if err != nil {
				return nil, err
			}
			if f, ok := e.Fact.(event.PersonErased); ok {
				r.Number, r.Digest = row.ID, f.Left
			}
		}
		requests = append(requests, r)
	}
	now := make(map[int64]seal.Hash, len(left))
	for _, l := range left {
		now[l.Number] = l.Hash
	}
	return seal.Erasures(now, requests), nil
}

// ends finds what the chain itself does not tell: entries that no sealer saw, an end that was cut off, and a chain that is
// another one than when a seal was kept.
func (s *Service) ends(v *workspace.View, st store.Sealing, begins event.HistoryForgotten, last int64, kept []api.KeptSeal, faults []seal.Fault) ([]seal.Fault, error) {
	if last < st.Place {
		faults = append(faults, seal.Fault{Kind: seal.Missing, Place: last + 1, Says: fmt.Sprintf("The chain ends at place %d, but it was sealed up to %d.", last, st.Place)})
	}
	if now, err := v.Read.SealAt(st.Place); err == nil && now != read(st.Seal) {
		faults = append(faults, seal.Fault{Kind: seal.Rewritten, Place: st.Place, Number: st.Entry, Says: fmt.Sprintf("The seal in place %d is another one than was made last.", st.Place)})
	}
	for _, k := range kept {
		now, err := v.Read.SealAt(k.Place)
		switch {
		case k.Place < begins.Place || k.Place == begins.Place && strings.EqualFold(begins.Seal, k.Seal): // it is said
		case errors.Is(err, store.ErrNotFound):
			faults = append(faults, seal.Fault{Kind: seal.Missing, Place: k.Place, Says: fmt.Sprintf("There is no seal in place %d any more, of which one was kept.", k.Place)})
		case err != nil:
			return nil, err
		case !strings.EqualFold(now.String(), k.Seal):
			faults = append(faults, seal.Fault{Kind: seal.Rewritten, Place: k.Place, Says: fmt.Sprintf("The seal in place %d is not the one that was kept: the chain was made anew somewhere before it.", k.Place)})
		}
	}
	if st.Low == 0 {
		return faults, nil
	}
	odd, err := v.Read.Unsealed(0, st.Low, maxFaults)
	if err != nil {
		return nil, err
	}
	for _, e := range odd {
		faults = append(faults, seal.Fault{Kind: seal.Added, Number: e.Number, Says: fmt.Sprintf("Entry %d was put in by nobody who writes the history: it has no seal.", e.Number)})
	}
	return faults, nil
}
