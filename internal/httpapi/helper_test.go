package httpapi_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
)

// helpsWith hands all groups to somebody, with some powers.
func helpsWith(t *testing.T, who string, powers ...string) {
	t.Helper()
	n := api.NewAreas{Areas: []api.NewArea{{Name: "All of it", Filter: `domain eq "` + kit.Domain + `"`, Powers: append([]string{}, powers...), Helpers: []string{who}}}}
	if _, err := k.Area.Set(ctx, k.Actor(t, kit.Administrator), n, 0); err != nil {
		t.Fatal(err)
	}
}

// What a helper may do follows from the table of routes: with all powers, in the groups of their area, what
// their owners may; with none, what auditors may, who look at everything and change nothing; and to the
// workspace, what any colleague may.
func TestEveryRouteForHelpers(t *testing.T) {
	f := newFixtures(t, "Helping")
	who := f.person()
	k.SetPassword(t, who)
	token(t, who)
	defer func() {
		if _, err := k.Area.Set(ctx, k.Actor(t, kit.Administrator), api.NewAreas{Areas: []api.NewArea{}}, 0); err != nil {
			t.Error(err)
		}
	}()
	const colleague, owner, auditor = 1, 4, 5
	ops := operations()
	// These are about the actor's own part, or about what no area is about.
	own := strings.Fields("join-group leave-group change-member remove-member read-member list-abilities export-abilities create-token revoke-token withdraw-request sign-out change-areas")
	// These are about a group, which their path does not name.
	about := strings.Fields("rehearse read-history-entry list-affected undo-entry list-deliveries send-again read-roster explain-rule read-held-post read-held-post-as-administrator")
	for _, powers := range [][]string{{}, {"people", "owners", "change", "policy", "life", "posts"}} {
		helpsWith(t, who, powers...)
		for _, c := range contract {
			op := ops[c.op]
			if slices.Contains(own, c.op) {
				continue
			}
			values, body := c.path, c.body
			f.fill(who, &values, &body)
			path := at(op.Path, values, c.query)
			want := c.want[colleague]
			if slices.Contains(about, c.op) || strings.Contains(op.Path, "/groups/{ref}") && !strings.Contains(op.Path, "/public/") {
				if want = c.want[auditor]; len(powers) > 0 {
					want = c.want[owner]
				}
			}
			if status, says := ask(t, who, op.Method, path, body); status != want {
				t.Errorf("%s (%s %s) by a helper with %v: %d, want %d\n%s", c.op, op.Method, path, powers, status, want, says)
			}
		}
	}
}

