package post

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// Job is a message on its way to one destination, which a worker hands to the relay for
// some of its recipients after the other.
type Job struct {
	Mailing  uuid.UUID
	Sender   string   // of the envelope
	Attempts int      // those before, that came to nothing
	Header   []byte   // with the empty line after it
	EightBit bool     // the body has octets over 127
	To       []string // those with whom it is not done yet

	job     store.Job
	message store.Message
	group   *uuid.UUID
	kind    string
	mailbox Mailbox
	trouble bool
	edits   []Edit

	externals map[string]store.Recipient // those who get copies of their own, by address
	marking   sync.Mutex                 // of marks and taken
	marks     map[string]int64           // of transactions, by their first recipient
	link      string                     // what links in it begin with; "": there are none
	code      func(...[]byte) []byte     // by which they are made
	now       time.Time

	worker uuid.UUID
	lease  time.Duration
	first  atomic.Pointer[[]byte] // of the body's rows, kept where it is the only one
	readAt time.Time              // when it was read who gets it
	s      *Service

	recorded *store.Job        // of a job that is handed on: its record
	of       *store.Group      // of a job that is handed on: as it was when the message was let through; nil: to be read
	all      []store.Recipient // of a job that is handed on: those of the group then; nil: to be read
	filled   bool              // what it hands over is known without reading it
	taken    map[string]bool   // for whom the relay took it, and that is recorded or gathered
	known    bool              // that nobody else is: nothing was handed over of it before
	octets   int               // that it takes of the memory
	hands    *Hands            // that hold it; nil for one that was claimed by itself
	pending  int               // results that are not written down yet; of the hands
	let      bool              // nobody works on it any more; of the hands
	gone     bool              // another worker has it; of the hands
	lost     func()            // called then
}

// Result is what became of one recipient.
type Result struct {
	Recipient string
	Outcome   Outcome
	Reply     string // of the relay; not with Sent
}

// Outcome is what became of an attempt to deliver.
type Outcome int

// The outcomes.
const (
	Sent    Outcome = iota // the relay has taken it over
	Later                  // it is tried again
	GivenUp                // the relay refuses it for good
)

// ErrLost says that a job is another worker's by now.
var ErrLost = errors.New("the job is another worker's by now")

// Claim takes up to limit jobs that are due for the length of a lease.
func (s *Service) Claim(ctx context.Context, lease time.Duration, limit int) ([]*Job, error) {
	return s.claim(ctx, store.NewID(), lease, limit)
}

func (s *Service) claim(ctx context.Context, worker uuid.UUID, lease time.Duration, limit int) ([]*Job, error) {
	var rows []store.Job
	err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) (err error) {
		rows, err = c.Tx.ClaimJobs(worker, lease, limit)
		return err
	})
	if err != nil {
		return nil, err
	}
	out := make([]*Job, len(rows))
	for i, r := range rows {
		out[i] = &Job{Mailing: r.MailingID, Attempts: r.Attempts, job: r, worker: worker, lease: lease, s: s}
	}
	return out, nil
}

// Open reads what a job hands over, and to whom: in the order of octets, those with whom it
// is done left out. With nobody left there is nothing to hand over.
func (j *Job) Open(ctx context.Context) error {
	v := j.s.k.View(ctx, workspace.Service)
	if !j.filled {
		m, err := v.Read.Mailing(j.job.MailingID)
		if err != nil {
			return err
		}
		read, err := v.Read.Messages([]uuid.UUID{m.MessageID}, true)
		if err != nil {
			return err
		}
		if err := j.fill(m, read[m.MessageID]); err != nil {
			return err
		}
	}
	if err := j.linked(ctx, v); err != nil {
		return err
	}
	if j.all == nil || time.Since(j.readAt) > staleAfter {
		j.all, j.readAt = nil, time.Now()
	}
	all, err := j.recipients(v)
	if err != nil {
		return err
	}
	if !j.known {
		if j.taken, err = v.Read.TakenOf(j.Mailing, j.job.ID); err != nil {
			return err
		}
		j.known = true
	}
	if err := j.forgo(ctx, all); err != nil {
		return err
	}
	j.order(all)
	j.filled, j.of, j.all = false, nil, nil // when it is opened again it is read as it is then
	return nil
}

