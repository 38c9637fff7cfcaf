package mail

import (
	"bufio"
	"context"
	"errors"
	"io"
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
	"ivytable.example/ivytable/internal/core/texts"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/post"
)

const (
	patience = time.Minute // for one command's work in the workspace
	maxWrong = 3           // passwords in one connection
	maxVain  = 50          // refused recipients in one connection since a message was taken
	goodbye  = 200 * time.Millisecond
)

var messagesIn = promauto.NewCounterVec(prometheus.CounterOpts{
	Name: "ivytable_messages_in_total", Help: "Messages that came in by SMTP, by what was answered.",
}, []string{"answer"})

// session is one connection. It implements smtp.AuthSession.
type session struct {
	s          *Server
	one        *smtp.Server
	conn       *smtp.Conn
	wire       *conn
	submission bool
	trusted    bool            // from a relay that the workspace trusts
	by         workspace.Actor // who signed in
	from       string
	to         []post.Destination
	given      []string // as they were asked for, by LMTP: each gets an answer
	asked      []post.Destination
	tried      int // wrong passwords
	vain       int // refused recipients; not those of a trusted relay
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
	s.end()
	return true
}

// end ends the connection, once the answer is said.
func (s *session) end() { time.AfterFunc(goodbye, func() { _ = s.conn.Conn().Close() }) }

// Reset forgets what was said of a message. The size that is announced is that of the largest
// message; while one comes in, the library is let read one octet more, since it would refuse
// one of exactly that size.
func (s *session) Reset() {
	s.from, s.to, s.given, s.asked = "", nil, nil, nil
	s.one.MaxMessageBytes = MaxMessage
}

// Logout does nothing: there is nothing to give back.
func (s *session) Logout() error { return nil }

func (s *session) AuthMechanisms() []string { return []string{sasl.Plain} }

func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		ctx, cancel := context.WithTimeout(context.Background(), patience)
		defer cancel()
		ctx, outcome := workspace.Watched(ctx)
		by, err := s.s.service.Account.SignInToSend(ctx, s.source(), user, password)
		if err = outcome(err); workspace.Away(err) != "" {
			return s.failed("sign in", err)
		}
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
	s.s.o.Log.Error("smtp: "+doing, "error", err)
	return refusal(451, smtp.EnhancedCode{4, 3, 0}, "The message could not be taken in just now. Try again later.")
}

func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if from != "" {
		if _, err := mailaddr.Parse(from); err != nil {
			return refusal(553, smtp.EnhancedCode{5, 1, 7}, "The sender's address can't be read: %s", oneLine(err.Error()))
		}
	}
	if err := s.stillIn(); err != nil {
		return err
	}
	if s.submission && s.by.SignedIn() != nil {
		return refusal(530, smtp.EnhancedCode{5, 7, 0}, "Sign in first.")
	}
	s.from = from
	s.one.MaxMessageBytes = MaxMessage + 1
	return nil
}

// stillIn ends the session of somebody whose password, or what they signed in with, has ended
// since.
func (s *session) stillIn() error {
	if s.by.SignedIn() != nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	in, err := s.s.service.Account.StillIn(ctx, s.by)
	if err != nil {
		return s.failed("sign in", err)
	}
	if !in {
		s.by = workspace.Actor{}
		s.end()
		return refusal(421, smtp.EnhancedCode{4, 7, 0}, "What you signed in with has ended. Sign in again.")
	}
	return nil
}

// Rcpt takes a recipient.
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	err := s.rcpt(to)
	if err == nil || s.trusted {
		return err
	}
	if s.vain++; s.vain >= maxVain {
		s.end()
		return refusal(421, smtp.EnhancedCode{4, 7, 0}, "%d recipients in vain are the most in one connection.", maxVain)
	}
	return err
}

