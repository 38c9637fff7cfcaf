package main

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"strings"
	"sync"
	"time"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/httpapi"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// page is a page of a list that is asked for over HTTP, and the bare SQL of the same rows. A
// page of type-ahead stands beside a request that finds who a token belongs to and runs that SQL.
type page struct {
	what, path, sql string
	args            []any
	ahead           bool
	colleague       bool // somebody without a part in the directory asks
}

// largest is the bare SQL of the largest active groups.
const largest = "SELECT g.* FROM group_sizes z FORCE INDEX FOR ORDER BY (group_sizes_people) STRAIGHT_JOIN mail_groups g ON z.group_id = g.id WHERE g.ended_at IS NULL AND g.expires_at > ? ORDER BY z.people DESC, z.group_id DESC LIMIT 51"

// dueUntil is until when groups end that are due.
func (b *bench) dueUntil() time.Time { return b.now.Truncate(24*time.Hour).AddDate(0, 0, 30) }

// pages are the lists that are looked at daily.
func (b *bench) pages() []page {
	filter := func(list, text, more string) string {
		return "/api/v1/" + list + "?limit=50&filter=" + url.QueryEscape(text) + more
	}
	const groups = "SELECT g.* FROM mail_groups g "
	found, args := findable(b.colleague())
	soon := b.dueUntil()
	owner := fmt.Sprintf("person-%06d@merrowline.example", 7)
	return []page{
		{what: "all groups, by name", path: "/api/v1/groups?limit=50", sql: groups + "ORDER BY g.name, g.id LIMIT 51"},
		{what: "active ones, the largest first", path: "/api/v1/groups?state=active&sort=-people&limit=50",
			sql: largest, args: []any{soon}},
		{what: "one person's own", path: filter("groups", `owner eq "`+owner+`"`, ""),
			sql: groups + "JOIN memberships m ON m.group_id = g.id WHERE m.member_id = (SELECT ref FROM addresses WHERE addr_key = ?) AND m.role = 3 ORDER BY g.name, g.id LIMIT 51", args: []any{owner}},
		{what: "all groups, as a colleague", path: "/api/v1/groups?limit=50", colleague: true, sql: groups + "WHERE " + found + " ORDER BY g.name, g.id LIMIT 51", args: args},
		{what: "the largest, as a colleague", path: "/api/v1/groups?sort=-people&limit=50", colleague: true,
			sql: "SELECT g.* FROM group_sizes z FORCE INDEX FOR ORDER BY (group_sizes_shown) STRAIGHT_JOIN mail_groups g ON z.group_id = g.id WHERE " + found + " ORDER BY z.shown DESC, z.group_id DESC LIMIT 51", args: args},
		{what: "with outsiders in them, as a colleague", path: filter("groups", "external gt 0", ""), colleague: true, sql: groups + "WHERE g.external_members > 0 AND " + found + " ORDER BY g.name, g.id LIMIT 51", args: args},
		{what: "with one owner", path: filter("groups", "owners eq 1", ""), sql: groups + "WHERE g.owners = 1 ORDER BY g.name, g.id LIMIT 51"},
		{what: "with outsiders in them", path: filter("groups", "external gt 0", ""), sql: groups + "WHERE g.external_members > 0 ORDER BY g.name, g.id LIMIT 51"},
		{what: "where anyone may write", path: filter("groups", `post eq "anyone"`, ""),
			sql: "SELECT STRAIGHT_JOIN g.* FROM mail_groups g FORCE INDEX FOR ORDER BY (groups_name) JOIN group_settings o ON o.group_id = g.id AND o.setting = 'post' WHERE o.value = 5 ORDER BY g.name, g.id LIMIT 51"},
		{what: "expiring in 30 days", path: filter("groups", "days_left lt 30", "&sort=expires"), sql: groups + "WHERE g.ended_at IS NULL AND g.expires_at < ? ORDER BY g.expires_at, g.id LIMIT 51", args: []any{soon}},
		{what: "people of a department", path: filter("people", `department eq "Workshop"`, ""),
			sql: "SELECT STRAIGHT_JOIN p.* FROM people p FORCE INDEX FOR ORDER BY (people_here) JOIN person_values v ON p.id = v.person_id WHERE v.attribute = 'department' AND v.value = 'workshop' AND p.active = 1 AND p.external = 0 ORDER BY p.name, p.id LIMIT 51"},
		{what: fmt.Sprintf("members, not owners, in a group of %d", b.size.People), path: "/api/v1/groups/bulk-a@merrowline.example/members?role=member&limit=50",
			sql: "SELECT p.*, m.* FROM memberships m FORCE INDEX FOR ORDER BY (memberships_role) STRAIGHT_JOIN people p ON p.id = m.member_id WHERE m.group_id = (SELECT ref FROM addresses WHERE addr_key = 'bulk-a@merrowline.example') AND m.role = 1 ORDER BY m.added_at, m.member_id LIMIT 51"},
		{what: "type-ahead, a name's first letters", path: "/api/v1/people?q=tam&sort=match&limit=8", ahead: true,
			sql: "SELECT p.* FROM words w JOIN people p ON p.id = w.ref WHERE w.kind = 1 AND w.word LIKE 'tam%' ORDER BY w.word, w.ref LIMIT 8"},
	}
}

