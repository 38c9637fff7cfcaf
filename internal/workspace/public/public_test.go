package public_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"sync"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/external"
)

const visitor = "quay.watch@gannetport.example"

// shows sets what the workspace shows on the internet.
func shows(t *testing.T, p api.PublicPages) {
	t.Helper()
	if _, err := k.Public.SetRules(ctx, k.Actor(t, kit.Administrator), p, 0); err != nil {
		t.Fatal(err)
	}
}

// open makes a group that anyone may find and ask to be in.
func open(t *testing.T, name, words string) api.Group {
	t.Helper()
	g := k.Make(t, name)
	if _, err := k.Reach.ChangePolicy(ctx, k.Actor(t, kit.Administrator), g.Address, kit.Policy("find=anyone join.audience=anyone join.how=asking externals=adders "+words), 0); err != nil {
		t.Fatal(err)
	}
	k.Letters(t)
	return g
}

var sources int

// nobody is somebody who is not signed in, each from a network of their own.
func nobody() workspace.Actor {
	sources++
	return workspace.Actor{Source: fmt.Sprintf("198.51.%d.%d", sources/200, sources%200)}
}

func approach(t *testing.T, ref, address string) string {
	t.Helper()
	out, err := k.Public.Approach(ctx, nobody(), ref, api.Approach{Address: address, Name: "Quay Watch", Note: "We keep the berths."})
	if err != nil {
		t.Fatal(err)
	}
	return out.Says
}

// secret returns the secret of the link in the letter that somebody got last; "" for none.
func secret(t *testing.T, mark string) string {
	t.Helper()
	out := ""
	for _, l := range k.Letters(t) {
		if _, rest, found := strings.Cut(l.Text, mark); found {
			out = rest[:32]
		}
	}
	return out
}

const proofs = "/public/proofs/"

func TestNothingIsPublicUntilSomebodySaysSo(t *testing.T) {
	g := open(t, "Quiet Harbour", "")
	ines := k.Actor(t, kit.Administrator)
	shows(t, api.PublicPages{})
	if _, err := k.Public.Read(ctx, nobody(), g.Address); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("a page while there are none: %v", err)
	}
	if _, err := k.Public.Approach(ctx, nobody(), g.Address, api.Approach{Address: visitor}); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("joining while there are no pages: %v", err)
	}
	p, _, err := k.Reach.Policy(ctx, ines, g.Address)
	if err != nil || len(p.Warnings) == 0 || !strings.Contains(p.Warnings[len(p.Warnings)-1].Says, "no public pages") {
		t.Errorf("the group does not say so: %+v, %v", p.Warnings, err)
	}
	shows(t, api.PublicPages{Pages: true})
	if _, err := k.Public.List(ctx, nobody(), "", "", 10); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("a list that nobody wanted: %v", err)
	}
	if _, err := k.Public.Read(ctx, nobody(), g.Address); err != nil {
		t.Error(err)
	}
	shows(t, api.PublicPages{Pages: true, List: true})
	list, err := k.Public.List(ctx, nobody(), "quiet", "", 10)
	if err != nil || len(list.Items) != 1 || list.Items[0].Address != g.Address {
		t.Errorf("%+v, %v", list, err)
	}
	if p, _, _ := k.Reach.Policy(ctx, ines, g.Address); len(p.Warnings) != 0 {
		t.Errorf("%+v", p.Warnings)
	}
	if _, err := k.Public.SetRules(ctx, ines, api.PublicPages{List: true}, 0); !workspace.IsKind(err, workspace.Invalid) {
		t.Errorf("a list of no pages: %v", err)
	}
}

