package httpapi_test

import (
	"bytes"
	"context"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"strings"
	"testing"

	"github.com/go-chi/chi/v5"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/httpapi"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/workspace"
)

var (
	ctx    = context.Background()
	dsn    string
	k      *kit.Kit
	server *httptest.Server
	routes *chi.Mux
	tokens = map[string]string{}
	update = flag.Bool("update", false, "write the golden files anew")
)

func TestMain(m *testing.M) {
	flag.Parse()
	kit.Main(m, "httpapi", &k, func() (func(), error) {
		routes, _ = httpapi.Routes(k.W, httpapi.Options{Log: slog.New(slog.DiscardHandler), Version: "0.1.0"})
		server = httptest.NewServer(routes)
		return server.Close, nil
	})
}

// token returns a token of somebody.
func token(t *testing.T, address string) string {
	t.Helper()
	if address == "" {
		return ""
	}
	if tokens[address] == "" {
		made, err := k.W.CreateToken(ctx, k.Actor(t, address), api.NewToken{Name: "test"})
		if err != nil {
			t.Fatal(err)
		}
		tokens[address] = made.Secret
	}
	return tokens[address]
}

// ask sends a request and returns the status and body of the answer.
func ask(t *testing.T, as, method, path, body string, header ...string) (int, string) {
	t.Helper()
	r, err := http.NewRequest(method, server.URL+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	if as != "" {
		r.Header.Set("Authorization", "Bearer "+token(t, as))
	}
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return res.StatusCode, string(b)
}

// actors are the kinds of people of whom every route is asked, in the order of the
// columns of the table below.
var actors = []struct{ name, address string }{
	{"stranger", ""}, {"colleague", kit.Colleague}, {"member", kit.Member}, {"moderator", kit.Moderator},
	{"owner", kit.Owner}, {"auditor", kit.Auditor}, {"administrator", kit.Administrator},
}

// contract is the table of routes and actors: for each route the request that is
// made and the status that each kind of actor gets. REF is a group that everybody
// in the workspace can find; HID one that only its members can; POST a message that
// waits in it, NAME a name nobody has used, MEMBER somebody in the group.
var contract = []struct {
	method, pattern string
	path, body      string
	want            [7]int
}{
	{"GET", "/healthz", "/healthz", "", all(200)},
	{"GET", "/readyz", "/readyz", "", all(200)},
	{"*", "/metrics", "/metrics", "", all(200)},
	{"GET", "/api/openapi.json", "/api/openapi.json", "", all(200)},
	{"GET", "/api/openapi.yaml", "/api/openapi.yaml", "", all(200)},
	{"GET", "/api/openapi-3.0.json", "/api/openapi-3.0.json", "", all(200)},
	{"GET", "/api/openapi-3.0.yaml", "/api/openapi-3.0.yaml", "", all(200)},
	{"*", "/api/*", "/api/v1/nothing", "", all(404)},

	{"POST", "/api/v1/session", "/api/v1/session", `{"address": "` + kit.Auditor + `", "password": "` + kit.Password + `"}`, all(200)},
	{"DELETE", "/api/v1/session", "/api/v1/session", "", all(204)},
	{"GET", "/api/v1/me", "/api/v1/me", "", signedIn(200)},
	{"GET", "/api/v1/tokens", "/api/v1/tokens", "", signedIn(200)},
	{"POST", "/api/v1/tokens", "/api/v1/tokens", `{"name": "x"}`, signedIn(201)},
	{"DELETE", "/api/v1/tokens/{id}", "/api/v1/tokens/01935c1e-7a10-7000-8000-3f1f2a9c5b11", "", signedIn(404)},
	{"GET", "/api/v1/people", "/api/v1/people?q=o", "", signedIn(200)},
	{"GET", "/api/v1/people/{ref}", "/api/v1/people/" + kit.Owner, "", signedIn(200)},
	{"GET", "/api/v1/people/{ref}", "/api/v1/people/nobody@merrowline.example", "", signedIn(404)},
	{"GET", "/api/v1/people/{ref}", "/api/v1/people/01935c1e-7a10-7000-8000-3f1f2a9c5b11", "", signedIn(404)},
	{"GET", "/api/v1/address-proposals", "/api/v1/address-proposals?name=x", "", only(200, 6)},
	{"POST", "/api/v1/policy-pictures", "/api/v1/policy-pictures", `{}`, only(200, 6)},
	{"POST", "/api/v1/rehearsals", "/api/v1/rehearsals", `{"action": "post", "group": "REF", "as": "` + kit.Left + `"}`, only(200, 3, 4, 5, 6)},
	{"POST", "/api/v1/rehearsals", "/api/v1/rehearsals", `{"action": "post", "group": "HID", "as": "` + kit.Left + `"}`, [7]int{401, 404, 403, 200, 200, 200, 200}},
	{"GET", "/api/v1/waiting", "/api/v1/waiting", "", signedIn(200)},
	{"POST", "/api/v1/waiting/{id}", "/api/v1/waiting/POST", `{"verdict": "approve"}`, [7]int{401, 404, 404, 204, 204, 404, 204}},
	{"GET", "/api/v1/history", "/api/v1/history", "", only(200, 5, 6)},
	{"POST", "/api/v1/demo/clock", "/api/v1/demo/clock", `{"days": 1}`, all(404)},

	{"GET", "/api/v1/groups", "/api/v1/groups", "", signedIn(200)},
	{"POST", "/api/v1/groups", "/api/v1/groups", `{"name": "NAME", "owners": ["` + kit.Owner + `"]}`, only(201, 6)},
	{"GET", "/api/v1/groups/{ref}", "/api/v1/groups/REF", "", signedIn(200)},
	{"GET", "/api/v1/groups/{ref}", "/api/v1/groups/HID", "", [7]int{401, 404, 200, 200, 200, 200, 200}},
	{"PATCH", "/api/v1/groups/{ref}", "/api/v1/groups/REF", `{"description": "NAME"}`, only(200, 4, 6)},
	{"PATCH", "/api/v1/groups/{ref}", "/api/v1/groups/HID", `{"description": "NAME"}`, [7]int{401, 404, 403, 403, 200, 403, 200}},
	{"PATCH", "/api/v1/groups/{ref}", "/api/v1/groups/REF", `{"standing": "NAME"}`, only(200, 6)},
	{"DELETE", "/api/v1/groups/{ref}", "/api/v1/groups/NEW", "", only(200, 4, 6)},
	{"GET", "/api/v1/groups/{ref}/policy", "/api/v1/groups/REF/policy", "", signedIn(200)},
	{"GET", "/api/v1/groups/{ref}/policy", "/api/v1/groups/HID/policy", "", [7]int{401, 404, 200, 200, 200, 200, 200}},
	{"PATCH", "/api/v1/groups/{ref}/policy", "/api/v1/groups/REF/policy", `{"leave": "asking"}`, only(200, 4, 6)},
	{"POST", "/api/v1/groups/{ref}/policy/effect", "/api/v1/groups/REF/policy/effect", `{"hold": "everyone"}`, only(200, 4, 6)},
	{"POST", "/api/v1/groups/{ref}/renewal", "/api/v1/groups/REF/renewal", "", only(200, 4, 6)},
	{"POST", "/api/v1/groups/{ref}/restoration", "/api/v1/groups/RETIRED/restoration", "", only(200, 4, 6)},
	{"GET", "/api/v1/groups/{ref}/waiting", "/api/v1/groups/REF/waiting", "", only(200, 3, 4, 6)},
	{"GET", "/api/v1/groups/{ref}/history", "/api/v1/groups/REF/history", "", only(200, 4, 5, 6)},
	{"GET", "/api/v1/groups/{ref}/members", "/api/v1/groups/REF/members", "", [7]int{401, 403, 200, 200, 200, 200, 200}},
	{"GET", "/api/v1/groups/{ref}/members", "/api/v1/groups/HID/members", "", [7]int{401, 404, 200, 200, 200, 200, 200}},
	{"POST", "/api/v1/groups/{ref}/members", "/api/v1/groups/REF/members", `{"people": [{"address": "` + kit.Auditor + `"}]}`, only(200, 4, 6)},
	{"PATCH", "/api/v1/groups/{ref}/members/{member}", "/api/v1/groups/REF/members/" + kit.Member, `{"role": "member"}`, only(200, 4, 6)},
	{"DELETE", "/api/v1/groups/{ref}/members/{member}", "/api/v1/groups/NEW/members/" + kit.Moderator, "", [7]int{401, 403, 403, 204, 204, 403, 204}},
	{"PATCH", "/api/v1/groups/{ref}/members", "/api/v1/groups/REF/members", `{"members": ["` + kit.Member + `"], "delivery": "each"}`, only(200, 4, 6)},
	{"PATCH", "/api/v1/groups/{ref}/members", "/api/v1/groups/HID/members", `{"members": ["` + kit.Member + `"], "delivery": "each"}`, [7]int{401, 404, 403, 403, 200, 403, 200}},
	{"GET", "/api/v1/groups/{ref}/member-export", "/api/v1/groups/REF/member-export", "", [7]int{401, 403, 200, 200, 200, 200, 200}},
	{"GET", "/api/v1/groups/{ref}/reached", "/api/v1/groups/REF/reached", "", [7]int{401, 403, 200, 200, 200, 200, 200}},
	{"GET", "/api/v1/groups/{ref}/nesting", "/api/v1/groups/REF/nesting", "", [7]int{401, 403, 200, 200, 200, 200, 200}},
	{"POST", "/api/v1/rosters", "/api/v1/rosters", `{"text": "` + kit.Left + `"}`, only(200, 6)},
	{"POST", "/api/v1/rosters", "/api/v1/rosters", `{"text": "` + kit.Left + `", "group": "REF"}`, only(200, 4, 6)},

	{"POST", "/api/v1/groups/{ref}/joining", "/api/v1/groups/NEW/joining", `{}`, [7]int{401, 200, 409, 409, 409, 200, 200}},
	{"POST", "/api/v1/groups/{ref}/joining", "/api/v1/groups/HID/joining", `{}`, [7]int{401, 404, 409, 409, 409, 403, 403}},
	{"POST", "/api/v1/groups/{ref}/leaving", "/api/v1/groups/NEW/leaving", `{}`, [7]int{401, 409, 200, 200, 409, 409, 409}},
	{"GET", "/api/v1/groups/{ref}/requests", "/api/v1/groups/REF/requests", "", only(200, 3, 4, 6)},
	{"GET", "/api/v1/requests", "/api/v1/requests", "", signedIn(200)},
	{"POST", "/api/v1/requests/decisions", "/api/v1/requests/decisions", `{"requests": ["01935c1e-7a10-7000-8000-3f1f2a9c5b11"], "verdict": "approve"}`, signedIn(200)},
	{"DELETE", "/api/v1/requests/{id}", "/api/v1/requests/01935c1e-7a10-7000-8000-3f1f2a9c5b11", "", signedIn(404)},
	{"GET", "/api/v1/groups/{ref}/invitations", "/api/v1/groups/REF/invitations", "", only(200, 3, 4, 6)},
	{"DELETE", "/api/v1/groups/{ref}/invitations/{address}", "/api/v1/groups/REF/invitations/a@b.example", "", only(204, 3, 4, 6)},
	{"GET", "/api/v1/invitations/{secret}", "/api/v1/invitations/nonsense", "", all(404)},
	{"POST", "/api/v1/invitations/{secret}", "/api/v1/invitations/nonsense", `{"answer": "accept"}`, all(404)},
	{"GET", "/api/v1/groups/{ref}/join-links", "/api/v1/groups/REF/join-links", "", only(200, 3, 4, 6)},
	{"POST", "/api/v1/groups/{ref}/join-links", "/api/v1/groups/REF/join-links", `{}`, only(201, 3, 4, 6)},
	{"DELETE", "/api/v1/groups/{ref}/join-links/{id}", "/api/v1/groups/REF/join-links/01935c1e-7a10-7000-8000-3f1f2a9c5b11", "", only(404, 3, 4, 6)},
	{"GET", "/api/v1/join-links/{secret}", "/api/v1/join-links/nonsense", "", signedIn(404)},
	{"POST", "/api/v1/join-links/{secret}", "/api/v1/join-links/nonsense", "", signedIn(404)},
	{"GET", "/api/v1/groups/{ref}/standings", "/api/v1/groups/REF/standings", "", only(200, 3, 4, 6)},
	{"PUT", "/api/v1/groups/{ref}/standings/{address}", "/api/v1/groups/REF/standings/a@b.example", `{"standing": "trusted"}`, only(204, 3, 4, 6)},

	{"GET", "/api/v1/groups/{ref}/rule", "/api/v1/groups/RULED/rule", "", [7]int{401, 403, 200, 200, 200, 200, 200}},
	{"PUT", "/api/v1/groups/{ref}/rule", "/api/v1/groups/NEW/rule", `{"expression": "title eq \"nobody's\""}`, only(200, 4, 6)},
	{"DELETE", "/api/v1/groups/{ref}/rule", "/api/v1/groups/RULED/rule", "", only(204, 4, 6)},
	{"POST", "/api/v1/groups/{ref}/rule/release", "/api/v1/groups/RULED/rule/release", "", only(200, 4, 6)},
	{"POST", "/api/v1/rules/effect", "/api/v1/rules/effect", `{"expression": "title pr"}`, only(200, 6)},
	{"POST", "/api/v1/rules/effect", "/api/v1/rules/effect", `{"expression": "title pr", "group": "REF"}`, only(200, 4, 6)},
	{"POST", "/api/v1/rules/explanation", "/api/v1/rules/explanation", `{"expression": "title pr", "group": "REF", "person": "` + kit.Owner + `"}`, only(200, 4, 6)},
	{"GET", "/api/v1/rules/completion", "/api/v1/rules/completion?text=dep&at=3", "", signedIn(200)},
	{"POST", "/api/v1/look-alikes", "/api/v1/look-alikes", `{"name": "x"}`, only(200, 6)},
	{"GET", "/api/v1/naming", "/api/v1/naming", "", only(200, 5, 6)},
	{"PUT", "/api/v1/naming", "/api/v1/naming", `{"creators": "administrators", "prefix": "", "suffix": "", "words": [], "beginnings": []}`, only(200, 6)},
	{"POST", "/api/v1/naming/effect", "/api/v1/naming/effect", `{"creators": "workspace", "prefix": "", "suffix": "", "words": ["x"], "beginnings": []}`, only(200, 6)},
	{"GET", "/api/v1/starting-points", "/api/v1/starting-points", "", only(200, 5, 6)},
	{"PUT", "/api/v1/starting-points/{name}", "/api/v1/starting-points/season", `{"title": "Season"}`, only(200, 6)},
	{"DELETE", "/api/v1/starting-points/{name}", "/api/v1/starting-points/nothing", "", only(404, 6)},

	{"GET", "/api/v1/people", "/api/v1/people?kind=departed", "", only(200, 5, 6)},
	{"GET", "/api/v1/people/{ref}", "/api/v1/people/" + kit.Left, "", [7]int{401, 404, 404, 404, 404, 200, 200}},
	{"GET", "/api/v1/people-suggestions", "/api/v1/people-suggestions?q=o", "", signedIn(200)},
	{"POST", "/api/v1/people", "/api/v1/people", `{"address": "new-PERSON@merrowline.example", "name": "New"}`, only(201, 6)},
	{"PATCH", "/api/v1/people/{ref}", "/api/v1/people/" + kit.Colleague, `{"attributes": {"title": "NAME"}}`, only(200, 6)},
	{"GET", "/api/v1/people/{ref}/departure", "/api/v1/people/" + kit.Colleague + "/departure", "", only(200, 6)},
	{"POST", "/api/v1/people/{ref}/departure", "/api/v1/people/" + kit.Left + "/departure", `{}`, only(409, 6)},
	{"DELETE", "/api/v1/people/{ref}/departure", "/api/v1/people/" + kit.Colleague + "/departure", "", only(409, 6)},
	{"GET", "/api/v1/people/{ref}/history", "/api/v1/people/" + kit.Owner + "/history", "", only(200, 5, 6)},
	{"POST", "/api/v1/people/{ref}/password-link", "/api/v1/people/" + kit.Colleague + "/password-link", "", only(204, 6)},
	{"POST", "/api/v1/password-links", "/api/v1/password-links", `{"address": "nobody@merrowline.example"}`, all(202)},
	{"GET", "/api/v1/password-links/{secret}", "/api/v1/password-links/nonsense", "", all(404)},
	{"POST", "/api/v1/password-links/{secret}", "/api/v1/password-links/nonsense", `{"password": "long enough for this"}`, all(404)},
	{"PUT", "/api/v1/me/password", "/api/v1/me/password", `{"current": "` + kit.Password + `", "password": "short"}`, signedIn(422)},
	{"POST", "/api/v1/people-imports", "/api/v1/people-imports", `{"text": "address\n` + kit.Owner + `\n", "dry_run": true}`, only(200, 6)},

	{"GET", "/api/v1/expiry", "/api/v1/expiry", "", only(200, 5, 6)},
	{"PUT", "/api/v1/expiry", "/api/v1/expiry", `{"term_days": 0, "scope": "all", "notices": [30], "caretaker": "", "time_zone": "UTC"}`, only(200, 6)},
	{"POST", "/api/v1/expiry/effect", "/api/v1/expiry/effect", `{"term_days": 90, "scope": "all", "notices": [30], "caretaker": "", "time_zone": "UTC"}`, only(200, 6)},
	{"GET", "/api/v1/expiry/forecast", "/api/v1/expiry/forecast", "", only(200, 5, 6)},
}

func all(status int) [7]int { return [7]int{status, status, status, status, status, status, status} }

func signedIn(status int) [7]int {
	out := all(status)
	out[0] = http.StatusUnauthorized
	return out
}

// only is 403 for everybody who is signed in but those columns.
func only(status int, columns ...int) [7]int {
	out := signedIn(http.StatusForbidden)
	for _, c := range columns {
		out[c] = status
	}
	return out
}

func TestEveryRouteForEveryActor(t *testing.T) {
	open := k.Group(t, "Contract", func(n *api.NewGroup) { n.Policy = map[string]string{"see_people": "members"} })
	hidden := k.Group(t, "Contract Hidden", func(n *api.NewGroup) {
		n.Policy = map[string]string{"find": "members"}
		n.Join = &api.JoinPatch{Audience: "nobody"}
	})
	seen := map[string]bool{}
	n := 0
	for _, c := range contract {
		seen[c.method+" "+c.pattern] = true
		for i, a := range actors {
			n++
			fill := strings.NewReplacer("REF", open.Address, "HID", hidden.Address, "NAME", fmt.Sprintf("Contract %d", n), "PERSON", fmt.Sprint(n))
			path, body := fill.Replace(c.path), fill.Replace(c.body)
			if strings.Contains(path, "NEW") || strings.Contains(path, "RETIRED") || strings.Contains(path, "RULED") {
				g := k.Group(t, fmt.Sprintf("Contract new %d", n))
				if strings.Contains(path, "RULED") {
					if _, err := k.W.SetRule(ctx, k.Actor(t, kit.Administrator), g.Address, api.NewRule{Expression: `title eq "nobody's"`}); err != nil {
						t.Fatal(err)
					}
				}
				if strings.Contains(path, "RETIRED") {
					if _, err := k.W.Retire(ctx, k.Actor(t, kit.Administrator), g.Address, 0); err != nil {
						t.Fatal(err)
					}
				}
				path = strings.NewReplacer("NEW", g.Address, "RETIRED", g.Address, "RULED", g.Address).Replace(path)
			}
			if strings.Contains(path, "POST") {
				path = strings.Replace(path, "POST", waiting(t, open.Address), 1)
			}
			method := c.method
			if method == "*" {
				method = "GET"
			}
			if got, says := ask(t, a.address, method, path, body); got != c.want[i] {
				t.Errorf("%s %s by %s: %d, want %d\n%s", method, path, a.name, got, c.want[i], says)
			}
		}
	}
	err := chi.Walk(routes, func(method, route string, _ http.Handler, _ ...func(http.Handler) http.Handler) error {
		if !seen[method+" "+route] && !seen["* "+route] {
			t.Errorf("the table lacks %s %s", method, route)
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
}

// waiting makes a post that waits and returns its identifier.
func waiting(t *testing.T, ref string) string {
	t.Helper()
	target, err := k.W.Target(ctx, kit.Address(t, ref))
	if err != nil {
		t.Fatal(err)
	}
	if err := k.W.Accept(ctx, []workspace.Incoming{{Target: target, Author: kit.Address(t, kit.Member), Raw: []byte("\r\n")}}); err != nil {
		t.Fatal(err)
	}
	p, err := k.W.WaitingPosts(ctx, k.Actor(t, kit.Administrator), ref, "", 200)
	if err != nil || len(p.Items) == 0 {
		t.Fatalf("%+v, %v", p, err)
	}
	return p.Items[len(p.Items)-1].ID
}

// What may not be found answers to the letter as what does not exist.
func TestHiddenLooksLikeAbsent(t *testing.T) {
	hidden := k.Group(t, "Quite Hidden", func(n *api.NewGroup) {
		n.Policy = map[string]string{"find": "members"}
		n.Join = &api.JoinPatch{Audience: "nobody"}
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
	page, err := k.W.Groups(ctx, k.Actor(t, kit.Colleague), workspace.GroupList{Q: "quite", Limit: 10})
	if err != nil || page.Total != 0 {
		t.Errorf("a colleague lists %+v, %v", page, err)
	}
	if page, _ = k.W.Groups(ctx, k.Actor(t, kit.Member), workspace.GroupList{Q: "quite", Limit: 10}); page.Total != 1 {
		t.Errorf("a member lists %d", page.Total)
	}
}

func TestBadRequests(t *testing.T) {
	g := k.Group(t, "Bad Requests")
	path := "/api/v1/groups/" + g.Address
	big := `{"name": "x", "owners": [], "description": "` + strings.Repeat("x", 5<<20) + `"}`
	for _, c := range []struct {
		name, method, path, body string
		header                   [2]string
		status                   int
		field, says              string
	}{
		{"broken JSON", "POST", "/api/v1/groups", `{"name": "x",`, [2]string{}, 400, "", ""},
		{"no JSON at all", "POST", "/api/v1/groups", `name=x`, [2]string{}, 400, "", ""},
		{"a body too large", "PATCH", path, big, [2]string{}, 413, "", "too large"},
		{"a field of the wrong kind", "POST", "/api/v1/groups", `{"name": 7, "owners": []}`, [2]string{}, 422, "name", "string"},
		{"a field that is not there", "POST", "/api/v1/groups", `{"nome": "x", "owners": []}`, [2]string{}, 422, "nome", "unexpected property"},
		{"an old version", "PATCH", path, `{"name": "y"}`, [2]string{"If-Match", `"1"`}, 412, "", "Somebody changed"},
		{"a version of somebody else's", "PATCH", path, `{"name": "y"}`, [2]string{"If-Match", `"abc"`}, 412, "", "ETag that this service gave out"},
		{"a page too long", "GET", "/api/v1/groups?limit=1000", "", [2]string{}, 422, "limit", "200"},
		{"a cursor from nowhere", "GET", "/api/v1/groups?cursor=zzz", "", [2]string{}, 422, "cursor", "not given out"},
		{"an unknown state", "GET", "/api/v1/groups?state=asleep", "", [2]string{}, 422, "state", "active, due, lapsed, retired"},
		{"an unknown sort", "GET", "/api/v1/groups?sort=colour", "", [2]string{}, 422, "sort", "name, people"},
		{"a write from another site", "POST", path + "/renewal", "", [2]string{"Sec-Fetch-Site", "cross-site"}, 403, "", "another site"},
		{"a token from nowhere", "GET", path, "", [2]string{"Authorization", "Bearer ivy_nonsense"}, 401, "", "Sign in again"},
	} {
		header := []string{}
		if c.header[0] != "" {
			header = c.header[:]
		}
		status, body := ask(t, kit.Administrator, c.method, c.path, c.body, header...)
		var p api.ProblemDetails
		if err := json.Unmarshal([]byte(body), &p); err != nil {
			t.Errorf("%s: no problem details: %s", c.name, body)
			continue
		}
		found := c.field == ""
		for _, x := range p.Problems {
			found = found || x.Field == c.field
		}
		if status != c.status || p.Status != status || p.Detail == "" || !found || !strings.Contains(strings.ToLower(body), strings.ToLower(c.says)) {
			t.Errorf("%s: %d\n%s\nwant %d about %q saying %q", c.name, status, body, c.status, c.field, c.says)
		}
	}
	if now, err := k.W.Group(ctx, k.Actor(t, kit.Administrator), g.Address); err != nil || now.Version != g.Version {
		t.Errorf("something was changed: %+v, %v", now, err)
	}
}

// Whatever ETag is given out is taken back.
func TestTheFirstETagOfTheExpiryPolicy(t *testing.T) {
	var e api.Expiry
	_, body := ask(t, kit.Administrator, "GET", "/api/v1/expiry", "")
	if err := json.Unmarshal([]byte(body), &e); err != nil {
		t.Fatal(err)
	}
	tag := fmt.Sprintf("%q", fmt.Sprint(e.Version))
	if status, says := ask(t, kit.Administrator, "PUT", "/api/v1/expiry", body, "If-Match", tag); status != 200 {
		t.Errorf("with %s: %d %s", tag, status, says)
	}
	if status, _ := ask(t, kit.Administrator, "PUT", "/api/v1/expiry", body, "If-Match", tag); status != 412 {
		t.Errorf("with %s again: %d", tag, status)
	}
}

func TestSignInOverHTTP(t *testing.T) {
	res, err := http.Post(server.URL+"/api/v1/session", "application/json", strings.NewReader(`{"address": "`+kit.Member+`", "password": "`+kit.Password+`"}`))
	if err != nil {
		t.Fatal(err)
	}
	res.Body.Close()
	c := res.Cookies()
	if len(c) != 1 || !c[0].HttpOnly || c[0].SameSite != http.SameSiteStrictMode || c[0].Path != "/" {
		t.Fatalf("cookies: %+v", c)
	}
	if status, _ := ask(t, "", "GET", "/api/v1/me", "", "Cookie", c[0].Name+"="+c[0].Value); status != 200 {
		t.Errorf("with the cookie: %d", status)
	}
	ask(t, "", "DELETE", "/api/v1/session", "", "Cookie", c[0].Name+"="+c[0].Value)
	if status, _ := ask(t, "", "GET", "/api/v1/me", "", "Cookie", c[0].Name+"="+c[0].Value); status != 401 {
		t.Errorf("after signing out: %d", status)
	}
	var last int
	for range 11 {
		last, _ = ask(t, "", "POST", "/api/v1/session", `{"address": "`+kit.Moderator+`", "password": "wrong"}`)
	}
	if last != 429 {
		t.Errorf("the eleventh wrong password: %d", last)
	}
}

// The description that the console's types are made from is that of the code.
func TestOpenAPIIsCurrent(t *testing.T) {
	_, doc := httpapi.Routes(k.W, httpapi.Options{Log: slog.New(slog.DiscardHandler), Version: "0.1.0"})
	got, err := json.MarshalIndent(doc, "", "  ")
	if err != nil {
		t.Fatal(err)
	}
	got = append(got, '\n')
	const path = "../../console/src/api/openapi.json"
	if *update {
		if err := os.WriteFile(path, got, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(got, want) {
		t.Errorf("%s is old; run: go test ./internal/httpapi -run OpenAPI -update", path)
	}
	for p := range doc.Paths {
		if !strings.HasPrefix(p, "/api/v1/") {
			t.Errorf("%s lies outside /api/v1", p)
		}
	}
}
