package workspace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
)

// Join lets the actor into a group, or asks its owners, as the group has it. A
// group that takes nobody that way says so.
func (w *Workspace) Join(ctx context.Context, a Actor, ref string, wish api.Wish) (api.Wished, error) {
	none := api.Wished{}
	g, s, err := w.findFor(ctx, a, readGroup, ref)
	if err != nil {
		return none, err
	}
	if err := w.alive(ctx, &g); err != nil {
		return none, err
	}
	settled, err := w.store.StandingOf(ctx, g.ID, a.Person.AddrKey)
	switch {
	case err != nil:
		return none, err
	case s.role != 0:
		return none, fail(Conflict, "You are in %s already.", g.Name)
	case settled.Standing == policy.Barred:
		return none, fail(NotAllowed, "You can't join %s: you are barred from it.", g.Name)
	case !g.JoinAudience.Includes(policy.Workspace):
		return none, fail(NotAllowed, "%s takes people by invitation only. You can write to its owners at %s.", g.Name, ownersOf(&g))
	case g.JoinHow == policy.Asking:
		return w.ask(ctx, a, &g, store.ToJoin, wish.Note)
	}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		g, err := t.LockGroup(ctx, g.ID)
		if err != nil {
			return err
		}
		return w.join(ctx, t, a, &g, oneself(a.Person, expand.Member), entrance{action: "people.join", quiet: true})
	})
	return api.Wished{Outcome: "done", Says: fmt.Sprintf("You are in %s.", g.Name)}, err
}

// oneself is a person as somebody to put into a group.
func oneself(p store.Person, role expand.Role) []result {
	return []result{{Added: api.Added{Given: p.Address, Address: p.Address, Name: p.Name, Outcome: "added", Status: "new", External: p.External}, id: p.ID, kind: store.KindPerson, role: role}}
}

// ownersOf is the address by which the owners of a group are written to.
func ownersOf(g *store.Group) string {
	return strings.Replace(g.Address, "@", mailaddr.OwnersSuffix+"@", 1)
}

// Leave takes the actor out of a group, or asks its owners, as the group has it.
func (w *Workspace) Leave(ctx context.Context, a Actor, ref string, wish api.Wish) (api.Wished, error) {
	none := api.Wished{}
	g, s, err := w.findFor(ctx, a, readGroup, ref)
	if err != nil {
		return none, err
	}
	switch {
	case s.role == 0 && s.rung == policy.Members:
		return none, fail(Conflict, "You are in %s through a group that is nested in it. Leave that one.", g.Name)
	case s.role == 0:
		return none, fail(Conflict, "You are not in %s.", g.Name)
	case g.Leaving == policy.LeaveFixed:
		return none, fail(NotAllowed, "The members of %s are fixed: nobody leaves by themselves.", g.Name)
	case g.Leaving == policy.LeaveAsking && s.role < expand.Owner:
		return w.ask(ctx, a, &g, store.ToLeave, wish.Note)
	}
	all, err := w.changeMembers(ctx, a, &g, api.MembersPatch{Members: []string{a.Person.ID.String()}, Remove: true})
	if err == nil {
		err = all[0].err
	}
	return api.Wished{Outcome: "done", Says: fmt.Sprintf("You are no longer in %s.", g.Name)}, err
}

// ask records a request and tells the owners.
func (w *Workspace) ask(ctx context.Context, a Actor, g *store.Group, kind, note string) (api.Wished, error) {
	note = strings.TrimSpace(note)
	now := w.now(ctx)
	to, err := w.noticeRecipients(ctx, g)
	if err != nil {
		return api.Wished{}, err
	}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		r := store.Request{ID: store.NewID(), GroupID: g.ID, PersonID: a.Person.ID, Kind: kind, Note: note, State: store.Undecided, MadeAt: now}
		if err := t.AddRequest(ctx, r); err != nil {
			return err
		}
		l := w.letter(letterRequest, *g, "/waiting", map[string]string{"person": a.Person.Name, "from": a.Person.Address, "asks": phrase(g.Language, "asks "+kind), "note": note})
		if err := w.send(ctx, t, g, to, l); err != nil {
			return err
		}
		return recordOf(ctx, t, a, now, "request.make", g, g.Address, []api.FieldChange{{Field: "request", To: kind}}, []store.Affected{{PersonID: a.Person.ID}})
	})
	if errors.Is(err, store.ErrDuplicate) {
		return api.Wished{}, fail(Conflict, "You have asked %s already. Its owners have not decided yet.", g.Name)
	}
	w.o.Wake()
	return api.Wished{Outcome: "asked", Says: fmt.Sprintf("The owners of %s have been asked. You get a mail when they decide.", g.Name)}, err
}