// findable is the condition, in bare SQL, that somebody without a part in the directory can find
// a group g: all colleagues can, or its members can and they are one, perhaps through what is nested in it.
func findable(person string) (condition string, args []any) {
	return `(g.findable OR g.id IN (
		WITH RECURSIVE above (id) AS (
			SELECT ref FROM addresses WHERE addr_key = ?
			UNION SELECT m.group_id FROM above JOIN memberships m ON m.member_id = above.id)
		SELECT m.group_id FROM above JOIN memberships m ON m.member_id = above.id JOIN group_settings f ON f.group_id = m.group_id AND f.setting = 'find' WHERE f.value >= 4 - m.role))`,
		[]any{person}
}

// colleague is the address of somebody without a part in the directory.
func (b *bench) colleague() string {
	return fmt.Sprintf("person-%06d@merrowline.example", b.size.People/3)
}

// inFlight are the numbers of requests at a time.
var inFlight = []int{1, 10, 50}

// load is what one page took in one setting.
type load struct {
	took, base time.Duration // medians
	late       time.Duration // the 99th of a hundred
}

// serve answers requests on loopback as the service does, until it is stopped. get asks for a path as
// the administrator, or as a colleague.
func (b *bench) serve() (get func(path string, colleague bool) func() error, stop func(), err error) {
	b.token, err = b.w.Account.CreateToken(b.ctx, b.admin, api.NewToken{Name: "bench " + store.NewID().String()})
	if err != nil {
		return nil, nil, err
	}
	person, err := b.pool.Reads(b.ctx).PersonByKey(b.colleague())
	if err != nil {
		return nil, nil, err
	}
	colleagues, err := b.w.Account.CreateToken(b.ctx, workspace.Actor{Person: person}, api.NewToken{Name: "bench " + store.NewID().String()})
	if err != nil {
		return nil, nil, err
	}
	routes, _ := httpapi.Routes(b.w, httpapi.Options{Log: slog.New(slog.DiscardHandler)})
	server := httptest.NewServer(routes)
	return func(path string, colleague bool) func() error {
		token := b.token
		if colleague {
			token = colleagues
		}
		return b.get(server.URL+path, http.Header{"Authorization": {"Bearer " + token.Secret}})
	}, server.Close, nil
}

func (b *bench) get(to string, header http.Header) func() error {
	return func() error {
		r, err := http.NewRequestWithContext(b.ctx, http.MethodGet, to, nil)
		if err != nil {
			return err
		}
		r.Header = header
		res, err := client.Do(r)
		if err != nil {
			return err
		}
		defer res.Body.Close()
		if _, err := io.Copy(io.Discard, res.Body); err != nil || res.StatusCode != http.StatusOK {
			return fmt.Errorf("%s: %s, %w", to, res.Status, err)
		}
		return nil
	}
}

// pageLoads times every page at each number in flight, and at ten while ten groups change each second.
func (b *bench) pageLoads() ([]string, error) {
	get, stop, err := b.serve()
	if err != nil {
		return nil, err
	}
	defer stop()
	bare := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if err := b.bare("SELECT * FROM credentials c JOIN people p ON p.id = c.person_id WHERE c.id = ?", r.Header.Get("Authorization"))(); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		if err := b.bare(r.Header.Get("Statement"))(); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
		}
	}))
	defer bare.Close()
	b.db.SetMaxIdleConns(50)
	var lines []string
	for _, p := range b.pages() {
		one := get(p.path, p.colleague)
		other := b.bare(p.sql, p.args...)
		if p.ahead {
			other = b.get(bare.URL, http.Header{"Authorization": {b.token.ID}, "Statement": {p.sql}})
		}
		line := "| " + p.what
		for _, n := range inFlight {
			l, err := together(n, one, other)
			if err != nil {
				return nil, err
			}
			line += " | " + l.String()
		}
		stop := b.changing(10)
		l, err := together(10, one, other)
		if err := stop(); err != nil {
			return nil, err
		}
		if err != nil {
			return nil, err
		}
		first, err := b.afterChanges(one, other)
		if err != nil {
			return nil, err
		}
		lines = append(lines, line+" | "+l.String()+" | "+first.String()+" |")
		fmt.Fprintln(os.Stderr, lines[len(lines)-1])
	}
	return lines, nil
}

