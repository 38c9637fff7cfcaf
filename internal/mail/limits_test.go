package mail_test

import (
	"bufio"
	"bytes"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/mail"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/testkit/certificate"
)

// serve runs a server of its own until the test ends.
func serve(t *testing.T, o mail.Options, way mail.Way) string {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	o.Domain, o.Spool, o.Log = "mail.merrowline.example", t.TempDir(), slog.New(slog.DiscardHandler)
	s := mail.NewServer(k.Service, o)
	go s.Serve(l, way)
	t.Cleanup(func() { s.Shutdown(ctx) })
	return l.Addr().String()
}

func dialAt(t *testing.T, addr string) *smtp.Client {
	t.Helper()
	c, err := smtp.Dial(addr)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.Close() })
	return c
}

// confidential is the policy of a group that its members alone can find.
const confidential = "find=members see_people=members read=members join.audience=nobody"

// To somebody unknown, a group that they can neither find nor write to is one that is not
// there, whatever state it is in and whichever of its addresses they try. A relay that the
// workspace trusts is told after DATA.
func TestHiddenIsAbsent(t *testing.T) {
	hidden := k.Make(t, "Quite Hidden", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy(confidential) })
	ended := k.Make(t, "Hidden and Over", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy(confidential) })
	if _, err := k.Life.Retire(ctx, k.Actor(t, kit.Administrator), ended.Address, 0); err != nil {
		t.Fatal(err)
	}
	open := k.Make(t, "Hidden and Open", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy(confidential + " post=anyone hold=nobody") })
	unknown := serve(t, mail.Options{}, mail.Transfer)
	answer := func(from, to string) string {
		c := dialAt(t, unknown)
		if err := c.Mail(from, nil); err != nil {
			t.Fatal(err)
		}
		err := c.Rcpt(to, nil)
		return strings.ReplaceAll(fmt.Sprint(err), strings.ToLower(to), "ADDRESS")
	}
	for _, suffix := range []string{"", "-owners", "-request", "-bounces"} {
		at := func(address string) string { return strings.Replace(address, "@", suffix+"@", 1) }
		absent := answer("x@y.example", at("not-there@merrowline.example"))
		if want := suffix == "-bounces"; strings.Contains(absent, "<nil>") != want {
			t.Errorf("an absent group%s: %s", suffix, absent)
		}
		for _, g := range []api.Group{hidden, ended} {
			if got := answer("x@y.example", at(g.Address)); got != absent {
				t.Errorf("%s%s answers %q, an absent one %q", g.Name, suffix, got, absent)
			}
		}
	}
	if got := answer("x@y.example", open.Address); got != "<nil>" {
		t.Errorf("one that takes mail from anyone: %s", got)
	}
	for from, to := range map[string]string{kit.Colleague: hidden.Address, kit.Member: ended.Address, "x@y.example": ended.Address} {
		c := dial(t, "") // which is trusted
		if err := c.Mail(from, nil); err != nil {
			t.Fatal(err)
		}
		if err := c.Rcpt(to, nil); err != nil {
			t.Errorf("a trusted relay is told before DATA: %v", err)
		}
		err := dial(t, "").SendMail(from, []string{to}, strings.NewReader(message(from, "x")))
		expect(t, "after DATA", err, 550, smtp.EnhancedCode{5, 1, 1}, "There is no group with the address "+to)
	}
	c := dial(t, kit.Colleague)
	_ = c.Mail(kit.Colleague, nil)
	expect(t, "a colleague who signed in", c.Rcpt(hidden.Address, nil), 550, smtp.EnhancedCode{5, 1, 1}, "There is no group with the address "+hidden.Address)
}

