package store

import (
	"fmt"
	"slices"
	"strings"

	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/rule"
)

// Check is one thing about which records have to agree with those that they follow from.
type Check struct {
	Name  string // such as group-counts
	About string // what is compared, as a noun phrase

	find   func(*Reads) ([]string, error) // says of each record that is wrong what is wrong with it
	repair func(*Tx) error                // makes them right; nil: only a person can
}

// Repairable reports whether the service can make it right by itself.
func (c Check) Repairable() bool { return c.repair != nil }

// Find reads everything that the check is about, a declared full review, and says of each record that is wrong what is wrong with it.
func (c Check) Find(s *Reads) ([]string, error) {
	wrong, err := c.find(s)
	return wrong, wrap("check "+c.Name, err)
}

// Repair makes the records right.
func (c Check) Repair(s *Tx) error {
	s.written |= ofGroups | ofPeople
	return wrap("repair "+c.Name, c.repair(s))
}

// Checks are all of them.
func Checks() []Check {
	return []Check{
		{"group-counts", "how many owners, moderators, members and nested groups each group has", listedBy(wrongCounts + " LIMIT 1000"), statements(repairCounts)},
		{"group-sizes", "how many people each group reaches", (*Reads).CheckSizes, recountSizes},
		{"group-settings", "the settings by which groups are found, against their policies", wrongSettings, repairSettings},
		{"search-words", "the words by which groups and people are found, against their names and addresses", wrongWords, repairWords},
		{"attributes", "the attributes by which people are found, against their entries", wrongValues, repairValues},
		{"addresses", "the addresses of people and groups, against the table of all addresses", listedBy(`
			SELECT CONCAT(p.address, ' is a person''s, and not kept as one') FROM people p LEFT JOIN addresses a ON a.addr_key = p.addr_key AND a.ref = p.id AND a.kind = 1 WHERE p.external = FALSE AND a.ref IS NULL
			UNION ALL SELECT CONCAT(g.address, ' is a group''s, and not kept as one') FROM mail_groups g LEFT JOIN addresses a ON a.addr_key = g.addr_key AND a.ref = g.id AND a.kind = 2 WHERE a.ref IS NULL
			UNION ALL SELECT CONCAT(a.address, ' is kept for a group that is not there') FROM addresses a LEFT JOIN mail_groups g ON g.id = a.ref WHERE a.kind IN (2, 3) AND g.id IS NULL
			UNION ALL SELECT CONCAT(a.address, ' is kept for a person who is not there') FROM addresses a LEFT JOIN people p ON p.id = a.ref WHERE a.kind IN (1, 4) AND p.id IS NULL
			LIMIT 1000`), nil},
		orphans("memberships", "memberships without their group or member", "memberships", "CONCAT('of ', x.member_id, ' in ', x.group_id)",
			"NOT EXISTS (SELECT 1 FROM mail_groups g WHERE g.id = x.group_id) OR x.kind = 1 AND NOT EXISTS (SELECT 1 FROM people p WHERE p.id = x.member_id) OR x.kind = 2 AND NOT EXISTS (SELECT 1 FROM mail_groups i WHERE i.id = x.member_id)"),
		orphans("consents", "agreements on nesting without the nesting", "consents", "CONCAT('of ', x.group_id, ' in ', x.outer_id)",
			"x.scope > 0 AND NOT EXISTS (SELECT 1 FROM memberships m WHERE m.group_id = x.outer_id AND m.member_id = x.group_id AND m.kind = 2)"), // before it is agreed to, there is none
		orphans("own-links", "links to one's own membership without the membership", "own_links", "CONCAT('of ', x.member_id, ' in ', x.group_id)",
			"NOT EXISTS (SELECT 1 FROM memberships m WHERE m.group_id = x.group_id AND m.member_id = x.member_id)"),
		orphans("jobs", "messages that are to be delivered, without the message", "jobs", "CONCAT('number ', x.id)",
			"NOT EXISTS (SELECT 1 FROM mailings m JOIN messages t ON t.id = m.message_id WHERE m.id = x.mailing_id)"),
		orphans("mailings", "mailings without their message", "mailings", "x.id", "NOT EXISTS (SELECT 1 FROM messages t WHERE t.id = x.message_id)"),
		orphans("messages", "messages that were sent to nobody", "messages", "CONCAT(x.id, ' of ', x.received_at)", "NOT EXISTS (SELECT 1 FROM mailings m WHERE m.message_id = x.id)"),
		orphans("message-bodies", "bodies without their message", "message_bodies", "x.message_id", "NOT EXISTS (SELECT 1 FROM messages t WHERE t.id = x.message_id)"),
		orphans("deliveries", "deliveries without their mailing", "transmissions", "CONCAT('number ', x.id)", "NOT EXISTS (SELECT 1 FROM mailings m WHERE m.id = x.mailing_id)"),
		orphans("failures", "failed deliveries without their mailing", "failures", "CONCAT('to ', x.recipient)", "NOT EXISTS (SELECT 1 FROM mailings m WHERE m.id = x.mailing_id)"),
	}
}

