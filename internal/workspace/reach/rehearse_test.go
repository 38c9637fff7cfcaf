package reach_test

import (
	"errors"
	"strings"
	"testing"

	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/post"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/workspace"
)

// A rehearsal and the post itself come to the same, by the same rule, for every
// kind of author and several policies.
func TestRehearsalsKeepTheirWord(t *testing.T) {
	authors := map[string]bool{kit.Owner: true, kit.Moderator: true, kit.Member: true, kit.Colleague: true, kit.Left: true,
		"guest@gannetport.example": true, "stranger@elsewhere.example": false, "invented@merrowline.example": true}
	for name, set := range map[string]string{
		"Word Members": "", "Word Workspace": "post=workspace hold=non_members", "Word Anyone": "post=anyone", "Word Open": "post=anyone hold=nobody",
		"Word Strict": "suspicious=refuse", "Word Lax": "post=anyone suspicious=deliver hold=newcomers", "Word Everyone": "hold=everyone", "Word Nobody": "post=nobody",
	} {
		g := k.Make(t, name, func(n *api.NewGroup) {
			n.Externals = "owners"
			n.People = append(n.People, api.NewPerson{Address: "guest@gannetport.example"})
			for _, w := range strings.Fields(set) {
				field, value, _ := strings.Cut(w, "=")
				n.Set(field, value)
			}
		})
		for author := range authors {
			for _, proven := range []bool{true, false} {
				said, err := k.Reach.Rehearse(ctx, k.Actor(t, kit.Administrator), api.Rehearsal{Action: "post", Group: g.Address, As: author, Proven: &proven})
				if err != nil {
					t.Fatal(err)
				}
				before, _ := k.Waiting.List(ctx, k.Actor(t, kit.Administrator), g.Address, []string{"post"}, "", 200)
				err = k.Send(t, g.Address, author, proven, "word")
				after, _ := k.Waiting.List(ctx, k.Actor(t, kit.Administrator), g.Address, []string{"post"}, "", 200)
				sent := len(k.Queued(t)["word"])
				did := "allow"
				switch no := new(post.Refused); {
				case errors.As(err, &no):
					did = "refuse"
					if no.Decision.RuleName() != said.Rule {
						t.Errorf("%s by %s, proven %v: refused by %s, rehearsed %s", name, author, proven, no.Decision.RuleName(), said.Rule)
					}
				case workspace.IsKind(err, workspace.NotFound): // who can't find it is told no more
					did = "refuse"
				case err != nil:
					t.Fatal(err)
				case after.Total > before.Total:
					did = "hold"
				case said.Recipients == nil || sent != said.Recipients.Count:
					t.Errorf("%s by %s, proven %v: reached %d, rehearsed %+v", name, author, proven, sent, said.Recipients)
				}
				if did != said.Outcome {
					t.Errorf("%s by %s, proven %v: %s, rehearsed %s by %s", name, author, proven, did, said.Outcome, said.Rule)
				}
			}
		}
	}
}

func TestRehearseEveryQuestion(t *testing.T) {
	g := k.Make(t, "Questioned")
	for q := range policy.Settings {
		if !q.Question() {
			continue
		}
		for as, inside := range map[string]bool{kit.Owner: true, "stranger@elsewhere.example": false} {
			d, err := k.Reach.Rehearse(ctx, k.Actor(t, kit.Owner), api.Rehearsal{Action: q.String(), Group: g.Address, As: as})
			want := "refuse"
			if inside && policy.Default()[q] != policy.Nobody {
				want = "allow"
			}
			if q == policy.Post && inside {
				want = "allow"
			}
			if err != nil || d.Outcome != want || (d.Reasons[0].Mend == nil) != (want == "allow") {
				t.Errorf("%s as %s: %+v, %v; want %s", q, as, d, err, want)
			}
		}
	}
	for _, r := range []api.Rehearsal{{Action: "sing", Group: g.Address, As: kit.Owner}, {Action: "post", Group: g.Address, As: "nobody"}} {
		_, err := k.Reach.Rehearse(ctx, k.Actor(t, kit.Owner), r)
		if kind, _ := kit.KindOf(t, err); kind != workspace.Invalid {
			t.Errorf("%+v: %v", r, err)
		}
	}
}

// Who would get a post is told to those alone who may see who is in the group.
func TestRehearsalsHidePeople(t *testing.T) {
	g := k.Make(t, "Unseen", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("see_people=owners post=workspace") })
	for who, sees := range map[string]bool{kit.Owner: true, kit.Administrator: true, kit.Auditor: true, kit.Moderator: false, kit.Member: false, kit.Colleague: false} {
		d, err := k.Reach.Rehearse(ctx, k.Actor(t, who), api.Rehearsal{Action: "post", Group: g.Address, As: who})
		if err != nil || d.Outcome != "allow" || (d.Recipients != nil) != sees {
			t.Errorf("%s: %+v, %v", who, d, err)
		}
	}
	if d, err := k.Reach.Rehearse(ctx, k.Actor(t, kit.Moderator), api.Rehearsal{Action: "post", Group: g.Address, As: kit.Colleague}); err != nil || d.Recipients != nil {
		t.Errorf("for somebody else: %+v, %v", d, err)
	}
}

// An external person is not a colleague: only what is open to members or to anyone is open
// to them.
func TestRehearsalsKnowOutsiders(t *testing.T) {
	const member, past = "guest@gannetport.example", "past@gannetport.example"
	g := k.Make(t, "Guests And Colleagues", func(n *api.NewGroup) {
		n.Externals = "owners"
		n.Set("post", "workspace")
		n.People = append(n.People, api.NewPerson{Address: member}, api.NewPerson{Address: past})
	})
	if err := k.Member.Remove(ctx, k.Actor(t, kit.Owner), g.Address, past, 0); err != nil {
		t.Fatal(err)
	}
	for as, want := range map[string]string{member: "allow", kit.Colleague: "allow", past: "refuse", "never@gannetport.example": "refuse"} {
		for _, q := range []string{"find", "post"} {
			d, err := k.Reach.Rehearse(ctx, k.Actor(t, kit.Owner), api.Rehearsal{Action: q, Group: g.Address, As: as})
			want := want
			if q == "find" && as == member {
				want = "refuse" // it takes an account
			}
			if err != nil || d.Outcome != want {
				t.Errorf("%s as %s: %+v, %v; want %s", q, as, d, err, want)
			}
		}
	}
}
