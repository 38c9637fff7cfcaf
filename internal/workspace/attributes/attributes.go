// Package attributes is what an organisation keeps of its people beside the attributes of SCIM: its
// own, as an extension of the schema (RFC 7643, 3.3). Rules, filters, names and imports use them as
// they use the others.
package attributes

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/filter"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/roster"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// most is how many attributes an organisation can keep of its own.
const most = 50

// Service is the attributes of the organisation's own.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

func shape(a workspace.OwnAttribute, version int) api.OwnAttribute {
	return api.OwnAttribute{Name: a.Name, Label: a.Label, Kind: a.Kind, Seen: a.Seen, Schema: rule.OwnSchema, Version: version}
}

// List lists the attributes that the actor sees of others.
func (s *Service) List(ctx context.Context, by workspace.Actor) (api.Page[api.OwnAttribute], error) {
	if err := by.Allow(access.SearchPeople); err != nil {
		return api.Page[api.OwnAttribute]{}, err
	}
	v := s.k.View(ctx, by)
	var all []workspace.OwnAttribute
	version, err := v.Read.Setting(workspace.OwnSetting, &all)
	var out []api.OwnAttribute
	for _, a := range all {
		if v.SeesAttribute(a.Name) {
			out = append(out, shape(a, version+1))
		}
	}
	return workspace.Whole(out), err
}

// change makes a change of the attributes, one at a time.
func (s *Service) change(ctx context.Context, by workspace.Actor, version int, f func(c *workspace.Change, all []workspace.OwnAttribute) ([]workspace.OwnAttribute, error)) (now int, err error) {
	if err := by.Allow(access.ChangeAttributes); err != nil {
		return 0, err
	}
	return now, s.k.Do(ctx, by, func(c *workspace.Change) error {
		var all []workspace.OwnAttribute
		current, err := c.Tx.LockSetting(workspace.OwnSetting, &all)
		if err != nil {
			return err
		}
		if err := c.Allow(access.ChangeAttributes); err != nil {
			return err
		}
		if version > 0 && version != current+1 {
			return workspace.Fail(workspace.Stale, "Somebody changed the attributes since you read them (version %d, now %d). Read them again, then make your change.", version, current+1)
		}
		next, err := f(c, all)
		now = current + 2
		if err != nil {
			return err
		}
		return c.Tx.SaveSetting(workspace.OwnSetting, next, current+1)
	})
}

// Save declares an attribute, or changes what is said of one. Its kind stays.
func (s *Service) Save(ctx context.Context, by workspace.Actor, name string, n api.NewAttribute, version int) (api.OwnAttribute, error) {
	if err := by.Allow(access.ChangeAttributes); err != nil {
		return api.OwnAttribute{}, err
	}
	kind := n.Kind
	if kind == "" {
		kind = "text"
	}
	label := strings.TrimSpace(n.Label)
	if label == "" {
		label = name
	}
	var bad workspace.Problems
	bad.OneOf("kind", kind, rule.OwnKinds()...)
	if len([]rune(label)) > 60 {
		bad.Add("label", workspace.Cut(label, 100), "The label has %d characters; 60 is the most.", len([]rune(label)))
	}
	a := workspace.OwnAttribute{Name: name, Label: label, Kind: kind, Seen: n.Seen}
	if f := a.Rule().Check(taken()...); f != nil {
		bad.Fault("name", name, f)
	}
	if err := bad.Err(); err != nil {
		return api.OwnAttribute{}, err
	}
	now, err := s.change(ctx, by, version, func(c *workspace.Change, all []workspace.OwnAttribute) ([]workspace.OwnAttribute, error) {
		i := slices.IndexFunc(all, func(x workspace.OwnAttribute) bool { return strings.EqualFold(x.Name, name) })
		if i < 0 {
			if len(all) >= most {
				return nil, workspace.Fail(workspace.Conflict, "An organisation can keep %d attributes of its own. Delete one that is no longer used.", most)
			}
			c.Says(fmt.Sprintf("The directory keeps %s (%s) of people from now on.", name, label))
			return append(all, a), c.Record(event.AttributeDeclared{Name: name, Of: kind}, nil)
		}
		was := all[i]
		if was.Name != name {
			return nil, workspace.Wrong("name", name, "There is %s, which differs in case alone.", was.Name)
		}
		if n.Kind != "" && n.Kind != was.Kind {
			return nil, workspace.Wrong("kind", n.Kind, "%s is of the kind %s, and what people have in it may be of no other. Delete it and declare it again.", name, was.Kind)
		}
		a.Kind = was.Kind
		var changes []event.Change
		for _, x := range []event.Change{{Field: "label", From: was.Label, To: a.Label}, {Field: "seen", From: fmt.Sprint(was.Seen), To: fmt.Sprint(a.Seen)}} {
			if x.From != x.To {
				changes = append(changes, x)
				c.Effect(api.Effect{Field: x.Field, From: x.From, To: x.To})
			}
		}
		if len(changes) == 0 {
			c.Says("Is so already; nothing changes.")
			return all, nil
		}
		c.Says(fmt.Sprintf("%s changes.", name))
		all = slices.Clone(all)
		all[i] = a
		return all, c.Record(event.AttributeChanged{Name: name, Changed: changes}, nil)
	})
	return shape(a, now), err
}

