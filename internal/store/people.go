package store

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"
	"unicode"

	"github.com/google/uuid"
	"golang.org/x/text/unicode/norm"
	"gorm.io/gorm/clause"

	"ivytable.example/ivytable/internal/core/expand"
	"ivytable.example/ivytable/internal/core/mailaddr"
	"ivytable.example/ivytable/internal/core/rule"
)

// NewID returns a new identifier, a UUID of version 7: later ones sort after
// earlier ones.
func NewID() uuid.UUID { return uuid.Must(uuid.NewV7()) }

// Person is somebody in the directory, or, with External, an address outside the
// workspace that is a member of some group.
type Person struct {
	ID            uuid.UUID `gorm:"primaryKey"`
	Address       string
	AddrKey       string
	Name          string
	External      bool
	Active        bool
	WorkspaceRole string
	PasswordHash  string
	Attributes    json.RawMessage
	CreatedAt     time.Time
	DepartedAt    *time.Time
	SignedInAt    *time.Time
	ErasedAt      *time.Time // what named them was taken out, and they can't return
	Version       int        `gorm:"default:1"`
	NameKey       string     // the name as filters compare it

	MailPausedUntil *time.Time // no mail of groups goes to them before; nil: it does
	MailPausedWhy   string     // one of the Paused…; "" where it is not
}

// Kinds of what has an address or words.
const (
	KindPerson int8 = 1
	KindGroup  int8 = 2
	KindAlias  int8 = 3
	KindFormer int8 = 4 // an address that a person had before
	KindGone   int8 = 5 // an address of a group that is gone, until it is freed
)

// word is one searchable word of a person or a group.
type word struct {
	Kind int8
	Word string
	Ref  uuid.UUID
}

// Words returns the searchable words of texts, folded, each once: lower case,
// without marks, split where neither letter nor digit stands.
func Words(texts ...string) []string {
	seen := map[string]bool{}
	var out []string
	for _, t := range texts {
		folded := strings.Map(func(r rune) rune {
			if unicode.Is(unicode.Mn, r) {
				return -1
			}
			return unicode.ToLower(r)
		}, norm.NFKD.String(t))
		for _, w := range strings.FieldsFunc(folded, func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) }) {
			for len(w) > 64 { // by whole runes
				w = w[:strings.LastIndexFunc(w, func(rune) bool { return true })]
			}
			if !seen[w] {
				seen[w] = true
				out = append(out, w)
			}
		}
	}
	return out
}

func (s *Tx) setWords(kind int8, ref uuid.UUID, texts ...string) error {
	of := ofGroups
	if kind == KindPerson {
		of = ofPeople
	}
	if err := s.writing(of).Where("ref = ?", ref).Delete(&word{}).Error; err != nil {
		return wrap("replace search words", err)
	}
	var rows []word
	for _, w := range Words(texts...) {
		rows = append(rows, word{kind, w, ref})
	}
	if len(rows) == 0 {
		return nil
	}
	return wrap("write search words", s.writing(of).Create(&rows).Error)
}

// address is the row that keeps every address of the workspace from being given twice.
type address struct {
	AddrKey    string `gorm:"primaryKey"`
	Address    string
	Kind       int8
	Ref        uuid.UUID
	Alike      string
	GroupAlike *string
	Loose      string
	AddedAt    time.Time
	UsedAt     *time.Time // when mail last came to it, within a day; kept of aliases
}

func addressRow(a mailaddr.Address, kind int8, ref uuid.UUID) address {
	row := address{AddrKey: a.Key(), Address: a.String(), Kind: kind, Ref: ref, Alike: a.Alike(), Loose: a.Loose(), AddedAt: time.Now().UTC()}
	if kind == KindGroup || kind == KindAlias {
		row.GroupAlike = &row.Alike
	}
	return row
}

