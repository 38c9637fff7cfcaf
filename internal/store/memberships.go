package store

import (
	"bytes"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/expand"
)

// Membership is a person or a group in a group.
type Membership struct {
	GroupID  uuid.UUID `gorm:"primaryKey"`
	MemberID uuid.UUID `gorm:"primaryKey"`
	Kind     int8
	Role     expand.Role
	Mail     bool
	How      int8 // where Mail is: one of Each, Digest, Conversations
	AddedAt  time.Time
	AddedBy  string
	EndsAt   *time.Time // when the membership ends; nil: never
	EndTold  bool       // people were told of that
	ByRule   bool       // in because of the group's rule; a member goes when it no longer fits, somebody with a role stays
}

// How somebody gets the mail of a group.
const (
	Each          int8 = iota // each message as it comes
	Digest                    // those of a day together
	Conversations             // those of conversations that they take part in
)

// Delivery names how the mail of the group reaches the member.
func (m Membership) Delivery() string {
	if !m.Mail {
		return "none"
	}
	return Deliveries[m.How]
}

// Deliveries are the names of the ways in which mail of a group reaches somebody.
var Deliveries = []string{"each", "digest", "conversations"}

// ParseDelivery reads the name of a way, or none.
func ParseDelivery(name string) (mail bool, how int8) {
	for i, n := range Deliveries {
		if n == name {
			return true, int8(i)
		}
	}
	return false, Each
}

// MemberRow is a membership with who it is of.
type MemberRow struct {
	Membership
	Name     string
	Address  string
	External bool
	Active   bool
}

// AddMemberships inserts memberships. It returns ErrDuplicate where one is there already.
func (s *Tx) AddMemberships(rows []Membership) error {
	if len(rows) == 0 {
		return nil
	}
	var asked []Consent
	for _, m := range rows {
		if m.Kind == KindGroup {
			asked = append(asked, Consent{ID: NewID(), GroupID: m.MemberID, OuterID: m.GroupID, AskedBy: m.AddedBy, AskedAt: m.AddedAt})
			s.nested = true
			s.moves.around(m.GroupID)
			s.moves.around(m.MemberID)
		} else {
			s.moves.move(m.MemberID, m.GroupID, +1)
		}
	}
	if err := s.AskConsents(asked); err != nil {
		return err
	}
	return wrap("add members", s.writing(ofGroups).CreateInBatches(rows, 5000).Error)
}

// SaveMembership writes the role and delivery of a membership.
func (s *Tx) SaveMembership(m Membership) error {
	return wrap("save a membership", s.writing(ofGroups).Save(&m).Error)
}

// Membership returns the membership of a person or group in a group.
func (s *Reads) Membership(group, member uuid.UUID) (m Membership, err error) {
	err = s.db.Raw("SELECT group_id, member_id, kind, role, mail, how, added_at, added_by, ends_at, end_told, by_rule FROM memberships WHERE group_id = ? AND member_id = ?", group, member).Row().
		Scan(&m.GroupID, &m.MemberID, &m.Kind, &m.Role, &m.Mail, &m.How, &m.AddedAt, &m.AddedBy, &m.EndsAt, &m.EndTold, &m.ByRule)
	return m, wrap("read a membership", err)
}

// MemberIDs returns which of ids are in a group.
func (s *Reads) MemberIDs(group uuid.UUID, ids []uuid.UUID) (map[uuid.UUID]bool, error) {
	out := map[uuid.UUID]bool{}
	for len(ids) > 0 {
		n := min(len(ids), 5000)
		var in []uuid.UUID
		if err := s.db.Model(&Membership{}).Where("group_id = ? AND member_id IN ?", group, ids[:n]).Pluck("member_id", &in).Error; err != nil {
			return nil, wrap("read members", err)
		}
		for _, id := range in {
			out[id] = true
		}
		ids = ids[n:]
	}
	return out, nil
}

// Ruled reports whether the rule of the group keeps somebody in it: not somebody to whom a hand
// has given a role since.
func (m Membership) Ruled() bool { return m.ByRule && m.Role == expand.Member }

