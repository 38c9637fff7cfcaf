package store

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm/clause"

	"ivytable.example/ivytable/internal/core/review"
	"ivytable.example/ivytable/internal/core/rule"
)

// Finding is something wrong or doubtful about a group or a person, as it was found last.
type Finding struct {
	ID       uuid.UUID `gorm:"primaryKey"`
	Subject  uuid.UUID
	Of       int8 // KindGroup or KindPerson
	Kind     string
	Place    int // of its kind among the kinds
	Severity int8
	Says     string
	N        int
	Since    time.Time
	Others   string // identifiers of other groups that it names, one a line

	AcceptedBy, AcceptedWhy   string
	AcceptedAt, AcceptedUntil *time.Time
	AcceptedN                 int
	AssignedTo                *uuid.UUID
	AssignedBy                string
	AssignedAt                *time.Time
}

// Accepted reports whether somebody has said that it is known and fine, and that still counts.
func (f *Finding) Accepted(now time.Time) bool {
	return f.AcceptedAt != nil && (f.AcceptedUntil == nil || now.Before(*f.AcceptedUntil))
}

// Named are the other groups that it names.
func (f *Finding) Named() (out []uuid.UUID) {
	for _, o := range strings.Fields(f.Others) {
		if id, err := uuid.Parse(o); err == nil {
			out = append(out, id)
		}
	}
	return out
}

const accepted = "f.accepted_at IS NOT NULL AND (f.accepted_until IS NULL OR f.accepted_until > ?)"

// FindingRow is a finding with what its subject is called.
type FindingRow struct {
	Finding
	Name, Address     string
	ToName, ToAddress string // to whom it is assigned
}

// FindingQuery says which findings to list. The zero value stands for all.
type FindingQuery struct {
	IDs      []uuid.UUID // with values: these
	Kinds    []string
	Severity int8   // with a value: of this one
	State    string // open, accepted or assigned; open ones can be assigned
	Subject  uuid.UUID
	Filter   *rule.Rule // of core/filter's Groups: of these groups
	Runner   uuid.UUID  // with a value: of groups that this person owns, those assigned to them, ...
	Reader   uuid.UUID  // with a value: who may not find every group, so of the kinds ...
	Naming   []string   // ... that name other groups only what is assigned to them
	Areas    Areas      // ... and of these
	Time     FilterTime
	After    Cursor
	Limit    int
}

func (q FindingQuery) where() (c condition, err error) {
	c = condition{"TRUE", nil}
	add := func(sql string, args ...any) { c = c.and(condition{sql, args}) }
	if len(q.IDs) > 0 {
		add("f.id IN ?", q.IDs)
	}
	if len(q.Kinds) > 0 {
		add("f.kind IN ?", q.Kinds)
	}
	if q.Severity > 0 {
		add("f.severity = ?", q.Severity)
	}
	switch q.State {
	case "open":
		add("NOT ("+accepted+")", q.Time.Now)
	case "accepted":
		add(accepted, q.Time.Now)
	case "assigned":
		add("f.assigned_to IS NOT NULL AND NOT ("+accepted+")", q.Time.Now)
	}
	if q.Subject != uuid.Nil {
		add("f.subject = ?", q.Subject)
	}
	if q.Filter != nil {
		in, err := groupFilter(q.Time, false).where(q.Filter.Root(), true)
		if err != nil {
			return c, err
		}
		add("f.subject IN (SELECT g.id FROM mail_groups g WHERE "+in.sql+")", in.args...)
	}
	if q.Runner != uuid.Nil {
		given := "f.assigned_to = ?"
		if q.Reader != uuid.Nil { // of a group only who owns it still, or helps with it
			given = "f.of = 1 AND f.assigned_to = ?"
		}
		of, err := q.Areas.or(condition{given + " OR f.subject IN (SELECT group_id FROM memberships WHERE member_id = ? AND role = 3)", []any{q.Runner, q.Runner}}, "f.subject")
		if err != nil {
			return c, err
		}
		c = c.and(of)
	}
	if q.Reader != uuid.Nil && len(q.Naming) > 0 {
		add("(f.kind NOT IN ? OR f.assigned_to = ?)", q.Naming, q.Reader)
	}
	return c, nil
}

