package member

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/roster"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/history"
	"ivytable.example/ivytable/internal/workspace/naming"
)

// Named makes entries of people named one by one.
func Named(field string, people []api.NewPerson) []Entry {
	out := make([]Entry, len(people))
	for i, x := range people {
		out[i] = Entry{Field: fmt.Sprintf("%s[%d].address", field, i), Given: x.Address, Address: x.Address, Role: x.Role, Until: x.Until}
	}
	return out
}

// ReadList reads a list of people into entries, and says in out how it was read.
func ReadList(v *workspace.View, field string, l api.PeopleList, out *api.ListReading) ([]Entry, error) {
	ways := 0
	for _, given := range []bool{l.Text != "", len(l.File) > 0, l.Of != "", l.Everyone, l.TakenOut != 0} {
		if given {
			ways++
		}
	}
	if ways != 1 {
		return nil, workspace.Wrong(field, nil, "Give the list in one way: text, file, people_of, everyone or taken_out_by.")
	}
	switch {
	case l.Of != "":
		out.Kind = "group"
		return peopleOf(v, field, l, out)
	case l.Everyone:
		out.Kind = "workspace"
		return everyone(v, field, l)
	case l.TakenOut != 0:
		out.Kind = "history"
		return takenOut(v, field, l)
	}
	b := l.File
	if l.Text != "" {
		b = []byte(l.Text)
	}
	read, err := roster.Read(b, l.Columns)
	if err != nil {
		return nil, workspace.Wrong(field, nil, "%s", workspace.Words(err))
	}
	*out = Reading(read)
	if read.Table && !slices.Contains(read.Columns, roster.Address) && !slices.Contains(read.Columns, roster.Name) {
		return nil, workspace.Wrong(field, read.Headings, "None of the columns holds addresses or names. Say which one does.")
	}
	all := make([]Entry, len(read.Entries))
	for i, e := range read.Entries {
		all[i] = Entry{Line: e.Line, Field: field, Given: e.Given, Called: e.Name, Address: e.Address, Role: e.Role}
		if all[i].wrong = e.Wrong; e.Address == "" && e.Wrong == "" {
			all[i].Given = e.Name
		}
		if e.Role == "" {
			all[i].Role = l.Role
		}
	}
	return all, nil
}

// Reading says how a list was read.
func Reading(l roster.List) api.ListReading {
	out := api.ListReading{Kind: "text", Encoding: l.Encoding}
	if !l.Table {
		return out
	}
	out.Kind, out.Delimiter = "table", string(l.Delimiter)
	for i, h := range l.Headings {
		out.Columns = append(out.Columns, api.ListColumn{Heading: h, Stands: l.Columns[i]})
	}
	return out
}

func peopleOf(v *workspace.View, field string, l api.PeopleList, out *api.ListReading) ([]Entry, error) {
	g, err := v.FindGroup(l.Of, access.SeePeople)
	if err != nil {
		return nil, err
	}
	entries, hidden, err := Visible(v, &g.Group)
	if err != nil {
		return nil, err
	}
	out.Hidden = hidden
	ids := make([]uuid.UUID, len(entries))
	for i, e := range entries {
		ids[i] = e.Person
	}
	people, err := v.Read.PeopleByID(ids)
	all := make([]Entry, 0, len(ids))
	for _, id := range ids {
		p := people[id]
		all = append(all, Entry{Line: len(all) + 1, Field: field, Given: p.Address, Role: l.Role, person: &p})
	}
	return all, err
}

// Effective returns the active people whom a group reaches, each once, as messages to it
// find them: those who were in it at a moment and still are.
func Effective(v *workspace.View, g *store.Group, then time.Time) ([]expand.Entry[uuid.UUID], error) {
	asOf := store.AsOf{Then: then, Now: v.Now()}
	r, err := reachOf(v, g, asOf)
	if err != nil {
		return nil, err
	}
	return r.people(v, r.all, asOf)
}

// Recipients returns who gets the mail of a group that was let through at a moment, each once.
func Recipients(v *workspace.View, g *store.Group, then time.Time) ([]store.Recipient, error) {
	if g.Nested == 0 {
		return v.Read.MailIn(g.ID, store.AsOf{Then: then, Now: v.Now()})
	}
	entries, err := Effective(v, g, then)
	out := make([]store.Recipient, 0, len(entries))
	for _, e := range entries {
		if e.Group != g.ID { // a digest of the group nested in this one would not have it
			e.How = store.Each
		}
		if e.Mail {
			out = append(out, store.Recipient{Address: e.Address, External: e.External, Person: e.Person, Group: e.Group, How: e.How})
		}
	}
	return out, err
}

