package workspace_test

import (
	"context"
	"errors"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/localdb/dbtest"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
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
		g := k.Group(t, name, func(n *api.NewGroup) {
			n.Externals = "owners"
			n.People = append(n.People, api.NewPerson{Address: "guest@gannetport.example"})
			for _, w := range strings.Fields(set) {
				field, value, _ := strings.Cut(w, "=")
				n.Set(field, value)
			}
		})
		for author := range authors {
			for _, proven := range []bool{true, false} {
				said, err := k.W.Rehearse(ctx, k.Actor(t, kit.Administrator), api.Rehearsal{Action: "post", Group: g.Address, As: author, Proven: &proven})
				if err != nil {
					t.Fatal(err)
				}
				before, _ := k.W.WaitingPosts(ctx, k.Actor(t, kit.Administrator), g.Address, "", 200)
				err = post(t, g.Address, author, proven, "word")
				after, _ := k.W.WaitingPosts(ctx, k.Actor(t, kit.Administrator), g.Address, "", 200)
				sent := len(k.Queued(t)["word"])
				did := "allow"
				switch no := new(workspace.Refused); {
				case errors.As(err, &no):
					did = "refuse"
					if no.Decision.RuleName() != said.Rule {
						t.Errorf("%s by %s, proven %v: refused by %s, rehearsed %s", name, author, proven, no.Decision.RuleName(), said.Rule)
					}
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
	g := k.Group(t, "Questioned")
	for q := policy.Find; q < policy.Questions; q++ {
		for as, inside := range map[string]bool{kit.Owner: true, "stranger@elsewhere.example": false} {
			d, err := k.W.Rehearse(ctx, k.Actor(t, kit.Owner), api.Rehearsal{Action: q.String(), Group: g.Address, As: as})
			want := "refuse"
			if inside && policy.Default().Answers[q] != policy.Nobody {
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
		_, err := k.W.Rehearse(ctx, k.Actor(t, kit.Owner), r)
		if kind, _ := kindOf(t, err); kind != workspace.Invalid {
			t.Errorf("%+v: %v", r, err)
		}
	}
}

func TestSetUp(t *testing.T) {
	dsn, err := dbtest.Schema(k.DSN, "ivytable_set_up")
	if err != nil {
		t.Fatal(err)
	}
	s, err := store.Open(ctx, dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	ines := kit.Address(t, kit.Administrator)
	for _, c := range []struct {
		domains        []string
		address        mailaddr.Address
		name, password string
		says           string
	}{
		{[]string{"not a domain"}, ines, "Ines", kit.Password, "one part"},
		{[]string{kit.Domain}, ines, " ", kit.Password, "name is empty"},
		{[]string{kit.Domain}, ines, "Ines", "short", "5 characters; it needs at least 12"},
		{[]string{kit.Domain}, ines, "Ines", workspace.SamplePassword, "which everybody knows"},
		{[]string{kit.Second}, ines, "Ines", kit.Password, "in one of the domains"},
	} {
		if err := workspace.SetUp(ctx, s, c.domains, c.address, c.name, c.password); err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%v; want %q", err, c.says)
		}
	}
	if n, err := s.CountPeople(ctx); n != 0 || err != nil {
		t.Errorf("something half-done is left: %d people, %v", n, err)
	}
	if err := workspace.SetUp(ctx, s, []string{kit.Domain}, ines, "Ines Skerry", kit.Password); err != nil {
		t.Fatal(err)
	}
	if err := workspace.SetUp(ctx, s, []string{kit.Domain}, ines, "Ines Skerry", kit.Password); err == nil {
		t.Error("set up twice")
	}
	w := workspace.New(s, workspace.Options{})
	if a, _, err := w.SignIn(context.Background(), kit.Administrator, kit.Password); err != nil || a.Person.WorkspaceRole != workspace.Administrator {
		t.Errorf("%+v, %v", a.Person, err)
	}
}

// What a colleague may not see of a group that they can find stays unsaid.
func TestPeopleOfAGroupAreTheirs(t *testing.T) {
	g := k.Group(t, "Discreet")
	petra := k.Actor(t, kit.Colleague)
	if _, err := k.W.Members(ctx, petra, g.Address, workspace.MemberList{Limit: 10}); err == nil {
		t.Error("a colleague listed its people")
	}
	in, out := k.W.RemoveMember(ctx, petra, g.Address, kit.Member), k.W.RemoveMember(ctx, petra, g.Address, kit.Auditor)
	if in == nil || out == nil || in.Error() != out.Error() {
		t.Errorf("removing shows who is in it: %v, %v", in, out)
	}
	d, err := k.W.Rehearse(ctx, petra, api.Rehearsal{Action: "post", Group: g.Address, As: kit.Colleague})
	if err != nil || d.Recipients != nil {
		t.Errorf("a rehearsal shows who is in it: %+v, %v", d.Recipients, err)
	}
	if _, err := k.W.Rehearse(ctx, petra, api.Rehearsal{Action: "post", Group: g.Address, As: kit.Member}); err == nil {
		t.Error("a colleague rehearsed as somebody else")
	}
	if got, err := k.W.Group(ctx, petra, g.Address); err != nil || len(got.Owners) != 1 {
		t.Errorf("who runs it is for everybody who can find it: %+v, %v", got.Owners, err)
	}
}