// Findings returns a page of findings, those that weigh most first.
func (s *Reads) Findings(q FindingQuery) (p Page[FindingRow], err error) {
	where, err := q.where()
	if err != nil {
		return p, err
	}
	if p.Total = q.After.Total; q.After.Empty() {
		if err := s.db.Raw("SELECT COUNT(*) FROM findings f WHERE "+where.sql, where.args...).Scan(&p.Total).Error; err != nil {
			return p, wrap("count findings", err)
		}
	} else {
		where = where.and(condition{"(f.place > ? OR f.place = ? AND f.id > ?)", []any{q.After.Value, q.After.Value, q.After.ID}})
	}
	err = s.db.Raw(`SELECT f.*, COALESCE(g.name, p.name, '') AS name, COALESCE(g.address, p.address, '') AS address, COALESCE(t.name, '') AS to_name, COALESCE(t.address, '') AS to_address FROM findings f
		LEFT JOIN mail_groups g ON g.id = f.subject AND f.of = 2 LEFT JOIN people p ON p.id = f.subject AND f.of = 1 LEFT JOIN people t ON t.id = f.assigned_to
		WHERE `+where.sql+" ORDER BY f.place, f.id LIMIT ?", append(where.args, q.Limit+1)...).Scan(&p.Items).Error
	if err == nil && len(p.Items) > q.Limit {
		p.Items = p.Items[:q.Limit]
		last := p.Items[q.Limit-1]
		p.Next = q.After.next(fmt.Sprint(last.Place), last.ID, p.Total)
	}
	return p, wrap("read findings", err)
}

// FindingCount is how many findings of a kind there are.
type FindingCount struct {
	Kind                     string
	Open, Accepted, Assigned int // what is assigned is open
}

// CountFindings counts the findings of a query by kind.
func (s *Reads) CountFindings(q FindingQuery) (out []FindingCount, err error) {
	where, err := q.where()
	if err != nil {
		return nil, err
	}
	err = s.db.Raw("SELECT f.kind, SUM(NOT ("+accepted+")) AS open, SUM("+accepted+") AS accepted, SUM(f.assigned_to IS NOT NULL AND NOT ("+accepted+")) AS assigned FROM findings f WHERE "+where.sql+" GROUP BY f.kind",
		slices.Concat([]any{q.Time.Now, q.Time.Now, q.Time.Now}, where.args)...).Scan(&out).Error
	return out, wrap("count findings", err)
}

// LockFindings returns the findings of a query, and keeps others from changing them.
func (s *Tx) LockFindings(q FindingQuery) (out []Finding, err error) {
	if err := s.order(rankEntries); err != nil {
		return nil, err
	}
	where, err := q.where()
	if err != nil {
		return nil, err
	}
	err = s.db.Raw("SELECT f.* FROM findings f WHERE "+where.sql+" ORDER BY f.id LIMIT ?"+s.locking("FOR UPDATE"), append(where.args, q.Limit)...).Scan(&out).Error
	return out, wrap("lock findings", err)
}

// SaveFindings writes findings that are locked.
func (s *Tx) SaveFindings(rows []Finding) error {
	return inBatches(rows, func(rows []Finding) error { return wrap("write findings", s.writing(ofGroups).Save(&rows).Error) })
}

