package store

import (
	"database/sql"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/policy"
)

// GroupSort is a way to sort the list of groups.
type GroupSort string

// The ways to sort.
const (
	ByName    GroupSort = "name"
	ByPeople  GroupSort = "people"
	ByPost    GroupSort = "post"
	ByExpires GroupSort = "expires"
	ByCreated GroupSort = "created"
)

const dbTime = "2006-01-02 15:04:05.000000"

var groupSorts = map[GroupSort]sortKey[Group]{
	ByName:    {column: "name", value: func(g Group) (string, uuid.UUID) { return g.Name, g.ID }},
	ByPeople:  {column: "people", value: func(g Group) (string, uuid.UUID) { return strconv.Itoa(g.People), g.ID }},
	ByPost:    {column: "post.value", value: func(g Group) (string, uuid.UUID) { return strconv.Itoa(int(g.Policy[policy.Post])), g.ID }},
	ByExpires: {column: "expires_at", value: func(g Group) (string, uuid.UUID) { return g.ExpiresAt.Format(dbTime), g.ID }},
	ByCreated: {column: "created_at", value: func(g Group) (string, uuid.UUID) { return g.CreatedAt.Format(dbTime), g.ID }},
}

// groupColumns are the columns of a group, in the order of into.
const groupColumns = `id, name, address, addr_key, description, language, traits, default_mail, welcome, by_rule, policy, owners, moderators, members, external_members, nested, people,
	renewed_at, expires_at, ended_at, retired, chosen, exempt, exempt_by, version, revision, created_at`

func (g *Group) into(policy *sql.RawBytes) []any {
	return []any{&g.ID, &g.Name, &g.Address, &g.AddrKey, &g.Description, &g.Language, &g.Traits, &g.DefaultMail, &g.Welcome, &g.ByRule, policy,
		&g.Owners, &g.Moderators, &g.Members, &g.ExternalMembers, &g.Nested, &g.People,
		&g.RenewedAt, &g.ExpiresAt, &g.EndedAt, &g.Retired, &g.Chosen, &g.Exempt, &g.ExemptBy, &g.Version, &g.Revision, &g.CreatedAt}
}

// readGroups runs the query of a list of groups. It asks which groups, in which
// version, and reads only those that are not in the cache.
func (s *Reads) readGroups(q *gorm.DB, items *[]Group) error {
	if inTx(s.db) {
		return scanGroups(q, func(g Group) { *items = append(*items, g) })
	}
	q = q.Session(&gorm.Session{}) // it may be run again
	rows, err := q.Select("id, version, revision").Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	var wanted []GroupVersion
	for rows.Next() {
		var v GroupVersion
		if err := rows.Scan(&v.ID, &v.Version, &v.Revision); err != nil {
			return err
		}
		wanted = append(wanted, v)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	have, missing := s.cache.groupsOf(wanted)
	if len(missing) > 0 {
		err := scanGroups(s.db.Model(&Group{}).Where("id IN ?", missing), func(g Group) {
			have[g.ID] = g
			s.cache.cacheGroup(g)
		})
		if err != nil {
			return err
		}
	}
	if len(have) < len(wanted) { // one was deleted since: the page needs another in its place
		return scanGroups(q, func(g Group) { *items = append(*items, g) })
	}
	for _, v := range wanted {
		*items = append(*items, have[v.ID])
	}
	return nil
}

// scanGroups calls f for every group that q names. It reads the columns by hand: by
// reflection would cost as much as the query.
func scanGroups(q *gorm.DB, f func(Group)) error {
	rows, err := q.Select(groupColumns).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var g Group
		var text sql.RawBytes
		if err := rows.Scan(g.into(&text)...); err != nil {
			return err
		}
		if g.Policy, err = decodePolicy(string(text)); err != nil {
			return err
		}
		f(g)
	}
	return rows.Err()
}

// GroupQuery says which groups to list.
type GroupQuery struct {
	Q        string            // words that begin words of the name or address
	States   []lifecycle.State // empty: all
	Now      time.Time         // with States
	DueUntil time.Time         // the last date at which a group is due, with States
	Viewer   uuid.UUID         // with a value: only groups that this person can find
	Mine     uuid.UUID         // with a value: only groups that this person is in
	Role     int8              // with Mine: at least this role
	Joinable uuid.UUID         // with a value: only living groups that this person is not in and may enter or ask for
	Sort     GroupSort
	Desc     bool
	After    Cursor
	Limit    int
}

// Groups returns a page of groups.
func (s *Reads) Groups(q GroupQuery) (Page[Group], error) {
	db := s.db.Model(&Group{})
	for _, w := range Words(q.Q) {
		db = db.Where("id IN (SELECT ref FROM words WHERE kind = ? AND word LIKE ?)", KindGroup, likePrefix(w))
	}
	if len(q.States) > 0 {
		var or []string
		var args []any
		for _, st := range q.States {
			switch st {
			case lifecycle.Active:
				or, args = append(or, "(ended_at IS NULL AND expires_at > ?)"), append(args, q.DueUntil)
			case lifecycle.Due:
				or, args = append(or, "(ended_at IS NULL AND expires_at > ? AND expires_at <= ?)"), append(args, q.Now, q.DueUntil)
			case lifecycle.Lapsed:
				or, args = append(or, "(ended_at IS NOT NULL AND NOT retired OR ended_at IS NULL AND expires_at <= ?)"), append(args, q.Now)
			case lifecycle.Retired:
				or = append(or, "(ended_at IS NOT NULL AND retired)")
			}
		}
		db = db.Where("("+strings.Join(or, " OR ")+")", args...)
	}
	if q.Mine != uuid.Nil {
		ids, err := s.groupsOf(q.Mine, q.Role)
		if err != nil {
			return Page[Group]{}, err
		}
		db = db.Where("id IN ?", ids)
	}
	if q.Joinable != uuid.Nil {
		db = db.Where("EXISTS (SELECT 1 FROM group_settings s WHERE s.group_id = id AND s.setting = 'join.audience' AND s.value >= ?) AND ended_at IS NULL AND expires_at > ? AND id NOT IN (SELECT group_id FROM memberships WHERE member_id = ?)", policy.Workspace, q.Now, q.Joinable)
	}
	if q.Viewer != uuid.Nil {
		above, err := s.Above(q.Viewer, false, q.Now)
		if err != nil {
			return Page[Group]{}, err
		}
		db = db.Where("EXISTS (SELECT 1 FROM group_settings s WHERE s.group_id = id AND s.setting = 'find' AND (s.value >= ? OR EXISTS (SELECT 1 FROM memberships m WHERE m.group_id = s.group_id AND m.member_id IN ? AND s.value >= 4 - m.role)))",
			policy.Workspace, append(above, q.Viewer))
	}
	if q.Sort == ByPost {
		db = db.Joins("JOIN group_settings post ON post.group_id = mail_groups.id AND post.setting = 'post'")
	}
	key := groupSorts[q.Sort]
	key.desc, key.cached = q.Desc, true
	key.read = func(q *gorm.DB, items *[]Group) error { return s.readGroups(q, items) }
	return page(s, db, q.After, q.Limit, key)
}

func (s *Reads) groupsOf(person uuid.UUID, role int8) (ids []uuid.UUID, err error) {
	err = s.db.Model(&Membership{}).Where("member_id = ? AND role >= ?", person, role).Pluck("group_id", &ids).Error
	return ids, wrap("read somebody's groups", err)
}
