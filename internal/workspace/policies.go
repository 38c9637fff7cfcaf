package workspace

import (
	"context"
	"maps"
	"slices"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
)

// applyPatch puts a patch over a policy and returns what is wrong with the patch
// or with what comes of it.
func applyPatch(p policy.Policy, patch api.PolicyPatch) (policy.Policy, problems) {
	var bad problems
	set := func(field, name, value string) {
		if err := p.Set(name, value); err != nil {
			bad.add(field, value, "%s.", upperFirst(err.Error()))
		}
	}
	optional := func(name, value string) {
		if value != "" {
			set(name, name, value)
		}
	}
	optional("privacy", patch.Privacy)
	for _, q := range slices.Sorted(maps.Keys(patch.Policy)) {
		if _, err := policy.ParseQuestion(q); err != nil {
			bad.add("policy."+q, patch.Policy[q], "%s.", upperFirst(err.Error()))
			continue
		}
		set("policy."+q, q, patch.Policy[q])
	}
	if patch.Join != nil {
		optional("join.audience", patch.Join.Audience)
		optional("join.how", patch.Join.How)
	}
	optional("leave", patch.Leave)
	optional("externals", patch.Externals)
	optional("hold", patch.Hold)
	optional("suspicious", patch.Suspicious)
	if len(bad) > 0 {
		return p, bad
	}
	for _, f := range p.Check() {
		bad.add(f.Field, p.Get(f.Field), "%s %s", f.Says, f.Mend)
	}
	return p, bad
}

func upperFirst(s string) string {
	if s != "" && s[0] >= 'a' && s[0] <= 'z' {
		return string(s[0]-'a'+'A') + s[1:]
	}
	return s
}

func policyHalf(p policy.Policy) api.PolicyHalf {
	at := func(q policy.Question) string { return p.Answers[q].String() }
	answers := api.Answers{Find: at(policy.Find), SeePeople: at(policy.SeePeople), Read: at(policy.Read), Post: at(policy.Post),
		WriteOwners: at(policy.WriteOwners), AddPeople: at(policy.AddPeople), SpeakAs: at(policy.SpeakAs), SpeakFor: at(policy.SpeakFor)}
	return api.PolicyHalf{Privacy: p.Privacy().String(), Policy: answers, Join: api.Join{Audience: p.JoinAudience.String(), How: p.JoinHow.String()},
		Leave: p.Leave.String(), Externals: p.Externals.String(), Hold: p.Hold.String(), Suspicious: p.Suspicious.String()}
}

func picture(p policy.Policy) api.Picture {
	out := api.Picture{PolicyHalf: policyHalf(p), Sentence: p.Sentence(), Contradictions: faults(p.Check()), Warnings: faults(p.Warnings())}
	for _, s := range p.StandIns() {
		who := [...]string{policy.Owners: "owner", policy.Members: "member", policy.Workspace: "colleague", policy.Anyone: "stranger"}[s.Rung]
		out.StandIns = append(out.StandIns, api.StandIn{Who: who, Can: orEmpty(s.Can), Cant: orEmpty(s.Cant)})
	}
	return out
}

func orEmpty(s []string) []string {
	if s == nil {
		return []string{}
	}
	return s
}

func faults(in []policy.Fault) []api.Fault {
	out := make([]api.Fault, len(in))
	for i, f := range in {
		out[i] = api.Fault(f)
	}
	return out
}

// Picture puts a policy in words: that of a new group with a patch over it. A
// contradiction is part of the picture, not an error.
func (w *Workspace) Picture(ctx context.Context, a Actor, patch api.PolicyPatch) (api.Picture, error) {
	if err := w.allowCreate(ctx, a); err != nil {
		return api.Picture{}, err
	}
	p, bad := applyPatch(policy.Default(), patch)
	if len(bad) > 0 && len(p.Check()) == 0 {
		return api.Picture{}, bad.err()
	}
	return picture(p), nil
}

// PolicyOf returns the policy of a group in words.
func (w *Workspace) PolicyOf(ctx context.Context, a Actor, ref string) (api.Picture, error) {
	g, _, err := w.findFor(ctx, a, readGroup, ref)
	return picture(g.Policy()), err
}

// PolicyEffect says what a change of policy would do.
func (w *Workspace) PolicyEffect(ctx context.Context, a Actor, ref string, patch api.PolicyPatch) (api.Effect, error) {
	g, _, err := w.findFor(ctx, a, changePolicy, ref)
	if err != nil {
		return api.Effect{}, err
	}
	after, bad := applyPatch(g.Policy(), patch)
	if len(bad) > 0 && len(after.Check()) == 0 {
		return api.Effect{}, bad.err()
	}
	shifts, err := w.shifts(ctx, &g, after)
	return api.Effect{Shifts: shifts, Picture: picture(after)}, err
}

func (w *Workspace) shifts(ctx context.Context, g *store.Group, after policy.Policy) ([]api.Shift, error) {
	all, err := w.store.CountPeople(ctx)
	if err != nil {
		return nil, err
	}
	inside := g.Owners + g.Moderators + g.Members - g.ExternalMembers
	n := policy.Population{Owners: g.Owners, Moderators: g.Moderators, Members: g.Members, Colleagues: max(0, int(all)-inside)}
	out := []api.Shift{}
	for _, s := range policy.Effect(g.Policy(), after, n) {
		out = append(out, api.Shift{Field: s.Field, From: s.From, To: s.To, Gains: shares(s.Gains), Loses: shares(s.Loses), Says: s.Says})
	}
	return out, nil
}

func shares(in []policy.Share) []api.Share {
	out := make([]api.Share, len(in))
	for i, s := range in {
		who := [...]string{policy.Owners: "owners", policy.Moderators: "moderators", policy.Members: "members", policy.Workspace: "colleagues", policy.Anyone: "strangers"}[s.Rung]
		out[i] = api.Share{Who: who, Count: s.Count}
	}
	return out
}

// ChangePolicy changes a group's policy and stores the effect with the change.
func (w *Workspace) ChangePolicy(ctx context.Context, a Actor, ref string, patch api.PolicyPatch, version int) (api.Group, error) {
	return w.update(ctx, a, changePolicy, ref, version, "policy.change", func(_ *store.Store, g *store.Group, e expiry, now time.Time) ([]api.FieldChange, error) {
		if e.policy.State(g.Life(), now).Ended() {
			return nil, ended(g)
		}
		after, bad := applyPatch(g.Policy(), patch)
		if err := bad.err(); err != nil {
			return nil, err
		}
		shifts, err := w.shifts(ctx, g, after)
		if err != nil {
			return nil, err
		}
		var changes []api.FieldChange
		for _, s := range shifts {
			changes = append(changes, api.FieldChange{Field: s.Field, From: s.From, To: s.To, Says: s.Says})
		}
		g.SetPolicy(after)
		return changes, nil
	})
}
