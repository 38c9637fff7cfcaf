package httpapi_test

import (
	"encoding/base64"
	"encoding/json"
	"net/http"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
)

func TestBadRequests(t *testing.T) {
	g := k.Make(t, "Bad Requests")
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
		{"a field of the wrong kind", "POST", "/api/v1/groups", `{"name": 7, "owners": []}`, [2]string{}, 422, "name", "has to be text"},
		{"a field that is not there", "POST", "/api/v1/groups", `{"nome": "x", "owners": []}`, [2]string{}, 422, "nome", "no field of this name"},
		{"a field that has to be given", "POST", "/api/v1/groups", `{"owners": []}`, [2]string{}, 422, "name", "has to be given"},
		{"a group without an owner", "POST", "/api/v1/groups", `{"name": "Nobody's"}`, [2]string{}, 422, "owners", "at least one owner"},
		{"a parameter twice", "GET", "/api/v1/groups?limit=5&limit=6", "", [2]string{}, 422, "limit", "more than once"},
		{"an old version", "PATCH", path, `{"name": "y"}`, [2]string{"If-Match", `"7"`}, 412, "", "Somebody changed"},
		{"a version that nothing has", "PATCH", path, `{"name": "y"}`, [2]string{"If-Match", `"0"`}, 412, "", "ETag that this service gave out"},
		{"a version of somebody else's", "PATCH", path, `{"name": "y"}`, [2]string{"If-Match", `"abc"`}, 412, "", "ETag that this service gave out"},
		{"a page too long", "GET", "/api/v1/groups?limit=1000", "", [2]string{}, 422, "limit", "200"},
		{"a cursor from nowhere", "GET", "/api/v1/groups?cursor=zzz", "", [2]string{}, 422, "cursor", "not given out"},
		{"an unknown state", "GET", "/api/v1/groups?state=asleep", "", [2]string{}, 422, "state[0]", "active, due, lapsed, retired"},
		{"an unknown sort", "GET", "/api/v1/groups?sort=colour", "", [2]string{}, 422, "sort", "name, address, people"},
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
	if now, err := k.Group.Read(ctx, k.Actor(t, kit.Administrator), g.Address); err != nil || now.Version != g.Version {
		t.Errorf("something was changed: %+v, %v", now, err)
	}
}

