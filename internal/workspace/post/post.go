// Package post is messages: where an address leads, what is decided about a message, who
// gets it, posts that wait for approval, and handing messages on.
package post

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/texts"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Service is messages.
type Service struct {
	k      *workspace.Kernel
	asks   asks
	intake intake
	flow   flow
	hands  atomic.Pointer[Hands] // of this process; nil: none work
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
	ToReturned               // the sender of an envelope of ours: of no group
)

// Destination is where a message goes.
type Destination struct {
	Group   uuid.UUID // uuid.Nil: of no group
	Name    string    // of the group
	Address string    // of the group, its main one
	Given   string    // by which it was asked for
	Mailbox Mailbox
	Closed  bool        // nobody may write to the group
	Domains []string    // of the workspace, the main one first
	Texts   texts.Texts // of the group

	returned struct { // what came back is about
		mailing uuid.UUID
		mark    int64
	}
}

// Find returns where an address leads. Its error is NotFound for an address of nobody,
// Conflict for a group that takes no mail because it has ended. To somebody unknown, that
// is, who neither signed in nor is a relay that the workspace trusts, a group that they can
// neither find nor write to is not there, and reports can be sent to everything, so that
// nothing tells which groups there are.
func (s *Service) Find(ctx context.Context, a mailaddr.Address, unknown bool) (Destination, error) {
	ctx, outcome := workspace.Watched(ctx)
	d, err := find(s.k.View(ctx, workspace.Actor{}), a, unknown)
	return d, outcome(err)
}

// FindFor is Find for somebody who signed in to send, who is told at once what the rules say: its error is also what a
// message by them would be answered with, such as a *[Refused].
func (s *Service) FindFor(ctx context.Context, a mailaddr.Address, by workspace.Actor) (Destination, error) {
	ctx, outcome := workspace.Watched(ctx)
	d, err := findFor(s.k.View(ctx, workspace.Actor{}), a, by)
	return d, outcome(err)
}

func findFor(v *workspace.View, a mailaddr.Address, by workspace.Actor) (Destination, error) {
	self, err := mailaddr.Parse(by.Person.Address)
	if err != nil {
		return Destination{}, err
	}
	mailbox, key := mailboxOf(a)
	g, at, err := v.Asked(key, self.Key())
	if errors.Is(err, store.ErrNotFound) {
		return astray(v, a, false) // by the same clock, which what is hidden goes by, too
	} else if err != nil {
		return Destination{}, err
	}
	d, err := lead(v, a, mailbox, &g, false)
	if err != nil || mailbox == ToBounces {
		return d, err
	}
	_, err = weigh(v, &g, d, self, true, false, at)
	return d, err
}

// mailboxOf returns which of a group's addresses one is, and the key of the group's.
func mailboxOf(a mailaddr.Address) (Mailbox, string) {
	mailbox, key := ToGroup, a.Key()
	local, domain, _ := strings.Cut(key, "@")
	for suffix, to := range map[string]Mailbox{mailaddr.OwnersSuffix: ToOwners, mailaddr.RequestSuffix: ToOwners, mailaddr.BouncesSuffix: ToBounces} {
		if l, ok := strings.CutSuffix(local, suffix); ok {
			mailbox, key = to, l+"@"+domain
		}
	}
	return mailbox, key
}

func find(v *workspace.View, a mailaddr.Address, unknown bool) (Destination, error) {
	mailbox, key := mailboxOf(a)
	g, err := v.AskedLately(key)
	if errors.Is(err, store.ErrNotFound) {
		return astray(v, a, unknown)
	} else if err != nil {
		return Destination{}, err
	}
	return lead(v, a, mailbox, &g, unknown)
}

// astray returns where an address leads that is of no group.
func astray(v *workspace.View, a mailaddr.Address, unknown bool) (Destination, error) {
	mailbox, _ := mailboxOf(a)
	local, domain, _ := strings.Cut(a.Key(), "@")
	domains, err := v.Domains()
	if err != nil {
		return Destination{}, err
	}
	key, here := a.Key(), slices.Contains(domains, domain)
	switch {
	case here && (local == "postmaster" || local == "abuse"): // RFC 5321, 4.5.1; RFC 2142, 2 and 5
		return Destination{Name: "Administrators", Address: key, Given: key, Mailbox: ToAdministrators, Domains: domains}, nil
	case here && strings.HasPrefix(local, backTo):
		if mailing, mark, ok := readMark(a); ok { // whether there is such a delivery is not told
			d := Destination{Address: key, Given: a.String(), Mailbox: ToReturned, Domains: domains}
			d.returned.mailing, d.returned.mark = mailing, mark
			return d, nil
		}
	case here && mailbox == ToBounces && unknown:
		return Destination{Address: key, Given: a.String(), Mailbox: ToBounces, Domains: domains}, nil
	}
	v.Hush()
	return Destination{}, workspace.Fail(workspace.NotFound, "There is no group with the address %s.", a)
}

