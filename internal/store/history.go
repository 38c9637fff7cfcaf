package store

import (
	"crypto/sha1"
	"encoding/json"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/rule"
)

// Event is an entry of the history as it is kept: Data is the stored form of package
// event. Events of one change share its identifier.
type Event struct {
	ID        int64
	ChangeID  uuid.UUID
	At        time.Time
	Kind      string
	ActorID   *uuid.UUID
	Actor     string // address
	Via       string
	GroupID   *uuid.UUID
	Data      json.RawMessage
	RequestID string
	Part      bool // of a change that has an event of its own
}

// TableName is the table of the history.
func (Event) TableName() string { return "history" }

// Affected is what an event did to one person, address or nested group.
type Affected struct {
	HistoryID int64     `gorm:"primaryKey"`
	PersonID  uuid.UUID `gorm:"primaryKey"`
	Was       string    // their role; "" for none
	Now       string
	Label     *string // the address of a group, or of somebody who is not known yet; nil for a person, whose entry stays
}

// TableName is the table of who was affected.
func (Affected) TableName() string { return "history_people" }

// addressSpace is the name space of the identifiers of addresses that nobody has an
// entry for (RFC 9562, 5.5).
var addressSpace = uuid.MustParse("0193583a-3a5c-7d11-9d0e-0d5a4f6d2c01")

// AddressID returns the identifier by which the history knows an address that nobody
// has an entry for.
func AddressID(key string) uuid.UUID {
	return uuid.NewHash(sha1.New(), addressSpace, []byte(key), 5)
}

// AddEvents records events, each with everybody whom it affected. Nothing here changes
// or deletes one.
func (s *Tx) AddEvents(events []Event, affected [][]Affected) error {
	var rows []Affected
	for at := 0; at < len(events); at += batch {
		some := events[at:min(at+batch, len(events))]
		if err := s.db.Create(some).Error; err != nil {
			return wrap("write the history", err)
		}
		s.proof = proof{"history", some[0].ID}
		for i := range some {
			for _, a := range affected[at+i] {
				a.HistoryID = some[i].ID
				rows = append(rows, a)
			}
		}
	}
	return inBatches(rows, func(rows []Affected) error { return wrap("write the history", s.db.Create(&rows).Error) })
}

// Event returns an entry of the history.
func (s *Reads) Event(id int64) (e Event, err error) {
	err = s.db.Take(&e, "id = ?", id).Error
	return e, wrap("read the history", err)
}

// AffectedRow is one who was affected by an event, with what they are called now.
type AffectedRow struct {
	Affected
	Name    string
	Address string
}

// AffectedBy returns up to limit of those whom an event affected after one of them, by
// identifier, and how many there are.
func (s *Reads) AffectedBy(event int64, after uuid.UUID, limit int) (out []AffectedRow, total int64, err error) {
	if err := s.db.Model(&Affected{}).Where("history_id = ?", event).Count(&total).Error; err != nil {
		return nil, 0, wrap("read the history", err)
	}
	err = s.db.Raw(`SELECT a.*, COALESCE(p.name, g.name, '') AS name, COALESCE(p.address, g.address, a.label, '') AS address FROM history_people a
		LEFT JOIN people p ON p.id = a.person_id LEFT JOIN mail_groups g ON g.id = a.person_id
		WHERE a.history_id = ? AND a.person_id > ? ORDER BY a.person_id LIMIT ?`, event, after, limit).Scan(&out).Error
	return out, total, wrap("read the history", err)
}

// Affected returns everybody whom an event affected.
func (s *Reads) Affected(event int64) (out []Affected, err error) {
	err = s.db.Find(&out, "history_id = ?", event).Error
	return out, wrap("read the history", err)
}

// EventSince returns the newest entry after one, and of another change, of some kinds, about a group or a person; 0 for none.
func (s *Reads) EventSince(entry int64, change, group, person uuid.UUID, kinds []string) (id int64, err error) {
	query, args := "SELECT h.id FROM history h WHERE h.group_id = ?", []any{group}
	if person != uuid.Nil {
		query, args = "SELECT h.id FROM history_people a JOIN history h ON h.id = a.history_id WHERE a.person_id = ?", []any{person}
	}
	err = s.db.Raw(query+" AND h.id > ? AND h.change_id <> ? AND h.kind IN ? ORDER BY h.id DESC LIMIT 1", append(args, entry, change, kinds)...).Scan(&id).Error
	return id, wrap("read the history", err)
}

// TakenOutBy returns the people and nested groups whom an event took out of its group.
func (s *Reads) TakenOutBy(event int64) (out []Affected, err error) {
	err = s.db.Find(&out, "history_id = ? AND was <> '' AND now = ''", event).Error
	return out, wrap("read the history", err)
}

// EventsOfPerson returns events before a number, newest first, that a person made or
// that affected them, before they had an entry too.
func (s *Reads) EventsOfPerson(person, address uuid.UUID, before int64, limit int) ([]Event, error) {
	if before == 0 {
		before = 1 << 62
	}
	var out []Event
	err := s.db.Raw(`SELECT h.* FROM history h JOIN (
		(SELECT id FROM history WHERE actor_id = ? AND id < ? ORDER BY id DESC LIMIT ?) UNION
		(SELECT history_id FROM history_people WHERE person_id = ? AND history_id < ? ORDER BY history_id DESC LIMIT ?) UNION
		(SELECT history_id FROM history_people WHERE person_id = ? AND history_id < ? ORDER BY history_id DESC LIMIT ?)) x ON x.id = h.id ORDER BY h.id DESC LIMIT ?`,
		person, before, limit, person, before, limit, address, before, limit, limit).Scan(&out).Error
	return out, wrap("read the history", err)
}

// Events returns events before a number, newest first: of one group, or all, that a filter
// of core/filter's History matches, where there is one. Without either, parts of larger changes
// are left out: those have an event that stands for them. Zero begins at the newest. ErrTooSlow
// says that the filter took longer than is allowed.
func (s *Reads) Events(group uuid.UUID, by *rule.Rule, before int64, limit int) (out []Event, err error) {
	l := listing{from: "history h", bounded: by != nil}
	add := func(sql string, args ...any) { l.where = l.where.and(condition{sql, args}) }
	if group != uuid.Nil {
		add("h.group_id = ?", group)
	}
	if group == uuid.Nil && by == nil {
		add("h.part = FALSE")
	}
	if before > 0 {
		add("h.id < ?", before)
	}
	if by != nil {
		c, err := historyFilter().where(by.Root(), true)
		if err != nil {
			return nil, err
		}
		add("("+c.sql+")", c.args...)
	}
	q, args := l.query("h.*", l.from, false, condition{})
	err = s.db.Raw(q+" ORDER BY h.id DESC LIMIT ?", append(args, limit)...).Scan(&out).Error
	return out, l.failed("read the history", err)
}
