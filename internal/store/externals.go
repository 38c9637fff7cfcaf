package store

import (
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/expand"
)

// ExternalMember is what is kept of an external person in a group beside their membership.
type ExternalMember struct {
	GroupID   uuid.UUID  `gorm:"primaryKey"`
	MemberID  uuid.UUID  `gorm:"primaryKey"`
	VoucherID *uuid.UUID // who of the workspace vouches for them; nil: nobody
	Reason    string     // why they are in it
}

// ExternalRow is an external member of a group with who they are.
type ExternalRow struct {
	ExternalMember
	Name, Address string
	AddrKey       string
	Mail          bool
	How           int8
	AddedAt       time.Time
	EndsAt        *time.Time
	Role          expand.Role
}

// SaveExternals writes who vouches for external members, and why they are in.
func (s *Tx) SaveExternals(rows []ExternalMember) error {
	return inBatches(rows, func(rows []ExternalMember) error { return wrap("write external members", s.db.Save(&rows).Error) })
}

// External returns what is kept of an external member of a group.
func (s *Reads) External(group, member uuid.UUID) (m ExternalMember, err error) {
	err = s.db.Take(&m, "group_id = ? AND member_id = ?", group, member).Error
	return m, wrap("read an external member", err)
}

// ExternalQuery says which external members to list. The zero value stands for all.
type ExternalQuery struct {
	Group    uuid.UUID // with a value: of this group
	Runner   uuid.UUID // with a value: of groups that this person owns, those for whom they vouch, ...
	Areas    Areas     // ... and of these
	Q        string    // beginnings of words of the name or address
	Domain   string    // and all below it
	Voucher  uuid.UUID // with a value: for whom this person vouches
	Alone    bool      // for whom nobody vouches who is here
	Endless  bool      // without an end
	EndsBy   time.Time // with a value: that end until then
	Outside  []string  // with values: from no other domains than these, ...
	Refused  []string  // ... or from one of these: whom the workspace would not take any more
	NotTaken bool      // by Outside and Refused; with both empty: everybody
	After    Cursor
	Limit    int
}

// within is the condition that an address lies in one of domains or below them.
func within(domains []string) condition {
	var parts []string
	var args []any
	for _, d := range domains {
		parts = append(parts, "p.addr_key LIKE ?", "p.addr_key LIKE ?")
		args = append(args, "%@"+strings.TrimSuffix(likePrefix(d), "%"), "%@%."+strings.TrimSuffix(likePrefix(d), "%"))
	}
	return condition{"(" + strings.Join(parts, " OR ") + ")", args}
}

// likeText is a text as LIKE finds it.
func likeText(s string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(s)
}

func (q ExternalQuery) where() (c condition, err error) {
	c = condition{"p.external AND g.ended_at IS NULL", nil}
	add := func(sql string, args ...any) { c = c.and(condition{sql, args}) }
	if q.Group != uuid.Nil {
		add("x.group_id = ?", q.Group)
	}
	if q.Runner != uuid.Nil {
		of, err := q.Areas.or(condition{"x.voucher_id = ? OR x.group_id IN (SELECT group_id FROM memberships WHERE member_id = ? AND role = 3)", []any{q.Runner, q.Runner}}, "x.group_id")
		if err != nil {
			return c, err
		}
		c = c.and(of)
	}
	for _, w := range Words(q.Q) {
		add("p.id IN (SELECT ref FROM words WHERE kind = ? AND word LIKE ?)", KindPerson, likePrefix(w))
	}
	if q.Domain != "" {
		c = c.and(within([]string{q.Domain}))
	}
	if q.Voucher != uuid.Nil {
		add("x.voucher_id = ?", q.Voucher)
	}
	if q.Alone {
		add(unvouched)
	}
	if q.Endless {
		add("m.ends_at IS NULL")
	}
	if !q.EndsBy.IsZero() {
		add("m.ends_at <= ?", q.EndsBy)
	}
	if q.NotTaken && len(q.Outside)+len(q.Refused) > 0 {
		var either condition
		if len(q.Outside) > 0 {
			out := within(q.Outside)
			either = condition{"NOT " + out.sql, out.args}
		}
		if len(q.Refused) > 0 {
			no := within(q.Refused)
			if either.sql != "" {
				either.sql += " OR "
			}
			either = condition{either.sql + no.sql, append(either.args, no.args...)}
		}
		add("("+either.sql+")", either.args...)
	}
	return c, nil
}

// unvouched is said of external members for whom nobody vouches who is here.
const unvouched = "NOT EXISTS (SELECT 1 FROM people v WHERE v.id = x.voucher_id AND v.active)"

