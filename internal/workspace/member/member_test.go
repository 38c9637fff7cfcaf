package member_test

import (
	"errors"
	"io"
	"slices"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/member"
)

func TestMembers(t *testing.T) {
	g := k.Make(t, "Staffed", func(n *api.NewGroup) { n.Externals = "owners" })
	owner := k.Actor(t, kit.Owner)
	res, err := k.Member.Add(ctx, owner, g.Address, api.NewMembers{People: []api.NewPerson{
		{Address: kit.Colleague, Role: "moderator"}, {Address: "New.Pilot@gannetport.example"}, {Address: kit.Member},
		{Address: "not an address"}, {Address: "typo@merrowline.example"}, {Address: g.Address}, {Address: kit.Left}, {Address: "new.pilot@gannetport.example"},
	}}, 0)
	if err != nil {
		t.Fatal(err)
	}
	want := []string{"added", "added", "already", "refused", "refused", "refused", "refused", "already"}
	for i, r := range res.Results {
		if r.Outcome != want[i] || (r.Outcome != "added") != (r.Says != "") {
			t.Errorf("%s: %s, %q; want %s", r.Given, r.Outcome, r.Says, want[i])
		}
	}
	if after, _ := k.Group.Read(ctx, owner, g.Address); after.Counts != (api.Counts{Owners: 1, Moderators: 2, Members: 2, External: 1, People: 5}) {
		t.Errorf("counts: %+v", after.Counts)
	}

	if _, err := k.Member.ChangeOne(ctx, owner, g.Address, kit.Member, api.MemberPatch{Role: "owner"}, 0); err != nil {
		t.Error(err)
	}
	if err := k.Member.Remove(ctx, owner, g.Address, kit.Colleague, 0); err != nil {
		t.Error(err)
	}
	if after, _ := k.Group.Read(ctx, owner, g.Address); after.Counts != (api.Counts{Owners: 2, Moderators: 1, Members: 1, External: 1, People: 4}) {
		t.Errorf("counts: %+v", after.Counts)
	}
	for _, c := range []struct {
		name string
		do   func() error
		kind workspace.Kind
	}{
		{"an outsider as moderator", func() error {
			_, err := k.Member.ChangeOne(ctx, owner, g.Address, "new.pilot@gannetport.example", api.MemberPatch{Role: "moderator"}, 0)
			return err
		}, workspace.Invalid},
		{"an unknown role", func() error {
			_, err := k.Member.ChangeOne(ctx, owner, g.Address, kit.Member, api.MemberPatch{Role: "king"}, 0)
			return err
		}, workspace.Invalid},
		{"somebody who is not in it", func() error { return k.Member.Remove(ctx, owner, g.Address, kit.Auditor, 0) }, workspace.NotFound},
		{"a moderator who removes", func() error {
			return k.Member.Remove(ctx, k.Actor(t, kit.Moderator), g.Address, kit.Member, 0)
		}, workspace.NotAllowed},
		{"an empty list", func() error {
			_, err := k.Member.Add(ctx, owner, g.Address, api.NewMembers{}, 0)
			return err
		}, workspace.Invalid},
	} {
		err := c.do()
		if err == nil {
			t.Errorf("%s: was done", c.name)
		} else if kind, says := kit.KindOf(t, err); kind != c.kind {
			t.Errorf("%s: %d, %s", c.name, kind, says)
		}
	}
}

// Of two who take away the last two owners at once, one is refused.
func TestTheLastOwnerStays(t *testing.T) {
	g := k.Make(t, "Shared Between", func(n *api.NewGroup) { n.Owners = []string{kit.Owner, kit.Colleague} })
	ines := k.Actor(t, kit.Administrator)
	errs := make([]error, 2)
	var all sync.WaitGroup
	all.Go(func() { errs[0] = k.Member.Remove(ctx, ines, g.Address, kit.Owner, 0) })
	all.Go(func() {
		_, errs[1] = k.Member.ChangeOne(ctx, ines, g.Address, kit.Colleague, api.MemberPatch{Role: "member"}, 0)
	})
	all.Wait()
	if (errs[0] == nil) == (errs[1] == nil) {
		t.Fatalf("removing one: %v; demoting the other: %v", errs[0], errs[1])
	}
	if kind, says := kit.KindOf(t, errors.Join(errs...)); kind != workspace.Conflict || !strings.Contains(says, "last owner") {
		t.Errorf("%d: %s", kind, says)
	}
	if after, _ := k.Group.Read(ctx, ines, g.Address); after.Counts.Owners != 1 || len(after.Owners) != 1 {
		t.Errorf("left with %+v", after.Owners)
	}
}

