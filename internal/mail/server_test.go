package mail_test

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"net/textproto"
	"os"
	"strings"
	"sync"
	"testing"
	"testing/iotest"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/mail"
	kit "ivytable.example/ivytable/internal/testkit"
)

var (
	ctx  = context.Background()
	dsn  string
	k    *kit.Kit
	addr string
)

// options are those of the server of most tests; it trusts what comes from this machine.
var options = mail.Options{Domain: "mail.merrowline.example", Relays: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}, Log: slog.New(slog.DiscardHandler)}

func TestMain(m *testing.M) {
	kit.Main(m, "mail", &k, func() (func(), error) {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return nil, err
		}
		addr = l.Addr().String()
		spool, err := os.MkdirTemp("", "spool")
		if err != nil {
			return nil, err
		}
		options.Spool = spool
		s := mail.NewServer(k.Service, options)
		go s.Serve(l, mail.Transfer)
		return func() { s.Shutdown(ctx); os.RemoveAll(spool) }, nil
	})
}

// dial connects, and signs in when as is not empty.
func dial(t *testing.T, as string) *smtp.Client {
	t.Helper()
	c, err := smtp.Dial(addr)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	if as != "" {
		if err := c.Auth(sasl.NewPlainClient("", as, kit.Password)); err != nil {
			t.Fatal(err)
		}
	}
	return c
}

func message(from, subject string) string {
	return "From: " + from + "\r\nSubject: " + subject + "\r\n\r\nHello.\r\n"
}

// expect checks an answer of the server.
func expect(t *testing.T, name string, err error, code int, enhanced smtp.EnhancedCode, says string) {
	t.Helper()
	var e *smtp.SMTPError
	if !errors.As(err, &e) || e.Code != code || e.EnhancedCode != enhanced || !strings.Contains(e.Message, says) {
		t.Errorf("%s: %v; want %d %v saying %q", name, err, code, enhanced, says)
	}
}

func TestDialogue(t *testing.T) {
	g := k.Make(t, "Dialogue")
	lapsed := k.Make(t, "Ended")
	found := k.Make(t, "Found", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("find=anyone") })
	if _, err := k.Life.Retire(ctx, k.Actor(t, kit.Administrator), lapsed.Address, 0); err != nil {
		t.Fatal(err)
	}
	send := func(as, from, subject string, to ...string) error {
		return dial(t, as).SendMail(from, to, strings.NewReader(message(from, subject)))
	}
	if err := send(kit.Member, kit.Member, "proven", g.Address); err != nil {
		t.Errorf("a member who signed in: %v", err)
	}
	if err := send("", kit.Member, "claimed", g.Address); err != nil {
		t.Errorf("a member who did not: %v", err)
	}
	expect(t, "a stranger", send("", "stranger@elsewhere.example", "x", g.Address), 550, smtp.EnhancedCode{5, 1, 1}, "There is no group with the address dialogue@")
	expect(t, "a stranger who can find it", send("", "stranger@elsewhere.example", "x", found.Address), 550, smtp.EnhancedCode{5, 7, 1}, "does not take this message. Only its members may write to this group.")
	expect(t, "a colleague, at RCPT", send(kit.Colleague, kit.Colleague, "x", g.Address), 550, smtp.EnhancedCode{5, 7, 1}, "Only its members may write")
	expect(t, "no such group", send("", "a@b.example", "x", "nothing@merrowline.example"), 550, smtp.EnhancedCode{5, 1, 1}, "There is no group")
	expect(t, "somebody's own address", send("", "a@b.example", "x", kit.Owner), 550, smtp.EnhancedCode{5, 1, 1}, "There is no group")
	expect(t, "another domain", send("", "a@b.example", "x", "a@elsewhere.example"), 550, smtp.EnhancedCode{5, 1, 1}, "There is no group")
	expect(t, "a group that has ended", send(kit.Member, kit.Member, "x", lapsed.Address), 550, smtp.EnhancedCode{5, 2, 1}, "was retired and takes no mail")
	expect(t, "a bounce to a group", dial(t, "").SendMail("", []string{g.Address}, strings.NewReader(message("a@b.example", "x"))), 550, smtp.EnhancedCode{5, 7, 2}, "without a sender")
	if err := dial(t, "").SendMail("", []string{"dialogue-bounces@merrowline.example"}, strings.NewReader(message("a@b.example", "bounce"))); err != nil {
		t.Errorf("a bounce to where it belongs: %v", err)
	}
	sent := k.Queued(t)
	if len(sent) != 1 || len(sent["proven"]) != 3 {
		t.Errorf("queued: %v", sent)
	}
	w, err := k.Waiting.List(ctx, k.Actor(t, kit.Owner), g.Address, []string{"post"}, "", 10)
	if err != nil || len(w.Items) != 1 || w.Items[0].Subject != "claimed" {
		t.Errorf("waiting: %+v, %v", w.Items, err)
	}
	if _, err := k.Reach.ChangePolicy(ctx, k.Actor(t, kit.Administrator), g.Address, kit.Policy("post=anyone hold=nobody"), 0); err != nil {
		t.Fatal(err)
	}
	if err := send("", "stranger@elsewhere.example", "now", g.Address); err != nil {
		t.Errorf("the stranger after the group was opened: %v", err)
	}
	if sent := k.Queued(t); len(sent["now"]) != 3 {
		t.Errorf("queued: %v", sent)
	}
}

