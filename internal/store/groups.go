package store

import (
	"context"
	"strconv"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/policy"
)

// Forever stands in ExpiresAt for a group without an end, so that groups sort by
// their end.
var Forever = time.Date(9999, 1, 1, 0, 0, 0, 0, time.UTC)

// Group is a mail group.
type Group struct {
	ID          uuid.UUID `gorm:"primaryKey"`
	Name        string
	Address     string
	AddrKey     string
	Description string
	Language    string
	Traits      string // comma separated
	DefaultMail bool   // whether new members get each message
	Welcome     string // said to new members
	Ruled       bool   // it has a rule of membership

	Find, SeePeople                     policy.Audience
	Read                                policy.Audience `gorm:"column:read_archive"`
	Post, WriteOwners, AddPeople        policy.Audience
	SpeakAs, SpeakFor                   policy.Audience
	JoinAudience                        policy.Audience
	JoinHow                             policy.How
	Leaving                             policy.Leave
	Externals                           policy.Externals
	Hold                                policy.Hold
	Suspicious                          policy.Suspicious
	Owners, Moderators, Members, Nested int
	ExternalMembers                     int
	People                              int `gorm:"->"`
	RenewedAt, ExpiresAt                time.Time
	EndedAt                             *time.Time
	Retired, Chosen                     bool
	Standing, StandingBy                string
	Version                             int
	CreatedAt                           time.Time
}

// TableName is the table of groups; "groups" is a reserved word in SQL.
func (Group) TableName() string { return "mail_groups" }

// Policy returns the group's policy.
func (g *Group) Policy() policy.Policy {
	return policy.Policy{
		Answers:      [policy.Questions]policy.Audience{g.Find, g.SeePeople, g.Read, g.Post, g.WriteOwners, g.AddPeople, g.SpeakAs, g.SpeakFor},
		JoinAudience: g.JoinAudience, JoinHow: g.JoinHow, Leave: g.Leaving, Externals: g.Externals, Hold: g.Hold, Suspicious: g.Suspicious,
	}
}

// SetPolicy puts p into the group.
func (g *Group) SetPolicy(p policy.Policy) {
	a := p.Answers
	g.Find, g.SeePeople, g.Read, g.Post = a[policy.Find], a[policy.SeePeople], a[policy.Read], a[policy.Post]
	g.WriteOwners, g.AddPeople, g.SpeakAs, g.SpeakFor = a[policy.WriteOwners], a[policy.AddPeople], a[policy.SpeakAs], a[policy.SpeakFor]
	g.JoinAudience, g.JoinHow, g.Leaving = p.JoinAudience, p.JoinHow, p.Leave
	g.Externals, g.Hold, g.Suspicious = p.Externals, p.Hold, p.Suspicious
}

// Life returns the group's life.
func (g *Group) Life() lifecycle.Life {
	l := lifecycle.Life{Renewed: g.RenewedAt, Retired: g.Retired, Chosen: g.Chosen, Standing: g.Standing != ""}
	if g.ExpiresAt.Before(Forever) {
		l.Expires = g.ExpiresAt
	}
	if g.EndedAt != nil {
		l.Ended = *g.EndedAt
	}
	return l
}

// SetExpires sets the date of the end; the zero time means never.
func (g *Group) SetExpires(t time.Time) {
	if t.IsZero() {
		t = Forever
	}
	g.ExpiresAt = t
}

// AddGroup inserts a group, takes its address and makes it searchable. It returns
// ErrDuplicate where the address, or one too alike, is taken.
func (s *Store) AddGroup(ctx context.Context, g *Group) error {
	a, err := mailaddr.Parse(g.Address)
	if err != nil {
		return err
	}
	t := s.in(ctx)
	row := addressRow(a, KindGroup, g.ID)
	if err := t.db.Create(&row).Error; err != nil {
		return wrap("take the address", err)
	}
	if err := t.db.Create(g).Error; err != nil {
		return wrap("add the group", err)
	}
	return t.setWords(KindGroup, g.ID, g.Name, a.Local())
}

