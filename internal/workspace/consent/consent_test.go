package consent_test

import (
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// owned is a group that petra owns, and is in alone, with a policy.
func owned(t *testing.T, k *kit.Kit, name, words string) api.Group {
	t.Helper()
	return k.Make(t, name, func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy(words)
		n.Owners, n.People = []string{kit.Colleague}, nil
	})
}

func nest(t *testing.T, k *kit.Kit, by workspace.Actor, outer, inner string, change ...func(*api.NewMembers)) api.Line {
	t.Helper()
	n := api.NewMembers{People: []api.NewPerson{{Address: inner}}}
	for _, c := range change {
		c(&n)
	}
	all, err := k.Member.Add(ctx, by, outer, n, 0)
	if err != nil || len(all.Results) != 1 {
		t.Fatalf("%+v, %v", all, err)
	}
	return all.Results[0]
}

// state is what is agreed about one group in another, "" for nothing, with "+" where it is in it.
func state(t *testing.T, k *kit.Kit, outer, inner string) string {
	t.Helper()
	p, err := k.Consent.Of(ctx, k.Actor(t, kit.Administrator), inner, "", 100)
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range p.Items {
		if x.Outer.Address == outer && x.Inner.Address == inner {
			return map[bool]string{true: "+", false: ""}[x.In] + x.Consent
		}
	}
	return ""
}

func waits(t *testing.T, k *kit.Kit, by workspace.Actor) (ids []string) {
	t.Helper()
	p, err := k.Waiting.List(ctx, by, "", []string{store.WaitingNest}, "", 100)
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range p.Items {
		ids = append(ids, w.ID)
	}
	me, err := k.Me(ctx, by)
	if all, _ := k.Waiting.List(ctx, by, "", nil, "", 100); err != nil || int64(me.Waiting) != all.Total {
		t.Errorf("%d wait by the badge, %d in the list, %v", me.Waiting, all.Total, err)
	}
	return ids
}

