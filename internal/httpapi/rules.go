package httpapi

import (
	"context"
	"strconv"

	"github.com/danielgtaylor/huma/v2"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func (s *server) registerRules(a huma.API) {
	w := s.w
	const rule = v1 + "/groups/{ref}/rule"
	route(s, a, "GET", v1+"/address-proposals", "propose-address", "What a group would be called: an address for a name, or whether an address is free", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Name    string `query:"name" maxLength:"400"`
		Address string `query:"address" maxLength:"400" doc:"Checks this one; a local part alone takes the domain"`
		Domain  string `query:"domain" maxLength:"255"`
		As      string `query:"creator" maxLength:"320" doc:"As if this person made the group"`
		Group   string `query:"group" maxLength:"400" doc:"A group that would move there"`
	}) (*reply[api.Proposal], error) {
		return body(w.Propose(ctx, by, workspace.Proposing{Name: in.Name, Address: in.Address, Domain: in.Domain, As: in.As, Group: in.Group}))
	})
	route(s, a, "POST", v1+"/look-alikes", "look-alikes", "Groups like one that is yet to be made", 200, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.LookAlikeRequest }) (*reply[[]api.LookAlike], error) {
		return body(w.LookAlikes(ctx, by, in.Body))
	})
	tag := func(n api.Naming, err error) (*tagged[api.Naming], error) {
		return &tagged[api.Naming]{ETag: strconv.Quote(strconv.Itoa(n.Version)), Body: n}, err
	}
	route(s, a, "GET", v1+"/naming", "read-naming", "The rules of naming", 200, func(ctx context.Context, by workspace.Actor, _ *none) (*tagged[api.Naming], error) {
		return tag(w.Naming(ctx, by))
	})
	route(s, a, "PUT", v1+"/naming", "change-naming", "Change the rules of naming", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Match
		Body api.Naming
	}) (*tagged[api.Naming], error) {
		v, err := in.version()
		if err != nil {
			return nil, err
		}
		return tag(w.SetNaming(ctx, by, in.Body, v))
	})
	route(s, a, "POST", v1+"/naming/effect", "naming-effect", "Which groups break rules that are not in force yet", 200, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.Naming }) (*reply[api.NamingEffect], error) {
		return body(w.NamingEffect(ctx, by, in.Body))
	})

	route(s, a, "GET", v1+"/starting-points", "list-starting-points", "What a group can be begun from", 200, func(ctx context.Context, by workspace.Actor, _ *none) (*reply[[]api.StartingPoint], error) {
		return body(w.StartingPoints(ctx, by))
	})
	type Start struct {
		Name string `path:"name" maxLength:"100"`
	}
	route(s, a, "PUT", v1+"/starting-points/{name}", "save-starting-point", "Make or change a starting point", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Start
		Body api.NewStartingPoint
	}) (*reply[api.StartingPoint], error) {
		return body(w.SaveStartingPoint(ctx, by, in.Name, in.Body))
	})
	route(s, a, "DELETE", v1+"/starting-points/{name}", "delete-starting-point", "Delete a starting point", 204, func(ctx context.Context, by workspace.Actor, in *Start) (*none, error) {
		return nil, w.DeleteStartingPoint(ctx, by, in.Name)
	})

	route(s, a, "GET", rule, "read-rule", "The rule of membership of a group", 200, func(ctx context.Context, by workspace.Actor, in *Ref) (*reply[api.Rule], error) {
		return body(w.Rule(ctx, by, in.Group))
	})
	route(s, a, "PUT", rule, "set-rule", "Put a rule of membership in force", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Body api.NewRule
	}) (*reply[api.Rule], error) {
		return body(w.SetRule(ctx, by, in.Group, in.Body))
	})
	route(s, a, "DELETE", rule, "delete-rule", "Take a rule of membership away", 204, func(ctx context.Context, by workspace.Actor, in *struct {
		Ref
		Remove bool `query:"remove" doc:"Take those out who are in by it; else they stay"`
	}) (*none, error) {
		return nil, w.DeleteRule(ctx, by, in.Group, !in.Remove)
	})
	route(s, a, "POST", rule+"/release", "release-rule", "Let a change happen that waits because of the guard", 200, func(ctx context.Context, by workspace.Actor, in *Ref) (*reply[api.Rule], error) {
		return body(w.ReleaseRule(ctx, by, in.Group))
	})
	route(s, a, "POST", v1+"/rules/effect", "rule-effect", "Whom a rule would take", 200, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.RuleQuestion }) (*reply[api.RuleEffect], error) {
		return body(w.RuleEffect(ctx, by, in.Body))
	})
	route(s, a, "POST", v1+"/rules/explanation", "explain-rule", "How a rule stands for one person", 200, func(ctx context.Context, by workspace.Actor, in *struct{ Body api.RuleQuestion }) (*reply[api.RuleExplanation], error) {
		return body(w.ExplainRule(ctx, by, in.Body))
	})
	route(s, a, "GET", v1+"/rules/completion", "complete-rule", "What can be written at a place in a rule", 200, func(ctx context.Context, by workspace.Actor, in *struct {
		Text string `query:"text" maxLength:"5000"`
		At   int    `query:"at" minimum:"0" doc:"In octets"`
	}) (*reply[api.RuleCompletion], error) {
		return body(w.CompleteRule(ctx, by, in.Text, in.At))
	})
}
