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

// Bounds of what is done for one list beside reading it.
const (
	maxNames   = 500  // names that are looked for
	maxHints   = 50   // unknown addresses for which like ones are looked for
	maxShown   = 1000 // lines of an answer
	maxInvited = 2000 // invitations in one request
)

// line is one line of a request to add people: somebody by address, by name, or
// known already.
type line struct {
	n                           int // where it stands in its list; 0 for one that was named by itself
	field, given, address, role string
	person                      *store.Person
}

// result is what a line comes to. ID is the person or group, nil for a new outsider.
type result struct {
	line
	api.Added
	id   uuid.UUID
	kind int8
	role expand.Role
}

// ok reports whether this person can be added.
func (r *result) ok() bool { return r.Outcome == "added" }

func (r *result) refuse(status, format string, args ...any) {
	r.Outcome, r.Status, r.Says = "refused", status, fmt.Sprintf(format, args...)
}

// lines makes lines of people named one by one.
func lines(field string, people []api.NewPerson) []line {
	out := make([]line, len(people))
	for i, x := range people {
		out[i] = line{field: fmt.Sprintf("%s[%d].address", field, i), given: x.Address, address: x.Address, role: x.Role}
	}
	return out
}

// resolver finds out who lines are.
type resolver struct {
	w       *Workspace
	g       *store.Group
	staff   bool // the actor may give roles and answer for outsiders
	domains []string
	barred  map[string]bool
	people  map[string]store.Person
	groups  map[string]store.Group
	seen    map[string]bool
	names   int
	hints   int
}

