package post

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// What became of a message for one recipient.
const (
	handed   = "handed_over" // the mail system took it over
	refused  = "refused"     // for good
	trying   = "trying"      // it was put off, and is tried again
	awaiting = "waiting"     // its turn has not come
	cameBack = "returned"    // the mail system took it over, and could not deliver it
)

// Posts lists posts to a group, newest first: all, for those who decide about them; for others those that they wrote, and those that were to
// reach them. With an address, those that were to reach that one.
func (s *Service) Posts(ctx context.Context, by workspace.Actor, ref, recipient, cursor string, limit int) (api.Page[api.Post], error) {
	none := api.Page[api.Post]{}
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.ReadGroup)
	if err != nil {
		return none, err
	}
	q := store.PostQuery{Group: g.ID, Limit: limit}
	if recipient != "" {
		a, err := mailaddr.Parse(recipient)
		if err != nil {
			return none, workspace.Wrong("recipient", workspace.Cut(recipient, 320), "%s", workspace.Words(err))
		}
		q.Recipient = a.String()
	}
	decides := v.May(access.DecidePosts, &g)
	switch {
	case decides && q.Recipient != "":
		shown, err := sees(v, g.ID)
		if err != nil {
			return none, err
		}
		if !shown(q.Recipient) && !strings.EqualFold(q.Recipient, by.Person.Address) {
			return none, workspace.Fail(workspace.NotAllowed, "You don't see whether %s is in %s.", q.Recipient, g.Name)
		}
	case decides:
	case by.Person.Address == "" || q.Recipient != "" && !strings.EqualFold(q.Recipient, by.Person.Address):
		return none, workspace.Fail(workspace.NotAllowed, "%s", access.DecidePosts.Refusal())
	case q.Recipient == "":
		q.Author, q.Recipient = by.Person.ID, by.Person.Address
	}
	if q.After, err = v.Cursor(cursor, "posts", g.ID, q.Author, q.Recipient); err != nil {
		return none, err
	}
	page, err := v.Read.Posts(q)
	if err != nil {
		return none, err
	}
	ids, messages := make([]uuid.UUID, len(page.Items)), make([]uuid.UUID, len(page.Items))
	for i, m := range page.Items {
		ids[i], messages[i] = m.ID, m.MessageID
	}
	read, err := v.Read.Messages(messages, false)
	if err != nil {
		return none, err
	}
	progress, err := v.Read.Progress(ids, 0)
	if err != nil {
		return none, err
	}
	counted, err := counts(v, g.ID)
	if err != nil {
		return none, err
	}
	return workspace.Page(page, func(m store.Mailing) api.Post {
		x := read[m.MessageID]
		mine := x.AuthorID != nil && *x.AuthorID == by.Person.ID
		out := shapePost(v, m, read, progress[m.ID], counted && (decides || mine))
		if m.State == store.Accepted && !decides && !mine { // what became of it for others is theirs
			out.Says, out.Trouble = "It was passed on; look what became of it for you.", false
		}
		return out
	}), nil
}

// counts reports whether the actor may know how many people of a group there are.
func counts(v *workspace.View, group uuid.UUID) (bool, error) {
	_, err := v.FindGroup(group.String(), access.SeePeople)
	if workspace.IsKind(err, workspace.NotAllowed) || workspace.IsKind(err, workspace.NotFound) {
		return false, nil
	}
	return err == nil, err
}

func shapePost(v *workspace.View, m store.Mailing, messages map[uuid.UUID]store.Message, p store.Progress, counted bool) api.Post {
	out := api.Post{PostHead: head(v, m, messages), State: m.State, Trouble: m.Trouble}
	var d store.Decision
	_ = json.Unmarshal(m.Decision, &d) // written by Accept
	out.Decision = shape(d)
	switch {
	case m.State == store.Waiting:
		out.Says = "It waits for approval."
	case m.State != store.Accepted:
		out.Says = "It was declined."
		if m.Reason != "" {
			out.Says = "It was declined: " + m.Reason
		}
	case !counted && m.Trouble:
		out.Says = "It could not be handed to everybody, or not yet."
	case !counted:
		out.Says = map[bool]string{true: "It is being handed over.", false: "It was handed over."}[len(p.Jobs) > 0]
	default:
		out.HandedOver, out.Failed = &p.HandedOver, &p.Failed
		out.Says = "Handed over for " + number.Of(p.HandedOver, "person")
		if p.Failed > 0 {
			out.Says += fmt.Sprintf(", and not for %d", p.Failed)
		}
		if p.Returned > 0 {
			out.Says += fmt.Sprintf("; it came back from %d of them", p.Returned)
		}
		if len(p.Jobs) > 0 {
			out.Says += "; it goes on"
		}
		out.Says += "."
	}
	out.Going = len(p.Jobs) > 0
	return out
}

