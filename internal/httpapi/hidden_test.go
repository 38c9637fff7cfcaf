package httpapi_test

import (
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace/group"
)

// What may not be found answers to the letter as what does not exist.
func TestHiddenLooksLikeAbsent(t *testing.T) {
	hidden := k.Make(t, "Quite Hidden", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("find=members join.audience=nobody")
	})
	absent := "quite-absent@merrowline.example"
	for _, c := range [][3]string{{"GET", "", ""}, {"GET", "/members", ""}, {"GET", "/policy", ""}, {"GET", "/history", ""}, {"PATCH", "", `{"name": "x"}`},
		{"DELETE", "", ""}, {"POST", "/renewal", ""}, {"POST", "/members", `{"people": [{"address": "a@b.example"}]}`}, {"DELETE", "/members/" + kit.Member, ""}} {
		s1, b1 := ask(t, kit.Colleague, c[0], "/api/v1/groups/"+hidden.Address+c[1], c[2], "X-Request-Id", "same")
		s2, b2 := ask(t, kit.Colleague, c[0], "/api/v1/groups/"+absent+c[1], c[2], "X-Request-Id", "same")
		if s1 != 404 || s1 != s2 || strings.ReplaceAll(b1, hidden.Address, absent) != b2 {
			t.Errorf("%s %s: %d %s\nbut absent: %d %s", c[0], c[1], s1, b1, s2, b2)
		}
	}
	page, err := k.Group.List(ctx, k.Actor(t, kit.Colleague), group.Query{Q: "quite", Limit: 10})
	if err != nil || page.Total != 0 {
		t.Errorf("a colleague lists %+v, %v", page, err)
	}
	if page, _ = k.Group.List(ctx, k.Actor(t, kit.Member), group.Query{Q: "quite", Limit: 10}); page.Total != 1 {
		t.Errorf("a member lists %d", page.Total)
	}
}

// What a group does not show, no other way shows either.
func TestHiddenPeopleStayHidden(t *testing.T) {
	g := k.Make(t, "Quiet Circle", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("find=members see_people=owners join.audience=nobody")
	})
	ref := "/api/v1/groups/" + g.Address
	for _, path := range []string{"/members", "/member-export", "/effective-members", "/nesting", "/rule"} {
		if status, body := ask(t, kit.Member, "GET", ref+path, ""); status != 403 || strings.Contains(body, kit.Owner) {
			t.Errorf("a member gets %s: %d %s", path, status, body)
		}
		if status, body := ask(t, kit.Colleague, "GET", ref+path, ""); status != 404 || strings.Contains(body, "Quiet") {
			t.Errorf("a colleague gets %s: %d %s", path, status, body)
		}
	}
	for _, c := range [][3]string{{"POST", "/joining", `{}`}, {"POST", "/leaving", `{}`}, {"GET", "/requests", ""}, {"GET", "/invitations", ""}, {"GET", "/join-links", ""}, {"GET", "/overrides", ""},
		{"PUT", "/overrides/a@b.example", `{"override": "held"}`}, {"PUT", "/rule", `{"expression": "title pr"}`}, {"PATCH", "/members", `{"members": ["x"], "remove": true}`}} {
		if status, body := ask(t, kit.Colleague, c[0], ref+c[1], c[2]); status != 404 || strings.Contains(body, "Quiet") {
			t.Errorf("a colleague %s %s: %d %s", c[0], c[1], status, body)
		}
	}
	if _, body := ask(t, kit.Colleague, "GET", "/api/v1/people/"+kit.Owner, ""); strings.Contains(body, "Quiet Circle") {
		t.Error("a person's page tells of it")
	}
	if _, body := ask(t, kit.Colleague, "POST", "/api/v1/people-lists", `{"people_of": "`+g.Address+`", "group": "`+k.Make(t, "Own Circle", func(n *api.NewGroup) { n.Owners = []string{kit.Colleague} }).Address+`"}`); strings.Contains(body, kit.Member) {
		t.Error("copying its people tells who they are")
	}
	if status, _ := ask(t, kit.Member, "POST", "/api/v1/people-lists", `{"people_of": "`+g.Address+`", "group": "`+k.Make(t, "Members Circle", func(n *api.NewGroup) { n.Owners = []string{kit.Member}; n.People = nil }).Address+`"}`); status != 403 {
		t.Errorf("a member copies people whom they may not see: %d", status)
	}
}
