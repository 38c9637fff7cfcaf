package store

import (
	"time"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/mailaddr"
)

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
func (s *Reads) AddressesNear(a mailaddr.Address) ([]Taken, error) {
	var out []Taken
	err := s.db.Raw(`SELECT a.address, a.kind, a.ref, COALESCE(g.name, p.name, x.name, '') AS name, a.addr_key = ? AS same, a.alike = ? AS alike
		FROM (SELECT * FROM addresses WHERE addr_key = ? UNION SELECT * FROM addresses WHERE alike = ? UNION SELECT * FROM addresses WHERE loose = ?) a
		LEFT JOIN mail_groups g ON g.id = a.ref LEFT JOIN people p ON p.id = a.ref LEFT JOIN purged_groups x ON x.id = a.ref
		ORDER BY same DESC, alike DESC, a.address LIMIT 10`, a.Key(), a.Alike(), a.Key(), a.Alike(), a.Loose()).Scan(&out).Error
	return out, wrap("look for addresses", err)
}

// GroupByAddress returns the group that an address or alias leads to.
func (s *Reads) GroupByAddress(key string) (g Group, err error) {
	return s.oneGroup("id = (SELECT ref FROM addresses WHERE addr_key = ? AND kind IN (?, ?))", key, KindGroup, KindAlias)
}

// NoteUse notes that mail came to further addresses of groups, where that was not noted within a day.
func (s *Tx) NoteUse(keys []string, at time.Time) error {
	if len(keys) == 0 {
		return nil
	}
	return wrap("note which addresses are used", s.db.Exec("UPDATE addresses SET used_at = ? WHERE addr_key IN ? AND kind = ? AND (used_at IS NULL OR used_at < ?)", at, keys, KindAlias, at.AddDate(0, 0, -1)).Error)
}

// Aliases returns the further addresses of groups, by group.
func (s *Reads) Aliases(groups []uuid.UUID) (map[uuid.UUID][]string, error) {
	var rows []address
	if err := s.db.Select("ref", "address").Order("addr_key").Find(&rows, "ref IN ? AND kind = ?", groups, KindAlias).Error; err != nil {
		return nil, wrap("read aliases", err)
	}
	out := map[uuid.UUID][]string{}
	for _, r := range rows {
		out[r.Ref] = append(out[r.Ref], r.Address)
	}
	return out, nil
}
