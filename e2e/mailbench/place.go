package main

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"log"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/google/uuid"

	"ivytable.example/ivytable/e2e/outside"
	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/client"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/localdb"
	"ivytable.example/ivytable/internal/store"
)

const (
	domain        = "merrowline.example"
	administrator = "ines.skerry@" + domain
	password      = "a password for the bench"
	relayName     = "mx.merrowline.example"
	atOnce        = 100 // recipients in one transaction of the bare client
)

// place is a service with its database and its relay.
type place struct {
	dir, http, smtp string
	sink            *sink
	database        *localdb.Server
	databaseID      int
	db              *sql.DB
	service         *exec.Cmd
	client          *client.Client
	pool            *store.Pool
	teams, mixed    []string
	crowd           string
}

func newPlace(ctx context.Context) (*place, error) {
	dir, err := os.MkdirTemp("", "ivytable-mailbench")
	if err != nil {
		return nil, err
	}
	p := &place{dir: dir}
	if err := p.start(ctx); err != nil {
		p.close()
		return nil, err
	}
	return p, nil
}

func (p *place) start(ctx context.Context) (err error) {
	if p.database, err = localdb.Start(ctx, localdb.Options{Dir: p.dir}); err != nil {
		return err
	}
	if p.db, err = sql.Open("mysql", p.database.DSN); err != nil {
		return err
	}
	if p.databaseID, err = databaseID(p.db); err != nil {
		return err
	}
	if p.sink, err = newSink(); err != nil {
		return err
	}
	first := exec.Command("bin/ivytable", "serve", "first-administrator", administrator, "--name", "Ines Skerry", "--dsn", p.database.DSN)
	first.Stdin = strings.NewReader(password + "\n")
	if out, err := first.CombinedOutput(); err != nil {
		return fmt.Errorf("set up: %w\n%s", err, out)
	}
	if p.http, err = outside.Free(); err != nil {
		return err
	}
	if p.smtp, err = outside.Free(); err != nil {
		return err
	}
	words, err := os.Create(filepath.Join(p.dir, "service.log"))
	if err != nil {
		return err
	}
	defer words.Close()
	p.service = exec.Command("bin/ivytable", "serve", "--dsn", p.database.DSN, "--data", filepath.Join(p.dir, "data"), "--listen", p.http, "--smtp-listen", p.smtp,
		"--metrics-listen", "", "--relay", p.sink.l.Addr().String(), "--trusted-relay-names", relayName)
	p.service.Stdout, p.service.Stderr = words, words
	if err := p.service.Start(); err != nil {
		return err
	}
	if err := outside.Ready(p.http); err != nil {
		return err
	}
	return p.fill(ctx)
}

func (p *place) close() {
	if p.service != nil && p.service.Process != nil {
		_ = p.service.Process.Signal(os.Interrupt)
		_ = p.service.Wait()
	}
	if p.sink != nil {
		p.sink.l.Close()
	}
	if p.pool != nil {
		p.pool.Close()
	}
	if p.db != nil {
		p.db.Close()
	}
	if p.database != nil {
		p.database.Stop()
	}
	os.RemoveAll(p.dir)
}

func hand(i int) string { return fmt.Sprintf("hand-%05d@merrowline.example", i) }

// fill makes people, groups of some of them, and one of all.
func (p *place) fill(ctx context.Context) error {
	var err error
	if p.client, err = client.New("http://"+p.http, "").SignIn(ctx, api.SignIn{Address: administrator, Password: password}); err != nil {
		return err
	}
	if err := outside.TakeAll(ctx, p.client); err != nil {
		return err
	}
	if p.pool, err = store.Open(ctx, p.database.DSN); err != nil {
		return err
	}
	now := time.Now().UTC()
	people := make([]store.Person, crowdOf)
	for i := range people {
		people[i] = store.Person{ID: store.NewID(), Address: hand(i), AddrKey: hand(i), Name: fmt.Sprintf("Hand %d", i), Active: true, Attributes: []byte("{}"), CreatedAt: now}
	}
	if err := p.pool.Transact(ctx, false, func(tx *store.Tx) error { return tx.AddPeople(people) }); err != nil {
		return err
	}
	make := func(name string, from, to int, outsiders ...api.NewPerson) (string, error) {
		g := api.NewGroup{Name: name, Owners: []string{hand(from)}, People: outsiders, Quiet: true}
		g.Hold, g.Externals = "nobody", "owners"
		made, err := p.client.CreateGroup(ctx, g)
		if err != nil {
			return "", err
		}
		var rows []store.Membership
		for _, who := range people[from+1 : to] {
			rows = append(rows, store.Membership{GroupID: uuid.MustParse(made.ID), MemberID: who.ID, Kind: store.KindPerson, Role: expand.Member, Mail: true, AddedAt: now})
		}
		return made.Address, p.pool.Transact(ctx, false, func(tx *store.Tx) error { return tx.AddMemberships(rows) })
	}
	for i := range teams {
		a, err := make(fmt.Sprintf("Team %d", i), i*teamOf, (i+1)*teamOf)
		if err != nil {
			return err
		}
		p.teams = append(p.teams, a)
		var outsiders []api.NewPerson
		for k := range guests {
			outsiders = append(outsiders, api.NewPerson{Address: fmt.Sprintf("guest-%d-%d@elsewhere.example", i, k)})
		}
		if a, err = make(fmt.Sprintf("Mixed %d", i), i*teamOf, (i+1)*teamOf-guests, outsiders...); err != nil {
			return err
		}
		p.mixed = append(p.mixed, a)
	}
	if p.crowd, err = make("Everybody here", 0, crowdOf); err != nil {
		return err
	}
	return p.pool.Analyze(ctx)
}