func (l load) String() string {
	s := fmt.Sprintf("%v, %v: **%.1fx**", short(l.took), short(l.base), times(l.took, l.base))
	if l.late > 0 {
		s += fmt.Sprintf(", p99 %.1fx", times(l.late, l.took))
	}
	return s
}

// afterChanges times one each time that a group was changed, so that nothing of lists is remembered, and
// other beside it.
func (b *bench) afterChanges(one, other func() error) (load, error) {
	i := 0
	changed := func(f func() error) (time.Duration, error) {
		i++
		said := fmt.Sprintf("Changed before look %d", i)
		if _, err := b.w.Group.Change(b.ctx, b.admin, fmt.Sprintf("group-%05d@merrowline.example", i), api.GroupPatch{Description: &said}, 0); err != nil {
			return 0, err
		}
		return timed(f)
	}
	var took, base []time.Duration
	for range 40 {
		d, err := changed(one)
		if err != nil {
			return load{}, err
		}
		e, err := changed(other)
		if err != nil {
			return load{}, err
		}
		took, base = append(took, d), append(base, e)
	}
	return load{took: median(took), base: median(base)}, nil
}

// client keeps as many connections as are used at a time.
var client = &http.Client{Transport: &http.Transport{MaxIdleConnsPerHost: 50}}

// together runs one and other in turn, some tenths of a second each, always n at a time.
func together(n int, one, other func() error) (load, error) {
	var took [2][]time.Duration
	for i := range 11 {
		for at, f := range []func() error{one, other} {
			d, err := flood(n, f, 200*time.Millisecond)
			if err != nil {
				return load{}, err
			}
			if i > 0 { // the first is to warm up
				took[at] = append(took[at], d...)
			}
		}
	}
	l := load{took: median(took[0]), base: median(took[1])} // they are sorted now
	l.late = took[0][len(took[0])*99/100]
	return l, nil
}

// flood runs f n times at once, again and again for so long, and returns what each took.
func flood(n int, f func() error, long time.Duration) ([]time.Duration, error) {
	var mu sync.Mutex
	var all []time.Duration
	var first error
	var running sync.WaitGroup
	until := time.Now().Add(long)
	for range n {
		running.Go(func() {
			for time.Now().Before(until) {
				d, err := timed(f)
				mu.Lock()
				all = append(all, d)
				if err != nil && first == nil {
					first = err
				}
				mu.Unlock()
				if err != nil {
					return
				}
			}
		})
	}
	running.Wait()
	return all, first
}

// changing changes so many groups a second until it is stopped.
func (b *bench) changing(perSecond int) (stop func() error) {
	ctx, cancel := context.WithCancel(b.ctx)
	done := make(chan error, 1)
	go func() {
		tick := time.NewTicker(time.Second / time.Duration(perSecond))
		defer tick.Stop()
		for i := 0; ; i++ {
			select {
			case <-ctx.Done():
				done <- nil
				return
			case <-tick.C:
				said := fmt.Sprintf("Changed for the %dth time", i)
				ref := fmt.Sprintf("group-%05d@merrowline.example", i%b.size.Groups)
				if _, err := b.w.Group.Change(b.ctx, b.admin, ref, api.GroupPatch{Description: &said}, 0); err != nil {
					done <- err
					return
				}
			}
		}
	}()
	return func() error { cancel(); return <-done }
}

func pageReport(lines []string) string {
	head := "| page of 50 |"
	for _, n := range inFlight {
		head += fmt.Sprintf(" %d in flight |", n)
	}
	return "\n## Pages\n\nEach page over HTTP, and the bare SQL of the same rows at the same concurrency, in turn: medians, their ratio (goal: 2.0x), and how much later than its own median the\n" +
		"last of a hundred came. The floor of the type-ahead is a bare handler that looks up the token and runs that SQL (goal: 1.5x).\n\n" +
		head + " 10 in flight while 10 groups change each second | the first look after a change |\n" + strings.Repeat("|---", len(inFlight)+3) + "|\n" + strings.Join(lines, "\n") + "\n"
}
