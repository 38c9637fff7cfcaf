package store

import (
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/rule"
)

// States of rounds, and of groups in them.
const (
	RoundOpen    int8 = 1
	RoundOver    int8 = 2
	RoundStopped int8 = 3

	AskedWaiting int8 = 1
	AskedKept    int8 = 2
	AskedRetired int8 = 3
	AskedSilent  int8 = 4
	AskedGone    int8 = 5 // the group ended otherwise
)

// AskedStates are the states of groups in rounds by name, from AskedWaiting on.
var AskedStates = []string{"waiting", "kept", "retired", "silent", "gone"}

// Round is a dated request to those who own groups to confirm them.
type Round struct {
	ID          uuid.UUID `gorm:"primaryKey"`
	Name        string
	Filter      string // of core/filter's Groups; "" for all
	Questions   string // separated by spaces
	Reminders   string // days before its day, separated by spaces, the most first
	StandIn     string // who answers for groups without owners; "" for their caretakers
	Silence     string
	Note        string
	EveryMonths int // 0: once
	Previous    *uuid.UUID
	MadeBy      *uuid.UUID
	Maker       string // address
	BegunAt     time.Time
	EndsAt      time.Time // the first moment after its day
	State       int8
	Told        int // the day of the round of the last letter that went out to everybody; -1: none
	Wave        int // of the next letter to everybody
	FirstToldAt *time.Time
	LastToldAt  *time.Time
	ClosedAt    *time.Time
	NextAt      *time.Time // when it begins again
	Total       int
	Version     int
}

// RoundGroup is a group in a round: as it was when that began, and what was answered.
type RoundGroup struct {
	ID         uuid.UUID `gorm:"primaryKey"`
	RoundID    uuid.UUID
	GroupID    uuid.UUID
	Name       string
	Address    string
	Owners     string // addresses of those who owned it, one a line
	People     int
	External   int
	AskedAt    time.Time
	State      int8
	Nobody     bool   // no owner of it is here, by now
	Confirmed  string // questions, separated by spaces
	Removed    int    // people whom the answer took out
	Note       string
	Says       string // what became of it beside that
	AnsweredBy string // address
	Answerer   string // name
	Via        string
	AnsweredAt *time.Time
	ChangeID   *uuid.UUID // of the answer, in the history
}

// TableName is the table of groups in rounds.
func (RoundGroup) TableName() string { return "round_groups" }

// RoundLetter is one letter of a round, with the hash of the secret of its link.
type RoundLetter struct {
	RoundID   uuid.UUID `gorm:"primaryKey"`
	Recipient string    `gorm:"primaryKey"`
	Wave      int       `gorm:"primaryKey;autoIncrement:false"`
	Hash      []byte
	At        time.Time
}

// Rounds returns a page of rounds, newest first.
func (s *Reads) Rounds(after Cursor, limit int) (p Page[Round], err error) {
	q := s.db.Order("id DESC").Limit(limit + 1)
	if p.Total = after.Total; after.Empty() {
		if err := s.db.Model(&Round{}).Count(&p.Total).Error; err != nil {
			return p, wrap("count rounds", err)
		}
	} else {
		q = q.Where("id < ?", after.ID)
	}
	if err = q.Find(&p.Items).Error; err == nil && len(p.Items) > limit {
		p.Items = p.Items[:limit]
		p.Next = after.next("", p.Items[limit-1].ID, p.Total)
	}
	return p, wrap("read rounds", err)
}

// Round returns a round.
func (s *Reads) Round(id uuid.UUID) (r Round, err error) {
	return r, wrap("read a round", s.db.Take(&r, "id = ?", id).Error)
}

// RoundsByID returns rounds by identifier.
func (s *Reads) RoundsByID(ids []uuid.UUID) (map[uuid.UUID]Round, error) {
	return found(s, "id", ids, func(r Round) uuid.UUID { return r.ID })
}

// RoundsAtWork returns the rounds that are open, and those that begin again by now.
func (s *Reads) RoundsAtWork(now time.Time) (out []Round, err error) {
	return out, wrap("read rounds", s.db.Order("id").Find(&out, "state = ? OR next_at <= ?", RoundOpen, now).Error)
}

