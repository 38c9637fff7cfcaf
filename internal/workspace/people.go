package workspace

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
)

func person(p store.Person) api.Person {
	return api.Person{ID: p.ID.String(), Address: p.Address, Name: p.Name, Active: p.Active, External: p.External, Attributes: fields(p), WorkspaceRole: p.WorkspaceRole, Version: p.Version}
}

// PeopleList says which people to list.
type PeopleList struct {
	Q      string
	Kind   string // "" or here, departed, external
	Lacks  string // a field of the directory
	Cursor string
	Limit  int
}

// People lists people by name.
func (w *Workspace) People(ctx context.Context, a Actor, l PeopleList) (api.Page[api.Person], error) {
	none := api.Page[api.Person]{}
	if err := allow(a, searchPeople); err != nil {
		return none, err
	}
	after, err := store.ParseCursor(l.Cursor)
	if err != nil {
		return none, wrong("cursor", l.Cursor, says(err)+".")
	}
	q := store.PeopleQuery{Q: l.Q, After: after, Limit: l.Limit, Departed: l.Kind == "departed", External: l.Kind == "external", Lacks: l.Lacks}
	switch {
	case l.Kind == "", l.Kind == "here":
	case q.Departed || q.External:
		if err := allow(a, readDeparted); err != nil {
			return none, err
		}
	default:
		return none, wrong("kind", l.Kind, fmt.Sprintf("There are no people of the kind %q: choose here, departed or external.", l.Kind))
	}
	if l.Lacks != "" && !slices.Contains(rule.FieldNames(), l.Lacks) {
		return none, wrong("lacks", l.Lacks, fmt.Sprintf("The directory has no field %q: choose one of %s.", l.Lacks, strings.Join(rule.FieldNames(), ", ")))
	}
	p, err := w.store.People(ctx, q)
	return pageOf(p, person), err
}

// SuggestPeople returns the people whom the beginning of a name or an address may
// mean, at most 20.
func (w *Workspace) SuggestPeople(ctx context.Context, a Actor, q string, limit int) ([]api.Person, error) {
	if err := allow(a, searchPeople); err != nil {
		return nil, err
	}
	found, err := w.store.TypeAhead(ctx, q, limit)
	out := make([]api.Person, len(found))
	for i, p := range found {
		out[i] = person(p)
	}
	return out, err
}

// findPerson returns somebody of the workspace, here or departed, by identifier or address.
func (w *Workspace) findPerson(ctx context.Context, ref string) (store.Person, error) {
	var p store.Person
	id, err := uuid.Parse(ref)
	if err == nil {
		p, err = w.store.Person(ctx, id)
	} else if addr, bad := mailaddr.Parse(ref); bad == nil {
		p, err = w.store.PersonByKey(ctx, addr.Key())
	} else {
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		return p, errNoPerson(ref)
	}
	return p, err
}

func errNoPerson(ref string) error {
	return fail(NotFound, "There is nobody %q in the workspace. Give an address or an identifier.", cut(ref, 100))
}

// Person returns somebody with the groups they are in, as far as the actor can see
// who is in those.
func (w *Workspace) Person(ctx context.Context, a Actor, ref string) (api.PersonDetails, error) {
	none := api.PersonDetails{}
	if err := allow(a, searchPeople); err != nil {
		return none, err
	}
	p, err := w.findPerson(ctx, ref)
	if err != nil {
		return none, err
	}
	if (p.External || !p.Active) && allow(a, readDeparted) != nil {
		return none, errNoPerson(ref)
	}
	return w.details(ctx, a, p)
}

func (w *Workspace) details(ctx context.Context, a Actor, p store.Person) (api.PersonDetails, error) {
	out := api.PersonDetails{Person: person(p), CreatedAt: p.CreatedAt, DepartedAt: p.DepartedAt, Groups: []api.PersonGroup{}, May: []string{}}
	for _, do := range []action{changeDirectory, readAllChange} {
		if allow(a, do) == nil {
			out.May = append(out.May, string(do))
		}
	}
	rows, err := w.store.GroupsOf(ctx, p.ID)
	if err != nil {
		return out, err
	}
	ids := make([]uuid.UUID, len(rows))
	for i, r := range rows {
		ids[i] = r.GroupID
	}
	groups, standings, err := w.seen(ctx, a, ids)
	for _, r := range rows {
		g, ok := groups[r.GroupID]
		if ok && (p.ID == a.Person.ID || a.may(seePeople, &g, standings[r.GroupID])) {
			out.Groups = append(out.Groups, personGroup(r))
		}
	}
	return out, err
}

func personGroup(r store.MembershipRow) api.PersonGroup {
	return api.PersonGroup{Name: r.Name, Address: r.Address, Role: r.Role.String(), ByRule: r.ByRule, LastOwner: r.Role == expand.Owner && r.Owners == 1, Ended: r.Ended, Since: r.AddedAt}
}

