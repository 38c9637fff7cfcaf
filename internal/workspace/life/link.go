package life

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

var errNoLink = workspace.Fail(workspace.NotFound, "This link leads nowhere: its time is over. A newer letter has a newer link; or sign in.")

// told is a link of a letter: to whom it was written, and about which groups.
func (s *Service) told(v *workspace.View, secret string) (l store.NoticeLink, ids []uuid.UUID, err error) {
	l, ids, err = v.Read.NoticeLink(member.HashOf(secret))
	if err == nil && !l.ExpiresAt.After(v.Now()) {
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		v.Hush()
		err = errNoLink
	}
	return l, ids, err
}

// Told describes the groups that a letter told of to whoever holds its link. It changes nothing.
func (s *Service) Told(ctx context.Context, secret string) (api.Told, error) {
	v := s.k.View(ctx, workspace.Actor{})
	l, ids, err := s.told(v, secret)
	if err != nil {
		return api.Told{}, err
	}
	out, err := toldGroups(v, l.Recipient, ids)
	if err == nil && len(out.Groups) == 0 { // none of them is theirs any more
		v.Hush()
		err = errNoLink
	}
	return out, err
}

func toldGroups(v *workspace.View, recipient string, ids []uuid.UUID) (api.Told, error) {
	out := api.Told{Recipient: recipient, Groups: []api.ToldGroup{}}
	groups, err := v.Read.GroupsByID(ids)
	if err != nil {
		return out, err
	}
	to, err := v.RecipientsOf(ids)
	if err != nil {
		return out, err
	}
	t, err := v.Terms()
	if err != nil {
		return out, err
	}
	for _, id := range ids {
		g, there := groups[id]
		if !there || !reads(to[id], recipient) {
			continue // it is none of theirs any more
		}
		if err := v.Read.Size(&g); err != nil {
			return out, err
		}
		life := g.Life()
		x := api.ToldGroup{ID: id.String(), Name: g.Name, Address: g.Address, Description: g.Description, People: g.People, State: string(life.State(v.Now()))}
		if !life.Expires.IsZero() && g.EndedAt == nil {
			on, left := t.Date(life.Expires), t.Life.Days(v.Now(), life.Expires)
			x.ExpiresOn, x.DaysLeft = &on, &left
		}
		switch {
		case v.Ended(&g):
			x.Says = "It has ended. Sign in to restore it."
			if !life.Ended.IsZero() {
				x.Until = t.Date(t.Life.PurgeAt(life))
			}
		case life.Expires.IsZero():
			x.Says = "It has no end."
		default:
			x.Renewable = true
		}
		out.Groups = append(out.Groups, x)
	}
	slices.SortFunc(out.Groups, func(a, b api.ToldGroup) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

func reads(to []string, recipient string) bool {
	return slices.ContainsFunc(to, func(x string) bool { return strings.EqualFold(x, recipient) })
}

// RenewTold renews groups by the link of a letter that told of them: those who are told of a group's end may give it
// more time, without signing in.
func (s *Service) RenewTold(ctx context.Context, by workspace.Actor, secret string, n api.ToldRenewal) (api.Told, error) {
	v := s.k.View(ctx, workspace.Actor{})
	l, ids, err := s.told(v, secret)
	if err != nil {
		return api.Told{}, err
	}
	var wanted []uuid.UUID
	for i, x := range n.Groups {
		id, err := uuid.Parse(x)
		if err != nil || !slices.Contains(ids, id) {
			return api.Told{}, workspace.Wrong(fmt.Sprintf("groups[%d]", i), workspace.Cut(x, 60), "This letter told of no group %q.", workspace.Cut(x, 60))
		}
		if !slices.Contains(wanted, id) {
			wanted = append(wanted, id)
		}
	}
	as := workspace.Actor{Person: store.Person{Name: l.Recipient, Address: l.Recipient}, Via: "link", RequestID: by.RequestID, Preview: by.Preview, Report: by.Report}
	if p, err := v.Read.PersonByKey(strings.ToLower(l.Recipient)); err == nil {
		as.Person = p
	} else if !errors.Is(err, store.ErrNotFound) {
		return api.Told{}, err
	}
	var out api.Told
	err = s.k.Do(ctx, as, func(c *workspace.Change) error {
		groups, err := c.Tx.LockGroups(wanted)
		if err != nil {
			return err
		}
		to, err := c.RecipientsOf(wanted)
		if err != nil {
			return err
		}
		renewed := 0
		for _, id := range wanted {
			g, there := groups[id]
			if !there || !reads(to[g.ID], l.Recipient) {
				continue
			}
			if c.Ended(&g) || g.Life().Expires.IsZero() {
				continue // the answer says so
			}
			if err := Renew(c, n.Reason, workspace.Hold(g)); err != nil {
				return err
			}
			renewed++
		}
		if renewed == 0 {
			return workspace.Fail(workspace.Conflict, "None of these groups can be renewed by this link any more.")
		}
		c.Says(fmt.Sprintf("%s renewed.", number.Of(renewed, "group")))
		out, err = toldGroups(&c.View, l.Recipient, ids)
		return err
	})
	return out, err
}

// CaretakerAsked says to whoever holds the link of a letter what they are asked.
func (s *Service) CaretakerAsked(ctx context.Context, secret string) (api.CaretakerAsked, error) {
	v := s.k.View(ctx, workspace.Actor{})
	p, err := s.proof(v, secret)
	return api.CaretakerAsked{Address: p.AddrKey, Agreed: p.ConfirmedAt != nil}, err
}

func (s *Service) proof(v *workspace.View, secret string) (store.CaretakerProof, error) {
	p, err := v.Read.CaretakerProof(member.HashOf(secret))
	if err == nil {
		t, failed := v.Terms()
		if failed != nil {
			return p, failed
		}
		if !slices.ContainsFunc(t.Caretakers, func(c store.Caretaker) bool { return strings.EqualFold(c.Address, p.AddrKey) }) {
			err = store.ErrNotFound // they are asked no more
		}
	}
	if errors.Is(err, store.ErrNotFound) {
		v.Hush()
		err = workspace.Fail(workspace.NotFound, "This link leads nowhere: you are not asked any more.")
	}
	return p, err
}

// AgreeToCare records that somebody outside takes care of groups without owners.
func (s *Service) AgreeToCare(ctx context.Context, by workspace.Actor, secret string) (api.CaretakerAsked, error) {
	p, err := s.proof(s.k.View(ctx, workspace.Actor{}), secret)
	if err != nil || p.ConfirmedAt != nil {
		return api.CaretakerAsked{Address: p.AddrKey, Agreed: p.ConfirmedAt != nil}, err
	}
	as := workspace.Actor{Person: store.Person{Name: p.AddrKey, Address: p.AddrKey}, Via: "link", RequestID: by.RequestID}
	err = s.k.Do(ctx, as, func(c *workspace.Change) error {
		var t store.Terms
		if _, err := c.Tx.RLockSetting(workspace.TermsSetting, &t); err != nil {
			return err
		}
		now := c.Now()
		p.ConfirmedAt = &now
		if err := c.Tx.SaveCaretakerProof(p); err != nil {
			return err
		}
		return c.Record(event.CaretakerAgreed{Address: p.AddrKey}, nil)
	})
	return api.CaretakerAsked{Address: p.AddrKey, Agreed: true}, err
}