// traced finds a post of which the actor may know what became of it, and of which people.
func (s *Service) traced(v *workspace.View, id string) (m store.Mailing, g workspace.Group, shown func(string) bool, err error) {
	none := workspace.Fail(workspace.NotFound, "There is no post %q of which you may know.", workspace.Cut(id, 50))
	u, bad := uuid.Parse(id)
	if bad != nil || v.By.SignedIn() != nil {
		if err := v.By.SignedIn(); err != nil {
			return m, g, nil, err
		}
		return m, g, nil, none
	}
	m, err = v.Read.Mailing(u)
	if errors.Is(err, store.ErrNotFound) || err == nil && (m.Kind != store.KindPost || m.GroupID == nil) {
		return m, g, nil, none
	} else if err != nil {
		return m, g, nil, err
	}
	g, err = v.FindGroup(m.GroupID.String(), access.ReadGroup)
	if workspace.IsKind(err, workspace.NotFound) || workspace.IsKind(err, workspace.NotAllowed) {
		return m, g, nil, none
	} else if err != nil {
		return m, g, nil, err
	}
	myself := v.By.Person.Address
	author, err := v.Read.AuthorOf(m.MessageID)
	if err != nil {
		return m, g, nil, err
	}
	switch {
	case v.May(access.DecidePosts, &g), author == v.By.Person.ID:
		seen, err := sees(v, g.ID)
		return m, g, func(a string) bool { return a == myself || seen(a) }, err
	}
	got, err := v.Read.HandedOver(m.ID, myself)
	if err != nil {
		return m, g, nil, err
	}
	not, err := v.Read.FailuresOf(m.ID, myself)
	if err == nil && len(got)+len(not) == 0 {
		err = none
	}
	return m, g, func(a string) bool { return a == myself }, err
}

// Deliveries lists what became of a post for each whom it was to reach, by address, as far as the actor may see who is in the group: all, or
// those in one state, or one recipient.
func (s *Service) Deliveries(ctx context.Context, by workspace.Actor, id, recipient, state, cursor string, limit int) (api.Page[api.Delivery], error) {
	none := api.Page[api.Delivery]{Items: []api.Delivery{}}
	v := s.k.View(ctx, by)
	m, _, shown, err := s.traced(v, id)
	if err != nil {
		return none, err
	}
	after, err := v.Cursor(cursor, "deliveries", m.ID, recipient, state)
	if err != nil {
		return none, err
	}
	all, err := deliveries(v, m, strings.ToLower(recipient))
	if err != nil {
		return none, err
	}
	out := none
	for _, d := range all {
		if !shown(d.Recipient) {
			if recipient == "" { // else it would tell whether that one is among them
				out.Hidden = "More people of a group that you can't see."
			}
			continue
		}
		if state != "" && d.State != state || recipient != "" && !strings.EqualFold(d.Recipient, recipient) {
			continue
		}
		if out.Total++; after.Value != "" && d.Recipient <= after.Value {
			continue
		}
		if len(out.Items) == limit {
			if out.Next == "" {
				out.Next = store.Cursor{Value: out.Items[limit-1].Recipient, Of: after.Of, Total: out.Total}.String()
			}
			continue
		}
		out.Items = append(out.Items, d)
	}
	return out, nil
}

// deliveries is what became of a post for each whom it was to reach, in the order of octets; with a recipient, of those who may be it.
func deliveries(v *workspace.View, m store.Mailing, recipient string) ([]api.Delivery, error) {
	by := map[string]api.Delivery{}
	jobs, err := v.Read.JobsOf(m.ID)
	if err != nil {
		return nil, err
	}
	var goes func(store.Job) ([]store.Recipient, error)
	if len(jobs) > 0 {
		if goes, err = goesTo(v, m); err != nil {
			return nil, err
		}
	}
	apart := linksIn(v, m.Kind, Mailbox(m.Mailbox))
	for _, j := range jobs {
		to, err := goes(j)
		if err != nil {
			return nil, err
		}
		for _, r := range to {
			if a := r.Address; placeOf(a, apart && r.External) > j.HandedTo {
				at := v.In(j.NextAt)
				by[a] = api.Delivery{Recipient: a, State: awaiting, NextAt: &at, Attempts: j.Attempts, Reply: j.Reply}
			}
		}
	}
	handedOver, err := v.Read.HandedOver(m.ID, recipient)
	if err != nil {
		return nil, err
	}
	for _, h := range handedOver {
		at, d := v.In(h.At), by[h.Recipient]
		if d.State == awaiting { // it goes to them again
			continue
		}
		by[h.Recipient] = api.Delivery{Recipient: h.Recipient, State: handed, At: &at, Attempts: d.Attempts + 1}
	}
	back, err := v.Read.ReturnsOf(m.ID)
	if err != nil {
		return nil, err
	}
	for _, r := range back {
		if d, there := by[r.Recipient]; there && d.State == handed && (d.At == nil || !d.At.After(r.At)) {
			at := v.In(r.At)
			d.State, d.At, d.Reply = cameBack, &at, r.Reply
			by[r.Recipient] = d
		}
	}
	failures, err := v.Read.FailuresOf(m.ID, recipient)
	if err != nil {
		return nil, err
	}
	for _, f := range failures {
		at, d := v.In(f.At), by[f.Recipient]
		if d.State == awaiting && f.GivenUp { // it goes to them again
			continue
		}
		d.Recipient, d.State, d.At, d.Attempts, d.Reply = f.Recipient, refused, &at, f.Attempts, f.Reply
		if !f.GivenUp {
			d.State = trying
		} else {
			d.NextAt = nil
		}
		by[f.Recipient] = d
	}
	out := make([]api.Delivery, 0, len(by))
	for _, d := range by {
		out = append(out, d)
	}
	slices.SortFunc(out, func(a, b api.Delivery) int { return strings.Compare(a.Recipient, b.Recipient) })
	return out, nil
}

