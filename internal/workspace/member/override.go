package member

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Overrides lists what is settled about people in a group: who is barred, trusted or held.
func (s *Service) Overrides(ctx context.Context, by workspace.Actor, ref, cursor string, limit int) (api.Page[api.Override], error) {
	none := api.Page[api.Override]{}
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.SetOverrides)
	if err != nil {
		return none, err
	}
	after, err := v.Cursor(cursor, "overrides", g.ID)
	if err != nil {
		return none, err
	}
	p, err := v.Read.Overrides(g.ID, after, limit)
	if err != nil {
		return none, err
	}
	keys := make([]string, len(p.Items))
	for i, r := range p.Items {
		keys[i] = r.AddrKey
	}
	people, err := v.Read.PeopleByKeys(keys)
	return workspace.Page(p, func(r store.Override) api.Override { return shapeOverride(v, r, people[r.AddrKey].Name) }), err
}

func shapeOverride(v *workspace.View, r store.Override, name string) api.Override {
	return api.Override{Address: r.AddrKey, Name: name, Override: r.Kind.String(), Reason: r.Reason, By: r.SetBy, At: v.In(r.SetAt), Version: r.Version}
}

// Override returns what is settled about one address in a group.
func (s *Service) Override(ctx context.Context, by workspace.Actor, ref, address string) (api.Override, error) {
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.SetOverrides)
	if err != nil {
		return api.Override{}, err
	}
	addr, err := workspace.ParseAddress("address", address)
	if err != nil {
		return api.Override{}, err
	}
	key := addr.Key()
	if p, err := v.Read.PersonByKey(key); err == nil {
		key = p.AddrKey
	}
	row, err := v.Read.Override(g.ID, key)
	if err == nil && row.Kind == policy.NoOverride {
		err = workspace.Fail(workspace.NotFound, "Nothing is settled about %s in %s: its policy holds.", addr, g.Name)
	}
	return shapeOverride(v, row, ""), err
}

// Override is what is to be settled about an address in a group.
type Override struct {
	Address mailaddr.Address
	Kind    policy.Override
	Reason  string
	Version int // of what it was read from; 0: any
}

// NewOverride reads what is to be settled.
func NewOverride(address string, n api.NewOverride, version int) (Override, error) {
	addr, err := workspace.ParseAddress("address", address)
	if err != nil {
		return Override{}, err
	}
	to, err := policy.ParseOverride(n.Override)
	if err != nil {
		return Override{}, workspace.Wrong("override", n.Override, "%s", workspace.Words(err))
	}
	return Override{addr, to, strings.TrimSpace(n.Reason), version}, nil
}

// Settle bars an address from a group, which is locked, trusts it, holds it, or takes that
// back. Whoever is barred is taken out, and what they asked for or were offered ends. It
// returns the person of whom a bar was lifted.
func Settle(c *workspace.Change, g *workspace.Locked, o Override) (lifted *store.Person, err error) {
	p, err := c.Read.PersonByKey(o.Address.Key())
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	if err == nil && !p.External && p.AddrKey != o.Address.Key() { // an address of before means them, too
		if o.Address, err = mailaddr.Parse(p.Address); err != nil {
			return nil, err
		}
	}
	addr, to, reason, version := o.Address, o.Kind, o.Reason, o.Version
	was, err := c.Read.Override(g.ID, addr.Key())
	if err != nil {
		return nil, err
	}
	if version > 0 && version != was.Version {
		return nil, workspace.StaleGroup("what is settled about "+addr.Key(), version, was.Version)
	}
	if addr.Local() == "*" {
		return nil, settleDomain(c, g, o, was)
	}
	role := expand.Role(0)
	if m, err := c.Read.Membership(g.ID, p.ID); err == nil {
		role = m.Role
	} else if !errors.Is(err, store.ErrNotFound) {
		return nil, err
	}
	if !c.By.Subject().MayActOn(g.Relation, role) {
		return nil, workspace.Fail(workspace.NotAllowed, "%s is %s of %s. Only its owners and administrators may bar, trust or hold them.", p.Name, admission.Article(role), g.Name)
	}
	of, id, label := workspace.Who(p), p.ID, (*string)(nil)
	if id == uuid.Nil {
		key := addr.Key()
		of, id, label = event.Who{Address: key}, store.AddressID(key), &key
	}
	if was.Kind == to && was.Reason == reason {
		c.Says("Is so already; nothing changes.")
		return nil, nil
	}
	c.Says(fmt.Sprintf("%s is %s in %s.", of, map[policy.Override]string{policy.NoOverride: "as the policy says", policy.Barred: "barred: out of it, and not writing to it", policy.Trusted: "trusted: their mail never waits", policy.Held: "held: their mail always waits"}[to], g.Name))
	c.Effect(api.Effect{Field: addr.Key(), From: was.Kind.String(), To: to.String(), Says: c.Report.Says})
	if err := c.Tx.SetOverride(store.Override{GroupID: g.ID, AddrKey: addr.Key(), Kind: to, Reason: reason, SetBy: c.By.Person.Address, SetAt: c.Now(), Version: was.Version + 1}); err != nil {
		return nil, err
	}
	if to == policy.Barred {
		if err := putOut(c, g, p, addr.Key()); err != nil {
			return nil, err
		}
	}
	if err := c.Save(g); err != nil { // what was decided about mail of a moment ago no longer holds
		return nil, err
	}
	if was.Kind == policy.Barred && p.ID != uuid.Nil {
		lifted = &p
	}
	return lifted, c.Record(event.OverrideSet{Of: of, From: was.Kind.String(), To: to.String(), Reason: reason}, &g.Group.Group, store.Affected{PersonID: id, Label: label})
}

