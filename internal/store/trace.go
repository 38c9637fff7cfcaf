package store

import (
	"errors"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
)

// PostQuery says which posts to a group to list, newest first.
type PostQuery struct {
	Group     uuid.UUID
	Author    uuid.UUID // with a value: by this person, ...
	Recipient string    // ... or, with a value, that were to reach this address
	After     Cursor
	Limit     int
}

// Posts returns a page of posts to a group, of whatever became of them.
func (s *Reads) Posts(q PostQuery) (Page[Mailing], error) {
	db := s.db.Model(&Mailing{}).Where("group_id = ? AND kind = ? AND mailbox = 0", q.Group, KindPost)
	var either []string
	var args []any
	if q.Author != uuid.Nil {
		either, args = append(either, "message_id IN (SELECT x.id FROM messages x WHERE x.id = mailings.message_id AND x.author_id = ?)"), append(args, q.Author)
	}
	if q.Recipient != "" {
		c := reached("mailings.id", q.Recipient)
		either, args = append(either, c.sql), append(args, c.args...)
	}
	if len(either) > 0 {
		db = db.Where("("+strings.Join(either, " OR ")+")", args...)
	}
	key := byArrival
	key.desc = true
	return page(s, db, q.After, q.Limit, key)
}

// reached is said of a mailing that was handed over for an address, or refused for it.
func reached(mailing, address string) condition {
	return condition{"EXISTS (SELECT 1 FROM transmissions t WHERE t.mailing_id = " + mailing + " AND t.first <= ? AND t.last >= ? AND LOCATE(CONCAT('\\n', ?, '\\n'), CONCAT('\\n', t.recipients)) > 0) OR EXISTS (SELECT 1 FROM failures f WHERE f.mailing_id = " + mailing + " AND f.recipient = ?)",
		[]any{address, address, address, address}}
}

// Handed is one for whom a mailing was handed over.
type Handed struct {
	Recipient string
	At        time.Time
}

// HandedOver returns all for whom a mailing was handed over, or, with a recipient, that one; who got it again is there once more.
func (s *Reads) HandedOver(mailing uuid.UUID, recipient string) (out []Handed, err error) {
	db := s.db.Where("mailing_id = ?", mailing)
	if recipient != "" {
		db = db.Where("first <= ? AND last >= ?", recipient, recipient)
	}
	var rows []Transmission
	if err := db.Order("id").Find(&rows).Error; err != nil {
		return nil, wrap("read transmissions", err)
	}
	for _, t := range rows {
		for _, r := range ReadLines(t.Recipients) {
			if recipient == "" || r == recipient {
				out = append(out, Handed{r, t.At})
			}
		}
	}
	return out, nil
}

// FailuresOf returns those whom a mailing could not be handed over for, or not yet; with a recipient, that one.
func (s *Reads) FailuresOf(mailing uuid.UUID, recipient string) (out []Failure, err error) {
	db := s.db.Where("mailing_id = ?", mailing)
	if recipient != "" {
		db = db.Where("recipient = ?", recipient)
	}
	return out, wrap("read failures", db.Order("recipient").Find(&out).Error)
}

// JobsOf returns what is still to be done about a mailing.
func (s *Reads) JobsOf(mailing uuid.UUID) (out []Job, err error) {
	return out, wrap("read jobs", s.db.Order("id").Find(&out, "mailing_id = ?", mailing).Error)
}

// AuthorOf returns who wrote a message, where they are of the workspace and it is proven; the zero value for anybody else.
func (s *Reads) AuthorOf(message uuid.UUID) (id uuid.UUID, err error) {
	var m Message
	err = s.db.Select("author_id", "proven").Take(&m, "id = ?", message).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return id, ErrNotFound
	}
	if m.AuthorID != nil && m.Proven {
		id = *m.AuthorID
	}
	return id, wrap("read a message", err)
}