// A group comes into another when both sides want it: whoever may add people there, and those who
// run it. Either side ends it.
func TestBothSidesAgree(t *testing.T) {
	l := k.Fresh(t, "consent_both")
	oda, petra, tove := l.Actor(t, kit.Owner), l.Actor(t, kit.Colleague), l.Actor(t, kit.Member)
	outer, inner := l.Make(t, "Both Outer"), owned(t, l, "Both Inner", "see_people=members")
	l.Letters(t)

	if r := nest(t, l, oda, outer.Address, inner.Address); r.Outcome != "asked" || r.Status != "asked" || !strings.Contains(r.Says, "when they agree") {
		t.Fatalf("%+v", r)
	}
	if r := nest(t, l, oda, outer.Address, inner.Address); r.Outcome != "already" {
		t.Errorf("asked twice: %+v", r)
	}
	if got := state(t, l, outer.Address, inner.Address); got != "asked" {
		t.Errorf("it is %q", got)
	}
	letters := l.Letters(t)
	if len(letters) != 1 || !slices.Equal(letters[0].To, []string{kit.Colleague}) || !strings.Contains(letters[0].Text, "Oda Fenn asks that the group Both Inner") || strings.Contains(letters[0].Text, "already") {
		t.Errorf("the owner got %+v", letters)
	}
	if waits(t, l, tove) != nil {
		t.Error("it waits for a member")
	}
	ids := waits(t, l, petra)
	if len(ids) != 1 {
		t.Fatalf("it waits %d times", len(ids))
	}
	for _, by := range []workspace.Actor{oda, tove, l.Actor(t, kit.Auditor)} {
		if err := l.Decide(by, ids[0], "approve", ""); err == nil {
			t.Errorf("%s agrees for a group of somebody else", by.Person.Address)
		}
	}
	if err := l.Decide(petra, ids[0], "approve", ""); err != nil {
		t.Fatal(err)
	}
	if got := state(t, l, outer.Address, inner.Address); got != "+counted" {
		t.Errorf("it is %q", got)
	}
	if letters = l.Letters(t); len(letters) != 1 || !slices.Equal(letters[0].To, []string{kit.Owner}) || !strings.Contains(letters[0].Text, "counted there, not shown") {
		t.Errorf("whoever asked got %+v", letters)
	}
	if err := l.Decide(petra, ids[0], "approve", ""); err == nil {
		t.Error("agreed twice")
	}
	l.Queued(t)
	if err := l.Send(t, outer.Address, kit.Owner, true, "to all"); err != nil {
		t.Fatal(err)
	}
	if to := l.Queued(t)["to all"]; !slices.Contains(to, kit.Colleague) {
		t.Errorf("mail goes to %v", to)
	}
	// its people are counted, not seen
	p, err := l.Member.EffectiveMembers(ctx, oda, outer.Address, "", "", 50)
	if err != nil || p.Total != 3 || p.Hidden != "1 more person of groups whose people you can't see." {
		t.Errorf("counted: %+v, %v", p, err)
	}
	if _, err := l.Consent.Give(ctx, petra, inner.Address, outer.Address, api.NewConsent{Consent: "seen"}); err != nil {
		t.Fatal(err)
	}
	if p, err = l.Member.EffectiveMembers(ctx, oda, outer.Address, "", "", 50); err != nil || p.Total != 4 || p.Hidden != "" {
		t.Errorf("seen: %+v, %v", p, err)
	}
	if _, _, err := l.Member.List(ctx, oda, inner.Address, member.Query{Limit: 10}); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("who sees them there sees them in their own group: %v", err)
	}

	// the inner side ends it
	l.Letters(t)
	if err := l.Consent.End(ctx, tove, outer.Address, inner.Address, ""); err == nil {
		t.Error("a member ends it")
	}
	if err := l.Consent.End(ctx, petra, inner.Address, outer.Address, "We have a list of our own"); err != nil {
		t.Fatal(err)
	}
	if got := state(t, l, outer.Address, inner.Address); got != "" {
		t.Errorf("it is %q", got)
	}
	if letters = l.Letters(t); len(letters) != 1 || !slices.Equal(letters[0].To, []string{kit.Owner}) || !strings.Contains(letters[0].Text, "We have a list of our own") {
		t.Errorf("the outer side got %+v", letters)
	}
	// and is asked again, and the outer side takes it back
	nest(t, l, oda, outer.Address, inner.Address)
	if err := l.Consent.End(ctx, oda, outer.Address, inner.Address, ""); err != nil || len(waits(t, l, petra)) > 0 {
		t.Errorf("withdrawn: %v", err)
	}
	// declined
	nest(t, l, oda, outer.Address, inner.Address)
	l.Letters(t)
	if err := l.Decide(petra, waits(t, l, petra)[0], "decline", "Not ours"); err != nil || state(t, l, outer.Address, inner.Address) != "" {
		t.Errorf("declined: %v", err)
	}
	if letters = l.Letters(t); len(letters) != 1 || !slices.Equal(letters[0].To, []string{kit.Owner}) || !strings.Contains(letters[0].Text, "declined") || !strings.Contains(letters[0].Text, "Not ours") {
		t.Errorf("whoever asked got %+v", letters)
	}
	// an administrator agrees for every group, and an owner of the outer group takes it out
	if r := nest(t, l, l.Actor(t, kit.Administrator), outer.Address, inner.Address, func(n *api.NewMembers) { n.Consent = "seen" }); r.Outcome != "added" || state(t, l, outer.Address, inner.Address) != "+seen" {
		t.Errorf("%+v, %s", r, state(t, l, outer.Address, inner.Address))
	}
	l.Letters(t)
	if err := l.Member.Remove(ctx, oda, outer.Address, inner.Address, 0); err != nil || state(t, l, outer.Address, inner.Address) != "" {
		t.Errorf("taken out: %v", err)
	}
	if letters = l.Letters(t); len(letters) != 1 || !slices.Equal(letters[0].To, []string{kit.Colleague}) {
		t.Errorf("the inner side got %+v", letters)
	}
	l.Agrees(t)
	var kinds []string
	h, err := l.History.List(ctx, petra, inner.Address, "", "", 50)
	for _, e := range h.Items {
		kinds = append(kinds, e.Kind)
	}
	for _, want := range []string{"consent.ask", "consent.give", "consent.end"} {
		if err != nil || !slices.Contains(kinds, want) {
			t.Errorf("the history of the inner group lacks %s: %v, %v", want, kinds, err)
		}
	}
}

