// Package review looks for what is wrong or doubtful about the groups of the whole directory, and keeps what it found: what changes is looked
// at again at once, everything some times a day.
package review

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/review"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Service is the review of a workspace.
type Service struct {
	k    *workspace.Kernel
	keys *keys
}

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k, &keys{}} }

// keys are the keys of names of groups, which cost more to work out than to keep, and what groups were called when they were
// last compared with each other.
type keys struct {
	mu     sync.Mutex
	of     map[string]string
	at     string // which comparison that was, of all instances
	called map[uuid.UUID]string
}

// seen notes what groups were called when they were compared.
func (k *keys) seen(at string, all []review.Named) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.at, k.called = at, make(map[uuid.UUID]string, len(all))
	for _, g := range all {
		k.called[g.ID] = g.Name + " " + g.Address
	}
}

// same reports whether groups, of which some live, are called as they were when they were last compared.
func (k *keys) same(at string, groups []uuid.UUID, living []review.Named) bool {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.called == nil || at == "" || k.at != at {
		return false
	}
	now := make(map[uuid.UUID]string, len(living))
	for _, g := range living {
		now[g.ID] = g.Name + " " + g.Address
	}
	return !slices.ContainsFunc(groups, func(id uuid.UUID) bool { return now[id] != k.called[id] })
}

// set gives groups the keys of their names.
func (k *keys) set(all []review.Named) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.of == nil || len(k.of) > 2*len(all)+10_000 { // of names that are no more
		k.of = make(map[string]string, len(all))
	}
	for i, g := range all {
		key, known := k.of[g.Name]
		if !known {
			key = review.Key(g.Name)
			k.of[g.Name] = key
		}
		all[i].Key = key
	}
}

const (
	// LimitsSetting is the name under which the limits are kept, and stateSetting that of what the last look at everything found.
	LimitsSetting = "review"
	stateSetting  = "reviewed"

	every  = 6 * time.Hour // everything is looked at
	atOnce = 300           // changed groups that are looked at in one transaction
)

// Defaults are the settings of the review until others are set.
func Defaults() store.ReviewSettings { return store.ReviewSettings{Limits: review.DefaultLimits()} }

// compared are the kinds for which groups are compared with others; each of the rest is known by the group alone.
var compared = []string{string(review.SameThing), string(review.SamePeople), string(review.SoleOwner)}

// alone are the other kinds.
var alone = slices.DeleteFunc(review.Names(), func(k string) bool { return slices.Contains(compared, k) })

// look finds out about groups, with what is set.
type look struct {
	v        *workspace.View
	settings store.ReviewSettings
	keys     *keys
	unfilled map[string]bool // by attribute, as far as it was asked
}

func (s *Service) newLook(v *workspace.View, with store.ReviewSettings) *look {
	return &look{v, with, s.keys, map[string]bool{}}
}

// unfilledOf returns which attributes of a rule nobody has a value in.
func (l *look) unfilledOf(expression string) (out []string) {
	r, err := l.v.ParseRule(expression)
	if err != nil { // it asks about what is no more
		return nil
	}
	for _, a := range r.Attributes() {
		if a.Field == "" && !a.Own {
			continue
		}
		empty, known := l.unfilled[a.Path]
		if !known {
			none, err := l.v.Read.Unfilled([]string{a.Path})
			empty = err == nil && len(none) > 0
			l.unfilled[a.Path] = empty
		}
		if empty {
			out = append(out, a.Path)
		}
	}
	return out
}

// wanted drops what is not looked for.
func (l *look) wanted(all []review.Finding) []review.Finding {
	return slices.DeleteFunc(all, func(f review.Finding) bool { return slices.Contains(l.settings.Off, string(f.Kind)) })
}

// facts reads the facts of groups, of all where ids is nil. What is asked about rules is asked before, since a transaction has one connection.
func (l *look) facts(ids []uuid.UUID) (store.ReviewFacts, error) {
	var asked []string
	read := func(expression string) []string { asked = append(asked, expression); return nil }
	f, err := l.v.Read.ReviewFacts(ids, l.v.Now(), read)
	if err != nil || len(asked) == 0 {
		return f, err
	}
	for _, e := range asked {
		l.unfilledOf(e)
	}
	rules, err := l.v.Read.RulesOf(slices.Collect(maps.Keys(f.Groups)))
	for id, r := range rules {
		f.Groups[id].RuleUnfilled = l.unfilledOf(r.Expression)
	}
	return f, err
}