// What anyone may not find is answered as what is not there, and no name is shown that the policy does not show.
func TestPagesTellNoMoreThanThePolicy(t *testing.T) {
	shows(t, api.PublicPages{Pages: true, List: true})
	inside := k.Make(t, "Inside Only")
	g := open(t, "Open Water", "")
	words := func(err error) string { return strings.ReplaceAll(err.Error(), "x", "") }
	_, none := k.Public.Read(ctx, nobody(), "nothing@merrowline.example")
	_, hidden := k.Public.Read(ctx, nobody(), inside.Address)
	_, odd := k.Public.Read(ctx, nobody(), "no address")
	if words(none) != words(hidden) || words(none) != words(odd) {
		t.Errorf("%v, %v, %v", none, hidden, odd)
	}
	_, none = k.Public.Approach(ctx, nobody(), "nothing@merrowline.example", api.Approach{Address: visitor})
	_, hidden = k.Public.Approach(ctx, nobody(), inside.Address, api.Approach{Address: visitor})
	if words(none) != words(hidden) {
		t.Errorf("%v, %v", none, hidden)
	}
	page, err := k.Public.Read(ctx, nobody(), g.Address)
	if err != nil || page.Joining != "asking" || page.Owners != "" || page.MayWrite || page.People != nil || page.Number != 0 {
		t.Errorf("%+v, %v", page, err)
	}
	all, _ := json.Marshal(page)
	for _, name := range []string{"Oda", "Fenn", "oda.fenn"} {
		if strings.Contains(string(all), name) {
			t.Errorf("%s names %s", all, name)
		}
	}
	if _, err := k.Reach.ChangePolicy(ctx, k.Actor(t, kit.Administrator), g.Address, kit.Policy("see_people=anyone write_owners=anyone post=anyone"), 0); err != nil {
		t.Fatal(err)
	}
	page, err = k.Public.Read(ctx, nobody(), g.Address)
	if err != nil || len(page.People) == 0 || page.Number != len(page.People) || page.Owners != "open-water-owners@merrowline.example" || !page.MayWrite || !strings.Contains(page.Writing, "waits") {
		t.Errorf("%+v, %v", page, err)
	}
	for _, n := range page.People {
		if strings.Contains(n, "@") {
			t.Errorf("an address stands for a name: %s", n)
		}
	}
	if err := kit.Last(k.Life.Retire(ctx, k.Actor(t, kit.Administrator), g.Address, 0)); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Public.Read(ctx, nobody(), g.Address); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("the page of a group that has ended: %v", err)
	}
}

func TestAskingFromOutside(t *testing.T) {
	shows(t, api.PublicPages{Pages: true})
	g := open(t, "Berth Talk", "")
	oda := k.Actor(t, kit.Owner)
	said := approach(t, g.Address, visitor)
	s := secret(t, proofs)
	link, err := k.Public.Proof(ctx, s)
	if err != nil || link.Outcome != "open" || link.Joining != "asking" || link.Address != visitor {
		t.Fatalf("%+v, %v", link, err)
	}
	if all := kit.First(k.Joining.Requests(ctx, oda, g.Address, false, "", 10)); len(all.Items) != 0 {
		t.Fatalf("looking at the link asks: %+v", all.Items)
	}
	if link, err = k.Public.Prove(ctx, nobody(), s); err != nil || link.Outcome != "asked" {
		t.Fatalf("%+v, %v", link, err)
	}
	if _, err = k.Public.Prove(ctx, nobody(), s); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("the link is good twice: %v", err)
	}
	all := kit.First(k.Joining.Requests(ctx, oda, g.Address, false, "", 10))
	if len(all.Items) != 1 || all.Items[0].Person.Name != "Quay Watch" || !all.Items[0].External || all.Items[0].Note != "We keep the berths." || all.Items[0].About != workspace.FromOutside {
		t.Fatalf("%+v", all.Items)
	}
	if w := kit.First(k.Waiting.List(ctx, oda, g.Address, nil, "", 10)); len(w.Items) != 1 || !w.Items[0].External {
		t.Errorf("%+v", w.Items)
	}
	if _, err := k.External.SetRules(ctx, k.Actor(t, kit.Administrator), api.ExternalRules{Allowed: true, Days: 90}, 0); err != nil {
		t.Fatal(err)
	}
	defer k.External.SetRules(ctx, k.Actor(t, kit.Administrator), api.ExternalRules{Allowed: true}, 0)
	k.Letters(t)
	if err := k.Decide(oda, all.Items[0].ID, "approve", "Welcome aboard"); err != nil {
		t.Fatal(err)
	}
	own := secret(t, "/own/")
	if part, err := k.External.Own(ctx, own); err != nil || part.State != "in" || part.Until == "" {
		t.Errorf("the letter of whoever was approved leads to %+v, %v", part, err)
	}
	row := kit.First(k.External.List(ctx, oda, external.Query{Group: g.Address, Limit: 5})).Items[0]
	if row.Voucher == nil || row.Voucher.Address != kit.Owner || row.Until == "" {
		t.Errorf("who approves vouches: %+v", row)
	}
	if again := approach(t, g.Address, visitor); again != said {
		t.Errorf("who is in it is told so by the page: %q, %q", again, said)
	}
	if own = secret(t, "/own/"); own == "" {
		t.Error("who is in it gets a letter with no link of their own")
	}
}

