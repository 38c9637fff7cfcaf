// Package rules is membership by rule: setting and explaining the rule of a group, and
// letting people come and go when what the directory says of them changes.
package rules

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/number"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/naming"
	"ivytable.example/ivytable/internal/workspace/people"
)

// Service is membership by rule.
type Service struct{ k *workspace.Kernel }

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k} }

// DefaultGuard is the share, in percent, of those in by rule who may go at once.
const DefaultGuard = 20

// Subject is a person as rules see them.
func Subject(f store.PersonFacts) rule.Subject {
	attributes := map[string]string{}
	_ = json.Unmarshal(f.Attributes, &attributes) // written by us; an unreadable one counts as none
	return rule.NewSubject(f.Address, f.Name, f.Active, f.CreatedAt.Format(time.RFC3339Nano), attributes)
}

func factsOf(p store.Person) store.PersonFacts {
	return store.PersonFacts{ID: p.ID, Address: p.Address, Name: p.Name, Active: p.Active, Attributes: p.Attributes, CreatedAt: p.CreatedAt}
}

// Read returns the rule of a group.
func (s *Service) Read(ctx context.Context, by workspace.Actor, ref string) (api.Rule, error) {
	v := s.k.View(ctx, by)
	g, err := v.FindGroup(ref, access.SeePeople)
	if err != nil {
		return api.Rule{}, err
	}
	return shapeOf(v, &g.Group)
}

func shapeOf(v *workspace.View, g *store.Group) (api.Rule, error) {
	r, err := v.Read.Rule(g.ID)
	if errors.Is(err, store.ErrNotFound) {
		return api.Rule{}, workspace.Fail(workspace.NotFound, "%s has no rule: its people are put in by hand.", g.Name)
	} else if err != nil {
		return api.Rule{}, err
	}
	out := api.Rule{Expression: r.Expression, Guard: r.Guard, SetBy: r.SetBy, SetAt: v.In(r.SetAt), Version: r.Version}
	if len(r.Pending) > 0 {
		var p store.PendingRuleChange
		if err := json.Unmarshal(r.Pending, &p); err != nil {
			return out, fmt.Errorf("read a rule: %w", err)
		}
		out.Pending = &api.PendingRuleChange{At: v.In(p.At), Cause: p.Cause, Come: p.Come, Go: p.Go}
	}
	out.Members, err = v.Read.CountByRule(g.ID)
	return out, err
}

// Again is Parse within a change that holds the rules: what the directory keeps, and what the actor
// sees of it, may have changed since the rule was first read. field is where it was given.
func Again(c *workspace.Change, field, expression string) (*rule.Rule, error) {
	r, err := Parse(&c.View, expression)
	if f := new(fault.Fault); errors.As(err, &f) {
		return nil, workspace.Wrong(field, workspace.Cut(expression, 200), "%s", f.Words())
	}
	return r, err
}

