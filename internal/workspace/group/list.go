// Package group is groups: lists, one group, making and changing them, their policy. How
// long they live is in package life.
package group

import (
	"context"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/naming"
)

// Service is groups.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// Query says which groups to list.
type Query struct {
	Q      string
	States []string
	Filter string // of core/filter's Groups
	Scope  string // "" for all that the actor can find, mine, owned, joinable
	Sort   string // one of workspace.Sorts; with a leading - in the other direction
	Cursor string
	Limit  int
}

// List lists the groups that the actor can find.
func (s *Service) List(ctx context.Context, by workspace.Actor, l Query) (api.Page[api.Group], error) {
	none := api.Page[api.Group]{}
	if err := by.SignedIn(); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	e, err := v.ShownTerms()
	if err != nil {
		return none, err
	}
	q, err := l.query(v, e)
	if err != nil {
		return none, err
	}
	if q.After, err = v.Cursor(l.Cursor, "groups", l.Q, l.States, l.Filter, l.Scope, q.Sort, q.Desc); err != nil {
		return none, err
	}
	page, err := v.Read.Groups(q)
	if err != nil {
		return none, workspace.Filtered(err)
	}
	note := q.Note()
	if l.Q != "" && l.Cursor == "" && len(page.Items) == 0 {
		if note, err = v.Nearest(store.KindGroup, l.Q, func(near string) (bool, error) {
			q.Q = near
			page, err = v.Read.Groups(q)
			return len(page.Items) > 0, workspace.Filtered(err)
		}); err != nil {
			return none, err
		}
	}
	out, err := shapePage(v, page, e)
	out.Note = note
	return out, err
}

// Read reads a query of the actor's.
func (l Query) Read(v *workspace.View) (store.GroupQuery, error) {
	e, err := v.ShownTerms()
	if err != nil {
		return store.GroupQuery{}, err
	}
	return l.query(v, e)
}

func (l Query) query(v *workspace.View, e workspace.Terms) (store.GroupQuery, error) {
	sort, desc := strings.CutPrefix(l.Sort, "-")
	var bad workspace.Problems
	bad.OneOf("scope", l.Scope, "mine", "owned", "joinable")
	bad.OneOf("sort", sort, workspace.Sorts["groups"]...)
	for _, state := range l.States {
		bad.OneOf("state", state, "active", "due", "lapsed", "retired")
	}
	if err := bad.Err(); err != nil {
		return store.GroupQuery{}, err
	}
	by := v.By
	q := store.GroupQuery{Q: l.Q, Time: v.FilterTime(e), Sort: store.GroupSort(sort), Desc: desc, Limit: l.Limit}
	if sort == "" {
		q.Sort = store.ByName
	}
	if !v.MaySort("groups", l.Sort) {
		return q, workspace.Fail(workspace.NotAllowed, "Only administrators and auditors may sort groups by their last post.")
	}
	var err error
	if q.Filter, err = v.Filter("groups", l.Filter); err != nil {
		return q, err
	}
	for _, s := range l.States {
		q.States = append(q.States, lifecycle.State(s))
	}
	switch l.Scope {
	case "mine":
		q.Mine, q.Role = by.Person.ID, int8(expand.Member)
	case "owned":
		q.Mine, q.Role = by.Person.ID, int8(expand.Owner)
	case "joinable":
		q.Joinable = by.Person.ID
	}
	if !by.Subject().ReadsAll() {
		q.Viewer = by.Person.ID
		if q.Also, err = v.AreaFilters(access.ReadGroup); err != nil {
			return q, err
		}
	}
	return q, nil
}

// shapePage shapes groups with what belongs to them, read for all at once.
func shapePage(v *workspace.View, page store.Page[store.Group], e workspace.Terms) (api.Page[api.Group], error) {
	extras, err := v.Read.GroupExtras(v.By.Person.ID, page.Items)
	if err != nil {
		return api.Page[api.Group]{}, err
	}
	by := v.By.Subject()
	i := -1
	return workspace.Page(page, func(g store.Group) api.Group {
		i++
		return shape(g, extras[i], by, e, v.Now())
	}), nil
}

