package store

import (
	"time"

	"github.com/google/uuid"
)

// Answer notes that a sender gets an automatic answer of a group now, unless they got one after a moment.
func (s *Tx) Answer(group uuid.UUID, sender string, now, after time.Time) (due bool, err error) {
	r := s.db.Exec("UPDATE answers SET at = ? WHERE group_id = ? AND addr_key = ? AND at <= ?", now, group, sender, after)
	if r.Error == nil && r.RowsAffected == 0 {
		r = s.db.Exec("INSERT IGNORE INTO answers (group_id, addr_key, at) VALUES (?, ?, ?)", group, sender, now)
	}
	return r.RowsAffected > 0, wrap("note an automatic answer", r.Error)
}

// ForgetAnswers forgets answers that were given before a moment.
func (s *Tx) ForgetAnswers(before time.Time) error {
	return wrap("forget automatic answers", s.db.Exec("DELETE FROM answers WHERE at < ? LIMIT 10000", before).Error)
}
