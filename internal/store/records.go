package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Change is an entry of the history.
type Change struct {
	ID        int64
	At        time.Time
	ActorID   *uuid.UUID
	Actor     string
	Via       string
	Action    string
	GroupID   *uuid.UUID
	Subject   string
	Changes   json.RawMessage
	RequestID string
}

// TableName is the table of the history.
func (Change) TableName() string { return "history" }

// AddHistory records changes. Nothing here changes or deletes one.
func (s *Store) AddHistory(ctx context.Context, rows []Change) error {
	return wrap("write the history", s.with(ctx).CreateInBatches(rows, 1000).Error)
}

// Affected is what an entry of the history did to one person or nested group.
type Affected struct {
	HistoryID int64     `gorm:"primaryKey"`
	PersonID  uuid.UUID `gorm:"primaryKey"`
	Was       string    // their role; "" for none
	Now       string
}

// TableName is the table of who was affected.
func (Affected) TableName() string { return "history_people" }

// AddHistoryOf records a change with everybody whom it affected.
func (s *Store) AddHistoryOf(ctx context.Context, c Change, affected []Affected) error {
	if err := s.with(ctx).Create(&c).Error; err != nil {
		return wrap("write the history", err)
	}
	for i := range affected {
		affected[i].HistoryID = c.ID
	}
	return inBatches(affected, func(rows []Affected) error { return wrap("write the history", s.with(ctx).Create(&rows).Error) })
}

// AddHistoryEach records changes, each of which affected one person or group.
func (s *Store) AddHistoryEach(ctx context.Context, rows []Change, affected []Affected) error {
	for len(rows) > 0 {
		n := min(len(rows), batch)
		if err := s.with(ctx).Create(rows[:n]).Error; err != nil {
			return wrap("write the history", err)
		}
		for i := range n {
			affected[i].HistoryID = rows[i].ID
		}
		if err := s.with(ctx).Create(affected[:n]).Error; err != nil {
			return wrap("write the history", err)
		}
		rows, affected = rows[n:], affected[n:]
	}
	return nil
}

// TakenOutBy returns an entry of the history with the people and nested groups whom
// it took out of its group.
func (s *Store) TakenOutBy(ctx context.Context, entry int64) (c Change, out []Affected, err error) {
	if err := s.with(ctx).Take(&c, "id = ?", entry).Error; err != nil {
		return c, nil, wrap("read the history", err)
	}
	err = s.with(ctx).Find(&out, "history_id = ? AND was <> '' AND now = ''", entry).Error
	return c, out, wrap("read the history", err)
}

// HistoryOfPerson returns entries before a number, newest first, that a person made
// or that affected them.
func (s *Store) HistoryOfPerson(ctx context.Context, person uuid.UUID, before int64, limit int) (out []Change, next int64, err error) {
	if before == 0 {
		before = 1 << 62
	}
	err = s.with(ctx).Raw(`SELECT h.* FROM history h JOIN (
		(SELECT id FROM history WHERE actor_id = ? AND id < ? ORDER BY id DESC LIMIT ?) UNION
		(SELECT history_id FROM history_people WHERE person_id = ? AND history_id < ? ORDER BY history_id DESC LIMIT ?)) x ON x.id = h.id ORDER BY h.id DESC LIMIT ?`,
		person, before, limit+1, person, before, limit+1, limit+1).Scan(&out).Error
	if len(out) > limit {
		out = out[:limit]
		next = out[limit-1].ID
	}
	return out, next, wrap("read the history", err)
}

// History returns entries before a number, newest first: of one group, or all.
// Zero begins at the newest.
func (s *Store) History(ctx context.Context, group uuid.UUID, before int64, limit int) (out []Change, next int64, err error) {
	db := s.with(ctx).Order("id DESC").Limit(limit + 1)
	if group != uuid.Nil {
		db = db.Where("group_id = ?", group)
	}
	if before > 0 {
		db = db.Where("id < ?", before)
	}
	if err := db.Find(&out).Error; err != nil {
		return nil, 0, wrap("read the history", err)
	}
	if len(out) > limit {
		out = out[:limit]
		next = out[limit-1].ID
	}
	return out, next, nil
}