// checkAttributes returns what is wrong with attributes of a person.
func checkAttributes(p *problems, attributes map[string]string) {
	known := rule.FieldNames()
	for _, name := range sortedKeys(attributes) {
		switch v := attributes[name]; {
		case !slices.Contains(known, name):
			p.add("attributes."+name, cut(v, 100), "The directory has no field %q: choose one of %s.", name, strings.Join(known, ", "))
		case len([]rune(v)) > 300:
			p.add("attributes."+name, nil, "%s has %d characters; 300 is the most.", name, len([]rune(v)))
		}
	}
}

func checkWorkspaceRole(p *problems, role string) {
	if role != "" && role != Administrator && role != Auditor {
		p.add("workspace_role", role, "There is no role %q in the workspace: choose administrator, auditor, or leave it empty.", role)
	}
}

// merge puts attributes over others; an empty one takes away.
func merge(before, patch map[string]string) map[string]string {
	out := map[string]string{}
	for k, v := range before {
		out[k] = v
	}
	for k, v := range patch {
		if v = strings.TrimSpace(v); v == "" {
			delete(out, k)
		} else {
			out[k] = v
		}
	}
	return out
}

// CreatePerson puts somebody into the directory. Rules of membership take them in at
// once. They can sign in once they have a password.
func (w *Workspace) CreatePerson(ctx context.Context, a Actor, n api.NewPersonEntry) (api.PersonDetails, error) {
	none := api.PersonDetails{}
	if err := allow(a, changeDirectory); err != nil {
		return none, err
	}
	var p problems
	domains, err := w.store.Domains(ctx)
	if err != nil {
		return none, err
	}
	addr, err := mailaddr.Parse(n.Address)
	switch {
	case err != nil:
		p.add("address", n.Address, "%s", says(err))
	case !slices.Contains(domains, addr.Domain()):
		p.add("address", n.Address, "%s is not a domain of this workspace. Choose %s.", addr.Domain(), strings.Join(domains, " or "))
	}
	if bad := checkName(n.Name); bad != "" {
		p.add("name", n.Name, "%s", bad)
	}
	checkAttributes(&p, n.Attributes)
	checkWorkspaceRole(&p, n.WorkspaceRole)
	if err := p.err(); err != nil {
		return none, err
	}
	b, err := json.Marshal(merge(nil, n.Attributes))
	if err != nil {
		return none, err
	}
	made := store.Person{ID: store.NewID(), Address: addr.Key(), AddrKey: addr.Key(), Name: strings.TrimSpace(n.Name), Active: true, WorkspaceRole: n.WorkspaceRole, Attributes: b, CreatedAt: w.now(ctx), Version: 1}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		if err := t.AddPeople(ctx, []store.Person{made}); err != nil {
			return err
		}
		if err := recordOf(ctx, t, a, made.CreatedAt, "person.create", nil, made.Address, []api.FieldChange{{Field: "name", To: made.Name}}, []store.Affected{{PersonID: made.ID}}); err != nil {
			return err
		}
		return w.follow(ctx, t, a, []store.Person{made}, changedPaths(store.Person{}, made), made.Name+" came into the directory")
	})
	if errors.Is(err, store.ErrDuplicate) {
		c, cerr := w.checkAddress(ctx, w.store, addr.Key(), domains, uuid.Nil)
		if cerr != nil {
			return none, cerr
		}
		return none, &Error{Kind: Conflict, Says: c.Says, Problems: []api.Problem{{Field: "address", Given: n.Address, Says: c.Says}}}
	}
	if err != nil {
		return none, err
	}
	w.o.Wake()
	return w.details(ctx, a, made)
}

