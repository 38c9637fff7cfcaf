package store

import (
	"fmt"
	"strings"
	"time"

	"github.com/google/uuid"
)

// Kinds of what waits for somebody's decision, beside those of requests.
const (
	WaitingPost  = "post"
	WaitingRule  = "rule"  // a change of who is in by rule that its guard holds back
	WaitingNest  = "nest"  // the consent of a group to being in another, which is asked for
	WaitingRound = "round" // a group that its owners are asked to confirm
)

// WaitingItem is something that waits for somebody's decision.
type WaitingItem struct {
	Kind    string
	ID      uuid.UUID // of a rule: that of its group
	GroupID uuid.UUID
	At      time.Time
}

// WaitingQuery says what of all that waits is meant.
type WaitingQuery struct {
	Kinds  []string         // empty: all
	Group  uuid.UUID        // with a value: of this group alone
	Person uuid.UUID        // with a value: of groups that this person decides about
	Own    uuid.UUID        // without Person: who administers; of rounds, their own groups and those that nobody owns
	Areas  map[string]Areas // with Person, by kind: groups about which they decide as helpers
	After  Cursor
	Limit  int
}

// parts are the tables that something waits in: post and request by moderators, rules and consents by
// owners. Each ends so that conditions can follow.
var waitingParts = []struct {
	kinds  []string
	sql    string
	at, id string
	role   int
}{
	{[]string{WaitingPost}, "SELECT 'post' AS kind, id, group_id, received_at AS at FROM mailings WHERE kind = 'post' AND state = 'waiting'", "received_at", "id", 2},
	{[]string{ToJoin, ToLeave}, "SELECT kind, id, group_id, made_at AS at FROM requests WHERE state = 'open'", "made_at", "id", 2},
	{[]string{WaitingRule}, "SELECT 'rule' AS kind, group_id AS id, group_id, " + pendingAt + " AS at FROM group_rules WHERE pending IS NOT NULL", pendingAt, "group_id", 3},
	{[]string{WaitingNest}, "SELECT 'nest' AS kind, id, group_id, asked_at AS at FROM consents WHERE scope = 0", "asked_at", "id", 3},
	{[]string{WaitingRound}, "SELECT 'round' AS kind, id, group_id, asked_at AS at FROM round_groups WHERE state = 1", "asked_at", "id", 3},
}

// waitingInGroups is what waits in groups and is the same whoever asks: a group to confirm in a round is asked of its owners, and has a
// day of its own.
var waitingInGroups = func() string {
	var all []string
	for _, p := range waitingParts {
		if p.kinds[0] != WaitingRound {
			all = append(all, p.sql)
		}
	}
	return strings.Join(all, " UNION ALL ")
}()

// pendingAt is since when a change of a rule waits.
const pendingAt = "CAST(STR_TO_DATE(LEFT(JSON_VALUE(pending, '$.at'), 19), '%Y-%m-%dT%H:%i:%s') AS DATETIME(6))"

// selects returns the statements that find what a query means, one a table.
func (q WaitingQuery) selects(more func(at, id string) condition) (out []condition, err error) {
	for _, p := range waitingParts {
		var kinds []string
		for _, k := range p.kinds {
			if len(q.Kinds) == 0 || strings.Contains(" "+strings.Join(q.Kinds, " ")+" ", " "+k+" ") {
				kinds = append(kinds, k)
			}
		}
		if len(kinds) == 0 {
			continue
		}
		c := condition{sql: p.sql}
		if len(kinds) < len(p.kinds) {
			c = c.and(condition{"kind IN ?", []any{kinds}})
		}
		if q.Group != uuid.Nil {
			c = c.and(condition{"group_id = ?", []any{q.Group}})
		}
		if q.Person != uuid.Nil {
			of := condition{"group_id IN (SELECT group_id FROM memberships WHERE member_id = ? AND role >= ?)", []any{q.Person, p.role}}
			if of, err = q.Areas[p.kinds[0]].or(of, "group_id"); err != nil {
				return nil, err
			}
			c = c.and(of)
		}
		if q.Person == uuid.Nil && p.kinds[0] == WaitingRound {
			c = c.and(condition{"(nobody OR group_id IN (SELECT group_id FROM memberships WHERE member_id = ? AND role >= ?))", []any{q.Own, p.role}})
		}
		if more != nil {
			c = c.and(more(p.at, p.id))
		}
		out = append(out, c)
	}
	return out, nil
}

