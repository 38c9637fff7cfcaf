package post_test

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/post"
)

// handOver hands all mail over that is due, with a result for each recipient that says of somebody in particular.
func handOver(t *testing.T, k *kit.Kit, odd map[string]post.Result) {
	t.Helper()
	for {
		jobs, err := k.Post.Claim(ctx, time.Hour, 10)
		if err != nil {
			t.Fatal(err)
		}
		if len(jobs) == 0 {
			return
		}
		for _, j := range jobs {
			if err := j.Open(ctx); err != nil {
				t.Fatal(err)
			}
			var results []post.Result
			for _, to := range j.To {
				r, is := odd[to]
				if r.Recipient = to; !is {
					r.Outcome = post.Sent
				}
				results = append(results, r)
			}
			if err := j.Record(ctx, results, time.Now().UTC().Add(time.Hour)); err != nil {
				t.Fatal(err)
			}
		}
	}
}

func TestWhatBecameOfAPost(t *testing.T) {
	k := k.Fresh(t, "trace")
	owner, ines := k.Actor(t, kit.Owner), k.Actor(t, kit.Administrator)
	g := k.Make(t, "Traced", func(n *api.NewGroup) {
		n.Owners = []string{kit.Owner}
		n.People = []api.NewPerson{{Address: kit.Member}, {Address: kit.Moderator, Role: "moderator"}, {Address: "agent@port.example"}}
		n.PolicyPatch.Set("externals", "adders")
	}).Address
	other := k.Make(t, "Other Traced").Address
	k.Letters(t)
	if err := k.Send(t, g, kit.Member, true, "Berths"); err != nil {
		t.Fatal(err)
	}
	posts := func(by workspace.Actor, to string) api.Page[api.Post] {
		t.Helper()
		p, err := k.Post.Posts(ctx, by, g, to, "", 10)
		if err != nil {
			t.Fatal(err)
		}
		return p
	}
	first := posts(owner, "")
	if len(first.Items) != 1 || !first.Items[0].Going || first.Items[0].Decision.Outcome != "allow" || first.Items[0].State != "accepted" {
		t.Fatalf("%+v", first)
	}
	id := first.Items[0].ID
	states := func(by workspace.Actor, to, state string) string {
		t.Helper()
		p, err := k.Post.Deliveries(ctx, by, id, to, state, "", 10)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, d := range p.Items {
			local, _, _ := strings.Cut(d.Recipient, "@")
			out = append(out, local+" "+d.State)
			if (d.State == "refused" || d.State == "trying") && (d.Reply == "" || d.Attempts != 1 || d.At == nil) {
				t.Errorf("%+v", d)
			}
		}
		if int(p.Total) != len(out) {
			t.Errorf("%d of %d", len(out), p.Total)
		}
		return strings.Join(out, ", ")
	}
	if got := states(owner, "", ""); got != "agent waiting, bram.tolley waiting, oda.fenn waiting, tove.alder waiting" {
		t.Errorf("before: %s", got)
	}
	handOver(t, k, map[string]post.Result{"agent@port.example": {Outcome: post.GivenUp, Reply: "550 5.1.1 No such box."}, kit.Moderator: {Outcome: post.Later, Reply: "451 4.7.1 Later."}})
	if got := states(owner, "", ""); got != "agent refused, bram.tolley trying, oda.fenn handed_over, tove.alder handed_over" {
		t.Errorf("after: %s", got)
	}
	if got := states(owner, "", "refused"); got != "agent refused" {
		t.Errorf("refused: %s", got)
	}
	if got := states(owner, "Oda.Fenn@"+kit.Domain, ""); got != "oda.fenn handed_over" {
		t.Errorf("of one: %s", got)
	}
	if x := posts(owner, "").Items[0]; x.HandedOver == nil || *x.HandedOver != 2 || *x.Failed != 2 || !x.Going || x.Says != "Handed over for 2 people, and not for 2; it goes on." {
		t.Errorf("%+v", x)
	}
	// its author sees it, a member what reached them, and nobody else anything
	if got := states(k.Actor(t, kit.Member), "", ""); got != "agent refused, bram.tolley trying, oda.fenn handed_over, tove.alder handed_over" {
		t.Errorf("the author: %s", got)
	}
	if _, err := k.Reach.ChangePolicy(ctx, ines, g, kit.Policy("see_people=owners"), 0); err != nil {
		t.Fatal(err)
	}
	p, err := k.Post.Deliveries(ctx, k.Actor(t, kit.Member), id, "", "", "", 10)
	if err != nil || len(p.Items) != 1 || p.Items[0].Recipient != kit.Member || p.Hidden == "" || p.Total != 1 {
		t.Errorf("an author who doesn't see the people: %+v, %v", p, err)
	}
	for _, who := range []string{kit.Owner, kit.Moderator, kit.Colleague, "nobody@" + kit.Domain} { // whether they got it, or are there at all, is told by nothing
		p, err := k.Post.Deliveries(ctx, k.Actor(t, kit.Member), id, who, "", "", 10)
		if err != nil || len(p.Items) != 0 || p.Hidden != "" || p.Total != 0 {
			t.Errorf("whether it reached %s: %+v, %v", who, p, err)
		}
	}
	if x := posts(k.Actor(t, kit.Member), "").Items[0]; x.HandedOver != nil || x.Failed != nil || x.Says != "It could not be handed to everybody, or not yet." {
		t.Errorf("%+v", x)
	}
	if _, err := k.Post.Deliveries(ctx, k.Actor(t, kit.Colleague), id, "", "", "", 10); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("a colleague: %v", err)
	}
	if p := posts(k.Actor(t, kit.Colleague), ""); len(p.Items) != 0 || p.Total != 0 {
		t.Errorf("a colleague: %+v", p)
	}
	if _, err := k.Post.Posts(ctx, k.Actor(t, kit.Member), g, kit.Owner, "", 10); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("a member asks about the owner: %v", err)
	}
	k.Letters(t)
	if x := kit.First(k.Post.Posts(ctx, k.Actor(t, kit.Moderator), g, kit.Moderator, "", 10)); len(x.Items) != 1 {
		t.Errorf("a moderator, of themselves: %+v", x)
	}
	if p := posts(owner, "agent@port.example"); len(p.Items) != 1 {
		t.Errorf("what the outsider was to get: %+v", p)
	}
	if p := kit.First(k.Post.Posts(ctx, ines, other, "", "", 10)); len(p.Items) != 0 {
		t.Errorf("of another group: %+v", p)
	}
	// again, to one of them
	for to, kind := range map[string]workspace.Kind{kit.Moderator: workspace.Conflict, kit.Colleague: workspace.Invalid, "nobody": workspace.Invalid} {
		if _, err := k.Post.SendAgain(ctx, owner, id, to); !workspace.IsKind(err, kind) {
			t.Errorf("again to %s: %v", to, err)
		}
	}
	if _, err := k.Post.SendAgain(ctx, k.Actor(t, kit.Member), id, kit.Member); !workspace.IsKind(err, workspace.NotAllowed) {
		t.Errorf("the author sends it again: %v", err)
	}
	looked := kit.Preview(t, owner, func(by workspace.Actor) error {
		return kit.Last(k.Post.SendAgain(ctx, by, id, "agent@port.example"))
	})
	if looked.Says != `"Berths" goes to agent@port.example again.` {
		t.Errorf("%q", looked.Says)
	}
	if d, err := k.Post.SendAgain(ctx, owner, id, "Agent@Port.example"); err != nil || d.State != "waiting" {
		t.Errorf("%+v, %v", d, err)
	}
	if _, err := k.Post.SendAgain(ctx, owner, id, "agent@port.example"); !workspace.IsKind(err, workspace.Conflict) {
		t.Errorf("twice: %v", err)
	}
	handOver(t, k, nil)
	if got := states(owner, "agent@port.example", ""); got != "agent handed_over" {
		t.Errorf("again: %s", got)
	}
	if e := kit.First(k.History.List(ctx, ines, g, `kind eq "mail.retry"`, "", 1)).Items; len(e) != 1 || e[0].Says != `Oda Fenn sent the message "Berths" by tove.alder@merrowline.example to agent@port.example again.` {
		t.Errorf("%+v", e)
	}
}

