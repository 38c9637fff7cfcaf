package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/roster"
	"ivytable.example/ivytable/internal/store"
)

// Workspace is one organisation's installation.
type Workspace struct {
	store *store.Store
	o     Options
	book  atomic.Pointer[ruleBook]
}

// Options are what a workspace is made with.
type Options struct {
	Now       func() time.Time // the time in the workspace; nil: the real one
	PublicURL string           // of the console, for links in mail
	Wake      func()           // called after mail was queued; nil: nothing
	Demo      bool             // sample data: the clock can be moved
}

// New returns the workspace whose records are in s.
func New(s *store.Store, o Options) *Workspace {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Wake == nil {
		o.Wake = func() {}
	}
	return &Workspace{store: s, o: o}
}

// Ready reports whether the workspace can work: whether its database answers.
func (w *Workspace) Ready(ctx context.Context) error { return w.store.Ping(ctx) }

// now returns the time in the workspace, UTC, in whole microseconds. In a demo it
// may have been moved ahead.
func (w *Workspace) now(ctx context.Context) time.Time {
	t := w.o.Now()
	if w.o.Demo {
		var ahead time.Duration
		if _, err := w.store.KeptSetting(ctx, clockSetting, &ahead); err == nil {
			t = t.Add(ahead)
		}
	}
	return t.UTC().Truncate(time.Microsecond)
}

// Kind is what sort of trouble an Error is.
type Kind int

// The kinds.
const (
	Invalid    Kind = iota // the request can't be done as it is
	SignedOut              // nobody is signed in, or the password is wrong
	NotAllowed             // not for this actor
	NotFound               // no such thing, as far as this actor can tell
	Conflict               // somebody or something was there first
	Stale                  // it has changed since it was read
	Throttled              // too often; later
)

// Error is trouble that a person can do something about.
type Error struct {
	Kind     Kind
	Says     string        // one or two sentences: what is wrong and what to do
	Problems []api.Problem // the fields, where there are any
}

func (e *Error) Error() string { return e.Says }

func fail(kind Kind, format string, args ...any) error {
	return &Error{Kind: kind, Says: fmt.Sprintf(format, args...)}
}

// wrong is an Invalid error about one field.
func wrong(field string, given any, says string) error {
	return &Error{Kind: Invalid, Says: says, Problems: []api.Problem{{Field: field, Given: given, Says: says}}}
}

// problems collects what is wrong with a request.
type problems []api.Problem

func (p *problems) add(field string, given any, format string, args ...any) {
	*p = append(*p, api.Problem{Field: field, Given: given, Says: fmt.Sprintf(format, args...)})
}

func (p problems) err() error {
	switch len(p) {
	case 0:
		return nil
	case 1:
		return &Error{Kind: Invalid, Says: p[0].Says, Problems: p}
	}
	more := "There is one more problem."
	if len(p) > 2 {
		more = fmt.Sprintf("There are %d more problems.", len(p)-1)
	}
	return &Error{Kind: Invalid, Says: p[0].Says + " " + more, Problems: p}
}

// parseAddress reads an address of a request.
func parseAddress(field, given string) (mailaddr.Address, error) {
	a, err := mailaddr.Parse(given)
	if err != nil {
		return a, wrong(field, given, says(err))
	}
	return a, nil
}

// says returns the words of an error of mailaddr without what was given, which a
// Problem names by itself.
func says(err error) string {
	if e := new(roster.Error); errors.As(err, &e) {
		return e.Error()
	}
	var e *mailaddr.Error
	if errors.As(err, &e) {
		if e.Mend != "" {
			return e.Says + " " + e.Mend
		}
		return e.Says
	}
	return err.Error()
}

// record writes an entry of the history.
func record(ctx context.Context, t *store.Store, a Actor, at time.Time, action string, g *store.Group, subject string, changes []api.FieldChange) error {
	c, err := entry(a, at, action, g, subject, changes)
	if err != nil {
		return err
	}
	return t.AddHistory(ctx, []store.Change{c})
}

func entry(a Actor, at time.Time, action string, g *store.Group, subject string, changes []api.FieldChange) (store.Change, error) {
	if changes == nil {
		changes = []api.FieldChange{}
	}
	b, err := json.Marshal(changes)
	c := store.Change{At: at, Actor: a.String(), Via: a.Via, Action: action, Subject: cut(subject, 400), Changes: b, RequestID: a.RequestID}
	if a.Person.ID != uuid.Nil {
		c.ActorID = &a.Person.ID
	}
	if g != nil {
		c.GroupID = &g.ID
	}
	return c, err
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// list names the keys of a map in a sentence.
func list[V any](m map[string]V) string { return strings.Join(sortedKeys(m), ", ") }

// recordOf writes an entry of the history with everybody whom it affected.
func recordOf(ctx context.Context, t *store.Store, a Actor, at time.Time, action string, g *store.Group, subject string, changes []api.FieldChange, affected []store.Affected) error {
	c, err := entry(a, at, action, g, subject, changes)
	if err != nil {
		return err
	}
	return t.AddHistoryOf(ctx, c, affected)
}

func cut(s string, most int) string {
	if r := []rune(s); len(r) > most {
		return string(r[:most-1]) + "…"
	}
	return s
}

// changed adds a field to changes when its value did change.
func changed[T comparable](changes *[]api.FieldChange, field string, from, to T) {
	if from != to {
		*changes = append(*changes, api.FieldChange{Field: field, From: from, To: to})
	}
}
