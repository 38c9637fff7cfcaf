package review_test

import (
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/review"
)

// found are the findings of a group by kind, as somebody sees them once what has changed was looked at.
func found(t *testing.T, as, ref string) map[string]api.Finding {
	t.Helper()
	if err := k.Review.Follow(ctx); err != nil {
		t.Fatal(err)
	}
	p, err := k.Review.List(ctx, k.Actor(t, as), review.Query{Group: ref, Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	out := map[string]api.Finding{}
	for _, f := range p.Items {
		out[f.Kind] = f
	}
	return out
}

func accept(t *testing.T, n api.FindingsAccepted) api.FindingsDecided {
	t.Helper()
	ines := k.Actor(t, kit.Administrator)
	looked := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(k.Review.Accept(ctx, by, n)) })
	out, err := k.Review.Accept(ctx, ines, n)
	if err != nil || looked.Says != out.Says {
		t.Fatalf("%v; said %q, was %q", err, looked.Says, out.Says)
	}
	return out
}

// What was accepted is no more to do, until its day comes, it is taken back, or it has grown.
func TestKnownAndFine(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := k.Make(t, "Slipway")
	f := found(t, kit.Administrator, g.Address)["not_described"]
	if f.State != "open" || f.Says != "It has no description." || len(f.Mends) == 0 {
		t.Fatalf("%+v", f)
	}
	if _, err := k.Review.List(ctx, k.Actor(t, kit.Member), review.Query{Group: g.Address, Limit: 1}); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("a member is told what was found: %v", err)
	}
	inFilter := func() int64 {
		return kit.First(k.Group.List(ctx, ines, group.Query{Filter: `finding eq "not_described" and address eq "` + g.Address + `"`, Limit: 1})).Total
	}
	if inFilter() != 1 {
		t.Error("the filter does not find it")
	}
	accept(t, api.FindingsAccepted{FindingsChoice: api.FindingsChoice{IDs: []string{f.ID}}, Reason: "Everybody knows", Until: k.Now().AddDate(0, 0, 20).Format("2006-01-02")})
	if f = found(t, kit.Owner, g.Address)["not_described"]; f.State != "accepted" || f.Accepted.Reason != "Everybody knows" || f.Accepted.By != kit.Administrator || inFilter() != 0 {
		t.Errorf("%+v", f)
	}
	k.Move(21)
	if f = found(t, kit.Owner, g.Address)["not_described"]; f.State != "open" || inFilter() != 1 {
		t.Errorf("its day has come: %+v", f)
	}
	k.Move(-21)
	accept(t, api.FindingsAccepted{FindingsChoice: api.FindingsChoice{List: &api.FindingsList{Group: g.Address, Kinds: []string{"not_described"}}}})
	if f = found(t, kit.Owner, g.Address)["not_described"]; f.State != "open" {
		t.Errorf("taken back: %+v", f)
	}
	// mended, it is gone
	says := "Where boats are hauled out."
	if _, err := k.Group.Change(ctx, ines, g.Address, api.GroupPatch{Description: &says}, 0); err != nil {
		t.Fatal(err)
	}
	if _, there := found(t, kit.Owner, g.Address)["not_described"]; there {
		t.Error("it has a description")
	}
	err := kit.Last(k.Review.Accept(ctx, ines, api.FindingsAccepted{FindingsChoice: api.FindingsChoice{IDs: []string{f.ID}}, Reason: "x"}))
	if !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("what is gone: %v", err)
	}

	// one outsider is fine, two are not
	c := k.Make(t, "Minutes", func(n *api.NewGroup) {
		n.Description, n.PolicyPatch = "What the board decides.", kit.Policy("find=members see_people=members read=members join.audience=nobody externals=owners")
		n.People = append(n.People, api.NewPerson{Address: "clerk@port.example"})
	})
	f = found(t, kit.Administrator, c.Address)["strangers"]
	accept(t, api.FindingsAccepted{FindingsChoice: api.FindingsChoice{IDs: []string{f.ID}}, Reason: "The clerk writes them"})
	if f = found(t, kit.Administrator, c.Address)["strangers"]; f.State != "accepted" {
		t.Errorf("%+v", f)
	}
	if _, err := k.Member.Add(ctx, ines, c.Address, api.NewMembers{People: []api.NewPerson{{Address: "another@port.example"}}}, 0); err != nil {
		t.Fatal(err)
	}
	if f = found(t, kit.Administrator, c.Address)["strangers"]; f.State != "open" || !strings.Contains(f.Says, "2 of them are from outside") {
		t.Errorf("grown: %+v", f)
	}
}

