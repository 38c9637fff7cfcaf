package store

import (
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"
)

// DigestTime is when somebody gets their digests: those of all groups at one hour of the day.
type DigestTime struct {
	PersonID uuid.UUID `gorm:"primaryKey"`
	Hour     int8      // 0 to 23
	Zone     string    // IANA name; "": that of the workspace
	UntilAt  time.Time // up to when posts were in a digest
	DueAt    time.Time // when the next ones are
}

func (DigestTime) TableName() string { return "digests" }

// BeginDigests notes that people get digests at an hour from a moment on, where they don't get any yet. The first is due at once, and says when
// the next one is.
func (s *Tx) BeginDigests(people []uuid.UUID, hour int, now time.Time) error {
	rows := make([][]any, len(people))
	for i, id := range people {
		rows[i] = []any{id, hour, "", now, now}
	}
	return inBatches(rows, func(rows [][]any) error {
		query, args := insertion("digests", "person_id, hour, zone, until_at, due_at", rows)
		return wrap("begin digests", s.db.Exec(query+" ON DUPLICATE KEY UPDATE person_id = person_id", args...).Error)
	})
}

// LockDigests returns people whose digests are due, and keeps others from writing them.
func (s *Tx) LockDigests(now time.Time, limit int) (out []DigestTime, err error) {
	return out, wrap("read whose digests are due", s.forUpdate("SKIP LOCKED").Where("due_at <= ?", now).Order("due_at").Limit(limit).Find(&out).Error)
}

// DigestTime returns when somebody gets their digests; ErrNotFound for somebody who never got any.
func (s *Reads) DigestTime(person uuid.UUID) (d DigestTime, err error) {
	return d, wrap("read when digests are", s.db.Take(&d, "person_id = ?", person).Error)
}

// SaveDigestTime writes when somebody gets their digests.
func (s *Tx) SaveDigestTime(d DigestTime) error {
	return wrap("write when digests are", s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&d).Error)
}

// DeleteDigestTime forgets that somebody gets digests.
func (s *Tx) DeleteDigestTime(person uuid.UUID) error {
	return wrap("end digests", s.db.Exec("DELETE FROM digests WHERE person_id = ?", person).Error)
}

// DigestMember is somebody who gets the mail of a group in digests.
type DigestMember struct {
	GroupID, PersonID uuid.UUID
	Address           string
	AddedAt           time.Time
	Paused            bool
}

// DigestsOf returns the groups whose mail some people get in digests, who are here; of groups that live at now.
func (s *Reads) DigestsOf(people []uuid.UUID, now time.Time) (out []DigestMember, err error) {
	err = s.db.Raw(`SELECT m.group_id, p.id AS person_id, p.address, m.added_at, p.mail_paused_until IS NOT NULL AND p.mail_paused_until > ? AS paused
		FROM memberships m JOIN people p ON p.id = m.member_id AND p.active JOIN mail_groups g ON g.id = m.group_id AND g.ended_at IS NULL
		WHERE m.member_id IN ? AND m.kind = ? AND m.mail AND m.how = ? ORDER BY m.group_id, p.address`, now, people, KindPerson, Digest).Scan(&out).Error
	return out, wrap("read who gets digests", err)
}

// PassedOn is a post that was let through.
type PassedOn struct {
	ID, MessageID uuid.UUID
	Size          int // of its body
}

// PassedBetween returns the posts to a group that were let through after a moment and up to another, at once or when they were approved,
// in the order in which they came.
func (s *Reads) PassedBetween(group uuid.UUID, after, upTo time.Time) (out []PassedOn, err error) {
	err = s.db.Raw(`SELECT g.id, g.message_id, m.size FROM mailings g JOIN messages m ON m.id = g.message_id WHERE g.group_id = ? AND g.kind = ? AND g.state = ? AND g.mailbox = 0
		AND COALESCE(g.passed_at, g.received_at) > ? AND COALESCE(g.passed_at, g.received_at) <= ? ORDER BY g.received_at, g.id`, group, KindPost, Accepted, after, upTo).Scan(&out).Error
	return out, wrap("read posts", err)
}

// WritersIn returns those of the workspace, or of its external members, who wrote in a thread of a group.
func (s *Reads) WritersIn(group uuid.UUID, thread []byte) (map[uuid.UUID]bool, error) {
	var ids []uuid.UUID
	err := s.db.Raw("SELECT DISTINCT x.author_id FROM messages x JOIN mailings m ON m.message_id = x.id WHERE x.thread = ? AND m.group_id = ? AND m.kind = ? AND m.state = ? AND x.author_id IS NOT NULL", thread, group, KindPost, Accepted).Scan(&ids).Error
	out := make(map[uuid.UUID]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, wrap("read who wrote in a thread", err)
}
