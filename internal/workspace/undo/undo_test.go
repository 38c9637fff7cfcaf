package undo_test

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/external"
	"ivytable.example/ivytable/internal/workspace/member"
)

const outsider = "quay@gannetport.example"

// moving are fields that a change of anything moves on, and what says who changed it last.
var moving = regexp.MustCompile(`"(version|revision|id|renewed_at|made_at|made_by|set_at|set_by|change|since|at|by|added_at|added_by|joined_at|joined_by|changed_at|url|by_me|last_seen|expires_at|departed_at|decided_at|way)":("[^"]*"|\d+),?`)

func asText(t *testing.T, all ...any) string {
	t.Helper()
	b, err := json.MarshalIndent(all, "", " ")
	if err != nil {
		t.Fatal(err)
	}
	return moving.ReplaceAllString(strings.ReplaceAll(string(b), `": `, `":`), "")
}

// stateOf is all that stands in a group.
func stateOf(t *testing.T, ref string) string {
	t.Helper()
	ines := k.Actor(t, kit.Administrator)
	g, err := k.Group.Read(ctx, ines, ref)
	if err != nil {
		t.Fatal(err)
	}
	people, err := k.Members(ines, ref, member.Query{Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	settled, err := k.Member.Overrides(ctx, ines, ref, "", 100)
	if err != nil {
		t.Fatal(err)
	}
	var of []string
	for _, o := range settled.Items {
		of = append(of, o.Address+" "+o.Override)
	}
	rule, err := k.Rules.Read(ctx, ines, ref)
	if err != nil && !workspace.IsKind(err, workspace.NotFound) {
		t.Fatal(err)
	}
	open, err := k.Joining.Invitations(ctx, ines, ref, "", 100)
	if err != nil {
		t.Fatal(err)
	}
	links, err := k.Joining.Links(ctx, ines, ref, "", 100)
	if err != nil {
		t.Fatal(err)
	}
	outside, err := k.External.List(ctx, ines, external.Query{Group: ref, Limit: 100})
	if err != nil {
		t.Fatal(err)
	}
	slices.SortFunc(people.Items, func(a, b api.Member) int { return strings.Compare(a.Address, b.Address) })
	return asText(t, g, people.Items, of, rule.Expression, rule.Guard, open.Total, links.Total, outside.Items)
}

// newest is the last entry of a kind, or of any.
func newest(t *testing.T, kind string) int64 {
	t.Helper()
	h, err := k.History.List(ctx, k.Actor(t, kit.Administrator), "", fmt.Sprintf("kind eq %q", kind), "", 1)
	if err != nil || len(h.Items) == 0 {
		t.Fatalf("no entry of %s: %v", kind, err)
	}
	return h.Items[0].ID
}

// undone takes an entry back, after a look that changes nothing; state says what it is about.
func undone(t *testing.T, kind string, state func() string) {
	t.Helper()
	ines := k.Actor(t, kit.Administrator)
	k.MoveBy(time.Second) // what is retired twice is so at two times
	id := newest(t, kind)
	was := state()
	looked := kit.Preview(t, ines, func(by workspace.Actor) error { return kit.Last(k.Undo.Entry(ctx, by, id)) })
	if looked.Says == "" && len(looked.Effects) == 0 {
		t.Errorf("%s: a look says nothing", kind)
	}
	if now := state(); now != was {
		t.Errorf("%s: a look changed\n%s\nto\n%s", kind, was, now)
	}
	u, err := k.Undo.Entry(ctx, ines, id)
	if err != nil {
		t.Errorf("%s: %v", kind, err)
	} else if u.Says != looked.Says && u.Change == "" || u.Entry != id {
		t.Errorf("%+v", u)
	}
	for range 20 {
		if err := k.Bulk.Run(ctx); err != nil {
			t.Fatal(err)
		}
	}
}

// Every kind that says that it can be undone is undone to what was, to the letter, and a second time it is refused.
func TestEveryKind(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	last := func(_ any, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	done := map[string]bool{}
	// in a group
	n := 0
	group := func(kind string, does func(ref string), before ...func(ref string)) {
		t.Helper()
		done[kind] = true
		n++
		ref := k.Make(t, fmt.Sprintf("Undone %d", n), func(g *api.NewGroup) {
			g.Owners = []string{kit.Owner}
			g.People = []api.NewPerson{{Address: kit.Member, Role: "member"}, {Address: kit.Moderator, Role: "moderator"}}
			g.PolicyPatch.Set("externals", "adders")
		}).Address
		for _, f := range before {
			f(ref)
		}
		was := stateOf(t, ref)
		does(ref)
		if stateOf(t, ref) == was {
			t.Errorf("%s changes nothing", kind)
		}
		undone(t, kind, func() string { return stateOf(t, ref) })
		if now := stateOf(t, ref); now != was {
			t.Errorf("%s: undone it is\n%s\nnot\n%s", kind, now, was)
		}
	}
	add := func(people ...api.NewPerson) func(string) {
		return func(ref string) {
			last(k.Member.Add(ctx, ines, ref, api.NewMembers{People: people}, 0))
		}
	}
	group("group.change", func(ref string) {
		last(k.Group.Change(ctx, ines, ref, api.GroupPatch{Name: new("Other"), Description: new("Another."), Language: new("de"), Welcome: new("Hello"), Traits: &[]string{"desk", "archive"}, Delivery: new("none"),
			Aliases: &[]string{"an-alias@" + kit.Domain, "another-alias@" + kit.Domain}, Exempt: new("For good"), Mail: api.MailPatch{Tag: new("tag"), Footer: new("The end"), AnswerDays: new(9), Notice: new("Away")}}, 0))
	})
	group("group.change", func(ref string) {
		last(k.Group.Change(ctx, ines, ref, api.GroupPatch{Address: new("moved-away@" + kit.Domain)}, 0))
	})
	group("policy.change", func(ref string) {
		last(k.Reach.ChangePolicy(ctx, ines, ref, kit.Policy("post=anyone hold=outsiders find=workspace"), 0))
	})
	group("group.hold", func(ref string) { last(k.Life.Hold(ctx, ines, ref, api.Hold{Reason: "A case"}, 0)) })
	group("group.release", func(ref string) { last(k.Life.Release(ctx, ines, ref, 0)) }, func(ref string) { last(k.Life.Hold(ctx, ines, ref, api.Hold{Reason: "A case"}, 0)) })
	group("group.retire", func(ref string) { last(k.Life.Retire(ctx, ines, ref, 0)) })
	group("people.add", add(api.NewPerson{Address: kit.Colleague, Role: "owner"}, api.NewPerson{Address: outsider}))
	group("people.remove", func(ref string) {
		last(k.Member.Change(ctx, ines, ref, api.MembersPatch{Members: []string{kit.Member, kit.Moderator}, Remove: true}, 0))
	})
	group("people.change", func(ref string) {
		last(k.Member.Change(ctx, ines, ref, api.MembersPatch{Members: []string{kit.Member, kit.Moderator}, Role: "owner"}, 0))
	})
	group("people.change", func(ref string) {
		last(k.Member.Change(ctx, ines, ref, api.MembersPatch{Members: []string{kit.Member, kit.Moderator}, Delivery: "none"}, 0))
	}, func(ref string) {
		last(k.Member.Change(ctx, ines, ref, api.MembersPatch{Members: []string{kit.Moderator}, Delivery: "none"}, 0))
	})
	group("people.invite", func(ref string) {
		last(k.Member.Add(ctx, ines, ref, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: kit.Colleague}, {Address: outsider}}}, 0))
	})
	group("people.join", func(ref string) { last(k.Joining.Join(ctx, k.Actor(t, kit.Colleague), ref, api.JoinRequest{})) }, func(ref string) {
		last(k.Reach.ChangePolicy(ctx, ines, ref, kit.Policy("find=workspace join.audience=workspace join.how=freely"), 0))
	})
	group("join_link.create", func(ref string) { last(k.Joining.CreateLink(ctx, ines, ref, api.NewJoinLink{})) })
	group("people.vouch", func(ref string) {
		x, err := k.External.List(ctx, ines, external.Query{Group: ref, Limit: 1})
		if err != nil {
			t.Fatal(err)
		}
		all, err := k.External.Change(ctx, ines, api.ExternalsPatch{IDs: []string{x.Items[0].ID}, Voucher: kit.Owner, Reason: new("The new berths")})
		if err != nil || all.Decided != 1 {
			t.Fatalf("%+v, %v", all, err)
		}
	}, add(api.NewPerson{Address: outsider}))
	group("override.set", func(ref string) {
		last(nil, k.Rules.SetOverride(ctx, ines, ref, kit.Colleague, api.NewOverride{Override: "held"}, 0))
	})
	group("override.set", func(ref string) {
		last(nil, k.Rules.SetOverride(ctx, ines, ref, kit.Colleague, api.NewOverride{Override: "none"}, 0))
	}, func(ref string) {
		last(nil, k.Rules.SetOverride(ctx, ines, ref, kit.Colleague, api.NewOverride{Override: "barred"}, 0))
	})
	rule := func(expression string, guard int) func(string) {
		return func(ref string) {
			last(k.Rules.Set(ctx, ines, ref, api.NewRule{Expression: expression, Guard: &guard, Confirm: true}, 0))
		}
	}
	group("rule.set", rule(`department eq "Dispatch"`, 20))
	group("rule.set", rule(`department eq "Deck"`, 50), rule(`department eq "Dispatch"`, 20))
	group("rule.delete", func(ref string) { last(nil, k.Rules.Delete(ctx, ines, ref, false, 0)) }, rule(`department eq "Dispatch"`, 20))
	group("owners.set", func(ref string) {
		b, err := k.Bulk.Begin(ctx, ines, api.NewBulk{Groups: []string{ref}, Owners: &api.OwnersChange{Add: []string{kit.Colleague}, Replace: true}})
		last(b, err)
		last(nil, k.Bulk.Run(ctx))
	})
	group("groups.change", func(ref string) {
		last(k.Bulk.Begin(ctx, ines, api.NewBulk{Groups: []string{ref}, Language: "de"}))
		last(nil, k.Bulk.Run(ctx))
	})
	inner := k.Make(t, "Undone Inner").Address
	group("consent.give", add(api.NewPerson{Address: inner}))
	group("consent.end", func(ref string) { last(nil, k.Consent.End(ctx, ines, inner, ref, "")) }, add(api.NewPerson{Address: inner}))

	outer := k.Make(t, "Undone Outer").Address
	add(api.NewPerson{Address: inner})(outer)
	agreed := func() string { return asText(t, kit.First(k.Consent.Of(ctx, ines, outer, "", 10)).Items) }
	was := agreed()
	last(k.Consent.Give(ctx, ines, inner, outer, api.NewConsent{Consent: "seen"}))
	if agreed() == was {
		t.Error("nothing was agreed")
	}
	undone(t, "consent.give", agreed)
	if now := agreed(); now != was {
		t.Errorf("what was agreed is %s, not %s", now, was)
	}

	// of the workspace
	of := func(kind string, state func() any, does func(), before ...func()) {
		t.Helper()
		done[kind] = true
		for _, f := range before {
			f()
		}
		text := func() string { return asText(t, state()) }
		was := text()
		does()
		if text() == was {
			t.Errorf("%s changes nothing", kind)
		}
		undone(t, kind, text)
		if now := text(); now != was {
			t.Errorf("%s: undone it is\n%s\nnot\n%s", kind, now, was)
		}
	}
	ref := ""
	state := func() any {
		g, err := k.Group.Read(ctx, ines, ref)
		if ref == "" {
			return nil
		}
		last(g, err)
		return g.State
	}
	made := k.Make(t, "Undone Made").Address
	ref = made
	undone(t, "group.create", func() string { return asText(t, state()) })
	if state() != "retired" {
		t.Errorf("a group that was made is %s", state())
	}
	done["group.create"] = true
	of("group.restore", state, func() { last(k.Life.Restore(ctx, ines, ref, 0)) })

	tove := func() any {
		p, err := k.People.Read(ctx, ines, "undo.me@"+kit.Domain)
		if workspace.IsKind(err, workspace.NotFound) {
			return "nobody"
		}
		last(p, err)
		return p
	}
	last(k.Directory.Create(ctx, ines, api.NewPersonEntry{Address: "undo.me@" + kit.Domain, Name: "Undo Me", Attributes: map[string]string{"department": "Deck"}}))
	of("person.change", tove, func() {
		last(k.Directory.Change(ctx, ines, "undo.me@"+kit.Domain, api.PersonPatch{Name: new("Undo Them"), WorkspaceRole: new("auditor"), Attributes: map[string]string{"department": "", "title": "Bosun"}}, 0))
	})
	of("person.depart", tove, func() { last(k.Directory.Depart(ctx, ines, "undo.me@"+kit.Domain, api.Departure{}, 0)) })
	last(k.Directory.Depart(ctx, ines, "undo.me@"+kit.Domain, api.Departure{}, 0))
	of("person.return", tove, func() { last(k.Directory.Return(ctx, ines, "undo.me@"+kit.Domain, 0)) })
	last(k.Directory.Create(ctx, ines, api.NewPersonEntry{Address: "undo.new@" + kit.Domain, Name: "Undo New"}))
	undone(t, "person.create", func() string { return asText(t, tove()) })
	if p := kit.First(k.People.Read(ctx, ines, "undo.new@"+kit.Domain)); p.Active {
		t.Error("whoever was put into the directory is still here")
	}
	done["person.create"] = true

	domains := func() any { return kit.First(k.Domains.List(ctx, ines)).Items }
	of("domain.add", domains, func() { last(k.Domains.Add(ctx, ines, api.NewDomain{Name: "undo.example"})) })
	last(k.Domains.Add(ctx, ines, api.NewDomain{Name: "undo.example"}))
	of("domain.retire", domains, func() { last(nil, k.Domains.Retire(ctx, ines, "undo.example", 0)) })
	of("domain.main", func() any { return kit.First(k.Domains.List(ctx, ines)).Items[0].Name }, func() { last(k.Domains.Lead(ctx, ines, "undo.example", 0)) })
	own := func() any { return kit.First(k.Attributes.List(ctx, ines)).Items }
	of("attribute.declare", own, func() { last(k.Attributes.Save(ctx, ines, "berth", api.NewAttribute{Label: "Berth"}, 0)) })
	last(k.Attributes.Save(ctx, ines, "berth", api.NewAttribute{Label: "Berth"}, 0))
	of("attribute.change", own, func() { last(k.Attributes.Save(ctx, ines, "berth", api.NewAttribute{Label: "Berths", Seen: true}, 0)) })

	terms := func() any { return kit.First(k.Life.Terms(ctx, ines)) }
	of("expiry.change", terms, func() {
		x := terms().(api.Terms)
		x.Rules = append([]api.TermRule{{Name: "Short", Filter: `name sw "Nothing like it"`, Length: "90 days", Notices: []int{30, 7}, RenewedBy: []string{"post"}}}, x.Rules...)
		x.RecoveryDays, x.Managers = 90, true
		x.Caretakers = []api.Caretaker{{Address: kit.Administrator, Filter: `name sw "Nothing like it"`}}
		last(k.Life.SetTerms(ctx, ines, x, 0))
	})
	naming := func() any { return kit.First(k.Naming.Read(ctx, ines)) }
	of("naming.change", naming, func() {
		x := naming().(api.Naming)
		x.Words, x.Pattern = []string{"undoing"}, "{name} group"
		last(k.Naming.Set(ctx, ines, x, 0))
	})
	of("protection.change", func() any { return kit.First(k.Protection.Read(ctx, ines)) }, func() {
		x := kit.First(k.Protection.Read(ctx, ines))
		x.Groups, x.Letters = 77, 777
		last(k.Protection.Set(ctx, ines, x, 0))
	})
	of("outside.change", func() any { return kit.First(k.External.Rules(ctx, ines)) }, func() {
		last(k.External.SetRules(ctx, ines, api.ExternalRules{Allowed: true, Only: []string{"port.example"}, Not: []string{"bad.port.example"}, Invited: true, Days: 30}, 0))
	})
	of("public.change", func() any { return kit.First(k.Public.Rules(ctx, ines)) }, func() { last(k.Public.SetRules(ctx, ines, api.PublicPages{Pages: true, List: true}, 0)) })
	areas := func() any { return kit.First(k.Area.List(ctx, ines)).Areas }
	of("areas.change", areas, func() {
		last(k.Area.Set(ctx, ines, api.NewAreas{Areas: []api.NewArea{{Name: "Coast", Filter: `name sw "Undone"`, Powers: []string{"people"}, Helpers: []string{kit.Owner}}}}, 0))
	}, func() {
		last(k.Area.Set(ctx, ines, api.NewAreas{Areas: []api.NewArea{{Name: "Islands", Filter: `name sw "Undone"`, Powers: []string{"change"}, Helpers: []string{kit.Colleague}}}}, 0))
	})
	of("ceilings.change", func() any { return kit.First(k.Bulk.Ceilings(ctx, ines)) }, func() {
		last(k.Bulk.SetCeilings(ctx, ines, api.NewCeilings{Ceilings: []api.NewCeiling{{Setting: "speak_as", AtMost: "owners", Reason: "None."}}}, 0))
	})
	of("review.change", func() any { return kit.First(k.Review.Limits(ctx, ines)) }, func() {
		x := kit.First(k.Review.Limits(ctx, ines))
		x.QuietDays, x.Off = 999, []string{"quiet"}
		last(k.Review.SetLimits(ctx, ines, x, 0))
	})
	of("history.keep", func() any { return kit.First(k.History.Keeping(ctx, ines)) }, func() {
		last(k.History.SetKeeping(ctx, ines, api.HistoryKeeping{Months: 36, SealsTo: []string{kit.Auditor}, Every: "month"}, 0))
	})
	of("departures.change", func() any { return kit.First(k.Directory.Departures(ctx, ines)) }, func() {
		last(k.Directory.SetDepartures(ctx, ines, api.DepartureRules{Owned: []string{"moderator", "caretaker"}, Vouched: []string{"owner"}}, 0))
	})
	starts := func() any { return kit.First(k.Naming.StartingPoints(ctx, ines)).Items }
	start := func(n api.NewStartingPoint) func() {
		return func() { last(k.Naming.SaveStartingPoint(ctx, ines, "undo-start", n, 0)) }
	}
	of("starting_point.save", starts, start(api.NewStartingPoint{Policy: kit.Policy("post=anyone hold=outsiders")}))
	start(api.NewStartingPoint{Policy: kit.Policy("post=anyone hold=outsiders"), Traits: []string{"desk"}, Welcome: new("Hello")})()
	of("starting_point.save", func() any { return kit.First(k.Naming.StartingPoint(ctx, ines, "undo-start")).Sentence }, start(api.NewStartingPoint{Title: "Other", Policy: kit.Policy("find=workspace post=workspace"), Traits: []string{"archive"}, Welcome: new("")}))
	of("starting_point.delete", starts, func() { last(nil, k.Naming.DeleteStartingPoint(ctx, ines, "undo-start", 0)) })
	kept := func() any { return kit.First(k.Views.List(ctx, ines, "groups")).Items }
	of("view.save", kept, func() {
		last(k.Views.Save(ctx, ines, "", api.NewView{Name: "Undo view", List: "groups", Filter: "owners eq 0"}, 0))
	})
	view := kit.First(k.Views.Save(ctx, ines, "", api.NewView{Name: "Undo view", List: "groups", Filter: "owners eq 0", Columns: []string{"name", "owners"}, Sort: "name"}, 0))
	of("view.save", kept, func() {
		last(k.Views.Save(ctx, ines, view.ID, api.NewView{Name: "Renamed", List: "groups", Filter: "owners eq 1", Shared: true}, 0))
	})
	of("view.delete", kept, func() { last(nil, k.Views.Delete(ctx, ines, view.ID, 0)) })

	day := k.Now().AddDate(0, 0, 40).Format("2006-01-02")
	round := kit.First(k.Round.Begin(ctx, ines, api.NewRound{Name: "Undo round", Filter: fmt.Sprintf("address eq %q", inner), Questions: []string{"needed"}, DueOn: day}))
	of("round.change", func() any { return kit.First(k.Round.Read(ctx, ines, round.ID)) }, func() {
		last(k.Round.Change(ctx, ines, round.ID, api.RoundPatch{Name: new("Another"), Note: new("Soon."), DueOn: new(k.Now().AddDate(0, 0, 60).Format("2006-01-02")), Reminders: &[]int{9, 2}, EveryMonths: new(6)}, 0))
	})
	undone(t, "round.begin", func() string { return round.ID })
	if r := kit.First(k.Round.Read(ctx, ines, round.ID)); r.State != "stopped" {
		t.Errorf("a round that was begun is %s", r.State)
	}
	done["round.begin"] = true

	// and no other says that it can be undone
	elsewhere := []string{"group.lapse", "round.answer", "rule.keep", "invitation.accept", "consent.ask"} // as others that are here, or below
	h, err := k.History.List(ctx, ines, "", "", "", 1000)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range h.Items {
		if e.Undo.Possible && !done[e.Kind] && !slices.Contains(elsewhere, e.Kind) {
			t.Errorf("nothing here undoes a %s", e.Kind)
		}
	}
}

