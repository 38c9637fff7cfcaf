package main

import (
	"context"
	"fmt"
	"net"
	"slices"
	"strings"
	"time"

	"ivytable.example/ivytable/e2e/outside"
	"ivytable.example/ivytable/internal/client"
	"ivytable.example/ivytable/internal/store"
)

// What there is when it is measured.
const (
	kept  = 10_000_000 // deliveries, those of 100 people in a row
	queue = 100_000    // messages that were put off
	idle  = 1000       // connections that do nothing
	busy  = 200        // and that send meanwhile
)

// waiting measures what a trace and a page of groups cost where much was delivered and much waits, and what idle connections take.
func (p *place) waiting(ctx context.Context, b *strings.Builder, rounds int) error {
	c, pool := p.client, p.pool
	page := func() error {
		_, err := c.Groups(ctx, client.GroupList{Paging: client.Paging{Limit: 50}})
		return err
	}
	usual, err := p95(100*rounds, page)
	if err != nil {
		return err
	}
	now := time.Now().UTC()
	people := make([]string, atOnce)
	for i := range people {
		people[i] = hand(i)
	}
	for done := 0; done < kept; {
		var rows []store.Transmission
		for range 1000 {
			rows = append(rows, store.Sent(store.NewID(), 0, people, 1, now))
			done += len(people)
		}
		if err := pool.Transact(ctx, false, func(tx *store.Tx) error { return tx.AddTransmissions(rows) }); err != nil {
			return err
		}
	}
	for range queue / 1000 {
		jobs := make([]store.Job, 1000)
		for i := range jobs {
			jobs[i] = store.Job{MailingID: store.NewID(), Recipients: store.Lines(people[:5]), AsOf: now, NextAt: now.Add(time.Hour), Attempts: 3}
		}
		if err := pool.Transact(ctx, false, func(tx *store.Tx) error { return tx.AddJobs(jobs) }); err != nil {
			return err
		}
	}
	if err := pool.Analyze(ctx); err != nil {
		return err
	}
	if _, _, err := p.through(load{messages: 1, groups: []string{p.crowd}, of: crowdOf}); err != nil {
		return err
	}
	posts, err := c.Posts(ctx, p.crowd, "", client.Paging{Limit: 1})
	if err != nil || len(posts.Items) != 1 {
		return fmt.Errorf("%d posts, %w", len(posts.Items), err)
	}
	trace, err := p95(20*rounds, func() error {
		_, err := c.Deliveries(ctx, posts.Items[0].ID, hand(7000), "", client.Paging{Limit: 50})
		return err
	})
	if err != nil {
		return err
	}
	whole, err := p95(5*rounds, func() error {
		_, err := c.Deliveries(ctx, posts.Items[0].ID, "", "", client.Paging{Limit: 50})
		return err
	})
	if err != nil {
		return err
	}
	meanwhile, err := p95(100*rounds, page)
	if err != nil {
		return err
	}
	took, _, err := p.through(load{messages: burst, groups: p.teams, of: teamOf})
	if err != nil {
		return err
	}
	var open []net.Conn
	defer func() {
		for _, x := range open {
			x.Close()
		}
	}()
	for i := range idle {
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 1, byte(1+i/80))}}
		x, err := d.Dial("tcp", p.smtp)
		if err != nil {
			return err
		}
		open = append(open, x)
	}
	if _, _, err := p.through(load{messages: 4 * burst, groups: p.teams, of: teamOf, by: busy}); err != nil {
		return err
	}
	fmt.Fprintf(b, "\nWith %d deliveries kept and %d messages put off: whether a message to %d people reached one of them, over HTTP, 95th of a hundred: %v (goal 50 ms); its first page of all of them: %v. "+
		"A page of groups: %v, before that %v (goal 2x). %d messages to groups of %d: %v. Memory of the service with %d idle connections and %d busy ones, after that: %d MB (goal 200).\n",
		kept, queue, crowdOf, short(trace), short(whole), short(meanwhile), short(usual), burst, teamOf, short(took), idle, busy, outside.Resident(p.service.Process.Pid)>>20)
	return nil
}

// p95 is how long something takes at most in 95 of 100 times.
func p95(times int, f func() error) (time.Duration, error) {
	var took []time.Duration
	for i := range times + times/10 {
		at := time.Now()
		if err := f(); err != nil {
			return 0, err
		}
		if i >= times/10 {
			took = append(took, time.Since(at))
		}
	}
	slices.Sort(took)
	return took[len(took)*95/100], nil
}
