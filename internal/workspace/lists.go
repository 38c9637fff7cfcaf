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
	"ivytable.example/ivytable/internal/core/roster"
	"ivytable.example/ivytable/internal/store"
)

// readList reads a list of people into lines, and says in out how it was read.
func (w *Workspace) readList(ctx context.Context, a Actor, field string, l api.PeopleList, out *api.Roster) ([]line, error) {
	ways := 0
	for _, given := range []bool{l.Text != "", len(l.File) > 0, l.Of != "", l.Everyone, l.TakenOut != 0} {
		if given {
			ways++
		}
	}
	if ways != 1 {
		return nil, wrong(field, nil, "Give the list in one way: text, file, people_of, everyone or taken_out_by.")
	}
	switch {
	case l.Of != "":
		out.Kind = "group"
		g, _, err := w.findFor(ctx, a, seePeople, l.Of)
		if err != nil {
			return nil, err
		}
		ids, err := w.peopleReached(ctx, &g)
		if err != nil {
			return nil, err
		}
		people, err := w.store.PeopleByID(ctx, ids)
		if err != nil {
			return nil, err
		}
		all := make([]line, 0, len(ids))
		for _, id := range ids {
			p := people[id]
			all = append(all, line{n: len(all) + 1, field: field, given: p.Address, role: l.Role, person: &p})
		}
		return all, nil
	case l.Everyone:
		out.Kind = "workspace"
		var all []line
		err := w.store.EachPersonFacts(ctx, func(f store.PersonFacts) error {
			all = append(all, line{n: len(all) + 1, field: field, given: f.Address, role: l.Role,
				person: &store.Person{ID: f.ID, Address: f.Address, AddrKey: strings.ToLower(f.Address), Name: f.Name, Active: true}})
			return nil
		})
		return all, err
	}
	if l.TakenOut != 0 {
		out.Kind = "history"
		return w.takenOut(ctx, a, field, l.TakenOut)
	}
	b := l.File
	if l.Text != "" {
		b = []byte(l.Text)
	}
	read, err := roster.Read(b, l.Columns)
	if err != nil {
		return nil, wrong(field, nil, says(err))
	}
	out.Kind, out.Encoding = "text", read.Encoding
	if read.Table {
		out.Kind, out.Delimiter, out.Columns = "table", string(read.Delimiter), columns(read)
		if !slices.Contains(read.Columns, roster.Address) && !slices.Contains(read.Columns, roster.Name) {
			return nil, wrong(field, read.Headings, "None of the columns holds addresses or names. Say which one does.")
		}
	}
	all := make([]line, len(read.Entries))
	for i, e := range read.Entries {
		all[i] = line{n: e.Line, field: field, given: e.Given, address: e.Address, role: e.Role}
		if e.Address == "" {
			all[i].given = e.Name
		}
		if e.Role == "" {
			all[i].role = l.Role
		}
	}
	return all, nil
}

// takenOut returns whom an entry of the history took out of its group.
func (w *Workspace) takenOut(ctx context.Context, a Actor, field string, entry int64) ([]line, error) {
	c, rows, err := w.store.TakenOutBy(ctx, entry)
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	found := err == nil && c.GroupID != nil
	if found {
		_, _, err = w.findFor(ctx, a, readHistory, c.GroupID.String())
		found = err == nil // what may not be seen is not there
	}
	if !found || len(rows) == 0 {
		return nil, wrong(field+".taken_out_by", entry, fmt.Sprintf("No entry %d of a history that you may read took anybody out of a group.", entry))
	}
	ids := make([]uuid.UUID, len(rows))
	for i, r := range rows {
		ids[i] = r.PersonID
	}
	people, err := w.store.PeopleByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	groups, err := w.store.GroupsByID(ctx, ids)
	if err != nil {
		return nil, err
	}
	all := make([]line, 0, len(rows))
	for _, r := range rows {
		l := line{n: len(all) + 1, field: field, role: r.Was}
		if p, ok := people[r.PersonID]; ok {
			l.given, l.person = p.Address, &p
		} else if g, ok := groups[r.PersonID]; ok {
			l.given, l.address, l.role = g.Address, g.Address, ""
		} else {
			continue // a group that has been deleted since
		}
		all = append(all, l)
	}
	return all, nil
}

func columns(l roster.List) []api.RosterColumn {
	out := make([]api.RosterColumn, len(l.Headings))
	for i, h := range l.Headings {
		out[i] = api.RosterColumn{Heading: h, Stands: l.Columns[i]}
	}
	return out
}

// peopleReached returns the active people in a group and the groups nested in it.
func (w *Workspace) peopleReached(ctx context.Context, g *store.Group) ([]uuid.UUID, error) {
	below, err := w.store.NestedBelow(ctx, g.ID, w.now(ctx))
	if err != nil {
		return nil, err
	}
	entries, err := w.store.PeopleIn(ctx, expand.Reach(g.ID, below))
	if err != nil {
		return nil, err
	}
	people := expand.People(g.ID, entries)
	ids := make([]uuid.UUID, len(people))
	for i, e := range people {
		ids[i] = e.Person
	}
	return ids, nil
}