// SetAddresses gives a group that is locked its address and its aliases, and makes
// it searchable by them. It returns ErrDuplicate where one of them, or one too
// alike, is somebody else's.
func (s *Store) SetAddresses(ctx context.Context, g *Group, aliases []string) error {
	t := s.in(ctx)
	if err := t.db.Where("ref = ? AND kind IN (?, ?)", g.ID, KindGroup, KindAlias).Delete(&address{}).Error; err != nil {
		return wrap("replace addresses", err)
	}
	alike := map[string]bool{} // of two addresses of one group that are alike, one stands for both
	texts := []string{g.Name}
	for i, x := range append([]string{g.Address}, aliases...) {
		a, err := mailaddr.Parse(x)
		if err != nil {
			return err
		}
		kind := KindAlias
		if i == 0 {
			kind = KindGroup
		}
		row := addressRow(a, kind, g.ID)
		if alike[row.Alike] {
			row.GroupAlike = nil
		}
		alike[row.Alike] = true
		if err := t.db.Create(&row).Error; err != nil {
			return wrap("take an address", err)
		}
		texts = append(texts, a.Local())
	}
	return t.setWords(KindGroup, g.ID, texts...)
}

// SaveGroup writes every field of a group that was read in this transaction with
// LockGroup, and counts its version up. With renamed, it is searchable by its new name.
func (s *Store) SaveGroup(ctx context.Context, g *Group, renamed bool) error {
	g.Version++
	t := s.in(ctx)
	if err := t.db.Omit("People").Save(g).Error; err != nil {
		return wrap("save the group", err)
	}
	if !renamed {
		return nil
	}
	aliases, err := t.Aliases(ctx, []uuid.UUID{g.ID})
	if err != nil {
		return err
	}
	texts := []string{g.Name}
	for _, x := range append(aliases[g.ID], g.Address) {
		local, _, _ := strings.Cut(x, "@")
		texts = append(texts, local)
	}
	return t.setWords(KindGroup, g.ID, texts...)
}

// Group returns a group by identifier.
func (s *Store) Group(ctx context.Context, id uuid.UUID) (g Group, err error) {
	err = s.with(ctx).Take(&g, "id = ?", id).Error
	return g, wrap("read a group", err)
}

// LockGroup returns a group and keeps every other transaction from changing it.
func (s *Store) LockGroup(ctx context.Context, id uuid.UUID) (g Group, err error) {
	err = s.with(ctx).Clauses(clause.Locking{Strength: "UPDATE"}).Take(&g, "id = ?", id).Error
	return g, wrap("read a group", err)
}

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
	ByPost:    {column: "post", value: func(g Group) (string, uuid.UUID) { return strconv.Itoa(int(g.Post)), g.ID }},
	ByExpires: {column: "expires_at", value: func(g Group) (string, uuid.UUID) { return g.ExpiresAt.Format(dbTime), g.ID }},
	ByCreated: {column: "created_at", value: func(g Group) (string, uuid.UUID) { return g.CreatedAt.Format(dbTime), g.ID }},
}

// groupColumns are the columns of a group, in the order of into.
const groupColumns = `id, name, address, addr_key, description, language, traits, default_mail, welcome, ruled, find, see_people, read_archive, post, write_owners, add_people, speak_as, speak_for,
	join_audience, join_how, leaving, externals, hold, suspicious, owners, moderators, members, external_members, nested, people,
	renewed_at, expires_at, ended_at, retired, chosen, standing, standing_by, version, created_at`

func (g *Group) into() []any {
	return []any{&g.ID, &g.Name, &g.Address, &g.AddrKey, &g.Description, &g.Language, &g.Traits, &g.DefaultMail, &g.Welcome, &g.Ruled, &g.Find, &g.SeePeople, &g.Read, &g.Post, &g.WriteOwners, &g.AddPeople, &g.SpeakAs, &g.SpeakFor,
		&g.JoinAudience, &g.JoinHow, &g.Leaving, &g.Externals, &g.Hold, &g.Suspicious, &g.Owners, &g.Moderators, &g.Members, &g.ExternalMembers, &g.Nested, &g.People,
		&g.RenewedAt, &g.ExpiresAt, &g.EndedAt, &g.Retired, &g.Chosen, &g.Standing, &g.StandingBy, &g.Version, &g.CreatedAt}
}

