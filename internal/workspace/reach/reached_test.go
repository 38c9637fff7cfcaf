package reach_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
)

// A rehearsal says of how many people, and of whom, what a post then does, for random groups in groups, people
// in several of them, outsiders, and choices of delivery.
func TestRecipientsAreThoseWhoGetIt(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 7))
	admin := k.Actor(t, kit.Administrator)
	everybody := []string{kit.Owner, kit.Moderator, kit.Member, kit.Colleague, kit.Auditor, "one@gannetport.example", "two@tidefuel.example"}
	for i := range 8 {
		var groups []api.Group
		for j := range 4 {
			g := k.Make(t, fmt.Sprintf("Reached %d %d", i, j), func(n *api.NewGroup) {
				takes := []string{"owners", "adders", "barred"}[r.IntN(3)]
				n.Quiet, n.People, n.PolicyPatch = true, nil, kit.Policy("post=anyone hold=nobody externals="+takes)
				for _, who := range everybody[1:] {
					if r.IntN(2) == 0 && (takes != "barred" || strings.HasSuffix(who, "@merrowline.example")) {
						n.People = append(n.People, api.NewPerson{Address: who})
					}
				}
			})
			if j > 0 {
				if _, err := k.Member.Add(ctx, admin, groups[r.IntN(j)].Address, api.NewMembers{Quiet: true, NestingWay: api.NestingWay{WithoutExternals: true}, People: []api.NewPerson{{Address: g.Address}}}, 0); err != nil {
					t.Fatal(err)
				}
			}
			groups = append(groups, g)
		}
		k.SQL(t, "UPDATE memberships SET mail = RAND() < 0.5 WHERE kind = 1")
		for _, g := range groups {
			d, err := k.Reach.Rehearse(ctx, admin, api.Rehearsal{Action: "post", Group: g.Address, As: kit.Administrator})
			if err != nil || d.Recipients == nil {
				t.Fatalf("%+v, %v", d, err)
			}
			k.Letters(t)
			if err := k.Send(t, g.Address, kit.Administrator, true, "reached"); err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, l := range k.Letters(t) {
				got = append(got, l.To...)
			}
			if slices.Sort(got); d.Recipients.Count != len(got) {
				t.Errorf("%s: %d people were said to get it, and %d get it: %v", g.Name, d.Recipients.Count, len(got), got)
			}
			for _, w := range d.Recipients.Ways {
				if !slices.Contains(got, w.Address) {
					t.Errorf("%s: %s is named, and gets nothing", g.Name, w.Address)
				}
			}
			if n := min(len(got), 20); len(d.Recipients.Ways) != n {
				t.Errorf("%s: %d of %d are named", g.Name, len(d.Recipients.Ways), n)
			}
		}
	}
}