func TestSigningInAsSomebodyElseProvesNothing(t *testing.T) {
	g := k.Make(t, "Impostor", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=workspace") })
	if err := dial(t, kit.Colleague).SendMail(kit.Colleague, []string{g.Address}, strings.NewReader(message(kit.Owner, "impostor"))); err != nil {
		t.Fatal(err)
	}
	if sent := k.Queued(t); sent["impostor"] != nil {
		t.Errorf("delivered as the owner's: %v", sent)
	}
}

// What a relay says of an author is believed where the relay is trusted, it speaks under its name, and it
// says it of the author.
func TestAuthorsAreProvenByTrustedRelays(t *testing.T) {
	const guest, says = "guest@gannetport.example", "mx.merrowline.example; dkim=pass header.d="
	g := k.Make(t, "Proven Afar", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("suspicious=refuse externals=owners")
		n.People = append(n.People, api.NewPerson{Address: guest})
	})
	here := []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}
	names := []string{"mx.merrowline.example"}
	relay, stranger, silent := serve(t, mail.Options{Relays: here, Names: names}, mail.Transfer), serve(t, mail.Options{Names: names}, mail.Transfer), serve(t, mail.Options{Relays: here}, mail.Transfer)
	for _, c := range []struct {
		name, at, as, from, results string
		taken                       bool
	}{
		{"the relay proves a member", relay, "", guest, says + "gannetport.example", true},
		{"the relay proves an owner", relay, "", kit.Owner, says + "merrowline.example", true},
		{"it says nothing", relay, "", guest, "mx.merrowline.example; none", false},
		{"it proves another domain", relay, "", guest, says + "bulk.example", false},
		{"another relay's name", relay, "", guest, "mx.elsewhere.example; dkim=pass header.d=gannetport.example", false},
		{"no relay that is trusted", stranger, "", guest, says + "gannetport.example", false},
		{"no name that is believed", silent, "", guest, says + "gannetport.example", false},
		{"somebody who signed in and writes the field", relay, kit.Colleague, kit.Owner, says + "merrowline.example", false},
	} {
		client := dialAt(t, c.at)
		if c.as != "" {
			if err := client.Auth(sasl.NewPlainClient("", c.as, kit.Password)); err != nil {
				t.Fatal(err)
			}
		}
		err := client.SendMail(c.from, []string{g.Address}, strings.NewReader("Authentication-Results: "+c.results+"\r\n"+message(c.from, c.name)))
		if (err == nil) != c.taken {
			t.Errorf("%s: %v", c.name, err)
		}
	}
	if sent := k.Queued(t); len(sent) != 2 || len(sent["the relay proves a member"]) != 4 {
		t.Errorf("queued: %v", sent)
	}
	var kept int
	k.SQL(t, "SELECT COUNT(*) FROM messages WHERE subject LIKE 'the relay proves%' AND header LIKE '%mx.merrowline.example;%'", &kept)
	if kept != 0 {
		t.Error("what the relay said goes on to others, who may take it for theirs")
	}
}