// Set puts a rule of membership in force. It is refused where more people would go than
// the guard allows, unless that is confirmed. It reads everybody: a declared full review.
func (s *Service) Set(ctx context.Context, by workspace.Actor, ref string, n api.NewRule, version int) (api.Rule, error) {
	r, err := Parse(s.k.View(ctx, by), n.Expression)
	if err != nil {
		return api.Rule{}, unreadable(by, n.Expression, err)
	}
	var out api.Rule
	err = s.onRule(ctx, by, ref, func(c *workspace.Change, lock func() (*workspace.Locked, error)) error {
		if r, err = Again(c, "expression", n.Expression); err != nil {
			return err
		}
		match, report, err := review(&c.View, r, c.By.Preview)
		if err != nil {
			return err
		}
		g, err := lock()
		if err != nil {
			return err
		}
		if err := c.Alive(&g.Group.Group); err != nil {
			return err
		}
		before, err := c.Read.Rule(g.ID)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if version > 0 && version != before.Version {
			return workspace.StaleGroup("the rule of "+g.Name, version, before.Version)
		}
		next := store.GroupRule{GroupID: g.ID, Expression: r.String(), Guard: DefaultGuard, SetBy: c.By.Person.Address, SetAt: c.Now(), Version: before.Version + 1}
		if before.Expression != "" {
			next.Guard = before.Guard
		}
		if n.Guard != nil {
			next.Guard = *n.Guard
		}
		d, err := differ(&c.View, &g.Group.Group, match)
		if err != nil {
			return err
		}
		if err := d.report(&c.View, report, next.Guard); err != nil {
			return err
		}
		c.Report.Rule, c.Report.Total = report, len(match)
		c.Says(fmt.Sprintf("%d of %d people match. %d would come, %d would go.", report.Match, report.People, report.Come, report.Go))
		c.Effect(api.Effect{Field: "rule", From: before.Expression, To: next.Expression, Count: report.Come + report.Go, Says: c.Report.Says})
		if report.Guarded && !n.Confirm {
			if c.By.Preview {
				c.Report.Problems = append(c.Report.Problems, api.Problem{Field: "confirm", Says: guardSays(len(d.leave), d.byRule, next.Guard)})
				return nil
			}
			return workspace.Fail(workspace.Conflict, "%s", guardSays(len(d.leave), d.byRule, next.Guard))
		}
		if c.By.Preview {
			return nil
		}
		if err := c.Tx.SetRule(next); err != nil {
			return err
		}
		g.ByRule = true
		if err := applyRule(c, g, d.come, d.leave, event.RuleSet{From: before.Expression, To: next.Expression, GuardFrom: before.Guard, Guard: next.Guard}, false); err != nil {
			return err
		}
		out, err = shapeOf(&c.View, &g.Group.Group)
		return err
	})
	return out, err
}

func guardSays(leave, byRule, guard int) string {
	return fmt.Sprintf("%d of the %d people who are in by the rule would go, more than the guard of %d percent allows. Confirm it if that is meant.", leave, byRule, guard)
}

// onRule makes a change of the rule of a group. Nobody changes the directory meanwhile;
// lock locks the group, which is last.
func (s *Service) onRule(ctx context.Context, by workspace.Actor, ref string, f func(c *workspace.Change, lock func() (*workspace.Locked, error)) error) error {
	found, err := s.k.View(ctx, by).FindGroup(ref, access.ChangeRule)
	if err != nil {
		return err
	}
	return s.k.Do(ctx, by, func(c *workspace.Change) error {
		if err := c.Tx.LockRules(); err != nil {
			return err
		}
		return f(c, func() (*workspace.Locked, error) { return c.LockGroup(found.ID, ref, access.ChangeRule) })
	})
}

// unreadable is the answer to a rule that can't be read: a report for who only looks.
func unreadable(by workspace.Actor, expression string, err error) error {
	var f *fault.Fault
	if !by.Preview || !errors.As(err, &f) {
		return workspace.Wrong("expression", workspace.Cut(expression, 200), "%s", workspace.Words(err))
	}
	by.Report.Rule = emptyMatch()
	by.Report.Rule.At = f.At
	by.Report.Says = f.Words()
	by.Report.Problems = []api.Problem{{Field: "expression", Given: workspace.Cut(expression, 200), Says: f.Words()}}
	return by.Looked()
}

// Parse reads a rule of the actor's: it may ask about what they see of others, since who it
// takes tells what they have. The error is a *[fault.Fault].
func Parse(v *workspace.View, expression string) (*rule.Rule, error) {
	r, err := v.ParseRule(expression)
	if err != nil {
		return nil, err
	}
	for _, a := range r.Attributes() {
		if !v.SeesInFilter(a) {
			return nil, &fault.Fault{Field: "expression", Given: a.Path, Says: fmt.Sprintf("Colleagues don't see the %s of each other, so a rule of yours can't ask about it.", a.Label), Mend: "Ask an administrator to set this rule."}
		}
	}
	return r, nil
}