// ReviewLater notes that groups are to be looked at again, as are those that some people own, those in which they vouch for somebody, and those in which they are external.
func (s *Tx) ReviewLater(groups, people []uuid.UUID, at time.Time) error {
	groups = slices.Clone(groups)
	slices.SortFunc(groups, func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) })
	groups = slices.Compact(groups)
	err := inBatches(groups, func(groups []uuid.UUID) error {
		var values strings.Builder
		args := make([]any, 0, 2*len(groups))
		for i, g := range groups {
			if i > 0 {
				values.WriteByte(',')
			}
			values.WriteString("(?, ?)")
			args = append(args, g, at)
		}
		return s.db.Exec("INSERT INTO review_due (group_id, at) VALUES "+values.String()+" ON DUPLICATE KEY UPDATE at = VALUES(at)", args...).Error
	})
	if err == nil && len(people) > 0 {
		err = s.db.Exec(`INSERT INTO review_due (group_id, at) SELECT group_id, ? FROM (SELECT group_id FROM memberships WHERE member_id IN ? AND role = 3 UNION SELECT group_id FROM external_members WHERE voucher_id IN ? OR member_id IN ?) x
			ON DUPLICATE KEY UPDATE at = VALUES(at)`, at, people, people, people).Error
	}
	return wrap("note groups to look at", err)
}

// ReviewQuiet notes that groups are to be looked at that were written to since they were found to be quiet.
func (s *Tx) ReviewQuiet(at time.Time) error {
	return wrap("note groups to look at", s.db.Exec(`INSERT INTO review_due (group_id, at) SELECT f.subject, ? FROM findings f JOIN group_posts l ON l.group_id = f.subject WHERE
		f.kind = 'never_used' OR f.kind = 'quiet' AND l.last_at > f.since ON DUPLICATE KEY UPDATE at = VALUES(at)`, at).Error)
}

// ReviewDue returns some groups that are to be looked at, with when that was noted.
func (s *Reads) ReviewDue(limit int) (map[uuid.UUID]time.Time, error) {
	out := map[uuid.UUID]time.Time{}
	return out, wrap("read groups to look at", eachRow(s.db.Raw("SELECT group_id, at FROM review_due ORDER BY at LIMIT ?", limit), func(scan func(...any) error) error {
		var id uuid.UUID
		var at time.Time
		err := scan(&id, &at)
		out[id] = at
		return err
	}))
}

// Reviewed takes groups off the list of those to be looked at, but for those that were noted again.
func (s *Tx) Reviewed(due map[uuid.UUID]time.Time) error {
	rows := make([][]any, 0, len(due))
	for _, id := range slices.SortedFunc(maps.Keys(due), func(a, b uuid.UUID) int { return slices.Compare(a[:], b[:]) }) {
		rows = append(rows, []any{id, due[id]})
	}
	return inBatches(rows, func(rows [][]any) error {
		return wrap("take groups off a list", s.db.Exec("DELETE FROM review_due WHERE (group_id, at) IN ?", rows).Error)
	})
}

// ReviewFacts are the facts of living groups, by group, and what compares them with each other.
type ReviewFacts struct {
	Groups map[uuid.UUID]*review.Facts
	Crowd  review.Crowd // of all groups alone
}

// departmental is how many people a group has at most of whom it is looked at in which departments they are.
const departmental = 2000

