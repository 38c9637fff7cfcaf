package workspace

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/store"
)

// Change is one change that is being made: a View within its transaction, with what can
// be written, locked, recorded and sent. [Kernel.Do] makes one.
type Change struct {
	View
	Tx     *store.Tx
	Report *api.Preview // what the change does, for whoever asked

	id       uuid.UUID
	events   []store.Event
	affected [][]store.Affected
	letters  []letter
	queued   bool
}

// Previewing reports whether nothing of the change is kept. What costs much and is not
// needed to say what it would do can be left out then.
func (c *Change) Previewing() bool { return c.By.Preview }

// Locked is a group that is locked, with where the actor stands with it.
type Locked struct {
	Group
	was     store.Group
	touched bool
	helping access.Action // it is changed by a helper of its area, who may do this; "" where it is not
}

// LockGroup locks a group and asks permission for an action on it, as it is then.
func (c *Change) LockGroup(id uuid.UUID, ref string, do access.Action) (*Locked, error) {
	g, err := c.Tx.LockGroup(id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, ErrNoGroup(ref)
	} else if err != nil {
		return nil, err
	}
	c.Now()
	if err := c.RefreshActor(); err != nil {
		return nil, err
	}
	return c.Allowed(g, ref, do)
}

// Allowed asks permission for an action on a group that was locked with others, once
// RefreshActor has read who acts.
func (c *Change) Allowed(g store.Group, ref string, do access.Action) (*Locked, error) {
	allowed, err := c.allowOn(g, ref, do)
	out := &Locked{Group: allowed, was: g}
	r := allowed.Relation
	if r.Powers = 0; err == nil && allowed.Relation.Powers != 0 && !c.By.Subject().May(do, r, &g.Policy) {
		out.helping = do
	}
	return out, err
}

// stays refuses a change by which a helper would take a group out of their area: nobody else would see it go.
func (c *Change) stays(g *Locked) error {
	if g.helping == "" {
		return nil
	}
	powers, err := c.PowersOf(c.By.Person, &g.Group.Group)
	if err != nil {
		return err
	}
	had, err := c.PowersOf(c.By.Person, &g.was)
	switch {
	case err != nil:
		return err
	case !powers.Cover(g.helping):
		return Fail(NotAllowed, "This would take %s out of your area. Ask an administrator to do it.", g.was.Name)
	case powers&^had != 0:
		return Fail(NotAllowed, "This would give you more power over %s than you have: it would come into another of your areas. Ask an administrator to do it.", g.was.Name)
	}
	return nil
}

// RefreshActor reads again who acts, after the locks: since they asked they may have left,
// or have lost a role.
func (c *Change) RefreshActor() error {
	if c.By.Person.ID == uuid.Nil {
		return nil
	}
	p, err := c.Read.Person(c.By.Person.ID)
	if errors.Is(err, store.ErrNotFound) {
		return Fail(SignedOut, "Sign in first.")
	}
	c.By.Person = p
	return err
}

// Allow checks the actor, as they are by now, against an action on the workspace. A use
// case that changes the workspace asks it after its locks.
func (c *Change) Allow(do access.Action) error {
	if err := c.RefreshActor(); err != nil {
		return err
	}
	return c.By.Allow(do)
}

// Hold wraps a group that was locked by other means and needs no permission.
func Hold(g store.Group) *Locked { return &Locked{Group: Group{Group: g}, was: g} }

// Was returns the group as it was when it was locked.
func (g *Locked) Was() store.Group { return g.was }

// CheckVersion refuses a change that began from an older version of a group; 0 is none.
func (g *Locked) CheckVersion(version int) error {
	if version > 0 && version != g.Version {
		return StaleGroup(g.Name, version, g.Version)
	}
	return nil
}

// CheckRevision is CheckVersion for who is in a group.
func (g *Locked) CheckRevision(revision int) error {
	if revision > 0 && revision != g.Revision {
		return StaleGroup("the people of "+g.Name, revision, g.Revision)
	}
	return nil
}

// Save writes a group that was locked.
func (c *Change) Save(g *Locked) error {
	if g.touched && g.Version == g.was.Version {
		g.Version++
	}
	was := g.was
	if err := c.stays(g); err != nil {
		return err
	}
	err := c.Tx.SaveGroup(&g.Group.Group, was)
	if err == nil && was.Policy != g.Policy {
		err = c.endContradicted(&g.Group.Group)
	}
	g.was, g.touched = g.Group.Group, false
	return err
}

