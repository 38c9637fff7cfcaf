// Package people is the directory of people, to look at: lists, one person, whom a
// beginning of a name may mean. Changes of the directory are in package directory.
package people

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/naming"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Service looks at people.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// Query says which people to list.
type Query struct {
	Q      string
	Kind   string // "" or here, departed, external
	Lacks  string // a field of the directory
	Filter string // of core/filter's People
	Sort   string // "" or name, address, created, signed_in, with a leading - in the other direction; match: the best matches of Q alone, not counted
	Cursor string
	Limit  int
}

// List lists people by name, or those whom Q may mean.
func (s *Service) List(ctx context.Context, by workspace.Actor, l Query) (api.Page[api.Person], error) {
	none := api.Page[api.Person]{}
	if err := by.Allow(access.SearchPeople); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	after, err := v.Cursor(l.Cursor, "people", l.Q, l.Kind, l.Lacks, l.Filter, l.Sort)
	if err != nil {
		return none, err
	}
	q, err := l.query(v)
	if err != nil {
		return none, err
	}
	q.After = after
	of := func(p store.Person) api.Person { return Shape(v, p) }
	if l.Sort == "match" {
		found, err := v.Read.TypeAhead(l.Q, l.Limit)
		return workspace.Page(store.Page[store.Person]{Items: found, Total: -1}, of), err
	}
	p, err := v.Read.People(q)
	note := q.Note()
	if err == nil && l.Q != "" && l.Cursor == "" && len(p.Items) == 0 {
		note, err = v.Nearest(store.KindPerson, l.Q, func(near string) (bool, error) {
			q.Q = near
			p, err = v.Read.People(q)
			return len(p.Items) > 0, err
		})
	}
	out := workspace.Page(p, of)
	out.Note = note
	return out, workspace.Filtered(err)
}

// query reads a query of the actor's.
func (l Query) query(v *workspace.View) (none store.PeopleQuery, err error) {
	by := v.By
	sort, desc := strings.CutPrefix(l.Sort, "-")
	q := store.PeopleQuery{Q: l.Q, Limit: l.Limit, Departed: l.Kind == "departed", External: l.Kind == "external", Lacks: l.Lacks, Sort: store.PeopleSort(sort), Desc: desc}
	if sort != "match" && !v.MaySort("people", l.Sort) {
		return none, workspace.Fail(workspace.NotAllowed, "Only administrators and auditors may sort people by when they signed in.")
	}
	if q.Filter, err = v.Filter("people", l.Filter); err != nil {
		return none, err
	}
	if q.Departed || q.External {
		if err := by.Allow(access.ReadDeparted); err != nil {
			return none, err
		}
	}
	known, err := v.FieldNames()
	if err != nil {
		return none, err
	}
	if l.Lacks != "" && !slices.Contains(known, l.Lacks) {
		return none, workspace.Wrong("lacks", l.Lacks, "The directory has no field %q: choose one of %s.", l.Lacks, strings.Join(known, ", "))
	}
	if l.Lacks != "" && !v.SeesAttribute(l.Lacks) {
		return none, workspace.Fail(workspace.NotAllowed, "Colleagues don't see the %s of each other, so you can't ask who lacks it.", l.Lacks)
	}
	return q, nil
}

// Shape is a person as the interface shows them to the actor.
func Shape(v *workspace.View, p store.Person) api.Person {
	return api.Person{ID: p.ID.String(), Address: p.Address, Name: p.Name, Active: p.Active, External: p.External, Attributes: v.Sees(Fields(p), p.ID == v.By.Person.ID), WorkspaceRole: p.WorkspaceRole, Version: p.Version}
}

// Fields returns what the directory has of a person.
func Fields(p store.Person) map[string]string {
	out := map[string]string{}
	_ = json.Unmarshal(p.Attributes, &out) // written by us; an unreadable one counts as none
	return out
}

