package group

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/naming"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Change changes what a group is called, where it is, what it does and how long it lives.
// With version above 0 it is refused when the group has changed since.
func (s *Service) Change(ctx context.Context, by workspace.Actor, ref string, patch api.GroupPatch, version int) (api.Group, error) {
	return s.change(ctx, by, ref, version, func(*workspace.Change, *workspace.Locked) (api.GroupPatch, error) { return patch, nil })
}

// change is Change for what is known once the group is locked.
func (s *Service) change(ctx context.Context, by workspace.Actor, ref string, version int, ask func(*workspace.Change, *workspace.Locked) (api.GroupPatch, error)) (api.Group, error) {
	var id uuid.UUID
	var patch api.GroupPatch
	v := s.k.View(ctx, by)
	var ceilings []workspace.Ceiling
	err := s.k.OnGroupAfter(ctx, by, ref, access.ChangeGroup, func(c *workspace.Change) (err error) {
		ceilings, err = c.HoldCeilings()
		return err
	}, func(c *workspace.Change, g *workspace.Locked) error {
		id = g.ID
		var err error
		if patch, err = ask(c, g); err != nil {
			return err
		}
		if (patch.Exempt != nil || patch.ExemptUntil != nil) && !c.May(access.ChangeTerm, &g.Group) {
			return workspace.Fail(workspace.NotAllowed, "%s", access.ChangeTerm.Refusal())
		}
		if err := g.CheckVersion(version); err != nil {
			return err
		}
		changes, err := Apply(c, g, patch)
		if err != nil || len(changes) == 0 {
			return err
		}
		if g.Address != g.Was().Address { // other ceilings may hold where it goes
			if err := workspace.AboveCeilings(ceilings, g.Policy, g.Address, g.StartingPoint).Err(); err != nil {
				return err
			}
		}
		c.Says(fmt.Sprintf("%s changes.", g.Was().Name))
		for _, x := range changes {
			c.Effect(api.Effect{Field: x.Field, From: x.From, To: x.To})
		}
		if err := c.Save(g); err != nil {
			return err
		}
		return c.Record(event.GroupChanged{Changed: changes}, &g.Group.Group)
	})
	if patch.Address != nil {
		err = naming.AddressTaken(v, err, strings.TrimSpace(*patch.Address))
	}
	return ReadAfter(s.k.View(ctx, by), id, err)
}

// changes collects which fields change.
type changes []event.Change

func (c *changes) add(field, from, to string) {
	if from != to {
		*c = append(*c, event.Change{Field: field, From: from, To: to})
	}
}

// Apply puts a patch into a group, which is locked, and returns what that changes. Whoever asks saves and records it.
func Apply(c *workspace.Change, g *workspace.Locked, patch api.GroupPatch) ([]event.Change, error) {
	var p workspace.Problems
	var out changes
	if err := rename(c, g, patch, &p); err != nil {
		return nil, err
	}
	address, aliases, err := move(c, g, patch, &p)
	if err != nil {
		return nil, err
	}
	if patch.Language != nil && !workspace.KnownLanguage(*patch.Language) {
		p.Add("language", *patch.Language, "Notices are written in: %s.", strings.Join(workspace.LanguageNames(), ", "))
	}
	if patch.Traits != nil {
		naming.CheckTraits(&p, *patch.Traits)
	}
	mail, bad := workspace.ApplyTexts(g.Mail.Texts, patch.Mail)
	p = append(p, bad...)
	if err := p.Err(); err != nil {
		return nil, err
	}
	if err := out.address(c, g, address, aliases, patch.Aliases != nil); err != nil {
		return nil, err
	}
	set := func(field string, to *string, at *string) {
		if to != nil {
			v := strings.TrimSpace(*to)
			out.add(field, *at, v)
			*at = v
		}
	}
	out.add("name", g.Was().Name, g.Name)
	set("description", patch.Description, &g.Description)
	set("language", patch.Language, &g.Language)
	set("welcome", patch.Welcome, &g.Welcome)
	out = append(out, workspace.TextChanges(g.Mail.Texts, mail)...)
	g.Mail.Texts = mail
	if patch.Traits != nil {
		to := strings.Join(*patch.Traits, ",")
		set("traits", &to, &g.Traits)
	}
	if patch.Delivery != nil && *patch.Delivery != "" {
		out.add("default_delivery", workspace.Delivery(g.DefaultMail), *patch.Delivery)
		g.DefaultMail = *patch.Delivery == "each"
	}
	return out, out.term(c, g, patch)
}

