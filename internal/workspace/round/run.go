package round

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/round"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/life"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"
)

const (
	writeAtOnce = 50     // recipients, in one transaction
	closeAtOnce = 50     // groups about which nobody has answered, in one transaction
	silentWave  = 10_000 // of the letters to caretakers, after all others
	lateDays    = 30     // for which the link of a letter is good, after the end
)

// Run writes the letters that are due, ends rounds whose day has passed, and begins those again that are repeated. Any number of
// instances may do so at once.
func (s *Service) Run(ctx context.Context) error {
	v := s.k.View(ctx, workspace.Service)
	rounds, err := v.Read.RoundsAtWork(v.Now())
	if err != nil || len(rounds) == 0 {
		return err
	}
	if err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error { return c.Tx.FreshenAsked(c.Now()) }); err != nil {
		return err
	}
	for _, r := range rounds {
		if r.State == store.RoundOpen {
			err = errors.Join(s.tell(ctx, r.ID), s.end(ctx, r.ID))
		}
		if err == nil && r.NextAt != nil {
			err = s.again(ctx, r.ID)
		}
		if err != nil {
			return fmt.Errorf("round %s: %w", r.Name, err)
		}
	}
	return nil
}

// tell writes the letters of a round that are due: of several whose time has come, the last.
func (s *Service) tell(ctx context.Context, id uuid.UUID) error {
	v := s.k.View(ctx, workspace.Service)
	r, err := v.Read.Round(id)
	if err != nil {
		return err
	}
	t, err := v.Terms()
	if err != nil {
		return err
	}
	day := planOf(t, r).Letter(v.Now())
	if day <= r.Told {
		return nil
	}
	groups, err := v.Read.AskedIn(r.ID, store.AskedWaiting)
	if err != nil {
		return err
	}
	kind := workspace.LetterRoundAgain
	if r.Told < 0 {
		kind = workspace.LetterRound
	}
	if err := s.write(ctx, r, r.Wave, kind, groups, func(v *workspace.View) (map[uuid.UUID][]string, error) { return recipients(v, r, groups) }); err != nil {
		return err
	}
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		was := r.Wave
		r, err := c.Tx.LockRound(id)
		if err != nil || r.Wave != was || r.State != store.RoundOpen { // another instance was first
			return err
		}
		now := c.Now()
		if r.Told, r.Wave, r.LastToldAt = day, r.Wave+1, &now; r.FirstToldAt == nil {
			r.FirstToldAt = &now
		}
		return c.Tx.SaveRound(r)
	})
}

