package store

import (
	"time"
)

// SigningKey is a key that mail in the name of a domain is signed with.
type SigningKey struct {
	Domain     string `gorm:"primaryKey"`
	Selector   string `gorm:"primaryKey"`
	PrivateKey []byte // PKCS 8
	PublicKey  string // as it stands in its record, base64
	Used       bool   // mail is signed with it now
	MadeAt     time.Time
	MadeBy     string
	UsedAt     *time.Time // since when it is used, or was first
}

// SigningKeys returns the keys of a domain, the newest first.
func (s *Reads) SigningKeys(domain string) (out []SigningKey, err error) {
	return out, wrap("read keys", s.db.Order("made_at DESC, selector DESC").Find(&out, "domain = ?", domain).Error)
}

// UsedKeys returns the keys that mail is signed with now, one a domain at most; as they were within the last five seconds.
func (s *Reads) UsedKeys() ([]SigningKey, error) {
	return load(s, s.memory.signing, ofSettings, "", func(int64) (out []SigningKey, err error) {
		return out, wrap("read keys", s.db.Find(&out, "used").Error)
	})
}

// AddSigningKey records a key.
func (s *Tx) AddSigningKey(k SigningKey) error {
	return wrap("record a key", s.writing(ofSettings).Create(&k).Error)
}

// UseSigningKey has mail in the name of a domain signed with one of its keys, and with no other.
func (s *Tx) UseSigningKey(domain, selector string, now time.Time) error {
	return wrap("use a key", s.writing(ofSettings).Exec("UPDATE signing_keys SET used_at = IF(selector = ?, COALESCE(used_at, ?), used_at), used = (selector = ?) WHERE domain = ?", selector, now, selector, domain).Error)
}

// DeleteSigningKey deletes a key.
func (s *Tx) DeleteSigningKey(domain, selector string) error {
	return wrap("delete a key", s.writing(ofSettings).Exec("DELETE FROM signing_keys WHERE domain = ? AND selector = ?", domain, selector).Error)
}