// AddPeople inserts people; those of the workspace take their addresses. It
// returns ErrDuplicate where an address is taken.
func (s *Tx) AddPeople(people []Person) error {
	var addresses []address
	var words []word
	for _, p := range people {
		a, err := mailaddr.Parse(p.Address)
		if err != nil {
			return err
		}
		if !p.External {
			addresses = append(addresses, addressRow(a, KindPerson, p.ID))
		}
		for _, w := range Words(p.Name, p.Address) {
			words = append(words, word{KindPerson, w, p.ID})
		}
	}
	const batch = 2000
	db := s.writing(ofPeople)
	for i := range people {
		people[i].NameKey = rule.Fold(people[i].Name)
	}
	if err := db.CreateInBatches(people, batch).Error; err != nil {
		return wrap("add people", err)
	}
	if err := s.takeAddresses(addresses); err != nil {
		return err
	}
	if err := s.addValues(people); err != nil {
		return err
	}
	return wrap("write search words", db.CreateInBatches(words, batch).Error)
}

// personValue is a value of somebody's attribute, as filters compare it.
type personValue struct {
	PersonID  uuid.UUID `gorm:"primaryKey"`
	Attribute string    `gorm:"primaryKey"` // the path of core/rule
	Place     int       `gorm:"primaryKey"` // among several values
	Value     string
}

func personValues(p Person) (rows []personValue, err error) {
	var fields map[string]string
	if err := json.Unmarshal(p.Attributes, &fields); err != nil {
		return nil, fmt.Errorf("the attributes of %s: %w", p.Address, err)
	}
	for path, values := range rule.FieldKeys(fields) {
		for i, v := range values {
			rows = append(rows, personValue{p.ID, path, i, v})
		}
	}
	return rows, nil
}

func (s *Tx) addValues(people []Person) error {
	var rows []personValue
	for _, p := range people {
		values, err := personValues(p)
		if err != nil {
			return err
		}
		rows = append(rows, values...)
	}
	return inBatches(rows, func(rows []personValue) error { return wrap("write values of people", s.db.Create(&rows).Error) })
}

// setValues is addValues in place of what was there.
func (s *Tx) setValues(people []Person) error {
	ids := make([]uuid.UUID, len(people))
	for i, p := range people {
		ids[i] = p.ID
	}
	err := inBatches(ids, func(ids []uuid.UUID) error {
		return wrap("write values of people", s.db.Exec("DELETE FROM person_values WHERE person_id IN ?", ids).Error)
	})
	if err != nil {
		return err
	}
	return s.addValues(people)
}

// Person returns a person by identifier.
func (s *Reads) Person(id uuid.UUID) (p Person, err error) {
	err = s.db.Take(&p, "id = ?", id).Error
	return p, wrap("read a person", err)
}

// PersonByKey returns a person by the key of their address, or of one that they had before.
func (s *Reads) PersonByKey(key string) (p Person, err error) {
	err = s.db.Take(&p, "id = COALESCE((SELECT id FROM people WHERE addr_key = ?), (SELECT ref FROM addresses WHERE addr_key = ? AND kind = ?))", key, key, KindFormer).Error
	return p, wrap("read a person", err)
}

// PeopleByKeys returns the people who have these address keys, or had them before, by key.
func (s *Reads) PeopleByKeys(keys []string) (map[string]Person, error) {
	out := make(map[string]Person, len(keys))
	for len(keys) > 0 {
		n := min(len(keys), 5000)
		var rows []Person
		if err := s.db.Find(&rows, "addr_key IN ?", keys[:n]).Error; err != nil {
			return nil, wrap("read people", err)
		}
		for _, p := range rows {
			out[p.AddrKey] = p
		}
		if err := s.byFormer(keys[:n], out); err != nil {
			return nil, err
		}
		keys = keys[n:]
	}
	return out, nil
}

// byFormer adds the people who had addresses before that nobody has now.
func (s *Reads) byFormer(keys []string, out map[string]Person) error {
	var missing []string
	for _, k := range keys {
		if _, ok := out[k]; !ok {
			missing = append(missing, k)
		}
	}
	if len(missing) == 0 {
		return nil
	}
	var at []address
	if err := s.db.Select("addr_key", "ref").Find(&at, "addr_key IN ? AND kind = ?", missing, KindFormer).Error; err != nil || len(at) == 0 {
		return wrap("read people", err)
	}
	ids := make([]uuid.UUID, len(at))
	for i, a := range at {
		ids[i] = a.Ref
	}
	var rows []Person
	err := s.db.Find(&rows, "id IN ?", ids).Error
	for _, a := range at {
		for _, p := range rows {
			if p.ID == a.Ref {
				out[a.AddrKey] = p
			}
		}
	}
	return wrap("read people", err)
}

