package store

import (
	"encoding/base64"
	"encoding/json"
	"fmt"

	"github.com/google/uuid"
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
}

func page[T any](db *gorm.DB, after Cursor, limit int, key sortKey[T]) (Page[T], error) {
	p := Page[T]{Total: after.Total}
	if after == (Cursor{}) {
		if err := db.Session(&gorm.Session{}).Count(&p.Total).Error; err != nil {
			return p, wrap("count a list", err)
		}
	}
	dir, cmp := "", ">"
	if key.desc {
		dir, cmp = " DESC", "<"
	}
	q := db.Session(&gorm.Session{})
	if after != (Cursor{}) {
		q = q.Where(fmt.Sprintf("(%s %s ? OR %s = ? AND id %s ?)", key.column, cmp, key.column, cmp), after.Value, after.Value, after.ID)
	}
	if err := q.Order(key.column + dir).Order("id" + dir).Limit(limit + 1).Find(&p.Items).Error; err != nil {
		return p, wrap("read a list", err)
	}
	if len(p.Items) > limit {
		p.Items = p.Items[:limit]
		p.Next.Value, p.Next.ID = key.value(p.Items[limit-1])
		p.Next.Total = p.Total
	}
	return p, nil
}
