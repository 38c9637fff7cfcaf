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

// Eraser takes what names somebody out of texts. about says whether a text is about them.
type Eraser interface {
	Text(text string, about bool) string
	JSON(b []byte, about bool) ([]byte, error)
}

// form is how a column that can name somebody is written.
type form int

const (
	plainText form = iota
	jsonText
	lineList  // an address a line: theirs goes
	foldedKey // another column of the row, as filters compare it; it has the name of that and _key
)

// naming are the columns that can name somebody beside those of the history and of the person. TestEveryTextIsErased holds that each
// column of text is here or among the unnaming.
var naming = []struct {
	table, column string
	form          form
}{
	{"bulk_changes", "body", jsonText}, {"bulk_changes", "says", plainText}, {"bulk_changes", "reason", plainText},
	{"bulk_items", "says", plainText}, {"bulk_items", "was", jsonText}, {"bulk_items", "wants", jsonText},
	{"external_members", "reason", plainText}, {"failures", "recipient", plainText}, {"failures", "reply", plainText},
	{"findings", "accepted_why", plainText}, {"findings", "says", plainText}, {"group_rules", "expression", plainText}, {"group_rules", "pending", jsonText},
	{"idempotency", "answer", jsonText}, {"invitations", "address", plainText}, {"invitations", "addr_key", plainText}, {"invitations", "reason", plainText},
	{"jobs", "recipients", lineList}, {"jobs", "reply", plainText}, {"join_links", "note", plainText},
	{"mailings", "sender", plainText}, {"mailings", "fields", plainText}, {"mailings", "decision", jsonText}, {"mailings", "reason", plainText},
	{"mail_groups", "description", plainText}, {"mail_groups", "description_key", foldedKey}, {"mail_groups", "welcome", plainText}, {"mail_groups", "mail", jsonText},
	{"mail_groups", "exempt", plainText}, {"mail_groups", "kept", plainText},
	{"messages", "author", plainText}, {"messages", "return_path", plainText}, {"messages", "subject", plainText}, {"messages", "message_id", plainText}, {"messages", "header", plainText},
	{"notice_letters", "recipient", plainText}, {"notice_links", "recipient", plainText}, {"overrides", "reason", plainText},
	{"proofs", "note", plainText}, {"purged_groups", "description", plainText}, {"purged_groups", "owners", plainText},
	{"requests", "note", plainText}, {"requests", "reason", plainText}, {"returns", "recipient", plainText}, {"returns", "reply", plainText},
	{"rounds", "note", plainText}, {"rounds", "stand_in", plainText}, {"rounds", "filter", plainText},
	{"round_groups", "answerer", plainText}, {"round_groups", "owners", plainText}, {"round_groups", "note", plainText}, {"round_groups", "says", plainText},
	{"round_letters", "recipient", plainText}, {"saved_views", "name", plainText}, {"saved_views", "name_key", foldedKey}, {"saved_views", "filter", plainText},
	{"settings", "value", jsonText}, {"starting_points", "title", plainText}, {"starting_points", "about", plainText}, {"starting_points", "welcome", plainText}, {"starting_points", "mail", jsonText},
	{"transmissions", "recipients", plainText}, {"transmissions", "first", plainText}, {"transmissions", "last", plainText},
}