// ReviewFacts reads the facts of groups, or of all where ids is nil. unfilled says of each attribute of rules that nobody has a value in it.
//
// Whoever asks for all goes once through the groups and once through the memberships.
func (s *Reads) ReviewFacts(ids []uuid.UUID, now time.Time, unfilled func(expression string) []string) (out ReviewFacts, err error) {
	out.Groups = map[uuid.UUID]*review.Facts{}
	among := func(column string) (string, []any) {
		if ids == nil {
			return "", nil
		}
		return " AND " + column + " IN ?", []any{ids}
	}
	read := func(query, column, end string, args []any, f func(scan func(...any) error) error) {
		if err == nil {
			in, also := among(column)
			err = eachRow(s.db.Raw(query+in+end, append(args, also...)...), f)
		}
	}
	read(`SELECT g.id, g.name, g.description, g.policy, g.owners, g.external_members, g.created_at, g.exempt <> '', g.exempt_until, COALESCE(z.people, 0), l.last_at FROM mail_groups g
		LEFT JOIN group_sizes z ON z.group_id = g.id LEFT JOIN group_posts l ON l.group_id = g.id WHERE g.ended_at IS NULL AND g.expires_at > ?`, "g.id", "", []any{now}, func(scan func(...any) error) error {
		var id uuid.UUID
		var text sql.RawBytes
		var until, last sql.NullTime
		g := &review.Facts{Departments: map[string]int{}}
		err := scan(&id, &g.Name, &g.Description, &text, &g.Owners, &g.External, &g.Created, &g.Exempt, &until, &g.People, &last)
		if err != nil {
			return err
		}
		g.ExemptUntil, g.LastPost = until.Time, last.Time
		g.Policy, err = decodePolicy(string(text))
		out.Groups[id] = g
		return err
	})
	read(`SELECT x.group_id, COUNT(*) FROM external_members x JOIN memberships m ON m.group_id = x.group_id AND m.member_id = x.member_id LEFT JOIN people v ON v.id = x.voucher_id AND v.active
		WHERE v.id IS NULL`, "x.group_id", " GROUP BY x.group_id", nil, func(scan func(...any) error) error {
		var id uuid.UUID
		var n int
		err := scan(&id, &n)
		if g := out.Groups[id]; g != nil {
			g.Unvouched = n
		}
		return err
	})
	read(`SELECT x.group_id, COUNT(*) FROM external_members x JOIN people p ON p.id = x.member_id AND p.active AND p.mail_paused_why = '`+PausedReturned+`' JOIN memberships m ON m.group_id = x.group_id AND m.member_id = x.member_id
		WHERE TRUE`, "x.group_id", " GROUP BY x.group_id", nil, func(scan func(...any) error) error {
		var id uuid.UUID
		var n int
		err := scan(&id, &n)
		if g := out.Groups[id]; g != nil {
			g.Returned = n
		}
		return err
	})
	for _, p := range waitingParts {
		if p.kinds[0] == WaitingRound { // it has a day of its own
			continue
		}
		in := strings.Replace(p.sql, " AS kind, ", " AS of_kind, ", 1)
		read("SELECT w.group_id, COUNT(*), MIN(w.at) FROM ("+in+") w WHERE TRUE", "w.group_id", " GROUP BY w.group_id", nil, func(scan func(...any) error) error {
			var id uuid.UUID
			var n int
			var at time.Time
			err := scan(&id, &n, &at)
			if g := out.Groups[id]; g != nil {
				g.Waiting += n
				if g.WaitsSince.IsZero() || at.Before(g.WaitsSince) {
					g.WaitsSince = at
				}
			}
			return err
		})
	}
	read("SELECT c.outer_id, COUNT(*) FROM consents c JOIN mail_groups g ON g.id = c.group_id AND g.ended_at IS NULL WHERE c.scope = 0", "c.outer_id", " GROUP BY c.outer_id", nil, func(scan func(...any) error) error {
		var id uuid.UUID
		var n int
		err := scan(&id, &n)
		if g := out.Groups[id]; g != nil {
			g.NotAgreed = n
		}
		return err
	})
	if err == nil {
		err = s.eachAlias(ids, func(id uuid.UUID, a review.Alias) {
			if g := out.Groups[id]; g != nil {
				g.Aliases = append(g.Aliases, a)
			}
		})
	}
	read("SELECT r.group_id, r.expression, EXISTS (SELECT 1 FROM memberships m WHERE m.group_id = r.group_id AND m.by_rule) FROM group_rules r WHERE TRUE", "r.group_id", "", nil, func(scan func(...any) error) error {
		var id uuid.UUID
		var expression string
		var any bool
		err := scan(&id, &expression, &any)
		if g := out.Groups[id]; g != nil {
			if g.HasRule = true; any {
				g.RuleMatches = 1
			}
			g.RuleUnfilled = unfilled(expression)
		}
		return err
	})
	read("SELECT m.group_id, p.active, p.name, COALESCE(JSON_VALUE(p.attributes, '$.department'), '') FROM memberships m JOIN people p ON p.id = m.member_id WHERE m.role = 3", "m.group_id", " ORDER BY m.group_id, m.added_at", nil, func(scan func(...any) error) error {
		var id uuid.UUID
		var active bool
		var name, department string
		err := scan(&id, &active, &name, &department)
		if g := out.Groups[id]; g != nil {
			switch {
			case !active:
				g.OwnersLeft = append(g.OwnersLeft, name)
			case department != "":
				g.OwnerDepartments = append(g.OwnerDepartments, department)
			}
		}
		return err
	})
	if err == nil && ids == nil {
		err = s.reviewPeople(&out)
	} else {
		read("SELECT m.group_id, JSON_VALUE(p.attributes, '$.department') AS of, COUNT(*) FROM memberships m JOIN mail_groups g ON g.id = m.group_id AND g.members <= 2000 JOIN people p ON p.id = m.member_id AND p.active AND NOT p.external WHERE m.kind = 1",
			"m.group_id", " GROUP BY m.group_id, of", nil, func(scan func(...any) error) error {
				var id uuid.UUID
				var department sql.NullString
				var n int
				err := scan(&id, &department, &n)
				if g := out.Groups[id]; g != nil && department.String != "" {
					g.Departments[department.String] = n
				}
				return err
			})
	}
	return out, wrap("read the facts of groups", err)
}

