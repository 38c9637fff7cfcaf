package workspace

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/naming"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
)

const namingSetting = "naming"

// Who may create groups.
const (
	creatorsAdministrators = "administrators"
	creatorsWorkspace      = "workspace"
)

// naming returns the rules of naming in force; administrators alone create, and
// nothing is asked of a name, until that is set.
func (w *Workspace) naming(ctx context.Context) (api.Naming, naming.Rules, error) {
	n := api.Naming{Creators: creatorsAdministrators}
	version, err := w.store.Setting(ctx, namingSetting, &n)
	n.Version = version + 1
	if n.Words == nil {
		n.Words = []string{}
	}
	if n.Beginnings == nil {
		n.Beginnings = []string{}
	}
	return n, rulesOf(n), err
}

func rulesOf(n api.Naming) naming.Rules {
	return naming.Rules{Prefix: n.Prefix, Suffix: n.Suffix, Words: n.Words, Beginnings: n.Beginnings}
}

// Naming returns the rules of naming.
func (w *Workspace) Naming(ctx context.Context, a Actor) (api.Naming, error) {
	if err := allow(a, readNaming); err != nil {
		return api.Naming{}, err
	}
	n, _, err := w.naming(ctx)
	return n, err
}

func checkNaming(n api.Naming) error {
	var p problems
	if n.Creators != creatorsAdministrators && n.Creators != creatorsWorkspace {
		p.add("creators", n.Creators, "Groups can't be created by %q: choose administrators or workspace.", n.Creators)
	}
	bad := rulesOf(n).Check(rule.FieldNames())
	given := map[string]any{"prefix": n.Prefix, "suffix": n.Suffix, "words": nil, "beginnings": nil}
	for _, field := range []string{"prefix", "suffix", "words", "beginnings"} {
		if bad[field] != "" {
			p.add(field, given[field], "%s", bad[field])
		}
	}
	return p.err()
}

// NamingEffect says which living groups break rules that are not in force yet. It
// reads every one of them: a declared full review.
func (w *Workspace) NamingEffect(ctx context.Context, a Actor, n api.Naming) (api.NamingEffect, error) {
	if err := allow(a, changeNaming); err != nil {
		return api.NamingEffect{}, err
	}
	if err := checkNaming(n); err != nil {
		return api.NamingEffect{}, err
	}
	return w.namingEffect(ctx, n)
}

func (w *Workspace) namingEffect(ctx context.Context, n api.Naming) (api.NamingEffect, error) {
	out := api.NamingEffect{Sample: []api.BrokenName{}}
	rules := rulesOf(n)
	err := w.store.EachLiveGroup(ctx, func(batch []store.Group) error {
		for _, g := range batch {
			out.Groups++
			local, _, _ := strings.Cut(g.Address, "@")
			faults := rules.Broken(g.Name, local)
			if len(faults) == 0 {
				continue
			}
			if out.Broken++; out.Broken <= 200 {
				b := api.BrokenName{Name: g.Name, Address: g.Address}
				for _, f := range faults {
					b.Says = append(b.Says, f.Says)
				}
				out.Sample = append(out.Sample, b)
			}
		}
		return nil
	})
	slices.SortFunc(out.Sample, func(a, b api.BrokenName) int { return strings.Compare(a.Name, b.Name) })
	switch out.Broken {
	case 0:
		out.Says = fmt.Sprintf("None of the %d groups breaks these rules.", out.Groups)
	case 1:
		out.Says = fmt.Sprintf("1 of the %d groups breaks these rules. It keeps its name; the rules are for new groups and for renaming.", out.Groups)
	default:
		out.Says = fmt.Sprintf("%d of the %d groups break these rules. They keep their names; the rules are for new groups and for renaming.", out.Broken, out.Groups)
	}
	return out, err
}

// SetNaming puts rules of naming in force.
func (w *Workspace) SetNaming(ctx context.Context, a Actor, n api.Naming, version int) (api.Naming, error) {
	if err := allow(a, changeNaming); err != nil {
		return api.Naming{}, err
	}
	if err := checkNaming(n); err != nil {
		return api.Naming{}, err
	}
	effect, err := w.namingEffect(ctx, n)
	if err != nil {
		return api.Naming{}, err
	}
	err = w.store.Tx(ctx, func(t *store.Store) error {
		before := api.Naming{Creators: creatorsAdministrators}
		current, err := t.LockSetting(ctx, namingSetting, &before)
		if err != nil {
			return err
		}
		if version > 0 && version != current+1 {
			return fail(Stale, "Somebody changed the rules of naming since you read them (version %d, now %d). Read them again, then make your change.", version, current+1)
		}
		n.Version = current + 2
		var c []api.FieldChange
		changed(&c, "creators", before.Creators, n.Creators)
		changed(&c, "prefix", before.Prefix, n.Prefix)
		changed(&c, "suffix", before.Suffix, n.Suffix)
		if !slices.Equal(before.Words, n.Words) {
			c = append(c, api.FieldChange{Field: "words", From: before.Words, To: n.Words})
		}
		if !slices.Equal(before.Beginnings, n.Beginnings) {
			c = append(c, api.FieldChange{Field: "beginnings", From: before.Beginnings, To: n.Beginnings})
		}
		c = append(c, api.FieldChange{Field: "groups", From: effect.Groups, To: effect.Broken, Says: effect.Says})
		if err := t.SaveSetting(ctx, namingSetting, n, current+1); err != nil {
			return err
		}
		return record(ctx, t, a, w.now(ctx), "naming.change", nil, "rules of naming", c)
	})
	return n, err
}