// eraseTexts takes what names somebody by some words out of all texts. It goes once through each table that has such.
func (s *Tx) eraseTexts(words []string, clean Eraser) error {
	for _, n := range naming {
		var keys []string
		err := s.db.Raw("SELECT column_name FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = ? AND column_key = 'PRI' ORDER BY ordinal_position", n.table).Scan(&keys).Error
		if err != nil {
			return wrap("erase a person", err)
		}
		var where []string
		var args []any
		for _, w := range words {
			quoted, err := json.Marshal(w)
			if err != nil {
				return err
			}
			for _, form := range []string{w, string(quoted[1 : len(quoted)-1])} {
				where, args = append(where, fmt.Sprintf("LOWER(CONVERT(`%s` USING utf8mb4)) LIKE LOWER(?)", n.column)), append(args, "%"+likeText(form)+"%")
			}
		}
		type found struct {
			key  []any
			text string
		}
		var rows []found
		err = eachRow(s.db.Raw(fmt.Sprintf("SELECT `%s`, `%s` FROM `%s` WHERE %s", strings.Join(keys, "`, `"), n.column, n.table, strings.Join(where, " OR ")), args...), func(scan func(...any) error) error {
			f := found{key: make([]any, len(keys))}
			into := make([]any, 0, len(keys)+1)
			for i := range f.key {
				into = append(into, &f.key[i])
			}
			err := scan(append(into, &f.text)...)
			for i, k := range f.key {
				if b, is := k.([]byte); is { // an identifier is compared as text
					f.key[i] = string(b)
				}
			}
			rows = append(rows, f)
			return err
		})
		if err != nil {
			return wrap("erase a person", err)
		}
		for _, f := range rows {
			text := clean.Text(f.text, false)
			switch n.form {
			case foldedKey:
				if err := s.db.Raw(fmt.Sprintf("SELECT `%s` FROM `%s` WHERE `%s` = ?", strings.TrimSuffix(n.column, "_key"), n.table, strings.Join(keys, "` = ? AND `")), f.key...).Row().Scan(&text); err != nil {
					return wrap("erase a person", err)
				}
				text = rule.Fold(text)
			case jsonText:
				b, err := clean.JSON([]byte(f.text), false)
				if err != nil {
					return fmt.Errorf("erase a person from %s.%s: %w", n.table, n.column, err)
				}
				text = string(b)
			case lineList:
				text = strings.Join(slices.DeleteFunc(strings.Split(f.text, "\n"), func(line string) bool { return clean.Text(line, false) != line }), "\n")
			}
			if text == f.text {
				continue
			}
			if err := s.writing(ofGroups|ofPeople|ofSettings).Exec(fmt.Sprintf("UPDATE IGNORE `%s` SET `%s` = ? WHERE `%s` = ?", n.table, n.column, strings.Join(keys, "` = ? AND `")), append([]any{text}, f.key...)...).Error; err != nil {
				return wrap("erase a person", err)
			}
		}
	}
	return nil
}

// BeingDelivered reports whether a message is being delivered that has just come to one of some addresses.
func (s *Reads) BeingDelivered(addresses []string) (is bool, err error) {
	err = s.db.Raw("SELECT EXISTS (SELECT 1 FROM jobs WHERE handed_to IN ?)", addresses).Scan(&is).Error
	return is, wrap("look for deliveries", err)
}

// ErasePerson takes what names somebody, who is locked, by some words, out of their entry and out of all other records but the history.
// Their addresses are free. was are the addresses that they have and had, and nobody else.
func (s *Tx) ErasePerson(p *Person, was, words []string, clean Eraser, name string, to mailaddr.Address, at time.Time) error {
	for _, q := range []string{"DELETE FROM addresses WHERE ref = ?", "DELETE FROM words WHERE ref = ? AND kind = 1", "DELETE FROM person_values WHERE person_id = ?", "DELETE FROM credentials WHERE person_id = ?", "DELETE FROM second_factors WHERE person_id = ?", "UPDATE requests SET note = '' WHERE person_id = ?"} {
		if err := s.db.Exec(q, p.ID).Error; err != nil {
			return wrap("erase a person", err)
		}
	}
	for _, table := range []string{"overrides", "answers", "caretaker_proofs", "proofs", "sign_in_attempts"} {
		if err := s.db.Exec("DELETE FROM "+table+" WHERE addr_key IN ?", was).Error; err != nil {
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
	if err := s.eraseTexts(words, clean); err != nil {
		return err
	}
	p.Name, p.Address, p.AddrKey, p.Attributes, p.PasswordHash, p.MailPausedWhy, p.ErasedAt = name, to.String(), to.Key(), json.RawMessage("{}"), "", "", &at
	if err := s.takeAddresses([]address{addressRow(to, KindPerson, p.ID)}); err != nil {
		return err
	}
	return s.SavePerson(p, true)
}
