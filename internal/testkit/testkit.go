// Package testkit is a small workspace for tests: a handful of people of every
// kind and a clock that the test moves. It runs on a real database.
package testkit

import (
	"context"
	"fmt"
	"os"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/localdb/dbtest"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Domain and Second are the domains of the workspace; Password is everybody's.
const (
	Domain   = "merrowline.example"
	Second   = "crew.merrowline.example"
	Password = "a password for tests"
)

// People of the workspace. Administrator and Auditor have that workspace role; the
// others become what their names say in a group made by Group.
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
	DSN   string
	Store *store.Store
	W     *workspace.Workspace
	Woken atomic.Int32 // how often mail was queued

	mu  sync.Mutex
	now time.Time
}

// Now returns the time in the workspace.
func (k *Kit) Now() time.Time {
	k.mu.Lock()
	defer k.mu.Unlock()
	return k.now
}

// Move moves the time.
func (k *Kit) Move(days int) {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.now = k.now.AddDate(0, 0, days)
}

var hash = sync.OnceValue(func() string { return workspace.HashPassword(Password) })

// New makes the workspace in an empty schema. Its time begins on 23 November 2026.
func New(dsn string) (*Kit, error) {
	ctx := context.Background()
	s, err := store.Open(ctx, dsn)
	if err != nil {
		return nil, err
	}
	k := &Kit{DSN: dsn, Store: s, now: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	k.W = workspace.New(s, workspace.Options{Now: k.Now, PublicURL: "http://console.example", Wake: func() { k.Woken.Add(1) }})
	if err := s.SetDomains(ctx, []string{Domain, Second}); err != nil {
		return nil, err
	}
	var people []store.Person
	for _, n := range names {
		address, name := n[0], n[1]
		p := store.Person{ID: store.NewID(), Address: address, AddrKey: address, Name: name, Active: address != Left, PasswordHash: hash(),
			Attributes: []byte(`{"department": "Dispatch"}`), CreatedAt: k.now}
		switch address {
		case Administrator:
			p.WorkspaceRole = workspace.Administrator
		case Auditor:
			p.WorkspaceRole = workspace.Auditor
		}
		people = append(people, p)
	}
	return k, s.AddPeople(ctx, people)
}

// Actor returns somebody as an actor; "" is nobody.
func (k *Kit) Actor(t testing.TB, address string) workspace.Actor {
	t.Helper()
	if address == "" {
		return workspace.Actor{Via: "api"}
	}
	p, err := k.Store.PersonByKey(context.Background(), address)
	if err != nil {
		t.Fatalf("%s: %v", address, err)
	}
	return workspace.Actor{Person: p, Via: "api", RequestID: "test"}
}

// Group makes a group with an owner, a moderator and a member.
func (k *Kit) Group(t testing.TB, name string, change ...func(*api.NewGroup)) api.Group {
	t.Helper()
	n := api.NewGroup{Quiet: true, Name: name, Owners: []string{Owner}, People: []api.NewPerson{{Address: Moderator, Role: "moderator"}, {Address: Member}}}
	for _, c := range change {
		c(&n)
	}
	g, err := k.W.CreateGroup(context.Background(), k.Actor(t, Administrator), n, "")
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
			defer (*k).Store.Close()
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

// Letters returns the messages that have deliveries which were never tried.
func (k *Kit) Letters(t testing.TB) []Letter {
	t.Helper()
	var out []Letter
	for {
		m, rows, err := k.Store.Claim(context.Background(), time.Hour, 1000)
		if err != nil {
			return out
		}
		text := strings.ReplaceAll(strings.ReplaceAll(string(m.Raw), "=\r\n", ""), "=3D", "=")
		l := Letter{Subject: m.Subject, Text: text}
		for i := range rows {
			l.To = append(l.To, rows[i].Recipient)
			rows[i].State = store.Sent
		}
		out = append(out, l)
		if err := k.Store.FinishDeliveries(context.Background(), rows); err != nil {
			t.Fatal(err)
		}
	}
}

// Queued returns the recipients of all deliveries that were never tried, by subject.
func (k *Kit) Queued(t testing.TB) map[string][]string {
	t.Helper()
	out := map[string][]string{}
	for _, l := range k.Letters(t) {
		out[l.Subject] = append(out[l.Subject], l.To...)
	}
	return out
}
