package store

import (
	"fmt"

	"github.com/google/uuid"
)

// rank is the place of a lock in the one order in which the whole program takes them.
// A transaction never takes a lock of a lower rank than one it has, so two transactions
// that need the same things wait for each other in turn. Within a rank, several rows are
// locked by one statement, in the order of their identifiers. What a transaction inserts
// or changes without a Lock is its own, or belongs to a row that it has locked.
type rank int

// The ranks, first to last.
const (
	rankSettings rank = iota + 1 // settings of the workspace; the rules of membership and the nesting of groups as a whole
	rankPeople
	rankGroups
	rankEntries // requests, invitations, join links, starting points, messages
	rankMembers // memberships of a group that is locked
)

// order notes that a lock is taken, or says that it comes too late.
func (s *Tx) order(r rank) error {
	if r < s.last {
		return fmt.Errorf("a lock of rank %d is taken after one of rank %d", r, s.last)
	}
	s.last = r
	return nil
}

// orderGroups is order for groups. Those that the transaction has locked already can be locked again whatever came in between.
func (s *Tx) orderGroups(ids ...uuid.UUID) error {
	again := true
	for _, id := range ids {
		again = again && s.groups[id]
	}
	if again && len(ids) > 0 {
		return nil
	}
	if s.groups == nil {
		s.groups = map[uuid.UUID]bool{}
	}
	for _, id := range ids {
		s.groups[id] = true
	}
	return s.order(rankGroups)
}

// LockEverything keeps everybody else from changing people and groups.
func (s *Tx) LockEverything() error {
	if err := s.order(rankPeople); err != nil {
		return err
	}
	if err := s.db.Exec("SELECT COUNT(*) FROM (SELECT id FROM people ORDER BY id" + s.locking("FOR UPDATE") + ") x").Error; err != nil {
		return wrap("lock people", err)
	}
	var ids []uuid.UUID
	if err := s.db.Raw("SELECT id FROM mail_groups ORDER BY id").Scan(&ids).Error; err != nil {
		return wrap("lock groups", err)
	}
	_, err := s.LockGroups(ids)
	return err
}

// LockNesting keeps everybody else from nesting groups: two that are nested into each
// other at once would make a loop that neither of them sees.
func (s *Tx) LockNesting() error {
	if err := s.order(rankSettings); err != nil {
		return err
	}
	return wrap("lock the nesting of groups", s.db.Raw("SELECT version FROM settings WHERE name = 'nesting'"+s.locking("FOR UPDATE")).Scan(new(int)).Error)
}
