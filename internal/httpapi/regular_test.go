package httpapi_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"slices"
	"strings"
	"testing"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
)

// The description that the console's types are made from is that of the code.
func TestOpenAPIIsCurrent(t *testing.T) {
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

// Whatever ETag is given out is taken back.
func TestTheFirstETagOfTerms(t *testing.T) {
	var e api.Terms
	_, body := ask(t, kit.Administrator, "GET", "/api/v1/terms", "")
	if err := json.Unmarshal([]byte(body), &e); err != nil {
		t.Fatal(err)
	}
	tag := fmt.Sprintf("%q", fmt.Sprint(e.Version))
	if status, says := ask(t, kit.Administrator, "PUT", "/api/v1/terms", body, "If-Match", tag); status != 200 {
		t.Errorf("with %s: %d %s", tag, status, says)
	}
	if status, _ := ask(t, kit.Administrator, "PUT", "/api/v1/terms", body, "If-Match", tag); status != 412 {
		t.Errorf("with %s again: %d", tag, status)
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

// rowsOf returns a row of the contract for each operation that an administrator is
// answered well.
func rowsOf() map[string]row {
	out := map[string]row{}
	for _, c := range contract {
		if _, have := out[c.op]; !have && c.want[6] < 300 {
			out[c.op] = c
		}
	}
	return out
}

// Every answer is an object, so that it can grow: there are no bare lists.
func TestAnswersAreObjects(t *testing.T) {
	for id, op := range operations() {
		for status, answer := range op.Responses {
			for kind, content := range answer.Content {
				schema := content.Schema
				if schema != nil && schema.Ref != "" {
					schema = doc.Components.Schemas.SchemaFromRef(schema.Ref)
				}
				if schema == nil || schema.Type != "object" {
					t.Errorf("%s answers %s %s with %+v", id, status, kind, schema)
				}
			}
		}
		if takes(op.Operation, "query", "cursor") != takes(op.Operation, "query", "limit") {
			t.Errorf("%s pages by halves", id)
		}
	}
}

// What an operation does not know is refused by its name, also where the rest is right.
func TestWhatIsUnknownIsRefused(t *testing.T) {
	f := newFixtures(t, "Unknown")
	for id, c := range rowsOf() {
		op := operations()[id]
		values, body := c.path, c.body
		f.fill(kit.Administrator, &values, &body)
		query := strings.TrimPrefix(c.query+"&owner=x", "&")
		status, says := ask(t, kit.Administrator, op.Method, at(op.Path, values, query), body)
		if p := decode[api.ProblemDetails](t, says); status != 422 || len(p.Problems) != 1 || p.Problems[0].Field != "owner" {
			t.Errorf("%s with a parameter that there is not: %d %s", id, status, says)
		}
		if status, says := ask(t, kit.Administrator, op.Method, at(op.Path, values, "q=%zz"), body); status != 422 || !strings.Contains(says, "query") {
			t.Errorf("%s with a query that can't be read: %d %s", id, status, says)
		}
		if op.RequestBody == nil {
			continue
		}
		odd := strings.Replace(strings.Replace(body, "{", `{"no_such_field": 1, `, 1), ", }", "}", 1)
		if status, says := ask(t, kit.Administrator, op.Method, at(op.Path, values, c.query), odd); status != 422 || !strings.Contains(says, "no_such_field") {
			t.Errorf("%s with a field that there is not: %d %s", id, status, says)
		}
	}
}

// The cursor of one list is refused by every other, and by the same one with another
// filter.
func TestACursorIsOfOneList(t *testing.T) {
	f := newFixtures(t, "Cursors")
	_, body := ask(t, kit.Administrator, "GET", "/api/v1/people?limit=1", "")
	cursor := decode[api.Page[api.Person]](t, body).Next
	if cursor == "" {
		t.Fatal("there is one person")
	}
	n := 0
	for id, c := range rowsOf() {
		op := operations()[id]
		if !takes(op.Operation, "query", "cursor") {
			continue
		}
		n++
		values := c.path
		f.fill(kit.Administrator, &values)
		status, says := ask(t, kit.Administrator, "GET", at(op.Path, values, strings.TrimPrefix(c.query+"&cursor="+url.QueryEscape(cursor), "&")), "")
		if p := decode[api.ProblemDetails](t, says); status != 422 || p.Problems[0].Field != "cursor" {
			t.Errorf("%s takes the cursor of the directory: %d %s", id, status, says)
		}
	}
	if n < 15 {
		t.Errorf("only %d lists have cursors", n)
	}
}

// These change what can't have changed since it was read, or are not made from what was
// read; every other change takes If-Match.
var unguarded = strings.Fields(`sign-in sign-out change-password revoke-token ask-password-link choose-password
	create-token create-group create-join-link create-person create-view change-many apply-sheet stop-change undo-change add-domain import-people move-person
	join-group leave-group use-join-link answer-invitation withdraw-request call-back-invitation call-back-join-link
	accept-findings assign-findings begin-round answer-round keep-asked change-externals change-own-part renew-told agree-to-care make-calendar call-back-calendar approach-group prove-address give-consent end-consent undo-entry decide-requests decide-waiting retry-undelivered send-again take-second-factor confirm-second-factor send-password-link move-clock pause-mail resume-mail set-digest-time make-key use-key delete-key repair-service`)

func TestChangesAreGuardedByWhatWasRead(t *testing.T) {
	f := newFixtures(t, "Guarded")
	rows := rowsOf()
	for id, op := range operations() {
		guarded, changes := takes(op.Operation, "header", "If-Match"), op.preview != nil || op.Method != "GET" && op.Method != "POST"
		switch {
		case guarded && slices.Contains(unguarded, id), changes && !guarded && !slices.Contains(unguarded, id):
			t.Errorf("%s takes If-Match: %v", id, guarded)
		case !guarded:
			continue
		}
		for _, tag := range []string{`"9999"`, `"r9999"`, `"nonsense"`} {
			c := rows[id]
			values, body := c.path, c.body
			f.fill(kit.Administrator, &values, &body)
			before := newest(t)
			if status, says := ask(t, kit.Administrator, op.Method, at(op.Path, values, c.query), body, "If-Match", tag); status != 412 || newest(t) != before {
				t.Errorf("%s of what is not so: %d %s", id, status, says)
			}
		}
	}
}

// An ETag of the settings of a group outlives a change of its people, and the other way
// round.
func TestPeopleAndSettingsAreVersionedApart(t *testing.T) {
	ref := "/api/v1/groups/" + k.Make(t, "Apart").Address
	tags := func() (group, members string) {
		t.Helper()
		a, b := send(t, kit.Owner, "GET", ref, ""), send(t, kit.Owner, "GET", ref+"/members", "")
		a.Body.Close()
		b.Body.Close()
		return a.Header.Get("ETag"), b.Header.Get("ETag")
	}
	group, members := tags()
	if status, says := ask(t, kit.Owner, "POST", ref+"/members", `{"people": [{"address": "`+kit.Auditor+`"}]}`, "If-Match", members); status != 200 {
		t.Fatalf("%d %s", status, says)
	}
	if status, says := ask(t, kit.Owner, "PATCH", ref+"/policy", `{"hold": "everyone"}`, "If-Match", group); status != 200 {
		t.Errorf("the policy after somebody was added: %d %s", status, says)
	}
	group, members = tags()
	if status, says := ask(t, kit.Owner, "PATCH", ref, `{"description": "Later"}`, "If-Match", group); status != 200 {
		t.Fatalf("%d %s", status, says)
	}
	if status, says := ask(t, kit.Owner, "DELETE", ref+"/members/"+kit.Auditor, "", "If-Match", members); status != 204 {
		t.Errorf("somebody is taken out after the description changed: %d %s", status, says)
	}
	if status, _ := ask(t, kit.Owner, "DELETE", ref+"/members/"+kit.Member, "", "If-Match", members); status != 412 {
		t.Errorf("with an ETag of the people before that: %d", status)
	}
}

// Whatever makes something takes a key, and makes it once for one key.
func TestARepeatMakesNothing(t *testing.T) {
	f := newFixtures(t, "Repeated")
	rows := rowsOf()
	keyed := 0
	for id, op := range operations() {
		has := takes(op.Operation, "header", "Idempotency-Key")
		if made := op.Responses["201"] != nil; made && !has {
			t.Errorf("%s makes something, but takes no key", id)
		}
		if !has {
			continue
		}
		keyed++
		c, who := rows[id], kit.Administrator
		if id == "leave-group" {
			c, who = row{path: "ref=<new>", body: `{}`}, kit.Member
		}
		values, body := c.path, c.body
		f.fill(who, &values, &body)
		path := at(op.Path, values, c.query)
		first, says := ask(t, who, op.Method, path, body, "Idempotency-Key", id)
		before := newest(t)
		again, same := ask(t, who, op.Method, path, body, "Idempotency-Key", id)
		if first >= 300 || again != first || newest(t) != before {
			t.Errorf("%s: %d %s\nrepeated: %d %s, and recorded %s", id, first, says, again, same, kinds(recorded(t, before)))
		}
		for _, field := range []string{"secret", "url"} {
			if first := decode[map[string]any](t, says+strings.Repeat("{}", 1-min(1, len(says)))); first[field] != nil {
				if repeat := decode[map[string]any](t, same); repeat[field] != nil || repeat["id"] != first["id"] {
					t.Errorf("%s repeated answers %s", id, same)
				}
			}
		}
		if body == "" {
			continue
		}
		other := strings.Replace(body, `"`, `"note": "x", "`, 1)
		if id == "join-group" || id == "leave-group" {
			other = `{"note": "x"}`
		} else if id != "create-join-link" {
			other = strings.NewReplacer(`"x"`, `"y"`, "Repeated", "Other", "REPEAT", "OTHER", "repeat", "other", kit.Auditor, kit.Colleague, ",", ", ").Replace(body)
		} else {
			other = `{"days": 3}`
		}
		if status, says := ask(t, who, op.Method, path, other, "Idempotency-Key", id); status != 409 || !strings.Contains(says, "different request") {
			t.Errorf("%s with the key for something else (%s): %d %s", id, other, status, says)
		}
	}
	if keyed < 10 {
		t.Errorf("only %d operations take keys", keyed)
	}
}
