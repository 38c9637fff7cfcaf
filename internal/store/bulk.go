package store

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"
)

// BulkChange is one change that many groups go through, some at a time.
type BulkChange struct {
	ID                     uuid.UUID `gorm:"primaryKey"`
	Kind                   string
	Body                   json.RawMessage // what is changed
	Says                   string
	State                  string // BulkRunning, BulkStopped or BulkDone
	Reason                 string // why it was stopped
	Total                  int
	Next                   int // the place of the first group that it has not come to
	Changed, Same, Refused int
	UndoOf, UndoneBy       *uuid.UUID
	MadeBy                 uuid.UUID
	Maker                  string // their address
	Via, RequestID         string
	MadeAt                 time.Time
	EndedAt                *time.Time
	Worker                 *uuid.UUID // who is at it until LeaseUntil, in the real time
	LeaseUntil             time.Time
}

// Where a bulk change stands.
const (
	BulkRunning = "running"
	BulkStopped = "stopped"
	BulkDone    = "done"
)

// BulkItem is a group that a bulk change goes through.
type BulkItem struct {
	BulkID  uuid.UUID `gorm:"primaryKey"`
	Place   int       `gorm:"primaryKey"` // from 0
	GroupID uuid.UUID
	Outcome string // "" not yet, changed, same, refused
	Says    string
	Was     json.RawMessage // of one that was changed: what makes it undone
	Wants   json.RawMessage // of a sheet: what the group becomes
}

// Outcomes of a bulk change in a group.
const (
	ItemChanged = "changed"
	ItemSame    = "same"
	ItemRefused = "refused"
)

// AddBulk records a bulk change that begins with groups; wants is what each of them becomes by a sheet, nil where all become the same.
func (s *Tx) AddBulk(b BulkChange, groups []uuid.UUID, wants map[uuid.UUID]json.RawMessage) error {
	if err := s.db.Create(&b).Error; err != nil {
		return wrap("record a change of many groups", err)
	}
	rows := make([]BulkItem, len(groups))
	for i, g := range groups {
		rows[i] = BulkItem{BulkID: b.ID, Place: i, GroupID: g, Wants: wants[g]}
	}
	return inBatches(rows, func(rows []BulkItem) error {
		return wrap("record the groups of a change", s.db.Create(&rows).Error)
	})
}

// Bulk returns a bulk change.
func (s *Reads) Bulk(id uuid.UUID) (b BulkChange, err error) {
	err = s.db.Take(&b, "id = ?", id).Error
	return b, wrap("read a change of many groups", err)
}

// ForgetBulks deletes up to limit bulk changes that ended before a moment, with what they kept of their groups, and says whether there may be more.
func (s *Tx) ForgetBulks(before time.Time, limit int) (more bool, err error) {
	var ids []uuid.UUID
	if err := s.db.Raw("SELECT id FROM bulk_changes WHERE ended_at < ? ORDER BY made_at LIMIT ?", before, limit).Scan(&ids).Error; err != nil || len(ids) == 0 {
		return false, wrap("forget changes of many groups", err)
	}
	for _, q := range []string{"DELETE FROM bulk_items WHERE bulk_id IN ?", "DELETE FROM bulk_changes WHERE id IN ?"} {
		if err := s.db.Exec(q, ids).Error; err != nil {
			return false, wrap("forget changes of many groups", err)
		}
	}
	return len(ids) == limit, nil
}

// Bulks returns a page of bulk changes, newest first.
func (s *Reads) Bulks(after Cursor, limit int) (Page[BulkChange], error) {
	return page(s, s.db.Model(&BulkChange{}), after, limit, sortKey[BulkChange]{column: "made_at", desc: true, value: func(b BulkChange) (string, uuid.UUID) { return b.MadeAt.Format(dbTime), b.ID }})
}

// BulkItemRow is an item with what its group is called.
type BulkItemRow struct {
	BulkItem
	Name, Address string
}