// Whoever asked has to be able to add people still, and the group to be there, when it is agreed.
func TestAskedByWhoMayNoLonger(t *testing.T) {
	l := k.Fresh(t, "consent_gone")
	ines, oda, petra := l.Actor(t, kit.Administrator), l.Actor(t, kit.Owner), l.Actor(t, kit.Colleague)
	for name, lose := range map[string]func(outer api.Group) error{
		"no right": func(outer api.Group) error {
			return kit.Last(l.Member.ChangeOne(ctx, ines, outer.Address, kit.Owner, api.MemberPatch{Role: "member"}, 0))
		},
		"retired": func(outer api.Group) error { return kit.Last(l.Life.Retire(ctx, ines, outer.Address, 0)) },
		"taken back": func(outer api.Group) error {
			return l.Consent.End(ctx, ines, outer.Address, "gone-inner-"+strings.ReplaceAll("taken back", " ", "-"), "")
		},
	} {
		outer := l.Make(t, "Gone Outer "+name, func(n *api.NewGroup) {
			n.PolicyPatch, n.Owners = kit.Policy("add_people=owners"), []string{kit.Owner, kit.Moderator}
			n.People = nil
		})
		inner := owned(t, l, "Gone Inner "+name, "")
		nest(t, l, oda, outer.Address, inner.Address)
		ids := waits(t, l, petra)
		if err := lose(outer); err != nil {
			t.Fatal(name, err)
		}
		if err := l.Decide(petra, ids[len(ids)-1], "approve", ""); err == nil || strings.HasPrefix(state(t, l, outer.Address, inner.Address), "+") {
			t.Errorf("%s: agreed all the same: %v", name, err)
		}
	}
}

