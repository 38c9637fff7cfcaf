package httpapi_test

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
)

func decode[T any](t *testing.T, body string) (v T) {
	t.Helper()
	if err := json.Unmarshal([]byte(body), &v); err != nil {
		t.Fatalf("%v in %s", err, body)
	}
	return v
}

// Every list that pages can be walked to its end, shows each item once, and counts
// what it shows.
func TestEveryListCanBeWalked(t *testing.T) {
	g := k.Group(t, "Walked", func(n *api.NewGroup) { n.Externals = "owners" })
	inner := k.Group(t, "Walked Inner")
	var people []api.NewPerson
	for i := range 12 {
		people = append(people, api.NewPerson{Address: fmt.Sprintf("walker-%02d@gannetport.example", i)})
	}
	owner := k.Actor(t, kit.Owner)
	if _, err := k.W.AddMembers(ctx, owner, g.Address, api.NewMembers{People: append(people, api.NewPerson{Address: inner.Address}), Quiet: true}); err != nil {
		t.Fatal(err)
	}
	for i := range people {
		people[i].Address = strings.Replace(people[i].Address, "walker", "invited", 1)
	}
	if _, err := k.W.AddMembers(ctx, owner, g.Address, api.NewMembers{People: people, Way: "invite"}); err != nil {
		t.Fatal(err)
	}
	admin := k.Actor(t, kit.Administrator)
	for i := range 9 {
		address := fmt.Sprintf("asker-%d@merrowline.example", i)
		if _, err := k.W.CreatePerson(ctx, admin, api.NewPersonEntry{Address: address, Name: fmt.Sprintf("Asker %d", i)}); err != nil {
			t.Fatal(err)
		}
		if _, err := k.W.Join(ctx, k.Actor(t, address), g.Address, api.Wish{}); err != nil {
			t.Fatal(err)
		}
	}
	k.Queued(t)
	ref := "/api/v1/groups/" + g.Address
	for _, c := range []struct {
		path  string
		total int64 // -1: the list does not count; 0: whatever it counts
	}{
		{ref + "/members?", 16}, {ref + "/members?kind=external&", 12}, {ref + "/members?q=walker&", 12}, {ref + "/reached?", 15}, {ref + "/reached?q=walker&", 12},
		{ref + "/invitations?", 12}, {ref + "/requests?", 9}, {"/api/v1/requests?", 0}, {"/api/v1/people?", 0}, {"/api/v1/people?q=asker&", 9}, {"/api/v1/people?kind=external&q=walker&", 12},
		{"/api/v1/groups?", 0}, {"/api/v1/groups?sort=-people&", 0}, {"/api/v1/groups?scope=joinable&", 0}, {ref + "/history?", -1}, {"/api/v1/history?", -1}, {"/api/v1/people/" + kit.Owner + "/history?", -1},
	} {
		seen := map[string]bool{}
		total, cursor := int64(-2), ""
		for range 200 {
			status, body := ask(t, kit.Administrator, "GET", c.path+"limit=4&cursor="+cursor, "")
			if status != 200 {
				t.Fatalf("%s: %d %s", c.path, status, body)
			}
			page := decode[struct {
				Items []map[string]any
				Next  string
				Total int64
			}](t, body)
			if total == -2 {
				total = page.Total
			} else if page.Total != total {
				t.Errorf("%s: counts %d, then %d", c.path, total, page.Total)
			}
			for _, x := range page.Items {
				id := fmt.Sprint(x["id"])
				if seen[id] {
					t.Errorf("%s shows %s twice", c.path, id)
				}
				seen[id] = true
			}
			if cursor = page.Next; cursor == "" {
				break
			}
		}
		if c.total > 0 && total != c.total || c.total >= 0 && int64(len(seen)) != total || len(seen) < 2 {
			t.Errorf("%s: %d items, counted %d, want %d", c.path, len(seen), total, c.total)
		}
	}
}

