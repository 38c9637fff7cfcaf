package store

import (
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/expand"
)

// Kinds of what is handed over when somebody leaves the organisation.
const (
	HandedOwner   int8 = 1
	HandedVoucher int8 = 2
)

// Handover is what somebody who left had, and who has it since by the rules for departures.
type Handover struct {
	PersonID  uuid.UUID `gorm:"primaryKey"`
	GroupID   uuid.UUID `gorm:"primaryKey"`
	Kind      int8      `gorm:"primaryKey"`
	SubjectID uuid.UUID `gorm:"primaryKey"` // of a voucher: the external member; else the group
	ToID      uuid.UUID
	Was       expand.Role // of an owner: what they were in the group before; 0 for nothing
	ChangeID  uuid.UUID
	At        time.Time
}

// AddHandovers records what was handed over.
func (s *Tx) AddHandovers(rows []Handover) error {
	return create(s, "record what is handed over", rows)
}

// HandedGroups returns the groups of which something was handed over when people left.
func (s *Reads) HandedGroups(people []uuid.UUID) (out []uuid.UUID, err error) {
	return out, wrap("read what was handed over", s.db.Model(&Handover{}).Distinct("group_id").Where("person_id IN ?", people).Pluck("group_id", &out).Error)
}

// TakeHandovers returns what was handed over when people left, and forgets it.
func (s *Tx) TakeHandovers(people []uuid.UUID) (rows []Handover, err error) {
	if err := s.db.Order("group_id, kind").Find(&rows, "person_id IN ?", people).Error; err != nil {
		return nil, wrap("read what was handed over", err)
	}
	return rows, wrap("forget what was handed over", s.db.Exec("DELETE FROM handovers WHERE person_id IN ?", people).Error)
}

// DecidedSince reports whether anything was recorded about somebody in a group after a change.
func (s *Reads) DecidedSince(group, person, change uuid.UUID) (since bool, err error) {
	err = s.db.Raw("SELECT EXISTS (SELECT 1 FROM history h JOIN history_people p ON p.history_id = h.id AND p.person_id = ? WHERE h.group_id = ? AND h.id > (SELECT COALESCE(MAX(id), 0) FROM history WHERE change_id = ?))", person, group, change).Scan(&since).Error
	return since, wrap("look for what was decided since", err)
}

// Moderator returns the moderator of a group who has been one for longest and is here; ErrNotFound where there is none.
func (s *Reads) Moderator(group uuid.UUID, but []uuid.UUID) (p Person, err error) {
	q := s.db.Raw("SELECT p.* FROM memberships m JOIN people p ON p.id = m.member_id AND p.active AND NOT p.external WHERE m.group_id = ? AND m.role = ? AND m.kind = 1 AND m.member_id NOT IN ? ORDER BY m.added_at, m.member_id LIMIT 1", group, expand.Moderator, but).Scan(&p)
	if q.Error == nil && q.RowsAffected == 0 {
		return p, ErrNotFound
	}
	return p, wrap("read a moderator", q.Error)
}