// memberRows reads memberships with names, of people and of nested groups.
const memberRows = `SELECT m.group_id, m.member_id, m.kind, m.role, m.mail, m.how, m.added_at, m.added_by, m.ends_at, m.end_told, m.by_rule, COALESCE(p.name, g.name, '') AS name, COALESCE(p.address, g.address, '') AS address,
	COALESCE(p.external, FALSE) AS external, COALESCE(p.active, TRUE) AS active
	FROM memberships m LEFT JOIN people p ON p.id = m.member_id AND m.kind = 1 LEFT JOIN mail_groups g ON g.id = m.member_id AND m.kind = 2 `

// scanMembers adds the rows that the end of a query over memberRows finds. It reads the columns by hand:
// by reflection would cost as much as the query.
func (s *Reads) scanMembers(into *[]MemberRow, where string, args ...any) error {
	rows, err := s.db.Raw(memberRows+where, args...).Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var m MemberRow
		if err := rows.Scan(&m.GroupID, &m.MemberID, &m.Kind, &m.Role, &m.Mail, &m.How, &m.AddedAt, &m.AddedBy, &m.EndsAt, &m.EndTold, &m.ByRule, &m.Name, &m.Address, &m.External, &m.Active); err != nil {
			return err
		}
		*into = append(*into, m)
	}
	return rows.Err()
}

// MemberQuery says which members of a group to list.
type MemberQuery struct {
	Group    uuid.UUID
	Q        string // words that begin words of the name or address
	Role     expand.Role
	Kind     int8  // KindPerson or KindGroup; 0 for both
	External *bool // only external members, or only others
	Mail     *bool // only those who get each message, or only others
	How      int8  // with Mail: one of Each, Digest, Conversations
	ByRule   *bool // only those who are in by rule, or only others
	Left     bool  // only people who have left the organisation
	Here     bool  // who has left the organisation is left out
	Since    time.Time
	Total    int64 // how many there are, where that is known; 0: they are counted
	After    Cursor
	Limit    int
}

func (q MemberQuery) where() (string, []any) {
	where, args := "WHERE m.group_id = ?", []any{q.Group}
	add := func(sql string, arg ...any) { where, args = where+" AND "+sql, append(args, arg...) }
	if q.Role != 0 {
		add("m.role = ?", q.Role)
	}
	if q.Kind != 0 {
		add("m.kind = ?", q.Kind)
	}
	if q.External != nil {
		add("m.kind = 1 AND m.member_id IN (SELECT id FROM people WHERE external = ?)", *q.External)
	}
	if q.Mail != nil {
		add("m.mail = ?", *q.Mail)
		if *q.Mail {
			add("m.how = ?", q.How)
		}
	}
	if q.ByRule != nil {
		add("(m.by_rule AND m.role = 1) = ?", *q.ByRule)
	}
	if q.Left {
		add("m.kind = 1 AND m.member_id IN (SELECT id FROM people WHERE external IN (0, 1) AND active = FALSE)")
	}
	if q.Here {
		add("(m.kind <> 1 OR m.member_id NOT IN (SELECT id FROM people WHERE external IN (0, 1) AND active = FALSE))")
	}
	if !q.Since.IsZero() {
		add("m.added_at >= ?", q.Since)
	}
	for _, w := range Words(q.Q) {
		add("m.member_id IN (SELECT ref FROM words WHERE kind IN (1, 2) AND word LIKE ?)", likePrefix(w))
	}
	return where, args
}

