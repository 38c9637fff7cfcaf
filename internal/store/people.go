package store

import (
	"context"
	"encoding/json"
	"strings"
	"time"
	"unicode"

	"github.com/google/uuid"
	"golang.org/x/text/unicode/norm"

	"ivytable.example/ivytable/internal/core/mailaddr"
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
}

// Kinds of what has an address or words.
const (
	KindPerson int8 = 1
	KindGroup  int8 = 2
	KindAlias  int8 = 3
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

func (s *Store) setWords(kind int8, ref uuid.UUID, texts ...string) error {
	if err := s.db.Where("ref = ?", ref).Delete(&word{}).Error; err != nil {
		return wrap("replace search words", err)
	}
	var rows []word
	for _, w := range Words(texts...) {
		rows = append(rows, word{kind, w, ref})
	}
	if len(rows) == 0 {
		return nil
	}
	return wrap("write search words", s.db.Create(&rows).Error)
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
}

func addressRow(a mailaddr.Address, kind int8, ref uuid.UUID) address {
	row := address{AddrKey: a.Key(), Address: a.String(), Kind: kind, Ref: ref, Alike: a.Alike(), Loose: a.Loose()}
	if kind != KindPerson {
		row.GroupAlike = &row.Alike
	}
	return row
}

// AddPeople inserts people; those of the workspace take their addresses. It
// returns ErrDuplicate where an address is taken.
func (s *Store) AddPeople(ctx context.Context, people []Person) error {
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
	db := s.with(ctx)
	if err := db.CreateInBatches(people, batch).Error; err != nil {
		return wrap("add people", err)
	}
	if len(addresses) > 0 {
		if err := db.CreateInBatches(addresses, batch).Error; err != nil {
			return wrap("take people's addresses", err)
		}
	}
	return wrap("write search words", db.CreateInBatches(words, batch).Error)
}

// Person returns a person by identifier.
func (s *Store) Person(ctx context.Context, id uuid.UUID) (p Person, err error) {
	err = s.with(ctx).Take(&p, "id = ?", id).Error
	return p, wrap("read a person", err)
}

// PersonByKey returns a person by the key of their address.
func (s *Store) PersonByKey(ctx context.Context, key string) (p Person, err error) {
	err = s.with(ctx).Take(&p, "addr_key = ?", key).Error
	return p, wrap("read a person", err)
}

// PeopleByKeys returns the people who have these address keys, by key.
func (s *Store) PeopleByKeys(ctx context.Context, keys []string) (map[string]Person, error) {
	out := make(map[string]Person, len(keys))
	for len(keys) > 0 {
		n := min(len(keys), 5000)
		var rows []Person
		if err := s.with(ctx).Find(&rows, "addr_key IN ?", keys[:n]).Error; err != nil {
			return nil, wrap("read people", err)
		}
		for _, p := range rows {
			out[p.AddrKey] = p
		}
		keys = keys[n:]
	}
	return out, nil
}

// SearchPeople returns up to limit active people of the workspace each of whose
// words of q begins a word of their name or address, by name.
func (s *Store) SearchPeople(ctx context.Context, q string, after Cursor, limit int) (Page[Person], error) {
	db := s.with(ctx).Model(&Person{}).Where("external = FALSE AND active = TRUE")
	for _, w := range Words(q) {
		db = db.Where("id IN (SELECT ref FROM words WHERE kind = ? AND word LIKE ?)", KindPerson, likePrefix(w))
	}
	return page(db, after, limit, sortKey[Person]{column: "name", value: func(p Person) (string, uuid.UUID) { return p.Name, p.ID }})
}

func likePrefix(w string) string {
	return strings.NewReplacer(`\`, `\\`, "%", `\%`, "_", `\_`).Replace(w) + "%"
}

// Administrators returns the addresses of the active administrators.
func (s *Store) Administrators(ctx context.Context) (out []string, err error) {
	err = s.with(ctx).Model(&Person{}).Where("workspace_role = 'administrator' AND active = TRUE").Order("addr_key").Limit(100).Pluck("address", &out).Error
	return out, wrap("read the administrators", err)
}

// CountPeople returns the number of active people of the workspace.
func (s *Store) CountPeople(ctx context.Context) (n int64, err error) {
	err = s.with(ctx).Model(&Person{}).Where("external = FALSE AND active = TRUE").Count(&n).Error
	return n, wrap("count people", err)
}

// Taken is what stands at or near an address.
type Taken struct {
	Address string
	Kind    int8
	Ref     uuid.UUID
	Name    string // of the person or group
	Same    bool   // the address itself
	Alike   bool   // too alike to tell apart
}

// AddressesNear returns what is at a, too alike to it, or like it at a careless look.
func (s *Store) AddressesNear(ctx context.Context, a mailaddr.Address) ([]Taken, error) {
	var out []Taken
	err := s.with(ctx).Raw(`SELECT a.address, a.kind, a.ref, COALESCE(g.name, p.name, '') AS name, a.addr_key = ? AS same, a.alike = ? AS alike
		FROM (SELECT * FROM addresses WHERE addr_key = ? UNION SELECT * FROM addresses WHERE alike = ? UNION SELECT * FROM addresses WHERE loose = ?) a
		LEFT JOIN mail_groups g ON g.id = a.ref LEFT JOIN people p ON p.id = a.ref
		ORDER BY same DESC, alike DESC, a.address LIMIT 10`, a.Key(), a.Alike(), a.Key(), a.Alike(), a.Loose()).Scan(&out).Error
	return out, wrap("look for addresses", err)
}

// GroupByAddress returns the group that an address or alias leads to.
func (s *Store) GroupByAddress(ctx context.Context, key string) (g Group, err error) {
	err = s.with(ctx).Take(&g, "id = (SELECT ref FROM addresses WHERE addr_key = ? AND kind IN (?, ?))", key, KindGroup, KindAlias).Error
	return g, wrap("read a group", err)
}

// Aliases returns the further addresses of groups, by group.
func (s *Store) Aliases(ctx context.Context, groups []uuid.UUID) (map[uuid.UUID][]string, error) {
	var rows []address
	if err := s.with(ctx).Select("ref", "address").Order("addr_key").Find(&rows, "ref IN ? AND kind = ?", groups, KindAlias).Error; err != nil {
		return nil, wrap("read aliases", err)
	}
	out := map[uuid.UUID][]string{}
	for _, r := range rows {
		out[r.Ref] = append(out[r.Ref], r.Address)
	}
	return out, nil
}

// Domains returns the mail domains of the workspace, the main one first.
func (s *Store) Domains(ctx context.Context) (names []string, err error) {
	err = s.with(ctx).Table("domains").Order("place").Pluck("name", &names).Error
	return names, wrap("read the domains", err)
}

// SetDomains puts the mail domains of a workspace in place.
func (s *Store) SetDomains(ctx context.Context, names []string) error {
	for i, n := range names {
		if err := s.with(ctx).Exec("INSERT INTO domains (name, place) VALUES (?, ?) ON DUPLICATE KEY UPDATE place = VALUES(place)", n, i).Error; err != nil {
			return wrap("write the domains", err)
		}
	}
	return nil
}
