package store

import (
	"database/sql"
	"time"

	"github.com/google/uuid"
)

// FirstSeal returns the first place of the chain that there is a seal of; 0 without any.
func (s *Reads) FirstSeal() (place int64, err error) {
	err = s.db.Raw("SELECT COALESCE(MIN(place), 0) FROM history_seals").Scan(&place).Error
	return place, wrap("read a seal", err)
}

// OldestEvent returns when the oldest entry of the history was made; the zero value without any.
func (s *Reads) OldestEvent() (at time.Time, err error) {
	var first sql.NullTime
	err = s.db.Raw("SELECT at FROM history ORDER BY id LIMIT 1").Scan(&first).Error
	return first.Time, wrap("read the history", err)
}

// LastOfKind returns the newest entry of a kind.
func (s *Reads) LastOfKind(kind string) (e Event, err error) {
	err = s.db.Where("kind = ?", kind).Order("id DESC").Take(&e).Error
	return e, wrap("read the history", err)
}

// Old is the beginning of the chain: entries that were made before a moment.
type Old struct {
	Place   int64   // of the last one; 0: there are none
	Entries []int64 // their numbers
}

// OldHistory returns up to limit of the first entries of the chain that were made before a moment. It ends at the first that was made
// later, or that is not there any more.
func (s *Reads) OldHistory(before time.Time, limit int) (out Old, err error) {
	var place, entry int64
	var at sql.NullTime
	stop := false
	err = eachRow(s.db.Raw("SELECT s.place, s.entry, h.at FROM history_seals s LEFT JOIN history h ON h.id = s.entry ORDER BY s.place LIMIT ?", limit), func(scan func(...any) error) error {
		if err := scan(&place, &entry, &at); err != nil {
			return err
		}
		if stop = stop || !at.Valid || !at.Time.Before(before); !stop {
			out.Place, out.Entries = place, append(out.Entries, entry)
		}
		return nil
	})
	return out, wrap("read the history", err)
}

// ForgetHistory deletes the beginning of the chain, and what was noted of names that were taken out of it.
func (s *Tx) ForgetHistory(old Old, erased string) error {
	return inBatches(old.Entries, func(numbers []int64) error {
		var changes []uuid.UUID
		if err := s.db.Raw("SELECT change_id FROM history WHERE id IN ? AND kind = ?", numbers, erased).Scan(&changes).Error; err != nil {
			return wrap("forget the history", err)
		}
		if len(changes) > 0 {
			if err := s.db.Exec("DELETE FROM history_left WHERE change_id IN ?", changes).Error; err != nil {
				return wrap("forget the history", err)
			}
		}
		for _, sql := range []string{"DELETE FROM history_people WHERE history_id IN ?", "DELETE FROM history_seals WHERE entry IN ?", "DELETE FROM history WHERE id IN ?"} {
			if err := s.db.Exec(sql, numbers).Error; err != nil {
				return wrap("forget the history", err)
			}
		}
		return nil
	})
}