func TestBadStaffingRequests(t *testing.T) {
	g := k.Group(t, "Bad Staffing")
	ref := "/api/v1/groups/" + g.Address
	long := strings.Repeat("x", 6000)
	for _, c := range []struct {
		name, method, path, body string
		status                   int
		field, says              string
	}{
		{"nobody to add", "POST", ref + "/members", `{}`, 422, "people", "nobody in the list"},
		{"an unknown way", "POST", ref + "/members", `{"way": "carry", "people": [{"address": "a@b.example"}]}`, 422, "way", "direct or invite"},
		{"two kinds of list", "POST", ref + "/members", `{"list": {"text": "x", "everyone": true}}`, 422, "list", "one way"},
		{"a file that is no text", "POST", ref + "/members", `{"list": {"file": "` + base64.StdEncoding.EncodeToString([]byte("PK\x03\x04")) + `"}}`, 422, "list", "spreadsheet"},
		{"a file that is no base64", "POST", ref + "/members", `{"list": {"file": "%%%"}}`, 422, "list.file", ""},
		{"people of nothing", "POST", ref + "/members", `{"list": {"people_of": "nothing@merrowline.example"}}`, 404, "", "no group"},
		{"no members named", "PATCH", ref + "/members", `{"members": [], "role": "owner"}`, 422, "members", ""},
		{"nothing to change", "PATCH", ref + "/members", `{"members": ["a@b.example"]}`, 422, "role", "Say what to change"},
		{"a role that is none", "PATCH", ref + "/members", `{"members": ["a@b.example"], "role": "king"}`, 422, "role", "owner, moderator, member"},
		{"an unknown filter", "GET", ref + "/members?kind=ghost", "", 422, "kind", "departed, external, group, person"},
		{"a day that is none", "GET", ref + "/members?since=soon", "", 422, "since", "2026-11-23"},
		{"an export with a bad filter", "GET", ref + "/member-export?delivery=pigeon", "", 422, "delivery", "each, none"},
		{"an answer that is none", "POST", "/api/v1/invitations/nonsense", `{"answer": "maybe"}`, 422, "answer", "accept or decline"},
		{"a verdict that is none", "POST", "/api/v1/requests/decisions", `{"requests": ["x"], "verdict": "maybe"}`, 422, "verdict", "approve or decline"},
		{"nothing to decide", "POST", "/api/v1/requests/decisions", `{"requests": [], "verdict": "approve"}`, 422, "requests", ""},
		{"a standing that is none", "PUT", ref + "/standings/a@b.example", `{"standing": "liked"}`, 422, "standing", "barred, trusted, held"},
		{"a standing of no address", "PUT", ref + "/standings/somebody", `{"standing": "held"}`, 422, "address", "no @"},
		{"a link for ever", "POST", ref + "/join-links", `{"days": 4000}`, 422, "days", "365"},
		{"a rule that breaks off", "PUT", ref + "/rule", `{"expression": "department eq"}`, 422, "expression", "breaks off"},
		{"a rule without end", "PUT", ref + "/rule", `{"expression": "` + long + `"}`, 422, "expression", "5000"},
		{"a guard above all", "PUT", ref + "/rule", `{"expression": "title pr", "guard": 300}`, 422, "guard", "100"},
		{"an explanation of nobody", "POST", "/api/v1/rules/explanation", `{"expression": "title pr", "person": "nobody@merrowline.example"}`, 404, "", "nobody"},
		{"a suffix of a field that is none", "PUT", "/api/v1/naming", `{"creators": "workspace", "prefix": "", "suffix": "{shoe}", "words": [], "beginnings": []}`, 422, "suffix", "no field"},
		{"a starting point in capitals", "PUT", "/api/v1/starting-points/Season", `{"title": "Season"}`, 422, "name", "small letters"},
		{"a starting point with a contradiction", "PUT", "/api/v1/starting-points/odd", `{"title": "Odd", "policy": {"policy": {"find": "owners", "read": "anyone"}}}`, 422, "read", ""},
		{"a person outside", "POST", "/api/v1/people", `{"address": "x@elsewhere.example", "name": "X"}`, 422, "address", "not a domain"},
		{"a person without a name", "POST", "/api/v1/people", `{"address": "x@merrowline.example", "name": ""}`, 422, "name", "empty"},
		{"an attribute that is none", "PATCH", "/api/v1/people/" + kit.Member, `{"attributes": {"shoe": "38"}}`, 422, "attributes.shoe", "no field"},
		{"a field that nobody lacks", "GET", "/api/v1/people?lacks=shoe", "", 422, "lacks", "no field"},
		{"a departure to nobody", "POST", "/api/v1/people/" + kit.Member + "/departure", `{"hand_to": "nobody@merrowline.example"}`, 422, "hand_to", "Nobody else"},
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
	if now, err := k.W.Group(ctx, k.Actor(t, kit.Administrator), g.Address); err != nil || now.Version != g.Version {
		t.Errorf("something was changed: %+v, %v", now, err)
	}
}

func TestVersionsOfPeopleAndNaming(t *testing.T) {
	path := "/api/v1/people/" + kit.Auditor
	_, body := ask(t, kit.Administrator, "GET", path, "")
	p := decode[api.PersonDetails](t, body)
	tag := fmt.Sprintf("%q", fmt.Sprint(p.Version))
	if status, says := ask(t, kit.Administrator, "PATCH", path, `{"attributes": {"title": "Clerk"}}`, "If-Match", tag); status != 200 {
		t.Errorf("with %s: %d %s", tag, status, says)
	}
	if status, _ := ask(t, kit.Administrator, "PATCH", path, `{"attributes": {"title": "Judge"}}`, "If-Match", tag); status != 412 {
		t.Errorf("with %s again: %d", tag, status)
	}
	_, body = ask(t, kit.Administrator, "GET", "/api/v1/naming", "")
	n := decode[api.Naming](t, body)
	tag = fmt.Sprintf("%q", fmt.Sprint(n.Version))
	if status, says := ask(t, kit.Administrator, "PUT", "/api/v1/naming", body, "If-Match", tag); status != 200 {
		t.Errorf("with %s: %d %s", tag, status, says)
	}
	if status, _ := ask(t, kit.Administrator, "PUT", "/api/v1/naming", body, "If-Match", tag); status != 412 {
		t.Errorf("with %s again: %d", tag, status)
	}
}

func TestExportOverHTTP(t *testing.T) {
	g := k.Group(t, "Exported")
	r, err := http.NewRequest("GET", server.URL+"/api/v1/groups/"+g.Address+"/member-export?role=owner", nil)
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+token(t, kit.Owner))
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	defer res.Body.Close()
	b, _ := io.ReadAll(res.Body)
	if res.StatusCode != 200 || res.Header.Get("Content-Type") != "text/csv; charset=utf-8" || res.Header.Get("Content-Disposition") != "attachment; filename=exported.csv" {
		t.Errorf("%d %v", res.StatusCode, res.Header)
	}
	if lines := strings.Split(strings.TrimSpace(string(b)), "\r\n"); len(lines) != 2 || !strings.HasPrefix(lines[1], "Oda Fenn,"+kit.Owner+",owner,each,person,false,") {
		t.Errorf("%q", b)
	}
}