// ChangePerson changes an entry of the directory. Rules of membership follow at once.
func (w *Workspace) ChangePerson(ctx context.Context, a Actor, ref string, patch api.PersonPatch, version int) (api.PersonDetails, error) {
	none := api.PersonDetails{}
	if err := allow(a, changeDirectory); err != nil {
		return none, err
	}
	found, err := w.findPerson(ctx, ref)
	if err != nil {
		return none, err
	}
	var bad problems
	if patch.Name != nil {
		if says := checkName(*patch.Name); says != "" {
			bad.add("name", *patch.Name, "%s", says)
		}
	}
	checkAttributes(&bad, patch.Attributes)
	if patch.WorkspaceRole != nil {
		checkWorkspaceRole(&bad, *patch.WorkspaceRole)
		if *patch.WorkspaceRole != "" && found.External {
			bad.add("workspace_role", *patch.WorkspaceRole, "An address outside the workspace has no account here.")
		}
	}
	if err := bad.err(); err != nil {
		return none, err
	}
	var after store.Person
	err = w.store.Tx(ctx, func(t *store.Store) error {
		before, err := t.LockPerson(ctx, found.ID)
		if err != nil {
			return err
		}
		if version > 0 && version != before.Version {
			return fail(Stale, "Somebody changed %s since you read it (version %d, now %d). Read it again, then make your change.", before.Name, version, before.Version)
		}
		var c []api.FieldChange
		if after, c, err = applyToPerson(before, patch); err != nil || len(c) == 0 {
			return err
		}
		if before.WorkspaceRole == Administrator && after.WorkspaceRole != Administrator {
			if err := keepAdministrator(ctx, t, before); err != nil {
				return err
			}
		}
		if err := t.SavePerson(ctx, &after, after.Name != before.Name); err != nil {
			return err
		}
		if err := recordOf(ctx, t, a, w.now(ctx), "person.change", nil, after.Address, c, []store.Affected{{PersonID: after.ID}}); err != nil {
			return err
		}
		return w.follow(ctx, t, a, []store.Person{after}, changedPaths(before, after), "the entry of "+after.Name+" changed")
	})
	if err != nil {
		return none, err
	}
	w.o.Wake()
	return w.details(ctx, a, after)
}

func applyToPerson(p store.Person, patch api.PersonPatch) (store.Person, []api.FieldChange, error) {
	var c []api.FieldChange
	if patch.Name != nil {
		changed(&c, "name", p.Name, strings.TrimSpace(*patch.Name))
		p.Name = strings.TrimSpace(*patch.Name)
	}
	if patch.WorkspaceRole != nil {
		changed(&c, "workspace_role", p.WorkspaceRole, *patch.WorkspaceRole)
		p.WorkspaceRole = *patch.WorkspaceRole
	}
	before := fields(p)
	after := merge(before, patch.Attributes)
	for _, k := range sortedKeys(patch.Attributes) {
		changed(&c, k, before[k], after[k])
	}
	var err error
	p.Attributes, err = json.Marshal(after)
	return p, c, err
}

// keepAdministrator refuses to lose the last administrator.
func keepAdministrator(ctx context.Context, t *store.Store, p store.Person) error {
	n, err := t.CountAdministrators(ctx)
	if err == nil && n <= 1 {
		return fail(Conflict, "%s is the last administrator. Make somebody else one first.", p.Name)
	}
	return err
}

// DepartureEffect says what it would do if somebody left the organisation.
func (w *Workspace) DepartureEffect(ctx context.Context, a Actor, ref string) (api.DepartureEffect, error) {
	out := api.DepartureEffect{LastOwner: []api.PersonGroup{}}
	if err := allow(a, changeDirectory); err != nil {
		return out, err
	}
	p, err := w.findPerson(ctx, ref)
	if err != nil {
		return out, err
	}
	rows, err := w.store.GroupsOf(ctx, p.ID)
	if err != nil {
		return out, err
	}
	for _, r := range rows {
		if r.Ended {
			continue
		}
		out.Groups++
		if r.Role == expand.Owner {
			out.Owned++
			if r.Owners == 1 {
				out.LastOwner = append(out.LastOwner, personGroup(r))
			}
		}
	}
	out.Says = fmt.Sprintf("%s is in %s and owns %d of them. Their mail stops and they can no longer sign in; if they return, all is as before.", p.Name, groupsOf(out.Groups), out.Owned)
	if n := len(out.LastOwner); n > 0 {
		out.Says += fmt.Sprintf(" %d would have no active owner: name who takes them over.", n)
	}
	return out, nil
}

func groupsOf(n int) string {
	if n == 1 {
		return "1 group"
	}
	return fmt.Sprintf("%d groups", n)
}

// Depart marks that somebody has left the organisation: they can't sign in, get no
// mail, and leave the groups that they were in by rule. What only they own is handed
// to somebody, or left to the caretaker, who is told.
func (w *Workspace) Depart(ctx context.Context, a Actor, ref string, d api.Departure) (api.PersonDetails, error) {
	none := api.PersonDetails{}
	if err := allow(a, changeDirectory); err != nil {
		return none, err
	}
	found, err := w.findPerson(ctx, ref)
	if err != nil {
		return none, err
	}
	if found.External {
		return none, fail(Conflict, "%s is an address outside the workspace. Take it out of its groups instead.", found.Address)
	}
	var heir store.Person
	if d.HandTo != "" {
		heir, err = w.findPerson(ctx, d.HandTo)
		if err != nil || !heir.Active || heir.External || heir.ID == found.ID {
			return none, wrong("hand_to", d.HandTo, fmt.Sprintf("Nobody else who is here has the address %s.", cut(d.HandTo, 100)))
		}
	}
	var p store.Person
	err = w.store.Tx(ctx, func(t *store.Store) error {
		if p, err = t.LockPerson(ctx, found.ID); err != nil {
			return err
		}
		if !p.Active {
			return fail(Conflict, "%s has left already.", p.Name)
		}
		if p.WorkspaceRole == Administrator {
			if err := keepAdministrator(ctx, t, p); err != nil {
				return err
			}
		}
		return w.depart(ctx, t, a, &p, heir)
	})
	if err != nil {
		return none, err
	}
	w.o.Wake()
	return w.details(ctx, a, p)
}