// creator is an actor as the rules of naming see them.
func creator(p store.Person) naming.Creator {
	return naming.Creator{Fields: fields(p), Exempt: p.WorkspaceRole == Administrator}
}

// fields returns what the directory has of a person.
func fields(p store.Person) map[string]string {
	out := map[string]string{}
	_ = json.Unmarshal(p.Attributes, &out) // written by us; an unreadable one counts as none
	return out
}

// Proposing is a question for an address.
type Proposing struct {
	Name    string
	Address string // checks this one; a local part alone takes the domain
	Domain  string // the workspace's main one where it is empty
	As      string // somebody else whose group it would be
	Group   string // a group that would have the address in place of its own
}

// Propose says what a group would be called, and returns the address that its name
// proposes, or checks the given one.
func (w *Workspace) Propose(ctx context.Context, a Actor, q Proposing) (api.Proposal, error) {
	var own uuid.UUID
	as := a.Person
	switch {
	case q.Group != "":
		g, _, err := w.findFor(ctx, a, changeGroup, q.Group)
		if err != nil {
			return api.Proposal{}, err
		}
		own = g.ID
	case q.As != "" && !a.is(q.As):
		if err := allow(a, readNaming); err != nil {
			return api.Proposal{}, err
		}
		p, err := w.findPerson(ctx, q.As)
		if err != nil {
			return api.Proposal{}, err
		}
		as = p
	default:
		if err := w.allowCreate(ctx, a); err != nil {
			return api.Proposal{}, err
		}
	}
	domains, err := w.store.Domains(ctx)
	if err != nil {
		return api.Proposal{}, err
	}
	if q.Domain == "" && len(domains) > 0 {
		q.Domain = domains[0]
	}
	_, rules, err := w.naming(ctx)
	if err != nil {
		return api.Proposal{}, err
	}
	local, domain := "", q.Domain
	if i := strings.LastIndexByte(q.Address, '@'); i >= 0 {
		local, domain = q.Address[:i], q.Address[i+1:]
	} else {
		local = q.Address
	}
	named := rules.Apply(q.Name, local, creator(as))
	out := api.Proposal{Name: named.Name, Status: "invalid", Notes: orEmpty(named.Notes), Near: []api.Near{}}
	if local == "" {
		if local, err = mailaddr.Derive(named.Name); err != nil {
			out.Says = says(err)
			return out, nil
		}
	} else {
		local = named.Local(local)
	}
	checked, err := w.checkAddress(ctx, w.store, local+"@"+domain, domains, own)
	if err != nil {
		return out, err
	}
	if err := w.veil(ctx, a, &checked); err != nil {
		return out, err
	}
	checked.Name, checked.Notes = out.Name, out.Notes
	if len(named.Faults) > 0 {
		checked.Status, checked.Says = "against", named.Faults[0].Says+" "+named.Faults[0].Mend
	}
	return checked, nil
}

// veil takes from a proposal the names of groups that the actor may not find.
func (w *Workspace) veil(ctx context.Context, a Actor, p *api.Proposal) error {
	if a.readsAll() || len(p.Near) == 0 {
		return nil
	}
	var keys []string
	for _, n := range p.Near {
		if n.Kind != "person" {
			keys = append(keys, n.Address)
		}
	}
	groups, err := w.store.GroupsByKeys(ctx, keys)
	if err != nil {
		return err
	}
	var ids []uuid.UUID
	for _, g := range groups {
		ids = append(ids, g.ID)
	}
	standings, err := w.standingsOf(ctx, a.Person, ids)
	if err != nil {
		return err
	}
	p.Near = slices.DeleteFunc(p.Near, func(n api.Near) bool {
		g, isGroup := groups[n.Address]
		hidden := isGroup && !a.may(readGroup, &g, standings[g.ID])
		if hidden && p.Status != "free" {
			p.Says = map[string]string{"taken": "This address is taken.", "alike": "This address is too like one that is taken."}[p.Status]
		} else if hidden {
			p.Says = "This address is free."
		}
		return hidden
	})
	return nil
}
