package store

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/policy"
)

// NestedAround returns which live groups are nested in which, from group down and
// from group up.
func (s *Reads) NestedAround(group uuid.UUID, now time.Time) (expand.Edges[uuid.UUID], error) {
	e, err := s.NestedBelow(group, now, AsOf{})
	if err != nil {
		return nil, err
	}
	var rows []Membership
	err = s.db.Raw(`WITH RECURSIVE above (id) AS (
		SELECT CAST(? AS UUID)
		UNION
		SELECT m.group_id FROM above a JOIN memberships m ON m.member_id = a.id AND m.kind = ?
		JOIN mail_groups g ON g.id = m.group_id AND g.ended_at IS NULL AND g.expires_at > ?
	) SELECT m.group_id, m.member_id FROM above a JOIN memberships m ON m.member_id = a.id AND m.kind = ?
		JOIN above b ON b.id = m.group_id`, group.String(), KindGroup, now, KindGroup).Scan(&rows).Error
	for _, r := range rows {
		e[r.GroupID] = append(e[r.GroupID], r.MemberID)
	}
	return e, wrap("read nested groups", err)
}

// EffectiveMember is a person whom a group reaches, with their strongest own role in it
// and the groups through which it does.
type EffectiveMember struct {
	ID       uuid.UUID
	Name     string
	Address  string
	External bool
	Role     expand.Role // in the group itself, 0 for none
	Through  []uuid.UUID // the groups that have the person as a member
}

// EffectiveMembers returns a page of the active people in root or any other of groups, each
// once, by name: those who are external only of the groups in open.
func (s *Reads) EffectiveMembers(root uuid.UUID, groups, open []uuid.UUID, q string, after Cursor, limit int) (Page[EffectiveMember], error) {
	where, args := "m.group_id IN ? AND m.kind = ? AND p.active AND (NOT p.external OR m.group_id IN ?)", []any{groups, KindPerson, open}
	for _, w := range Words(q) {
		where, args = where+" AND p.id IN (SELECT ref FROM words WHERE kind = ? AND word LIKE ?)", append(args, KindPerson, likePrefix(w))
	}
	p := Page[EffectiveMember]{Total: after.Total}
	from := "FROM memberships m JOIN people p ON p.id = m.member_id WHERE "
	if after.Empty() {
		if err := s.db.Raw("SELECT COUNT(DISTINCT m.member_id) "+from+where, args...).Scan(&p.Total).Error; err != nil {
			return p, wrap("count the people of nested groups", err)
		}
	} else {
		where, args = where+" AND (p.name > ? OR p.name = ? AND p.id > ?)", append(args, after.Value, after.Value, after.ID)
	}
	rows, err := s.db.Raw("SELECT p.id, MAX(p.name), MAX(p.address), MAX(p.external), MAX(IF(m.group_id = ?, m.role, 0)), GROUP_CONCAT(m.group_id ORDER BY m.group_id = ? DESC, m.group_id) "+
		from+where+" GROUP BY p.id ORDER BY MAX(p.name), p.id LIMIT ?", append(append([]any{root, root}, args...), limit+1)...).Rows()
	if err != nil {
		return p, wrap("read the people of nested groups", err)
	}
	defer rows.Close()
	for rows.Next() {
		var r EffectiveMember
		var through string
		if err := rows.Scan(&r.ID, &r.Name, &r.Address, &r.External, &r.Role, &through); err != nil {
			return p, wrap("read the people of nested groups", err)
		}
		for id := range strings.SplitSeq(through, ",") {
			u, err := uuid.Parse(id)
			if err != nil {
				return p, fmt.Errorf("read the people of nested groups: %w", err)
			}
			r.Through = append(r.Through, u)
		}
		p.Items = append(p.Items, r)
	}
	if len(p.Items) > limit {
		p.Items = p.Items[:limit]
		last := p.Items[limit-1]
		p.Next = after.next(last.Name, last.ID, p.Total)
	}
	return p, wrap("read the people of nested groups", rows.Err())
}

// ExternalReach counts the external people whom a group reaches: its own, and those of nested groups
// where it and what lies between take external members. With shown, only what colleagues can find counts.
func (s *Reads) ExternalReach(root uuid.UUID, now time.Time, shown bool) (n int, err error) {
	open, err := s.openBelow(root, now, shown)
	if err != nil {
		return 0, err
	}
	err = s.db.Raw("SELECT COUNT(DISTINCT p.id) FROM people p STRAIGHT_JOIN memberships m ON m.member_id = p.id AND m.group_id IN ? WHERE p.active AND p.external", open).Scan(&n).Error
	return n, wrap("count external people", err)
}

func (s *Reads) openBelow(root uuid.UUID, now time.Time, shown bool) ([]uuid.UUID, error) {
	below, err := s.NestedBelow(root, now, AsOf{})
	if err != nil {
		return nil, err
	}
	groups, err := s.GroupsByID(expand.Reach(root, below))
	if shown {
		agreed, err := s.ConsentsIn(expand.Reach(root, below))
		if err != nil {
			return nil, err
		}
		for outer, inner := range below {
			below[outer] = slices.DeleteFunc(inner, func(id uuid.UUID) bool { return !groups[id].Findable && agreed[Pair{outer, id}].Scope == 0 })
		}
	}
	return sorted(expand.Open(root, below, func(id uuid.UUID) bool {
		g := groups[id]
		return g.Policy[policy.Externals] != policy.ExternalsBarred
	})), err
}

// Overlap is how many of some people are in a group.
type Overlap struct {
	GroupID uuid.UUID
	N       int
}

// Overlaps returns the live groups that have at least least of some people, the one
// with the most first.
func (s *Reads) Overlaps(people []uuid.UUID, least int, now time.Time, limit int) (out []Overlap, err error) {
	err = s.db.Raw(`SELECT m.group_id, COUNT(*) AS n FROM memberships m JOIN mail_groups g ON g.id = m.group_id AND g.ended_at IS NULL AND g.expires_at > ?
		WHERE m.member_id IN ? GROUP BY m.group_id HAVING n >= ? ORDER BY n DESC, m.group_id LIMIT ?`, now, people, least, limit).Scan(&out).Error
	return out, wrap("compare people", err)
}

// GroupsByWords returns up to limit groups whose names or addresses have at least
// one of some words, those with the most of them first.
func (s *Reads) GroupsByWords(words []string, limit int) (ids []uuid.UUID, err error) {
	err = s.db.Raw("SELECT ref FROM words WHERE kind = ? AND word IN ? GROUP BY ref ORDER BY COUNT(*) DESC, ref LIMIT ?", KindGroup, words, limit).Scan(&ids).Error
	return ids, wrap("look for like names", err)
}

// NestedIn returns the groups that are in others themselves, by these.
func (s *Reads) NestedIn(groups []uuid.UUID) (map[uuid.UUID][]uuid.UUID, error) {
	out := map[uuid.UUID][]uuid.UUID{}
	return out, inBatches(groups, func(ids []uuid.UUID) error {
		var rows []Membership
		err := s.db.Select("group_id", "member_id").Where("group_id IN ? AND kind = ?", ids, KindGroup).Find(&rows).Error
		for _, m := range rows {
			out[m.GroupID] = append(out[m.GroupID], m.MemberID)
		}
		return wrap("read nested groups", err)
	})
}
