package workspace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
)

// Members lists who is in a group.
func (w *Workspace) Members(ctx context.Context, a Actor, ref, q, role, cursor string, limit int) (api.Page[api.Member], error) {
	none := api.Page[api.Member]{}
	g, _, err := w.findFor(ctx, a, seePeople, ref)
	if err != nil {
		return none, err
	}
	r, ok := expand.ParseRole(role)
	if !ok && role != "" {
		return none, wrong("role", role, badRole(role))
	}
	after, err := store.ParseCursor(cursor)
	if err != nil {
		return none, wrong("cursor", cursor, says(err)+".")
	}
	p, err := w.store.Members(ctx, g.ID, q, r, after, limit)
	return pageOf(p, member), err
}

func badRole(role string) string {
	return fmt.Sprintf("There is no role %q: choose owner, moderator, member.", role)
}

func member(r store.MemberRow) api.Member {
	m := api.Member{ID: r.MemberID.String(), Kind: "person", Name: r.Name, Address: r.Address, Role: r.Role.String(),
		External: r.External, Active: r.Active, Delivery: "each", AddedAt: r.AddedAt, AddedBy: r.AddedBy}
	if r.Kind == store.KindGroup {
		m.Kind = "group"
	}
	if !r.Mail {
		m.Delivery = "none"
	}
	return m
}

// line is one line of a request to add people.
type line struct {
	field, given, role string
}

// result is what a line comes to. ID is the person or group, nil for a new outsider.
type result struct {
	line
	api.Added
	id   uuid.UUID
	kind int8
	role expand.Role
}

// resolve finds out who each line is and whether they can be in the group. staff
// says that the actor may give roles and answer for outsiders.
func (w *Workspace) resolve(ctx context.Context, g *store.Group, lines []line, staff bool) ([]result, error) {
	domains, err := w.store.Domains(ctx)
	if err != nil {
		return nil, err
	}
	out := make([]result, len(lines))
	addresses := make([]mailaddr.Address, len(lines))
	var keys []string
	for i, l := range lines {
		out[i] = result{line: l, Added: api.Added{Given: l.given, Outcome: "added"}, role: expand.Member}
		if a, err := mailaddr.Parse(l.given); err != nil {
			out[i].refuse("%s", says(err))
		} else {
			addresses[i] = a
			keys = append(keys, a.Key())
		}
		if l.role != "" {
			var ok bool
			if out[i].role, ok = expand.ParseRole(l.role); !ok {
				out[i].refuse("%s", badRole(l.role))
			}
		}
	}
	people, err := w.store.PeopleByKeys(ctx, keys)
	if err != nil {
		return nil, err
	}
	groups, err := w.store.GroupsByKeys(ctx, slices.DeleteFunc(keys, func(k string) bool { _, ok := people[k]; return ok }))
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	for i := range out {
		r, a := &out[i], addresses[i]
		if r.Outcome == "refused" {
			continue
		}
		r.Address = a.Key()
		p, isPerson := people[a.Key()]
		nested, isGroup := groups[a.Key()]
		switch {
		case seen[a.Key()]:
			r.Outcome, r.Says = "already", "The list names this address twice."
		case isGroup:
			if err := w.resolveNested(ctx, g, r, nested); err != nil {
				return nil, err
			}
		case isPerson && !p.External:
			r.id, r.kind, r.Name, r.Address = p.ID, store.KindPerson, p.Name, p.Address
			if !p.Active {
				r.refuse("%s has left the organisation.", p.Name)
			}
		case slices.Contains(domains, a.Domain()):
			r.refuse("Nobody in the workspace has this address. Check it for typing mistakes.")
		default:
			r.resolveOutsider(g, a, p, staff)
		}
		if r.role > expand.Member && !staff && r.Outcome == "added" {
			r.refuse("Only owners and administrators may make somebody %s.", article(r.role))
		}
		r.Role = r.role.String()
		seen[a.Key()] = true
	}
	return out, nil
}

func article(r expand.Role) string {
	if r == expand.Owner {
		return "an owner"
	}
	return "a " + r.String()
}