// What contradicts a consent ends it: its people stay in, unseen and uncounted, and their owners are asked
// again.
func TestPolicyEndsConsent(t *testing.T) {
	l := k.Fresh(t, "consent_policy")
	ines, oda, petra := l.Actor(t, kit.Administrator), l.Actor(t, kit.Owner), l.Actor(t, kit.Colleague)
	for i, c := range []struct {
		outer, inner, consent string
		by                    workspace.Actor
		change                string // of the outer group; with - before it of the inner one
		over                  bool
	}{
		{"see_people=members post=members", "see_people=members", "seen", oda, "see_people=workspace", true},
		{"see_people=members post=members", "see_people=members", "counted", oda, "see_people=workspace", false},
		{"see_people=members post=members", "see_people=members", "seen", petra, "-see_people=owners", true},
		{"see_people=members post=members", "see_people=members", "counted", petra, "-see_people=owners", false},
		{"see_people=members post=members", "post=members", "counted", oda, "post=anyone hold=outsiders", true},
		{"see_people=members post=members", "post=anyone", "counted", oda, "post=anyone hold=outsiders", false},
		{"see_people=members post=anyone", "post=members", "counted", oda, "post=workspace", false},
	} {
		outer := l.Make(t, fmt.Sprintf("Over Outer %d", i), func(n *api.NewGroup) { n.PolicyPatch = kit.Policy(c.outer) })
		inner := owned(t, l, fmt.Sprintf("Over Inner %d", i), c.inner)
		if r := nest(t, l, ines, outer.Address, inner.Address, func(n *api.NewMembers) { n.Consent = c.consent }); r.Outcome != "added" {
			t.Fatalf("%d: %+v", i, r)
		}
		ref, words := outer.Address, c.change
		if strings.HasPrefix(words, "-") {
			ref, words = inner.Address, words[1:]
		}
		l.Letters(t)
		before := state(t, l, outer.Address, inner.Address)
		look := kit.Preview(t, c.by, func(by workspace.Actor) error {
			return kit.Last(l.Reach.ChangePolicy(ctx, by, ref, kit.Policy(words), 0))
		})
		if says := slices.ContainsFunc(look.Warnings, func(f api.Fault) bool { return strings.Contains(f.Says, "asked again") }); says != c.over || state(t, l, outer.Address, inner.Address) != before {
			t.Errorf("%d: the preview says it: %v", i, look.Warnings)
		}
		if _, err := l.Reach.ChangePolicy(ctx, c.by, ref, kit.Policy(words), 0); err != nil {
			t.Fatal(i, err)
		}
		want, told := before, 0
		if c.over {
			want, told = "+asked", 3 // two owners of the outer group, in one letter each, and the one of the inner group
		}
		if got := state(t, l, outer.Address, inner.Address); got != want {
			t.Errorf("%d: it is %s, want %s", i, got, want)
		}
		n := 0
		for _, x := range l.Letters(t) {
			if strings.Contains(x.Text, "no longer fits what was agreed") {
				n++
			}
		}
		if (n > 0) != (told > 0) || n > told {
			t.Errorf("%d: %d letters", i, n)
		}
		l.Agrees(t)
	}
	// and what contradicts it from the start is not agreed
	outer, inner := l.Make(t, "Start Outer", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("see_people=workspace") }), owned(t, l, "Start Inner", "see_people=members")
	if r := nest(t, l, ines, outer.Address, inner.Address, func(n *api.NewMembers) { n.Consent = "seen" }); r.Outcome != "refused" || !strings.Contains(r.Says, "counted there, not seen") {
		t.Errorf("%+v", r)
	}
}

// The outer group's setting on external members holds for what is nested.
func TestNestedWithoutExternals(t *testing.T) {
	l := k.Fresh(t, "consent_externals")
	ines, bram := l.Actor(t, kit.Administrator), l.Actor(t, kit.Moderator)
	inner := l.Make(t, "Guests", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("see_people=workspace externals=owners")
		n.People = append(n.People, api.NewPerson{Address: "berth@gannetport.example"})
	})
	barred := l.Make(t, "Barred", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("externals=barred") })
	if r := nest(t, l, ines, barred.Address, inner.Address); r.Outcome != "refused" || r.Status != "external" {
		t.Errorf("%+v", r)
	}
	without := func(n *api.NewMembers) { n.WithoutExternals = true }
	if r := nest(t, l, ines, barred.Address, inner.Address, without); r.Outcome != "added" {
		t.Errorf("%+v", r)
	}
	owners := l.Make(t, "Owners Take", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("externals=owners add_people=moderators") })
	if r := nest(t, l, bram, owners.Address, inner.Address, without); r.Outcome != "refused" || r.Status != "external" {
		t.Errorf("a moderator brings external members in: %+v", r)
	}
	if g, err := l.Group.Read(ctx, ines, barred.Address); err != nil || g.Counts.People != 3 {
		t.Errorf("%+v, %v", g.Counts, err)
	}
}

