package workspace

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/naming"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
)

// CreateGroup makes a group. A key of the client's makes a repeat harmless: the
// same request with the same key returns the group that the first one made.
func (w *Workspace) CreateGroup(ctx context.Context, a Actor, n api.NewGroup, key string) (api.Group, error) {
	if err := w.allowCreate(ctx, a); err != nil {
		return api.Group{}, err
	}
	body, err := json.Marshal(n)
	if err != nil {
		return api.Group{}, err
	}
	sum := sha256.Sum256(body)
	if key != "" {
		if g, found, err := w.createdBefore(ctx, a, key, sum[:]); found || err != nil {
			return g, err
		}
	}
	domains, err := w.store.Domains(ctx)
	if err != nil {
		return api.Group{}, err
	}
	d, err := w.prepareGroup(ctx, a, &n, domains)
	if err != nil {
		return api.Group{}, err
	}
	results, err := w.resolve(ctx, &d.group, d.lines, true)
	if err != nil {
		return api.Group{}, err
	}
	if err := refusedAsProblems(results, len(n.Owners)); err != nil {
		return api.Group{}, err
	}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		g, results := d.group, slices.Clone(results) // a repeat of the transaction begins anew
		if d.rule != nil {
			if err := t.LockRules(ctx); err != nil {
				return err
			}
		}
		if key != "" {
			if err := t.AddIdempotency(ctx, store.Idempotency{PersonID: a.Person.ID, IdemKey: key, Request: sum[:], GroupID: g.ID, CreatedAt: g.CreatedAt}); err != nil {
				return err
			}
		}
		if err := t.AddGroup(ctx, &g); err != nil {
			return err
		}
		if len(d.aliases) > 0 {
			if err := t.SetAddresses(ctx, &g, d.aliases); err != nil {
				return err
			}
		}
		changes := []api.FieldChange{{Field: "name", To: g.Name}, {Field: "address", To: g.Address}, {Field: "policy", To: g.Policy().Sentence()}}
		if err := record(ctx, t, a, g.CreatedAt, "group.create", &g, g.Address, changes); err != nil {
			return err
		}
		if err := w.join(ctx, t, a, &g, results, entrance{action: "people.add", quiet: n.Quiet}); err != nil {
			return err
		}
		if d.rule == nil {
			return nil
		}
		come, err := matching(ctx, t, d.rule)
		if err != nil {
			return err
		}
		if err := t.SetRule(ctx, store.GroupRule{GroupID: g.ID, Expression: d.rule.String(), Guard: defaultGuard, SetBy: a.String(), SetAt: g.CreatedAt}); err != nil {
			return err
		}
		return w.comeAndGo(ctx, t, a, &g, come, nil, entrance{action: "rule.set", quiet: n.Quiet}, []api.FieldChange{{Field: "rule", To: d.rule.String()}})
	})
	if errors.Is(err, store.ErrDuplicate) && key != "" {
		if g, found, err := w.createdBefore(ctx, a, key, sum[:]); found || err != nil {
			return g, err
		}
	}
	if err != nil {
		return api.Group{}, w.takeAddress(ctx, err, d.group.Address, domains)
	}
	w.o.Wake()
	return w.Group(ctx, a, d.group.ID.String())
}

func (w *Workspace) createdBefore(ctx context.Context, a Actor, key string, sum []byte) (api.Group, bool, error) {
	i, err := w.store.Idempotency(ctx, a.Person.ID, key)
	if errors.Is(err, store.ErrNotFound) {
		return api.Group{}, false, nil
	}
	if err != nil {
		return api.Group{}, false, err
	}
	if !bytes.Equal(i.Request, sum) {
		return api.Group{}, false, fail(Conflict, "The Idempotency-Key %q was used for a different request. Use a new one.", key)
	}
	g, err := w.Group(ctx, a, i.GroupID.String())
	return g, true, err
}

// design is a group that is about to be made.
type design struct {
	group   store.Group
	aliases []string
	lines   []line // people to put into it, owners first
	rule    *rule.Rule
}

