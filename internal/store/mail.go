package store

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"
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
func (s *Tx) AddMessage(m Message, recipients []string) error {
	return s.AddMessages([]Message{m}, [][]string{recipients})
}

// AddMessages records messages, each with its deliveries to the recipients at its place.
func (s *Tx) AddMessages(messages []Message, recipients [][]string) error {
	if len(messages) == 0 {
		return nil
	}
	if err := s.db.CreateInBatches(messages, 1000).Error; err != nil {
		return wrap("record messages", err)
	}
	var rows []Delivery
	now := time.Now().UTC()
	for i, m := range messages {
		for _, r := range recipients[i] {
			rows = append(rows, Delivery{MessageID: m.ID, Recipient: r, NextAt: now})
		}
	}
	return inBatches(rows, func(rows []Delivery) error { return wrap("queue deliveries", s.db.Create(&rows).Error) })
}

// AddDeliveries queues a message for recipients.
func (s *Tx) AddDeliveries(message uuid.UUID, recipients []string) error {
	if len(recipients) == 0 {
		return nil
	}
	rows := make([]Delivery, len(recipients))
	now := time.Now().UTC()
	for i, r := range recipients {
		rows[i] = Delivery{MessageID: message, Recipient: r, NextAt: now}
	}
	return wrap("queue deliveries", s.db.CreateInBatches(rows, 5000).Error)
}

// LockMessage returns a message, without its bytes, and keeps others from deciding it.
func (s *Tx) LockMessage(id uuid.UUID) (m Message, err error) {
	if err := s.order(rankEntries); err != nil {
		return m, err
	}
	err = s.forUpdate().Omit("raw").Take(&m, "id = ?", id).Error
	return m, wrap("read a message", err)
}

// DecideMessage records what became of a message that waited.
func (s *Tx) DecideMessage(id uuid.UUID, state, by, reason string) error {
	return wrap("decide a message", s.db.Model(&Message{}).Where("id = ?", id).
		Updates(map[string]any{"state": state, "decided_by": by, "reason": reason}).Error)
}

// WaitingPosts returns a page of posts that wait for approval, oldest first,
// without their bytes: of all groups, or of those that person runs.
func (s *Reads) WaitingPosts(person uuid.UUID, group uuid.UUID, after Cursor, limit int) (Page[Message], error) {
	db := s.db.Model(&Message{}).Omit("raw").Where("kind = ? AND state = ?", KindPost, Waiting)
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
func (s *Tx) Claim(lease time.Duration, limit int) (m Message, out []Delivery, err error) {
	now := time.Now().UTC()
	var first Delivery
	err = s.forUpdate("SKIP LOCKED").Where("state = ? AND next_at <= ?", Queued, now).Order("next_at, id").Take(&first).Error
	if err != nil {
		return m, nil, wrap("claim deliveries", err)
	}
	if err := s.forUpdate("SKIP LOCKED").Where("message_id = ? AND state = ? AND next_at <= ?", first.MessageID, Queued, now).Limit(limit).Find(&out).Error; err != nil {
		return m, nil, wrap("claim deliveries", err)
	}
	if err := s.db.Model(&Delivery{}).Where("id IN ?", ids(out)).Update("next_at", now.Add(lease)).Error; err != nil {
		return m, nil, wrap("claim deliveries", err)
	}
	return m, out, wrap("read a message", s.db.Take(&m, "id = ?", first.MessageID).Error)
}

// ExtendLease keeps deliveries claimed for another lease.
func (s *Tx) ExtendLease(rows []Delivery, lease time.Duration) error {
	return wrap("extend a lease", s.db.Model(&Delivery{}).Where("id IN ? AND state = ?", ids(rows), Queued).
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
func (s *Tx) FinishDeliveries(rows []Delivery) error {
	var sent []Delivery
	for _, d := range rows {
		if d.State == Sent {
			sent = append(sent, d)
			continue
		}
		if err := s.db.Save(&d).Error; err != nil {
			return wrap("record a delivery", err)
		}
	}
	if len(sent) == 0 {
		return nil
	}
	return wrap("record deliveries", s.db.Exec("UPDATE deliveries SET state = ?, attempts = attempts + 1, done_at = ?, last_error = '' WHERE id IN ?",
		Sent, time.Now().UTC(), ids(sent)).Error)
}

// CountDeliveries returns how many deliveries stand in a state. Of those that are
// queued there are few; of the others as many as mail was ever sent.
func (s *Reads) CountDeliveries(state int8) (n int64, err error) {
	err = s.db.Model(&Delivery{}).Where("state = ?", state).Count(&n).Error
	return n, wrap("count deliveries", err)
}

// Notice is one that was sent.
type Notice struct {
	GroupID   uuid.UUID
	ExpiresAt time.Time
	Day       int
}

// NoticesSent returns the notices that groups were sent, by group.
func (s *Reads) NoticesSent(groups []uuid.UUID) (map[uuid.UUID][]Notice, error) {
	var rows []Notice
	if err := s.db.Find(&rows, "group_id IN ?", groups).Error; err != nil {
		return nil, wrap("read notices", err)
	}
	out := map[uuid.UUID][]Notice{}
	for _, n := range rows {
		out[n.GroupID] = append(out[n.GroupID], n)
	}
	return out, nil
}

// RecordNotice records that a notice was sent; ErrDuplicate says that it was before.
func (s *Tx) RecordNotice(n Notice) error {
	return wrap("record a notice", s.db.Create(&n).Error)
}

// Message returns a message without its bytes.
func (s *Reads) Message(id uuid.UUID) (m Message, err error) {
	err = s.db.Omit("raw").Take(&m, "id = ?", id).Error
	return m, wrap("read a message", err)
}