// Groups that were in others before anybody was asked stay, and those who run them are told once.
func TestWhatWasNestedIsAskedFor(t *testing.T) {
	l := k.Fresh(t, "consent_before")
	outer := l.Make(t, "Before Outer")
	var inner []api.Group
	for i := range 3 {
		g := owned(t, l, fmt.Sprintf("Before Inner %d", i), "")
		inner = append(inner, g)
		l.Write(t, func(tx *store.Tx) error {
			return tx.AddMemberships([]store.Membership{{GroupID: uuid.MustParse(outer.ID), MemberID: uuid.MustParse(g.ID), Kind: store.KindGroup, Role: expand.Member, AddedAt: l.Now(), AddedBy: kit.Owner}})
		})
	}
	l.Letters(t)
	for range 2 { // once, by however many instances
		var all sync.WaitGroup
		for range 4 {
			all.Go(func() {
				if err := l.Consent.Run(ctx); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
	}
	letters := l.Letters(t)
	if len(letters) != 1 || !slices.Equal(letters[0].To, []string{kit.Colleague}) || !strings.Contains(letters[0].Text, "Before Inner 2") {
		t.Errorf("%+v", letters)
	}
	for _, g := range inner {
		if got := state(t, l, outer.Address, g.Address); got != "+asked" {
			t.Errorf("it is %s", got)
		}
	}
	petra := l.Actor(t, kit.Colleague)
	ids := waits(t, l, petra)
	if len(ids) != 3 {
		t.Fatalf("%d wait", len(ids))
	}
	if err := l.Decide(petra, ids[0], "decline", ""); err != nil || state(t, l, outer.Address, inner[0].Address) != "" {
		t.Errorf("declined: %v", err)
	}
	if err := l.Decide(petra, ids[1], "approve", ""); err != nil || state(t, l, outer.Address, inner[1].Address) != "+counted" {
		t.Errorf("agreed: %v", err)
	}
}

// Who agrees, ends, asks and changes a policy at once leaves one state behind that all agree on.
func TestConsentsAtOnce(t *testing.T) {
	l := k.Fresh(t, "consent_once")
	ines, oda, petra := l.Actor(t, kit.Administrator), l.Actor(t, kit.Owner), l.Actor(t, kit.Colleague)
	outer, inner := l.Make(t, "Once Outer", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("see_people=members") }), owned(t, l, "Once Inner", "see_people=members")
	do := []func() error{
		func() error {
			return kit.Last(l.Member.Add(ctx, oda, outer.Address, api.NewMembers{People: []api.NewPerson{{Address: inner.Address}}}, 0))
		},
		func() error {
			return kit.Last(l.Member.Add(ctx, ines, outer.Address, api.NewMembers{NestingWay: api.NestingWay{Consent: "seen"}, People: []api.NewPerson{{Address: inner.Address}}}, 0))
		},
		func() error { return l.Consent.End(ctx, petra, inner.Address, outer.Address, "") },
		func() error { return l.Consent.End(ctx, oda, outer.Address, inner.Address, "") },
		func() error {
			return kit.Last(l.Consent.Give(ctx, petra, inner.Address, outer.Address, api.NewConsent{Consent: "seen"}))
		},
		func() error {
			return kit.Last(l.Reach.ChangePolicy(ctx, oda, outer.Address, kit.Policy("see_people=workspace"), 0))
		},
		func() error {
			return kit.Last(l.Reach.ChangePolicy(ctx, petra, inner.Address, kit.Policy("see_people=owners"), 0))
		},
		func() error {
			return kit.Last(l.Reach.ChangePolicy(ctx, petra, inner.Address, kit.Policy("see_people=members"), 0))
		},
	}
	var all sync.WaitGroup
	for i := range 120 {
		all.Go(func() {
			if err := do[i%len(do)](); err != nil && !known(err) {
				t.Errorf("%d: %v", i%len(do), err)
			}
		})
	}
	all.Wait()
	got := state(t, l, outer.Address, inner.Address)
	o, err := l.Read().GroupByAddress(outer.Address)
	if err != nil {
		t.Fatal(err)
	}
	in, err := l.Read().MemberIDs(o.ID, []uuid.UUID{uuid.MustParse(inner.ID)})
	if err != nil || strings.HasPrefix(got, "+") != in[uuid.MustParse(inner.ID)] || got == "counted" || got == "seen" {
		t.Errorf("it is %q, in it: %v, %v", got, in, err)
	}
	i, err := l.Read().GroupByAddress(inner.Address)
	if err != nil || got == "+seen" && o.Policy[policy.SeePeople] > i.Policy[policy.SeePeople] {
		t.Errorf("its people are seen by more than it says: %v", err)
	}
	l.Agrees(t)
}

// known reports whether an error is an answer to whoever asked.
func known(err error) bool {
	for _, kind := range []workspace.Kind{workspace.Invalid, workspace.Conflict, workspace.NotFound, workspace.NotAllowed} {
		if workspace.IsKind(err, kind) {
			return true
		}
	}
	return false
}

// Administrators see which groups are nested in which, and what the inner one's policy does
// not allow.
func TestNestings(t *testing.T) {
	l := k.Fresh(t, "consent_all")
	ines := l.Actor(t, kit.Administrator)
	inner := l.Make(t, "Quiet Inner", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("find=members see_people=owners read=members post=owners join.audience=nobody")
	})
	plain := l.Make(t, "Plain Inner", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("see_people=workspace post=workspace") })
	outer := l.Make(t, "Loud Outer", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("see_people=workspace post=workspace") })
	for _, g := range []string{inner.Address, plain.Address} {
		if _, err := l.Member.Add(ctx, ines, outer.Address, api.NewMembers{People: []api.NewPerson{{Address: g}}}, 0); err != nil {
			t.Fatal(err)
		}
		l.Move(1)
	}
	var seen []api.Nested
	for cursor := ""; ; {
		p, err := l.Consent.All(ctx, ines, false, cursor, 1)
		if err != nil || p.Total != 2 && cursor == "" {
			t.Fatalf("%+v, %v", p, err)
		}
		seen = append(seen, p.Items...)
		if cursor = p.Next; cursor == "" {
			break
		}
	}
	if len(seen) != 2 || seen[0].Inner.Name != "Quiet Inner" || len(seen[0].Doubts) != 3 || seen[1].Inner.Name != "Plain Inner" || len(seen[1].Doubts) != 0 || seen[0].By != kit.Administrator {
		t.Errorf("%+v", seen)
	}
	if _, err := l.Consent.All(ctx, l.Actor(t, kit.Owner), false, "", 1); err == nil {
		t.Error("an owner lists them")
	}
}

