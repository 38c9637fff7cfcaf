package workspace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/store"
)

// GroupList says which groups to list.
type GroupList struct {
	Q      string
	States []string
	Scope  string // "" for all that the actor can find, mine, owned, joinable
	Sort   string // name, people, post, expires, created; a leading - turns it round
	Cursor string
	Limit  int
}

// Groups lists the groups that the actor can find.
func (w *Workspace) Groups(ctx context.Context, a Actor, l GroupList) (api.Page[api.Group], error) {
	none := api.Page[api.Group]{}
	if err := signedIn(a); err != nil {
		return none, err
	}
	e, err := w.shownExpiry(ctx)
	if err != nil {
		return none, err
	}
	now := w.now(ctx)
	q := store.GroupQuery{Q: l.Q, Now: now, DueUntil: e.policy.Day(now).AddDate(0, 0, e.policy.First()), Limit: l.Limit}
	for _, s := range l.States {
		if !slices.Contains(lifecycle.States, lifecycle.State(s)) {
			return none, wrong("state", s, fmt.Sprintf("There is no state %q: choose active, due, lapsed, retired.", s))
		}
		q.States = append(q.States, lifecycle.State(s))
	}
	switch l.Scope {
	case "":
	case "mine":
		q.Mine, q.Role = a.Person.ID, int8(expand.Member)
	case "owned":
		q.Mine, q.Role = a.Person.ID, int8(expand.Owner)
	case "joinable":
		q.Joinable = a.Person.ID
	default:
		return none, wrong("scope", l.Scope, fmt.Sprintf("There is no scope %q: choose mine, owned, joinable, or leave it out.", l.Scope))
	}
	name, desc := strings.CutPrefix(l.Sort, "-")
	q.Sort, q.Desc = store.GroupSort(name), desc
	if name == "" {
		q.Sort = store.ByName
	}
	if !slices.Contains([]store.GroupSort{store.ByName, store.ByPeople, store.ByPost, store.ByExpires, store.ByCreated}, q.Sort) {
		return none, wrong("sort", l.Sort, fmt.Sprintf("The list can't be sorted by %q: choose name, people, post, expires, created.", name))
	}
	if q.After, err = store.ParseCursor(l.Cursor); err != nil {
		return none, wrong("cursor", l.Cursor, says(err)+".")
	}
	if !a.readsAll() {
		q.Viewer = a.Person.ID
	}
	page, err := w.store.Groups(ctx, q)
	if err != nil {
		return none, err
	}
	return w.shapePage(ctx, a, page, e.policy, now)
}

// shapePage shapes groups with what belongs to them, read for all at once.
func (w *Workspace) shapePage(ctx context.Context, a Actor, page store.Page[store.Group], p lifecycle.Policy, now time.Time) (api.Page[api.Group], error) {
	around, err := w.store.Around(ctx, a.Person.ID, page.Items)
	if err != nil {
		return api.Page[api.Group]{}, err
	}
	return pageOf(page, func(g store.Group) api.Group {
		return shape(g, around[g.ID], p, now)
	}), nil
}