func (r *result) refuse(format string, args ...any) {
	r.Outcome, r.Says = "refused", fmt.Sprintf(format, args...)
}

func (r *result) resolveOutsider(g *store.Group, a mailaddr.Address, known store.Person, staff bool) {
	r.id, r.kind, r.External, r.Name = known.ID, store.KindPerson, true, known.Name
	switch {
	case r.role > expand.Member:
		r.refuse("An address outside the workspace can't be %s: it has no account here.", article(r.role))
	case g.Externals == policy.ExternalsBarred:
		r.refuse("This group takes no external members. Change that in its policy first.")
	case g.Externals == policy.ExternalsByOwners && !staff:
		r.refuse("Only owners and administrators may add external members to this group.")
	}
}

func (w *Workspace) resolveNested(ctx context.Context, g *store.Group, r *result, nested store.Group) error {
	r.id, r.kind, r.Name, r.Address = nested.ID, store.KindGroup, nested.Name, nested.Address
	below, err := w.store.NestedBelow(ctx, nested.ID, w.now(ctx))
	if err != nil {
		return err
	}
	switch path := expand.Loop(g.ID, nested.ID, below); {
	case r.role > expand.Member:
		r.refuse("A group can be in a group as a member only.")
	case nested.EndedAt != nil:
		r.refuse("The group %s has ended.", nested.Name)
	case path != nil:
		r.refuse("%s is inside %s already: the two would contain each other.", g.Name, nested.Name)
	case expand.Depth(nested.ID, below, expand.MaxDepth) >= expand.MaxDepth:
		r.refuse("Groups can be nested %d deep at most.", expand.MaxDepth)
	}
	return nil
}

// refusedAsProblems makes errors of lines that a creation can't do without. The
// first n lines are owners. A line that repeats another counts too.
func refusedAsProblems(results []result, n int) error {
	var p problems
	for i, r := range results {
		if r.Outcome != "added" {
			p.add(r.field, r.given, "%s", r.Says)
		} else if i < n && r.kind == store.KindGroup {
			p.add(r.field, r.given, "A group can't own a group.")
		}
	}
	return p.err()
}

func added(results []result) []api.Added {
	out := make([]api.Added, len(results))
	for i, r := range results {
		out[i] = r.Added
	}
	return out
}

