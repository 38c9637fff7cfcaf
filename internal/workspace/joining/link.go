package joining

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// maxOpenLinks is how many links into a group can be open at a time.
const maxOpenLinks = 50

// CreateLink makes a link by which people of the workspace enter a group.
func (s *Service) CreateLink(ctx context.Context, by workspace.Actor, ref string, n api.NewJoinLink) (api.JoinLink, error) {
	if n.Days == 0 {
		n.Days = member.LinkDays
	}
	secret, hash := member.NewSecret()
	var out api.JoinLink
	err := workspace.OnGroupOnce(ctx, s.k, by, ref, access.ManageLinks, nil, n, &out, func(c *workspace.Change, g *workspace.Locked) error {
		if err := c.Alive(&g.Group.Group); err != nil {
			return err
		}
		e, err := c.Terms()
		if err != nil {
			return err
		}
		open, err := c.Read.JoinLinks(g.ID, c.Now(), store.Cursor{}, 1)
		if err != nil {
			return err
		}
		if open.Total >= maxOpenLinks {
			return workspace.Fail(workspace.Conflict, "%s has %d open links, which is the most. Call one back first.", g.Name, open.Total)
		}
		l := store.JoinLink{ID: store.NewID(), Hash: hash, GroupID: g.ID, Note: strings.TrimSpace(n.Note), MaxUses: n.Max, MadeBy: c.By.String(), MadeAt: c.Now(), ExpiresAt: c.Now().AddDate(0, 0, n.Days)}
		out = shapeLink(&c.View, l)
		c.Says(fmt.Sprintf("A link into %s, good until %s.", g.Name, workspace.DateIn("en", l.ExpiresAt.In(e.Life.Zone))))
		if err := c.Tx.AddJoinLink(l); err != nil {
			return err
		}
		return c.Record(event.JoinLinkCreated{Note: l.Note, Until: e.Date(l.ExpiresAt), Max: l.MaxUses, Link: l.ID.String()}, &g.Group.Group)
	})
	if err == nil && fresh(hash, out, s.k.View(ctx, by)) {
		out.URL = s.k.View(ctx, by).Link("/join/" + secret)
	}
	return out, err
}

// fresh reports whether a link was made now: a repeated request is answered with the link
// that the first one made, whose secret is not kept.
func fresh(hash []byte, made api.JoinLink, v *workspace.View) bool {
	l, err := v.Read.JoinLinkByHash(hash)
	return err == nil && l.ID.String() == made.ID
}

func shapeLink(v *workspace.View, l store.JoinLink) api.JoinLink {
	return api.JoinLink{ID: l.ID.String(), Note: l.Note, Uses: l.Uses, Max: l.MaxUses, MadeBy: l.MadeBy, MadeAt: v.In(l.MadeAt), ExpiresAt: v.In(l.ExpiresAt)}
}

// Links lists the links of a group that can be used, newest first.
func (s *Service) Links(ctx context.Context, by workspace.Actor, ref, cursor string, limit int) (api.Page[api.JoinLink], error) {
	none := api.Page[api.JoinLink]{}
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.ManageLinks)
	if err != nil {
		return none, err
	}
	after, err := v.Cursor(cursor, "join links", g.ID)
	if err != nil {
		return none, err
	}
	p, err := v.Read.JoinLinks(g.ID, v.Now(), after, limit)
	return workspace.Page(p, func(l store.JoinLink) api.JoinLink { return shapeLink(v, l) }), err
}