// What was changed since stands against an undo, and nothing is half done.
func TestWhatStandsAgainst(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := k.Make(t, "Stands Against", func(g *api.NewGroup) {
		g.Owners = []string{kit.Owner}
		g.People = []api.NewPerson{{Address: kit.Member, Role: "member"}}
	}).Address
	refused := func(kind, says string) {
		t.Helper()
		was := stateOf(t, g)
		_, err := k.Undo.Entry(ctx, ines, newest(t, kind))
		if !workspace.IsKind(err, workspace.Conflict) || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", kind, err)
		}
		if now := stateOf(t, g); now != was {
			t.Errorf("%s was undone by half:\n%s\nnot\n%s", kind, now, was)
		}
	}
	change := func(p api.GroupPatch) int64 {
		t.Helper()
		if _, err := k.Group.Change(ctx, ines, g, p, 0); err != nil {
			t.Fatal(err)
		}
		return newest(t, "group.change")
	}
	first := change(api.GroupPatch{Description: new("One"), Welcome: new("Hello")})
	change(api.GroupPatch{Description: new("Two")})
	if _, err := k.Undo.Entry(ctx, ines, first); !workspace.IsKind(err, workspace.Conflict) || !strings.Contains(err.Error(), `Description was changed to "Two" since`) {
		t.Errorf("%v", err)
	}
	if got := kit.First(k.Group.Read(ctx, ines, g)); got.Welcome != "Hello" {
		t.Errorf("half of it was undone: %+v", got)
	}
	// the later one first, then it goes
	for _, id := range []int64{newest(t, "group.change"), first} {
		if _, err := k.Undo.Entry(ctx, ines, id); err != nil {
			t.Errorf("entry %d: %v", id, err)
		}
	}
	// who was put in and has another role since stays
	if _, err := k.Member.Add(ctx, ines, g, api.NewMembers{People: []api.NewPerson{{Address: kit.Colleague}}}, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Member.ChangeOne(ctx, ines, g, kit.Colleague, api.MemberPatch{Role: "moderator"}, 0); err != nil {
		t.Fatal(err)
	}
	refused("people.add", "Is moderator by now")
	// settings that somebody set since
	limits := kit.First(k.Review.Limits(ctx, ines))
	for _, days := range []int{400, 500} {
		limits.QuietDays = days
		if _, err := k.Review.SetLimits(ctx, ines, limits, 0); err != nil {
			t.Fatal(err)
		}
	}
	second := newest(t, "review.change")
	if _, err := k.Undo.Entry(ctx, ines, second); err != nil {
		t.Error(err)
	}
	if _, err := k.Undo.Entry(ctx, ines, second); !workspace.IsKind(err, workspace.Conflict) || !strings.Contains(err.Error(), "It was changed again after entry") {
		t.Errorf("twice: %v", err)
	}
	// the last owner stays
	if _, err := k.Member.ChangeOne(ctx, ines, g, kit.Member, api.MemberPatch{Role: "owner"}, 0); err != nil {
		t.Fatal(err)
	}
	made := newest(t, "people.change")
	if err := k.Member.Remove(ctx, ines, g, kit.Owner, 0); err != nil {
		t.Fatal(err)
	}
	if _, err := k.Undo.Entry(ctx, ines, made); !workspace.IsKind(err, workspace.Conflict) || !strings.Contains(err.Error(), "owner") {
		t.Errorf("the last owner: %v", err)
	}
	// what was done since, and undone, and done again
	since := func(says string, id int64) {
		t.Helper()
		if _, err := k.Undo.Entry(ctx, ines, id); !workspace.IsKind(err, workspace.Conflict) || !strings.Contains(err.Error(), says) {
			t.Errorf("entry %d: %v", id, err)
		}
	}
	must := func(_ any, err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		k.MoveBy(time.Minute)
	}
	must(k.Life.Hold(ctx, ines, g, api.Hold{Reason: "One case"}, 0))
	held := newest(t, "group.hold")
	must(k.Life.Release(ctx, ines, g, 0))
	must(k.Life.Hold(ctx, ines, g, api.Hold{Reason: "Another case"}, 0))
	since("did the like", held)
	must(k.Life.Release(ctx, ines, g, 0))
	must(k.Life.Retire(ctx, ines, g, 0))
	retired := newest(t, "group.retire")
	must(k.Life.Restore(ctx, ines, g, 0))
	must(k.Life.Retire(ctx, ines, g, 0))
	since("did the like", retired)
	must(k.Undo.Entry(ctx, ines, newest(t, "group.retire")))
	since("did the like", retired)
	added := func() int64 {
		must(k.Member.Add(ctx, ines, g, api.NewMembers{People: []api.NewPerson{{Address: "again@port.example"}}}, 0))
		return newest(t, "people.add")
	}
	must(k.Reach.ChangePolicy(ctx, ines, g, kit.Policy("externals=adders"), 0))
	in := added()
	must(nil, k.Member.Remove(ctx, ines, g, "again@port.example", 0))
	added()
	since("again since", in)
	invited := func() int64 {
		must(k.Member.Add(ctx, ines, g, api.NewMembers{Way: "invite", People: []api.NewPerson{{Address: "later@port.example"}}}, 0))
		return newest(t, "people.invite")
	}
	asked := invited()
	must(nil, k.Joining.CallBackInvitation(ctx, ines, g, "later@port.example"))
	invited()
	since("None of these invitations", asked)
	must(k.Member.ChangeOne(ctx, ines, g, kit.Colleague, api.MemberPatch{Role: "member", Delivery: "none"}, 0))
	since("Which of the two", newest(t, "people.change"))
	must(k.Directory.Create(ctx, ines, api.NewPersonEntry{Address: "to.and.fro@" + kit.Domain, Name: "To and Fro"}))
	must(k.Directory.Depart(ctx, ines, "to.and.fro@"+kit.Domain, api.Departure{}, 0))
	left := newest(t, "person.depart")
	must(k.Directory.Return(ctx, ines, "to.and.fro@"+kit.Domain, 0))
	must(k.Directory.Depart(ctx, ines, "to.and.fro@"+kit.Domain, api.Departure{}, 0))
	since("did the like", left)
	for _, d := range []string{"fro.example", "to.example"} {
		must(k.Domains.Add(ctx, ines, api.NewDomain{Name: d}))
	}
	before := kit.First(k.Domains.List(ctx, ines)).Items[0].Name
	must(k.Domains.Lead(ctx, ines, "fro.example", 0))
	led := newest(t, "domain.main")
	must(k.Domains.Lead(ctx, ines, "to.example", 0))
	since("to.example is the main", led)
	must(k.Domains.Lead(ctx, ines, before, 0))
	// what can't be undone says why
	h, err := k.History.List(ctx, ines, "", `kind eq "person.password_link" or kind eq "group.renew" or kind eq "rule.follow"`, "", 5)
	if err != nil {
		t.Fatal(err)
	}
	for _, e := range h.Items {
		if _, err := k.Undo.Entry(ctx, ines, e.ID); !workspace.IsKind(err, workspace.Conflict) || !strings.Contains(err.Error(), e.Undo.Says) {
			t.Errorf("%s: %v", e.Kind, err)
		}
	}
}

