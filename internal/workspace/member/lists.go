package member

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/expand"
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
		out[i] = Entry{Field: fmt.Sprintf("%s[%d].address", field, i), Given: x.Address, Address: x.Address, Role: x.Role}
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
		return peopleOf(v, field, l)
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
		all[i] = Entry{Line: e.Line, Field: field, Given: e.Given, Address: e.Address, Role: e.Role}
		if e.Address == "" {
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

func peopleOf(v *workspace.View, field string, l api.PeopleList) ([]Entry, error) {
	g, err := v.FindGroup(l.Of, access.SeePeople)
	if err != nil {
		return nil, err
	}
	entries, err := Effective(v, &g.Group)
	if err != nil {
		return nil, err
	}
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
// find them.
func Effective(v *workspace.View, g *store.Group) ([]expand.Entry[uuid.UUID], error) {
	below, err := v.Read.NestedBelow(g.ID, v.Now())
	if err != nil {
		return nil, err
	}
	entries, err := v.Read.PeopleIn(expand.Reach(g.ID, below))
	return expand.People(g.ID, entries), err
}

func everyone(v *workspace.View, field string, l api.PeopleList) ([]Entry, error) {
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
	if q.Group != "" {
		looking, report := by.Previewing()
		_, err := s.Add(ctx, looking, q.Group, api.NewMembers{List: &q.PeopleList}, 0)
		if workspace.Previewed(err) {
			err = nil
		}
		return report, err
	}
	v := s.k.View(ctx, by)
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
	if err := Admit(v, &g, results, admission.Adding, true); err != nil {
		return nil, err
	}
	tell(report, results, "can be added")
	return report, nil
}