// Each power is good for what it says, and for nothing else, and none outside the area.
func TestPowersAreGoodForNoMore(t *testing.T) {
	f := newFixtures(t, "Powers")
	who := f.person()
	k.SetPassword(t, who)
	token(t, who)
	defer k.Area.Set(ctx, k.Actor(t, kit.Administrator), api.NewAreas{Areas: []api.NewArea{}}, 0)
	inside, outside := f.group("find=members see_people=members join.audience=nobody write_owners=members"), f.group("find=members see_people=members join.audience=nobody write_owners=members")
	set := func(powers ...string) {
		t.Helper()
		n := api.NewAreas{Areas: []api.NewArea{{Name: "One", Filter: fmt.Sprintf("address eq %q", inside.Address), Powers: append([]string{}, powers...), Helpers: []string{who}}}}
		if _, err := k.Area.Set(ctx, k.Actor(t, kit.Administrator), n, 0); err != nil {
			t.Fatal(err)
		}
	}
	changes := []struct{ power, method, path, body string }{
		{"people", "POST", "/members", `{"people": [{"address": "` + kit.Colleague + `", "role": "moderator"}]}`},
		{"people", "DELETE", "/members/" + kit.Colleague, ""},
		{"change", "PATCH", "", `{"description": "Helped %d"}`},
		{"policy", "PATCH", "/policy", `{"leave": "asking"}`},
		{"life", "POST", "/renewal", ""},
	}
	for i, power := range []string{"", "people", "change", "policy", "life", "posts"} {
		if set(strings.Fields(power)...); power == "" {
			set()
		}
		if status, _ := ask(t, who, "GET", "/api/v1/groups/"+inside.Address, ""); status != 200 {
			t.Fatalf("with %q: the group of the area: %d", power, status)
		}
		list := decode[api.Page[api.Group]](t, must(ask(t, who, "GET", "/api/v1/groups?q=Powers&limit=200", "")))
		has := func(a string) bool {
			return slices.ContainsFunc(list.Items, func(g api.Group) bool { return g.Address == a })
		}
		if !has(inside.Address) || has(outside.Address) {
			t.Errorf("with %q: the list has the group of the area: %v, another: %v", power, has(inside.Address), has(outside.Address))
		}
		for _, c := range changes {
			body := strings.ReplaceAll(c.body, "%d", fmt.Sprint(i))
			status, says := ask(t, who, c.method, "/api/v1/groups/"+inside.Address+c.path, body)
			if want := c.power == power; want != (status < 300) || !want && status != 403 {
				t.Errorf("with %q: %s %s: %d %s", power, c.method, c.path, status, says)
			}
			if status, says := ask(t, who, c.method, "/api/v1/groups/"+outside.Address+c.path, body); status != 404 {
				t.Errorf("with %q, outside: %s %s: %d %s", power, c.method, c.path, status, says)
			}
		}
	}
	// Nor can they take it out of their area, hand it on, or give themselves more.
	set("people", "change", "policy", "life")
	if status, says := ask(t, who, "PATCH", "/api/v1/groups/"+inside.Address, `{"address": "elsewhere-of-powers@`+kit.Domain+`"}`); status != 403 || !strings.Contains(says, "out of your area") {
		t.Errorf("moved out of the area: %d %s", status, says)
	}
	for _, c := range []struct{ method, path, body string }{
		{"PUT", "/api/v1/areas", `{"areas": []}`}, {"PATCH", "/api/v1/groups/" + inside.Address, `{"exempt": "For ever"}`}, {"PUT", "/api/v1/ceilings", `{"ceilings": []}`},
		{"POST", "/api/v1/groups", `{"name": "Not mine to make"}`}, {"POST", "/api/v1/changes", `{"groups": ["` + inside.Address + `"], "language": "de"}`}, {"GET", "/api/v1/history", ""},
	} {
		if status, says := ask(t, who, c.method, c.path, c.body); status != 403 {
			t.Errorf("%s %s: %d %s", c.method, c.path, status, says)
		}
	}
	if all := decode[api.Areas](t, must(ask(t, who, "GET", "/api/v1/areas", ""))); len(all.Areas) != 1 || all.Areas[0].Name != "One" {
		t.Errorf("a helper sees the areas %+v", all)
	}
	if all := decode[api.Areas](t, must(ask(t, kit.Colleague, "GET", "/api/v1/areas", ""))); len(all.Areas) != 0 {
		t.Errorf("a colleague sees the areas %+v", all)
	}
	// Who is no helper any more is none at once.
	if _, err := k.Area.Set(ctx, k.Actor(t, kit.Administrator), api.NewAreas{Areas: []api.NewArea{}}, 0); err != nil {
		t.Fatal(err)
	}
	if status, _ := ask(t, who, "GET", "/api/v1/groups/"+inside.Address, ""); status != 404 {
		t.Errorf("after it is over: %d", status)
	}
}

func must(_ int, body string) string { return body }

