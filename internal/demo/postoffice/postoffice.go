// Package postoffice is a stand-in for the mail system that Ivy Table relays to.
// It takes every message by SMTP, keeps it in a box for each recipient, and shows
// the boxes on a small page and through a small API:
//
//	GET /api/boxes               every box with its number of messages
//	GET /api/boxes/ADDRESS       the messages in one, newest first
//	GET /api/boxes/ADDRESS/N     message N as it came, byte for byte
package postoffice

import (
	"bytes"
	"context"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"mime"
	"net"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-message/mail"
	"github.com/emersion/go-smtp"
	"github.com/go-chi/chi/v5"
)

// Letter is one message in one box.
type Letter struct {
	N         int       `json:"n"` // from 1, in the order of arrival
	Sender    string    `json:"sender"`
	From      string    `json:"from"`
	Subject   string    `json:"subject"`
	MessageID string    `json:"message_id"`
	Size      int       `json:"size"`
	ArrivedAt time.Time `json:"arrived_at"`
}

// Box is what one recipient has.
type Box struct {
	Address string `json:"address"`
	Letters int    `json:"letters"`
}

// Office is a running post office.
type Office struct {
	// Refuse, when it is set, answers RCPT; nil takes the recipient. For tests.
	Refuse func(to string) error

	dir   string
	mu    sync.Mutex
	boxes map[string][]Letter
	smtp  *smtp.Server
	http  *http.Server
}

// New returns a post office that keeps its boxes in dir, with what is there already.
func New(dir string) (*Office, error) {
	o := &Office{dir: dir, boxes: map[string][]Letter{}}
	names, err := filepath.Glob(filepath.Join(dir, "*", "*.json"))
	if err != nil {
		return nil, err
	}
	for _, name := range names {
		b, err := os.ReadFile(name)
		if err != nil {
			return nil, err
		}
		var l Letter
		if err := json.Unmarshal(b, &l); err != nil {
			continue // half written when the power went
		}
		address, _ := url.PathUnescape(filepath.Base(filepath.Dir(name)))
		o.boxes[address] = append(o.boxes[address], l)
	}
	for _, box := range o.boxes {
		slices.SortFunc(box, func(a, b Letter) int { return a.N - b.N })
	}
	o.smtp = smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{o: o}, nil }))
	o.smtp.Domain, o.smtp.EnableSMTPUTF8 = "post-office.example", true
	o.http = &http.Server{Handler: o.routes(), ReadHeaderTimeout: 10 * time.Second}
	return o, nil
}

// Serve answers on both listeners until Stop.
func (o *Office) Serve(mail, web net.Listener) error {
	failed := make(chan error, 2)
	go func() { failed <- o.smtp.Serve(mail) }()
	go func() { failed <- o.http.Serve(web) }()
	err := <-failed
	if errors.Is(err, smtp.ErrServerClosed) || errors.Is(err, http.ErrServerClosed) {
		return nil
	}
	return err
}

// Stop ends both servers.
func (o *Office) Stop() {
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = o.smtp.Shutdown(ctx)
	_ = o.smtp.Close()
	_ = o.http.Shutdown(ctx)
}

// Letters returns what is in a box, oldest first.
func (o *Office) Letters(address string) []Letter {
	o.mu.Lock()
	defer o.mu.Unlock()
	return slices.Clone(o.boxes[strings.ToLower(address)])
}

// Raw returns a letter as it came.
func (o *Office) Raw(address string, n int) ([]byte, error) {
	return os.ReadFile(o.path(address, n) + ".eml")
}

func (o *Office) path(address string, n int) string {
	return filepath.Join(o.dir, url.PathEscape(strings.ToLower(address)), fmt.Sprintf("%06d", n))
}

