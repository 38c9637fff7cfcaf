package httpapi_test

import (
	"fmt"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/member"
)

// By whichever way a role is given or taken, a delegated administrator with people alone appoints no owner, removes none, and gives neither
// themselves nor another one a role.
func TestNoWayToAppointWithoutThePower(t *testing.T) {
	f := newFixtures(t, "Appointing")
	me, other := f.person(), f.person()
	for _, a := range []string{me, other} {
		k.SetPassword(t, a)
		token(t, a)
	}
	defer k.Area.Set(ctx, k.Actor(t, kit.Administrator), api.NewAreas{Areas: []api.NewArea{}}, 0)
	g := k.Make(t, "Appointed", func(n *api.NewGroup) { n.Owners = []string{kit.Owner, kit.Auditor} })
	grant := func(powers ...string) {
		t.Helper()
		n := api.NewAreas{Areas: []api.NewArea{{Name: "One", Filter: fmt.Sprintf("address eq %q", g.Address), Powers: powers, Helpers: []string{me, other}}}}
		if _, err := k.Area.Set(ctx, k.Actor(t, kit.Administrator), n, 0); err != nil {
			t.Fatal(err)
		}
	}
	group := "/api/v1/groups/" + g.Address
	roles := func() string {
		page := kit.First(k.Members(k.Actor(t, kit.Administrator), g.Address, member.Query{Limit: 50}))
		var out []string
		for _, m := range page.Items {
			if m.Role != "member" {
				out = append(out, m.Address+"="+m.Role)
			}
		}
		return strings.Join(out, " ")
	}
	was := roles()
	ways := func(who, role string) []struct{ name, method, path, body string } {
		return []struct{ name, method, path, body string }{
			{"added", "POST", group + "/members", fmt.Sprintf(`{"people": [{"address": %q, "role": %q}]}`, who, role)},
			{"invited", "POST", group + "/members", fmt.Sprintf(`{"way": "invite", "people": [{"address": %q, "role": %q}]}`, who, role)},
			{"changed", "PATCH", group + "/members", fmt.Sprintf(`{"members": [%q], "role": %q}`, who, role)},
		}
	}
	try := func(what, method, path, body string) {
		t.Helper()
		status, says := ask(t, me, method, path, body)
		if now := roles(); now != was {
			t.Errorf("%s: %d %s\nnow %s", what, status, says, now)
			was = now
		}
		if strings.Contains(says, `"outcome":"invited"`) {
			t.Errorf("%s: %s", what, says)
		}
	}
	grant("people")
	for _, in := range []bool{false, true} {
		if in { // as members they can be, and then their role is to change
			for _, a := range []string{me, other} {
				if status, says := ask(t, me, "POST", group+"/members", fmt.Sprintf(`{"people": [{"address": %q}]}`, a)); status >= 300 || !strings.Contains(says, `"added"`) {
					t.Fatalf("added as a member: %d %s", status, says)
				}
			}
		}
		for _, who := range []string{me, other} {
			for _, role := range []string{"owner", "moderator"} {
				for _, w := range ways(who, role) {
					try(fmt.Sprintf("%s as %s, in it: %t", w.name, role, in), w.method, w.path, w.body)
				}
			}
		}
	}
	for _, w := range ways(kit.Colleague, "owner") {
		try(w.name+" as owner", w.method, w.path, w.body)
	}
	for _, x := range []struct{ name, method, path, body string }{
		{"removed", "DELETE", group + "/members/" + kit.Owner, ""},
		{"removed with others", "PATCH", group + "/members", fmt.Sprintf(`{"members": [%q], "remove": true}`, kit.Owner)},
		{"made a member", "PATCH", group + "/members", fmt.Sprintf(`{"members": [%q], "role": "member"}`, kit.Owner)},
		{"in it for a time", "PATCH", group + "/members", fmt.Sprintf(`{"members": [%q], "until": %q}`, kit.Owner, k.Now().AddDate(0, 0, 3).Format("2006-01-02"))},
		{"barred", "PUT", group + "/overrides/" + kit.Owner, `{"override": "barred"}`},
	} {
		try(x.name, x.method, x.path, x.body)
	}
	// With the power to appoint owners, others can be, and they and their like can't.
	grant("people", "owners")
	for _, who := range []string{me, other} {
		for _, w := range ways(who, "owner") {
			try("with owners: "+w.name, w.method, w.path, w.body)
		}
	}
	if status, says := ask(t, me, "PATCH", group+"/members", fmt.Sprintf(`{"members": [%q], "role": "owner"}`, kit.Moderator)); status != 200 || !strings.Contains(roles(), kit.Moderator+"=owner") {
		t.Errorf("with owners: %d %s", status, says)
	}
	// Who creates groups owns none of them.
	grant("create")
	created := fmt.Sprintf(`{"name": "Appointed", "address": %q, "owners": [%q]}`, g.Address, me)
	if status, says := ask(t, me, "POST", "/api/v1/groups", created); status < 400 {
		t.Errorf("a group of their own: %d %s", status, says)
	}
}