// The answer is the same, and no letter goes out, for whoever must not come in.
func TestWhoGetsNoLetter(t *testing.T) {
	shows(t, api.PublicPages{Pages: true})
	g := open(t, "Shut Out", "join.how=freely")
	ines := k.Actor(t, kit.Administrator)
	if err := k.Rules.SetOverride(ctx, ines, g.Address, "pest@gannetport.example", api.NewOverride{Override: "barred"}, 0); err != nil {
		t.Fatal(err)
	}
	k.Letters(t)
	want := strings.Replace(approach(t, g.Address, "good@gannetport.example"), "good@gannetport.example", "X", 1)
	if n := len(k.Letters(t)); n != 1 {
		t.Fatalf("%d letters", n)
	}
	for _, who := range []string{"pest@gannetport.example", kit.Left, "invented@merrowline.example", g.Address} {
		if got := strings.Replace(approach(t, g.Address, who), who, "X", 1); got != want {
			t.Errorf("%s is told %q, others %q", who, got, want)
		}
		if all := k.Letters(t); len(all) != 0 {
			t.Errorf("%s: %+v", who, all)
		}
	}
	if approach(t, g.Address, kit.Colleague); !strings.Contains(k.Letters(t)[0].Text, "You have an account") {
		t.Error("a colleague isn't told that they have an account")
	}
	if _, err := k.External.SetRules(ctx, ines, api.ExternalRules{Allowed: true, Not: []string{"lucky-draw.example"}}, 0); err != nil {
		t.Fatal(err)
	}
	defer k.External.SetRules(ctx, ines, api.ExternalRules{Allowed: true}, 0)
	if _, err := k.Public.Approach(ctx, nobody(), g.Address, api.Approach{Address: "win@lucky-draw.example"}); !workspace.IsKind(err, workspace.Invalid) {
		t.Errorf("a domain that the workspace refuses: %v", err)
	}
	for _, bad := range []api.Approach{{Address: "nobody"}, {Address: "a@b@c"}, {Address: visitor, Name: "Quay\nBcc: all@merrowline.example"}, {Address: visitor, Name: "\u202eQuay"}} {
		if _, err := k.Public.Approach(ctx, nobody(), g.Address, bad); !workspace.IsKind(err, workspace.Invalid) {
			t.Errorf("%+v: %v", bad, err)
		}
	}
}

// Nobody can be flooded with letters, and one network can't cause many.
func TestLettersAreBounded(t *testing.T) {
	shows(t, api.PublicPages{Pages: true})
	g := open(t, "Flood Gate", "")
	var wait sync.WaitGroup
	for i := range 40 {
		by := workspace.Actor{Source: fmt.Sprintf("203.0.113.%d", i)}
		wait.Go(func() {
			_, _ = k.Public.Approach(ctx, by, g.Address, api.Approach{Address: "victim@gannetport.example"})
		})
	}
	wait.Wait()
	if n := len(k.Letters(t)); n == 0 || n > 3 {
		t.Errorf("%d letters to one address", n)
	}
	refused := 0
	for i := range 40 {
		_, err := k.Public.Approach(ctx, workspace.Actor{Source: fmt.Sprintf("2001:db8:1:2::%x", i)}, g.Address, api.Approach{Address: fmt.Sprintf("someone-%d@gannetport.example", i)})
		if workspace.IsKind(err, workspace.Throttled) {
			refused++
		} else if err != nil {
			t.Fatal(err)
		}
	}
	if n := len(k.Letters(t)); n != 30 || refused != 10 {
		t.Errorf("%d letters by one network, %d refused", n, refused)
	}
	looked := 0
	for range 700 {
		if _, err := k.Public.Read(ctx, workspace.Actor{Source: "203.0.113.250"}, g.Address); err == nil {
			looked++
		}
	}
	if looked < 300 || looked > 600 { // they may begin in one minute and end in the next
		t.Errorf("%d of 700 pages, of 300 a minute", looked)
	}
}

