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
	"ivytable.example/ivytable/internal/core/filter"
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

// inForce returns the rules; administrators alone create, and nothing is asked of a name,
// until that is set.
func inForce(v *workspace.View) (api.Naming, error) {
	n := store.Naming{Creators: creatorsAdministrators}
	version, err := v.Read.Setting(setting, &n)
	return shape(n, version+1), err
}

// About is what is known of a group that a name is for.
type About struct {
	Domain, StartingPoint, Language string
	Traits                          []string
}

func (a About) subject() rule.Subject {
	return filter.Groups.NewSubject(map[string][]string{"domain": {a.Domain}, "starting_point": {a.StartingPoint}, "language": {a.Language}, "traits": a.Traits})
}

// known is what a filter of a pattern can ask about.
var known = []string{"domain", "starting_point", "language", "traits"}

// Rules returns the rules in force for a group: with the first of the patterns whose filter
// matches it, else with the one for all.
func Rules(v *workspace.View, about About) (naming.Rules, error) {
	n, err := inForce(v)
	return rulesFor(n, about), err
}

func rulesFor(n api.Naming, about About) naming.Rules {
	out := naming.Rules{Pattern: n.Pattern, Words: n.Words, Beginnings: n.Beginnings}
	for _, p := range n.Patterns {
		if f, err := filter.Groups.Parse(p.Filter); err == nil && f.Eval(about.subject()) == rule.Match { // it was checked when it was set
			out.Pattern = p.Pattern
			break
		}
	}
	return out
}

func shape(n store.Naming, version int) api.Naming {
	out := api.Naming{Creators: n.Creators, Pattern: n.Pattern, Words: n.Words, Beginnings: n.Beginnings, Version: version}
	for _, p := range n.Others {
		out.Patterns = append(out.Patterns, api.NamePattern(p))
	}
	if out.Words == nil {
		out.Words = []string{}
	}
	if out.Beginnings == nil {
		out.Beginnings = []string{}
	}
	return out
}

// check adds what is wrong with rules.
func check(p *workspace.Problems, n api.Naming, fields []string) {
	add := func(field string, r naming.Rules) {
		for _, f := range r.Check(fields) {
			var given any
			if f.Given != "" {
				given = f.Given
			}
			p.Add(field+f.Field, given, "%s", f.Words())
		}
	}
	add("", naming.Rules{Pattern: n.Pattern, Words: n.Words, Beginnings: n.Beginnings})
	for i, x := range n.Patterns {
		field := fmt.Sprintf("patterns[%d].", i)
		add(field, naming.Rules{Pattern: x.Pattern})
		f, err := filter.Groups.Parse(x.Filter)
		if err != nil {
			p.Add(field+"filter", workspace.Cut(x.Filter, 200), "%s", workspace.Words(err))
			continue
		}
		for _, a := range f.Attributes() {
			if !slices.Contains(known, a.Path) {
				p.Add(field+"filter", workspace.Cut(x.Filter, 200), "A group that is yet to be made has no %s. Ask about %s.", a.Path, strings.Join(known, ", "))
			}
		}
	}
}

// AllowCreate checks the actor against creating groups, or against what goes with it.
func AllowCreate(v *workspace.View, do access.Action) error {
	err := v.By.Allow(do)
	if err == nil || v.By.SignedIn() != nil {
		return err
	}
	n, err := inForce(v)
	if err != nil {
		return err
	}
	helps, err := v.CreatesIn(nil)
	if err != nil {
		return err
	}
	err = v.By.AllowHere(do, n.Creators == creatorsWorkspace || helps)
	if err != nil && n.Creators == creatorsWorkspace {
		return workspace.Fail(workspace.NotAllowed, "Auditors look, and change nothing: everybody else may create groups here.")
	}
	return err
}

// WorkspaceMay lists what the actor may do to the workspace.
func WorkspaceMay(v *workspace.View) ([]access.Action, error) {
	n, err := inForce(v)
	if err != nil {
		return nil, err
	}
	helps, err := v.CreatesIn(nil)
	return v.By.Subject().OnWorkspace(n.Creators == creatorsWorkspace || helps), err
}

// Read returns the rules of naming.
func (s *Service) Read(ctx context.Context, by workspace.Actor) (api.Naming, error) {
	if err := by.Allow(access.ReadNaming); err != nil {
		return api.Naming{}, err
	}
	n, err := inForce(s.k.View(ctx, by))
	return n, err
}

// told refuses patterns with what colleagues don't see of each other: names would tell everybody.
func told(p *workspace.Problems, v *workspace.View, n api.Naming, fields []string) error {
	shown, err := v.ShownToColleagues()
	if err != nil {
		return err
	}
	shown = append([]string{"givenName", "familyName"}, shown...) // of the name that everybody is listed by
	check := func(field, pattern string) {
		for _, name := range fields {
			if strings.Contains(pattern, "{"+name+"}") && !slices.Contains(shown, name) {
				p.Add(field, pattern, "Colleagues don't see the %s of each other, and names with it would tell it to everybody. Choose another field, or let colleagues see it.", name)
			}
		}
	}
	check("pattern", n.Pattern)
	for i, x := range n.Patterns {
		check(fmt.Sprintf("patterns[%d].pattern", i), x.Pattern)
	}
	return nil
}

