package post

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/joining"
)

// Waiting lists posts that wait for approval, oldest first: of one group, or of all those
// that the actor decides about.
func (s *Service) Waiting(ctx context.Context, by workspace.Actor, ref, cursor string, limit int) (api.Page[api.Post], error) {
	none := api.Page[api.Post]{}
	if err := by.SignedIn(); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	var only, mine uuid.UUID
	switch {
	case ref != "":
		g, err := v.FindGroup(ref, access.DecidePosts)
		if err != nil {
			return none, err
		}
		only = g.ID
	case !by.Administers():
		mine = by.Person.ID
	}
	after, err := v.Cursor(cursor, "waiting", only, mine)
	if err != nil {
		return none, err
	}
	page, err := v.Read.WaitingPosts(mine, only, after, limit)
	if err != nil {
		return none, err
	}
	var ids []uuid.UUID
	for _, m := range page.Items {
		ids = append(ids, *m.GroupID)
	}
	groups, err := v.Read.GroupsByID(ids)
	return workspace.Page(page, func(m store.Message) api.Post {
		g := groups[*m.GroupID]
		var d store.Decision
		_ = json.Unmarshal(m.Decision, &d) // written by Accept
		return api.Post{ID: m.ID.String(), Group: api.Name{Name: g.Name, Address: g.Address}, Author: m.Author, Proven: m.Proven, Subject: m.Subject, Size: m.Size,
			ReceivedAt: v.In(m.ReceivedAt), Decision: shape(d)}
	}), err
}

// CountWaiting counts what waits for the actor's decision: posts and requests.
func CountWaiting(v *workspace.View) (int, error) {
	mine := v.By.Person.ID
	if v.By.Administers() {
		mine = uuid.Nil
	}
	posts, err := v.Read.WaitingPosts(mine, uuid.Nil, store.Cursor{}, 1)
	if err != nil {
		return 0, err
	}
	requests, err := joining.CountWaiting(v)
	return int(posts.Total + requests), err
}

// DecideWaiting approves or declines posts that wait, each by itself; the results say what
// became of them. A declined author is told, where it is proven who that is.
func (s *Service) DecideWaiting(ctx context.Context, by workspace.Actor, d api.Decisions) (api.DecidedAll, error) {
	if err := by.SignedIn(); err != nil {
		return api.DecidedAll{}, err
	}
	return workspace.DecideEach(by, d, "post", func(by workspace.Actor, id string, out *api.Decided) error { return s.decideOne(ctx, by, id, d, out) })
}

func (s *Service) decideOne(ctx context.Context, by workspace.Actor, id string, d api.Decisions, out *api.Decided) error {
	none := workspace.Fail(workspace.NotFound, "There is no post %q that waits for you.", workspace.Cut(id, 50))
	u, err := uuid.Parse(id)
	if err != nil {
		return none
	}
	found, err := s.k.View(ctx, by).Read.Message(u)
	if errors.Is(err, store.ErrNotFound) || err == nil && (found.Kind != store.KindPost || found.GroupID == nil) {
		return none
	} else if err != nil {
		return err
	}
	err = s.k.OnGroup(ctx, by, found.GroupID.String(), access.DecidePosts, func(c *workspace.Change, g *workspace.Locked) error {
		m, err := c.Tx.LockMessage(u)
		if errors.Is(err, store.ErrNotFound) {
			return none
		} else if err != nil {
			return err
		}
		out.Person, out.Group, out.Subject = m.Author, g.Name, m.Subject
		if m.State != store.Waiting {
			return workspace.Fail(workspace.Conflict, "%s has been %s already, by %s.", m.Subject, m.State, m.DecidedBy)
		}
		return settle(c, &g.Group.Group, m, d)
	})
	if workspace.IsKind(err, workspace.NotFound) || workspace.IsKind(err, workspace.NotAllowed) {
		return none // who may not decide is told nothing of it
	}
	return err
}

// settle lets a post through, or turns it away.
func settle(c *workspace.Change, g *store.Group, m store.Message, d api.Decisions) error {
	var fact event.Fact = event.PostApproved{Author: m.Author, Subject: m.Subject}
	state := store.Accepted
	if d.Verdict == "decline" {
		fact, state = event.PostDeclined{Author: m.Author, Subject: m.Subject, Reason: d.Reason}, store.Declined
		if m.Proven {
			l := c.GroupLetter(workspace.LetterPostDeclined, g, "", map[string]string{"subject": m.Subject, "reason": d.Reason})
			if err := c.Send(g, []string{m.Author}, l); err != nil {
				return err
			}
		}
	} else {
		if err := takesMail(&c.View, g); err != nil {
			return err
		}
		to, err := recipients(&c.View, g, Mailbox(m.Part))
		if err != nil {
			return err
		}
		c.Says(fmt.Sprintf("%q goes out to %d people.", m.Subject, len(to)))
		if err := c.Tx.AddDeliveries(m.ID, to); err != nil {
			return err
		}
		c.MailQueued()
	}
	if err := c.Tx.DecideMessage(m.ID, state, c.By.Person.Address, d.Reason); err != nil {
		return err
	}
	var affected []store.Affected
	if m.AuthorID != nil {
		affected = append(affected, store.Affected{PersonID: *m.AuthorID})
	}
	return c.Record(fact, g, affected...)
}
