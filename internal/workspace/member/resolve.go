package member

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/naming"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Bounds of what is done for one list beside reading it.
const (
	maxNames = 500  // names that are looked for
	maxHints = 50   // unknown addresses for which like ones are looked for
	MaxShown = 1000 // lines of an answer
)

// Entry is one entry of a request to add people: somebody by address, by name, or known
// already.
type Entry struct {
	Line                        int // where it stands in its list; 0 for one that was named by itself
	Field, Given, Address, Role string
	Until                       string // the last day, as it was given
	Called                      string // what the list calls them
	person                      *store.Person
	wrong                       string // why it could not be read
}

// Result is what an entry comes to. ID is the person or group, nil for a new outsider.
type Result struct {
	Entry
	api.Line
	ID   uuid.UUID
	Role expand.Role
	Ends *time.Time // of the membership

	kind  admission.Kind
	known bool // who it is: what can be decided about is decided by Admit
	inner *workspace.Group
}

// OK reports whether this person can be in the group.
func (r *Result) OK() bool { return r.Outcome == "added" }

// Asked reports whether it is a group whose owners are asked first.
func (r *Result) Asked() bool { return r.Outcome == "asked" }

func (r *Result) refuse(status, format string, args ...any) {
	r.known = false
	r.Outcome, r.Status, r.Says = "refused", status, fmt.Sprintf(format, args...)
}

// who names a result in the history.
func (r *Result) who() event.Who {
	if r.Name == r.Line.Address {
		return event.Who{Address: r.Line.Address}
	}
	return event.Who{Name: r.Name, Address: r.Line.Address}
}

// Oneself is a person as somebody to put into a group.
func Oneself(p store.Person, role expand.Role) []Result {
	r := Result{Entry: Entry{person: &p}, Line: api.Line{Given: p.Address, Address: p.Address, Name: p.Name, External: p.External}, ID: p.ID, Role: role, known: true}
	if p.External {
		r.kind = admission.Outsider
	}
	return []Result{r}
}

// Again is somebody who was in a group in a role, and until a moment, as somebody to put into it again.
func Again(p store.Person, role string, ends *time.Time) Result {
	r, _ := expand.ParseRole(role)
	out := Oneself(p, r)[0]
	out.Ends = ends
	return out
}

// OfGroup is a group as something to put into another.
func OfGroup(g workspace.Group) Result {
	return Result{Line: api.Line{Given: g.Address, Address: g.Address, Name: g.Name}, ID: g.ID, Role: expand.Member, kind: admission.Group, known: true}
}

// resolver finds out who entries are.
type resolver struct {
	v       *workspace.View
	domains []string
	people  map[string]store.Person
	groups  map[string]store.Group
	seen    map[string]bool
	names   int
	hints   int
}

