package workspace

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/store"
)

// MemberList says which members of a group to list. Empty texts stand for all.
type MemberList struct {
	Q, Role, Delivery, Kind, Way string
	Since                        string // a date, such as 2026-11-23
	Cursor                       string
	Limit                        int
}

func (l MemberList) query(group uuid.UUID) (store.MemberQuery, error) {
	q := store.MemberQuery{Group: group, Q: l.Q, Limit: l.Limit}
	var p problems
	var ok bool
	if q.Role, ok = expand.ParseRole(l.Role); !ok && l.Role != "" {
		p.add("role", l.Role, "%s", badRole(l.Role))
	}
	yes, no := true, false
	choose := func(field, given string, choices map[string]func()) {
		if given == "" {
			return
		}
		if f, ok := choices[given]; ok {
			f()
			return
		}
		p.add(field, given, "There is no %s %q: choose %s.", field, given, list(choices))
	}
	choose("delivery", l.Delivery, map[string]func(){"each": func() { q.Mail = &yes }, "none": func() { q.Mail = &no }})
	choose("kind", l.Kind, map[string]func(){"person": func() { q.Kind, q.External = store.KindPerson, &no }, "external": func() { q.External = &yes },
		"group": func() { q.Kind = store.KindGroup }, "departed": func() { q.Left = true }})
	choose("way", l.Way, map[string]func(){"rule": func() { q.ByRule = &yes }, "hand": func() { q.ByRule = &no }})
	if l.Since != "" {
		at, err := time.Parse(time.DateOnly, l.Since)
		if err != nil {
			p.add("since", l.Since, "%q is no date. Write it as 2026-11-23.", l.Since)
		}
		q.Since = at
	}
	var err error
	if q.After, err = store.ParseCursor(l.Cursor); err != nil {
		p.add("cursor", l.Cursor, "%s.", says(err))
	}
	return q, p.err()
}

// Members lists who is in a group.
func (w *Workspace) Members(ctx context.Context, a Actor, ref string, l MemberList) (api.Page[api.Member], error) {
	none := api.Page[api.Member]{}
	g, _, err := w.findFor(ctx, a, seePeople, ref)
	if err != nil {
		return none, err
	}
	q, err := l.query(g.ID)
	if err != nil {
		return none, err
	}
	if q == (store.MemberQuery{Group: g.ID, After: q.After, Limit: q.Limit}) { // everybody: their number is kept
		q.Total = int64(g.Owners + g.Moderators + g.Members + g.Nested)
	}
	p, err := w.store.Members(ctx, q)
	return pageOf(p, member), err
}

// MemberColumns are the columns of an export, in order.
var MemberColumns = []string{"name", "address", "role", "delivery", "kind", "by_rule", "added_at", "added_by"}

// ExportMembers writes who is in a group as CSV (RFC 4180). begin is called before
// the first octet, once it is known that nothing stands in the way.
func (w *Workspace) ExportMembers(ctx context.Context, a Actor, ref string, l MemberList, begin func(name string) io.Writer) error {
	g, _, err := w.findFor(ctx, a, seePeople, ref)
	if err != nil {
		return err
	}
	q, err := l.query(g.ID)
	if err != nil {
		return err
	}
	out := csv.NewWriter(begin(strings.SplitN(g.Address, "@", 2)[0] + ".csv"))
	out.UseCRLF = true
	if err := out.Write(MemberColumns); err != nil {
		return err
	}
	err = w.store.EachMember(ctx, q, func(r store.MemberRow) error {
		m := member(r)
		kind := m.Kind
		switch {
		case m.External:
			kind = "external"
		case !m.Active:
			kind = "departed"
		}
		return out.Write([]string{m.Name, m.Address, m.Role, m.Delivery, kind, fmt.Sprint(m.ByRule), m.AddedAt.Format(time.RFC3339), m.AddedBy})
	})
	out.Flush()
	return errors.Join(err, out.Error())
}

func badRole(role string) string {
	return fmt.Sprintf("There is no role %q: choose owner, moderator, member.", role)
}

func member(r store.MemberRow) api.Member {
	m := api.Member{ID: r.MemberID.String(), Kind: "person", Name: r.Name, Address: r.Address, Role: r.Role.String(),
		External: r.External, Active: r.Active, Delivery: delivery(r.Mail), AddedAt: r.AddedAt, AddedBy: r.AddedBy, ByRule: r.ByRule}
	if r.Kind == store.KindGroup {
		m.Kind = "group"
	}
	return m
}

func delivery(mail bool) string {
	if mail {
		return "each"
	}
	return "none"
}

// count keeps the counts of a group in step with its memberships.
func count(g *store.Group, kind int8, role expand.Role, external bool, by int) {
	switch {
	case kind == store.KindGroup:
		g.Nested += by
		return
	case role == expand.Owner:
		g.Owners += by
	case role == expand.Moderator:
		g.Moderators += by
	default:
		g.Members += by
	}
	if external {
		g.ExternalMembers += by
	}
}

// entrance is how people come into a group.
type entrance struct {
	action string // for the history
	quiet  bool   // they are not told
}

