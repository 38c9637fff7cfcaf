package post

import (
	"context"
	"errors"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/access"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/store"
	"ivytable.example/ivytable/internal/workspace"
)

// Speaking is in whose name somebody writes: that of a group, whose address is the author.
type Speaking struct {
	Group   uuid.UUID // uuid.Nil: in their own
	Address string    // of the group, as it was given
	As      bool      // the group alone is named; else whoever writes is named as the sender (RFC 5322, 3.6.2)
}

// Speak returns in whose name somebody who signed in writes, where the author of their message is not
// themselves: a group's that lets them write as it, or, named as the sender, for it. named says that they
// name themselves already. The error is NotAllowed where the group lets them do neither; an address of no
// group that they can find is for nobody to speak for.
func (s *Service) Speak(ctx context.Context, by workspace.Actor, author mailaddr.Address, named bool) (Speaking, error) {
	v := s.k.View(ctx, by)
	if by.SignedIn() != nil {
		return Speaking{}, nil
	}
	g, err := v.Read.GroupByAddress(author.Key())
	if errors.Is(err, store.ErrNotFound) {
		v.Hush() // as for a group that they can't find
		return Speaking{}, nil
	} else if err != nil {
		return Speaking{}, err
	}
	r, err := v.RelationOf(by.Person, &g)
	if err != nil {
		return Speaking{}, err
	}
	if !v.May(access.ReadGroup, &workspace.Group{Group: g, Relation: r}) {
		v.Hush()
		return Speaking{}, nil
	}
	if err := TakesMail(v, &g); err != nil {
		return Speaking{}, err
	}
	as, under := g.Policy.Allows(policy.SpeakAs, r.Rung), g.Policy.Allows(policy.SpeakFor, r.Rung)
	switch {
	case as.Outcome == policy.Allow:
		return Speaking{g.ID, author.String(), !named}, nil
	case under.Outcome == policy.Allow:
		return Speaking{g.ID, author.String(), false}, nil
	}
	return Speaking{}, workspace.Fail(workspace.NotAllowed, "You may not write in the name of %s. %s %s", author, as.Told().Reasons[0].Says, under.Told().Reasons[0].Says)
}

// writer is who wrote a message: its author, or who speaks for that.
func (a Arrived) writer() mailaddr.Address {
	if a.Speaking.Group != uuid.Nil {
		return a.Writer
	}
	return a.Author
}

// writerOf is the address of who wrote a message: of its author, or, where that is a group, of who spoke for
// it.
func writerOf(v *workspace.View, x store.Message) (string, error) {
	if x.AuthorID == nil {
		return x.Author, nil
	}
	p, err := v.Read.Person(*x.AuthorID)
	if errors.Is(err, store.ErrNotFound) {
		return x.Author, nil
	}
	return p.Address, err
}
