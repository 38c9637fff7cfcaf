package store

import (
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"
)

// Return is what came back from one recipient of a mailing.
type Return struct {
	MailingID uuid.UUID `gorm:"primaryKey"`
	Recipient string    `gorm:"primaryKey"`
	GroupID   *uuid.UUID
	At        time.Time // in the workspace's time
	Permanent bool
	Status    string // as in RFC 3463
	Reply     string // in the words of who could not deliver it
}

// TransmissionOf returns to whom a mailing went in the transaction that has a mark; ErrNotFound for none.
func (s *Reads) TransmissionOf(mailing uuid.UUID, mark int64) (to []string, err error) {
	var t Transmission
	err = s.db.Where("mailing_id = ? AND mark = ? AND mark <> 0", mailing, mark).Take(&t).Error
	return ReadLines(t.Recipients), wrap("read a transmission", err)
}

// AddReturn records what came back, and reports whether that is new.
func (s *Tx) AddReturn(r Return) (bool, error) {
	x := s.db.Clauses(clause.Insert{Modifier: "IGNORE"}).Create(&r)
	return x.RowsAffected > 0, wrap("record what came back", x.Error)
}

// ReturnsOf returns what came back of a mailing, by recipient.
func (s *Reads) ReturnsOf(mailing uuid.UUID) (out []Return, err error) {
	return out, wrap("read what came back", s.db.Order("recipient").Find(&out, "mailing_id = ?", mailing).Error)
}

// ReturnedAt returns when mail to an address came back for good since a moment, at most so often.
func (s *Reads) ReturnedAt(recipient string, since time.Time, limit int) (at []time.Time, err error) {
	return at, wrap("read what came back", s.db.Model(&Return{}).Where("recipient = ? AND at > ? AND permanent", recipient, since).Order("at DESC").Limit(limit).Pluck("at", &at).Error)
}

// Why mail to somebody is paused.
const (
	PausedAway     = "away"     // they asked for it
	PausedReturned = "returned" // it came back
)

// Paused reports whether mail of groups to somebody is paused at a time.
func (p Person) Paused(now time.Time) bool {
	return p.MailPausedUntil != nil && p.MailPausedUntil.After(now)
}

// SetMailPause writes until when no mail of groups goes to somebody who is locked, and why.
func (s *Tx) SetMailPause(p Person) error {
	return wrap("pause mail", s.writing(ofPeople).Exec("UPDATE people SET mail_paused_until = ?, mail_paused_why = ?, version = version + 1 WHERE id = ?", p.MailPausedUntil, p.MailPausedWhy, p.ID).Error)
}

// VouchersOf returns the addresses of those who vouch for an external member and are here.
func (s *Reads) VouchersOf(person uuid.UUID) (addresses []string, err error) {
	err = s.db.Raw("SELECT DISTINCT p.address FROM external_members x JOIN people p ON p.id = x.voucher_id AND p.active AND NOT p.external WHERE x.member_id = ? ORDER BY p.address LIMIT 20", person).Scan(&addresses).Error
	return addresses, wrap("read who vouches", err)
}