// Whoever may write to a group knows that it is there, whether they can find it or not, and so does a member whose mail proves them.
func TestRefusalsForThoseWhoKnowOfIt(t *testing.T) {
	unseen := "find=owners see_people=owners read=owners join.audience=nobody hold=nobody "
	written := k.Make(t, "Written To Unseen", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy(unseen + "post=workspace") })
	silent := k.Make(t, "Silent Unseen", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy(unseen + "post=owners") })
	send := func(by, to string) error {
		return dial(t, by).SendMail(by, []string{to}, strings.NewReader(message(by, "x")))
	}
	none := func(g api.Group) string { return "There is no group with the address " + g.Address }
	if err := send(kit.Colleague, written.Address); err != nil {
		t.Errorf("who may write: %v", err)
	}
	expect(t, "a member", send(kit.Member, silent.Address), 550, smtp.EnhancedCode{5, 7, 1}, "Only its owners may write")
	expect(t, "a colleague", send(kit.Colleague, silent.Address), 550, smtp.EnhancedCode{5, 1, 1}, none(silent))
	for _, g := range []api.Group{written, silent} {
		if _, err := k.Life.Retire(ctx, k.Actor(t, kit.Administrator), g.Address, 0); err != nil {
			t.Fatal(err)
		}
	}
	expect(t, "who might write, after its end", send(kit.Colleague, written.Address), 550, smtp.EnhancedCode{5, 2, 1}, "was retired")
	expect(t, "a member, after its end", send(kit.Member, silent.Address), 550, smtp.EnhancedCode{5, 2, 1}, "was retired")
	expect(t, "a colleague, after its end", send(kit.Colleague, silent.Address), 550, smtp.EnhancedCode{5, 1, 1}, none(silent))
}

// What is as large as is announced is taken, by DATA and by BDAT; one octet more is not.
func TestTheLargestMessage(t *testing.T) {
	g := k.Make(t, "Large Mail", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=nobody") })
	k.Queued(t)
	size, _ := dial(t, "").MaxMessageSize()
	if size != mail.MaxMessage {
		t.Fatalf("announced: %d", size)
	}
	header := "From: a@b.example\r\nSubject: large\r\n\r\n"
	line := strings.Repeat("y", 998) + "\r\n"
	sized := func(n int) string {
		var b strings.Builder
		b.WriteString(header)
		for b.Len()+len(line)+200 < n {
			b.WriteString(line)
		}
		for n-b.Len() > 900 {
			b.WriteString(strings.Repeat("z", 500) + "\r\n")
		}
		b.WriteString(strings.Repeat("z", n-b.Len()-2) + "\r\n")
		return b.String()
	}
	for _, over := range []int{0, 1} {
		whole := sized(size + over)
		if len(whole) != size+over {
			t.Fatalf("made %d octets", len(whole))
		}
		err := dial(t, "").SendMail("a@b.example", []string{g.Address}, strings.NewReader(whole))
		if over == 0 && err != nil {
			t.Errorf("as large as announced: %v", err)
		} else if over == 1 {
			expect(t, "an octet more", err, 552, smtp.EnhancedCode{5, 3, 4}, "more than 26214400 octets")
		}
	}
	for over, code := range map[int]string{0: "250", 1: "552"} {
		whole := sized(size + over)
		if answer := inOneChunk(t, g.Address, whole); !strings.HasPrefix(answer, code) {
			t.Errorf("%d octets in one chunk: %s", len(whole), answer)
		}
	}
	letters := k.Letters(t)
	if len(letters) != 2 {
		t.Fatalf("%d letters", len(letters))
	}
	_, want, _ := strings.Cut(sized(size), "\r\n\r\n")
	for _, l := range letters {
		if _, body, _ := strings.Cut(l.Text, "\r\n\r\n"); body != want {
			t.Errorf("its body came out with %d octets of %d", len(body), len(want))
		}
	}
}

// inOneChunk sends a message by BDAT (RFC 3030), and returns the answer.
func inOneChunk(t *testing.T, to, message string) string {
	t.Helper()
	conn, err := net.Dial("tcp", addr)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(time.Minute))
	r, answer := bufio.NewReader(conn), ""
	for _, say := range []string{"", "EHLO x.example\r\n", "MAIL FROM:<a@b.example>\r\n", "RCPT TO:<" + to + ">\r\n", fmt.Sprintf("BDAT %d LAST\r\n%s", len(message), message)} {
		go fmt.Fprint(conn, say) // the answer may come before all of it is written
		for answer = ""; len(answer) < 4 || answer[3] != ' '; {
			if answer, err = r.ReadString('\n'); err != nil {
				t.Fatal(err)
			}
		}
	}
	return answer
}

