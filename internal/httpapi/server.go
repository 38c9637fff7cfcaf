package httpapi

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"runtime/debug"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/danielgtaylor/huma/v2/validation"
	"github.com/go-chi/chi/v5"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"
	"github.com/prometheus/client_golang/prometheus/promhttp"
	fastjson "github.com/segmentio/encoding/json"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/service"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/account"
)

// Options are what a server is made with.
type Options struct {
	Log     *slog.Logger
	Console http.Handler // serves every path outside /api; nil: none
	Secure  bool         // the console is reached over https: cookies say so
	Version string
	Proxies []netip.Prefix // whose word on where a request comes from is taken
}

// server holds what the handlers share.
type server struct {
	s        *service.Service
	o        Options
	inFlight inFlight
}

var requestSeconds = promauto.NewHistogramVec(prometheus.HistogramOpts{
	Name: "ivytable_http_request_seconds", Help: "Time to answer a request, by route and status.", Buckets: prometheus.ExponentialBuckets(0.001, 2.5, 9),
}, []string{"method", "route", "status"})

// Metrics returns the handler of the figures for Prometheus. It is for a listener of its own,
// which nobody outside reaches.
func Metrics() http.Handler {
	m := http.NewServeMux()
	m.Handle("GET /metrics", promhttp.Handler())
	return m
}

// methodOf is the method of a request as figures name it: of a fixed set, whatever a client
// makes up.
func methodOf(r *http.Request) string {
	switch r.Method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions:
		return r.Method
	}
	return "other"
}

// pathOf is the path of a request as the log has it: not where a secret stands in it.
func pathOf(r *http.Request, route string) string {
	if !strings.HasPrefix(route, v1) || strings.Contains(route, "{secret}") || strings.Contains(route, "*") {
		return route
	}
	return r.URL.Path
}

// Routes returns the handler of the service and the description of its interface.
func Routes(all *service.Service, o Options) (*chi.Mux, *huma.OpenAPI) {
	s := &server{s: all, o: o}
	r := chi.NewRouter()
	r.Use(s.identify, s.observe, s.recover, guarded)
	r.Get("/healthz", func(rw http.ResponseWriter, _ *http.Request) { rw.Write([]byte("alive\n")) })
	r.Get("/readyz", s.ready)
	r.Post("/own/{secret}", s.oneClick)
	var doc *huma.OpenAPI
	r.Group(func(r chi.Router) {
		r.Use(s.sameOrigin, s.authenticate)
		doc = s.describe(r)
	})
	r.HandleFunc("/api/*", func(rw http.ResponseWriter, r *http.Request) {
		write(rw, newProblem(http.StatusNotFound, "There is no "+r.Method+" "+r.URL.Path+" here. The interface is described at /api/openapi.json."))
	})
	if o.Console != nil {
		r.Handle("/*", o.Console)
	}
	return r, doc
}

func (s *server) describe(r chi.Router) *huma.OpenAPI {
	c := huma.DefaultConfig("Ivy Table", s.o.Version)
	c.Info.Description = "Mail groups of one organisation: who is in them, who may do what, what happens to a message, how long they live."
	c.DocsPath, c.SchemasPath, c.CreateHooks = "", "", nil
	answers := huma.Format{Marshal: encode, Unmarshal: huma.DefaultJSONFormat.Unmarshal}
	c.Formats = map[string]huma.Format{"application/json": answers, "json": answers}
	c.OpenAPIPath = "/api/openapi"
	c.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"session": {Type: "apiKey", In: "cookie", Name: sessionCookie},
		"token":   {Type: "http", Scheme: "bearer"},
	}
	c.Security = []map[string][]string{{"session": {}}, {"token": {}}}
	a := humachi.New(r, c)
	a.UseMiddleware(s.signedIn, knownParameters(a))
	for _, route := range s.routes() {
		route.register(s, a)
	}
	return a.OpenAPI()
}

// encode writes v as JSON. The standard library takes four times as long, on a page of
// groups a quarter of the whole answer's time.
func encode(w io.Writer, v any) error {
	e := fastjson.NewEncoder(w)
	e.SetEscapeHTML(false)
	return e.Encode(v)
}

type key int

const (
	actorKey key = iota
	requestKey
)

func actor(ctx context.Context) workspace.Actor {
	a, _ := ctx.Value(actorKey).(workspace.Actor)
	return a
}

