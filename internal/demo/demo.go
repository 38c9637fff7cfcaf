// Package demo makes the sample workspace: Merrow Line, a small ferry company on a
// tidal coast. Everything in it is invented. It is the same on every machine, but
// for its dates, which are counted back from the day it is made.
package demo

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-smtp"
	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/localdb"
	"ivytable.example/ivytable/internal/mail"
	"ivytable.example/ivytable/internal/service"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/account"
	"ivytable.example/ivytable/internal/workspace/post"
)

// Who can be used to look around, and everybody's password.
const (
	Administrator = "ines.skerry@merrowline.example"
	Owner         = "oda.fenn@merrowline.example"
	Member        = "tove.alder@merrowline.example"
	Auditor       = "signe.holm@merrowline.example"
	Reader        = "merryn.undertow@merrowline.example" // who gets digests
	Password      = account.SamplePassword

	mainDomain = "merrowline.example"
	crewDomain = "crew.merrowline.example"
)

// Forget deletes the data folder of a demo. It refuses a folder that is no such.
func Forget(dir string) error {
	entries, err := os.ReadDir(dir)
	if errors.Is(err, os.ErrNotExist) || err == nil && len(entries) == 0 {
		return nil
	}
	if err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(dir, marker)); err != nil {
		return fmt.Errorf("%s holds no demo (it has no file %s), so it is not deleted", dir, marker)
	}
	if err := localdb.Halt(dir); err != nil {
		return err
	}
	if entries, err = os.ReadDir(dir); err != nil {
		return err
	}
	for _, e := range entries {
		if err := os.RemoveAll(filepath.Join(dir, e.Name())); err != nil {
			return err
		}
	}
	return nil
}

// marker is a file that the database has in a data folder.
const marker = "db.password"

// Fill makes the sample workspace when there is nobody in the records, dated back
// from now, and reports whether it did.
func Fill(ctx context.Context, pool *store.Pool, now time.Time) (bool, error) {
	if n, err := pool.Reads(ctx).CountPeople(); err != nil || n > 0 {
		return false, err
	}
	f := &filler{pool: pool, r: rand.New(rand.NewPCG(7, 11)), last: now.UTC(), today: now.UTC().Truncate(24 * time.Hour).Add(9 * time.Hour), by: map[string][]store.Person{}}
	var err error
	f.Service, err = service.New(ctx, pool, workspace.Options{Now: func() time.Time { return f.now }, PublicURL: "http://127.0.0.1:8480"})
	if err != nil {
		return false, err
	}
	f.on(firstDay, 0)
	for _, step := range []func(context.Context) error{f.people, f.years, f.mail, f.flaws, f.care} {
		if err := step(ctx); err != nil {
			return false, err
		}
	}
	return true, nil
}

// firstDay is how many days back the sample begins.
const firstDay = 260

type filler struct {
	*service.Service
	pool  *store.Pool
	r     *rand.Rand
	last  time.Time // nothing of the sample is later
	today time.Time // its working day begins
	now   time.Time
	ines  workspace.Actor
	by    map[string][]store.Person // people by department
	all   []store.Person
	went  string // the sender of the envelope of what last went to somebody whose mail comes back
}

// on moves the time to a working day so many days back, and how far into it.
func (f *filler) on(back int, into time.Duration) {
	f.now = f.today.AddDate(0, 0, -back).Add(into)
	if f.now.After(f.last) {
		f.now = f.last
	}
}

// people makes 240 people. One in twelve lacks an attribute, as in real directories.
func (f *filler) people(ctx context.Context) error {
	hash := account.HashPassword(Password)
	seen := map[string]bool{}
	add := func(name, department, role string) {
		domain := mainDomain
		if department == "Deck" || department == "Engine" {
			domain = crewDomain
		}
		local, err := mailaddr.Derive(name)
		local = strings.Replace(local, "-", ".", 1)
		if err != nil || seen[local] {
			return
		}
		seen[local] = true
		n := len(f.all)
		given, family, _ := strings.Cut(name, " ")
		attributes := map[string]string{"givenName": given, "familyName": family, "department": department, "locality": localities[n%len(localities)], "title": titles[department], "employeeNumber": fmt.Sprintf("ML%04d", 1000+n)}
		if n > 12 && n%12 == 0 {
			delete(attributes, []string{"department", "locality", "title"}[n/12%3])
		}
		b, _ := json.Marshal(attributes)
		p := store.Person{ID: store.NewID(), Address: local + "@" + domain, AddrKey: local + "@" + domain, Name: name, Active: true,
			WorkspaceRole: role, PasswordHash: hash, Attributes: b, CreatedAt: f.now}
		f.all = append(f.all, p)
		f.by[department] = append(f.by[department], p)
	}
	for _, p := range named {
		add(p[0], p[1], p[2])
	}
	for i := 0; len(f.all) < 240; i++ {
		add(firstNames[i%len(firstNames)]+" "+familyNames[(i*7+i/len(firstNames))%len(familyNames)], departments[i*5%len(departments)], "")
	}
	f.ines = workspace.Actor{Person: f.all[0], Via: "console"}
	return f.pool.Transact(ctx, false, func(tx *store.Tx) error {
		if err := tx.SetDomains([]string{mainDomain, crewDomain}); err != nil {
			return err
		}
		return tx.AddPeople(f.all)
	})
}