func TestBadStaffingRequests(t *testing.T) {
	g := k.Make(t, "Bad Staffing")
	ref := "/api/v1/groups/" + g.Address
	long := strings.Repeat("x", 6000)
	for _, c := range []struct {
		name, method, path, body string
		status                   int
		field, says              string
	}{
		{"nobody to add", "POST", ref + "/members", `{}`, 422, "people", "nobody in the list"},
		{"an unknown way", "POST", ref + "/members", `{"way": "carry", "people": [{"address": "a@b.example"}]}`, 422, "way", "direct, invite"},
		{"two kinds of list", "POST", ref + "/members", `{"list": {"text": "x", "everyone": true}}`, 422, "list", "one way"},
		{"a file that is no text", "POST", ref + "/members", `{"list": {"file": "` + base64.StdEncoding.EncodeToString([]byte("PK\x03\x04")) + `"}}`, 422, "list", "spreadsheet"},
		{"a file that is no base64", "POST", ref + "/members", `{"list": {"file": "%%%"}}`, 422, "list.file", ""},
		{"people of nothing", "POST", ref + "/members", `{"list": {"people_of": "nothing@merrowline.example"}}`, 404, "", "no group"},
		{"no members named", "PATCH", ref + "/members", `{"members": [], "role": "owner"}`, 422, "members", ""},
		{"nothing to change", "PATCH", ref + "/members", `{"members": ["a@b.example"]}`, 422, "role", "Say what to change"},
		{"a role that is none", "PATCH", ref + "/members", `{"members": ["a@b.example"], "role": "king"}`, 422, "role", "owner, moderator, member"},
		{"an unknown filter", "GET", ref + "/members?kind=ghost", "", 422, "kind", "person, external, group, departed"},
		{"a day that is none", "GET", ref + "/members?since=soon", "", 422, "since", "2026-11-23"},
		{"an export with a bad filter", "GET", ref + "/member-export?delivery=pigeon", "", 422, "delivery", "each, digest, conversations, none"},
		{"an answer that is none", "POST", "/api/v1/invitations/nonsense", `{"answer": "maybe"}`, 422, "answer", "accept, decline"},
		{"posts decided otherwise", "POST", "/api/v1/waiting/decisions", `{"ids": ["x"], "verdict": "maybe"}`, 422, "verdict", "approve, decline"},
		{"a verdict that is none", "POST", "/api/v1/requests/decisions", `{"ids": ["x"], "verdict": "maybe"}`, 422, "verdict", "approve, decline"},
		{"nothing to decide", "POST", "/api/v1/requests/decisions", `{"ids": [], "verdict": "approve"}`, 422, "ids", ""},
		{"an override that is none", "PUT", ref + "/overrides/a@b.example", `{"override": "liked"}`, 422, "override", "barred, trusted, held"},
		{"an override of no address", "PUT", ref + "/overrides/somebody", `{"override": "held"}`, 422, "address", "no @"},
		{"a link for ever", "POST", ref + "/join-links", `{"days": 4000}`, 422, "days", "365"},
		{"a rule that breaks off", "PUT", ref + "/rule", `{"expression": "department eq"}`, 422, "expression", "breaks off"},
		{"a rule without end", "PUT", ref + "/rule", `{"expression": "` + long + `"}`, 422, "expression", "5000"},
		{"a guard above all", "PUT", ref + "/rule", `{"expression": "title pr", "guard": 300}`, 422, "guard", "100"},
		{"an explanation of nobody", "POST", "/api/v1/rules/explanation", `{"expression": "title pr", "person": "nobody@merrowline.example"}`, 404, "", "nobody"},
		{"a pattern of a field that is none", "PUT", "/api/v1/naming", `{"creators": "workspace", "pattern": "{name} {shoe}", "words": [], "beginnings": []}`, 422, "pattern", "no field"},
		{"a starting point in capitals", "PUT", "/api/v1/starting-points/Season", `{"title": "Season"}`, 422, "name", "small letters"},
		{"a starting point with a contradiction", "PUT", "/api/v1/starting-points/odd", `{"title": "Odd", "policy": {"policy": {"find": "owners", "read": "anyone"}}}`, 422, "policy.read", ""},
		{"a person outside", "POST", "/api/v1/people", `{"address": "x@elsewhere.example", "name": "X"}`, 422, "address", "not a domain"},
		{"a person without a name", "POST", "/api/v1/people", `{"address": "x@merrowline.example", "name": ""}`, 422, "name", "empty"},
		{"an attribute that is none", "PATCH", "/api/v1/people/" + kit.Member, `{"attributes": {"shoe": "38"}}`, 422, "attributes.shoe", "no field"},
		{"a field that nobody lacks", "GET", "/api/v1/people?lacks=shoe", "", 422, "lacks", "no field"},
		{"a departure to nobody", "POST", "/api/v1/people/" + kit.Member + "/departure", `{"successor": "nobody@merrowline.example"}`, 422, "successor", "Nobody else"},
		{"an import without headings", "POST", "/api/v1/people-imports", `{"text": "a@merrowline.example\n"}`, 422, "columns", "headings"},
		{"an alias of somebody's", "PATCH", ref, `{"aliases": ["` + kit.Member + `"]}`, 422, "aliases[0]", "belongs to the person"},
		{"a trait that is none", "PATCH", ref, `{"traits": ["juggling"]}`, 422, "traits", "archive, desk, calendar, access"},
		{"a move to a place that is taken", "PATCH", ref, `{"address": "` + kit.Member + `"}`, 422, "address", "belongs to the person"},
	} {
		status, body := ask(t, kit.Administrator, c.method, c.path, c.body)
		p := decode[api.ProblemDetails](t, body)
		found := c.field == ""
		for _, x := range p.Problems {
			found = found || strings.HasPrefix(x.Field, c.field)
		}
		if status != c.status || p.Detail == "" || !found || !strings.Contains(body, c.says) {
			t.Errorf("%s: %d\n%s\nwant %d about %q saying %q", c.name, status, body, c.status, c.field, c.says)
		}
	}
	if now, err := k.Group.Read(ctx, k.Actor(t, kit.Administrator), g.Address); err != nil || now.Version != g.Version {
		t.Errorf("something was changed: %+v, %v", now, err)
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