func TestBadMail(t *testing.T) {
	g := k.Make(t, "Bad Mail", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone") })
	data := func(raw string) error {
		return dial(t, "").SendMail("a@b.example", []string{g.Address}, strings.NewReader(raw))
	}
	expect(t, "a NUL", data("From: a@b.example\r\n\r\nx\x00y\r\n"), 554, smtp.EnhancedCode{5, 6, 0}, "NUL")
	expect(t, "a bare LF", raw(t, g.Address, "From: a@b.example\r\nSubject: x\n\nThe body that would be lost.\r\n"), 554, smtp.EnhancedCode{5, 6, 0}, "Line 2 of the message has an LF")
	expect(t, "two authors one after the other", data("From: a@b.example\r\nFrom: "+kit.Owner+"\r\n\r\nx\r\n"), 554, smtp.EnhancedCode{5, 6, 0}, "2 From fields")
	expect(t, "a header over the limit", data("From: a@b.example\r\n"+strings.Repeat("X: "+strings.Repeat("y", 990)+"\r\n", 300)+"\r\n"), 552, smtp.EnhancedCode{5, 3, 4}, "header")
	expect(t, "over the size limit", data("From: a@b.example\r\n\r\n"+strings.Repeat(strings.Repeat("y", 998)+"\r\n", 26<<10)), 552, smtp.EnhancedCode{5, 3, 4}, "")
	c := dial(t, "")
	expect(t, "too large, as announced", c.Mail("a@b.example", &smtp.MailOptions{Size: 30 << 20}), 552, smtp.EnhancedCode{5, 3, 4}, "")
	expect(t, "a wrong password", dial(t, "").Auth(sasl.NewPlainClient("", kit.Auditor, "wrong")), 535, smtp.EnhancedCode{5, 7, 8}, "wrong")
	c = dial(t, "")
	expect(t, "the first of three", c.Auth(sasl.NewPlainClient("", kit.Owner, "wrong")), 535, smtp.EnhancedCode{5, 7, 8}, "wrong")
	expect(t, "the second", c.Auth(sasl.NewPlainClient("", kit.Owner, "wrong")), 535, smtp.EnhancedCode{5, 7, 8}, "wrong")
	expect(t, "the third", c.Auth(sasl.NewPlainClient("", kit.Owner, "wrong")), 421, smtp.EnhancedCode{4, 7, 0}, "3 wrong passwords")
	time.Sleep(400 * time.Millisecond)
	if err := c.Noop(); err == nil {
		t.Error("the connection goes on after three wrong passwords")
	}
	var last error
	for range 10 {
		last = dial(t, "").Auth(sasl.NewPlainClient("", kit.Auditor, "wrong"))
	}
	expect(t, "ten wrong passwords", last, 454, smtp.EnhancedCode{4, 7, 0}, "Try again in")
	w, err := k.Waiting.List(ctx, k.Actor(t, kit.Owner), g.Address, []string{"post"}, "", 10)
	if err != nil || len(w.Items) != 0 || len(k.Queued(t)) != 0 {
		t.Errorf("something of it was kept: %+v, %v", w.Items, err)
	}
}

// raw sends a message octet by octet as it is given, without mending its lines.
func raw(t *testing.T, to, message string) error {
	t.Helper()
	conn, err := net.Dial("tcp", addr)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	c := textproto.NewConn(conn)
	say := func(line string) (int, string) {
		if line != "" {
			fmt.Fprint(conn, line)
		}
		code, text, err := c.ReadResponse(0)
		if err != nil {
			t.Fatal(err)
		}
		return code, text
	}
	say("")
	for _, line := range []string{"EHLO x.example\r\n", "MAIL FROM:<a@b.example>\r\n", "RCPT TO:<" + to + ">\r\n", "DATA\r\n"} {
		say(line)
	}
	code, text := say(message + "\r\n.\r\n")
	if code < 300 {
		return nil
	}
	e := &smtp.SMTPError{Code: code}
	_, err = fmt.Sscanf(text, "%d.%d.%d", &e.EnhancedCode[0], &e.EnhancedCode[1], &e.EnhancedCode[2])
	_, e.Message, _ = strings.Cut(text, " ")
	if err != nil {
		t.Fatal(err)
	}
	return e
}

// Who runs the mail answers at the addresses that every domain has, and the owners of a group
// at those that it has.
func TestAddressesThatThereHaveToBe(t *testing.T) {
	k.Make(t, "Asked About", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("write_owners=anyone hold=nobody") })
	k.Queued(t)
	for to, want := range map[string]string{"Postmaster@merrowline.example": kit.Administrator, "abuse@crew.merrowline.example": kit.Administrator,
		"asked-about-request@merrowline.example": kit.Owner, "asked-about-owners@merrowline.example": kit.Owner} {
		if err := dial(t, "").SendMail("stranger@elsewhere.example", []string{to}, strings.NewReader(message("stranger@elsewhere.example", "to "+to))); err != nil {
			t.Errorf("%s: %v", to, err)
		}
		if got := k.Queued(t)["to "+to]; len(got) != 1 || got[0] != want {
			t.Errorf("mail to %s goes to %v", to, got)
		}
	}
	if err := dial(t, "").SendMail("", []string{"postmaster@merrowline.example"}, strings.NewReader(message("mailer@elsewhere.example", "a report"))); err != nil {
		t.Errorf("a report to the postmaster: %v", err)
	}
	if err := dial(t, kit.Member).SendMail(kit.Member, []string{"postmaster@merrowline.example"}, strings.NewReader(message(kit.Member, "signed in"))); err != nil {
		t.Errorf("a member to the postmaster: %v", err)
	}
	if sent := k.Queued(t); len(sent["a report"]) != 1 || len(sent["signed in"]) != 1 {
		t.Errorf("queued: %v", sent)
	}
	for _, to := range []string{"postmaster@elsewhere.example", "webmaster@merrowline.example", "nothing-request@merrowline.example"} {
		expect(t, to, dial(t, "").SendMail("a@b.example", []string{to}, strings.NewReader(message("a@b.example", "x"))), 550, smtp.EnhancedCode{5, 1, 1}, "There is no group")
	}
}