// identify gives each request an identifier, the caller's where it sends a plain one.
func (s *server) identify(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		id := r.Header.Get("X-Request-Id")
		if id == "" || len(id) > 64 || strings.ContainsFunc(id, func(c rune) bool { return c <= ' ' || c > '~' }) {
			b := make([]byte, 8)
			rand.Read(b)
			id = hex.EncodeToString(b)
		}
		rw.Header().Set("X-Request-Id", id)
		next.ServeHTTP(rw, r.WithContext(context.WithValue(r.Context(), requestKey, id)))
	})
}

// writing is for how long one piece of an answer may take to be read.
const writing = 30 * time.Second

// statusWriter remembers the status of an answer, and gives up a reader who reads nothing.
type statusWriter struct {
	http.ResponseWriter
	status int
}

func (w *statusWriter) WriteHeader(status int) {
	w.status = status
	w.hurry()
	w.ResponseWriter.WriteHeader(status)
}

func (w *statusWriter) Write(b []byte) (int, error) {
	w.hurry()
	return w.ResponseWriter.Write(b)
}

// hurry bounds the time until what is written next is read.
func (w *statusWriter) hurry() {
	_ = http.NewResponseController(w.ResponseWriter).SetWriteDeadline(time.Now().Add(writing)) // a test's recorder has none
}

func (w *statusWriter) Unwrap() http.ResponseWriter { return w.ResponseWriter }

func (s *server) observe(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		began := time.Now()
		sw := &statusWriter{rw, http.StatusOK}
		next.ServeHTTP(sw, r)
		route := chi.RouteContext(r.Context()).RoutePattern()
		requestSeconds.WithLabelValues(methodOf(r), route, strconv.Itoa(sw.status)).Observe(time.Since(began).Seconds())
		level := slog.LevelDebug
		if r.Method != http.MethodGet || sw.status >= 400 {
			level = slog.LevelInfo
		}
		s.o.Log.Log(r.Context(), level, "request", "method", r.Method, "path", pathOf(r, route), "status", sw.status, "ms", time.Since(began).Milliseconds(), "request_id", r.Context().Value(requestKey))
	})
}

func (s *server) recover(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		defer func() {
			switch v := recover(); v {
			case nil:
			case http.ErrAbortHandler: // an answer that broke off is to look so
				panic(v)
			default:
				s.o.Log.Error("panic", "value", v, "stack", string(debug.Stack()), "request_id", r.Context().Value(requestKey))
				write(rw, s.internal(r.Context()))
			}
		}()
		next.ServeHTTP(rw, r)
	})
}

// guarded keeps browsers from guessing what an answer is, and everybody from keeping what the
// interface answers.
func guarded(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		rw.Header().Set("X-Content-Type-Options", "nosniff")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			rw.Header().Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(rw, r)
	})
}

// sameOrigin refuses writes that another site's page makes a browser send.
func (s *server) sameOrigin(next http.Handler) http.Handler {
	p := http.NewCrossOriginProtection()
	p.SetDenyHandler(http.HandlerFunc(func(rw http.ResponseWriter, _ *http.Request) {
		write(rw, newProblem(http.StatusForbidden, "This request comes from the page of another site."))
	}))
	return p.Handler(next)
}

const sessionCookie = "ivytable_session"

// authenticate finds out who asks. Nobody is an answer too: the use cases refuse
// them. A token or session that is given but no good is refused here.
func (s *server) authenticate(next http.Handler) http.Handler {
	return http.HandlerFunc(func(rw http.ResponseWriter, r *http.Request) {
		a := workspace.Actor{Via: "api"}
		var err error
		if secret, ok := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer "); ok {
			a, err = s.s.Account.Authenticate(r.Context(), account.Token, secret)
			a.Via = "api"
		} else if c, cerr := r.Cookie(sessionCookie); cerr == nil && c.Value != "" {
			a, err = s.s.Account.Authenticate(r.Context(), account.Session, c.Value)
			a.Via = "console"
			if e := new(workspace.Error); errors.As(err, &e) && strings.HasSuffix(r.URL.Path, "/session") {
				err = nil // a stale cookie must not keep anybody from signing in
			}
		}
		if err != nil {
			write(rw, s.problem(r.Context(), err))
			return
		}
		a.RequestID, _ = r.Context().Value(requestKey).(string)
		a.Source = s.source(r)
		next.ServeHTTP(rw, r.WithContext(context.WithValue(r.Context(), actorKey, a)))
	})
}

