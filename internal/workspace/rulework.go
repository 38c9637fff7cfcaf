package workspace

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/store"
)

// allowRules checks an actor against working on a rule: of a group that they may
// change, or, without one, of a group that they may create.
func (w *Workspace) allowRules(ctx context.Context, a Actor, ref string) (store.Group, error) {
	if ref == "" {
		return store.Group{}, w.allowCreate(ctx, a)
	}
	g, _, err := w.findFor(ctx, a, changeRule, ref)
	return g, err
}

// RuleEffect says what a rule would do: who matches, who would come and go, who
// misses by one comparison, and who lacks the attributes it needs. It reads
// everybody: a declared full review. A rule that can't be read is part of the
// answer, not an error.
func (w *Workspace) RuleEffect(ctx context.Context, a Actor, q api.RuleQuestion) (api.RuleEffect, error) {
	out := api.RuleEffect{Matches: []api.Name{}, Coming: []api.Name{}, Going: []api.Name{}, NearMiss: []api.NearMiss{}, Lacking: []api.LackCount{}}
	g, err := w.allowRules(ctx, a, q.Group)
	if err != nil {
		return out, err
	}
	r, err := rule.Parse(q.Expression)
	if e := new(rule.Error); errors.As(err, &e) {
		out.At, out.Says = e.At, e.Error()
		return out, nil
	}
	out.Valid = true
	used := r.Attributes()
	lacking := make([]int, len(used))
	var match []store.PersonFacts
	lack := []api.NearMiss{}
	err = w.store.EachPersonFacts(ctx, func(f store.PersonFacts) error {
		s := subject(f)
		out.People++
		for i, x := range used {
			if s.Lacks(x) {
				lacking[i]++
			}
		}
		if r.Eval(s) == rule.Match {
			match = append(match, f)
			return nil
		}
		if r.Distance(s) != 1 {
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
	if err != nil {
		return out, err
	}
	out.NearMiss = append(lack, out.NearMiss...)
	out.NearMiss = out.NearMiss[:min(len(out.NearMiss), 20)]
	for i, x := range used {
		out.Lacking = append(out.Lacking, api.LackCount{Attribute: x.Path, Label: x.Label, People: lacking[i]})
	}
	come, leave, byRule, err := w.difference(ctx, w.store, g.ID, match)
	if err != nil {
		return out, err
	}
	guard := defaultGuard
	if kept, err := w.store.Rule(ctx, g.ID); err == nil {
		guard = kept.Guard
	}
	leaving, err := w.store.PeopleByID(ctx, leave[:min(len(leave), 20)])
	if err != nil {
		return out, err
	}
	out.Match, out.Come, out.Go, out.Guarded = len(match), len(come), len(leave), guarded(len(leave), byRule, guard)
	out.Matches, out.Coming = factNames(match), factNames(come)
	for _, p := range leaving {
		out.Going = append(out.Going, api.Name{Name: p.Name, Address: p.Address})
	}
	slices.SortFunc(out.Going, func(a, b api.Name) int { return strings.Compare(a.Name, b.Name) })
	out.Says = fmt.Sprintf("%d of %d people match.", out.Match, out.People)
	if q.Group != "" {
		out.Says += fmt.Sprintf(" %d would come, %d would go.", out.Come, out.Go)
	}
	return out, nil
}

func factNames(all []store.PersonFacts) []api.Name {
	out := make([]api.Name, min(len(all), 20))
	for i := range out {
		out[i] = api.Name{Name: all[i].Name, Address: all[i].Address}
	}
	return out
}

// ExplainRule says how a rule stands for one person: the one that is given, or that
// of the group.
func (w *Workspace) ExplainRule(ctx context.Context, a Actor, q api.RuleQuestion) (api.RuleExplanation, error) {
	none := api.RuleExplanation{}
	g, err := w.allowRules(ctx, a, q.Group)
	if err != nil {
		return none, err
	}
	if q.Expression == "" && q.Group != "" {
		kept, err := w.ruleOf(ctx, &g)
		if err != nil {
			return none, err
		}
		q.Expression = kept.Expression
	}
	r, err := rule.Parse(q.Expression)
	if err != nil {
		return none, wrongRule(q.Expression, err)
	}
	p, err := w.findPerson(ctx, q.Person)
	if err != nil {
		return none, err
	}
	e := r.Explain(subject(factsOf(p)))
	out := api.RuleExplanation{Person: api.Name{Name: p.Name, Address: p.Address}, Verdict: e.Verdict.String(), Parts: []api.RulePart{}}
	for _, part := range e.Parts {
		failed := slices.ContainsFunc(e.Failed, func(f rule.Part) bool { return f.From == part.From })
		out.Parts = append(out.Parts, api.RulePart{Text: part.Text, Verdict: part.Verdict.String(), Says: part.Says, Failed: failed})
	}
	switch {
	case !p.Active:
		out.Says = fmt.Sprintf("%s has left the organisation: no rule takes them.", p.Name)
	case e.Verdict == rule.Match:
		out.Says = fmt.Sprintf("%s matches.", p.Name)
	default:
		var texts []string
		for _, f := range e.Failed {
			texts = append(texts, f.Text)
		}
		out.Says = fmt.Sprintf("%s does not match, because of: %s.", p.Name, strings.Join(texts, "; "))
		if e.Verdict == rule.Unknown {
			out.Says = fmt.Sprintf("It is not known whether %s matches, because of: %s.", p.Name, strings.Join(texts, "; "))
		}
	}
	return out, nil
}

// CompleteRule says what can be written at a place in a rule. Values are those that
// people have, the most frequent first.
func (w *Workspace) CompleteRule(ctx context.Context, a Actor, text string, at int) (api.RuleCompletion, error) {
	if err := allow(a, searchPeople); err != nil {
		return api.RuleCompletion{}, err
	}
	e := rule.Expect(text, at)
	out := api.RuleCompletion{What: e.What, From: e.From, Choices: []api.RuleChoice{}}
	labels := map[string]rule.Attribute{}
	for _, x := range rule.Attributes() {
		labels[x.Path] = x
		if _, part, ok := strings.Cut(x.Path, "."); ok {
			if _, taken := labels[part]; !taken {
				labels[part] = x
			}
		}
	}
	for _, c := range e.Choices {
		about := operatorWords[c]
		if e.What == "attribute" {
			about = labels[c].Label
		}
		out.Choices = append(out.Choices, api.RuleChoice{Text: c, About: about})
	}
	if field := labels[e.Attribute].Field; e.What == "value" && field != "" {
		values, err := w.store.AttributeValues(ctx, field, e.Begun, 20)
		if err != nil {
			return out, err
		}
		for _, v := range values {
			out.Choices = append(out.Choices, api.RuleChoice{Text: `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(v) + `"`})
		}
	}
	return out, nil
}

// operatorWords say in words what operators mean.
var operatorWords = map[string]string{"eq": "is", "ne": "is not", "co": "contains", "sw": "begins with", "ew": "ends with", "gt": "is after", "ge": "is or is after",
	"lt": "is before", "le": "is or is before", "pr": "is filled in", "and": "both", "or": "one or the other", "true": "", "false": ""}

// restoreRule brings a group that was away up to date with its rule.
func (w *Workspace) restoreRule(ctx context.Context, a Actor, id string) error {
	u, err := uuid.Parse(id)
	if err != nil {
		return err
	}
	return w.reevaluate(ctx, a, u, false)
}
