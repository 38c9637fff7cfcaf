package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"ivytable.example/ivytable/internal/core/policy"
)

// GroupRule is the rule of membership of a group.
type GroupRule struct {
	GroupID    uuid.UUID `gorm:"primaryKey"`
	Expression string
	Guard      int             // percent of those in by rule who may go at once; 100: all
	Held       json.RawMessage // what waits for a person because of the guard; nil for nothing
	SetBy      string
	SetAt      time.Time
}

// HoldRules keeps every rule as it is until the transaction ends, and returns a number
// that counts their changes. Many can hold them at once.
func (s *Store) HoldRules(ctx context.Context) (version int, err error) {
	err = s.with(ctx).Raw("SELECT version FROM settings WHERE name = 'rules' LOCK IN SHARE MODE").Row().Scan(&version)
	return version, wrap("hold the rules", err)
}

// EachRule calls f for every rule, in the order of their groups.
func (s *Store) EachRule(ctx context.Context, f func(group uuid.UUID, expression string) error) error {
	rows, err := s.with(ctx).Raw("SELECT group_id, expression FROM group_rules ORDER BY group_id").Rows()
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
func (s *Store) LockRules(ctx context.Context) error {
	return wrap("lock the rules", s.with(ctx).Raw("SELECT version FROM settings WHERE name = 'rules' FOR UPDATE").Scan(new(int)).Error)
}

// Rule returns the rule of a group, ErrNotFound where it has none.
func (s *Store) Rule(ctx context.Context, group uuid.UUID) (r GroupRule, err error) {
	err = s.with(ctx).Take(&r, "group_id = ?", group).Error
	return r, wrap("read a rule", err)
}

// SetRule writes the rule of a group.
func (s *Store) SetRule(ctx context.Context, r GroupRule) error {
	return errors.Join(wrap("write a rule", s.with(ctx).Save(&r).Error), s.countRules(ctx))
}

func (s *Store) countRules(ctx context.Context) error {
	return wrap("count a change of rules", s.with(ctx).Exec("UPDATE settings SET version = version + 1 WHERE name = 'rules'").Error)
}

// SaveRule writes a rule that was read, whose expression did not change.
func (s *Store) SaveRule(ctx context.Context, r GroupRule) error {
	return wrap("save a rule", s.with(ctx).Save(&r).Error)
}

// DeleteRule takes the rule of a group away.
func (s *Store) DeleteRule(ctx context.Context, group uuid.UUID) error {
	return errors.Join(wrap("delete a rule", s.with(ctx).Exec("DELETE FROM group_rules WHERE group_id = ?", group).Error), s.countRules(ctx))
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
func (s *Store) EachPersonFacts(ctx context.Context, f func(PersonFacts) error) error {
	rows, err := s.with(ctx).Raw("SELECT id, address, name, active, attributes, created_at FROM people WHERE external = FALSE AND active = TRUE").Rows()
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
func (s *Store) MembersByRule(ctx context.Context, group uuid.UUID) (map[uuid.UUID]bool, error) {
	rows, err := s.with(ctx).Raw("SELECT member_id, by_rule FROM memberships WHERE group_id = ? AND kind = ?", group, KindPerson).Rows()
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
func (s *Store) RuledMembers(ctx context.Context, group uuid.UUID, ids []uuid.UUID) (map[uuid.UUID]bool, error) {
	out := map[uuid.UUID]bool{}
	return out, inBatches(ids, func(ids []uuid.UUID) error {
		var rows []Membership
		err := s.with(ctx).Select("member_id", "by_rule").Find(&rows, "group_id = ? AND member_id IN ?", group, ids).Error
		for _, m := range rows {
			out[m.MemberID] = m.ByRule
		}
		return wrap("read members", err)
	})
}

// EachMembershipOf calls f for every membership of people: in which group, and
// whether by its rule. It reads its rows by hand: there can be many.
func (s *Store) EachMembershipOf(ctx context.Context, people []uuid.UUID, f func(person, group uuid.UUID, byRule bool)) error {
	return inBatches(people, func(ids []uuid.UUID) error {
		rows, err := s.with(ctx).Raw("SELECT member_id, group_id, by_rule FROM memberships WHERE member_id IN ?", ids).Rows()
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
func (s *Store) LockGroups(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]Group, error) {
	var rows []Group
	err := s.with(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Order("id").Find(&rows, "id IN ?", ids).Error
	out := make(map[uuid.UUID]Group, len(rows))
	for _, g := range rows {
		out[g.ID] = g
	}
	return out, wrap("read groups", err)
}

// BarredFrom returns from which of groups an address is barred.
func (s *Store) BarredFrom(ctx context.Context, key string, groups []uuid.UUID) (map[uuid.UUID]bool, error) {
	var ids []uuid.UUID
	err := s.with(ctx).Model(&Standing{}).Where("addr_key = ? AND group_id IN ? AND standing = ?", key, groups, policy.Barred).Pluck("group_id", &ids).Error
	out := make(map[uuid.UUID]bool, len(ids))
	for _, id := range ids {
		out[id] = true
	}
	return out, wrap("read who is barred", err)
}

// PersonComes counts one plain member more in groups that are locked, or with by
// below 0 less.
func (s *Store) PersonComes(ctx context.Context, groups []uuid.UUID, by int) error {
	if len(groups) == 0 {
		return nil
	}
	return wrap("count members", s.with(ctx).Exec("UPDATE mail_groups SET members = members + ?, version = version + 1 WHERE id IN ?", by, groups).Error)
}

// DeleteMembershipsOf takes one person out of groups.
func (s *Store) DeleteMembershipsOf(ctx context.Context, person uuid.UUID, groups []uuid.UUID) error {
	if len(groups) == 0 {
		return nil
	}
	return wrap("remove a member", s.with(ctx).Exec("DELETE FROM memberships WHERE member_id = ? AND group_id IN ?", person, groups).Error)
}

// CountByRule returns how many people are in a group by its rule.
func (s *Store) CountByRule(ctx context.Context, group uuid.UUID) (n int, err error) {
	err = s.with(ctx).Raw("SELECT COUNT(*) FROM memberships WHERE group_id = ? AND by_rule", group).Scan(&n).Error
	return n, wrap("count members", err)
}

// AttributeValues returns up to limit values of a field of the directory that hold
// begun, the most frequent first. It reads everybody: a declared full review.
func (s *Store) AttributeValues(ctx context.Context, field, begun string, limit int) (out []string, err error) {
	value := gorm.Expr("JSON_VALUE(attributes, ?)", `$."`+field+`"`)
	err = s.with(ctx).Raw("SELECT v FROM (SELECT ? AS v FROM people WHERE external = FALSE AND active = TRUE) x WHERE v <> '' AND v LIKE ? COLLATE utf8mb4_uca1400_ai_ci GROUP BY v ORDER BY COUNT(*) DESC, v LIMIT ?",
		value, "%"+likePrefix(begun), limit).Scan(&out).Error
	return out, wrap("read values", err)
}

// KeepMembersByRule makes those who are in a group by rule members by hand.
func (s *Store) KeepMembersByRule(ctx context.Context, group uuid.UUID) error {
	return wrap("keep members", s.with(ctx).Exec("UPDATE memberships SET by_rule = FALSE WHERE group_id = ? AND by_rule", group).Error)
}