func (s *session) rcpt(to string) error {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	a, err := mailaddr.Parse(to)
	if err != nil {
		return refusal(553, smtp.EnhancedCode{5, 1, 3}, "The recipient's address can't be read: %s", oneLine(err.Error()))
	}
	signedIn := s.by.SignedIn() == nil
	var d post.Destination
	if signedIn { // whoever signed in is known, so the answer need not wait for the message
		d, err = s.s.service.Post.FindFor(ctx, a, s.by)
	} else {
		d, err = s.s.service.Post.Find(ctx, a, !s.trusted)
	}
	if err != nil {
		return s.no("rcpt", err)
	}
	if s.from == "" && d.Mailbox != post.ToBounces && d.Mailbox != post.ToReturned && d.Mailbox != post.ToAdministrators {
		return refusal(550, smtp.EnhancedCode{5, 7, 2}, "A group takes no message without a sender.")
	}
	s.given, s.asked = append(s.given, to), append(s.asked, d)
	if !slices.ContainsFunc(s.to, func(x post.Destination) bool { return same(x, d) }) {
		s.to = append(s.to, d) // two addresses of one group are one recipient
	}
	return nil
}

// same reports whether two destinations are one recipient.
func same(a, b post.Destination) bool {
	return a.Group == b.Group && a.Mailbox == b.Mailbox && (a.Mailbox != post.ToReturned || a.Given == b.Given)
}

// no puts an error of the workspace in the words of SMTP (RFC 3463).
func (s *session) no(doing string, err error) *smtp.SMTPError {
	var r *post.Refused
	var many *post.TooMany
	var e *workspace.Error
	switch {
	case workspace.Away(err) != "":
		messagesIn.WithLabelValues("failed").Inc()
		return s.failed(doing, err)
	case errors.As(err, &r): // X.7.1: not authorised
		messagesIn.WithLabelValues("refused").Inc()
		return refusal(550, smtp.EnhancedCode{5, 7, 1}, "%s", plain(r.Error()))
	case !errors.As(err, &e):
		messagesIn.WithLabelValues("failed").Inc()
		return s.failed(doing, err)
	case e.Kind == workspace.NotFound:
		messagesIn.WithLabelValues("unknown").Inc()
		return refusal(550, smtp.EnhancedCode{5, 1, 1}, "%s", e.Says)
	case e.Kind == workspace.NotAllowed: // X.7.1: not authorised
		messagesIn.WithLabelValues("refused").Inc()
		return refusal(550, smtp.EnhancedCode{5, 7, 1}, "%s", oneLine(e.Says))
	case errors.As(err, &many):
		messagesIn.WithLabelValues("put off").Inc()
		return refusal(451, smtp.EnhancedCode{4, 7, 1}, "%s", plain(e.Says))
	case e.Kind == workspace.Throttled:
		messagesIn.WithLabelValues("put off").Inc()
		return refusal(452, smtp.EnhancedCode{4, 2, 2}, "%s", e.Says)
	}
	messagesIn.WithLabelValues("refused").Inc()
	return refusal(550, smtp.EnhancedCode{5, 2, 1}, "%s", e.Says)
}

// Data takes a message in. The header is read first, then the body goes to where it does not
// take memory; then all is decided and recorded.
func (s *session) Data(r io.Reader) error { return s.data(r, s.take) }

// LMTPData is Data for who is told what becomes of a message for each recipient: one that is refused holds up no other.
func (s *session) LMTPData(r io.Reader, status smtp.StatusCollector) error {
	answered := false
	err := s.data(r, func(m Message, body *spool) error {
		answered = true
		said := make([]error, len(s.asked))
		for i, d := range s.asked {
			if first := slices.IndexFunc(s.asked, func(x post.Destination) bool { return same(x, d) }); first < i { // two addresses of one group
				said[i] = said[first]
			} else {
				s.to = []post.Destination{d}
				said[i] = s.take(m, body)
			}
			status.SetStatus(s.given[i], said[i])
		}
		return nil
	})
	if err != nil && !answered {
		for _, to := range s.given {
			status.SetStatus(to, err)
		}
	}
	return nil
}

