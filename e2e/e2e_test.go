// Package e2e uses the whole thing from outside, as people do: the program as a
// process, its command line, its interface, SMTP, and the console in a browser.
package e2e

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/e2e/browser"
	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
	"ivytable.example/ivytable/internal/demo"
	"ivytable.example/ivytable/internal/demo/postoffice"
)

var (
	ctx    = context.Background()
	binary string
)

func TestMain(m *testing.M) { os.Exit(run(m)) }

// chromium is the browser of all tests: each of their tabs has a profile of its own.
var chromium = sync.OnceValues(func() (*browser.Browser, error) { return browser.Start(ctx) })

func run(m *testing.M) int {
	dir, err := os.MkdirTemp("", "ivytable-e2e")
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		return 1
	}
	defer os.RemoveAll(dir)
	if _, err := os.Stat("../console/dist/index.html"); err != nil {
		fmt.Fprintln(os.Stderr, "the console is not built; run: make build")
		return 1
	}
	binary = filepath.Join(dir, "ivytable")
	if out, err := exec.Command("go", "build", "-o", binary, "../cmd/ivytable").CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
		return 1
	}
	code := m.Run()
	if b, err := chromium(); err == nil {
		b.Close()
	}
	return code
}

// process is a running ivytable.
type process struct {
	t    *testing.T
	cmd  *exec.Cmd
	done chan error
	mu   sync.Mutex
	out  bytes.Buffer
}

func (p *process) Write(b []byte) (int, error) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.out.Write(b)
}

func (p *process) said() string {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.out.String()
}

// start runs ivytable and waits until it says that it is ready.
func start(t *testing.T, env []string, args ...string) *process {
	t.Helper()
	p := &process{t: t, cmd: exec.Command(binary, args...), done: make(chan error, 1)}
	p.cmd.Env = append(os.Environ(), env...)
	p.cmd.Stdout, p.cmd.Stderr = p, p
	if err := p.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	go func() { p.done <- p.cmd.Wait() }()
	t.Cleanup(func() { p.stop() })
	wait(t, "ready", func() bool {
		select {
		case err := <-p.done:
			p.done <- err
			t.Fatalf("it ended: %v\n%s", err, p.said())
		default:
		}
		return strings.Contains(p.said(), "ready")
	})
	return p
}

// stop interrupts the process, as Ctrl-C does, and returns how it ended.
func (p *process) stop() error {
	_ = p.cmd.Process.Signal(os.Interrupt)
	select {
	case err := <-p.done:
		p.done <- err
		return err
	case <-time.After(30 * time.Second):
		_ = p.cmd.Process.Kill()
		return errors.New("it did not stop within 30 seconds")
	}
}

func wait(t *testing.T, what string, ok func() bool) {
	t.Helper()
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for limit := time.After(60 * time.Second); !ok(); {
		select {
		case <-limit:
			t.Fatalf("waited in vain: %s", what)
		case <-tick.C:
		}
	}
}

var lastPort = 20_000 + os.Getpid()%10_000

// freePort returns an address that nobody else is given: below the ports that the
// system hands out by itself, to databases and to whoever connects.
func freePort(t *testing.T) string {
	t.Helper()
	for range 2000 {
		lastPort++
		if l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", lastPort)); err == nil {
			defer l.Close()
			return l.Addr().String()
		}
	}
	t.Fatal("no port is free")
	return ""
}

// place is where one demo runs.
type place struct {
	t                       *testing.T
	http, smtp, page, sink  string
	dir, config, signedInAs string
	password                string
}

func newPlace(t *testing.T) *place {
	t.Helper()
	// Not t.TempDir: its path is too long for the database's socket.
	dir, err := os.MkdirTemp("", "ivy")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return &place{t: t, http: freePort(t), smtp: freePort(t), page: freePort(t), sink: freePort(t), dir: filepath.Join(dir, "data"), config: filepath.Join(dir, "config"), password: demo.Password}
}

func (p *place) env() []string {
	return []string{"IVYTABLE_LISTEN=" + p.http, "IVYTABLE_SMTP_LISTEN=" + p.smtp, "IVYTABLE_POST_OFFICE=" + p.page, "IVYTABLE_POST_OFFICE_SMTP=" + p.sink,
		"IVYTABLE_DATA=" + p.dir, "IVYTABLE_URL=http://" + p.http, "XDG_CONFIG_HOME=" + p.config, "IVYTABLE_METRICS_LISTEN=127.0.0.1:0", "TZ=UTC"}
}

