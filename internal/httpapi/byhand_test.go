package httpapi_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
)

// withToken asks with a token of an administrator that is good for scopes.
func withToken(t *testing.T, secret, method, path, body string) (int, string) {
	t.Helper()
	r, err := http.NewRequest(method, server.URL+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	r.Header.Set("Authorization", "Bearer "+secret)
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	res, err := http.DefaultClient.Do(r)
	if err != nil {
		t.Fatal(err)
	}
	return res.StatusCode, readAll(t, res)
}

// Roles, delegations, passwords, second factors and the addresses of people who have roles are changed by no token, whatever it is good for.
func TestWhatATokenNeverDoes(t *testing.T) {
	f := newFixtures(t, "By Hand")
	ines := k.Actor(t, kit.Administrator)
	somebody := f.person()
	for _, scope := range []string{"people", "everything"} {
		secret := kit.First(k.Account.CreateToken(ctx, ines, api.NewToken{Name: "by hand", Scopes: []string{scope}})).Secret
		for _, c := range []struct{ what, method, path, body string }{
			{"makes an administrator", "PATCH", "/people/" + somebody, `{"workspace_role": "administrator"}`},
			{"creates an administrator", "POST", "/people", `{"address": "new-one@merrowline.example", "name": "New One", "workspace_role": "administrator"}`},
			{"creates somebody with a link", "POST", "/people", `{"address": "new-one@merrowline.example", "name": "New One", "password_link": true}`},
			{"moves an auditor", "PATCH", "/people/" + kit.Auditor, `{"address": "elsewhere@merrowline.example"}`},
			{"mails a password link", "POST", "/people/" + somebody + "/password-link", ""},
			{"takes a second factor", "DELETE", "/people/" + somebody + "/second-factor", ""},
			{"delegates", "PUT", "/areas", `{"areas": [{"name": "A", "filter": "domain pr", "powers": ["people"], "helpers": ["` + somebody + `"]}]}`},
			{"demands no second factor", "PUT", "/protection", `{"second_factor": "everybody", "shown_attributes": [], "groups_a_day": 5, "outsiders_a_day": 50, "letters_a_day": 100000}`},
			{"makes a token", "POST", "/tokens", `{"name": "more"}`},
		} {
			status, says := withToken(t, secret, c.method, "/api/v1"+c.path, c.body)
			if status != 403 {
				t.Errorf("a token for %s %s: %d %s", scope, c.what, status, says)
			}
		}
	}
	// Nor does a token for people retire groups by answering for them.
	secret := kit.First(k.Account.CreateToken(ctx, k.Actor(t, kit.Owner), api.NewToken{Name: "people", Scopes: []string{"people"}})).Secret
	g := f.group("")
	r := kit.First(k.Round.Begin(ctx, ines, api.NewRound{Name: "By hand", Filter: fmt.Sprintf("address eq %q", g.Address), Questions: []string{"needed"}, DueOn: k.Now().AddDate(0, 0, 20).Format(time.DateOnly)}))
	id := kit.First(k.Round.Groups(ctx, ines, r.ID, nil, "", "", 1)).Items[0].ID
	if status, says := withToken(t, secret, "POST", "/api/v1/round-answers", `{"ids": ["`+id+`"], "answer": "retire"}`); status != 403 || !strings.Contains(says, "groups") {
		t.Errorf("retired by a token for people: %d %s", status, says)
	}
}
