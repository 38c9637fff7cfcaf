package httpapi_test

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
)

// Every list that pages can be walked to its end, shows each item once, and counts
// what it shows.
func TestEveryListCanBeWalked(t *testing.T) {
	g := k.Make(t, "Walked", func(n *api.NewGroup) { n.Externals = "owners" })
	inner := k.Make(t, "Walked Inner")
	var people []api.NewPerson
	for i := range 12 {
		people = append(people, api.NewPerson{Address: fmt.Sprintf("walker-%02d@gannetport.example", i)})
	}
	owner := k.Actor(t, kit.Owner)
	if _, err := k.Member.Add(ctx, owner, g.Address, api.NewMembers{People: append(people, api.NewPerson{Address: inner.Address}), Quiet: true}, 0); err != nil {
		t.Fatal(err)
	}
	for i := range people {
		people[i].Address = strings.Replace(people[i].Address, "walker", "invited", 1)
	}
	if _, err := k.Member.Add(ctx, owner, g.Address, api.NewMembers{People: people, Way: "invite"}, 0); err != nil {
		t.Fatal(err)
	}
	admin := k.Actor(t, kit.Administrator)
	for i := range 9 {
		address := fmt.Sprintf("asker-%d@merrowline.example", i)
		if _, err := k.Directory.Create(ctx, admin, api.NewPersonEntry{Address: address, Name: fmt.Sprintf("Asker %d", i)}); err != nil {
			t.Fatal(err)
		}
		if _, err := k.Joining.Join(ctx, k.Actor(t, address), g.Address, api.JoinRequest{}); err != nil {
			t.Fatal(err)
		}
	}
	k.Queued(t)
	ref := "/api/v1/groups/" + g.Address
	for _, c := range []struct {
		path  string
		total int64 // -1: the list does not count; 0: whatever it counts
	}{
		{ref + "/members?", 16}, {ref + "/members?kind=external&", 12}, {ref + "/members?q=walker&", 12}, {ref + "/effective-members?", 15}, {ref + "/effective-members?q=walker&", 12},
		{ref + "/invitations?", 12}, {ref + "/requests?", 9}, {"/api/v1/requests?", 0}, {"/api/v1/people?", 0}, {"/api/v1/people?q=asker&", 9}, {"/api/v1/people?kind=external&q=walker&", 12},
		{"/api/v1/groups?", 0}, {"/api/v1/groups?sort=-people&", 0}, {"/api/v1/groups?scope=joinable&", 0}, {ref + "/history?", -1}, {"/api/v1/history?", -1}, {"/api/v1/people/" + kit.Owner + "/history?", -1},
	} {
		seen := map[string]bool{}
		total, cursor := int64(-2), ""
		for range 1000 {
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

func TestExportOverHTTP(t *testing.T) {
	g := k.Make(t, "Exported")
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
	g := k.Make(t, "Large List")
	var list strings.Builder
	for i := range 60_000 {
		fmt.Fprintf(&list, "somebody-number-%06d-with-a-long-name@merrowline.example\n", i)
	}
	body, _ := json.Marshal(map[string]any{"text": list.String(), "group": g.Address})
	if len(body) < 3<<20 {
		t.Fatalf("the list has only %d octets", len(body))
	}
	body, _ = json.Marshal(map[string]any{"text": list.String() + list.String(), "group": g.Address})
	status, says := ask(t, kit.Owner, "POST", "/api/v1/people-lists", string(body))
	if status != 200 {
		t.Fatalf("%d %.300s", status, says)
	}
	r := decode[api.Preview](t, says)
	if r.Total != 120_000 || len(r.Sample) != 1000 || r.Counts["unknown"] != 120_000 && r.Counts["repeated"] != 60_000 {
		t.Errorf("%d lines, %d shown, %v", r.Total, len(r.Sample), r.Counts)
	}
	if status, _ := ask(t, kit.Owner, "PATCH", "/api/v1/groups/"+g.Address, `{"description": "`+strings.Repeat("x", 5<<20)+`"}`); status != 413 {
		t.Errorf("a description as large: %d", status)
	}
}