// each examines groups one by one.
func (l *look) each(f store.ReviewFacts) map[uuid.UUID]store.Found {
	out := map[uuid.UUID]store.Found{}
	for id, g := range f.Groups {
		if all := l.wanted(review.Examine(g, l.settings.Limits, l.v.Now())); len(all) > 0 {
			out[id] = store.Found{Of: store.KindGroup, Findings: all}
		}
	}
	return out
}

// twins adds groups that are called alike. at is what the comparison of all is known by, "" for one that is not kept.
func (l *look) twins(out map[uuid.UUID]store.Found, at string) error {
	names, err := l.v.Read.ReviewNames(nil, l.v.Now())
	if err != nil {
		return err
	}
	l.keys.set(names)
	l.keys.seen(at, names)
	for id, f := range review.Twins(names) {
		l.add(out, id, store.KindGroup, f)
	}
	return nil
}

func (l *look) add(out map[uuid.UUID]store.Found, id uuid.UUID, of int8, f review.Finding) {
	if len(l.wanted([]review.Finding{f})) > 0 {
		x := out[id]
		x.Of, x.Findings = of, append(x.Findings, f)
		out[id] = x
	}
}

// crowds adds groups that have nearly the same people, of pairs of which that is likely.
func (l *look) crowds(out map[uuid.UUID]store.Found, pairs []review.Pair) error {
	shared, err := l.v.Read.SharedPeople(pairs, l.v.Now())
	if err != nil {
		return err
	}
	for id, with := range shared {
		f, ok := review.Crowds(slices.Collect(maps.Values(with)), l.settings.Limits)
		if ok {
			l.add(out, id, store.KindGroup, f)
		}
	}
	return nil
}

// owners adds people who are alone the owners of many: of some people, or of all where ids is nil.
func (l *look) owners(out map[uuid.UUID]store.Found, ids []uuid.UUID) error {
	of, err := l.v.Read.SoleOwners(ids, l.settings.Limits.SoleGroups, l.v.Now())
	for id, n := range of {
		if f, ok := review.ExamineOwner(n, l.settings.Limits); ok {
			l.add(out, id, store.KindPerson, f)
		}
	}
	return err
}

// maxPairs is how many pairs of groups are compared person by person in one look at everything.
const maxPairs = 20000

// everything looks at the whole directory.
func (l *look) everything(at string) (map[uuid.UUID]store.Found, int, error) {
	f, err := l.facts(nil)
	if err != nil {
		return nil, 0, err
	}
	out := l.each(f)
	pairs := f.Crowd.Likely(l.settings.Limits)
	err = errors.Join(l.twins(out, at), l.crowds(out, pairs[:min(len(pairs), maxPairs)]), l.owners(out, nil))
	return out, len(f.Groups), err
}

// Everything looks at the whole directory and writes what it found. One instance at a time does so.
func (s *Service) Everything(ctx context.Context) error {
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		var st store.ReviewState
		version, err := c.Tx.LockSetting(stateSetting, &st)
		if err != nil {
			return err
		}
		return s.everything(c, st, version)
	})
}

// everything is what Everything does once it has the lock.
func (s *Service) everything(c *workspace.Change, st store.ReviewState, version int) error {
	settings := Defaults()
	if _, err := c.Read.Setting(LimitsSetting, &settings); err != nil {
		return err
	}
	due, err := c.Read.ReviewDue(1_000_000)
	if err != nil {
		return err
	}
	compared := store.NewID().String()
	found, groups, err := s.newLook(&c.View, settings).everything(compared)
	if err != nil {
		return err
	}
	if err := c.Tx.SetFindings(nil, review.Names(), found, c.Now()); err != nil {
		return err
	}
	t, err := c.Terms()
	if err != nil {
		return err
	}
	st.At, st.Groups, st.Compared = c.Now(), groups, compared
	return errors.Join(c.Tx.Reviewed(due), c.Tx.NoteDay(t.Date(c.Now()), c.Now()), c.Tx.SaveSetting(stateSetting, st, version+1))
}

