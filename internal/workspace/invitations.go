package workspace

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
)

// linkDays is for how long invitations can be answered, and links used where nothing
// else is said.
const linkDays = 14

// newSecret returns the secret of a link and what is kept of it.
func newSecret() (secret string, hash []byte) {
	b := make([]byte, 24)
	rand.Read(b)
	secret = base64.RawURLEncoding.EncodeToString(b)
	return secret, hashOf(secret)
}

func hashOf(secret string) []byte {
	sum := sha256.Sum256([]byte(secret))
	return sum[:]
}

// invite asks the people of results whether they want to be in g, which is locked. An
// invitation that is open to one of them is replaced.
func (w *Workspace) invite(ctx context.Context, t *store.Store, a Actor, g *store.Group, results []result) error {
	if err := w.markMembers(ctx, t, g.ID, results); err != nil {
		return err
	}
	now := w.now(ctx)
	var rows []store.Invitation
	var letters []letter
	var keys []string
	changes := changeList{}
	for i := range results {
		r := &results[i]
		if !r.ok() {
			continue
		}
		if r.kind == store.KindGroup {
			r.refuse("group", "A group can't be invited. Put it in directly.")
			continue
		}
		if len(rows) == maxInvited {
			return wrong("people", nil, fmt.Sprintf("At most %d people can be invited at once. Split the list.", maxInvited))
		}
		secret, hash := newSecret()
		key := strings.ToLower(r.Address)
		rows = append(rows, store.Invitation{ID: store.NewID(), Hash: hash, GroupID: g.ID, Address: r.Address, AddrKey: key, Role: r.role, State: store.Undecided,
			MadeBy: a.String(), MadeAt: now, ExpiresAt: now.AddDate(0, 0, linkDays)})
		lang := languageOf(g.Language)
		letters = append(letters, w.letter(letterInvitation, *g, "/invitations/"+secret, map[string]string{"by": a.name(), "role": lang.roles[r.role.String()], "date": lang.date(now.AddDate(0, 0, linkDays))}))
		keys = append(keys, key)
		changes.add(r.Address, nil, "invited as "+r.role.String())
		r.Outcome = "invited"
	}
	if len(rows) == 0 {
		return nil
	}
	if err := t.CallBackInvitations(ctx, g.ID, keys, now); err != nil {
		return err
	}
	if err := t.AddInvitations(ctx, rows); err != nil {
		return err
	}
	for i, l := range letters {
		if err := w.send(ctx, t, g, []string{rows[i].Address}, l); err != nil {
			return err
		}
	}
	return record(ctx, t, a, now, "people.invite", g, g.Address, changes.list())
}

// Invitations lists the open invitations of a group, newest first.
func (w *Workspace) Invitations(ctx context.Context, a Actor, ref, cursor string, limit int) (api.Page[api.Invitation], error) {
	none := api.Page[api.Invitation]{}
	g, _, err := w.findFor(ctx, a, manageLinks, ref)
	if err != nil {
		return none, err
	}
	after, err := store.ParseCursor(cursor)
	if err != nil {
		return none, wrong("cursor", cursor, says(err)+".")
	}
	p, err := w.store.Invitations(ctx, g.ID, after, limit)
	return pageOf(p, func(i store.Invitation) api.Invitation {
		return api.Invitation{ID: i.ID.String(), Address: i.Address, Role: i.Role.String(), MadeBy: i.MadeBy, MadeAt: i.MadeAt, ExpiresAt: i.ExpiresAt}
	}), err
}

// CallBackInvitation ends an open invitation by the address that it was sent to.
func (w *Workspace) CallBackInvitation(ctx context.Context, a Actor, ref, address string) error {
	g, _, err := w.findFor(ctx, a, manageLinks, ref)
	if err != nil {
		return err
	}
	addr, err := parseAddress("address", address)
	if err != nil {
		return err
	}
	return w.store.Tx(ctx, func(t *store.Store) error {
		if err := t.CallBackInvitations(ctx, g.ID, []string{addr.Key()}, w.now(ctx)); err != nil {
			return err
		}
		return record(ctx, t, a, w.now(ctx), "invitation.call_back", &g, g.Address, []api.FieldChange{{Field: addr.Key(), From: "invited", To: store.CalledBack}})
	})
}

var errNoLink = fail(NotFound, "This link leads nowhere: it was never given out, or was replaced by a newer one.")

// offer describes a group to whoever holds a link into it.
func (w *Workspace) offer(ctx context.Context, kind string, id uuid.UUID) (api.Offer, store.Group, error) {
	g, err := w.store.Group(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return api.Offer{}, g, errNoLink
	} else if err != nil {
		return api.Offer{}, g, err
	}
	owners, err := w.store.Owners(ctx, []uuid.UUID{g.ID})
	o := api.Offer{Kind: kind, Group: api.Name{Name: g.Name, Address: g.Address}, Description: g.Description, Sentence: g.Policy().Sentence(), Owners: []string{}, State: "open"}
	for _, x := range owners[g.ID] {
		o.Owners = append(o.Owners, x.Name)
	}
	if w.alive(ctx, &g) != nil {
		o.State, o.Says = "ended", fmt.Sprintf("The group %s has ended.", g.Name)
	}
	return o, g, err
}