// Find returns somebody of the workspace, here or departed, or an address outside that is
// in a group, by identifier or address.
func Find(v *workspace.View, ref string) (store.Person, error) {
	var p store.Person
	id, err := uuid.Parse(ref)
	if err == nil {
		p, err = v.Read.Person(id)
	} else if addr, bad := mailaddr.Parse(ref); bad == nil {
		p, err = v.Read.PersonByKey(addr.Key())
	} else {
		err = store.ErrNotFound
	}
	if errors.Is(err, store.ErrNotFound) {
		return p, errNobody(ref)
	}
	return p, err
}

func errNobody(ref string) error {
	return workspace.Fail(workspace.NotFound, "There is nobody %q in the workspace. Give an address or an identifier.", workspace.Cut(ref, 100))
}

// Read returns somebody with the groups they are in, as far as the actor can see who is
// in those.
func (s *Service) Read(ctx context.Context, by workspace.Actor, ref string) (api.PersonDetails, error) {
	none := api.PersonDetails{}
	if err := by.Allow(access.SearchPeople); err != nil {
		return none, err
	}
	v := s.k.View(ctx, by)
	p, err := Find(v, ref)
	if err != nil {
		return none, err
	}
	if (p.External || !p.Active) && by.Allow(access.ReadDeparted) != nil {
		return none, errNobody(ref)
	}
	return Details(v, p)
}

// Details shapes a person with their groups.
func Details(v *workspace.View, p store.Person) (api.PersonDetails, error) {
	out := api.PersonDetails{Person: Shape(v, p), SignsIn: p.PasswordHash != "" && v.By.Allow(access.ChangeDirectory) == nil, CreatedAt: v.In(p.CreatedAt), DepartedAt: v.InPtr(p.DepartedAt),
		Groups: []api.PersonGroup{}, Reached: []api.ReachedBy{}, Waiting: []api.Asked{}, May: []string{}}
	for _, do := range []access.Action{access.ChangeDirectory, access.ReadWorkspaceHistory, access.ReadReach} {
		if v.By.Allow(do) == nil || do == access.ReadReach && p.ID == v.By.Person.ID {
			out.May = append(out.May, string(do))
		}
	}
	former, err := v.Read.FormerAddresses([]uuid.UUID{p.ID})
	if err != nil {
		return out, err
	}
	out.Former = former[p.ID]
	rows, err := v.Read.GroupsOf(p.ID)
	if err != nil {
		return out, err
	}
	ids := make([]uuid.UUID, len(rows))
	for i, r := range rows {
		ids[i] = r.GroupID
	}
	groups, err := v.Visible(ids)
	for _, r := range rows {
		if g, ok := groups[r.GroupID]; ok && (p.ID == v.By.Person.ID || v.May(access.SeePeople, &g)) {
			out.Groups = append(out.Groups, groupOf(v, p, r))
		}
	}
	if err != nil {
		return out, err
	}
	if out.Reached, err = reachedBy(v, p, groups); err != nil {
		return out, err
	}
	if p.ID == v.By.Person.ID || v.By.Allow(access.ChangeDirectory) == nil {
		out.Mail = Mail(v, p)
		d, err := v.Read.DigestTime(p.ID)
		if err == nil {
			out.Mail.Digest = DigestAt(v, d)
		} else if !errors.Is(err, store.ErrNotFound) {
			return out, err
		}
	}
	out.Waiting, err = asked(v, p)
	return out, err
}

// DigestAt says when digests come.
func DigestAt(v *workspace.View, d store.DigestTime) string {
	return fmt.Sprintf("%02d:00 in %s", d.Hour, cmp.Or(d.Zone, v.Zone().String()))
}

// Mail says whether the mail of groups reaches somebody.
func Mail(v *workspace.View, p store.Person) api.MailState {
	switch {
	case !p.Active:
		return api.MailState{Says: "No mail of groups reaches them: they have left."}
	case !p.Paused(v.Now()):
		return api.MailState{Says: "Mail of groups reaches them."}
	case p.MailPausedWhy == store.PausedReturned:
		return api.MailState{Paused: true, Why: p.MailPausedWhy, Says: "Mail of groups is paused: messages to this address came back. It goes on once somebody says that the address works again."}
	}
	until := v.LastDay(p.MailPausedUntil)
	return api.MailState{Paused: true, Why: p.MailPausedWhy, Until: until, Says: "Mail of groups is paused up to and with " + until + ", as they asked."}
}

