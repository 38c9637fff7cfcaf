package work_test

import (
	"context"
	"fmt"
	"io"
	"log"
	"log/slog"
	"os"
	"os/exec"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/mail"
	"ivytable.example/ivytable/internal/service"
	"ivytable.example/ivytable/internal/store"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/work"
	"ivytable.example/ivytable/internal/workspace"
)

// Names of the environment by which the test runs itself as a process that only delivers, and can be killed.
const (
	workerDSN   = "IVYTABLE_WORKER_DSN"
	workerRelay = "IVYTABLE_WORKER_RELAY"
	workerNow   = "IVYTABLE_WORKER_NOW"
)

// deliver delivers until it is killed.
func deliver() error {
	ctx := context.Background()
	pool, err := store.Open(ctx, os.Getenv(workerDSN))
	if err != nil {
		return err
	}
	at, err := time.Parse(time.RFC3339, os.Getenv(workerNow))
	if err != nil {
		return err
	}
	r := work.New(work.Options{Relays: &mail.Relays{Addrs: []string{os.Getenv(workerRelay)}, Domain: "mail.merrowline.example"}, ExpiryEvery: time.Hour, Lease: 400 * time.Millisecond, Log: slog.New(slog.DiscardHandler)})
	s, err := service.New(ctx, pool, workspace.Options{Now: func() time.Time { return at }, PublicURL: "http://console.example", Wake: r.Wake})
	if err != nil {
		return err
	}
	r.Run(ctx, s)
	return nil
}

// sink is a relay that counts, and takes a little time to say that it has taken a message.
type sink struct {
	mu    sync.Mutex
	taken map[string]int
	all   int
}

func (s *sink) NewSession(*smtp.Conn) (smtp.Session, error) { return &sunk{s: s}, nil }

type sunk struct {
	s  *sink
	to []string
}

func (x *sunk) Mail(string, *smtp.MailOptions) error { x.to = nil; return nil }
func (x *sunk) Rcpt(to string, _ *smtp.RcptOptions) error {
	x.to = append(x.to, to)
	return nil
}
func (x *sunk) Data(r io.Reader) error {
	if _, err := io.Copy(io.Discard, r); err != nil {
		return err
	}
	x.s.mu.Lock()
	for _, to := range x.to {
		x.s.taken[to]++
		x.s.all++
	}
	x.s.mu.Unlock()
	time.Sleep(2 * time.Millisecond)
	return nil
}
func (x *sunk) Reset()        {}
func (x *sunk) Logout() error { return nil }

// A process that is killed while it hands a message to ten thousand people over repeats it to a hundred of them at most, and loses nobody.
func TestAKillRepeatsLittle(t *testing.T) {
	const people, kills, most = 10_000, 6, 100
	l := k.Fresh(t, "work_kill")
	crowd := make([]store.Person, people)
	for i := range crowd {
		a := fmt.Sprintf("hand-%05d@%s", i, kit.Domain)
		crowd[i] = store.Person{ID: store.NewID(), Address: a, AddrKey: a, Name: fmt.Sprintf("Hand %d", i), Active: true, Attributes: []byte("{}"), CreatedAt: l.Now()}
	}
	g := l.Make(t, "Everybody")
	l.Write(t, func(tx *store.Tx) error {
		if err := tx.AddPeople(crowd); err != nil {
			return err
		}
		rows := make([]store.Membership, people)
		for i, p := range crowd {
			rows[i] = store.Membership{GroupID: uuid.MustParse(g.ID), MemberID: p.ID, Kind: store.KindPerson, Role: expand.Member, Mail: true, AddedAt: l.Now()}
		}
		return tx.AddMemberships(rows)
	})
	in, s := listen(t, "127.0.0.1:0"), &sink{taken: map[string]int{}}
	server := smtp.NewServer(s)
	server.Domain, server.MaxRecipients, server.ErrorLog = "sink.example", 100, log.New(io.Discard, "", 0)
	go server.Serve(in)
	t.Cleanup(func() { server.Close() })
	taken := func() int { s.mu.Lock(); defer s.mu.Unlock(); return s.all }
	if err := l.Send(t, g.Address, kit.Owner, true, "To everybody"); err != nil {
		t.Fatal(err)
	}
	begin := func() *exec.Cmd {
		c := exec.Command(os.Args[0])
		c.Env = append(os.Environ(), workerDSN+"="+l.DSN, workerRelay+"="+in.Addr().String(), workerNow+"="+l.Now().Format(time.RFC3339))
		c.Stderr = os.Stderr
		if err := c.Start(); err != nil {
			t.Fatal(err)
		}
		return c
	}
	for n := 1; n <= kills; n++ {
		c, at := begin(), taken()
		wait(t, "some are delivered", func() bool { return taken() > at+people/(kills+2) })
		_ = c.Process.Kill()
		_ = c.Wait()
	}
	last := begin()
	jobs := -1
	wait(t, "all are delivered", func() bool {
		l.SQL(t, "SELECT COUNT(*) FROM jobs", &jobs)
		return jobs == 0
	})
	_ = last.Process.Kill()
	_ = last.Wait()
	repeated := 0
	for to, n := range s.taken {
		if strings.HasPrefix(to, "hand-") {
			repeated += n - 1
		}
	}
	if len(s.taken) != people+3 || repeated > kills*most {
		t.Errorf("%d of %d people got it, and %d more than once after %d kills", len(s.taken), people+3, repeated, kills)
	}
	t.Logf("%d repeated after %d kills", repeated, kills)
}
