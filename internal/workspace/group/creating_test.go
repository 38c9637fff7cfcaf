package group_test

import (
	"slices"
	"strings"
	"sync"
	"testing"

	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/member"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/workspace"
)

func TestLookAlikesAreShownBeforeASecondOneIsMade(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	made := k.Make(t, "Pontoon Repairs", func(n *api.NewGroup) { n.People = append(n.People, api.NewPerson{Address: kit.Colleague}) })
	hidden := k.Make(t, "Pontoon Repair Money", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("find=owners see_people=owners read=owners join.audience=nobody")
	})
	for _, c := range []struct {
		q   api.LookAlikeRequest
		why string
	}{
		{api.LookAlikeRequest{Name: "The Pontoon Repair"}, "name"},
		{api.LookAlikeRequest{Name: "PОNTООN repair"}, "name"}, // with Cyrillic О
		{api.LookAlikeRequest{Name: "Something else", Address: "pontoon.repairs@merrowline.example"}, "address"},
		{api.LookAlikeRequest{Name: "Something else", People: []string{kit.Owner, kit.Moderator, kit.Member, kit.Colleague}}, "people"},
	} {
		found, err := k.Group.LookAlikes(ctx, ines, c.q)
		i := slices.IndexFunc(found.Items, func(x api.LookAlike) bool { return x.Address == made.Address })
		if err != nil || i < 0 || !slices.Contains(found.Items[i].Why, c.why) || found.Items[i].Says == "" || len(found.Items[i].Owners) != 1 {
			t.Errorf("%+v: %+v, %v", c.q, found, err)
		}
	}
	if found, _ := k.Group.LookAlikes(ctx, ines, api.LookAlikeRequest{Name: "Quarterly Budget"}); len(found.Items) != 0 {
		t.Errorf("like everything: %+v", found)
	}
	k.SetNaming(t, api.Naming{Creators: "workspace"})
	found, err := k.Group.LookAlikes(ctx, k.Actor(t, kit.Colleague), api.LookAlikeRequest{Name: "Pontoon Repair Money"})
	if err != nil || slices.ContainsFunc(found.Items, func(x api.LookAlike) bool { return x.Address == hidden.Address }) {
		t.Errorf("a hidden group is told of: %+v, %v", found, err)
	}
}

func TestMovingAnAddressKeepsTheOldOne(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := k.Make(t, "Old Quay", func(n *api.NewGroup) { n.Aliases = []string{"the-quay"} })
	if !slices.Equal(g.Aliases, []string{"the-quay@merrowline.example"}) {
		t.Fatalf("aliases: %v", g.Aliases)
	}
	name, address := "New Quay", "new-quay@crew.merrowline.example"
	if g, _ = k.Group.Change(ctx, ines, g.ID, api.GroupPatch{Name: &name}, 0); g.Address != "old-quay@merrowline.example" {
		t.Errorf("a new name moved it to %s", g.Address)
	}
	g, err := k.Group.Change(ctx, ines, g.ID, api.GroupPatch{Address: &address}, g.Version)
	if err != nil || g.Address != address || !slices.Equal(g.Aliases, []string{"old-quay@merrowline.example", "the-quay@merrowline.example"}) {
		t.Fatalf("moved: %+v, %v", g, err)
	}
	for _, ref := range append(g.Aliases, g.Address) {
		if to, err := k.Post.Find(ctx, kit.Address(t, ref), false); err != nil || to.Group.String() != g.ID {
			t.Errorf("mail to %s: %+v, %v", ref, to.Address, err)
		}
		if err := k.Send(t, ref, kit.Member, true, "to "+ref); err != nil {
			t.Errorf("mail to %s: %v", ref, err)
		}
	}
	for _, words := range []string{"new quay", "old quay", "the quay"} {
		if p, err := k.Group.List(ctx, ines, group.Query{Q: words, Limit: 5}); err != nil || p.Total != 1 {
			t.Errorf("search for %q finds %d, %v", words, p.Total, err)
		}
	}
	if kind, _ := kit.KindOf(t, kit.Last(k.Group.Create(ctx, ines, api.NewGroup{Name: "Another", Address: "old-quay@merrowline.example", Owners: []string{kit.Owner}}))); kind != workspace.Conflict {
		t.Error("somebody took the old address")
	}
	own := []string{"new.quay@crew.merrowline.example"}
	if g, err = k.Group.Change(ctx, ines, g.ID, api.GroupPatch{Aliases: &own}, 0); err != nil || !slices.Equal(g.Aliases, own) {
		t.Errorf("a typing mistake of its own: %+v, %v", g.Aliases, err)
	}
	bad := []string{kit.Owner, "postmaster", "x@elsewhere.example"}
	if kind, says := kit.KindOf(t, kit.Last(k.Group.Change(ctx, ines, g.ID, api.GroupPatch{Aliases: &bad}, 0))); kind != workspace.Invalid || strings.Count(says, "aliases[") != 3 {
		t.Errorf("%v %s", kind, says)
	}
	k.Queued(t)
}

