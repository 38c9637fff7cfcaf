package store

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/seal"
)

// ErrUnsealed says that an entry of the history has no seal yet, so that nothing can be taken out of it.
var ErrUnsealed = errors.New("an entry is not sealed yet")

// EntriesAbout returns the entries of the history that somebody made, or in which one of some words stands. It goes once through the history.
func (s *Reads) EntriesAbout(person uuid.UUID, words []string) (entries []int64, err error) {
	where, args := "h.actor_id = ?", []any{person}
	for _, w := range words {
		quoted, err := json.Marshal(w) // as it stands in what is recorded
		if err != nil {
			return nil, err
		}
		like := "%" + likeText(string(quoted[1:len(quoted)-1])) + "%"
		where, args = where+" OR h.actor = ? OR h.data LIKE ?", append(args, w, like)
	}
	err = s.db.Raw("SELECT h.id FROM history h WHERE "+where+" UNION SELECT p.history_id FROM history_people p WHERE p.person_id = ? AND p.label IS NOT NULL ORDER BY 1", append(args, person)...).Scan(&entries).Error
	return entries, wrap("look for entries", err)
}

// EraseNames takes names out of entries of the history, in one change: clean says what becomes of each text. What was taken out stays
// committed to, so that the chain holds. It returns of how many entries it took something out.
func (s *Tx) EraseNames(entries []int64, change uuid.UUID, clean func(text string) string) (n int, err error) {
	err = inBatches(entries, func(numbers []int64) error {
		var r sealScan
		var all []*seal.Entry
		salts, done := map[int64][]byte{}, map[int64]bool{}
		err := eachRow(s.db.Raw("SELECT "+sealColumns+" FROM history h WHERE h.id IN ? ORDER BY h.id", numbers), func(scan func(...any) error) error {
			if err := scan(r.into()...); err != nil {
				return err
			}
			e, err := r.entry()
			all = append(all, e)
			return err
		})
		if err != nil {
			return err
		}
		var rows []historySeal
		if err := s.db.Find(&rows, "entry IN ?", numbers).Error; err != nil {
			return err
		}
		for _, x := range rows {
			salts[x.Entry], done[x.Entry] = x.Salt, x.Names != nil
		}
		if err := withAffected(s.db, all); err != nil {
			return err
		}
		for _, e := range all {
			changed, err := s.eraseEntry(e, salts[e.Number], done[e.Number], change, clean)
			if err != nil {
				return err
			}
			if changed {
				n++
			}
		}
		return nil
	})
	return n, wrap("take names out of the history", err)
}

// eraseEntry takes names out of one entry, and reports whether it was the first time that something was taken out of it.
func (s *Tx) eraseEntry(e *seal.Entry, salt []byte, before bool, change uuid.UUID, clean func(string) string) (first bool, err error) {
	data, err := cleanJSON(e.Data, clean)
	if err != nil {
		return false, fmt.Errorf("entry %d: %w", e.Number, err)
	}
	actor := clean(e.Actor)
	labels := false
	for _, a := range e.Affected {
		labels = labels || clean(a.Label) != a.Label
	}
	if actor == e.Actor && bytes.Equal(data, e.Data) && !labels {
		return false, nil
	}
	if salt == nil {
		return false, ErrUnsealed
	}
	if !before {
		names := e.Names(salt)
		if err := s.db.Exec("UPDATE history_seals SET names = ?, salt = ?, erased_in = ? WHERE entry = ?", names[:], make([]byte, seal.SaltSize), change, e.Number).Error; err != nil {
			return false, err
		}
	}
	if err := s.db.Exec("UPDATE history SET actor = ?, data = ? WHERE id = ?", actor, data, e.Number).Error; err != nil {
		return false, err
	}
	for _, a := range e.Affected {
		if label := clean(a.Label); label != a.Label {
			if err := s.db.Exec("UPDATE history_people SET label = ? WHERE history_id = ? AND person_id = ?", label, e.Number, uuid.UUID(a.Who)).Error; err != nil {
				return false, err
			}
		}
	}
	return !before, nil
}

