package workspace

import (
	"context"
	"errors"
	"net"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/store"
)

// Kernel is what every use case works with: it gives out a [View] to look and, by
// [Kernel.Do], a [Change] to act. Nothing else of it reaches the records.
type Kernel struct {
	pool  *store.Pool
	o     Options
	slots chan struct{} // changes at once: fewer than connections, so that lists go on
	gates gates
	ahead atomic.Int64 // of a demo: by how much its time is ahead
	mail  mailKey
}

// Options are what a workspace is made with.
type Options struct {
	Now       func() time.Time // the time in the workspace; nil: the real one
	PublicURL string           // of the console, for links in mail
	Wake      func()           // called after mail was queued; nil: nothing
	Demo      bool             // sample data: the clock can be moved
	Resolver  Resolver         // that is asked what mail domains publish; nil: that of the machine
}

// Resolver looks records up. A *net.Resolver is one.
type Resolver interface {
	LookupMX(ctx context.Context, name string) ([]*net.MX, error)
	LookupTXT(ctx context.Context, name string) ([]string, error)
}

// Resolver is what is asked what mail domains publish.
func (k *Kernel) Resolver() Resolver { return k.o.Resolver }

// New returns the kernel of the workspace whose records are in pool.
func New(pool *store.Pool, o Options) *Kernel {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Resolver == nil {
		o.Resolver = net.DefaultResolver
	}
	if o.Wake == nil {
		o.Wake = func() {}
	}
	return &Kernel{pool: pool, o: o, slots: make(chan struct{}, store.MaxConnections*3/4)}
}

// Ready reports whether the workspace can work: whether its database answers.
func (k *Kernel) Ready(ctx context.Context) error { return k.pool.Ping(ctx) }

// Demo reports whether this is sample data.
func (k *Kernel) Demo() bool { return k.o.Demo }

// RealTime is the time of the world, which a demo's is ahead of.
func (k *Kernel) RealTime() time.Time { return k.o.Now().UTC().Truncate(time.Microsecond) }

// now is the time in the workspace, UTC, in whole microseconds.
func (k *Kernel) now() time.Time {
	return k.o.Now().Add(time.Duration(k.ahead.Load())).UTC().Truncate(time.Microsecond)
}

// clockSetting holds by how much the time of a demo is ahead.
const clockSetting = "demo_clock_ahead"

// LoadClock reads how far the time of a demo was moved.
func (k *Kernel) LoadClock(ctx context.Context) error {
	if !k.o.Demo {
		return nil
	}
	var ahead time.Duration
	_, err := k.pool.Reads(ctx).Setting(clockSetting, &ahead)
	k.ahead.Store(int64(ahead))
	return err
}

// MoveClock moves the time of a demo forward by days, or back to the real time with 0.
func (k *Kernel) MoveClock(ctx context.Context, by Actor, days int) (time.Time, error) {
	if !k.o.Demo {
		return time.Time{}, Fail(NotFound, "Only a demo has a clock that can be moved.")
	}
	if err := by.Allow(access.ChangeTerms); err != nil {
		return time.Time{}, err
	}
	var ahead time.Duration
	err := k.Do(ctx, by, func(c *Change) error {
		ahead = 0
		version, err := c.Tx.LockSetting(clockSetting, &ahead)
		if err != nil {
			return err
		}
		if err := c.Allow(access.ChangeTerms); err != nil {
			return err
		}
		ahead += time.Duration(days) * 24 * time.Hour
		if days == 0 {
			ahead = 0
		}
		return c.Tx.SaveSetting(clockSetting, ahead, version+1)
	})
	if err == nil {
		k.ahead.Store(int64(ahead))
	}
	return k.View(ctx, by).In(k.now()), err
}

// View returns what a use case looks with that changes nothing.
func (k *Kernel) View(ctx context.Context, by Actor) *View {
	return &View{Ctx: ctx, By: by, Read: k.pool.Reads(ctx), now: k.now(), publicURL: k.o.PublicURL, began: time.Now()}
}

// errPreviewed ends a use case whose change was only looked at.
var errPreviewed = errors.New("the change was only looked at")

// Previewed reports whether an error says that a change was only looked at: what it
// would do stands in the actor's Report.
func Previewed(err error) bool { return errors.Is(err, errPreviewed) }

// Do makes one change: f runs in one transaction, with a Change that is the only way to
// the history and to letters. f may run several times, each time from the beginning, when
// others were in the way, so it must not do anything else. With an actor who only looks,
// nothing is kept, and the error is one of which Previewed tells.
//
// What f reads or writes goes through its Change. Locks are taken in the order that
// package store documents; then the time is taken, and permission is asked again.
func (k *Kernel) Do(ctx context.Context, by Actor, f func(c *Change) error) error {
	select {
	case k.slots <- struct{}{}:
		defer func() { <-k.slots }()
	case <-ctx.Done():
		return ctx.Err()
	}
	var done *Change
	err := k.pool.Transact(ctx, by.Preview, func(tx *store.Tx) error {
		c := k.change(ctx, by, tx)
		if err := f(c); err != nil {
			return err
		}
		done = c
		if !by.Preview {
			if err := c.tellOfOneself(); err != nil {
				return err
			}
		}
		letters := 0
		for _, l := range c.gathered() {
			letters += len(l.to)
		}
		if err := c.Spend(SpendLetters, letters); err != nil {
			return err
		}
		if by.Preview {
			return nil
		}
		return c.flush()
	})
	var over *spent
	switch {
	case errors.Is(err, store.ErrNoDomain):
		return Fail(Conflict, "The mail domain of an address was retired a moment ago. Choose another one.")
	case errors.As(err, &over) && !by.Preview:
		k.hit(ctx, by, over)
		return over.refusal
	case err != nil:
		return err
	case by.Preview:
		return errPreviewed
	case done.queued:
		k.o.Wake()
	}
	return nil
}