// LockRound returns a round, and keeps others from changing it.
func (s *Tx) LockRound(id uuid.UUID) (r Round, err error) {
	if err := s.order(rankEntries); err != nil {
		return r, err
	}
	q := s.db.Raw("SELECT * FROM rounds WHERE id = ?"+s.locking("FOR UPDATE"), id).Scan(&r)
	if q.Error == nil && q.RowsAffected == 0 {
		return r, ErrNotFound
	}
	return r, wrap("lock a round", q.Error)
}

// SaveRound writes a round that is locked, or a new one.
func (s *Tx) SaveRound(r Round) error { return wrap("write a round", s.db.Save(&r).Error) }

// AskRound puts the living groups that a filter names into a round, each as it is, and returns how many they are.
func (s *Tx) AskRound(r Round, f *rule.Rule, t FilterTime) (n, nobody int, err error) {
	where := condition{"g.ended_at IS NULL AND g.expires_at > ?", []any{t.Now}}
	if f != nil {
		in, err := groupFilter(t, false).where(f.Root(), true)
		if err != nil {
			return 0, 0, err
		}
		where = where.and(in)
	}
	var rows []RoundGroup
	err = eachRow(s.db.Raw("SELECT g.id, g.name, g.address, COALESCE(z.people, 0), g.external_members, g.owners FROM mail_groups g LEFT JOIN group_sizes z ON z.group_id = g.id WHERE "+where.sql, where.args...), func(scan func(...any) error) error {
		a := RoundGroup{ID: NewID(), RoundID: r.ID, AskedAt: r.BegunAt, State: AskedWaiting}
		owners := 0
		err := scan(&a.GroupID, &a.Name, &a.Address, &a.People, &a.External, &owners)
		if a.Nobody = owners == 0; a.Nobody {
			nobody++
		}
		rows = append(rows, a)
		return err
	})
	if err != nil {
		return 0, 0, wrap("read groups of a round", err)
	}
	for some := range slices.Chunk(rows, batch) {
		ids := make([]uuid.UUID, len(some))
		for i, a := range some {
			ids[i] = a.GroupID
		}
		owners, err := s.Owners(ids)
		if err != nil {
			return 0, 0, err
		}
		for i := range some {
			var names []string
			for _, o := range owners[some[i].GroupID] {
				names = append(names, o.Address)
			}
			some[i].Owners = strings.Join(names, "\n")
		}
	}
	if !s.looking {
		err = create(s, "put groups into a round", rows)
	}
	return len(rows), nobody, err
}

// AskedQuery says which groups of rounds to list.
type AskedQuery struct {
	IDs    []uuid.UUID // with values: these
	Round  uuid.UUID   // with a value: of this one
	States []int8      // empty: any
	Q      string      // a beginning of the name or of the address
	Mine   uuid.UUID   // with a value: that this person owns, or ...
	Areas  Areas       // ... for which they answer as helpers, or ...
	Nobody []uuid.UUID // ... that nobody owns and that are in these rounds, or in any where All is set
	All    bool
	After  Cursor
	Limit  int
}

func (q AskedQuery) where() (condition, error) {
	c := condition{"TRUE", nil}
	add := func(sql string, args ...any) { c = c.and(condition{sql, args}) }
	if len(q.IDs) > 0 {
		add("r.id IN ?", q.IDs)
	}
	if q.Round != uuid.Nil {
		add("r.round_id = ?", q.Round)
	}
	if len(q.States) > 0 {
		add("r.state IN ?", q.States)
	}
	if q.Q != "" {
		like := likePrefix(q.Q)
		add("(r.name LIKE ? OR r.address LIKE ?)", like, like)
	}
	if q.Mine != uuid.Nil {
		of := condition{"r.group_id IN (SELECT group_id FROM memberships WHERE member_id = ? AND role = 3)", []any{q.Mine}}
		switch {
		case q.All:
			of.sql += " OR r.nobody"
		case len(q.Nobody) > 0:
			of = condition{of.sql + " OR r.nobody AND r.round_id IN ?", append(of.args, q.Nobody)}
		}
		of, err := q.Areas.or(of, "r.group_id")
		if err != nil {
			return c, err
		}
		c = c.and(of)
	}
	return c, nil
}

