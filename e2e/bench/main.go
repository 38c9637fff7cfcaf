// Command bench measures the service against floors taken in the same run and
// writes docs/benchmarks.md. It needs a database: run it by make bench.
package main

import (
	"bytes"
	"context"
	"database/sql"
	"errors"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/go-sql-driver/mysql"
	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/filter"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/demo"
	"ivytable.example/ivytable/internal/localdb/dbtest"
	"ivytable.example/ivytable/internal/mail"
	"ivytable.example/ivytable/internal/service"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/group"
	"ivytable.example/ivytable/internal/workspace/member"
	"ivytable.example/ivytable/internal/workspace/people"
	"ivytable.example/ivytable/internal/workspace/post"
)

// full is the workspace that the figures are of; it is measured at half and at double
// the size too, to see how they grow.
var full = demo.Size{People: 100_000, Groups: 20_000, Memberships: 2_000_000}

// row is one line of the report.
type row struct {
	work, floor, goal string
	took, base        time.Duration
	note              string
}

func main() {
	small := flag.Bool("small", false, "a tenth of the size, to see that it runs")
	flag.Parse()
	if *small {
		full = demo.Size{People: full.People / 10, Groups: full.Groups / 10, Memberships: full.Memberships / 10}
	}
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context) error {
	var all [3][]row
	var pages []string
	for i, size := range []demo.Size{{People: full.People / 2, Groups: full.Groups / 2, Memberships: full.Memberships / 2}, full, {People: 2 * full.People, Groups: 2 * full.Groups, Memberships: 2 * full.Memberships}} {
		rows, lines, err := at(ctx, size)
		if err != nil {
			return fmt.Errorf("at %d people: %w", size.People, err)
		}
		all[i], pages = rows, append(pages, lines...)
	}
	return report(all, pages)
}

// bench is a workspace of one size to measure in.
type bench struct {
	ctx   context.Context
	size  demo.Size
	pool  *store.Pool
	w     *service.Service
	admin workspace.Actor
	db    *sql.DB
	now   time.Time
	token api.Token // of the administrator

	nested string // the address of a group of everybody
}

// at measures in a workspace of a size; pages of lists in the full one alone.
func at(ctx context.Context, size demo.Size) (rows []row, pages []string, err error) {
	dsn, err := dbtest.Schema(os.Getenv(dbtest.Env), "ivytable_bench")
	if err != nil {
		return nil, nil, fmt.Errorf("run this by make bench: %w", err)
	}
	pool, err := store.Open(ctx, dsn)
	if err != nil {
		return nil, nil, err
	}
	defer pool.Close()
	w, err := service.New(ctx, pool, workspace.Options{})
	if err != nil {
		return nil, nil, err
	}
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		return nil, nil, err
	}
	defer db.Close()
	b := &bench{ctx: ctx, size: size, pool: pool, w: w, db: db, now: time.Now().UTC()}
	began := time.Now()
	admin, err := demo.Large(ctx, pool, size, b.now)
	if err != nil {
		return nil, nil, err
	}
	b.admin = workspace.Actor{Person: admin}
	fmt.Fprintf(os.Stderr, "made %d people, %d groups, %d memberships in %v\n", size.People, size.Groups, size.Memberships, time.Since(began).Round(time.Second))
	for _, measure := range []func() (row, error){b.pageOfGroups, b.crowd, b.crowdedList, b.decision, b.typeAhead, b.rcpt, b.expansion, b.rehearsal, b.attributeChange, b.export, b.changeMany, b.listMeanwhile, b.bulkAdd, b.pageOfMembers, b.effect, b.whoMay, b.review, b.follow, b.forecast, b.terms, b.round, b.verify} {
		r, err := measure()
		if err != nil {
			return nil, nil, err
		}
		fmt.Fprintf(os.Stderr, "  %s: %v, floor %v %s\n", r.work, short(r.took), short(r.base), r.note)
		rows = append(rows, r)
	}
	if size == full {
		pages, err = b.pageLoads()
	}
	return rows, pages, err
}

