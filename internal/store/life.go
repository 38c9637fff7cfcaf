package store

import (
	"database/sql"
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"ivytable.example/ivytable/internal/core/lifecycle"
	"ivytable.example/ivytable/internal/core/rule"
)

// DueGroups returns up to limit groups that have not ended and whose first notice is due, those whose was first before
// others, after the given place.
func (s *Reads) DueGroups(now time.Time, after Cursor, limit int) (Page[Group], error) {
	return page(s, s.db.Model(&Group{}).Where("ended_at IS NULL AND due_at <= ?", now), after, limit, byDue)
}

// EndedBefore returns up to limit groups that ended at or before a time, and on one of the first so many days of service,
// and are not under hold, the first to end before others, after the given place.
func (s *Reads) EndedBefore(until time.Time, served int, after Cursor, limit int) (Page[Group], error) {
	return page(s, s.db.Model(&Group{}).Where("ended_at <= ? AND ended_served <= ? AND kept = ''", until, served), after, limit, byEnded)
}

var byEnded = sortKey[Group]{column: "ended_at", value: func(g Group) (string, uuid.UUID) { return g.EndedAt.Format(dbTime), g.ID }}

// EachLiveGroup calls f with the live groups in batches, in order of their identifiers.
func (s *Reads) EachLiveGroup(f func([]Group) error) error {
	var batch []Group
	return s.db.Where("ended_at IS NULL").FindInBatches(&batch, 1000, func(*gorm.DB, int) error { return f(batch) }).Error
}

// TermOf is the life of a living group, with the rules that name it.
type TermOf struct {
	ID            uuid.UUID
	Name, Address string
	Language      string
	Owners        int
	Life          lifecycle.Life
	Named         []bool // by rule, in their order
}

// First returns the first rule that names it; -1 for none.
func (t *TermOf) First() int {
	for i, named := range t.Named {
		if named {
			return i
		}
	}
	return -1
}

// Terms returns the lives of groups that have not ended, and which rules name them, by identifier: of those that ids
// names, or of all where it is nil. A rule without a filter names all.
func (s *Reads) Terms(t FilterTime, rules []*rule.Rule, ids []uuid.UUID) ([]TermOf, error) {
	return terms(s.db, t, rules, ids, "")
}

// LockTerms is Terms for a transaction that will change them: it keeps others from changing the groups until the
// transaction ends.
func (s *Tx) LockTerms(t FilterTime, rules []*rule.Rule, ids []uuid.UUID) ([]TermOf, error) {
	if err := s.order(rankGroups); err != nil {
		return nil, err
	}
	return terms(s.db, t, rules, ids, s.locking("FOR UPDATE"))
}

func terms(db *gorm.DB, t FilterTime, rules []*rule.Rule, ids []uuid.UUID, lock string) ([]TermOf, error) {
	f := groupFilter(t, false)
	var columns strings.Builder
	var args []any
	for _, r := range rules {
		c := condition{sql: "TRUE"}
		if r != nil {
			var err error
			if c, err = f.where(r.Root(), true); err != nil {
				return nil, err
			}
		}
		fmt.Fprintf(&columns, ", (%s)", c.sql)
		args = append(args, c.args...)
	}
	where := "g.ended_at IS NULL"
	if ids != nil {
		where, args = where+" AND g.id IN ?", append(args, ids)
	}
	var out []TermOf
	err := eachRow(db.Raw(`SELECT g.id, g.name, g.address, g.language, g.owners, g.renewed_at, g.term_rule, g.expires_at, g.due_at, g.promises, g.exempt <> ''`+columns.String()+
		" FROM mail_groups g WHERE "+where+" ORDER BY g.id"+lock, args...), func(scan func(...any) error) error {
		x := TermOf{Named: make([]bool, len(rules))}
		named := make([]sql.NullBool, len(rules))
		into := []any{&x.ID, &x.Name, &x.Address, &x.Language, &x.Owners, &x.Life.Renewed, &x.Life.Rule, &x.Life.Expires, &x.Life.Due, &x.Life.Promises, &x.Life.Exempt}
		for i := range named {
			into = append(into, &named[i])
		}
		if err := scan(into...); err != nil {
			return err
		}
		for i, n := range named {
			x.Named[i] = n.Bool
		}
		if !x.Life.Expires.Before(Forever) {
			x.Life.Expires, x.Life.Due = time.Time{}, time.Time{}
		}
		out = append(out, x)
		return nil
	})
	return out, wrap("read how long groups live", err)
}

