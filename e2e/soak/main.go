// Command soak lets a service run under load while it, its database and its relay are killed
// again and again, then under a flood of connections, and writes down what became of the
// mail: docs/reliability.md.
package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/emersion/go-smtp"

	"ivytable.example/ivytable/e2e/outside"
)

var (
	lasts   = flag.Duration("for", 12*time.Minute, "how long the faults go on")
	binary  = flag.String("binary", "bin/ivytable", "the program")
	report  = flag.String("report", "docs/reliability.md", "where the figures go")
	seed    = flag.Uint64("seed", uint64(time.Now().UnixNano()), "of the faults, to see the same again")
	senders = flag.Int("senders", 4, "how many send at once")
	kills   = flag.Int("kills", 100, "how many kills there are at most")
	short   = flag.Bool("short", false, "only the kills, without the flood, and no report")
)

func main() {
	flag.Parse()
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "soak:", err)
		os.Exit(1)
	}
}

func run() error {
	dir, err := os.MkdirTemp("", "ivytable-soak")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	p, err := newPlace(dir)
	if err != nil {
		return err
	}
	defer p.stop()
	groups, err := p.fill()
	if err != nil {
		return err
	}
	warm, end := context.WithTimeout(context.Background(), 5*time.Second)
	defer end()
	if _, err := p.load(warm, groups); err != nil { // until all caches are warm
		return err
	}
	if err := p.drain(2 * time.Minute); err != nil {
		return err
	}
	f := figures{Began: time.Now(), Seed: *seed, idle: outside.Resident(p.service.Process.Pid), disk: p.used()}
	fmt.Printf("faults for %v, seed %d\n", *lasts, *seed)
	ctx, cancel := context.WithTimeout(context.Background(), *lasts)
	defer cancel()
	done := make(chan error, 1)
	go func() { defer cancel(); done <- p.faults(ctx, &f) }()
	sent, err := p.load(ctx, groups)
	if err != nil {
		return err
	}
	if err := <-done; err != nil {
		return err
	}
	f.lasted = time.Since(f.Began)
	if err := p.drain(5 * time.Minute); err != nil {
		return err
	}
	f.count(sent, p.sink)
	if *short {
		fmt.Printf("%d kills of the service, %d of the database, %d of the relay, whose certificate ran out %d times, %d times no room: %d messages were taken, %d deliveries lost, %d more than once, with %d in hand at kills\n", f.ServiceKills, f.DatabaseKills, f.RelayKills, f.Expired, f.DiskFull, len(sent.taken), f.Lost, f.Repeated, f.InHand)
		if f.Lost > 0 {
			return fmt.Errorf("%d deliveries were lost", f.Lost)
		}
		return nil
	}
	f.after = outside.Resident(p.service.Process.Pid)
	if err := p.flood(groups[0], &f); err != nil {
		return err
	}
	f.diskAfter = p.used()
	if err := os.WriteFile(*report, []byte(f.String()), 0o644); err != nil {
		return err
	}
	fmt.Print(f.String())
	if f.Lost > 0 {
		return fmt.Errorf("%d deliveries were lost", f.Lost)
	}
	return nil
}

// load sends messages for a while, and returns those that were answered 250, and those whose
// answer never came.
func (p *place) load(ctx context.Context, groups []string) (*sent, error) {
	out := &sent{taken: map[string]bool{}, unsure: map[string]bool{}}
	var all sync.WaitGroup
	for i := range *senders {
		all.Go(func() {
			r := rand.New(rand.NewPCG(*seed, uint64(i)))
			for n := 0; ctx.Err() == nil; n++ {
				id := fmt.Sprintf("<%d-%d-%d@soak.example>", time.Now().UnixNano(), i, n)
				body := strings.Repeat("All is well on the quay.\r\n", 1+r.IntN(40))
				if r.IntN(50) == 0 {
					body = strings.Repeat(body, 400) // up to some hundred kB
				}
				out.tried.Add(1)
				answered, err := p.send(id, groups[r.IntN(len(groups))], body)
				out.mu.Lock()
				switch {
				case err == nil:
					out.taken[id] = true
				case !answered:
					out.unsure[id] = true
				default:
					out.refused++
				}
				out.mu.Unlock()
				pause := 20 * time.Millisecond // what comes is bounded, since all of it is counted at the end
				if err != nil {
					pause = 50 * time.Millisecond
				}
				time.Sleep(pause)
			}
		})
	}
	all.Wait()
	return out, nil
}