// sign has all copies signed from now on.
func (p *place) sign(ctx context.Context) error {
	all, err := p.client.SigningKeys(ctx, domain)
	if err != nil || len(all.Items) > 0 {
		return err
	}
	key, err := p.client.MakeKey(ctx, domain)
	if err == nil {
		_, err = p.client.UseKey(ctx, domain, key.Selector)
	}
	return err
}

// text is a message by the owner of a group, as a relay hands it on.
func text(author, group string, i int) []byte {
	return fmt.Appendf(nil, "Authentication-Results: %s; dkim=pass header.d=merrowline.example\r\nFrom: <%s>\r\nTo: <%s>\r\nSubject: Tide table %d\r\nMessage-ID: <bench-%d-%d@merrowline.example>\r\n"+
		"Date: %s\r\nMIME-Version: 1.0\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n%s", relayName, author, group, i, i, time.Now().UnixNano(), time.Now().Format(time.RFC1123Z),
		strings.Repeat("High water at the slipway is at a quarter past four; mind the lines.\r\n", 30))
}

// through sends messages to groups, and returns how long it took until the relay had them all, and until each was answered.
func (p *place) through(w load) (took time.Duration, answered []time.Duration, err error) {
	done := p.sink.expect(w.messages * w.of)
	var mu sync.Mutex
	var all sync.WaitGroup
	var next atomic.Int64
	began := time.Now()
	for range min(cmp.Or(w.by, senders), w.messages) {
		all.Go(func() {
			c, no := smtp.Dial(p.smtp)
			if no == nil {
				defer c.Close()
				no = c.Hello(relayName)
			}
			for i := int(next.Add(1)) - 1; i < w.messages && no == nil; i = int(next.Add(1)) - 1 {
				k := i % len(w.groups)
				at := time.Now()
				no = c.SendMail(hand(k*teamOf), []string{w.groups[k]}, bytes.NewReader(text(hand(k*teamOf), w.groups[k], i)))
				mu.Lock()
				answered = append(answered, time.Since(at))
				mu.Unlock()
			}
			mu.Lock()
			defer mu.Unlock()
			err = errors.Join(err, no)
		})
	}
	all.Wait()
	if err != nil {
		return 0, nil, err
	}
	select {
	case <-done:
	case <-time.After(5 * time.Minute):
		return 0, nil, fmt.Errorf("%d recipients are missing after five minutes", p.sink.left.Load())
	}
	took = time.Since(began)
	time.Sleep(500 * time.Millisecond) // what is written down after that
	return took, answered, nil
}

// bareMost is over how many connections the bare client sends at most.
const bareMost = 4

// bare sends as many messages to as many recipients straight to the relay over some connections: as many at once as it takes, but those
// with copies of their own.
func (p *place) bare(w load, connections int) (time.Duration, error) {
	done := p.sink.expect(w.messages * w.of)
	began := time.Now()
	var mu sync.Mutex
	var all sync.WaitGroup
	var err error
	for mine := range connections {
		all.Go(func() {
			if no := p.bareShare(w, connections, mine); no != nil {
				mu.Lock()
				defer mu.Unlock()
				err = no
			}
		})
	}
	if all.Wait(); err != nil {
		return 0, err
	}
	<-done
	return time.Since(began), nil
}

// bareShare sends every so many transactions of a load, from one of them on.
func (p *place) bareShare(w load, of, mine int) error {
	c, err := smtp.Dial(p.sink.l.Addr().String())
	if err != nil {
		return err
	}
	defer c.Close()
	turn := 0
	for i := range w.messages {
		body := text(hand(0), "team@merrowline.example", i)
		for at, n := 0, 0; at < w.of; at += n {
			n = max(1, min(atOnce, w.of-w.own-at))
			if turn++; turn%of != mine {
				continue
			}
			var to []string
			for k := at; k < at+n; k++ {
				to = append(to, hand(k))
			}
			if err := c.SendMail(hand(0), to, bytes.NewReader(body)); err != nil {
				return err
			}
		}
	}
	return nil
}

// sink is a relay that takes everything, and keeps nothing but count.
type sink struct {
	l    net.Listener
	left atomic.Int64
	done atomic.Pointer[chan struct{}]
}

func newSink() (*sink, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &sink{l: l}
	server := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &receipt{s: s}, nil }))
	server.Domain, server.EnableSMTPUTF8, server.ErrorLog = "sink", true, log.New(io.Discard, "", 0)
	go server.Serve(l)
	return s, nil
}

// expect returns what is closed once so many recipients have come.
func (s *sink) expect(n int) <-chan struct{} {
	done := make(chan struct{})
	s.done.Store(&done)
	s.left.Store(int64(n))
	return done
}

// receipt is one connection to the sink.
type receipt struct {
	s      *sink
	people int64
}

func (r *receipt) Mail(string, *smtp.MailOptions) error { r.people = 0; return nil }
func (r *receipt) Rcpt(string, *smtp.RcptOptions) error { r.people++; return nil }
func (r *receipt) Reset()                               { r.people = 0 }
func (r *receipt) Logout() error                        { return nil }
func (r *receipt) Data(in io.Reader) error {
	if _, err := io.Copy(io.Discard, in); err != nil {
		return err
	}
	if r.s.left.Add(-r.people) == 0 {
		close(*r.s.done.Load())
	}
	return nil
}
