package store

import (
	"context"
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"
)

// What a message is.
const (
	KindPost   = "post"   // written to a group
	KindNotice = "notice" // written by the service
	KindBounce = "bounce" // came back from a delivery
)

// Where a message stands.
const (
	Accepted = "accepted"
	Waiting  = "waiting" // for approval
	Declined = "declined"
)

// Message is mail that was taken in or written by the service. Raw is what goes
// out, byte for byte.
type Message struct {
	ID         uuid.UUID `gorm:"primaryKey"`
	GroupID    *uuid.UUID
	Kind       string
	State      string
	Part       int8 // which address of the group it was sent to, as the workspace numbers them
	MessageID  string
	Sender     string // of the envelope on the way out
	Author     string
	AuthorID   *uuid.UUID
	Proven     bool
	Subject    string
	Size       int
	Raw        []byte
	Decision   json.RawMessage
	ReceivedAt time.Time
	DecidedBy  string
	Reason     string
}

// Where a delivery stands.
const (
	Queued int8 = iota
	Sent
	Failed
)

// Delivery is one recipient of a message.
type Delivery struct {
	ID        int64
	MessageID uuid.UUID
	Recipient string
	State     int8
	Attempts  int
	NextAt    time.Time
	DoneAt    *time.Time
	LastError string
}

// AddMessage records a message and its deliveries to recipients, who must be
// different from each other.
func (s *Store) AddMessage(ctx context.Context, m Message, recipients []string) error {
	if err := s.with(ctx).Create(&m).Error; err != nil {
		return wrap("record a message", err)
	}
	return s.AddDeliveries(ctx, m.ID, recipients)
}

// AddMessages records messages, each to the one recipient at its place.
func (s *Store) AddMessages(ctx context.Context, messages []Message, recipients []string) error {
	if len(messages) == 0 {
		return nil
	}
	if err := s.with(ctx).CreateInBatches(messages, 1000).Error; err != nil {
		return wrap("record messages", err)
	}
	rows := make([]Delivery, len(messages))
	now := time.Now().UTC()
	for i, m := range messages {
		rows[i] = Delivery{MessageID: m.ID, Recipient: recipients[i], NextAt: now}
	}
	return wrap("queue deliveries", s.with(ctx).CreateInBatches(rows, batch).Error)
}

// AddDeliveries queues a message for recipients.
func (s *Store) AddDeliveries(ctx context.Context, message uuid.UUID, recipients []string) error {
	if len(recipients) == 0 {
		return nil
	}
	rows := make([]Delivery, len(recipients))
	now := time.Now().UTC()
	for i, r := range recipients {
		rows[i] = Delivery{MessageID: message, Recipient: r, NextAt: now}
	}
	return wrap("queue deliveries", s.with(ctx).CreateInBatches(rows, 5000).Error)
}

// LockMessage returns a message, without its bytes, and keeps others from deciding it.
func (s *Store) LockMessage(ctx context.Context, id uuid.UUID) (m Message, err error) {
	err = s.with(ctx).Omit("raw").Clauses(clause.Locking{Strength: "UPDATE"}).Take(&m, "id = ?", id).Error
	return m, wrap("read a message", err)
}

// DecideMessage records what became of a message that waited.
func (s *Store) DecideMessage(ctx context.Context, id uuid.UUID, state, by, reason string) error {
	return wrap("decide a message", s.with(ctx).Model(&Message{}).Where("id = ?", id).
		Updates(map[string]any{"state": state, "decided_by": by, "reason": reason}).Error)
}

// WaitingPosts returns a page of posts that wait for approval, oldest first,
// without their bytes: of all groups, or of those that person runs.
func (s *Store) WaitingPosts(ctx context.Context, person uuid.UUID, group uuid.UUID, after Cursor, limit int) (Page[Message], error) {
	db := s.with(ctx).Model(&Message{}).Omit("raw").Where("kind = ? AND state = ?", KindPost, Waiting)
	if group != uuid.Nil {
		db = db.Where("group_id = ?", group)
	}
	if person != uuid.Nil {
		db = db.Where("group_id IN (SELECT group_id FROM memberships WHERE member_id = ? AND role >= 2)", person)
	}
	return page(s, db, after, limit, sortKey[Message]{column: "received_at", value: func(m Message) (string, uuid.UUID) { return m.ReceivedAt.Format(dbTime), m.ID }})
}