const externalRows = " FROM external_members x JOIN memberships m ON m.group_id = x.group_id AND m.member_id = x.member_id JOIN people p ON p.id = x.member_id JOIN mail_groups g ON g.id = x.group_id WHERE "

// Delivery names how the mail of the group reaches them.
func (r ExternalRow) Delivery() string { return Membership{Mail: r.Mail, How: r.How}.Delivery() }

// ExternalsIn returns the external members of groups: all, or those at a mail domain and below it, or for whom nobody vouches who is here.
func (s *Reads) ExternalsIn(groups []uuid.UUID, domain string, alone bool) (map[uuid.UUID][]ExternalRow, error) {
	where := condition{"x.group_id IN ?", []any{groups}}
	if domain != "" {
		where = where.and(within([]string{domain}))
	}
	if alone {
		where = where.and(condition{sql: unvouched})
	}
	var rows []ExternalRow
	err := s.db.Raw("SELECT x.group_id, x.member_id, x.voucher_id, x.reason, p.name, p.address, p.addr_key, m.mail, m.how, m.added_at, m.ends_at, m.role"+externalRows+"p.external AND "+where.sql+" ORDER BY p.addr_key", where.args...).Scan(&rows).Error
	out := make(map[uuid.UUID][]ExternalRow, len(groups))
	for _, r := range rows {
		out[r.GroupID] = append(out[r.GroupID], r)
	}
	return out, wrap("read external members", err)
}

// Externals returns a page of external members across groups, by address, each once for each group.
func (s *Reads) Externals(q ExternalQuery) (p Page[ExternalRow], err error) {
	where, err := q.where()
	if err != nil {
		return p, err
	}
	if p.Total = q.After.Total; q.After.Empty() {
		if p.Total, err = s.CountExternals(q); err != nil {
			return p, err
		}
	} else {
		where = where.and(condition{"(p.addr_key > ? OR p.addr_key = ? AND x.group_id > ?)", []any{q.After.Value, q.After.Value, q.After.ID}})
	}
	err = s.db.Raw("SELECT x.group_id, x.member_id, x.voucher_id, x.reason, p.name, p.address, p.addr_key, m.mail, m.how, m.added_at, m.ends_at, m.role"+externalRows+where.sql+
		" ORDER BY p.addr_key, x.group_id LIMIT ?", append(where.args, q.Limit+1)...).Scan(&p.Items).Error
	if err == nil && len(p.Items) > q.Limit {
		p.Items = p.Items[:q.Limit]
		last := p.Items[q.Limit-1]
		p.Next = q.After.next(last.AddrKey, last.GroupID, p.Total)
	}
	return p, wrap("read external members", err)
}

// CountExternals returns how many external members a query means, each once for each group.
func (s *Reads) CountExternals(q ExternalQuery) (n int64, err error) {
	where, err := q.where()
	if err != nil {
		return 0, err
	}
	return n, wrap("count external members", s.db.Raw("SELECT COUNT(*)"+externalRows+where.sql, where.args...).Scan(&n).Error)
}

// VouchedFor returns for which external members somebody vouches, some at most.
func (s *Reads) VouchedFor(people []uuid.UUID, limit int) (rows []ExternalRow, err error) {
	err = s.db.Raw("SELECT x.group_id, x.member_id, x.voucher_id, x.reason, p.name, p.address"+externalRows+"x.voucher_id IN ? AND p.external AND g.ended_at IS NULL ORDER BY x.voucher_id, x.group_id, p.addr_key LIMIT ?", people, limit).Scan(&rows).Error
	return rows, wrap("read for whom somebody vouches", err)
}

// OwnLink lets whoever has it change their own delivery in one group, or leave it, without signing in.
// Only the hash of its secret is kept.
type OwnLink struct {
	Hash      []byte `gorm:"primaryKey"`
	GroupID   uuid.UUID
	MemberID  uuid.UUID
	ExpiresAt time.Time
}

// AddOwnLinks records links.
func (s *Tx) AddOwnLinks(rows []OwnLink) error {
	if len(rows) == 0 {
		return nil
	}
	return wrap("record links", s.db.CreateInBatches(rows, batch).Error)
}

// OwnLink returns a link by its secret's hash.
func (s *Reads) OwnLink(hash []byte) (l OwnLink, err error) {
	err = s.db.Take(&l, "hash = ?", hash).Error
	return l, wrap("read a link", err)
}

// ForgetOwnLinks deletes links whose time is over.
func (s *Tx) ForgetOwnLinks(now time.Time) error {
	return wrap("forget links", s.db.Exec("DELETE FROM own_links WHERE expires_at < ? LIMIT 10000", now).Error)
}