// PeopleQuery says which people to list.
type PeopleQuery struct {
	Q        string     // words that begin words of the name or address
	External bool       // external members, in place of people of the workspace
	Departed bool       // those who have left, in place of those who are here
	Lacks    string     // a field of the directory that they have no value for
	Filter   *rule.Rule // of core/filter's People; nil: all. Who is listed is not bound by External or Departed where it asks about that
	Sort     PeopleSort
	Desc     bool
	After    Cursor
	Limit    int
}

// PeopleSort is a way to sort the list of people.
type PeopleSort string

// peopleOrders are the expressions by which lists of people are sorted.
var peopleOrders = map[PeopleSort]string{"name": "g.name", "address": "g.addr_key", "created": "g.created_at", "signed_in": "COALESCE(g.signed_in_at, '0001-01-01')"}

// peopleIndexes are the indexes of the table of people in these orders.
var peopleIndexes = map[PeopleSort]string{"name": "people_here", "created": "people_created"}

func (q PeopleQuery) listing() (listing, error) {
	asks := map[string]bool{}
	if q.Filter != nil {
		for _, a := range q.Filter.Attributes() {
			asks[a.Path] = true
		}
	}
	var where condition
	add := func(sql string, args ...any) { where = where.and(condition{sql, args}) }
	if !asks["external"] {
		add("g.external = ?", q.External)
	}
	if !asks["active"] && !asks["departed_at"] {
		add("g.active = ?", !q.Departed)
	}
	for _, c := range searched(KindPerson, q.Q) {
		where = where.and(c)
	}
	if q.Lacks != "" {
		add("COALESCE(JSON_VALUE(g.attributes, ?), '') = ''", `$."`+q.Lacks+`"`)
	}
	if q.Filter != nil {
		c, err := peopleFilter(q.Filter).where(q.Filter.Root(), true)
		if err != nil {
			return listing{}, err
		}
		add("("+c.sql+")", c.args...)
	}
	if q.Sort == "" {
		q.Sort = "name"
	}
	inOrder := ""
	if index := peopleIndexes[q.Sort]; index != "" {
		inOrder = "people g FORCE INDEX FOR ORDER BY (" + index + ")"
	}
	of := ofPeople
	if asks["groups"] || asks["owns"] {
		of = ofGroups
	}
	return listing{from: "people g", of: of, inOrder: inOrder, where: where, order: peopleOrders[q.Sort], id: "g.id", desc: q.Desc, bounded: q.Filter != nil, columns: "g.version, 0, 0, 0"}, nil
}

// People returns a page of people. ErrTooSlow says that the filter took longer than is
// allowed.
func (s *Reads) People(q PeopleQuery) (Page[Person], error) {
	l, err := q.listing()
	if err != nil {
		return Page[Person]{}, err
	}
	p, err := l.page(s, q.After, q.Limit)
	if err != nil {
		return Page[Person]{}, err
	}
	out := Page[Person]{Next: p.Next, Total: p.Total}
	out.Items, err = s.peopleAt(p.Items)
	return out, err
}

// EachPerson calls f with all people of a query, some at a time, in order.
func (s *Reads) EachPerson(q PeopleQuery, f func([]Person) error) error {
	l, err := q.listing()
	if err != nil {
		return err
	}
	return l.each(s, 1000, func(at []place) error {
		people, err := s.peopleAt(at)
		if err != nil {
			return err
		}
		return f(people)
	})
}

