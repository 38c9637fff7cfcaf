package main

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/e2e/outside"
	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
	"ivytable.example/ivytable/internal/testkit/certificate"
)

const (
	administrator = "ines.skerry@merrowline.example"
	author        = "hand-0@merrowline.example"
	password      = "a password for the soak"
	groupCount    = 8
	peopleCount   = 40
	perGroup      = 21
)

// place is a service with its data and its relay.
type place struct {
	data, http, smtp string
	disk             string // which the data lie on, and nothing else; "" where none could be made
	sink             *sink
	service          *exec.Cmd
	client           *client.Client
}

func newPlace(dir string) (*place, error) {
	p := &place{data: filepath.Join(dir, "disk", "data")}
	disk := filepath.Dir(p.data)
	err := os.Mkdir(disk, 0o700)
	if err != nil {
		return nil, err
	}
	if err := syscall.Mount("ivytable-soak", disk, "tmpfs", 0, "size=2g"); err == nil {
		p.disk = disk
	} else if !errors.Is(err, syscall.EPERM) {
		return nil, fmt.Errorf("make a disk of its own: %w", err)
	}
	if p.http, err = outside.Free(); err != nil {
		return nil, err
	}
	if p.smtp, err = outside.Free(); err != nil {
		return nil, err
	}
	if p.sink, err = newSink(dir); err != nil {
		return nil, err
	}
	first := exec.Command(*binary, "serve", "first-administrator", administrator, "--name", "Ines Skerry", "--data", p.data)
	first.Stdin = strings.NewReader(password + "\n")
	if out, err := first.CombinedOutput(); err != nil {
		return nil, fmt.Errorf("set up: %w\n%s", err, out)
	}
	return p, p.start()
}

// ready waits until the service answers.
func (p *place) ready() error {
	err := outside.Ready(p.http)
	if err == nil {
		return nil
	}
	log, _ := os.ReadFile(filepath.Join(filepath.Dir(p.data), "service.log"))
	return fmt.Errorf("%w; the end of its log:\n%s", err, log[max(0, len(log)-3000):])
}

func (p *place) stop() {
	_ = p.service.Process.Signal(os.Interrupt)
	_ = p.service.Wait()
	if p.disk != "" {
		_ = syscall.Unmount(p.disk, 0)
	}
}

// fill makes people and groups.
func (p *place) fill() (groups []string, err error) {
	ctx := context.Background()
	if p.client, err = client.New("http://"+p.http, "").SignIn(ctx, api.SignIn{Address: administrator, Password: password}); err != nil {
		return nil, err
	}
	if err := outside.TakeAll(ctx, p.client); err != nil {
		return nil, err
	}
	for i := range peopleCount {
		n := api.NewPersonEntry{Address: fmt.Sprintf("hand-%d@merrowline.example", i), Name: fmt.Sprintf("Hand %d", i)}
		if _, err := p.client.CreatePerson(ctx, n); err != nil {
			return nil, err
		}
	}
	for i := range groupCount {
		g := api.NewGroup{Name: fmt.Sprintf("Soak %d", i), Owners: []string{author}}
		g.Hold, g.Suspicious = "nobody", "deliver"
		for k := 1; k < perGroup; k++ {
			g.People = append(g.People, api.NewPerson{Address: fmt.Sprintf("hand-%d@merrowline.example", 1+(i*3+k)%(peopleCount-1))})
		}
		made, err := p.client.CreateGroup(ctx, g)
		if err != nil {
			return nil, err
		}
		groups = append(groups, made.Address)
	}
	return groups, nil
}

// drain waits until nothing is on its way any more.
func (p *place) drain(most time.Duration) error {
	was, since := -1, time.Now()
	for deadline := time.Now().Add(most); time.Now().Before(deadline); time.Sleep(500 * time.Millisecond) {
		if n := p.sink.total(); n != was {
			was, since = n, time.Now()
		}
		u, err := p.client.Undelivered(context.Background(), "", client.Paging{Limit: 100})
		if err == nil && len(u.Items) > 0 { // not to wait for ten minutes for what was put off several times
			var again api.Retries
			for _, m := range u.Items {
				again.IDs = append(again.IDs, m.ID)
			}
			_, _ = p.client.RetryUndelivered(context.Background(), again)
			since = time.Now()
		}
		if err == nil && u.Total == 0 && time.Since(since) > 20*time.Second {
			return nil
		}
	}
	return errors.New("mail is still on its way")
}

