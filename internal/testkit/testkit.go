// Package testkit is a small workspace for tests: a handful of people of every
// kind and a clock that the test moves. It runs on a real database.
package testkit

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/emersion/go-message"
	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/admission"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/localdb/dbtest"
	"ivytable.example/ivytable/internal/service"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/account"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/post"
)

// Domain and Second are the domains of the workspace; Password is everybody's.
const (
	Domain   = "merrowline.example"
	Second   = "crew.merrowline.example"
	Password = "a password for tests"
)

// People of the workspace. Administrator and Auditor have that workspace role; the
// others become what their names say in a group made by Make.
const (
	Administrator = "ines.skerry@" + Domain
	Auditor       = "signe.holm@" + Domain
	Owner         = "oda.fenn@" + Domain
	Moderator     = "bram.tolley@" + Domain
	Member        = "tove.alder@" + Domain
	Colleague     = "petra.vane@" + Domain
	Left          = "rurik.gale@" + Domain
)

var names = [][2]string{{Administrator, "Ines Skerry"}, {Auditor, "Signe Holm"}, {Owner, "Oda Fenn"}, {Moderator, "Bram Tolley"},
	{Member, "Tove Alder"}, {Colleague, "Petra Vane"}, {Left, "Rurik Gale"}}

// Kit is the workspace.
type Kit struct {
	*service.Service
	DSN   string
	Pool  *store.Pool
	Woken atomic.Int32 // how often mail was queued

	mu  sync.Mutex
	now time.Time
	raw func() (*sql.DB, error)
}

// Read returns the records.
func (k *Kit) Read() *store.Reads { return k.Pool.Reads(context.Background()) }

// Write changes records behind the back of the use cases.
func (k *Kit) Write(t testing.TB, f func(*store.Tx) error) {
	t.Helper()
	if err := k.Pool.Transact(context.Background(), false, f); err != nil {
		t.Fatal(err)
	}
}

// Agrees checks that all records agree with those that they follow from.
func (k *Kit) Agrees(t testing.TB) {
	t.Helper()
	found, err := k.Consistency.Check(context.Background(), k.Actor(t, Administrator))
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range found.Checks {
		if c.Wrong > 0 {
			t.Errorf("%s: %d records are wrong: %v", c.Name, c.Wrong, c.Says)
		}
	}
}

// Now returns the time in the workspace.
func (k *Kit) Now() time.Time {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.now
}

// SQL runs a statement on the records as they are, for what no use case does: with out, a
// query of one row.
func (k *Kit) SQL(t testing.TB, query string, out ...any) {
	t.Helper()
	db, err := k.raw()
	if err != nil {
		t.Fatal(err)
	}
	if len(out) > 0 {
		err = db.QueryRow(query).Scan(out...)
	} else {
		_, err = db.Exec(query)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// Move moves the time.
func (k *Kit) Move(days int) { k.MoveBy(time.Duration(days) * 24 * time.Hour) }

// MoveBy is Move by less than a day.
func (k *Kit) MoveBy(d time.Duration) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.now = k.now.Add(d)
}

var hash = sync.OnceValue(func() string { return account.HashPassword(Password) })

// New makes the workspace in an empty schema. Its time begins on 23 November 2026.
func New(dsn string) (*Kit, error) {
	ctx := context.Background()
	if err := copyTables(ctx, dsn); err != nil {
		return nil, err
	}
	s, err := store.Open(ctx, dsn)
	if err != nil {
		return nil, err
	}
	k := &Kit{DSN: dsn, Pool: s, now: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC),
		raw: sync.OnceValues(func() (*sql.DB, error) { return sql.Open("mysql", dsn) })}
	k.Service, err = service.New(ctx, s, workspace.Options{Now: k.Now, PublicURL: "http://console.example", Wake: func() { k.Woken.Add(1) }})
	if err != nil {
		return nil, err
	}
	var people []store.Person
	for _, n := range names {
		address, name := n[0], n[1]
		p := store.Person{ID: store.NewID(), Address: address, AddrKey: address, Name: name, Active: address != Left, PasswordHash: hash(),
			Attributes: []byte(`{"department": "Dispatch"}`), CreatedAt: k.now}
		switch address {
		case Administrator:
			p.WorkspaceRole = string(access.Administrator)
		case Auditor:
			p.WorkspaceRole = string(access.Auditor)
		}
		people = append(people, p)
	}
	return k, s.Transact(ctx, false, func(t *store.Tx) error {
		if err := t.SetDomains([]string{Domain, Second}); err != nil {
			return err
		}
		return t.AddPeople(people)
	})
}

