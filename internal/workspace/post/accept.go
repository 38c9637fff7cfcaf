package post

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/event"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/returned"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Arrived is a message that came in: what is the same for every destination.
type Arrived struct {
	MessageID  string
	Author     mailaddr.Address
	Proven     bool
	Automatic  bool   // written by no person (RFC 3834)
	Listed     bool   // it came through a list, or is one of many
	ReturnPath string // of the envelope
	Subject    string
	Header     []byte // without the empty line after it
	Body       io.ReaderAt
	Size       int // of the body
	EightBit   bool
	Thread     []byte // of the conversation that it is in (RFC 5322, 3.6.4)
	To         []Incoming

	Report returned.Report // what it says of deliveries, where it came back to us

	Speaking Speaking         // in whose name it is written
	Writer   mailaddr.Address // and by whom, where that is a group's
	By       workspace.Actor  // who signed in, where that is a group's
}

// Incoming is where a message goes, and what it is given on the way.
type Incoming struct {
	To     Destination
	Fields []byte // that go before the header
	Sender string // of the envelope on the way out
	Edits  []Edit // of the body on the way out, in order
}

// Edit is something that is put into a body, in place of so many octets there.
type Edit struct {
	At   int64  `json:"at"`
	Drop int64  `json:"drop,omitempty"`
	Put  []byte `json:"put"`
}

// Bounds of what is kept for a group.
const (
	maxHeld       = 500       // posts that wait for approval
	maxHeldOctets = 256 << 20 // of these
	maxBounces    = 50        // reports that came back; those before are forgotten
	maxReport     = 32 << 10  // octets that are kept of one
)

// errChanged says that a group changed while a message to it was decided about.
var errChanged = errors.New("a group changed meanwhile")

// maxTries is how often a message is decided about again because its group changed.
const maxTries = 10

// Wrote reports whether the author of a message is who signed in to send it, by the address that
// they have or one that they had before.
func (s *Service) Wrote(ctx context.Context, by workspace.Actor, author mailaddr.Address) (bool, error) {
	if by.SignedIn() != nil || by.Person.AddrKey == author.Key() {
		return by.SignedIn() == nil, nil
	}
	p, err := s.k.View(ctx, by).Read.PersonByKey(author.Key())
	if errors.Is(err, store.ErrNotFound) {
		return false, nil
	}
	return err == nil && p.ID == by.Person.ID, err
}

// Accept decides about a message and records it, the decisions and what is to be done in
// one transaction. When the rules of one destination refuse it, nothing is recorded and the
// error is a *[Refused].
//
// It takes no locks. What was decided holds for the versions of the groups that were read;
// where one is another by the end of the transaction, all is decided again.
func (s *Service) Accept(ctx context.Context, m Arrived) error {
	for try := 1; ; try++ {
		err := s.accept(ctx, m, try == 1)
		if !errors.Is(err, errChanged) || try == maxTries {
			return err
		}
	}
}

func (s *Service) accept(ctx context.Context, a Arrived, first bool) error {
	ctx, outcome := workspace.Watched(ctx)
	v := s.k.View(ctx, workspace.Actor{Via: "smtp"})
	p, err := s.decideAll(v, a)
	if err = outcome(err); err != nil {
		return err
	}
	if first {
		if err := s.flow.take(v, p); err != nil {
			return err
		}
	}
	for _, to := range p.returned {
		if a.ReturnPath != "" { // no report (RFC 5321, 4.5.5)
			break
		}
		if err := s.noteReturned(ctx, to, a.Report); err != nil {
			return err
		}
	}
	if len(p.mail.Mailings) == 0 {
		return nil
	}
	if p.plain() {
		return s.intake.take(ctx, s, p)
	}
	return s.k.Do(ctx, workspace.Actor{Person: a.By.Person, Via: "smtp"}, func(c *workspace.Change) error {
		if err := record(c, p); err != nil {
			return err
		}
		c.MailQueued()
		if err := spoken(c, a); err != nil {
			return err
		}
		for _, g := range p.reports {
			if err := c.Tx.ForgetBounces(g, maxBounces); err != nil {
				return err
			}
		}
		for _, m := range p.mail.Mailings {
			if m.Kind != store.KindPost || m.GroupID == nil {
				continue
			}
			g, told := p.groups[*m.GroupID], false
			text, err := answer(c, &g, a, m)
			if err != nil {
				return err
			}
			if m.State == store.Waiting {
				if told, err = tellAuthor(c, &g, a, m, text); err != nil {
					return err
				}
			}
			if text != "" && !told {
				if err := sendAnswer(c, &g, a, text); err != nil {
					return err
				}
			}
		}
		return unchanged(c, p)
	})
}

