package store

import (
	"database/sql"
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
	Value string    `json:"v"`
	ID    uuid.UUID `json:"i"`
	Total int64     `json:"t"` // counted once, for the first page
}

// String returns the cursor as text for a URL, "" for the zero value.
func (c Cursor) String() string {
	if c == (Cursor{}) {
		return ""
	}
	b, _ := json.Marshal(c)
	return base64.RawURLEncoding.EncodeToString(b)
}

// ParseCursor reads a cursor that String wrote.
func ParseCursor(s string) (c Cursor, err error) {
	if s == "" {
		return c, nil
	}
	b, err := base64.RawURLEncoding.DecodeString(s)
	if err == nil {
		err = json.Unmarshal(b, &c)
	}
	if err != nil {
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
	value  func(T) (string, uuid.UUID)

	// For the longest list, where reading by reflection would cost as much as the
	// query: its columns, and where each goes. Nil: by reflection.
	columns string
	into    func(*T) []any
}

// read runs the query of a page.
func (k sortKey[T]) read(q *gorm.DB, items *[]T) error {
	if k.into == nil {
		return q.Find(items).Error
	}
	rows, err := q.Select(k.columns).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var item T
		if err := rows.Scan(k.into(&item)...); err != nil {
			return err
		}
		*items = append(*items, item)
	}
	return rows.Err()
}

func page[T any](db *gorm.DB, after Cursor, limit int, key sortKey[T]) (Page[T], error) {
	p := Page[T]{Total: after.Total}
	var all errgroup.Group
	if _, inTx := db.Statement.ConnPool.(*sql.Tx); inTx {
		all.SetLimit(1) // a transaction is one connection
	}
	if after == (Cursor{}) {
		all.Go(func() error { return wrap("count a list", db.Session(&gorm.Session{}).Count(&p.Total).Error) })
	}
	dir, cmp := "", ">"
	if key.desc {
		dir, cmp = " DESC", "<"
	}
	q := db.Session(&gorm.Session{})
	if after != (Cursor{}) {
		q = q.Where(fmt.Sprintf("(%s %s ? OR %s = ? AND id %s ?)", key.column, cmp, key.column, cmp), after.Value, after.Value, after.ID)
	}
	all.Go(func() error {
		return wrap("read a list", key.read(q.Order(key.column+dir).Order("id"+dir).Limit(limit+1), &p.Items))
	})
	if err := all.Wait(); err != nil {
		return p, err
	}
	if len(p.Items) > limit {
		p.Items = p.Items[:limit]
		p.Next.Value, p.Next.ID = key.value(p.Items[limit-1])
		p.Next.Total = p.Total
	}
	return p, nil
}