// Members returns a page of a group's members, owners first, then in the order in
// which they came.
func (s *Reads) Members(q MemberQuery) (Page[MemberRow], error) {
	where, args := q.where()
	p := Page[MemberRow]{Total: max(q.After.Total, q.Total)}
	switch {
	case q.After.Empty() && p.Total == 0:
		var err error
		p.Total, err = s.keptCount(ofGroups, "members "+where, args, func() (n int64, err error) {
			err = s.db.Raw("SELECT COUNT(*) FROM memberships m "+where, args...).Scan(&n).Error
			return n, err
		})
		if err != nil {
			return p, wrap("count members", err)
		}
	case !q.After.Empty():
		role, at, _ := strings.Cut(q.After.Value, " ")
		where, args = where+" AND (m.role < ? OR m.role = ? AND (m.added_at > ? OR m.added_at = ? AND m.member_id > ?))", append(args, role, role, at, at, q.After.ID)
	}
	where, args = where+" ORDER BY m.role DESC, m.added_at, m.member_id LIMIT ?", append(args, q.Limit+1)
	read := func() (rows []MemberRow, err error) { return rows, s.scanMembers(&rows, where, args...) }
	var err error
	if q.Limit < maxKept {
		p.Items, err = listed(s, s.memory.members, ofGroups, digestOf(where, args), read)
	} else {
		p.Items, err = read()
	}
	if err == nil && len(p.Items) > q.Limit {
		p.Items = p.Items[:q.Limit]
		last := p.Items[q.Limit-1]
		p.Next = q.After.next(fmt.Sprintf("%d %s", last.Role, last.AddedAt.Format(dbTime)), last.MemberID, p.Total)
	}
	return p, wrap("read members", err)
}

// LockMembers returns the memberships of ids in a group, with who they are of, and
// keeps others from changing them.
func (s *Tx) LockMembers(group uuid.UUID, ids []uuid.UUID) (out []MemberRow, err error) {
	if err := s.order(rankMembers); err != nil {
		return out, err
	}
	err = inBatches(ids, func(ids []uuid.UUID) error {
		var rows []MemberRow
		err := s.scanMembers(&rows, "WHERE m.group_id = ? AND m.member_id IN ? ORDER BY m.member_id"+s.locking("FOR UPDATE"), group, ids)
		out = append(out, rows...)
		return wrap("read members", err)
	})
	return out, err
}

// SetRole gives members of a group a role.
func (s *Tx) SetRole(group uuid.UUID, ids []uuid.UUID, role expand.Role) error {
	return inBatches(ids, func(ids []uuid.UUID) error {
		return wrap("change roles", s.writing(ofGroups).Exec("UPDATE memberships SET role = ? WHERE group_id = ? AND member_id IN ?", role, group, ids).Error)
	})
}

// Appoint notes that somebody has the role that they have in groups by a decision at a moment, from which their membership counts.
func (s *Tx) Appoint(groups []uuid.UUID, member uuid.UUID, by string, at time.Time) error {
	return inBatches(groups, func(some []uuid.UUID) error {
		return wrap("record who appointed", s.writing(ofGroups).Exec("UPDATE memberships SET added_by = ?, added_at = ? WHERE member_id = ? AND group_id IN ?", by, at, member, some).Error)
	})
}

// SetMail turns the delivery of members of a group on or off.
func (s *Tx) SetMail(group uuid.UUID, ids []uuid.UUID, mail bool, how int8) error {
	return inBatches(ids, func(ids []uuid.UUID) error {
		return wrap("change deliveries", s.writing(ofGroups).Exec("UPDATE memberships SET mail = ?, how = ? WHERE group_id = ? AND member_id IN ?", mail, how, group, ids).Error)
	})
}

// SetEnds sets when the memberships of people in a group end; nil for never.
func (s *Tx) SetEnds(group uuid.UUID, ids []uuid.UUID, at *time.Time) error {
	return inBatches(ids, func(ids []uuid.UUID) error {
		return wrap("change ends", s.writing(ofGroups).Exec("UPDATE memberships SET ends_at = ?, end_told = FALSE WHERE group_id = ? AND member_id IN ?", at, group, ids).Error)
	})
}

// EndsTold notes that people were told when the memberships of ids in a group end.
func (s *Tx) EndsTold(group uuid.UUID, ids []uuid.UUID) error {
	return inBatches(ids, func(ids []uuid.UUID) error {
		return wrap("note what was told", s.writing(ofGroups).Exec("UPDATE memberships SET end_told = TRUE WHERE group_id = ? AND member_id IN ?", group, ids).Error)
	})
}

// MembershipsEnding returns up to limit memberships that end up to a moment, in that order, after one
// of them; with untold, only those of which nobody was told.
func (s *Reads) MembershipsEnding(until time.Time, untold bool, after Membership, limit int) (out []Membership, err error) {
	q := s.db.Where("ends_at <= ?", until)
	if untold {
		q = q.Where("end_told = FALSE")
	}
	if after.EndsAt != nil {
		q = q.Where("(ends_at, group_id, member_id) > (?, ?, ?)", *after.EndsAt, after.GroupID, after.MemberID)
	}
	err = q.Order("ends_at, group_id, member_id").Limit(limit).Find(&out).Error
	return out, wrap("read memberships that end", err)
}