// decided is a message with what was decided about it, which holds for the groups as they were read.
type decided struct {
	a        Arrived
	mail     store.NewMail
	groups   map[uuid.UUID]store.Group
	to       []flowTo      // that are counted
	reports  []uuid.UUID   // groups to which something came back
	returned []Destination // deliveries of which something came back
	aliases  []string      // that it was sent to
}

// plain reports whether nothing but the message is to be recorded, so that it can be with others.
func (p *decided) plain() bool {
	if p.a.Speaking.Group != uuid.Nil || len(p.reports) > 0 || p.mail.Message.Size > maxTogether {
		return false
	}
	for _, m := range p.mail.Mailings {
		if m.State == store.Waiting || m.GroupID != nil && p.groups[*m.GroupID].Mail.Answer != "" {
			return false
		}
	}
	return true
}

// asks reports whether the policy of a group decides about mail to a destination.
func (d Destination) asks() bool {
	return d.Group != uuid.Nil && (d.Mailbox == ToGroup || d.Mailbox == ToOwners)
}

// decideAll decides about a message to all that it was sent to.
func (s *Service) decideAll(v *workspace.View, a Arrived) (*decided, error) {
	p := &decided{a: a, groups: map[uuid.UUID]store.Group{}, mail: store.NewMail{Body: a.Body, Message: store.Message{ID: store.NewID(), MessageID: a.MessageID, Author: a.Author.String(), Proven: a.Proven, ReturnPath: a.ReturnPath,
		Subject: workspace.Cut(a.Subject, 900), Header: a.Header, Size: a.Size, EightBit: a.EightBit, Thread: a.Thread, ReceivedAt: v.Now()}}}
	mail := &p.mail
	var questions []store.Question
	for _, x := range a.To {
		if x.To.asks() {
			questions = append(questions, store.Question{Group: x.To.Group, Author: a.writer().Key()})
		}
	}
	answers, err := s.asks.ask(v.Ctx, s.k, questions)
	if err != nil {
		return nil, err
	}
	for _, x := range a.To {
		m := store.Mailing{ID: store.NewID(), MessageID: mail.Message.ID, Kind: store.KindPost, State: store.Accepted, Mailbox: int8(x.To.Mailbox), Sender: x.Sender,
			Fields: x.Fields, Edits: encode(x.Edits), Decision: json.RawMessage("{}"), ReceivedAt: v.Now()}
		switch {
		case x.To.Mailbox == ToReturned:
			p.returned = append(p.returned, x.To)
			continue
		case x.To.Mailbox == ToBounces && x.To.Group == uuid.Nil:
			continue // for nobody
		case x.To.Mailbox == ToBounces:
			m.Kind, m.GroupID = store.KindBounce, &x.To.Group
			p.reports = append(p.reports, x.To.Group)
		case x.To.asks():
			asked := answers[0]
			answers = answers[1:]
			g, at := asked.Group, asked.Author
			if g.ID == uuid.Nil {
				return nil, workspace.Fail(workspace.Conflict, "The group %s is gone.", x.To.Address)
			}
			v.Told(asked)
			p.groups[g.ID] = g
			p.to = append(p.to, flowTo{g.ID, a.Proven && at.Person.ID != uuid.Nil})
			if a, err := mailaddr.Parse(x.To.Address); err == nil && a.Key() != g.AddrKey {
				p.aliases = append(p.aliases, a.Key())
			}
			if err := judge(v, &g, a, at, x.To, &m); err != nil {
				return nil, err
			}
			if author := at.Person; author.ID != uuid.Nil {
				mail.Message.AuthorID = &author.ID
			}
		default:
			p.to = append(p.to, flowTo{uuid.Nil, a.Proven})
		}
		mail.Mailings = append(mail.Mailings, m)
		if m.Kind == store.KindPost && m.State == store.Accepted {
			mail.Jobs = append(mail.Jobs, job(m.ID, v.Now()))
		}
	}
	if len(p.reports) == len(mail.Mailings) { // nothing else: a report is not kept whole
		mail.Message.Header = cutLines(mail.Message.Header, maxReport)
		mail.Message.Size = min(mail.Message.Size, maxReport)
	}
	return p, nil
}

