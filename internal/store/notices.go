package store

import (
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/lifecycle"
)

// Notice is one that was asked for: of an end to come, or of one that has come.
type Notice struct {
	GroupID   uuid.UUID `gorm:"primaryKey"`
	ExpiresAt time.Time `gorm:"primaryKey"` // the end that it is of
	Day       int       `gorm:"primaryKey"` // how many days before the end it is for; lifecycle.Lapses for the end itself
	First     bool      // it was the first
	AskedAt   time.Time
	GivenAt   *time.Time // when it was given, where that was of an earlier end
	Was       *time.Time // the end that the group had before, where that moved since nobody was told in time
	Written   bool       // its letters are written
	Tries     int        // how often its letters reached nobody
}

// NoticeLetter is the letter to one recipient that a notice is given by; one letter can give several.
type NoticeLetter struct {
	GroupID   uuid.UUID `gorm:"primaryKey"`
	ExpiresAt time.Time `gorm:"primaryKey"`
	Day       int       `gorm:"primaryKey"`
	Recipient string    `gorm:"primaryKey"`
	Tries     int       `gorm:"primaryKey"`
	MailingID uuid.UUID
	GivenAt   *time.Time // when the relay took it
}

// NoticeAsked is a notice with when it was given, nil for not yet.
type NoticeAsked struct {
	Notice
	Given *time.Time
}

// Core is a notice as the core decides by it.
func (a NoticeAsked) Core() lifecycle.Notice {
	n := lifecycle.Notice{Day: a.Day, First: a.First}
	if a.Given != nil {
		n.Given = *a.Given
	}
	return n
}

const askedColumns = `n.*, COALESCE(n.given_at, (SELECT MIN(l.given_at) FROM notice_letters l
	WHERE l.group_id = n.group_id AND l.expires_at = n.expires_at AND l.day = n.day)) AS given`

// Notices returns the notices of groups, by group.
func (s *Reads) Notices(groups []uuid.UUID) (map[uuid.UUID][]NoticeAsked, error) {
	out := map[uuid.UUID][]NoticeAsked{}
	return out, inBatches(groups, func(groups []uuid.UUID) error {
		var rows []NoticeAsked
		err := s.db.Raw("SELECT "+askedColumns+" FROM notices n WHERE n.group_id IN ?", groups).Scan(&rows).Error
		for _, n := range rows {
			out[n.GroupID] = append(out[n.GroupID], n)
		}
		return wrap("read notices", err)
	})
}

// AskNotices records notices that are to be given; ErrDuplicate says that one was before.
func (s *Tx) AskNotices(rows []Notice) error { return create(s, "record notices", rows) }

// NoticesToWrite returns up to limit notices of which the letters are not written, those that were asked for first
// before others.
func (s *Reads) NoticesToWrite(limit int) (rows []Notice, err error) {
	err = s.db.Where("NOT written").Order("asked_at, group_id, expires_at, day").Limit(limit).Find(&rows).Error
	return rows, wrap("read notices", err)
}

// NoticeLetters returns the letters of notices that were written, for groups.
func (s *Reads) NoticeLetters(groups []uuid.UUID) (rows []NoticeLetter, err error) {
	return rows, inBatches(groups, func(groups []uuid.UUID) error {
		var some []NoticeLetter
		err := s.db.Where("group_id IN ?", groups).Find(&some).Error
		rows = append(rows, some...)
		return wrap("read the letters of notices", err)
	})
}

// AddNoticeLetters records letters; ErrDuplicate says that one of them was written before.
func (s *Tx) AddNoticeLetters(rows []NoticeLetter) error {
	return create(s, "record the letters of notices", rows)
}

// TakeWritten records that all letters of notices are written, and returns those of which that is new.
func (s *Tx) TakeWritten(rows []Notice) (out []Notice, err error) {
	for _, n := range rows {
		r := s.db.Exec("UPDATE notices SET written = TRUE WHERE group_id = ? AND expires_at = ? AND day = ? AND tries = ? AND NOT written", n.GroupID, n.ExpiresAt, n.Day, n.Tries)
		if r.Error != nil {
			return nil, wrap("record notices", r.Error)
		}
		if r.RowsAffected > 0 {
			out = append(out, n)
		}
	}
	return out, nil
}

