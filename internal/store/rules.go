package store

import (
	"bytes"
	"encoding/json"
	"errors"
	"slices"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"ivytable.example/ivytable/internal/core/policy"
)

// GroupRule is the rule of membership of a group.
type GroupRule struct {
	GroupID    uuid.UUID `gorm:"primaryKey"`
	Expression string
	Guard      int             // percent of those in by rule who may go at once; 100: all
	Pending    json.RawMessage // a PendingRuleChange that waits because of the guard; nil for none
	Version    int
	SetBy      string
	SetAt      time.Time
}

// RLockRules keeps every rule as it is until the transaction ends, and returns a number
// that counts their changes. Many can do so at once.
func (s *Tx) RLockRules() (version int, err error) {
	if err := s.order(rankSettings); err != nil {
		return version, err
	}
	err = s.db.Raw("SELECT version FROM settings WHERE name = 'rules'" + s.locking("LOCK IN SHARE MODE")).Row().Scan(&version)
	return version, wrap("hold the rules", err)
}

// EachRule calls f for every rule, in the order of their groups.
func (s *Reads) EachRule(f func(group uuid.UUID, expression string) error) error {
	rows, err := s.db.Raw("SELECT group_id, expression FROM group_rules ORDER BY group_id").Rows()
	if err != nil {
		return wrap("read rules", err)
	}
	defer rows.Close()
	for rows.Next() {
		var group uuid.UUID
		var expression string
		if err := rows.Scan(&group, &expression); err != nil {
			return wrap("read rules", err)
		}
		if err := f(group, expression); err != nil {
			return err
		}
	}
	return wrap("read rules", rows.Err())
}

// LockRules keeps everybody else from holding or locking the rules until the
// transaction ends: a change of a person before it is seen by it, one after it sees
// the rules as it left them.
func (s *Tx) LockRules() error {
	if err := s.order(rankSettings); err != nil {
		return err
	}
	return wrap("lock the rules", s.db.Raw("SELECT version FROM settings WHERE name = 'rules'"+s.locking("FOR UPDATE")).Scan(new(int)).Error)
}

// Rule returns the rule of a group, ErrNotFound where it has none.
func (s *Reads) Rule(group uuid.UUID) (r GroupRule, err error) {
	err = s.db.Take(&r, "group_id = ?", group).Error
	return r, wrap("read a rule", err)
}

// SetRule writes the rule of a group.
func (s *Tx) SetRule(r GroupRule) error {
	return errors.Join(wrap("write a rule", s.db.Save(&r).Error), s.countRules())
}

func (s *Tx) countRules() error {
	return wrap("count a change of rules", s.writing(ofSettings).Exec("UPDATE settings SET version = version + 1 WHERE name = 'rules'").Error)
}

// SaveRule writes a rule that was read, whose expression did not change.
func (s *Tx) SaveRule(r GroupRule) error {
	return wrap("save a rule", s.db.Save(&r).Error)
}

// DeleteRule takes the rule of a group away.
func (s *Tx) DeleteRule(group uuid.UUID) error {
	return errors.Join(wrap("delete a rule", s.db.Exec("DELETE FROM group_rules WHERE group_id = ?", group).Error), s.countRules())
}

// PersonFacts are what a rule can ask about a person.
type PersonFacts struct {
	ID         uuid.UUID
	Address    string
	Name       string
	Active     bool
	Attributes json.RawMessage
	CreatedAt  time.Time
}

// EachPersonFacts calls f for every active person of the workspace. It reads all of
// them: a declared full review.
func (s *Reads) EachPersonFacts(f func(PersonFacts) error) error {
	rows, err := s.db.Raw("SELECT id, address, name, active, attributes, created_at FROM people WHERE external = FALSE AND active = TRUE").Rows()
	if err != nil {
		return wrap("read people", err)
	}
	defer rows.Close()
	for rows.Next() {
		var p PersonFacts
		if err := rows.Scan(&p.ID, &p.Address, &p.Name, &p.Active, &p.Attributes, &p.CreatedAt); err != nil {
			return wrap("read people", err)
		}
		if err := f(p); err != nil {
			return err
		}
	}
	return wrap("read people", rows.Err())
}

// MembersByRule returns who is in a group, and whether by its rule.
func (s *Reads) MembersByRule(group uuid.UUID) (map[uuid.UUID]bool, error) {
	rows, err := s.db.Raw("SELECT member_id, by_rule AND role = 1 FROM memberships WHERE group_id = ? AND kind = ?", group, KindPerson).Rows()
	if err != nil {
		return nil, wrap("read members", err)
	}
	defer rows.Close()
	out := map[uuid.UUID]bool{}
	for rows.Next() {
		var id uuid.UUID
		var byRule bool
		if err := rows.Scan(&id, &byRule); err != nil {
			return nil, wrap("read members", err)
		}
		out[id] = byRule
	}
	return out, wrap("read members", rows.Err())
}