func TestTheOnlyOwnerStays(t *testing.T) {
	g := k.Make(t, "One Alone")
	for who, as := range map[string]string{"the owner": kit.Owner, "an administrator": kit.Administrator} {
		_, demoted := k.Member.ChangeOne(ctx, k.Actor(t, as), g.Address, kit.Owner, api.MemberPatch{Role: "member"}, 0)
		for what, err := range map[string]error{"removed": k.Member.Remove(ctx, k.Actor(t, as), g.Address, kit.Owner, 0), "demoted": demoted} {
			if err == nil {
				t.Errorf("%s by %s", what, who)
			} else if kind, says := kit.KindOf(t, err); kind != workspace.Conflict || says != "Oda Fenn is the last owner of One Alone. Make somebody else an owner first." {
				t.Errorf("%s by %s: %d, %s", what, who, kind, says)
			}
		}
	}
	if _, err := k.Member.ChangeOne(ctx, k.Actor(t, kit.Owner), g.Address, kit.Owner, api.MemberPatch{Delivery: "none"}, 0); err != nil {
		t.Errorf("its delivery is its own: %v", err)
	}
}

func TestLeaving(t *testing.T) {
	for leave, kind := range map[string]workspace.Kind{"free": -1, "asking": workspace.NotAllowed, "fixed": workspace.NotAllowed} {
		g := k.Make(t, "Leave "+leave, func(n *api.NewGroup) { n.Leave = leave })
		err := k.Member.Remove(ctx, k.Actor(t, kit.Member), g.Address, kit.Member, 0)
		if kind < 0 && err != nil {
			t.Errorf("%s: %v", leave, err)
		} else if kind >= 0 {
			if got, _ := kit.KindOf(t, err); got != kind {
				t.Errorf("%s: %v", leave, err)
			}
		}
	}
}

func TestNestedGroupsInMembership(t *testing.T) {
	inner := k.Make(t, "Inner Ring", func(n *api.NewGroup) { n.Owners = []string{kit.Colleague}; n.People = nil })
	outer := k.Make(t, "Outer Ring", func(n *api.NewGroup) { n.People = []api.NewPerson{{Address: inner.Address}} })
	ines := k.Actor(t, kit.Administrator)
	if outer.Counts.Nested != 1 || outer.Counts.Members != 0 {
		t.Errorf("counts: %+v", outer.Counts)
	}
	d, err := k.Reach.Rehearse(ctx, ines, api.Rehearsal{Action: "post", Group: outer.Address, As: kit.Colleague})
	if err != nil || d.Outcome != "allow" || d.Recipients.Count != 2 {
		t.Errorf("a member by nesting: %+v, %v", d, err)
	}
	res, err := k.Member.Add(ctx, ines, inner.Address, api.NewMembers{People: []api.NewPerson{{Address: outer.Address}}}, 0)
	if err != nil || res.Results[0].Outcome != "refused" || !strings.Contains(res.Results[0].Says, "contain each other") {
		t.Errorf("a loop: %+v, %v", res, err)
	}
	if _, err := k.Life.Retire(ctx, ines, inner.Address, 0); err != nil {
		t.Fatal(err)
	}
	if d, err := k.Reach.Rehearse(ctx, ines, api.Rehearsal{Action: "post", Group: outer.Address, As: kit.Owner}); err != nil || d.Recipients.Count != 1 {
		t.Errorf("a retired group still gives people: %+v, %v", d, err)
	}
}

