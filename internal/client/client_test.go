package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
)

// operation is what the description of the interface says of one.
type operation struct {
	OperationID string `json:"operationId"`
	Parameters  []struct{ Name, In string }
	RequestBody struct {
		Content map[string]struct {
			Schema map[string]any
		}
	} `json:"requestBody"`
}

// description is the description of the interface, as the console has it too.
type description struct {
	Paths      map[string]map[string]operation
	Components struct {
		Schemas map[string]struct {
			Properties map[string]any
		}
	}
}

func describe(t *testing.T) description {
	t.Helper()
	b, err := os.ReadFile("../../console/src/api/openapi.json")
	if err != nil {
		t.Fatal(err)
	}
	var d description
	if err := json.Unmarshal(b, &d); err != nil {
		t.Fatal(err)
	}
	return d
}

// find returns the operation that a request is for. A path that names its parts goes
// before one with a place for any.
func (d description) find(method, path string) (operation, bool) {
	want := strings.Split(path, "/")
	var best operation
	named := -1
	for pattern, ops := range d.Paths {
		op, ok := ops[strings.ToLower(method)]
		parts := strings.Split(pattern, "/")
		if !ok || len(parts) != len(want) {
			continue
		}
		same := 0
		for i, p := range parts {
			switch {
			case p == want[i]:
				same++
			case !strings.HasPrefix(p, "{"):
				same = -1 << 20
			}
		}
		if same >= 0 && same > named {
			best, named = op, same
		}
	}
	return best, named >= 0
}

// odd is an argument that a path has to escape.
const odd = "a b/ü?x@port.example"

// fill makes a value of a type in which nothing is empty.
func fill(t reflect.Type, depth int) reflect.Value {
	v := reflect.New(t).Elem()
	switch {
	case depth > 6:
	case t == reflect.TypeFor[time.Time]():
		v.Set(reflect.ValueOf(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)))
	case t.Kind() == reflect.String:
		v.SetString(odd)
	case t.Kind() == reflect.Bool:
		v.SetBool(true)
	case v.CanInt():
		v.SetInt(7)
	case t.Kind() == reflect.Pointer:
		v.Set(fill(t.Elem(), depth+1).Addr())
	case t.Kind() == reflect.Slice:
		v.Set(reflect.Append(v, fill(t.Elem(), depth+1)))
	case t.Kind() == reflect.Map:
		v.Set(reflect.MakeMap(t))
		v.SetMapIndex(fill(t.Key(), depth+1), fill(t.Elem(), depth+1))
	case t.Kind() == reflect.Struct:
		for i := range t.NumField() {
			if f := v.Field(i); f.CanSet() {
				f.Set(fill(f.Type(), depth+1))
			}
		}
	}
	return v
}

// Every method of the client asks for something that the service's own description
// has: the path, each question in the query, each field of the body.
func TestTheClientAsksForWhatThereIs(t *testing.T) {
	d := describe(t)
	var asked []*http.Request
	var bodies [][]byte
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		b, _ := io.ReadAll(r.Body)
		asked, bodies = append(asked, r), append(bodies, b)
		w.WriteHeader(http.StatusNoContent)
	}))
	defer server.Close()
	client := New(server.URL+"/", "secret").Keyed("key").Guarded(`"7"`)
	c, looking := reflect.ValueOf(client), reflect.ValueOf(client.Looking(&api.Preview{}))
	seen := map[string]bool{}
	for i := range c.NumMethod() {
		m := c.Type().Method(i)
		if m.Type.NumIn() < 2 || m.Type.In(1) != reflect.TypeFor[context.Context]() {
			continue
		}
		args := []reflect.Value{reflect.ValueOf(context.Background())}
		for j := 2; j < m.Type.NumIn(); j++ {
			switch in := m.Type.In(j); {
			case in == reflect.TypeFor[io.Writer]():
				args = append(args, reflect.ValueOf(io.Discard))
			case m.Type.IsVariadic() && j == m.Type.NumIn()-1:
				args = append(args, fill(in.Elem(), 0))
			default:
				args = append(args, fill(in, 0))
			}
		}
		asked, bodies = nil, nil
		c.Method(i).Call(args)
		if slices.Contains(ofAll, m.Name) {
			c.Method(i).Call(append([]reflect.Value{args[0], reflect.ValueOf("")}, args[2:]...))
		}
		if m.Name != "SignIn" {
			looking.Method(i).Call(args)
		}
		if len(asked) == 0 {
			t.Errorf("%s asks for nothing", m.Name)
		}
		for k, r := range asked {
			if r.Header.Get("Authorization") == "" && m.Name != "SignIn" {
				t.Errorf("%s says nothing of who asks", m.Name)
			}
			path := r.URL.EscapedPath()
			op, ok := d.find(r.Method, path)
			if !ok {
				t.Errorf("%s asks for %s %s, which is not there", m.Name, r.Method, path)
				continue
			}
			seen[op.OperationID] = true
			for name := range r.URL.Query() {
				if !slices.ContainsFunc(op.Parameters, func(p struct{ Name, In string }) bool { return p.Name == name && p.In == "query" }) {
					t.Errorf("%s asks %s for %s, which it does not take", m.Name, op.OperationID, name)
				}
			}
			checkBody(t, d, m.Name, op, bodies[k])
		}
	}
	for _, ops := range d.Paths {
		for _, op := range ops {
			if !seen[op.OperationID] && !slices.Contains(consoleOnly, op.OperationID) {
				t.Errorf("no method of the client asks for %s", op.OperationID)
			}
		}
	}
}