// taken are the names that mean something else where attributes are named.
func taken() []string {
	out := []string{roster.Address, roster.Name, roster.Role, roster.Active, "created_at", "by_rule"}
	// every object of a program that reads JSON in a browser has these
	out = append(out, "constructor", "toString", "toLocaleString", "valueOf", "hasOwnProperty", "isPrototypeOf", "propertyIsEnumerable")
	for _, a := range filter.People.Attributes() {
		first, _, _ := strings.Cut(a.Path, ".")
		out = append(out, first)
	}
	return out
}

// Delete ends that the directory keeps an attribute: what people have in it is lost. It is refused
// while a rule of membership or a pattern of names uses it.
func (s *Service) Delete(ctx context.Context, by workspace.Actor, name string, version int) error {
	_, err := s.change(ctx, by, version, func(c *workspace.Change, all []workspace.OwnAttribute) ([]workspace.OwnAttribute, error) {
		i := slices.IndexFunc(all, func(x workspace.OwnAttribute) bool { return x.Name == name })
		if i < 0 {
			return nil, workspace.Fail(workspace.NotFound, "The directory keeps no attribute %q of your own.", workspace.Cut(name, 100))
		}
		if err := c.Tx.LockRules(); err != nil {
			return nil, err
		}
		if err := unused(c, name); err != nil {
			return nil, err
		}
		n, err := c.Read.CountWith(name)
		if err != nil {
			return nil, err
		}
		c.Says(fmt.Sprintf("The directory no longer keeps %s. What %s in it is lost.", name, map[bool]string{true: "1 person has", false: fmt.Sprintf("%d people have", n)}[n == 1]))
		if c.Previewing() {
			return all, nil
		}
		if err := c.Tx.ForgetAttribute(name); err != nil {
			return nil, err
		}
		return slices.Delete(slices.Clone(all), i, i+1), c.Record(event.AttributeDeleted{Name: name, People: n}, nil)
	})
	return err
}

// unused refuses what is used.
func unused(c *workspace.Change, name string) error {
	var groups []uuid.UUID
	n := 0
	schema, err := c.Schema("")
	if err != nil {
		return err
	}
	err = c.Read.EachRule(func(group uuid.UUID, expression string) error {
		r, err := schema.Parse(expression)
		if err != nil {
			return nil // can't be read, so asks about nothing
		}
		if slices.ContainsFunc(r.Attributes(), func(a rule.Attribute) bool { return a.Path == name }) {
			if n++; n <= 5 {
				groups = append(groups, group)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	if n > 0 {
		found, err := c.Read.GroupsByID(groups)
		if err != nil {
			return err
		}
		var names []string
		for _, g := range found {
			names = append(names, g.Address)
		}
		slices.Sort(names)
		return workspace.Fail(workspace.Conflict, "%s of membership would no longer be understood without %s: of %s. Change that first.", number.Of(n, "rule"), name, strings.Join(names, ", "))
	}
	var naming store.Naming
	if _, err := c.Read.Setting("naming", &naming); err != nil {
		return err
	}
	patterns := naming.Pattern
	for _, p := range naming.Others {
		patterns += p.Pattern
	}
	if strings.Contains(patterns, "{"+name+"}") {
		return workspace.Fail(workspace.Conflict, "The pattern of names has {%s} in it. Change the pattern first.", name)
	}
	return nil
}