// lead returns where an address of a group leads.
func lead(v *workspace.View, a mailaddr.Address, mailbox Mailbox, g *store.Group, unknown bool) (Destination, error) {
	domains, err := v.Domains()
	if err != nil {
		return Destination{}, err
	}
	d := Destination{Domains: domains, Group: g.ID, Name: g.Name, Address: g.Address, Given: a.String(), Mailbox: mailbox, Closed: g.Policy[policy.Post] == policy.Nobody, Texts: g.Mail.Texts}
	hidden := g.Policy[policy.Find] != policy.Anyone
	switch {
	case mailbox == ToBounces:
		return d, nil
	case hidden && unknown && asked(g, mailbox) != policy.Anyone:
		v.Hush()
		return Destination{}, workspace.Fail(workspace.NotFound, "There is no group with the address %s.", a)
	case hidden && !unknown:
		return d, nil // whether they are told that it has ended is decided with the author
	}
	return d, TakesMail(v, g)
}

// asked is who may write to a mailbox of a group.
func asked(g *store.Group, m Mailbox) policy.Audience {
	return g.Policy[m.Question()]
}

// TakesMail is the error for a group that takes no mail, since its life is over.
func TakesMail(v *workspace.View, g *store.Group) error {
	switch g.Life().State(v.Now()) {
	case lifecycle.Lapsed:
		if g.EndedAt == nil { // its end may move, where nobody was told of it
			return workspace.Later(60, "The time of %s has run out. Try again later.", g.Address)
		}
		return workspace.Fail(workspace.Conflict, "The group %s has lapsed and takes no mail. Its owners or an administrator can restore it.", g.Address)
	case lifecycle.Retired:
		return workspace.Fail(workspace.Conflict, "The group %s was retired and takes no mail. Its owners or an administrator can restore it.", g.Address)
	}
	return nil
}

// weigh decides about a message. Who neither can find the group, nor is one of those who may write to it, nor in it is told that it is not
// there.
func weigh(v *workspace.View, g *store.Group, d Destination, author mailaddr.Address, proven, automatic bool, at store.Standing) (policy.Decision, error) {
	decision, err := decide(v, g, d.Mailbox, author, proven, automatic, at)
	if err != nil {
		return decision, err
	}
	no := TakesMail(v, g)
	if no == nil && decision.Outcome == policy.Refuse {
		no = &Refused{g.Address, decision, g.Mail.Notice}
	}
	rung := decision.Author().Rung
	if !proven && g.Policy[policy.Find] < policy.Workspace {
		rung = policy.Anyone // anybody can claim to be in it
	}
	knows := g.Policy[policy.Find].Includes(rung) || asked(g, d.Mailbox).Includes(rung) || proven && at.Role != 0
	if no != nil && !knows {
		v.Hush()
		no = workspace.Fail(workspace.NotFound, "There is no group with the address %s.", d.Given)
	}
	return decision, no
}

// decide asks the core about a message by an author who stands so with a group.
func decide(v *workspace.View, g *store.Group, mailbox Mailbox, author mailaddr.Address, proven, automatic bool, at store.Standing) (policy.Decision, error) {
	domains, err := v.Domains()
	if err != nil {
		return policy.Decision{}, err
	}
	p := at.Person
	who := policy.Author{Rung: policy.Anyone, Workspace: slices.Contains(domains, author.Domain()), Proven: proven, Automatic: automatic, Override: at.Override}
	if p.ID != uuid.Nil && p.Active {
		inside := false
		if at.Role == 0 {
			if inside, err = v.Inside(p, g); err != nil {
				return policy.Decision{}, err
			}
		}
		who.Rung = access.RelationOf(at.Role, inside, p.External).Rung
		if who.Newcomer = at.Role != 0 && g.Policy[policy.Holding] == policy.HoldNewcomers && Newcomer(v.Now(), at.AddedAt); who.Newcomer {
			seasoned, err := Seasoned(v, g, p.ID)
			if err != nil {
				return policy.Decision{}, err
			}
			who.Newcomer = !seasoned[p.ID]
		}
	}
	return g.Policy.Write(mailbox.Question(), who), nil
}

// Newcomer reports whether a member who was added at a time is new in a group.
func Newcomer(now, added time.Time) bool {
	return now.Sub(added) < policy.NewcomerDays*24*time.Hour
}

// Question is who may write to a mailbox.
func (m Mailbox) Question() policy.Setting {
	if m == ToOwners {
		return policy.WriteOwners
	}
	return policy.Post
}

// Refused says that the rules refuse a message.
type Refused struct {
	Address  string // of the group
	Decision policy.Decision
	Notice   string // of the group, to those who write
}

func (r *Refused) Error() string {
	out := fmt.Sprintf("%s does not take this message. %s", r.Address, r.Decision.Says())
	if r.Notice != "" {
		out += " " + r.Notice
	}
	return out
}
