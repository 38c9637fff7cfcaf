package mail

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/google/uuid"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"

	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/service"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/post"
)

const (
	maxRecipients = 100
	patience      = time.Minute // for one command's work in the workspace
	maxWrong      = 3           // passwords in one connection
	goodbye       = 200 * time.Millisecond
)

var messagesIn = promauto.NewCounterVec(prometheus.CounterOpts{
	Name: "ivytable_messages_in_total", Help: "Messages that came in by SMTP, by what was answered.",
}, []string{"answer"})

// Server takes messages in.
type Server struct {
	smtp *smtp.Server
}

// NewServer returns a server for a workspace. domain is the name by which it greets.
func NewServer(all *service.Service, log *slog.Logger, domain string) *Server {
	s := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) {
		return &session{s: all, log: log, conn: c, domain: domain}, nil
	}))
	s.Domain = domain
	s.MaxRecipients, s.MaxMessageBytes = maxRecipients, MaxMessage
	s.ReadTimeout, s.WriteTimeout = 5*time.Minute, 5*time.Minute // RFC 5321, 4.5.3.2
	s.EnableSMTPUTF8 = true
	s.ErrorLog = slog.NewLogLogger(log.Handler(), slog.LevelWarn)
	return &Server{s}
}

// Serve answers on l until Shutdown. A password may cross l in clear only where it
// does not leave the machine.
func (s *Server) Serve(l net.Listener) error {
	if a, ok := l.Addr().(*net.TCPAddr); ok && a.IP.IsLoopback() {
		s.smtp.AllowInsecureAuth = true
	}
	if err := s.smtp.Serve(l); !errors.Is(err, smtp.ErrServerClosed) {
		return err
	}
	return nil
}

// Shutdown stops listening and waits for open connections until ctx ends.
func (s *Server) Shutdown(ctx context.Context) { _ = s.smtp.Shutdown(ctx) }

// session is one connection. It implements smtp.AuthSession.
type session struct {
	s      *service.Service
	log    *slog.Logger
	conn   *smtp.Conn
	domain string
	by     workspace.Actor // who signed in
	from   string
	to     []post.Destination
	tried  int // wrong passwords
}

// source is the network address that the client comes from.
func (s *session) source() string {
	host, _, _ := net.SplitHostPort(s.conn.Conn().RemoteAddr().String())
	return host
}

// wrong counts a wrong password, and reports whether it was one too many: then the connection
// ends, once that is said.
func (s *session) wrong() bool {
	if s.tried++; s.tried < maxWrong {
		return false
	}
	time.AfterFunc(goodbye, func() { _ = s.conn.Conn().Close() })
	return true
}

func (s *session) Reset()        { s.from, s.to = "", nil }
func (s *session) Logout() error { return nil }

func (s *session) AuthMechanisms() []string { return []string{sasl.Plain} }

func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		by, err := s.s.Account.CheckPassword(ctx, s.source(), user, password)
		var e *workspace.Error
		switch {
		case err == nil:
			s.by = by
			return nil
		case s.wrong():
			return refusal(421, smtp.EnhancedCode{4, 7, 0}, "%d wrong passwords are the most in one connection.", maxWrong)
		case errors.As(err, &e) && e.Kind == workspace.Throttled:
			return refusal(454, smtp.EnhancedCode{4, 7, 0}, "%s", e.Says)
		case errors.As(err, &e):
			return refusal(535, smtp.EnhancedCode{5, 7, 8}, "%s", e.Says)
		}
		return s.failed("sign in", err)
	}), nil
}

// failed is the answer when we could not do our part: the client tries again.
func (s *session) failed(doing string, err error) *smtp.SMTPError {
	s.log.Error("smtp: "+doing, "error", err)
	return refusal(451, smtp.EnhancedCode{4, 3, 0}, "The message could not be taken in just now. Try again later.")
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if from != "" {
		if _, err := mailaddr.Parse(from); err != nil {
			return refusal(553, smtp.EnhancedCode{5, 1, 7}, "The sender's address can't be read: %s", oneLine(err.Error()))
		}
	}
	s.from = from
	return nil
}