// Findings are given to whoever can mend them, who get one letter about all.
func TestGivenToSomebody(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	one, two := k.Make(t, "Anchorage"), k.Make(t, "Breakwater")
	lone := k.Make(t, "Ownerless Quay")
	k.SQL(t, "DELETE m FROM memberships m JOIN mail_groups g ON g.id = m.group_id WHERE g.address = '"+lone.Address+"' AND m.role = 3")
	k.SQL(t, "UPDATE mail_groups SET owners = 0 WHERE address = '"+lone.Address+"'")
	var ids []string
	for _, g := range []api.Group{one, two, lone} {
		ids = append(ids, found(t, kit.Administrator, g.Address)["not_described"].ID)
	}
	k.Letters(t)
	out, err := k.Review.Assign(ctx, ines, api.FindingsAssigned{FindingsChoice: api.FindingsChoice{IDs: ids}, To: "owners", Note: "By Friday, please"})
	if err != nil || out.Decided != 2 || len(out.Refused) != 1 || out.Refused[0].ID != ids[2] || !strings.Contains(out.Refused[0].Says, "no owner who is here") {
		t.Fatalf("%+v, %v", out, err)
	}
	letters := k.Letters(t)
	if len(letters) != 1 || letters[0].To[0] != kit.Owner || !strings.Contains(letters[0].Text, "Anchorage: It has no description") || !strings.Contains(letters[0].Text, "Breakwater") || !strings.Contains(letters[0].Text, "By Friday, please") {
		t.Errorf("%+v", letters)
	}
	mine, err := k.Review.List(ctx, k.Actor(t, kit.Owner), review.Query{Mine: true, State: "assigned", Limit: 10})
	if err != nil || mine.Total != 2 || mine.Items[0].Assigned.To.Address != kit.Owner {
		t.Errorf("%+v, %v", mine, err)
	}
	if _, err := k.Review.Assign(ctx, ines, api.FindingsAssigned{FindingsChoice: api.FindingsChoice{IDs: ids[:1]}, To: kit.Colleague}); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("to somebody who can't mend it: %v", err)
	}
	for _, to := range []string{"nobody.at.all@" + kit.Domain, "", "x", "clerk@port.example"} {
		if _, err := k.Review.Assign(ctx, ines, api.FindingsAssigned{FindingsChoice: api.FindingsChoice{IDs: ids[:1]}, To: to}); !workspace.IsKind(err, workspace.Invalid) {
			t.Errorf("to %q: %v", to, err)
		}
	}
	if _, err := k.Area.Set(ctx, ines, api.NewAreas{Areas: []api.NewArea{{Name: "Quays", Filter: `name sw "Anch"`, Powers: []string{"change"}, Helpers: []string{kit.Colleague}}}}, 0); err != nil {
		t.Fatal(err)
	}
	defer k.Area.Set(ctx, ines, api.NewAreas{Areas: []api.NewArea{}}, 0)
	if out, err := k.Review.Assign(ctx, ines, api.FindingsAssigned{FindingsChoice: api.FindingsChoice{IDs: ids[:2]}, To: kit.Colleague}); err != nil || out.Decided != 1 || len(out.Refused) != 1 {
		t.Errorf("to a helper: %+v, %v", out, err)
	}
	// what was given to them is theirs as long as they help
	theirs := func() int64 {
		t.Helper()
		kinds := kit.First(k.Review.Kinds(ctx, k.Actor(t, kit.Colleague), review.Query{}))
		if kinds.Groups != 0 || kinds.ReviewedAt != nil {
			t.Errorf("somebody is told of all groups: %+v", kinds)
		}
		return kit.First(k.Review.List(ctx, k.Actor(t, kit.Colleague), review.Query{Limit: 10})).Total + int64(kinds.Open)
	}
	if theirs() == 0 {
		t.Error("a helper does not see what was given to them")
	}
	if _, err := k.Area.Set(ctx, ines, api.NewAreas{Areas: []api.NewArea{}}, 0); err != nil {
		t.Fatal(err)
	}
	if n := theirs(); n != 0 {
		t.Errorf("%d findings after they helped", n)
	}
	if out, err := k.Review.Assign(ctx, ines, api.FindingsAssigned{FindingsChoice: api.FindingsChoice{List: &api.FindingsList{State: "assigned"}}, To: "nobody"}); err != nil || out.Decided != 2 {
		t.Errorf("taken back: %+v, %v", out, err)
	}
	if found(t, kit.Administrator, one.Address)["not_described"].State != "open" {
		t.Error("it is still somebody's")
	}
	for _, who := range []string{kit.Auditor, kit.Owner, kit.Colleague} {
		by := k.Actor(t, who)
		if err := kit.Last(k.Review.Accept(ctx, by, api.FindingsAccepted{FindingsChoice: api.FindingsChoice{IDs: ids[:1]}, Reason: "x"})); !workspace.IsKind(err, workspace.NotAllowed) {
			t.Errorf("%s accepts: %v", who, err)
		}
		if err := kit.Last(k.Review.Assign(ctx, by, api.FindingsAssigned{FindingsChoice: api.FindingsChoice{IDs: ids[:1]}, To: "nobody"})); !workspace.IsKind(err, workspace.NotAllowed) {
			t.Errorf("%s assigns: %v", who, err)
		}
	}
}