// write writes one letter to each of those who answer for groups, about all that are theirs. What letter is written is recorded
// with it, so that none is written twice, whoever dies and whoever else is at it.
func (s *Service) write(ctx context.Context, r store.Round, wave int, kind string, groups []uuid.UUID, whom func(*workspace.View) (map[uuid.UUID][]string, error)) error {
	v := s.k.View(ctx, workspace.Service)
	to, err := whom(v)
	if err != nil {
		return err
	}
	of := map[string][]uuid.UUID{}
	for _, id := range groups {
		for _, x := range to[id] {
			of[x] = append(of[x], id)
		}
	}
	for {
		written, err := s.k.View(ctx, workspace.Service).Read.RoundLetters(r.ID, wave)
		if err != nil {
			return err
		}
		for x := range written {
			delete(of, x)
		}
		some := slices.Sorted(maps.Keys(of))
		if len(some) == 0 {
			return nil
		}
		some = some[:min(len(some), writeAtOnce)]
		err = s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
			for _, x := range some {
				if err := letter(c, r, wave, kind, x, of[x]); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil && !errors.Is(err, store.ErrDuplicate) { // else another instance was first with some of them
			return err
		}
	}
}

// listedAtMost is how many groups one letter names; its page has all.
const listedAtMost = 100

// letter writes to one of those who answer.
func letter(c *workspace.Change, r store.Round, wave int, kind, to string, groups []uuid.UUID) error {
	byID, err := c.Read.GroupsByID(groups)
	if err != nil {
		return err
	}
	all := slices.SortedFunc(maps.Values(byID), func(a, b store.Group) int { return strings.Compare(a.Name, b.Name) })
	if len(all) == 0 {
		return nil
	}
	sizes, err := c.Read.Sizes(groups)
	if err != nil {
		return err
	}
	t, err := c.Terms()
	if err != nil {
		return err
	}
	language := all[0].Language
	if p, err := c.Read.PersonByKey(strings.ToLower(to)); err == nil {
		if l, _, _ := strings.Cut(people.Fields(p)["preferredLanguage"], "-"); workspace.KnownLanguage(l) {
			language = l
		}
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	by := r.Maker
	if r.MadeBy != nil {
		if p, err := c.Read.Person(*r.MadeBy); err == nil {
			by = p.Name
		} else if !errors.Is(err, store.ErrNotFound) {
			return err
		}
	}
	secret, hash := member.NewSecret()
	var asked []string
	for _, q := range strings.Fields(r.Questions) {
		asked = append(asked, workspace.Phrase(language, "round "+q))
	}
	l := c.Letter(kind, language, "/rounds/"+secret, map[string]string{"by": by, "round": r.Name, "date": workspace.DateIn(language, t.Life.After(r.EndsAt, -1).In(t.Life.Zone)), "note": r.Note,
		"questions": strings.Join(asked, "; "), "silence": workspace.Phrase(language, "silence "+r.Silence), "count": workspace.Counted(language, len(all), "group"), "address": to})
	l.Apart = true
	for i := range all[:min(len(all), listedAtMost)] {
		g := &all[i]
		l.Items = append(l.Items, workspace.Item{Text: fmt.Sprintf("%s (%s)", g.Name, size(language, sizes[g.ID], g.ExternalMembers)), Link: c.Link(workspace.GroupPath(g, ""))})
	}
	if more := len(all) - listedAtMost; more > 0 {
		l.Items = append(l.Items, workspace.Item{Text: fmt.Sprintf("… +%d", more)})
	}
	if err := c.Tx.AddRoundLetters([]store.RoundLetter{{RoundID: r.ID, Recipient: to, Wave: wave, Hash: hash, At: c.Now()}}); err != nil {
		return err
	}
	return c.Send(nil, []string{to}, l)
}

// size says how many people a group reaches, and how many of its own are from outside.
func size(language string, n, external int) string {
	out := workspace.Counted(language, n, "person")
	if external > 0 {
		out += ", " + strings.ReplaceAll(workspace.Phrase(language, "outside"), "{n}", fmt.Sprint(external))
	}
	return out
}

// end ends a round whose day has passed. Where silence retires groups and people were not told long enough before, its day is
// moved instead.
func (s *Service) end(ctx context.Context, id uuid.UUID) error {
	v := s.k.View(ctx, workspace.Service)
	r, err := v.Read.Round(id)
	if err != nil {
		return err
	}
	t, err := v.Terms()
	if err != nil {
		return err
	}
	over, until := planOf(t, r).Over(v.Now(), when(r.FirstToldAt), when(r.LastToldAt))
	switch {
	case v.Now().Before(r.EndsAt):
		return nil
	case !over:
		return s.move(ctx, id, until)
	}
	for {
		left, err := s.k.View(ctx, workspace.Service).Read.Asked(store.AskedQuery{Round: id, States: []int8{store.AskedWaiting}, Limit: closeAtOnce})
		if err != nil {
			return err
		}
		if len(left.Items) == 0 {
			break
		}
		if err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error { return silent(c, r, left.Items) }); err != nil {
			return err
		}
	}
	if r.Silence == string(round.Caretaker) {
		if err := s.tellCaretakers(ctx, r); err != nil {
			return err
		}
	}
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		r, err := c.Tx.LockRound(id)
		if err != nil || r.State != store.RoundOpen {
			return err
		}
		counts, err := c.Read.RoundCounts([]uuid.UUID{id})
		if err != nil {
			return err
		}
		x, now := counts[id], c.Now()
		if x.Waiting > 0 { // a group came back meanwhile
			return nil
		}
		r.State, r.ClosedAt = store.RoundOver, &now
		r.Version++
		if err := c.Tx.SaveRound(r); err != nil {
			return err
		}
		return c.Record(event.RoundEnded{Name: r.Name, Kept: x.Kept, Retired: x.Retired, Silent: x.Silent, Gone: x.Gone}, nil)
	})
}

