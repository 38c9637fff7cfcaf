package post_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/policy"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

// letters returns who got letters whose subject or text has some words, in order.
func told(t *testing.T, l *kit.Kit, words string) (out []string) {
	t.Helper()
	for _, x := range l.Letters(t) {
		if strings.Contains(x.Subject+x.Text, words) {
			out = append(out, x.To...)
		}
	}
	slices.Sort(out)
	return out
}

// Those who decide get one letter for all that came in a while, by however many instances it is looked; then the
// owners, then the caretaker, each post once a step; and its author knows that it waits, once.
func TestDecidersAreToldOfWhatWaits(t *testing.T) {
	l := k.Fresh(t, "post_telling")
	a := l.Make(t, "Held One", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=everyone suspicious=hold") })
	b := l.Make(t, "Held Two", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=everyone suspicious=hold") })
	run := func() {
		t.Helper()
		var all sync.WaitGroup
		for range 4 {
			all.Go(func() {
				if err := l.Post.TellOfWaiting(ctx); err != nil {
					t.Error(err)
				}
			})
		}
		all.Wait()
	}
	l.Letters(t)
	for i := range 3 {
		for _, g := range []api.Group{a, b} {
			if err := l.Send(t, g.Address, kit.Member, true, fmt.Sprint("post ", i)); err != nil {
				t.Fatal(err)
			}
		}
	}
	if got := told(t, l, "You need not send it again"); !slices.Equal(got, []string{kit.Member, kit.Member}) {
		t.Errorf("the author is told once for each group: %v", got)
	}
	if err := l.Send(t, a.Address, kit.Colleague, false, "says it is Petra"); err != nil {
		t.Fatal(err)
	}
	if got := told(t, l, "You need not send it again"); got != nil {
		t.Errorf("somebody who may not have written it is told: %v", got)
	}
	if run(); told(t, l, "wait") != nil {
		t.Error("told at once, and not gathered")
	}
	l.MoveBy(6 * time.Minute)
	run()
	letters := l.Letters(t)
	if len(letters) != 1 || !slices.Equal(letters[0].To, []string{kit.Moderator}) || !strings.Contains(letters[0].Text, "Held One") || !strings.Contains(letters[0].Text, "Held Two") || !strings.Contains(letters[0].Text, "4 messages") {
		t.Errorf("the moderator got %+v", letters)
	}
	// no flood: what comes within the hour is told of after it
	for i := range 5 {
		if err := l.Send(t, a.Address, kit.Member, true, fmt.Sprint("more ", i)); err != nil {
			t.Fatal(err)
		}
		l.MoveBy(6 * time.Minute)
		run()
	}
	if got := told(t, l, "Held One"); got != nil {
		t.Errorf("told again within the hour: %v", got)
	}
	l.MoveBy(time.Hour)
	if run(); len(told(t, l, "Held One")) != 1 {
		t.Error("not told after the hour")
	}
	l.Move(3)
	if run(); !slices.Equal(told(t, l, "Held One"), []string{kit.Owner}) {
		t.Error("the owner is not told after three days")
	}
	l.Move(5)
	if run(); !slices.Equal(told(t, l, "Held One"), []string{kit.Administrator}) {
		t.Error("the caretaker is not told after a week")
	}
	l.Move(30)
	if run(); told(t, l, "Held") != nil {
		t.Error("told for ever")
	}
	if p, err := l.Waiting.List(ctx, l.Actor(t, kit.Moderator), "", nil, "", 100); err != nil || p.Total != 12 {
		t.Errorf("%d wait still, %v", p.Total, err)
	}
}

// A new member is no newcomer once enough of their posts were let through; rehearsals say the same.
func TestNewcomersByPosts(t *testing.T) {
	l := k.Fresh(t, "post_newcomers")
	ines, bram := l.Actor(t, kit.Administrator), l.Actor(t, kit.Moderator)
	g := l.Make(t, "New Here", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=members hold=newcomers") })
	says := func() string {
		t.Helper()
		d, err := l.Reach.Rehearse(ctx, ines, api.Rehearsal{Action: "post", Group: g.Address, As: kit.Member})
		if err != nil {
			t.Fatal(err)
		}
		who, err := l.Reach.WhoMay(ctx, ines, g.Address, "post", "", "", 50)
		i := slices.IndexFunc(who.Items, func(p api.Permitted) bool { return p.Address == kit.Member })
		if err != nil || i < 0 || who.Items[i].Outcome != d.Outcome {
			t.Errorf("the list and the rehearsal differ: %+v, %v", who.Items, err)
		}
		all, err := l.Reach.Abilities(ctx, ines, kit.Member, false, "", 50)
		for _, x := range all.Items {
			if x.Group.Address == g.Address && !slices.ContainsFunc(x.May, func(m api.Ability) bool { return m.Action == "post" && m.Outcome == d.Outcome }) {
				t.Errorf("their abilities differ: %+v, %v", x.May, err)
			}
		}
		return d.Outcome
	}
	for i := range policy.NewcomerPosts + 1 {
		if err := l.Send(t, g.Address, kit.Member, true, fmt.Sprint("hello ", i)); err != nil {
			t.Fatal(err)
		}
		p, err := l.Waiting.List(ctx, bram, g.Address, []string{"post"}, "", 10)
		if held := i < policy.NewcomerPosts; err != nil || (len(p.Items) == 1) != held || (says() == "hold") != held {
			t.Errorf("post %d: %d wait, %s, %v", i, len(p.Items), says(), err)
		}
		for _, w := range p.Items {
			if err := l.Decide(bram, w.ID, "approve", ""); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// Posts of which nothing proves that they are theirs make nobody less of a newcomer.
func TestForgedPostsSeasonNobody(t *testing.T) {
	l := k.Fresh(t, "post_forged")
	ines, bram := l.Actor(t, kit.Administrator), l.Actor(t, kit.Moderator)
	g := l.Make(t, "Forged Here", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=members hold=newcomers suspicious=hold") })
	for i := range policy.NewcomerPosts {
		if err := l.Send(t, g.Address, kit.Member, false, fmt.Sprint("forged ", i)); err != nil {
			t.Fatal(err)
		}
		p, err := l.Waiting.List(ctx, bram, g.Address, []string{"post"}, "", 10)
		if err != nil || len(p.Items) != 1 {
			t.Fatalf("%+v, %v", p, err)
		}
		if err := l.Decide(bram, p.Items[0].ID, "approve", ""); err != nil {
			t.Fatal(err)
		}
	}
	if d, err := l.Reach.Rehearse(ctx, ines, api.Rehearsal{Action: "post", Group: g.Address, As: kit.Member}); err != nil || d.Outcome != "hold" {
		t.Errorf("%+v, %v", d, err)
	}
}

// Who decides about a post reads it, and settles something about its author with the decision.
func TestReadAndTrust(t *testing.T) {
	l := k.Fresh(t, "post_reading")
	bram := l.Actor(t, kit.Moderator)
	g := l.Make(t, "Read Here", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=outsiders suspicious=hold") })
	const visitor = "visitor@gannetport.example"
	send := func(subject string) string {
		t.Helper()
		if err := l.Send(t, g.Address, visitor, false, subject); err != nil {
			t.Fatal(err)
		}
		p, err := l.Waiting.List(ctx, bram, g.Address, []string{"post"}, "", 10)
		if err != nil || len(p.Items) == 0 {
			return ""
		}
		return p.Items[len(p.Items)-1].ID
	}
	id := send("A berth for Sunday")
	p, err := l.Post.Held(ctx, bram, id)
	if err != nil || p.Subject != "A berth for Sunday" || p.Group.Address != g.Address || len(p.Reasons) == 0 || p.Proven {
		t.Errorf("%+v, %v", p, err)
	}
	for _, by := range []string{kit.Member, kit.Colleague, kit.Auditor, ""} {
		actor := workspace.Actor{}
		if by != "" {
			actor = l.Actor(t, by)
		}
		if _, err := l.Post.Held(ctx, actor, id); err == nil {
			t.Errorf("%q reads it", by)
		}
	}
	decide := func(id, verdict, author string) error {
		_, err := l.Waiting.Decide(ctx, bram, api.Decisions{IDs: []string{id}, Verdict: verdict, Author: author})
		return err
	}
	if err := decide(id, "approve", "bar"); err != nil {
		t.Fatal(err)
	}
	if p, err = l.Post.Held(ctx, bram, id); err != nil {
		t.Errorf("approved, and the author barred: %v", err)
	}
	if err := decide(id, "approve", "trust"); err != nil {
		t.Fatal(err)
	}
	if _, err = l.Post.Held(ctx, bram, id); err == nil {
		t.Error("it is read once it does not wait any more")
	}
	if o, err := l.Member.Override(ctx, bram, g.Address, visitor); err != nil || o.Override != "trusted" || !strings.Contains(o.Reason, "A berth for Sunday") {
		t.Errorf("%+v, %v", o, err)
	}
	if id = send("Another"); id != "" {
		t.Error("mail of somebody trusted waits")
	}
	if err := l.Rules.SetOverride(ctx, bram, g.Address, visitor, api.NewOverride{Override: "none"}, 0); err != nil {
		t.Fatal(err)
	}
	if id = send("And one more"); id == "" {
		t.Fatal("it does not wait")
	}
	if err := decide(id, "decline", "bar"); err != nil {
		t.Fatal(err)
	}
	if err := l.Send(t, g.Address, visitor, false, "barred"); err == nil {
		t.Error("somebody barred writes")
	}
}

// An administrator who puts themselves into a group, or into a role, is told to its owners however quietly they do it, and reads what waits
// there only with a reason.
func TestNobodyAppointsThemselvesQuietly(t *testing.T) {
	l := k.Fresh(t, "self_appointed")
	ines := l.Actor(t, kit.Administrator)
	type way struct {
		role    string
		appoint func(ref string) error
	}
	for name, w := range map[string]way{
		"by adding": {"a moderator", func(ref string) error {
			return kit.Last(l.Member.Add(ctx, ines, ref, api.NewMembers{Quiet: true, People: []api.NewPerson{{Address: kit.Administrator, Role: "moderator"}}}, 0))
		}},
		"by a change of role": {"a moderator", func(ref string) error {
			if err := kit.Last(l.Member.Add(ctx, l.Actor(t, kit.Owner), ref, api.NewMembers{Quiet: true, People: []api.NewPerson{{Address: kit.Administrator}}}, 0)); err != nil {
				return err
			}
			l.MoveBy(time.Minute)
			return kit.Last(l.Member.ChangeOne(ctx, ines, ref, kit.Administrator, api.MemberPatch{Role: "moderator"}, 0))
		}},
		"by a change of many groups": {"an owner", func(ref string) error {
			if err := kit.Last(l.Bulk.Begin(ctx, ines, api.NewBulk{Groups: []string{ref}, Owners: &api.OwnersChange{Add: []string{kit.Administrator}, Replace: true}})); err != nil {
				return err
			}
			return l.Bulk.Run(ctx)
		}},
		"by approving themselves": {"a member", func(ref string) error {
			if err := kit.Last(l.Joining.Join(ctx, ines, ref, api.JoinRequest{})); err != nil {
				return err
			}
			l.Letters(t) // that they ask
			return l.Decide(ines, kit.First(l.Joining.Requests(ctx, ines, ref, false, "", 1)).Items[0].ID, "approve", "")
		}},
		"by a rule": {"a member", func(ref string) error {
			return kit.Last(l.Rules.Set(ctx, ines, ref, api.NewRule{Expression: `emails.value eq "` + kit.Administrator + `"`}, 0))
		}},
		"by undoing that they were taken out": {"a moderator", func(ref string) error {
			add := api.NewMembers{Quiet: true, People: []api.NewPerson{{Address: kit.Administrator, Role: "moderator"}}}
			if err := errors.Join(kit.Last(l.Member.Add(ctx, l.Actor(t, kit.Owner), ref, add, 0)), l.Member.Remove(ctx, l.Actor(t, kit.Owner), ref, kit.Administrator, 0)); err != nil {
				return err
			}
			l.Letters(t)
			e := kit.First(l.History.List(ctx, ines, ref, "", "", 1)).Items[0]
			return kit.Last(l.Undo.Entry(ctx, ines, e.ID))
		}},
	} {
		g := l.Make(t, "Quiet "+name, func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("hold=everyone") })
		if err := l.Send(t, g.Address, kit.Member, false, "for the group"); err != nil {
			t.Fatal(err)
		}
		id := kit.First(l.Waiting.List(ctx, ines, g.Address, []string{"post"}, "", 5)).Items[0].ID
		l.MoveBy(time.Minute)
		l.Letters(t)
		if err := w.appoint(g.Address); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		heard := slices.ContainsFunc(l.Letters(t), func(x kit.Letter) bool {
			return slices.Equal(x.To, []string{kit.Owner}) && strings.Contains(x.Text, "made themselves "+w.role+" of "+g.Name)
		})
		if !heard {
			t.Errorf("%s: the owner is not told", name)
		}
		says, recorded := "made yourself "+w.role, "by their own appointment"
		if w.role == "a member" {
			says, recorded = "No role of yours", "because: A complaint"
		}
		if _, err := l.Post.Held(ctx, ines, id); !workspace.IsKind(err, workspace.NotAllowed) || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: read without a reason: %v", name, err)
		}
		if _, err := l.Post.Read(ctx, ines, id, "A complaint"); err != nil {
			t.Error(err)
		}
		if e := kit.First(l.History.List(ctx, ines, g.Address, "", "", 1)).Items[0]; !strings.Contains(e.Says, recorded) {
			t.Errorf("%s: recorded as %s", name, e.Says)
		}
		if all := l.Letters(t); len(all) != 1 || !strings.Contains(all[0].Text, "read the message") {
			t.Errorf("%s: of the reading the owner is told %+v", name, all)
		}
	}
	l.Letters(t)
	own := kit.First(l.Group.Create(ctx, ines, api.NewGroup{Name: "Founded", Address: "founded@merrowline.example", Owners: []string{kit.Administrator, kit.Owner}, PolicyPatch: kit.Policy("hold=everyone post=anyone")}))
	if all := told(t, l, "made themselves"); len(all) > 0 {
		t.Errorf("of a group that they founded are told %v", all)
	}
	if err := l.Send(t, own.Address, kit.Member, false, "for mine"); err != nil {
		t.Fatal(err)
	}
	if _, err := l.Post.Held(ctx, ines, kit.First(l.Waiting.List(ctx, ines, own.Address, []string{"post"}, "", 5)).Items[0].ID); err != nil {
		t.Errorf("of a group that they founded: %v", err)
	}
}
