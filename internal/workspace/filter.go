package workspace

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/filter"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
)

// Lists are the lists that can be filtered.
var Lists = []string{"groups", "people", "history"}

// Schema is what a filter of a list can ask about; of no list: what a rule of membership can.
func (v *View) Schema(list string) (*rule.Schema, error) {
	switch list {
	case "groups":
		return filter.Groups, nil
	case "history":
		return filter.History, nil
	}
	own, err := v.Own()
	if err != nil {
		return nil, err
	}
	if list == "people" {
		return filter.People.With(own), nil
	}
	return rule.People.With(own), nil
}

// ParseRule reads a rule of membership. Its error is an *[fault.Fault], or one of the database.
func (v *View) ParseRule(expression string) (*rule.Rule, error) {
	schema, err := v.Schema("")
	if err != nil {
		return nil, err
	}
	return schema.Parse(expression)
}

// Sorts are the ways to sort a list, each also with a leading - in the other direction.
var Sorts = map[string][]string{
	"groups": {"name", "address", "people", "owners", "external", "post", "expires", "created", "renewed", "quiet"},
	"people": {"name", "address", "created", "signed_in"},
}

// MaySort reports whether the actor may sort a list so: not everybody may know how long a group
// was quiet, or when somebody signed in.
func (v *View) MaySort(list, sort string) bool {
	sort = strings.TrimPrefix(sort, "-")
	return sort == "" || slices.Contains(Sorts[list], sort) && (sort != "quiet" && sort != "signed_in" || v.By.Subject().ReadsAll())
}

// Filter reads a filter of a list of the actor's, nil for none. It may ask only about what they
// see, since what a list has tells what its filter asked.
func (v *View) Filter(list, text string) (*rule.Rule, error) {
	if strings.TrimSpace(text) == "" {
		return nil, nil
	}
	s, err := v.Schema(list)
	if err != nil {
		return nil, err
	}
	r, err := filter.Read(s, text, v.SeesInFilter)
	if err == nil {
		return r, v.follow(r)
	}
	e := &Error{Kind: Invalid, Says: Words(err), Problems: []api.Problem{{Field: "filter", Given: Cut(text, 200), Says: Words(err)}}}
	if f := new(fault.Fault); errors.As(err, &f) {
		e.Problems[0].At = &f.At
	}
	if errors.Is(err, filter.ErrNotSeen) {
		e.Kind = NotAllowed
	}
	return nil, e
}

// follow puts what people's addresses are now in place of those that they had before.
func (v *View) follow(r *rule.Rule) error {
	var asked []*rule.Node
	var keys []string
	var walk func(n *rule.Node)
	walk = func(n *rule.Node) {
		for i := range n.Parts {
			walk(&n.Parts[i])
		}
		if n.Attr != nil && (n.Op == rule.Eq || n.Op == rule.Ne) && slices.Contains([]string{"owner.address", "userName", "emails.value", "actor", "person"}, n.Attr.Path) && strings.Contains(n.Value, "@") {
			asked, keys = append(asked, n), append(keys, n.Value)
		}
	}
	walk(r.Root())
	if len(keys) == 0 {
		return nil
	}
	people, err := v.Read.PeopleByKeys(keys)
	for _, n := range asked {
		if p, known := people[n.Value]; known {
			n.Value = p.AddrKey
		}
	}
	return err
}

// SeesInFilter reports whether the actor may ask about an attribute of others in a filter, or
// in a rule.
func (v *View) SeesInFilter(a rule.Attribute) bool {
	switch {
	case v.By.Subject().ReadsAll() || v.By.Via == Service.Via:
		return true
	case a.Private || a.Path == "active": // those who have left are not shown to everybody
		return false
	case a.Field != "":
		return v.SeesAttribute(a.Field)
	}
	if parent, ok := strings.CutSuffix(a.Path, ".type"); ok { // who has one has some part of it
		for _, part := range rule.Attributes() {
			if strings.HasPrefix(part.Path, parent+".") && part.Field != "" && !v.SeesAttribute(part.Field) {
				return false
			}
		}
	}
	return true
}

// Filtered gives the error of a filtered list its words.
func Filtered(err error) error {
	if errors.Is(err, store.ErrTooSlow) {
		return Wrong("filter", nil, "The filter took more than %d seconds and was given up. Ask for something in it that an index finds, such as a domain, an owner or a setting of the policy, joined by and.", store.MaxFilterTime)
	}
	return err
}

// FilterTime is what filters over groups know of time.
func (v *View) FilterTime(e Terms) store.FilterTime {
	return store.FilterTime{Now: v.Now(), Calendar: e.Life.Calendar}
}

// Nearest looks for what a search that found nothing may be meant for: it tries q with one
// word after another replaced by one that is like it, until try finds something, and
// returns the words that say so; "" where nothing is found. Only what the actor is shown tells
// them which words there are.
func (v *View) Nearest(kind int8, q string, try func(q string) (bool, error)) (string, error) {
	searches, words, err := v.Read.Searches(kind, q)
	if err != nil {
		return "", err
	}
	for i, x := range searches {
		found, err := try(x)
		if err != nil {
			return "", err
		}
		if found {
			return fmt.Sprintf("Nothing is found by %q. This is what is like it: found by %q.", Cut(q, 100), words[i]), nil
		}
	}
	return "", nil
}