// DeleteMemberships removes members from a group.
func (s *Tx) DeleteMemberships(group uuid.UUID, ids []uuid.UUID) error {
	for _, id := range ids {
		s.moves.move(id, group, -1)
	}
	return inBatches(ids, func(ids []uuid.UUID) error {
		for _, q := range []string{"DELETE FROM external_members WHERE group_id = ? AND member_id IN ?", "DELETE FROM own_links WHERE group_id = ? AND member_id IN ?"} {
			if err := s.db.Exec(q, group, ids).Error; err != nil {
				return wrap("remove external members", err)
			}
		}
		return wrap("remove members", s.writing(ofGroups).Exec("DELETE FROM memberships WHERE group_id = ? AND member_id IN ?", group, ids).Error)
	})
}

// OwnerRow is an owner of a group: who, and since when.
type OwnerRow struct {
	GroupID  uuid.UUID
	MemberID uuid.UUID
	Name     string
	Address  string
	Active   bool
}

// Owners returns the owners of groups, by group, in the order in which they came.
func (s *Reads) Owners(groups []uuid.UUID) (map[uuid.UUID][]OwnerRow, error) {
	rows, err := s.db.Raw(`SELECT m.group_id, m.member_id, p.name, p.address, p.active FROM memberships m
		JOIN people p ON p.id = m.member_id WHERE m.group_id IN ? AND m.role = ? ORDER BY m.group_id, m.added_at, m.member_id`, groups, expand.Owner).Rows()
	if err != nil {
		return nil, wrap("read owners", err)
	}
	defer rows.Close()
	out := map[uuid.UUID][]OwnerRow{}
	for rows.Next() {
		var o OwnerRow
		if err := rows.Scan(&o.GroupID, &o.MemberID, &o.Name, &o.Address, &o.Active); err != nil {
			return nil, wrap("read owners", err)
		}
		out[o.GroupID] = append(out[o.GroupID], o)
	}
	return out, wrap("read owners", rows.Err())
}

// Roles returns a person's own role in each of groups.
func (s *Reads) Roles(person uuid.UUID, groups []uuid.UUID) (map[uuid.UUID]expand.Role, error) {
	rows, err := s.db.Raw("SELECT group_id, role FROM memberships WHERE member_id = ? AND group_id IN ?", person, groups).Rows()
	if err != nil {
		return nil, wrap("read roles", err)
	}
	defer rows.Close()
	out := map[uuid.UUID]expand.Role{}
	for rows.Next() {
		var id uuid.UUID
		var role expand.Role
		if err := rows.Scan(&id, &role); err != nil {
			return nil, wrap("read roles", err)
		}
		out[id] = role
	}
	return out, wrap("read roles", rows.Err())
}

// AsOf leaves those out who came into a group after a moment; the zero value leaves nobody
// out. Who came after Now came before the clock went back, so they are not left out.
type AsOf struct{ Then, Now time.Time }

// now is the time in the workspace, or the real one where nobody says.
func (a AsOf) now() time.Time {
	if a.Now.IsZero() {
		return time.Now().UTC()
	}
	return a.Now
}

func (a AsOf) where(column string) (sql string, args []any) {
	if a.Then.IsZero() {
		return "", nil
	}
	return " AND (" + column + " <= ? OR " + column + " > ?)", []any{a.Then, a.Now}
}

// Among returns the memberships that some people have in some groups.
func (s *Reads) Among(groups, people []uuid.UUID) ([]Membership, error) {
	var out []Membership
	err := inBatches(people, func(people []uuid.UUID) error {
		index := "memberships_member" // by itself the database reads all of a large group
		if len(people)*len(groups) <= 2000 {
			index = "PRIMARY"
		}
		rows, err := s.db.Raw("SELECT member_id, group_id, role, added_at, by_rule FROM memberships FORCE INDEX ("+index+") WHERE member_id IN ? AND group_id IN ?", people, groups).Rows()
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var m Membership
			if err := rows.Scan(&m.MemberID, &m.GroupID, &m.Role, &m.AddedAt, &m.ByRule); err != nil {
				return err
			}
			out = append(out, m)
		}
		return rows.Err()
	})
	return out, wrap("read who is in groups", err)
}

