package mail_test

import (
	"context"
	"crypto/tls"
	"errors"
	"io"
	"net"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/mail"
	kit "ivytable.example/ivytable/internal/testkit"
)

// secureRelay is a relay that may offer TLS, and let people sign in, and that notes how each message came.
type secureRelay struct {
	mu  sync.Mutex
	got []string // "clear" or "tls", and who signed in
}

type secureSession struct {
	r    *secureRelay
	conn *smtp.Conn
	user string
}

func (s *secureSession) AuthMechanisms() []string { return []string{sasl.Plain} }
func (s *secureSession) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if password != "tide-tables" {
			return errors.New("no")
		}
		s.user = user
		return nil
	}), nil
}
func (s *secureSession) Mail(string, *smtp.MailOptions) error { return nil }
func (s *secureSession) Rcpt(string, *smtp.RcptOptions) error { return nil }
func (s *secureSession) Reset()                               {}
func (s *secureSession) Logout() error                        { return nil }
func (s *secureSession) Data(r io.Reader) error {
	_, err := io.Copy(io.Discard, r)
	how := "clear"
	if _, ok := s.conn.TLSConnectionState(); ok {
		how = "tls"
	}
	s.r.mu.Lock()
	defer s.r.mu.Unlock()
	s.r.got = append(s.r.got, strings.TrimSpace(how+" "+s.user))
	return err
}

func (r *secureRelay) serve(t *testing.T, config *tls.Config) (addr string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	s := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &secureSession{r: r, conn: c}, nil }))
	s.Domain, s.TLSConfig, s.AllowInsecureAuth = "relay.example", config, true
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })
	return l.Addr().String()
}

// TLS and signing in with the relay, at each level, with relays of each kind.
func TestSecurityOfRelays(t *testing.T) {
	dir := t.TempDir()
	roots := certify(t, dir, "127.0.0.1", time.Hour)
	pair, err := tls.LoadX509KeyPair(filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem"))
	if err != nil {
		t.Fatal(err)
	}
	named := certify(t, t.TempDir(), "other.example", time.Hour)
	good := &tls.Config{Certificates: []tls.Certificate{pair}}
	old := t.TempDir()
	oldRoots := certify(t, old, "127.0.0.1", -time.Minute)
	oldPair, err := tls.LoadX509KeyPair(filepath.Join(old, "cert.pem"), filepath.Join(old, "key.pem"))
	if err != nil {
		t.Fatal(err)
	}
	expired := &tls.Config{Certificates: []tls.Certificate{oldPair}}
	broken := &tls.Config{GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return nil, errors.New("expired") }}
	for name, c := range map[string]struct {
		config *tls.Config
		relays *mail.Relays
		want   string // "" for an error
	}{
		"opportunistic, none offered":       {nil, &mail.Relays{}, "clear"},
		"opportunistic, offered":            {good, &mail.Relays{}, "tls"},
		"opportunistic, broken":             {broken, &mail.Relays{}, "clear"},
		"never, offered":                    {good, &mail.Relays{Security: mail.Never}, "clear"},
		"required, none offered":            {nil, &mail.Relays{Security: mail.Required, Roots: roots}, ""},
		"required, broken":                  {broken, &mail.Relays{Security: mail.Required, Roots: roots}, ""},
		"required, of one nobody knows":     {good, &mail.Relays{Security: mail.Required}, ""},
		"required, of another than pinned":  {good, &mail.Relays{Security: mail.Required, Roots: named}, ""},
		"required, expired":                 {expired, &mail.Relays{Security: mail.Required, Roots: oldRoots}, ""},
		"pinned, another":                   {good, &mail.Relays{Roots: named}, ""},
		"pinned, none offered":              {nil, &mail.Relays{Roots: roots}, ""},
		"pinned":                            {good, &mail.Relays{Roots: roots}, "tls"},
		"opportunistic, expired":            {expired, &mail.Relays{}, "tls"},
		"signs in over TLS":                 {good, &mail.Relays{User: "ivy", Password: "tide-tables"}, "tls ivy"},
		"signs in in clear on this machine": {nil, &mail.Relays{User: "ivy", Password: "tide-tables"}, "clear ivy"},
		"a wrong password":                  {good, &mail.Relays{User: "ivy", Password: "wrong"}, ""},
	} {
		r := &secureRelay{}
		c.relays.Addrs, c.relays.Domain = []string{r.serve(t, c.config)}, "mail.merrowline.example"
		client := c.relays.Client()
		results, err := client.Send(ctx, mail.Outgoing{Header: []byte("Subject: x\r\n\r\n"), Message: strings.NewReader("Subject: x\r\n\r\nx\r\n")}, []string{"a@b.example"})
		client.Close()
		got := strings.Join(r.got, ", ")
		if (err == nil && results[0] == nil) != (c.want != "") || got != c.want {
			t.Errorf("%s: %q, %v, %v; want %q", name, got, results, err, c.want)
		}
	}
}