// listedBy finds what a query of one column lists.
func listedBy(query string) func(*Reads) ([]string, error) {
	return func(s *Reads) (out []string, err error) {
		err = s.db.Raw(query).Scan(&out).Error
		return out, err
	}
}

func statements(all ...string) func(*Tx) error {
	return func(s *Tx) error {
		for _, q := range all {
			if err := s.db.Exec(q).Error; err != nil {
				return err
			}
		}
		return nil
	}
}

// orphans are rows x of a table without what they belong to, which are deleted.
func orphans(name, about, table, label, where string) Check {
	return Check{name, about, listedBy(fmt.Sprintf("SELECT %s FROM %s x WHERE %s LIMIT 1000", label, table, where)), statements(fmt.Sprintf("DELETE x FROM %s x WHERE %s", table, where))}
}

// counted is what the members of each group come to.
const counted = `SELECT m.group_id, SUM(m.kind = 2) AS nested, SUM(m.kind = 1 AND p.external) AS external, SUM(m.kind = 1 AND NOT p.active) AS departed,
	SUM(m.kind = 1 AND p.active AND m.role = 3) AS owners, SUM(m.kind = 1 AND p.active AND m.role = 2) AS moderators, SUM(m.kind = 1 AND p.active AND m.role = 1) AS members
	FROM memberships m LEFT JOIN people p ON p.id = m.member_id AND m.kind = 1 GROUP BY m.group_id`

const differing = `FROM mail_groups g LEFT JOIN (` + counted + `) c ON c.group_id = g.id`

const wrongCounts = `SELECT CONCAT(g.address, ': ', g.owners, ' owners, ', g.moderators, ' moderators, ', g.members, ' members, ', g.nested, ' nested, ', g.external_members, ' external and ', g.departed, ' departed are kept; it has ',
	COALESCE(c.owners, 0), ', ', COALESCE(c.moderators, 0), ', ', COALESCE(c.members, 0), ', ', COALESCE(c.nested, 0), ', ', COALESCE(c.external, 0), ' and ', COALESCE(c.departed, 0)) ` + differing + `
	WHERE g.owners <> COALESCE(c.owners, 0) OR g.moderators <> COALESCE(c.moderators, 0) OR g.members <> COALESCE(c.members, 0) OR g.nested <> COALESCE(c.nested, 0)
	OR g.external_members <> COALESCE(c.external, 0) OR g.departed <> COALESCE(c.departed, 0)`

const repairCounts = `UPDATE mail_groups g LEFT JOIN (` + counted + `) c ON c.group_id = g.id SET g.revision = g.revision + 1, g.owners = COALESCE(c.owners, 0), g.moderators = COALESCE(c.moderators, 0),
	g.members = COALESCE(c.members, 0), g.nested = COALESCE(c.nested, 0), g.external_members = COALESCE(c.external, 0), g.departed = COALESCE(c.departed, 0)
	WHERE g.owners <> COALESCE(c.owners, 0) OR g.moderators <> COALESCE(c.moderators, 0) OR g.members <> COALESCE(c.members, 0) OR g.nested <> COALESCE(c.nested, 0)
	OR g.external_members <> COALESCE(c.external, 0) OR g.departed <> COALESCE(c.departed, 0)`

func recountSizes(s *Tx) error {
	var ids []uuid.UUID
	err := s.db.Raw("SELECT id FROM mail_groups").Scan(&ids).Error
	for _, id := range ids {
		s.moves.around(id)
	}
	s.nested = true
	return err
}

// inParts calls f for all rows of a table, some at a time.
func inParts[R any](s *Reads, id func(R) uuid.UUID, f func([]R) error) error {
	for after := uuid.Nil; ; {
		var rows []R
		if err := s.db.Where("id > ?", after).Order("id").Limit(1000).Find(&rows).Error; err != nil || len(rows) == 0 {
			return err
		}
		if err := f(rows); err != nil {
			return err
		}
		after = id(rows[len(rows)-1])
	}
}

func groupID(g Group) uuid.UUID   { return g.ID }
func personID(p Person) uuid.UUID { return p.ID }

// unsettled returns those of some groups that are kept under other settings than their policies have.
func (s *Reads) unsettled(groups []Group) (out []*Group, err error) {
	kept := map[uuid.UUID]map[string]int{}
	err = eachRow(s.db.Raw("SELECT group_id, setting, value FROM group_settings WHERE group_id IN ?", idsOf(groups, groupID)), func(scan func(...any) error) error {
		var id uuid.UUID
		var name string
		var value int
		err := scan(&id, &name, &value)
		if kept[id] == nil {
			kept[id] = map[string]int{}
		}
		kept[id][name] = value
		return err
	})
	for i := range groups {
		g := &groups[i]
		rows := settingsOf(g)
		same := len(rows) == len(kept[g.ID])
		for _, r := range rows {
			value, there := kept[g.ID][r.Setting]
			same = same && there && value == int(r.Value)
		}
		if !same {
			out = append(out, g)
		}
	}
	return out, err
}

func idsOf[R any](rows []R, id func(R) uuid.UUID) []uuid.UUID {
	out := make([]uuid.UUID, len(rows))
	for i, r := range rows {
		out[i] = id(r)
	}
	return out
}

