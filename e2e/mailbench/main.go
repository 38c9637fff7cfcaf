// Command mailbench measures how fast mail goes through the service, against a bare client that sends the same octets to the same
// relay, in turn in the same run. It writes docs/benchmarks-mail.md. It needs bin/ivytable: run it by make bench.
package main

import (
	"context"
	"database/sql"
	"flag"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"
)

func main() {
	small := flag.Bool("small", false, "fewer rounds, to see that it runs")
	only := flag.String("only", "", "measure one thing: 21, 10000, waiting")
	flag.Parse()
	rounds := 7
	if *small {
		rounds = 3
	}
	if err := run(context.Background(), rounds, *only); err != nil {
		fmt.Fprintln(os.Stderr, "mailbench:", err)
		os.Exit(1)
	}
}

// The groups that are written to.
const (
	teams   = 40 // groups of teamOf people
	teamOf  = 21
	crowdOf = 10_000
	burst   = 500 // messages to teams
	senders = 8   // connections that they come in by
)

func run(ctx context.Context, rounds int, only string) error {
	p, err := newPlace(ctx)
	if err != nil {
		return err
	}
	defer p.close()
	var b strings.Builder
	fmt.Fprintf(&b, "# Benchmarks of mail\n\nWritten by `make bench` on %s: %d processors, %s. The service and its database run as they do for an organisation, on one machine with the relay and with\nwhoever sends. "+
		"The floor is a bare client of SMTP that gives the same octets for the same recipients to the same relay, %d recipients at a time, over one connection; medians\nof %d rounds, in turn.\n\n",
		time.Now().UTC().Format("2 Jan 2006"), runtime.NumCPU(), runtime.Version(), atOnce, rounds)
	b.WriteString("| work | took | floor | ratio | goal | 250 after | statements | commits | processor: service, database |\n|---|---|---|---|---|---|---|---|---|\n")
	for _, w := range []struct {
		name, says, goal string
		messages         int
		groups           []string
		of               int
	}{
		{"21", fmt.Sprintf("%d messages to groups of %d", burst, teamOf), "<= 2.0x", burst, p.teams, teamOf},
		{"10000", fmt.Sprintf("one message to %d people", crowdOf), "<= 0.6x", 1, []string{p.crowd}, crowdOf},
	} {
		if only != "" && only != w.name {
			continue
		}
		var ours, floor []time.Duration
		var answered []time.Duration
		var use usage
		for i := range rounds + 1 {
			before, err := p.usage()
			if err != nil {
				return err
			}
			took, said, err := p.through(w.messages, w.groups, w.of)
			if err != nil {
				return err
			}
			after, err := p.usage()
			if err != nil {
				return err
			}
			bare, err := p.bare(w.messages, w.of)
			if err != nil {
				return err
			}
			if i == 0 {
				continue // to warm up
			}
			ours, floor, answered = append(ours, took), append(floor, bare), append(answered, said...)
			use.add(before, after)
		}
		n := float64(w.messages * rounds)
		fmt.Fprintf(&b, "| %s | %v | %v | %.2fx | %s | %v | %.1f a message | %.2f a message | %.2f ms, %.2f ms a message |\n", w.says, short(median(ours)), short(median(floor)),
			float64(median(ours))/float64(median(floor)), w.goal, short(median(answered)), float64(use.statements)/n, float64(use.commits)/n, use.service.Seconds()*1000/n, use.database.Seconds()*1000/n)
		fmt.Fprintf(os.Stderr, "%s: %v of %v\n", w.says, ours, floor)
	}
	if only == "" || only == "waiting" {
		if err := p.waiting(ctx, &b, rounds); err != nil {
			return err
		}
	}
	fmt.Print(b.String())
	if only != "" {
		return nil
	}
	return os.WriteFile("docs/benchmarks-mail.md", []byte(b.String()), 0o644)
}

// usage is what the service and the database used since they began.
type usage struct {
	statements, commits int
	service, database   time.Duration // of processor
}

func (u *usage) add(before, after usage) {
	u.statements += after.statements - before.statements
	u.commits += after.commits - before.commits
	u.service += after.service - before.service
	u.database += after.database - before.database
}

func (p *place) usage() (u usage, err error) {
	rows, err := p.db.Query("SHOW GLOBAL STATUS WHERE Variable_name IN ('Questions', 'Com_commit')")
	if err != nil {
		return u, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		var n int
		if err := rows.Scan(&name, &n); err != nil {
			return u, err
		}
		if name == "Com_commit" {
			u.commits = n
		} else {
			u.statements = n
		}
	}
	u.service, u.database = processor(p.service.Process.Pid), processor(p.databaseID)
	return u, rows.Err()
}

// processor is how much of it a process has used.
func processor(pid int) time.Duration {
	b, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	if err != nil {
		return 0
	}
	_, rest, _ := strings.Cut(string(b), ") ")
	f := strings.Fields(rest)
	var user, system int64
	_, _ = fmt.Sscan(f[11], &user)
	_, _ = fmt.Sscan(f[12], &system)
	return time.Duration(user+system) * time.Second / 100 // USER_HZ
}

func median(d []time.Duration) time.Duration {
	d = slices.Sorted(slices.Values(d))
	return d[len(d)/2]
}

func short(d time.Duration) time.Duration { return d.Round(10 * time.Microsecond) }

func databaseID(db *sql.DB) (pid int, err error) {
	var file string
	if err := db.QueryRow("SELECT @@pid_file").Scan(&file); err != nil {
		return 0, err
	}
	b, err := os.ReadFile(file)
	if err != nil {
		return 0, err
	}
	_, err = fmt.Sscan(string(b), &pid)
	return pid, err
}