// pageOfGroups times a filtered and sorted page over HTTP against the bare query
// for the same rows, in turn.
func (b *bench) pageOfGroups() (row, error) {
	get, stop, err := b.serve()
	if err != nil {
		return row{}, err
	}
	defer stop()
	overHTTP := get("/api/v1/groups?state=active&sort=-people&limit=50", false)
	took, base, err := inTurn(200, overHTTP, b.bare(largest, b.dueUntil()))
	if err != nil {
		return row{}, err
	}
	// And when the group that stands first was changed, so that the length of the list has to be counted again.
	var again []time.Duration
	for i := range 30 {
		page, err := b.w.Group.List(b.ctx, b.admin, group.Query{States: []string{"active"}, Sort: "-people", Limit: 1})
		if err != nil {
			return row{}, err
		}
		said := fmt.Sprintf("Changed %d times", i)
		if _, err := b.w.Group.Change(b.ctx, b.admin, page.Items[0].ID, api.GroupPatch{Description: &said}, 0); err != nil {
			return row{}, err
		}
		d, err := timed(overHTTP)
		if err != nil {
			return row{}, err
		}
		again = append(again, d)
	}
	return row{work: "a page of 50 groups, filtered and sorted, over HTTP", floor: "the bare SQL query for the same rows", goal: "<= 2.0x, < 30 ms", took: took, base: base,
		note: fmt.Sprintf("%v right after a change", short(median(again)))}, nil
}

func (b *bench) write(f func(*store.Tx) error) error { return b.pool.Transact(b.ctx, false, f) }

// changePolicy changes the policy of the first group, from one answer to the other.
func (b *bench) changePolicy(i int) error {
	to := [2]string{"members", "workspace"}[i%2]
	_, err := b.w.Reach.ChangePolicy(b.ctx, b.admin, "group-00000@merrowline.example", api.PolicyPatch{Policy: &api.AnswersPatch{Post: to}}, 0)
	return err
}

// atOnce is how many changes of one policy are begun at the same time.
const atOnce = 100

// inCrowd makes many changes of one policy at once, runs something meanwhile until they
// are done, and returns how long they took.
func (b *bench) inCrowd(meanwhile func() error) (time.Duration, error) {
	began, done := time.Now(), make(chan error)
	for i := range atOnce {
		go func() { done <- b.changePolicy(i) }()
	}
	var first error
	for left := atOnce; left > 0; {
		select {
		case err := <-done:
			first = errors.Join(first, err)
			left--
		default:
			if err := meanwhile(); err != nil {
				first = errors.Join(first, err)
			}
		}
	}
	return time.Since(began), first
}

// crowd times many changes of one policy at once against as many one after another.
func (b *bench) crowd() (row, error) {
	took, base, err := inTurn(3, func() error {
		_, err := b.inCrowd(func() error { runtime.Gosched(); time.Sleep(time.Millisecond); return nil })
		return err
	}, func() error {
		for i := range atOnce {
			if err := b.changePolicy(i); err != nil {
				return err
			}
		}
		return nil
	})
	return row{work: fmt.Sprintf("%d changes of one policy at once", atOnce), floor: "as many, one after another", goal: "<= 2x, < 5 s", took: took, base: base}, err
}

// crowdedList times a page of groups while one policy is changed many times at once,
// against the same page while nothing else happens.
func (b *bench) crowdedList() (row, error) {
	list := func() error {
		_, err := b.w.Group.List(b.ctx, b.admin, group.Query{States: []string{"active"}, Sort: "-people", Limit: 50})
		return err
	}
	var crowded, alone []time.Duration
	measure := func(into *[]time.Duration) error {
		d, err := timed(list)
		*into = append(*into, d)
		return err
	}
	for range 3 {
		if _, err := b.inCrowd(func() error { return measure(&crowded) }); err != nil {
			return row{}, err
		}
		for range 50 {
			if err := measure(&alone); err != nil {
				return row{}, err
			}
		}
	}
	return row{work: fmt.Sprintf("a page of groups during %d changes of one policy", atOnce), floor: "the same page, alone", goal: "<= 2x", took: median(crowded), base: median(alone),
		note: fmt.Sprintf("%d pages meanwhile", len(crowded))}, nil
}