// Resolve finds out who each entry is. Whether they can be in a group is for Admit to say.
func Resolve(v *workspace.View, entries []Entry) ([]Result, error) {
	r := resolver{v: v, seen: make(map[string]bool, len(entries))}
	var err error
	if r.domains, err = v.Domains(); err != nil {
		return nil, err
	}
	out := make([]Result, len(entries))
	addresses := make([]mailaddr.Address, len(entries))
	var keys []string
	for i, e := range entries {
		out[i] = Result{Entry: e, Line: api.Line{Given: workspace.Cut(e.Given, 400), Line: e.Line}, Role: expand.Member, known: true}
		if e.wrong != "" {
			out[i].refuse("refused", "%s", e.wrong)
			continue
		}
		if e.person == nil && e.Address != "" {
			if addresses[i], err = mailaddr.Parse(e.Address); err != nil {
				out[i].refuse("refused", "%s", workspace.Words(err))
			} else {
				keys = append(keys, addresses[i].Key())
			}
		}
		if out[i].Ends, err = ParseUntil(v, e.Until); err != nil {
			out[i].refuse("refused", "%s", workspace.Words(err))
		}
		if e.Role != "" {
			var ok bool
			if out[i].Role, ok = expand.ParseRole(e.Role); !ok {
				out[i].refuse("refused", "There is no role %q: choose owner, moderator, member.", e.Role)
			}
		}
	}
	if r.people, err = v.Read.PeopleByKeys(keys); err != nil {
		return nil, err
	}
	if err := r.findGroups(slices.DeleteFunc(keys, func(k string) bool { _, ok := r.people[k]; return ok })); err != nil {
		return nil, err
	}
	for i := range out {
		if err := r.settle(&out[i], addresses[i]); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// findGroups reads the groups at addresses, as far as the actor can find them.
func (r *resolver) findGroups(keys []string) error {
	groups, err := r.v.Read.GroupsByKeys(keys)
	if err != nil || len(groups) == 0 {
		return err
	}
	ids := make([]uuid.UUID, 0, len(groups))
	for _, g := range groups {
		ids = append(ids, g.ID)
	}
	visible, err := r.v.Visible(ids)
	r.groups = map[string]store.Group{}
	for k, g := range groups {
		if _, ok := visible[g.ID]; ok {
			r.groups[k] = g
		}
	}
	return err
}

// settle says who one entry is.
func (r *resolver) settle(out *Result, a mailaddr.Address) error {
	if !out.known {
		return nil
	}
	if out.person == nil && out.Entry.Address == "" {
		if err := r.byName(out); err != nil || !out.known {
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
	if isPerson && !p.External {
		key = p.AddrKey // an address of before means them, too
	}
	nested, isGroup := r.groups[key]
	out.Line.Address = key
	switch {
	case r.seen[key]:
		out.known = false
		out.Outcome, out.Status, out.Says = "already", "repeated", "The list names this address twice."
		return nil
	case isGroup:
		out.ID, out.kind, out.Name, out.Line.Address = nested.ID, admission.Group, nested.Name, nested.Address
	case isPerson && !p.External:
		out.ID, out.person, out.Name, out.Line.Address = p.ID, &p, p.Name, p.Address
	case slices.Contains(r.domains, a.Domain()):
		out.refuse("unknown", unknownAddress)
		if err := r.hint(out, a.Local()); err != nil {
			return err
		}
	default:
		out.ID, out.kind, out.External, out.Name = p.ID, admission.Outsider, true, p.Name
		if out.Name == "" && people.CheckName(out.Called) == "" { // nobody else knows what they are called
			out.Name = out.Called
		}
		if out.Name == "" {
			out.Name = key
		}
		if err := r.slip(out, a); err != nil {
			return err
		}
	}
	out.Line.Role = out.Role.String()
	r.seen[key] = true
	return nil
}

// byName looks for the person that a name means.
func (r *resolver) byName(out *Result) error {
	if r.names++; r.names > maxNames {
		out.refuse("unknown", "Names are looked for up to %d in a list. Give an address.", maxNames)
		return nil
	}
	found, err := r.v.Read.TypeAhead(out.Entry.Given, 6)
	if err != nil {
		return err
	}
	name := rule.Fold(strings.Join(strings.Fields(out.Entry.Given), " "))
	exact := slices.DeleteFunc(slices.Clone(found), func(p store.Person) bool { return rule.Fold(p.Name) != name })
	switch {
	case len(found) == 0:
		out.refuse("unknown", "Nobody in the workspace has a name like this. Give an address.")
	case len(exact) == 1:
		out.person, out.Says = &exact[0], "Found by name."
	case len(exact) == 0: // who is only like it may be somebody else
		out.refuse("ambiguous", "Nobody has exactly this name. Choose whom you mean.")
		out.Choices = people.Names(found)
	default:
		found = exact
		out.refuse("ambiguous", "Several people have a name like this. Choose one.")
		out.Choices = people.Names(found)
	}
	return nil
}

// hint looks for people whom a mistyped address may have meant: those whose words
// begin like its words, else those with an address one or two slips away.
func (r *resolver) hint(out *Result, local string) error {
	if r.hints++; r.hints > maxHints {
		return nil
	}
	begun := store.Words(local)
	for i, word := range begun {
		begun[i] = string([]rune(word)[:min(3, len([]rune(word)))])
	}
	found, err := r.v.Read.TypeAhead(strings.Join(begun, " "), 3)
	if err != nil {
		return err
	}
	for i := 0; i < len(begun) && len(found) == 0; i++ {
		like, err := r.v.Read.TypeAhead(begun[i], 200)
		if err != nil {
			return err
		}
		found = slices.DeleteFunc(like, func(p store.Person) bool {
			return !mailaddr.NearlySame(naming.LocalOf(p.AddrKey), strings.ToLower(local))
		})
	}
	out.Choices = people.Names(found[:min(len(found), 3)])
	return nil
}

// slip refuses an address outside whose domain is a slip of the hand away from one of
// the workspace's, where somebody has it there.
func (r *resolver) slip(out *Result, a mailaddr.Address) error {
	for _, d := range r.domains {
		if !mailaddr.NearlySame(a.Domain(), d) {
			continue
		}
		p, err := r.v.Read.PersonByKey(strings.ToLower(a.Local()) + "@" + d)
		switch {
		case err == nil:
			out.refuse("unknown", "The domain is a slip away from %s. Was that meant?", d)
			out.Choices = people.Names([]store.Person{p})
		case !errors.Is(err, store.ErrNotFound):
			return err
		}
	}
	return nil
}

// unknownAddress is said of an address at which there is nobody, or none that the actor
// can find.
const unknownAddress = "Nobody in the workspace has this address. Check it for typing mistakes."

// Admit decides for each result whether they can come into g by a way: by what they are
// now, which may have changed since they were found. as says who lets them in; in which role is said by
// each. In a change, g is locked.
func Admit(v *workspace.View, g *store.Group, results []Result, way admission.Way, as admission.As) error {
	var keys []string
	var ids, groupIDs []uuid.UUID
	for i := range results {
		if r := &results[i]; r.known {
			keys = append(keys, strings.ToLower(r.Line.Address))
			if r.ID != uuid.Nil {
				ids = append(ids, r.ID)
			}
			if r.IsGroup() {
				groupIDs = append(groupIDs, r.ID)
			}
		}
	}
	departed, err := v.Read.DepartedOf(ids)
	if err != nil {
		return err
	}
	groups, err := v.Visible(groupIDs)
	if err != nil {
		return err
	}
	overrides, err := v.Read.OverridesOf(g.ID, keys)
	if err != nil {
		return err
	}
	in, err := v.Read.MemberIDs(g.ID, ids)
	if err != nil {
		return err
	}
	door := v.Door(g)
	var stands *access.Relation // the actor's, once it is asked for
	out, _, err := v.Outside()
	if err != nil {
		return err
	}
	for i := range results {
		r := &results[i]
		if !r.known {
			continue
		}
		c := admission.Candidate{Name: r.Name, Address: r.Line.Address, Kind: r.kind, Override: overrides[strings.ToLower(r.Line.Address)], In: in[r.ID]}
		switch r.kind {
		case admission.Group:
			inner, ok := groups[r.ID]
			if !ok {
				r.refuse("unknown", unknownAddress)
				continue
			}
			if err := asInner(v, g.ID, &inner, &c); err != nil {
				return err
			}
			r.inner = &inner
		case admission.Person:
			c.Departed = departed[r.ID]
		}
		as.Role = r.Role
		r.apply(admission.In(way, door, c, as))
		if r.OK() && r.Role > expand.Member && r.kind == admission.Person && !as.Free {
			if stands == nil {
				relation, err := v.RelationOf(v.By.Person, g)
				if err != nil {
					return err
				}
				stands = &relation
			}
			if no, err := v.MayAppoint(g, *stands, r.ID, 0, r.Role, as.Founding); err != nil {
				return err
			} else if no != "" {
				r.refuse("refused", "%s", no)
			}
		}
		if r.kind == admission.Outsider && r.OK() {
			ends, why := bound(v, out, r.Ends)
			if r.Ends = ends; why != "" {
				r.refuse("refused", "%s", why)
			}
		}
	}
	return nil
}

// apply puts a verdict into a result.
func (r *Result) apply(verdict admission.Verdict) {
	found := r.Says // "Found by name."
	switch verdict.Outcome {
	case admission.Admitted:
		r.Outcome = "added"
	case admission.Asked:
		r.Outcome = "asked"
	case admission.Already:
		r.Outcome = "already"
	default:
		r.Outcome = "refused"
	}
	r.Status, r.Says = verdict.Status, verdict.Says
	if r.OK() {
		r.Says = found
	}
	switch r.Status {
	case "ended", "closed":
		r.Status = "refused"
	}
}

// InnerGroup is a group as the core decides about its coming into another.
func InnerGroup(v *workspace.View, outer uuid.UUID, g *workspace.Group) (admission.Candidate, error) {
	c := admission.Candidate{Name: g.Name, Address: g.Address, Kind: admission.Group}
	in, err := v.Read.MemberIDs(outer, []uuid.UUID{g.ID})
	if err != nil {
		return c, err
	}
	c.In = in[g.ID]
	return c, asInner(v, outer, g, &c)
}

// asInner says where a group that would be nested stands to the one around it.
func asInner(v *workspace.View, to uuid.UUID, g *workspace.Group, c *admission.Candidate) error {
	c.Ended, c.Agrees = v.Ended(&g.Group), v.May(access.ChangeGroup, g)
	if v.May(access.SeePeople, g) { // else it would tell who is in it
		n, err := v.Read.ExternalReach(g.ID, v.Now(), false)
		if err != nil {
			return err
		}
		c.Externals = n > 0
	}
	inner, err := v.Read.NestedAround(g.ID, v.Now())
	if err != nil {
		return err
	}
	outer, err := v.Read.NestedAround(to, v.Now())
	if err != nil {
		return err
	}
	c.Itself = g.ID == to
	c.Depth = expand.Depth(g.ID, inner, expand.MaxDepth+1) + expand.Height(to, outer, expand.MaxDepth+1)
	path := expand.Loop(to, g.ID, inner)
	if len(path) < 2 {
		return nil
	}
	names, err := v.Visible(path)
	for _, id := range path {
		name := "a group that you can't find"
		if x, ok := names[id]; ok {
			name = x.Name
		}
		c.Path = append(c.Path, name)
	}
	return err
}

// hasGroups reports whether a list holds groups, which are nested.
func hasGroups(results []Result) bool {
	return slices.ContainsFunc(results, func(r Result) bool { return r.IsGroup() })
}

// Counts counts results by status.
func Counts(results []Result) map[string]int {
	out := map[string]int{}
	for i := range results {
		out[results[i].Status]++
	}
	return out
}

// Shown returns what became of results: all of those named one by one, then up to
// MaxShown of a list, the ones to look at first.
func Shown(results []Result) []api.Line {
	out, done := []api.Line{}, []api.Line{}
	room := MaxShown
	for i := range results {
		switch {
		case results[i].Entry.Line == 0:
			out = append(out, results[i].Line)
		case room > 0 && !results[i].OK():
			out, room = append(out, results[i].Line), room-1
		case len(done) < MaxShown:
			done = append(done, results[i].Line)
		}
	}
	return append(out, done[:min(len(done), room)]...)
}

// RefusedAsProblems makes problems of results that a creation can't do without. The
// first n are owners; entries of lists may fail. One that repeats another counts too.
func RefusedAsProblems(results []Result, n int) (p workspace.Problems) {
	for i := range results {
		switch r := &results[i]; {
		case r.Entry.Line > 0:
		case !r.OK() && !r.Asked():
			p.Add(r.Field, r.Entry.Given, "%s", r.Says)
		case i < n && r.kind == admission.Group:
			p.Add(r.Field, r.Entry.Given, "A group can't own a group.")
		}
	}
	return p
}

// staff reports whether the actor may give roles in a group and answer for outsiders.
func staff(v *workspace.View, g *workspace.Group) bool { return v.May(access.ChangePeople, g) }

// IsGroup reports whether a result is a group.
func (r *Result) IsGroup() bool { return r.kind == admission.Group }
