package store

import (
	"time"

	"github.com/google/uuid"
)

// Memberships counts the memberships of living groups, without nested groups.
func (s *Reads) Memberships(now time.Time) (n int, err error) {
	err = s.db.Raw("SELECT COALESCE(SUM(owners + moderators + members), 0) FROM mail_groups WHERE ended_at IS NULL AND expires_at > ?", now).Scan(&n).Error
	return n, wrap("count memberships", err)
}

// DomainCount is how many external members there are from a mail domain.
type DomainCount struct {
	Domain      string
	People      int // each once
	Memberships int
}

// ExternalDomains returns from which mail domains the external members of living groups are, those of most memberships first, and
// how many domains there are.
func (s *Reads) ExternalDomains(now time.Time, limit int) (out []DomainCount, all int, err error) {
	const from = ` FROM external_members x JOIN mail_groups g ON g.id = x.group_id AND g.ended_at IS NULL AND g.expires_at > ? JOIN memberships m ON m.group_id = x.group_id AND m.member_id = x.member_id JOIN people p ON p.id = x.member_id`
	err = s.db.Raw("SELECT SUBSTRING_INDEX(p.addr_key, '@', -1) AS domain, COUNT(DISTINCT p.id) AS people, COUNT(*) AS memberships"+from+" GROUP BY 1 ORDER BY 3 DESC, 1 LIMIT ?", now, limit).Scan(&out).Error
	if err == nil {
		err = s.db.Raw("SELECT COUNT(DISTINCT SUBSTRING_INDEX(p.addr_key, '@', -1))"+from, now).Scan(&all).Error
	}
	return out, all, wrap("count external members", err)
}

// Biggest returns the living groups that reach most people.
func (s *Reads) Biggest(now time.Time, limit int) (out []Group, err error) {
	err = eachRow(s.db.Raw("SELECT g.id, g.name, g.address, z.people, g.external_members FROM group_sizes z FORCE INDEX FOR ORDER BY (group_sizes_people) STRAIGHT_JOIN mail_groups g ON g.id = z.group_id WHERE g.ended_at IS NULL AND g.expires_at > ? ORDER BY z.people DESC, z.group_id LIMIT ?", now, limit), func(scan func(...any) error) error {
		var g Group
		var id uuid.UUID
		err := scan(&id, &g.Name, &g.Address, &g.People, &g.ExternalMembers)
		g.ID = id
		out = append(out, g)
		return err
	})
	return out, wrap("read the biggest groups", err)
}