// GiveNotices records that the relay took a letter over, by which notices were given.
func (s *Tx) GiveNotices(mailing uuid.UUID, at time.Time) error {
	return wrap("record notices", s.db.Exec("UPDATE notice_letters SET given_at = ? WHERE mailing_id = ? AND given_at IS NULL", at, mailing).Error)
}

// FailedNotices returns notices whose letters reached nobody and are tried no more, asked for before a moment.
func (s *Reads) FailedNotices(before time.Time, limit int) (rows []Notice, err error) {
	err = s.db.Raw(`SELECT n.* FROM notices n JOIN mail_groups g ON g.id = n.group_id AND (g.ended_at IS NULL AND g.expires_at = n.expires_at OR g.ended_at = n.expires_at)
		WHERE n.written AND n.given_at IS NULL AND n.asked_at < ?
		AND NOT EXISTS (SELECT 1 FROM notice_letters l LEFT JOIN jobs j ON j.mailing_id = l.mailing_id
			WHERE l.group_id = n.group_id AND l.expires_at = n.expires_at AND l.day = n.day AND (l.given_at IS NOT NULL OR l.tries = n.tries AND j.id IS NOT NULL))
		ORDER BY n.asked_at LIMIT ?`, before, limit).Scan(&rows).Error
	return rows, wrap("read notices", err)
}

// TryNotice asks for a notice again.
func (s *Tx) TryNotice(n Notice, at time.Time) error {
	return wrap("record a notice", s.db.Exec("UPDATE notices SET written = FALSE, asked_at = ?, tries = tries + 1 WHERE group_id = ? AND expires_at = ? AND day = ? AND tries = ?",
		at, n.GroupID, n.ExpiresAt, n.Day, n.Tries).Error)
}

// NoticeLink lets whoever has it renew the groups that one letter told its recipient of, without signing in. Only
// the hash of its secret is kept.
type NoticeLink struct {
	Hash      []byte `gorm:"primaryKey"`
	MailingID uuid.UUID
	Recipient string
	ExpiresAt time.Time
}

// AddNoticeLinks records links.
func (s *Tx) AddNoticeLinks(rows []NoticeLink) error { return create(s, "record links", rows) }

// NoticeLink returns a link by its secret's hash, with the groups that its letter told of.
func (s *Reads) NoticeLink(hash []byte) (l NoticeLink, groups []uuid.UUID, err error) {
	if err := s.db.Take(&l, "hash = ?", hash).Error; err != nil {
		return l, nil, wrap("read a link", err)
	}
	err = s.db.Model(&NoticeLetter{}).Distinct("group_id").Where("mailing_id = ? AND recipient = ?", l.MailingID, l.Recipient).Pluck("group_id", &groups).Error
	return l, groups, wrap("read a link", err)
}

// ForgetNoticeLinks deletes links whose time is over.
func (s *Tx) ForgetNoticeLinks(now time.Time) error {
	return wrap("forget links", s.db.Exec("DELETE FROM notice_links WHERE expires_at < ? LIMIT 10000", now).Error)
}

// CaretakerProof is an address outside the workspace that was asked whether it takes care of groups without owners.
type CaretakerProof struct {
	AddrKey     string `gorm:"primaryKey"`
	Hash        []byte
	AskedAt     time.Time
	ConfirmedAt *time.Time
}

// CaretakerProofs returns what was asked of addresses, by their keys.
func (s *Reads) CaretakerProofs(keys []string) (map[string]CaretakerProof, error) {
	out := map[string]CaretakerProof{}
	if len(keys) == 0 {
		return out, nil
	}
	var rows []CaretakerProof
	err := s.db.Find(&rows, "addr_key IN ?", keys).Error
	for _, p := range rows {
		out[p.AddrKey] = p
	}
	return out, wrap("read caretakers", err)
}

// CaretakerProof returns what was asked by a link, by its secret's hash.
func (s *Reads) CaretakerProof(hash []byte) (p CaretakerProof, err error) {
	err = s.db.Take(&p, "hash = ?", hash).Error
	return p, wrap("read a caretaker", err)
}

// SaveCaretakerProof records what an address was asked, or that it agreed.
func (s *Tx) SaveCaretakerProof(p CaretakerProof) error {
	return wrap("record a caretaker", s.db.Save(&p).Error)
}