// consoleOnly are operations for pages that are opened in a browser, by a link or
// while somebody types.
var consoleOnly = []string{"ask-password-link", "read-password-link", "choose-password", "picture-policy", "complete-rule", "complete-filter", "read-join-link"}

// ofAll are methods that ask about the whole workspace where no group is named.
var ofAll = []string{"Requests", "History", "Waiting", "Undelivered"}

func checkBody(t *testing.T, d description, method string, op operation, body []byte) {
	t.Helper()
	if len(body) == 0 {
		return
	}
	var given map[string]any
	if err := json.Unmarshal(body, &given); err != nil {
		t.Errorf("%s sends %s: %v", method, body, err)
		return
	}
	schema := op.RequestBody.Content["application/json"].Schema
	ref, _ := schema["$ref"].(string)
	known := d.Components.Schemas[strings.TrimPrefix(ref, "#/components/schemas/")].Properties
	for name := range given {
		if _, ok := known[name]; !ok {
			t.Errorf("%s sends %s to %s, which takes none", method, name, op.OperationID)
		}
	}
}

func TestPathsAreEscaped(t *testing.T) {
	if got, want := at("groups", odd, "members"), "/groups/"+url.PathEscape(odd)+"/members"; got != want {
		t.Errorf("%s, want %s", got, want)
	}
}

// An answer that says no is an error with its reason; one that says nothing is told
// as such.
func TestAnswersThatSayNo(t *testing.T) {
	for _, c := range []struct {
		name   string
		status int
		kind   string
		body   string
		want   string
	}{
		{"a problem", 409, "application/problem+json", `{"title": "Conflict", "status": 409, "detail": "The address is taken.", "problems": [{"field": "address", "says": "x"}]}`, "The address is taken."},
		{"no detail", 500, "application/problem+json", `{"title": "Oops", "status": 500}`, "The service answered 500 Internal Server Error without saying why."},
		{"a page of something between", 502, "text/html", "<html>Bad Gateway</html>", "The service answered 502 Bad Gateway without saying why."},
		{"nothing at all", 503, "", "", "The service answered 503 Service Unavailable without saying why."},
		{"an answer that is cut off", 200, "application/json", `{"items": [`, "the answer of the service can't be read"},
		{"an answer of another kind", 200, "text/html", "<html>Sign in to the hotel</html>", "the answer of the service can't be read"},
	} {
		server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", c.kind)
			w.WriteHeader(c.status)
			fmt.Fprint(w, c.body)
		}))
		_, err := New(server.URL, "").Me(context.Background())
		server.Close()
		if err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s: %v, want %s", c.name, err, c.want)
		}
		e := new(Error)
		if is := errors.As(err, &e); is != (c.status >= 300) || is && e.Status != c.status {
			t.Errorf("%s: an error of kind %T with status %d", c.name, err, e.Status)
		}
	}
	if _, err := New("http://127.0.0.1:1", "").Me(context.Background()); err == nil || !strings.Contains(err.Error(), "does not answer") {
		t.Errorf("nobody there: %v", err)
	}
	if _, err := New("::not a url", "").Me(context.Background()); err == nil || !strings.Contains(err.Error(), "can't be used") {
		t.Errorf("no address: %v", err)
	}
}

// What changes are to be guarded by goes along with them, and a look goes elsewhere.
func TestGuardsGoAlong(t *testing.T) {
	var got []string
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		got = append(got, r.Method+" "+r.URL.Path+" "+r.Header.Get("If-Match")+" "+r.Header.Get("Idempotency-Key"))
		fmt.Fprint(w, `{"says": "It changes."}`)
	}))
	defer server.Close()
	c := New(server.URL, "secret")
	var p api.Preview
	for _, x := range []*Client{c, c.Guarded(`"4"`), c.Keyed("k"), c.Guarded(`"r4"`).Looking(&p)} {
		if err := x.RemoveMember(context.Background(), "g", "m"); err != nil && !errors.Is(err, ErrLooked) {
			t.Fatal(err)
		}
	}
	want := []string{`DELETE /api/v1/groups/g/members/m  `, `DELETE /api/v1/groups/g/members/m "4" `, `DELETE /api/v1/groups/g/members/m  k`, `POST /api/v1/groups/g/members/m/removal/preview "r4" `}
	if !slices.Equal(got, want) || p.Says != "It changes." {
		t.Errorf("%q, looked at: %q", got, p.Says)
	}
}