// join puts the people of results that can be into g, which is locked, counts
// them, tells them, and writes one entry of the history. Those in it already are
// marked so.
func (w *Workspace) join(ctx context.Context, t *store.Store, a Actor, g *store.Group, results []result, how entrance) error {
	if err := w.markMembers(ctx, t, g.ID, results); err != nil {
		return err
	}
	now := w.now(ctx)
	var rows []store.Membership
	var outsiders []store.Person
	var affected []store.Affected
	var told []string
	var ids []uuid.UUID
	changes := changeList{}
	for i := range results {
		r := &results[i]
		if !r.ok() {
			continue
		}
		id := r.id
		if id == uuid.Nil {
			id = store.NewID()
			outsiders = append(outsiders, store.Person{ID: id, Address: r.Address, AddrKey: r.Address, Name: r.Address, External: true, Active: true,
				Attributes: []byte("{}"), CreatedAt: now, Version: 1})
		}
		rows = append(rows, store.Membership{GroupID: g.ID, MemberID: id, Kind: r.kind, Role: r.role, Mail: g.DefaultMail || r.kind == store.KindGroup,
			AddedAt: now.Add(time.Duration(i) * time.Microsecond), AddedBy: a.String()})
		affected = append(affected, store.Affected{PersonID: id, Now: r.role.String()})
		changes.add(r.Address, nil, r.role.String())
		count(g, r.kind, r.role, r.External, +1)
		ids = append(ids, id)
		if r.kind == store.KindPerson && id != a.Person.ID {
			told = append(told, r.Address)
		}
	}
	if len(rows) == 0 {
		return nil
	}
	if len(outsiders) > 0 {
		if err := t.AddPeople(ctx, outsiders); err != nil {
			return err
		}
	}
	if err := t.AddMemberships(ctx, rows); err != nil {
		return err
	}
	if err := t.EndRequests(ctx, g.ID, ids, store.ToJoin, now); err != nil {
		return err
	}
	if err := t.SaveGroup(ctx, g, false); err != nil {
		return err
	}
	if !how.quiet && len(told) > 0 {
		if err := w.send(ctx, t, g, told, w.addedLetter(*g, a)); err != nil {
			return err
		}
	}
	return recordOf(ctx, t, a, now, how.action, g, g.Address, changes.list(), affected)
}

// changeList is the part of a change that is shown with it; who was affected is
// recorded beside it in full.
type changeList struct {
	shown []api.FieldChange
	more  int
}

func (c *changeList) add(field string, from, to any) {
	if len(c.shown) < 50 {
		c.shown = append(c.shown, api.FieldChange{Field: field, From: from, To: to})
	} else {
		c.more++
	}
}

func (c *changeList) list() []api.FieldChange {
	if c.more > 0 {
		return append(c.shown, api.FieldChange{Field: "people", To: len(c.shown) + c.more, Says: fmt.Sprintf("and %d more", c.more)})
	}
	return c.shown
}

// AddMembers puts people into a group, or invites them. Whoever can be added is;
// the results say why the others were not.
func (w *Workspace) AddMembers(ctx context.Context, a Actor, ref string, n api.NewMembers) (api.AddedAll, error) {
	none := api.AddedAll{}
	found, s, err := w.findFor(ctx, a, addPeople, ref)
	if err != nil {
		return none, err
	}
	if err := w.alive(ctx, &found); err != nil {
		return none, err
	}
	switch {
	case n.Way != "" && n.Way != "direct" && n.Way != "invite":
		return none, wrong("way", n.Way, fmt.Sprintf("People can't be added by way of %q: choose direct or invite.", n.Way))
	case len(n.People) == 0 && n.List == nil:
		return none, wrong("people", nil, "There is nobody in the list. Give at least one address.")
	}
	all := lines("people", n.People)
	if n.List != nil {
		more, err := w.readList(ctx, a, "list", *n.List, &api.Roster{})
		if err != nil {
			return none, err
		}
		all = append(all, more...)
	}
	staff := a.may(changePeople, &found, s)
	var results []result
	for range 3 { // a new outsider can be added to two groups at once
		if results, err = w.resolve(ctx, &found, all, staff); err != nil {
			return none, err
		}
		err = w.store.Tx(ctx, func(t *store.Store) error {
			g, err := t.LockGroup(ctx, found.ID)
			if err != nil {
				return err
			}
			again := append([]result(nil), results...) // a repeat of the transaction begins anew
			if n.Way == "invite" {
				err = w.invite(ctx, t, a, &g, again)
			} else {
				err = w.join(ctx, t, a, &g, again, entrance{action: "people.add", quiet: n.Quiet})
			}
			if err == nil {
				copy(results, again)
			}
			return err
		})
		if !errors.Is(err, store.ErrDuplicate) {
			break
		}
	}
	if err != nil {
		return none, err
	}
	w.o.Wake()
	out := api.AddedAll{Results: shown(results), Counts: counts(results)}
	for i := range results {
		if results[i].ok() || results[i].Outcome == "invited" {
			out.Added++
		}
	}
	return out, nil
}

// alive is the error for what only a living group takes, nil for one that lives.
func (w *Workspace) alive(ctx context.Context, g *store.Group) error {
	e, err := w.expiry(ctx)
	if err == nil && e.policy.State(g.Life(), w.now(ctx)).Ended() {
		return ended(g)
	}
	return err
}