// peopleAt returns the people at places.
func (s *Reads) peopleAt(at []place) ([]Person, error) {
	ids := make([]uuid.UUID, len(at))
	for i, p := range at {
		ids[i] = p.ID
	}
	byID, err := s.PeopleByID(ids)
	out := make([]Person, 0, len(at))
	for _, id := range ids {
		if p, there := byID[id]; there {
			out = append(out, p)
		}
	}
	return out, err
}

// TypeAhead returns up to limit active people of the workspace each of whose words
// of q begins a word of their name or address. It walks one range of the index of
// words, that of the rarest word, and stops when it has enough.
func (s *Reads) TypeAhead(q string, limit int) ([]Person, error) {
	words := Words(q)
	return listed(s, s.memory.ahead, ofPeople, digestOf("type-ahead", []any{limit, words}), func() ([]Person, error) { return s.typeAhead(words, limit) })
}

func (s *Reads) typeAhead(words []string, limit int) (out []Person, err error) {
	words, err = s.rarestFirst(words)
	if err != nil || len(words) == 0 {
		return nil, err
	}
	sql, args := `SELECT `+personColumns+` FROM words w STRAIGHT_JOIN people p ON p.id = w.ref AND p.active AND NOT p.external WHERE w.kind = ? AND w.word LIKE ?`,
		[]any{KindPerson, likePrefix(words[0])}
	for _, w := range words[1:] {
		sql, args = sql+" AND EXISTS (SELECT 1 FROM words x WHERE x.ref = w.ref AND x.word LIKE ?)", append(args, likePrefix(w))
	}
	for _, read := range []int{limit, 3 * limit} { // somebody may have two words that begin alike
		seen, rows := map[uuid.UUID]bool{}, 0
		out = nil
		err := s.scanPeople(func(p Person) {
			if rows++; !seen[p.ID] && len(seen) < limit {
				seen[p.ID] = true
				out = append(out, p)
			}
		}, sql+" ORDER BY w.word, w.ref LIMIT ?", append(slices.Clip(args), read)...)
		if err != nil || len(out) == limit || rows < read {
			return out, err
		}
	}
	return out, nil
}

// DistinctValues returns the values that people have for an attribute of package rule, as filters
// compare them.
func (s *Reads) DistinctValues(path string) (out []string, err error) {
	err = s.db.Raw("SELECT DISTINCT value FROM person_values WHERE attribute = ?", path).Scan(&out).Error
	return out, wrap("read values of people", err)
}

// CountWith counts who has a value in an attribute, here or departed.
func (s *Reads) CountWith(path string) (n int, err error) {
	err = s.db.Raw("SELECT COUNT(DISTINCT person_id) FROM person_values WHERE attribute = ?", path).Scan(&n).Error
	return n, wrap("count people", err)
}

// ForgetAttribute takes what everybody has in a field of the directory away.
func (s *Tx) ForgetAttribute(field string) error {
	path := `$."` + field + `"`
	return errors.Join(
		wrap("forget an attribute", s.writing(ofPeople).Exec("UPDATE people SET attributes = JSON_REMOVE(attributes, ?), version = version + 1 WHERE id IN (SELECT person_id FROM person_values WHERE attribute = ?)", path, field).Error),
		wrap("forget an attribute", s.db.Exec("DELETE FROM person_values WHERE attribute = ?", field).Error))
}

// enough is up to how many people it is counted how rare a word is.
const enough = 500

// rarestFirst sorts beginnings of words by how many people have them, as far as they
// are counted, and returns none where nobody has one of them.
func (s *Reads) rarestFirst(words []string) ([]string, error) {
	if len(words) < 2 {
		return words, nil
	}
	counts := make(map[string]int, len(words))
	for _, w := range words {
		var n int
		if err := s.db.Raw("SELECT COUNT(*) FROM (SELECT 1 FROM words WHERE kind = ? AND word LIKE ? LIMIT ?) x", KindPerson, likePrefix(w), enough).Scan(&n).Error; err != nil {
			return nil, wrap("search people", err)
		}
		if n == 0 {
			return nil, nil
		}
		counts[w] = n
	}
	slices.SortFunc(words, func(a, b string) int { return counts[a] - counts[b] })
	return words, nil
}

