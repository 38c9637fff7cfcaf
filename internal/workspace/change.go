package workspace

import (
	"context"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/store"
)

// ChangeGroup changes what a group is called, where it is, what it does and how long
// it lives. With version above 0 it is refused when the group has changed since.
func (w *Workspace) ChangeGroup(ctx context.Context, a Actor, ref string, patch api.GroupPatch, version int) (api.Group, error) {
	found, _, err := w.findFor(ctx, a, changeGroup, ref)
	if err != nil {
		return api.Group{}, err
	}
	if patch.Standing != nil || patch.Chosen != nil {
		if _, _, err := w.findFor(ctx, a, changeTerm, ref); err != nil {
			return api.Group{}, err
		}
	}
	var p problems
	domains, err := w.store.Domains(ctx)
	if err != nil {
		return api.Group{}, err
	}
	if patch.Name != nil && strings.TrimSpace(*patch.Name) != found.Name {
		_, rules, err := w.naming(ctx)
		if err != nil {
			return api.Group{}, err
		}
		named := rules.Apply(*patch.Name, "", creator(a.Person))
		if bad := checkName(named.Name); bad != "" {
			p.add("name", *patch.Name, "%s", bad)
		}
		for _, f := range named.Faults {
			p.add("name", *patch.Name, "%s %s", f.Says, f.Mend)
		}
		patch.Name = &named.Name
	}
	if patch.Language != nil {
		if _, ok := languages[*patch.Language]; !ok {
			p.add("language", *patch.Language, "Notices are written in: %s.", strings.Join(languageNames(), ", "))
		}
	}
	if patch.Traits != nil {
		checkTraits(&p, *patch.Traits)
	}
	if patch.Delivery != nil {
		checkDelivery(&p, *patch.Delivery)
	}
	address := found.Address
	if patch.Address != nil && strings.TrimSpace(*patch.Address) != found.Address {
		x := *patch.Address
		if !strings.Contains(x, "@") {
			x += "@" + domains[0]
		}
		c, err := w.checkAddress(ctx, w.store, x, domains, found.ID)
		if err != nil {
			return api.Group{}, err
		}
		if address = c.Address; c.Status != "free" {
			p.add("address", *patch.Address, "%s", c.Says)
		}
	}
	var aliases []string
	if patch.Aliases != nil {
		if aliases, err = w.checkAliases(ctx, *patch.Aliases, address, domains, found.ID, &p); err != nil {
			return api.Group{}, err
		}
	}
	if err := p.err(); err != nil {
		return api.Group{}, err
	}
	g, err := w.update(ctx, a, changeGroup, ref, version, "group.change", func(t *store.Store, g *store.Group, e expiry, now time.Time) ([]api.FieldChange, error) {
		c, err := moveGroup(ctx, t, g, address, aliases, patch.Aliases != nil)
		if err != nil {
			return nil, err
		}
		return append(c, a.applyToGroup(g, patch, e, now)...), nil
	})
	return g, w.takeAddress(ctx, err, address, domains)
}

// moveGroup gives a group another address, whose old one stays as an alias, and,
// where they are given, other aliases.
func moveGroup(ctx context.Context, t *store.Store, g *store.Group, address string, aliases []string, given bool) ([]api.FieldChange, error) {
	before, err := t.Aliases(ctx, []uuid.UUID{g.ID})
	if err != nil {
		return nil, err
	}
	was := before[g.ID]
	if !given {
		aliases = slices.Clone(was)
	}
	var c []api.FieldChange
	if address != g.Address {
		changed(&c, "address", g.Address, address)
		aliases = append(slices.DeleteFunc(aliases, func(x string) bool { return x == address || x == g.Address }), g.Address)
		g.Address, g.AddrKey = address, strings.ToLower(address)
	}
	slices.Sort(aliases)
	if !slices.Equal(was, aliases) {
		c = append(c, api.FieldChange{Field: "aliases", From: was, To: aliases})
	}
	if len(c) == 0 {
		return nil, nil
	}
	return c, t.SetAddresses(ctx, g, aliases)
}

// applyToGroup puts the rest of a patch into a group and returns what that changes.
func (a Actor) applyToGroup(g *store.Group, patch api.GroupPatch, e expiry, now time.Time) []api.FieldChange {
	var c []api.FieldChange
	apply := func(field string, to *string, at *string) {
		if to != nil {
			v := strings.TrimSpace(*to)
			changed(&c, field, *at, v)
			*at = v
		}
	}
	apply("name", patch.Name, &g.Name)
	apply("description", patch.Description, &g.Description)
	apply("language", patch.Language, &g.Language)
	apply("welcome", patch.Welcome, &g.Welcome)
	if patch.Traits != nil {
		to := strings.Join(*patch.Traits, ",")
		apply("traits", &to, &g.Traits)
	}
	if patch.Delivery != nil && *patch.Delivery != "" {
		changed(&c, "default_delivery", delivery(g.DefaultMail), *patch.Delivery)
		g.DefaultMail = *patch.Delivery == "each"
	}
	before := g.Life()
	if patch.Standing != nil {
		apply("standing", patch.Standing, &g.Standing)
		g.StandingBy = a.Person.Address
	}
	if patch.Chosen != nil {
		changed(&c, "chosen", g.Chosen, *patch.Chosen)
		g.Chosen = *patch.Chosen
	}
	if after := g.Life(); after != before && g.EndedAt == nil {
		g.SetExpires(e.policy.Expiry(after, now))
		changed(&c, "expires_at", date(before.Expires), date(g.Life().Expires))
	}
	return c
}
