package store

import (
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"ivytable.example/ivytable/internal/core/policy"
)

// Proof is that somebody outside the workspace wants to be in a group and has been sent a letter by
// which they prove their address. Only the hash of its secret is kept.
type Proof struct {
	Hash      []byte `gorm:"primaryKey"`
	GroupID   uuid.UUID
	Address   string
	AddrKey   string
	Name      string
	Note      string
	ExpiresAt time.Time
}

// SaveProof records a proof in place of an earlier one of the same address to the same group.
func (s *Tx) SaveProof(p Proof) error {
	return wrap("record a proof", s.db.Clauses(clause.OnConflict{UpdateAll: true}).Create(&p).Error)
}

// Proof returns a proof by its secret's hash.
func (s *Reads) Proof(hash []byte) (p Proof, err error) {
	err = s.db.Take(&p, "hash = ?", hash).Error
	return p, wrap("read a proof", err)
}

// LockProof is Proof with the row locked.
func (s *Tx) LockProof(hash []byte) (p Proof, err error) {
	if err := s.order(rankEntries); err != nil {
		return p, err
	}
	err = s.forUpdate().Take(&p, "hash = ?", hash).Error
	return p, wrap("read a proof", err)
}

// DeleteProof deletes a proof that was used.
func (s *Tx) DeleteProof(hash []byte) error {
	return wrap("delete a proof", s.db.Delete(&Proof{}, "hash = ?", hash).Error)
}

// ForgetProofs deletes proofs whose time is over.
func (s *Tx) ForgetProofs(now time.Time) error {
	return wrap("forget proofs", s.db.Exec("DELETE FROM proofs WHERE expires_at < ? LIMIT 10000", now).Error)
}

// OpenGroups returns a page of the groups that live and that anyone may find, by name; q is the
// beginnings of words of the name or address.
func (s *Reads) OpenGroups(q string, now time.Time, after Cursor, limit int) (p Page[Group], err error) {
	where := condition{"g.ended_at IS NULL AND g.expires_at > ?", []any{now}}
	for _, w := range Words(q) {
		where = where.and(condition{"g.id IN (SELECT ref FROM words WHERE kind = ? AND word LIKE ?)", []any{KindGroup, likePrefix(w)}})
	}
	from := " FROM group_settings s JOIN mail_groups g ON g.id = s.group_id WHERE s.setting = 'find' AND s.value = ? AND " + where.sql
	args := append([]any{policy.Anyone}, where.args...)
	if p.Total = after.Total; after.Empty() {
		if err = s.db.Raw("SELECT COUNT(*)"+from, args...).Scan(&p.Total).Error; err != nil {
			return p, wrap("count groups that anyone may find", err)
		}
	} else {
		from, args = from+" AND (g.name_key > ? OR g.name_key = ? AND g.id > ?)", append(args, after.Value, after.Value, after.ID)
	}
	if err = s.db.Raw("SELECT g.*"+from+" ORDER BY g.name_key, g.id LIMIT ?", append(args, limit+1)...).Scan(&p.Items).Error; err != nil {
		return p, wrap("read groups that anyone may find", err)
	}
	if len(p.Items) > limit {
		p.Items = p.Items[:limit]
		last := p.Items[limit-1]
		p.Next = after.next(last.NameKey, last.ID, p.Total)
	}
	return p, nil
}