// ID is what the history knows the change by.
func (c *Change) ID() uuid.UUID { return c.id }

// RecordWhole is Record for the one event that stands for a change of many groups, of which
// others are parts.
func (c *Change) RecordWhole(f event.Fact) error {
	if err := c.Record(f, nil); err != nil {
		return err
	}
	c.events[len(c.events)-1].Part = false
	return nil
}

// RecordPart is Record for one of the events that belong to a change which was recorded as a whole.
func (c *Change) RecordPart(f event.Fact, g *store.Group) error {
	if err := c.Record(f, g); err != nil {
		return err
	}
	c.events[len(c.events)-1].Part = true
	return nil
}

// Record writes an event into the history: about a group, or nil for none, and with
// everybody whom it affected.
func (c *Change) Record(f event.Fact, g *store.Group, affected ...store.Affected) error {
	e := event.Event{By: Who(c.By.Person), Via: c.By.Via, Fact: f, Undoes: c.By.Undoes}
	row := store.Event{ChangeID: c.id, At: c.Now(), Kind: string(f.Kind()), Actor: c.By.String(), Via: c.By.Via, RequestID: c.By.RequestID, Part: c.By.Part != uuid.Nil}
	if c.By.Person.ID != uuid.Nil {
		row.ActorID = &c.By.Person.ID
	}
	if g != nil {
		e.Group, row.GroupID = WhoGroup(g), &g.ID
	}
	var err error
	if row.Data, err = e.Encode(); err != nil {
		return err
	}
	c.events, c.affected = append(c.events, row), append(c.affected, affected)
	return nil
}

// Send queues a letter about a group, or about none, to addresses of the workspace's
// domain or outside it. Whoever would get several of a kind from one change gets one in
// their place.
func (c *Change) Send(g *store.Group, to []string, l Letter) error {
	if len(to) == 0 {
		return nil
	}
	c.letters = append(c.letters, letter{g, slices.Clone(to), l})
	return nil
}

// letter is one that a change sends.
type letter struct {
	group *store.Group // that it is about; nil: none, or several
	to    []string
	Letter
}

func (l letter) mail(now time.Time) (store.NewMail, error) {
	var group *uuid.UUID
	from := l.to[0]
	if l.group != nil {
		group, from = &l.group.ID, l.group.Address
	}
	_, domain, _ := strings.Cut(from, "@")
	return l.Letter.mail(group, domain, l.to, now)
}

// gathered returns the letters with one for each of those who would get several of a kind.
func (c *Change) gathered() []letter {
	type reader struct{ kind, address string }
	several := map[reader][]int{}
	for i, l := range c.letters {
		if aboutMany[l.kind] == "" || l.ID != uuid.Nil {
			continue
		}
		for _, x := range l.to {
			several[reader{l.kind, x}] = append(several[reader{l.kind, x}], i)
		}
	}
	var out []letter
	at := map[string]int{} // where in out the letter about the same groups is
	for i, l := range c.letters {
		if l.ID != uuid.Nil {
			out = append(out, l)
			continue
		}
		var alone []string
		for _, x := range l.to {
			which := several[reader{l.kind, x}]
			switch {
			case len(which) < 2:
				alone = append(alone, x)
			case which[0] == i:
				same := fmt.Sprint(l.kind, which)
				j, there := at[same]
				if !there {
					all := make([]Letter, len(which))
					for n, k := range which {
						all[n] = c.letters[k].Letter
					}
					j = len(out)
					at[same], out = j, append(out, letter{nil, nil, c.Together(all)})
				}
				out[j].to = append(out[j].to, x)
			}
		}
		if len(alone) > 0 {
			l.to = alone
			out = append(out, l)
		}
	}
	return out
}

// Deliver queues mail that is no letter.
func (c *Change) Deliver(m store.NewMail) error {
	c.queued = true
	return c.Tx.AddMail(m)
}

// MailQueued says that mail was queued beside the letters.
func (c *Change) MailQueued() { c.queued = true }

// flush writes what was recorded and sent.
func (c *Change) flush() error {
	if err := c.Tx.AddEvents(c.events, c.affected); err != nil {
		return err
	}
	if err := c.reviewLater(); err != nil {
		return err
	}
	c.queued = c.queued || len(c.letters) > 0
	letters := c.gathered()
	mail := make([]store.NewMail, len(letters))
	for i, l := range letters {
		var err error
		if mail[i], err = l.mail(c.Now()); err != nil {
			return err
		}
	}
	return c.Tx.AddMail(mail...)
}