// AliasUse returns the further addresses of groups, in order, with since when they are and when they were used last.
func (s *Reads) AliasUse(groups []uuid.UUID) (map[uuid.UUID][]review.Alias, error) {
	out := map[uuid.UUID][]review.Alias{}
	return out, wrap("read aliases", s.eachAlias(groups, func(id uuid.UUID, a review.Alias) { out[id] = append(out[id], a) }))
}

// eachAlias reads the further addresses of groups, or of all where ids is nil.
func (s *Reads) eachAlias(ids []uuid.UUID, f func(group uuid.UUID, a review.Alias)) error {
	query, args := "SELECT ref, address, added_at, used_at FROM addresses WHERE kind = ?", []any{KindAlias}
	if ids != nil {
		query, args = query+" AND ref IN ?", append(args, ids)
	}
	return eachRow(s.db.Raw(query+" ORDER BY ref, address", args...), func(scan func(...any) error) error {
		var id uuid.UUID
		var a review.Alias
		var used sql.NullTime
		err := scan(&id, &a.Address, &a.Since, &used)
		a.Used = used.Time
		f(id, a)
		return err
	})
}

// reviewPeople goes once through all memberships.
func (s *Reads) reviewPeople(out *ReviewFacts) error {
	type of struct{ department int32 }
	people := map[uuid.UUID]of{}
	var names []string
	index := map[string]int32{}
	err := eachRow(s.db.Raw("SELECT id, COALESCE(JSON_VALUE(attributes, '$.department'), '') FROM people WHERE active AND NOT external"), func(scan func(...any) error) error {
		var id, department sql.RawBytes
		if err := scan(&id, &department); err != nil {
			return err
		}
		at, known := index[string(department)]
		if !known {
			at = int32(len(names))
			index[string(department)], names = at, append(names, string(department))
		}
		u, err := uuid.ParseBytes(id)
		people[u] = of{at}
		return err
	})
	if err != nil {
		return err
	}
	counts := make([]int, len(names))
	var groupID, members sql.RawBytes // of 16 octets each; the members of a group in one value, since two million rows take three times as long
	return eachRow(s.db.Raw("SET STATEMENT group_concat_max_len = 1073741824 FOR SELECT CAST(group_id AS BINARY(16)), GROUP_CONCAT(CAST(member_id AS BINARY(16)) SEPARATOR '') FROM memberships WHERE kind = 1 GROUP BY group_id"), func(scan func(...any) error) error {
		if err := scan(&groupID, &members); err != nil {
			return err
		}
		group, n := uuid.UUID(groupID), len(members)/16
		g := out.Groups[group]
		if g == nil {
			return nil
		}
		clear(counts)
		for i := range n {
			member := uuid.UUID(members[16*i : 16*i+16])
			out.Crowd.Add(group, member)
			if p, here := people[member]; here {
				counts[p.department]++
			}
		}
		for i, k := range counts {
			if k > 0 && n <= departmental && names[i] != "" {
				g.Departments[names[i]] = k
			}
		}
		return nil
	})
}