// SetPassword gives somebody the password of the tests.
func (k *Kit) SetPassword(t testing.TB, address string) {
	t.Helper()
	p := First(k.Read().PersonByKey(address))
	k.Write(t, func(tx *store.Tx) error { return tx.SetPassword(p.ID, hash()) })
}

// Actor returns somebody as an actor; "" is nobody.
func (k *Kit) Actor(t testing.TB, address string) workspace.Actor {
	t.Helper()
	if address == "" {
		return workspace.Actor{Via: "api"}
	}
	p, err := k.Read().PersonByKey(address)
	if err != nil {
		t.Fatalf("%s: %v", address, err)
	}
	return workspace.Actor{Person: p, Via: "api", RequestID: "test"}
}

// Make makes a group with an owner, a moderator and a member.
func (k *Kit) Make(t testing.TB, name string, change ...func(*api.NewGroup)) api.Group {
	t.Helper()
	n := api.NewGroup{Quiet: true, Name: name, Owners: []string{Owner}, People: []api.NewPerson{{Address: Moderator, Role: "moderator"}, {Address: Member}}}
	for _, c := range change {
		c(&n)
	}
	g, err := k.Service.Group.Create(context.Background(), k.Actor(t, Administrator), n)
	if err != nil {
		t.Fatalf("make %s: %v", name, err)
	}
	return g
}

// Main runs the tests of a package with *k set to a workspace in a schema of its
// own. before, when it is not nil, prepares more and returns what undoes it.
func Main(m *testing.M, schema string, k **Kit, before func() (after func(), err error)) {
	var dsn string
	dbtest.Main(runner(func() int {
		var err error
		after := func() {}
		if *k, err = New(dsn); err == nil {
			defer (*k).Pool.Close()
			if before != nil {
				after, err = before()
			}
		}
		if err != nil {
			fmt.Fprintln(os.Stderr, err)
			return 1
		}
		defer after()
		return m.Run()
	}), schema, &dsn)
}

// runner is a *testing.M that prepares first.
type runner func() int

// Run prepares and runs the tests.
func (r runner) Run() int { return r() }

// Address parses an address.
func Address(t testing.TB, s string) mailaddr.Address {
	t.Helper()
	a, err := mailaddr.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// Letter is a message that was queued.
type Letter struct {
	Subject string
	To      []string
	Text    string // the whole message, with the soft line breaks of quoted-printable taken out
}

// Letters hands over all mail that is due, and returns it: what has nobody to go to is left
// out.
func (k *Kit) Letters(t testing.TB) []Letter {
	t.Helper()
	ctx := context.Background()
	var out []Letter
	for {
		jobs, err := k.Post.Claim(ctx, time.Hour, 100)
		if err != nil {
			t.Fatal(err)
		}
		if len(jobs) == 0 {
			return out
		}
		for _, j := range jobs {
			if err := j.Open(ctx); err != nil {
				t.Fatal(err)
			}
			copies, err := j.Next(ctx, 1000, 1000)
			if err != nil {
				t.Fatal(err)
			}
			if len(copies) == 0 {
				if err := j.End(ctx); err != nil {
					t.Fatal(err)
				}
				continue
			}
			raw, err := io.ReadAll(j.Message(ctx, copies[0]))
			if err != nil {
				t.Fatal(err)
			}
			h, err := message.Read(bytes.NewReader(raw))
			if err != nil && !message.IsUnknownCharset(err) {
				t.Fatal(err)
			}
			subject, _ := h.Header.Text("Subject")
			l := Letter{Subject: subject, To: j.To, Text: strings.ReplaceAll(strings.ReplaceAll(string(raw), "=\r\n", ""), "=3D", "=")}
			out = append(out, l)
			var sent []post.Result
			for _, r := range j.To {
				sent = append(sent, post.Result{Recipient: r})
			}
			if err := j.Record(ctx, sent, time.Time{}); err != nil {
				t.Fatal(err)
			}
		}
	}
}

// Queued hands over all mail that is due, and returns its recipients, by subject.
func (k *Kit) Queued(t testing.TB) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	for _, l := range k.Letters(t) {
		out[l.Subject] = append(out[l.Subject], l.To...)
	}
	return out
}

