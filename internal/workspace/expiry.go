package workspace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/store"
)

const expirySetting = "expiry"

// expiry is the rule of the workspace as it is kept.
type expiry struct {
	api.Expiry
	policy lifecycle.Policy
}

func newExpiry(e api.Expiry) (expiry, error) {
	out := expiry{Expiry: e, policy: lifecycle.Policy{TermDays: e.TermDays, Scope: lifecycle.Scope(e.Scope), Notices: e.Notices, Caretaker: e.Caretaker}}
	var err error
	out.policy.Zone, err = time.LoadLocation(e.TimeZone)
	return out, err
}

// expiry returns the rule in force; off until it is set.
func (w *Workspace) expiry(ctx context.Context) (expiry, error) {
	return expiryFrom(ctx, w.store.Setting)
}

// shownExpiry is expiry for a list of groups.
func (w *Workspace) shownExpiry(ctx context.Context) (expiry, error) {
	return expiryFrom(ctx, w.store.KeptSetting)
}

func expiryFrom(ctx context.Context, read func(context.Context, string, any) (int, error)) (expiry, error) {
	e := api.Expiry{Scope: string(lifecycle.AllGroups), Notices: []int{30, 15, 1}, TimeZone: "UTC"}
	version, err := read(ctx, expirySetting, &e)
	if err != nil {
		return expiry{}, err
	}
	e.Version = version + 1 // one that was never set has an ETag too
	return newExpiry(e)
}

// Expiry returns the rule for how long groups live.
func (w *Workspace) Expiry(ctx context.Context, a Actor) (api.Expiry, error) {
	if err := allow(a, readExpiry); err != nil {
		return api.Expiry{}, err
	}
	e, err := w.expiry(ctx)
	return e.Expiry, err
}

func checkExpiry(e api.Expiry) (expiry, error) {
	var p problems
	out, err := newExpiry(e)
	if err != nil || e.TimeZone == "" || e.TimeZone == "Local" {
		p.add("time_zone", e.TimeZone, "There is no time zone %q. Write its IANA name, such as UTC or Atlantic/Faroe.", e.TimeZone)
	}
	if err := out.policy.Check(); err != nil {
		field := "notices"
		bare := out.policy
		bare.Notices = []int{1}
		if bare.TermDays != 0 && bare.Check() != nil || bare.TermDays == 0 && bare.Scope == "" {
			field = "term_days"
		}
		if s := out.policy.Scope; s != lifecycle.AllGroups && s != lifecycle.ChosenGroups && s != lifecycle.NoGroups {
			field = "scope"
		}
		given := map[string]any{"notices": e.Notices, "term_days": e.TermDays, "scope": e.Scope}[field]
		p.add(field, given, "%s.", upperFirst(err.Error()))
	}
	if e.Caretaker != "" {
		if _, err := parseAddress("caretaker", e.Caretaker); err != nil {
			p.add("caretaker", e.Caretaker, "%s", err.(*Error).Says)
		}
	}
	return out, p.err()
}

// ExpiryEffect says what a new rule would do.
func (w *Workspace) ExpiryEffect(ctx context.Context, a Actor, e api.Expiry) (api.ExpiryEffect, error) {
	if err := allow(a, changeExpiry); err != nil {
		return api.ExpiryEffect{}, err
	}
	next, err := checkExpiry(e)
	if err != nil {
		return api.ExpiryEffect{}, err
	}
	effect, _, err := w.recalculate(ctx, w.store, next)
	return effect, err
}

// SetExpiry puts a new rule in force and gives every living group its date by it.
func (w *Workspace) SetExpiry(ctx context.Context, a Actor, e api.Expiry, version int) (api.Expiry, error) {
	if err := allow(a, changeExpiry); err != nil {
		return api.Expiry{}, err
	}
	next, err := checkExpiry(e)
	if err != nil {
		return api.Expiry{}, err
	}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		before := api.Expiry{Scope: string(lifecycle.AllGroups), Notices: []int{30, 15, 1}, TimeZone: "UTC"}
		current, err := t.LockSetting(ctx, expirySetting, &before)
		if err != nil {
			return err
		}
		if version > 0 && version != current+1 {
			return fail(Stale, "Somebody changed the expiry policy since you read it (version %d, now %d). Read it again, then make your change.", version, current+1)
		}
		effect, dates, err := w.recalculate(ctx, t, next)
		if err != nil {
			return err
		}
		next.Version = current + 2
		if err := t.SaveSetting(ctx, expirySetting, next.Expiry, current+1); err != nil {
			return err
		}
		if err := t.SetExpiry(ctx, dates); err != nil {
			return err
		}
		var changes []api.FieldChange
		changed(&changes, "term_days", before.TermDays, e.TermDays)
		changed(&changes, "scope", before.Scope, e.Scope)
		if !slices.Equal(before.Notices, e.Notices) {
			changes = append(changes, api.FieldChange{Field: "notices", From: before.Notices, To: e.Notices})
		}
		changed(&changes, "caretaker", before.Caretaker, e.Caretaker)
		changed(&changes, "time_zone", before.TimeZone, e.TimeZone)
		changes = append(changes, api.FieldChange{Field: "groups", From: effect.Groups, To: len(dates), Says: effect.Says})
		return record(ctx, t, a, w.now(ctx), "expiry.change", nil, "expiry policy", changes)
	})
	return next.Expiry, err
}