// Asked returns a page of groups in rounds, in the order in which they were put there.
func (s *Reads) Asked(q AskedQuery) (p Page[RoundGroup], err error) {
	where, err := q.where()
	if err != nil {
		return p, err
	}
	if p.Total = q.After.Total; q.After.Empty() {
		if err := s.db.Raw("SELECT COUNT(*) FROM round_groups r WHERE "+where.sql, where.args...).Scan(&p.Total).Error; err != nil {
			return p, wrap("count groups of rounds", err)
		}
	} else {
		where = where.and(condition{"r.id > ?", []any{q.After.ID}})
	}
	err = s.db.Raw("SELECT r.* FROM round_groups r WHERE "+where.sql+" ORDER BY r.id LIMIT ?", append(where.args, q.Limit+1)...).Scan(&p.Items).Error
	if err == nil && len(p.Items) > q.Limit {
		p.Items = p.Items[:q.Limit]
		p.Next = q.After.next("", p.Items[q.Limit-1].ID, p.Total)
	}
	return p, wrap("read groups of rounds", err)
}

// AskedByID returns groups of rounds by identifier.
func (s *Reads) AskedByID(ids []uuid.UUID) (map[uuid.UUID]RoundGroup, error) {
	return found(s, "id", ids, func(a RoundGroup) uuid.UUID { return a.ID })
}

// AskedIn returns which groups of a round are in a state.
func (s *Reads) AskedIn(round uuid.UUID, state int8) (groups []uuid.UUID, err error) {
	return groups, wrap("read groups of a round", s.db.Raw("SELECT group_id FROM round_groups WHERE round_id = ? AND state = ? ORDER BY group_id", round, state).Scan(&groups).Error)
}

// LockAsked locks groups of a round, by their groups, which are locked.
func (s *Tx) LockAsked(round uuid.UUID, groups []uuid.UUID) (out []RoundGroup, err error) {
	if err := s.order(rankEntries); err != nil {
		return nil, err
	}
	return out, wrap("lock groups of a round", s.db.Raw("SELECT * FROM round_groups WHERE round_id = ? AND group_id IN ? ORDER BY id"+s.locking("FOR UPDATE"), round, groups).Scan(&out).Error)
}

// SaveAsked writes groups of rounds that are locked.
func (s *Tx) SaveAsked(rows []RoundGroup) error {
	return inBatches(rows, func(rows []RoundGroup) error { return wrap("write groups of rounds", s.db.Save(&rows).Error) })
}

// FreshenAsked brings what groups of open rounds are up to date: those that ended are gone, those that are back wait again, and
// which of them nobody owns.
func (s *Tx) FreshenAsked(now time.Time) error {
	for _, q := range []struct {
		sql  string
		args []any
	}{
		{"UPDATE round_groups r JOIN rounds o ON o.id = r.round_id AND o.state = 1 LEFT JOIN mail_groups g ON g.id = r.group_id AND g.ended_at IS NULL AND g.expires_at > ? SET r.state = ? WHERE r.state = ? AND g.id IS NULL", []any{now, AskedGone, AskedWaiting}},
		{"UPDATE round_groups r JOIN rounds o ON o.id = r.round_id AND o.state = 1 JOIN mail_groups g ON g.id = r.group_id AND g.ended_at IS NULL AND g.expires_at > ? SET r.state = ? WHERE r.state = ?", []any{now, AskedWaiting, AskedGone}},
		{"UPDATE round_groups r JOIN mail_groups g ON g.id = r.group_id SET r.nobody = (g.owners = 0) WHERE r.state = ? AND r.nobody <> (g.owners = 0)", []any{AskedWaiting}},
	} {
		if err := s.db.Exec(q.sql, q.args...).Error; err != nil {
			return wrap("look at groups of rounds", err)
		}
	}
	return nil
}

// RoundCount is how many groups of a round are in each state, under a name.
type RoundCount struct {
	Name                                        string
	Total, Waiting, Kept, Retired, Silent, Gone int
}