// Set puts rules of naming in force. It says which living groups break them, and reads
// every one of them: a declared full review.
func (s *Service) Set(ctx context.Context, by workspace.Actor, n api.Naming, version int) (api.Naming, error) {
	if err := by.Allow(access.ChangeNaming); err != nil {
		return api.Naming{}, err
	}
	var p workspace.Problems
	p.OneOf("creators", n.Creators, creatorsAdministrators, creatorsWorkspace)
	v := s.k.View(ctx, by)
	fields, err := v.FieldNames()
	if err != nil {
		return api.Naming{}, err
	}
	check(&p, n, fields)
	if err := told(&p, v, n, fields); err != nil {
		return api.Naming{}, err
	}
	if err := p.Err(); err != nil {
		return api.Naming{}, err
	}
	err = s.k.Do(ctx, by, func(c *workspace.Change) error {
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
		next := store.Naming{Creators: n.Creators, Pattern: n.Pattern, Words: n.Words, Beginnings: n.Beginnings}
		for _, x := range n.Patterns {
			next.Others = append(next.Others, store.Pattern(x))
		}
		if err := c.Tx.SaveSetting(setting, next, current+1); err != nil {
			return err
		}
		return c.Record(event.NamingChanged{Before: event.Was(shape(before, current+1), n.Version), Changed: changes, Effect: says}, nil)
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
	add("pattern", before.Pattern, n.Pattern)
	others := func(all []api.NamePattern) string {
		var out []string
		for _, x := range all {
			out = append(out, x.Filter+" → "+x.Pattern)
		}
		return strings.Join(out, "; ")
	}
	add("patterns", others(shape(before, 0).Patterns), others(n.Patterns))
	add("words", strings.Join(before.Words, ", "), strings.Join(n.Words, ", "))
	add("beginnings", strings.Join(before.Beginnings, ", "), strings.Join(n.Beginnings, ", "))
	return out
}

// review says which groups break rules that are not in force yet.
func review(c *workspace.Change, n api.Naming) (string, error) {
	has, err := values(c, n)
	if err != nil {
		return "", err
	}
	groups, broken := 0, 0
	err = c.Read.EachLiveGroup(func(batch []store.Group) error {
		for _, g := range batch {
			groups++
			local, domain, _ := strings.Cut(g.Address, "@")
			faults := rulesFor(n, About{domain, g.StartingPoint, g.Language, SplitTraits(g.Traits)}).Broken(g.Name, local, has)
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

// values reads what people have in the fields that patterns name, and returns whether somebody
// has a value.
func values(c *workspace.Change, n api.Naming) (func(field, value string) bool, error) {
	patterns := n.Pattern
	for _, x := range n.Patterns {
		patterns += x.Pattern
	}
	all := map[string]map[string]bool{}
	schema, err := c.Schema("")
	if err != nil {
		return nil, err
	}
	for _, a := range schema.Attributes() {
		if a.Field == "" || !strings.Contains(patterns, "{"+a.Field+"}") {
			continue
		}
		some, err := c.Read.DistinctValues(a.Path)
		if err != nil {
			return nil, err
		}
		all[a.Field] = make(map[string]bool, len(some))
		for _, v := range some {
			all[a.Field][mailaddr.Skeleton(v)] = true
		}
	}
	return func(field, value string) bool { return all[field][value] }, nil
}

// Creator is a person as the rules of naming see them.
func Creator(p store.Person) naming.Creator {
	return naming.Creator{Fields: people.Fields(p), Exempt: access.Role(p.WorkspaceRole) == access.Administrator}
}

// Proposing is a question for an address.
type Proposing struct {
	Name          string
	Address       string // checks this one; a local part alone takes the domain
	Domain        string // the workspace's main one where it is empty
	As            string // somebody else whose group it would be
	StartingPoint string // what it would be begun from
	Group         string // a group that would have the address in place of its own
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
	local, domain := q.Address, q.Domain
	if i := strings.LastIndexByte(q.Address, '@'); i >= 0 {
		local, domain = q.Address[:i], q.Address[i+1:]
	}
	rules, err := Rules(v, About{Domain: domain, StartingPoint: q.StartingPoint})
	if err != nil {
		return none, err
	}
	if q.Address != "" && strings.TrimSpace(local) == "" {
		return api.Proposal{Status: "invalid", Notes: []string{}, Near: []api.Near{}, Says: "The part before the @ is empty. Write a name there, such as night-dispatch."}, nil
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
	twins, err := namesakes(v, named.Name, own)
	if err != nil {
		return out, err
	}
	for _, g := range twins {
		checked.Notes = append(checked.Notes, namesake(g))
	}
	if len(named.Faults) > 0 {
		checked.Status, checked.Says = "against", named.Faults[0].Words()
	}
	return checked, nil
}

// EverybodyCreates reports whether the workspace lets everybody create groups.
func EverybodyCreates(v *workspace.View) (bool, error) {
	n, err := inForce(v)
	return err == nil && n.Creators == creatorsWorkspace, err
}

// Creates checks that the actor may create this group: administrators any, everybody where the workspace lets
// them, helpers those that are in an area in which they create.
func Creates(v *workspace.View, g *store.Group) error {
	if v.By.Administers() {
		return nil
	}
	n, err := inForce(v)
	if err != nil || n.Creators == creatorsWorkspace {
		return err
	}
	in, err := v.CreatesIn(g)
	if err == nil && !in {
		return workspace.Fail(workspace.NotAllowed, "%s at %s would be in none of the areas in which you create groups.", g.Name, g.Address)
	}
	return err
}