// forgo forgets that mail could not be handed to those to whom it doesn't go any more.
func (j *Job) forgo(ctx context.Context, all []store.Recipient) error {
	if j.job.Recipients == nil || !toGroup(j.kind, j.group) {
		return nil
	}
	still := map[string]bool{}
	for _, r := range all {
		still[r.Address] = true
	}
	gone := slices.DeleteFunc(store.ReadLines(j.job.Recipients), func(a string) bool { return still[a] })
	if len(gone) == 0 {
		return nil
	}
	return j.change(ctx, func(c *workspace.Change) error { return c.Tx.DeleteFailures(j.Mailing, gone) })
}

// fill says what a job hands over.
func (j *Job) fill(m store.Mailing, x store.Message) error {
	j.message, j.group, j.kind, j.trouble, j.Sender, j.mailbox = x, m.GroupID, m.Kind, m.Trouble, m.Sender, Mailbox(m.Mailbox)
	j.Header = slices.Concat(m.Fields, j.message.Header, []byte("\r\n"))
	j.EightBit, j.edits = j.message.EightBit, nil
	if m.Edits != nil {
		if err := json.Unmarshal(m.Edits, &j.edits); err != nil {
			return fmt.Errorf("read the edits of a mailing: %w", err)
		}
	}
	for _, e := range j.edits {
		j.EightBit = j.EightBit || bytes.ContainsFunc(e.Put, func(r rune) bool { return r >= 0x80 })
	}
	j.filled = true
	return nil
}

// recipients returns to whom the job goes as things are now. A job for some goes to those of them who are still in the group and take its
// mail: how long ago it was first tried makes no difference.
func (j *Job) recipients(v *workspace.View) ([]store.Recipient, error) {
	switch {
	case j.job.Recipients != nil && !toGroup(j.kind, j.group):
		return named(store.ReadLines(j.job.Recipients), nil)
	case j.group == nil:
		return named(v.Read.Administrators())
	}
	g := j.of
	if g == nil {
		read, err := v.Read.Group(*j.group)
		if err != nil {
			return nil, err
		}
		g = &read
	}
	return recipientsOf(v, g, j.kind, j.mailbox, j.message.Thread, j.job, j.all)
}

// toGroup reports whether mail goes to whoever is in a group when it goes out, and not to addresses of its own.
func toGroup(kind string, group *uuid.UUID) bool {
	return group != nil && (kind == store.KindPost || kind == store.KindDigest)
}

// recipientsOf returns to whom a job goes that hands over mail to a group. all is whoever is in the group, where that is known.
func recipientsOf(v *workspace.View, g *store.Group, kind string, mailbox Mailbox, thread []byte, job store.Job, all []store.Recipient) ([]store.Recipient, error) {
	var err error
	switch {
	case job.Recipients != nil:
		all, err = among(v, g, mailbox, job)
	case all == nil:
		all, err = recipients(v, g, mailbox, job.AsOf)
	}
	if err != nil || kind == store.KindDigest {
		return all, err
	}
	return wanted(v, g.ID, all, thread)
}

// among returns those whom a job names who still get the mail of a group, by the addresses that they have now.
func among(v *workspace.View, g *store.Group, mailbox Mailbox, job store.Job) ([]store.Recipient, error) {
	lines := store.ReadLines(job.Recipients)
	for i, a := range lines {
		lines[i] = strings.ToLower(a)
	}
	people, err := v.Read.PeopleByKeys(lines)
	if err != nil {
		return nil, err
	}
	if mailbox == ToGroup && g.Nested == 0 {
		ids := make([]uuid.UUID, 0, len(people))
		for _, p := range people {
			ids = append(ids, p.ID)
		}
		return v.Read.MailAmong(g.ID, store.AsOf{Then: job.AsOf, Now: v.Now()}, ids)
	}
	some := map[string]bool{}
	for _, a := range lines {
		some[a] = true
		if p, known := people[a]; known {
			some[p.AddrKey] = true
		}
	}
	all, err := recipients(v, g, mailbox, job.AsOf)
	return slices.DeleteFunc(all, func(r store.Recipient) bool { return !some[strings.ToLower(r.Address)] }), err
}

