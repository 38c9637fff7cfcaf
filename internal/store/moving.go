package store

import (
	"github.com/google/uuid"

	"ivytable.example/ivytable/internal/core/mailaddr"
)

// released is the key of somebody who has left and whose address is another's now. No
// address has it.
func released(id uuid.UUID) string { return "left " + id.String() }

// Released reports whether a person has left, and their address is another's now.
func (p Person) Released() bool { return p.AddrKey == released(p.ID) }

// FormerAddresses returns the addresses that people had before, which still lead to them.
func (s *Reads) FormerAddresses(people []uuid.UUID) (map[uuid.UUID][]string, error) {
	out := map[uuid.UUID][]string{}
	return out, inBatches(people, func(ids []uuid.UUID) error {
		var rows []address
		err := s.db.Select("ref", "address").Order("addr_key").Find(&rows, "ref IN ? AND kind = ?", ids, KindFormer).Error
		for _, r := range rows {
			out[r.Ref] = append(out[r.Ref], r.Address)
		}
		return wrap("read former addresses", err)
	})
}

// MovePerson gives a person of the workspace, who is locked, another address. The one before leads
// to them still, and what is settled about them goes with them. It returns ErrDuplicate
// where the address is somebody else's. SavePerson, or SavePeople, has to follow.
func (s *Tx) MovePerson(p *Person, to mailaddr.Address) error {
	before := p.AddrKey
	steps := []struct {
		what, sql string
		args      []any
	}{
		{"leave an address", "DELETE FROM addresses WHERE addr_key = ? AND ref = ? AND kind = ?", []any{to.Key(), p.ID, KindFormer}},
		{"leave an address", "UPDATE addresses SET kind = ? WHERE addr_key = ? AND ref = ? AND kind = ?", []any{KindFormer, before, p.ID, KindPerson}},
	}
	for _, x := range steps {
		if err := s.db.Exec(x.sql, x.args...).Error; err != nil {
			return wrap(x.what, err)
		}
	}
	if err := s.takeAddresses([]address{addressRow(to, KindPerson, p.ID)}); err != nil {
		return err
	}
	if err := s.rekey(before, to.Key(), to.String()); err != nil {
		return err
	}
	p.Address, p.AddrKey = to.String(), to.Key()
	return wrap("save an address", s.writing(ofPeople).Model(&Person{}).Where("id = ?", p.ID).Updates(map[string]any{"address": p.Address, "addr_key": p.AddrKey}).Error)
}

// rekey takes what is kept under one address to another: what is settled about it, and its open
// invitations.
func (s *Tx) rekey(from, to, shown string) error {
	for _, x := range []struct {
		sql  string
		args []any
	}{
		{"DELETE n FROM overrides n JOIN overrides o ON o.group_id = n.group_id AND o.addr_key = ? WHERE n.addr_key = ?", []any{from, to}},
		{"UPDATE overrides SET addr_key = ? WHERE addr_key = ?", []any{to, from}},
		{"UPDATE invitations n JOIN invitations o ON o.group_id = n.group_id AND o.addr_key = ? AND o.state = ? SET n.state = ? WHERE n.addr_key = ? AND n.state = ?", []any{from, Undecided, CalledBack, to, Undecided}},
		{"UPDATE invitations SET addr_key = ?, address = ? WHERE addr_key = ?", []any{to, shown, from}},
	} {
		if err := s.db.Exec(x.sql, x.args...).Error; err != nil {
			return wrap("take along what is settled", err)
		}
	}
	return nil
}

// ReleaseAddresses takes addresses from people who have left, so that others can have them, and
// returns whose they were, by address. What was settled about them stays theirs.
func (s *Tx) ReleaseAddresses(keys []string) (map[string]Person, error) {
	all, err := s.PeopleByKeys(keys)
	if err != nil {
		return nil, err
	}
	var ids []uuid.UUID
	for _, p := range all {
		if !p.Active && !p.External {
			ids = append(ids, p.ID)
		}
	}
	if len(ids) == 0 {
		return nil, nil
	}
	locked, err := s.LockPeople(ids)
	if err != nil {
		return nil, err
	}
	out := map[string]Person{}
	for _, key := range keys {
		p, ok := locked[all[key].ID]
		if !ok || p.Active {
			continue
		}
		out[key] = p
		if err := s.db.Exec("DELETE FROM addresses WHERE addr_key = ? AND ref = ?", key, p.ID).Error; err != nil {
			return nil, wrap("release an address", err)
		}
		if p.AddrKey != key {
			continue // one of their former addresses
		}
		if err := s.rekey(key, released(p.ID), p.Address); err != nil {
			return nil, err
		}
		if err := s.writing(ofPeople).Model(&Person{}).Where("id = ?", p.ID).Update("addr_key", released(p.ID)).Error; err != nil {
			return nil, wrap("release an address", err)
		}
	}
	return out, nil
}

// ForgetAddresses ends that former addresses lead to a person who is locked.
func (s *Tx) ForgetAddresses(person uuid.UUID, keys []string) error {
	return wrap("forget former addresses", s.db.Exec("DELETE FROM addresses WHERE ref = ? AND kind = ? AND addr_key IN ?", person, KindFormer, keys).Error)
}

// PeopleWith returns the people of the workspace, here or departed, who have values in an
// attribute, by the values' keys.
func (s *Reads) PeopleWith(path string, keys []string) (map[string][]Person, error) {
	out := map[string][]Person{}
	return out, inBatches(keys, func(some []string) error {
		var at []personValue
		if err := s.db.Find(&at, "attribute = ? AND value IN ?", path, some).Error; err != nil || len(at) == 0 {
			return wrap("look for people", err)
		}
		ids := make([]uuid.UUID, len(at))
		for i, a := range at {
			ids[i] = a.PersonID
		}
		var people []Person
		if err := s.db.Find(&people, "id IN ? AND external = FALSE", ids).Error; err != nil {
			return wrap("look for people", err)
		}
		byID := make(map[uuid.UUID]Person, len(people))
		for _, p := range people {
			byID[p.ID] = p
		}
		for _, a := range at {
			if p, ok := byID[a.PersonID]; ok {
				out[a.Value] = append(out[a.Value], p)
			}
		}
		return nil
	})
}