// sent is what became of messages as their sender knows it.
type sent struct {
	tried         atomic.Int64
	mu            sync.Mutex
	taken, unsure map[string]bool
	refused       int
}

// send sends one message; answered says whether the last word of the service came.
func (p *place) send(id, group, body string) (answered bool, err error) {
	c, err := smtp.Dial(p.smtp)
	if err != nil {
		return true, err // nothing was said
	}
	defer c.Close()
	c.CommandTimeout, c.SubmissionTimeout = 30*time.Second, time.Minute
	err = c.SendMail(author, []string{group}, strings.NewReader("From: "+author+"\r\nSubject: soak\r\nMessage-ID: "+id+"\r\n\r\n"+body))
	return err == nil || errors.As(err, new(*smtp.SMTPError)), err
}

// faults kills one thing after the other, and lets it come back.
func (p *place) faults(ctx context.Context, f *figures) error {
	r := rand.New(rand.NewPCG(*seed, 99))
	for f.ServiceKills+f.DatabaseKills+f.RelayKills < *kills {
		select {
		case <-ctx.Done():
			p.sink.behave(well)
			return nil
		case <-time.After(time.Duration(1000+r.IntN(2500)) * time.Millisecond):
		}
		switch r.IntN(7) {
		case 0, 1:
			f.ServiceKills++
			f.InHand += p.sink.inHand()
			if err := p.killService(); err != nil {
				return err
			}
		case 2:
			f.DatabaseKills++
			if err := p.killDatabase(); err != nil {
				return err
			}
		case 3:
			f.RelayKills++
			p.sink.kill(time.Duration(r.IntN(1500)) * time.Millisecond)
		case 4:
			f.RelayFaults++
			p.sink.behave(behaviour(1 + r.IntN(3)))
			time.Sleep(time.Duration(r.IntN(1500)) * time.Millisecond)
			p.sink.behave(well)
		case 5:
			f.Expired++
			p.sink.behave(expired)
			p.sink.kill(0) // who is connected has seen the one before
			time.Sleep(time.Duration(500+r.IntN(2000)) * time.Millisecond)
			p.sink.behave(well)
		case 6:
			if p.disk == "" {
				continue
			}
			f.DiskFull++
			if err := p.fillDisk(time.Duration(500+r.IntN(2500)) * time.Millisecond); err != nil {
				return err
			}
		}
	}
	return nil
}

// fillDisk leaves no room on the disk for a while.
func (p *place) fillDisk(long time.Duration) error {
	path := filepath.Join(p.disk, "ballast")
	f, err := os.Create(path)
	if err != nil {
		return err
	}
	defer f.Close()
	block := make([]byte, 1<<20)
	for err == nil {
		_, err = f.Write(block)
	}
	if !errors.Is(err, syscall.ENOSPC) {
		return err
	}
	time.Sleep(long)
	return os.Remove(path)
}

// killService kills the service at once, and starts it again.
func (p *place) killService() error {
	_ = p.service.Process.Kill()
	_ = p.service.Wait()
	return p.start()
}

func (p *place) killDatabase() error {
	b, err := os.ReadFile(filepath.Join(p.data, "db.pid"))
	if err != nil {
		return nil // it is only starting
	}
	var pid int
	if _, err := fmt.Sscan(string(b), &pid); err != nil {
		return nil
	}
	_ = syscall.Kill(pid, syscall.SIGKILL)
	return nil
}

// start starts the service, and waits until it answers.
func (p *place) start() error {
	p.service = exec.Command(*binary, "serve", "--data", p.data, "--relay", p.sink.addr, "--relay-ca", p.sink.ca, "--listen", p.http, "--smtp-listen", p.smtp, "--metrics-listen", "",
		"--trusted-relays", "127.0.0.1", "--mail-name", "soak.example", "--log-level", "error")
	log, err := os.OpenFile(filepath.Join(filepath.Dir(p.data), "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close()
	p.service.Stdout, p.service.Stderr = log, log
	if err := p.service.Start(); err != nil {
		return err
	}
	return p.ready()
}
