// Command mailbench measures how fast mail goes through the service, against a bare client that sends the same octets to the same
// relay, in turn in the same run. It writes docs/benchmarks-mail.md. It needs bin/ivytable: run it by make bench.
package main

import (
	"context"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/sha256"
	"database/sql"
	"flag"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"time"

	"ivytable.example/ivytable/e2e/outside"
)

func main() {
	small := flag.Bool("small", false, "fewer rounds, to see that it runs")
	only := flag.String("only", "", "measure one thing: 21, mixed, signed, 10000, waiting")
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
	guests  = 5 // external members among them, in mixed teams
	crowdOf = 10_000
	burst   = 500 // messages to teams
	senders = 20  // connections that they come in by, as a relay opens them
	few     = 8   // and fewer
)

func run(ctx context.Context, rounds int, only string) error {
	stolenBefore, allBefore := outside.Stolen()
	p, err := newPlace(ctx)
	if err != nil {
		return err
	}
	defer p.close()
	var b strings.Builder
	fmt.Fprintf(&b, "# Benchmarks of mail\n\nWritten by `make bench` on %s: %d processors, %s. The service and its database run as they do for an organisation, on one machine with the relay and with\nwhoever sends. "+
		"The floor is a bare client of SMTP that gives the same octets for the same recipients to the same relay, %d recipients at a time, over one connection or over\n%d, whichever is faster; medians of %d rounds, in turn. Small messages come in over %d connections, unless it is said otherwise.\n\n",
		time.Now().UTC().Format("2 Jan 2006"), runtime.NumCPU(), runtime.Version(), atOnce, bareMost, rounds, senders)
	b.WriteString("| work | took | floor | ratio | goal | 250 after | statements | commits | processor: service, database |\n|---|---|---|---|---|---|---|---|---|\n")
	table := func(loads ...load) error {
		for _, w := range loads {
			if only != "" && only != w.name {
				continue
			}
			row, err := p.measure(w, rounds)
			if err != nil {
				return err
			}
			b.WriteString(row)
		}
		return nil
	}
	if err := table(
		load{name: "21", says: fmt.Sprintf("%d messages to groups of %d", burst, teamOf), goal: "<= 2.0x", messages: burst, groups: p.teams, of: teamOf},
		load{name: "21", says: fmt.Sprintf("the same, over %d connections", few), goal: "–", messages: burst, groups: p.teams, of: teamOf, by: few},
		load{name: "mixed", says: fmt.Sprintf("the same, %d of each outsiders with copies of their own", guests), goal: "–", messages: burst, groups: p.mixed, of: teamOf, own: guests},
		load{name: "10000", says: fmt.Sprintf("one message to %d people", teamOf), goal: "–", messages: 1, groups: p.teams[:1], of: teamOf},
		load{name: "10000", says: fmt.Sprintf("one message to %d people", crowdOf), goal: "<= 0.6x", messages: 1, groups: []string{p.crowd}, of: crowdOf},
	); err != nil {
		return err
	}
	var below strings.Builder
	if only == "" || only == "waiting" {
		if err := p.waiting(ctx, &below, rounds); err != nil {
			return err
		}
	}
	if only == "" || only == "signed" {
		if err := p.sign(ctx); err != nil {
			return err
		}
		took, err := signature()
		if err != nil {
			return err
		}
		fmt.Fprintf(&below, "\nOne signature by itself, with a key of 2048 bits as copies are signed here, takes %v of processor. The floor signs nothing.\n", short(took))
	}
	if err := table(
		load{name: "signed", says: fmt.Sprintf("%d messages to groups of %d, each copy signed", burst, teamOf), goal: "–", messages: burst, groups: p.teams, of: teamOf},
		load{name: "signed", says: fmt.Sprintf("the same, %d of each outsiders with copies of their own", guests), goal: "–", messages: burst, groups: p.mixed, of: teamOf, own: guests},
	); err != nil {
		return err
	}
	b.WriteString(below.String())
	stolen, all := outside.Stolen()
	fmt.Fprintf(&b, "\nMeanwhile the host gave %.1f %% of the processors' time to others.\n", 100*(stolen-stolenBefore)/(all-allBefore))
	fmt.Print(b.String())
	if only != "" {
		return nil
	}
	return os.WriteFile("docs/benchmarks-mail.md", []byte(b.String()), 0o644)
}

// load is what is sent.
type load struct {
	name, says, goal string
	messages         int
	groups           []string
	of               int // recipients of each
	own              int // of whom so many get copies of their own
	by               int // connections; 0: senders
}

// measure sends a load some times, in turn with the bare client, and returns its row of the table.
func (p *place) measure(w load, rounds int) (row string, err error) {
	var ours, floor []time.Duration
	var answered []time.Duration
	var use usage
	for i := range rounds + 1 {
		before, err := p.usage()
		if err != nil {
			return "", err
		}
		took, said, err := p.through(w)
		if err != nil {
			return "", err
		}
		after, err := p.usage()
		if err != nil {
			return "", err
		}
		bare, err := p.bare(w, 1)
		if err != nil {
			return "", err
		}
		if more, err := p.bare(w, bareMost); err != nil {
			return "", err
		} else {
			bare = min(bare, more)
		}
		if i == 0 {
			continue // to warm up
		}
		ours, floor, answered = append(ours, took), append(floor, bare), append(answered, said...)
		use.add(before, after)
	}
	n := float64(w.messages * rounds)
	row = fmt.Sprintf("| %s | %v | %v | %.2fx | %s | %v | %.1f a message | %.2f a message | %.2f ms, %.2f ms a message |\n", w.says, short(median(ours)), short(median(floor)),
		float64(median(ours))/float64(median(floor)), w.goal, short(median(answered)), float64(use.statements)/n, float64(use.commits)/n, use.service.Seconds()*1000/n, use.database.Seconds()*1000/n)
	fmt.Fprintf(os.Stderr, "%s: %v of %v\n", w.says, ours, floor)
	return row, nil
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

// signature is how much processor one takes by itself.
func signature() (time.Duration, error) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		return 0, err
	}
	const times = 100
	sum, before := sha256.Sum256([]byte("a message")), processor(os.Getpid())
	for range times {
		if _, err := rsa.SignPKCS1v15(nil, key, crypto.SHA256, sum[:]); err != nil {
			return 0, err
		}
	}
	return (processor(os.Getpid()) - before) / times, nil
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
