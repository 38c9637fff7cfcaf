package store

import (
	"database/sql"
	"errors"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"
)

// signInAttempts counts the passwords that one source tried for one address and that were
// not right.
type signInAttempts struct {
	AddrKey  string `gorm:"primaryKey"`
	Source   string `gorm:"primaryKey"`
	Failures int
	LastAt   time.Time
}

// CountSignIn counts an attempt by a source to sign in at an address, before it is known
// whether it succeeds, and returns how many there are. since before ends an earlier count;
// those beyond max do not make it last longer.
func (s *Tx) CountSignIn(key, source string, now, since time.Time, max int) (n int, last time.Time, err error) {
	err = s.db.Exec(`INSERT INTO sign_in_attempts (addr_key, source, failures, last_at) VALUES (?, ?, 1, ?)
		ON DUPLICATE KEY UPDATE failures = IF(last_at < ?, 1, failures + 1), last_at = IF(failures > ?, last_at, VALUES(last_at))`, key, source, now, since, max).Error
	var a signInAttempts
	if err == nil {
		err = s.db.Take(&a, "addr_key = ? AND source = ?", key, source).Error
	}
	return a.Failures, a.LastAt, wrap("count an attempt to sign in", err)
}

// ClearSignIns forgets the attempts of a source at an address, of all sources with "".
func (s *Tx) ClearSignIns(key, source string) error {
	return wrap("clear attempts", s.db.Delete(&signInAttempts{}, "addr_key = ? AND (? = '' OR source = ?)", key, source, source).Error)
}

// DeleteSignIns forgets attempts from before a time, and turns that were taken a day before
// that.
func (s *Tx) DeleteSignIns(before time.Time) error {
	return wrap("forget attempts", s.db.Delete(&signInAttempts{}, "last_at < ? AND (source <> '' OR last_at < ?)", before, before.AddDate(0, 0, -1)).Error)
}

// Guessing is how many wrong passwords there were lately.
type Guessing struct {
	Sources  int  // that tried the address
	BySource int  // by the source, at whatever address
	Known    bool // somebody signed in from the source at the address before
}

// Guessing returns how many wrong passwords there were since a time: at an address, and by a
// source.
func (s *Reads) Guessing(key, source string, since time.Time) (g Guessing, err error) {
	err = s.db.Raw(`SELECT (SELECT COUNT(*) FROM sign_in_attempts WHERE addr_key = ? AND last_at >= ? AND failures > 0),
		(SELECT COALESCE(SUM(failures), 0) FROM sign_in_attempts WHERE source = ? AND last_at >= ?),
		EXISTS (SELECT 1 FROM known_sources k JOIN people p ON p.id = k.person_id WHERE p.addr_key = ? AND k.source = ?)`,
		key, since, source, since, key, source).Row().Scan(&g.Sources, &g.BySource, &g.Known)
	return g, wrap("count wrong passwords", err)
}

// Turn takes one turn of a thing that can be done once in a while, and reports whether it is
// that long ago.
func (s *Tx) Turn(key string, now time.Time, every time.Duration) (bool, error) {
	r := s.db.Exec(`INSERT INTO sign_in_attempts (addr_key, source, failures, last_at) VALUES (?, '', 0, ?)
		ON DUPLICATE KEY UPDATE failures = IF(last_at <= ?, 0, 1), last_at = IF(last_at <= ?, VALUES(last_at), last_at)`, key, now, now.Add(-every), now.Add(-every))
	if r.Error != nil {
		return false, wrap("take a turn", r.Error)
	}
	var a signInAttempts
	err := s.db.Take(&a, "addr_key = ? AND source = ''", key).Error
	return a.LastAt.Equal(now), wrap("take a turn", err)
}

// KnowSource notes that somebody signed in from a source.
func (s *Tx) KnowSource(person uuid.UUID, source string, at time.Time) error {
	return wrap("note a source", s.db.Exec("INSERT INTO known_sources (person_id, source, last_at) VALUES (?, ?, ?) ON DUPLICATE KEY UPDATE last_at = VALUES(last_at)", person, source, at).Error)
}