func shape(g store.Group, around store.Around, p lifecycle.Policy, now time.Time) api.Group {
	life, state := g.Life(), p.State(g.Life(), now)
	if state == lifecycle.Lapsed && life.Ended.IsZero() {
		life.Ended = life.Expires // its time is over; nobody has come by to say so yet
	}
	half := policyHalf(g.Policy())
	out := api.Group{
		ID: g.ID.String(), Name: g.Name, Address: g.Address, Aliases: around.Aliases, Description: g.Description, Language: g.Language,
		Delivery: delivery(g.DefaultMail), Welcome: g.Welcome, ByRule: g.Ruled, State: string(state), Traits: []string{}, Privacy: half.Privacy, Policy: half.Policy, Join: half.Join, Leave: half.Leave,
		Externals: half.Externals, Hold: half.Hold, Suspicious: half.Suspicious, Sentence: g.Policy().Sentence(), Owners: []api.Name{},
		Counts: api.Counts{Owners: g.Owners, Moderators: g.Moderators, Members: g.Members, External: g.ExternalMembers, Nested: g.Nested},
		Term:   api.Term{RenewedAt: g.RenewedAt, Chosen: g.Chosen}, MyRole: "none", CreatedAt: g.CreatedAt, Version: g.Version,
	}
	if around.Aliases == nil {
		out.Aliases = []string{}
	}
	if g.Traits != "" {
		out.Traits = strings.Split(g.Traits, ",")
	}
	for _, o := range around.Owners {
		out.Owners = append(out.Owners, api.Name{Name: o.Name, Address: o.Address})
	}
	if around.Role != 0 {
		out.MyRole = around.Role.String()
	}
	if g.Standing != "" {
		out.Term.Standing = &api.Standing{Reason: g.Standing, By: g.StandingBy}
	}
	switch {
	case !life.Ended.IsZero():
		till := p.PurgeAt(life)
		out.Term.EndedAt, out.Term.RestorableTill = &life.Ended, &till
	case !life.Expires.IsZero():
		days := p.Days(now, life.Expires)
		out.Term.ExpiresAt, out.Term.DaysLeft = &life.Expires, &days
	}
	return out
}

// find returns the group that ref, an identifier or an address, names.
func (w *Workspace) find(ctx context.Context, ref string) (store.Group, error) {
	var g store.Group
	id, err := uuid.Parse(ref)
	if err == nil && len(ref) == 36 {
		g, err = w.store.Group(ctx, id)
	} else {
		var a mailaddr.Address
		if a, err = mailaddr.Parse(ref); err != nil {
			return g, errNoGroup(ref)
		}
		g, err = w.store.GroupByAddress(ctx, a.Key())
	}
	if errors.Is(err, store.ErrNotFound) {
		return g, errNoGroup(ref)
	}
	return g, err
}

// findFor returns the group that ref names when the actor may do something to it.
func (w *Workspace) findFor(ctx context.Context, a Actor, do action, ref string) (store.Group, standing, error) {
	if err := signedIn(a); err != nil {
		return store.Group{}, standing{}, err
	}
	g, err := w.find(ctx, ref)
	if err != nil {
		return g, standing{}, err
	}
	s, err := w.allowOn(ctx, a, do, &g)
	var e *Error
	if errors.As(err, &e) && e.Kind == NotFound {
		err = errNoGroup(ref) // the words of a group that is not there, to the letter
	}
	return g, s, err
}

// Group returns a group.
func (w *Workspace) Group(ctx context.Context, a Actor, ref string) (api.Group, error) {
	g, s, err := w.findFor(ctx, a, readGroup, ref)
	if err != nil {
		return api.Group{}, err
	}
	return w.shapeOne(ctx, a, g, s)
}

func (w *Workspace) shapeOne(ctx context.Context, a Actor, g store.Group, s standing) (api.Group, error) {
	e, err := w.expiry(ctx)
	if err != nil {
		return api.Group{}, err
	}
	p, err := w.shapePage(ctx, a, store.Page[store.Group]{Items: []store.Group{g}}, e.policy, w.now(ctx))
	if err != nil {
		return api.Group{}, err
	}
	p.Items[0].May = a.groupMay(&g, s)
	return p.Items[0], nil
}

// checkName returns what is wrong with a name that people read, or "".
func checkName(name string) string {
	switch {
	case strings.TrimSpace(name) == "":
		return "The name is empty. Write what people will call it."
	case len([]rune(name)) > 200:
		return fmt.Sprintf("The name has %d characters; 200 is the most.", len([]rune(name)))
	case strings.ContainsFunc(name, unicode.IsControl):
		return "The name has a line break or another control character in it."
	}
	return ""
}

// date writes a moment for the history, "never" for the zero time.
func date(t time.Time) string {
	if t.IsZero() || !t.Before(store.Forever) {
		return "never"
	}
	return t.Format(time.RFC3339)
}