// resolve finds out who each line is and whether they can be in the group, which may
// be one that is yet to be made.
func (w *Workspace) resolve(ctx context.Context, g *store.Group, lines []line, staff bool) ([]result, error) {
	r := resolver{w: w, g: g, staff: staff, seen: make(map[string]bool, len(lines))}
	var err error
	if r.domains, err = w.store.Domains(ctx); err != nil {
		return nil, err
	}
	if r.barred, err = w.store.Barred(ctx, g.ID); err != nil {
		return nil, err
	}
	out := make([]result, len(lines))
	addresses := make([]mailaddr.Address, len(lines))
	var keys []string
	for i, l := range lines {
		out[i] = result{line: l, Added: api.Added{Given: cut(l.given, 400), Line: l.n, Outcome: "added", Status: "new"}, role: expand.Member}
		if l.person == nil && l.address != "" {
			if addresses[i], err = mailaddr.Parse(l.address); err != nil {
				out[i].refuse("refused", "%s", says(err))
			} else {
				keys = append(keys, addresses[i].Key())
			}
		}
		if l.role != "" {
			var ok bool
			if out[i].role, ok = expand.ParseRole(l.role); !ok {
				out[i].refuse("refused", "%s", badRole(l.role))
			}
		}
	}
	if r.people, err = w.store.PeopleByKeys(ctx, keys); err != nil {
		return nil, err
	}
	if r.groups, err = w.store.GroupsByKeys(ctx, slices.DeleteFunc(keys, func(k string) bool { _, ok := r.people[k]; return ok })); err != nil {
		return nil, err
	}
	for i := range out {
		if err := r.settle(ctx, &out[i], addresses[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// settle says who one line is.
func (r *resolver) settle(ctx context.Context, out *result, a mailaddr.Address) error {
	if !out.ok() {
		return nil
	}
	if out.person == nil && out.line.address == "" {
		if err := r.byName(ctx, out); err != nil || !out.ok() {
			return err
		}
	}
	key := a.Key()
	if out.person != nil {
		key = out.person.AddrKey
	}
	p, isPerson := r.people[key]
	if out.person != nil {
		p, isPerson = *out.person, true
	}
	nested, isGroup := r.groups[key]
	out.Address = key
	switch {
	case r.seen[key]:
		out.Outcome, out.Status, out.Says = "already", "repeated", "The list names this address twice."
		return nil
	case isGroup:
		if err := r.nested(ctx, out, nested); err != nil {
			return err
		}
	case isPerson && !p.External:
		out.id, out.kind, out.Name, out.Address = p.ID, store.KindPerson, p.Name, p.Address
		if !p.Active {
			out.refuse("departed", "%s has left the organisation.", p.Name)
		}
	case slices.Contains(r.domains, a.Domain()):
		out.refuse("unknown", "Nobody in the workspace has this address. Check it for typing mistakes.")
		if err := r.hint(ctx, out, a.Local()); err != nil {
			return err
		}
	default:
		r.outsider(out, p)
		if err := r.slip(ctx, out, a); err != nil {
			return err
		}
	}
	if r.barred[key] {
		out.refuse("barred", "%s is barred from this group. Lift the bar first.", key)
	}
	if out.role > expand.Member && !r.staff && out.ok() {
		out.refuse("refused", "Only owners and administrators may make somebody %s.", article(out.role))
	}
	out.Role = out.role.String()
	r.seen[key] = true
	return nil
}

func article(r expand.Role) string {
	if r == expand.Owner {
		return "an owner"
	}
	return "a " + r.String()
}

// byName looks for the person that a name means.
func (r *resolver) byName(ctx context.Context, out *result) error {
	if r.names++; r.names > maxNames {
		out.refuse("unknown", "Names are looked for up to %d in a list. Give an address.", maxNames)
		return nil
	}
	found, err := r.w.store.TypeAhead(ctx, out.given, 6)
	if err != nil {
		return err
	}
	exact := slices.DeleteFunc(slices.Clone(found), func(p store.Person) bool { return !strings.EqualFold(p.Name, out.given) })
	switch {
	case len(exact) == 1:
		found = exact
	case len(exact) > 1:
		found = exact
	}
	switch len(found) {
	case 0:
		out.refuse("unknown", "Nobody in the workspace has a name like this. Give an address.")
	case 1:
		out.person, out.Says = &found[0], "Found by name."
	default:
		out.refuse("ambiguous", "Several people have a name like this. Choose one.")
		out.Choices = choices(found)
	}
	return nil
}

func choices(people []store.Person) []api.Name {
	out := make([]api.Name, len(people))
	for i, p := range people {
		out[i] = api.Name{Name: p.Name, Address: p.Address}
	}
	return out
}

// hint looks for people whom a mistyped address may have meant: those whose words
// begin like its words, else those with an address one or two slips away.
func (r *resolver) hint(ctx context.Context, out *result, local string) error {
	if r.hints++; r.hints > maxHints {
		return nil
	}
	begun := store.Words(local)
	for i, word := range begun {
		begun[i] = string([]rune(word)[:min(3, len([]rune(word)))])
	}
	found, err := r.w.store.TypeAhead(ctx, strings.Join(begun, " "), 3)
	if err != nil {
		return err
	}
	for i := 0; i < len(begun) && len(found) == 0; i++ {
		like, err := r.w.store.TypeAhead(ctx, begun[i], 200)
		if err != nil {
			return err
		}
		found = slices.DeleteFunc(like, func(p store.Person) bool { return !mailaddr.NearlySame(localOf(p.AddrKey), strings.ToLower(local)) })
	}
	out.Choices = choices(found[:min(len(found), 3)])
	return nil
}

func (r *resolver) outsider(out *result, known store.Person) {
	out.id, out.kind, out.External, out.Name, out.Status = known.ID, store.KindPerson, true, known.Name, "external"
	switch {
	case out.role > expand.Member:
		out.refuse("external", "An address outside the workspace can't be %s: it has no account here.", article(out.role))
	case r.g.Externals == policy.ExternalsBarred:
		out.refuse("external", "This group takes no external members. Change that in its policy first.")
	case r.g.Externals == policy.ExternalsByOwners && !r.staff:
		out.refuse("external", "Only owners and administrators may add external members to this group.")
	}
}

// slip refuses an address outside whose domain is a slip of the hand away from one of
// the workspace's, where somebody has it there.
func (r *resolver) slip(ctx context.Context, out *result, a mailaddr.Address) error {
	for _, d := range r.domains {
		if !mailaddr.NearlySame(a.Domain(), d) {
			continue
		}
		p, err := r.w.store.PersonByKey(ctx, strings.ToLower(a.Local())+"@"+d)
		switch {
		case err == nil:
			out.refuse("unknown", "The domain is a slip away from %s. Was that meant?", d)
			out.Choices = choices([]store.Person{p})
		case !errors.Is(err, store.ErrNotFound):
			return err
		}
	}
	return nil
}

func (r *resolver) nested(ctx context.Context, out *result, nested store.Group) error {
	out.id, out.kind, out.Name, out.Address, out.Status = nested.ID, store.KindGroup, nested.Name, nested.Address, "group"
	around, err := r.w.store.NestedAround(ctx, nested.ID, r.w.now(ctx))
	if err != nil {
		return err
	}
	over, err := r.w.store.NestedAround(ctx, r.g.ID, r.w.now(ctx))
	if err != nil {
		return err
	}
	switch path := expand.Loop(r.g.ID, nested.ID, around); {
	case out.role > expand.Member:
		out.refuse("group", "A group can be in a group as a member only.")
	case nested.EndedAt != nil:
		out.refuse("group", "The group %s has ended.", nested.Name)
	case len(path) == 1:
		out.refuse("group", "A group can't be in itself.")
	case path != nil:
		names, err := r.w.pathNames(ctx, path)
		if err != nil {
			return err
		}
		out.refuse("group", "%s is inside %s already (%s): the two would contain each other.", r.g.Name, nested.Name, strings.Join(names, " › "))
	case expand.Depth(nested.ID, around, expand.MaxDepth+1)+expand.Height(r.g.ID, over, expand.MaxDepth+1) > expand.MaxDepth:
		out.refuse("group", "Groups can be nested %d deep at most, and this would go deeper.", expand.MaxDepth)
	}
	return nil
}

func (w *Workspace) pathNames(ctx context.Context, path []uuid.UUID) ([]string, error) {
	groups, err := w.store.GroupsByID(ctx, path)
	names := make([]string, len(path))
	for i, id := range path {
		names[i] = groups[id].Name
	}
	return names, err
}

// counts counts results by status.
func counts(results []result) map[string]int {
	out := map[string]int{}
	for i := range results {
		out[results[i].Status]++
	}
	return out
}

// shown returns what became of results: all of those named one by one, then up to
// maxShown of a list, the ones to look at first.
func shown(results []result) []api.Added {
	var out, done []api.Added
	room := maxShown
	for i := range results {
		switch {
		case results[i].n == 0:
			out = append(out, results[i].Added)
		case room > 0 && !results[i].ok():
			out, room = append(out, results[i].Added), room-1
		case len(done) < maxShown:
			done = append(done, results[i].Added)
		}
	}
	out = append(out, done[:min(len(done), room)]...)
	if out == nil {
		return []api.Added{}
	}
	return out
}

// Roster says who the people of a list are, and whether they could be in a group.
// Nothing is done.
func (w *Workspace) Roster(ctx context.Context, a Actor, q api.RosterRequest) (api.Roster, error) {
	out := api.Roster{}
	g, staff := store.Group{}, true
	if q.Group != "" {
		found, s, err := w.findFor(ctx, a, addPeople, q.Group)
		if err != nil {
			return out, err
		}
		g, staff = found, a.may(changePeople, &found, s)
	} else {
		if err := w.allowCreate(ctx, a); err != nil {
			return out, err
		}
		if q.Externals != "" {
			p := policy.Default()
			if err := p.Set("externals", q.Externals); err != nil {
				return out, wrong("externals", q.Externals, upperFirst(err.Error())+".")
			}
			g.Externals = p.Externals
		}
	}
	all, err := w.readList(ctx, a, "text", q.PeopleList, &out)
	if err != nil {
		return out, err
	}
	results, err := w.resolve(ctx, &g, all, staff)
	if err != nil {
		return out, err
	}
	if err := w.markMembers(ctx, w.store, g.ID, results); err != nil {
		return out, err
	}
	for i := range results {
		if results[i].ok() {
			out.Ready++
		}
	}
	out.Lines, out.Counts, out.Total = shown(results), counts(results), len(results)
	return out, nil
}

// markMembers marks those results that are in a group already.
func (w *Workspace) markMembers(ctx context.Context, t *store.Store, group uuid.UUID, results []result) error {
	var known []uuid.UUID
	for i := range results {
		if results[i].ok() && results[i].id != uuid.Nil {
			known = append(known, results[i].id)
		}
	}
	in, err := t.MemberIDs(ctx, group, known)
	if err != nil {
		return err
	}
	for i := range results {
		if r := &results[i]; r.ok() && in[r.id] {
			r.Outcome, r.Status, r.Says = "already", "already", "Is in the group already; nothing was changed."
		}
	}
	return nil
}

// refusedAsProblems makes errors of lines that a creation can't do without. The
// first n lines are owners; lines of lists may fail. A line that repeats another
// counts too.
func refusedAsProblems(results []result, n int) error {
	var p problems
	for i := range results {
		switch r := &results[i]; {
		case r.n > 0:
		case !r.ok():
			p.add(r.field, r.given, "%s", r.Says)
		case i < n && r.kind == store.KindGroup:
			p.add(r.field, r.given, "A group can't own a group.")
		}
	}
	return p.err()
}