// personColumns are the columns of a person p but for the password, in the order of scanPeople.
const personColumns = "p.id, p.address, p.addr_key, p.name, p.external, p.active, p.workspace_role, p.attributes, p.created_at, p.departed_at, p.signed_in_at, p.erased_at, p.version, p.name_key, p.mail_paused_until, p.mail_paused_why"

// scanPeople calls f for everybody whom a query of personColumns finds. It reads the columns by hand: by
// reflection would cost as much as the query.
func (s *Reads) scanPeople(f func(Person), query string, args ...any) error {
	rows, err := s.db.Raw(query, args...).Rows()
	if err != nil {
		return wrap("read people", err)
	}
	defer rows.Close()
	for rows.Next() {
		var p Person
		if err := rows.Scan(&p.ID, &p.Address, &p.AddrKey, &p.Name, &p.External, &p.Active, &p.WorkspaceRole, (*[]byte)(&p.Attributes), &p.CreatedAt, &p.DepartedAt, &p.SignedInAt, &p.ErasedAt, &p.Version, &p.NameKey, &p.MailPausedUntil, &p.MailPausedWhy); err != nil {
			return wrap("read people", err)
		}
		f(p)
	}
	return wrap("read people", rows.Err())
}

// PeopleByID returns people by identifier.
func (s *Reads) PeopleByID(ids []uuid.UUID) (map[uuid.UUID]Person, error) {
	out := make(map[uuid.UUID]Person, len(ids))
	return out, inBatches(ids, func(ids []uuid.UUID) error {
		return s.scanPeople(func(p Person) { out[p.ID] = p }, "SELECT "+personColumns+" FROM people p WHERE p.id IN ?", ids)
	})
}

// DepartedOf returns those of some people who have left.
func (s *Reads) DepartedOf(ids []uuid.UUID) (map[uuid.UUID]bool, error) {
	out := map[uuid.UUID]bool{}
	return out, inBatches(ids, func(ids []uuid.UUID) error {
		var gone []uuid.UUID
		err := s.db.Model(&Person{}).Where("id IN ? AND active = FALSE", ids).Pluck("id", &gone).Error
		for _, id := range gone {
			out[id] = true
		}
		return wrap("read who has left", err)
	})
}

// LockPerson returns a person and keeps others from changing them until the
// transaction ends.
func (s *Tx) LockPerson(id uuid.UUID) (p Person, err error) {
	if err := s.order(rankPeople); err != nil {
		return p, err
	}
	err = s.forUpdate().Take(&p, "id = ?", id).Error
	s.moves.lock(p)
	return p, wrap("read a person", err)
}

// SavePerson writes a person that was read in this transaction with LockPerson, and
// counts their version up. MovePerson changes their address.
func (s *Tx) SavePerson(p *Person, renamed bool) error {
	p.Version++
	p.NameKey = rule.Fold(p.Name)
	if err := s.writing(ofPeople).Save(p).Error; err != nil {
		return wrap("save a person", err)
	}
	if err := s.setValues([]Person{*p}); err != nil {
		return err
	}
	if err := s.flip([]Person{*p}); err != nil || !renamed {
		return err
	}
	return s.index([]Person{*p})
}

// index makes people searchable by their names, and by the addresses that they have and had.
func (s *Tx) index(people []Person) error {
	return inBatches(people, func(people []Person) error {
		ids := make([]uuid.UUID, len(people))
		for i, p := range people {
			ids[i] = p.ID
		}
		former, err := s.FormerAddresses(ids)
		if err != nil {
			return err
		}
		var rows []word
		for _, p := range people {
			for _, w := range Words(append([]string{p.Name, p.Address}, former[p.ID]...)...) {
				rows = append(rows, word{KindPerson, w, p.ID})
			}
		}
		if err := s.writing(ofPeople).Where("ref IN ?", ids).Delete(&word{}).Error; err != nil {
			return wrap("replace search words", err)
		}
		return wrap("write search words", s.writing(ofPeople).CreateInBatches(rows, batch).Error)
	})
}

