package store

import (
	"database/sql"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/policy"
	"ivytable.example/ivytable/internal/core/rule"
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

// Ways to sort by what not everybody may ask about, or that needs no index: there are few groups
// of each kind.
const (
	ByAddress  GroupSort = "address"
	ByOwners   GroupSort = "owners"
	ByExternal GroupSort = "external"
	ByRenewed  GroupSort = "renewed"
	ByQuiet    GroupSort = "quiet" // since the last post
)

// groupOrders are the expressions by which lists of groups are sorted. g is the table of
// groups, z that of their sizes.
var groupOrders = map[GroupSort]string{
	ByName: "g.name", ByAddress: "g.addr_key", ByPeople: "z.people", ByOwners: "g.owners", ByExternal: "g.external_members", ByPost: "o.value",
	ByExpires: "g.expires_at", ByCreated: "g.created_at", ByRenewed: "g.renewed_at", ByQuiet: "COALESCE(l.last_at, g.created_at)",
}

// groupIndexes are the indexes of the table of groups in these orders.
var groupIndexes = map[GroupSort]string{ByName: "groups_name", ByOwners: "groups_owners", ByExternal: "groups_external", ByExpires: "groups_expires", ByCreated: "groups_created", ByRenewed: "groups_renewed"}

// byDue sorts groups by when their first notice is due.
var byDue = sortKey[Group]{column: "due_at", value: func(g Group) (string, uuid.UUID) { return g.DueAt.Format(dbTime), g.ID }}

// groupColumns are the columns of a group, in the order of into.
const groupColumns = `id, name, address, addr_key, description, language, traits, default_mail, welcome, mail, by_rule, policy, owners, moderators, members, external_members, departed, nested,
	renewed_at, expires_at, ended_at, retired, exempt, exempt_by, exempt_until, kept, kept_by, kept_at, term_rule, due_at, promises, ended_served, version, revision, created_at, starting_point`

func (g *Group) into(policy *sql.RawBytes) []any {
	return []any{&g.ID, &g.Name, &g.Address, &g.AddrKey, &g.Description, &g.Language, &g.Traits, &g.DefaultMail, &g.Welcome, &g.Mail, &g.ByRule, policy,
		&g.Owners, &g.Moderators, &g.Members, &g.ExternalMembers, &g.Departed, &g.Nested,
		&g.RenewedAt, &g.ExpiresAt, &g.EndedAt, &g.Retired, &g.Exempt, &g.ExemptBy, &g.ExemptUntil, &g.Kept, &g.KeptBy, &g.KeptAt, &g.TermRule, &g.DueAt, &g.Promises, &g.EndedServed, &g.Version, &g.Revision, &g.CreatedAt, &g.StartingPoint}
}

// scanGroups calls f for every group that q names. It reads the columns by hand: by
// reflection would cost as much as the query.
func scanGroups(q *gorm.DB, f func(Group)) error {
	rows, err := q.Rows()
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
	Filter   *rule.Rule        // of core/filter's Groups; nil: all
	Time     FilterTime        // with States, Filter or Joinable
	Viewer   uuid.UUID         // with a value: only groups that this person can find, by what they may know of them
	Also     []*rule.Rule      // with Viewer: filters of groups that they find too
	Mine     uuid.UUID         // with a value: only groups that this person is in
	Role     int8              // with Mine: at least this role
	Joinable uuid.UUID         // with a value: only living groups that this person is not in and may enter or ask for
	Sort     GroupSort
	Desc     bool
	After    Cursor
	Limit    int
}

// where is the condition of a query. With hidings it holds as long as there are no more of them.
func (q GroupQuery) where(s *Reads) (where condition, hidings int64, err error) {
	add := func(sql string, args ...any) { where = where.and(condition{sql, args}) }
	for _, c := range searched(KindGroup, q.Q) {
		where = where.and(c)
	}
	var states condition
	for i, st := range q.States {
		c := stateIs(q.Time)(&rule.Node{Op: rule.Eq, Value: string(st)})
		if i > 0 {
			states.sql += " OR "
		}
		states = condition{states.sql + "(" + c.sql + ")", append(states.args, c.args...)}
	}
	if len(q.States) > 0 {
		add("("+states.sql+")", states.args...)
	}
	if q.Filter != nil {
		c, err := groupFilter(q.Time, q.Viewer != uuid.Nil).where(q.Filter.Root(), true)
		if err != nil {
			return c, 0, err
		}
		add("("+c.sql+")", c.args...)
	}
	if q.Mine != uuid.Nil {
		ids, err := s.groupsOf(q.Mine, q.Role)
		if err != nil {
			return where, 0, err
		}
		add("g.id IN ?", ids)
	}
	if q.Joinable != uuid.Nil {
		add("EXISTS (SELECT 1 FROM group_settings s WHERE s.group_id = g.id AND s.setting = 'join.audience' AND s.value >= ?) AND g.ended_at IS NULL AND g.expires_at > ? AND g.id NOT IN (SELECT group_id FROM memberships WHERE member_id = ?)", policy.Workspace, q.Time.Now, q.Joinable)
	}
	if q.Viewer != uuid.Nil {
		var hidden []uuid.UUID
		if hidden, hidings, err = s.hiddenFound(q.Viewer, q.Time.Now); err != nil {
			return where, 0, err
		}
		seen := condition{"g.findable = 1", nil}
		if len(hidden) > 0 {
			seen = condition{seen.sql + " OR g.id IN ?", []any{hidden}}
		}
		for _, f := range q.Also {
			c, err := groupFilter(q.Time, false).where(f.Root(), true)
			if err != nil {
				return c, 0, err
			}
			seen = condition{seen.sql + " OR (" + c.sql + ")", append(seen.args, c.args...)}
		}
		add("("+seen.sql+")", seen.args...)
	}
	return where, hidings, nil
}

// Groups returns a page of groups. ErrTooSlow says that the filter took longer than is
// allowed.
func (s *Reads) Groups(q GroupQuery) (Page[Group], error) {
	l, err := q.listing(s)
	if err != nil {
		return Page[Group]{}, err
	}
	p, err := l.page(s, q.After, q.Limit)
	if err != nil {
		return Page[Group]{}, err
	}
	out := Page[Group]{Next: p.Next, Total: p.Total}
	out.Items, err = s.groupsAt(p.Items)
	return out, err
}

// EachGroup calls f with all groups of a query, some at a time, in order.
func (s *Reads) EachGroup(q GroupQuery, f func([]Group) error) error {
	l, err := q.listing(s)
	if err != nil {
		return err
	}
	return l.each(s, 1000, func(at []place) error {
		groups, err := s.groupsAt(at)
		if err != nil {
			return err
		}
		return f(groups)
	})
}

// GroupIDs returns the identifiers of all groups of a query, in order.
func (s *Reads) GroupIDs(q GroupQuery) (ids []uuid.UUID, err error) {
	l, err := q.listing(s)
	if err != nil {
		return nil, err
	}
	return ids, l.each(s, 5000, func(at []place) error {
		for _, p := range at {
			ids = append(ids, p.ID)
		}
		return nil
	})
}

func (q GroupQuery) listing(s *Reads) (listing, error) {
	q.Time.Now = q.Time.Now.Truncate(time.Minute) // no group ends between two minutes, and what was counted in one holds for it
	where, hidings, err := q.where(s)
	l := listing{from: "mail_groups g", of: ofGroups, where: where, hidings: hidings, order: groupOrders[q.Sort], id: "g.id", desc: q.Desc, bounded: q.Filter != nil, columns: "g.version, g.revision, COALESCE(z.people, 0), COALESCE(z.shown, 0)", join: " LEFT JOIN group_sizes z ON z.group_id = g.id"}
	l.fresh = q.Sort == ByQuiet
	if q.Filter != nil {
		for _, a := range q.Filter.Attributes() {
			l.fresh = l.fresh || a.Path == "waiting" || a.Path == "last_post_at" || a.Path == "quiet_days"
		}
	}
	if index := groupIndexes[q.Sort]; index != "" {
		l.inOrder = l.from + " FORCE INDEX FOR ORDER BY (" + index + ")" + l.join
	}
	switch q.Sort {
	case ByPeople:
		index := "group_sizes_people"
		if l.id = "z.group_id"; q.Viewer != uuid.Nil {
			l.order, index = "z.shown", "group_sizes_shown"
		}
		l.join = " JOIN group_sizes z ON z.group_id = g.id"
		l.inOrder = "group_sizes z FORCE INDEX FOR ORDER BY (" + index + ") STRAIGHT_JOIN mail_groups g ON g.id = z.group_id"
	case ByPost:
		const sizes = " LEFT JOIN group_sizes z ON z.group_id = g.id"
		l.join = " JOIN group_settings o ON o.group_id = g.id AND o.setting = 'post'" + sizes
		l.inOrder, l.id = "group_settings o FORCE INDEX FOR ORDER BY (group_settings_value) STRAIGHT_JOIN mail_groups g ON g.id = o.group_id AND o.setting = 'post'"+sizes, "o.group_id"
	case ByQuiet:
		l.join += " LEFT JOIN group_posts l ON l.group_id = g.id"
	}
	return l, err
}

// Note says what there is to know of how a list is read, or "".
func (q GroupQuery) Note() string {
	if q.Filter == nil {
		return ""
	}
	return note(groupFilter(q.Time, false), q.Filter, "group")
}

// groupsAt returns the groups at places, as far as they are still there. It reads only those
// that are not kept in their version.
func (s *Reads) groupsAt(at []place) ([]Group, error) {
	have, missing := map[uuid.UUID]Group{}, []uuid.UUID{}
	if inTx(s.db) {
		for _, p := range at {
			missing = append(missing, p.ID)
		}
	} else {
		have, missing = s.memory.groupsOf(at)
	}
	if len(missing) > 0 {
		err := scanGroups(s.db.Model(&Group{}).Select(groupColumns).Where("id IN ?", missing), func(g Group) {
			have[g.ID] = g
			if !inTx(s.db) {
				s.memory.keepGroup(g)
			}
		})
		if err != nil {
			return nil, wrap("read groups", err)
		}
	}
	out := make([]Group, 0, len(at))
	for _, p := range at {
		if g, there := have[p.ID]; there {
			g.People, g.Shown = p.people, p.shown
			out = append(out, g)
		}
	}
	return out, nil
}

func (s *Reads) groupsOf(person uuid.UUID, role int8) (ids []uuid.UUID, err error) {
	err = s.db.Model(&Membership{}).Where("member_id = ? AND role >= ?", person, role).Pluck("group_id", &ids).Error
	return ids, wrap("read somebody's groups", err)
}