// Run looks at everything where that was not done for some hours, and at groups that are quiet no more.
func (s *Service) Run(ctx context.Context) error {
	v := s.k.View(ctx, workspace.Service)
	var st store.ReviewState
	if _, err := v.Read.Setting(stateSetting, &st); err != nil {
		return err
	}
	if since := v.Now().Sub(st.At); since < every && since >= 0 {
		return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error { return c.Tx.ReviewQuiet(c.Now()) })
	}
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		var now store.ReviewState
		version, err := c.Tx.LockSetting(stateSetting, &now)
		if err != nil || !now.At.Equal(st.At) { // another instance was there first
			return err
		}
		return s.everything(c, now, version)
	})
}

// Follow looks at groups that have changed, until none is left.
func (s *Service) Follow(ctx context.Context) error {
	for {
		due, err := s.k.View(ctx, workspace.Service).Read.ReviewDue(1)
		if err != nil || len(due) == 0 {
			return err
		}
		if err := s.k.Do(ctx, workspace.Service, s.follow); err != nil {
			return err
		}
	}
}

func (s *Service) follow(c *workspace.Change) error {
	var st store.ReviewState
	version, err := c.Tx.LockSetting(stateSetting, &st) // no two at once
	if err != nil {
		return err
	}
	settings := Defaults()
	if _, err := c.Read.Setting(LimitsSetting, &settings); err != nil {
		return err
	}
	due, err := c.Read.ReviewDue(atOnce)
	if err != nil || len(due) == 0 {
		return err
	}
	groups := slices.Collect(maps.Keys(due))
	l := s.newLook(&c.View, settings)
	f, err := l.facts(groups)
	if err != nil {
		return err
	}
	if err := c.Tx.SetFindings(groups, alone, l.each(f), c.Now()); err != nil {
		return err
	}
	living, err := c.Read.ReviewNames(groups, c.Now())
	if err != nil {
		return err
	}
	if !s.keys.same(st.Compared, groups, living) {
		st.Compared = store.NewID().String()
		twins := map[uuid.UUID]store.Found{}
		if err := errors.Join(l.twins(twins, st.Compared), c.Tx.SetFindings(nil, []string{string(review.SameThing)}, twins, c.Now()), c.Tx.SaveSetting(stateSetting, st, version+1)); err != nil {
			return err
		}
	}
	if err := l.again(c, groups); err != nil {
		return err
	}
	own, err := c.Read.OwnersToReview(groups)
	if err != nil {
		return err
	}
	owners := map[uuid.UUID]store.Found{}
	if err := l.owners(owners, own); err != nil {
		return err
	}
	if err := c.Tx.SetFindings(own, []string{string(review.SoleOwner)}, owners, c.Now()); err != nil {
		return err
	}
	return c.Tx.Reviewed(due)
}

// again compares groups with those that had nearly the same people.
func (l *look) again(c *workspace.Change, groups []uuid.UUID) error {
	rows, err := c.Read.Crowded(groups)
	if err != nil || len(rows) == 0 {
		return err
	}
	of := map[uuid.UUID]bool{}
	pairs := map[review.Pair]bool{}
	note := func(rows []store.Finding) {
		for _, f := range rows {
			of[f.Subject] = true
			for _, other := range f.Named() {
				p := review.Pair{f.Subject, other}
				if slices.Compare(f.Subject[:], other[:]) > 0 {
					p = review.Pair{other, f.Subject}
				}
				pairs[p] = true
				of[other] = true
			}
		}
	}
	note(rows)
	ids := slices.Collect(maps.Keys(of))
	if rows, err = c.Read.Crowded(ids); err != nil { // those with which the others have people in common
		return err
	}
	for _, f := range rows {
		if slices.Contains(ids, f.Subject) {
			note([]store.Finding{f})
		}
	}
	found := map[uuid.UUID]store.Found{}
	if err := l.crowds(found, slices.Collect(maps.Keys(pairs))); err != nil {
		return err
	}
	// of what came in beside, not all pairs were compared: only those that were asked about are written
	return c.Tx.SetFindings(ids, []string{string(review.SamePeople)}, found, c.Now())
}