// update is the way in which a group is changed: check the actor, lock the group,
// check its version, change it, save it with the history. A change that changes
// nothing writes nothing.
func (w *Workspace) update(ctx context.Context, a Actor, do action, ref string, version int, name string,
	change func(*store.Store, *store.Group, expiry, time.Time) ([]api.FieldChange, error)) (api.Group, error) {
	found, s, err := w.findFor(ctx, a, do, ref)
	if err != nil {
		return api.Group{}, err
	}
	e, err := w.expiry(ctx)
	if err != nil {
		return api.Group{}, err
	}
	var g store.Group
	err = w.store.Tx(ctx, func(t *store.Store) error {
		if g, err = t.LockGroup(ctx, found.ID); err != nil {
			return err
		}
		if version > 0 && version != g.Version {
			return fail(Stale, "Somebody changed %s since you read it (version %d, now %d). Read it again, then make your change.", g.Name, version, g.Version)
		}
		now := w.now(ctx)
		before := g.Name
		changes, err := change(t, &g, e, now)
		if err != nil || len(changes) == 0 {
			return err
		}
		if err := t.SaveGroup(ctx, &g, g.Name != before); err != nil {
			return err
		}
		return record(ctx, t, a, now, name, &g, g.Address, changes)
	})
	if err != nil {
		return api.Group{}, err
	}
	return w.shapeOne(ctx, a, g, s)
}

// ended is the error for a change that only a living group takes.
func ended(g *store.Group) error {
	return fail(Conflict, "%s has ended. Restore it first.", g.Name)
}

// Renew starts a group's term anew.
func (w *Workspace) Renew(ctx context.Context, a Actor, ref string) (api.Group, error) {
	return w.update(ctx, a, renewGroup, ref, 0, "group.renew", func(_ *store.Store, g *store.Group, e expiry, now time.Time) ([]api.FieldChange, error) {
		if e.policy.State(g.Life(), now).Ended() {
			return nil, ended(g)
		}
		from, was := g.RenewedAt, g.ExpiresAt
		g.RenewedAt = now
		g.SetExpires(e.policy.Expiry(g.Life(), now))
		return []api.FieldChange{{Field: "renewed_at", From: date(from), To: date(now)}, {Field: "expires_at", From: date(was), To: date(g.ExpiresAt)}}, nil
	})
}

// Retire ends a group by hand. It can be restored for the recovery window.
func (w *Workspace) Retire(ctx context.Context, a Actor, ref string, version int) (api.Group, error) {
	return w.update(ctx, a, retireGroup, ref, version, "group.retire", func(_ *store.Store, g *store.Group, e expiry, now time.Time) ([]api.FieldChange, error) {
		if e.policy.State(g.Life(), now).Ended() {
			return nil, fail(Conflict, "%s has ended already.", g.Name)
		}
		g.EndedAt, g.Retired = &now, true
		return []api.FieldChange{{Field: "state", From: "active", To: "retired"}}, nil
	})
}

// Restore brings a group that ended back, with everything in it, and renews it.
func (w *Workspace) Restore(ctx context.Context, a Actor, ref string) (api.Group, error) {
	g, err := w.update(ctx, a, restoreGroup, ref, 0, "group.restore", func(_ *store.Store, g *store.Group, e expiry, now time.Time) ([]api.FieldChange, error) {
		state := e.policy.State(g.Life(), now)
		if !state.Ended() {
			return nil, fail(Conflict, "%s has not ended: there is nothing to restore.", g.Name)
		}
		g.EndedAt, g.Retired, g.RenewedAt = nil, false, now
		g.SetExpires(e.policy.Expiry(g.Life(), now))
		return []api.FieldChange{{Field: "state", From: string(state), To: "active"}, {Field: "expires_at", To: date(g.ExpiresAt)}}, nil
	})
	if err != nil || !g.ByRule {
		return g, err
	}
	if err := w.restoreRule(ctx, a, g.ID); err != nil { // people's attributes may have changed since
		return g, err
	}
	return w.Group(ctx, a, g.ID)
}