// Setting reads a setting of the workspace into v and returns its version, 0 with
// v untouched where it was never set.
func (s *Store) Setting(ctx context.Context, name string, v any) (version int, err error) {
	row, err := readSetting(s.with(ctx), name)
	return row.into(v, err)
}

// KeptSetting is Setting for what is shown: a change by another process is seen
// within five seconds.
func (s *Store) KeptSetting(ctx context.Context, name string, v any) (version int, err error) {
	row, err := s.keptSetting(name, func() (settingRow, error) { return readSetting(s.with(ctx), name) })
	return row.into(v, err)
}

// LockSetting is Setting for a transaction that will change it. A setting that was
// never set gets an empty row, so that there is something to lock.
func (s *Store) LockSetting(ctx context.Context, name string, v any) (version int, err error) {
	if err := s.with(ctx).Exec("INSERT IGNORE INTO settings (name, value, version) VALUES (?, 'null', 0)", name).Error; err != nil {
		return 0, wrap("lock a setting", err)
	}
	row, err := readSetting(s.with(ctx).Clauses(clause.Locking{Strength: "UPDATE"}), name)
	return row.into(v, err)
}

// settingRow is a setting as it is written; Value is nil for one that was never set.
type settingRow struct {
	Value   json.RawMessage
	Version int
}

func readSetting(db *gorm.DB, name string) (row settingRow, err error) {
	err = db.Table("settings").Where("name = ?", name).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return settingRow{}, nil
	}
	return row, wrap("read a setting", err)
}

func (r settingRow) into(v any, err error) (version int, _ error) {
	if err != nil || r.Value == nil {
		return 0, err
	}
	return r.Version, json.Unmarshal(r.Value, v)
}

// SaveSetting writes a setting with its new version.
func (s *Store) SaveSetting(ctx context.Context, name string, v any, version int) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return wrap("write a setting", s.with(ctx).Exec(`INSERT INTO settings (name, value, version) VALUES (?, ?, ?)
		ON DUPLICATE KEY UPDATE value = VALUES(value), version = VALUES(version)`, name, string(b), version).Error)
}

// Credential is a session or a token. Only the hash of its secret is kept.
type Credential struct {
	ID        uuid.UUID `gorm:"primaryKey"`
	Kind      string
	Hash      []byte
	PersonID  uuid.UUID
	Name      string
	CreatedAt time.Time
	ExpiresAt time.Time
}

// Kinds of credentials.
const (
	SessionCredential = "session"
	TokenCredential   = "token"
	PasswordLink      = "password" // opens nothing but the choice of a password
)

// AddCredential records a session or token.
func (s *Store) AddCredential(ctx context.Context, c Credential) error {
	return s.AddCredentials(ctx, []Credential{c})
}

// AddCredentials records credentials.
func (s *Store) AddCredentials(ctx context.Context, all []Credential) error {
	return wrap("record credentials", s.with(ctx).CreateInBatches(all, batch).Error)
}

// CountCredentials returns how many of a kind a person has that were made since.
func (s *Store) CountCredentials(ctx context.Context, kind string, person uuid.UUID, since time.Time) (n int64, err error) {
	err = s.with(ctx).Model(&Credential{}).Where("person_id = ? AND kind = ? AND created_at >= ?", person, kind, since).Count(&n).Error
	return n, wrap("count credentials", err)
}

// EndOtherCredentials ends those of a kind that a person has, but for one.
func (s *Store) EndOtherCredentials(ctx context.Context, kind string, person, but uuid.UUID) error {
	return wrap("end credentials", s.with(ctx).Delete(&Credential{}, "person_id = ? AND kind = ? AND id <> ?", person, kind, but).Error)
}

// SetPassword writes what is kept of a person's password.
func (s *Store) SetPassword(ctx context.Context, person uuid.UUID, hash string) error {
	return wrap("write a password", s.with(ctx).Exec("UPDATE people SET password_hash = ? WHERE id = ?", hash, person).Error)
}