// join puts the people of results that can be into g, which is locked, counts
// them, and writes one entry of the history. Those in it already are marked so.
func (w *Workspace) join(ctx context.Context, t *store.Store, a Actor, g *store.Group, results []result) error {
	var known []uuid.UUID
	for _, r := range results {
		if r.Outcome == "added" && r.id != uuid.Nil {
			known = append(known, r.id)
		}
	}
	in, err := t.MemberIDs(ctx, g.ID, known)
	if err != nil {
		return err
	}
	now := w.now(ctx)
	var rows []store.Membership
	var outsiders []store.Person
	var changes []api.FieldChange
	for i := range results {
		r := &results[i]
		if r.Outcome != "added" {
			continue
		}
		if in[r.id] && r.id != uuid.Nil {
			r.Outcome, r.Says = "already", "Is in the group already; nothing was changed."
			continue
		}
		id := r.id
		if id == uuid.Nil {
			id = store.NewID()
			outsiders = append(outsiders, store.Person{ID: id, Address: r.Address, AddrKey: r.Address, Name: r.Address, External: true, Active: true,
				Attributes: []byte("{}"), CreatedAt: now})
		}
		rows = append(rows, store.Membership{GroupID: g.ID, MemberID: id, Kind: r.kind, Role: r.role, Mail: true,
			AddedAt: now.Add(time.Duration(i) * time.Microsecond), AddedBy: a.String()})
		changes = append(changes, api.FieldChange{Field: r.Address, From: nil, To: r.role.String()})
		count(g, r.kind, r.role, r.External, +1)
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
	if err := t.SaveGroup(ctx, g, false); err != nil {
		return err
	}
	return record(ctx, t, a, now, "people.add", g, g.Address, changes)
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

// AddMembers puts people into a group. Whoever can be added is; the results say
// why the others were not.
func (w *Workspace) AddMembers(ctx context.Context, a Actor, ref string, n api.NewMembers) (api.AddedAll, error) {
	none := api.AddedAll{}
	found, s, err := w.findFor(ctx, a, addPeople, ref)
	if err != nil {
		return none, err
	}
	e, err := w.expiry(ctx)
	if err != nil {
		return none, err
	}
	switch {
	case n.Way != "" && n.Way != "direct":
		return none, wrong("way", n.Way, fmt.Sprintf("People can't be added by way of %q: choose direct.", n.Way))
	case len(n.People) == 0:
		return none, wrong("people", nil, "There is nobody in the list. Give at least one address.")
	case e.policy.State(found.Life(), w.now(ctx)).Ended():
		return none, ended(&found)
	}
	lines := make([]line, len(n.People))
	for i, x := range n.People {
		lines[i] = line{fmt.Sprintf("people[%d].address", i), x.Address, x.Role}
	}
	var results []result
	for range 3 { // a new outsider can be added to two groups at once
		if results, err = w.resolve(ctx, &found, lines, a.may(changePeople, &found, s)); err != nil {
			return none, err
		}
		err = w.store.Tx(ctx, func(t *store.Store) error {
			g, err := t.LockGroup(ctx, found.ID)
			if err != nil {
				return err
			}
			return w.join(ctx, t, a, &g, results)
		})
		if !errors.Is(err, store.ErrDuplicate) {
			break
		}
	}
	out := api.AddedAll{Results: added(results)}
	for _, r := range results {
		if r.Outcome == "added" {
			out.Added++
		}
	}
	return out, err
}

// memberIn finds the member of a group that who, an identifier or an address, names.
func (w *Workspace) memberIn(ctx context.Context, g *store.Group, who string) (store.Membership, store.Person, error) {
	none := fail(NotFound, "%s is not in %s.", cut(who, 100), g.Name)
	var p store.Person
	id, err := uuid.Parse(who)
	if err != nil {
		a, err := mailaddr.Parse(who)
		if err != nil {
			return store.Membership{}, p, none
		}
		if p, err = w.store.PersonByKey(ctx, a.Key()); errors.Is(err, store.ErrNotFound) {
			nested, err := w.store.GroupByAddress(ctx, a.Key())
			if err != nil {
				return store.Membership{}, p, none
			}
			p = store.Person{ID: nested.ID, Address: nested.Address, Name: nested.Name}
		} else if err != nil {
			return store.Membership{}, p, err
		}
	} else if p, err = w.store.Person(ctx, id); errors.Is(err, store.ErrNotFound) {
		p = store.Person{ID: id, Address: who, Name: who}
		if nested, err := w.store.Group(ctx, id); err == nil {
			p.Address, p.Name = nested.Address, nested.Name
		}
	} else if err != nil {
		return store.Membership{}, p, err
	}
	m, err := w.store.Membership(ctx, g.ID, p.ID)
	if errors.Is(err, store.ErrNotFound) {
		return m, p, none
	}
	return m, p, err
}

// errLastOwner protects the last owner of a group.
func errLastOwner(p store.Person, g *store.Group) error {
	return fail(Conflict, "%s is the last owner of %s. Make somebody else an owner first.", p.Name, g.Name)
}

// ChangeMember changes the role or the delivery of a member.
func (w *Workspace) ChangeMember(ctx context.Context, a Actor, ref, who string, patch api.MemberPatch) (api.Member, error) {
	none := api.Member{}
	do := changePeople
	if patch.Role == "" && strings.EqualFold(who, a.Person.Address) || who == a.Person.ID.String() && patch.Role == "" {
		do = readGroup // one's own delivery
	}
	found, _, err := w.findFor(ctx, a, do, ref)
	if err != nil {
		return none, err
	}
	m, p, err := w.memberIn(ctx, &found, who)
	if err != nil {
		return none, err
	}
	role, ok := expand.ParseRole(patch.Role)
	switch {
	case patch.Role != "" && !ok:
		return none, wrong("role", patch.Role, badRole(patch.Role))
	case patch.Delivery != "" && patch.Delivery != "each" && patch.Delivery != "none":
		return none, wrong("delivery", patch.Delivery, fmt.Sprintf("There is no delivery %q: choose each or none.", patch.Delivery))
	case role > expand.Member && m.Kind == store.KindGroup:
		return none, wrong("role", patch.Role, "A group can be in a group as a member only.")
	case role > expand.Member && p.External:
		return none, wrong("role", patch.Role, fmt.Sprintf("An address outside the workspace can't be %s: it has no account here.", article(role)))
	}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		g, err := t.LockGroup(ctx, found.ID)
		if err != nil {
			return err
		}
		if m, err = t.Membership(ctx, g.ID, p.ID); err != nil {
			return err
		}
		var changes []api.FieldChange
		if role != 0 && role != m.Role {
			if m.Role == expand.Owner && g.Owners == 1 {
				return errLastOwner(p, &g)
			}
			changed(&changes, "role", m.Role.String(), role.String())
			count(&g, m.Kind, m.Role, p.External, -1)
			count(&g, m.Kind, role, p.External, +1)
			m.Role = role
		}
		if mail := patch.Delivery == "each"; patch.Delivery != "" {
			changed(&changes, "delivery", map[bool]string{true: "each", false: "none"}[m.Mail], patch.Delivery)
			m.Mail = mail
		}
		if len(changes) == 0 {
			return nil
		}
		if err := t.SaveMembership(ctx, m); err != nil {
			return err
		}
		if err := t.SaveGroup(ctx, &g, false); err != nil {
			return err
		}
		return record(ctx, t, a, w.now(ctx), "people.change", &g, p.Address, changes)
	})
	return member(store.MemberRow{Membership: m, Name: p.Name, Address: p.Address, External: p.External, Active: p.Active}), err
}

