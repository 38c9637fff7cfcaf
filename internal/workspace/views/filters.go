package views

import (
	"context"
	"encoding/json"
	"strings"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/rule"
	"ivytable.example/ivytable/internal/workspace"
)

var kinds = map[rule.Kind]string{rule.Text: "text", rule.Boolean: "boolean", rule.DateTime: "moment", rule.Number: "number", rule.Day: "day", rule.Choice: "choice"}

// Describe returns what the actor can ask about in a filter of a list.
func (s *Service) Describe(ctx context.Context, by workspace.Actor, list string) (api.Page[api.FilterAttribute], error) {
	if err := by.SignedIn(); err != nil {
		return api.Page[api.FilterAttribute]{}, err
	}
	v := s.k.View(ctx, by)
	var out []api.FilterAttribute
	schema, err := v.Schema(list)
	if err != nil {
		return api.Page[api.FilterAttribute]{}, err
	}
	for _, a := range schema.Attributes() {
		if v.SeesInFilter(a) {
			out = append(out, api.FilterAttribute{Name: a.Path, Label: a.Label, Kind: kinds[a.Kind], Many: a.Many, Operators: a.Operators(), Choices: a.Choices})
		}
	}
	return workspace.Whole(out), nil
}

// Complete says what can be written at a place in a filter of a list, or in a rule of
// membership. Of attributes of people, values are offered that people have, the most frequent
// first.
func (s *Service) Complete(ctx context.Context, by workspace.Actor, list, text string, at int) (api.RuleCompletion, error) {
	if err := by.Allow(access.SearchPeople); err != nil {
		return api.RuleCompletion{}, err
	}
	v := s.k.View(ctx, by)
	schema, err := v.Schema(list)
	if err != nil {
		return api.RuleCompletion{}, err
	}
	e := schema.Expect(text, at)
	out := api.RuleCompletion{What: e.What, From: e.From, Choices: []api.RuleChoice{}}
	known := map[string]rule.Attribute{}
	for _, x := range schema.Attributes() {
		known[x.Path] = x
		if _, part, ok := strings.Cut(x.Path, "."); ok {
			if _, taken := known[part]; !taken {
				known[part] = x
			}
		}
	}
	for _, c := range e.Choices {
		about := operatorWords[c]
		if e.What == "attribute" {
			if !v.SeesInFilter(known[c]) {
				continue
			}
			about = known[c].Label
		}
		out.Choices = append(out.Choices, api.RuleChoice{Text: c, About: about})
	}
	if a := known[e.Attribute]; e.What == "value" && v.SeesInFilter(a) {
		values, err := valuesOf(v, list, a, e.Begun)
		if err != nil {
			return out, err
		}
		for _, x := range values {
			b, _ := json.Marshal(x)
			out.Choices = append(out.Choices, api.RuleChoice{Text: string(b)})
		}
	}
	return out, nil
}

// valuesOf returns values that an attribute has, which hold what has been written.
func valuesOf(v *workspace.View, list string, a rule.Attribute, begun string) ([]string, error) {
	switch {
	case a.Field != "":
		return v.Read.AttributeValues(a.Field, begun, 20)
	case list == "groups" && a.Path == "domain":
		return v.Domains()
	case list == "groups" && a.Path == "language":
		return workspace.LanguageNames(), nil
	}
	return nil, nil
}

// operatorWords say in words what operators mean.
var operatorWords = map[string]string{"eq": "is", "ne": "is not", "co": "contains", "sw": "begins with", "ew": "ends with", "gt": "is more, or after", "ge": "is at least, or not before",
	"lt": "is less, or before", "le": "is at most, or not after", "pr": "is filled in", "and": "both", "or": "one or the other", "true": "", "false": ""}
