package main

import (
	"bufio"
	"fmt"
	"net"
	"runtime"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/e2e/outside"
)

// figures are what a run came to.
type figures struct {
	Began                                                time.Time
	lasted                                               time.Duration
	Seed                                                 uint64
	ServiceKills, DatabaseKills, RelayKills, RelayFaults int
	Expired, DiskFull                                    int
	InHand                                               int // recipients whose message the relay was being given when the service was killed

	Tried, Taken, Refused, Unsure int
	Expected, Delivered, Lost     int
	Repeated, UnsureDelivered     int

	idle, after, flooded int64 // octets
	disk, diskAfter      int64
	connections, begun   int
	honest               time.Duration
}

// count compares what was taken with what the relay got.
func (f *figures) count(s *sent, k *sink) {
	k.mu.Lock()
	defer k.mu.Unlock()
	f.Tried, f.Taken, f.Refused, f.Unsure = int(s.tried.Load()), len(s.taken), s.refused, len(s.unsure)
	people, unsure := map[string]int{}, map[string]bool{}
	for key, n := range k.got {
		id, _, _ := strings.Cut(key, " ")
		switch {
		case s.taken[id]:
			people[id]++
			f.Delivered++
			f.Repeated += n - 1
		case s.unsure[id]:
			unsure[id] = true
			f.Repeated += n - 1
		}
	}
	f.UnsureDelivered = len(unsure)
	f.Expected = f.Taken * perGroup
	for id := range s.taken {
		f.Lost += perGroup - people[id]
	}
}

// flood opens connections from many sources that say nothing, and begins messages that never
// end; meanwhile somebody honest sends one.
func (p *place) flood(group string, f *figures) error {
	const sources, each, messages, size = 20, 95, 100, 10 << 20
	before := outside.Resident(p.service.Process.Pid)
	var open []net.Conn
	defer func() {
		for _, c := range open {
			c.Close()
		}
	}()
	dial := func(source int) (net.Conn, *bufio.Reader, error) {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 1, byte(source+1))}, Timeout: 10 * time.Second}
		c, err := d.Dial("tcp", p.smtp)
		if err != nil {
			return nil, nil, err
		}
		open = append(open, c)
		r := bufio.NewReader(c)
		_, err = r.ReadString('\n')
		return c, r, err
	}
	for s := range sources {
		for range each {
			if _, _, err := dial(s); err != nil {
				return err
			}
			f.connections++
		}
	}
	var all sync.WaitGroup
	var mu sync.Mutex
	for i := range messages {
		c, r, err := dial(i % sources)
		if err != nil {
			return err
		}
		f.connections++
		all.Go(func() {
			for _, line := range []string{"EHLO flood.example", "MAIL FROM:<x@flood.example>", "RCPT TO:<postmaster@merrowline.example>", "DATA"} {
				fmt.Fprintf(c, "%s\r\n", line)
				for {
					answer, err := r.ReadString('\n')
					if err != nil || len(answer) < 4 {
						return
					}
					if answer[3] == ' ' {
						break
					}
				}
			}
			fmt.Fprint(c, "From: x@flood.example\r\nSubject: never ends\r\n\r\n")
			line := []byte(strings.Repeat("x", 98) + "\r\n")
			for n := 0; n < size; n += len(line) {
				if _, err := c.Write(line); err != nil {
					return
				}
			}
			mu.Lock()
			f.begun++
			mu.Unlock()
		})
	}
	all.Wait()
	for range 20 {
		f.flooded = max(f.flooded, outside.Resident(p.service.Process.Pid)-before)
		began := time.Now()
		c, err := smtp.Dial(p.smtp)
		if err != nil {
			return fmt.Errorf("honest mail during the flood: %w", err)
		}
		if err := c.SendMail(author, []string{group}, strings.NewReader("From: "+author+"\r\nSubject: honest\r\n\r\nx\r\n")); err != nil {
			return fmt.Errorf("honest mail during the flood: %w", err)
		}
		c.Close()
		f.honest = max(f.honest, time.Since(began))
	}
	return nil
}

func megabytes(n int64) string { return fmt.Sprintf("%.1f MB", float64(n)/1e6) }

// String is the figures as they stand in the docs.
func (f *figures) String() string {
	machine := fmt.Sprintf("%d processors, %s/%s", runtime.NumCPU(), runtime.GOOS, runtime.GOARCH)
	var b strings.Builder
	full := fmt.Sprint(f.DiskFull)
	if f.DiskFull == 0 {
		full = "0: this account may not make a disk of its own"
	}
	fmt.Fprintf(&b, `# Reliability

What %[1]smake soak%[1]s measured on %s. It runs the service with its private database, a relay that counts what it is given, and %d senders; meanwhile
it kills the service, the database and the relay (SIGKILL, closed connections), lets the relay be slow, put off recipients and close in the middle of a message, lets its certificate run out and the disk be full.

Machine: %s. Faults for %v, seed %d.

| faults | |
|---|---|
| kills of the service | %d |
| kills of the database | %d |
| kills of the relay, with all that it was doing | %d |
| times that the relay was slow, put recipients off, or closed in the middle | %d |
| times that its certificate had run out | %d |
| times that there was no room on the disk | %s |

| mail, each message to %d people | |
|---|---|
| messages tried | %d |
| answered 250 | %d |
| refused for now, or no connection: the sender tries again | %d |
| without an answer, since something died: the sender tries again | %d, of which %d had been taken all the same |
| deliveries expected of those answered 250 | %d |
| delivered | %d |
| **lost** | **%d** |
| delivered more than once | %d |
| in the relay's hands when the service was killed, all kills together | %d |

What is delivered more than once was in hand when the service, the database or the relay died: the relay was being given it, or had taken it and that was not written
down yet. The relay is asked to take messages for 100 recipients at most that are not written down yet, so a kill of the service repeats no more.

| resources | |
|---|---|
| memory of the service before the faults | %s |
| and after them, once all is delivered | %s |
| disk before, and after %d messages | %s, %s |
| connections that say nothing, from 20 sources | %d |
| messages of 10 MB that never end | %d |
| memory meanwhile, above that before | %s |
| the slowest of 20 honest messages meanwhile | %d ms |

Mail that is done with is deleted after 30 days, so the disk grows by what comes in within a month.
`, "`", f.Began.Format("2 January 2006"), *senders, machine, f.lasted.Round(time.Second), f.Seed, f.ServiceKills, f.DatabaseKills, f.RelayKills, f.RelayFaults, f.Expired, full,
		perGroup, f.Tried, f.Taken, f.Refused, f.Unsure, f.UnsureDelivered, f.Expected, f.Delivered, f.Lost, f.Repeated, f.InHand,
		megabytes(f.idle), megabytes(f.after), f.Taken, megabytes(f.disk), megabytes(f.diskAfter), f.connections, f.begun, megabytes(f.flooded), f.honest.Milliseconds())
	return b.String()
}