// RecipientsTogether is Recipients of messages to several groups, in one statement, as far as no group is nested in theirs; nil for the
// others, and for all where there are more than most.
func RecipientsTogether(v *workspace.View, groups []*store.Group, then []time.Time, most int) ([][]store.Recipient, error) {
	out := make([][]store.Recipient, len(groups))
	var of []store.MailOf
	var at []int
	for i, g := range groups {
		if g.Nested == 0 {
			of, at = append(of, store.MailOf{Group: g.ID, AsOf: store.AsOf{Then: then[i], Now: v.Now()}}), append(at, i)
		}
	}
	if len(of) == 0 {
		return out, nil
	}
	all, err := v.Read.MailInEach(of, most)
	for i, some := range all {
		out[at[i]] = some
	}
	return out, err
}

// Visible is Effective as far as the actor may see who is in each group; hidden says that
// there are others, not how many: a number would betray who they are.
func Visible(v *workspace.View, g *store.Group) (entries []expand.Entry[uuid.UUID], hidden string, err error) {
	r, err := reachOf(v, g, store.AsOf{})
	if err != nil {
		return nil, "", err
	}
	shown, _, hidden, err := r.shown(v)
	if err != nil {
		return nil, "", err
	}
	entries, err = r.people(v, shown, store.AsOf{})
	return entries, hidden, err
}

// Hides says that there is somebody in a group whom the actor may not see; "" where they may see everybody. It reads no people.
func Hides(v *workspace.View, g *store.Group) (hidden string, err error) {
	r, err := reachOf(v, g, store.AsOf{})
	if err == nil {
		_, _, hidden, err = r.shown(v)
	}
	return hidden, err
}

// Reached says how many people mail to a group reaches, and how many more chose to get none, as far as the actor
// may see who is in each group, with some of the former.
func Reached(v *workspace.View, g *store.Group, some int) (mail, without int, ids []uuid.UUID, hidden string, err error) {
	r, err := reachOf(v, g, store.AsOf{})
	if err != nil {
		return 0, 0, nil, "", err
	}
	shown, _, hidden, err := r.shown(v)
	if err != nil {
		return 0, 0, nil, "", err
	}
	mail, without, ids, err = v.Read.Reached(g.ID, shown, r.open, v.Now(), some)
	return mail, without, ids, hidden, err
}

// reach is a group with the groups nested in it.
type reach struct {
	root  uuid.UUID
	all   []uuid.UUID
	below expand.Edges[uuid.UUID]
	open  map[uuid.UUID]bool // those whose external people are in root too
}

func reachOf(v *workspace.View, g *store.Group, asOf store.AsOf) (reach, error) {
	if g.Nested == 0 {
		return reach{root: g.ID, all: []uuid.UUID{g.ID}, open: map[uuid.UUID]bool{g.ID: true}}, nil
	}
	below, err := v.Read.NestedBelow(g.ID, v.Now(), asOf)
	if err != nil {
		return reach{}, err
	}
	r := reach{root: g.ID, all: expand.Reach(g.ID, below), below: below}
	groups := map[uuid.UUID]store.Group{}
	if len(r.all) > 1 {
		if groups, err = v.Read.GroupsByID(r.all); err != nil {
			return reach{}, err
		}
	}
	r.open = expand.Open(g.ID, below, func(id uuid.UUID) bool {
		return groups[id].Policy[policy.Externals] != policy.ExternalsBarred
	})
	return r, nil
}

// hiddenPeople says that somebody is not shown.
const hiddenPeople = "More people of a group that you can't see."

// shown returns the groups whose people the actor may see, root among them: by what they are, or since
// those who run them agreed to it. It says where there are others, and how many of those who
// agreed to being counted.
func (r reach) shown(v *workspace.View) (ids []uuid.UUID, groups map[uuid.UUID]workspace.Group, hidden string, err error) {
	ids = []uuid.UUID{r.root}
	if groups, err = v.Visible(r.all); err != nil || len(r.all) == 1 {
		return ids, groups, "", err
	}
	agreed, err := v.Read.ConsentsIn(r.all)
	if err != nil {
		return nil, nil, "", err
	}
	sees, counted := map[uuid.UUID]bool{r.root: true}, map[uuid.UUID]bool{r.root: true}
	for _, id := range r.all[1:] {
		g, ok := groups[id]
		sees[id] = ok && v.May(access.SeePeople, &g)
	}
	for _, outer := range r.all { // nearest first; what is agreed for one group holds for who sees that one by itself
		for _, inner := range r.below[outer] {
			scope := agreed[store.Pair{Outer: outer, Inner: inner}].Scope
			if g, ok := groups[outer]; scope == admission.Seen && (outer == r.root || ok && v.May(access.SeePeople, &g)) {
				sees[inner] = true
			}
			counted[inner] = counted[inner] || counted[outer] && scope >= admission.Counted
		}
	}
	uncounted := false
	for _, id := range r.all[1:] {
		if sees[id] {
			ids, counted[id] = append(ids, id), true
		}
		uncounted = uncounted || !sees[id] && !counted[id]
	}
	if len(ids) == len(r.all) {
		return ids, groups, "", nil
	}
	hidden, err = r.others(v, ids, counted, uncounted)
	return ids, groups, hidden, err
}

