package workspace

import (
	"strings"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/fault"
	"ivytable.example/ivytable/internal/core/policy"
)

// ApplyPatch puts a patch over a policy. bad is what can't be set; what of the result
// contradicts itself is for the policy's Check to say.
func ApplyPatch(p policy.Policy, patch api.PolicyPatch) (after policy.Policy, bad Problems) {
	after = p
	patch.Each(func(name, value string) {
		if err := after.Set(name, value); err != nil {
			bad.Fault(name, value, err)
		}
	})
	return after, bad
}

// Contradictions are the problems of a policy of which one choice takes back another.
func Contradictions(p policy.Policy) (bad Problems) {
	for _, f := range p.Check() {
		bad.Add(f.Field, p.Get(strings.TrimPrefix(f.Field, "policy.")), "%s", f.Words())
	}
	return bad
}

// PolicyHalf is a policy as the interface shows it.
func PolicyHalf(p policy.Policy) api.PolicyHalf { return api.NewPolicyHalf(p.Get) }

// PolicyPatch returns settings, as they are stored or written, as a patch.
func PolicyPatch(words string) (out api.PolicyPatch) {
	for w := range strings.FieldsSeq(words) {
		name, value, _ := strings.Cut(w, "=")
		out.Set(name, value)
	}
	return out
}

// PolicyWords returns a patch as it is stored: NAME=VALUE words.
func PolicyWords(patch api.PolicyPatch) string {
	var words []string
	patch.Each(func(name, value string) { words = append(words, name+"="+value) })
	return strings.Join(words, " ")
}

// Summary puts a policy in words.
func (v *View) Summary(p policy.Policy) *api.PolicySummary {
	out := api.PolicySummary{PolicyHalf: PolicyHalf(p), Sentence: p.Sentence(), Contradictions: Faults(p.Check()), Warnings: Faults(v.Doubts(p))}
	for _, s := range p.StandIns() {
		who := map[policy.Audience]string{policy.Owners: "owner", policy.Members: "member", policy.Workspace: "colleague", policy.Anyone: "stranger"}[s.Rung]
		out.StandIns = append(out.StandIns, api.StandIn{Who: who, Can: append([]string{}, s.Can...), Cannot: append([]string{}, s.Cannot...)})
	}
	for _, s := range p.Sentences() {
		x := api.Sentence{Part: string(s.Part)}
		for _, piece := range s.Pieces {
			y := api.Piece{Text: piece.Text}
			if piece.Setting < policy.Settings {
				y.Setting = piece.Setting.String()
			}
			x.Pieces = append(x.Pieces, y)
		}
		out.Sentences = append(out.Sentences, x)
	}
	for _, d := range policy.Describe() {
		x := api.PolicySetting{Name: d.Name, Part: string(d.Part), Asks: d.Asks, Question: d.Question, Value: p.Get(d.Name), Can: d.Can, Short: d.Short}
		for _, c := range d.Choices {
			x.Choices = append(x.Choices, api.PolicyChoice{Value: c.Name, Label: c.Label, In: c.In})
		}
		out.Settings = append(out.Settings, x)
	}
	return &out
}

// SummaryUnder is Summary of the policy of a group, with the ceilings that bound it.
func (v *View) SummaryUnder(p policy.Policy, all []Ceiling, address, startingPoint string) *api.PolicySummary {
	out := v.Summary(p)
	of, by := CeilingsOf(all, address, startingPoint)
	for i := range out.Settings {
		s, err := policy.ParseSetting(out.Settings[i].Name)
		if err != nil {
			continue
		}
		if most, bound := of.Of(s); bound {
			out.Settings[i].Ceiling = &api.SettingCeiling{AtMost: most.Audience(), SetBy: by[s].SetBy, Reason: by[s].Reason}
		}
	}
	for _, f := range p.Above(of) {
		out.Contradictions = append(out.Contradictions, Faults([]*fault.Fault{f})...)
	}
	return out
}

// PolicyEffects says what a change of policy does, in a group with so many people.
func PolicyEffects(before, after policy.Policy, n policy.Population) []api.Effect {
	out := []api.Effect{}
	for _, c := range policy.Effect(before, after, n) {
		out = append(out, api.Effect{Field: c.Setting.String(), From: c.From, To: c.To, Gains: audienceChanges(c.Gains), Loses: audienceChanges(c.Loses), Says: c.Says})
	}
	return out
}

func audienceChanges(in []policy.AudienceChange) []api.AudienceChange {
	var out []api.AudienceChange
	for _, c := range in {
		who := [...]string{policy.Owners: "owners", policy.Moderators: "moderators", policy.Members: "members", policy.Workspace: "colleagues", policy.Anyone: "strangers"}[c.Rung]
		if c.External {
			who = "external_members"
		}
		out = append(out, api.AudienceChange{Who: who, Count: c.Count})
	}
	return out
}