// Claim takes up to limit due deliveries of one message for the length of lease:
// no other worker gets them before that has passed. A worker that dies gives them
// back by the passing of time. It returns ErrNotFound when nothing is due.
func (s *Store) Claim(ctx context.Context, lease time.Duration, limit int) (m Message, out []Delivery, err error) {
	err = s.Tx(ctx, func(t *Store) error {
		now := time.Now().UTC()
		var first Delivery
		err := t.db.Clauses(clause.Locking{Strength: "UPDATE", Options: "SKIP LOCKED"}).
			Where("state = ? AND next_at <= ?", Queued, now).Order("next_at, id").Take(&first).Error
		if err != nil {
			return wrap("claim deliveries", err)
		}
		if err := t.db.Clauses(clause.Locking{Strength: "UPDATE", Options: "SKIP LOCKED"}).
			Where("message_id = ? AND state = ? AND next_at <= ?", first.MessageID, Queued, now).Limit(limit).Find(&out).Error; err != nil {
			return wrap("claim deliveries", err)
		}
		if err := t.db.Model(&Delivery{}).Where("id IN ?", ids(out)).
			Update("next_at", now.Add(lease)).Error; err != nil {
			return wrap("claim deliveries", err)
		}
		return wrap("read a message", t.db.Take(&m, "id = ?", first.MessageID).Error)
	})
	return m, out, err
}

// ExtendLease keeps deliveries claimed for another lease.
func (s *Store) ExtendLease(ctx context.Context, rows []Delivery, lease time.Duration) error {
	return wrap("extend a lease", s.with(ctx).Model(&Delivery{}).Where("id IN ? AND state = ?", ids(rows), Queued).
		Update("next_at", time.Now().UTC().Add(lease)).Error)
}

func ids(rows []Delivery) []int64 {
	out := make([]int64, len(rows))
	for i, d := range rows {
		out[i] = d.ID
	}
	return out
}

// FinishDeliveries records what became of an attempt: those sent in one statement,
// the others each with its own reason and time.
func (s *Store) FinishDeliveries(ctx context.Context, rows []Delivery) error {
	return s.Tx(ctx, func(t *Store) error {
		var sent []Delivery
		for _, d := range rows {
			if d.State == Sent {
				sent = append(sent, d)
				continue
			}
			if err := t.db.Save(&d).Error; err != nil {
				return wrap("record a delivery", err)
			}
		}
		if len(sent) == 0 {
			return nil
		}
		return wrap("record deliveries", t.db.Exec("UPDATE deliveries SET state = ?, attempts = attempts + 1, done_at = ?, last_error = '' WHERE id IN ?",
			Sent, time.Now().UTC(), ids(sent)).Error)
	})
}

// CountDeliveries returns how many deliveries stand in a state. Of those that are
// queued there are few; of the others as many as mail was ever sent.
func (s *Store) CountDeliveries(ctx context.Context, state int8) (n int64, err error) {
	err = s.with(ctx).Model(&Delivery{}).Where("state = ?", state).Count(&n).Error
	return n, wrap("count deliveries", err)
}

// Notice is one that was sent.
type Notice struct {
	GroupID   uuid.UUID
	ExpiresAt time.Time
	Day       int
}

// NoticesSent returns the notices that groups were sent, by group.
func (s *Store) NoticesSent(ctx context.Context, groups []uuid.UUID) (map[uuid.UUID][]Notice, error) {
	var rows []Notice
	if err := s.with(ctx).Find(&rows, "group_id IN ?", groups).Error; err != nil {
		return nil, wrap("read notices", err)
	}
	out := map[uuid.UUID][]Notice{}
	for _, n := range rows {
		out[n.GroupID] = append(out[n.GroupID], n)
	}
	return out, nil
}

// RecordNotice records that a notice was sent; ErrDuplicate says that it was before.
func (s *Store) RecordNotice(ctx context.Context, n Notice) error {
	return wrap("record a notice", s.with(ctx).Create(&n).Error)
}
