// Package service wires the use cases, one field a subject, and lists the jobs that are
// done by time.
package service

import (
	"context"
	"errors"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/account"
	"ivytable.example/ivytable/internal/workspace/area"
	"ivytable.example/ivytable/internal/workspace/attributes"
	"ivytable.example/ivytable/internal/workspace/bulk"
	"ivytable.example/ivytable/internal/workspace/consent"
	"ivytable.example/ivytable/internal/workspace/consistency"
	"ivytable.example/ivytable/internal/workspace/directory"
	"ivytable.example/ivytable/internal/workspace/domains"
	"ivytable.example/ivytable/internal/workspace/external"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/history"
	"ivytable.example/ivytable/internal/workspace/joining"
	"ivytable.example/ivytable/internal/workspace/life"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/naming"
	"ivytable.example/ivytable/internal/workspace/pause"
	"ivytable.example/ivytable/internal/workspace/people"
	"ivytable.example/ivytable/internal/workspace/post"
	"ivytable.example/ivytable/internal/workspace/protection"
	"ivytable.example/ivytable/internal/workspace/public"
	"ivytable.example/ivytable/internal/workspace/reach"
	"ivytable.example/ivytable/internal/workspace/review"
	"ivytable.example/ivytable/internal/workspace/round"
	"ivytable.example/ivytable/internal/workspace/rules"
	"ivytable.example/ivytable/internal/workspace/signing"
	"ivytable.example/ivytable/internal/workspace/undo"
	"ivytable.example/ivytable/internal/workspace/views"
	"ivytable.example/ivytable/internal/workspace/waiting"
)

// Service is all that can be done with a workspace.
type Service struct {
	Account     *account.Service
	Area        *area.Service
	Attributes  *attributes.Service
	Bulk        *bulk.Service
	Consent     *consent.Service
	Consistency *consistency.Service
	Directory   *directory.Service
	Domains     *domains.Service
	External    *external.Service
	Group       *group.Service
	History     *history.Service
	Joining     *joining.Service
	Life        *life.Service
	Member      *member.Service
	Naming      *naming.Service
	Pause       *pause.Service
	People      *people.Service
	Post        *post.Service
	Protection  *protection.Service
	Public      *public.Service
	Reach       *reach.Service
	Review      *review.Service
	Round       *round.Service
	Rules       *rules.Service
	Signing     *signing.Service
	Undo        *undo.Service
	Views       *views.Service
	Waiting     *waiting.Service

	kernel *workspace.Kernel
}

// New returns the service of the workspace whose records are in pool.
func New(ctx context.Context, pool *store.Pool, o workspace.Options) (*Service, error) {
	k := workspace.New(pool, o)
	s := &Service{
		Account: account.New(k), Area: area.New(k), Attributes: attributes.New(k), Bulk: bulk.New(k), Consent: consent.New(k), Consistency: consistency.New(k, history.New(k)), Directory: directory.New(k), Domains: domains.New(k), External: external.New(k), Group: group.New(k), History: history.New(k), Joining: joining.New(k), Life: life.New(k),
		Member: member.New(k), Naming: naming.New(k), Pause: pause.New(k), People: people.New(k), Post: post.New(k), Protection: protection.New(k), Public: public.New(k), Reach: reach.New(k), Review: review.New(k), Round: round.New(k), Rules: rules.New(k), Signing: signing.New(k), Views: views.New(k), kernel: k,
	}
	s.Undo = undo.New(k, undo.Rooms{Area: s.Area, Attributes: s.Attributes, Bulk: s.Bulk, Consent: s.Consent, Directory: s.Directory, Domains: s.Domains, External: s.External, History: s.History, Group: s.Group, Joining: s.Joining, Life: s.Life,
		Member: s.Member, Naming: s.Naming, Protection: s.Protection, Public: s.Public, Reach: s.Reach, Review: s.Review, Round: s.Round, Rules: s.Rules, Views: s.Views})
	s.Waiting = waiting.New(k, s.Post, s.Joining, s.Rules, s.Consent, s.Round)
	return s, k.LoadClock(ctx)
}

// Ready reports whether the workspace can work: whether its database answers.
func (s *Service) Ready(ctx context.Context) error { return s.kernel.Ready(ctx) }

