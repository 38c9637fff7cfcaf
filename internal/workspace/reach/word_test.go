package reach_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"

	kit "ivytable.example/ivytable/internal/testkit"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/post"
	"ivytable.example/ivytable/internal/workspace/reach"
)

const (
	guest    = "guest@gannetport.example"
	stranger = "stranger@elsewhere.example"
	claimed  = "invented@merrowline.example"
)

var everybody = []string{kit.Administrator, kit.Auditor, kit.Owner, kit.Moderator, kit.Member, kit.Colleague, kit.Left, guest, stranger, claimed}

// anyPolicy returns a random policy that can be saved.
func anyPolicy(r *rand.Rand) policy.Policy {
	for {
		p := policy.Default()
		for _, d := range policy.Describe() {
			if err := p.Set(d.Name, d.Choices[r.IntN(len(d.Choices))].Name); err != nil {
				panic(err)
			}
		}
		if len(p.Check()) == 0 {
			return p
		}
	}
}

// anyGroup makes a group with a random policy, people in it by themselves and through a nested group,
// and something settled about some.
func anyGroup(t *testing.T, r *rand.Rand, name string) api.Group {
	t.Helper()
	p := anyPolicy(r)
	g := k.Make(t, name, func(n *api.NewGroup) {
		n.Externals = "owners"
		n.People = append(n.People, api.NewPerson{Address: guest})
	})
	if r.IntN(3) == 0 {
		inner := k.Make(t, name+" Within", func(n *api.NewGroup) {
			n.Owners, n.People = []string{kit.Owner}, []api.NewPerson{{Address: kit.Colleague}}
		})
		if _, err := k.Member.Add(ctx, k.Actor(t, kit.Administrator), g.Address, api.NewMembers{People: []api.NewPerson{{Address: inner.Address}}, Quiet: true}, 0); err != nil {
			t.Fatal(err)
		}
	}
	for range r.IntN(3) {
		who := everybody[2+r.IntN(len(everybody)-2)]
		kind := []string{"barred", "trusted", "held"}[r.IntN(3)]
		if kind == "barred" && who == kit.Owner {
			continue
		}
		if err := k.Rules.SetOverride(ctx, k.Actor(t, kit.Administrator), g.Address, who, api.NewOverride{Override: kind}, 0); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := k.Reach.ChangePolicy(ctx, k.Actor(t, kit.Administrator), g.Address, kit.Policy(p.Encode()), 0); err != nil {
		t.Fatal(err)
	}
	return g
}

// really does what is rehearsed, or looks at it where it would be in the way of what follows, and says what
// came of it.
func really(t *testing.T, g api.Group, action, who string, proven bool) string {
	t.Helper()
	outcome := func(err error) string {
		if err == nil {
			return "allow"
		}
		kit.KindOf(t, err)
		return "refuse"
	}
	if action == "post" || action == "write_owners" {
		ref := g.Address
		if action == "write_owners" {
			a := kit.Address(t, g.Address)
			ref = a.Local() + mailaddr.OwnersSuffix + "@" + a.Domain()
		}
		var before, after int
		k.SQL(t, "SELECT COUNT(*) FROM mailings WHERE state = 'waiting'", &before)
		err := k.Send(t, ref, who, proven, "word")
		k.SQL(t, "SELECT COUNT(*) FROM mailings WHERE state = 'waiting'", &after)
		if no := new(post.Refused); err != nil && !errors.As(err, &no) && !workspace.IsKind(err, workspace.NotFound) {
			t.Fatal(err)
		}
		switch {
		case err != nil:
			return "refuse"
		case after > before:
			return "hold"
		}
		return "allow"
	}
	if who == guest || who == stranger || who == claimed || who == kit.Left {
		return outside(t, g, action, who)
	}
	by := k.Actor(t, who)
	looking, _ := by.Previewing()
	switch action {
	case "find":
		return outcome(kit.Last(k.Group.Read(ctx, by, g.Address)))
	case "see_people":
		_, _, err := k.Member.List(ctx, by, g.Address, member.Query{Limit: 5})
		return outcome(err)
	case "add_people", "invite", "nest":
		n := api.NewMembers{People: []api.NewPerson{{Address: "nobody.here@merrowline.example"}}}
		if action == "invite" {
			n.Way = "invite"
		}
		err := looked(func() error { return kit.Last(k.Member.Add(ctx, looking, g.Address, n, 0)) })
		if err == nil || workspace.IsKind(err, workspace.Invalid) {
			return "allow"
		}
		return outcome(err)
	case "join", "leave":
		var got api.JoinResult
		err := looked(func() (err error) {
			if action == "join" {
				got, err = k.Joining.Join(ctx, looking, g.Address, api.JoinRequest{})
			} else {
				got, err = k.Joining.Leave(ctx, looking, g.Address, api.JoinRequest{})
			}
			return err
		})
		switch {
		case err != nil:
			return outcome(err)
		case got.Outcome == "asked":
			return "hold"
		}
		return "allow"
	}
	t.Fatalf("%s is not done here", action)
	return ""
}

var visits int

// outside is really for who has no account: on the public pages, and by a link of their own.
func outside(t *testing.T, g api.Group, action, who string) string {
	t.Helper()
	k.SQL(t, "DELETE FROM spent")
	visits++
	nobody := workspace.Actor{Source: fmt.Sprintf("192.0.2.%d", visits%200)}
	page, err := k.Public.Read(ctx, nobody, g.Address)
	link := func(mark string) string {
		for _, l := range k.Letters(t) {
			if _, rest, found := strings.Cut(l.Text, mark); found && slices.Contains(l.To, who) {
				return rest[:32]
			}
		}
		return ""
	}
	looking, _ := nobody.Previewing()
	switch {
	case action == "leave" && who == guest:
		p := kit.First(k.Read().PersonByKey(guest))
		secret, hash := member.NewSecret()
		k.Write(t, func(tx *store.Tx) error {
			return tx.AddOwnLinks([]store.OwnLink{{Hash: hash, GroupID: uuid.MustParse(g.ID), MemberID: p.ID, ExpiresAt: k.Now().AddDate(0, 0, 1)}})
		})
		return map[string]string{"free": "allow", "asking": "hold", "fixed": "refuse", "": "refuse"}[kit.First(k.External.Own(ctx, secret)).Leaving] // "": is not in it
	case err != nil && action != "join":
		return "refuse"
	case action == "find":
		return "allow"
	case action == "see_people" && page.People != nil:
		return "allow"
	case action == "join" && err == nil:
		k.Letters(t)
		if _, err := k.Public.Approach(ctx, nobody, g.Address, api.Approach{Address: who}); err != nil {
			kit.KindOf(t, err)
			return "refuse"
		}
		secret := link("/public/proofs/")
		if secret == "" {
			return "refuse"
		}
		var got api.ProofLink
		if err := looked(func() (err error) { got, err = k.Public.Prove(ctx, looking, secret); return err }); err != nil {
			kit.KindOf(t, err)
			return "refuse"
		}
		return map[string]string{"done": "allow", "asked": "hold"}[got.Outcome]
	}
	return "refuse"
}

// looked runs a preview, whose answer comes as an error.
func looked(f func() error) error {
	if err := f(); !workspace.Previewed(err) {
		return err
	}
	return nil
}

// What is rehearsed is what happens, for everybody, everything that can be done, and random policies.
func TestRehearsalsAreTheRealThing(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 11))
	admin := k.Actor(t, kit.Administrator)
	cases := 0
	for i := range 12 {
		if err := kit.Last(k.Public.SetRules(ctx, admin, api.PublicPages{Pages: i%3 != 0}, 0)); err != nil {
			t.Fatal(err)
		}
		g := anyGroup(t, r, fmt.Sprintf("Word %d", i))
		for _, action := range []string{"find", "see_people", "add_people", "invite", "nest", "join", "leave", "post", "write_owners"} {
			for _, who := range everybody {
				for _, proven := range []bool{true, false} {
					if !proven && action != "post" && action != "write_owners" {
						continue
					}
					said, err := k.Reach.Rehearse(ctx, admin, api.Rehearsal{Action: action, Group: g.Address, As: who, Proven: &proven})
					if err != nil {
						t.Fatal(err)
					}
					if did := really(t, g, action, who, proven); did != said.Outcome {
						p, _, _ := k.Reach.Policy(ctx, admin, g.Address)
						t.Errorf("%s: %s by %s, proven %v: %s, rehearsed %s by %s (%+v)", g.Name, action, who, proven, did, said.Outcome, said.Rule, p.PolicyHalf)
					}
					cases++
				}
			}
		}
	}
	t.Logf("%d cases", cases)
}