// others says that there are people whom the actor does not see: how many of the groups that may be
// counted, and whether there are more.
func (r reach) others(v *workspace.View, shown []uuid.UUID, counted map[uuid.UUID]bool, more bool) (string, error) {
	maps.DeleteFunc(counted, func(_ uuid.UUID, is bool) bool { return !is })
	seen := make(map[uuid.UUID]bool, len(shown))
	for _, id := range shown {
		seen[id] = true
	}
	all, err := v.Read.CountReach(counted, r.open)
	if err != nil {
		return "", err
	}
	here, err := v.Read.CountReach(seen, r.open)
	switch n := all - here; {
	case err != nil:
		return "", err
	case n == 0 && !more:
		return "", nil
	case n == 0:
		return hiddenPeople, nil
	case more:
		return fmt.Sprintf("%s of groups whose people you can't see, and others.", number.Of(n, "more person")), nil
	default:
		return fmt.Sprintf("%s of groups whose people you can't see.", number.Of(n, "more person")), nil
	}
}

// people returns the people of some of the groups, each once.
func (r reach) people(v *workspace.View, groups []uuid.UUID, asOf store.AsOf) ([]expand.Entry[uuid.UUID], error) {
	entries, err := v.Read.PeopleIn(groups, asOf)
	entries = slices.DeleteFunc(entries, func(e expand.Entry[uuid.UUID]) bool { return e.External && !r.open[e.Group] })
	return expand.People(r.root, entries), err
}

func everyone(v *workspace.View, field string, l api.PeopleList) ([]Entry, error) {
	if err := v.By.Allow(access.AddEverybody); err != nil {
		return nil, err
	}
	var all []Entry
	err := v.Read.EachPersonFacts(func(f store.PersonFacts) error {
		all = append(all, Entry{Line: len(all) + 1, Field: field, Given: f.Address, Role: l.Role,
			person: &store.Person{ID: f.ID, Address: f.Address, AddrKey: strings.ToLower(f.Address), Name: f.Name, Active: true}})
		return nil
	})
	return all, err
}

// takenOut returns whom an entry of the history took out of its group.
func takenOut(v *workspace.View, field string, l api.PeopleList) ([]Entry, error) {
	rows, err := history.TakenOut(v, field, l.TakenOut)
	if err != nil {
		return nil, err
	}
	ids := make([]uuid.UUID, len(rows))
	for i, r := range rows {
		ids[i] = r.PersonID
	}
	people, err := v.Read.PeopleByID(ids)
	if err != nil {
		return nil, err
	}
	groups, err := v.Visible(ids)
	all := make([]Entry, 0, len(rows))
	for _, r := range rows {
		e := Entry{Line: len(all) + 1, Field: field, Role: r.Was}
		if p, ok := people[r.PersonID]; ok {
			e.Given, e.person = p.Address, &p
		} else if g, ok := groups[r.PersonID]; ok {
			e.Given, e.Address, e.Role = g.Address, g.Address, ""
		} else {
			continue // a group that has been deleted since, or can't be found
		}
		all = append(all, e)
	}
	return all, err
}

// Read says who the people of a list are, and whether they could be in a group, one that
// is there or one that is yet to be made. Nothing is done.
func (s *Service) Read(ctx context.Context, by workspace.Actor, q api.PeopleListRequest) (*api.Preview, error) {
	v := s.k.View(ctx, by)
	if !by.Subject().ReadsAll() {
		defer v.Hush()
	}
	if q.Group != "" {
		looking, report := by.Previewing()
		_, err := s.Add(ctx, looking, q.Group, api.NewMembers{List: &q.PeopleList, NestingWay: q.NestingWay}, 0)
		if workspace.Previewed(err) {
			err = nil
		}
		return report, err
	}
	if err := naming.AllowCreate(v, access.CreateGroup); err != nil {
		return nil, err
	}
	g := store.Group{Policy: policy.Default()}
	if q.Externals != "" {
		if err := g.Policy.Set("externals", q.Externals); err != nil {
			return nil, workspace.Wrong("externals", q.Externals, "%s", workspace.Words(err))
		}
	}
	_, report := by.Previewing()
	report.List = &api.ListReading{}
	entries, err := ReadList(v, "text", q.PeopleList, report.List)
	if err != nil {
		return nil, err
	}
	results, err := Resolve(v, entries)
	if err != nil {
		return nil, err
	}
	if err := Admit(v, &g, results, admission.Adding, admission.As{Staff: true, Alone: q.WithoutExternals}); err != nil {
		return nil, err
	}
	tell(report, results, "can be added")
	return report, nil
}
