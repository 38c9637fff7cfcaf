package store

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
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

// Rule returns the rule of a group, ErrNotFound where it has none.
func (s *Store) Rule(ctx context.Context, group uuid.UUID) (r GroupRule, err error) {
	err = s.with(ctx).Take(&r, "group_id = ?", group).Error
	return r, wrap("read a rule", err)
}

// SetRule writes the rule of a group with the attributes that it uses.
func (s *Store) SetRule(ctx context.Context, r GroupRule, attributes []string) error {
	if err := s.with(ctx).Save(&r).Error; err != nil {
		return wrap("write a rule", err)
	}
	if err := s.with(ctx).Exec("DELETE FROM rule_attributes WHERE group_id = ?", r.GroupID).Error; err != nil {
		return wrap("write a rule", err)
	}
	for _, a := range attributes {
		if err := s.with(ctx).Exec("INSERT INTO rule_attributes (attribute, group_id) VALUES (?, ?)", a, r.GroupID).Error; err != nil {
			return wrap("write a rule", err)
		}
	}
	return nil
}

// SaveRule writes a rule that was read, whose expression did not change.
func (s *Store) SaveRule(ctx context.Context, r GroupRule) error {
	return wrap("save a rule", s.with(ctx).Save(&r).Error)
}

// DeleteRule takes the rule of a group away.
func (s *Store) DeleteRule(ctx context.Context, group uuid.UUID) error {
	return errors.Join(
		wrap("delete a rule", s.with(ctx).Exec("DELETE FROM group_rules WHERE group_id = ?", group).Error),
		wrap("delete a rule", s.with(ctx).Exec("DELETE FROM rule_attributes WHERE group_id = ?", group).Error))
}

// RulesUsing returns the rules of living groups that ask about any of some attributes.
func (s *Store) RulesUsing(ctx context.Context, attributes []string, now time.Time) (out []GroupRule, err error) {
	err = s.with(ctx).Raw(`SELECT r.* FROM group_rules r JOIN mail_groups g ON g.id = r.group_id AND g.ended_at IS NULL AND g.expires_at > ?
		WHERE r.group_id IN (SELECT group_id FROM rule_attributes WHERE attribute IN ?) ORDER BY r.group_id`, now, attributes).Scan(&out).Error
	return out, wrap("read rules", err)
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

// MembershipsOf returns the memberships of one person in groups, by group.
func (s *Store) MembershipsOf(ctx context.Context, person uuid.UUID, groups []uuid.UUID) (map[uuid.UUID]Membership, error) {
	var rows []Membership
	if err := s.with(ctx).Find(&rows, "member_id = ? AND group_id IN ?", person, groups).Error; err != nil {
		return nil, wrap("read memberships", err)
	}
	out := map[uuid.UUID]Membership{}
	for _, m := range rows {
		out[m.GroupID] = m
	}
	return out, nil
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