// Invitation describes an invitation to whoever holds its secret. It changes nothing.
func (w *Workspace) Invitation(ctx context.Context, secret string) (api.Offer, error) {
	i, err := w.store.InvitationByHash(ctx, hashOf(secret))
	if errors.Is(err, store.ErrNotFound) {
		return api.Offer{}, errNoLink
	} else if err != nil {
		return api.Offer{}, err
	}
	o, _, err := w.offer(ctx, "invitation", i.GroupID)
	o.For, o.By, o.ExpiresAt = i.Address, i.MadeBy, i.ExpiresAt
	switch {
	case i.State != store.Undecided:
		o.State, o.Says = i.State, fmt.Sprintf("This invitation was %s.", i.State)
	case !w.now(ctx).Before(i.ExpiresAt) && o.State == "open":
		o.State, o.Says = "expired", fmt.Sprintf("This invitation ended on %s. Ask for a new one.", english.date(i.ExpiresAt))
	}
	return o, err
}

// AnswerInvitation accepts or declines an invitation on behalf of the address that
// it was sent to: whoever holds its secret has read that address's mail.
func (w *Workspace) AnswerInvitation(ctx context.Context, a Actor, secret string, answer api.Answer) (api.Offer, error) {
	if answer.Answer != "accept" && answer.Answer != "decline" {
		return api.Offer{}, wrong("answer", answer.Answer, fmt.Sprintf("There is no answer %q: choose accept or decline.", answer.Answer))
	}
	err := w.store.Tx(ctx, func(t *store.Store) error {
		i, err := t.InvitationByHash(ctx, hashOf(secret))
		if errors.Is(err, store.ErrNotFound) {
			return errNoLink
		} else if err != nil {
			return err
		}
		now := w.now(ctx)
		switch {
		case i.State != store.Undecided:
			return fail(Conflict, "This invitation was %s already.", i.State)
		case !now.Before(i.ExpiresAt):
			return fail(Conflict, "This invitation ended on %s. Ask for a new one.", english.date(i.ExpiresAt))
		}
		g, err := t.LockGroup(ctx, i.GroupID)
		if err != nil {
			return err
		}
		p, err := t.PersonByKey(ctx, i.AddrKey)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		as := Actor{Person: p, Via: "link", RequestID: a.RequestID}
		if p.ID == uuid.Nil {
			as.Person = store.Person{Address: i.Address, AddrKey: i.AddrKey, Name: i.Address, External: true}
		}
		i.AnsweredAt, i.State = &now, store.Declined
		if answer.Answer == "accept" {
			i.State = store.Accepted
			if err := w.accept(ctx, t, as, &g, i); err != nil {
				return err
			}
		}
		if err := t.SaveInvitation(ctx, i); err != nil {
			return err
		}
		return record(ctx, t, as, now, "invitation."+answer.Answer, &g, g.Address, []api.FieldChange{{Field: i.Address, From: "invited", To: i.State}})
	})
	if err != nil {
		return api.Offer{}, err
	}
	return w.Invitation(ctx, secret)
}

// accept puts whoever was invited into g, where they still can be in it.
func (w *Workspace) accept(ctx context.Context, t *store.Store, as Actor, g *store.Group, i store.Invitation) error {
	settled, err := t.StandingOf(ctx, g.ID, i.AddrKey)
	if err != nil {
		return err
	}
	if err := w.alive(ctx, g); err != nil {
		return fail(Conflict, "The group %s has ended.", g.Name)
	}
	switch {
	case settled.Standing == policy.Barred:
		return fail(Conflict, "You can't join %s: you are barred from it.", g.Name)
	case !as.Person.External && !as.Person.Active:
		return fail(Conflict, "%s is marked as having left the organisation, so can't join %s. An administrator can mark them as back.", i.Address, g.Name)
	case as.Person.External && g.Externals == policy.ExternalsBarred:
		return fail(Conflict, "%s no longer takes people from outside. Write to its owners at %s.", g.Name, ownersOf(g))
	}
	return w.join(ctx, t, as, g, oneself(as.Person, i.Role), entrance{action: "people.join", quiet: true})
}

// CreateJoinLink makes a link by which people of the workspace enter a group.
func (w *Workspace) CreateJoinLink(ctx context.Context, a Actor, ref string, n api.NewJoinLink) (api.JoinLink, error) {
	g, _, err := w.findFor(ctx, a, manageLinks, ref)
	if err != nil {
		return api.JoinLink{}, err
	}
	if err := w.alive(ctx, &g); err != nil {
		return api.JoinLink{}, err
	}
	if n.Days == 0 {
		n.Days = linkDays
	}
	secret, hash := newSecret()
	now := w.now(ctx)
	l := store.JoinLink{ID: store.NewID(), Hash: hash, GroupID: g.ID, Note: strings.TrimSpace(n.Note), Most: n.Most, MadeBy: a.String(), MadeAt: now, ExpiresAt: now.AddDate(0, 0, n.Days)}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		if err := t.AddJoinLink(ctx, l); err != nil {
			return err
		}
		return record(ctx, t, a, now, "link.create", &g, g.Address, []api.FieldChange{{Field: "expires_at", To: date(l.ExpiresAt)}, {Field: "most", To: l.Most}})
	})
	out := shapeLink(l)
	out.URL = strings.TrimSuffix(w.o.PublicURL, "/") + "/join/" + secret
	return out, err
}