func (o *Office) keep(sender string, to []string, raw []byte) error {
	l := Letter{Sender: sender, Size: len(raw), ArrivedAt: time.Now().UTC()}
	if r, err := mail.CreateReader(bytes.NewReader(raw)); err == nil || r != nil {
		l.Subject, _ = r.Header.Subject()
		l.MessageID = r.Header.Get("Message-Id")
		l.From, _ = (&mime.WordDecoder{}).DecodeHeader(r.Header.Get("From"))
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	for _, a := range to {
		a = strings.ToLower(a)
		l.N = len(o.boxes[a]) + 1
		meta, err := json.Marshal(l)
		if err != nil {
			return err
		}
		path := o.path(a, l.N)
		if err := errors.Join(os.MkdirAll(filepath.Dir(path), 0o700), os.WriteFile(path+".eml", raw, 0o600), os.WriteFile(path+".json", meta, 0o600)); err != nil {
			return err
		}
		o.boxes[a] = append(o.boxes[a], l)
	}
	return nil
}

type session struct {
	o    *Office
	from string
	to   []string
}

func (s *session) Reset()        { s.from, s.to = "", nil }
func (s *session) Logout() error { return nil }

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if s.o.Refuse != nil {
		if err := s.o.Refuse(to); err != nil {
			return err
		}
	}
	s.to = append(s.to, to)
	return nil
}

func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	return s.o.keep(s.from, s.to, raw)
}

//go:embed pages.html
var pages embed.FS

var page = template.Must(template.New("").Funcs(template.FuncMap{
	"path": url.PathEscape,
	"when": func(t time.Time) string { return t.Format("2 Jan 2006 15:04") },
}).ParseFS(pages, "pages.html"))

func (o *Office) list() []Box {
	o.mu.Lock()
	defer o.mu.Unlock()
	out := make([]Box, 0, len(o.boxes))
	for a, letters := range o.boxes {
		out = append(out, Box{a, len(letters)})
	}
	slices.SortFunc(out, func(a, b Box) int { return strings.Compare(a.Address, b.Address) })
	return out
}

func (o *Office) routes() http.Handler {
	r := chi.NewRouter()
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'")
			w.Header().Set("X-Content-Type-Options", "nosniff")
			next.ServeHTTP(w, r)
		})
	})
	show := func(w http.ResponseWriter, name string, data any) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = page.ExecuteTemplate(w, name, data)
	}
	answer := func(w http.ResponseWriter, v any) {
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(v)
	}
	newest := func(r *http.Request) (string, []Letter) {
		a, _ := url.PathUnescape(chi.URLParam(r, "address"))
		l := o.Letters(a)
		slices.Reverse(l)
		return a, l
	}
	raw := func(w http.ResponseWriter, r *http.Request) (string, int, []byte) {
		a, _ := newest(r)
		n, _ := strconv.Atoi(chi.URLParam(r, "n"))
		b, err := o.Raw(a, n)
		if err != nil {
			http.Error(w, "There is no such letter.", http.StatusNotFound)
		}
		return a, n, b
	}
	r.Get("/api/boxes", func(w http.ResponseWriter, _ *http.Request) { answer(w, o.list()) })
	r.Get("/api/boxes/{address}", func(w http.ResponseWriter, r *http.Request) {
		_, l := newest(r)
		answer(w, append([]Letter{}, l...))
	})
	r.Get("/api/boxes/{address}/{n}", func(w http.ResponseWriter, r *http.Request) {
		if _, _, b := raw(w, r); b != nil {
			w.Header().Set("Content-Type", "message/rfc822")
			_, _ = w.Write(b)
		}
	})
	r.Get("/", func(w http.ResponseWriter, _ *http.Request) { show(w, "boxes", o.list()) })
	r.Get("/boxes/{address}", func(w http.ResponseWriter, r *http.Request) {
		a, l := newest(r)
		show(w, "box", map[string]any{"Address": a, "Letters": l})
	})
	r.Get("/boxes/{address}/{n}", func(w http.ResponseWriter, r *http.Request) {
		if a, n, b := raw(w, r); b != nil {
			show(w, "letter", map[string]any{"Address": a, "N": n, "Text": string(b)})
		}
	})
	return r
}