// KindOf returns the kind of an error and its words.
func KindOf(t testing.TB, err error) (workspace.Kind, string) {
	t.Helper()
	var e *workspace.Error
	if !errors.As(err, &e) {
		t.Fatalf("%v is no error for a person", err)
	}
	text := e.Says
	for _, p := range e.Problems {
		text += "\n" + p.Field + ": " + p.Says
	}
	return e.Kind, text
}

// Keyed returns an actor with a key of the client's.
func Keyed(by workspace.Actor, key string) workspace.Actor {
	by.Key = key
	return by
}

// Preview looks at a change, and returns what it would do. The change is made by do with
// the actor that it is given.
func Preview(t testing.TB, by workspace.Actor, do func(by workspace.Actor) error) *api.Preview {
	t.Helper()
	by, report := by.Previewing()
	if err := do(by); err != nil && !workspace.Previewed(err) {
		t.Fatalf("look at a change: %v", err)
	}
	return report
}

// Policy makes a patch of NAME=VALUE words.
func Policy(words string) api.PolicyPatch { return workspace.PolicyPatch(words) }

// Decide decides one post.
func (k *Kit) Decide(by workspace.Actor, id, verdict, reason string) error {
	all, err := k.Waiting.Decide(context.Background(), by, api.Decisions{IDs: []string{id}, Verdict: verdict, Reason: reason})
	if err == nil && all.Results[0].Outcome == "refused" {
		return errors.New(all.Results[0].Says)
	}
	return err
}

// Members lists who is in a group.
func (k *Kit) Members(by workspace.Actor, ref string, q member.Query) (api.Page[api.Member], error) {
	p, _, err := k.Member.List(context.Background(), by, ref, q)
	return p, err
}

// Fresh returns a workspace of its own in a schema of its own, for tests in which the time
// moves or a setting applies to every group.
func (k *Kit) Fresh(t testing.TB, schema string) *Kit {
	t.Helper()
	own, err := dbtest.Schema(k.DSN, "ivytable_"+schema)
	if err != nil {
		t.Fatal(err)
	}
	l, err := New(own)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(l.Pool.Close)
	return l
}

// Hands is Fresh with ten people of two departments, and the administrator.
func (k *Kit) Hands(t testing.TB, schema string) (*Kit, workspace.Actor) {
	t.Helper()
	l := k.Fresh(t, schema)
	ines := l.Actor(t, Administrator)
	for i := range 10 {
		n := api.NewPersonEntry{Address: fmt.Sprintf("hand-%d@merrowline.example", i), Name: fmt.Sprintf("Hand %d", i), Attributes: map[string]string{"department": "Deck", "locality": "Gannet Quay"}}
		switch i {
		case 7:
			n.Attributes["locality"] = "North Ness"
		case 8:
			delete(n.Attributes, "locality")
		case 9:
			n.Attributes["department"] = "Engine"
		}
		if _, err := l.Directory.Create(context.Background(), ines, n); err != nil {
			t.Fatal(err)
		}
	}
	return l, ines
}

// Staffed makes a group that takes external members, with somebody barred.
func (k *Kit) Staffed(t testing.TB, name string) api.Group {
	t.Helper()
	g := k.Make(t, name, func(n *api.NewGroup) { n.Externals = "owners" })
	if err := k.Rules.SetOverride(context.Background(), k.Actor(t, Owner), g.Address, "barred@gannetport.example", api.NewOverride{Override: "barred"}, 0); err != nil {
		t.Fatal(err)
	}
	return g
}