// recipients returns who gets a message to a group that was let through at a moment.
func recipients(v *workspace.View, g *store.Group, mailbox Mailbox, then time.Time) ([]store.Recipient, error) {
	if mailbox == ToOwners {
		return named(v.NoticeRecipients(g))
	}
	return member.Recipients(v, g, then)
}

// named are recipients of whom nothing but their address is asked.
func named(addresses []string, err error) ([]store.Recipient, error) {
	out := make([]store.Recipient, len(addresses))
	for i, a := range addresses {
		out[i].Address = a
	}
	return out, err
}

// staleAfter is how long a job goes by who was in the group when it looked.
const staleAfter = 10 * time.Second

// Message reads a copy of the message from its beginning: header and body.
func (j *Job) Message(ctx context.Context, c Copy) io.Reader {
	return io.MultiReader(bytes.NewReader(c.Header), Edited(&bodyReader{ctx: ctx, j: j}, j.edits))
}

// bodyReader reads the rows of a body one after the other; between them it holds nothing.
type bodyReader struct {
	ctx  context.Context
	j    *Job
	row  []byte
	part int
	read int
}

func (r *bodyReader) Read(p []byte) (int, error) {
	if len(r.row) == 0 {
		if r.read == r.j.message.Size {
			return 0, io.EOF
		}
		first := r.j.first.Load()
		if first == nil && r.j.message.ShortBody != nil {
			first = &r.j.message.ShortBody
		}
		if r.part > 0 || first == nil {
			row, err := r.j.s.k.View(r.ctx, workspace.Service).Read.Body(r.j.message.ID, r.part)
			if err != nil {
				return 0, err // also where a row is missing: never a message cut short
			}
			r.row = row
			if r.j.message.Size <= store.BodyRow {
				r.j.first.Store(&row)
			}
		} else {
			r.row = *first
		}
		r.part++
		r.row = r.row[:min(len(r.row), r.j.message.Size-r.read)]
	}
	n := copy(p, r.row)
	r.row, r.read = r.row[n:], r.read+n
	return n, nil
}

// OnLost has a function called when the job turns out to be another worker's by now.
func (j *Job) OnLost(f func()) {
	j.hands.mu.Lock()
	defer j.hands.mu.Unlock()
	if j.lost = f; j.gone {
		f()
	}
}

func (j *Job) change(ctx context.Context, f func(c *workspace.Change) error) error {
	err := j.s.k.Do(ctx, workspace.Service, f)
	if errors.Is(err, store.ErrNotFound) {
		return ErrLost
	}
	return err
}

// Took keeps that the relay took a copy over for recipients, of weight recipients whom it was asked to take: as soon as it has said so, so that
// whoever goes on with the job when this process dies leaves them out. It is safe for several copies of a job at once.
func (j *Job) Took(ctx context.Context, c Copy, to []string, weight int) error {
	now := j.s.k.View(ctx, workspace.Service).Now()
	mark := j.markOf(c.To[0])
	err := errClosed
	if j.gathers() {
		err = j.hands.gather(result{j: j, sent: to, mark: mark, at: now, weight: weight})
	}
	if errors.Is(err, errClosed) {
		err = j.change(ctx, func(c *workspace.Change) error { return j.sent(c, to, mark, now) })
		j.hands.Left(weight)
	}
	if err == nil {
		j.marking.Lock()
		defer j.marking.Unlock()
		if j.taken == nil {
			j.taken = map[string]bool{}
		}
		for _, r := range to {
			j.taken[r] = true
		}
	}
	return err
}

// gathers reports whether what the relay takes is written down a little later, with that of others: nothing else depends on it.
func (j *Job) gathers() bool {
	return j.hands != nil && j.kind == store.KindPost && j.Attempts == 0 && !j.trouble
}

// sent records a transmission.
func (j *Job) sent(c *workspace.Change, to []string, mark int64, at time.Time) error {
	if err := c.Tx.AddTransmission(j.Mailing, j.job.ID, to, mark, at); err != nil {
		return err
	}
	if j.kind == store.KindNotice { // a letter of ours may give notice of an end
		return c.Tx.GiveNotices(j.Mailing, c.Now())
	}
	return nil
}