// NamedBy returns which of filters is the first that names each of some groups, by group; none where no filter does. A
// nil filter names all.
func (s *Reads) NamedBy(t FilterTime, filters []*rule.Rule, ids []uuid.UUID) (map[uuid.UUID]int, error) {
	out := map[uuid.UUID]int{}
	if len(filters) == 0 {
		return out, nil
	}
	f := groupFilter(t, false)
	var cases strings.Builder
	var args []any
	for i, r := range filters {
		c := condition{sql: "TRUE"}
		if r != nil {
			var err error
			if c, err = f.where(r.Root(), true); err != nil {
				return nil, err
			}
		}
		fmt.Fprintf(&cases, " WHEN (%s) THEN %d", c.sql, i)
		args = append(args, c.args...)
	}
	return out, inBatches(ids, func(ids []uuid.UUID) error {
		return wrap("match groups", eachRow(s.db.Raw("SELECT g.id, CASE"+cases.String()+" END FROM mail_groups g WHERE g.id IN ?", append(args[:len(args):len(args)], ids)...), func(scan func(...any) error) error {
			var id uuid.UUID
			var first sql.NullInt64
			if err := scan(&id, &first); err != nil || !first.Valid {
				return err
			}
			out[id] = int(first.Int64)
			return nil
		}))
	})
}

// SetTerms writes the lives of groups that have not ended: one statement for those that are alike.
func (s *Tx) SetTerms(lives map[uuid.UUID]lifecycle.Life) error {
	type term struct {
		rule, promises string
		expires, due   time.Time
	}
	alike := map[term][]uuid.UUID{}
	for id, l := range lives {
		t := term{l.Rule, string(l.Promises), orForever(l.Expires), orForever(l.Due)}
		alike[t] = append(alike[t], id)
	}
	for t, ids := range alike {
		err := s.writing(ofGroups).Exec("UPDATE mail_groups SET term_rule = ?, term_key = ?, promises = ?, expires_at = ?, due_at = ?, revision = revision + 1 WHERE id IN ? AND ended_at IS NULL",
			t.rule, rule.Fold(t.rule), t.promises, t.expires, t.due, ids).Error
		if err != nil {
			return wrap("set how long groups live", err)
		}
	}
	return nil
}

// Ending is a living group with an end.
type Ending struct {
	ID            uuid.UUID
	Name, Address string
	Rule          string
	ExpiresAt     time.Time
}

// Endings calls f with the living groups that have an end, soonest first: of those that a query means. The query's order
// and place don't count.
func (s *Reads) Endings(q GroupQuery, f func(Ending)) error {
	q.Sort = ByExpires
	where, _, err := q.where(s)
	if err != nil {
		return err
	}
	where = condition{"g.ended_at IS NULL AND g.expires_at > ? AND g.expires_at < '9999-01-01'", []any{q.Time.Now}}.and(where)
	return wrap("read ends of groups", eachRow(s.db.Raw("SELECT g.id, g.name, g.address, g.term_rule, g.expires_at FROM mail_groups g WHERE "+where.sql+" ORDER BY g.expires_at, g.name, g.id", where.args...), func(scan func(...any) error) error {
		var x Ending
		if err := scan(&x.ID, &x.Name, &x.Address, &x.Rule, &x.ExpiresAt); err != nil {
			return err
		}
		f(x)
		return nil
	}))
}

// OwnerIDs returns the owners of all groups who are here, by group.
func (s *Reads) OwnerIDs() (map[uuid.UUID][]uuid.UUID, error) {
	out := map[uuid.UUID][]uuid.UUID{}
	return out, wrap("read owners", eachRow(s.db.Raw("SELECT STRAIGHT_JOIN o.group_id, o.member_id FROM mail_groups g JOIN memberships o ON o.group_id = g.id AND o.role = 3 JOIN people p ON p.id = o.member_id AND p.active WHERE g.ended_at IS NULL"), func(scan func(...any) error) error {
		var group, person uuid.UUID
		err := scan(&group, &person)
		out[group] = append(out[group], person)
		return err
	}))
}