// recalculate works out the date of every living group under a rule, and how that
// differs from today's. It reads every living group: a declared full review.
func (w *Workspace) recalculate(ctx context.Context, t *store.Store, next expiry) (api.ExpiryEffect, map[uuid.UUID]time.Time, error) {
	now := w.now(ctx)
	dates := map[uuid.UUID]time.Time{}
	effect := api.ExpiryEffect{Sample: []api.Moved{}}
	type moved struct {
		name, address string
		from, to      time.Time
	}
	var all []moved
	soon := next.policy.Day(now).AddDate(0, 0, next.policy.First())
	err := t.EachLiveGroup(ctx, func(batch []store.Group) error {
		for _, g := range batch {
			life := g.Life()
			if next.policy.State(life, now) == lifecycle.Lapsed {
				continue // its time ran out; a new rule does not bring it back
			}
			effect.Groups++
			to := next.policy.Expiry(life, now)
			if !to.IsZero() && g.Owners == 0 {
				effect.Ownerless++
			}
			if !to.IsZero() && !to.After(soon) {
				effect.DueSoon++
			}
			switch from := life.Expires; {
			case to.Equal(from):
				continue
			case from.IsZero():
				effect.Gain++
			case to.IsZero():
				effect.Lose++
			case to.Before(from):
				effect.Earlier++
			default:
				effect.Later++
			}
			dates[g.ID] = to
			all = append(all, moved{g.Name, g.Address, life.Expires, to})
		}
		return nil
	})
	sort.Slice(all, func(i, j int) bool {
		a, b := all[i], all[j]
		if a.to.IsZero() != b.to.IsZero() {
			return b.to.IsZero()
		}
		return a.to.Before(b.to) || a.to.Equal(b.to) && a.address < b.address
	})
	for _, m := range all[:min(len(all), 10)] {
		effect.Sample = append(effect.Sample, api.Moved{Name: m.name, Address: m.address, From: orNil(m.from), To: orNil(m.to)})
	}
	effect.Says = expiryWords(effect)
	return effect, dates, err
}

func orNil(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

func expiryWords(e api.ExpiryEffect) string {
	if e.Gain+e.Lose+e.Earlier+e.Later == 0 {
		return "No date of a group changes."
	}
	s := fmt.Sprintf("Of %d groups,", e.Groups)
	if e.Groups == 1 {
		s = "Of one group,"
	}
	for _, part := range []struct {
		n        int
		one, all string
	}{{e.Gain, "gets", "get a date"}, {e.Lose, "loses", "lose the date"}, {e.Earlier, "expires", "expire earlier"}, {e.Later, "expires", "expire later"}} {
		switch part.n {
		case 0:
		case 1:
			_, rest, _ := strings.Cut(part.all, " ")
			s += " 1 " + part.one + " " + rest + ","
		default:
			s += fmt.Sprintf(" %d %s,", part.n, part.all)
		}
	}
	s = s[:len(s)-1] + "."
	if e.DueSoon > 0 {
		s += fmt.Sprintf(" Owners of %d are told at once; no group ends before they are.", e.DueSoon)
	}
	return s
}

// Forecast counts the groups that expire in each of the coming weeks. Weeks begin
// today.
func (w *Workspace) Forecast(ctx context.Context, a Actor, weeks int) ([]api.Week, error) {
	if err := allow(a, readExpiry); err != nil {
		return nil, err
	}
	e, err := w.expiry(ctx)
	if err != nil {
		return nil, err
	}
	today := e.policy.Day(w.now(ctx))
	dates, err := w.store.ExpiryDates(ctx, today.UTC(), today.AddDate(0, 0, 7*weeks).UTC())
	out := make([]api.Week, weeks)
	for i := range out {
		out[i].Begins = today.AddDate(0, 0, 7*i).UTC()
	}
	for _, d := range dates {
		if i := e.policy.Days(today, d.ExpiresAt) / 7; i >= 0 && i < weeks {
			out[i].Groups += d.N
		}
	}
	return out, err
}

// RunExpiry sends the notices that are due, lets groups lapse whose time has run
// out, and purges those whose recovery window has passed. It is safe to run from
// several instances at once, and again after dying at any point.
func (w *Workspace) RunExpiry(ctx context.Context) error {
	e, err := w.expiry(ctx)
	if err != nil {
		return err
	}
	now := w.now(ctx)
	until := e.policy.Day(now).AddDate(0, 0, e.policy.First())
	for after := (store.Cursor{}); ; {
		page, err := w.store.ExpiryCandidates(ctx, until, after, 500)
		if err != nil {
			return err
		}
		if err := w.runPage(ctx, e, page.Items, now); err != nil {
			return err
		}
		if after = page.Next; after == (store.Cursor{}) {
			break
		}
	}
	w.o.Wake()
	return w.purge(ctx, e, now)
}

func (w *Workspace) runPage(ctx context.Context, e expiry, groups []store.Group, now time.Time) error {
	ids := make([]uuid.UUID, len(groups))
	for i, g := range groups {
		ids[i] = g.ID
	}
	sent, err := w.store.NoticesSent(ctx, ids)
	if err != nil {
		return err
	}
	for _, g := range groups {
		var days []int
		for _, n := range sent[g.ID] {
			if n.ExpiresAt.Equal(g.ExpiresAt) {
				days = append(days, n.Day)
			}
		}
		if !now.Before(g.ExpiresAt) {
			err = w.lapse(ctx, e, g.ID, now)
		} else if day, ok := e.policy.Notice(g.ExpiresAt, now, days); ok {
			err = w.notify(ctx, e, g, day, now)
		}
		if err != nil {
			return fmt.Errorf("expiry of %s: %w", g.Address, err)
		}
	}
	return nil
}

// notify sends one notice, once: its record and its mail are one transaction.
func (w *Workspace) notify(ctx context.Context, e expiry, g store.Group, day int, now time.Time) error {
	to, err := w.noticeRecipients(ctx, &g)
	if err != nil {
		return err
	}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		if err := t.RecordNotice(ctx, store.Notice{GroupID: g.ID, ExpiresAt: g.ExpiresAt, Day: day}); err != nil {
			return err
		}
		if err := w.send(ctx, t, &g, to, w.dueLetter(g, e.policy, now)); err != nil {
			return err
		}
		return record(ctx, t, Service, now, "notice.send", &g, g.Address, []api.FieldChange{{Field: "notice_days", To: day}, {Field: "to", To: to}})
	})
	if errors.Is(err, store.ErrDuplicate) {
		return nil
	}
	return err
}