// A list of deliveries has each recipient once, on however many pages.
func TestPagesOfDeliveries(t *testing.T) {
	k := k.Fresh(t, "tracepages")
	owner := k.Actor(t, kit.Owner)
	g := k.Make(t, "Paged", func(n *api.NewGroup) {
		n.Owners = []string{kit.Owner}
		n.PolicyPatch.Set("externals", "adders")
		n.People = nil
		for i := range 25 {
			n.People = append(n.People, api.NewPerson{Address: fmt.Sprintf("agent-%02d@port.example", i)})
		}
	}).Address
	k.Letters(t)
	if err := k.Send(t, g, kit.Owner, true, "Paged"); err != nil {
		t.Fatal(err)
	}
	id := kit.First(k.Post.Posts(ctx, owner, g, "", "", 1)).Items[0].ID
	handOver(t, k, nil)
	var got []string
	for cursor, page := "", 0; page < 10; page++ {
		p, err := k.Post.Deliveries(ctx, owner, id, "", "", cursor, 7)
		if err != nil || p.Total != 26 {
			t.Fatalf("%+v, %v", p, err)
		}
		for _, d := range p.Items {
			got = append(got, d.Recipient)
		}
		if cursor = p.Next; cursor == "" {
			break
		}
	}
	if len(got) != 26 || !slices.IsSorted(got) || len(slices.Compact(got)) != 26 {
		t.Errorf("%d: %v", len(got), got)
	}
	if _, err := k.Post.Deliveries(context.Background(), owner, id, "", "", "no cursor", 7); !workspace.IsKind(err, workspace.Invalid) {
		t.Errorf("%v", err)
	}
}

