package post

import (
	"context"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// When those who decide are told of posts that wait.
const (
	gatherFor  = 5 * time.Minute // posts that come within it are in one letter
	quietFor   = time.Hour       // no further letter about the same group within it
	ownersIn   = 3 * 24 * time.Hour
	caretakeIn = 7 * 24 * time.Hour
)

// Who was told of a post that waits.
const (
	toldNobody int8 = iota
	toldModerators
	toldOwners
	toldCaretaker
)

// TellOfWaiting writes to those who decide about posts that wait: to the moderators, where a group has
// any, after some days to its owners, and then to the caretaker. Whoever decides about several groups
// gets one letter. Any number of instances can do it at once: each post is told of once a step.
func (s *Service) TellOfWaiting(ctx context.Context) error {
	if rows, err := due(s.k.View(ctx, workspace.Service), 1); err != nil || len(rows) == 0 {
		return err
	}
	return s.k.Do(ctx, workspace.Service, func(c *workspace.Change) error {
		if err := c.Tx.LockTelling(); err != nil {
			return err
		}
		now := c.Now()
		rows, err := due(&c.View, 5000)
		if err != nil || len(rows) == 0 {
			return err
		}
		type batch struct {
			group uuid.UUID
			step  int8
		}
		of := map[batch][]store.Mailing{}
		var order []batch
		var ids, messages []uuid.UUID
		for _, m := range rows {
			b := batch{*m.GroupID, m.Told + 1}
			if of[b] == nil {
				order, ids = append(order, b), append(ids, b.group)
			}
			of[b], messages = append(of[b], m), append(messages, m.MessageID)
		}
		groups, err := c.Read.GroupsByID(ids)
		if err != nil {
			return err
		}
		read, err := c.Read.Messages(messages, false)
		if err != nil {
			return err
		}
		for _, b := range order {
			g := groups[b.group]
			step, to, err := deciders(c, &g, b.step)
			if err != nil {
				return err
			}
			all := of[b]
			first := read[all[0].MessageID]
			fill := map[string]string{"count": workspace.Counted(g.Language, len(all), "message"), "subject": first.Subject, "from": first.Author, "since": workspace.DateIn(g.Language, c.In(all[0].ReceivedAt)), "late": ""}
			if b.step > toldModerators {
				fill["late"] = fill["since"]
			}
			if !c.Ended(&g) {
				if err := c.Send(&g, to, c.GroupLetter(workspace.LetterPostsWait, &g, "/waiting?kind=post", fill)); err != nil {
					return err
				}
			}
			told := make([]uuid.UUID, len(all))
			for i, m := range all {
				told[i] = m.ID
			}
			if err := c.Tx.PostsTold(b.group, told, step, now); err != nil {
				return err
			}
		}
		return nil
	})
}

// due returns the posts of which somebody is to be told by now.
func due(v *workspace.View, limit int) ([]store.Mailing, error) {
	now := v.Now()
	return v.Read.UntoldPosts([]store.Telling{
		{Told: toldNobody, Until: now.Add(-gatherFor)}, {Told: toldModerators, Until: now.Add(-ownersIn)}, {Told: toldOwners, Until: now.Add(-caretakeIn)},
	}, now.Add(-quietFor), limit)
}

// deciders returns who is told of posts in a step, and which step that is: where a group has no
// moderators its owners are the first.
func deciders(c *workspace.Change, g *store.Group, step int8) (int8, []string, error) {
	if step == toldModerators {
		to, err := c.Read.ModeratorAddresses(g.ID)
		if err != nil || len(to) > 0 {
			return step, to, err
		}
		step = toldOwners
	}
	if step == toldOwners {
		to, err := c.NoticeRecipients(g)
		return step, to, err
	}
	to, err := c.Caretakers(g)
	return toldCaretaker, to, err
}

// tellAuthor tells the author of a post that it waits, where it is proven who that is and they were not
// told so of another one of theirs that still does. The automatic answer of the group, where one is due, is
// in the same letter.
func tellAuthor(c *workspace.Change, g *store.Group, a Arrived, m store.Mailing, answer string) (told bool, err error) {
	if !a.Proven || a.Automatic || a.ReturnPath == "" {
		return false, nil
	}
	waits, err := c.Read.WaitsFrom(g.ID, a.Author.String(), m.ID)
	if err != nil || waits {
		return false, err
	}
	fill := map[string]string{"subject": a.Subject, "why": WhyHeld(m), "answer": answer, "notice": g.Mail.Notice}
	return true, c.Send(g, []string{a.writer().String()}, c.GroupLetter(workspace.LetterYourPostWaits, g, "", fill))
}

// Seasoned returns who is not a newcomer in a group, however short they are in it, since enough of their
// posts were let through: of some authors, or, with none, of all.
func Seasoned(v *workspace.View, g *store.Group, authors ...uuid.UUID) (map[uuid.UUID]bool, error) {
	ids, err := v.Read.AuthorsLetThrough(g.ID, fresh(v), policy.NewcomerPosts, authors)
	return setOf(ids), err
}

// SeasonedIn is Seasoned the other way round: in which of some groups somebody is not a newcomer.
func SeasonedIn(v *workspace.View, author uuid.UUID, groups []uuid.UUID) (map[uuid.UUID]bool, error) {
	ids, err := v.Read.LetThroughIn(author, groups, fresh(v), policy.NewcomerPosts)
	return setOf(ids), err
}

// fresh is since when somebody has joined who may be a newcomer.
func fresh(v *workspace.View) time.Time { return v.Now().AddDate(0, 0, -policy.NewcomerDays) }

func setOf(ids []uuid.UUID) map[uuid.UUID]bool {
	out := make(map[uuid.UUID]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out
}
