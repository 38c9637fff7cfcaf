package reach_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	kit "ivytable.example/ivytable/internal/testkit"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func TestPolicyEffectAndChange(t *testing.T) {
	g := k.Make(t, "Reach")
	owner := k.Actor(t, kit.Owner)
	patch := kit.Policy("post=anyone hold=nobody")
	everybody, err := k.Read().CountPeople()
	if err != nil {
		t.Fatal(err)
	}
	look := func(patch api.PolicyPatch) *api.Preview {
		return kit.Preview(t, owner, func(by workspace.Actor) error { return kit.Last(k.Reach.ChangePolicy(ctx, by, g.Address, patch, 0)) })
	}
	e := look(patch)
	if len(e.Effects) != 2 || e.Effects[0].Gains[0] != (api.AudienceChange{Who: "colleagues", Count: int(everybody) - 3}) || len(e.Effects[0].Names) == 0 || len(e.Policy.Warnings) != 1 || len(e.Warnings) != 1 {
		t.Errorf("effect: %+v", e)
	}
	if now, _ := k.Group.Read(ctx, owner, g.Address); now.Policy.Post != "members" {
		t.Error("looking at the effect changed the policy")
	}
	after, err := k.Reach.ChangePolicy(ctx, owner, g.Address, patch, g.Version+1)
	if err == nil {
		t.Error("a version that is not yet there was taken")
	} else if kind, _ := kit.KindOf(t, err); kind != workspace.Stale {
		t.Error(err)
	}
	if after, err = k.Reach.ChangePolicy(ctx, owner, g.Address, patch, g.Version); err != nil || after.Policy.Post != "anyone" || after.Hold != "nobody" {
		t.Fatalf("%+v, %v", after, err)
	}
	if _, err = k.Reach.ChangePolicy(ctx, owner, g.Address, patch, g.Version); err == nil {
		t.Error("an old version was taken")
	}
	h, _ := k.History.List(ctx, owner, g.Address, "", "", 1)
	if c := h.Items[0].Changes[0]; c.Field != "post" || c.From != "members" || c.To != "anyone" || !strings.Contains(c.Says, "all strangers can write") {
		t.Errorf("the history keeps %+v", c)
	}
	if e = look(kit.Policy("find=members")); len(e.Policy.Contradictions) == 0 || len(e.Problems) == 0 {
		t.Errorf("a contradiction is part of the summary: %+v", e.Policy.Contradictions)
	}
	if _, err = k.Reach.ChangePolicy(ctx, owner, g.Address, kit.Policy("find=members"), 0); err == nil {
		t.Error("a contradiction was saved")
	}
}

// What a change of policy opens a group to is counted without the external members, who are
// in it but no colleagues.
func TestPolicyChangeCountsColleagues(t *testing.T) {
	g := k.Make(t, "Counted", func(n *api.NewGroup) {
		n.Externals = "owners"
		n.People = append(n.People, api.NewPerson{Address: "one@gannetport.example"}, api.NewPerson{Address: "two@gannetport.example"})
	})
	all, err := k.Read().CountPeople()
	if err != nil {
		t.Fatal(err)
	}
	for policy, want := range map[string]string{"post=workspace": fmt.Sprintf("The %d colleagues can", all-3), "see_people=owners": "The 1 moderator and 1 member lose this", "post=owners": "The 1 moderator, 1 member and 2 external members lose this"} {
		r := kit.Preview(t, k.Actor(t, kit.Owner), func(by workspace.Actor) error {
			return kit.Last(k.Reach.ChangePolicy(ctx, by, g.Address, kit.Policy(policy), 0))
		})
		if len(r.Effects) != 1 || !strings.Contains(r.Effects[0].Says, want) {
			t.Errorf("%s: %+v; want %s", policy, r.Effects, want)
		}
	}
}