// Match says whom a rule would take in a group that is yet to be made: who matches, who
// misses by one comparison, and who lacks the attributes it needs.
func (s *Service) Match(ctx context.Context, by workspace.Actor, q api.RuleQuestion) (*api.Preview, error) {
	by, report := by.Previewing()
	v := s.k.View(ctx, by)
	if err := naming.AllowCreate(v, access.CreateGroup); err != nil {
		return nil, err
	}
	r, err := Parse(v, q.Expression)
	if err != nil {
		if err = unreadable(by, q.Expression, err); workspace.Previewed(err) {
			err = nil
		}
		return report, err
	}
	if report.Rule, err = Take(v, r); err != nil {
		return nil, err
	}
	report.Total = report.Rule.Match
	report.Says = fmt.Sprintf("%d of %d people match.", report.Rule.Match, report.Rule.People)
	return report, nil
}

// Take says whom a rule takes in a group that is yet to be made.
func Take(v *workspace.View, r *rule.Rule) (*api.RuleMatch, error) {
	match, out, err := review(v, r, true)
	out.Come, out.Coming = len(match), names(match)
	return out, err
}

func emptyMatch() *api.RuleMatch {
	return &api.RuleMatch{Matches: []api.Name{}, Coming: []api.Name{}, Going: []api.Name{}, NearMiss: []api.NearMiss{}, Lacking: []api.LackCount{}}
}

// review asks everybody in the workspace about a rule: who matches, and, with near, who
// nearly does and what is not filled in.
func review(v *workspace.View, r *rule.Rule, near bool) (match []store.PersonFacts, out *api.RuleMatch, err error) {
	out = emptyMatch()
	out.Valid = true
	used := r.Attributes()
	lacking := make([]int, len(used))
	lack := []api.NearMiss{}
	err = v.Read.EachPersonFacts(func(f store.PersonFacts) error {
		s := Subject(f)
		out.People++
		if r.Eval(s) == rule.Match {
			match = append(match, f)
		}
		if !near {
			return nil
		}
		for i, x := range used {
			if s.Lacks(x) {
				lacking[i]++
			}
		}
		if !r.Near(s) {
			return nil
		}
		part := r.Explain(s).Failed[0]
		miss := api.NearMiss{Name: api.Name{Name: f.Name, Address: f.Address}, Failed: part.Text, Says: part.Says}
		if out.Near++; part.Lacks != "" && len(lack) < 20 {
			lack = append(lack, miss) // what is not filled in is what somebody can mend
		} else if len(out.NearMiss) < 20 {
			out.NearMiss = append(out.NearMiss, miss)
		}
		return nil
	})
	out.NearMiss = append(lack, out.NearMiss...)
	out.NearMiss = out.NearMiss[:min(len(out.NearMiss), 20)]
	for i, x := range used {
		out.Lacking = append(out.Lacking, api.LackCount{Attribute: x.Path, Label: x.Label, People: lacking[i]})
	}
	out.Match, out.Matches = len(match), names(match)
	return match, out, err
}

func names(all []store.PersonFacts) []api.Name {
	out := make([]api.Name, min(len(all), 20))
	for i := range out {
		out[i] = api.Name{Name: all[i].Name, Address: all[i].Address}
	}
	return out
}

// Delete takes the rule of a group away. Those who are in by it stay, as if put in by
// hand, or go.
func (s *Service) Delete(ctx context.Context, by workspace.Actor, ref string, keep bool, version int) error {
	return s.onRule(ctx, by, ref, func(c *workspace.Change, lock func() (*workspace.Locked, error)) error {
		g, err := lock()
		if err != nil {
			return err
		}
		r, err := c.Read.Rule(g.ID)
		if errors.Is(err, store.ErrNotFound) {
			return workspace.Fail(workspace.NotFound, "%s has no rule.", g.Name)
		} else if err != nil {
			return err
		}
		if version > 0 && version != r.Version {
			return workspace.StaleGroup("the rule of "+g.Name, version, r.Version)
		}
		d, err := differ(&c.View, &g.Group.Group, nil)
		if err != nil {
			return err
		}
		c.Says(fmt.Sprintf("%s are in %s by its rule; they go with it.", number.Of(len(d.leave), "member"), g.Name))
		if keep {
			c.Says(fmt.Sprintf("%s are in %s by its rule; they stay, as if put in by hand.", number.Of(len(d.leave), "member"), g.Name))
			if err := c.Tx.KeepMembersByRule(g.ID); err != nil {
				return err
			}
			d.leave = nil
		}
		c.Effect(api.Effect{Field: "rule", From: r.Expression, Count: len(d.leave), Says: c.Report.Says})
		if c.By.Preview {
			return nil
		}
		if err := c.Tx.DeleteRule(g.ID); err != nil {
			return err
		}
		g.ByRule = false
		return applyRule(c, g, nil, d.leave, event.RuleDeleted{Rule: r.Expression, Kept: keep}, false)
	})
}