// prepareGroup checks a request to create a group.
func (w *Workspace) prepareGroup(ctx context.Context, a Actor, n *api.NewGroup, domains []string) (design, error) {
	var p problems
	var d design
	if n.StartingPoint != "" {
		start, err := w.start(ctx, n.StartingPoint)
		if err != nil {
			return d, err
		}
		n.PolicyPatch = over(start.Policy, n.PolicyPatch)
		if n.Traits == nil {
			n.Traits = start.Traits
		}
		if n.Delivery == "" {
			n.Delivery = start.Delivery
		}
		if n.Welcome == "" {
			n.Welcome = start.Welcome
		}
	}
	_, rules, err := w.naming(ctx)
	if err != nil {
		return d, err
	}
	named := rules.Apply(n.Name, localOf(n.Address), creator(a.Person))
	if bad := checkName(named.Name); bad != "" {
		p.add("name", n.Name, "%s", bad)
	}
	for _, f := range named.Faults {
		p.add("name", n.Name, "%s %s", f.Says, f.Mend)
	}
	n.Name = named.Name
	taken, err := w.prepareAddresses(ctx, n, named, domains, &p)
	if err != nil {
		return d, err
	}
	if n.Language == "" {
		n.Language = "en"
	}
	if _, ok := languages[n.Language]; !ok {
		p.add("language", n.Language, "Notices are written in: %s.", strings.Join(languageNames(), ", "))
	}
	if len(n.Owners) == 0 && !slices.ContainsFunc(n.People, func(x api.NewPerson) bool { return x.Role == "owner" }) {
		if a.administrator() {
			p.add("owners", nil, "A group needs at least one owner; two are better.")
		} else {
			n.Owners = []string{a.Person.Address} // who makes a group for themselves
		}
	}
	checkTraits(&p, n.Traits)
	checkDelivery(&p, n.Delivery)
	if n.Rule != "" {
		if d.rule, err = rule.Parse(n.Rule); err != nil {
			p.add("rule", n.Rule, "%s", err)
		}
	}
	pol, faults := applyPatch(policy.Default(), n.PolicyPatch)
	p = append(p, faults...)
	if err := p.err(); err != nil {
		if len(p) == 1 && taken {
			err.(*Error).Kind = Conflict
		}
		return d, err
	}
	e, err := w.expiry(ctx)
	if err != nil {
		return d, err
	}
	now := w.now(ctx)
	g := store.Group{ID: store.NewID(), Name: n.Name, Address: n.Address, AddrKey: strings.ToLower(n.Address), Description: strings.TrimSpace(n.Description),
		Language: n.Language, Traits: strings.Join(n.Traits, ","), DefaultMail: n.Delivery != "none", Welcome: strings.TrimSpace(n.Welcome), Ruled: d.rule != nil,
		RenewedAt: now, CreatedAt: now, Version: 1}
	g.SetPolicy(pol)
	g.SetExpires(e.policy.Expiry(g.Life(), now))
	d.group, d.aliases = g, n.Aliases
	for i, o := range n.Owners {
		d.lines = append(d.lines, line{field: fmt.Sprintf("owners[%d]", i), given: o, address: o, role: "owner"})
	}
	d.lines = append(d.lines, lines("people", n.People)...)
	for i, l := range n.Lists {
		more, err := w.readList(ctx, a, fmt.Sprintf("lists[%d]", i), l, &api.Roster{})
		if err != nil {
			return d, err
		}
		d.lines = append(d.lines, more...)
	}
	return d, nil
}

func localOf(address string) string {
	local, _, _ := strings.Cut(address, "@")
	return local
}

// prepareAddresses settles the address of a new group and checks it and its aliases.
// It reports whether the address is somebody else's.
func (w *Workspace) prepareAddresses(ctx context.Context, n *api.NewGroup, named naming.Result, domains []string, p *problems) (taken bool, err error) {
	switch {
	case n.Address == "":
		local, err := mailaddr.Derive(n.Name)
		if err != nil {
			p.add("address", "", "%s", says(err))
		} else {
			n.Address = local + "@" + domains[0]
		}
	default:
		local, domain, found := strings.Cut(n.Address, "@")
		if n.Address = named.Local(local); found {
			n.Address += "@" + domain
		} else {
			n.Address += "@" + domains[0]
		}
	}
	if n.Address != "" {
		c, err := w.checkAddress(ctx, w.store, n.Address, domains, uuid.Nil)
		if err != nil {
			return false, err
		}
		if c.Status != "free" {
			taken = c.Status == "taken" || c.Status == "alike"
			p.add("address", n.Address, "%s", c.Says)
		} else {
			n.Address = c.Address
		}
	}
	n.Aliases, err = w.checkAliases(ctx, n.Aliases, n.Address, domains, uuid.Nil, p)
	return taken, err
}

// checkAliases checks further addresses of a group as addresses are checked, and
// returns them as they will be.
func (w *Workspace) checkAliases(ctx context.Context, aliases []string, address string, domains []string, own uuid.UUID, p *problems) ([]string, error) {
	out := []string{}
	for i, x := range aliases {
		if !strings.Contains(x, "@") {
			x += "@" + domains[0]
		}
		c, err := w.checkAddress(ctx, w.store, x, domains, own)
		if err != nil {
			return nil, err
		}
		switch {
		case c.Status != "free":
			p.add(fmt.Sprintf("aliases[%d]", i), x, "%s", c.Says)
		case c.Address == strings.ToLower(address) || slices.Contains(out, c.Address):
		default:
			out = append(out, c.Address)
		}
	}
	return out, nil
}
