// Package domains is the mail domains of a workspace: which there are, what lies in each, and
// which is the main one, in which an address lies that is given without its domain.
package domains

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/workspace"
)

// setting counts the changes of the domains.
const setting = "domains"

// most is how many domains a workspace can have.
const most = 200

// Service is the mail domains.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// List lists the domains, the main one first.
func (s *Service) List(ctx context.Context, by workspace.Actor) (api.Page[api.Domain], error) {
	if err := by.Allow(access.ReadDomains); err != nil {
		return api.Page[api.Domain]{}, err
	}
	all, err := read(s.k.View(ctx, by))
	return workspace.Whole(all), err
}

func read(v *workspace.View) ([]api.Domain, error) {
	names, err := v.Read.Domains()
	if err != nil {
		return nil, err
	}
	counts, err := v.Read.InDomains()
	if err != nil {
		return nil, err
	}
	version, err := v.Read.Setting(setting, &struct{}{})
	out := make([]api.Domain, len(names))
	for i, n := range names {
		x := counts[n]
		out[i] = api.Domain{Name: n, Main: i == 0, People: x.People, Groups: x.Groups, Aliases: x.Aliases, Former: x.Former, Version: version + 1}
	}
	return out, err
}

// one returns one of the domains.
func (s *Service) one(ctx context.Context, by workspace.Actor, name string, err error) (api.Domain, error) {
	if err != nil {
		return api.Domain{}, err
	}
	all, err := read(s.k.View(ctx, by))
	if i := slices.IndexFunc(all, func(d api.Domain) bool { return d.Name == name }); err == nil && i >= 0 {
		return all[i], nil
	}
	return api.Domain{}, errors.Join(err, missing(name))
}

func missing(name string) error {
	return workspace.Fail(workspace.NotFound, "%s is not a mail domain of this workspace.", workspace.Cut(name, 255))
}

// change makes a change of the domains, one at a time.
func (s *Service) change(ctx context.Context, by workspace.Actor, request any, answer string, version int, f func(c *workspace.Change, names []string) error) error {
	if err := by.Allow(access.ChangeDomains); err != nil {
		return err
	}
	return workspace.Once(ctx, s.k, by, request, &answer, func(c *workspace.Change) error {
		current, err := c.Tx.LockSetting(setting, &struct{}{})
		if err != nil {
			return err
		}
		if err := c.Allow(access.ChangeDomains); err != nil {
			return err
		}
		if version > 0 && version != current+1 {
			return workspace.Fail(workspace.Stale, "Somebody changed the mail domains since you read them (version %d, now %d). Read them again, then make your change.", version, current+1)
		}
		names, err := c.Read.Domains()
		if err != nil {
			return err
		}
		if err := f(c, names); err != nil {
			return err
		}
		return c.Tx.SaveSetting(setting, struct{}{}, current+1)
	})
}

// Add gives the workspace another mail domain.
func (s *Service) Add(ctx context.Context, by workspace.Actor, n api.NewDomain) (api.Domain, error) {
	name := strings.ToLower(strings.TrimSuffix(strings.TrimSpace(n.Name), "."))
	err := s.change(ctx, by, n, name, 0, func(c *workspace.Change, names []string) error {
		if err := mailaddr.CheckDomain(name); err != nil {
			return workspace.Wrong("name", workspace.Cut(n.Name, 255), "%s", workspace.Words(err))
		}
		if slices.Contains(names, name) {
			return workspace.Fail(workspace.Conflict, "%s is a mail domain of this workspace already.", name)
		}
		if len(names) >= most {
			return workspace.Fail(workspace.Conflict, "A workspace can have %d mail domains. Retire one that is no longer used.", most)
		}
		outsiders, err := c.Read.OutsidersAt(name)
		if err != nil {
			return err
		}
		if outsiders > 0 {
			return workspace.Fail(workspace.Conflict, "Groups have external members at %s: %s. Take them out of their groups, add the domain, then put them into the directory. To find them: ivytable person export --filter 'external eq true and userName ew \"@%[1]s\"'",
				name, number.Of(outsiders, "address"))
		}
		c.Says(fmt.Sprintf("Groups and people can have addresses at %s from now on.", name))
		if err := c.Tx.SetDomains(append(names, name)); err != nil {
			return err
		}
		return c.Record(event.DomainAdded{Domain: name}, nil)
	})
	return s.one(ctx, by, name, err)
}

// Lead makes a domain the main one.
func (s *Service) Lead(ctx context.Context, by workspace.Actor, name string, version int) (api.Domain, error) {
	name = strings.ToLower(name)
	err := s.change(ctx, by, name, name, version, func(c *workspace.Change, names []string) error {
		i := slices.Index(names, name)
		switch {
		case i < 0:
			return missing(name)
		case i == 0:
			c.Says(fmt.Sprintf("%s is the main domain already; nothing changes.", name))
			return nil
		}
		c.Says(fmt.Sprintf("An address that is given without its domain lies in %s from now on, in place of %s. No address changes.", name, names[0]))
		c.Effect(api.Effect{Field: "main", From: names[0], To: name})
		if err := c.Tx.SetDomains(append([]string{name}, slices.Delete(slices.Clone(names), i, i+1)...)); err != nil {
			return err
		}
		return c.Record(event.DomainLeads{Domain: name, Before: names[0]}, nil)
	})
	return s.one(ctx, by, name, err)
}

// Retire takes a domain away in which nothing lies any more.
func (s *Service) Retire(ctx context.Context, by workspace.Actor, name string, version int) error {
	name = strings.ToLower(name)
	return s.change(ctx, by, name, name, version, func(c *workspace.Change, names []string) error {
		i := slices.Index(names, name)
		switch {
		case i < 0:
			return missing(name)
		case i == 0:
			return workspace.Fail(workspace.Conflict, "%s is the main domain. Make another one the main domain first.", name)
		}
		if err := c.Tx.LockDomain(name); err != nil {
			return err
		}
		counts, err := c.Read.InDomains()
		if err != nil {
			return err
		}
		if x := counts[name]; x.People+x.Groups+x.Aliases+x.Former > 0 {
			some, err := c.Read.SomeIn(name, 5)
			if err != nil {
				return err
			}
			return workspace.Fail(workspace.Conflict, "%s is used: %s, %s, %s and %s of before lie in it, such as %s. Give them other addresses first; groups that have ended keep theirs until they are purged.", name,
				number.Of(x.Groups, "group"), number.Of(x.Aliases, "alias"), number.Of(x.People, "person"), number.Of(x.Former, "address"), strings.Join(some, ", "))
		}
		c.Says(fmt.Sprintf("%s is no longer a mail domain of this workspace. Mail to it is refused.", name))
		if err := c.Tx.DeleteDomain(name); err != nil {
			return err
		}
		return c.Record(event.DomainRetired{Domain: name}, nil)
	})
}
