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
	out := api.PersonDetails{Person: person(p), SignsIn: p.PasswordHash != "" && allow(a, changeDirectory) == nil, CreatedAt: p.CreatedAt, DepartedAt: p.DepartedAt, Groups: []api.PersonGroup{}, May: []string{}}
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
// once. They can sign in once they have chosen a password.
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
	err = w.directoryTx(ctx, func(t *store.Store, b *ruleBook) error {
		if err := t.AddPeople(ctx, []store.Person{made}); err != nil {
			return err
		}
		if err := recordOf(ctx, t, a, made.CreatedAt, "person.create", nil, made.Address, []api.FieldChange{{Field: "name", To: made.Name}}, []store.Affected{{PersonID: made.ID}}); err != nil {
			return err
		}
		if n.PasswordLink {
			if err := w.mailPasswordLinks(ctx, t, a, []store.Person{made}); err != nil {
				return err
			}
		}
		return w.follow(ctx, t, a, b, []store.Person{made}, changedPaths(store.Person{}, made), made.Name+" came into the directory")
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
	err = w.directoryTx(ctx, func(t *store.Store, b *ruleBook) error {
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
			if err := keepAdministrators(ctx, t, before, 1); err != nil {
				return err
			}
		}
		if err := t.SavePerson(ctx, &after, after.Name != before.Name); err != nil {
			return err
		}
		if err := recordOf(ctx, t, a, w.now(ctx), "person.change", nil, after.Address, c, []store.Affected{{PersonID: after.ID}}); err != nil {
			return err
		}
		return w.follow(ctx, t, a, b, []store.Person{after}, changedPaths(before, after), "the entry of "+after.Name+" changed")
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

// keepAdministrators refuses to lose p, an administrator, where with them all
// administrators would be lost; losing counts p and those before them.
func keepAdministrators(ctx context.Context, t *store.Store, p store.Person, losing int) error {
	n, err := t.CountAdministrators(ctx)
	if err == nil && n <= losing {
		return fail(Conflict, "%s is the last administrator. Make somebody else one first.", p.Name)
	}
	return err
}
