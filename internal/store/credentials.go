package store

import (
	"database/sql"
	"errors"
	"time"

	"github.com/google/uuid"
)

// Credential is a session or a token. Only the hash of its secret is kept.
type Credential struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	Kind      string
	Hash      []byte
	PersonID  uuid.UUID
	Name      string
	CreatedAt time.Time
	ExpiresAt time.Time

	Scopes     string     // of a token: what it is good for, with spaces between
	LastUsedAt *time.Time // of a token, within ten minutes

	SecondFactor bool `gorm:"-"` // its person has one
}

// Kinds of credentials.
const (
	SessionCredential = "session"
	TokenCredential   = "token"
	PasswordLink      = "password" // opens nothing but the choice of a password
)

// AddCredential records a session or token.
func (s *Tx) AddCredential(c Credential) error {
	return s.AddCredentials([]Credential{c})
}

// AddCredentials records credentials.
func (s *Tx) AddCredentials(all []Credential) error {
	return wrap("record credentials", s.db.CreateInBatches(all, batch).Error)
}

// CountCredentials returns how many of a kind a person has that were made since.
func (s *Reads) CountCredentials(kind string, person uuid.UUID, since time.Time) (n int64, err error) {
	err = s.db.Model(&Credential{}).Where("person_id = ? AND kind = ? AND created_at >= ?", person, kind, since).Count(&n).Error
	return n, wrap("count credentials", err)
}

// EndOtherCredentials ends those of a kind that a person has, but for one.
func (s *Tx) EndOtherCredentials(kind string, person, but uuid.UUID) error {
	return wrap("end credentials", s.db.Delete(&Credential{}, "person_id = ? AND kind = ? AND id <> ?", person, kind, but).Error)
}

// SetPassword writes what is kept of a person's password.
func (s *Tx) SetPassword(person uuid.UUID, hash string) error {
	return wrap("write a password", s.writing(ofPeople).Exec("UPDATE people SET password_hash = ? WHERE id = ?", hash, person).Error)
}

// CredentialByHash returns what a session or token is good for, and its person
// without the password.
func (s *Reads) CredentialByHash(hash []byte) (c Credential, p Person, err error) {
	row := s.db.Raw(`SELECT c.id, c.kind, c.expires_at, c.scopes, c.last_used_at, p.id, p.address, p.addr_key, p.name, p.external, p.active, p.workspace_role, p.attributes,
		f.confirmed_at IS NOT NULL FROM credentials c JOIN people p ON p.id = c.person_id LEFT JOIN second_factors f ON f.person_id = p.id WHERE c.hash = ?`, hash).Row()
	err = row.Scan(&c.ID, &c.Kind, &c.ExpiresAt, &c.Scopes, &c.LastUsedAt, &p.ID, &p.Address, &p.AddrKey, &p.Name, &p.External, &p.Active, &p.WorkspaceRole, &p.Attributes, &c.SecondFactor)
	if errors.Is(err, sql.ErrNoRows) {
		return c, p, ErrNotFound
	}
	c.PersonID = p.ID
	return c, p, wrap("read a credential", err)
}

// Tokens returns a page of somebody's tokens, newest first.
func (s *Reads) Tokens(person uuid.UUID, after Cursor, limit int) (Page[Credential], error) {
	db := s.db.Model(&Credential{}).Where("person_id = ? AND kind = ?", person, TokenCredential)
	return page(s, db, after, limit, sortKey[Credential]{column: "created_at", desc: true, value: func(c Credential) (string, uuid.UUID) { return c.CreatedAt.Format(dbTime), c.ID }})
}

// DeleteCredential ends one of somebody's sessions or tokens.
func (s *Tx) DeleteCredential(kind string, person, id uuid.UUID) error {
	r := s.db.Delete(&Credential{}, "id = ? AND person_id = ? AND kind = ?", id, person, kind)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return wrap("end a credential", r.Error)
}

// Credential returns one of somebody's sessions or tokens.
func (s *Reads) Credential(kind string, person, id uuid.UUID) (c Credential, err error) {
	err = s.db.Take(&c, "id = ? AND person_id = ? AND kind = ?", id, person, kind).Error
	return c, wrap("read a credential", err)
}

// UseCredential notes when a token was used.
func (s *Tx) UseCredential(id uuid.UUID, at time.Time) error {
	return wrap("note the use of a token", s.db.Exec("UPDATE credentials SET last_used_at = ? WHERE id = ?", at, id).Error)
}

// DeleteExpiredCredentials forgets sessions and tokens that ended before now.
func (s *Tx) DeleteExpiredCredentials(now time.Time) error {
	return wrap("forget credentials", s.db.Delete(&Credential{}, "expires_at < ?", now).Error)
}