const roundCounts = "COUNT(*) AS total, COALESCE(SUM(r.state = 1), 0) AS waiting, COALESCE(SUM(r.state = 2), 0) AS kept, COALESCE(SUM(r.state = 3), 0) AS retired, COALESCE(SUM(r.state = 4), 0) AS silent, COALESCE(SUM(r.state = 5), 0) AS gone"

// RoundCounts counts the groups of rounds, by round.
func (s *Reads) RoundCounts(rounds []uuid.UUID) (map[uuid.UUID]RoundCount, error) {
	var rows []struct {
		RoundID uuid.UUID
		RoundCount
	}
	err := s.db.Raw("SELECT r.round_id, "+roundCounts+" FROM round_groups r WHERE r.round_id IN ? GROUP BY r.round_id", rounds).Scan(&rows).Error
	out := make(map[uuid.UUID]RoundCount, len(rows))
	for _, r := range rows {
		out[r.RoundID] = r.RoundCount
	}
	return out, wrap("count groups of rounds", err)
}

// RoundBy counts the groups of a round by the domain of their address, or by who owned each first when it began.
func (s *Reads) RoundBy(round uuid.UUID, what string, limit int) (out []RoundCount, err error) {
	by := "SUBSTRING_INDEX(r.address, '@', -1)"
	if what == "owner" {
		by = "SUBSTRING_INDEX(r.owners, '\n', 1)"
	}
	err = s.db.Raw("SELECT "+by+" AS name, "+roundCounts+" FROM round_groups r WHERE r.round_id = ? GROUP BY 1 ORDER BY COUNT(*) DESC, 1 LIMIT ?", round, limit).Scan(&out).Error
	return out, wrap("count groups of a round", err)
}

// RoundIn counts the groups of a round that a filter names by now; with a nil one, those that none of others names.
func (s *Reads) RoundIn(round uuid.UUID, f *rule.Rule, others []*rule.Rule, t FilterTime) (out RoundCount, err error) {
	where := condition{"r.round_id = ?", []any{round}}
	in := func(f *rule.Rule, not string) error {
		c, err := groupFilter(t, false).where(f.Root(), true)
		where = where.and(condition{"r.group_id " + not + "IN (SELECT g.id FROM mail_groups g WHERE " + c.sql + ")", c.args})
		return err
	}
	if f != nil {
		others, err = nil, in(f, "")
	}
	for _, o := range others {
		if err == nil {
			err = in(o, "NOT ")
		}
	}
	if err != nil {
		return out, err
	}
	err = s.db.Raw("SELECT "+roundCounts+" FROM round_groups r WHERE "+where.sql, where.args...).Scan(&out).Error
	return out, wrap("count groups of a round", err)
}

// LastAnswers returns when somebody last confirmed each of some groups before a moment, by group.
func (s *Reads) LastAnswers(groups []uuid.UUID, before time.Time) (map[uuid.UUID]time.Time, error) {
	out := map[uuid.UUID]time.Time{}
	return out, wrap("read when groups were confirmed", eachRow(s.db.Raw("SELECT group_id, MAX(answered_at) FROM round_groups WHERE group_id IN ? AND answered_at < ? AND state = ? GROUP BY group_id", groups, before, AskedKept), func(scan func(...any) error) error {
		var id uuid.UUID
		var at time.Time
		err := scan(&id, &at)
		out[id] = at
		return err
	}))
}

// Moved is how many people came into a group and left it since a moment.
type Moved struct{ Came, Left int }

