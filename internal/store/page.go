package store

import (
	"encoding/base64"
	"encoding/json"
	"fmt"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"
	"gorm.io/gorm"
)

// Cursor is the place in a list after which a page begins. The zero value is the
// beginning.
type Cursor struct {
	Value string    `json:"v,omitempty"`
	ID    uuid.UUID `json:"i"`
	Total int64     `json:"t"` // counted once, for the first page
	Of    string    `json:"o"` // names the list: its filter and its order
}

// Empty reports whether a cursor stands at the beginning of its list.
func (c Cursor) Empty() bool { return c.Value == "" && c.ID == uuid.Nil }

// String returns the cursor as text for a URL, "" at the beginning.
func (c Cursor) String() string {
	if c.Empty() {
		return ""
	}
	b, _ := json.Marshal(c)
	return base64.RawURLEncoding.EncodeToString(b)
}

// next returns the place after a row of the same list.
func (c Cursor) next(value string, id uuid.UUID, total int64) Cursor {
	return Cursor{value, id, total, c.Of}
}

// ParseCursor reads a cursor that String wrote.
func ParseCursor(s string) (c Cursor, err error) {
	b, err := base64.RawURLEncoding.DecodeString(s)
	if err == nil {
		err = json.Unmarshal(b, &c)
	}
	if err != nil || c.Empty() {
		return Cursor{}, fmt.Errorf("the cursor %.40q was not given out by this service", s)
	}
	return c, nil
}

// Page is part of a list. Next is the zero Cursor on the last page.
type Page[T any] struct {
	Items []T
	Next  Cursor
	Total int64
}

// sortKey says by which column a list is sorted, ties by id, and how to read the
// place of a row back.
type sortKey[T any] struct {
	column string
	desc   bool
	id     string // the column that decides between rows with the same value; "": id
	value  func(T) (string, uuid.UUID)
	kept   bool                               // how long the list is may be kept: only tables that something is kept of are asked
	read   func(q *gorm.DB, items *[]T) error // nil: by reflection
}

// length counts the rows of a query.
func length(s *Reads, q *gorm.DB, keep bool) (int64, error) {
	read := func() (n int64, err error) {
		err = q.Session(&gorm.Session{}).Count(&n).Error
		return n, err
	}
	if !keep {
		return read()
	}
	var n int64
	dry := q.Session(&gorm.Session{DryRun: true}).Count(&n).Statement
	return s.keptCount(ofGroups, dry.SQL.String(), dry.Vars, read)
}

func page[T any](s *Reads, db *gorm.DB, after Cursor, limit int, key sortKey[T]) (Page[T], error) {
	p := Page[T]{Total: after.Total}
	var all errgroup.Group
	if inTx(db) {
		all.SetLimit(1) // a transaction is one connection
	}
	if after.Empty() {
		all.Go(func() (err error) {
			p.Total, err = length(s, db.Session(&gorm.Session{}), key.kept)
			return wrap("count a list", err)
		})
	}
	dir, cmp := "", ">"
	if key.desc {
		dir, cmp = " DESC", "<"
	}
	if key.id == "" {
		key.id = "id"
	}
	q := db.Session(&gorm.Session{})
	if !after.Empty() {
		q = q.Where(fmt.Sprintf("(%s %s ? OR %s = ? AND %s %s ?)", key.column, cmp, key.column, key.id, cmp), after.Value, after.Value, after.ID)
	}
	if key.read == nil {
		key.read = func(q *gorm.DB, items *[]T) error { return q.Find(items).Error }
	}
	all.Go(func() error {
		return wrap("read a list", key.read(q.Order(key.column+dir).Order(key.id+dir).Limit(limit+1), &p.Items))
	})
	if err := all.Wait(); err != nil {
		return p, err
	}
	if len(p.Items) > limit {
		p.Items = p.Items[:limit]
		value, id := key.value(p.Items[limit-1])
		p.Next = after.next(value, id, p.Total)
	}
	return p, nil
}

// batch is how many values go into one statement.
const batch = 5000

// inBatches calls f with at most batch values at a time.
func inBatches[T any](all []T, f func([]T) error) error {
	for len(all) > 0 {
		n := min(len(all), batch)
		if err := f(all[:n]); err != nil {
			return err
		}
		all = all[n:]
	}
	return nil
}