// Record keeps what became of the first recipients, those that Next returned, and goes on
// after them. Those who were put off are tried again at again. After the last it ends the
// job, and tells the author where anybody was refused.
//
// What hands hold is written down a little later, with that of others, where the relay took all and nothing else depends on it.
func (j *Job) Record(ctx context.Context, results []Result, again time.Time) error {
	rest := j.To[len(results):]
	var sent []string // and not recorded yet
	whole := true
	for _, r := range results {
		if r.Outcome == Sent && !j.taken[r.Recipient] {
			sent = append(sent, r.Recipient)
		}
		whole = whole && r.Outcome == Sent
	}
	if len(results) > 0 && whole && j.gathers() {
		last := j.place(results[len(results)-1].Recipient)
		err := j.hands.gather(result{j: j, sent: sent, mark: j.markOf(results[0].Recipient), at: j.s.k.View(ctx, workspace.Service).Now(), done: last, last: len(rest) == 0})
		if err == nil {
			j.To, j.job.HandedTo = rest, last
		}
		if !errors.Is(err, errClosed) {
			return err
		}
	}
	if j.hands != nil {
		if err := j.hands.written(j); err != nil {
			return err
		}
	}
	var failures []store.Failure
	var later []string
	now := j.s.k.View(ctx, workspace.Service).Now()
	for _, r := range results {
		switch r.Outcome {
		case Sent:
			continue
		case Later:
			later = append(later, r.Recipient)
		}
		failures = append(failures, store.Failure{MailingID: j.Mailing, Recipient: r.Recipient, GivenUp: r.Outcome == GivenUp, Attempts: j.Attempts + 1, At: now, Reply: workspace.Cut(r.Reply, 500)})
	}
	err := j.change(ctx, func(c *workspace.Change) error {
		if len(rest) > 0 {
			if err := c.Tx.JobHandedTo(j.job.ID, j.worker, j.place(results[len(results)-1].Recipient)); err != nil {
				return err
			}
		} else if err := c.Tx.EndJob(j.job.ID, j.worker); err != nil {
			return err
		}
		if len(sent) > 0 {
			if err := j.sent(c, sent, j.markOf(results[0].Recipient), now); err != nil {
				return err
			}
		}
		if len(failures) > 0 {
			if err := c.Tx.AddFailures(failures); err != nil {
				return err
			}
		}
		if len(later) > 0 {
			err := c.Tx.AddJobs([]store.Job{{MailingID: j.Mailing, Recipients: store.Lines(later), AsOf: j.job.AsOf, Attempts: j.Attempts + 1, NextAt: again, Reply: failures[len(failures)-1].Reply}})
			if err != nil {
				return err
			}
		}
		if len(failures) == 0 && j.Attempts == 0 && !j.trouble {
			return nil
		}
		if err := c.Tx.SetTrouble(j.Mailing); err != nil {
			return err
		}
		return j.report(c)
	})
	if err == nil {
		j.To = rest
		if len(results) > 0 {
			j.job.HandedTo = j.place(results[len(results)-1].Recipient)
		}
	}
	return err
}

// End ends a job that has nobody left.
func (j *Job) End(ctx context.Context) error {
	return j.change(ctx, func(c *workspace.Change) error {
		if err := c.Tx.EndJob(j.job.ID, j.worker); err != nil {
			return err
		}
		return c.Tx.SetTrouble(j.Mailing)
	})
}

// PutOff ends an attempt that came to nothing for anybody: it is tried again at again.
func (j *Job) PutOff(ctx context.Context, again time.Time, reply string) error {
	return j.change(ctx, func(c *workspace.Change) error {
		if err := c.Tx.PutOffJob(j.job.ID, j.worker, again, workspace.Cut(reply, 500)); err != nil {
			return err
		}
		return c.Tx.SetTrouble(j.Mailing)
	})
}

// CountJobs returns how many jobs there are.
func (s *Service) CountJobs(ctx context.Context) (int64, error) {
	return s.k.View(ctx, workspace.Service).Read.CountJobs()
}

// keepMail is for how long mail is kept that is done with.
const keepMail = 30 * 24 * time.Hour

// Forget deletes mail that has been done with for long.
func (s *Service) Forget(ctx context.Context) error {
	for more := true; more; {
		err := s.k.Do(ctx, workspace.Service, func(c *workspace.Change) (err error) {
			more, err = c.Tx.ForgetMail(c.Now().Add(-keepMail), 500)
			return err
		})
		if err != nil {
			return err
		}
	}
	return nil
}