func TestHelpersCreateInTheirArea(t *testing.T) {
	f := newFixtures(t, "Creating by helpers")
	who := f.person()
	token(t, who)
	defer k.Area.Set(ctx, k.Actor(t, kit.Administrator), api.NewAreas{Areas: []api.NewArea{}}, 0)
	n := api.NewAreas{Areas: []api.NewArea{{Name: "Seasons", Filter: `starting_point eq "intake"`, Powers: []string{"create"}, Helpers: []string{who}}}}
	if _, err := k.Area.Set(ctx, k.Actor(t, kit.Administrator), n, 0); err != nil {
		t.Fatal(err)
	}
	if status, says := ask(t, who, "POST", "/api/v1/groups", `{"name": "Summer Desk of Helpers", "starting_point": "intake", "owners": ["`+kit.Owner+`"]}`); status != 201 {
		t.Errorf("in the area: %d %s", status, says)
	}
	if status, says := ask(t, who, "POST", "/api/v1/groups", `{"name": "Winter Desk of Helpers", "owners": ["`+kit.Owner+`"]}`); status != 403 || !strings.Contains(says, "none of the areas") {
		t.Errorf("outside: %d %s", status, says)
	}
	if status, says := ask(t, who, "POST", "/api/v1/groups", `{"name": "Autumn Desk of Helpers", "starting_point": "intake"}`); status != 422 {
		t.Errorf("of nobody: %d %s", status, says)
	}
}

// What waits, what came back and who is external in the groups of an area is listed for its helper, by what they
// may do there, and nothing of other groups.
func TestHelpersSeeWhatIsInTheirArea(t *testing.T) {
	f := newFixtures(t, "Listing")
	who := f.person()
	token(t, who)
	defer k.Area.Set(ctx, k.Actor(t, kit.Administrator), api.NewAreas{Areas: []api.NewArea{}}, 0)
	inside, outside := f.group("join.how=asking externals=owners hold=everyone"), f.group("join.how=asking externals=owners hold=everyone")
	for _, g := range []api.Group{inside, outside} {
		if _, err := k.Joining.Join(ctx, k.Actor(t, kit.Colleague), g.Address, api.JoinRequest{}); err != nil {
			t.Fatal(err)
		}
		if err := kit.Last(k.Member.Add(ctx, k.Actor(t, kit.Administrator), g.Address, api.NewMembers{Quiet: true, People: []api.NewPerson{{Address: "listed@gannetport.example"}}}, 0)); err != nil {
			t.Fatal(err)
		}
		if err := k.Send(t, g.Address, kit.Member, true, "listed"); err != nil {
			t.Fatal(err)
		}
	}
	count := func(path, of string) (n int) {
		t.Helper()
		status, body := ask(t, who, "GET", path, "")
		if status != 200 {
			t.Fatalf("%s: %d %s", path, status, body)
		}
		if strings.Contains(body, outside.Address) {
			t.Errorf("%s tells of a group outside the area: %s", path, body)
		}
		return strings.Count(body, `"address":"`+of+`"`)
	}
	for _, c := range []struct {
		powers                      []string
		requests, waiting, external int
	}{{nil, 0, 0, 1}, {[]string{"people"}, 1, 1, 1}, {[]string{"posts"}, 0, 1, 1}, {[]string{"people", "posts"}, 1, 2, 1}} {
		n := api.NewAreas{Areas: []api.NewArea{{Name: "One", Filter: fmt.Sprintf("address eq %q", inside.Address), Powers: append([]string{}, c.powers...), Helpers: []string{who}}}}
		if _, err := k.Area.Set(ctx, k.Actor(t, kit.Administrator), n, 0); err != nil {
			t.Fatal(err)
		}
		if got := count("/api/v1/requests", inside.Address); got != c.requests {
			t.Errorf("with %v: %d requests, want %d", c.powers, got, c.requests)
		}
		if got := count("/api/v1/waiting", inside.Address); got != c.waiting {
			t.Errorf("with %v: %d wait, want %d", c.powers, got, c.waiting)
		}
		if got := decode[api.Me](t, must(ask(t, who, "GET", "/api/v1/me", ""))).Waiting; got != c.waiting {
			t.Errorf("with %v: %d wait as I am told, want %d", c.powers, got, c.waiting)
		}
		if got := count("/api/v1/externals", inside.Address); got != c.external {
			t.Errorf("with %v: %d external members, want %d", c.powers, got, c.external)
		}
	}
}