func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	a, err := mailaddr.Parse(to)
	if err != nil {
		return refusal(553, smtp.EnhancedCode{5, 1, 3}, "The recipient's address can't be read: %s", oneLine(err.Error()))
	}
	d, err := s.s.Post.Find(ctx, a)
	var e *workspace.Error
	switch {
	case errors.As(err, &e) && e.Kind == workspace.Conflict:
		messagesIn.WithLabelValues("refused").Inc()
		return refusal(550, smtp.EnhancedCode{5, 2, 1}, "%s", e.Says)
	case errors.As(err, &e):
		messagesIn.WithLabelValues("unknown").Inc()
		return refusal(550, smtp.EnhancedCode{5, 1, 1}, "%s", e.Says)
	case err != nil:
		return s.failed("rcpt", err)
	case s.from == "" && d.Mailbox != post.ToBounces && d.Mailbox != post.ToAdministrators:
		return refusal(550, smtp.EnhancedCode{5, 7, 2}, "A group takes no message without a sender.")
	}
	if s.by.SignedIn() == nil && d.Mailbox != post.ToBounces {
		// Whoever signed in is known, so the answer need not wait for the message.
		self, err := mailaddr.Parse(s.by.Person.Address)
		if err != nil {
			return s.failed("rcpt", err)
		}
		decision, err := s.s.Post.Decide(ctx, d, self, true)
		if err != nil {
			return s.failed("rcpt", err)
		}
		if decision.Outcome == policy.Refuse {
			return refused(&post.Refused{Address: d.Address, Decision: decision})
		}
	}
	if !slices.ContainsFunc(s.to, func(x post.Destination) bool { return x.Group == d.Group && x.Mailbox == d.Mailbox }) {
		s.to = append(s.to, d) // two addresses of one group are one recipient
	}
	return nil
}

// refused puts a refusal by the rules in the words of SMTP (RFC 3463: X.7.2, not
// authorised for this list).
func refused(r *post.Refused) *smtp.SMTPError {
	messagesIn.WithLabelValues("refused").Inc()
	return refusal(550, smtp.EnhancedCode{5, 7, 2}, "%s", oneLine(r.Error()))
}

func (s *session) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	m, err := Parse(raw)
	if err != nil {
		messagesIn.WithLabelValues("refused").Inc()
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	tr := s.trace()
	if tr.Mark, err = s.s.Post.Marker(ctx); err != nil {
		return s.failed("data", err)
	}
	proven := s.by.SignedIn() == nil && s.by.Person.AddrKey == m.Author.Key()
	var in []post.Incoming
	for _, d := range s.to {
		out, id, err := m.For(d, tr)
		if err != nil {
			return err
		}
		x := post.Incoming{To: d, Author: m.Author, Proven: proven, MessageID: id, Subject: m.Subject, Raw: out}
		if d.Mailbox != post.ToAdministrators { // who get no report of what does not reach them
			x.Sender = strings.Replace(d.Address, "@", mailaddr.BouncesSuffix+"@", 1)
		}
		in = append(in, x)
	}
	err = s.s.Post.Accept(ctx, in)
	log := s.log.With("id", tr.ID, "author", m.Author.Key(), "proven", proven, "to", len(s.to), "size", len(raw))
	if no := new(post.Refused); errors.As(err, &no) {
		log.Info("message refused", "group", no.Address, "rule", no.Decision.RuleName())
		return refused(no)
	}
	if e := new(workspace.Error); errors.As(err, &e) {
		messagesIn.WithLabelValues("refused").Inc()
		return refusal(550, smtp.EnhancedCode{5, 2, 1}, "%s", e.Says)
	}
	if err != nil {
		messagesIn.WithLabelValues("failed").Inc()
		return s.failed("data", err)
	}
	messagesIn.WithLabelValues("taken").Inc()
	log.Info("message taken")
	return nil
}

func (s *session) trace() Trace {
	name := strings.Map(func(r rune) rune {
		if r <= ' ' || r > '~' || strings.ContainsRune("()<>;,", r) {
			return -1
		}
		return r
	}, s.conn.Hostname())
	with := "ESMTP"
	if s.by.SignedIn() == nil {
		with = "ESMTPA"
	}
	return Trace{From: name[:min(len(name), 200)] + " ([" + s.source() + "])", By: s.domain, With: with, ID: uuid.Must(uuid.NewV7()).String(), At: time.Now().UTC()}
}