// Unagree makes of a group in another one that was nested before anybody was asked.
func (k *Kit) Unagree(t testing.TB, outer, inner api.Group) {
	t.Helper()
	k.Write(t, func(tx *store.Tx) error {
		c, err := tx.LockConsent(uuid.MustParse(outer.ID), uuid.MustParse(inner.ID))
		c.Scope = admission.AskedFor
		return errors.Join(err, tx.SaveConsent(c))
	})
}

// Send hands a message to the workspace, as the mail server does once it has arrived.
func (k *Kit) Send(t testing.TB, ref, author string, proven bool, subject string) error {
	t.Helper()
	to, err := k.Post.Find(context.Background(), Address(t, ref), false)
	if err != nil {
		return err
	}
	return k.Post.Accept(context.Background(), Arrived(t, author, proven, subject, "", to))
}

// Flow sets how many messages of one writer, and to one group, are taken in an hour.
func (k *Kit) Flow(t testing.TB, ofOne, toGroup int) {
	t.Helper()
	ines := k.Actor(t, Administrator)
	p, err := k.Protection.Read(context.Background(), ines)
	p.FromOne, p.ToGroup = ofOne, toGroup
	if err == nil {
		_, err = k.Protection.Set(context.Background(), ines, p, 0)
	}
	if err != nil {
		t.Fatal(err)
	}
}

// Undelivered sends a message to a group, of whose people the mail system refuses the first
// and takes it over for the others. It hands over all other mail that is due.
func (k *Kit) Undelivered(t testing.TB, ref string) (id string) {
	t.Helper()
	ctx := context.Background()
	k.Letters(t)
	if err := k.Send(t, ref, Owner, true, "Undelivered"); err != nil {
		t.Fatal(err)
	}
	jobs, err := k.Post.Claim(ctx, time.Hour, 10)
	if err != nil || len(jobs) != 1 {
		t.Fatalf("%d jobs, %v", len(jobs), err)
	}
	j := jobs[0]
	if err := j.Open(ctx); err != nil {
		t.Fatal(err)
	}
	results := []post.Result{{Recipient: j.To[0], Outcome: post.GivenUp, Reply: "550 5.1.1 There is no such box."}}
	for _, to := range j.To[1:] {
		results = append(results, post.Result{Recipient: to})
	}
	if err := j.Record(ctx, results, time.Time{}); err != nil {
		t.Fatal(err)
	}
	return j.Mailing.String()
}

// Arrived is a message that has arrived for some destinations.
func Arrived(t testing.TB, author string, proven bool, subject, body string, to ...post.Destination) post.Arrived {
	a := post.Arrived{Author: Address(t, author), Proven: proven, MessageID: "<" + subject + "@x.example>", Subject: subject, ReturnPath: author,
		Header: []byte("From: " + author + "\r\nSubject: " + subject + "\r\n"), Body: strings.NewReader(body), Size: len(body), EightBit: true}
	for _, d := range to {
		a.To = append(a.To, post.Incoming{To: d, Sender: "x-bounces@merrowline.example"})
	}
	return a
}

// SetNaming puts rules of naming in force until the test ends.
func (k *Kit) SetNaming(t testing.TB, n api.Naming) {
	t.Helper()
	ines := k.Actor(t, Administrator)
	if _, err := k.Naming.Set(context.Background(), ines, n, 0); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if _, err := k.Naming.Set(context.Background(), ines, api.Naming{Creators: "administrators"}, 0); err != nil {
			t.Error(err)
		}
	})
}

// DaysUntil returns how many days it is from a moment to a day.
func DaysUntil(t testing.TB, now time.Time, day string) int {
	t.Helper()
	at, err := time.Parse(time.DateOnly, day)
	if err != nil {
		t.Fatal(err)
	}
	return int(at.Sub(now.Truncate(24*time.Hour)) / (24 * time.Hour))
}

// Last returns the error of a call that has a result too.
func Last[T any](_ T, err error) error { return err }

// First returns the result of a call that has to succeed.
func First[T any](v T, err error) T {
	if err != nil {
		panic(err)
	}
	return v
}