// RuledMembers returns which of ids are in a group, and whether by its rule.
func (s *Reads) RuledMembers(group uuid.UUID, ids []uuid.UUID) (map[uuid.UUID]bool, error) {
	out := map[uuid.UUID]bool{}
	return out, inBatches(ids, func(ids []uuid.UUID) error {
		var rows []Membership
		err := s.db.Select("member_id", "by_rule AND role = 1 AS by_rule").Find(&rows, "group_id = ? AND member_id IN ?", group, ids).Error
		for _, m := range rows {
			out[m.MemberID] = m.ByRule
		}
		return wrap("read members", err)
	})
}

// EachMembershipOf calls f for every membership of people: in which group, and
// whether by its rule. It reads its rows by hand: there can be many.
func (s *Reads) EachMembershipOf(people []uuid.UUID, f func(person, group uuid.UUID, byRule bool)) error {
	return inBatches(people, func(ids []uuid.UUID) error {
		rows, err := s.db.Raw("SELECT member_id, group_id, by_rule AND role = 1 FROM memberships WHERE member_id IN ?", ids).Rows()
		if err != nil {
			return wrap("read memberships", err)
		}
		defer rows.Close()
		for rows.Next() {
			var person, group uuid.UUID
			var byRule bool
			if err := rows.Scan(&person, &group, &byRule); err != nil {
				return wrap("read memberships", err)
			}
			f(person, group, byRule)
		}
		return wrap("read memberships", rows.Err())
	})
}

// LockGroups returns groups by identifier and keeps others from changing them until
// the transaction ends.
func (s *Tx) LockGroups(ids []uuid.UUID) (map[uuid.UUID]Group, error) {
	if err := s.orderGroups(ids...); err != nil {
		return nil, err
	}
	out := make(map[uuid.UUID]Group, len(ids))
	ids = slices.SortedFunc(slices.Values(ids), func(a, b uuid.UUID) int { return bytes.Compare(a[:], b[:]) })
	return out, inBatches(slices.Compact(ids), func(ids []uuid.UUID) error {
		var rows []Group
		err := s.forUpdate().Order("id").Find(&rows, "id IN ?", ids).Error
		for _, g := range rows {
			out[g.ID] = g
		}
		return wrap("read groups", err)
	})
}

// BarredFrom returns from which of groups an address is barred.
func (s *Reads) BarredFrom(key string, groups []uuid.UUID) (map[uuid.UUID]bool, error) {
	var ids []uuid.UUID
	err := s.db.Model(&Override{}).Where("addr_key = ? AND group_id IN ? AND kind = ?", key, groups, policy.Barred).Pluck("group_id", &ids).Error
	out := make(map[uuid.UUID]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, wrap("read who is barred", err)
}

// AdjustMemberCounts counts one plain member, who is here or not, in groups that are locked:
// more, or less.
func (s *Tx) AdjustMemberCounts(groups []uuid.UUID, by int, here bool) error {
	if len(groups) == 0 {
		return nil
	}
	column := "departed"
	if here {
		column = "members"
	}
	return wrap("count members", s.writing(ofGroups).Exec("UPDATE mail_groups SET "+column+" = "+column+" + ?, revision = revision + 1 WHERE id IN ?", by, groups).Error)
}

// DeleteMembershipsOf takes one person out of groups.
func (s *Tx) DeleteMembershipsOf(person uuid.UUID, groups []uuid.UUID) error {
	if len(groups) == 0 {
		return nil
	}
	for _, g := range groups {
		s.moves.move(person, g, -1)
	}
	return wrap("remove a member", s.writing(ofGroups).Exec("DELETE FROM memberships WHERE member_id = ? AND group_id IN ?", person, groups).Error)
}

// CountByRule returns how many people are in a group by its rule.
func (s *Reads) CountByRule(group uuid.UUID) (n int, err error) {
	err = s.db.Raw("SELECT COUNT(*) FROM memberships WHERE group_id = ? AND by_rule AND role = 1", group).Scan(&n).Error
	return n, wrap("count members", err)
}

// AttributeValues returns up to limit values of a field of the directory that hold
// begun, the most frequent first. It reads everybody: a declared full review.
func (s *Reads) AttributeValues(field, begun string, limit int) (out []string, err error) {
	value := gorm.Expr("JSON_VALUE(attributes, ?)", `$."`+field+`"`)
	err = s.db.Raw("SELECT v FROM (SELECT ? AS v FROM people WHERE external = FALSE AND active = TRUE) x WHERE v <> '' AND v LIKE ? COLLATE utf8mb4_uca1400_ai_ci GROUP BY v ORDER BY COUNT(*) DESC, v LIMIT ?",
		value, "%"+likePrefix(begun), limit).Scan(&out).Error
	return out, wrap("read values", err)
}

// KeepMembersByRule makes those who are in a group by rule members by hand.
func (s *Tx) KeepMembersByRule(group uuid.UUID) error {
	return wrap("keep members", s.writing(ofGroups).Exec("UPDATE memberships SET by_rule = FALSE WHERE group_id = ? AND by_rule", group).Error)
}