// NestedBelow returns which live groups are nested in which, from root down.
func (s *Reads) NestedBelow(root uuid.UUID, now time.Time, asOf AsOf) (expand.Edges[uuid.UUID], error) {
	var rows []Membership
	then, args := asOf.where("m.added_at")
	err := s.db.Raw(`WITH RECURSIVE below (id) AS (
		SELECT CAST(? AS UUID)
		UNION
		SELECT m.member_id FROM below b JOIN memberships m ON m.group_id = b.id AND m.kind = ?
		JOIN mail_groups g ON g.id = m.member_id AND g.ended_at IS NULL AND g.expires_at > ?`+then+`
	) SELECT m.group_id, m.member_id FROM below b JOIN memberships m ON m.group_id = b.id AND m.kind = ?
		JOIN below c ON c.id = m.member_id`+then, slices.Concat([]any{root.String(), KindGroup, now}, args, []any{KindGroup}, args)...).Scan(&rows).Error
	if err != nil {
		return nil, wrap("read nested groups", err)
	}
	e := expand.Edges[uuid.UUID]{}
	for _, r := range rows {
		e[r.GroupID] = append(e[r.GroupID], r.MemberID)
	}
	return e, nil
}

// Recipient is somebody who takes the mail of a group.
type Recipient struct {
	Address  string
	External bool
	Person   uuid.UUID // of somebody external
	Group    uuid.UUID // in which they are, of somebody external: the group itself, or one nested in it
	How      int8      // one of Each, Digest, Conversations; of the latter two Person is known too
}

// MailAmong returns those of some people who take the mail of a group in which none is nested.
func (s *Reads) MailAmong(group uuid.UUID, asOf AsOf, people []uuid.UUID) (out []Recipient, err error) {
	err = inBatches(people, func(some []uuid.UUID) error {
		query, args := mailIn(group, asOf)
		rows, err := s.db.Raw(query+" AND m.member_id IN ?", append(args, some)...).Rows()
		if err != nil {
			return wrap("read who takes mail", err)
		}
		more, err := recipientsIn(group, rows)
		out = append(out, more...)
		return err
	})
	return out, err
}

func mailIn(group uuid.UUID, asOf AsOf) (query string, args []any) {
	then, args := asOf.where("m.added_at")
	query = "SELECT p.address, IF(p.external OR m.how > 0, p.id, NULL), p.external, m.how FROM memberships m JOIN people p ON p.id = m.member_id AND p.active AND (p.mail_paused_until IS NULL OR p.mail_paused_until <= ?) WHERE m.group_id = ? AND m.kind = ? AND m.mail" + then
	return query, append([]any{asOf.Now, group, KindPerson}, args...)
}

// MailIn returns who takes the mail of a group in which none is nested.
func (s *Reads) MailIn(group uuid.UUID, asOf AsOf) ([]Recipient, error) {
	query, args := mailIn(group, asOf)
	stmt, err := s.prepare(query)
	if err != nil {
		return nil, wrap("read who takes mail", err)
	}
	var rows *sql.Rows
	if stmt != nil {
		rows, err = stmt.QueryContext(s.db.Statement.Context, args...)
	} else {
		rows, err = s.db.Raw(query, args...).Rows()
	}
	if err != nil {
		return nil, wrap("read who takes mail", err)
	}
	return recipientsIn(group, rows)
}

func recipientsIn(group uuid.UUID, rows *sql.Rows) (out []Recipient, err error) {
	defer rows.Close()
	var address, person, external, how sql.RawBytes
	for rows.Next() {
		if err := rows.Scan(&address, &person, &external, &how); err != nil {
			return nil, wrap("read who takes mail", err)
		}
		r, err := recipient(address, person, external, how)
		if err != nil {
			return nil, err
		}
		r.Group = group
		out = append(out, r)
	}
	return out, wrap("read who takes mail", rows.Err())
}