// A line that is too long is refused in words that arrive.
func TestALineWithoutEnd(t *testing.T) {
	g := k.Make(t, "Long Lines", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=nobody") })
	err := raw(t, g.Address, "From: a@b.example\r\n\r\nfine\r\n"+strings.Repeat("y", 200_000)+"\r\n")
	expect(t, "a line of 200 kB", err, 554, smtp.EnhancedCode{5, 6, 0}, "Line 4 of the message has more than 65536 octets")
	if err := raw(t, g.Address, "From: a@b.example\r\n\r\n"+strings.Repeat("y", 60_000)+"\r\n"); err != nil {
		t.Errorf("a line of 60 kB: %v", err)
	}
}

// More messages of one writer than are taken in an hour are put off, not refused.
func TestTooManyMessagesOfOne(t *testing.T) {
	g := k.Make(t, "Too Many", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=nobody") })
	k.Flow(t, 2, 2000)
	defer k.Flow(t, 1000, 2000)
	for i := range 4 {
		err := raw(t, g.Address, fmt.Sprintf("From: talks@much.example\r\nSubject: %d\r\n\r\nAgain.", i))
		if i < 2 && err != nil {
			t.Fatal(err)
		} else if i >= 2 {
			expect(t, "one more", err, 451, smtp.EnhancedCode{4, 7, 1}, "More than 2 messages of talks@much.example came within an hour. Try again later.")
		}
	}
	if err := raw(t, g.Address, "From: talks@little.example\r\n\r\nHello."); err != nil {
		t.Errorf("of somebody else: %v", err)
	}
}

// Each source has its share of the connections, and not more; a trusted relay may have all.
func TestConnectionsOfOneSource(t *testing.T) {
	limits := mail.DefaultLimits
	limits.Connections, limits.BySource = 6, 2
	at := serve(t, mail.Options{Limits: limits, Relays: []netip.Prefix{netip.MustParsePrefix("127.0.0.9/32")}}, mail.Transfer)
	greeted := func(from string) (string, net.Conn) {
		t.Helper()
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}
		c, err := d.Dial("tcp", at)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { c.Close() })
		_ = c.SetDeadline(time.Now().Add(10 * time.Second))
		line, err := bufio.NewReader(c).ReadString('\n')
		if err != nil {
			t.Fatal(err)
		}
		return line, c
	}
	var last net.Conn
	for i, want := range []string{"220", "220", "421 4.7.0 Too many connections are open from where you are"} {
		line, c := greeted("127.0.0.2")
		if !strings.HasPrefix(line, want) {
			t.Errorf("connection %d: %q; want %s", i+1, line, want)
		}
		if i == 1 {
			last = c
		}
	}
	for i := range 4 {
		if line, _ := greeted("127.0.0.9"); !strings.HasPrefix(line, "220") {
			t.Errorf("connection %d of a trusted relay: %q", i+1, line)
		}
	}
	if line, _ := greeted("127.0.0.3"); !strings.HasPrefix(line, "421 4.7.0 Too many connections are open here") {
		t.Errorf("one more than all: %q", line)
	}
	last.Close()
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(10 * time.Millisecond) {
		line, c := greeted("127.0.0.3")
		if strings.HasPrefix(line, "220") {
			break
		}
		c.Close()
		if time.Now().After(deadline) {
			t.Fatal("a connection that was closed still counts")
		}
	}
}

// Whoever has nothing to show for the time is sent away, however busy they keep the line.
func TestPatienceEnds(t *testing.T) {
	limits := mail.DefaultLimits
	limits.WithoutResult = 700 * time.Millisecond
	at := serve(t, mail.Options{Limits: limits}, mail.Transfer)
	c := dialAt(t, at)
	began := time.Now()
	for c.Noop() == nil {
		if time.Since(began) > 20*time.Second {
			t.Fatal("it could go on for ever")
		}
		time.Sleep(20 * time.Millisecond)
	}
	c = dialAt(t, serve(t, mail.Options{}, mail.Transfer))
	_ = c.Mail("a@b.example", nil)
	var last error
	for i := range 50 {
		last = c.Rcpt(fmt.Sprintf("guess-%d@merrowline.example", i), nil)
	}
	expect(t, "fifty guesses", last, 421, smtp.EnhancedCode{4, 7, 0}, "50 recipients in vain")
	time.Sleep(400 * time.Millisecond)
	if c.Noop() == nil {
		t.Error("it may go on guessing")
	}
}