// CallBackLink ends a link at once.
func (s *Service) CallBackLink(ctx context.Context, by workspace.Actor, ref, id string) error {
	return s.k.OnGroup(ctx, by, ref, access.ManageLinks, func(c *workspace.Change, g *workspace.Locked) error {
		none := workspace.Fail(workspace.NotFound, "%s has no link %q.", g.Name, workspace.Cut(id, 50))
		u, err := uuid.Parse(id)
		if err != nil {
			return none
		}
		l, err := c.Tx.LockJoinLink(g.ID, u)
		if errors.Is(err, store.ErrNotFound) || err == nil && l.EndedAt != nil {
			return none
		} else if err != nil {
			return err
		}
		now := c.Now()
		l.EndedAt = &now
		c.Says(fmt.Sprintf("The link into %s can't be used any more. Those who came in by it stay.", g.Name))
		if err := c.Tx.SaveJoinLink(l); err != nil {
			return err
		}
		return c.Record(event.JoinLinkCalledBack{Note: l.Note, Uses: l.Uses}, &g.Group.Group)
	})
}

// linkState says whether a link can be used.
func linkState(v *workspace.View, l store.JoinLink) (state, says string) {
	switch {
	case l.EndedAt != nil:
		return store.CalledBack, "This link was called back."
	case !v.Now().Before(l.ExpiresAt):
		return "expired", fmt.Sprintf("This link ended on %s. Ask for a new one.", workspace.DateIn("en", l.ExpiresAt.In(v.Zone())))
	case l.MaxUses > 0 && l.Uses >= l.MaxUses:
		return "used up", fmt.Sprintf("This link was good for %d people, and as many have used it.", l.MaxUses)
	}
	return "open", ""
}

// Link describes a link to somebody of the workspace who holds it. It changes nothing.
func (s *Service) Link(ctx context.Context, by workspace.Actor, secret string) (api.LinkPreview, error) {
	if err := by.SignedIn(); err != nil {
		return api.LinkPreview{}, err
	}
	v := s.k.View(ctx, by)
	l, err := v.Read.JoinLinkByHash(member.HashOf(secret))
	if errors.Is(err, store.ErrNotFound) {
		return api.LinkPreview{}, errNoLink
	} else if err != nil {
		return api.LinkPreview{}, err
	}
	o, err := preview(v, "link", l.GroupID)
	if err != nil {
		return o, err
	}
	o.By, o.ExpiresAt = l.MadeBy, v.In(l.ExpiresAt)
	if o.State == "open" {
		o.State, o.Says = linkState(v, l)
	}
	return closed(o, nil)
}

// UseLink puts the actor into the group of a link.
func (s *Service) UseLink(ctx context.Context, by workspace.Actor, secret string) (api.JoinResult, error) {
	if err := by.SignedIn(); err != nil {
		return api.JoinResult{}, err
	}
	found, err := s.k.View(ctx, by).Read.JoinLinkByHash(member.HashOf(secret))
	if errors.Is(err, store.ErrNotFound) {
		return api.JoinResult{}, errNoLink
	} else if err != nil {
		return api.JoinResult{}, err
	}
	var out api.JoinResult
	err = workspace.Once(ctx, s.k, by, found.ID, &out, func(c *workspace.Change) error {
		locked, err := c.Tx.LockGroup(found.GroupID)
		if errors.Is(err, store.ErrNotFound) {
			return errNoLink
		} else if err != nil {
			return err
		}
		g := workspace.Hold(locked)
		l, err := c.Tx.LockJoinLink(g.ID, found.ID)
		if err != nil {
			return err
		}
		if state, says := linkState(&c.View, l); state != "open" {
			return workspace.Fail(workspace.Conflict, "%s", says)
		}
		if err := c.RefreshActor(); err != nil {
			return err
		}
		if err := c.By.SignedIn(); err != nil {
			return err
		}
		_, results, err := admit(c, g, c.By.Person, admission.As{Role: expand.Member}, admission.ByLink)
		if err != nil {
			return err
		}
		out = done(c, "You are in %s.", g)
		l.Uses++
		if err := c.Tx.SaveJoinLink(l); err != nil {
			return err
		}
		return member.Join(c, g, results, member.Entrance{Fact: event.Joined{Way: "link"}, Quiet: true})
	})
	return out, err
}
