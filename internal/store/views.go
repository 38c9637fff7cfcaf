package store

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"
)

// SavedView is a filter, columns and an order of a list, kept under a name: by one person, or
// by administrators for all of them.
type SavedView struct {
	ID      uuid.UUID `gorm:"primaryKey"`
	OwnerID uuid.UUID // whose it is; the zero one: for all administrators
	List    string    // groups, people, history
	Name    string
	NameKey string // as names are compared
	Filter  string
	Columns json.RawMessage // a list of names
	Sort    string
	MadeBy  string
	MadeAt  time.Time
	Version int
}

// TableName is the table of views.
func (SavedView) TableName() string { return "saved_views" }

// Views returns the views of a list that belong to any of owners, by name.
func (s *Reads) Views(list string, owners []uuid.UUID) (out []SavedView, err error) {
	err = s.db.Order("name, id").Limit(500).Find(&out, "list = ? AND owner_id IN ?", list, owners).Error
	return out, wrap("read views", err)
}

// View returns one view.
func (s *Reads) View(id uuid.UUID) (v SavedView, err error) {
	err = s.db.Take(&v, "id = ?", id).Error
	return v, wrap("read a view", err)
}

// LockViews keeps others from adding views until the transaction ends.
func (s *Tx) LockViews() error {
	if err := s.order(rankSettings); err != nil {
		return err
	}
	return wrap("lock the views", s.db.Raw("SELECT version FROM settings WHERE name = 'views'"+s.locking("FOR UPDATE")).Scan(new(int)).Error)
}

// LockView returns one view and keeps others from changing it.
func (s *Tx) LockView(id uuid.UUID) (v SavedView, err error) {
	if err := s.order(rankEntries); err != nil {
		return v, err
	}
	err = s.forUpdate().Take(&v, "id = ?", id).Error
	return v, wrap("read a view", err)
}

// SaveView writes a view, new or not. ErrDuplicate says that there is one of that name.
func (s *Tx) SaveView(v SavedView) error { return wrap("save a view", s.db.Save(&v).Error) }

// DeleteView removes a view.
func (s *Tx) DeleteView(id uuid.UUID) error {
	return wrap("delete a view", s.db.Delete(&SavedView{ID: id}).Error)
}