// Messages that never end leave room for others, in memory too, and nothing of them is left.
func TestUnfinishedMessages(t *testing.T) {
	g := k.Make(t, "Unfinished", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("post=anyone hold=nobody") })
	k.Queued(t)
	limits := mail.DefaultLimits
	limits.Messages, limits.Octets, limits.BySource = 4, 3<<20, 1000
	at := serve(t, mail.Options{Limits: limits}, mail.Transfer)
	begin := func() (*smtp.Client, io.WriteCloser) {
		c := dialAt(t, at)
		if err := c.Mail("a@b.example", nil); err != nil {
			t.Fatal(err)
		}
		if err := c.Rcpt(g.Address, nil); err != nil {
			t.Fatal(err)
		}
		w, err := c.Data()
		if err != nil {
			t.Fatal(err)
		}
		return c, w
	}
	var open []*smtp.Client
	for range 3 {
		c, w := begin()
		open = append(open, c)
		if _, err := io.WriteString(w, message("a@b.example", "never ends")+strings.Repeat(strings.Repeat("x", 98)+"\r\n", 5000)); err != nil {
			t.Fatal(err)
		}
	}
	send := func(body string) error {
		return dialAt(t, at).SendMail("a@b.example", []string{g.Address}, strings.NewReader(message("a@b.example", "honest")+body))
	}
	for deadline := time.Now().Add(10 * time.Second); ; time.Sleep(20 * time.Millisecond) { // until what was sent has been read
		err := send(strings.Repeat(strings.Repeat("x", 98)+"\r\n", 25_000))
		if err != nil {
			expect(t, "more octets than there is room for", err, 452, smtp.EnhancedCode{4, 3, 1}, "Too much mail comes in at once")
			break
		}
		if time.Now().After(deadline) {
			t.Fatal("there is no bound for octets in flight")
		}
	}
	if err := send(""); err != nil {
		t.Errorf("a small message meanwhile: %v", err)
	}
	var err error
	for n := 0; err == nil && n < 4; n++ { // one of the first three may have been ended by what was too much
		c, w := begin()
		open = append(open, c)
		_, _ = io.WriteString(w, "From: a@b.example\r\n")
		time.Sleep(50 * time.Millisecond) // it counts a moment after it was let begin
		err = send("")
	}
	expect(t, "a fifth message", err, 452, smtp.EnhancedCode{4, 3, 1}, "Too many messages come in at once")
	for _, c := range open {
		c.Close()
	}
	for deadline := time.Now().Add(10 * time.Second); send("") != nil; time.Sleep(20 * time.Millisecond) {
		if time.Now().After(deadline) {
			t.Fatal("messages whose client has gone still count")
		}
	}
	if sent := k.Queued(t); sent["never ends"] != nil || len(sent["honest"]) == 0 {
		t.Errorf("queued: %v", sent)
	}
}