// reachedBy are the groups that reach somebody through groups nested in them, as far as the actor
// sees who is in both. direct are those that they are in themselves.
func reachedBy(v *workspace.View, p store.Person, direct map[uuid.UUID]workspace.Group) ([]api.ReachedBy, error) {
	out := []api.ReachedBy{}
	above, err := v.Read.Above(p.ID, p.External, v.Now())
	if err != nil || len(above) == 0 {
		return out, err
	}
	outer, err := v.Visible(above)
	if err != nil {
		return out, err
	}
	inner, err := v.Read.NestedIn(above)
	if err != nil {
		return out, err
	}
	sees := func(g workspace.Group) bool { return p.ID == v.By.Person.ID || v.May(access.SeePeople, &g) }
	for _, id := range above {
		g, ok := outer[id]
		if _, in := direct[id]; in || !ok || !sees(g) {
			continue
		}
		x := api.ReachedBy{Name: g.Name, Address: g.Address, Through: []string{}}
		for _, n := range inner[id] {
			i, ok := direct[n]
			if !ok {
				i, ok = outer[n]
			}
			if ok && sees(i) {
				x.Through = append(x.Through, i.Name)
			}
		}
		if len(x.Through) > 0 {
			slices.Sort(x.Through)
			out = append(out, x)
		}
	}
	slices.SortFunc(out, func(a, b api.ReachedBy) int { return strings.Compare(a.Name, b.Name) })
	return out, nil
}

// asked is what somebody asked for that nobody has decided yet, as far as the actor may know of it.
func asked(v *workspace.View, p store.Person) ([]api.Asked, error) {
	out := []api.Asked{}
	page, err := v.Read.Requests(store.RequestQuery{Person: p.ID, Limit: 100})
	if err != nil {
		return out, err
	}
	var ids []uuid.UUID
	for _, r := range page.Items {
		ids = append(ids, r.GroupID)
	}
	groups, err := v.Visible(ids)
	for _, r := range page.Items {
		g, ok := groups[r.GroupID]
		if ok && r.State == store.Undecided && (p.ID == v.By.Person.ID || v.By.Subject().ReadsAll() || v.May(access.DecideRequests, &g)) {
			out = append(out, api.Asked{ID: r.ID.String(), Kind: r.Kind, Group: api.Name{Name: g.Name, Address: g.Address}, At: v.In(r.MadeAt)})
		}
	}
	return out, err
}

// groupOf shapes a group that somebody is in.
func groupOf(v *workspace.View, p store.Person, r store.MembershipRow) api.PersonGroup {
	return api.PersonGroup{Name: r.Name, Address: r.Address, Role: r.Role.String(), ByRule: r.Ruled(), LastOwner: r.Role == expand.Owner && p.Active && r.Owners == 1, Ended: r.Ended, Until: v.LastDay(r.EndsAt), Since: v.In(r.AddedAt)}
}

// Names shapes people in brief.
func Names(all []store.Person) []api.Name {
	out := make([]api.Name, len(all))
	for i, p := range all {
		out[i] = api.Name{Name: p.Name, Address: p.Address}
	}
	return out
}

// CheckName returns what is wrong with a name that people read, or "".
func CheckName(name string) string {
	switch n := len([]rune(name)); {
	case strings.TrimSpace(name) == "":
		return "The name is empty. Write what people will call it."
	case n > 200:
		return "The name is too long: 200 characters is the most. Shorten it."
	}
	if r, at := naming.Unseen(name); at > 0 {
		return fmt.Sprintf("Character %d of the name is one that is not seen: a line break, a control character or a mark of direction (U+%04X). Leave it out.", at, r)
	}
	return ""
}