// change is a change that begins in a transaction.
func (k *Kernel) change(ctx context.Context, by Actor, tx *store.Tx) *Change {
	c := &Change{View: View{Ctx: ctx, By: by, Read: &tx.Reads, clock: k.now, publicURL: k.o.PublicURL, began: time.Now()}, Tx: tx, id: store.NewID(), Report: by.Report}
	if by.Part != uuid.Nil {
		c.id = by.Part
	}
	if c.Report == nil {
		c.Report = &api.Preview{}
	}
	*c.Report = *newReport()
	return c
}

// OnGroup makes one change of one group: it is looked for without a lock, so that what
// the actor may not find is not there for them and nobody can wait for its lock; then it
// is locked, and permission is asked again.
func (k *Kernel) OnGroup(ctx context.Context, by Actor, ref string, do access.Action, f func(c *Change, g *Locked) error) error {
	return k.OnGroupAfter(ctx, by, ref, do, nil, f)
}

// OnGroupAfter is OnGroup for a change that takes locks which come before that of the group:
// first takes them.
func (k *Kernel) OnGroupAfter(ctx context.Context, by Actor, ref string, do access.Action, first func(c *Change) error, f func(c *Change, g *Locked) error) error {
	return k.onGroup(ctx, by, ref, do, func(found Group) error { return k.Do(ctx, by, lockAndDo(found, ref, do, first, f)) })
}

// OnGroupOnce is [Kernel.OnGroup] for a change that makes something, as [Once] is
// [Kernel.Do]. first, where it is not nil, takes locks that come before that of the group.
func OnGroupOnce[T any](ctx context.Context, k *Kernel, by Actor, ref string, do access.Action, first func(c *Change) error, request any, answer *T, f func(c *Change, g *Locked) error) error {
	return k.onGroup(ctx, by, ref, do, func(found Group) error {
		return Once(ctx, k, by, []any{do, found.ID, request}, answer, lockAndDo(found, ref, do, first, f))
	})
}

// onGroup lets one change of a group after the other be made.
func (k *Kernel) onGroup(ctx context.Context, by Actor, ref string, do access.Action, change func(found Group) error) error {
	found, err := k.View(ctx, by).FindGroup(ref, do)
	if err != nil {
		return err
	}
	leave, err := k.gates.enter(ctx, found.ID, by.Preview)
	if err != nil {
		return err
	}
	defer leave()
	return change(found)
}

// lockAndDo takes the locks of a change of a group that was found, asks permission again, and does f.
func lockAndDo(found Group, ref string, do access.Action, first func(c *Change) error, f func(c *Change, g *Locked) error) func(c *Change) error {
	return func(c *Change) error {
		if found.Relation.Powers != 0 { // as a helper: the areas stay as they are until it ends
			if _, err := c.Tx.RLockSetting(AreasSetting, new([]Area)); err != nil {
				return err
			}
		}
		if first != nil {
			if err := first(c); err != nil {
				return err
			}
		}
		g, err := c.LockGroup(found.ID, ref, do)
		if err != nil {
			return err
		}
		return f(c, g)
	}
}

// gates let those wait in memory who want to lock the same thing: while they wait for
// each other they hold no connection.
type gates struct {
	mu sync.Mutex
	at map[uuid.UUID]*gate
}

type gate struct {
	free chan struct{}
	n    int // who is in it or waits
}

// enter waits for a gate. Whoever only looks need not.
func (g *gates) enter(ctx context.Context, id uuid.UUID, looking bool) (leave func(), err error) {
	if looking {
		return func() {}, nil
	}
	g.mu.Lock()
	if g.at == nil {
		g.at = map[uuid.UUID]*gate{}
	}
	at, ok := g.at[id]
	if !ok {
		at = &gate{free: make(chan struct{}, 1)}
		g.at[id] = at
	}
	at.n++
	g.mu.Unlock()
	out := func() {
		g.mu.Lock()
		defer g.mu.Unlock()
		if at.n--; at.n == 0 {
			delete(g.at, id)
		}
	}
	select {
	case at.free <- struct{}{}:
		return func() { <-at.free; out() }, nil
	case <-ctx.Done():
		out()
		return nil, ctx.Err()
	}
}

// Page shapes a page of records.
func Page[R, A any](p store.Page[R], shape func(R) A) api.Page[A] {
	out := api.Page[A]{Items: make([]A, 0, len(p.Items)), Next: p.Next.String(), Total: p.Total}
	for _, r := range p.Items {
		out.Items = append(out.Items, shape(r))
	}
	return out
}

// Whole is a list that is short enough for one page.
func Whole[A any](items []A) api.Page[A] {
	if items == nil {
		items = []A{}
	}
	return api.Page[A]{Items: items, Total: int64(len(items))}
}

// ChangeSetting makes a change of a setting of the workspace by whoever may do something: it is locked, permission
// is asked again, and a change that began from an older version, with version above 0, is refused. f gets the
// setting as it is, at first what before says, and its version in the records. called names it in words.
func ChangeSetting[T any](ctx context.Context, k *Kernel, by Actor, do access.Action, name, called string, version int, before T, f func(c *Change, before T, current int) error) error {
	return k.Do(ctx, by, func(c *Change) error {
		is := before
		current, err := c.Tx.LockSetting(name, &is)
		if err != nil {
			return err
		}
		if err := c.Allow(do); err != nil {
			return err
		}
		if version > 0 && version != current+1 {
			return Fail(Stale, "Somebody changed %s meanwhile: you read version %d, now it is %d. Read again, then make your change.", called, version, current+1)
		}
		return f(c, is, current)
	})
}