// A change of many groups ends what it contradicts in each of them, also where one is in another.
func TestChangesOfManyEndConsents(t *testing.T) {
	l := k.Fresh(t, "consent_many")
	ines := l.Actor(t, kit.Administrator)
	var all []api.Group
	var refs []string
	for i := range 6 {
		g := l.Make(t, fmt.Sprintf("Chain %d", i), func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("see_people=members post=members") })
		all, refs = append(all, g), append(refs, g.Address)
		if i > 0 {
			nest(t, l, ines, g.Address, all[i-1].Address, func(n *api.NewMembers) { n.Consent = "seen" })
		}
	}
	l.Letters(t)
	b, err := l.Bulk.Begin(ctx, ines, api.NewBulk{Groups: refs[1:], Policy: policyOf("see_people=workspace")})
	if err != nil {
		t.Fatal(err)
	}
	if err := l.Bulk.Run(ctx); err != nil {
		t.Fatal(err)
	}
	if b, err = l.Bulk.Read(ctx, ines, b.ID); err != nil || b.Changed != 5 {
		t.Errorf("%+v, %v", b, err)
	}
	if got := state(t, l, all[1].Address, all[0].Address); got != "+asked" {
		t.Errorf("the first, which shows its people to its members alone: %s", got)
	}
	l.Agrees(t)
}

func policyOf(words string) *api.PolicyPatch {
	p := kit.Policy(words)
	return &p
}