// What a colleague may not see of a group that they can find stays unsaid.
func TestPeopleOfAGroupAreTheirs(t *testing.T) {
	g := k.Make(t, "Discreet")
	petra := k.Actor(t, kit.Colleague)
	if _, err := k.Members(petra, g.Address, member.Query{Limit: 10}); err == nil {
		t.Error("a colleague listed its people")
	}
	in, out := k.Member.Remove(ctx, petra, g.Address, kit.Member, 0), k.Member.Remove(ctx, petra, g.Address, kit.Auditor, 0)
	if in == nil || out == nil || in.Error() != out.Error() {
		t.Errorf("removing shows who is in it: %v, %v", in, out)
	}
	d, err := k.Reach.Rehearse(ctx, petra, api.Rehearsal{Action: "post", Group: g.Address, As: kit.Colleague})
	if err != nil || d.Recipients != nil {
		t.Errorf("a rehearsal shows who is in it: %+v, %v", d.Recipients, err)
	}
	if _, err := k.Reach.Rehearse(ctx, petra, api.Rehearsal{Action: "post", Group: g.Address, As: kit.Member}); err == nil {
		t.Error("a colleague rehearsed as somebody else")
	}
	if got, err := k.Group.Read(ctx, petra, g.Address); err != nil || len(got.Owners) != 1 {
		t.Errorf("who runs it is for everybody who can find it: %+v, %v", got.Owners, err)
	}
}

// Owners come first in a list, then moderators, then members in the order in which they
// came.
func TestMembersAreListedByRole(t *testing.T) {
	g := k.Make(t, "In Order", func(n *api.NewGroup) {
		n.Owners = nil
		n.People = []api.NewPerson{{Address: kit.Colleague}, {Address: kit.Member}, {Address: kit.Moderator, Role: "moderator"}, {Address: kit.Owner, Role: "owner"}}
	})
	var got []string
	for cursor := ""; ; {
		p, err := k.Members(k.Actor(t, kit.Owner), g.Address, member.Query{Limit: 1, Cursor: cursor})
		if err != nil {
			t.Fatal(err)
		}
		for _, m := range p.Items {
			got = append(got, m.Address)
		}
		if cursor = p.Next; cursor == "" {
			break
		}
	}
	if want := []string{kit.Owner, kit.Moderator, kit.Colleague, kit.Member}; !slices.Equal(got, want) {
		t.Errorf("listed as %v", got)
	}
}

// Who has left the organisation is seen by administrators, auditors and those who take people out of the group, in every list of them.
func TestWhoHasLeftIsSeenByFew(t *testing.T) {
	l := k.Fresh(t, "left_seen")
	g := l.Make(t, "Left Behind", func(n *api.NewGroup) { n.Owners = append(n.Owners, kit.Colleague) })
	if _, err := l.Directory.Depart(ctx, l.Actor(t, kit.Administrator), kit.Colleague, api.Departure{}, 0); err != nil {
		t.Fatal(err)
	}
	for who, sees := range map[string]bool{kit.Administrator: true, kit.Auditor: true, kit.Owner: true, kit.Moderator: false, kit.Member: false} {
		by := l.Actor(t, who)
		p, err := l.Members(by, g.Address, member.Query{Limit: 50})
		in := slices.ContainsFunc(p.Items, func(m api.Member) bool { return m.Address == kit.Colleague })
		if err != nil || in != sees || int(p.Total) != len(p.Items) {
			t.Errorf("%s sees %+v, %v", who, p, err)
		}
		got, err := l.Group.Read(ctx, by, g.Address)
		owns := slices.ContainsFunc(got.Owners, func(o api.Owner) bool { return o.Departed })
		if err != nil || owns != sees || (got.Counts.Departed > 0) != sees {
			t.Errorf("%s reads %+v %+v, %v", who, got.Owners, got.Counts, err)
		}
		if _, err := l.Members(by, g.Address, member.Query{Limit: 50, Kind: "departed"}); (err == nil) != sees {
			t.Errorf("%s asks for them: %v", who, err)
		}
		var sheet strings.Builder
		if err := l.Member.Export(ctx, by, g.Address, member.Query{}, func(string) io.Writer { return &sheet }); err != nil || strings.Contains(sheet.String(), kit.Colleague) != sees {
			t.Errorf("%s exports %s, %v", who, sheet.String(), err)
		}
		_, err = l.Group.List(ctx, by, group.Query{Filter: "departed gt 0", Limit: 5})
		if all := who == kit.Administrator || who == kit.Auditor; (err == nil) != all {
			t.Errorf("%s filters by it: %v", who, err)
		}
	}
}
