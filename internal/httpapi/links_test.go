package httpapi_test

import (
	"regexp"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/external"
)

// Each link works for as long as that goes on which it stands for, and doesn't work again where the same begins anew.
func TestLinksEndWithWhatTheyStandFor(t *testing.T) {
	fresh(t, "links_end")
	f := newFixtures(t, "Linked")
	ines := k.Actor(t, kit.Administrator)
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	leaves := func(who string) { // and comes back
		must(kit.Last(k.Directory.Depart(ctx, ines, who, api.Departure{}, 0)))
		must(kit.Last(k.Directory.Return(ctx, ines, who, 0)))
		k.SetPassword(t, who)
	}
	add := func(ref, who, role string) {
		must(kit.Last(k.Member.Add(ctx, ines, ref, api.NewMembers{People: []api.NewPerson{{Address: who, Role: role}}}, 0)))
	}
	guest := func(ref string) string {
		return kit.First(k.External.List(ctx, ines, external.Query{Group: ref, Limit: 1})).Items[0].Person.Address
	}
	comesAgain := func(ref, who string) {
		must(k.Member.Remove(ctx, ines, ref, who, 0))
		k.Move(1) // into another day, and second
		add(ref, who, "")
	}
	tried := map[string]bool{}
	closed := regexp.MustCompile(`"group":{"name":"","address":""},"description":"","sentence":"","owners":\[\],.*"state":"called back"`)
	for _, c := range []struct {
		op, what string // with the link's secret first
		ends     func(of []string)
	}{
		{"read-calendar", "<calendar>", func([]string) { leaves(kit.Owner) }},
		{"read-told", "<told> <told group>", func(of []string) { leaves(kit.Owner); add(of[1], kit.Owner, "owner") }},
		{"read-told", "<told> <told group>", func(of []string) {
			must(kit.Last(k.Member.ChangeOne(ctx, ines, of[1], kit.Member, api.MemberPatch{Role: "owner"}, 0)))
			must(k.Member.Remove(ctx, ines, of[1], kit.Owner, 0))
		}},
		{"read-round-letter", "<round letter>", func([]string) { leaves(kit.Owner) }},
		{"read-caretaking", "<care>", func([]string) {
			terms := kit.First(k.Life.Terms(ctx, ines))
			was := terms.Caretakers
			for _, terms.Caretakers = range [][]api.Caretaker{{{Address: kit.Auditor}}, was} {
				must(kit.Last(k.Life.SetTerms(ctx, ines, terms, 0)))
			}
		}},
		{"read-own-part", "<own> <externals group>", func(of []string) { comesAgain(of[1], guest(of[1])) }},
		{"read-proof", "<proof> <proving>", func(of []string) { must(kit.Last(k.Life.Retire(ctx, ines, of[1], 0))) }},
		{"read-invitation", "<invitation> <inviting>", func(of []string) {
			must(k.Joining.CallBackInvitation(ctx, ines, of[1], "guest@gannetport.example"))
		}},
		{"read-join-link", "<link-secret> <linking> <link>", func(of []string) { must(k.Joining.CallBackLink(ctx, ines, of[1], of[2])) }},
		{"read-password-link", "<password-link> <who>", func(of []string) { leaves(of[1]) }},
	} {
		tried[c.op] = true
		text := c.what
		f.fill(kit.Administrator, &text)
		of := strings.Fields(text)
		path := strings.Replace(operations()[c.op].Path, "{secret}", of[0], 1)
		if status, says := ask(t, kit.Administrator, "GET", path, ""); status != 200 {
			t.Errorf("%s: %d %s", c.op, status, says)
		}
		c.ends(of)
		if status, says := ask(t, kit.Administrator, "GET", path, ""); status != 404 && !closed.MatchString(says) {
			t.Errorf("%s of what ended: %d %s", c.op, status, says)
		}
	}
	for id, op := range operations() {
		if op.Method == "GET" && strings.Contains(op.Path, "{secret}") && !tried[id] {
			t.Errorf("%s has a link, and no way in which it ends", id)
		}
	}
}