// source is the network address that a request comes from: the last one in X-Forwarded-For
// that is no trusted proxy's, where one of these hands the request on.
func (s *server) source(r *http.Request) string {
	host, _, _ := net.SplitHostPort(r.RemoteAddr)
	forwarded := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
	for i := len(forwarded) - 1; i >= 0 && s.trusts(host); i-- {
		a, err := netip.ParseAddr(strings.TrimSpace(forwarded[i]))
		if err != nil {
			break
		}
		host = a.String()
	}
	return host
}

func (s *server) trusts(host string) bool {
	a, err := netip.ParseAddr(host)
	return err == nil && slices.ContainsFunc(s.o.Proxies, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) })
}

// signedIn refuses whoever is nobody where somebody has to be signed in, before what they send
// is read.
func (s *server) signedIn(ctx huma.Context, next func(huma.Context)) {
	public := ctx.Operation().Security != nil && len(ctx.Operation().Security) == 0
	by, op := actor(ctx.Context()), ctx.Operation()
	err := by.SignedIn()
	switch {
	case public:
		err = nil
	case op.Metadata[hereKey] == true:
		err = by.Here()
	}
	if need, _ := op.Metadata[scopeKey].(string); err == nil {
		err = by.Cover(need) // where nobody is needed too: whoever comes with a token acts as its person
	}
	r, rw := humachi.Unwrap(ctx)
	refuse := func(p *failure) {
		if r.ContentLength != 0 { // a body is not waited for that nobody reads
			rw.Header().Set("Connection", "close")
		}
		write(rw, p)
	}
	if err != nil {
		refuse(s.problem(ctx.Context(), err))
		return
	}
	if most := op.MaxBodyBytes; most > 0 && r.ContentLength > most {
		refuse(newProblem(http.StatusRequestEntityTooLarge, fmt.Sprintf("The body is too large: it is announced with %d bytes, and %d is the most here.", r.ContentLength, most)))
		return
	}
	if public { // whose bodies are small
		next(ctx)
		return
	}
	octets := r.ContentLength
	if octets < 0 {
		octets = ctx.Operation().MaxBodyBytes
	}
	give, ok := s.inFlight.take(actor(ctx.Context()).Person.ID, min(octets, ctx.Operation().MaxBodyBytes))
	if !ok {
		refuse(s.problem(ctx.Context(), workspace.Later(5, "You are sending too much at once. Let one request end before the next.")))
		return
	}
	defer give()
	next(ctx)
}

func (s *server) ready(rw http.ResponseWriter, r *http.Request) {
	ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
	defer cancel()
	if err := s.s.Ready(ctx); err != nil {
		http.Error(rw, "the database does not answer", http.StatusServiceUnavailable)
		return
	}
	rw.Write([]byte("ready\n"))
}

// failure is an error as it goes out (RFC 9457).
type failure struct {
	api.ProblemDetails
	retry int // seconds; 0: not said
}

// GetHeaders says when it may be tried again (RFC 9110, 10.2.3).
func (p *failure) GetHeaders() http.Header {
	if p.retry == 0 {
		return nil
	}
	return http.Header{"Retry-After": {strconv.Itoa(p.retry)}}
}

func (p *failure) Error() string             { return p.Detail }
func (p *failure) GetStatus() int            { return p.Status }
func (p *failure) ContentType(string) string { return "application/problem+json" }

func newProblem(status int, detail string) *failure {
	return &failure{ProblemDetails: api.ProblemDetails{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: detail, Problems: []api.Problem{}}}
}

const isMissing = " is missing"