// MovedSince counts the changes of people of groups that the history has, each since a moment of its own.
func (s *Reads) MovedSince(since map[uuid.UUID]time.Time) (map[uuid.UUID]Moved, error) {
	out := map[uuid.UUID]Moved{}
	if len(since) == 0 {
		return out, nil
	}
	var parts []string
	var args []any
	for _, id := range sorted(since) {
		parts, args = append(parts, "SELECT CAST(? AS UUID) AS id, CAST(? AS DATETIME(6)) AS since"), append(args, id, since[id])
	}
	err := eachRow(s.db.Raw("SELECT x.id, COUNT(DISTINCT IF(p.was = '' AND p.now <> '', p.person_id, NULL)), COUNT(DISTINCT IF(p.was <> '' AND p.now = '', p.person_id, NULL)) FROM ("+strings.Join(parts, " UNION ALL ")+
		") x JOIN history h ON h.group_id = x.id AND h.at > x.since JOIN history_people p ON p.history_id = h.id GROUP BY x.id", args...), func(scan func(...any) error) error {
		var id uuid.UUID
		var m Moved
		err := scan(&id, &m.Came, &m.Left)
		out[id] = m
		return err
	})
	return out, wrap("count who came and went", err)
}

// EndAsked ends the waiting for answers in a round.
func (s *Tx) EndAsked(round uuid.UUID) error {
	return wrap("end a round", s.db.Exec("UPDATE round_groups SET state = ? WHERE round_id = ? AND state = ?", AskedSilent, round, AskedWaiting).Error)
}

// RoundLetters returns the recipients of the letters of a wave of a round.
func (s *Reads) RoundLetters(round uuid.UUID, wave int) (map[string]bool, error) {
	var all []string
	err := s.db.Model(&RoundLetter{}).Where("round_id = ? AND wave = ?", round, wave).Pluck("recipient", &all).Error
	out := make(map[string]bool, len(all))
	for _, a := range all {
		out[a] = true
	}
	return out, wrap("read letters of a round", err)
}

// AddRoundLetters records letters. It is ErrDuplicate where another instance has written one of them.
func (s *Tx) AddRoundLetters(rows []RoundLetter) error { return create(s, "record letters", rows) }

// RoundLetter returns the letter whose link has a secret.
func (s *Reads) RoundLetter(hash []byte) (l RoundLetter, err error) {
	return l, wrap("read a link", s.db.Take(&l, "hash = ?", hash).Error)
}

// Evidence is an answer with where it stands in the history.
type Evidence struct {
	RoundGroup
	Entry int64  // 0: nobody has answered
	Seal  []byte // nil: not sealed yet
}

// EachEvidence goes through the groups of a round, with the entries of the answers.
func (s *Reads) EachEvidence(round uuid.UUID, f func(Evidence) error) error {
	after := uuid.Nil
	for {
		var rows []RoundGroup
		if err := s.db.Raw("SELECT * FROM round_groups WHERE round_id = ? AND id > ? ORDER BY id LIMIT 1000", round, after).Scan(&rows).Error; err != nil {
			return wrap("read groups of a round", err)
		}
		if len(rows) == 0 {
			return nil
		}
		after = rows[len(rows)-1].ID
		entries, err := s.answersOf(rows)
		if err != nil {
			return err
		}
		for _, a := range rows {
			e := entries[a.ID]
			e.RoundGroup = a
			if err := f(e); err != nil {
				return err
			}
		}
	}
}

// answersOf returns the entries of the history in which groups of a round were answered about.
func (s *Reads) answersOf(rows []RoundGroup) (map[uuid.UUID]Evidence, error) {
	out := make(map[uuid.UUID]Evidence, len(rows))
	changes := map[uuid.UUID]bool{}
	of := map[[2]uuid.UUID]uuid.UUID{}
	for _, a := range rows {
		if a.ChangeID != nil {
			changes[*a.ChangeID] = true
			of[[2]uuid.UUID{*a.ChangeID, a.GroupID}] = a.ID
		}
	}
	if len(changes) == 0 {
		return out, nil
	}
	return out, wrap("read answers", eachRow(s.db.Raw("SELECT h.id, h.change_id, h.group_id, s.seal FROM history h LEFT JOIN history_seals s ON s.entry = h.id WHERE h.change_id IN ? AND h.kind IN ('round.answer', 'round.silent')", sorted(changes)), func(scan func(...any) error) error {
		var entry int64
		var change uuid.UUID
		var group *uuid.UUID
		var seal []byte
		if err := scan(&entry, &change, &group, &seal); err != nil || group == nil {
			return err
		}
		out[of[[2]uuid.UUID{change, *group}]] = Evidence{Entry: entry, Seal: seal}
		return nil
	}))
}