// bare reads every row of a query and does nothing with them.
func (b *bench) bare(query string, args ...any) func() error {
	return func() error {
		rows, err := b.db.Query(query, args...)
		if err != nil {
			return err
		}
		defer rows.Close()
		columns, err := rows.Columns()
		if err != nil {
			return err
		}
		into := make([]any, len(columns))
		for i := range into {
			into[i] = new(sql.RawBytes)
		}
		for rows.Next() {
			if err := rows.Scan(into...); err != nil {
				return err
			}
		}
		return rows.Err()
	}
}

// inTurn runs two things in turn, after a tenth of that to warm up, and returns the
// median of each.
func inTurn(runs int, one, other func() error) (a, b time.Duration, err error) {
	var as, bs []time.Duration
	for i := range runs + 1 + runs/10 {
		ta, err := timed(one)
		if err != nil {
			return 0, 0, err
		}
		tb, err := timed(other)
		if err != nil {
			return 0, 0, err
		}
		if i > runs/10 {
			as, bs = append(as, ta), append(bs, tb)
		}
	}
	return median(as), median(bs), nil
}

// typeAhead times the search for people at every letter of some names.
func (b *bench) typeAhead() (row, error) {
	var typed []string
	for _, name := range []string{"tamsin alder", "person 0421", "ebb", "gr"} {
		for i := range name {
			typed = append(typed, name[:i+1])
		}
	}
	i := 0
	took, base, err := inTurn(10*len(typed), func() error {
		i++
		_, err := b.w.People.List(b.ctx, b.admin, people.Query{Q: typed[i%len(typed)], Sort: "match", Limit: 8})
		return err
	}, b.bare("SELECT p.* FROM words w JOIN people p ON p.id = w.ref WHERE w.kind = 1 AND w.word LIKE 'tam%' ORDER BY w.word, w.ref LIMIT 8"))
	return row{work: "type-ahead, at each letter of four names", floor: "the bare SQL query for 8 people by one word", goal: "one indexed query", took: took, base: base}, err
}

// rcpt times the answer to a recipient by SMTP, of somebody who signed in, who is decided about there.
func (b *bench) rcpt() (row, error) {
	dir, err := os.MkdirTemp("", "spool")
	if err != nil {
		return row{}, err
	}
	defer os.RemoveAll(dir)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return row{}, err
	}
	server := mail.NewServer(b.w, mail.Options{Domain: "bench.example", Spool: dir, Log: slog.New(slog.DiscardHandler)})
	go server.Serve(l, mail.Transfer)
	defer server.Shutdown(b.ctx)
	token, err := b.w.Account.CreateToken(b.ctx, b.admin, api.NewToken{Name: "mail", Scopes: []string{"send"}})
	if err != nil {
		return row{}, err
	}
	taken, err := filter.Groups.Parse(`post ge "workspace"`) // else the connection is closed for recipients in vain
	if err != nil {
		return row{}, err
	}
	page, err := b.pool.Reads(b.ctx).Groups(store.GroupQuery{Filter: taken, Limit: 1000, Sort: store.ByCreated, Time: store.FilterTime{Now: b.now}})
	if err != nil {
		return row{}, err
	}
	c, err := smtp.Dial(l.Addr().String())
	if err != nil {
		return row{}, err
	}
	defer c.Close()
	self := b.admin.Person.Address
	if err := c.Auth(sasl.NewPlainClient("", self, token.Secret)); err != nil {
		return row{}, err
	}
	var took, base []time.Duration
	for i, g := range page.Items {
		if err := errors.Join(c.Reset(), c.Mail(self, nil)); err != nil {
			return row{}, err
		}
		t, err := timed(func() error {
			var no *smtp.SMTPError
			if err := c.Rcpt(g.Address, nil); err != nil && !errors.As(err, &no) {
				return err
			}
			return nil
		})
		if err != nil {
			return row{}, err
		}
		f, err := timed(b.bare(`SELECT g.*, p.id, p.active, p.external, m.role, m.added_at, oa.kind, od.kind, (SELECT GROUP_CONCAT(name ORDER BY place) FROM domains), s.value
			FROM mail_groups g LEFT JOIN people p ON p.addr_key = ? LEFT JOIN memberships m ON m.group_id = g.id AND m.member_id = p.id
			LEFT JOIN overrides oa ON oa.group_id = g.id AND oa.addr_key = p.addr_key LEFT JOIN overrides od ON od.group_id = g.id AND od.addr_key = ?
			LEFT JOIN settings s ON s.name = 'terms' WHERE g.id = (SELECT ref FROM addresses WHERE addr_key = ?)`, self, "*@"+strings.SplitN(self, "@", 2)[1], g.AddrKey))
		if err != nil {
			return row{}, err
		}
		if i >= 50 {
			took, base = append(took, t), append(base, f)
		}
	}
	return row{work: "RCPT until its answer, to one of 1,000 groups after the other", floor: "the bare SQL for the same rows", goal: "<= 2x", took: median(took), base: median(base)}, nil
}

