package e2e

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
	"ivytable.example/ivytable/internal/demo"
	"ivytable.example/ivytable/internal/testkit/certificate"
)

// mailServer is a mail server that is not ours, as organisations have one before their groups. It takes mail from people, hands on what
// is for groups by LMTP, takes what groups send, over TLS and with a password, and keeps or returns it.
type mailServer struct {
	t             *testing.T
	dir, addr, ca string
	env           []string
}

const relayPassword = "a password of the relay"

// unpacked returns a path among the programs that are not ours, and skips the test where they are missing.
func unpacked(t *testing.T, path ...string) string {
	t.Helper()
	p, err := filepath.Abs(filepath.Join(append([]string{"../bin/counterparts/usr"}, path...)...))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := os.Stat(p); err != nil {
		t.Skip("it is not here; run: make bin/counterparts")
	}
	return p
}

// startMailServer starts one that hands mail of domain on to an address by LMTP, but for that of people.
func startMailServer(t *testing.T, domain, groups string, people ...string) *mailServer {
	t.Helper()
	program := unpacked(t, "sbin", "exim4")
	libraries, err := filepath.Glob(filepath.Join(filepath.Dir(program), "../lib/*/libnss_wrapper.so"))
	if err != nil || len(libraries) != 1 {
		t.Fatalf("%v, %v", libraries, err)
	}
	m := &mailServer{t: t, addr: freePort(t)}
	if m.dir, err = os.MkdirTemp("", "ivymx"); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(m.dir) })
	// It wants an account of its own, which nobody has to make: it is given another's, and as another than root it stays who it is.
	uid, gid := os.Getuid(), os.Getgid()
	if uid == 0 {
		uid, gid = 65534, 65534
	}
	cert, err := certificate.New("mx."+domain, time.Hour)
	if err == nil {
		err = cert.Write(m.dir)
	}
	if err != nil {
		t.Fatal(err)
	}
	m.ca = filepath.Join(m.dir, "cert.pem")
	_, port, _ := net.SplitHostPort(m.addr)
	_, lmtp, _ := net.SplitHostPort(groups)
	files := map[string]string{
		"people": strings.Join(people, ":\n") + ":\n",
		"passwd": fmt.Sprintf("root:x:0:0::/:/bin/false\nDebian-exim:x:%d:%d::/:/bin/false\n", uid, gid),
		"group":  fmt.Sprintf("root:x:0:\nmail:x:8:\nDebian-exim:x:%d:\n", gid),
		"conf": strings.NewReplacer("DIR", m.dir, "PROGRAM", program, "PORT", port, "LMTP", lmtp, "DOMAIN", domain, "SECRET", relayPassword).Replace(`
keep_environment = LD_PRELOAD : NSS_WRAPPER_PASSWD : NSS_WRAPPER_GROUP
exim_path = PROGRAM
primary_hostname = mx.DOMAIN
spool_directory = DIR/spool
log_file_path = DIR/spool/%s.log
pid_file_path = DIR/spool/pid
local_interfaces = 127.0.0.1
daemon_smtp_ports = PORT
rfc1413_query_timeout = 0s
tls_advertise_hosts = *
tls_certificate = DIR/cert.pem
tls_privatekey = DIR/key.pem
recipients_max = 1000
acl_smtp_rcpt = rcpt
acl_smtp_data = data
prdr_enable = true

begin acl
# Groups send over TLS with a password; people with theirs, or to groups and people of the domain as strangers do.
rcpt:
  require message = Only over TLS.
    condition = ${if or {{!eq{$authenticated_id}{groups}}{def:tls_in_cipher}}}
  deny message = It is somebody else's box. Not for you, GREYLISTED or otherwise.
    recipients = barred@elsewhere.example
  accept authenticated = *
  accept domains = DOMAIN
  deny message = Relaying is not for you.
data:
  accept add_header = :at_start:${authresults {mx.DOMAIN}}

begin routers
boxes:
  driver = accept
  address_data = ${lookup{$local_part@$domain}lsearch,ret=key{DIR/people}{$value}fail}
  transport = box
nobody:
  driver = redirect
  domains = ! DOMAIN
  data = :fail: Nobody has this box.
  allow_fail
groups:
  driver = manualroute
  transport = groups
  route_list = * 127.0.0.1
  self = send

begin transports
box:
  driver = appendfile
  file = DIR/spool/boxes/$address_data
  create_file = anywhere
  create_directory
  return_path_add
  user = Debian-exim
groups:
  driver = smtp
  protocol = lmtp
  port = LMTP
  allow_localhost

begin retry
* * F,1h,1s

begin authenticators
plain:
  driver = plaintext
  public_name = PLAIN
  server_prompts = :
  server_condition = ${if eq{$auth3}{SECRET}}
  server_set_id = $auth2
`),
	}
	for name, text := range files {
		if err := os.WriteFile(filepath.Join(m.dir, name), []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	spool := filepath.Join(m.dir, "spool")
	for _, path := range []string{spool, m.dir, m.ca, filepath.Join(m.dir, "key.pem")} {
		if path == spool {
			err = os.Mkdir(path, 0o755)
		}
		if err == nil && os.Getuid() == 0 {
			err = os.Chown(path, uid, gid)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	m.env = []string{"PATH=/usr/bin:/bin", "LD_PRELOAD=" + libraries[0], "NSS_WRAPPER_PASSWD=" + m.dir + "/passwd", "NSS_WRAPPER_GROUP=" + m.dir + "/group"}
	c := exec.Command(program, "-C", filepath.Join(m.dir, "conf"), "-bdf", "-q10s")
	c.Env = m.env
	c.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	out, err := os.Create(filepath.Join(m.dir, "out"))
	if err != nil {
		t.Fatal(err)
	}
	defer out.Close()
	c.Stdout, c.Stderr = out, out
	if err := c.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if t.Failed() {
			said, _ := os.ReadFile(filepath.Join(m.dir, "out"))
			log, _ := os.ReadFile(filepath.Join(spool, "main.log"))
			t.Logf("the mail server said\n%s%s", said, log)
		}
		_ = syscall.Kill(-c.Process.Pid, syscall.SIGTERM)
		_ = c.Wait()
	})
	wait(t, "the mail server answers", func() bool {
		conn, err := net.Dial("tcp", m.addr)
		if err == nil {
			conn.Close()
		}
		return err == nil
	})
	return m
}

// box returns the messages in somebody's box.
func (m *mailServer) box(address string) []string {
	m.t.Helper()
	b, err := os.ReadFile(filepath.Join(m.dir, "spool", "boxes", address))
	if err != nil && !os.IsNotExist(err) {
		m.t.Fatal(err)
	}
	all := strings.Split("\n"+string(b), "\nFrom ")[1:] // mbox
	for i, one := range all {
		_, all[i], _ = strings.Cut(one, "\n")
	}
	return all
}

// swaks sends by an SMTP client for the command line, and returns its exit code and the transcript.
func swaks(t *testing.T, args ...string) (int, string) {
	t.Helper()
	c := exec.Command("perl", append([]string{unpacked(t, "bin", "swaks")}, args...)...)
	libraries, _ := filepath.Glob(unpacked(t, "lib") + "/*/perl5/*")
	c.Env = append(os.Environ(), "PERL5LIB="+strings.Join(libraries, ":"))
	out, err := c.CombinedOutput()
	if err != nil && c.ProcessState == nil {
		t.Fatal(err)
	}
	return c.ProcessState.ExitCode(), string(out)
}

// Mail goes from somebody's client to the organisation's mail server, by LMTP to a group, over TLS back to the mail server, into
// boxes, and comes back from where nobody has one; none of the programs on the way is ours. What reaches an outsider is signed so that a
// checker that is not ours believes it.
func TestThroughAMailServer(t *testing.T) {
	t.Parallel()
	const author, guest, nobody, barred = "oda.fenn@merrowline.example", "gull@elsewhere.example", "nobody@elsewhere.example", "barred@elsewhere.example"
	p := newPlace(t)
	p.password = "nobody else's password"
	lmtp := freePort(t)
	server := startMailServer(t, "merrowline.example", lmtp, author, "hand-1@merrowline.example", "hand-2@merrowline.example", guest)
	if code, out := p.run(p.password+"\n", "serve", "first-administrator", demo.Administrator, "--name", "Ines Skerry"); code != 0 {
		t.Fatal(out)
	}
	secret := filepath.Join(server.dir, "password")
	if err := os.WriteFile(secret, []byte(relayPassword+"\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	start(t, p.env(), "serve", "--relay", server.addr, "--relay-ca", server.ca, "--relay-user", "groups", "--relay-password-file", secret,
		"--lmtp-listen", lmtp, "--tls-cert", server.ca, "--tls-key", filepath.Join(server.dir, "key.pem"), "--trusted-relay-names", "mx.merrowline.example", "--mail-name", "groups.merrowline.example")
	c := p.api(demo.Administrator)
	for _, address := range []string{author, "hand-1@merrowline.example", "hand-2@merrowline.example"} {
		if _, err := c.CreatePerson(ctx, api.NewPersonEntry{Address: address, Name: "Hand " + address}); err != nil {
			t.Fatal(err)
		}
	}
	key, err := c.MakeKey(ctx, "merrowline.example")
	if err != nil {
		t.Fatal(err)
	}
	if _, err := c.UseKey(ctx, "merrowline.example", key.Selector); err != nil {
		t.Fatal(err)
	}
	n := api.NewGroup{Quiet: true, Name: "Crew Room", Owners: []string{author}, PolicyPatch: api.PolicyPatch{Externals: "owners", Hold: "nobody", Suspicious: "hold", Policy: &api.AnswersPatch{Post: "workspace"}}}
	for _, address := range []string{"hand-1@merrowline.example", "hand-2@merrowline.example", guest, nobody, barred} {
		n.People = append(n.People, api.NewPerson{Address: address})
	}
	g, err := c.CreateGroup(ctx, n)
	if err != nil {
		t.Fatal(err)
	}

	// The author signs in to the mail server, which says so to the group.
	if code, out := swaks(t, "--server", server.addr, "--auth", "PLAIN", "--auth-user", author, "--auth-password", relayPassword, "--tls",
		"--from", author, "--to", g.Address, "--header", "Subject: The tide", "--header", "Message-Id: <tide@merrowline.example>", "--body", "High at noon.\n.\nGrüße\n"); code != 0 {
		t.Fatalf("%d\n%s", code, out)
	}
	posts := func() []api.Post {
		page, err := c.Posts(ctx, g.Address, "", client.Paging{})
		if err != nil {
			t.Fatal(err)
		}
		return page.Items
	}
	wait(t, "the post is accepted", func() bool { all := posts(); return len(all) == 1 && all[0].State == "accepted" })
	states := func() map[string]api.Delivery {
		page, err := c.Deliveries(ctx, posts()[0].ID, "", "", client.Paging{Limit: 100})
		if err != nil {
			t.Fatal(err)
		}
		out := map[string]api.Delivery{}
		for _, d := range page.Items {
			out[d.Recipient] = d
		}
		return out
	}
	wait(t, "what nobody takes has come back", func() bool { return states()[nobody].State == "returned" })
	all := states()
	for address, want := range map[string]string{author: "handed_over", "hand-1@merrowline.example": "handed_over", "hand-2@merrowline.example": "handed_over", guest: "handed_over", barred: "refused"} {
		if all[address].State != want {
			t.Errorf("%s: %+v; want %s", address, all[address], want)
		}
	}
	if !strings.Contains(all[nobody].Reply, "Nobody has this box.") || !strings.Contains(all[barred].Reply, "somebody else's box") {
		t.Errorf("the trace says %q and %q", all[nobody].Reply, all[barred].Reply)
	}
	for _, address := range []string{author, "hand-1@merrowline.example", "hand-2@merrowline.example", guest} {
		wait(t, address+" has it", func() bool { return len(server.box(address)) > 0 })
		got := server.box(address)
		if len(got) != 1 || !strings.Contains(got[0], "\nList-Id: ") || !strings.Contains(got[0], "<tide@merrowline.example>") || !strings.Contains(got[0], "High at noon.\n.\n") {
			t.Errorf("%s has %d messages: %s", address, len(got), strings.Join(got, "\n"))
		}
	}
	if n := len(server.box(nobody)) + len(server.box(barred)); n != 0 {
		t.Errorf("%d messages to those who take none", n)
	}

	if log, err := os.ReadFile(filepath.Join(server.dir, "spool", "main.log")); err != nil || !regexp.MustCompile(`=> crew-room@\S+ .*X=TLS1\.3`).Match(log) {
		t.Errorf("the mail server did not hand it on over TLS, %v", err)
	}
	const verify = `
import dkim, sys
message = sys.stdin.buffer.read().replace(b"\n", b"\r\n")
lookup = lambda name, timeout=5: sys.argv[2].encode() if name.rstrip(b".") == sys.argv[1].encode() else None
print(dkim.verify(message, dnsfunc=lookup), dkim.verify(message.replace(b"noon", b"four"), dnsfunc=lookup))
`
	python := exec.Command("/usr/bin/python3", "-c", verify, key.Name, key.Record)
	python.Env = append(os.Environ(), "PYTHONPATH="+unpacked(t, "lib", "python3", "dist-packages"))
	python.Stdin = strings.NewReader(withoutReturnPath(server.box(guest)[0]))
	if out, err := python.CombinedOutput(); err != nil || string(out) != "True False\n" {
		t.Errorf("the signature verifies, and does after a change: %s, %v", out, err)
	}

	// One who is not believed: nobody signed in, so the mail server says nothing.
	if code, out := swaks(t, "--server", server.addr, "--from", author, "--to", g.Address, "--header", "Subject: Forged", "--body", "x"); code != 0 {
		t.Fatalf("%d\n%s", code, out)
	}
	wait(t, "the forged one waits", func() bool { all := posts(); return len(all) == 2 && all[0].State == "waiting" })
}

// withoutReturnPath is a message as it was sent, without what the box adds at its head.
func withoutReturnPath(m string) string {
	for strings.HasPrefix(m, "Return-path:") {
		_, m, _ = strings.Cut(m, "\n")
	}
	return m
}

// A client that is not ours signs in, sends line by line or in one go, by SMTP and by LMTP, and is told what is wrong.
func TestBySomebodyElsesClient(t *testing.T) {
	t.Parallel()
	p := newPlace(t)
	unpacked(t, "bin", "swaks")
	lmtp := freePort(t)
	start(t, p.env(), "demo", "--lmtp-listen", lmtp)
	const group, nothing = "night-dispatch@merrowline.example", "nothing@merrowline.example"
	signedIn := func(password string) []string {
		return []string{"--server", p.smtp, "--auth", "PLAIN", "--auth-user", demo.Owner, "--auth-password", password}
	}
	for name, c := range map[string]struct {
		args []string
		to   string
		code int // 24: no recipient was taken; 28: not signed in
		says string
	}{
		"signed in":       {signedIn(p.password), group, 0, "250 2.0.0 OK: queued"},
		"in one go":       {append(signedIn(p.password), "--pipeline"), group, 0, "250 2.0.0 OK: queued"},
		"wrong password":  {signedIn("wrong"), group, 28, "535 5.7.8"},
		"no such address": {[]string{"--server", p.smtp}, nothing, 24, "550 5.1.1"},
		"one of two":      {[]string{"--server", lmtp, "--protocol", "LMTP"}, nothing + "," + group, 0, "250 2.0.0 <" + group + "> OK: queued"},
	} {
		code, out := swaks(t, append(c.args, "--from", demo.Owner, "--to", c.to, "--header", "Subject: "+name)...)
		if code != c.code || !strings.Contains(out, c.says) {
			t.Errorf("%s: %d, want %d and %q\n%s", name, code, c.code, c.says, out)
		}
		if strings.Contains(strings.Join(c.args, " "), p.password) {
			wait(t, name+" arrived", func() bool { return len(p.letters(demo.Member, name)) == 1 })
		}
	}
}