// RemoveMember takes somebody out of a group; oneself where the group lets its
// members leave.
func (w *Workspace) RemoveMember(ctx context.Context, a Actor, ref, who string) error {
	found, s, err := w.findFor(ctx, a, readGroup, ref)
	if err != nil {
		return err
	}
	m, p, err := w.memberIn(ctx, &found, who)
	if err != nil {
		if e := new(Error); !a.may(seePeople, &found, s) && errors.As(err, &e) && e.Kind == NotFound {
			return fail(NotAllowed, "%s", permits[changePeople].says) // does not tell who is in it
		}
		return err
	}
	if !a.may(changePeople, &found, s) {
		switch {
		case p.ID != a.Person.ID:
			return fail(NotAllowed, "%s", permits[changePeople].says)
		case found.Leaving == policy.LeaveAsking:
			return fail(NotAllowed, "You can't leave %s by yourself. Ask its owners to let you go.", found.Name)
		case found.Leaving == policy.LeaveFixed:
			return fail(NotAllowed, "The members of %s are fixed: nobody leaves by themselves.", found.Name)
		}
	}
	return w.store.Tx(ctx, func(t *store.Store) error {
		g, err := t.LockGroup(ctx, found.ID)
		if err != nil {
			return err
		}
		if m, err = t.Membership(ctx, g.ID, p.ID); errors.Is(err, store.ErrNotFound) {
			return fail(NotFound, "%s is not in %s.", p.Address, g.Name)
		} else if err != nil {
			return err
		}
		if m.Role == expand.Owner && g.Owners == 1 {
			return errLastOwner(p, &g)
		}
		count(&g, m.Kind, m.Role, p.External, -1)
		if err := t.DeleteMembership(ctx, g.ID, p.ID); err != nil {
			return err
		}
		if err := t.SaveGroup(ctx, &g, false); err != nil {
			return err
		}
		return record(ctx, t, a, w.now(ctx), "people.remove", &g, p.Address, []api.FieldChange{{Field: p.Address, From: m.Role.String(), To: nil}})
	})
}
