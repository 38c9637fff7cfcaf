package store

import (
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"
)

// Setting reads a setting of the workspace into v and returns its version, 0 with
// v untouched where it was never set.
func (s *Reads) Setting(name string, v any) (version int, err error) {
	row, err := readSetting(s.db, name, "")
	return row.into(v, err)
}

// CachedSetting is Setting for what is shown: a change by another process is seen
// within five seconds.
func (s *Reads) CachedSetting(name string, v any) (version int, err error) {
	row, err := s.keptSetting(name)
	return row.into(v, err)
}

// LockSetting is Setting for a transaction that will change it. A setting that was
// never set gets an empty row, so that there is something to lock.
func (s *Tx) LockSetting(name string, v any) (version int, err error) {
	if err := s.order(rankSettings); err != nil {
		return version, err
	}
	if s.looking {
		return s.Setting(name, v)
	}
	if err := s.writing(ofSettings).Exec("INSERT INTO settings (name, value, version) VALUES (?, 'null', 0) ON DUPLICATE KEY UPDATE version = version", name).Error; err != nil {
		return 0, wrap("lock a setting", err)
	}
	row, err := readSetting(s.db, name, s.locking("FOR UPDATE"))
	return row.into(v, err)
}

// RLockSetting is Setting for a transaction that goes by it: it keeps the setting as it is
// until the transaction ends. Many can do so at once.
func (s *Tx) RLockSetting(name string, v any) (version int, err error) {
	if err := s.order(rankSettings); err != nil {
		return version, err
	}
	var row settingRow
	err = s.db.Raw("SELECT value, version FROM settings WHERE name = ?"+s.locking("LOCK IN SHARE MODE"), name).Scan(&row).Error
	return row.into(v, wrap("read a setting", err))
}

// settingRow is a setting as it is written; Value is nil for one that was never set.
type settingRow struct {
	Value   json.RawMessage
	Version int
}

func readSetting(db *gorm.DB, name, lock string) (row settingRow, err error) {
	err = db.Raw("SELECT value, version FROM settings WHERE name = ?"+lock, name).Row().Scan(&row.Value, &row.Version)
	if errors.Is(err, sql.ErrNoRows) {
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
func (s *Tx) SaveSetting(name string, v any, version int) error {
	b, err := json.Marshal(v)
	if err != nil {
		return err
	}
	return wrap("write a setting", s.writing(ofSettings).Exec(`INSERT INTO settings (name, value, version) VALUES (?, ?, ?)
		ON DUPLICATE KEY UPDATE value = VALUES(value), version = VALUES(version)`, name, string(b), version).Error)
}

// Terms is the setting "terms": how long groups live.
type Terms struct {
	Rules        []TermRule  `json:"rules"`
	Notices      []int       `json:"notices"` // days before the end
	RecoveryDays int         `json:"recovery_days"`
	AddressDays  int         `json:"address_days"` // for which the addresses of a group that is gone are nobody's
	Managers     bool        `json:"managers"`     // the last notice goes to the owners' managers too
	Caretakers   []Caretaker `json:"caretakers"`
	TimeZone     string      `json:"time_zone"` // IANA name
}

// TermRule is how long the groups live that a filter names.
type TermRule struct {
	Name      string   `json:"name"`
	Filter    string   `json:"filter"` // of core/filter's Groups; "" for all groups
	Length    string   `json:"length"` // as core/lifecycle reads it
	Notices   []int    `json:"notices,omitempty"`
	RenewedBy []string `json:"renewed_by,omitempty"`
}

// Caretaker is who gets the notices of groups without owners that a filter names.
type Caretaker struct {
	Filter  string `json:"filter"` // as in a TermRule
	Address string `json:"address"`
}

// Naming is the setting "naming": what groups may be called.
type Naming struct {
	Creators   string    `json:"creators"` // administrators, workspace
	Pattern    string    `json:"pattern"`
	Others     []Pattern `json:"others,omitempty"`
	Words      []string  `json:"words"`
	Beginnings []string  `json:"beginnings"`
}

// Pattern is how groups are named that a filter matches.
type Pattern struct {
	Filter  string `json:"filter"`
	Pattern string `json:"pattern"`
}

// PendingRuleChange is a change of who is in a group by its rule that waits for a
// person, as it is stored with the rule.
type PendingRuleChange struct {
	At    time.Time `json:"at"`
	Cause string    `json:"cause"`
	Come  int       `json:"come"`
	Go    int       `json:"go"`
}

// Decision is what was decided about a message, as it is stored with it.
type Decision struct {
	Outcome string   `json:"outcome"`
	Rule    string   `json:"rule"`
	Reasons []Reason `json:"reasons"`
}

// Reason is one step of a Decision.
type Reason struct {
	Rule string  `json:"rule"`
	Says string  `json:"says"`
	Mend *string `json:"mend"`
}
