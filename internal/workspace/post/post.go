// Package post is messages: where an address leads, what is decided about a message, who
// gets it, posts that wait for approval, and handing messages on.
package post

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
	"ivytable.example/ivytable/internal/workspace/member"
)

// Service is messages.
type Service struct {
	k    *workspace.Kernel
	mark struct { // of messages that groups pass on
		mu  sync.Mutex
		key []byte
	}
}

// New returns the service of a workspace.
func New(k *workspace.Kernel) *Service { return &Service{k: k} }

// Mailbox is which of a group's addresses a message was sent to.
type Mailbox int8

// The mailboxes.
const (
	ToGroup          Mailbox = iota
	ToOwners                 // LOCAL-owners@DOMAIN, LOCAL-request@DOMAIN
	ToBounces                // LOCAL-bounces@DOMAIN
	ToAdministrators         // postmaster@DOMAIN, abuse@DOMAIN: of no group
)

// Destination is where a message goes.
type Destination struct {
	Group   uuid.UUID
	Name    string // of the group
	Address string // of the group, its main one
	Mailbox Mailbox
	Closed  bool // nobody may write to the group
}

// Find returns where an address leads. Its error is NotFound for an address of nobody,
// Conflict for a group that takes no mail because it has ended.
func (s *Service) Find(ctx context.Context, a mailaddr.Address) (Destination, error) {
	v := s.k.View(ctx, workspace.Actor{})
	mailbox, key := ToGroup, a.Key()
	local, domain, _ := strings.Cut(key, "@")
	for suffix, to := range map[string]Mailbox{mailaddr.OwnersSuffix: ToOwners, mailaddr.RequestSuffix: ToOwners, mailaddr.BouncesSuffix: ToBounces} {
		if l, ok := strings.CutSuffix(local, suffix); ok {
			mailbox, key = to, l+"@"+domain
		}
	}
	g, err := v.Read.GroupByAddress(key)
	if errors.Is(err, store.ErrNotFound) {
		if here, err := ofAdministrators(v, local, domain); here || err != nil {
			return Destination{Name: "Administrators", Address: key, Mailbox: ToAdministrators}, err
		}
		return Destination{}, workspace.Fail(workspace.NotFound, "There is no group with the address %s.", a)
	}
	if err != nil {
		return Destination{}, err
	}
	d := Destination{Group: g.ID, Name: g.Name, Address: g.Address, Mailbox: mailbox, Closed: g.Policy[policy.Post] == policy.Nobody}
	if mailbox == ToBounces {
		return d, nil
	}
	return d, takesMail(v, &g)
}

// ofAdministrators reports whether an address is one at which the people answer who run the
// mail of a domain (RFC 5321, 4.5.1; RFC 2142, 2 and 5).
func ofAdministrators(v *workspace.View, local, domain string) (bool, error) {
	if local != "postmaster" && local != "abuse" {
		return false, nil
	}
	domains, err := v.Domains()
	return slices.Contains(domains, domain), err
}

func takesMail(v *workspace.View, g *store.Group) error {
	e, err := v.Expiry()
	if err != nil {
		return err
	}
	switch e.Policy.State(g.Life(), v.Now()) {
	case lifecycle.Lapsed:
		return workspace.Fail(workspace.Conflict, "The group %s has lapsed and takes no mail. Its owners or an administrator can restore it.", g.Address)
	case lifecycle.Retired:
		return workspace.Fail(workspace.Conflict, "The group %s was retired and takes no mail. Its owners or an administrator can restore it.", g.Address)
	}
	return nil
}

// Decide says what would become of a message by author to a destination.
func (s *Service) Decide(ctx context.Context, d Destination, author mailaddr.Address, proven bool) (policy.Decision, error) {
	v := s.k.View(ctx, workspace.Actor{})
	if d.Mailbox == ToAdministrators {
		return policy.Decision{Outcome: policy.Allow}, nil
	}
	g, err := v.Read.Group(d.Group)
	if err != nil {
		return policy.Decision{}, err
	}
	decision, _, err := decide(v, &g, d.Mailbox, author, proven)
	return decision, err
}

// decide asks the core about a message, and returns its author where they are known.
func decide(v *workspace.View, g *store.Group, mailbox Mailbox, author mailaddr.Address, proven bool) (policy.Decision, store.Person, error) {
	p, err := v.Read.PersonByKey(author.Key())
	known := err == nil && p.Active
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return policy.Decision{}, p, err
	}
	domains, err := v.Domains()
	if err != nil {
		return policy.Decision{}, p, err
	}
	o, err := v.Read.Override(g.ID, author.Key())
	if err != nil {
		return policy.Decision{}, p, err
	}
	who := policy.Author{Rung: policy.Anyone, Workspace: slices.Contains(domains, author.Domain()), Proven: proven, Override: o.Kind}
	if known {
		r, err := v.RelationOf(p, g)
		if err != nil {
			return policy.Decision{}, p, err
		}
		who.Rung = r.Rung
		if m, err := v.Read.Membership(g.ID, p.ID); err == nil {
			who.Newcomer = v.Now().Sub(m.AddedAt) < policy.NewcomerDays*24*time.Hour
		}
	}
	rules := g.Policy
	if mailbox == ToOwners { // the same rules, asked about writing to the owners
		rules[policy.Post] = rules[policy.WriteOwners]
	}
	return rules.Post(who), p, nil
}

