package work_test

import (
	"bytes"
	"context"
	"database/sql"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/emersion/go-msgauth/dkim"
	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/demo/postoffice"
	"ivytable.example/ivytable/internal/mail"
	kit "ivytable.example/ivytable/internal/testkit"
	"ivytable.example/ivytable/internal/work"
)

var (
	dsn string
	k   *kit.Kit
)

func TestMain(m *testing.M) {
	if os.Getenv(workerDSN) != "" {
		if err := deliver(); err != nil {
			fmt.Fprintln(os.Stderr, err)
			os.Exit(1)
		}
		return
	}
	kit.Main(m, "work", &k, nil)
}

// wait waits for a condition.
func wait(t *testing.T, what string, ok func() bool) {
	t.Helper()
	tick := time.NewTicker(10 * time.Millisecond)
	defer tick.Stop()
	for limit := time.After(30 * time.Second); !ok(); {
		select {
		case <-limit:
			t.Fatalf("waited in vain: %s", what)
		case <-tick.C:
		}
	}
}

// office starts a post office on l and ends it with the test.
func office(t *testing.T, l net.Listener, refuse func(string) error) *postoffice.Office {
	t.Helper()
	web, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	o, err := postoffice.New(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	o.Refuse = refuse
	go o.Serve(l, web)
	t.Cleanup(o.Stop)
	return o
}

// start runs instances of the work against a relay until the test ends.
func start(t *testing.T, relay string, instances int, lease ...time.Duration) {
	t.Helper()
	ctx, cancel := context.WithCancel(context.Background())
	var all sync.WaitGroup
	for range instances {
		o := work.Options{Relays: &mail.Relays{Addrs: []string{relay}, Domain: "mail.merrowline.example"}, ExpiryEvery: 20 * time.Millisecond, Log: slog.New(slog.DiscardHandler)}
		if len(lease) > 0 {
			o.Lease = lease[0]
		}
		r := work.New(o)
		all.Go(func() { r.Run(ctx, k.Service) })
	}
	t.Cleanup(func() { cancel(); all.Wait() })
}

func listen(t *testing.T, addr string) net.Listener {
	t.Helper()
	l, err := net.Listen("tcp", addr)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func send(t *testing.T, g api.Group, subject string) []byte {
	t.Helper()
	target, err := k.Post.Find(context.Background(), kit.Address(t, g.Address), false)
	if err != nil {
		t.Fatal(err)
	}
	a := kit.Arrived(t, kit.Member, true, subject, "Gr\xc3\xbc\xc3\x9fe\r\n.\r\n", target)
	if err := k.Post.Accept(context.Background(), a); err != nil {
		t.Fatal(err)
	}
	body, _ := io.ReadAll(io.NewSectionReader(a.Body, 0, int64(a.Size)))
	return slices.Concat(a.Header, []byte("\r\n"), body)
}

func count(o *postoffice.Office, address, subject string) int {
	n := 0
	for _, l := range o.Letters(address) {
		if l.Subject == subject {
			n++
		}
	}
	return n
}

func idle(t *testing.T) bool {
	n, err := k.Read().CountJobs()
	return err == nil && n == 0
}

func TestDelivery(t *testing.T) {
	g := k.Make(t, "Delivered")
	l := listen(t, "127.0.0.1:0")
	var mu sync.Mutex
	busy := 1
	o := office(t, l, func(to string) error {
		mu.Lock()
		defer mu.Unlock()
		switch {
		case to == kit.Moderator:
			return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "no such box"}
		case to == kit.Owner && busy > 0:
			busy--
			return &smtp.SMTPError{Code: 450, EnhancedCode: smtp.EnhancedCode{4, 2, 1}, Message: "busy"}
		}
		return nil
	})
	start(t, l.Addr().String(), 2)
	raw := send(t, g, "first")
	wait(t, "the queue is empty", func() bool { return idle(t) })
	for address, want := range map[string]int{kit.Member: 1, kit.Owner: 1, kit.Moderator: 0} {
		if n := count(o, address, "first"); n != want {
			t.Errorf("%s has it %d times; want %d", address, n, want)
		}
	}
	if got, err := o.Raw(kit.Member, 1); err != nil || !bytes.HasPrefix(got, []byte("List-Help: ")) || !bytes.HasSuffix(got, append([]byte(g.ID+">,\r\n <mailto:x-request@merrowline.example?subject=unsubscribe>\r\n"), raw...)) {
		t.Errorf("it arrived as %q, %v", got, err)
	}
	u, err := k.Post.Undelivered(context.Background(), k.Actor(t, kit.Owner), g.Address, "", 10)
	if err != nil || len(u.Items) != 1 || len(u.Items[0].Recipients) != 1 || u.Items[0].Trying || u.Items[0].HandedOver != 2 {
		t.Fatalf("undelivered: %+v, %v", u.Items, err)
	}
	if r := u.Items[0].Recipients[0]; r.Address != kit.Moderator || !r.GivenUp || r.Reply != "550 5.1.1 no such box" {
		t.Errorf("failed: %+v", r)
	}
}

// A relay that takes few recipients at once gets the rest in further transactions, at once.
func TestARelayThatTakesFew(t *testing.T) {
	g := k.Make(t, "Taken By Few", func(n *api.NewGroup) {
		for i := range 45 {
			who := fmt.Sprintf("few-%d@merrowline.example", i)
			if _, err := k.Directory.Create(context.Background(), k.Actor(t, kit.Administrator), api.NewPersonEntry{Address: who, Name: fmt.Sprintf("Few %d", i)}); err != nil {
				t.Fatal(err)
			}
			n.People = append(n.People, api.NewPerson{Address: who})
		}
	})
	l := listen(t, "127.0.0.1:0")
	var mu sync.Mutex
	taken, refused := 0, map[string]bool{}
	o := office(t, l, func(to string) error {
		mu.Lock()
		defer mu.Unlock()
		if refused[to] { // the first of another transaction
			taken, refused = 0, map[string]bool{}
		}
		if taken == 10 {
			refused[to] = true
			return &smtp.SMTPError{Code: 452, EnhancedCode: smtp.EnhancedCode{4, 5, 3}, Message: "too many recipients"}
		}
		taken++
		return nil
	})
	start(t, l.Addr().String(), 1)
	send(t, g, "to many")
	wait(t, "the queue is empty", func() bool { return idle(t) })
	for i := range 45 {
		if n := count(o, fmt.Sprintf("few-%d@merrowline.example", i), "to many"); n != 1 {
			t.Errorf("the %dth has it %d times", i, n)
		}
	}
	if u, err := k.Post.Undelivered(context.Background(), k.Actor(t, kit.Owner), g.Address, "", 10); err != nil || len(u.Items) > 0 {
		t.Errorf("undelivered: %+v, %v", u.Items, err)
	}
	var transactions, paths int // of each what comes back is known apart
	from := " FROM transmissions t JOIN mailings m ON m.id = t.mailing_id WHERE m.group_id = UNHEX('" + strings.ReplaceAll(g.ID, "-", "") + "')"
	k.SQL(t, "SELECT COUNT(*), COUNT(DISTINCT t.mark)"+from, &transactions, &paths)
	if transactions < 5 || paths != transactions {
		t.Errorf("%d transactions with %d return paths", transactions, paths)
	}
}

// Mail that is accepted while the relay is away is delivered when it comes back.
func TestRelayAway(t *testing.T) {
	g := k.Make(t, "Relay Away")
	l := listen(t, "127.0.0.1:0")
	addr := l.Addr().String()
	l.Close()
	start(t, addr, 1)
	send(t, g, "while away")
	wait(t, "it was tried", func() bool {
		u, err := k.Post.Undelivered(context.Background(), k.Actor(t, kit.Owner), g.Address, "", 10)
		return err == nil && len(u.Items) == 1 && u.Items[0].Trying && strings.Contains(u.Items[0].Says, "reach the relay")
	})
	o := office(t, listen(t, addr), nil)
	wait(t, "it arrived", func() bool { return count(o, kit.Owner, "while away") > 0 && idle(t) })
	for _, a := range []string{kit.Owner, kit.Moderator, kit.Member} {
		if n := count(o, a, "while away"); n != 1 {
			t.Errorf("%s has it %d times", a, n)
		}
	}
}

// While the relay is away, what waits for it is not tried over and over; when it is back, all of it goes out.
func TestWhatWaitsForTheRelayRests(t *testing.T) {
	const messages = 150
	g := k.Make(t, "Relay Rests")
	l := listen(t, "127.0.0.1:0")
	addr := l.Addr().String()
	l.Close()
	for i := range messages {
		send(t, g, fmt.Sprintf("waits %d", i))
	}
	db, err := sql.Open("mysql", k.DSN)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	tried := func() (attempts, most int) {
		if err := db.QueryRow("SELECT COALESCE(SUM(attempts), 0), COALESCE(MAX(attempts), 0) FROM jobs").Scan(&attempts, &most); err != nil {
			t.Fatal(err)
		}
		return attempts, most
	}
	start(t, addr, 1)
	wait(t, "it was found to be away", func() bool { n, _ := tried(); return n > 0 })
	began, _ := tried()
	time.Sleep(3 * time.Second)
	if n, _ := tried(); n >= messages || n > began+64 {
		t.Errorf("%d attempts in three seconds after %d", n-began, began)
	}
	o := office(t, listen(t, addr), nil)
	wait(t, "all of it arrived", func() bool {
		n := 0
		for i := range messages {
			n += count(o, kit.Owner, fmt.Sprintf("waits %d", i))
		}
		return n == messages && idle(t)
	})
}

// A relay that takes longer than a lease gets a message from one worker all the same.
func TestLeaseIsKept(t *testing.T) {
	g := k.Make(t, "Slow Relay")
	l := listen(t, "127.0.0.1:0")
	var mu sync.Mutex
	asked := map[string]int{}
	o := office(t, l, func(to string) error {
		mu.Lock()
		asked[to]++
		mu.Unlock()
		time.Sleep(1500 * time.Millisecond)
		return nil
	})
	start(t, l.Addr().String(), 2, 300*time.Millisecond)
	send(t, g, "slow")
	wait(t, "it arrived", func() bool { return count(o, kit.Owner, "slow") > 0 && idle(t) })
	mu.Lock()
	defer mu.Unlock()
	for _, a := range []string{kit.Owner, kit.Moderator, kit.Member} {
		if asked[a] != 1 || count(o, a, "slow") != 1 {
			t.Errorf("the relay was asked to deliver to %s %d times", a, asked[a])
		}
	}
}

// Messages that the relay takes for ever hold up no other.
func TestSlowMessagesHoldUpNoOther(t *testing.T) {
	slow := k.Make(t, "Slow There", func(n *api.NewGroup) {
		n.PolicyPatch = kit.Policy("post=workspace hold=nobody")
		n.Owners = []string{kit.Colleague}
		n.People = nil
	})
	fast := k.Make(t, "Fast There", func(n *api.NewGroup) { n.Owners = []string{kit.Owner}; n.People = nil })
	l := listen(t, "127.0.0.1:0")
	release := make(chan struct{})
	var stuck atomic.Int32
	o := office(t, l, func(to string) error {
		if to == kit.Colleague {
			stuck.Add(1)
			<-release
		}
		return nil
	})
	start(t, l.Addr().String(), 1)
	var free sync.Once
	t.Cleanup(func() { free.Do(func() { close(release) }) })
	for i := range 20 {
		send(t, slow, fmt.Sprintf("stuck-%d", i))
	}
	wait(t, "the relay has them in hand", func() bool { return stuck.Load() == 20 })
	if _, err := k.Member.Add(context.Background(), k.Actor(t, kit.Owner), fast.Address, api.NewMembers{People: []api.NewPerson{{Address: kit.Member}}}, 0); err != nil {
		t.Fatal(err)
	}
	send(t, fast, "passes")
	wait(t, "another message passes", func() bool { return count(o, kit.Owner, "passes") == 1 })
	free.Do(func() { close(release) })
	wait(t, "the queue is empty", func() bool { return idle(t) })
}

// Many messages and several instances: each recipient has each message once.
func TestOnceEach(t *testing.T) {
	g := k.Make(t, "Once Each")
	l := listen(t, "127.0.0.1:0")
	o := office(t, l, nil)
	start(t, l.Addr().String(), 3)
	var subjects []string
	for i := range 40 {
		s := fmt.Sprintf("message-%02d", i)
		send(t, g, s)
		subjects = append(subjects, s)
	}
	wait(t, "the queue is empty", func() bool { return idle(t) })
	var got []string
	for _, letter := range o.Letters(kit.Member) {
		got = append(got, letter.Subject)
	}
	slices.Sort(got)
	if !slices.Equal(got, subjects) {
		t.Errorf("arrived: %v", got)
	}
}

func TestExpiryRunsByItself(t *testing.T) {
	ctx := context.Background()
	g := k.Make(t, "By Itself")
	if _, err := k.Life.SetTerms(ctx, k.Actor(t, kit.Administrator), api.Terms{Rules: []api.TermRule{{Name: "All", Length: "40 days"}}, Notices: []int{7}, RecoveryDays: 30, TimeZone: "UTC"}, 0); err != nil {
		t.Fatal(err)
	}
	l := listen(t, "127.0.0.1:0")
	o := office(t, l, nil)
	start(t, l.Addr().String(), 2)
	k.Move(33)
	wait(t, "the notice of all that expires arrived", func() bool {
		return slices.ContainsFunc(o.Letters(kit.Owner), func(l postoffice.Letter) bool {
			return strings.HasSuffix(l.Subject, " groups expire soon") || strings.HasPrefix(l.Subject, "By Itself expires in 7 days")
		})
	})
	k.Move(7)
	wait(t, "it lapsed", func() bool {
		now, err := k.Group.Read(ctx, k.Actor(t, kit.Owner), g.Address)
		return err == nil && now.Term.EndedAt != nil
	})
}

// What goes out is signed with the key that is used, in the name of an author who is proven; what only claims one is not.
func TestWhatGoesOutIsSigned(t *testing.T) {
	g := k.Make(t, "Signed", func(n *api.NewGroup) { n.PolicyPatch = kit.Policy("suspicious=deliver hold=nobody") })
	ines := k.Actor(t, kit.Administrator)
	key := kit.First(k.Signing.Make(context.Background(), ines, "merrowline.example"))
	if _, err := k.Signing.Use(context.Background(), ines, "merrowline.example", key.Selector); err != nil {
		t.Fatal(err)
	}
	l := listen(t, "127.0.0.1:0")
	o := office(t, l, nil)
	start(t, l.Addr().String(), 1)
	send(t, g, "signed")
	if err := k.Send(t, g.Address, kit.Member, false, "only claimed"); err != nil {
		t.Fatal(err)
	}
	wait(t, "both arrived", func() bool { return count(o, kit.Member, "signed") == 1 && count(o, kit.Member, "only claimed") == 1 })
	for i, letter := range o.Letters(kit.Member) {
		raw, err := o.Raw(kit.Member, letter.N)
		if err != nil {
			t.Fatal(err)
		}
		found, err := dkim.VerifyWithOptions(bytes.NewReader(raw), &dkim.VerifyOptions{LookupTXT: func(name string) ([]string, error) {
			if name != key.Name {
				t.Errorf("letter %d asks for %s", i, name)
			}
			return []string{key.Record}, nil
		}})
		if err != nil {
			t.Fatal(err)
		}
		if letter.Subject == "signed" && (len(found) != 1 || found[0].Err != nil || found[0].Domain != "merrowline.example") {
			t.Errorf("it was signed by %+v", found)
		}
		if letter.Subject == "only claimed" && len(found) != 0 {
			t.Errorf("what only claims an author is signed by %+v", found[0])
		}
	}
}