func shapeLink(l store.JoinLink) api.JoinLink {
	return api.JoinLink{ID: l.ID.String(), Note: l.Note, Uses: l.Uses, Most: l.Most, MadeBy: l.MadeBy, MadeAt: l.MadeAt, ExpiresAt: l.ExpiresAt}
}

// JoinLinks lists the links of a group that can be used.
func (w *Workspace) JoinLinks(ctx context.Context, a Actor, ref string) ([]api.JoinLink, error) {
	g, _, err := w.findFor(ctx, a, manageLinks, ref)
	if err != nil {
		return nil, err
	}
	rows, err := w.store.JoinLinks(ctx, g.ID, w.now(ctx))
	out := make([]api.JoinLink, len(rows))
	for i, l := range rows {
		out[i] = shapeLink(l)
	}
	return out, err
}

// CallBackJoinLink ends a link at once.
func (w *Workspace) CallBackJoinLink(ctx context.Context, a Actor, ref, id string) error {
	g, _, err := w.findFor(ctx, a, manageLinks, ref)
	if err != nil {
		return err
	}
	none := fail(NotFound, "%s has no link %q.", g.Name, cut(id, 50))
	u, err := uuid.Parse(id)
	if err != nil {
		return none
	}
	return w.store.Tx(ctx, func(t *store.Store) error {
		l, err := t.JoinLink(ctx, g.ID, u)
		if errors.Is(err, store.ErrNotFound) || err == nil && l.EndedAt != nil {
			return none
		} else if err != nil {
			return err
		}
		now := w.now(ctx)
		l.EndedAt = &now
		if err := t.SaveJoinLink(ctx, l); err != nil {
			return err
		}
		return record(ctx, t, a, now, "link.call_back", &g, g.Address, []api.FieldChange{{Field: "uses", To: l.Uses}})
	})
}

// linkState says whether a link can be used.
func linkState(l store.JoinLink, now time.Time) (state, says string) {
	switch {
	case l.EndedAt != nil:
		return store.CalledBack, "This link was called back."
	case !now.Before(l.ExpiresAt):
		return "expired", fmt.Sprintf("This link ended on %s. Ask for a new one.", english.date(l.ExpiresAt))
	case l.Most > 0 && l.Uses >= l.Most:
		return "used up", fmt.Sprintf("This link was good for %d people, and as many have used it.", l.Most)
	}
	return "open", ""
}

// ShowJoinLink describes a link to somebody of the workspace who holds it. It changes nothing.
func (w *Workspace) ShowJoinLink(ctx context.Context, a Actor, secret string) (api.Offer, error) {
	if err := signedIn(a); err != nil {
		return api.Offer{}, err
	}
	l, err := w.store.JoinLinkByHash(ctx, hashOf(secret))
	if errors.Is(err, store.ErrNotFound) {
		return api.Offer{}, errNoLink
	} else if err != nil {
		return api.Offer{}, err
	}
	o, _, err := w.offer(ctx, "link", l.GroupID)
	o.By, o.ExpiresAt = l.MadeBy, l.ExpiresAt
	if o.State == "open" {
		o.State, o.Says = linkState(l, w.now(ctx))
	}
	return o, err
}

// UseJoinLink puts the actor into the group of a link.
func (w *Workspace) UseJoinLink(ctx context.Context, a Actor, secret string) (api.Wished, error) {
	if err := signedIn(a); err != nil {
		return api.Wished{}, err
	}
	var g store.Group
	err := w.store.Tx(ctx, func(t *store.Store) error {
		l, err := t.JoinLinkByHash(ctx, hashOf(secret))
		if errors.Is(err, store.ErrNotFound) {
			return errNoLink
		} else if err != nil {
			return err
		}
		if state, says := linkState(l, w.now(ctx)); state != "open" {
			return fail(Conflict, "%s", says)
		}
		if g, err = t.LockGroup(ctx, l.GroupID); err != nil {
			return err
		}
		in, err := t.MemberIDs(ctx, g.ID, []uuid.UUID{a.Person.ID})
		if err != nil {
			return err
		}
		if in[a.Person.ID] {
			return fail(Conflict, "You are in %s already.", g.Name)
		}
		if err := w.accept(ctx, t, a, &g, store.Invitation{AddrKey: a.Person.AddrKey, Role: expand.Member}); err != nil {
			return err
		}
		l.Uses++
		return t.SaveJoinLink(ctx, l)
	})
	return api.Wished{Outcome: "done", Says: fmt.Sprintf("You are in %s.", g.Name)}, err
}