// recipients returns who gets a message to a group, each address once.
func recipients(v *workspace.View, g *store.Group, mailbox Mailbox) ([]string, error) {
	if mailbox == ToOwners {
		return v.NoticeRecipients(g)
	}
	entries, err := member.Effective(v, g)
	return addresses(entries), err
}

// addresses returns where mail to some people goes.
func addresses(entries []expand.Entry[uuid.UUID]) (out []string) {
	for _, e := range entries {
		if e.Mail {
			out = append(out, e.Address)
		}
	}
	return out
}

// Incoming is a message that arrived for a destination. Raw is what would go out.
type Incoming struct {
	To        Destination
	Author    mailaddr.Address
	Proven    bool
	MessageID string
	Subject   string
	Raw       []byte
	Sender    string // of the envelope on the way out
}

// Refused says that the rules refuse a message.
type Refused struct {
	Address  string // of the group
	Decision policy.Decision
}

func (r *Refused) Error() string {
	return fmt.Sprintf("%s does not take this message. %s", r.Address, r.Decision.Says())
}

// errChanged says that a group changed while a message to it was decided about.
var errChanged = errors.New("a group changed meanwhile")

// maxTries is how often a message is decided about again because its group changed.
const maxTries = 10

// Accept decides about messages that arrived together and records them, their decisions
// and their deliveries in one transaction. When the rules refuse one, nothing is recorded
// and the error is a *[Refused].
//
// It takes no locks. What was decided holds for the versions of the groups that were read;
// where one is another by the end of the transaction, all is decided again.
func (s *Service) Accept(ctx context.Context, in []Incoming) error {
	for try := 1; ; try++ {
		err := s.accept(ctx, in)
		if !errors.Is(err, errChanged) || try == maxTries {
			return err
		}
	}
}

func (s *Service) accept(ctx context.Context, in []Incoming) error {
	v := s.k.View(ctx, workspace.Actor{Via: "smtp"})
	messages, to := make([]store.Message, len(in)), make([][]string, len(in))
	read := map[uuid.UUID]store.GroupVersion{}
	for i, x := range in {
		if x.To.Mailbox == ToAdministrators {
			var err error
			if messages[i], to[i], err = forAdministrators(v, x); err != nil {
				return err
			}
			continue
		}
		g, err := v.Read.Group(x.To.Group)
		if errors.Is(err, store.ErrNotFound) {
			return workspace.Fail(workspace.Conflict, "The group %s is gone.", x.To.Address)
		} else if err != nil {
			return err
		}
		read[g.ID] = store.GroupVersion{ID: g.ID, Version: g.Version, Revision: g.Revision}
		if messages[i], to[i], err = judge(v, &g, x); err != nil {
			return err
		}
	}
	return s.k.Do(ctx, workspace.Actor{Via: "smtp"}, func(c *workspace.Change) error {
		if err := c.Tx.AddMessages(messages, to); err != nil {
			return err
		}
		c.MailQueued()
		now, err := c.Read.GroupVersions(read)
		if err == nil && !now {
			err = errChanged
		}
		return err
	})
}

// message is a message as it is kept.
func message(v *workspace.View, x Incoming) store.Message {
	return store.Message{ID: store.NewID(), Kind: store.KindPost, State: store.Accepted, Part: int8(x.To.Mailbox), MessageID: x.MessageID, Sender: x.Sender,
		Author: x.Author.String(), Proven: x.Proven, Subject: workspace.Cut(x.Subject, 900), Size: len(x.Raw), Raw: x.Raw, Decision: json.RawMessage("{}"), ReceivedAt: v.Now()}
}

// forAdministrators passes a message on to the administrators: from anybody, since reports
// come from anywhere.
func forAdministrators(v *workspace.View, x Incoming) (store.Message, []string, error) {
	to, err := v.Read.Administrators()
	return message(v, x), to, err
}

// judge decides about one message, and says how it is kept and who gets it.
func judge(v *workspace.View, g *store.Group, x Incoming) (m store.Message, to []string, err error) {
	m = message(v, x)
	m.GroupID = &g.ID
	if x.To.Mailbox == ToBounces {
		m.Kind = store.KindBounce
		return m, nil, nil
	}
	if err := takesMail(v, g); err != nil {
		return m, nil, err
	}
	d, p, err := decide(v, g, x.To.Mailbox, x.Author, x.Proven)
	if err != nil {
		return m, nil, err
	}
	if d.Outcome == policy.Refuse {
		return m, nil, &Refused{g.Address, d}
	}
	if p.ID != uuid.Nil {
		m.AuthorID = &p.ID
	}
	if m.Decision, err = json.Marshal(stored(d)); err != nil {
		return m, nil, err
	}
	if d.Outcome == policy.Hold {
		m.State = store.Waiting
		return m, nil, nil
	}
	to, err = recipients(v, g, x.To.Mailbox)
	return m, to, err
}

// stored is a decision as it is kept with its message.
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
