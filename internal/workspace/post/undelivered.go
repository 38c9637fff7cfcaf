package post

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// maxFailed is how many of those are named whom a message could not be handed to.
const maxFailed = 20

// Undelivered lists mail that could not be handed to everybody, or not yet, oldest first:
// to one group, or to all whose posts the actor decides about; for administrators also the
// letters of the service.
func (s *Service) Undelivered(ctx context.Context, by workspace.Actor, ref, cursor string, limit int) (api.Page[api.Undelivered], error) {
	none := api.Page[api.Undelivered]{}
	v := s.k.View(ctx, by)
	page, groups, messages, err := listed(v, ref, cursor, "undelivered", v.Read.Troubled, limit)
	if err != nil {
		return none, err
	}
	ids := make([]uuid.UUID, len(page.Items))
	for i, m := range page.Items {
		ids[i] = m.ID
	}
	progress, err := v.Read.Progress(ids, maxFailed)
	if err != nil {
		return none, err
	}
	seen := map[uuid.UUID]func(string) bool{}
	for id := range groups {
		if seen[id], err = sees(v, id); err != nil {
			return none, err
		}
	}
	return workspace.Page(page, func(m store.Mailing) api.Undelivered {
		out := api.Undelivered{PostHead: head(v, m, messages)}
		shown := func(string) bool { return true }
		if m.GroupID != nil {
			g := groups[*m.GroupID]
			out.Group, shown = &api.Name{Name: g.Name, Address: g.Address}, seen[*m.GroupID]
		}
		fill(v, &out, progress[m.ID], shown)
		return out
	}), nil
}

// sees says of which people of a group, or of what is nested in it, the actor may know that
// they are in it.
func sees(v *workspace.View, group uuid.UUID) (func(address string) bool, error) {
	g, err := v.FindGroup(group.String(), access.SeePeople)
	if workspace.IsKind(err, workspace.NotAllowed) || workspace.IsKind(err, workspace.NotFound) {
		return func(string) bool { return false }, nil
	} else if err != nil {
		return nil, err
	}
	if hidden, err := member.Hides(v, &g.Group); err != nil || hidden == "" {
		return func(string) bool { return true }, err
	}
	entries, _, err := member.Visible(v, &g.Group)
	if err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, e := range entries {
		known[e.Address] = true
	}
	return func(address string) bool { return known[address] }, nil
}

func fill(v *workspace.View, out *api.Undelivered, p store.Progress, shown func(string) bool) {
	out.HandedOver, out.Failed, out.Trying, out.Recipients = p.HandedOver, p.Failed, len(p.Jobs) > 0, []api.FailedRecipient{}
	for _, f := range p.Failures {
		if !shown(f.Recipient) {
			out.Hidden = "More people of a group that you can't see."
			continue
		}
		out.Recipients = append(out.Recipients, api.FailedRecipient{Address: f.Recipient, GivenUp: f.GivenUp, Attempts: f.Attempts, At: v.In(f.At), Reply: f.Reply})
	}
	reply := ""
	for _, j := range p.Jobs {
		if at := v.In(j.NextAt); out.NextAt == nil || at.Before(*out.NextAt) {
			out.NextAt = &at
		}
		if j.Reply != "" {
			reply = j.Reply
		}
	}
	if reply == "" && len(p.Failures) > 0 {
		reply = p.Failures[0].Reply
	}
	reply = strings.TrimSuffix(reply, ".")
	switch {
	case out.Hidden != "":
		out.Says = "It could not be handed to everybody."
		out.HandedOver, out.Failed = 0, 0 // how many would betray who
	case p.Failed == 0:
		out.Says = fmt.Sprintf("The mail system did not take it over: %s.", reply)
	case p.HandedOver == 0:
		out.Says = fmt.Sprintf("The mail system refused all: %s.", reply)
	default:
		out.Says = fmt.Sprintf("The mail system took it over for %d of its people and not for %d: %s.", p.HandedOver, p.Failed, reply)
	}
}

// TryAgain has mail tried again at once: for those whom it was put off for, and for those
// who were given up.
func (s *Service) TryAgain(ctx context.Context, by workspace.Actor, r api.Retries) (api.DecidedAll, error) {
	if err := by.SignedIn(); err != nil {
		return api.DecidedAll{}, err
	}
	ids := slices.Compact(slices.Sorted(slices.Values(r.IDs)))
	return workspace.DecideEach(by, api.Decisions{IDs: ids, Verdict: workspace.Retry}, "message", func(by workspace.Actor, id string, out *api.Decided) error { return s.tryOne(ctx, by, id, out) })
}

func (s *Service) tryOne(ctx context.Context, by workspace.Actor, id string, out *api.Decided) error {
	none := workspace.Fail(workspace.NotFound, "There is no undelivered message %q that you may send again.", workspace.Cut(id, 50))
	u, err := uuid.Parse(id)
	if err != nil {
		return none
	}
	m, err := s.k.View(ctx, by).Read.Mailing(u)
	if errors.Is(err, store.ErrNotFound) || err == nil && !m.Trouble {
		return none
	} else if err != nil {
		return err
	}
	try := func(c *workspace.Change, g *store.Group) error {
		m, err := c.Tx.LockMailing(u)
		if errors.Is(err, store.ErrNotFound) || err == nil && !m.Trouble {
			return none
		} else if err != nil {
			return err
		}
		read, err := c.Read.Messages([]uuid.UUID{m.MessageID}, false)
		if err != nil {
			return err
		}
		x := read[m.MessageID]
		out.Person, out.Subject = x.Author, x.Subject
		if g != nil {
			out.Group = g.Name
		}
		if g != nil && toGroup(m.Kind, m.GroupID) {
			failed, err := c.Read.FailuresOf(m.ID, "")
			if err != nil {
				return err
			}
			to := make([]string, len(failed))
			for i, f := range failed {
				to[i] = f.Recipient
			}
			if len(to) > 0 {
				if err := takesIt(&c.View, m, g, to); err != nil {
					return err
				}
			}
		}
		if err := c.Tx.TryAgain(u, c.Now()); err != nil {
			return err
		}
		c.Says(fmt.Sprintf("%q is tried again.", x.Subject))
		c.MailQueued()
		return c.Record(event.MailRetried{Author: x.Author, Subject: x.Subject}, g)
	}
	if m.GroupID == nil {
		if !by.Administers() {
			return none
		}
		return s.k.Do(ctx, by, func(c *workspace.Change) error {
			if err := c.Allow(access.ChangeDirectory); err != nil {
				return err
			}
			return try(c, nil)
		})
	}
	err = s.k.OnGroup(ctx, by, m.GroupID.String(), access.DecidePosts, func(c *workspace.Change, g *workspace.Locked) error { return try(c, &g.Group.Group) })
	if workspace.IsKind(err, workspace.NotFound) || workspace.IsKind(err, workspace.NotAllowed) {
		return none
	}
	return err
}

// retryDelays are the times between attempts: five days in all (RFC 5321, 4.5.4.1).
var retryDelays = func() []time.Duration {
	p := []time.Duration{2 * time.Second, 10 * time.Second, 30 * time.Second, 2 * time.Minute, 10 * time.Minute, 30 * time.Minute}
	for total := time.Duration(0); total < 5*24*time.Hour; total += 2 * time.Hour {
		p = append(p, 2*time.Hour)
	}
	return p
}()

// Again says when what came to nothing is tried again; ok is false where it is given up.
func (j *Job) Again() (at time.Time, ok bool) {
	if j.Attempts >= len(retryDelays) {
		return at, false
	}
	return time.Now().UTC().Add(retryDelays[j.Attempts]), true
}