// record writes messages down, with what is to be done about them.
func record(c *workspace.Change, all ...*decided) error {
	mail := make([]store.NewMail, len(all))
	var aliases []string
	for i, p := range all {
		mail[i] = p.mail
		aliases = append(aliases, p.aliases...)
	}
	if err := c.Tx.AddMail(mail...); err != nil {
		return err
	}
	return c.Tx.NoteUse(aliases, c.Now())
}

// unchanged is nil where the groups are as they were when it was decided about messages to them, errChanged else.
func unchanged(c *workspace.Change, all ...*decided) error {
	versions := map[uuid.UUID]store.GroupVersion{}
	for _, p := range all {
		for _, g := range p.groups {
			is := store.GroupVersion{ID: g.ID, Version: g.Version, Revision: g.Revision}
			if was, there := versions[g.ID]; there && was != is {
				return errChanged
			}
			versions[g.ID] = is
		}
	}
	now, err := c.Read.GroupVersions(versions)
	if err == nil && !now {
		err = errChanged
	}
	return err
}

// spoken records that somebody wrote in the name of a group.
func spoken(c *workspace.Change, a Arrived) error {
	if a.Speaking.Group == uuid.Nil {
		return nil
	}
	g, err := c.Read.Group(a.Speaking.Group)
	if err != nil {
		return err
	}
	fact := event.Spoken{Subject: workspace.Cut(a.Subject, 200), As: a.Speaking.As}
	for _, x := range a.To {
		fact.To = append(fact.To, x.To.Address)
	}
	return c.Record(fact, &g, store.Affected{PersonID: a.By.Person.ID})
}

// cutLines returns the lines of a header that are whole within so many octets.
func cutLines(header []byte, most int) []byte {
	if len(header) <= most {
		return header
	}
	return header[:strings.LastIndex(string(header[:most]), "\r\n")+2]
}

// job is what is to be done about a mailing that was let through at a moment.
func job(mailing uuid.UUID, now time.Time) store.Job {
	return store.Job{MailingID: mailing, AsOf: now, NextAt: time.Now().UTC()}
}

// judge decides about a message to a group by an author who stands so with it, and says on its mailing what becomes of it.
func judge(v *workspace.View, g *store.Group, a Arrived, at store.Standing, to Destination, m *store.Mailing) error {
	m.GroupID = &g.ID
	d, err := weigh(v, g, to, a.writer(), a.Proven, a.Automatic, at)
	if err != nil {
		return err
	}
	if m.Decision, err = json.Marshal(stored(d)); err != nil {
		return err
	}
	if d.Outcome != policy.Hold {
		return nil
	}
	m.State = store.Waiting
	posts, octets, err := v.Read.Held(g.ID)
	if err != nil {
		return err
	}
	if posts >= maxHeld || octets+int64(a.Size) > maxHeldOctets {
		return workspace.Later(3600, "So many messages to %s wait for approval that no more are taken. Try again later.", g.Address)
	}
	return nil
}

// stored is a decision as it is kept with its mailing.
func stored(d policy.Decision) store.Decision {
	out := store.Decision{Outcome: d.Outcome.String(), Rule: d.RuleName(), Reasons: []store.Reason{}}
	for _, r := range d.Reasons() {
		reason := store.Reason{Rule: r.Rule, Says: r.Says}
		if r.Mend != "" {
			reason.Mend = &r.Mend
		}
		out.Reasons = append(out.Reasons, reason)
	}
	return out
}