// What waits is decided again by the new policy, and told before it is saved; it waits on.
func TestPolicyChangeSaysWhatWaits(t *testing.T) {
	g := k.Make(t, "Waited In", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=outsiders") })
	if err := k.Send(t, g.Address, "stranger@elsewhere.example", false, "a question"); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Joining.Join(ctx, k.Actor(t, kit.Colleague), g.Address, api.JoinRequest{}); err != nil {
		t.Fatal(err)
	}
	for words, want := range map[string]struct {
		line  string
		count int
	}{
		"hold=nobody":                      {`The post "a question" would not have to wait: Anyone may write to this group.`, 1},
		"post=members":                     {`The post "a question" would be refused: Only its members may write to this group.`, 1},
		"join.how=freely":                  {"The request to join would not have to wait: People of the workspace may come in by themselves.", 1},
		"join.audience=nobody":             {"The request to join would be refused: Waited In takes people by invitation only.", 1},
		"hold=nobody join.audience=nobody": {"", 2},
		"leave=asking":                     {"", 0},
	} {
		r := kit.Preview(t, k.Actor(t, kit.Owner), func(by workspace.Actor) error {
			return kit.Last(k.Reach.ChangePolicy(ctx, by, g.Address, kit.Policy(words), 0))
		})
		at := slices.IndexFunc(r.Effects, func(e api.Effect) bool { return e.Field == "waiting" })
		switch {
		case want.count == 0 && at >= 0, want.count > 0 && (at < 0 || r.Effects[at].Count != want.count):
			t.Errorf("%s: %+v; want %d", words, r.Effects, want.count)
		case want.line != "" && !slices.ContainsFunc(r.Sample, func(l api.Line) bool { return l.Says == want.line }):
			t.Errorf("%s: %+v; want %q", words, r.Sample, want.line)
		}
	}
	if _, err := k.Reach.ChangePolicy(ctx, k.Actor(t, kit.Owner), g.Address, kit.Policy("hold=nobody"), 0); err != nil {
		t.Fatal(err)
	}
	if w, err := k.Waiting.List(ctx, k.Actor(t, kit.Owner), g.Address, nil, "", 10); err != nil || w.Total != 2 {
		t.Errorf("%d wait on, %v", w.Total, err)
	}
}

// Who gains by a draft is listed, and nobody else; whom something settled keeps out does not gain.
func TestDraftListsWhoGains(t *testing.T) {
	g := k.Make(t, "Drafted")
	if err := k.Rules.SetOverride(ctx, k.Actor(t, kit.Owner), g.Address, kit.Colleague, api.NewOverride{Override: "barred"}, 0); err != nil {
		t.Fatal(err)
	}
	page, err := k.Reach.WhoMay(ctx, k.Actor(t, kit.Owner), g.Address, "post", "post=workspace", "", 200)
	if err != nil {
		t.Fatal(err)
	}
	var got []string
	for _, p := range page.Items {
		got = append(got, p.Address)
		if p.Was != "refuse" || p.Outcome != "allow" {
			t.Errorf("%+v", p)
		}
	}
	for who, gains := range map[string]bool{kit.Auditor: true, kit.Colleague: false, kit.Member: false, kit.Owner: false, "*": false} {
		if slices.Contains(got, who) != gains {
			t.Errorf("%s gains: %v; listed are %v", who, !gains, got)
		}
	}
	for _, draft := range []string{"post=everybody", "colour=green", "post"} {
		if _, err := k.Reach.WhoMay(ctx, k.Actor(t, kit.Owner), g.Address, "post", draft, "", 5); !workspace.IsKind(err, workspace.Invalid) {
			t.Errorf("%s: %v", draft, err)
		}
	}
}

// Nobody learns from a rehearsal or a list that somebody is in a nested group which they can't see.
func TestRehearsalsTellNothingOfHiddenGroups(t *testing.T) {
	inner := k.Make(t, "Quiet Inside", func(n *api.NewGroup) {
		n.Owners, n.People = []string{kit.Administrator}, []api.NewPerson{{Address: kit.Colleague}, {Address: "inside@gannetport.example"}}
		n.PolicyPatch = kit.Policy("find=members see_people=members join.audience=nobody externals=owners")
	})
	g := k.Make(t, "Loud Outside", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("post=members hold=non_members see_people=workspace externals=owners")
	})
	if _, err := k.Member.Add(ctx, k.Actor(t, kit.Administrator), g.Address, api.NewMembers{People: []api.NewPerson{{Address: inner.Address}}}, 0); err != nil {
		t.Fatal(err)
	}
	k.Unagree(t, g, inner)
	ask := func(by, as string) api.Decision {
		t.Helper()
		d, err := k.Reach.Rehearse(ctx, k.Actor(t, by), api.Rehearsal{Action: "post", Group: g.Address, As: as})
		if err != nil {
			t.Fatal(err)
		}
		return d
	}
	in, out := ask(kit.Owner, kit.Colleague), ask(kit.Owner, kit.Auditor)
	if fmt.Sprint(in.Outcome, in.Rule, in.Hidden) != fmt.Sprint(out.Outcome, out.Rule, out.Hidden) || in.Hidden == "" {
		t.Errorf("somebody inside: %+v; somebody who is not: %+v", in, out)
	}
	if d := ask(kit.Administrator, kit.Colleague); d.Outcome != "allow" || d.Hidden != "" {
		t.Errorf("an administrator is told %+v", d)
	}
	for by, counts := range map[string]bool{kit.Owner: false, kit.Administrator: true} {
		r := kit.Preview(t, k.Actor(t, by), func(by workspace.Actor) error {
			return kit.Last(k.Reach.ChangePolicy(ctx, by, g.Address, kit.Policy("post=owners"), 0))
		})
		if strings.Contains(r.Effects[0].Says, "1 external member") != counts {
			t.Errorf("%s is told of the effect: %s", by, r.Effects[0].Says)
		}
	}
	page, err := k.Reach.WhoMay(ctx, k.Actor(t, kit.Owner), g.Address, "post", "", "", 200)
	if err != nil || page.Hidden == "" {
		t.Fatalf("%+v, %v", page, err)
	}
	for _, p := range page.Items {
		if p.Address == kit.Colleague || strings.Contains(fmt.Sprint(p), inner.Name) {
			t.Errorf("the list tells %+v", p)
		}
	}
}

// What somebody may do is told to themselves, administrators and auditors.
func TestWhoSeesWhatSomebodyMay(t *testing.T) {
	for by, sees := range map[string]bool{kit.Member: true, kit.Administrator: true, kit.Auditor: true, kit.Owner: false, kit.Colleague: false, "": false} {
		_, err := k.Reach.Abilities(ctx, k.Actor(t, by), kit.Member, false, "", 10)
		if (err == nil) != sees {
			t.Errorf("%q: %v", by, err)
		}
	}
}