// Waiting returns a page of what waits, oldest first.
func (s *Reads) Waiting(q WaitingQuery) (Page[WaitingItem], error) {
	p := Page[WaitingItem]{Total: q.After.Total}
	if q.After.Empty() {
		var err error
		if p.Total, err = s.CountWaiting(q); err != nil {
			return p, err
		}
	}
	all, err := q.selects(func(at, id string) condition {
		if q.After.Empty() {
			return condition{}
		}
		return condition{fmt.Sprintf("(%s > ? OR %s = ? AND %s > ?)", at, at, id), []any{q.After.Value, q.After.Value, q.After.ID}}
	})
	if err != nil {
		return p, err
	}
	var parts []string
	var args []any
	for _, c := range all {
		parts, args = append(parts, "("+c.sql+" ORDER BY at, id LIMIT ?)"), append(append(args, c.args...), q.Limit+1)
	}
	if len(parts) == 0 {
		return p, nil
	}
	err = s.db.Raw("SELECT * FROM ("+strings.Join(parts, " UNION ALL ")+") w ORDER BY at, id LIMIT ?", append(args, q.Limit+1)...).Scan(&p.Items).Error
	if err == nil && len(p.Items) > q.Limit {
		p.Items = p.Items[:q.Limit]
		last := p.Items[q.Limit-1]
		p.Next = q.After.next(last.At.Format(dbTime), last.ID, p.Total)
	}
	return p, wrap("read what waits", err)
}

// CountWaiting returns how much waits.
func (s *Reads) CountWaiting(q WaitingQuery) (n int64, err error) {
	all, err := q.selects(nil)
	if err != nil {
		return 0, err
	}
	for _, c := range all {
		var some int64
		if err := s.db.Raw("SELECT COUNT(*) FROM ("+c.sql+") w", c.args...).Scan(&some).Error; err != nil {
			return 0, wrap("count what waits", err)
		}
		n += some
	}
	return n, nil
}

// Mailings returns mailings by identifier.
func (s *Reads) Mailings(ids []uuid.UUID) (map[uuid.UUID]Mailing, error) {
	return found(s, "id", ids, func(m Mailing) uuid.UUID { return m.ID })
}

// RequestsByID returns requests by identifier.
func (s *Reads) RequestsByID(ids []uuid.UUID) (map[uuid.UUID]Request, error) {
	return found(s, "id", ids, func(r Request) uuid.UUID { return r.ID })
}

// RulesOf returns the rules of groups, by group.
func (s *Reads) RulesOf(groups []uuid.UUID) (map[uuid.UUID]GroupRule, error) {
	return found(s, "group_id", groups, func(r GroupRule) uuid.UUID { return r.GroupID })
}

// found returns the rows that have one of ids in a column, by that.
func found[T any](s *Reads, column string, ids []uuid.UUID, key func(T) uuid.UUID) (map[uuid.UUID]T, error) {
	var rows []T
	err := s.db.Find(&rows, column+" IN ?", ids).Error
	out := make(map[uuid.UUID]T, len(rows))
	for _, r := range rows {
		out[key(r)] = r
	}
	return out, wrap("read what waits", err)
}

// KeepMembers makes some of those who are in a group by its rule members by hand.
func (s *Tx) KeepMembers(group uuid.UUID, ids []uuid.UUID) error {
	return inBatches(ids, func(ids []uuid.UUID) error {
		return wrap("keep members", s.writing(ofGroups).Exec("UPDATE memberships SET by_rule = FALSE WHERE group_id = ? AND member_id IN ?", group, ids).Error)
	})
}
