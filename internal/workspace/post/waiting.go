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
	"ivytable.example/ivytable/internal/workspace/member"
)

// listed reads a page of one of the lists of mail, with the groups and messages that belong
// to it: of one group, or of those that the actor helps to run, or of all.
func listed(v *workspace.View, ref, cursor, list string, read func(person, group uuid.UUID, areas store.Areas, after store.Cursor, limit int) (store.Page[store.Mailing], error),
	limit int) (page store.Page[store.Mailing], groups map[uuid.UUID]store.Group, messages map[uuid.UUID]store.Message, err error) {
	if err := v.By.SignedIn(); err != nil {
		return page, nil, nil, err
	}
	var only, mine uuid.UUID
	var areas store.Areas
	switch {
	case ref != "":
		g, err := v.FindGroup(ref, access.DecidePosts)
		if err != nil {
			return page, nil, nil, err
		}
		only = g.ID
	case !v.By.Administers():
		mine = v.By.Person.ID
		if areas, err = v.AreasFor(access.DecidePosts); err != nil {
			return page, nil, nil, err
		}
	}
	after, err := v.Cursor(cursor, list, only, mine)
	if err != nil {
		return page, nil, nil, err
	}
	if page, err = read(mine, only, areas, after, limit); err != nil {
		return page, nil, nil, err
	}
	groups, messages, err = surroundings(v, page.Items)
	return page, groups, messages, err
}

// surroundings returns the groups and the messages of mailings.
func surroundings(v *workspace.View, all []store.Mailing) (map[uuid.UUID]store.Group, map[uuid.UUID]store.Message, error) {
	var ids, messages []uuid.UUID
	for _, m := range all {
		messages = append(messages, m.MessageID)
		if m.GroupID != nil {
			ids = append(ids, *m.GroupID)
		}
	}
	groups, err := v.Read.GroupsByID(ids)
	if err != nil {
		return nil, nil, err
	}
	read, err := v.Read.Messages(messages, false)
	return groups, read, err
}

// head shapes what is the same wherever a post is shown.
func head(v *workspace.View, m store.Mailing, messages map[uuid.UUID]store.Message) api.PostHead {
	x := messages[m.MessageID]
	return api.PostHead{ID: m.ID.String(), Author: x.Author, Proven: x.Proven, Subject: x.Subject, Size: x.Size, ReceivedAt: v.In(m.ReceivedAt)}
}

// WhyHeld says why a post waits.
func WhyHeld(m store.Mailing) string {
	var d store.Decision
	_ = json.Unmarshal(m.Decision, &d) // written by Accept
	for _, r := range shape(d).Reasons {
		if r.Rule == d.Rule {
			return r.Says
		}
	}
	return ""
}

// DecideOne approves or declines one post.
func (s *Service) DecideOne(ctx context.Context, by workspace.Actor, id string, d api.Decisions, out *api.Decided) error {
	none := workspace.Fail(workspace.NotFound, "There is no post %q that waits for you.", workspace.Cut(id, 50))
	if want := map[string]string{"trust": "approve", "bar": "decline"}[d.Author]; d.Author != "" && want != d.Verdict {
		return workspace.Wrong("author", d.Author, "Trust the author of what you approve, or bar the author of what you decline.")
	}
	u, err := uuid.Parse(id)
	if err != nil {
		return none
	}
	found, err := s.k.View(ctx, by).Read.Mailing(u)
	if errors.Is(err, store.ErrNotFound) || err == nil && (found.Kind != store.KindPost || found.GroupID == nil) {
		return none
	} else if err != nil {
		return err
	}
	err = s.k.OnGroup(ctx, by, found.GroupID.String(), access.DecidePosts, func(c *workspace.Change, g *workspace.Locked) error {
		m, err := c.Tx.LockMailing(u)
		if errors.Is(err, store.ErrNotFound) {
			return none
		} else if err != nil {
			return err
		}
		read, err := c.Read.Messages([]uuid.UUID{m.MessageID}, false)
		if err != nil {
			return err
		}
		x := read[m.MessageID]
		out.Person, out.Group, out.Subject = x.Author, g.Name, x.Subject
		if m.State != store.Waiting {
			return workspace.Fail(workspace.Conflict, "%s has been %s already, by %s.", x.Subject, m.State, m.DecidedBy)
		}
		if err := settle(c, &g.Group.Group, m, x, d); err != nil || d.Author == "" {
			return err
		}
		return about(c, g, x, d)
	})
	if workspace.IsKind(err, workspace.NotFound) || workspace.IsKind(err, workspace.NotAllowed) {
		return none // who may not decide is told nothing of it
	}
	return err
}

// about settles something about the author of a post that was decided.
func about(c *workspace.Change, g *workspace.Locked, x store.Message, d api.Decisions) error {
	n := api.NewOverride{Override: "trusted", Reason: "With the approval of: " + workspace.Cut(x.Subject, 200)}
	if d.Verdict == "decline" {
		n = api.NewOverride{Override: "barred", Reason: "With the refusal of: " + workspace.Cut(x.Subject, 200)}
	}
	who, err := writerOf(&c.View, x)
	if err != nil {
		return err
	}
	o, err := member.NewOverride(who, n, 0)
	if err != nil {
		return err
	}
	_, err = member.Settle(c, g, o)
	return err
}

// settle lets a post through, or turns it away.
func settle(c *workspace.Change, g *store.Group, m store.Mailing, x store.Message, d api.Decisions) error {
	var fact event.Fact = event.PostApproved{Author: x.Author, Subject: x.Subject}
	state := store.Accepted
	if d.Verdict == "decline" {
		fact, state = event.PostDeclined{Author: x.Author, Subject: x.Subject, Reason: d.Reason}, store.Declined
		if x.Proven {
			l := c.GroupLetter(workspace.LetterPostDeclined, g, "", map[string]string{"subject": x.Subject, "reason": d.Reason})
			who, err := writerOf(&c.View, x)
			if err != nil {
				return err
			}
			if err := c.Send(g, []string{who}, l); err != nil {
				return err
			}
		}
	} else {
		if err := TakesMail(&c.View, g); err != nil {
			return err
		}
		to, err := recipients(&c.View, g, Mailbox(m.Mailbox), c.Now())
		if err != nil {
			return err
		}
		c.Says(fmt.Sprintf("%q goes out to %d people.", x.Subject, len(to)))
		if err := c.Tx.AddJobs([]store.Job{job(m.ID, c.Now())}); err != nil {
			return err
		}
		c.MailQueued()
	}
	if err := c.Tx.DecideMailing(m, state, c.By.Person.Address, d.Reason, c.Now()); err != nil {
		return err
	}
	var affected []store.Affected
	if x.AuthorID != nil {
		affected = append(affected, store.Affected{PersonID: *x.AuthorID})
	}
	return c.Record(fact, g, affected...)
}

// shape is a decision as the interface shows it.
func shape(d store.Decision) api.Decision {
	out := api.Decision{Outcome: d.Outcome, Rule: d.Rule, Reasons: make([]api.Reason, len(d.Reasons))}
	for i, r := range d.Reasons {
		out.Reasons[i] = api.Reason(r)
	}
	return out
}
