// Package naming is what groups are called: the rules of the workspace, addresses that are
// proposed and checked, and starting points.
package naming

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/naming"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Service is naming.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

const setting = "naming"

// Who may create groups.
const (
	creatorsAdministrators = "administrators"
	creatorsWorkspace      = "workspace"
)

// Rules returns the rules in force; administrators alone create, and nothing is asked of a
// name, until that is set.
func Rules(v *workspace.View) (api.Naming, naming.Rules, error) {
	n := store.Naming{Creators: creatorsAdministrators}
	version, err := v.Read.Setting(setting, &n)
	out := shape(n, version+1)
	return out, rulesOf(out), err
}

func shape(n store.Naming, version int) api.Naming {
	out := api.Naming{Creators: n.Creators, Prefix: n.Prefix, Suffix: n.Suffix, Words: n.Words, Beginnings: n.Beginnings, Version: version}
	if out.Words == nil {
		out.Words = []string{}
	}
	if out.Beginnings == nil {
		out.Beginnings = []string{}
	}
	return out
}

func rulesOf(n api.Naming) naming.Rules {
	return naming.Rules{Prefix: n.Prefix, Suffix: n.Suffix, Words: n.Words, Beginnings: n.Beginnings}
}

// AllowCreate checks the actor against creating groups, or against what goes with it.
func AllowCreate(v *workspace.View, do access.Action) error {
	err := v.By.Allow(do)
	if err == nil || v.By.SignedIn() != nil {
		return err
	}
	n, _, err := Rules(v)
	if err != nil {
		return err
	}
	return v.By.AllowHere(do, n.Creators == creatorsWorkspace)
}

// WorkspaceMay lists what the actor may do to the workspace.
func WorkspaceMay(v *workspace.View) ([]access.Action, error) {
	n, _, err := Rules(v)
	return v.By.Subject().OnWorkspace(n.Creators == creatorsWorkspace), err
}

// Read returns the rules of naming.
func (s *Service) Read(ctx context.Context, by workspace.Actor) (api.Naming, error) {
	if err := by.Allow(access.ReadNaming); err != nil {
		return api.Naming{}, err
	}
	n, _, err := Rules(s.k.View(ctx, by))
	return n, err
}

// Set puts rules of naming in force. It says which living groups break them, and reads
// every one of them: a declared full review.
func (s *Service) Set(ctx context.Context, by workspace.Actor, n api.Naming, version int) (api.Naming, error) {
	if err := by.Allow(access.ChangeNaming); err != nil {
		return api.Naming{}, err
	}
	var p workspace.Problems
	p.OneOf("creators", n.Creators, creatorsAdministrators, creatorsWorkspace)
	for _, f := range rulesOf(n).Check(rule.FieldNames()) {
		var given any
		if f.Given != "" {
			given = f.Given
		}
		p.Fault(f.Field, given, f)
	}
	if err := p.Err(); err != nil {
		return api.Naming{}, err
	}
	err := s.k.Do(ctx, by, func(c *workspace.Change) error {
		before := store.Naming{Creators: creatorsAdministrators}
		current, err := c.Tx.LockSetting(setting, &before)
		if err != nil {
			return err
		}
		if err := c.Allow(access.ChangeNaming); err != nil {
			return err
		}
		if version > 0 && version != current+1 {
			return workspace.Fail(workspace.Stale, "Somebody changed the rules of naming since you read them (version %d, now %d). Read them again, then make your change.", version, current+1)
		}
		n.Version = current + 2
		changes := differences(before, n)
		says, err := review(c, n)
		if err != nil {
			return err
		}
		c.Says(says)
		for _, x := range changes {
			c.Effect(api.Effect{Field: x.Field, From: x.From, To: x.To})
		}
		next := store.Naming{Creators: n.Creators, Prefix: n.Prefix, Suffix: n.Suffix, Words: n.Words, Beginnings: n.Beginnings}
		if err := c.Tx.SaveSetting(setting, next, current+1); err != nil {
			return err
		}
		return c.Record(event.NamingChanged{Changed: changes, Effect: says}, nil)
	})
	return n, err
}