// used is what the data folder takes, in octets, without the database's own logs.
func (p *place) used() int64 {
	var n int64
	_ = filepath.WalkDir(p.data, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && !strings.HasPrefix(d.Name(), "ib_logfile") {
			if i, err := d.Info(); err == nil {
				n += i.Size()
			}
		}
		return nil
	})
	return n
}

// behaviour is how the relay answers.
type behaviour int

const (
	well     behaviour = iota
	slow               // it takes its time over each message
	refusing           // it puts off some recipients
	closing            // it closes in the middle of a message
	expired            // its certificate has run out
)

// sink is the relay: it counts what it is given.
type sink struct {
	addr string
	ca   string // path of the certificates by which it is known
	tls  *tls.Config

	mu    sync.Mutex
	how   behaviour
	got   map[string]int // by Message-ID and recipient
	n     int
	hand  int // recipients of messages that it is being given
	srv   *smtp.Server
	l     net.Listener
	turns int
}

func newSink(dir string) (*sink, error) {
	s := &sink{got: map[string]int{}, ca: filepath.Join(dir, "relay.pem")}
	var err error
	if s.addr, err = outside.Free(); err != nil {
		return nil, err
	}
	var file []byte
	certificates := make([]certificate.Made, 2) // that holds, and that has run out
	for i, lasts := range []time.Duration{24 * time.Hour, -time.Minute} {
		if certificates[i], err = certificate.New("sink.example", lasts); err != nil {
			return nil, err
		}
		file = append(file, certificates[i].PEM...)
	}
	s.tls = &tls.Config{GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) {
		s.mu.Lock()
		defer s.mu.Unlock()
		if s.how == expired {
			return &certificates[1].Certificate, nil
		}
		return &certificates[0].Certificate, nil
	}}
	return s, errors.Join(os.WriteFile(s.ca, file, 0o600), s.listen())
}

func (s *sink) listen() error {
	l, err := net.Listen("tcp", s.addr)
	if err != nil {
		return err
	}
	srv := smtp.NewServer(smtp.BackendFunc(func(c *smtp.Conn) (smtp.Session, error) { return &taking{s: s, conn: c}, nil }))
	srv.Domain, srv.TLSConfig = "sink.example", s.tls
	srv.ErrorLog = log.New(io.Discard, "", 0) // it is killed all the time
	s.mu.Lock()
	s.srv, s.l = srv, l
	s.mu.Unlock()
	go srv.Serve(l)
	return nil
}

// kill ends the relay with all that it is doing, for a while.
func (s *sink) kill(away time.Duration) {
	s.mu.Lock()
	srv := s.srv
	s.mu.Unlock()
	_ = srv.Close()
	time.Sleep(away)
	for s.listen() != nil {
		time.Sleep(50 * time.Millisecond)
	}
}

func (s *sink) behave(b behaviour) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.how = b
}

func (s *sink) total() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.n
}

func (s *sink) inHand() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.hand
}

// taking is one connection to the relay.
type taking struct {
	s    *sink
	conn *smtp.Conn
	to   []string
}

func (t *taking) Reset() {
	t.s.mu.Lock()
	defer t.s.mu.Unlock()
	t.s.hand -= len(t.to)
	t.to = nil
}
func (t *taking) Logout() error                        { t.Reset(); return nil }
func (t *taking) Mail(string, *smtp.MailOptions) error { return nil }

func (t *taking) Rcpt(to string, _ *smtp.RcptOptions) error {
	t.s.mu.Lock()
	defer t.s.mu.Unlock()
	if t.s.turns++; t.s.how == refusing && t.s.turns%3 == 0 {
		return &smtp.SMTPError{Code: 450, EnhancedCode: smtp.EnhancedCode{4, 2, 1}, Message: "Busy."}
	}
	t.to = append(t.to, to)
	t.s.hand++
	return nil
}

func (t *taking) Data(r io.Reader) error {
	b, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	t.s.mu.Lock()
	how := t.s.how
	t.s.mu.Unlock()
	switch how {
	case slow:
		time.Sleep(700 * time.Millisecond)
	case closing:
		return t.conn.Conn().Close()
	}
	id := ""
	for line := range strings.Lines(string(b)) {
		if name, rest, _ := strings.Cut(line, ":"); strings.EqualFold(name, "Message-ID") {
			id = strings.TrimSpace(rest)
			break
		}
	}
	t.s.mu.Lock()
	defer t.s.mu.Unlock()
	for _, to := range t.to {
		t.s.got[id+" "+to]++
		t.s.n++
	}
	return nil
}