// A list of people larger than other requests may be is taken where lists are.
func TestLargeLists(t *testing.T) {
	g := k.Group(t, "Large List")
	var list strings.Builder
	for i := range 60_000 {
		fmt.Fprintf(&list, "somebody-number-%06d-with-a-long-name@merrowline.example\n", i)
	}
	body, _ := json.Marshal(map[string]any{"text": list.String(), "group": g.Address})
	if len(body) < 3<<20 {
		t.Fatalf("the list has only %d octets", len(body))
	}
	body, _ = json.Marshal(map[string]any{"text": list.String() + list.String(), "group": g.Address})
	status, says := ask(t, kit.Owner, "POST", "/api/v1/rosters", string(body))
	if status != 200 {
		t.Fatalf("%d %.300s", status, says)
	}
	r := decode[api.Roster](t, says)
	if r.Total != 120_000 || r.Ready != 0 || len(r.Lines) != 1000 || r.Counts["unknown"] != 120_000 && r.Counts["repeated"] != 60_000 {
		t.Errorf("%d lines, %d shown, %v", r.Total, len(r.Lines), r.Counts)
	}
	if status, _ := ask(t, kit.Owner, "PATCH", "/api/v1/groups/"+g.Address, `{"description": "`+strings.Repeat("x", 5<<20)+`"}`); status != 413 {
		t.Errorf("a description as large: %d", status)
	}
}

// What a group does not show, no other way shows either.
func TestHiddenPeopleStayHidden(t *testing.T) {
	g := k.Group(t, "Quiet Circle", func(n *api.NewGroup) {
		n.Policy, n.Join = map[string]string{"find": "members", "see_people": "owners"}, &api.JoinPatch{Audience: "nobody"}
	})
	ref := "/api/v1/groups/" + g.Address
	for _, path := range []string{"/members", "/member-export", "/reached", "/nesting", "/rule"} {
		if status, body := ask(t, kit.Member, "GET", ref+path, ""); status != 403 || strings.Contains(body, kit.Owner) {
			t.Errorf("a member gets %s: %d %s", path, status, body)
		}
		if status, body := ask(t, kit.Colleague, "GET", ref+path, ""); status != 404 || strings.Contains(body, "Quiet") {
			t.Errorf("a colleague gets %s: %d %s", path, status, body)
		}
	}
	for _, c := range [][3]string{{"POST", "/joining", `{}`}, {"POST", "/leaving", `{}`}, {"GET", "/requests", ""}, {"GET", "/invitations", ""}, {"GET", "/join-links", ""}, {"GET", "/standings", ""},
		{"PUT", "/standings/a@b.example", `{"standing": "held"}`}, {"PUT", "/rule", `{"expression": "title pr"}`}, {"PATCH", "/members", `{"members": ["x"], "remove": true}`}} {
		if status, body := ask(t, kit.Colleague, c[0], ref+c[1], c[2]); status != 404 || strings.Contains(body, "Quiet") {
			t.Errorf("a colleague %s %s: %d %s", c[0], c[1], status, body)
		}
	}
	if _, body := ask(t, kit.Colleague, "GET", "/api/v1/people/"+kit.Owner, ""); strings.Contains(body, "Quiet Circle") {
		t.Error("a person's page tells of it")
	}
	if _, body := ask(t, kit.Colleague, "POST", "/api/v1/rosters", `{"people_of": "`+g.Address+`", "group": "`+k.Group(t, "Own Circle", func(n *api.NewGroup) { n.Owners = []string{kit.Colleague} }).Address+`"}`); strings.Contains(body, kit.Member) {
		t.Error("copying its people tells who they are")
	}
	if status, _ := ask(t, kit.Member, "POST", "/api/v1/rosters", `{"people_of": "`+g.Address+`", "group": "`+k.Group(t, "Members Circle", func(n *api.NewGroup) { n.Owners = []string{kit.Member}; n.People = nil }).Address+`"}`); status != 403 {
		t.Errorf("a member copies people whom they may not see: %d", status)
	}
}
