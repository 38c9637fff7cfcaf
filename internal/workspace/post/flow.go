package post

import (
	"cmp"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/google/uuid"
	"github.com/hashicorp/golang-lru/v2/simplelru"
	"golang.org/x/time/rate"

	"ivytable.example/ivytable/internal/workspace"
)

// maxFlows is how many writers, and groups, are counted at once. Who is not heard of for longest is forgotten first.
const maxFlows = 50_000

// flow counts how many messages this process takes in an hour: of one writer, and to one group. What claims a writer is counted apart from
// what is proven to be theirs, and mail of strangers to a group apart from that of people the workspace knows: nobody can use up what is
// another's.
type flow struct {
	mu      sync.Mutex
	writers *simplelru.LRU[string, *rate.Limiter]
	groups  *simplelru.LRU[flowTo, *rate.Limiter]
}

// flowTo is one kind of mail to a group.
type flowTo struct {
	group uuid.UUID // nil: to the administrators
	known bool      // of people of the workspace and external members, proven
}

// TooMany says that more messages came within an hour than are taken. The sender tries again.
type TooMany struct{ error }

// Unwrap returns the error in the words of the workspace.
func (e *TooMany) Unwrap() error { return e.error }

// take counts a message, or says that there are too many.
func (f *flow) take(v *workspace.View, p *decided) error {
	if len(p.mail.Mailings) == len(p.reports) { // a report is no message of anybody's
		return nil
	}
	most, err := v.ShownProtection()
	if err != nil {
		return err
	}
	writer := p.a.writer().Key()
	key := "claimed " + writer
	if p.a.Proven {
		key = "proven " + writer
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.writers == nil {
		f.writers, err = simplelru.NewLRU[string, *rate.Limiter](maxFlows, nil)
		var no error
		f.groups, no = simplelru.NewLRU[flowTo, *rate.Limiter](maxFlows, nil)
		if err = errors.Join(err, no); err != nil {
			return err
		}
	}
	taken, wait := reserve(f.writers, key, most.FromOne, v.Now())
	if wait > 0 {
		return tooMany(wait, "More than %d messages of %s came within an hour.", most.FromOne, writer)
	}
	all := []*rate.Reservation{taken}
	for _, to := range p.to {
		taken, wait := reserve(f.groups, to, most.ToGroup, v.Now())
		if wait > 0 {
			for _, r := range all {
				r.CancelAt(v.Now())
			}
			return tooMany(wait, "More than %d messages to %s came within an hour.", most.ToGroup, cmp.Or(p.groups[to.group].Address, "the administrators"))
		}
		all = append(all, taken)
	}
	return nil
}

func tooMany(wait time.Duration, says string, args ...any) error {
	return &TooMany{workspace.Later(int(wait/time.Second)+1, "%s Try again later.", fmt.Sprintf(says, args...))}
}

// reserve takes one of so many an hour, or says how long it takes until there is one.
func reserve[K comparable](in *simplelru.LRU[K, *rate.Limiter], key K, most int, now time.Time) (*rate.Reservation, time.Duration) {
	each := rate.Every(time.Hour / time.Duration(most))
	l, ok := in.Get(key)
	if !ok || l.Burst() != most {
		next := rate.NewLimiter(each, most)
		if ok { // those that were taken count for the new bound too
			next.AllowN(now, min(most, l.Burst()-int(l.TokensAt(now))))
		}
		l = next
		in.Add(key, l)
	}
	r := l.ReserveN(now, 1)
	wait := r.DelayFrom(now)
	if wait > 0 {
		r.CancelAt(now)
	}
	return r, wait
}
