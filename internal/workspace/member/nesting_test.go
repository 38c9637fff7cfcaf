package member_test

import (
	"io"
	"slices"
	"strings"
	"testing"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// Nobody gets by nesting, or by copying, what a group does not show or give them by itself.
func TestNestingGoesRoundNothing(t *testing.T) {
	ines, petra := k.Actor(t, kit.Administrator), k.Actor(t, kit.Colleague)
	secret := k.Make(t, "Nest Secret", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("find=members see_people=members join.audience=nobody")
	})
	closed := k.Make(t, "Nest Closed", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("see_people=members") })
	open := k.Make(t, "Nest Open", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("see_people=workspace") })
	deep := k.Make(t, "Nest Deep")
	if all, err := k.Member.Add(ctx, ines, secret.Address, api.NewMembers{Quiet: true, People: []api.NewPerson{{Address: deep.Address}}}, 0); err != nil || all.Added != 1 {
		t.Fatalf("%+v, %v", all, err)
	}
	mine := k.Make(t, "Nest Mine", func(n *api.NewGroup) { n.Owners, n.People = []string{kit.Colleague}, nil })
	add := func(by workspace.Actor, n api.NewMembers) api.AddedAll {
		t.Helper()
		n.Quiet = true
		all, err := k.Member.Add(ctx, by, mine.Address, n, 0)
		if err != nil {
			t.Fatal(err)
		}
		return all
	}
	for ref, says := range map[string]string{secret.Address: "Nobody in the workspace has this address", closed.Address: "Its owners are asked"} {
		if all := add(petra, api.NewMembers{People: []api.NewPerson{{Address: ref}}}); all.Added != 0 || !strings.Contains(all.Results[0].Says, says) {
			t.Errorf("nested %s: %+v", ref, all.Results)
		}
		if _, err := k.Member.Add(ctx, petra, mine.Address, api.NewMembers{List: &api.PeopleList{Of: ref}}, 0); err == nil {
			t.Errorf("copied the people of %s", ref)
		}
		if _, err := k.Group.Create(ctx, ines, api.NewGroup{Name: "Nest Around " + ref[:11], Owners: []string{kit.Colleague}, People: []api.NewPerson{{Address: ref}}, Quiet: true}); err != nil {
			t.Errorf("an administrator can't nest %s: %v", ref, err)
		}
	}
	if all := add(petra, api.NewMembers{People: []api.NewPerson{{Address: open.Address}}}); all.Counts["asked"] != 1 {
		t.Errorf("an open group: %+v", all.Results)
	}
	if _, err := k.Consent.Give(ctx, k.Actor(t, kit.Owner), open.Address, mine.Address, api.NewConsent{Consent: "counted"}); err != nil {
		t.Fatal(err)
	}
	k.Write(t, func(tx *store.Tx) error { // nested before anybody was asked
		for _, g := range []api.Group{secret, closed} {
			if err := tx.LockNesting(); err != nil {
				return err
			}
			if err := tx.AddMemberships([]store.Membership{{GroupID: uuid.MustParse(mine.ID), MemberID: uuid.MustParse(g.ID), Kind: store.KindGroup, Role: expand.Member, AddedAt: k.Now()}}); err != nil {
				return err
			}
		}
		return nil
	})
	add(ines, api.NewMembers{People: []api.NewPerson{{Address: secret.Address}, {Address: closed.Address}}})
	only := func(what string, addresses []string) {
		t.Helper()
		slices.Sort(addresses)
		if want := []string{kit.Moderator, kit.Owner, kit.Colleague, kit.Member}; !slices.Equal(addresses, want) {
			t.Errorf("%s: %v", what, addresses)
		}
	}
	p, err := k.Member.EffectiveMembers(ctx, petra, mine.Address, "", "", 50)
	if err != nil || p.Total != 4 || p.Hidden != "More people of a group that you can't see." {
		t.Errorf("%+v, %v", p, err)
	}
	var all []string
	for _, m := range p.Items {
		all = append(all, m.Address)
		for _, through := range m.Through {
			if through == secret.Name || through == closed.Name {
				t.Errorf("%s is in it through %s", m.Address, through)
			}
		}
	}
	only("the effective list", all)
	d, err := k.Reach.Rehearse(ctx, petra, api.Rehearsal{Action: "post", Group: mine.Address, As: kit.Colleague})
	if err != nil || d.Recipients.Count != 4 || d.Recipients.Hidden == "" {
		t.Errorf("rehearsed: %+v, %v", d.Recipients, err)
	}
	n, err := k.Member.Nesting(ctx, petra, mine.Address)
	if err != nil || len(n.Groups) != 3 || n.Depth != 2 || slices.ContainsFunc(n.Groups, func(g api.NestedGroup) bool { return g.Address == secret.Address }) {
		t.Errorf("drawn: %+v, %v", n.Groups, err)
	}
	list, err := k.Members(petra, mine.Address, member.Query{Limit: 50})
	if err != nil || len(list.Items) != 4 || slices.ContainsFunc(list.Items, func(m api.Member) bool { return m.Name == secret.Name || m.Address == secret.Address }) {
		t.Errorf("listed: %+v, %v", list.Items, err)
	}
	if list, err = k.Members(petra, mine.Address, member.Query{Q: "nest sec", Limit: 50}); err != nil || len(list.Items) > 0 {
		t.Errorf("searched: %+v, %v", list.Items, err)
	}
	var csv strings.Builder
	if err := k.Member.Export(ctx, petra, mine.Address, member.Query{}, func(string) io.Writer { return &csv }); err != nil || strings.Contains(csv.String(), "secret") {
		t.Errorf("exported: %s, %v", csv.String(), err)
	}
	if p, err = k.Member.EffectiveMembers(ctx, ines, mine.Address, "", "", 50); err != nil || p.Hidden != "" || p.Total != 4 {
		t.Errorf("an administrator sees %+v, %v", p, err)
	}
}

