package store

import (
	"errors"
	"slices"
)

// ErrNoDomain says that an address does not lie in a mail domain of the workspace; the domain may
// have been retired meanwhile.
var ErrNoDomain = errors.New("the workspace has no such mail domain")

// Domains returns the mail domains of the workspace, the main one first.
func (s *Reads) Domains() (names []string, err error) {
	err = s.db.Table("domains").Order("place").Pluck("name", &names).Error
	return names, wrap("read the domains", err)
}

// keptDomains is Domains, as they were within the last five seconds; what this process changed shows at once.
func (s *Reads) keptDomains() ([]string, error) {
	return load(s, s.memory.domains, ofSettings, "", func(int64) ([]string, error) { return s.Domains() })
}

// SetDomains puts mail domains of a workspace in place, the main one first. Others that are there
// stay.
func (s *Tx) SetDomains(names []string) error {
	for i, n := range names {
		if err := s.writing(ofSettings).Exec("INSERT INTO domains (name, place) VALUES (?, ?) ON DUPLICATE KEY UPDATE place = VALUES(place)", n, i).Error; err != nil {
			return wrap("write the domains", err)
		}
	}
	return nil
}

// LockDomain keeps others from taking addresses in a domain until the transaction ends.
func (s *Tx) LockDomain(name string) error {
	var names []string
	err := s.db.Raw("SELECT name FROM domains WHERE name = ?"+s.locking("FOR UPDATE"), name).Scan(&names).Error
	if err == nil && len(names) == 0 {
		return ErrNotFound
	}
	return wrap("lock a domain", err)
}

// DeleteDomain takes a domain away that is locked and in which nothing lies.
func (s *Tx) DeleteDomain(name string) error {
	if err := s.db.Exec("DELETE FROM signing_keys WHERE domain = ?", name).Error; err != nil {
		return wrap("delete a domain", err)
	}
	return wrap("delete a domain", s.writing(ofSettings).Exec("DELETE FROM domains WHERE name = ?", name).Error)
}

// takeAddresses inserts addresses. It returns ErrDuplicate where one is somebody's, and ErrNoDomain
// where one lies in no domain of the workspace.
func (s *Tx) takeAddresses(rows []address) error {
	var wanted []string
	for _, r := range rows {
		if d := domainOf(r.AddrKey); !slices.Contains(wanted, d) {
			wanted = append(wanted, d)
		}
	}
	if len(wanted) == 0 {
		return nil
	}
	var there []string
	if err := s.db.Raw("SELECT name FROM domains WHERE name IN ?"+s.locking("LOCK IN SHARE MODE"), wanted).Scan(&there).Error; err != nil {
		return wrap("read the domains", err)
	}
	if len(there) < len(wanted) {
		return ErrNoDomain
	}
	return wrap("take addresses", s.db.CreateInBatches(rows, batch).Error)
}

// InDomain is how much lies in a mail domain.
type InDomain struct {
	Domain  string
	People  int // here and departed
	Groups  int
	Aliases int
	Former  int // addresses that people had before
}

// InDomains counts what lies in each mail domain.
func (s *Reads) InDomains() (map[string]InDomain, error) {
	var rows []InDomain
	err := s.db.Raw(`SELECT domain, SUM(kind = ?) AS people, SUM(kind = ?) AS `+"`groups`"+`, SUM(kind = ?) AS aliases, SUM(kind = ?) AS former FROM addresses GROUP BY domain`,
		KindPerson, KindGroup, KindAlias, KindFormer).Scan(&rows).Error
	out := make(map[string]InDomain, len(rows))
	for _, r := range rows {
		out[r.Domain] = r
	}
	return out, wrap("count addresses", err)
}

// SomeIn returns up to limit addresses in a domain, groups first.
func (s *Reads) SomeIn(domain string, limit int) (out []string, err error) {
	err = s.db.Raw("SELECT address FROM addresses WHERE domain = ? ORDER BY kind = ? DESC, kind, addr_key LIMIT ?", domain, KindGroup, limit).Scan(&out).Error
	return out, wrap("read addresses", err)
}

// OutsidersAt counts the addresses outside the workspace that lie in a domain.
func (s *Reads) OutsidersAt(domain string) (n int, err error) {
	err = s.db.Raw("SELECT COUNT(*) FROM people WHERE external = TRUE AND SUBSTRING_INDEX(addr_key, '@', -1) = ?", domain).Scan(&n).Error
	return n, wrap("count outsiders", err)
}