func wrongSettings(s *Reads) (out []string, err error) {
	err = inParts(s, groupID, func(groups []Group) error {
		wrong, err := s.unsettled(groups)
		for _, g := range wrong {
			out = append(out, g.Address)
		}
		return err
	})
	return out, err
}

func repairSettings(s *Tx) error {
	return inParts(&s.Reads, groupID, func(groups []Group) error {
		wrong, err := s.unsettled(groups)
		if err != nil || len(wrong) == 0 {
			return err
		}
		for _, g := range wrong {
			if err := s.db.Exec("DELETE FROM group_settings WHERE group_id = ?", g.ID).Error; err != nil {
				return err
			}
		}
		rows := settingsOf(wrong...)
		return s.db.CreateInBatches(rows, batch).Error
	})
}

// unfindable returns which of some groups or people, with the texts by which they are to be found, can't be found by all of these, or can be by others.
func (s *Reads) unfindable(texts map[uuid.UUID][]string) (out []uuid.UUID, err error) {
	kept := map[uuid.UUID][]string{}
	err = eachRow(s.db.Raw("SELECT ref, word FROM words WHERE ref IN ?", sorted(texts)), func(scan func(...any) error) error {
		var id uuid.UUID
		var w string
		err := scan(&id, &w)
		kept[id] = append(kept[id], w)
		return err
	})
	for id, of := range texts {
		wanted := Words(of...)
		slices.Sort(wanted)
		slices.Sort(kept[id])
		if !slices.Equal(wanted, kept[id]) {
			out = append(out, id)
		}
	}
	return out, err
}

// eachUnfindable calls one of two functions for each group or person who can't be found as they are to be.
func (s *Reads) eachUnfindable(group func(g Group, texts []string) error, person func(p Person) error) error {
	err := inParts(s, groupID, func(groups []Group) error {
		aliases, err := s.Aliases(idsOf(groups, groupID))
		if err != nil {
			return err
		}
		texts, of := map[uuid.UUID][]string{}, map[uuid.UUID]Group{}
		for _, g := range groups {
			texts[g.ID], of[g.ID] = groupTexts(g.Name, append(aliases[g.ID], g.Address)...), g
		}
		wrong, err := s.unfindable(texts)
		for _, id := range wrong {
			if err := group(of[id], texts[id]); err != nil {
				return err
			}
		}
		return err
	})
	if err != nil {
		return err
	}
	return inParts(s, personID, func(people []Person) error {
		former, err := s.FormerAddresses(idsOf(people, personID))
		if err != nil {
			return err
		}
		texts, of := map[uuid.UUID][]string{}, map[uuid.UUID]Person{}
		for _, p := range people {
			texts[p.ID], of[p.ID] = append([]string{p.Name, p.Address}, former[p.ID]...), p
		}
		wrong, err := s.unfindable(texts)
		for _, id := range wrong {
			if err := person(of[id]); err != nil {
				return err
			}
		}
		return err
	})
}

func wrongWords(s *Reads) (out []string, err error) {
	err = s.eachUnfindable(func(g Group, _ []string) error { out = append(out, g.Address); return nil }, func(p Person) error { out = append(out, p.Address); return nil })
	return out, err
}

func repairWords(s *Tx) error {
	return s.eachUnfindable(func(g Group, texts []string) error { return s.setWords(KindGroup, g.ID, texts...) }, func(p Person) error { return s.index([]Person{p}) })
}

// misvalued returns those of some people whose attributes are kept otherwise than their entries have them.
func (s *Reads) misvalued(people []Person) (out []Person, err error) {
	kept := map[uuid.UUID][]string{}
	err = eachRow(s.db.Raw("SELECT person_id, attribute, place, value FROM person_values WHERE person_id IN ?", idsOf(people, personID)), func(scan func(...any) error) error {
		var v personValue
		err := scan(&v.PersonID, &v.Attribute, &v.Place, &v.Value)
		kept[v.PersonID] = append(kept[v.PersonID], v.text())
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, p := range people {
		rows, err := personValues(p)
		if err != nil {
			return nil, err
		}
		var wanted []string
		for _, v := range rows {
			wanted = append(wanted, v.text())
		}
		slices.Sort(wanted)
		slices.Sort(kept[p.ID])
		if !slices.Equal(wanted, kept[p.ID]) || p.NameKey != rule.Fold(p.Name) {
			out = append(out, p)
		}
	}
	return out, nil
}

func (v personValue) text() string {
	return strings.Join([]string{v.Attribute, fmt.Sprint(v.Place), v.Value}, "\x00")
}

func wrongValues(s *Reads) (out []string, err error) {
	err = inParts(s, personID, func(people []Person) error {
		wrong, err := s.misvalued(people)
		for _, p := range wrong {
			out = append(out, p.Address)
		}
		return err
	})
	return out, err
}

func repairValues(s *Tx) error {
	return inParts(&s.Reads, personID, func(people []Person) error {
		wrong, err := s.misvalued(people)
		if err != nil || len(wrong) == 0 {
			return err
		}
		return s.writePeople(wrong, "name_key")
	})
}
