// Package pause is whether the mail of groups reaches somebody at all: who is away stops it for a while, and it stops by itself for
// those whose mail comes back.
package pause

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/digest"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/returned"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Service is pauses.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// maxDays is for how many days somebody can be away.
const maxDays = 366

// forGood is until when mail is paused that came back: until somebody says that it works again.
var forGood = time.Date(9000, 1, 1, 0, 0, 0, 0, time.UTC)

// Pause stops the mail of all groups to somebody up to and with a day, as they or an administrator ask.
func (s *Service) Pause(ctx context.Context, by workspace.Actor, ref string, n api.MailPause) (api.MailState, error) {
	return s.change(ctx, by, ref, func(c *workspace.Change, p *store.Person) error {
		day, err := time.ParseInLocation(time.DateOnly, n.Until, c.Zone())
		if err != nil {
			return workspace.Wrong("until", workspace.Cut(n.Until, 20), "Give the last day of it as a date, such as %s.", c.In(c.Now()).AddDate(0, 0, 14).Format(time.DateOnly))
		}
		end := day.AddDate(0, 0, 1)
		if !end.After(c.Now()) || end.After(c.Now().AddDate(0, 0, maxDays+1)) {
			return workspace.Wrong("until", n.Until, "Give a day from today on, at most %d days ahead.", maxDays)
		}
		end = end.UTC()
		p.MailPausedUntil, p.MailPausedWhy = &end, store.PausedAway
		c.Says(fmt.Sprintf("No mail of groups reaches %s up to and with %s.", p.Name, workspace.DateIn("en", day)))
		return c.Record(event.MailPaused{Name: p.Name, Until: n.Until}, nil, store.Affected{PersonID: p.ID})
	})
}

// Resume lets the mail of groups reach somebody again.
func (s *Service) Resume(ctx context.Context, by workspace.Actor, ref string) (api.MailState, error) {
	return s.change(ctx, by, ref, func(c *workspace.Change, p *store.Person) error {
		if !p.Paused(c.Now()) {
			return workspace.Fail(workspace.Conflict, "Mail of groups reaches %s; it is not paused.", p.Name)
		}
		return resume(c, p)
	})
}

func resume(c *workspace.Change, p *store.Person) error {
	now := c.Now() // what came back before does not count any more
	p.MailPausedUntil, p.MailPausedWhy = &now, ""
	c.Says(fmt.Sprintf("Mail of groups reaches %s again. What came meanwhile is not sent later.", p.Name))
	return c.Record(event.MailResumed{Name: p.Name}, nil, store.Affected{PersonID: p.ID})
}

func (s *Service) change(ctx context.Context, by workspace.Actor, ref string, f func(*workspace.Change, *store.Person) error) (out api.MailState, err error) {
	if err := by.SignedIn(); err != nil {
		return out, err
	}
	found, err := people.Find(s.k.View(ctx, by), ref)
	if err != nil {
		return out, err
	}
	if found.ID != by.Person.ID {
		if err := by.Allow(access.ChangeDirectory); err != nil {
			return out, err
		}
	}
	err = s.k.Do(ctx, by, func(c *workspace.Change) error {
		p, err := c.Tx.LockPerson(found.ID)
		if err != nil {
			return err
		}
		c.Now()
		if p.ID != c.By.Person.ID {
			if err := c.Allow(access.ChangeDirectory); err != nil {
				return err
			}
		} else if err := c.By.SignedIn(); err != nil {
			return err
		}
		if !p.Active {
			return workspace.Fail(workspace.Conflict, "%s has left; no mail of groups reaches them.", p.Name)
		}
		if err := f(c, &p); err != nil {
			return err
		}
		if err := c.Tx.SetMailPause(p); err != nil {
			return err
		}
		out = people.Mail(&c.View, p)
		out.Says = c.Report.Says
		return nil
	})
	return out, err
}

