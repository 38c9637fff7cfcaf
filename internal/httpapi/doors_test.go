package httpapi_test

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/httpapi"
	kit "ivytable.example/ivytable/internal/testkit"
)

// announces begins a request whose body never comes, and returns the status of the answer.
func announces(t *testing.T, op operation, octets int, header string) int {
	t.Helper()
	c, err := net.Dial("tcp", strings.TrimPrefix(server.URL, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	_ = c.SetDeadline(time.Now().Add(4 * time.Second)) // a body is waited for longer
	fmt.Fprintf(c, "%s %s HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: %d\r\n%s\r\n{", op.Method, at(op.Path, "ref=x address=y id=z", ""), octets, header)
	res, err := http.ReadResponse(bufio.NewReader(c), nil)
	if err != nil {
		return 0
	}
	return res.StatusCode
}

// Nobody's request is refused before what it brings is read, however much that is: its body never comes. So is anybody's that announces more
// than the route takes.
func TestBodiesThatNobodyReads(t *testing.T) {
	by := "Authorization: Bearer " + token(t, kit.Administrator) + "\r\n"
	for id, op := range operations() {
		if op.RequestBody == nil {
			continue
		}
		public := op.Security != nil && len(op.Security) == 0
		for _, octets := range []int{20_000, 3_000_000} {
			want := http.StatusUnauthorized
			if public {
				want = http.StatusRequestEntityTooLarge
			}
			if got := announces(t, op, octets, ""); got != want {
				t.Errorf("%s with %d octets by nobody: %d, want %d", id, octets, got, want)
			}
		}
		if got := announces(t, op, 49<<20, by); got != http.StatusRequestEntityTooLarge {
			t.Errorf("%s with 49 MiB: %d", id, got)
		}
	}
}

// What the interface answers is kept by nobody, and is what it says.
func TestAnswersAreNotKept(t *testing.T) {
	for _, path := range []string{"/api/v1/groups", "/api/v1/nothing", "/api/openapi.json"} {
		res := send(t, kit.Administrator, "GET", path, "")
		res.Body.Close()
		if res.Header.Get("Cache-Control") != "no-store" || res.Header.Get("X-Content-Type-Options") != "nosniff" {
			t.Errorf("%s: %v", path, res.Header)
		}
	}
}

// Neither the log nor the figures have a secret, or a name that a client made up, in them.
func TestSecretsStayOutOfTheLog(t *testing.T) {
	var log bytes.Buffer
	console := http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) { rw.WriteHeader(http.StatusNotFound) })
	h, _ := httpapi.Routes(k.Service, httpapi.Options{Log: slog.New(slog.NewTextHandler(&log, nil)), Console: console})
	ask := func(method, path string) int {
		rw := httptest.NewRecorder()
		h.ServeHTTP(rw, httptest.NewRequest(method, path, strings.NewReader(`{"answer": "accept", "password": "x"}`)))
		return rw.Code
	}
	const secret = "ivy_NobodyMayReadThis"
	for route, op := range doc.Paths {
		if !strings.Contains(route, "{secret}") {
			continue
		}
		for method, there := range map[string]bool{"GET": op.Get != nil, "POST": op.Post != nil} {
			if there {
				ask(method, strings.Replace(route, "{secret}", secret, 1))
			}
		}
	}
	for _, path := range []string{"/password/" + secret, "/join/" + secret, "/invitations/" + secret, "/api/v1/no-such-thing/" + secret} {
		ask("GET", path)
		ask("POST", path)
	}
	if got := log.String(); strings.Contains(got, secret) || strings.Count(got, "\n") < 8 {
		t.Errorf("the log says\n%s", got)
	}
	if code := ask("GET", "/metrics"); code != http.StatusNotFound {
		t.Errorf("the figures are open: %d", code)
	}
	for i := range 5 {
		ask(fmt.Sprintf("INVENTED%d", i), "/api/v1/groups")
	}
	rw := httptest.NewRecorder()
	httpapi.Metrics().ServeHTTP(rw, httptest.NewRequest("GET", "/metrics", nil))
	figures, _ := io.ReadAll(rw.Body)
	if !bytes.Contains(figures, []byte("ivytable_http_request_seconds")) || bytes.Contains(figures, []byte("INVENTED")) || bytes.Contains(figures, []byte(secret)) {
		t.Error("the figures have what a client made up in them, or nothing at all")
	}
}

// A name that is a formula is none in a spreadsheet.
func TestExportsHoldNoFormulas(t *testing.T) {
	name := `=HYPERLINK("http://x.example")`
	if _, err := k.Directory.Create(ctx, k.Actor(t, kit.Administrator), api.NewPersonEntry{Address: "formula@merrowline.example", Name: name}); err != nil {
		t.Fatal(err)
	}
	g := k.Make(t, "Formulas", func(n *api.NewGroup) { n.People = []api.NewPerson{{Address: "formula@merrowline.example"}} })
	if status, csv := ask(t, kit.Owner, "GET", "/api/v1/groups/"+g.Address+"/member-export", ""); status != 200 || !strings.Contains(csv, `"'=HYPERLINK(""http://x.example"")"`) {
		t.Errorf("%d %s", status, csv)
	}
	for _, bad := range []string{"Turned\u202earound", "Nothing\u200bthere", "Two\u2028lines"} {
		status, says := ask(t, kit.Administrator, "POST", "/api/v1/groups", `{"name": "`+bad+`", "owners": ["`+kit.Owner+`"]}`)
		if status != 422 || !strings.Contains(says, "is one that is not seen") {
			t.Errorf("%q: %d %s", bad, status, says)
		}
	}
	long := strings.Repeat("a", 60) + "@" + strings.Repeat(strings.Repeat("b", 60)+".", 4) + "example"
	if status, says := ask(t, kit.Owner, "POST", "/api/v1/groups/"+g.Address+"/members", `{"people": [{"address": "`+long+`"}]}`); status != 200 || !strings.Contains(says, "254 is the most") {
		t.Errorf("an address too long: %d %s", status, says)
	}
}

// Who tries too many passwords is told when to come back.
func TestTooManyPasswords(t *testing.T) {
	var res *http.Response
	for range 9 {
		res = send(t, "", "POST", "/api/v1/session", `{"address": "guessed@merrowline.example", "password": "wrong"}`)
		res.Body.Close()
	}
	if after, err := strconv.Atoi(res.Header.Get("Retry-After")); res.StatusCode != http.StatusTooManyRequests || err != nil || after < 1 || after > 15*60+1 {
		t.Errorf("%d, Retry-After %q", res.StatusCode, res.Header.Get("Retry-After"))
	}
}