// depart marks p, who is locked, as departed.
func (w *Workspace) depart(ctx context.Context, t *store.Store, a Actor, p *store.Person, heir store.Person) error {
	now := w.now(ctx)
	before := *p
	p.Active, p.DepartedAt = false, &now
	if err := t.SavePerson(ctx, p, false); err != nil {
		return err
	}
	if err := t.EndCredentials(ctx, p.ID); err != nil {
		return err
	}
	changes := []api.FieldChange{{Field: "active", From: true, To: false}}
	rows, err := t.GroupsOf(ctx, p.ID)
	if err != nil {
		return err
	}
	for _, r := range rows {
		if r.Role != expand.Owner || r.Ended {
			continue
		}
		left, err := w.handOver(ctx, t, a, r.GroupID, *p, heir)
		if err != nil {
			return err
		}
		if left != "" {
			changes = append(changes, api.FieldChange{Field: r.Address, From: "owned", To: left})
		}
	}
	if err := recordOf(ctx, t, a, now, "person.depart", nil, p.Address, changes, []store.Affected{{PersonID: p.ID}}); err != nil {
		return err
	}
	return w.follow(ctx, t, a, []store.Person{*p}, changedPaths(before, *p), p.Name+" left the organisation")
}

// handOver sees to a group whose owner p leaves. Where nobody else who is here owns
// it, the heir does from now on; without one its caretaker is told. It says what
// became of the group, "" where others own it.
func (w *Workspace) handOver(ctx context.Context, t *store.Store, a Actor, id uuid.UUID, p, heir store.Person) (string, error) {
	g, err := t.LockGroup(ctx, id)
	if err != nil {
		return "", err
	}
	if owners, err := activeOwners(ctx, t, id); err != nil || len(owners) > 0 { // p is not active any more
		return "", err
	}
	if heir.ID == uuid.Nil {
		e, err := w.expiry(ctx)
		if err != nil {
			return "", err
		}
		to := []string{e.Caretaker}
		if e.Caretaker == "" {
			if to, err = t.Administrators(ctx); err != nil {
				return "", err
			}
		}
		return "no owner", w.send(ctx, t, &g, to, w.letter(letterOwnerless, g, groupPath(g, "people"), map[string]string{"person": p.Name}))
	}
	rows, err := t.LockMembers(ctx, id, []uuid.UUID{heir.ID})
	if err != nil {
		return "", err
	}
	if len(rows) > 0 {
		all := []target{{given: heir.Address, id: heir.ID}}
		err = w.applyToMembers(ctx, t, a, &g, all, map[uuid.UUID]store.MemberRow{heir.ID: rows[0]}, expand.Owner, api.MembersPatch{Role: "owner"})
	} else {
		err = w.join(ctx, t, a, &g, oneself(heir, expand.Owner), entrance{action: "people.add", quiet: true})
	}
	if err != nil {
		return "", err
	}
	return heir.Address, w.send(ctx, t, &g, []string{heir.Address}, w.letter(letterHandedOver, g, groupPath(g, "people"), map[string]string{"person": p.Name, "by": a.name()}))
}

// Return marks that somebody who had left is here again. They are in their groups as
// before, and rules of membership take them in at once.
func (w *Workspace) Return(ctx context.Context, a Actor, ref string) (api.PersonDetails, error) {
	none := api.PersonDetails{}
	if err := allow(a, changeDirectory); err != nil {
		return none, err
	}
	found, err := w.findPerson(ctx, ref)
	if err != nil {
		return none, err
	}
	var p store.Person
	err = w.store.Tx(ctx, func(t *store.Store) error {
		if p, err = t.LockPerson(ctx, found.ID); err != nil {
			return err
		}
		if p.Active {
			return fail(Conflict, "%s is here already.", p.Name)
		}
		before := p
		p.Active, p.DepartedAt = true, nil
		if err := t.SavePerson(ctx, &p, false); err != nil {
			return err
		}
		if err := recordOf(ctx, t, a, w.now(ctx), "person.return", nil, p.Address, []api.FieldChange{{Field: "active", From: false, To: true}}, []store.Affected{{PersonID: p.ID}}); err != nil {
			return err
		}
		return w.follow(ctx, t, a, []store.Person{p}, changedPaths(before, p), p.Name+" returned")
	})
	if err != nil {
		return none, err
	}
	w.o.Wake()
	return w.details(ctx, a, p)
}