// BulkItems returns up to limit items of a bulk change from a place on, those with an outcome
// or, with "", all.
func (s *Reads) BulkItems(bulk uuid.UUID, outcome string, from, limit int) (out []BulkItemRow, err error) {
	where, args := "i.bulk_id = ? AND i.place >= ?", []any{bulk, from}
	if outcome != "" {
		where, args = where+" AND i.outcome = ?", append(args, outcome)
	}
	err = s.db.Raw("SELECT i.*, COALESCE(g.name, '') AS name, COALESCE(g.address, '') AS address FROM bulk_items i LEFT JOIN mail_groups g ON g.id = i.group_id WHERE "+where+" ORDER BY i.place LIMIT ?", append(args, limit)...).Scan(&out).Error
	return out, wrap("read the groups of a change", err)
}

// BulkChanged returns the groups that a bulk change changed.
func (s *Reads) BulkChanged(bulk uuid.UUID) (groups []uuid.UUID, err error) {
	err = s.db.Model(&BulkItem{}).Where("bulk_id = ? AND outcome = ?", bulk, ItemChanged).Order("place").Pluck("group_id", &groups).Error
	return groups, wrap("read the groups of a change", err)
}

// BulkWants returns what groups become by a sheet, by group.
func (s *Reads) BulkWants(bulk uuid.UUID, groups []uuid.UUID) (map[uuid.UUID]json.RawMessage, error) {
	var rows []BulkItem
	err := s.db.Select("group_id", "wants").Find(&rows, "bulk_id = ? AND group_id IN ?", bulk, groups).Error
	out := make(map[uuid.UUID]json.RawMessage, len(rows))
	for _, r := range rows {
		out[r.GroupID] = r.Wants
	}
	return out, wrap("read what groups become", err)
}

// BulkWas returns what a bulk change kept of some of its groups, by group.
func (s *Reads) BulkWas(bulk uuid.UUID, groups []uuid.UUID) (map[uuid.UUID]json.RawMessage, error) {
	var rows []BulkItem
	err := s.db.Find(&rows, "bulk_id = ? AND outcome = ? AND group_id IN ?", bulk, ItemChanged, groups).Error
	out := make(map[uuid.UUID]json.RawMessage, len(rows))
	for _, r := range rows {
		out[r.GroupID] = r.Was
	}
	return out, wrap("read what a change kept", err)
}

// ClaimBulk gives a bulk change that nobody is at to a worker, ErrNotFound where there is none.
func (s *Tx) ClaimBulk(worker uuid.UUID, now, until time.Time) (b BulkChange, err error) {
	if err := s.order(rankSettings); err != nil {
		return b, err
	}
	err = s.forUpdate(clause.LockingOptionsSkipLocked).Where("state = ? AND lease_until < ?", BulkRunning, now).Order("made_at").Take(&b).Error
	if err != nil {
		return b, wrap("look for a change of many groups", err)
	}
	b.Worker, b.LeaseUntil = &worker, until
	return b, s.SaveBulk(b)
}

// LockBulk returns a bulk change, and keeps others from going on with it or stopping it.
func (s *Tx) LockBulk(id uuid.UUID) (b BulkChange, err error) {
	if err := s.order(rankSettings); err != nil {
		return b, err
	}
	err = s.forUpdate().Take(&b, "id = ?", id).Error
	return b, wrap("read a change of many groups", err)
}

// SaveBulk writes a bulk change that is locked.
func (s *Tx) SaveBulk(b BulkChange) error {
	return wrap("save a change of many groups", s.db.Save(&b).Error)
}

// SaveBulkItems writes what became of items.
func (s *Tx) SaveBulkItems(items []BulkItem) error {
	if len(items) == 0 {
		return nil
	}
	update := clause.OnConflict{DoUpdates: clause.AssignmentColumns([]string{"outcome", "says", "was"})}
	return wrap("record what became of groups", s.db.Clauses(update).Create(&items).Error)
}

// SetRoles gives one person a role in many groups that they are in.
func (s *Tx) SetRoles(person uuid.UUID, groups []uuid.UUID, role any) error {
	if len(groups) == 0 {
		return nil
	}
	return wrap("change roles", s.writing(ofGroups).Exec("UPDATE memberships SET role = ? WHERE member_id = ? AND group_id IN ?", role, person, groups).Error)
}