// ForgetSources forgets sources from which nobody signed in since.
func (s *Tx) ForgetSources(since time.Time) error {
	return wrap("forget sources", s.db.Exec("DELETE FROM known_sources WHERE last_at < ?", since).Error)
}

// SecondFactor is what somebody proves beside the password that they are (RFC 6238).
type SecondFactor struct {
	PersonID    uuid.UUID `gorm:"primaryKey"`
	Secret      []byte
	ConfirmedAt *time.Time // nil: it was begun, and is not in force yet
	LastStep    int64      // of the code that was used last
}

// SecondFactor returns somebody's; ErrNotFound where they have none, nor began one.
func (s *Reads) SecondFactor(person uuid.UUID) (f SecondFactor, err error) {
	err = s.db.Take(&f, "person_id = ?", person).Error
	return f, wrap("read a second factor", err)
}

// SaveSecondFactor writes somebody's.
func (s *Tx) SaveSecondFactor(f SecondFactor) error {
	return wrap("write a second factor", s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&f).Error)
}

// UseStep marks the code of a step as used, and reports whether none as late was.
func (s *Tx) UseStep(person uuid.UUID, step int64) (bool, error) {
	r := s.db.Exec("UPDATE second_factors SET last_step = ? WHERE person_id = ? AND last_step < ?", step, person, step)
	return r.RowsAffected > 0, wrap("use a code", r.Error)
}

// EndSecondFactor forgets somebody's, with its recovery codes.
func (s *Tx) EndSecondFactor(person uuid.UUID) error {
	return errors.Join(wrap("end a second factor", s.db.Exec("DELETE FROM second_factors WHERE person_id = ?", person).Error), s.SetRecoveryCodes(person, nil))
}

// SetRecoveryCodes puts somebody's recovery codes, by their hashes, in place of those of before.
func (s *Tx) SetRecoveryCodes(person uuid.UUID, hashes [][]byte) error {
	err := s.db.Exec("DELETE FROM recovery_codes WHERE person_id = ?", person).Error
	for _, h := range hashes {
		if err == nil {
			err = s.db.Exec("INSERT INTO recovery_codes (person_id, hash) VALUES (?, ?)", person, h).Error
		}
	}
	return wrap("write recovery codes", err)
}

// UseRecoveryCode uses one up, and reports whether there was such a one.
func (s *Tx) UseRecoveryCode(person uuid.UUID, hash []byte) (bool, error) {
	r := s.db.Exec("DELETE FROM recovery_codes WHERE person_id = ? AND hash = ?", person, hash)
	return r.RowsAffected > 0, wrap("use a recovery code", r.Error)
}

// CountRecoveryCodes returns how many somebody has left.
func (s *Reads) CountRecoveryCodes(person uuid.UUID) (n int64, err error) {
	err = s.db.Raw("SELECT COUNT(*) FROM recovery_codes WHERE person_id = ?", person).Scan(&n).Error
	return n, wrap("count recovery codes", err)
}

// Spend counts what somebody used up of a day's budget, and returns how much that is now.
func (s *Tx) Spend(person uuid.UUID, day time.Time, kind string, n int) (spent int, err error) {
	err = s.db.Exec("INSERT INTO spent (person_id, day, kind, n) VALUES (?, ?, ?, ?) ON DUPLICATE KEY UPDATE n = n + VALUES(n)", person, day.Format(time.DateOnly), kind, n).Error
	if err != nil {
		return 0, wrap("count what was spent", err)
	}
	return s.Spent(person, day, kind)
}

// Spent returns how much somebody used up of a day's budget.
func (s *Reads) Spent(person uuid.UUID, day time.Time, kind string) (n int, err error) {
	err = s.db.Raw("SELECT n FROM spent WHERE person_id = ? AND day = ? AND kind = ?", person, day.Format(time.DateOnly), kind).Row().Scan(&n)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return n, wrap("read what was spent", err)
}

// ForgetSpent forgets what was spent before a day.
func (s *Tx) ForgetSpent(before time.Time) error {
	return wrap("forget what was spent", s.db.Exec("DELETE FROM spent WHERE day < ?", before.Format(time.DateOnly)).Error)
}