// Nobody undoes what they may not do, and who may not read an entry is told nothing of it.
func TestWhoMayUndo(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	g := k.Make(t, "Who Undoes", func(g *api.NewGroup) {
		g.Owners = []string{kit.Owner}
		g.People = []api.NewPerson{{Address: kit.Member}, {Address: kit.Moderator, Role: "moderator"}}
	}).Address
	if _, err := k.Reach.ChangePolicy(ctx, ines, g, kit.Policy("post=workspace"), 0); err != nil {
		t.Fatal(err)
	}
	policy := newest(t, "policy.change")
	if _, err := k.Life.Hold(ctx, ines, g, api.Hold{Reason: "A case"}, 0); err != nil {
		t.Fatal(err)
	}
	hold := newest(t, "group.hold")
	for who, want := range map[string][2]workspace.Kind{
		kit.Colleague: {workspace.NotFound, workspace.NotFound}, kit.Member: {workspace.NotFound, workspace.NotFound}, kit.Moderator: {workspace.NotFound, workspace.NotFound},
		kit.Auditor: {workspace.NotAllowed, workspace.NotAllowed}, kit.Owner: {-1, workspace.NotAllowed},
	} {
		for i, id := range []int64{policy, hold} {
			_, err := k.Undo.Entry(ctx, k.Actor(t, who), id)
			if want[i] < 0 && err != nil || want[i] >= 0 && !workspace.IsKind(err, want[i]) {
				t.Errorf("%s, entry %d: %v", who, id, err)
			}
		}
	}
	if _, err := k.Undo.Entry(ctx, workspace.Actor{}, policy); err == nil {
		t.Error("nobody undid something")
	}
	if _, err := k.Undo.Entry(ctx, ines, 1<<40); !workspace.IsKind(err, workspace.NotFound) {
		t.Errorf("%v", err)
	}
	if e := kit.First(k.History.Read(ctx, ines, newest(t, "policy.change"))); !strings.Contains(e.Says, fmt.Sprintf("to undo entry %d", policy)) {
		t.Errorf("the history says %q", e.Says)
	}
}