// as returns somebody of the sample as an actor.
func (f *filler) as(ctx context.Context, address string) (workspace.Actor, error) {
	p, err := f.pool.Reads(ctx).PersonByKey(address)
	return workspace.Actor{Person: p, Via: "console"}, err
}

// years lives through the days up to today: groups are made, renewed, forgotten.
func (f *filler) years(ctx context.Context) error {
	if _, err := f.Life.SetTerms(ctx, f.ines, f.terms(), 0); err != nil {
		return err
	}
	k, err := f.Signing.Make(ctx, f.ines, mainDomain)
	if err == nil {
		_, err = f.Signing.Use(ctx, f.ines, mainDomain, k.Selector)
	}
	if err != nil {
		return err
	}
	for back := firstDay; back >= 0; back-- {
		f.on(back, 0)
		for i, g := range groups {
			ref := g.address()
			var err error
			switch {
			case g.made == back:
				err = f.make(ctx, i, g)
			case g.renewed == back && back > 0:
				_, err = f.Life.Renew(ctx, f.ines, ref, api.Renewal{}, 0)
			case g.retired == back && back > 0:
				_, err = f.Life.Retire(ctx, f.ines, ref, 0)
			}
			if err != nil {
				return fmt.Errorf("%s: %w", g.name, err)
			}
		}
		if err := errors.Join(f.staff(ctx, back), f.Life.Run(ctx)); err != nil {
			return err
		}
		if back > 21 { // those of the last weeks are told one by one
			if err := f.write(ctx, back); err != nil {
				return err
			}
		}
		if back%7 == 0 && back < 92 {
			if err := f.Review.Everything(ctx); err != nil {
				return err
			}
		}
		if err := f.rounds(ctx, back); err != nil {
			return err
		}
		if back == 0 {
			break // the letters of today are for whoever looks into the post office
		}
		if err := f.order(ctx, back); err != nil {
			return err
		}
		if back == 21 { // so that a digest of some days comes when the service begins
			if err := f.together(ctx); err != nil {
				return err
			}
		}
		if err := f.handOver(ctx); err != nil {
			return err
		}
		if err := f.returned(ctx, back); err != nil {
			return err
		}
	}
	return nil
}

// together has some people get the mail of a group in other ways than each message.
func (f *filler) together(ctx context.Context) error {
	for _, x := range [][3]string{{Reader, "night-dispatch@merrowline.example", "digest"}, {Owner, "all-staff@merrowline.example", "conversations"}} {
		by, err := f.as(ctx, x[0])
		if err == nil {
			_, err = f.Member.ChangeOne(ctx, by, x[1], x[0], api.MemberPatch{Delivery: x[2]}, 0)
		}
		if err != nil && !workspace.IsKind(err, workspace.NotFound) {
			return err
		}
	}
	return f.Post.SendDigests(ctx)
}

// terms are the term rules of the sample.
func (f *filler) terms() api.Terms {
	return api.Terms{
		Rules: []api.TermRule{
			{Name: "Season's end", Filter: `name co "Regatta" or name co "Fair"`, Length: f.today.AddDate(0, 0, 25).Format(time.DateOnly)},
			{Name: "Ships", Filter: `name sw "MV "`, Length: "never"},
			{Name: "With outsiders", Filter: "external gt 0", Length: "6 months", Notices: []int{30, 14, 3}},
			{Name: "Clubs", Filter: `join.how eq "freely" and post eq "workspace"`, Length: "1 year", RenewedBy: []string{"post", "join"}},
			{Name: "Everything else", Length: "180 days"},
		},
		Notices: lifecycle.DefaultNotices(), RecoveryDays: lifecycle.DefaultRecovery, AddressDays: 90, TimeZone: "UTC",
		Caretakers: []api.Caretaker{{Address: "jonas.keel@crew.merrowline.example", Filter: `domain eq "crew.merrowline.example"`}, {Address: "hale.corran@merrowline.example"}},
	}
}