// cleanJSON changes the texts in a JSON value, but for the names of its fields.
func cleanJSON(b []byte, clean func(string) string) ([]byte, error) {
	if len(b) == 0 {
		return b, nil
	}
	d := json.NewDecoder(bytes.NewReader(b))
	d.UseNumber()
	var v any
	if err := d.Decode(&v); err != nil {
		return nil, err
	}
	changed := false
	var walk func(v any) any
	walk = func(v any) any {
		switch v := v.(type) {
		case string:
			out := clean(v)
			changed = changed || out != v
			return out
		case []any:
			for i := range v {
				v[i] = walk(v[i])
			}
		case map[string]any:
			for k := range v {
				v[k] = walk(v[k])
			}
		}
		return v
	}
	if v = walk(v); !changed {
		return b, nil
	}
	return json.Marshal(v)
}

// Erasures returns of how many entries names were taken out, by the change that did it.
func (s *Reads) Erasures() (map[uuid.UUID]int, error) {
	out := map[uuid.UUID]int{}
	return out, wrap("read what was taken out", eachRow(s.db.Raw("SELECT COALESCE(erased_in, CAST('00000000-0000-0000-0000-000000000000' AS UUID)), COUNT(*) FROM history_seals WHERE names IS NOT NULL GROUP BY 1"), func(scan func(...any) error) error {
		var id uuid.UUID
		var n int
		err := scan(&id, &n)
		out[id] = n
		return err
	}))
}

// EventsOf returns the entries of one kind that changes made, by change.
func (s *Reads) EventsOf(changes []uuid.UUID, kind string) (map[uuid.UUID]Event, error) {
	var rows []Event
	err := s.db.Find(&rows, "change_id IN ? AND kind = ?", changes, kind).Error
	out := make(map[uuid.UUID]Event, len(rows))
	for _, e := range rows {
		out[e.ChangeID] = e
	}
	return out, wrap("read entries", err)
}

// ErasePerson takes what names somebody, who is locked, out of their entry and out of all that notes by whom something was done. Their
// addresses are free. was are the addresses that they have and had.
func (s *Tx) ErasePerson(p *Person, was []string, name string, to mailaddr.Address) error {
	for _, q := range []string{"DELETE FROM addresses WHERE ref = ?", "DELETE FROM words WHERE ref = ? AND kind = 1", "DELETE FROM person_values WHERE person_id = ?", "DELETE FROM credentials WHERE person_id = ?", "DELETE FROM second_factors WHERE person_id = ?", "UPDATE requests SET note = '' WHERE person_id = ?"} {
		if err := s.db.Exec(q, p.ID).Error; err != nil {
			return wrap("erase a person", err)
		}
	}
	for _, q := range []string{"DELETE FROM overrides WHERE addr_key IN ?", "UPDATE round_groups SET answerer = '' WHERE answered_by IN ?"} {
		if err := s.db.Exec(q, was).Error; err != nil {
			return wrap("erase a person", err)
		}
	}
	var columns []struct{ TableName, ColumnName string }
	err := s.db.Raw("SELECT table_name, column_name FROM information_schema.columns WHERE table_schema = DATABASE() AND data_type = 'varchar' AND (column_name LIKE '%\\_by' OR column_name = 'maker')").Scan(&columns).Error
	if err != nil {
		return wrap("erase a person", err)
	}
	for _, c := range columns {
		if err := s.writing(ofGroups).Exec(fmt.Sprintf("UPDATE `%s` SET `%s` = ? WHERE `%s` IN ?", c.TableName, c.ColumnName, c.ColumnName), to.String(), was).Error; err != nil {
			return wrap("erase a person", err)
		}
	}
	for _, w := range was {
		if err := s.db.Exec("UPDATE round_groups SET owners = REPLACE(owners, ?, ?) WHERE owners LIKE ?", w, to.String(), "%"+likeText(w)+"%").Error; err != nil {
			return wrap("erase a person", err)
		}
	}
	p.Name, p.Address, p.AddrKey, p.Attributes, p.PasswordHash = name, to.String(), to.Key(), json.RawMessage("{}"), ""
	if err := s.takeAddresses([]address{addressRow(to, KindPerson, p.ID)}); err != nil {
		return err
	}
	return s.SavePerson(p, true)
}
