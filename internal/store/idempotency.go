package store

import (
	"encoding/json"
	"time"

	"github.com/google/uuid"
)

// Idempotency remembers what a request with a key of the client's answered, without
// any secret of the answer.
type Idempotency struct {
	PersonID  uuid.UUID `gorm:"primaryKey"`
	IdemKey   string    `gorm:"primaryKey"`
	Request   []byte    // SHA-256 of what was asked for
	Answer    json.RawMessage
	CreatedAt time.Time
}

// TableName is the table of idempotency keys.
func (Idempotency) TableName() string { return "idempotency" }

// Idempotency returns what an earlier request with the key answered, ErrNotFound
// without one.
func (s *Reads) Idempotency(person uuid.UUID, key string) (i Idempotency, err error) {
	err = s.db.Take(&i, "person_id = ? AND idem_key = ?", person, key).Error
	return i, wrap("read an idempotency key", err)
}

// AddIdempotency takes a key; ErrDuplicate says that another request was first. One
// that is under way makes this one wait for its end.
func (s *Tx) AddIdempotency(i Idempotency) error {
	i.Answer = json.RawMessage("null")
	return wrap("record an idempotency key", s.db.Create(&i).Error)
}

// AnswerIdempotency records what the request of a key answered.
func (s *Tx) AnswerIdempotency(person uuid.UUID, key string, answer json.RawMessage) error {
	return wrap("record an answer", s.db.Exec("UPDATE idempotency SET answer = ? WHERE person_id = ? AND idem_key = ?", string(answer), person, key).Error)
}

// DeleteIdempotency forgets keys that were used before a time.
func (s *Tx) DeleteIdempotency(before time.Time) error {
	return wrap("forget idempotency keys", s.db.Delete(&Idempotency{}, "created_at < ?", before).Error)
}
