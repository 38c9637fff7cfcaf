package store

import (
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
)

// ExpiryCandidates returns up to limit live groups that expire at or before until,
// soonest first, after the given place.
func (s *Reads) ExpiryCandidates(until time.Time, after Cursor, limit int) (Page[Group], error) {
	db := s.db.Model(&Group{}).Where("ended_at IS NULL AND expires_at <= ?", until)
	return page(s, db, after, limit, byExpiry)
}

// EndedBefore returns up to limit groups that ended at or before a time.
func (s *Reads) EndedBefore(until time.Time, limit int) (out []Group, err error) {
	err = s.db.Where("ended_at <= ?", until).Order("ended_at").Limit(limit).Find(&out).Error
	return out, wrap("read groups that ended", err)
}

// EachLiveGroup calls f with the live groups in batches, in order of their identifiers.
func (s *Reads) EachLiveGroup(f func([]Group) error) error {
	var batch []Group
	return s.db.Where("ended_at IS NULL").FindInBatches(&batch, 1000, func(*gorm.DB, int) error { return f(batch) }).Error
}

// LockLiveGroups is EachLiveGroup for a transaction that will change their dates: it keeps
// others from changing the groups until the transaction ends.
func (s *Tx) LockLiveGroups(f func([]Group) error) error {
	if err := s.order(rankGroups); err != nil {
		return err
	}
	var batch []Group
	return s.forUpdate().Where("ended_at IS NULL").FindInBatches(&batch, 1000, func(*gorm.DB, int) error { return f(batch) }).Error
}

// SetExpiry writes the dates of groups that have not ended: one statement a date.
func (s *Tx) SetExpiry(dates map[uuid.UUID]time.Time) error {
	byDate := map[time.Time][]uuid.UUID{}
	for id, at := range dates {
		if at.IsZero() {
			at = Forever
		}
		byDate[at] = append(byDate[at], id)
	}
	for at, ids := range byDate {
		err := s.writing(ofGroups).Exec("UPDATE mail_groups SET expires_at = ?, revision = revision + 1 WHERE id IN ? AND ended_at IS NULL", at, ids).Error
		if err != nil {
			return wrap("set the dates of groups", err)
		}
	}
	return nil
}

// DateCount is how many live groups expire at a moment.
type DateCount struct {
	ExpiresAt time.Time
	N         int
}

// ExpiryDates counts the live groups that expire from one moment to another, by date.
func (s *Reads) ExpiryDates(from, to time.Time) (out []DateCount, err error) {
	err = s.db.Raw("SELECT expires_at, COUNT(*) AS n FROM mail_groups WHERE ended_at IS NULL AND expires_at >= ? AND expires_at < ? GROUP BY expires_at", from, to).Scan(&out).Error
	return out, wrap("count dates", err)
}

// Purge deletes a group and everything in it but its history.
func (s *Tx) Purge(id uuid.UUID) error {
	for {
		var mailings []Mailing
		if err := s.db.Where("group_id = ?", id).Limit(1000).Find(&mailings).Error; err != nil {
			return wrap("purge a group", err)
		}
		if len(mailings) == 0 {
			break
		}
		if err := s.deleteMail(mailings); err != nil {
			return err
		}
	}
	for _, q := range []string{
		"DELETE FROM notices WHERE group_id = ?", "DELETE FROM group_sizes WHERE group_id = ?", "DELETE FROM group_posts WHERE group_id = ?", "DELETE FROM group_tellings WHERE group_id = ?",
		"DELETE FROM requests WHERE group_id = ?", "DELETE FROM invitations WHERE group_id = ?", "DELETE FROM join_links WHERE group_id = ?",
		"DELETE FROM overrides WHERE group_id = ?", "DELETE FROM group_settings WHERE group_id = ?", "DELETE FROM group_rules WHERE group_id = ?",
		"DELETE FROM external_members WHERE group_id = ?", "DELETE FROM own_links WHERE group_id = ?", "DELETE FROM proofs WHERE group_id = ?", "DELETE FROM answers WHERE group_id = ?", "DELETE FROM consents WHERE group_id = ?", "DELETE FROM consents WHERE outer_id = ?",
		"DELETE FROM memberships WHERE group_id = ?", "DELETE FROM words WHERE ref = ?",
		"DELETE FROM addresses WHERE ref = ?", "DELETE FROM mail_groups WHERE id = ?",
		"UPDATE mail_groups g JOIN memberships m ON m.group_id = g.id SET g.nested = g.nested - 1, g.revision = g.revision + 1 WHERE m.member_id = ?",
		"DELETE FROM memberships WHERE member_id = ?",
	} {
		if err := s.writing(ofGroups).Exec(q, id).Error; err != nil {
			return wrap("purge a group", err)
		}
	}
	s.nested = true
	return nil
}