func when(t *time.Time) time.Time {
	if t == nil {
		return time.Time{}
	}
	return *t
}

// move puts the day of a round off, of which people were told too late.
func (s *Service) move(ctx context.Context, id uuid.UUID, until time.Time) error {
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		r, err := c.Tx.LockRound(id)
		if err != nil || r.State != store.RoundOpen || !r.EndsAt.Before(until) {
			return err
		}
		t, err := c.Terms()
		if err != nil {
			return err
		}
		from := dueOn(t, r)
		r.EndsAt = until.UTC()
		r.Version++
		if err := c.Tx.SaveRound(r); err != nil {
			return err
		}
		return c.Record(event.RoundChanged{Name: r.Name, Changed: []event.Change{{Field: "due_on", From: from, To: dueOn(t, r), Says: fmt.Sprintf("People were told too late, so it goes on until %s.", workspace.DateIn("en", t.Life.After(r.EndsAt, -1).In(t.Life.Zone)))}}}, nil)
	})
}

// silent applies to groups what becomes of those about which nobody has answered.
func silent(c *workspace.Change, r store.Round, rows []store.RoundGroup) error {
	ids := make([]uuid.UUID, len(rows))
	for i, a := range rows {
		ids[i] = a.GroupID
	}
	groups, err := c.Tx.LockGroups(ids)
	if err != nil {
		return err
	}
	asked, err := c.Tx.LockAsked(r.ID, ids)
	if err != nil {
		return err
	}
	change := c.ID()
	for _, a := range asked {
		if a.State != store.AskedWaiting {
			continue
		}
		g, there := groups[a.GroupID]
		if !there || c.Ended(&g) {
			a.State = store.AskedGone
			if err := c.Tx.SaveAsked([]store.RoundGroup{a}); err != nil {
				return err
			}
			continue
		}
		became := ""
		if a.State = store.AskedSilent; r.Silence == string(round.Retire) {
			if became = "Retired, since nobody has answered."; g.Kept != "" {
				became = "Not retired, since it is under hold."
			} else if err := life.End(c, workspace.Hold(g)); err != nil {
				return err
			}
		}
		if r.Silence == string(round.Caretaker) {
			became = "Its caretaker is told."
		}
		a.Says, a.ChangeID = workspace.Cut(strings.TrimSpace(a.Says+" "+became), 1000), &change
		if err := c.Tx.SaveAsked([]store.RoundGroup{a}); err != nil {
			return err
		}
		if err := c.Record(event.RoundSilent{Round: r.Name, Became: became}, &g); err != nil {
			return err
		}
	}
	return nil
}

// tellCaretakers tells those who take care of groups about which nobody has answered.
func (s *Service) tellCaretakers(ctx context.Context, r store.Round) error {
	v := s.k.View(ctx, workspace.Service)
	groups, err := v.Read.AskedIn(r.ID, store.AskedSilent)
	if err != nil || len(groups) == 0 {
		return err
	}
	return s.write(ctx, r, silentWave, workspace.LetterRoundSilent, groups, func(v *workspace.View) (map[uuid.UUID][]string, error) { return v.CaretakersOf(groups) })
}

// again begins a round again that is repeated.
func (s *Service) again(ctx context.Context, id uuid.UUID) error {
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		r, err := c.Tx.LockRound(id)
		if err != nil || r.NextAt == nil || r.NextAt.After(c.Now()) || r.State == store.RoundOpen {
			return err
		}
		t, err := c.Terms()
		if err != nil {
			return err
		}
		was := planOf(t, r)
		next := r
		next.ID, next.BegunAt, next.Previous, next.State, next.Told, next.Version = c.ID(), c.Now(), &r.ID, store.RoundOpen, -1, 1
		next.EndsAt = t.Life.After(c.Now(), max(1, was.Length())).UTC()
		next.FirstToldAt, next.LastToldAt, next.ClosedAt = nil, nil, nil
		at := planOf(t, next).Next(r.EveryMonths)
		next.NextAt = &at
		r.NextAt = nil
		if _, err := begin(c, t, next); workspace.IsKind(err, workspace.Invalid) { // nobody is named by its filter now
			r.NextAt = &at
		} else if err != nil {
			return err
		}
		return c.Tx.SaveRound(r)
	})
}
