package directory

import (
	"fmt"
	"slices"

	"ivytable.example/ivytable/internal/core/roster"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// numbers are the fields by which an organisation knows a person for good, the surest first,
// and what each is called.
var numbers = []struct{ field, path, called string }{{"externalId", "externalId", "external id"}, {"employeeNumber", "employeeNumber", "employee number"}}

// matcher finds whom the lines of a list are about: by external id, then by employee number,
// then by address.
type matcher struct {
	byAddress map[string]store.Person
	byNumber  map[string]map[string][]store.Person // by field and key
}

func newMatcher(c *workspace.Change, l roster.List, keys []string) (*matcher, error) {
	m := &matcher{byNumber: map[string]map[string][]store.Person{}}
	var err error
	if m.byAddress, err = c.Read.PeopleByKeys(keys); err != nil {
		return nil, err
	}
	for _, n := range numbers {
		var wanted []string
		for _, e := range l.Entries {
			if k := numberKey(n.field, e.Fields[n.field]); k != "" {
				wanted = append(wanted, k)
			}
		}
		slices.Sort(wanted)
		if m.byNumber[n.field], err = c.Read.PeopleWith(n.path, slices.Compact(wanted)); err != nil {
			return nil, err
		}
	}
	return m, nil
}

// match is whom a line is about.
type match struct {
	who   store.Person // nobody, where they are new
	how   string       // how they were found, where that was not by their address; or whose address somebody new has
	moved bool         // they were found by a number, and have another address now
	wrong string       // why the line can't be followed
}

func (m *matcher) find(e roster.Entry, key string) match {
	at, known := m.byAddress[key]
	for _, n := range numbers {
		v := e.Fields[n.field]
		found := m.byNumber[n.field][numberKey(n.field, v)]
		switch {
		case v == "" || len(found) == 0:
		case len(found) > 1:
			return match{wrong: fmt.Sprintf("%s and %s both have the %s %s.", found[0].Name, found[1].Name, n.called, v)}
		case known && at.ID != found[0].ID && at.Active:
			return match{wrong: fmt.Sprintf("The %s %s is that of %s, but the address is that of %s.", n.called, v, found[0].Name, at.Name)}
		case found[0].AddrKey == key:
			return match{who: found[0]}
		default:
			return match{who: found[0], moved: true, how: fmt.Sprintf("Found by the %s.", n.called)}
		}
	}
	if !known {
		return match{}
	}
	n, was, is := differs(at, e)
	switch {
	case n != "" && at.Active:
		return match{wrong: fmt.Sprintf("The address is that of %s with the %s %s, not %s. Change that of %s first, or let them depart, if this is somebody else.", at.Name, n, was, is, at.Name)}
	case n != "":
		return match{how: fmt.Sprintf("Somebody new: %s, who has left, had this address with the %s %s.", at.Name, n, was)}
	case !at.Active && !at.External && e.Name != "" && rule.Fold(e.Name) != rule.Fold(at.Name):
		return match{how: fmt.Sprintf("Somebody new: %s, who has left, had this address.", at.Name)}
	case at.AddrKey != key:
		return match{who: at, how: "Found by an address of before."}
	}
	return match{who: at}
}

// differs returns a number that a person and a line both have, and not the same.
func differs(p store.Person, e roster.Entry) (called, was, is string) {
	fields := people.Fields(p)
	for _, n := range numbers {
		if was, is := fields[n.field], e.Fields[n.field]; was != "" && is != "" && numberKey(n.field, was) != numberKey(n.field, is) {
			return n.called, was, is
		}
	}
	return "", "", ""
}

// numberKey is a number as rules compare it.
func numberKey(field, value string) string {
	for _, keys := range rule.FieldKeys(map[string]string{field: value}) {
		return keys[0]
	}
	return ""
}
