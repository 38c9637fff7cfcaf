package httpapi_test

import (
	"encoding/json"
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	kit "ivytable.example/ivytable/internal/testkit"
)

// These walk every route with one class of attack, from the description of the interface: a
// new route is in them without anybody having to think of it.

var (
	placeholder = regexp.MustCompile(`<[a-z ]+>`)
	quiet       = 12 * time.Millisecond // what it takes at least to say that something is not there
)

// What may not be found answers as what does not exist: in its words, and in the class of time
// that it takes.
func TestHiddenIsAbsentOnEveryRoute(t *testing.T) {
	hidden := k.Make(t, "Hidden Everywhere", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("find=members join.audience=nobody") })
	const absent = "absent-everywhere@merrowline.example"
	rows, walked := rowsOf(), 0
	for id, op := range operations() {
		if !strings.HasPrefix(op.Path, "/api/v1/groups/{ref}") {
			continue
		}
		walked++
		c := rows[id]
		answer := func(ref string) (string, time.Duration) {
			values := strings.Fields(placeholder.ReplaceAllString(c.path, kit.Member))
			values = slices.DeleteFunc(values, func(v string) bool { return strings.HasPrefix(v, "ref=") })
			began := time.Now()
			status, body := ask(t, kit.Colleague, op.Method, at(op.Path, strings.Join(append(values, "ref="+ref), " "), c.query),
				placeholder.ReplaceAllString(c.body, kit.Member), "X-Request-Id", "same")
			return fmt.Sprint(status, strings.ReplaceAll(body, ref, "GROUP")), time.Since(began)
		}
		there, took := answer(hidden.Address)
		gone, took2 := answer(absent)
		if there != gone {
			t.Errorf("%s of a hidden group: %s\nof an absent one: %s", id, there, gone)
		}
		if strings.HasPrefix(there, "404") && (took < quiet || took2 < quiet) {
			t.Errorf("%s tells by its time: hidden %v, absent %v", id, took, took2)
		}
	}
	if walked < 30 {
		t.Errorf("only %d operations are about a group", walked)
	}
}

// hostile are texts that people and programs do send, each with several things that break
// something.
var hostile = map[string]string{
	"ten thousand letters": strings.Repeat("a", 10_000), "a NUL": "=a\x00b", "a turned name": "abc\u202edef\u200b", "line breaks": "a\r\nBcc: x@y.example\r\n\r\n",
	"quotes": `../'";--<script>alert(1)</script>%s%n%00`, "letters of the world": "Ünïcödé ПРИВЕТ 你好 𝔘 99999999999999999999", "an address without end": "a@" + strings.Repeat("b.", 3000) + "example" + strings.Repeat("(", 5000),
}

// No input breaks anything: whatever stands in a field, the answer is one that a person can do
// something about.
func TestNoInputBreaksAnything(t *testing.T) {
	f := newFixtures(t, "Broken")
	for id, c := range rowsOf() {
		op := operations()[id]
		if c.body == "" || slices.Contains(strings.Fields("move-clock import-people sign-in change-password begin-second-factor end-second-factor"), id) {
			continue // wrong passwords would shut the other tests out
		}
		var leaves []string // of the body: the texts in it
		for _, m := range regexp.MustCompile(`: ?"((?:[^"\\]|\\.)*)"|\["((?:[^"\\]|\\.)*)"`).FindAllStringSubmatch(c.body, -1) {
			leaves = append(leaves, m[1]+m[2])
		}
		values, body := c.path, c.body
		f.fill(kit.Administrator, &values, &body)
		for _, leaf := range leaves {
			for name, text := range hostile {
				quoted, _ := json.Marshal(text)
				bad := strings.Replace(c.body, `"`+leaf+`"`, string(quoted), 1)
				bad = placeholder.ReplaceAllString(bad, kit.Member)
				path := op.Path
				if op.preview != nil {
					path = op.preview.Path // nothing is to change: the code is the same
				} else if op.Method != "POST" {
					continue
				}
				if status, says := ask(t, kit.Administrator, "POST", at(path, values, c.query), bad); status >= 500 {
					t.Errorf("%s with %s for %q: %d %s", id, name, leaf, status, says)
				}
			}
		}
	}
	for id, op := range operations() { // in paths and queries
		for name, text := range hostile {
			if len(text) > 3000 {
				text = text[:3000]
			}
			if op.Method != "GET" {
				continue
			}
			path := inPath.ReplaceAllString(op.Path, strings.NewReplacer("%", "%25", "\x00", "%00", "\r", "%0D", "\n", "%0A", "/", "%2F", " ", "%20", "\"", "%22", "<", "%3C", ">", "%3E", "#", "%23", "?", "%3F").Replace(text))
			query := ""
			for _, p := range op.Parameters {
				if p.In == "query" {
					query += "&" + p.Name + "=" + strings.NewReplacer("%", "%25", "\x00", "%00", "\r", "%0D", "\n", "%0A", " ", "%20", "&", "%26", "\"", "%22", "<", "%3C", ">", "%3E", "#", "%23", ";", "%3B").Replace(text)
				}
			}
			if status, says := ask(t, kit.Administrator, "GET", path+"?"+strings.TrimPrefix(query, "&"), ""); status >= 500 {
				t.Errorf("%s with %s: %d %s", id, name, status, says)
			}
		}
	}
}

// A hundred of the same at once do no more than one, and stop nobody: each is answered, and
// lists go on.
func TestAHundredAtOnce(t *testing.T) {
	f := newFixtures(t, "Hundred")
	for _, id := range []string{"change-policy", "join-group", "set-standing", "renew-group", "retire-group", "add-members", "change-group", "set-rule", "create-join-link", "decide-requests", "retry-undelivered"} {
		c, ok := rowsOf()[id]
		if !ok {
			t.Fatalf("there is no row of %s", id)
		}
		op := operations()[id]
		values, body := c.path, c.body
		f.fill(kit.Administrator, &values, &body)
		path := at(op.Path, values, c.query)
		token(t, kit.Administrator)
		var all sync.WaitGroup
		var mu sync.Mutex
		answers := map[int]int{}
		for range 100 {
			all.Go(func() {
				status, says := ask(t, kit.Administrator, op.Method, path, body)
				mu.Lock()
				defer mu.Unlock()
				if answers[status]++; status >= 500 {
					t.Errorf("%s, a hundred at once: %d %s", id, status, says)
				}
			})
		}
		all.Wait()
		if answers[200]+answers[201]+answers[204] == 0 {
			t.Errorf("%s, a hundred at once: %v", id, answers)
		}
	}
	if status, _ := ask(t, kit.Administrator, "GET", "/api/v1/groups?limit=5", ""); status != 200 {
		t.Errorf("a list afterwards: %d", status)
	}
}