// Me describes the actor: who they are, what is there for them, what waits for them.
func (s *Service) Me(ctx context.Context, by workspace.Actor) (api.Me, error) {
	if err := by.Here(); err != nil {
		return api.Me{}, err
	}
	v := s.kernel.View(ctx, by)
	me := api.Me{LacksFactor: by.LacksFactor, Person: people.Shape(v, by.Person), Demo: s.kernel.Demo(), Now: v.In(v.Now()), TimeZone: v.Zone().String(), Places: []string{"mine", "groups", "people", "waiting"}, May: []string{}}
	me.Ahead = int(me.Now.Sub(s.kernel.RealTime()).Round(time.Hour) / (24 * time.Hour))
	if by.LacksFactor {
		me.Places = []string{}
		return me, nil
	}
	var err error
	if me.Left, err = v.Left(); err != nil {
		return me, err
	}
	may, err := naming.WorkspaceMay(v)
	if err != nil {
		return me, err
	}
	for _, do := range may {
		me.May = append(me.May, string(do))
		if place := places[string(do)]; place != "" {
			me.Places = append(me.Places, place)
		}
	}
	if me.Domains, err = v.Domains(); err != nil {
		return me, err
	}
	me.Waiting, err = waiting.Count(v)
	return me, err
}

// places are the parts of the console that are there for whoever may do something.
var places = map[string]string{"read_terms": "care", "read_naming": "rules", "read_workspace_history": "history"}

// MoveClock moves the time of a demo workspace forward by days, or back to the real time
// with 0. It lives through each of up to livedThrough days, as if they passed; a longer way is one jump.
func (s *Service) MoveClock(ctx context.Context, by workspace.Actor, days int) (api.Clock, error) {
	steps, each := days, 1
	if days < 1 || days > livedThrough {
		steps, each = 1, days
	}
	var out api.Clock
	for range steps {
		now, err := s.kernel.MoveClock(ctx, by, each)
		if err == nil {
			err = errors.Join(s.Life.Run(ctx), s.Member.Run(ctx), s.Review.Run(ctx), s.Round.Run(ctx))
		}
		if err == nil && steps > 1 {
			err = s.delivered(ctx)
		}
		if err != nil {
			return out, err
		}
		out.Now = now
	}
	return out, nil
}

// livedThrough is how many days of a demo pass one by one.
const livedThrough = 62

// delivered waits until the letters of a day are handed over, a moment at most: what is told counts then.
func (s *Service) delivered(ctx context.Context) error {
	for range 40 {
		n, err := s.Post.CountJobs(ctx)
		if n == 0 || err != nil {
			return err
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
	}
	return nil
}

// Job is something that is done by time. Any number of instances may do it at once.
type Job struct {
	Name  string
	Every time.Duration
	Do    func(context.Context) error
	Woken <-chan struct{} // it is done at once when something is sent here; nil: never
}

// lookForChanges is how often it is looked for changes of many groups that another instance
// left behind.
const lookForChanges = 5 * time.Second

// Jobs lists what is done by time. expiry is how often the life of groups is looked after.
// Deliveries are not among them: they are done as soon as there are any.
func (s *Service) Jobs(expiry time.Duration) []Job {
	return []Job{
		{"expiry", expiry, s.Life.Run, nil},
		{"memberships that end", expiry, s.Member.Run, nil},
		{"consents that are asked for", time.Minute, s.Consent.Run, nil},
		{"seals of the history", time.Second, s.History.Seal, nil},
		{"keeping of the history", expiry, s.History.Keep, nil},
		{"review of what changed", time.Second, s.Review.Follow, nil},
		{"review of the directory", expiry, s.Review.Run, nil},
		{"rounds", time.Minute, s.Round.Run, s.Round.Begun},
		{"posts that wait", time.Minute, s.Post.TellOfWaiting, nil},
		{"digests", min(expiry, time.Minute), s.Post.SendDigests, nil},
		{"changes of many groups", lookForChanges, s.Bulk.Run, s.Bulk.Begun},
		{"forget what has ended", time.Hour, s.Account.ForgetExpired, nil},
		{"forget old mail", time.Hour, s.Post.Forget, nil},
		{"forget old changes of many groups", time.Hour, s.Bulk.Forget, nil},
	}
}
