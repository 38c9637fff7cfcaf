package life

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/url"
	"strings"
	"time"

	ics "github.com/arran4/golang-ical"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// namedInDay is how many groups of a day its entry names.
const namedInDay = 20

// MakeFeed gives the actor the address of a calendar of when groups expire, for a calendar program. One that they had
// before is called back.
func (s *Service) MakeFeed(ctx context.Context, by workspace.Actor) (api.Feed, error) {
	if err := by.SignedIn(); err != nil {
		return api.Feed{}, err
	}
	secret, hash := member.NewSecret()
	err := s.k.Do(ctx, by, func(c *workspace.Change) error {
		if err := c.RefreshActor(); err != nil {
			return err
		}
		c.Says("A calendar of when groups expire. Whoever has its address can read it; one that you had before is called back.")
		return c.Tx.SaveFeed(store.CalendarFeed{Hash: hash, PersonID: c.By.Person.ID, MadeAt: c.Now()})
	})
	return api.Feed{URL: s.k.View(ctx, by).Link("/api/v1/calendars/" + secret)}, err
}

// CallFeedBack ends the actor's calendar.
func (s *Service) CallFeedBack(ctx context.Context, by workspace.Actor) error {
	if err := by.SignedIn(); err != nil {
		return err
	}
	return s.k.Do(ctx, by, func(c *workspace.Change) error {
		c.Says("Nobody can read the calendar any more.")
		return c.Tx.DeleteFeed(c.By.Person.ID)
	})
}

// Calendar writes the calendar of somebody in the iCalendar format (RFC 5545) to whoever has its secret: an entry for
// each of their groups that expires, and, for administrators and auditors, one for each day on which groups expire.
func (s *Service) Calendar(ctx context.Context, secret string, open func(name string) io.Writer) error {
	v := s.k.View(ctx, workspace.Actor{})
	p, err := v.Read.PersonOfFeed(member.HashOf(secret))
	if errors.Is(err, store.ErrNotFound) || err == nil && (!p.Active || p.External) {
		v.Hush()
		return workspace.Fail(workspace.NotFound, "There is no such calendar, or it was called back.")
	} else if err != nil {
		return err
	}
	v = s.k.View(ctx, workspace.Actor{Person: p, Via: "link"})
	t, own, err := endings(v, Asking{Scope: "owned"})
	if err != nil {
		return err
	}
	cal := ics.NewCalendarFor("Ivy Table")
	cal.SetMethod(ics.MethodPublish)
	cal.SetName("Mail groups that expire")
	cal.SetXWRCalName("Mail groups that expire")
	cal.SetRefreshInterval("P1D")
	mine := map[string]bool{}
	for _, x := range own {
		mine[x.Address] = true
		day(cal, t, v.Now(), x.ID.String(), x.ExpiresAt, x.Name+" expires", "Renew it if it is still needed: "+v.Link("/groups/"+x.Address+"/term"))
	}
	if v.By.Allow(access.ReadTerms) == nil {
		if err := days(v, cal, t); err != nil {
			return err
		}
	}
	_, err = io.WriteString(open("groups.ics"), cal.Serialize(ics.WithNewLineWindows))
	return err
}

// days adds an entry for each day on which groups of the workspace expire.
func days(v *workspace.View, cal *ics.Calendar, t workspace.Terms) error {
	_, all, err := endings(v, Asking{})
	if err != nil {
		return err
	}
	for len(all) > 0 {
		on := t.Date(all[0].ExpiresAt)
		n := 1
		for n < len(all) && t.Date(all[n].ExpiresAt) == on {
			n++
		}
		var names []string
		for _, x := range all[:min(n, namedInDay)] {
			names = append(names, x.Name)
		}
		if n > namedInDay {
			names = append(names, fmt.Sprintf("and %d more", n-namedInDay))
		}
		link := v.Link("/groups?filter=" + url.QueryEscape(fmt.Sprintf("expires_on eq %q", on)))
		day(cal, t, v.Now(), on, all[0].ExpiresAt, number.Of(n, "group")+" "+map[bool]string{true: "expires", false: "expire"}[n == 1], strings.Join(names, "\n")+"\n"+link)
		all = all[n:]
	}
	return nil
}

// day adds an entry of a whole day.
func day(cal *ics.Calendar, t workspace.Terms, now time.Time, id string, at time.Time, summary, description string) {
	on := t.Life.Day(at)
	e := cal.AddEvent(fmt.Sprintf("%s-%s@ivytable", id, on.Format("20060102")))
	e.SetDtStampTime(now)
	e.SetAllDayStartAt(on)
	e.SetAllDayEndAt(t.Life.After(on, 1))
	e.SetSummary(summary)
	e.SetDescription(description)
	e.SetTimeTransparency(ics.TransparencyTransparent)
}