// Requests lists open requests: those of a group, those that the actor decides, or,
// with mine, the actor's own in every state.
func (w *Workspace) Requests(ctx context.Context, a Actor, ref string, mine bool, cursor string, limit int) (api.Page[api.Request], error) {
	none := api.Page[api.Request]{}
	if err := signedIn(a); err != nil {
		return none, err
	}
	after, err := store.ParseCursor(cursor)
	if err != nil {
		return none, wrong("cursor", cursor, says(err)+".")
	}
	q := store.RequestQuery{After: after, Limit: limit}
	switch {
	case ref != "":
		g, _, err := w.findFor(ctx, a, decideJoins, ref)
		if err != nil {
			return none, err
		}
		q.Group = g.ID
	case mine:
		q.Person = a.Person.ID
	case !a.administrator():
		q.Runner = a.Person.ID
	}
	page, err := w.store.Requests(ctx, q)
	if err != nil {
		return none, err
	}
	var groupIDs, personIDs []uuid.UUID
	for _, r := range page.Items {
		groupIDs, personIDs = append(groupIDs, r.GroupID), append(personIDs, r.PersonID)
	}
	groups, err := w.store.GroupsByID(ctx, groupIDs)
	if err != nil {
		return none, err
	}
	people, err := w.store.PeopleByID(ctx, personIDs)
	return pageOf(page, func(r store.Request) api.Request {
		g, p := groups[r.GroupID], people[r.PersonID]
		f := fields(p)
		about := slices.DeleteFunc([]string{f["title"], f["department"], f["locality"]}, func(s string) bool { return s == "" })
		return api.Request{ID: r.ID.String(), Kind: r.Kind, Group: api.Name{Name: g.Name, Address: g.Address}, Person: api.Name{Name: p.Name, Address: p.Address},
			About: strings.Join(about, ", "), Note: r.Note, State: r.State, MadeAt: r.MadeAt, DecidedBy: r.DecidedBy, DecidedAt: r.DecidedAt, Reason: r.Reason}
	}), err
}

// DecideRequests approves or declines requests, each by itself; the results say
// what became of them. Those who asked are told by mail.
func (w *Workspace) DecideRequests(ctx context.Context, a Actor, d api.Decisions) ([]api.Decided, error) {
	if err := signedIn(a); err != nil {
		return nil, err
	}
	if d.Verdict != "approve" && d.Verdict != "decline" {
		return nil, wrong("verdict", d.Verdict, fmt.Sprintf("There is no verdict %q: choose approve or decline.", d.Verdict))
	}
	out := make([]api.Decided, 0, len(d.Requests))
	for _, id := range d.Requests {
		r := api.Decided{ID: cut(id, 50), Outcome: "approved"}
		if d.Verdict == "decline" {
			r.Outcome = "declined"
		}
		err := w.decideRequest(ctx, a, id, d, &r)
		if e := new(Error); errors.As(err, &e) {
			r.Outcome, r.Says = "refused", e.Says
		} else if err != nil {
			return nil, err
		}
		out = append(out, r)
	}
	w.o.Wake()
	return out, nil
}

