package store

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/rule"
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

// EraseNames takes names out of entries of the history, in one change: clean changes an entry, and reports whether it did. What was taken
// out stays committed to, so that the chain holds. It returns what is left of those entries that were changed.
func (s *Tx) EraseNames(entries []int64, change uuid.UUID, clean func(*seal.Entry) (bool, error)) (left []seal.Left, err error) {
	err = inBatches(entries, func(numbers []int64) error {
		all, err := s.sealed(numbers)
		if err != nil {
			return err
		}
		var rows []historySeal
		if err := s.db.Find(&rows, "entry IN ?", numbers).Error; err != nil {
			return err
		}
		seals := map[int64]historySeal{}
		for _, x := range rows {
			seals[x.Entry] = x
		}
		var changed []int64
		for _, e := range all {
			did, err := s.eraseEntry(e, seals[e.Number], clean)
			if err != nil {
				return err
			}
			if did {
				changed = append(changed, e.Number)
			}
		}
		if all, err = s.sealed(changed); err != nil { // as they are kept
			return err
		}
		for _, e := range all {
			l := e.Left()
			if err := s.db.Exec("INSERT INTO history_left (change_id, entry, hash) VALUES (?, ?, ?)", change, l.Number, l.Hash[:]).Error; err != nil {
				return err
			}
			left = append(left, l)
		}
		return nil
	})
	return left, wrap("take names out of the history", err)
}

// sealed returns entries as they are sealed, in order.
func (s *Reads) sealed(numbers []int64) (all []*seal.Entry, err error) {
	if len(numbers) == 0 {
		return nil, nil
	}
	var r sealScan
	err = eachRow(s.db.Raw("SELECT "+sealColumns+" FROM history h WHERE h.id IN ? ORDER BY h.id", numbers), func(scan func(...any) error) error {
		if err := scan(r.into()...); err != nil {
			return err
		}
		e, err := r.entry()
		all = append(all, e)
		return err
	})
	if err != nil {
		return nil, err
	}
	return all, withAffected(s.db, all)
}

// eraseEntry takes names out of one entry, and reports whether there were any.
func (s *Tx) eraseEntry(e *seal.Entry, kept historySeal, clean func(*seal.Entry) (bool, error)) (bool, error) {
	before := *e
	before.Affected = slices.Clone(e.Affected)
	if changed, err := clean(e); err != nil || !changed {
		return false, err
	}
	if kept.Seal == nil {
		return false, ErrUnsealed
	}
	if kept.Names == nil {
		names := before.Names(kept.Salt)
		if err := s.db.Exec("UPDATE history_seals SET names = ?, salt = ? WHERE entry = ?", names[:], make([]byte, seal.SaltSize), e.Number).Error; err != nil {
			return false, err
		}
	}
	if err := s.db.Exec("UPDATE history SET actor = ?, data = ? WHERE id = ?", e.Actor, e.Data, e.Number).Error; err != nil {
		return false, err
	}
	for i, a := range e.Affected {
		if a != before.Affected[i] {
			if err := s.db.Exec("UPDATE history_people SET label = ? WHERE history_id = ? AND person_id = ?", a.Label, e.Number, uuid.UUID(a.Who)).Error; err != nil {
				return false, err
			}
		}
	}
	return true, nil
}

// Left returns what was left of entries when names were taken out of them, by the change that did it.
func (s *Reads) Left() (map[uuid.UUID][]seal.Left, error) {
	out := map[uuid.UUID][]seal.Left{}
	return out, wrap("read what was taken out", eachRow(s.db.Raw("SELECT change_id, entry, hash FROM history_left"), func(scan func(...any) error) error {
		var id uuid.UUID
		var number int64
		var hash []byte
		err := scan(&id, &number, &hash)
		out[id] = append(out[id], seal.Left{Number: number, Hash: seal.Hash(pad(hash))})
		return err
	}))
}

// EventsAbout returns the entries of one kind that affected somebody.
func (s *Reads) EventsAbout(person uuid.UUID, kind string) (out []Event, err error) {
	err = s.db.Raw("SELECT h.* FROM history_people p JOIN history h ON h.id = p.history_id WHERE p.person_id = ? AND h.kind = ? ORDER BY h.id", person, kind).Scan(&out).Error
	return out, wrap("read entries", err)
}

// Called returns the names of people, but for one of them, in which one of some names stands, whatever their case.
func (s *Reads) Called(names []string, but uuid.UUID) (out []string, err error) {
	var where []string
	args := []any{but}
	for _, n := range names {
		where, args = append(where, "name_key LIKE ?"), append(args, "%"+likeText(rule.Fold(n))+"%")
	}
	if len(where) > 0 {
		err = s.db.Raw("SELECT name FROM people WHERE id <> ? AND ("+strings.Join(where, " OR ")+") LIMIT 1000", args...).Scan(&out).Error
	}
	return out, wrap("read names", err)
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
// addresses are free. was are the addresses that they have and had, and nobody else.
func (s *Tx) ErasePerson(p *Person, was []string, name string, to mailaddr.Address, at time.Time) error {
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
		if err := s.db.Exec("UPDATE round_groups SET owners = TRIM(BOTH '\n' FROM REPLACE(CONCAT('\n', owners, '\n'), CONCAT('\n', ?, '\n'), CONCAT('\n', ?, '\n'))) WHERE owners LIKE ?", w, to.String(), "%"+likeText(w)+"%").Error; err != nil {
			return wrap("erase a person", err)
		}
	}
	p.Name, p.Address, p.AddrKey, p.Attributes, p.PasswordHash, p.ErasedAt = name, to.String(), to.Key(), json.RawMessage("{}"), "", &at
	if err := s.takeAddresses([]address{addressRow(to, KindPerson, p.ID)}); err != nil {
		return err
	}
	return s.SavePerson(p, true)
}