// The first relay that can be reached gets the mail; one that could not be is asked after the others for a while.
func TestRelaysByPriority(t *testing.T) {
	dead, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	dead.Close()
	second, third := &secureRelay{}, &secureRelay{}
	relays := &mail.Relays{Addrs: []string{dead.Addr().String(), second.serve(t, nil), third.serve(t, nil)}, Domain: "x.example"}
	for range 3 {
		client := relays.Client()
		if results, err := client.Send(ctx, mail.Outgoing{Header: []byte("\r\n"), Message: strings.NewReader("\r\nx\r\n")}, []string{"a@b.example"}); err != nil || results[0] != nil {
			t.Fatal(results, err)
		}
		client.Close()
	}
	if len(second.got) != 3 || len(third.got) != 0 {
		t.Errorf("the second got %v, the third %v", second.got, third.got)
	}
	none := &mail.Relays{Addrs: []string{dead.Addr().String()}, Domain: "x.example"}
	if _, err := none.Client().Send(ctx, mail.Outgoing{Header: []byte("\r\n"), Message: strings.NewReader("\r\nx\r\n")}, []string{"a@b.example"}); err == nil {
		t.Error("mail left through a relay that is not there")
	}
	for _, wrong := range [][]string{nil, {"host"}, {":25"}, {"host:25", "lmtp:"}} {
		if (&mail.Relays{Addrs: wrong}).Check() == nil {
			t.Errorf("%q is taken for relays", wrong)
		}
	}
}

// A mail system that hands messages on by LMTP, or takes them so, is told of each recipient by itself.
func TestLMTP(t *testing.T) {
	open, closed := k.Make(t, "Open Locally", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("find=anyone post=anyone hold=nobody") }), k.Make(t, "Closed Locally")
	alias := "open-locally-too@merrowline.example"
	if _, err := k.Group.Change(ctx, k.Actor(t, kit.Administrator), open.Address, api.GroupPatch{Aliases: &[]string{alias}}, 0); err != nil {
		t.Fatal(err)
	}
	k.Queued(t)
	relays := &mail.Relays{Addrs: []string{"lmtp:" + serve(t, options, mail.Local)}, Domain: "mx.merrowline.example"}
	client := relays.Client()
	defer client.Close()
	send := func(to ...string) []error {
		t.Helper()
		text := message("a@b.example", "by hand")
		results, err := client.Send(context.Background(), mail.Outgoing{From: "a@b.example", Header: []byte(text), Message: strings.NewReader(text)}, to)
		if err != nil {
			t.Fatal(err)
		}
		return results
	}
	got := send(open.Address, "nothing@merrowline.example", closed.Address, alias)
	if got[0] != nil || got[1] == nil || got[2] == nil || got[3] != nil {
		t.Errorf("results: %v", got)
	}
	if sent := k.Queued(t); len(sent["by hand"]) != 3 {
		t.Errorf("it went to %v", sent)
	}
	if got := send(closed.Address, "nothing@merrowline.example"); slices.Contains(got, nil) {
		t.Errorf("two that are refused: %v", got)
	}
	time.Sleep(10 * time.Millisecond)
	if got := send(open.Address); got[0] != nil {
		t.Errorf("on the same connection: %v", got)
	}
	k.Queued(t)
}