// LastActivity returns when groups were last written to, and when somebody last came in by themselves, by group.
func (s *Reads) LastActivity(groups []uuid.UUID) (posts, joins map[uuid.UUID]time.Time, err error) {
	posts, joins = map[uuid.UUID]time.Time{}, map[uuid.UUID]time.Time{}
	if len(groups) == 0 {
		return posts, joins, nil
	}
	for _, x := range []struct {
		out   map[uuid.UUID]time.Time
		query string
	}{
		{posts, "SELECT group_id, last_at FROM group_posts WHERE group_id IN ?"},
		{joins, "SELECT group_id, MAX(at) FROM history WHERE group_id IN ? AND kind IN ('people.join', 'request.approve', 'invitation.accept') GROUP BY group_id"},
	} {
		err := eachRow(s.db.Raw(x.query, groups), func(scan func(...any) error) error {
			var id uuid.UUID
			var at time.Time
			err := scan(&id, &at)
			x.out[id] = at
			return err
		})
		if err != nil {
			return nil, nil, wrap("read what happened in groups", err)
		}
	}
	return posts, joins, nil
}

// Served is the setting "served": the days on which the service ran, counted so that a clock that jumps counts as one.
type Served struct {
	Day  string `json:"day"` // the last one, in the workspace's zone
	Days int    `json:"days"`
	// Back is the day to which the clock went back, while it is not known yet that it stays there.
	Back string `json:"back,omitempty"`
	// Matched is the last day on which all groups were matched with the rules.
	Matched string `json:"matched"`
}

// PurgedGroup is what is left of a group that is gone, beside its history.
type PurgedGroup struct {
	ID            uuid.UUID `gorm:"primaryKey"`
	Name, Address string
	Aliases       string // one a line
	Description   string
	Owners        string // one a line
	People        int
	CreatedAt     time.Time
	EndedAt       time.Time
	Retired       bool
	PurgedAt      time.Time
	FreeAt        time.Time // when its addresses are anybody's again
	Freed         bool
}

var byPurged = sortKey[PurgedGroup]{column: "purged_at", desc: true, value: func(g PurgedGroup) (string, uuid.UUID) { return g.PurgedAt.Format(dbTime), g.ID }}

// PurgedGroups returns a page of groups that are gone, the last first.
func (s *Reads) PurgedGroups(after Cursor, limit int) (Page[PurgedGroup], error) {
	return page(s, s.db.Model(&PurgedGroup{}), after, limit, byPurged)
}

// PurgedGroup returns what is left of a group that is gone.
func (s *Reads) PurgedGroup(id uuid.UUID) (g PurgedGroup, err error) {
	err = s.db.Take(&g, "id = ?", id).Error
	return g, wrap("read a group that is gone", err)
}

// GoneByKeys returns what is left of groups that are gone whose addresses these are still, by key.
func (s *Reads) GoneByKeys(keys []string) (map[string]PurgedGroup, error) {
	out := map[string]PurgedGroup{}
	var rows []struct {
		AddrKey string
		PurgedGroup
	}
	err := s.db.Raw("SELECT a.addr_key, x.* FROM addresses a JOIN purged_groups x ON x.id = a.ref WHERE a.addr_key IN ? AND a.kind = ?", keys, KindGone).Scan(&rows).Error
	for _, r := range rows {
		out[r.AddrKey] = r.PurgedGroup
	}
	return out, wrap("read addresses of groups that are gone", err)
}

// FreeAddresses gives back the addresses of groups that are gone whose time is over, and returns those groups.
func (s *Tx) FreeAddresses(now time.Time, limit int) (out []PurgedGroup, err error) {
	if err := s.forUpdate().Where("NOT freed AND free_at <= ?", now).Order("free_at").Limit(limit).Find(&out).Error; err != nil || len(out) == 0 {
		return nil, wrap("free addresses", err)
	}
	ids := make([]uuid.UUID, len(out))
	for i, g := range out {
		ids[i] = g.ID
	}
	for _, q := range []string{"DELETE FROM addresses WHERE ref IN ?", "UPDATE purged_groups SET freed = TRUE WHERE id IN ?"} {
		if err := s.db.Exec(q, ids).Error; err != nil {
			return nil, wrap("free addresses", err)
		}
	}
	return out, nil
}