// Unfilled returns which of the attributes of people nobody of the workspace has a value in.
func (s *Reads) Unfilled(attributes []string) (out []string, err error) {
	for _, a := range attributes {
		var some int
		if err := s.db.Raw("SELECT EXISTS (SELECT 1 FROM person_values v WHERE v.attribute = ?)", a).Scan(&some).Error; err != nil {
			return nil, wrap("look for values", err)
		}
		if some == 0 {
			out = append(out, a)
		}
	}
	return out, nil
}

// ReviewNames returns what groups are called that live: some, or all where ids is nil.
func (s *Reads) ReviewNames(ids []uuid.UUID, now time.Time) (out []review.Named, err error) {
	where, args := "ended_at IS NULL AND expires_at > ?", []any{now}
	if ids != nil {
		where, args = where+" AND id IN ?", append(args, ids)
	}
	err = eachRow(s.db.Raw("SELECT id, name, address FROM mail_groups WHERE "+where, args...), func(scan func(...any) error) error {
		var id uuid.UUID
		var g review.Named
		err := scan(&id, &g.Name, &g.Address)
		g.ID = id
		out = append(out, g)
		return err
	})
	return out, wrap("read names of groups", err)
}

// SharedPeople returns how many people pairs of groups have in common, of pairs that live.
func (s *Reads) SharedPeople(pairs []review.Pair, now time.Time) (map[uuid.UUID]map[uuid.UUID]review.Shared, error) {
	out := map[uuid.UUID]map[uuid.UUID]review.Shared{}
	put := func(of, with uuid.UUID, x review.Shared) {
		if out[of] == nil {
			out[of] = map[uuid.UUID]review.Shared{}
		}
		out[of][with] = x
	}
	for _, p := range pairs {
		a, b := uuid.UUID(p[0]), uuid.UUID(p[1])
		var r struct {
			AName, AAddress, BName, BAddress string
			Ours, Theirs, Both               int
		}
		err := s.db.Raw(`SELECT a.name AS a_name, a.address AS a_address, b.name AS b_name, b.address AS b_address,
			(SELECT COUNT(*) FROM memberships WHERE group_id = a.id AND kind = 1) AS ours, (SELECT COUNT(*) FROM memberships WHERE group_id = b.id AND kind = 1) AS theirs,
			(SELECT COUNT(*) FROM memberships x JOIN memberships y ON y.group_id = b.id AND y.member_id = x.member_id WHERE x.group_id = a.id AND x.kind = 1) AS `+"`both`"+`
			FROM mail_groups a JOIN mail_groups b ON b.id = ? WHERE a.id = ? AND a.ended_at IS NULL AND b.ended_at IS NULL AND a.expires_at > ? AND b.expires_at > ?`, b, a, now, now).Scan(&r).Error
		if err != nil {
			return nil, wrap("compare groups", err)
		}
		if r.AAddress == "" {
			continue
		}
		either := r.Ours + r.Theirs - r.Both
		put(a, b, review.Shared{ID: b, Name: r.BName, Address: r.BAddress, Both: r.Both, Either: either})
		put(b, a, review.Shared{ID: a, Name: r.AName, Address: r.AAddress, Both: r.Both, Either: either})
	}
	return out, nil
}