// A message that is sent to several addresses of one group reaches its people once.
func TestAddressesOfOneGroupAreOne(t *testing.T) {
	g := k.Make(t, "Many Names", func(n *api.NewGroup) { n.Aliases = []string{"many-aliases@merrowline.example"} })
	if err := dial(t, kit.Member).SendMail(kit.Member, []string{g.Address, "MANY-names@merrowline.example", "many-aliases@merrowline.example"}, strings.NewReader(message(kit.Member, "once"))); err != nil {
		t.Fatal(err)
	}
	if to := k.Queued(t)["once"]; len(to) != 3 {
		t.Errorf("it goes to %v", to)
	}
}

// A message to two groups is refused whole when one of them refuses it.
func TestOneRefusalRefusesAll(t *testing.T) {
	open := k.Make(t, "Two Open", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=nobody") })
	shut := k.Make(t, "Two Shut", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("find=anyone") })
	err := dial(t, "").SendMail("a@b.example", []string{open.Address, shut.Address}, strings.NewReader(message("a@b.example", "both")))
	expect(t, "one of two", err, 550, smtp.EnhancedCode{5, 7, 1}, shut.Address)
	if sent := k.Queued(t); len(sent) != 0 {
		t.Errorf("queued: %v", sent)
	}
}

// relay is a stand-in that answers RCPT for an address with what is set for it.
type relay struct {
	mu     sync.Mutex
	says   map[string]error
	to     []string
	raw    []string
	closes bool  // in the middle of DATA
	after  error // the answer to DATA
	l      net.Listener
}

// set changes how it answers.
func (r *relay) set(f func()) {
	r.mu.Lock()
	defer r.mu.Unlock()
	f()
}

type relaySession struct {
	*relay
	conn *smtp.Conn
	rcpt []string
}

func (s *relaySession) Reset()                               { s.rcpt = nil }
func (s *relaySession) Logout() error                        { return nil }
func (s *relaySession) Mail(string, *smtp.MailOptions) error { return nil }
func (s *relaySession) Rcpt(to string, _ *smtp.RcptOptions) error {
	if err := s.says[to]; err != nil {
		return err
	}
	s.rcpt = append(s.rcpt, to)
	return nil
}