// expansion times the reach of a group with everybody in 100 nested ones.
func (b *bench) expansion() (row, error) {
	root, err := b.w.Group.Create(b.ctx, b.admin, api.NewGroup{Name: "Everybody nested", Owners: []string{b.admin.Person.Address}, Quiet: true})
	if err != nil {
		return row{}, err
	}
	people, err := b.pool.Reads(b.ctx).People(store.PeopleQuery{Limit: b.size.People})
	if err != nil {
		return row{}, err
	}
	each := (len(people.Items) + 99) / 100
	var nested []api.NewPerson
	for i := range 100 {
		g, err := b.w.Group.Create(b.ctx, b.admin, api.NewGroup{Name: fmt.Sprintf("Hundredth part number %d", i), Address: fmt.Sprintf("part-%d-of-all@merrowline.example", i), Owners: []string{b.admin.Person.Address}, Quiet: true})
		if err != nil {
			return row{}, err
		}
		id := uuid.MustParse(g.ID)
		var rows []store.Membership
		for _, p := range people.Items[i*each : min((i+1)*each, len(people.Items))] {
			if p.ID != b.admin.Person.ID {
				rows = append(rows, store.Membership{GroupID: id, MemberID: p.ID, Kind: store.KindPerson, Role: expand.Member, Mail: true, AddedAt: b.now})
			}
		}
		if err := b.write(func(tx *store.Tx) error { return tx.AddMemberships(rows) }); err != nil {
			return row{}, err
		}
		nested = append(nested, api.NewPerson{Address: g.Address})
	}
	if _, err := b.w.Member.Add(b.ctx, b.admin, root.Address, api.NewMembers{People: nested}, 0); err != nil {
		return row{}, err
	}
	b.nested = root.Address
	if _, err := b.w.Reach.ChangePolicy(b.ctx, b.admin, root.Address, api.PolicyPatch{Hold: "nobody"}, 0); err != nil {
		return row{}, err
	}
	a, err := mailaddr.Parse(root.Address)
	if err != nil {
		return row{}, err
	}
	to, err := b.w.Post.Find(b.ctx, a, false)
	if err != nil {
		return row{}, err
	}
	author, err := mailaddr.Parse(people.Items[0].Address)
	if err != nil {
		return row{}, err
	}
	if err := b.w.Post.Accept(b.ctx, post.Arrived{MessageID: "<bench@x>", Author: author, Proven: true, Header: []byte("Subject: x\r\n"), Body: strings.NewReader("x"), Size: 1, To: []post.Incoming{{To: to}}}); err != nil {
		return row{}, err
	}
	jobs, err := b.w.Post.Claim(b.ctx, time.Hour, 1)
	if err != nil || len(jobs) != 1 {
		return row{}, errors.Join(err, fmt.Errorf("%d jobs", len(jobs)))
	}
	took, base, err := inTurn(7, func() error { return jobs[0].Open(b.ctx) }, b.bare(`SELECT m.member_id, m.group_id, m.role, m.mail, p.address FROM memberships m JOIN people p ON p.id = m.member_id AND p.active
		WHERE m.group_id IN (SELECT member_id FROM memberships WHERE group_id = ? AND kind = 2) AND m.kind = 1`, root.ID))
	if reached := len(jobs[0].To); reached < len(people.Items)-1 && err == nil {
		err = fmt.Errorf("%d of %d people were reached", reached, len(people.Items))
	}
	return row{work: fmt.Sprintf("expanding a nested group of everybody (%d people)", len(jobs[0].To)), floor: "the bare SQL fetch of the same rows", goal: "<= 1.3x", took: took, base: base}, err
}