// cli runs a command as somebody and returns its exit code and all it printed.
func (p *place) cli(as string, args ...string) (int, string) {
	p.t.Helper()
	if p.signedInAs != as {
		if code, out := p.run(p.password+"\n", "sign-in", as); code != 0 {
			p.t.Fatalf("sign in as %s: %s", as, out)
		}
		p.signedInAs = as
	}
	return p.run(p.password+"\n", args...) // which is asked for where a token is not enough
}

// run runs a command with what it reads, and returns its exit code and what it printed.
func (p *place) run(stdin string, args ...string) (int, string) {
	p.t.Helper()
	c := exec.Command(binary, args...)
	c.Env, c.Stdin = append(os.Environ(), p.env()...), strings.NewReader(stdin)
	out, err := c.CombinedOutput()
	if err != nil && c.ProcessState == nil {
		p.t.Fatal(err)
	}
	return c.ProcessState.ExitCode(), string(out)
}

// must runs a command that has to do, and has to say something.
func (p *place) must(as, says string, args ...string) {
	p.t.Helper()
	if code, out := p.cli(as, args...); code != 0 || !strings.Contains(out, says) {
		p.t.Errorf("ivytable %s: %d\n%s\nwant %q", strings.Join(args, " "), code, out, says)
	}
}

func (p *place) api(as string) *client.Client {
	p.t.Helper()
	session, err := client.New("http://"+p.http, "").SignIn(ctx, api.SignIn{Address: as, Password: p.password})
	if err != nil {
		p.t.Fatal(err)
	}
	token, err := session.CreateToken(ctx, api.NewToken{Name: "e2e", Days: 1, Scopes: []string{"everything"}})
	if err != nil {
		p.t.Fatal(err)
	}
	return client.New("http://"+p.http, token.Secret)
}

// send sends a message by SMTP, signed in when as is not empty.
func (p *place) send(as, from string, raw []byte, to ...string) error {
	p.t.Helper()
	c, err := smtp.Dial(p.smtp)
	if err != nil {
		p.t.Fatal(err)
	}
	defer c.Close()
	if as != "" {
		if err := c.Auth(sasl.NewPlainClient("", as, p.password)); err != nil {
			return err
		}
	}
	return c.SendMail(from, to, bytes.NewReader(raw))
}

// letters returns what a box of the post office holds with a subject.
func (p *place) letters(address, subject string) []postoffice.Letter {
	p.t.Helper()
	var out []postoffice.Letter
	for _, l := range fetch[[]postoffice.Letter](p.t, "http://"+p.page+"/api/boxes/"+address) {
		if strings.Contains(l.Subject, subject) {
			out = append(out, l)
		}
	}
	return out
}

func (p *place) raw(address string, n int) []byte {
	p.t.Helper()
	res, err := httpGet(fmt.Sprintf("http://%s/api/boxes/%s/%d", p.page, address, n))
	if err != nil {
		p.t.Fatal(err)
	}
	defer res.Body.Close()
	b, err := io.ReadAll(res.Body)
	if err != nil {
		p.t.Fatal(err)
	}
	return b
}