func (w *Workspace) lapse(ctx context.Context, e expiry, id uuid.UUID, now time.Time) error {
	return w.store.Tx(ctx, func(t *store.Store) error {
		g, err := t.LockGroup(ctx, id)
		if err != nil {
			return err
		}
		if g.EndedAt != nil || now.Before(g.ExpiresAt) {
			return nil // restored, renewed or ended in the meantime
		}
		to, err := w.noticeRecipients(ctx, &g)
		if err != nil {
			return err
		}
		g.EndedAt, g.Retired = &now, false
		if err := t.SaveGroup(ctx, &g, false); err != nil {
			return err
		}
		if err := w.send(ctx, t, &g, to, w.lapsedLetter(g, e.policy)); err != nil {
			return err
		}
		return record(ctx, t, Service, now, "group.lapse", &g, g.Address, []api.FieldChange{{Field: "state", From: "due", To: "lapsed"}})
	})
}

func (w *Workspace) purge(ctx context.Context, e expiry, now time.Time) error {
	for {
		groups, err := w.store.EndedBefore(ctx, e.policy.Day(now).AddDate(0, 0, 1-lifecycle.RecoveryDays), 100)
		if err != nil {
			return err
		}
		purged := 0
		for _, g := range groups {
			if now.Before(e.policy.PurgeAt(g.Life())) {
				continue
			}
			err := w.store.Tx(ctx, func(t *store.Store) error {
				locked, err := t.LockGroup(ctx, g.ID)
				if errors.Is(err, store.ErrNotFound) || err == nil && locked.EndedAt == nil {
					return nil // purged by another instance, or restored
				}
				if err != nil {
					return err
				}
				if err := t.Purge(ctx, g.ID); err != nil {
					return err
				}
				return record(ctx, t, Service, now, "group.purge", &locked, g.Address, []api.FieldChange{{Field: "name", From: g.Name, To: nil}})
			})
			if err != nil {
				return err
			}
			purged++
		}
		if purged == 0 {
			return nil
		}
	}
}

// noticeRecipients returns who is told about a group: its active owners, else the
// caretaker, else the administrators.
func (w *Workspace) noticeRecipients(ctx context.Context, g *store.Group) ([]string, error) {
	owners, err := w.store.Owners(ctx, []uuid.UUID{g.ID})
	if err != nil {
		return nil, err
	}
	var to []string
	for _, o := range owners[g.ID] {
		if o.Active {
			to = append(to, o.Address)
		}
	}
	if len(to) > 0 {
		return to, nil
	}
	e, err := w.expiry(ctx)
	if err != nil {
		return nil, err
	}
	if e.Caretaker != "" {
		return []string{e.Caretaker}, nil
	}
	return w.store.Administrators(ctx)
}
