// Command bench measures the service against floors taken in the same run and
// writes docs/benchmarks.md. It needs a database: run it by make bench.
package main

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/api"
	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/demo"
	"ivytable.example/ivytable/internal/httpapi"
	"ivytable.example/ivytable/internal/localdb/dbtest"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

var size = demo.Size{People: 10_000, Groups: 2_000, Memberships: 200_000}

const runs = 1000

// row is one line of the report.
type row struct {
	work, floor, goal string
	took, base        time.Duration
	note              string
}

func main() {
	if err := run(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, "bench:", err)
		os.Exit(1)
	}
}

func run(ctx context.Context) error {
	dsn, err := dbtest.Schema(os.Getenv(dbtest.Env), "ivytable_bench")
	if err != nil {
		return fmt.Errorf("run this by make bench: %w", err)
	}
	s, err := store.Open(ctx, dsn)
	if err != nil {
		return err
	}
	defer s.Close()
	now := time.Now().UTC()
	began := time.Now()
	admin, err := demo.Large(ctx, s, size, now)
	if err != nil {
		return err
	}
	fmt.Fprintf(os.Stderr, "made %d people, %d groups, %d memberships in %v\n", size.People, size.Groups, size.Memberships, time.Since(began).Round(time.Millisecond))
	page, err := pageOfGroups(ctx, s, dsn, admin, now)
	if err != nil {
		return err
	}
	return report([]row{page, decision()})
}

// pageOfGroups times a filtered and sorted page over HTTP against the bare query
// for the same rows, in turn.
func pageOfGroups(ctx context.Context, s *store.Store, dsn string, admin store.Person, now time.Time) (row, error) {
	w := workspace.New(s, workspace.Options{})
	token, err := w.CreateToken(ctx, workspace.Actor{Person: admin}, api.NewToken{Name: "bench"})
	if err != nil {
		return row{}, err
	}
	routes, _ := httpapi.Routes(w, httpapi.Options{Log: slog.New(slog.DiscardHandler)})
	server := httptest.NewServer(routes)
	defer server.Close()
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		return row{}, err
	}
	defer db.Close()
	overHTTP := func() error {
		r, err := http.NewRequest("GET", server.URL+"/api/v1/groups?state=active&sort=-people&limit=50", nil)
		if err != nil {
			return err
		}
		r.Header.Set("Authorization", "Bearer "+token.Secret)
		res, err := http.DefaultClient.Do(r)
		if err != nil {
			return err
		}
		defer res.Body.Close()
		if res.StatusCode != 200 {
			return fmt.Errorf("a page of groups: %s", res.Status)
		}
		_, err = io.Copy(io.Discard, res.Body)
		return err
	}
	bare := func() error {
		rows, err := db.Query("SELECT * FROM mail_groups WHERE ended_at IS NULL AND expires_at > ? ORDER BY people DESC, id DESC LIMIT 51", now.AddDate(0, 0, 30))
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
	var a, b []time.Duration
	for i := range runs + 20 {
		ta, err := timed(overHTTP)
		if err != nil {
			return row{}, err
		}
		tb, err := timed(bare)
		if err != nil {
			return row{}, err
		}
		if i >= 20 {
			a, b = append(a, ta), append(b, tb)
		}
	}
	return row{work: "a page of 50 groups, filtered and sorted, over HTTP", floor: "the bare SQL query for the same rows", goal: "<= 2.0x, < 30 ms",
		took: median(a), base: median(b), note: fmt.Sprintf("median of %d, in turn", runs)}, nil
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
func decision() row {
	members := map[uuid.UUID]expand.Role{}
	var ids []uuid.UUID
	for range size.People {
		id := store.NewID()
		ids = append(ids, id)
		members[id] = expand.Member
	}
	p := policy.Default()
	lookUp := testing.Benchmark(func(b *testing.B) {
		for i := 0; b.Loop(); i++ {
			found = members[ids[i%len(ids)]]
		}
	})
	decide := testing.Benchmark(func(b *testing.B) {
		b.ReportAllocs()
		for b.Loop() {
			taken = p.Post(policy.Author{Rung: policy.Members, Workspace: true, Proven: true})
		}
	})
	return row{work: "one post decision in the core", floor: "a map look-up of the member", goal: "<= 20x, no allocation", took: time.Duration(decide.NsPerOp()), base: time.Duration(lookUp.NsPerOp()),
		note: fmt.Sprintf("%d allocations", decide.AllocsPerOp())}
}

func report(rows []row) error {
	var b strings.Builder
	fmt.Fprintf(&b, "# Benchmarks\n\nWritten by `make bench` on %s: %s, %d processors, %s, %s. A workspace of %d people, %d groups and about\n%d memberships. "+
		"Each figure stands beside a floor that was measured in the same run; the ratio is what to compare.\n\n",
		time.Now().UTC().Format("2 Jan 2006"), processor(), runtime.NumCPU(), runtime.Version(), runtime.GOARCH, size.People, size.Groups, size.Memberships)
	b.WriteString("| work | took | floor | took | ratio | goal | |\n|---|---|---|---|---|---|---|\n")
	for _, r := range rows {
		fmt.Fprintf(&b, "| %s | %v | %s | %v | %.1fx | %s | %s |\n", r.work, short(r.took), r.floor, short(r.base), float64(r.took)/float64(r.base), r.goal, r.note)
	}
	fmt.Print(b.String())
	return os.WriteFile("docs/benchmarks.md", []byte(b.String()), 0o644)
}

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
