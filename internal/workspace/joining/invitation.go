package joining

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// Invitations lists the open invitations of a group, newest first.
func (s *Service) Invitations(ctx context.Context, by workspace.Actor, ref, cursor string, limit int) (api.Page[api.Invitation], error) {
	none := api.Page[api.Invitation]{}
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.ManageLinks)
	if err != nil {
		return none, err
	}
	after, err := v.Cursor(cursor, "invitations", g.ID)
	if err != nil {
		return none, err
	}
	p, err := v.Read.Invitations(g.ID, after, limit)
	return workspace.Page(p, func(i store.Invitation) api.Invitation {
		return api.Invitation{ID: i.ID.String(), Address: i.Address, Role: i.Role.String(), MadeBy: i.MadeBy, MadeAt: v.In(i.MadeAt), ExpiresAt: v.In(i.ExpiresAt)}
	}), err
}

// CallBackInvitation ends an open invitation by the address that it was sent to.
func (s *Service) CallBackInvitation(ctx context.Context, by workspace.Actor, ref, address string) error {
	addr, err := workspace.ParseAddress("address", address)
	if err != nil {
		return err
	}
	return s.k.OnGroup(ctx, by, ref, access.ManageLinks, func(c *workspace.Change, g *workspace.Locked) error {
		i, err := c.Tx.LockOpenInvitation(g.ID, addr.Key())
		if errors.Is(err, store.ErrNotFound) {
			return workspace.Fail(workspace.NotFound, "No invitation of %s to %s is open.", addr, g.Name)
		} else if err != nil {
			return err
		}
		c.Says(fmt.Sprintf("The invitation of %s to %s is called back.", i.Address, g.Name))
		return callBack(c, g, i)
	})
}

// callBack ends an open invitation, which is locked.
func callBack(c *workspace.Change, g *workspace.Locked, i store.Invitation) error {
	now := c.Now()
	i.State, i.AnsweredAt = store.CalledBack, &now
	if err := c.Tx.SaveInvitation(i); err != nil {
		return err
	}
	of, did, err := invited(c, i)
	if err != nil {
		return err
	}
	return c.Record(event.InvitationCalledBack{Of: of}, &g.Group.Group, did)
}

// CallBackInvitations ends those invitations of people whom an entry of the history affected that nobody has answered; not those that were
// made after it.
func (s *Service) CallBackInvitations(ctx context.Context, by workspace.Actor, ref string, affected []store.Affected, at time.Time) error {
	return s.k.OnGroup(ctx, by, ref, access.ManageLinks, func(c *workspace.Change, g *workspace.Locked) error {
		open, err := c.Tx.LockOpenInvitations(g.ID)
		if err != nil {
			return err
		}
		meant := map[uuid.UUID]bool{}
		for _, a := range affected {
			meant[a.PersonID] = true
		}
		keys := make([]string, len(open))
		for i := range open {
			keys[i] = open[i].AddrKey
		}
		people, err := c.Read.PeopleByKeys(keys)
		if err != nil {
			return err
		}
		n := 0
		for _, i := range open {
			if i.MadeAt.After(at) || !meant[people[i.AddrKey].ID] && !meant[store.AddressID(i.AddrKey)] {
				continue
			}
			n++
			if err := callBack(c, g, i); err != nil {
				return err
			}
		}
		if n == 0 {
			return workspace.Fail(workspace.Conflict, "None of these invitations to %s is open any more.", g.Name)
		}
		c.Says(fmt.Sprintf("%s to %s called back.", workspace.UpperFirst(number.Of(n, "invitation")), g.Name))
		return nil
	})
}

// invited names whoever an invitation is for, and how the history finds them.
func invited(c *workspace.Change, i store.Invitation) (event.Who, store.Affected, error) {
	p, err := c.Read.PersonByKey(i.AddrKey)
	if errors.Is(err, store.ErrNotFound) {
		return event.Who{Address: i.Address}, store.Affected{PersonID: store.AddressID(i.AddrKey), Label: &i.Address}, nil
	}
	return workspace.Who(p), store.Affected{PersonID: p.ID}, err
}