// Purge deletes a group and everything in it but its history, what is left of it, and its addresses, which are
// nobody's until they are freed.
func (s *Tx) Purge(left PurgedGroup) error {
	id := left.ID
	for {
		var mailings []Mailing
		if err := s.db.Where("group_id = ?", id).Limit(1000).Find(&mailings).Error; err != nil {
			return wrap("purge a group", err)
		}
		if len(mailings) == 0 {
			break
		}
		if err := s.deleteMail(mailings); err != nil {
			return err
		}
	}
	if err := s.db.Create(&left).Error; err != nil {
		return wrap("purge a group", err)
	}
	for _, q := range []string{
		"DELETE FROM findings WHERE subject = ?", "DELETE FROM notices WHERE group_id = ?", "DELETE FROM notice_letters WHERE group_id = ?", "DELETE FROM group_sizes WHERE group_id = ?", "DELETE FROM group_posts WHERE group_id = ?", "DELETE FROM group_tellings WHERE group_id = ?",
		"DELETE FROM requests WHERE group_id = ?", "DELETE FROM invitations WHERE group_id = ?", "DELETE FROM join_links WHERE group_id = ?",
		"DELETE FROM overrides WHERE group_id = ?", "DELETE FROM group_settings WHERE group_id = ?", "DELETE FROM group_rules WHERE group_id = ?",
		"DELETE FROM external_members WHERE group_id = ?", "DELETE FROM own_links WHERE group_id = ?", "DELETE FROM proofs WHERE group_id = ?", "DELETE FROM answers WHERE group_id = ?", "DELETE FROM consents WHERE group_id = ?", "DELETE FROM consents WHERE outer_id = ?",
		"DELETE FROM memberships WHERE group_id = ?", "DELETE FROM words WHERE ref = ?",
		fmt.Sprintf("UPDATE addresses SET kind = %d WHERE ref = ?", KindGone), "DELETE FROM mail_groups WHERE id = ?",
		"UPDATE mail_groups g JOIN memberships m ON m.group_id = g.id SET g.nested = g.nested - 1, g.revision = g.revision + 1 WHERE m.member_id = ?",
		"DELETE FROM memberships WHERE member_id = ?",
	} {
		if err := s.writing(ofGroups).Exec(q, id).Error; err != nil {
			return wrap("purge a group", err)
		}
	}
	s.nested = true
	return nil
}

// GroupsByRule returns for how many living groups each term rule holds, by its name.
func (s *Reads) GroupsByRule() (map[string]int, error) {
	out := map[string]int{}
	return out, wrap("count groups by their rules", eachRow(s.db.Raw("SELECT term_rule, COUNT(*) FROM mail_groups WHERE ended_at IS NULL AND term_rule <> '' GROUP BY term_rule"), func(scan func(...any) error) error {
		var name string
		var n int
		err := scan(&name, &n)
		out[name] = n
		return err
	}))
}

// WaitingIn returns how much waits for a decision in a group.
func (s *Reads) WaitingIn(group uuid.UUID) (n int, err error) {
	err = s.db.Raw(`SELECT (SELECT COUNT(*) FROM mailings WHERE group_id = @g AND kind = 'post' AND state = 'waiting')
		+ (SELECT COUNT(*) FROM requests WHERE group_id = @g AND state = 'open') + (SELECT COUNT(*) FROM group_rules WHERE group_id = @g AND pending IS NOT NULL)`, sql.Named("g", group)).Scan(&n).Error
	return n, wrap("count what waits", err)
}

// CalendarFeed lets whoever has its secret read when somebody's groups expire. Only the hash of the secret is kept.
type CalendarFeed struct {
	Hash     []byte `gorm:"primaryKey"`
	PersonID uuid.UUID
	MadeAt   time.Time
}

// SaveFeed records somebody's feed in place of the one before.
func (s *Tx) SaveFeed(f CalendarFeed) error {
	if err := s.DeleteFeed(f.PersonID); err != nil {
		return err
	}
	return wrap("record a calendar", s.db.Create(&f).Error)
}

// DeleteFeed deletes somebody's feed.
func (s *Tx) DeleteFeed(person uuid.UUID) error {
	return wrap("delete a calendar", s.db.Exec("DELETE FROM calendar_feeds WHERE person_id = ?", person).Error)
}

// PersonOfFeed returns whose feed it is that has a secret with this hash.
func (s *Reads) PersonOfFeed(hash []byte) (p Person, err error) {
	err = s.db.Take(&p, "id = (SELECT person_id FROM calendar_feeds WHERE hash = ?)", hash).Error
	return p, wrap("read whose calendar it is", err)
}