// CredentialByHash returns what a session or token is good for, and its person
// without the password.
func (s *Store) CredentialByHash(ctx context.Context, hash []byte) (c Credential, p Person, err error) {
	row := s.with(ctx).Raw(`SELECT c.id, c.kind, c.expires_at, p.id, p.address, p.addr_key, p.name, p.external, p.active, p.workspace_role, p.attributes
		FROM credentials c JOIN people p ON p.id = c.person_id WHERE c.hash = ?`, hash).Row()
	err = row.Scan(&c.ID, &c.Kind, &c.ExpiresAt, &p.ID, &p.Address, &p.AddrKey, &p.Name, &p.External, &p.Active, &p.WorkspaceRole, &p.Attributes)
	if errors.Is(err, sql.ErrNoRows) {
		return c, p, ErrNotFound
	}
	c.PersonID = p.ID
	return c, p, wrap("read a credential", err)
}

// Tokens returns somebody's tokens, newest first; at most 100 are kept per person.
func (s *Store) Tokens(ctx context.Context, person uuid.UUID) (out []Credential, err error) {
	err = s.with(ctx).Order("id DESC").Limit(100).Find(&out, "person_id = ? AND kind = ?", person, TokenCredential).Error
	return out, wrap("read tokens", err)
}

// DeleteCredential ends one of somebody's sessions or tokens.
func (s *Store) DeleteCredential(ctx context.Context, kind string, person, id uuid.UUID) error {
	r := s.with(ctx).Delete(&Credential{}, "id = ? AND person_id = ? AND kind = ?", id, person, kind)
	if r.Error == nil && r.RowsAffected == 0 {
		return ErrNotFound
	}
	return wrap("end a credential", r.Error)
}

// DeleteExpiredCredentials forgets sessions and tokens that ended before now.
func (s *Store) DeleteExpiredCredentials(ctx context.Context, now time.Time) error {
	return wrap("forget credentials", s.with(ctx).Delete(&Credential{}, "expires_at < ?", now).Error)
}

// signInFailure counts wrong passwords for one address.
type signInFailure struct {
	AddrKey  string `gorm:"primaryKey"`
	Failures int
	LastAt   time.Time
}

// SignInFailures returns how often, and when last, a wrong password was given for
// an address since the last right one.
func (s *Store) SignInFailures(ctx context.Context, key string) (n int, last time.Time, err error) {
	var f signInFailure
	err = s.with(ctx).Take(&f, "addr_key = ?", key).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = nil
	}
	return f.Failures, f.LastAt, wrap("read failures", err)
}

// CountSignInFailure counts a wrong password; since before ends an earlier count.
func (s *Store) CountSignInFailure(ctx context.Context, key string, now, since time.Time) error {
	return wrap("count a failure", s.with(ctx).Exec(`INSERT INTO sign_in_failures (addr_key, failures, last_at) VALUES (?, 1, ?)
		ON DUPLICATE KEY UPDATE failures = IF(last_at < ?, 1, failures + 1), last_at = VALUES(last_at)`, key, now, since).Error)
}

// ClearSignInFailures forgets the count after a right password.
func (s *Store) ClearSignInFailures(ctx context.Context, key string) error {
	return wrap("clear failures", s.with(ctx).Delete(&signInFailure{}, "addr_key = ?", key).Error)
}

// Idempotency remembers which group a creation with a key of the client's made.
type Idempotency struct {
	PersonID  uuid.UUID `gorm:"primaryKey"`
	IdemKey   string    `gorm:"primaryKey"`
	Request   []byte    // SHA-256 of what was asked for
	GroupID   uuid.UUID
	CreatedAt time.Time
}

// TableName is the table of idempotency keys.
func (Idempotency) TableName() string { return "idempotency" }

// Idempotency returns what an earlier request with the key made, ErrNotFound without one.
func (s *Store) Idempotency(ctx context.Context, person uuid.UUID, key string) (i Idempotency, err error) {
	err = s.with(ctx).Take(&i, "person_id = ? AND idem_key = ?", person, key).Error
	return i, wrap("read an idempotency key", err)
}

// AddIdempotency remembers a key; ErrDuplicate says that another request was first.
func (s *Store) AddIdempotency(ctx context.Context, i Idempotency) error {
	return wrap("record an idempotency key", s.with(ctx).Create(&i).Error)
}
