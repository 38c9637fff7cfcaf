package mail

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/internal/service"
)

const (
	maxRecipients = 100
	maxLine       = 64 << 10 // octets
)

// Options are what mail is taken in with.
type Options struct {
	Domain string         // by which we greet
	Spool  string         // a folder for what is coming in
	TLS    *tls.Config    // for STARTTLS (RFC 3207); nil: there is none
	Relays []netip.Prefix // that the workspace trusts to have taken mail in for it
	Names  []string       // lower case, under which they say who the author of a message is (authserv-id, RFC 8601, 2.5); of none, nothing is believed
	Limits Limits         // the zero value: DefaultLimits
	Log    *slog.Logger
}

// Server takes messages in.
type Server struct {
	o       Options
	service *service.Service
	doors   doors

	mu        sync.Mutex
	listeners []net.Listener
	stopped   bool
	open      sync.WaitGroup // connections
}

// NewServer returns a server for a workspace.
func NewServer(all *service.Service, o Options) *Server {
	if o.Limits == (Limits{}) {
		o.Limits = DefaultLimits
	}
	return &Server{o: o, service: all, doors: doors{limits: o.Limits, by: map[netip.Prefix]int{}}}
}

// Way is what a listener is for.
type Way int

// The ways.
const (
	Transfer   Way = iota // mail from relays, and from people who sign in
	Submission            // mail from people who sign in, only (RFC 6409)
	Implicit              // Submission within TLS from the first octet (RFC 8314, 3.3)
	Local                 // mail from a mail system that is told what becomes of it for each recipient (LMTP, RFC 2033)
)

// Serve answers on l until Shutdown.
func (s *Server) Serve(l net.Listener, way Way) error {
	s.mu.Lock()
	s.listeners = append(s.listeners, l)
	s.mu.Unlock()
	for {
		c, err := l.Accept()
		var passing net.Error
		switch {
		case err == nil:
			s.begin(c, way)
		case s.isStopped():
			return nil
		case errors.As(err, &passing) && passing.Timeout() || errors.Is(err, net.ErrClosed):
			return err
		default: // such as no file descriptor being left
			s.o.Log.Warn("smtp: accept", "error", err)
			time.Sleep(50 * time.Millisecond)
		}
	}
}

func (s *Server) isStopped() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.stopped
}

// begin answers one connection, each by a server of its own, whose bounds are those of the
// moment.
func (s *Server) begin(c net.Conn, way Way) {
	from := source(c.RemoteAddr())
	trusted := s.trusts(c.RemoteAddr())
	if no := s.doors.enter(from, trusted); no != "" {
		_ = c.SetDeadline(time.Now().Add(time.Second))
		fmt.Fprintf(c, "421 4.7.0 %s\r\n", no)
		_ = c.Close()
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopped {
		s.doors.leave(from)
		_ = c.Close()
		return
	}
	s.open.Add(1)
	wire := newConn(c, &s.doors, from)
	go func() {
		defer s.open.Done()
		one := smtp.NewServer(nil)
		one.Backend = smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) {
			return &session{s: s, one: one, conn: c, wire: wire, submission: way == Submission || way == Implicit, trusted: trusted}, nil
		})
		one.Domain, one.TLSConfig, one.LMTP = s.o.Domain, s.o.TLS, way == Local
		one.MaxRecipients, one.MaxMessageBytes, one.MaxLineLength = maxRecipients, MaxMessage, maxLine
		one.ReadTimeout, one.WriteTimeout = 5*time.Minute, 5*time.Minute // RFC 5321, 4.5.3.2
		one.EnableSMTPUTF8 = true
		one.AllowInsecureAuth = loopback(c.RemoteAddr()) && loopback(c.LocalAddr())
		one.ErrorLog = slog.NewLogLogger(s.o.Log.Handler(), slog.LevelDebug)
		var outer net.Conn = wire
		if way == Implicit {
			outer = tls.Server(wire, s.o.TLS)
		}
		_ = one.Serve(&only{c: outer})         // which returns once it has taken the connection
		_ = one.Shutdown(context.Background()) // which waits for its end
	}()
}

// trusts reports whether a connection comes from a relay that the workspace trusts.
func (s *Server) trusts(a net.Addr) bool {
	t, ok := a.(*net.TCPAddr)
	return ok && slices.ContainsFunc(s.o.Relays, func(p netip.Prefix) bool { return p.Contains(t.AddrPort().Addr().Unmap()) })
}

// loopback reports whether what goes to an address does not leave the machine: a password
// may cross it in clear.
func loopback(a net.Addr) bool {
	t, ok := a.(*net.TCPAddr)
	return ok && t.IP.IsLoopback()
}

// Shutdown stops listening and waits for open connections until ctx ends.
func (s *Server) Shutdown(ctx context.Context) {
	s.mu.Lock()
	s.stopped = true
	for _, l := range s.listeners {
		_ = l.Close()
	}
	s.mu.Unlock()
	done := make(chan struct{})
	go func() { s.open.Wait(); close(done) }()
	select {
	case <-done:
	case <-ctx.Done():
	}
}