func (s *relaySession) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closes {
		s.closes = false
		return s.conn.Conn().Close()
	}
	if s.after != nil {
		return s.after
	}
	s.to, s.raw = append(s.to, s.rcpt...), append(s.raw, string(b))
	return nil
}

func newRelay(t *testing.T) *relay {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	r := &relay{says: map[string]error{}, l: l}
	s := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &relaySession{relay: r, conn: c}, nil }))
	s.Domain = "relay.example"
	go s.Serve(l)
	t.Cleanup(func() { s.Close() })
	return r
}

func TestRelayClient(t *testing.T) {
	r := newRelay(t)
	no := &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody"}
	later := &smtp.SMTPError{Code: 450, EnhancedCode: smtp.EnhancedCode{4, 2, 1}, Message: "busy"}
	r.says["no@a.example"], r.says["later@a.example"] = no, later
	c := (&mail.Relays{Addrs: []string{r.l.Addr().String()}, Domain: "mail.merrowline.example"}).Client()
	defer c.Close()
	header, body := "From: a@b.example\r\nSubject: x\r\n\r\n", "Gr\xc3\xbc\xc3\x9fe\r\n.dot\r\n"
	send := func(c *mail.RelayClient, from string, to ...string) ([]error, error) {
		return c.Send(ctx, mail.Outgoing{From: from, Header: []byte(header), EightBit: true, Message: strings.NewReader(header + body)}, to)
	}
	refused := func(err error) bool { _, permanent := mail.Answered(err); return permanent }
	got, err := send(c, "deck-bounces@a.example", "one@a.example", "no@a.example", "later@a.example", "two@a.example")
	if err != nil || got[0] != nil || !refused(got[1]) || got[2] == nil || refused(got[2]) || got[3] != nil || mail.Reply(got[1]) != "550 5.1.1 nobody" {
		t.Errorf("results: %v, %v", got, err)
	}
	if strings.Join(r.to, " ") != "one@a.example two@a.example" || len(r.raw) != 1 || r.raw[0] != header+body {
		t.Errorf("arrived: %v %q", r.to, r.raw)
	}
	if got, err := send(c, "", "no@a.example"); err != nil || !refused(got[0]) {
		t.Errorf("nobody at all: %v, %v", got, err)
	}
	r.set(func() { r.closes = true })
	if _, err := send(c, "", "one@a.example"); err == nil {
		t.Error("closed in mid-transaction, and it says nothing")
	}
	if got, err := send(c, "", "one@a.example"); err != nil || got[0] != nil {
		t.Errorf("after that: %v, %v", got, err)
	}
	r.set(func() { r.after = no })
	if got, err := send(c, "", "one@a.example", "later@a.example", "two@a.example"); err != nil || !refused(got[0]) || refused(got[1]) || !refused(got[2]) {
		t.Errorf("refused after DATA: %v, %v", got, err)
	}
	r.set(func() { r.after = nil })
	arrived := len(r.raw)
	broken := mail.Outgoing{From: "", Header: []byte(header), Message: io.MultiReader(strings.NewReader(header+"half"), iotest.ErrReader(errors.New("the database has gone")))}
	if _, err := c.Send(ctx, broken, []string{"one@a.example"}); err == nil || len(r.raw) != arrived {
		t.Errorf("half a message was handed over: %v, %q", err, r.raw)
	}
	gone := (&mail.Relays{Addrs: []string{"127.0.0.1:1"}, Domain: "x"}).Client()
	if _, err := send(gone, "", "a@a.example", "b@a.example"); err == nil || refused(err) {
		t.Errorf("no relay: %v", err)
	}
}

// What is said in the dialogue is one line, whatever was given.
func TestNoInjectionInAnswers(t *testing.T) {
	conn, err := net.Dial("tcp", addr)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	r := bufio.NewReader(conn)
	line := func() string {
		s, err := r.ReadString('\n')
		if err != nil {
			t.Fatal(err)
		}
		return s
	}
	line()
	fmt.Fprint(conn, "HELO x\r\nMAIL FROM:<a@b.example>\r\nRCPT TO:<\"a\tb\"@merrowline.example>\r\nNOOP\r\n")
	for _, want := range []string{"250", "250", "5", "250"} {
		if s := line(); !strings.HasPrefix(s, want) {
			t.Errorf("answered %q; want %s…", s, want)
		}
	}
}