// data takes a message in, which is given to take.
func (s *session) data(r io.Reader, take func(Message, *spool) error) error {
	if !s.s.doors.begin() {
		return refusal(452, smtp.EnhancedCode{4, 3, 1}, "Too many messages come in at once. Try again later.")
	}
	body := &spool{dir: s.s.o.Spool}
	in := &bounded{to: body, d: &s.s.doors}
	defer func() { body.Close(); s.s.doors.end(in.n) }()
	s.wire.receiving(true)
	defer s.wire.receiving(false)

	text := bufio.NewReader(&strict{r: r})
	header, err := readHeader(text)
	if err != nil {
		return s.unread(err)
	}
	m, err := Parse(header)
	if err != nil {
		return s.unread(err)
	}
	if _, err := io.Copy(in, text); err != nil {
		return s.unread(err)
	}
	s.wire.receiving(false)
	if err := s.stillIn(); err != nil {
		return err
	}
	if err := take(m, body); err != nil {
		return err
	}
	s.wire.hasResult()
	s.vain = 0
	return nil
}

// unread is the answer to a message that did not come in.
func (s *session) unread(err error) error {
	var e *smtp.SMTPError
	var network net.Error
	switch {
	case errors.As(err, &e):
		messagesIn.WithLabelValues("refused").Inc()
		return e
	case errors.Is(err, errFull):
		return refusal(452, smtp.EnhancedCode{4, 3, 1}, "Too much mail comes in at once. Try again later.")
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, smtp.ErrDataReset), errors.As(err, &network):
		return err // the client has gone
	}
	return s.failed("take a message in", err)
}

// take decides about a message that has come, and records it.
func (s *session) take(m Message, body *spool) error {
	ctx, cancel := context.WithTimeout(context.Background(), patience)
	defer cancel()
	ctx, outcome := workspace.Watched(ctx)
	tr := s.trace()
	var err error
	if tr.Mark, err = s.s.service.Post.Marker(ctx); err != nil {
		return s.failed("data", err)
	}
	domains := s.to[0].Domains
	proven, err := s.s.service.Post.Wrote(ctx, s.by, m.Author)
	if err != nil {
		return s.failed("data", err)
	}
	var speaking post.Speaking
	if s.by.SignedIn() == nil && !proven {
		me := s.by.Person
		if speaking, err = s.s.service.Post.Speak(ctx, s.by, m.Author, strings.EqualFold(m.Sender, me.Address)); err != nil {
			return s.no("data", err)
		}
		if speaking.Group != uuid.Nil {
			m = m.Spoken(speaking.As, me.Name, me.Address)
		}
	}
	if slices.ContainsFunc(s.to, func(d post.Destination) bool { return d.Texts.From == texts.WhereDue }) && !slices.Contains(domains, m.Author.Domain()) {
		m.Strict = s.s.service.Signing.Strict(ctx, m.Author.Domain())
	}
	a, err := m.For(s.to, tr, append(slices.Clip(domains), s.s.o.Names...), io.NewSectionReader(body, 0, int64(body.size)))
	if err != nil {
		return s.unread(err)
	}
	if a.Proven = proven; speaking.Group != uuid.Nil {
		a.Proven, a.Speaking, a.By = true, speaking, s.by
		if a.Writer, err = mailaddr.Parse(s.by.Person.Address); err != nil {
			return s.failed("data", err)
		}
	}
	if s.trusted && s.by.SignedIn() != nil { // whoever signs in is no relay, and writes fields of their own
		a.Proven = m.proven(s.s.o.Names)
	}
	if slices.ContainsFunc(s.to, func(d post.Destination) bool { return d.Mailbox == post.ToReturned }) {
		a.Report = ReadReport(m.Author, m.raw, io.NewSectionReader(body, 0, int64(body.size)))
	}
	a.ReturnPath = s.from
	a.Body, a.Size, a.EightBit = body, body.size, body.eightBit
	log := s.s.o.Log.With("id", tr.ID, "author", m.Author.Key(), "proven", a.Proven, "to", len(s.to), "size", len(a.Header)+body.size)
	if err := outcome(nil); err != nil {
		return s.no("data", err)
	}
	if err := s.s.service.Post.Accept(ctx, a); err != nil {
		no := s.no("data", err)
		log.Info("message refused", "answer", no.Message)
		return no
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
	return Trace{From: name[:min(len(name), 200)] + " ([" + s.source() + "])", By: s.s.o.Domain, With: with, ID: uuid.Must(uuid.NewV7()).String(), At: time.Now().UTC()}
}