var errNoLink = workspace.Fail(workspace.NotFound, "This link leads nowhere: it was never given out, or was replaced by a newer one.")

// preview describes a group to whoever holds a link into it.
func preview(v *workspace.View, kind string, id uuid.UUID) (api.LinkPreview, error) {
	g, err := v.Read.Group(id)
	if errors.Is(err, store.ErrNotFound) {
		return api.LinkPreview{}, errNoLink
	} else if err != nil {
		return api.LinkPreview{}, err
	}
	owners, err := v.Read.Owners([]uuid.UUID{g.ID})
	o := api.LinkPreview{Kind: kind, Group: api.Name{Name: g.Name, Address: g.Address}, Description: g.Description, Sentence: g.Policy.Sentence(), Owners: []string{}, State: "open"}
	for _, x := range owners[g.ID] {
		o.Owners = append(o.Owners, x.Name)
	}
	if v.Ended(&g) {
		o.State, o.Says = "ended", "The group has ended."
	}
	return o, err
}

// closed takes out of what is said of a link that ended all that it says of the group, which may be hidden by now.
func closed(o api.LinkPreview, err error) (api.LinkPreview, error) {
	if o.State != "open" {
		o.Group, o.Description, o.Sentence, o.Owners = api.Name{}, "", "", []string{}
	}
	return o, err
}

// Invitation describes an invitation to whoever holds its secret. It changes nothing.
func (s *Service) Invitation(ctx context.Context, secret string) (api.LinkPreview, error) {
	return closed(s.invitation(ctx, secret))
}

func (s *Service) invitation(ctx context.Context, secret string) (api.LinkPreview, error) {
	v := s.k.View(ctx, workspace.Actor{})
	i, err := v.Read.InvitationByHash(member.HashOf(secret))
	if errors.Is(err, store.ErrNotFound) {
		return api.LinkPreview{}, errNoLink
	} else if err != nil {
		return api.LinkPreview{}, err
	}
	o, err := preview(v, "invitation", i.GroupID)
	if err != nil {
		return o, err
	}
	o.For, o.By, o.ExpiresAt = i.Address, i.MadeBy, v.In(i.ExpiresAt)
	if _, o.SignIn, err = invitee(v, i); err != nil {
		return o, err
	}
	switch {
	case i.State != store.Undecided:
		o.State, o.Says = i.State, fmt.Sprintf("This invitation was %s.", i.State)
	case !v.Now().Before(i.ExpiresAt) && o.State == "open":
		o.State, o.Says = "expired", over(v, i)
	}
	return o, nil
}

func over(v *workspace.View, i store.Invitation) string {
	return fmt.Sprintf("This invitation ended on %s. Ask for a new one.", workspace.DateIn("en", i.ExpiresAt.In(v.Zone())))
}