// Who decides about the posts of a group does not see by what became of one who is in a group nested in it that hides its people.
func TestDeliveriesOfAHiddenGroup(t *testing.T) {
	k := k.Fresh(t, "trace_hidden")
	inner := k.Make(t, "Trace Hidden", func(n *api.NewGroup) {
		n.Owners, n.People = []string{kit.Colleague}, nil
		n.PolicyPatch = kit.Policy("see_people=members")
	})
	outer := k.Make(t, "Trace Around")
	if _, err := k.Member.Add(ctx, k.Actor(t, kit.Administrator), outer.Address, api.NewMembers{People: []api.NewPerson{{Address: inner.Address}}}, 0); err != nil {
		t.Fatal(err)
	}
	k.Unagree(t, outer, inner)
	k.Letters(t)
	if err := k.Send(t, outer.Address, kit.Member, true, "around"); err != nil {
		t.Fatal(err)
	}
	handOver(t, k, nil)
	owner := k.Actor(t, kit.Owner)
	id := kit.First(k.Post.Posts(ctx, owner, outer.Address, "", "", 10)).Items[0].ID
	if all := kit.First(k.Post.Deliveries(ctx, k.Actor(t, kit.Administrator), id, "", "", "", 10)); all.Total != 4 || all.Hidden != "" {
		t.Fatalf("an administrator sees %+v", all)
	}
	p := kit.First(k.Post.Deliveries(ctx, owner, id, "", "", "", 10))
	if p.Total != 3 || p.Hidden == "" || slices.ContainsFunc(p.Items, func(d api.Delivery) bool { return d.Recipient == kit.Colleague }) {
		t.Errorf("its owner sees %+v", p)
	}
	if p := kit.First(k.Post.Deliveries(ctx, owner, id, kit.Colleague, "", "", 10)); p.Total != 0 || p.Hidden != "" {
		t.Errorf("asked about somebody in it, its owner sees %+v", p)
	}
}