// MailOf is the mail of a group in which none is nested.
type MailOf struct {
	Group uuid.UUID
	AsOf  AsOf
}

// MailInEach is MailIn for several groups at once, in one statement; nil where they have more than so many recipients together. Now is the
// same for all.
func (s *Reads) MailInEach(of []MailOf, most int) ([][]Recipient, error) {
	groups := make([]uuid.UUID, len(of))
	at := map[string][]int{}
	for i, x := range of {
		groups[i] = x.Group
		at[x.Group.String()] = append(at[x.Group.String()], i)
	}
	rows, err := s.db.Raw(`SELECT m.group_id, m.added_at, p.address, IF(p.external OR m.how > 0, p.id, NULL), p.external, m.how FROM memberships m
		JOIN people p ON p.id = m.member_id AND p.active AND (p.mail_paused_until IS NULL OR p.mail_paused_until <= ?) WHERE m.group_id IN ? AND m.kind = ? AND m.mail LIMIT ?`,
		of[0].AsOf.now(), groups, KindPerson, most+1).Rows()
	if err != nil {
		return nil, wrap("read who takes mail", err)
	}
	defer rows.Close()
	out := make([][]Recipient, len(of))
	var group, address, person, external, how sql.RawBytes
	var added time.Time
	for n := 0; rows.Next(); n++ {
		if n == most {
			return nil, nil
		}
		if err := rows.Scan(&group, &added, &address, &person, &external, &how); err != nil {
			return nil, wrap("read who takes mail", err)
		}
		r, err := recipient(address, person, external, how)
		if err != nil {
			return nil, err
		}
		for _, i := range at[string(group)] {
			if a := of[i].AsOf; a.Then.IsZero() || !added.After(a.Then) || added.After(a.Now) {
				r.Group = of[i].Group
				out[i] = append(out[i], r)
			}
		}
	}
	return out, wrap("read who takes mail", rows.Err())
}

func recipient(address, person, external, how []byte) (r Recipient, err error) {
	r = Recipient{Address: string(address), External: external[0] == '1', How: int8(how[0] - '0')}
	if person != nil {
		r.Person, err = uuid.ParseBytes(person)
	}
	return r, wrap("read who takes mail", err)
}

// PeopleIn returns the memberships of active people in any of groups. It reads its
// rows by hand: there can be as many as people in the workspace.
func (s *Reads) PeopleIn(groups []uuid.UUID, asOf AsOf) ([]expand.Entry[uuid.UUID], error) {
	then, args := asOf.where("m.added_at")
	rows, err := s.db.Raw(`SELECT m.member_id, m.group_id, m.role, m.mail AND (p.mail_paused_until IS NULL OR p.mail_paused_until <= ?), m.how, p.external, p.address FROM memberships m JOIN people p ON p.id = m.member_id AND p.active
		WHERE m.group_id IN ? AND m.kind = ?`+then, append([]any{asOf.now(), groups, KindPerson}, args...)...).Rows()
	if err != nil {
		return nil, wrap("read people in groups", err)
	}
	defer rows.Close()
	var out []expand.Entry[uuid.UUID]
	var person, group, role, mail, how, external, address sql.RawBytes
	var last []byte // the group of the row before, which is mostly the same
	var lastID uuid.UUID
	for rows.Next() {
		if err := rows.Scan(&person, &group, &role, &mail, &how, &external, &address); err != nil {
			return nil, wrap("read people in groups", err)
		}
		e := expand.Entry[uuid.UUID]{Role: expand.Role(role[0] - '0'), Mail: mail[0] == '1', How: int8(how[0] - '0'), External: external[0] == '1', Address: string(address)}
		if e.Person, err = uuid.ParseBytes(person); err != nil {
			return nil, wrap("read people in groups", err)
		}
		if !bytes.Equal(last, group) {
			last = append(last[:0], group...)
			if lastID, err = uuid.ParseBytes(group); err != nil {
				return nil, wrap("read people in groups", err)
			}
		}
		e.Group = lastID
		out = append(out, e)
	}
	return out, wrap("read people in groups", rows.Err())
}