// What compares a group with one that is hidden tells its owners nothing of that one.
func TestNothingHiddenIsFound(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	open := k.Make(t, "Pilot Roster", func(n *api.NewGroup) { n.Description = "Who is on." })
	hidden := k.Make(t, "Pilots Roster", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("find=members see_people=members read=members join.audience=nobody")
		n.Owners, n.People = []string{kit.Administrator}, []api.NewPerson{{Address: kit.Colleague}}
	})
	f := found(t, kit.Administrator, open.Address)["same_thing"]
	if !strings.Contains(f.Says, hidden.Address) {
		t.Fatalf("%+v", f)
	}
	tells := func(where string) {
		t.Helper()
		owner := k.Actor(t, kit.Owner)
		for _, q := range []review.Query{{Group: open.Address}, {Mine: true}, {}, {Kinds: []string{"same_thing"}}} {
			q.Limit = 100
			for _, x := range kit.First(k.Review.List(ctx, owner, q)).Items {
				if strings.Contains(x.Says, "Pilots") || x.Kind == "same_thing" && x.Assigned == nil {
					t.Errorf("%s: %+v tells %q", where, q, x.Says)
				}
			}
		}
	}
	tells("at first")
	if n := kit.First(k.Review.Kinds(ctx, k.Actor(t, kit.Owner), review.Query{Group: open.Address})); int64(n.Open) != kit.First(k.Review.List(ctx, k.Actor(t, kit.Owner), review.Query{Group: open.Address, State: "open", Limit: 100})).Total {
		t.Errorf("%d are counted", n.Open)
	}
	choice := api.FindingsChoice{IDs: []string{f.ID}}
	for _, to := range []string{"owners", kit.Owner} {
		if _, err := k.Review.Assign(ctx, ines, api.FindingsAssigned{FindingsChoice: choice, To: to}); !workspace.IsKind(err, workspace.Conflict) || !strings.Contains(err.Error(), "can't find") {
			t.Errorf("given to %s: %v", to, err)
		}
	}
	// once it could be found, it may be given; then it is hidden again
	shown, gone := kit.Policy("find=workspace"), kit.Policy("find=members")
	if _, err := k.Reach.ChangePolicy(ctx, ines, hidden.Address, shown, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Review.Assign(ctx, ines, api.FindingsAssigned{FindingsChoice: choice, To: "owners"}); err != nil {
		t.Fatal(err)
	}
	if f := found(t, kit.Owner, open.Address)["same_thing"]; !strings.Contains(f.Says, hidden.Address) {
		t.Errorf("%+v", f)
	}
	if _, err := k.Reach.ChangePolicy(ctx, ines, hidden.Address, gone, 0); err != nil {
		t.Fatal(err)
	}
	tells("hidden again")
}