// A service that is killed between its 250 and the delivery loses nothing: after a
// new start each recipient gets the message once.
func TestKilledBetweenAcceptingAndDelivering(t *testing.T) {
	p := newPlace(t)
	p.password = "nobody else's password"
	relay := freePort(t)
	setUp := exec.Command(binary, "serve", "first-administrator", demo.Administrator, "--name", "Ines Skerry")
	setUp.Env, setUp.Stdin = append(os.Environ(), p.env()...), strings.NewReader(p.password+"\n")
	if out, err := setUp.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	serve := func() *process { return start(t, append(p.env(), "IVYTABLE_RELAY="+relay), "serve") }
	first := serve()
	c := p.api(demo.Administrator)
	n := api.NewGroup{Quiet: true, Name: "Kept", Owners: []string{demo.Administrator}, PolicyPatch: api.PolicyPatch{Externals: "owners"}}
	for i := range 150 {
		n.People = append(n.People, api.NewPerson{Address: fmt.Sprintf("guest-%03d@elsewhere.example", i)})
	}
	g, err := c.CreateGroup(ctx, n)
	if err != nil {
		t.Fatal(err)
	}
	const messages = 5
	for i := range messages {
		raw := fmt.Appendf(nil, "From: %s\r\nSubject: kept %d\r\nMessage-ID: <kept-%d@x.example>\r\n\r\nStill here.\r\n", demo.Administrator, i, i)
		if err := p.send(demo.Administrator, demo.Administrator, raw, g.Address); err != nil {
			t.Fatal(err)
		}
	}
	// The relay does not answer yet, so all of it is accepted and none delivered.
	if err := first.cmd.Process.Signal(syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	<-first.done
	first.done <- nil

	office, err := postoffice.New(filepath.Join(p.dir, "office"))
	if err != nil {
		t.Fatal(err)
	}
	in, err1 := net.Listen("tcp", relay)
	web, err2 := net.Listen("tcp", p.page)
	if err := errors.Join(err1, err2); err != nil {
		t.Fatal(err)
	}
	go office.Serve(in, web)
	defer office.Stop()

	second := serve()
	if strings.Contains(second.said(), "ERROR") {
		t.Errorf("after the kill: %s", second.said())
	}
	to := []string{demo.Administrator}
	for _, x := range n.People {
		to = append(to, x.Address)
	}
	wait(t, "everything arrived", func() bool {
		for _, a := range to {
			if len(office.Letters(a)) < messages {
				return false
			}
		}
		return true
	})
	for _, a := range to {
		ids := map[string]int{}
		for _, l := range office.Letters(a) {
			ids[l.MessageID]++
		}
		for i := range messages {
			if id := fmt.Sprintf("<kept-%d@x.example>", i); ids[id] != 1 {
				t.Errorf("%s has %s %d times", a, id, ids[id])
			}
		}
	}
	if err := second.stop(); err != nil {
		t.Errorf("it stopped with %v\n%s", err, second.said())
	}
}

// When the database is killed, mail is put off or taken, never lost, and the service
// goes on by itself.
func TestDatabaseKilled(t *testing.T) {
	p := newPlace(t)
	service := start(t, p.env(), "demo")
	c := p.api(demo.Administrator)
	const group = "night-dispatch@merrowline.example"
	raw := func(subject string) []byte {
		return []byte("From: " + demo.Owner + "\r\nSubject: " + subject + "\r\n\r\nx\r\n")
	}
	if err := p.send(demo.Owner, demo.Owner, raw("before"), group); err != nil {
		t.Fatal(err)
	}
	b, err := os.ReadFile(filepath.Join(p.dir, "db.pid"))
	if err != nil {
		t.Fatal(err)
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(b)))
	if err != nil {
		t.Fatal(err)
	}
	if err := syscall.Kill(pid, syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	var e *smtp.SMTPError
	if err := p.send("", demo.Owner, raw("meanwhile"), group); err != nil && (!errors.As(err, &e) || e.Code/100 != 4) {
		t.Errorf("mail meanwhile is answered %v", err)
	}
	wait(t, "the service answers again", func() bool { _, err := c.Group(ctx, group); return err == nil })
	if err := p.send(demo.Owner, demo.Owner, raw("after"), group); err != nil {
		t.Fatal(err)
	}
	for _, subject := range []string{"before", "after"} {
		wait(t, subject+" arrived", func() bool { return len(p.letters(demo.Member, subject)) > 0 })
	}
	if n := len(p.letters(demo.Member, "after")); n != 1 {
		t.Errorf("it arrived %d times", n)
	}
	if err := service.stop(); err != nil {
		t.Errorf("it stopped with %v", err)
	}
}

// Two demos run side by side by their environment; stopped and started again, each
// keeps what was changed; reset, it starts over.
func TestTwoDemos(t *testing.T) {
	a, b := newPlace(t), newPlace(t)
	pa := start(t, a.env(), "demo")
	start(t, b.env(), "demo")
	a.must(demo.Administrator, "Only in the First", "group", "create", "Only in the First", "--owner", demo.Owner)
	if code, _ := b.cli(demo.Administrator, "group", "show", "only-in-the-first@merrowline.example"); code != 3 {
		t.Errorf("the second knows the first's group: %d", code)
	}
	if err := pa.stop(); err != nil {
		t.Fatalf("stopped with %v\n%s", err, pa.said())
	}
	pa = start(t, a.env(), "demo")
	if !strings.Contains(pa.said(), "as you left it") {
		t.Errorf("it says:\n%s", pa.said())
	}
	a.must(demo.Administrator, "Only in the First", "group", "show", "only-in-the-first@merrowline.example")
	if err := pa.stop(); err != nil {
		t.Fatal(err)
	}
	a.signedInAs = ""
	start(t, a.env(), "demo", "--reset")
	if code, _ := a.cli(demo.Administrator, "group", "show", "only-in-the-first@merrowline.example"); code != 3 {
		t.Errorf("after a reset: %d", code)
	}
}
