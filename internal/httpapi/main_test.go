package httpapi_test

import (
	"context"
	"encoding/json"
	"flag"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"regexp"
	"strings"
	"testing"

	"github.com/danielgtaylor/huma/v2"
	"github.com/go-chi/chi/v5"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/httpapi"
	kit "ivytable.example/ivytable/internal/testkit"
)

var (
	ctx      = context.Background()
	k        *kit.Kit
	server   *httptest.Server
	routes   *chi.Mux
	doc      *huma.OpenAPI
	tokens   = map[string]string{}
	sessions = map[string]string{}
	update   = flag.Bool("update", false, "write the golden files again")
)

func TestMain(m *testing.M) {
	flag.Parse()
	kit.Main(m, "httpapi", &k, func() (func(), error) {
		routes, doc = httpapi.Routes(k.Service, httpapi.Options{Log: slog.New(slog.DiscardHandler), Version: "0.1.0"})
		server = httptest.NewServer(routes)
		return server.Close, nil
	})
}

// fresh lets a test ask a workspace of its own, in which little is kept.
func fresh(t *testing.T, schema string) {
	t.Helper()
	wasK, wasServer, wasTokens, wasSessions := k, server, tokens, sessions
	k, tokens, sessions = k.Fresh(t, schema), map[string]string{}, map[string]string{}
	own, _ := httpapi.Routes(k.Service, httpapi.Options{Log: slog.New(slog.DiscardHandler), Version: "0.1.0"})
	server = httptest.NewServer(own)
	t.Cleanup(func() {
		server.Close()
		k, server, tokens, sessions = wasK, wasServer, wasTokens, wasSessions
	})
}

// token returns a token of somebody.
func token(t *testing.T, address string) string {
	t.Helper()
	if tokens[address] == "" {
		made, err := k.Account.CreateToken(ctx, k.Actor(t, address), api.NewToken{Name: "test", Scopes: []string{"everything"}})
		if err != nil {
			t.Fatal(err)
		}
		tokens[address] = made.Secret
	}
	return tokens[address]
}

// session returns a session of somebody.
func session(t *testing.T, address string) string {
	t.Helper()
	if sessions[address] == "" {
		_, secret, err := k.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: address, Password: kit.Password})
		if err != nil {
			t.Fatal(err)
		}
		sessions[address] = secret
	}
	return sessions[address]
}

// ask sends a request and returns the status and body of the answer.
func ask(t *testing.T, as, method, path, body string, header ...string) (int, string) {
	t.Helper()
	res := send(t, as, method, path, body, header...)
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return res.StatusCode, string(b)
}

func send(t *testing.T, as, method, path, body string, header ...string) *http.Response {
	t.Helper()
	res, err := http.DefaultClient.Do(request(t, as, method, path, body, header...))
	if err != nil {
		t.Fatal(err)
	}
	return res
}

// byHand are the paths at which a token changes nothing, or not all.
var byHand = regexp.MustCompile(`^/api/v1/(tokens|me/|areas|people(/[^/]*)?$|people-imports|people/[^/]*/(second-factor|password-link|preview)|password)|second-factor|password`)

func request(t *testing.T, as, method, path, body string, header ...string) *http.Request {
	t.Helper()
	r, err := http.NewRequest(method, server.URL+path, strings.NewReader(body))
	if err != nil {
		t.Fatal(err)
	}
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	switch {
	case as == "":
	case method != "GET" && byHand.MatchString(path): // not by a token
		r.AddCookie(&http.Cookie{Name: "ivytable_session", Value: session(t, as)})
	default:
		r.Header.Set("Authorization", "Bearer "+token(t, as))
	}
	for i := 0; i+1 < len(header); i += 2 {
		r.Header.Set(header[i], header[i+1])
	}
	return r
}

func decode[T any](t *testing.T, body string) (v T) {
	t.Helper()
	if err := json.Unmarshal([]byte(body), &v); err != nil {
		t.Fatalf("%v in %s", err, body)
	}
	return v
}

// operation is one operation of the interface, as the description has it.
type operation struct {
	*huma.Operation
	preview *huma.Operation // by which its change is looked at; nil for none
}

// operations returns the operations of the description by their names, previews with
// the changes that they are of.
func operations() map[string]operation {
	out, previews := map[string]operation{}, map[string]*huma.Operation{}
	for _, item := range doc.Paths {
		for _, op := range []*huma.Operation{item.Get, item.Post, item.Put, item.Patch, item.Delete} {
			if op == nil {
				continue
			}
			if of, is := op.Extensions["x-preview-of"].(string); is {
				previews[of] = op
			} else {
				out[op.OperationID] = operation{Operation: op}
			}
		}
	}
	for of, op := range previews {
		o := out[of]
		o.preview = op
		out[of] = o
	}
	return out
}

// takes reports whether an operation has a parameter.
func takes(op *huma.Operation, in, name string) bool {
	for _, p := range op.Parameters {
		if p.In == in && p.Name == name {
			return true
		}
	}
	return false
}

// readAll reads an answer.
func readAll(t *testing.T, res *http.Response) string {
	t.Helper()
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		t.Fatal(err)
	}
	return string(b)
}