// New limits are looked at first, and what they find is then found.
func TestLimits(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := k.Make(t, "Tide Tables", func(n *api.NewGroup) { n.Description = "When it comes and goes." })
	k.Move(40)
	defer k.Move(-40)
	if _, there := found(t, kit.Administrator, g.Address)["never_used"]; there {
		t.Fatal("it counts as unused after forty days")
	}
	l := kit.First(k.Review.Limits(ctx, ines))
	n := l
	n.UnusedDays, n.Off = 30, []string{"not_described"}
	p := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(k.Review.SetLimits(ctx, by, n, l.Version)) })
	if p.Says == "" || len(p.Effects) < 3 {
		t.Errorf("%+v", p)
	}
	now, err := k.Review.SetLimits(ctx, ines, n, l.Version)
	if err != nil {
		t.Fatal(err)
	}
	if f := found(t, kit.Administrator, g.Address)["never_used"]; !strings.HasPrefix(f.Says, "Made 40 days ago") {
		t.Errorf("%+v", f)
	}
	if k := kit.First(k.Review.Kinds(ctx, ines, review.Query{Kinds: []string{"not_described"}})); k.Open != 0 {
		t.Errorf("what is not looked for was found: %+v", k.Open)
	}
	if _, err := k.Review.SetLimits(ctx, ines, l, l.Version); !workspace.IsKind(err, workspace.Stale) {
		t.Errorf("over what somebody else set: %v", err)
	}
	l.Version = 0
	if _, err := k.Review.SetLimits(ctx, ines, l, now.Version); err != nil {
		t.Fatal(err)
	}
	for _, bad := range []func(*api.ReviewLimits){func(l *api.ReviewLimits) { l.QuietDays = 0 }, func(l *api.ReviewLimits) { l.SamePercent = 101 }, func(l *api.ReviewLimits) { l.SoleGroups = 1 }, func(l *api.ReviewLimits) { l.Off = []string{"nothing"} }} {
		n := l
		bad(&n)
		if _, err := k.Review.SetLimits(ctx, ines, n, 0); !workspace.IsKind(err, workspace.Invalid) {
			t.Errorf("%+v: %v", n, err)
		}
	}
}

// A group that ended has no findings; one that was restored has its own again. A post ends its quiet.
func TestFindingsFollowLife(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := k.Make(t, "Night Ferry")
	found(t, kit.Administrator, g.Address)
	if _, err := k.Life.Retire(ctx, ines, g.Address, 0); err != nil {
		t.Fatal(err)
	}
	if all := found(t, kit.Administrator, g.Address); len(all) != 0 {
		t.Errorf("%+v", all)
	}
	if _, err := k.Life.Restore(ctx, ines, g.Address, 0); err != nil {
		t.Fatal(err)
	}
	if all := found(t, kit.Administrator, g.Address); len(all) == 0 {
		t.Error("nothing is found about it any more")
	}
	k.Move(100)
	defer k.Move(-100)
	if err := k.Review.Run(ctx); err != nil {
		t.Fatal(err)
	}
	if _, there := found(t, kit.Administrator, g.Address)["never_used"]; !there {
		t.Fatal("it does not count as unused")
	}
	if err := k.Send(t, g.Address, kit.Member, true, "At last"); err != nil {
		t.Fatal(err)
	}
	if err := k.Review.Run(ctx); err != nil {
		t.Fatal(err)
	}
	if f, there := found(t, kit.Administrator, g.Address)["never_used"]; there {
		t.Errorf("somebody has written: %+v", f)
	}
	days := kit.First(k.Review.Trend(ctx, ines, 30)).Items
	if len(days) == 0 || days[len(days)-1].Groups == 0 || days[len(days)-1].Kinds["not_described"] == 0 {
		t.Errorf("%+v", days)
	}
}