func TestTwoMoveToTheSameAddress(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	a, b := k.Make(t, "Mover A"), k.Make(t, "Mover B")
	address := "the-same-place@merrowline.example"
	errs := make([]error, 2)
	var all sync.WaitGroup
	for i, g := range []api.Group{a, b} {
		all.Go(func() { _, errs[i] = k.Group.Change(ctx, ines, g.ID, api.GroupPatch{Address: &address}, 0) })
	}
	all.Wait()
	if (errs[0] == nil) == (errs[1] == nil) {
		t.Fatalf("%v; %v", errs[0], errs[1])
	}
	for _, err := range errs {
		if err == nil {
			continue
		}
		if _, says := kit.KindOf(t, err); !strings.Contains(says, "belongs to the group Mover") {
			t.Errorf("the loser is told %s", says)
		}
	}
}

func TestTraitsWelcomeAndDelivery(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	k.Queued(t)
	g := k.Make(t, "Traits", func(n *api.NewGroup) {
		n.Quiet, n.Traits, n.Welcome, n.Delivery, n.Description = false, []string{"archive", "desk"}, "Bring your own cup.", "none", "For those who drink tea"
	})
	if !slices.Equal(g.Traits, []string{"archive", "desk"}) || g.Delivery != "none" {
		t.Errorf("%+v", g)
	}
	m, err := k.Members(ines, g.Address, member.Query{Limit: 10})
	if err != nil || m.Items[0].Delivery != "none" {
		t.Errorf("%+v, %v", m, err)
	}
	letters := k.Letters(t)
	if len(letters) != 1 || letters[0].Subject != "You are now in Traits" || len(letters[0].To) != 3 {
		t.Fatalf("%+v", letters)
	}
	for _, part := range []string{"Ines Skerry put you into", "For those who drink tea", "Bring your own cup.", "no messages, until you ask", "traits-owners@merrowline.example", "http://console.example/groups/traits@"} {
		if !strings.Contains(letters[0].Text, part) {
			t.Errorf("those who were added are not told %q:\n%s", part, letters[0].Text)
		}
	}
	if strings.Contains(letters[0].Text, kit.Member) {
		t.Error("those who were added are told of each other")
	}
	none := []string{}
	each := "each"
	if g, err = k.Group.Change(ctx, ines, g.Address, api.GroupPatch{Traits: &none, Delivery: &each}, 0); err != nil || len(g.Traits) != 0 || g.Delivery != "each" {
		t.Errorf("switched off: %+v, %v", g, err)
	}
	tag := "Cups"
	before := g.Version
	if g, err = k.Group.Change(ctx, ines, g.Address, api.GroupPatch{Mail: api.MailPatch{Tag: &tag}}, before); err != nil || g.Mail.Tag != tag || g.Version != before+1 {
		t.Errorf("a tag: %+v, %v", g, err)
	}
	if _, err = k.Group.Change(ctx, ines, g.Address, api.GroupPatch{Mail: api.MailPatch{Tag: &tag}}, before); !workspace.IsKind(err, workspace.Stale) {
		t.Errorf("texts that were changed meanwhile: %v", err)
	}
	wrong := []string{"archive", "juggling"}
	if kind, says := kit.KindOf(t, kit.Last(k.Group.Change(ctx, ines, g.Address, api.GroupPatch{Traits: &wrong}, 0))); kind != workspace.Invalid || !strings.Contains(says, "juggling") {
		t.Errorf("%v %s", kind, says)
	}
}