// LockPeople is LockPerson for many. Those who are not there are left out.
func (s *Tx) LockPeople(ids []uuid.UUID) (map[uuid.UUID]Person, error) {
	if err := s.order(rankPeople); err != nil {
		return nil, err
	}
	out := make(map[uuid.UUID]Person, len(ids))
	ids = slices.SortedFunc(slices.Values(ids), func(a, b uuid.UUID) int { return bytes.Compare(a[:], b[:]) }) // all lock in one order
	return out, inBatches(ids, func(ids []uuid.UUID) error {
		var rows []Person
		if err := s.forUpdate().Order("id").Find(&rows, "id IN ?", ids).Error; err != nil {
			return wrap("read people", err)
		}
		s.moves.lock(rows...)
		for _, p := range rows {
			out[p.ID] = p
		}
		return nil
	})
}

// SavePeople is SavePerson for many, who were read with LockPeople. What they sign
// in with stays. Those of renamed are searchable by their new names and addresses.
func (s *Tx) SavePeople(people []Person, renamed []Person) error {
	for i := range people {
		people[i].Version++
	}
	if err := s.writePeople(people, "name", "name_key", "active", "workspace_role", "attributes", "departed_at", "version"); err != nil {
		return err
	}
	if err := s.flip(people); err != nil {
		return err
	}
	return s.index(renamed)
}

// writePeople writes some columns of people, and what filters compare of them.
func (s *Tx) writePeople(people []Person, columns ...string) error {
	for i := range people {
		people[i].NameKey = rule.Fold(people[i].Name)
	}
	update := clause.OnConflict{DoUpdates: clause.AssignmentColumns(columns)}
	err := inBatches(people, func(people []Person) error {
		return wrap("save people", s.writing(ofPeople).Clauses(update).Create(&people).Error)
	})
	if err != nil {
		return err
	}
	return s.setValues(people)
}

// EndCredentials ends every session and token of people.
func (s *Tx) EndCredentials(people []uuid.UUID) error {
	return inBatches(people, func(ids []uuid.UUID) error {
		return wrap("end credentials", s.db.Delete(&Credential{}, "person_id IN ?", ids).Error)
	})
}

// EndAccess ends all by which people who leave the organisation get in or act: sessions, tokens, links, the password, the second factor, the
// addresses of their calendars, links of letters to them, and invitations. None of it comes back when they do.
func (s *Tx) EndAccess(people []Person) error {
	var ids []uuid.UUID
	var addresses []string
	for _, p := range people {
		ids, addresses = append(ids, p.ID), append(addresses, p.AddrKey)
	}
	if err := s.EndCredentials(ids); err != nil {
		return err
	}
	for _, q := range []string{"UPDATE people SET password_hash = '' WHERE id IN ?", "DELETE FROM second_factors WHERE person_id IN ?", "DELETE FROM recovery_codes WHERE person_id IN ?", "DELETE FROM known_sources WHERE person_id IN ?",
		"DELETE FROM calendar_feeds WHERE person_id IN ?", "DELETE FROM own_links WHERE member_id IN ?"} {
		if err := inBatches(ids, func(ids []uuid.UUID) error { return s.db.Exec(q, ids).Error }); err != nil {
			return wrap("end what people get in by", err)
		}
	}
	for _, q := range []string{"DELETE FROM notice_links WHERE recipient IN ?", "DELETE FROM proofs WHERE addr_key IN ?",
		"UPDATE round_letters SET hash = UNHEX(SHA2(CONCAT(UUID(), RAND()), 256)) WHERE recipient IN ?"} { // that there was a letter stays known
		if err := inBatches(addresses, func(some []string) error { return s.db.Exec(q, some).Error }); err != nil {
			return wrap("end what people get in by", err)
		}
	}
	return inBatches(addresses, func(some []string) error {
		return wrap("call invitations back", s.db.Exec("UPDATE invitations SET state = ?, open_once = NULL WHERE addr_key IN ? AND state = ?", CalledBack, some, Undecided).Error)
	})
}

