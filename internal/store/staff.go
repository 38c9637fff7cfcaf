package store

import (
	"context"
	"errors"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
)

// Where a request or an invitation stands.
const (
	Undecided  = "open"
	Approved   = "approved" // of a request; Accepted, of an invitation; Declined, of both
	Withdrawn  = "withdrawn"
	CalledBack = "called back"
)

// Kinds of requests.
const (
	ToJoin  = "join"
	ToLeave = "leave"
)

// Request is somebody's wish to join or to leave a group.
type Request struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	GroupID   uuid.UUID
	PersonID  uuid.UUID
	Kind      string
	Note      string
	State     string
	MadeAt    time.Time
	DecidedBy string
	DecidedAt *time.Time
	Reason    string
}

// AddRequest records a request; ErrDuplicate says that one of this person is open.
func (s *Store) AddRequest(ctx context.Context, r Request) error {
	return wrap("record a request", s.with(ctx).Create(&r).Error)
}

// LockRequest returns a request and keeps others from deciding it.
func (s *Store) LockRequest(ctx context.Context, id uuid.UUID) (r Request, err error) {
	err = s.with(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Take(&r, "id = ?", id).Error
	return r, wrap("read a request", err)
}

// SaveRequest writes what became of a request.
func (s *Store) SaveRequest(ctx context.Context, r Request) error {
	return wrap("save a request", s.with(ctx).Save(&r).Error)
}

// EndRequests closes the open requests of people in a group, who came in or went
// another way.
func (s *Store) EndRequests(ctx context.Context, group uuid.UUID, people []uuid.UUID, kind string, now time.Time) error {
	return inBatches(people, func(ids []uuid.UUID) error {
		return wrap("close requests", s.with(ctx).Exec("UPDATE requests SET state = ?, decided_at = ? WHERE group_id = ? AND open_once IN ? AND kind = ?", Withdrawn, now, group, ids, kind).Error)
	})
}

// RequestQuery says which requests to list.
type RequestQuery struct {
	Group  uuid.UUID // with a value: of this group
	Runner uuid.UUID // with a value: of the groups that this person helps to run
	Person uuid.UUID // with a value: made by this person, in every state
	After  Cursor
	Limit  int
}

// Requests returns a page of requests, oldest first: the open ones, or all of one person.
func (s *Store) Requests(ctx context.Context, q RequestQuery) (Page[Request], error) {
	db := s.with(ctx).Model(&Request{})
	if q.Person == uuid.Nil {
		db = db.Where("state = ?", Undecided)
	} else {
		db = db.Where("person_id = ?", q.Person)
	}
	if q.Group != uuid.Nil {
		db = db.Where("group_id = ?", q.Group)
	}
	if q.Runner != uuid.Nil {
		db = db.Where("group_id IN (SELECT group_id FROM memberships WHERE member_id = ? AND role >= ?)", q.Runner, expand.Moderator)
	}
	return page(s, db, q.After, q.Limit, sortKey[Request]{column: "made_at", desc: q.Person != uuid.Nil,
		value: func(r Request) (string, uuid.UUID) { return r.MadeAt.Format(dbTime), r.ID }})
}

// Invitation is an offer to enter a group. Only the hash of its secret is kept.
type Invitation struct {
	ID         uuid.UUID `gorm:"primaryKey"`
	Hash       []byte
	GroupID    uuid.UUID
	Address    string
	AddrKey    string
	Role       expand.Role
	State      string
	MadeBy     string
	MadeAt     time.Time
	ExpiresAt  time.Time
	AnsweredAt *time.Time
}

// AddInvitations records invitations; ErrDuplicate says that one to the same
// address is open.
func (s *Store) AddInvitations(ctx context.Context, rows []Invitation) error {
	if len(rows) == 0 {
		return nil
	}
	return wrap("record invitations", s.with(ctx).CreateInBatches(rows, 2000).Error)
}

// CallBackInvitations ends the open invitations of addresses to a group.
func (s *Store) CallBackInvitations(ctx context.Context, group uuid.UUID, keys []string, now time.Time) error {
	return inBatches(keys, func(keys []string) error {
		return wrap("call back invitations", s.with(ctx).Exec("UPDATE invitations SET state = ?, answered_at = ? WHERE group_id = ? AND open_once IN ?", CalledBack, now, group, keys).Error)
	})
}

// InvitationByHash returns an invitation by its secret's hash and keeps others from
// answering it.
func (s *Store) InvitationByHash(ctx context.Context, hash []byte) (i Invitation, err error) {
	err = s.with(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Take(&i, "hash = ?", hash).Error
	return i, wrap("read an invitation", err)
}

// SaveInvitation writes what became of an invitation.
func (s *Store) SaveInvitation(ctx context.Context, i Invitation) error {
	return wrap("save an invitation", s.with(ctx).Save(&i).Error)
}

// Invitations returns a page of a group's open invitations, newest first.
func (s *Store) Invitations(ctx context.Context, group uuid.UUID, after Cursor, limit int) (Page[Invitation], error) {
	db := s.with(ctx).Model(&Invitation{}).Where("group_id = ? AND state = ?", group, Undecided)
	return page(s, db, after, limit, sortKey[Invitation]{column: "made_at", desc: true, value: func(i Invitation) (string, uuid.UUID) { return i.MadeAt.Format(dbTime), i.ID }})
}

// JoinLink lets whoever has it enter a group. Only the hash of its secret is kept.
type JoinLink struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	Hash      []byte
	GroupID   uuid.UUID
	Note      string
	Uses      int
	Most      int // uses; 0: no bound
	MadeBy    string
	MadeAt    time.Time
	ExpiresAt time.Time
	EndedAt   *time.Time // called back
}

// AddJoinLink records a link.
func (s *Store) AddJoinLink(ctx context.Context, l JoinLink) error {
	return wrap("record a link", s.with(ctx).Create(&l).Error)
}

// JoinLinks returns the links of a group that can be used at now, newest first;
// at most 100 are kept per group.
func (s *Store) JoinLinks(ctx context.Context, group uuid.UUID, now time.Time) (out []JoinLink, err error) {
	err = s.with(ctx).Order("made_at DESC").Limit(100).Find(&out, "group_id = ? AND ended_at IS NULL AND expires_at > ? AND (most = 0 OR uses < most)", group, now).Error
	return out, wrap("read links", err)
}

// JoinLinkByHash returns a link by its secret's hash and keeps others from using it.
func (s *Store) JoinLinkByHash(ctx context.Context, hash []byte) (l JoinLink, err error) {
	err = s.with(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Take(&l, "hash = ?", hash).Error
	return l, wrap("read a link", err)
}

// JoinLink returns a link of a group and keeps others from using it.
func (s *Store) JoinLink(ctx context.Context, group, id uuid.UUID) (l JoinLink, err error) {
	err = s.with(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Take(&l, "id = ? AND group_id = ?", id, group).Error
	return l, wrap("read a link", err)
}

// SaveJoinLink writes the use, or the end, of a link.
func (s *Store) SaveJoinLink(ctx context.Context, l JoinLink) error {
	return wrap("save a link", s.with(ctx).Save(&l).Error)
}

// Standing is what is settled about one address in one group.
type Standing struct {
	GroupID  uuid.UUID `gorm:"primaryKey"`
	AddrKey  string    `gorm:"primaryKey"`
	Standing policy.Standing
	Reason   string
	SetBy    string
	SetAt    time.Time
}

// SetStanding settles something about an address; the standing none takes it back.
func (s *Store) SetStanding(ctx context.Context, row Standing) error {
	if row.Standing == policy.NoStanding {
		return wrap("lift a standing", s.with(ctx).Delete(&row).Error)
	}
	return wrap("write a standing", s.with(ctx).Save(&row).Error)
}

// StandingOf returns what is settled about an address in a group; the zero value for nothing.
func (s *Store) StandingOf(ctx context.Context, group uuid.UUID, key string) (row Standing, err error) {
	err = s.with(ctx).Take(&row, "group_id = ? AND addr_key = ?", group, key).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return Standing{}, nil
	}
	return row, wrap("read a standing", err)
}

// Barred returns which addresses are barred from a group.
func (s *Store) Barred(ctx context.Context, group uuid.UUID) (map[string]bool, error) {
	var keys []string
	err := s.with(ctx).Model(&Standing{}).Where("group_id = ? AND standing = ?", group, policy.Barred).Pluck("addr_key", &keys).Error
	out := make(map[string]bool, len(keys))
	for _, k := range keys {
		out[k] = true
	}
	return out, wrap("read who is barred", err)
}

// Standings returns what is settled in a group by address, at most 1,000 rows.
func (s *Store) Standings(ctx context.Context, group uuid.UUID) (out []Standing, err error) {
	err = s.with(ctx).Order("addr_key").Limit(1000).Find(&out, "group_id = ?", group).Error
	return out, wrap("read standings", err)
}

// StartingPoint is a named set of answers to begin a group from.
type StartingPoint struct {
	Name   string `gorm:"primaryKey"`
	Title  string
	About  string
	Body   []byte // JSON
	MadeBy string
	MadeAt time.Time
}

// StartingPoints returns those that administrators made, by title; at most 100 are kept.
func (s *Store) StartingPoints(ctx context.Context) (out []StartingPoint, err error) {
	err = s.with(ctx).Order("title").Limit(100).Find(&out).Error
	return out, wrap("read the starting points", err)
}

// SaveStartingPoint writes one, new or not.
func (s *Store) SaveStartingPoint(ctx context.Context, p StartingPoint) error {
	return wrap("save a starting point", s.with(ctx).Save(&p).Error)
}

// DeleteStartingPoint removes one; ErrNotFound says that there was none.
func (s *Store) DeleteStartingPoint(ctx context.Context, name string) error {
	r := s.with(ctx).Delete(&StartingPoint{Name: name})
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return wrap("delete a starting point", r.Error)
}

// batch is how many values go into one statement.
const batch = 5000

// inBatches calls f with at most batch values at a time.
func inBatches[T any](all []T, f func([]T) error) error {
	for len(all) > 0 {
		n := min(len(all), batch)
		if err := f(all[:n]); err != nil {
			return err
		}
		all = all[n:]
	}
	return nil
}
