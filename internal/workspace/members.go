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
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
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

// errLastOwner protects the last owner of a group.
func errLastOwner(name string, g *store.Group) error {
	return fail(Conflict, "%s is the last owner of %s. Make somebody else an owner first.", name, g.Name)
}

// target is a member that a change names.
type target struct {
	given string
	id    uuid.UUID
	row   store.MemberRow
	err   error // why it can't be changed
	same  bool  // it is so already
}

// targets finds the members of a group that identifiers and addresses name.
func (w *Workspace) targets(ctx context.Context, g *store.Group, given []string) ([]target, error) {
	out := make([]target, len(given))
	keys := map[int]string{}
	for i, x := range given {
		out[i] = target{given: cut(x, 320), err: fail(NotFound, "%s is not in %s.", cut(x, 100), g.Name)}
		if id, err := uuid.Parse(x); err == nil {
			out[i].id = id
		} else if a, err := mailaddr.Parse(x); err == nil {
			keys[i] = a.Key()
		}
	}
	all := make([]string, 0, len(keys))
	for _, k := range keys {
		all = append(all, k)
	}
	people, err := w.store.PeopleByKeys(ctx, all)
	if err != nil || len(keys) == 0 {
		return out, err
	}
	groups, err := w.store.GroupsByKeys(ctx, all)
	for i, k := range keys {
		if p, ok := people[k]; ok {
			out[i].id = p.ID
		} else if n, ok := groups[k]; ok {
			out[i].id = n.ID
		}
	}
	return out, err
}

// ChangeMembers changes the role or the delivery of members, or takes them out, in
// one step. Whoever can be changed is; the results say why the others were not.
func (w *Workspace) ChangeMembers(ctx context.Context, a Actor, ref string, patch api.MembersPatch) (api.MembersChanged, error) {
	g, _, err := w.findFor(ctx, a, changePeople, ref)
	if err != nil {
		return api.MembersChanged{}, err
	}
	targets, err := w.changeMembers(ctx, a, &g, patch)
	if err != nil {
		return api.MembersChanged{}, err
	}
	out := api.MembersChanged{Results: make([]api.MemberChanged, len(targets))}
	for i, t := range targets {
		r := api.MemberChanged{Given: t.given, Name: t.row.Name, Address: t.row.Address, Outcome: "changed"}
		switch e := new(Error); {
		case errors.As(t.err, &e):
			r.Outcome, r.Says = "refused", e.Says
		case t.same:
			r.Outcome, r.Says = "same", "Is so already; nothing was changed."
		default:
			out.Changed++
		}
		out.Results[i] = r
	}
	return out, nil
}

func (w *Workspace) changeMembers(ctx context.Context, a Actor, found *store.Group, patch api.MembersPatch) ([]target, error) {
	var p problems
	role, ok := expand.ParseRole(patch.Role)
	if patch.Role != "" && !ok {
		p.add("role", patch.Role, "%s", badRole(patch.Role))
	}
	if patch.Delivery != "" && patch.Delivery != "each" && patch.Delivery != "none" {
		p.add("delivery", patch.Delivery, "There is no delivery %q: choose each or none.", patch.Delivery)
	}
	if patch.Role == "" && patch.Delivery == "" && !patch.Remove || patch.Remove && (patch.Role != "" || patch.Delivery != "") {
		p.add("role", nil, "Say what to change: role or delivery, or else remove.")
	}
	if err := p.err(); err != nil {
		return nil, err
	}
	first, err := w.targets(ctx, found, patch.Members)
	if err != nil {
		return nil, err
	}
	var all []target
	err = w.store.Tx(ctx, func(t *store.Store) error {
		all = append([]target(nil), first...)
		g, err := t.LockGroup(ctx, found.ID)
		if err != nil {
			return err
		}
		ids := make([]uuid.UUID, 0, len(all))
		for _, x := range all {
			if x.id != uuid.Nil {
				ids = append(ids, x.id)
			}
		}
		rows, err := t.LockMembers(ctx, g.ID, ids)
		if err != nil {
			return err
		}
		in := make(map[uuid.UUID]store.MemberRow, len(rows))
		for _, r := range rows {
			in[r.MemberID] = r
		}
		return w.applyToMembers(ctx, t, a, &g, all, in, role, patch)
	})
	return all, err
}