// handOver lets the letters of a day count as taken by the relay.
func (f *filler) handOver(ctx context.Context) error {
	for {
		jobs, err := f.Post.Claim(ctx, time.Hour, 100)
		if err != nil || len(jobs) == 0 {
			return err
		}
		for _, j := range jobs {
			if err := j.Open(ctx); err != nil {
				return err
			}
			if len(j.To) == 0 {
				if err := j.End(ctx); err != nil {
					return err
				}
			}
			for len(j.To) > 0 {
				copies, err := j.Next(ctx, 1, 1000)
				if err != nil {
					return err
				}
				var sent []post.Result
				for _, to := range copies[0].To {
					sent = append(sent, post.Result{Recipient: to})
					if to == closed {
						f.went = copies[0].Sender
					}
				}
				if err := j.Record(ctx, sent, time.Time{}); err != nil {
					return err
				}
			}
		}
	}
}

func (f *filler) make(ctx context.Context, i int, g plan) error {
	n := api.NewGroup{Quiet: true, Name: g.name, Address: g.address(), Description: g.why, Owners: []string{}, PolicyPatch: workspace.PolicyPatch(g.set)}
	from := f.of(g.from)
	taken := map[string]bool{}
	take := func() (string, bool) {
		for range 50 {
			if p := from[f.r.IntN(len(from))]; !taken[p.Address] {
				taken[p.Address] = true
				return p.Address, true
			}
		}
		return "", false
	}
	for _, o := range g.owners {
		taken[o] = true
		n.Owners = append(n.Owners, o)
	}
	for len(n.Owners) < 1+i%2 {
		if a, ok := take(); ok {
			n.Owners = append(n.Owners, a)
		}
	}
	for _, x := range g.extra {
		address, role, _ := strings.Cut(x, "=")
		taken[address] = true
		n.People = append(n.People, api.NewPerson{Address: address, Role: role})
	}
	for j := range g.people {
		if a, ok := take(); ok {
			role := ""
			if j == 0 && i%3 == 0 {
				role = "moderator"
			}
			n.People = append(n.People, api.NewPerson{Address: a, Role: role})
		}
	}
	made, err := f.Group.Create(ctx, f.ines, n)
	if err == nil && g.exempt != "" {
		again := f.last.AddDate(0, 0, 40+7*i).Format(time.DateOnly)
		if g.name == "All Staff" {
			again = f.last.AddDate(0, 0, -5).Format(time.DateOnly)
		}
		_, err = f.Group.Change(ctx, f.ines, made.Address, api.GroupPatch{Exempt: &g.exempt, ExemptUntil: &again}, 0)
	}
	return err
}

// FullBox is a box that the stand-in post office takes nothing for.
const FullBox = "bunkering@tidefuel.example"

// Refuses is the answer of the stand-in post office to a recipient, nil for one whose mail it
// takes.
func Refuses(to string) error {
	if strings.EqualFold(to, FullBox) {
		return &smtp.SMTPError{Code: 552, EnhancedCode: smtp.EnhancedCode{5, 2, 2}, Message: "The box is full."}
	}
	return nil
}

// of returns the people of departments, or everybody.
func (f *filler) of(from string) []store.Person {
	var out []store.Person
	for _, d := range strings.Split(from, "+") {
		out = append(out, f.by[d]...)
	}
	if len(out) == 0 {
		return f.all
	}
	return out
}

// mail sends posts of the last weeks, as the people of each group would have.
func (f *filler) mail(ctx context.Context) error {
	mark, err := f.Post.Marker(ctx)
	if err != nil {
		return err
	}
	for i, p := range posts {
		f.on(p.back, time.Duration(i*37%480)*time.Minute)
		if err := f.send(ctx, mark, fmt.Sprintf("sample-%03d", i), p); err != nil {
			return err
		}
	}
	return nil
}