// reviewLater notes that groups about which something was recorded are to be looked at again, as are those of people who came or went.
func (c *Change) reviewLater() error {
	var groups, people []uuid.UUID
	for i, e := range c.events {
		if e.GroupID != nil {
			groups = append(groups, *e.GroupID)
		} else if len(c.affected[i]) <= maxReviewed {
			for _, a := range c.affected[i] {
				people = append(people, a.PersonID)
			}
		}
	}
	return c.Tx.ReviewLater(groups, people, c.Now())
}

// maxReviewed is of how many people of one entry the groups are looked at again before the next look at everything.
const maxReviewed = 500

// Says puts what the change does in one sentence.
func (c *Change) Says(sentence string) { c.Report.Says = sentence }

// Effect adds what the change does to one thing.
func (c *Change) Effect(e api.Effect) { c.Report.Effects = append(c.Report.Effects, e) }

// Warn adds what is allowed but doubtful.
func (c *Change) Warn(faults []*fault.Fault) {
	c.Report.Warnings = append(c.Report.Warnings, Faults(faults)...)
}

// Faults shapes faults of the core.
func Faults(in []*fault.Fault) []api.Fault {
	out := make([]api.Fault, len(in))
	for i, f := range in {
		out[i] = api.Fault{Field: f.Field, Says: f.Says, Mend: f.Mend}
	}
	return out
}

// OwnersOf is the address by which the owners of a group are written to.
func OwnersOf(g *store.Group) string {
	return strings.Replace(g.Address, "@", mailaddr.OwnersSuffix+"@", 1)
}

// Once makes a change that makes something. Where the actor has a key, a repeat of the
// same request with the same key makes nothing: answer is then what the first one set it
// to. f sets it; it must hold no secret that is written as JSON.
func Once[T any](ctx context.Context, k *Kernel, by Actor, request any, answer *T, f func(c *Change) error) error {
	if by.Key == "" || by.Preview {
		return k.Do(ctx, by, f)
	}
	if found, err := Answered(k.View(ctx, by), request, answer); found || err != nil {
		return err
	}
	sum, err := digest(request)
	if err != nil {
		return err
	}
	err = k.Do(ctx, by, func(c *Change) error {
		if err := c.Tx.AddIdempotency(store.Idempotency{PersonID: by.Person.ID, IdemKey: by.Key, Request: sum, CreatedAt: c.clock()}); err != nil {
			return errors.Join(errKeyTaken, err)
		}
		if err := f(c); err != nil {
			return err
		}
		b, err := json.Marshal(answer)
		if err != nil {
			return err
		}
		return c.Tx.AnswerIdempotency(by.Person.ID, by.Key, b)
	})
	if errors.Is(err, errKeyTaken) && errors.Is(err, store.ErrDuplicate) {
		if found, err := Answered(k.View(ctx, by), request, answer); found || err != nil {
			return err
		}
	}
	return err
}

func digest(request any) ([]byte, error) {
	b, err := json.Marshal(request)
	sum := sha256.Sum256(b)
	return sum[:], err
}

var errKeyTaken = errors.New("take the idempotency key")

// Answered reports whether a request with the actor's key was done before, and what it was
// answered. A use case asks before it checks what the first request has changed, such as
// whether an address is free; Once asks in any case.
func Answered[T any](v *View, request any, answer *T) (bool, error) {
	if v.By.Key == "" || v.By.Preview {
		return false, nil
	}
	sum, err := digest(request)
	if err != nil {
		return false, err
	}
	i, err := v.Read.Idempotency(v.By.Person.ID, v.By.Key)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	} else if err != nil {
		return false, err
	}
	if !bytes.Equal(i.Request, sum) {
		return false, Fail(Conflict, "The Idempotency-Key %q was used for a different request. Use a new one.", v.By.Key)
	}
	return true, json.Unmarshal(i.Answer, answer)
}

// Looked ends a use case that was only looked at before its change began.
func (a Actor) Looked() error { return errPreviewed }

// Touch marks that something of a group changed that its own row does not show, such as its
// aliases, so that it counts as edited.
func (g *Locked) Touch() { g.touched = true }

// TouchOwned marks a group whose owners are among those affected, so that whoever has read it before does not go over that unseen.
func (g *Locked) TouchOwned(affected []store.Affected) {
	owner := expand.Owner.String()
	if slices.ContainsFunc(affected, func(a store.Affected) bool { return (a.Was == owner) != (a.Now == owner) }) {
		g.touched = true
	}
}