// LockAdministrators returns how many active administrators there are, and keeps
// others from changing that.
func (s *Tx) LockAdministrators() (int, error) {
	if err := s.order(rankPeople); err != nil {
		return 0, err
	}
	var ids []uuid.UUID
	err := s.db.Raw("SELECT id FROM people WHERE workspace_role = 'administrator' AND active = TRUE" + s.locking("FOR UPDATE")).Scan(&ids).Error
	return len(ids), wrap("count the administrators", err)
}

// MembershipRow is a person's membership with its group.
type MembershipRow struct {
	Membership
	Name    string
	Address string
	Owners  int // who are active, of a group that the person owns
	Ended   bool
}

// GroupsOf returns the groups that a person is in, those with the strongest role
// first, at most 1,000.
func (s *Reads) GroupsOf(person uuid.UUID) (out []MembershipRow, err error) {
	err = s.db.Raw(`SELECT m.*, g.name, g.address, g.ended_at IS NOT NULL AS ended,
		IF(m.role = 3, (SELECT COUNT(*) FROM memberships o JOIN people p ON p.id = o.member_id AND p.active WHERE o.group_id = g.id AND o.role = 3), 0) AS owners FROM memberships m JOIN mail_groups g ON g.id = m.group_id
		WHERE m.member_id = ? ORDER BY m.role DESC, g.name, g.id LIMIT 1000`, person).Scan(&out).Error
	return out, wrap("read somebody's groups", err)
}

// OrphanedGroup is a group that nobody owns any more who is here.
type OrphanedGroup struct {
	GroupID uuid.UUID
	Name    string
	Address string
	Owner   uuid.UUID `gorm:"-"` // one of those who just left it
}

// LockOrphanedBy locks the living groups that people own, who were marked as departed in this
// transaction, and more groups with them, and returns those that nobody else owns who is
// here.
func (s *Tx) LockOrphanedBy(people, more []uuid.UUID) (out []OrphanedGroup, err error) {
	if err := s.order(rankGroups); err != nil {
		return out, err
	}
	owner := map[uuid.UUID]uuid.UUID{}
	var owned []uuid.UUID
	err = inBatches(people, func(ids []uuid.UUID) error {
		var rows []Membership
		err := s.db.Raw(`SELECT m.group_id, m.member_id FROM memberships m JOIN mail_groups g ON g.id = m.group_id AND g.ended_at IS NULL
			WHERE m.member_id IN ? AND m.role = ?`, ids, expand.Owner).Scan(&rows).Error
		for _, m := range rows {
			if _, twice := owner[m.GroupID]; !twice {
				owned = append(owned, m.GroupID)
			}
			owner[m.GroupID] = m.MemberID
		}
		return wrap("read what somebody owns", err)
	})
	if err != nil {
		return nil, err
	}
	if len(owned)+len(more) > 0 {
		if _, err := s.LockGroups(slices.Concat(owned, more)); err != nil {
			return nil, err
		}
	}
	return out, inBatches(owned, func(ids []uuid.UUID) error {
		var some []OrphanedGroup
		err := s.db.Raw(`SELECT g.id AS group_id, g.name, g.address FROM mail_groups g WHERE g.id IN ? AND NOT EXISTS
			(SELECT 1 FROM memberships m JOIN people p ON p.id = m.member_id AND p.active WHERE m.group_id = g.id AND m.role = ?) ORDER BY g.address`, ids, expand.Owner).Scan(&some).Error
		for _, e := range some {
			e.Owner = owner[e.GroupID]
			out = append(out, e)
		}
		return wrap("read what somebody owns", err)
	})
}

