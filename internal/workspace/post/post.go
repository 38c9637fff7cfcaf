// Package post is messages: where an address leads, what is decided about a message, who
// gets it, posts that wait for approval, and handing messages on.
package post

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/texts"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
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
	Group   uuid.UUID // uuid.Nil: of no group
	Name    string    // of the group
	Address string    // of the group, its main one
	Given   string    // by which it was asked for
	Mailbox Mailbox
	Closed  bool        // nobody may write to the group
	Texts   texts.Texts // of the group
}

// Find returns where an address leads. Its error is NotFound for an address of nobody,
// Conflict for a group that takes no mail because it has ended. To somebody unknown, that
// is, who neither signed in nor is a relay that the workspace trusts, a group that they can
// neither find nor write to is not there, and reports can be sent to everything, so that
// nothing tells which groups there are.
func (s *Service) Find(ctx context.Context, a mailaddr.Address, unknown bool) (Destination, error) {
	v := s.k.View(ctx, workspace.Actor{})
	none := workspace.Fail(workspace.NotFound, "There is no group with the address %s.", a)
	mailbox, key := ToGroup, a.Key()
	local, domain, _ := strings.Cut(key, "@")
	for suffix, to := range map[string]Mailbox{mailaddr.OwnersSuffix: ToOwners, mailaddr.RequestSuffix: ToOwners, mailaddr.BouncesSuffix: ToBounces} {
		if l, ok := strings.CutSuffix(local, suffix); ok {
			mailbox, key = to, l+"@"+domain
		}
	}
	domains, err := v.Domains()
	if err != nil {
		return Destination{}, err
	}
	here := slices.Contains(domains, domain)
	g, err := v.Read.GroupByAddress(key)
	switch {
	case err == nil:
	case !errors.Is(err, store.ErrNotFound):
		return Destination{}, err
	case here && (local == "postmaster" || local == "abuse"): // RFC 5321, 4.5.1; RFC 2142, 2 and 5
		return Destination{Name: "Administrators", Address: key, Given: key, Mailbox: ToAdministrators}, nil
	case here && mailbox == ToBounces && unknown:
		return Destination{Address: key, Given: a.String(), Mailbox: ToBounces}, nil
	default:
		v.Hush()
		return Destination{}, none
	}
	d := Destination{Group: g.ID, Name: g.Name, Address: g.Address, Given: a.String(), Mailbox: mailbox, Closed: g.Policy[policy.Post] == policy.Nobody, Texts: g.Mail.Texts}
	hidden := g.Policy[policy.Find] != policy.Anyone
	switch {
	case mailbox == ToBounces:
		return d, nil
	case hidden && unknown && asked(&g, mailbox) != policy.Anyone:
		v.Hush()
		return Destination{}, none
	case hidden && !unknown:
		return d, nil // whether they are told that it has ended is decided with the author
	}
	return d, TakesMail(v, &g)
}

// Domains returns the mail domains of the workspace.
func (s *Service) Domains(ctx context.Context) ([]string, error) {
	return s.k.View(ctx, workspace.Actor{}).Domains()
}

// asked is who may write to a mailbox of a group.
func asked(g *store.Group, m Mailbox) policy.Audience {
	return g.Policy[m.Question()]
}

// TakesMail is the error for a group that takes no mail, since its life is over.
func TakesMail(v *workspace.View, g *store.Group) error {
	e, err := v.Expiry()
	if err != nil {
		return err
	}
	return Takes(e, v, g)
}

// Takes is TakesMail where the expiry policy is known.
func Takes(e workspace.Expiry, v *workspace.View, g *store.Group) error {
	switch e.Policy.State(g.Life(), v.Now()) {
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

// Check is the error that a message by author to a destination would be answered with: nil
// where it would be taken, or held; NotFound, Conflict, or a *[Refused].
func (s *Service) Check(ctx context.Context, d Destination, author mailaddr.Address, proven bool) error {
	if d.Group == uuid.Nil {
		return nil
	}
	v := s.k.View(ctx, workspace.Actor{})
	g, err := v.Read.Group(d.Group)
	if err != nil {
		return err
	}
	_, _, err = weigh(v, &g, d, author, proven, false)
	return err
}

// weigh decides about a message. Whoever can't find the group and may not write to it is
// told that it is not there.
func weigh(v *workspace.View, g *store.Group, d Destination, author mailaddr.Address, proven, automatic bool) (policy.Decision, store.Person, error) {
	decision, p, err := decide(v, g, d.Mailbox, author, proven, automatic)
	if err != nil {
		return decision, p, err
	}
	no := TakesMail(v, g)
	if no == nil && decision.Outcome == policy.Refuse {
		no = &Refused{g.Address, decision, g.Mail.Notice}
	}
	rung := decision.Author().Rung
	if !proven && g.Policy[policy.Find] < policy.Workspace {
		rung = policy.Anyone // anybody can claim to be in it
	}
	if no != nil && !g.Policy[policy.Find].Includes(rung) {
		v.Hush()
		no = workspace.Fail(workspace.NotFound, "There is no group with the address %s.", d.Given)
	}
	return decision, p, no
}

// decide asks the core about a message, and returns its author where they are known.
func decide(v *workspace.View, g *store.Group, mailbox Mailbox, author mailaddr.Address, proven, automatic bool) (policy.Decision, store.Person, error) {
	p, err := v.Read.PersonByKey(author.Key())
	known := err == nil && p.Active
	if err != nil && !errors.Is(err, store.ErrNotFound) {
		return policy.Decision{}, p, err
	}
	domains, err := v.Domains()
	if err != nil {
		return policy.Decision{}, p, err
	}
	key := author.Key()
	if p.ID != uuid.Nil {
		key = p.AddrKey // what is settled about somebody holds under an address of before, too
	}
	o, err := v.Read.Holds(g.ID, key)
	if err != nil {
		return policy.Decision{}, p, err
	}
	who := policy.Author{Rung: policy.Anyone, Workspace: slices.Contains(domains, author.Domain()), Proven: proven, Automatic: automatic, Override: o}
	if known {
		r, err := v.RelationOf(p, g)
		if err != nil {
			return policy.Decision{}, p, err
		}
		who.Rung = r.Rung
		if m, err := v.Read.Membership(g.ID, p.ID); err == nil {
			if who.Newcomer = g.Policy[policy.Holding] == policy.HoldNewcomers && Newcomer(v.Now(), m.AddedAt); who.Newcomer {
				seasoned, err := Seasoned(v, g, p.ID)
				if err != nil {
					return policy.Decision{}, p, err
				}
				who.Newcomer = !seasoned[p.ID]
			}
		}
	}
	return g.Policy.Write(mailbox.Question(), who), p, nil
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