// readGroups runs the query of a list of groups. It asks which groups, in which
// version, and reads only those that are not in memory.
func (s *Store) readGroups(ctx context.Context, q *gorm.DB, items *[]Group) error {
	if inTx(s.db) {
		return scanGroups(q, func(g Group) { *items = append(*items, g) })
	}
	q = q.Session(&gorm.Session{}) // it may be run again
	rows, err := q.Select("id, version").Rows()
	if err != nil {
		return err
	}
	defer rows.Close()
	var wanted []groupVersion
	for rows.Next() {
		var v groupVersion
		if err := rows.Scan(&v.id, &v.version); err != nil {
			return err
		}
		wanted = append(wanted, v)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	have, missing := s.memory.groupsOf(wanted)
	if len(missing) > 0 {
		err := scanGroups(s.with(ctx).Model(&Group{}).Where("id IN ?", missing), func(g Group) {
			have[g.ID] = g
			s.memory.keepGroup(g)
		})
		if err != nil {
			return err
		}
	}
	if len(have) < len(wanted) { // one was deleted since: the page needs another in its place
		return scanGroups(q, func(g Group) { *items = append(*items, g) })
	}
	for _, v := range wanted {
		*items = append(*items, have[v.id])
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
		if err := rows.Scan(g.into()...); err != nil {
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
func (s *Store) Groups(ctx context.Context, q GroupQuery) (Page[Group], error) {
	db := s.with(ctx).Model(&Group{})
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
		ids, err := s.groupsOf(ctx, q.Mine, q.Role)
		if err != nil {
			return Page[Group]{}, err
		}
		db = db.Where("id IN ?", ids)
	}
	if q.Joinable != uuid.Nil {
		db = db.Where("join_audience >= ? AND ended_at IS NULL AND expires_at > ? AND id NOT IN (SELECT group_id FROM memberships WHERE member_id = ?)", policy.Workspace, q.Now, q.Joinable)
	}
	if q.Viewer != uuid.Nil {
		above, err := s.Above(ctx, q.Viewer, q.Now)
		if err != nil {
			return Page[Group]{}, err
		}
		db = db.Where("(find >= ? OR id IN (SELECT m.group_id FROM memberships m WHERE m.member_id IN ? AND mail_groups.find >= 4 - m.role))",
			policy.Workspace, append(above, q.Viewer))
	}
	key := groupSorts[q.Sort]
	key.desc, key.keep = q.Desc, true
	key.read = func(q *gorm.DB, items *[]Group) error { return s.readGroups(ctx, q, items) }
	return page(s, db, q.After, q.Limit, key)
}

func (s *Store) groupsOf(ctx context.Context, person uuid.UUID, role int8) (ids []uuid.UUID, err error) {
	err = s.with(ctx).Model(&Membership{}).Where("member_id = ? AND role >= ?", person, role).Pluck("group_id", &ids).Error
	return ids, wrap("read somebody's groups", err)
}

// Above returns every live group that a person is in, by themselves or through
// nested groups that live at now.
func (s *Store) Above(ctx context.Context, person uuid.UUID, now time.Time) (ids []uuid.UUID, err error) {
	err = s.with(ctx).Raw(`WITH RECURSIVE above (id) AS (
		SELECT m.group_id FROM memberships m JOIN mail_groups g ON g.id = m.group_id AND g.ended_at IS NULL AND g.expires_at > ? WHERE m.member_id = ?
		UNION
		SELECT m.group_id FROM above a JOIN memberships m ON m.member_id = a.id AND m.kind = ?
		JOIN mail_groups g ON g.id = m.group_id AND g.ended_at IS NULL AND g.expires_at > ?
	) SELECT id FROM above`, now, person, KindGroup, now).Scan(&ids).Error
	return ids, wrap("read the groups above a person", err)
}

// ExpiryCandidates returns up to limit live groups that expire at or before until,
// soonest first, after the given place.
func (s *Store) ExpiryCandidates(ctx context.Context, until time.Time, after Cursor, limit int) (Page[Group], error) {
	db := s.with(ctx).Model(&Group{}).Where("ended_at IS NULL AND expires_at <= ?", until)
	return page(s, db, after, limit, groupSorts[ByExpires])
}

// EndedBefore returns up to limit groups that ended at or before a time.
func (s *Store) EndedBefore(ctx context.Context, until time.Time, limit int) (out []Group, err error) {
	err = s.with(ctx).Where("ended_at <= ?", until).Order("ended_at").Limit(limit).Find(&out).Error
	return out, wrap("read groups that ended", err)
}

// EachLiveGroup calls f with the live groups in batches, in order of their identifiers.
func (s *Store) EachLiveGroup(ctx context.Context, f func([]Group) error) error {
	var batch []Group
	return s.with(ctx).Where("ended_at IS NULL").FindInBatches(&batch, 1000, func(*gorm.DB, int) error { return f(batch) }).Error
}

// SetExpiry writes the dates of groups that have not ended: one statement a date.
func (s *Store) SetExpiry(ctx context.Context, dates map[uuid.UUID]time.Time) error {
	byDate := map[time.Time][]uuid.UUID{}
	for id, at := range dates {
		if at.IsZero() {
			at = Forever
		}
		byDate[at] = append(byDate[at], id)
	}
	for at, ids := range byDate {
		err := s.with(ctx).Exec("UPDATE mail_groups SET expires_at = ?, version = version + 1 WHERE id IN ? AND ended_at IS NULL", at, ids).Error
		if err != nil {
			return wrap("set the dates of groups", err)
		}
	}
	return nil
}

// DateCount is how many live groups expire at a moment.
type DateCount struct {
	ExpiresAt time.Time
	N         int
}

// ExpiryDates counts the live groups that expire from one moment to another, by date.
func (s *Store) ExpiryDates(ctx context.Context, from, to time.Time) (out []DateCount, err error) {
	err = s.with(ctx).Raw("SELECT expires_at, COUNT(*) AS n FROM mail_groups WHERE ended_at IS NULL AND expires_at >= ? AND expires_at < ? GROUP BY expires_at", from, to).Scan(&out).Error
	return out, wrap("count dates", err)
}

// GroupsByKeys returns the groups that these address keys lead to, by key.
func (s *Store) GroupsByKeys(ctx context.Context, keys []string) (map[string]Group, error) {
	var at []address
	if err := s.with(ctx).Find(&at, "addr_key IN ? AND kind <> ?", keys, KindPerson).Error; err != nil {
		return nil, wrap("read groups", err)
	}
	ids := make([]uuid.UUID, len(at))
	for i, a := range at {
		ids[i] = a.Ref
	}
	groups, err := s.GroupsByID(ctx, ids)
	out := map[string]Group{}
	for _, a := range at {
		out[a.AddrKey] = groups[a.Ref]
	}
	return out, err
}

// GroupsByID returns groups by identifier.
func (s *Store) GroupsByID(ctx context.Context, ids []uuid.UUID) (map[uuid.UUID]Group, error) {
	var rows []Group
	if err := s.with(ctx).Find(&rows, "id IN ?", ids).Error; err != nil {
		return nil, wrap("read groups", err)
	}
	out := map[uuid.UUID]Group{}
	for _, g := range rows {
		out[g.ID] = g
	}
	return out, nil
}

// Purge deletes a group and everything in it but its history.
func (s *Store) Purge(ctx context.Context, id uuid.UUID) error {
	for _, q := range []string{
		"DELETE d FROM deliveries d JOIN messages m ON m.id = d.message_id WHERE m.group_id = ?",
		"DELETE FROM messages WHERE group_id = ?", "DELETE FROM notices WHERE group_id = ?",
		"DELETE FROM requests WHERE group_id = ?", "DELETE FROM invitations WHERE group_id = ?", "DELETE FROM join_links WHERE group_id = ?",
		"DELETE FROM standings WHERE group_id = ?", "DELETE FROM group_rules WHERE group_id = ?",
		"DELETE FROM memberships WHERE group_id = ?", "DELETE FROM words WHERE ref = ?",
		"DELETE FROM addresses WHERE ref = ?", "DELETE FROM mail_groups WHERE id = ?",
		"UPDATE mail_groups g JOIN memberships m ON m.group_id = g.id SET g.nested = g.nested - 1, g.version = g.version + 1 WHERE m.member_id = ?",
		"DELETE FROM memberships WHERE member_id = ?",
	} {
		if err := s.with(ctx).Exec(q, id).Error; err != nil {
			return wrap("purge a group", err)
		}
	}
	return nil
}