// settleDomain settles something about all addresses of a domain outside the workspace. With a
// bar, its people who are in the group are taken out.
func settleDomain(c *workspace.Change, g *workspace.Locked, o Override, was store.Override) error {
	domain := o.Address.Domain()
	domains, err := c.Domains()
	if err != nil {
		return err
	}
	if slices.Contains(domains, domain) {
		return workspace.Wrong("address", o.Address.String(), "%s is a domain of this workspace. Bar, trust or hold its people one by one.", domain)
	}
	if was.Kind == o.Kind && was.Reason == o.Reason {
		c.Says("Is so already; nothing changes.")
		return nil
	}
	key := o.Address.Key()
	c.Says(fmt.Sprintf("Everybody at %s is %s in %s.", domain, map[policy.Override]string{policy.NoOverride: "as the policy says", policy.Barred: "barred: out of it, and not writing to it", policy.Trusted: "trusted: their mail never waits", policy.Held: "held: their mail always waits"}[o.Kind], g.Name))
	if err := c.Tx.SetOverride(store.Override{GroupID: g.ID, AddrKey: key, Kind: o.Kind, Reason: o.Reason, SetBy: c.By.Person.Address, SetAt: c.Now(), Version: was.Version + 1}); err != nil {
		return err
	}
	if o.Kind == policy.Barred {
		ids, err := c.Read.ExternalAt(g.ID, domain)
		if err != nil {
			return err
		}
		if len(ids) > 0 {
			c.Report.Says += fmt.Sprintf(" %s from there go.", number.Of(len(ids), "external member"))
		}
		for _, id := range ids {
			if err := TakeOut(c, g, id, admission.Barring); err != nil {
				return err
			}
		}
	}
	c.Effect(api.Effect{Field: key, From: was.Kind.String(), To: o.Kind.String(), Says: c.Report.Says})
	if err := c.Save(g); err != nil { // what was decided about mail of a moment ago no longer holds
		return err
	}
	return c.Record(event.OverrideSet{Of: event.Who{Address: key}, From: was.Kind.String(), To: o.Kind.String(), Reason: o.Reason}, &g.Group.Group, store.Affected{PersonID: store.AddressID(key), Label: &key})
}

// putOut ends all that somebody who is barred has in g, which is locked.
func putOut(c *workspace.Change, g *workspace.Locked, p store.Person, key string) error {
	if p.ID != uuid.Nil {
		err := TakeOut(c, g, p.ID, admission.Barring)
		if err != nil && !workspace.IsKind(err, workspace.NotFound) {
			return err
		}
		asked, err := c.Tx.DeclineRequest(g.ID, p.ID, store.ToJoin, c.By.Person.Address, c.Now())
		if err != nil {
			return err
		}
		if asked {
			l := c.GroupLetter(workspace.LetterRefused, &g.Group.Group, workspace.GroupPath(&g.Group.Group, ""), map[string]string{"by": c.By.Name(), "did": workspace.Phrase(g.Language, "did "+store.ToJoin)})
			if err := c.Send(&g.Group.Group, []string{p.Address}, l); err != nil {
				return err
			}
		}
	}
	return c.Tx.CallBackInvitations(g.ID, []string{key}, c.Now())
}