// goesTo returns what says to whom a job of a post goes as things are now.
func goesTo(v *workspace.View, m store.Mailing) (func(store.Job) ([]store.Recipient, error), error) {
	g, err := v.Read.Group(*m.GroupID)
	if err != nil {
		return nil, err
	}
	x, err := v.Read.Messages([]uuid.UUID{m.MessageID}, false)
	if err != nil {
		return nil, err
	}
	return func(j store.Job) ([]store.Recipient, error) {
		return recipientsOf(v, &g, m.Kind, Mailbox(m.Mailbox), x[m.MessageID].Thread, j, nil)
	}, nil
}

// takesIt is the error where mail of the group of a post goes to none of some any more.
func takesIt(v *workspace.View, m store.Mailing, g *store.Group, to []string) error {
	goes, err := goesTo(v, m)
	if err != nil {
		return err
	}
	if all, err := goes(store.Job{AsOf: v.Now(), Recipients: store.Lines(to)}); err != nil || len(all) > 0 {
		return err
	}
	who := "those whom it did not reach"
	if len(to) == 1 {
		who = to[0]
	}
	return workspace.Fail(workspace.Conflict, "Mail of %s does not go to %s any more: they left it, or get its mail in another way, or not at all.", g.Name, who)
}

// SendAgain sends a post again to one of those whom it was to reach.
func (s *Service) SendAgain(ctx context.Context, by workspace.Actor, id, recipient string) (api.Delivery, error) {
	var out api.Delivery
	v := s.k.View(ctx, by)
	found, _, _, err := s.traced(v, id)
	if err != nil {
		return out, err
	}
	err = s.k.OnGroup(ctx, by, found.GroupID.String(), access.DecidePosts, func(c *workspace.Change, g *workspace.Locked) error {
		m, err := c.Tx.LockMailing(found.ID)
		if err != nil {
			return err
		}
		if err := c.Alive(&g.Group.Group); err != nil {
			return err
		}
		shown, err := sees(&c.View, g.ID)
		if err != nil {
			return err
		}
		all, err := deliveries(&c.View, m, strings.ToLower(recipient))
		if err != nil {
			return err
		}
		i := slices.IndexFunc(all, func(d api.Delivery) bool { return strings.EqualFold(d.Recipient, recipient) && shown(d.Recipient) })
		if i < 0 {
			return workspace.Wrong("recipient", workspace.Cut(recipient, 320), "This post was not for %s.", workspace.Cut(recipient, 100))
		}
		if out = all[i]; out.State == awaiting || out.State == trying {
			return workspace.Fail(workspace.Conflict, "It is on its way to %s already.", out.Recipient)
		}
		if err := takesIt(&c.View, m, &g.Group.Group, []string{out.Recipient}); err != nil {
			return err
		}
		read, err := c.Read.Messages([]uuid.UUID{m.MessageID}, false)
		if err != nil {
			return err
		}
		if err := c.Spend(workspace.SpendLetters, 1); err != nil {
			return err
		}
		x := read[m.MessageID]
		c.Says(fmt.Sprintf("%q goes to %s again.", x.Subject, out.Recipient))
		job := job(m.ID, c.Now())
		job.Recipients = store.Lines([]string{out.Recipient})
		if err := c.Tx.AddJobs([]store.Job{job}); err != nil {
			return err
		}
		c.MailQueued()
		out.State, out.Reply = awaiting, ""
		return c.Record(event.MailRetried{Author: x.Author, Subject: x.Subject, To: out.Recipient}, &g.Group.Group)
	})
	return out, err
}
