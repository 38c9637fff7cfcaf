// Package resolver is a stand-in for what answers questions about mail domains (RFC 1035), over UDP on loopback.
package resolver

import (
	"net"
	"strings"

	"golang.org/x/net/dns/dnsmessage"
)

// Server answers from what it is given.
type Server struct {
	c     net.PacketConn
	mail  map[string]string                  // where mail for a domain goes
	texts func(name string) (texts []string) // of a name, without its last dot
}

// New returns a server of a connection.
func New(c net.PacketConn, mail map[string]string, texts func(string) []string) *Server {
	return &Server{c, mail, texts}
}

// Serve answers until the connection is closed.
func (s *Server) Serve() {
	b := make([]byte, 1500)
	for {
		n, from, err := s.c.ReadFrom(b)
		if err != nil {
			return
		}
		if answer, err := s.answer(b[:n]); err == nil {
			_, _ = s.c.WriteTo(answer, from)
		}
	}
}

func (s *Server) answer(question []byte) ([]byte, error) {
	var p dnsmessage.Parser
	h, err := p.Start(question)
	if err != nil {
		return nil, err
	}
	q, err := p.Question()
	if err != nil {
		return nil, err
	}
	name := strings.ToLower(strings.TrimSuffix(q.Name.String(), "."))
	head := dnsmessage.ResourceHeader{Name: q.Name, Class: q.Class, TTL: 60}
	var texts []string
	to, mail := s.mail[name]
	if q.Type == dnsmessage.TypeTXT {
		texts = s.texts(name)
	}
	out := dnsmessage.Header{ID: h.ID, Response: true, Authoritative: true, RecursionDesired: h.RecursionDesired, RecursionAvailable: true}
	if len(texts) == 0 && !mail {
		out.RCode = dnsmessage.RCodeNameError
	}
	r := dnsmessage.NewBuilder(nil, out)
	r.EnableCompression()
	if err := r.StartQuestions(); err != nil {
		return nil, err
	}
	if err := r.Question(q); err != nil {
		return nil, err
	}
	if err := r.StartAnswers(); err != nil {
		return nil, err
	}
	if q.Type == dnsmessage.TypeMX && mail {
		mx, err := dnsmessage.NewName(to + ".")
		if err != nil {
			return nil, err
		}
		if err := r.MXResource(head, dnsmessage.MXResource{Pref: 10, MX: mx}); err != nil {
			return nil, err
		}
	}
	for _, t := range texts {
		var parts []string
		for ; len(t) > 255; t = t[255:] { // RFC 1035, 3.3
			parts = append(parts, t[:255])
		}
		if err := r.TXTResource(head, dnsmessage.TXTResource{TXT: append(parts, t)}); err != nil {
			return nil, err
		}
	}
	return r.Finish()
}