func init() {
	huma.DefaultArrayNullable = false // an empty list is [], never null
	for message, plain := range map[*string]string{
		&validation.MsgUnexpectedProperty: "there is no field of this name here", &validation.MsgExpectedRequiredProperty: "%s" + isMissing,
		&validation.MsgExpectedRFC3339Date: "has to be a day, such as 2026-11-23", &validation.MsgExpectedOneOf: "has to be one of %s",
		&validation.MsgExpectedBoolean: "has to be true or false", &validation.MsgExpectedNumber: "has to be a number", &validation.MsgExpectedInteger: "has to be a whole number",
		&validation.MsgExpectedString: "has to be text", &validation.MsgExpectedArray: "has to be a list", &validation.MsgExpectedObject: "has to be an object",
		&validation.MsgExpectedBase64String: "has to be written in base64", &validation.MsgExpectedMinimumNumber: "has to be %v or more", &validation.MsgExpectedMaximumNumber: "has to be %v or less",
		&validation.MsgExpectedMinLength: "has to have at least %d characters", &validation.MsgExpectedMaxLength: "has to have at most %d characters",
		&validation.MsgExpectedMinItems: "has to name at least %d", &validation.MsgExpectedMaxItems: "has to name at most %d",
	} {
		*message = plain
	}
	// Errors that are found before a use case is asked: input that does not fit its schema.
	huma.NewError = func(status int, msg string, errs ...error) huma.StatusError {
		p := newProblem(status, workspace.UpperFirst(msg)+".")
		for _, err := range errs {
			var d *huma.ErrorDetail
			if !errors.As(err, &d) {
				p.Problems = append(p.Problems, api.Problem{Says: workspace.UpperFirst(err.Error()) + "."})
				continue
			}
			at, says, given := d.Location, d.Message, short(d.Value)
			if name, missing := strings.CutSuffix(says, isMissing); missing { // what is given there is all around it
				at, says, given = at+"."+name, "has to be given", nil
			}
			if b, err := json.Marshal(given); err == nil && given != nil && len(b) <= 60 && strings.HasPrefix(says, "has to be") {
				says += ", not " + string(b)
			}
			for _, part := range []string{"body.", "query.", "path.", "header."} {
				at = strings.TrimPrefix(at, part)
			}
			p.Problems = append(p.Problems, api.Problem{Field: at, Given: given, Says: workspace.UpperFirst(says) + "."})
		}
		if len(p.Problems) > 0 {
			first := p.Problems[0]
			p.Detail = strings.TrimPrefix(first.Field+": ", ": ") + first.Says
		}
		return p
	}
}

// short keeps a value that does not fit from being sent back whole.
func short(v any) any {
	if b, err := json.Marshal(v); err != nil || len(b) > 200 {
		return nil
	}
	return v
}

var statuses = map[workspace.Kind]int{
	workspace.Invalid: http.StatusUnprocessableEntity, workspace.SignedOut: http.StatusUnauthorized, workspace.NotAllowed: http.StatusForbidden,
	workspace.NotFound: http.StatusNotFound, workspace.Conflict: http.StatusConflict, workspace.Stale: http.StatusPreconditionFailed, workspace.Throttled: http.StatusTooManyRequests,
}

// problem turns an error of a use case into what goes out. An error that nobody
// outside can do anything about is logged and not shown.
func (s *server) problem(ctx context.Context, err error) *failure {
	if says := workspace.Away(err); says != "" { // whatever was made of it
		s.o.Log.Error("the database is away", "error", err, "request_id", ctx.Value(requestKey))
		p := newProblem(http.StatusServiceUnavailable, says)
		p.retry = 5
		p.RequestID, _ = ctx.Value(requestKey).(string)
		return p
	}
	var e *workspace.Error
	if !errors.As(err, &e) {
		if errors.Is(err, context.Canceled) {
			return newProblem(499, "The request was given up.")
		}
		if errors.Is(err, context.DeadlineExceeded) {
			return newProblem(http.StatusServiceUnavailable, "This took too long, so it was given up; nothing was changed. Try again.")
		}
		s.o.Log.Error("request failed", "error", err, "request_id", ctx.Value(requestKey))
		return s.internal(ctx)
	}
	p := newProblem(statuses[e.Kind], e.Says)
	p.retry = e.Retry
	if e.Problems != nil {
		p.Problems = e.Problems
	}
	p.RequestID, _ = ctx.Value(requestKey).(string)
	return p
}

func (s *server) internal(ctx context.Context) *failure {
	p := newProblem(http.StatusInternalServerError, "The service could not do this just now; nothing was changed. Try again, and give an administrator the request_id if it stays so.")
	p.RequestID, _ = ctx.Value(requestKey).(string)
	return p
}

func write(rw http.ResponseWriter, p *failure) {
	for name, values := range p.GetHeaders() {
		rw.Header()[name] = values
	}
	rw.Header().Set("Content-Type", "application/problem+json")
	rw.WriteHeader(p.Status)
	_ = json.NewEncoder(rw).Encode(p)
}