func differences(before store.Naming, n api.Naming) []event.Change {
	var out []event.Change
	add := func(field, from, to string) {
		if from != to {
			out = append(out, event.Change{Field: field, From: from, To: to})
		}
	}
	add("creators", before.Creators, n.Creators)
	add("prefix", before.Prefix, n.Prefix)
	add("suffix", before.Suffix, n.Suffix)
	add("words", strings.Join(before.Words, ", "), strings.Join(n.Words, ", "))
	add("beginnings", strings.Join(before.Beginnings, ", "), strings.Join(n.Beginnings, ", "))
	return out
}

// review says which groups break rules that are not in force yet.
func review(c *workspace.Change, n api.Naming) (string, error) {
	rules := rulesOf(n)
	groups, broken := 0, 0
	err := c.Read.EachLiveGroup(func(batch []store.Group) error {
		for _, g := range batch {
			groups++
			local, _, _ := strings.Cut(g.Address, "@")
			faults := rules.Broken(g.Name, local)
			if len(faults) == 0 {
				continue
			}
			if broken++; broken <= 200 {
				var says []string
				for _, f := range faults {
					says = append(says, f.Says)
				}
				c.Report.Sample = append(c.Report.Sample, api.Line{Name: g.Name, Address: g.Address, Outcome: "broken", Says: strings.Join(says, " ")})
			}
		}
		return nil
	})
	slices.SortFunc(c.Report.Sample, func(a, b api.Line) int { return strings.Compare(a.Name, b.Name) })
	c.Report.Total = broken
	switch broken {
	case 0:
		return "No group breaks these rules.", err
	case 1:
		return fmt.Sprintf("1 of %d groups breaks these rules. It keeps its name; the rules are for new groups and for renaming.", groups), err
	}
	return fmt.Sprintf("%d of %d groups break these rules. They keep their names; the rules are for new groups and for renaming.", broken, groups), err
}

// Creator is a person as the rules of naming see them.
func Creator(p store.Person) naming.Creator {
	return naming.Creator{Fields: people.Fields(p), Exempt: access.Role(p.WorkspaceRole) == access.Administrator}
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
func (s *Service) Propose(ctx context.Context, by workspace.Actor, q Proposing) (api.Proposal, error) {
	none := api.Proposal{}
	v := s.k.View(ctx, by)
	var own uuid.UUID
	as := by.Person
	switch {
	case q.Group != "":
		g, err := v.FindGroup(q.Group, access.ChangeGroup)
		if err != nil {
			return none, err
		}
		own = g.ID
	case q.As != "" && !by.Is(q.As):
		if err := by.Allow(access.ReadNaming); err != nil {
			return none, err
		}
		p, err := people.Find(v, q.As)
		if err != nil {
			return none, err
		}
		as = p
	default:
		if err := AllowCreate(v, access.CreateGroup); err != nil {
			return none, err
		}
	}
	domains, err := v.Domains()
	if err != nil {
		return none, err
	}
	if q.Domain == "" && len(domains) > 0 {
		q.Domain = domains[0]
	}
	_, rules, err := Rules(v)
	if err != nil {
		return none, err
	}
	local, domain := q.Address, q.Domain
	if i := strings.LastIndexByte(q.Address, '@'); i >= 0 {
		local, domain = q.Address[:i], q.Address[i+1:]
	}
	named := rules.Apply(q.Name, local, Creator(as))
	out := api.Proposal{Name: named.Name, Status: "invalid", Notes: append([]string{}, named.Notes...), Near: []api.Near{}}
	if local == "" {
		if local, err = mailaddr.Derive(named.Name); err != nil {
			out.Says = workspace.Words(err)
			return out, nil
		}
	} else {
		local = named.Local(local)
	}
	checked, err := CheckAddress(v, local+"@"+domain, own)
	if err != nil {
		return out, err
	}
	checked.Name, checked.Notes = out.Name, out.Notes
	if len(named.Faults) > 0 {
		checked.Status, checked.Says = "against", named.Faults[0].Words()
	}
	return checked, nil
}