// SoleOwners returns of how many living groups people are alone the owner, of at least so many: of some people, or of all where ids is nil.
func (s *Reads) SoleOwners(ids []uuid.UUID, least int, now time.Time) (map[uuid.UUID]int, error) {
	where, args := "", []any{now}
	if ids != nil {
		where, args = " AND m.member_id IN ?", append(args, ids)
	}
	out := map[uuid.UUID]int{}
	return out, wrap("count who owns alone", eachRow(s.db.Raw(`SELECT m.member_id, COUNT(*) FROM mail_groups g JOIN memberships m ON m.group_id = g.id AND m.role = 3 JOIN people p ON p.id = m.member_id AND p.active
		WHERE g.owners = 1 AND g.ended_at IS NULL AND g.expires_at > ?`+where+" GROUP BY m.member_id HAVING COUNT(*) >= ?", append(args, least)...), func(scan func(...any) error) error {
		var id uuid.UUID
		var n int
		err := scan(&id, &n)
		out[id] = n
		return err
	}))
}

// OwnersToReview returns those who may own more or fewer groups alone since groups changed: their owners, and those of whom that was
// found before.
func (s *Reads) OwnersToReview(groups []uuid.UUID) (people []uuid.UUID, err error) {
	people = []uuid.UUID{} // nil would stand for all
	return people, wrap("read owners", s.db.Raw("SELECT member_id FROM memberships WHERE group_id IN ? AND role = 3 AND kind = 1 UNION SELECT subject FROM findings WHERE kind = ?", groups, review.SoleOwner).Scan(&people).Error)
}

// Found is what was found about a group or a person.
type Found struct {
	Of       int8
	Findings []review.Finding
}

// SetFindings writes what was found about subjects, in place of what there was of the kinds: of some subjects, or of all where ids is nil.
// What is as it was stays, with what was said of it.
func (s *Tx) SetFindings(ids []uuid.UUID, kinds []string, found map[uuid.UUID]Found, now time.Time) error {
	var there []Finding
	q := s.db.Where("kind IN ?", kinds)
	if ids != nil {
		q = q.Where("subject IN ?", ids)
	}
	if err := q.Find(&there).Error; err != nil {
		return wrap("read findings", err)
	}
	type key struct {
		subject uuid.UUID
		kind    string
	}
	was := make(map[key]*Finding, len(there))
	for i := range there {
		was[key{there[i].Subject, there[i].Kind}] = &there[i]
	}
	var add, change []Finding
	for subject, x := range found {
		for _, f := range x.Findings {
			k := key{subject, string(f.Kind)}
			row := was[k]
			delete(was, k)
			d, _ := review.Describe(f.Kind)
			since := f.Since
			fresh := row == nil
			if fresh {
				row = &Finding{ID: NewID(), Subject: subject, Of: x.Of, Kind: k.kind, Since: now}
			}
			if since.IsZero() {
				since = row.Since
			}
			names := make([]string, len(f.Names))
			for i, o := range f.Names {
				names[i] = uuid.UUID(o).String()
			}
			slices.Sort(names)
			others := strings.Join(names, "\n")
			next := *row
			next.Place, next.Severity, next.Says, next.N, next.Since, next.Others = slices.Index(review.Names(), k.kind), int8(d.Severity), f.Says, f.Count, since.UTC(), others
			if next.AcceptedAt != nil && f.Reopens(next.AcceptedN) {
				next.AcceptedAt, next.AcceptedUntil, next.AcceptedBy, next.AcceptedWhy, next.AcceptedN = nil, nil, "", "", 0
			}
			switch {
			case fresh:
				add = append(add, next)
			case next.Says != row.Says || next.N != row.N || !next.Since.Equal(row.Since) || next.Others != row.Others || next.Place != row.Place || next.Severity != row.Severity || (next.AcceptedAt == nil) != (row.AcceptedAt == nil):
				change = append(change, next)
			}
		}
	}
	gone := make([]uuid.UUID, 0, len(was))
	for _, f := range was {
		gone = append(gone, f.ID)
	}
	err := inBatches(gone, func(ids []uuid.UUID) error {
		return s.writing(ofGroups).Exec("DELETE FROM findings WHERE id IN ?", ids).Error
	})
	if err == nil {
		err = inBatches(add, func(rows []Finding) error {
			return s.writing(ofGroups).Clauses(clause.OnConflict{DoNothing: true}).CreateInBatches(&rows, 1000).Error
		})
	}
	if err == nil {
		update := clause.OnConflict{DoUpdates: clause.AssignmentColumns([]string{"place", "severity", "says", "n", "since", "others", "accepted_by", "accepted_why", "accepted_at", "accepted_until", "accepted_n"})}
		err = inBatches(change, func(rows []Finding) error {
			return s.writing(ofGroups).Clauses(update).CreateInBatches(&rows, 1000).Error
		})
	}
	return wrap("write findings", err)
}