// Answer accepts or declines an invitation. Somebody of the workspace has to be signed in as
// whom it is for; an outsider, who can't, proves the address by holding the secret that was
// sent to it.
func (s *Service) Answer(ctx context.Context, by workspace.Actor, secret string, answer api.Answer) (api.LinkPreview, error) {
	v := s.k.View(ctx, by)
	found, err := v.Read.InvitationByHash(member.HashOf(secret))
	if errors.Is(err, store.ErrNotFound) {
		return api.LinkPreview{}, errNoLink
	} else if err != nil {
		return api.LinkPreview{}, err
	}
	p, of, err := invitee(v, found)
	if err != nil {
		return api.LinkPreview{}, err
	}
	as := workspace.Actor{Person: p, Via: "link", RequestID: by.RequestID, Preview: by.Preview, Report: by.Report}
	if of {
		switch as = by; {
		case by.SignedIn() != nil:
			return api.LinkPreview{}, workspace.Fail(workspace.SignedOut, "This invitation is for %s. Sign in as them to answer it.", found.Address)
		case by.Person.ID != p.ID:
			return api.LinkPreview{}, workspace.Fail(workspace.NotAllowed, "This invitation is for %s, but you are signed in as %s.", found.Address, by.Person.Address)
		}
	}
	err = s.k.Do(ctx, as, func(c *workspace.Change) error {
		locked, err := c.Tx.LockGroup(found.GroupID)
		if errors.Is(err, store.ErrNotFound) {
			return errNoLink
		} else if err != nil {
			return err
		}
		g := workspace.Hold(locked)
		i, err := c.Tx.LockInvitation(found.ID)
		if err != nil {
			return err
		}
		now := c.Now()
		switch {
		case i.State != store.Undecided:
			return workspace.Fail(workspace.Conflict, "This invitation was %s already.", i.State)
		case !now.Before(i.ExpiresAt):
			return workspace.Fail(workspace.Conflict, "%s", over(&c.View, i))
		}
		i.AnsweredAt, i.State = &now, store.Declined
		var fact event.Fact = event.InvitationDeclined{}
		if answer.Answer == "accept" {
			i.State, fact = store.Accepted, event.InvitationAccepted{Role: i.Role.String()}
			if err := accept(c, g, i); err != nil {
				return err
			}
		}
		c.Says(fmt.Sprintf("The invitation to %s is %s.", g.Name, i.State))
		if err := c.Tx.SaveInvitation(i); err != nil {
			return err
		}
		_, did, err := invited(c, i)
		if err != nil {
			return err
		}
		return c.Record(fact, &g.Group.Group, did)
	})
	if err != nil {
		return api.LinkPreview{}, err
	}
	return s.invitation(ctx, secret)
}

// invitee returns whom an invitation is for, and whether they are somebody of the workspace.
func invitee(v *workspace.View, i store.Invitation) (p store.Person, ofWorkspace bool, err error) {
	p, err = v.Read.PersonByKey(i.AddrKey)
	if errors.Is(err, store.ErrNotFound) {
		return store.Person{Address: i.Address, AddrKey: i.AddrKey, Name: i.Address, External: true}, false, nil
	}
	return p, err == nil && !p.External, err
}

// accept puts whoever was invited into g, where they still can be in it.
func accept(c *workspace.Change, g *workspace.Locked, i store.Invitation) error {
	p := c.By.Person
	if known, err := c.Read.PersonByKey(i.AddrKey); err == nil { // may have come, or gone, meanwhile
		p = known
	} else if !errors.Is(err, store.ErrNotFound) {
		return err
	}
	if i.Role > expand.Member { // since the invitation they may have become a delegated administrator, who is not appointed by a letter
		if is, err := c.Delegated(p.ID); err != nil {
			return err
		} else if is {
			return workspace.Fail(workspace.NotAllowed, "You are a delegated administrator by now, so no invitation makes you %s. Ask an owner of %s to put you in.", admission.Article(i.Role), g.Name)
		}
	}
	v, results, err := admit(c, g, p, admission.As{Role: i.Role}, admission.Accepting)
	if v.Outcome == admission.Already {
		return nil // has come in another way
	}
	if err != nil {
		return err
	}
	how := member.Entrance{Fact: event.Joined{Way: "invitation"}, Quiet: true, Vouch: member.Vouch{Reason: i.Reason, Nobody: i.VoucherID == nil}}
	if i.VoucherID != nil {
		if how.Vouch.By, err = c.Read.Person(*i.VoucherID); err != nil {
			return err
		}
	}
	if results[0].Ends = i.EndsAt; i.EndsAt != nil && !i.EndsAt.After(c.Now()) {
		return workspace.Fail(workspace.Conflict, "The time for which you were to be in %s is over. Ask for a new invitation.", g.Name)
	}
	return member.Join(c, g, results, how)
}