// applyToMembers makes a change to those targets that it can be made to.
func (w *Workspace) applyToMembers(ctx context.Context, t *store.Store, a Actor, g *store.Group, all []target, in map[uuid.UUID]store.MemberRow, role expand.Role, patch api.MembersPatch) error {
	owners, err := activeOwners(ctx, t, g.ID)
	if err != nil {
		return err
	}
	var ids []uuid.UUID
	var affected []store.Affected
	changes := changeList{}
	for i := range all {
		x := &all[i]
		row, ok := in[x.id]
		if !ok {
			continue // its error says so
		}
		delete(in, x.id) // one that is named twice is changed once
		x.row, x.err = row, nil
		was, now := row.Role.String(), row.Role.String()
		switch {
		case patch.Remove:
			now = ""
			if row.ByRule {
				x.err = fail(Conflict, "%s is in %s by its rule. Change the rule, or bar the person.", row.Name, g.Name)
			}
		case role > expand.Member && row.Kind == store.KindGroup:
			x.err = wrong("role", patch.Role, "A group can be in a group as a member only.")
		case role > expand.Member && row.External:
			x.err = wrong("role", patch.Role, fmt.Sprintf("An address outside the workspace can't be %s: it has no account here.", article(role)))
		case role != 0:
			now = role.String()
		}
		if x.err == nil && row.Role == expand.Owner && now != "owner" {
			if delete(owners, row.MemberID); len(owners) == 0 {
				owners[row.MemberID] = true
				x.err = errLastOwner(row.Name, g)
			}
		}
		mail := patch.Delivery == "each"
		if x.same = x.err == nil && was == now && (patch.Delivery == "" || mail == row.Mail); x.same || x.err != nil {
			continue
		}
		if was != now {
			count(g, row.Kind, row.Role, row.External, -1)
			if !patch.Remove {
				count(g, row.Kind, role, row.External, +1)
			}
		}
		ids, affected = append(ids, row.MemberID), append(affected, store.Affected{PersonID: row.MemberID, Was: was, Now: now})
		switch {
		case patch.Remove:
			changes.add(row.Address, was, nil)
		case was != now:
			changes.add(row.Address, was, now)
		default:
			changes.add(row.Address, "delivery "+delivery(row.Mail), "delivery "+patch.Delivery)
		}
		if role != 0 {
			x.row.Role = role
		}
		if patch.Delivery != "" {
			x.row.Mail = mail
		}
	}
	if len(ids) == 0 {
		return nil
	}
	action := "people.change"
	if patch.Remove {
		action = "people.remove"
		err = errors.Join(t.DeleteMemberships(ctx, g.ID, ids), t.EndRequests(ctx, g.ID, ids, store.ToLeave, w.now(ctx)))
	}
	if role != 0 {
		err = errors.Join(err, t.SetRole(ctx, g.ID, ids, role))
	}
	if patch.Delivery != "" {
		err = errors.Join(err, t.SetMail(ctx, g.ID, ids, patch.Delivery == "each"))
	}
	if err != nil {
		return err
	}
	if err := t.SaveGroup(ctx, g, false); err != nil {
		return err
	}
	return recordOf(ctx, t, a, w.now(ctx), action, g, g.Address, changes.list(), affected)
}

// activeOwners returns the owners of a group who have not left the organisation.
func activeOwners(ctx context.Context, t *store.Store, group uuid.UUID) (map[uuid.UUID]bool, error) {
	rows, err := t.Owners(ctx, []uuid.UUID{group})
	out := map[uuid.UUID]bool{}
	for _, o := range rows[group] {
		if o.Active {
			out[o.MemberID] = true
		}
	}
	return out, err
}

// ChangeMember changes the role or the delivery of one member.
func (w *Workspace) ChangeMember(ctx context.Context, a Actor, ref, who string, patch api.MemberPatch) (api.Member, error) {
	do := changePeople
	if patch.Role == "" && a.is(who) {
		do = readGroup // one's own delivery
	}
	g, _, err := w.findFor(ctx, a, do, ref)
	if err != nil {
		return api.Member{}, err
	}
	all, err := w.changeMembers(ctx, a, &g, api.MembersPatch{Members: []string{who}, Role: patch.Role, Delivery: patch.Delivery})
	if err != nil {
		return api.Member{}, err
	}
	return member(all[0].row), all[0].err
}

// is reports whether who, an identifier or an address, names the actor.
func (a Actor) is(who string) bool {
	return strings.EqualFold(who, a.Person.Address) || who == a.Person.ID.String()
}

// RemoveMember takes somebody out of a group; oneself where the group lets its
// members leave freely.
func (w *Workspace) RemoveMember(ctx context.Context, a Actor, ref, who string) error {
	g, s, err := w.findFor(ctx, a, readGroup, ref)
	if err != nil {
		return err
	}
	if !a.may(changePeople, &g, s) {
		switch {
		case !a.is(who):
			return fail(NotAllowed, "%s", permits[changePeople].says) // does not tell who is in it
		case g.Leaving == policy.LeaveAsking && s.role != 0:
			return fail(NotAllowed, "You can't leave %s by yourself. Ask its owners to let you go.", g.Name)
		case g.Leaving == policy.LeaveFixed && s.role != 0:
			return fail(NotAllowed, "The members of %s are fixed: nobody leaves by themselves.", g.Name)
		}
	}
	all, err := w.changeMembers(ctx, a, &g, api.MembersPatch{Members: []string{who}, Remove: true})
	if err != nil {
		return err
	}
	return all[0].err
}