// rehearsal times the answer to what a post to that group would do, with whom it reaches.
func (b *bench) rehearsal() (row, error) {
	reached := 0
	took, base, err := inTurn(7, func() error {
		d, err := b.w.Reach.Rehearse(b.ctx, b.admin, api.Rehearsal{Action: "post", Group: b.nested, As: b.admin.Person.Address})
		if err == nil && d.Recipients != nil {
			reached = d.Recipients.Count
		}
		return err
	}, b.bare(`SELECT m.member_id, m.mail FROM memberships m WHERE m.group_id IN (SELECT g.member_id FROM memberships g JOIN mail_groups o ON o.id = g.group_id WHERE o.address = ? AND g.kind = 2) AND m.kind = 1`, b.nested))
	return row{work: fmt.Sprintf("a rehearsal with its recipients (%d people)", reached), floor: "the bare SQL fetch of their choices", goal: "< 300 ms", took: took, base: base}, err
}

// attributeChange times one change of a person where 1,000 groups have rules, and 3
// of them take the person in or let them go.
func (b *bench) attributeChange() (row, error) {
	page, err := b.pool.Reads(b.ctx).Groups(store.GroupQuery{Limit: 1000, Sort: store.ByCreated, Time: store.FilterTime{Now: b.now}})
	if err != nil {
		return row{}, err
	}
	if err := b.write(func(tx *store.Tx) error {
		for i, g := range page.Items {
			text := fmt.Sprintf(`department eq "Division %d" and employeeNumber ge "E000000"`, i/3)
			if err := tx.SetRule(store.GroupRule{GroupID: g.ID, Expression: text, Guard: 20, SetAt: b.now}); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return row{}, err
	}
	if err := b.pool.Analyze(b.ctx); err != nil {
		return row{}, err
	}
	i := 0
	person := fmt.Sprintf("person-%06d@merrowline.example", b.size.People/2)
	took, base, err := inTurn(50, func() error {
		i++
		_, err := b.w.Directory.Change(b.ctx, b.admin, person, api.PersonPatch{Attributes: map[string]string{"department": fmt.Sprintf("Division %d", i%300)}}, 0)
		return err
	}, b.bare("SELECT * FROM group_rules"))
	return row{work: "one attribute change with 1,000 rule groups, 6 of which follow", floor: "the bare SQL fetch of the rules", goal: "< 20 ms", took: took, base: base}, err
}

// bulkAdd times putting everybody into a group from CSV against loading the same rows.
func (b *bench) bulkAdd() (row, error) {
	people, err := b.pool.Reads(b.ctx).People(store.PeopleQuery{Limit: b.size.People})
	if err != nil {
		return row{}, err
	}
	var list, rows bytes.Buffer
	list.WriteString("Name,E-mail\r\n")
	empty := store.NewID()
	for _, p := range people.Items {
		fmt.Fprintf(&list, "%s,%s\r\n", p.Name, p.Address)
		fmt.Fprintf(&rows, "%s\t%s\t1\t1\t1\t2026-11-23 09:00:00\t%s\t0\n", empty, p.ID, b.admin.Person.Address)
	}
	mysql.RegisterReaderHandler("rows", func() io.Reader { return bytes.NewReader(rows.Bytes()) })
	var added, loaded []time.Duration
	for i := range 3 {
		g, err := b.w.Group.Create(b.ctx, b.admin, api.NewGroup{Name: fmt.Sprintf("Bulk %d", i), Address: fmt.Sprintf("bulk-%c@merrowline.example", 'a'+i), Owners: []string{b.admin.Person.Address}, Quiet: true})
		if err != nil {
			return row{}, err
		}
		took, err := timed(func() error {
			r, err := b.w.Member.Add(b.ctx, b.admin, g.Address, api.NewMembers{List: &api.PeopleList{File: list.Bytes()}, Quiet: true}, 0)
			if err == nil && r.Added != len(people.Items)-1 {
				err = fmt.Errorf("%d of %d were added", r.Added, len(people.Items))
			}
			return err
		})
		if err != nil {
			return row{}, err
		}
		base, err := timed(func() error {
			_, err := b.db.Exec("LOAD DATA LOCAL INFILE 'Reader::rows' INTO TABLE memberships (group_id, member_id, kind, role, mail, added_at, added_by, by_rule)")
			return err
		})
		if err != nil {
			return row{}, err
		}
		added, loaded = append(added, took), append(loaded, base)
		if _, err := b.db.Exec("DELETE FROM memberships WHERE group_id = ?", empty); err != nil {
			return row{}, err
		}
	}
	return row{work: fmt.Sprintf("adding %d members from CSV, checked and recorded", len(people.Items)), floor: "LOAD DATA of the same rows", goal: "<= 4x", took: median(added), base: median(loaded)}, nil
}

// export times all groups as CSV over HTTP, against the bare SQL of their rows.
func (b *bench) export() (row, error) {
	get, stop, err := b.serve()
	if err != nil {
		return row{}, err
	}
	defer stop()
	took, base, err := inTurn(5, get("/api/v1/exports/groups", false), b.bare("SELECT g.*, z.* FROM mail_groups g JOIN group_sizes z ON z.group_id = g.id ORDER BY g.name"))
	return row{work: fmt.Sprintf("export of %d groups as CSV, over HTTP", b.size.Groups), floor: "the bare SQL fetch of the same rows", goal: "< 3 s", took: took, base: base}, err
}

// changeMany times a change of all groups as one, from its beginning until its last group is done.
func (b *bench) changeMany() (row, error) {
	var all []time.Duration
	for _, to := range []string{"de", "en", "de"} {
		began := time.Now()
		change, err := b.w.Bulk.Begin(b.ctx, b.admin, api.NewBulk{Language: to, List: &api.BulkList{}})
		if err != nil {
			return row{}, err
		}
		if err := b.w.Bulk.Run(b.ctx); err != nil {
			return row{}, err
		}
		if change, err = b.w.Bulk.Read(b.ctx, b.admin, change.ID); err != nil || change.Changed < b.size.Groups {
			return row{}, fmt.Errorf("%d of %d were changed: %w", change.Changed, b.size.Groups, err)
		}
		all = append(all, time.Since(began))
	}
	base, err := timed(func() error {
		_, err := b.db.Exec("UPDATE mail_groups SET description = 'Written at once'")
		return err
	})
	took := median(all)
	return row{work: fmt.Sprintf("a change of %d groups as one, each checked and recorded", b.size.Groups), floor: "one UPDATE of all of them", goal: ">= 1,000 groups a second", took: took, base: base,
		note: fmt.Sprintf("%.0f groups a second", float64(b.size.Groups)/took.Seconds())}, err
}

// pageOfMembers times searches in the group that bulkAdd filled, each for something else.
func (b *bench) pageOfMembers() (row, error) {
	i := 0
	took, base, err := inTurn(30, func() error {
		i++
		_, _, err := b.w.Member.List(b.ctx, b.admin, "bulk-a@merrowline.example", member.Query{Q: fmt.Sprintf("%c person-%04d", "abcdefghijklm"[i%13], i), Limit: 100})
		return err
	}, func() error {
		_, _, err := b.w.Member.List(b.ctx, b.admin, "bulk-a@merrowline.example", member.Query{Limit: 100})
		return err
	})
	return row{work: fmt.Sprintf("a search in a group of %d people", b.size.People), floor: "its first page", goal: "no stutter", took: took, base: base}, err
}

// effect times a look at a change of policy that opens a group of everybody, against a count of its people.
func (b *bench) effect() (row, error) {
	i := 0
	took, base, err := inTurn(15, func() error {
		i++
		by, _ := b.admin.Previewing()
		_, err := b.w.Reach.ChangePolicy(b.ctx, by, "bulk-a@merrowline.example", api.PolicyPatch{Policy: &api.AnswersPatch{Post: [2]string{"anyone", "owners"}[i%2]}}, 0)
		if workspace.Previewed(err) {
			return nil
		}
		return err
	}, b.bare("SELECT COUNT(*) FROM memberships WHERE group_id = (SELECT ref FROM addresses WHERE addr_key = 'bulk-a@merrowline.example')"))
	return row{work: fmt.Sprintf("effect of a change of policy of a group of %d people", b.size.People), floor: "a count of its people", goal: "< 200 ms", took: took, base: base}, err
}

// whoMay times a list of who may write to a group of everybody until its first rows are there, and says how long the
// whole of it takes.
func (b *bench) whoMay() (row, error) {
	var first, whole []time.Duration
	for range 5 {
		w := &firstWrite{began: time.Now()}
		if err := b.w.Reach.ExportWhoMay(b.ctx, b.admin, "bulk-a@merrowline.example", "post", "", workspace.Export{Format: "csv", Open: func(string) io.Writer { return w }}); err != nil {
			return row{}, err
		}
		first, whole = append(first, w.after), append(whole, time.Since(w.began))
	}
	return row{work: fmt.Sprintf("who may write to a group of %d people, and why: the first rows", b.size.People), floor: "all of them", goal: "< 200 ms", took: median(first), base: median(whole)}, nil
}

// firstWrite notes when something is first written.
type firstWrite struct {
	began time.Time
	after time.Duration
}

func (w *firstWrite) Write(p []byte) (int, error) {
	if w.after == 0 {
		w.after = time.Since(w.began)
	}
	return len(p), nil
}

func timed(f func() error) (time.Duration, error) {
	began := time.Now()
	err := f()
	return time.Since(began), err
}

func median(d []time.Duration) time.Duration {
	slices.Sort(d)
	return d[len(d)/2]
}

var (
	found expand.Role
	taken policy.Decision
)

// decision times one post decision against a map look-up of the member.
func (b *bench) decision() (row, error) {
	members := map[uuid.UUID]expand.Role{}
	var ids []uuid.UUID
	for range b.size.People {
		id := store.NewID()
		ids = append(ids, id)
		members[id] = expand.Member
	}
	p := policy.Default()
	lookUp := testing.Benchmark(func(t *testing.B) {
		for i := 0; t.Loop(); i++ {
			found = members[ids[i%len(ids)]]
		}
	})
	decide := testing.Benchmark(func(t *testing.B) {
		t.ReportAllocs()
		for t.Loop() {
			taken = p.Post(policy.Author{Rung: policy.Members, Workspace: true, Proven: true})
		}
	})
	return row{work: "one post decision in the core", floor: "a map look-up of the member", goal: "<= 20x, no allocation", took: time.Duration(decide.NsPerOp()), base: time.Duration(lookUp.NsPerOp()),
		note: fmt.Sprintf("%d allocations", decide.AllocsPerOp())}, nil
}

func report(all [3][]row, pages []string) error {
	var b strings.Builder
	fmt.Fprintf(&b, "# Benchmarks\n\nWritten by `make bench` on %s: %s, %d processors, %s, %s. A workspace of %d people, %d groups and about\n%d memberships. "+
		"Each figure is a median and stands beside a floor that was measured in the same run, in turn; the ratio is what to compare.\n"+
		"Growth is by how much the figure grew from half that size, and to double of it; by how much its floor grew in the same\n"+
		"runs stands below, since the machine is not as fast at every hour.\n\n",
		time.Now().UTC().Format("2 Jan 2006"), processor(), runtime.NumCPU(), runtime.Version(), runtime.GOARCH, full.People, full.Groups, full.Memberships)
	b.WriteString("| work | took | floor | took | ratio | goal | growth | |\n|---|---|---|---|---|---|---|---|\n")
	for i, r := range all[1] {
		half, double := all[0][i], all[2][i]
		fmt.Fprintf(&b, "| %s | %v | %s | %v | %.1fx | %s | %.1fx, %.1fx<br>floor %.1fx, %.1fx | %s |\n", r.work, short(r.took), r.floor, short(r.base), times(r.took, r.base), r.goal,
			times(r.took, half.took), times(double.took, r.took), times(r.base, half.base), times(double.base, r.base), r.note)
	}
	b.WriteString(pageReport(pages))
	fmt.Print(b.String())
	return os.WriteFile("docs/benchmarks.md", []byte(b.String()), 0o644)
}

func times(a, b time.Duration) float64 { return float64(a) / float64(b) }

func short(d time.Duration) time.Duration {
	if d > time.Millisecond {
		return d.Round(10 * time.Microsecond)
	}
	return d
}

func processor() string {
	b, _ := os.ReadFile("/proc/cpuinfo")
	for line := range strings.Lines(string(b)) {
		if name, value, ok := strings.Cut(line, ":"); ok && strings.TrimSpace(name) == "model name" {
			return strings.TrimSpace(value)
		}
	}
	return "an unnamed processor"
}
