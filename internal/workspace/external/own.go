package external

import (
	"context"
	"errors"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/joining"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/pause"
)

var errNoLink = workspace.Fail(workspace.NotFound, "This link leads nowhere: its time is over, or you are not in the group any more. A newer letter of the group has a newer link.")

// own returns the group and the person that a link is about, for as long as the membership goes on that it stands for.
func (s *Service) own(v *workspace.View, secret string) (l store.OwnLink, g store.Group, p store.Person, err error) {
	code, err := s.k.MailKey(v.Ctx, member.OwnPurpose)
	if err != nil {
		return l, g, p, err
	}
	group, person, made, signed := member.ReadOwn(code, secret, v.Now())
	if signed {
		l = store.OwnLink{GroupID: group, MemberID: person}
	} else if l, err = v.Read.OwnLink(member.HashOf(secret)); err == nil && !l.ExpiresAt.After(v.Now()) {
		err = store.ErrNotFound
	}
	if err == nil {
		g, err = v.Read.Group(l.GroupID)
	}
	if err == nil {
		p, err = v.Read.Person(l.MemberID)
	}
	var m store.Membership
	if err == nil {
		m, err = v.Read.Membership(l.GroupID, l.MemberID)
	}
	if err == nil && (!p.External || signed && made.Before(m.AddedAt.Truncate(time.Second))) { // has an account by now, or came anew
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		v.Hush()
		err = errNoLink
	}
	return l, g, p, err
}

// Own describes somebody's own part in a group to whoever holds the secret of a link. It changes
// nothing.
func (s *Service) Own(ctx context.Context, secret string) (api.OwnPart, error) {
	v := s.k.View(ctx, workspace.Actor{})
	_, g, p, err := s.own(v, secret)
	if err != nil {
		return api.OwnPart{}, err
	}
	return part(v, &g, p)
}

func part(v *workspace.View, g *store.Group, p store.Person) (api.OwnPart, error) {
	return joining.PartOf(v, g, p, oneself(p))
}

// oneself is somebody without an account as the core decides about their going.
func oneself(p store.Person) admission.Member {
	return admission.Member{Name: p.Name, Kind: admission.Outsider, Role: expand.Member}
}

// Unsubscribe ends the mail of a group to whoever holds the secret of a link, as mail programs ask for by one click (RFC 8058): they
// leave where they may by themselves, else its mail reaches them no more. Once is as good as many times: a link that the workspace
// signed, of a membership that is over, says that they are out, and nothing of the group.
func (s *Service) Unsubscribe(ctx context.Context, by workspace.Actor, secret string) (api.OwnPart, error) {
	is, err := s.Own(ctx, secret)
	if workspace.IsKind(err, workspace.NotFound) {
		v := s.k.View(ctx, workspace.Actor{})
		code, wrong := s.k.MailKey(ctx, member.OwnPurpose)
		if _, _, _, signed := member.ReadOwn(code, secret, v.Now()); wrong == nil && signed {
			return api.OwnPart{State: "out"}, nil
		}
	}
	if err != nil || is.State != "in" || is.Delivery == "none" && is.Leaving != "free" {
		return is, err
	}
	do := "none"
	if is.Leaving == "free" {
		do = "leave"
	}
	return s.ChangeOwn(ctx, by, secret, api.OwnChange{Do: do})
}

// ChangeOwn changes somebody's own part in a group, as whoever holds the secret of a link.
func (s *Service) ChangeOwn(ctx context.Context, by workspace.Actor, secret string, n api.OwnChange) (api.OwnPart, error) {
	v := s.k.View(ctx, workspace.Actor{})
	l, _, p, err := s.own(v, secret)
	if err != nil {
		return api.OwnPart{}, err
	}
	as := workspace.Actor{Person: p, Via: "link", RequestID: by.RequestID, Preview: by.Preview, Report: by.Report}
	var out api.OwnPart
	if n.Do == "resume" {
		err := s.k.Do(ctx, as, func(c *workspace.Change) error { return pause.ResumeOwn(c, p.ID) })
		if err != nil {
			return out, err
		}
		return s.Own(ctx, secret)
	}
	err = s.k.Do(ctx, as, func(c *workspace.Change) error {
		g, err := c.Tx.LockGroup(l.GroupID)
		if errors.Is(err, store.ErrNotFound) {
			return errNoLink
		} else if err != nil {
			return err
		}
		held := workspace.Hold(g)
		if err := c.Alive(&g); err != nil {
			return err
		}
		if n.Do == "leave" {
			_, err = joining.Go(c, held, oneself(p), "")
		} else {
			c.Says(map[string]string{"each": "Each message of " + g.Name + " reaches you.", "digest": "The messages of " + g.Name + " of a day reach you together.",
				"conversations": "Messages of " + g.Name + " reach you in conversations that you take part in.", "none": "No mail of " + g.Name + " reaches you."}[n.Do])
			err = member.Deliver(c, held, p.ID, n.Do)
		}
		if err == nil {
			out, err = part(&c.View, &held.Group.Group, p)
		}
		if n.Do == "leave" && out.State == "in" {
			out.Says = c.Report.Says
		}
		return err
	})
	return out, err
}