// A group that takes no external members has none by what is nested in it: they get nothing,
// are not counted, and are not its members.
func TestExternalsComeThroughNoNesting(t *testing.T) {
	const guest = "nested.guest@gannetport.example"
	ines := k.Actor(t, kit.Administrator)
	inner := k.Make(t, "Guests Inside", func(n *api.NewGroup) {
		n.Externals = "owners"
		n.People = append(n.People, api.NewPerson{Address: guest})
	})
	nest := func(name, externals, inner string) api.Group {
		return k.Make(t, name, func(n *api.NewGroup) {
			n.Externals, n.People, n.WithoutExternals = externals, []api.NewPerson{{Address: inner}}, true
		})
	}
	taking := nest("Takes Guests", "owners", inner.Address)
	barring := nest("Bars Guests", "barred", inner.Address)
	around := nest("Around The Bar", "owners", barring.Address)
	k.Queued(t)
	for ref, gets := range map[string]bool{inner.Address: true, taking.Address: true, barring.Address: false, around.Address: false} {
		if err := k.Send(t, ref, kit.Owner, true, "to "+ref); err != nil {
			t.Fatal(err)
		}
		if to := k.Queued(t)["to "+ref]; slices.Contains(to, guest) != gets {
			t.Errorf("mail to %s goes to %v", ref, to)
		}
		p, err := k.Member.EffectiveMembers(ctx, ines, ref, "", "", 50)
		if err != nil || slices.ContainsFunc(p.Items, func(m api.EffectiveMember) bool { return m.Address == guest }) != gets || int(p.Total) != len(p.Items) {
			t.Errorf("%s reaches %+v, %v", ref, p, err)
		}
		want := map[bool]string{true: "allow", false: "refuse"}[gets]
		if d, err := k.Reach.Rehearse(ctx, ines, api.Rehearsal{Action: "post", Group: ref, As: guest}); err != nil || d.Outcome != want {
			t.Errorf("the guest writes to %s: %+v, %v", ref, d, err)
		}
		d, err := k.Reach.Rehearse(ctx, ines, api.Rehearsal{Action: "post", Group: ref, As: kit.Owner})
		if err != nil || slices.Contains(d.Recipients.Sample, guest) != gets {
			t.Errorf("rehearsed to %s: %+v, %v", ref, d.Recipients, err)
		}
	}
}