// Release lets a change happen that waits because of the guard: the rule is evaluated
// again for everybody.
func (s *Service) Release(ctx context.Context, by workspace.Actor, ref string, version int) (api.Rule, error) {
	var out api.Rule
	err := s.onRule(ctx, by, ref, func(c *workspace.Change, lock func() (*workspace.Locked, error)) error {
		return evaluate(c, true, version, lock, &out)
	})
	return out, err
}

// Decide lets a change of a group's rule happen that waits because of the guard, or has those
// stay who would go: they are members by hand then.
func (s *Service) Decide(ctx context.Context, by workspace.Actor, ref string, approve bool, out *api.Decided) error {
	return s.onRule(ctx, by, ref, func(c *workspace.Change, lock func() (*workspace.Locked, error)) error {
		g, err := lock()
		if err != nil {
			return err
		}
		out.Group = g.Name
		kept, err := c.Read.Rule(g.ID)
		if errors.Is(err, store.ErrNotFound) || err == nil && len(kept.Pending) == 0 {
			return workspace.Fail(workspace.Conflict, "Nothing waits in %s because of its rule.", g.Name)
		} else if err != nil {
			return err
		}
		if approve {
			return Evaluate(c, g, kept, true)
		}
		r, err := c.ParseRule(kept.Expression)
		if err != nil {
			return fmt.Errorf("the rule of %s: %w", g.ID, err)
		}
		match, _, err := review(&c.View, r, false)
		if err != nil {
			return err
		}
		d, err := differ(&c.View, &g.Group.Group, match)
		if err != nil {
			return err
		}
		c.Says(fmt.Sprintf("%s of %s stay, as members by hand.", number.Of(len(d.leave), "member"), g.Name))
		if c.Previewing() {
			return nil
		}
		kept.Pending, kept.Version = nil, kept.Version+1
		if err := errors.Join(c.Tx.KeepMembers(g.ID, d.leave), c.Tx.SaveRule(kept), c.Save(g)); err != nil {
			return err
		}
		affected := make([]store.Affected, len(d.leave))
		for i, id := range d.leave {
			affected[i] = store.Affected{PersonID: id, Was: "member", Now: "member"}
		}
		return c.Record(event.RuleKept{People: len(d.leave)}, &g.Group.Group, affected...)
	})
}

// evaluate lets the rule of a group be followed for everybody. Without sure, those stay
// whom the guard protects, and a person is asked.
func evaluate(c *workspace.Change, sure bool, version int, lock func() (*workspace.Locked, error), out *api.Rule) error {
	g, err := lock()
	if err != nil {
		return err
	}
	kept, err := c.Read.Rule(g.ID)
	if errors.Is(err, store.ErrNotFound) {
		return workspace.Fail(workspace.NotFound, "%s has no rule.", g.Name)
	} else if err != nil {
		return err
	}
	if version > 0 && version != kept.Version {
		return workspace.StaleGroup("the rule of "+g.Name, version, kept.Version)
	}
	if err := Evaluate(c, g, kept, sure); err != nil {
		return err
	}
	*out, err = shapeOf(&c.View, &g.Group.Group)
	return err
}

// Evaluate lets the rule of g be followed for everybody. The rules and g are locked.
func Evaluate(c *workspace.Change, g *workspace.Locked, kept store.GroupRule, sure bool) error {
	r, err := c.ParseRule(kept.Expression)
	if err != nil {
		return fmt.Errorf("the rule of %s: %w", g.ID, err)
	}
	match, _, err := review(&c.View, r, false)
	if err != nil {
		return err
	}
	d, err := differ(&c.View, &g.Group.Group, match)
	if err != nil {
		return err
	}
	c.Says(fmt.Sprintf("%d people come into %s, %d go.", len(d.come), g.Name, len(d.leave)))
	return syncGroup(c, g, kept, d, sure, "the rule was evaluated again")
}