// The list of who may do something, the list of what somebody may, and the rehearsal of both say the same.
func TestListsSayWhatRehearsalsSay(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 6))
	admin := k.Actor(t, kit.Administrator)
	for i := range 5 {
		g := anyGroup(t, r, fmt.Sprintf("Listed %d", i))
		for _, action := range reach.Listed {
			may := map[string]api.Permitted{}
			cursor, first, total := "", "", int64(0)
			for {
				page, err := k.Reach.WhoMay(ctx, admin, g.Address, action, "", cursor, 3)
				if err != nil {
					t.Fatal(err)
				}
				for _, p := range page.Items {
					if _, twice := may[p.Address]; twice {
						t.Errorf("%s, %s: %s is listed twice", g.Name, action, p.Address)
					}
					may[p.Address] = p
				}
				if total = page.Total; first == "" {
					first = page.Next
				}
				if cursor = page.Next; cursor == "" {
					break
				}
			}
			for _, at := range []string{"", "x", "9Aile", "-"} { // what nobody was given
				c, _ := store.ParseCursor(first)
				c.Value = at
				if _, err := k.Reach.WhoMay(ctx, admin, g.Address, action, "", c.String(), 3); first != "" && !workspace.IsKind(err, workspace.Invalid) {
					t.Errorf("a cursor at %q: %v", at, err)
				}
			}
			if total != int64(len(may)) {
				t.Errorf("%s, %s: %d are listed, %d counted", g.Name, action, len(may), total)
			}
			for _, who := range everybody {
				said, err := k.Reach.Rehearse(ctx, admin, api.Rehearsal{Action: action, Group: g.Address, As: who})
				if err != nil {
					t.Fatal(err)
				}
				p, listed := may[who]
				_, others := may["*"]
				switch {
				case listed && p.Outcome != said.Outcome:
					t.Errorf("%s, %s: %s is listed with %s and rehearsed with %s", g.Name, action, who, p.Outcome, said.Outcome)
				case !listed && said.Outcome != "refuse" && !(others && (who == stranger || who == claimed || who == kit.Left)):
					t.Errorf("%s, %s: %s is not listed, rehearsed with %s by %s", g.Name, action, who, said.Outcome, said.Rule)
				}
				if who == stranger || who == claimed {
					continue
				}
				all, err := k.Reach.Abilities(ctx, admin, who, true, "", 200)
				if err != nil {
					t.Fatal(err)
				}
				for _, x := range all.Items {
					if x.Group.Address != g.Address {
						continue
					}
					for _, m := range x.May {
						if m.Action == action && (m.Outcome != said.Outcome || m.Rule != said.Rule) {
							t.Errorf("%s, %s: %s is told %s by %s and rehearsed %s by %s", g.Name, action, who, m.Outcome, m.Rule, said.Outcome, said.Rule)
						}
					}
				}
			}
		}
	}
}