func (w *Workspace) decideRequest(ctx context.Context, a Actor, id string, d api.Decisions, out *api.Decided) error {
	none := fail(NotFound, "There is no request %q that waits for you.", cut(id, 50))
	u, err := uuid.Parse(id)
	if err != nil {
		return none
	}
	return w.store.Tx(ctx, func(t *store.Store) error {
		r, err := t.LockRequest(ctx, u)
		if errors.Is(err, store.ErrNotFound) {
			return none
		} else if err != nil {
			return err
		}
		g, err := t.LockGroup(ctx, r.GroupID)
		if err != nil {
			return err
		}
		if s, err := w.standingOf(ctx, a.Person, &g); err != nil || !a.may(decideJoins, &g, s) {
			return errors.Join(err, none)
		}
		p, err := t.Person(ctx, r.PersonID)
		if err != nil {
			return err
		}
		out.Person, out.Group = p.Name, g.Name
		if r.State != store.Undecided {
			return fail(Conflict, "The request of %s was %s already%s.", p.Name, r.State, by(r.DecidedBy))
		}
		now := w.now(ctx)
		r.State, r.DecidedBy, r.DecidedAt, r.Reason = store.Approved, a.Person.Address, &now, strings.TrimSpace(d.Reason)
		kind := letterApproved
		if d.Verdict == "decline" {
			r.State, kind = store.Declined, letterRefused
		}
		if err := t.SaveRequest(ctx, r); err != nil {
			return err
		}
		if r.State == store.Approved {
			if err := w.grant(ctx, t, a, &g, p, r); err != nil {
				return err
			}
		}
		l := w.letter(kind, g, groupPath(g, ""), map[string]string{"by": a.name(), "did": phrase(g.Language, "did "+r.Kind), "reason": r.Reason})
		if err := w.send(ctx, t, &g, []string{p.Address}, l); err != nil {
			return err
		}
		changes := []api.FieldChange{{Field: "request", From: r.Kind, To: r.State}}
		if r.Reason != "" {
			changes = append(changes, api.FieldChange{Field: "reason", To: r.Reason})
		}
		return recordOf(ctx, t, a, now, "request."+d.Verdict, &g, g.Address, changes, []store.Affected{{PersonID: p.ID}})
	})
}

func by(who string) string {
	if who == "" {
		return ""
	}
	return " by " + who
}

// grant does what was asked for.
func (w *Workspace) grant(ctx context.Context, t *store.Store, a Actor, g *store.Group, p store.Person, r store.Request) error {
	if err := w.alive(ctx, g); err != nil {
		return err
	}
	if r.Kind == store.ToJoin {
		settled, err := t.StandingOf(ctx, g.ID, p.AddrKey)
		switch {
		case err != nil:
			return err
		case settled.Standing == policy.Barred:
			return fail(Conflict, "%s is barred from %s. Lift the bar first.", p.Name, g.Name)
		case !p.Active:
			return fail(Conflict, "%s has left the organisation.", p.Name)
		}
		return w.join(ctx, t, a, g, oneself(p, expand.Member), entrance{action: "people.add", quiet: true})
	}
	rows, err := t.LockMembers(ctx, g.ID, []uuid.UUID{p.ID})
	if err != nil || len(rows) == 0 {
		return err
	}
	all := []target{{given: p.Address, id: p.ID}}
	err = w.applyToMembers(ctx, t, a, g, all, map[uuid.UUID]store.MemberRow{p.ID: rows[0]}, 0, api.MembersPatch{Remove: true})
	return errors.Join(err, all[0].err)
}

// WithdrawRequest takes back one of the actor's own requests.
func (w *Workspace) WithdrawRequest(ctx context.Context, a Actor, id string) error {
	if err := signedIn(a); err != nil {
		return err
	}
	none := fail(NotFound, "You have no open request %q.", cut(id, 50))
	u, err := uuid.Parse(id)
	if err != nil {
		return none
	}
	return w.store.Tx(ctx, func(t *store.Store) error {
		r, err := t.LockRequest(ctx, u)
		if errors.Is(err, store.ErrNotFound) || err == nil && (r.PersonID != a.Person.ID || r.State != store.Undecided) {
			return none
		} else if err != nil {
			return err
		}
		g, err := t.Group(ctx, r.GroupID)
		if err != nil {
			return err
		}
		now := w.now(ctx)
		r.State, r.DecidedAt = store.Withdrawn, &now
		if err := t.SaveRequest(ctx, r); err != nil {
			return err
		}
		return recordOf(ctx, t, a, now, "request.withdraw", &g, g.Address, []api.FieldChange{{Field: "request", From: r.Kind, To: r.State}}, []store.Affected{{PersonID: a.Person.ID}})
	})
}