// shape shapes a group for somebody, who has a role of their own in it or none.
func shape(g store.Group, extras store.GroupExtras, by access.Subject, e workspace.Terms, now time.Time) api.Group {
	life, state := g.Life(), g.Life().State(now)
	if state == lifecycle.Lapsed && life.Ended.IsZero() {
		life.Ended = life.Expires // its time is over; nobody has come by to say so yet
	}
	out := api.Group{
		ID: g.ID.String(), Name: g.Name, Address: g.Address, Aliases: extras.Aliases, Description: g.Description, Language: g.Language,
		Delivery: workspace.Delivery(g.DefaultMail), Welcome: g.Welcome, Mail: workspace.MailTexts(g.Mail.Texts), ByRule: g.ByRule, State: string(state), Traits: naming.SplitTraits(g.Traits),
		PolicyHalf: workspace.PolicyHalf(g.Policy), Sentence: g.Policy.Sentence(), Owners: []api.Owner{},
		Counts: api.Counts{Owners: g.Owners, Moderators: g.Moderators, Members: g.Members, External: g.ExternalMembers, Nested: g.Nested, Departed: g.Departed, People: g.People},
		Term:   api.Term{RenewedAt: g.RenewedAt.In(e.Life.Zone), Rule: g.TermRule}, MyRole: "none", StartingPoint: g.StartingPoint, CreatedAt: g.CreatedAt.In(e.Life.Zone), Version: g.Version, Revision: g.Revision,
	}
	if extras.Aliases == nil {
		out.Aliases = []string{}
	}
	departed := by.May(access.SeeDeparted, access.RelationOf(extras.Role, false, false), &g.Policy)
	for _, o := range extras.Owners {
		if o.Active || departed {
			out.Owners = append(out.Owners, api.Owner{Name: o.Name, Address: o.Address, Departed: !o.Active})
		}
	}
	if !departed {
		out.Counts.Departed = 0
	}
	if !by.ReadsAll() { // whose people are not seen are not counted
		out.Counts.People, out.Counts.More = g.Shown, g.People != g.Shown
	}
	if extras.Role != 0 {
		out.MyRole = extras.Role.String()
	}
	if g.Exempt != "" {
		out.Term.Exempt = &api.Exempt{Reason: g.Exempt, By: g.ExemptBy}
		if g.ExemptUntil != nil {
			until := e.Date(*g.ExemptUntil)
			out.Term.Exempt.Until = &until
		}
	}
	if g.Kept != "" {
		out.Term.Hold = &api.UnderHold{Reason: g.Kept, By: g.KeptBy, Since: g.KeptAt.In(e.Life.Zone)}
	}
	switch {
	case !life.Ended.IsZero():
		at, until := life.Ended.In(e.Life.Zone), e.Date(e.Life.PurgeAt(life))
		out.Term.EndedAt, out.Term.RestorableUntil = &at, &until
	case !life.Expires.IsZero():
		on, days := e.Date(life.Expires), e.Life.Days(now, life.Expires)
		out.Term.ExpiresOn, out.Term.DaysLeft = &on, &days
	}
	return out
}

// Read returns a group.
func (s *Service) Read(ctx context.Context, by workspace.Actor, ref string) (api.Group, error) {
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.ReadGroup)
	if err != nil {
		return api.Group{}, err
	}
	return Shape(v, g)
}

// Shape is one group as the interface shows it, with what the actor may do to it.
func Shape(v *workspace.View, g workspace.Group) (api.Group, error) {
	e, err := v.Terms()
	if err != nil {
		return api.Group{}, err
	}
	if err := v.Read.Size(&g.Group); err != nil {
		return api.Group{}, err
	}
	p, err := shapePage(v, store.Page[store.Group]{Items: []store.Group{g.Group}}, e)
	if err != nil {
		return api.Group{}, err
	}
	out := p.Items[0]
	for _, do := range v.By.Subject().OnGroup(g.Relation, &g.Policy) {
		out.May = append(out.May, string(do))
	}
	return out, nil
}

// ReadAfter returns a group that was changed.
func ReadAfter(v *workspace.View, id uuid.UUID, err error) (api.Group, error) {
	if err != nil {
		return api.Group{}, err
	}
	g, err := v.FindGroup(id.String(), access.ReadGroup)
	if err != nil {
		return api.Group{}, err
	}
	return Shape(v, g)
}