// Orphaned returns the living groups that nobody would own who is here once people had left, by
// address, up to limit of them, and how many there are.
func (s *Reads) Orphaned(people []uuid.UUID, limit int) (out []OrphanedGroup, n int, err error) {
	leaving := map[uuid.UUID]int{}
	err = inBatches(people, func(ids []uuid.UUID) error {
		var rows []struct {
			GroupID uuid.UUID
			N       int
		}
		err := s.db.Raw(`SELECT m.group_id, COUNT(*) AS n FROM memberships m JOIN mail_groups g ON g.id = m.group_id AND g.ended_at IS NULL JOIN people p ON p.id = m.member_id AND p.active
			WHERE m.member_id IN ? AND m.role = ? GROUP BY m.group_id`, ids, expand.Owner).Scan(&rows).Error
		for _, r := range rows {
			leaving[r.GroupID] += r.N
		}
		return wrap("read what somebody owns", err)
	})
	if err != nil {
		return nil, 0, err
	}
	ids := slices.Collect(maps.Keys(leaving))
	err = inBatches(ids, func(ids []uuid.UUID) error {
		var rows []struct {
			OrphanedGroup
			N int
		}
		err := s.db.Raw(`SELECT g.id AS group_id, g.name, g.address, COUNT(*) AS n FROM mail_groups g JOIN memberships m ON m.group_id = g.id AND m.role = ? JOIN people p ON p.id = m.member_id AND p.active
			WHERE g.id IN ? GROUP BY g.id`, expand.Owner, ids).Scan(&rows).Error
		for _, r := range rows {
			if r.N == leaving[r.GroupID] {
				out = append(out, r.OrphanedGroup)
			}
		}
		return wrap("read owners", err)
	})
	slices.SortFunc(out, func(a, b OrphanedGroup) int { return strings.Compare(a.Address, b.Address) })
	return out[:min(len(out), limit)], len(out), err
}

func likePrefix(w string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(w) + "%"
}

// PeopleHere returns people of the workspace who are here, in order of their names, after one of them.
// It reads on along the index, however far it is.
func (s *Reads) PeopleHere(after Cursor, limit int) (out []Person, err error) {
	sql, args := "SELECT "+personColumns+" FROM people p FORCE INDEX (people_here) WHERE p.active = 1 AND p.external = 0", []any{}
	if !after.Empty() {
		sql, args = sql+" AND p.name >= ? AND (p.name > ? OR p.id > ?)", append(args, after.Value, after.Value, after.ID)
	}
	err = s.scanPeople(func(p Person) { out = append(out, p) }, sql+" ORDER BY p.name, p.id LIMIT ?", append(args, limit)...)
	return out, wrap("read people", err)
}

// PeopleAround returns people who are in some groups, or have a role in the workspace: people of the
// workspace, or external ones, in order of their names, after one of them.
func (s *Reads) PeopleAround(groups []uuid.UUID, external bool, after Cursor, limit int) (out []Person, err error) {
	sql, args := "SELECT "+personColumns+` FROM (SELECT member_id AS id FROM memberships WHERE group_id IN ? AND kind = ? UNION SELECT id FROM people WHERE workspace_role <> '') x
		JOIN people p ON p.id = x.id AND p.active AND p.external = ?`, []any{groups, KindPerson, external}
	if !after.Empty() {
		sql, args = sql+" WHERE (p.name > ? OR p.name = ? AND p.id > ?)", append(args, after.Value, after.Value, after.ID)
	}
	err = s.scanPeople(func(p Person) { out = append(out, p) }, sql+" ORDER BY p.name, p.id LIMIT ?", append(args, limit)...)
	return out, wrap("read the people around groups", err)
}

// Administrators returns the addresses of the active administrators.
func (s *Reads) Administrators() (out []string, err error) {
	err = s.db.Model(&Person{}).Where("workspace_role = 'administrator' AND active = TRUE").Order("addr_key").Limit(100).Pluck("address", &out).Error
	return out, wrap("read the administrators", err)
}

// CountPeople returns the number of active people of the workspace.
func (s *Reads) CountPeople() (n int64, err error) {
	err = s.db.Model(&Person{}).Where("external = FALSE AND active = TRUE").Count(&n).Error
	return n, wrap("count people", err)
}

// CachedCountPeople is CountPeople for what is shown: a change by another process is seen
// within five seconds.
func (s *Reads) CachedCountPeople() (int64, error) {
	return load(s, s.memory.counts, ofPeople, digest{}, func(int64) (int64, error) { return s.CountPeople() })
}