// certify writes a certificate for a name, and returns by which it is believed.
func certify(t *testing.T, dir, name string, lasts time.Duration) *x509.CertPool {
	t.Helper()
	made, err := certificate.New(name, lasts)
	if err == nil {
		err = made.Write(dir)
	}
	if err != nil {
		t.Fatal(err)
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(made.PEM)
	return pool
}

// People send by submission, over TLS, with a certificate that is read again when it changes.
func TestSubmission(t *testing.T) {
	g := k.Make(t, "Submitted")
	k.Queued(t)
	dir := t.TempDir()
	roots := certify(t, dir, "mail.merrowline.example", time.Hour)
	cert, err := mail.LoadCertificate(filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem"), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	o := mail.Options{TLS: cert.TLS()}
	config := &tls.Config{RootCAs: roots, ServerName: "mail.merrowline.example"}
	starts, within := serve(t, o, mail.Submission), serve(t, o, mail.Implicit)
	c := dialAt(t, starts)
	expect(t, "without signing in", c.Mail(kit.Member, nil), 530, smtp.EnhancedCode{5, 7, 0}, "Sign in first")
	for name, open := range map[string]func() (*smtp.Client, error){
		"STARTTLS":    func() (*smtp.Client, error) { return smtp.DialStartTLS(starts, config) },
		"TLS at once": func() (*smtp.Client, error) { return smtp.DialTLS(within, config) },
	} {
		c, err := open()
		if err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		defer c.Close()
		if err := c.Auth(sasl.NewPlainClient("", kit.Member, kit.Password)); err != nil {
			t.Fatalf("%s: %v", name, err)
		}
		if err := c.SendMail(kit.Member, []string{g.Address}, strings.NewReader(message(kit.Member, name))); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		expect(t, name+": a long line", c.SendMail(kit.Member, []string{g.Address}, strings.NewReader(message(kit.Member, "x")+strings.Repeat("y", 200_000)+"\r\n")), 554, smtp.EnhancedCode{5, 6, 0}, "Line 5")
	}
	if sent := k.Queued(t); len(sent["STARTTLS"]) != 3 || len(sent["TLS at once"]) != 3 {
		t.Errorf("queued: %v", sent)
	}
	config.RootCAs = certify(t, dir, "mail.merrowline.example", time.Hour)
	var last error
	for deadline := time.Now().Add(10 * time.Second); time.Now().Before(deadline); time.Sleep(50 * time.Millisecond) {
		c, err := smtp.DialTLS(within, config)
		if last = err; err == nil {
			c.Close()
			break
		}
	}
	if last != nil {
		t.Errorf("with the new certificate: %v", last)
	}
	if err := os.WriteFile(filepath.Join(dir, "cert.pem"), []byte("half"), 0o600); err != nil {
		t.Fatal(err)
	}
	time.Sleep(1100 * time.Millisecond) // until the files are looked at
	if c, err := smtp.DialTLS(within, config); err != nil {
		t.Errorf("with a file that can't be read: %v", err)
	} else {
		c.Close()
	}
}

// STARTTLS takes nothing that was said before it: neither commands that came in clear after
// it, nor who had signed in.
func TestNothingCrossesSTARTTLS(t *testing.T) {
	dir := t.TempDir()
	roots := certify(t, dir, "mail.merrowline.example", time.Hour)
	cert, err := mail.LoadCertificate(filepath.Join(dir, "cert.pem"), filepath.Join(dir, "key.pem"), slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	conn, err := net.Dial("tcp", serve(t, mail.Options{TLS: cert.TLS()}, mail.Transfer))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(10 * time.Second))
	r := bufio.NewReader(conn)
	until := func(r *bufio.Reader, prefix string) string {
		t.Helper()
		for {
			line, err := r.ReadString('\n')
			if err != nil {
				t.Fatalf("waiting for %q: %v", prefix, err)
			}
			if strings.HasPrefix(line, prefix) {
				return line
			}
		}
	}
	until(r, "220 ")
	fmt.Fprint(conn, "EHLO x.example\r\n")
	until(r, "250 ")
	fmt.Fprint(conn, "STARTTLS\r\nMAIL FROM:<smuggled@b.example>\r\n")
	until(r, "220 ")
	secure := tls.Client(conn, &tls.Config{RootCAs: roots, ServerName: "mail.merrowline.example"})
	if err := secure.Handshake(); err != nil {
		return // what was smuggled in was taken for the handshake: refused too
	}
	s := bufio.NewReader(secure)
	fmt.Fprint(secure, "NOOP\r\n")
	if line := until(s, "250"); strings.Contains(line, "Roger") {
		t.Errorf("what came in clear was answered within TLS: %q", line)
	}
	fmt.Fprint(secure, "EHLO x.example\r\nRCPT TO:<a@b.example>\r\n")
	if line := until(s, "5"); !bytes.Contains([]byte(line), []byte("MAIL")) {
		t.Errorf("a recipient: %q", line)
	}
}

// Whoever is signed in to send is so until what they signed in with ends.
func TestAnOpenSessionEndsWithItsPassword(t *testing.T) {
	g := k.Make(t, "Signed In For Long")
	by, _, err := k.Account.SignIn(ctx, "192.0.2.1", api.SignIn{Address: kit.Member, Password: kit.Password})
	if err != nil {
		t.Fatal(err)
	}
	own, err := k.Account.CreateToken(ctx, by, api.NewToken{Name: "laptop", Scopes: []string{"send"}})
	if err != nil {
		t.Fatal(err)
	}
	c := dial(t, "")
	if err := c.Auth(sasl.NewPlainClient("", kit.Member, own.Secret)); err != nil {
		t.Fatal(err)
	}
	if err := c.SendMail(kit.Member, []string{g.Address}, strings.NewReader(message(kit.Member, "before"))); err != nil {
		t.Fatal(err)
	}
	half := dial(t, "")
	if err := half.Auth(sasl.NewPlainClient("", kit.Member, own.Secret)); err != nil {
		t.Fatal(err)
	}
	_, _ = half.Mail(kit.Member, nil), half.Rcpt(g.Address, nil)
	w, err := half.Data()
	if err != nil {
		t.Fatal(err)
	}
	if err := k.Account.RevokeToken(ctx, by, own.ID); err != nil {
		t.Fatal(err)
	}
	expect(t, "the next message", c.Mail(kit.Member, nil), 421, smtp.EnhancedCode{4, 7, 0}, "has ended")
	_, _ = io.WriteString(w, message(kit.Member, "after"))
	expect(t, "the one that was coming in", w.Close(), 421, smtp.EnhancedCode{4, 7, 0}, "has ended")
	if sent := k.Queued(t); len(sent["before"]) != 3 || sent["after"] != nil {
		t.Errorf("queued: %v", sent)
	}
}