// rename gives a group the name that the rules make of a new one.
func rename(c *workspace.Change, g *workspace.Locked, patch api.GroupPatch, p *workspace.Problems) error {
	if patch.Name == nil || strings.TrimSpace(*patch.Name) == g.Name {
		return nil
	}
	_, domain, _ := strings.Cut(g.Address, "@")
	rules, err := naming.Rules(&c.View, naming.About{Domain: domain, StartingPoint: g.StartingPoint, Language: g.Language, Traits: naming.SplitTraits(g.Traits)})
	if err != nil {
		return err
	}
	named := rules.Apply(*patch.Name, "", naming.Creator(c.By.Person))
	if bad := people.CheckName(named.Name); bad != "" {
		p.Add("name", workspace.Cut(*patch.Name, 300), "%s", bad)
	}
	for _, f := range named.Faults {
		p.Add("name", *patch.Name, "%s", f.Words())
	}
	g.Name = named.Name
	return naming.WarnOfNamesakes(c, g.Name, g.ID)
}

// move checks where a group would be.
func move(c *workspace.Change, g *workspace.Locked, patch api.GroupPatch, p *workspace.Problems) (address string, aliases []string, err error) {
	address = g.Address
	if patch.Address != nil && strings.TrimSpace(*patch.Address) != g.Address {
		domains, err := c.Domains()
		if err != nil {
			return "", nil, err
		}
		x := strings.TrimSpace(*patch.Address)
		if !strings.Contains(x, "@") {
			x += "@" + domains[0]
		}
		if address, err = naming.CheckMove(&c.View, x, g.ID, p); err != nil {
			return "", nil, err
		}
	}
	if patch.Aliases != nil {
		aliases, err = naming.CheckAliases(&c.View, *patch.Aliases, address, g.ID, p)
	}
	return address, aliases, err
}

// address gives a group another address, whose old one stays as an alias, and, where they
// are given, other aliases.
func (out *changes) address(c *workspace.Change, g *workspace.Locked, address string, aliases []string, given bool) error {
	before, err := c.Read.Aliases([]uuid.UUID{g.ID})
	if err != nil {
		return err
	}
	was := before[g.ID]
	if !given {
		aliases = slices.Clone(was)
	}
	if address != g.Address {
		out.add("address", g.Address, address)
		aliases = slices.DeleteFunc(aliases, func(x string) bool { return x == address || x == g.Address })
		if c.By.Undoes == 0 || !given { // else it is given up again, as it was before the move that is undone
			aliases = append(aliases, g.Address)
		}
		g.Address, g.AddrKey = address, strings.ToLower(address)
	}
	slices.Sort(aliases)
	if !slices.Equal(was, aliases) {
		*out = append(*out, event.Change{Field: "aliases", From: strings.Join(was, ", "), To: strings.Join(aliases, ", ")})
	}
	if len(*out) == 0 {
		return nil
	}
	g.Touch()
	return c.Tx.SetAddresses(&g.Group.Group, aliases, c.Now())
}

// term changes whether the term rules are for a group.
func (out *changes) term(c *workspace.Change, g *workspace.Locked, patch api.GroupPatch) error {
	t, err := c.Terms()
	if err != nil {
		return err
	}
	before := g.Life()
	if patch.Exempt != nil {
		to := strings.TrimSpace(*patch.Exempt)
		out.add("exempt", g.Exempt, to)
		if g.Exempt != to {
			g.Exempt, g.ExemptBy = to, c.By.Person.Address
		}
		if to == "" && g.ExemptUntil != nil && patch.ExemptUntil == nil {
			patch.ExemptUntil = new(string)
		}
	}
	if patch.ExemptUntil != nil {
		var to *time.Time
		if day := *patch.ExemptUntil; day != "" {
			if g.Exempt == "" {
				return workspace.Wrong("exempt_until", day, "%s is not exempt, so there is nothing to look at again. Say why it is, too.", g.Name)
			}
			if to, err = t.LookAgain(c.Now(), "exempt_until", day); err != nil {
				return err
			}
		}
		was := ""
		if g.ExemptUntil != nil {
			was = t.Date(*g.ExemptUntil)
		}
		out.add("exempt_until", was, *patch.ExemptUntil)
		g.ExemptUntil = to
	}
	if after := g.Life(); after == before || g.EndedAt != nil {
		return nil
	}
	if err := c.Relive(false, &g.Group.Group); err != nil {
		return err
	}
	out.add("expires_on", t.Date(before.Expires), t.Date(g.Life().Expires))
	return nil
}