// Crowded returns the findings of SamePeople of groups.
func (s *Reads) Crowded(groups []uuid.UUID) (out []Finding, err error) {
	return out, wrap("read findings", s.db.Find(&out, "kind = ? AND subject IN ?", review.SamePeople, groups).Error)
}

// FindingDay is how many findings of a kind there were on a day.
type FindingDay struct {
	Day            string
	Kind           string
	Open, Accepted int
}

// DirectoryDay is how much there was in the directory on a day.
type DirectoryDay struct {
	Day         string `gorm:"primaryKey"`
	MailGroups  int    // that live
	Ended       int    // that can be restored
	People      int    // of the workspace, who are here
	Memberships int
	External    int // external members, each once for each group
}

// NoteDay writes how much there is on a day.
func (s *Tx) NoteDay(day string, now time.Time) error {
	err := s.db.Exec("DELETE FROM finding_days WHERE day = ?", day).Error
	if err == nil {
		err = s.db.Exec("INSERT INTO finding_days (day, kind, open, accepted) SELECT ?, f.kind, SUM(NOT ("+accepted+")), SUM("+accepted+") FROM findings f GROUP BY f.kind", day, now, now).Error
	}
	if err == nil {
		err = s.db.Exec(`REPLACE INTO directory_days (day, mail_groups, ended, people, memberships, external) SELECT ?, COALESCE(SUM(ended_at IS NULL), 0), COALESCE(SUM(ended_at IS NOT NULL), 0),
			(SELECT COUNT(*) FROM people WHERE active AND NOT external), COALESCE(SUM(IF(ended_at IS NULL, owners + moderators + members, 0)), 0), COALESCE(SUM(IF(ended_at IS NULL, external_members, 0)), 0) FROM mail_groups`, day).Error
	}
	return wrap("note a day", err)
}

// FindingDays returns how many findings there were from a day on.
func (s *Reads) FindingDays(from string) (out []FindingDay, err error) {
	err = s.db.Raw("SELECT CAST(day AS CHAR) AS day, kind, open, accepted FROM finding_days WHERE day >= ? ORDER BY day, kind", from).Scan(&out).Error
	return out, wrap("read findings by day", err)
}

// DirectoryDays returns how much there was in the directory from a day on.
func (s *Reads) DirectoryDays(from string) (out []DirectoryDay, err error) {
	err = s.db.Raw("SELECT CAST(day AS CHAR) AS day, mail_groups, ended, people, memberships, external FROM directory_days WHERE day >= ? ORDER BY day", from).Scan(&out).Error
	return out, wrap("read the directory by day", err)
}

// ReviewSettings is the setting "review".
type ReviewSettings struct {
	Limits review.Limits `json:"limits"`
	Off    []string      `json:"off,omitempty"` // kinds that are not looked for
}

// ReviewState is the setting "reviewed": what the last look at the whole directory found out.
type ReviewState struct {
	At       time.Time       `json:"at"`
	Took     json.RawMessage `json:"took,omitempty"`
	Groups   int             `json:"groups"`
	Compared string          `json:"compared,omitempty"` // which comparison of all groups by what they are called was the last
}