// Explain says how a rule stands for one person: the one that is given, or that of the
// group.
func (s *Service) Explain(ctx context.Context, by workspace.Actor, q api.RuleQuestion) (api.RuleExplanation, error) {
	none := api.RuleExplanation{}
	v := s.k.View(ctx, by)
	if q.Group == "" {
		if err := naming.AllowCreate(v, access.CreateGroup); err != nil {
			return none, err
		}
	} else {
		g, err := v.FindGroup(q.Group, access.ChangeRule)
		if err != nil {
			return none, err
		}
		if q.Expression == "" {
			kept, err := shapeOf(v, &g.Group)
			if err != nil {
				return none, err
			}
			q.Expression = kept.Expression
		}
	}
	r, err := Parse(v, q.Expression)
	if err != nil {
		return none, unreadable(by, q.Expression, err)
	}
	p, err := people.Find(v, q.Person)
	if err != nil {
		return none, err
	}
	e := r.Explain(Subject(factsOf(p)))
	out := api.RuleExplanation{Person: api.Name{Name: p.Name, Address: p.Address}, Verdict: e.Verdict.String(), Parts: []api.RulePart{}}
	for _, part := range e.Parts {
		failed := slices.ContainsFunc(e.Failed, func(f rule.Part) bool { return f.From == part.From })
		out.Parts = append(out.Parts, api.RulePart{Text: part.Text, Verdict: part.Verdict.String(), Says: part.Says, Failed: failed})
	}
	var texts []string
	for _, f := range e.Failed {
		texts = append(texts, f.Text)
	}
	switch {
	case !p.Active:
		out.Says = fmt.Sprintf("%s has left the organisation: no rule takes them.", p.Name)
	case e.Verdict == rule.Match:
		out.Says = fmt.Sprintf("%s matches.", p.Name)
	case e.Verdict == rule.Unknown:
		out.Says = fmt.Sprintf("It is not known whether %s matches, because of: %s.", p.Name, strings.Join(texts, "; "))
	default:
		out.Says = fmt.Sprintf("%s does not match, because of: %s.", p.Name, strings.Join(texts, "; "))
	}
	return out, nil
}

// difference is what a rule changes about who is in a group.
type difference struct {
	come   []store.PersonFacts
	leave  []uuid.UUID
	byRule int // how many are in by it
}

// differ says who of the matching people would come into a group, and who that is in it
// by rule would go.
func differ(v *workspace.View, g *store.Group, match []store.PersonFacts) (difference, error) {
	var d difference
	in, err := v.Read.MembersByRule(g.ID)
	if err != nil {
		return d, err
	}
	stay := make(map[uuid.UUID]bool, len(match))
	for _, f := range match {
		stay[f.ID] = true
		if _, is := in[f.ID]; !is {
			d.come = append(d.come, f)
		}
	}
	if d.come, err = admitted(v, g, d.come); err != nil {
		return d, err
	}
	for id, is := range in {
		if is {
			d.byRule++
			if !stay[id] {
				d.leave = append(d.leave, id)
			}
		}
	}
	return d, nil
}

// report puts a difference into what is said of a rule.
func (d difference) report(v *workspace.View, out *api.RuleMatch, guard int) error {
	leaving, err := v.Read.PeopleByID(d.leave[:min(len(d.leave), 20)])
	for _, p := range leaving {
		out.Going = append(out.Going, api.Name{Name: p.Name, Address: p.Address})
	}
	slices.SortFunc(out.Going, func(a, b api.Name) int { return strings.Compare(a.Name, b.Name) })
	out.Come, out.Go, out.Coming = len(d.come), len(d.leave), names(d.come)
	out.Guarded = guarded(len(d.leave), d.byRule, guard)
	return err
}

// guarded reports whether so many may not go at once. One person alone always may.
func guarded(leaving, byRule, guard int) bool { return leaving > 1 && 100*leaving > guard*byRule }