// SetDigestTime says when somebody gets their digests.
func (s *Service) SetDigestTime(ctx context.Context, by workspace.Actor, ref string, n api.DigestTime) (api.MailState, error) {
	return s.change(ctx, by, ref, func(c *workspace.Change, p *store.Person) error {
		if n.Zone != "" {
			if _, err := time.LoadLocation(n.Zone); err != nil || n.Zone == "Local" {
				return workspace.Wrong("zone", workspace.Cut(n.Zone, 64), "There is no time zone of this name. Give one such as %s.", cmp.Or(c.Zone().String(), "UTC"))
			}
		}
		d, err := c.Read.DigestTime(p.ID)
		if errors.Is(err, store.ErrNotFound) {
			return workspace.Fail(workspace.Conflict, "%s gets no digests. Choose them in a group first.", p.Name)
		} else if err != nil {
			return err
		}
		was := people.DigestAt(&c.View, d)
		d.Hour, d.Zone = int8(n.Hour), n.Zone
		_, d.DueAt = Digests(d, c.Now(), c.Zone())
		c.Says(fmt.Sprintf("Digests come at %s.", people.DigestAt(&c.View, d)))
		if err := c.Tx.SaveDigestTime(d); err != nil {
			return err
		}
		return c.Record(event.DigestsMoved{Name: p.Name, At: people.DigestAt(&c.View, d), Was: was}, nil, store.Affected{PersonID: p.ID})
	})
}

// Digests are the hours at which somebody's digests come: the last one up to now, and the next one after it, in their zone or, where they
// have said none, that of the workspace.
func Digests(d store.DigestTime, now time.Time, zone *time.Location) (last, next time.Time) {
	if own, err := time.LoadLocation(d.Zone); err == nil && d.Zone != "" {
		zone = own
	}
	return digest.Around(int(d.Hour), now, zone)
}

// ResumeOwn is Resume for somebody external who holds a link.
func ResumeOwn(c *workspace.Change, id uuid.UUID) error {
	p, err := c.Tx.LockPerson(id)
	if err != nil || !p.Paused(c.Now()) {
		return err
	}
	if err := resume(c, &p); err != nil {
		return err
	}
	return c.Tx.SetMailPause(p)
}

// Returned looks at what came back from somebody's address, the last time from a group, with what was said, and pauses the mail of groups to
// them when that makes the pattern. It reports whether it did.
func Returned(c *workspace.Change, g *store.Group, address, reply string, ownPage func(store.Person) (string, error)) (bool, error) {
	found, err := c.Read.PersonByKey(address)
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	} else if err != nil {
		return false, err
	}
	p, err := c.Tx.LockPerson(found.ID)
	if err != nil || !p.Active || p.Paused(c.Now()) && p.MailPausedWhy == store.PausedReturned {
		return false, err
	}
	since := c.Now().Add(-returned.Default.Within)
	if p.MailPausedUntil != nil && p.MailPausedUntil.After(since) && p.MailPausedWhy == "" {
		since = *p.MailPausedUntil // when somebody said that it works again
	}
	at, err := c.Read.ReturnedAt(p.Address, since, 100)
	if err != nil || !returned.Default.Matches(at, c.Now(), c.Zone()) {
		return false, err
	}
	p.MailPausedUntil, p.MailPausedWhy = &forGood, store.PausedReturned
	if err := c.Tx.SetMailPause(p); err != nil {
		return false, err
	}
	if err := c.Record(event.MailPaused{Name: p.Name, Returned: len(at), Reply: reply}, nil, store.Affected{PersonID: p.ID}); err != nil {
		return false, err
	}
	return true, tell(c, g, p, len(at), reply, ownPage)
}

// tell writes to somebody whose mail is paused, should it work again, and, of somebody external, to who vouches for them, or else to
// the owners of the group.
func tell(c *workspace.Change, g *store.Group, p store.Person, times int, reply string, ownPage func(store.Person) (string, error)) error {
	fill := map[string]string{"person": p.Name, "address_given": p.Address, "count": workspace.Counted(g.Language, times, "message"), "reply": reply}
	path := "/account"
	if p.External {
		var err error
		if path, err = ownPage(p); err != nil {
			return err
		}
	}
	if err := c.Send(g, []string{p.Address}, c.GroupLetter(workspace.LetterMailPaused, g, path, fill)); err != nil || !p.External {
		return err
	}
	others, err := c.Read.VouchersOf(p.ID)
	if err == nil && len(others) == 0 {
		others, err = c.NoticeRecipients(g)
	}
	if err != nil || len(others) == 0 {
		return err
	}
	return c.Send(g, others, c.GroupLetter(workspace.LetterMailPausedOf, g, "/people/"+p.ID.String(), fill))
}