// Of many who use a link at once one comes in, once; and who closed the group meanwhile has the last word.
func TestProvingAtOnce(t *testing.T) {
	shows(t, api.PublicPages{Pages: true})
	g := open(t, "One Door", "join.how=freely")
	approach(t, g.Address, "early@gannetport.example")
	s := secret(t, proofs)
	var wait sync.WaitGroup
	var mu sync.Mutex
	done := 0
	for range 30 {
		wait.Go(func() {
			if p, err := k.Public.Prove(ctx, workspace.Actor{}, s); err == nil && p.Outcome == "done" {
				mu.Lock()
				done++
				mu.Unlock()
			}
		})
	}
	wait.Wait()
	var events, people int
	k.SQL(t, "SELECT COUNT(*) FROM people WHERE address = 'early@gannetport.example'", &people)
	k.SQL(t, "SELECT COUNT(*) FROM history WHERE kind = 'people.join' AND group_id = '"+g.ID+"'", &events)
	if done != 1 || events != 1 || people != 1 {
		t.Errorf("%d came in, %d events, %d people", done, events, people)
	}
	row := kit.First(k.External.List(ctx, k.Actor(t, kit.Owner), external.Query{Group: g.Address, Limit: 5})).Items[0]
	if row.Voucher != nil {
		t.Errorf("somebody vouches for who came of themselves: %+v", row)
	}
	k.SQL(t, "DELETE FROM spent")
	k.Letters(t)
	approach(t, g.Address, "late@gannetport.example")
	s = secret(t, proofs)
	for _, words := range []string{"find=workspace join.audience=workspace", "find=anyone join.audience=workspace", "find=anyone join.audience=anyone externals=owners"} {
		if _, err := k.Reach.ChangePolicy(ctx, k.Actor(t, kit.Administrator), g.Address, kit.Policy(words), 0); err != nil {
			t.Fatal(err)
		}
		p, err := k.Public.Prove(ctx, workspace.Actor{Preview: true}, s)
		if workspace.Previewed(err) && p.Outcome == "asked" && strings.Contains(words, "owners") {
			continue
		}
		if err == nil || workspace.Previewed(err) {
			t.Errorf("%s: %+v, %v", words, p, err)
		}
	}
	k.Move(3)
	if _, err := k.Public.Proof(ctx, s); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("a link of three days ago: %v", err)
	}
}

// Where owners alone bring external members, they approve who asks from outside, and moderators don't; who could come
// in freely asks them, too.
func TestOwnersAloneLetOutsidersIn(t *testing.T) {
	shows(t, api.PublicPages{Pages: true})
	g := open(t, "Owners Door", "join.how=freely externals=owners")
	k.SQL(t, "DELETE FROM spent")
	approach(t, g.Address, "owned@gannetport.example")
	if p, err := k.Public.Prove(ctx, nobody(), secret(t, proofs)); err != nil || p.Outcome != "asked" {
		t.Fatalf("%+v, %v", p, err)
	}
	asked := kit.First(k.Joining.Requests(ctx, k.Actor(t, kit.Owner), g.Address, false, "", 10)).Items
	if len(asked) != 1 {
		t.Fatalf("%+v", asked)
	}
	if err := k.Decide(k.Actor(t, kit.Moderator), asked[0].ID, "approve", ""); err == nil || !strings.Contains(err.Error(), "Only owners and administrators") {
		t.Errorf("a moderator lets somebody external in: %v", err)
	}
	if err := k.Decide(k.Actor(t, kit.Owner), asked[0].ID, "approve", ""); err != nil {
		t.Errorf("an owner does not: %v", err)
	}
}