// send sends one message, as somebody of the sample would have.
func (f *filler) send(ctx context.Context, mark func(string) string, id string, p message) error {
	header := fmt.Sprintf("From: %s\r\nTo: %s\r\nSubject: %s\r\nDate: %s\r\nMessage-ID: <%s@%s>\r\nContent-Type: text/plain; charset=utf-8\r\n",
		p.from, p.to, p.subject, f.now.Format(time.RFC1123Z), id, mainDomain)
	m, err := mail.Parse([]byte(header))
	if err != nil {
		return fmt.Errorf("%s: %w", p.subject, err)
	}
	a, err := mailaddr.Parse(p.to)
	if err != nil {
		return err
	}
	to, err := f.Post.Find(ctx, a, false)
	if err != nil {
		return fmt.Errorf("%s: %w", p.subject, err)
	}
	body := p.text + "\r\n"
	arrived, err := m.For([]post.Destination{to}, mail.Trace{From: "sample ([127.0.0.1])", By: mainDomain, With: "ESMTPA", ID: store.NewID().String(), At: f.now, Mark: mark}, []string{mainDomain}, strings.NewReader(body))
	if err != nil {
		return err
	}
	arrived.Proven, arrived.Body, arrived.Size, arrived.EightBit = p.proven, strings.NewReader(body), len(body), true
	if err := f.Post.Accept(ctx, arrived); err != nil {
		return fmt.Errorf("%s: %w", p.subject, err)
	}
	return nil
}

// usual are subjects and texts of the posts of a year.
var usual = [][2]string{
	{"Who is in on Monday?", "Two of us so far. Write by Friday."}, {"Notes of the meeting", "They are in the folder. Three points are yours to do."}, {"Keys", "The spare key hangs at the terminal again."},
	{"New list", "The list is new; the old one is wrong about the weekends."}, {"Thanks", "That went well, also the late boat."}, {"Change for next week", "Wednesday and Thursday are swapped."},
}

// fellQuiet are groups to which nobody writes any more.
var fellQuiet = []string{"Safety Board", "Emergency Call-out"}

// write has an owner of each living group write to it now and then; some groups fell quiet, and some were never written to.
func (f *filler) write(ctx context.Context, back int) error {
	mark, err := f.Post.Marker(ctx)
	if err != nil {
		return err
	}
	for i, g := range groups {
		quiet := slices.Contains(fellQuiet, g.name) && g.made-back > 40
		if g.made <= back || g.retired > back || i%13 == 6 || quiet || (back+i*7)%34 != 0 {
			continue
		}
		is, err := f.Group.Read(ctx, f.ines, g.address())
		if err != nil {
			return err
		}
		if is.State != "active" && is.State != "due" || len(is.Owners) == 0 {
			continue
		}
		f.on(back, time.Duration(60+i*7)*time.Minute)
		x, o := usual[(i+back)%len(usual)], is.Owners[0]
		if err := f.send(ctx, mark, fmt.Sprintf("year-%03d-%d", back, i), message{from: fmt.Sprintf("%q <%s>", o.Name, o.Address), to: g.address(), subject: x[0], text: x[1], proven: true}); err != nil {
			return err
		}
	}
	return nil
}

// flaws puts in what a well-run workspace does not have: somebody who left and
// still owns a group, and groups whose last owner is gone.
func (f *filler) flaws(ctx context.Context) error {
	f.on(0, 0)
	if err := f.departure(ctx); err != nil {
		return err
	}
	if _, err := f.Life.Hold(ctx, f.ines, "old-depot-move@merrowline.example", api.Hold{Reason: "The claim of the removal firm is still open."}, 0); err != nil {
		return err
	}
	for _, ref := range ownerless {
		a, err := mailaddr.Parse(ref)
		if err != nil {
			return err
		}
		if err := f.pool.Transact(ctx, false, func(tx *store.Tx) error {
			g, err := tx.GroupByAddress(a.Key())
			if err != nil {
				return err
			}
			was := g
			owners, err := tx.Owners([]uuid.UUID{g.ID})
			if err != nil {
				return err
			}
			for _, o := range owners[g.ID] {
				if err := tx.SetRole(g.ID, []uuid.UUID{o.MemberID}, expand.Member); err != nil {
					return err
				}
				g.Owners, g.Members = g.Owners-1, g.Members+1
			}
			return tx.SaveGroup(&g, was)
		}); err != nil {
			return fmt.Errorf("%s: %w", ref, err)
		}
	}
	return nil
}
