package httpapi_test

import (
	"net/http"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	kit "ivytable.example/ivytable/internal/testkit"
)

var inPath = regexp.MustCompile(`{[^}]+}`)

// Every operation asks a token for a scope, and is refused to every token without it, before
// anything else is said.
func TestEveryRouteForEveryScope(t *testing.T) {
	ines := k.Actor(t, kit.Administrator)
	byScope := map[string]string{}
	for _, s := range access.AllScopes {
		made, err := k.Account.CreateToken(ctx, ines, api.NewToken{Name: "scope " + string(s), Scopes: []string{string(s)}})
		if err != nil {
			t.Fatal(err)
		}
		byScope[string(s)] = made.Secret
	}
	of := map[string]int{}
	for id, op := range operations() {
		need, _ := op.Extensions["x-scope"].(string)
		of[need]++
		if !slices.Contains([]string{"read", "people", "groups", "policy", "everything"}, need) {
			t.Errorf("%s asks for the scope %q", id, need)
		}
		if op.Method == "GET" && need != "read" {
			t.Errorf("%s reads, and asks for %s", id, need)
		}
		if op.preview != nil && op.preview.Extensions["x-scope"] != need {
			t.Errorf("to look at %s needs %v", id, op.preview.Extensions["x-scope"])
		}
		for have, secret := range byScope {
			r, err := http.NewRequest(op.Method, server.URL+inPath.ReplaceAllString(op.Path, url.PathEscape(nothing)), strings.NewReader(""))
			if err != nil {
				t.Fatal(err)
			}
			r.Header.Set("Authorization", "Bearer "+secret)
			res, err := http.DefaultClient.Do(r)
			if err != nil {
				t.Fatal(err)
			}
			says := readAll(t, res)
			no := res.StatusCode == 403 && strings.Contains(says, "This token is good for "+have)
			if want := !(access.Scopes{access.Scope(have)}).Cover(access.Scope(need)); no != want {
				t.Errorf("%s, which needs %s, with a token for %s: %d %s", id, need, have, res.StatusCode, says)
			}
		}
	}
	for _, s := range []string{"read", "people", "groups", "policy", "everything"} {
		if of[s] == 0 {
			t.Errorf("nothing asks for the scope %s", s)
		}
	}
}
