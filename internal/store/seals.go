package store

import (
	"bytes"
	"database/sql"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"time"

	"github.com/google/uuid"
	"gorm.io/gorm"

	"ivytable.example/ivytable/internal/core/seal"
)

// Sealing is the setting "sealed": how far the history is sealed.
type Sealing struct {
	Place int64  `json:"place"` // of the last seal
	Seal  string `json:"seal"`  // in hexadecimal
	Entry int64  `json:"entry"` // the highest that is sealed

	// Entries up to Low are sealed, all of them: a change that began with a lower number has ended by now. Mark is what
	// Low becomes, once the time since MarkAt is longer than any change takes.
	Low    int64     `json:"low"`
	Mark   int64     `json:"mark"`
	MarkAt time.Time `json:"mark_at"`
	GapsAt time.Time `json:"gaps_at"` // when it was last looked for entries between Low and Entry
}

// historySeal is the seal of one entry.
type historySeal struct {
	Place int64 `gorm:"primaryKey"`
	Entry int64
	Salt  []byte
	Seal  []byte
	Names []byte // the commitment to names that were taken out; nil while they are there
}

// sealColumns are the columns of an entry that are sealed. A history is long: they are read as they come, and taken apart by hand.
const sealColumns = "h.id, h.change_id, CAST(h.at AS CHAR), h.kind, h.via, h.group_id, h.request_id, h.part, h.actor, h.actor_id, h.data"

// sealScan reads them.
type sealScan [11]sql.RawBytes

func (s *sealScan) into() []any {
	out := make([]any, len(s))
	for i := range s {
		out[i] = &s[i]
	}
	return out
}

// entry is what was read, nil for an entry that is not there.
func (s *sealScan) entry() (*seal.Entry, error) {
	if s[0] == nil {
		return nil, nil
	}
	number, err := strconv.ParseInt(string(s[0]), 10, 64)
	if err != nil {
		return nil, err
	}
	e := &seal.Entry{Number: number, Kind: string(s[3]), Via: string(s[4]), Request: string(s[6]), Part: string(s[7]) == "1", Actor: string(s[8]), Data: bytes.Clone(s[10])}
	if e.At, err = moment(s[2]); err != nil {
		return nil, err
	}
	for _, x := range []struct {
		from sql.RawBytes
		to   *seal.ID
	}{{s[1], &e.Change}, {s[5], &e.Group}, {s[9], &e.ActorID}} {
		if err := identifier(x.from, x.to); err != nil {
			return nil, err
		}
	}
	return e, nil
}

// moment reads a moment as dbTime writes it.
func moment(b []byte) (time.Time, error) {
	if len(b) != len(dbTime) {
		return time.Time{}, fmt.Errorf("the moment %q can't be read", b)
	}
	n := func(from, to int) (out int) {
		for _, c := range b[from:to] {
			out = 10*out + int(c-'0')
		}
		return out
	}
	return time.Date(n(0, 4), time.Month(n(5, 7)), n(8, 10), n(11, 13), n(14, 16), n(17, 19), 1000*n(20, 26), time.UTC), nil
}

// identifier reads an identifier as the database writes it; nothing is the zero value.
func identifier(b []byte, to *seal.ID) error {
	if b == nil {
		return nil
	}
	id, err := uuid.ParseBytes(b)
	*to = seal.ID(id)
	return err
}

// Unsealed returns up to limit entries without a seal, in order: those after one number and, where to is not 0, up to
// another.
func (s *Reads) Unsealed(after, to int64, limit int) ([]*seal.Entry, error) {
	where, args := "h.id > ?", []any{after}
	if to > 0 {
		where, args = where+" AND h.id <= ?", append(args, to)
	}
	var out []*seal.Entry
	var r sealScan
	into := r.into()
	err := eachRow(s.db.Raw("SELECT "+sealColumns+" FROM history h LEFT JOIN history_seals s ON s.entry = h.id WHERE "+where+" AND s.entry IS NULL ORDER BY h.id LIMIT ?", append(args, limit)...), func(scan func(...any) error) error {
		if err := scan(into...); err != nil {
			return err
		}
		e, err := r.entry()
		out = append(out, e)
		return err
	})
	if err != nil {
		return nil, wrap("read the history", err)
	}
	return out, withAffected(s.db, out)
}

// withAffected reads whom entries affected.
func withAffected(db *gorm.DB, entries []*seal.Entry) error {
	byNumber := make(map[int64]*seal.Entry, len(entries))
	var first, last int64
	for _, e := range entries {
		if e == nil {
			continue
		}
		if first == 0 || e.Number < first {
			first = e.Number
		}
		last = max(last, e.Number)
		byNumber[e.Number] = e
	}
	if len(byNumber) == 0 {
		return nil
	}
	where, args := "history_id BETWEEN ? AND ?", []any{first, last}
	if last-first > 4*int64(len(byNumber)) { // they lie far apart
		where, args = "history_id IN ?", []any{slices.Collect(maps.Keys(byNumber))}
	}
	var number, who, was, now, label sql.RawBytes
	return wrap("read the history", eachRow(db.Raw("SELECT history_id, person_id, was, now, label FROM history_people WHERE "+where+" ORDER BY history_id, person_id", args...), func(scan func(...any) error) error {
		if err := scan(&number, &who, &was, &now, &label); err != nil {
			return err
		}
		n, err := strconv.ParseInt(string(number), 10, 64)
		if err != nil {
			return err
		}
		e := byNumber[n]
		if e == nil {
			return nil
		}
		a := seal.Affected{Was: string(was), Now: string(now), Label: string(label)}
		err = identifier(who, &a.Who)
		e.Affected = append(e.Affected, a)
		return err
	}))
}

// AddSeals records seals.
func (s *Tx) AddSeals(all []seal.Sealed) error {
	rows := make([]historySeal, len(all))
	for i, x := range all {
		rows[i] = historySeal{Place: x.Place, Entry: x.Number, Salt: x.Salt, Seal: x.Seal[:]}
	}
	return create(s, "seal the history", rows)
}

// SealAt returns the seal in a place of the chain.
func (s *Reads) SealAt(place int64) (seal.Hash, error) {
	var row historySeal
	err := s.db.Take(&row, "place = ?", place).Error
	return seal.Hash(pad(row.Seal)), wrap("read a seal", err)
}

func pad(b []byte) []byte {
	out := make([]byte, len(seal.Hash{}))
	copy(out, b)
	return out
}

// LastSeal returns the last place of the chain that there is a seal of; 0 without any.
func (s *Reads) LastSeal() (place int64, err error) {
	err = s.db.Raw("SELECT COALESCE(MAX(place), 0) FROM history_seals").Scan(&place).Error
	return place, wrap("read a seal", err)
}

// SealsBetween calls f with the places of the chain after one up to another, some at a time, in order. What f is given
// holds until it returns.
func (s *Reads) SealsBetween(after, to int64, f func([]seal.Sealed) error) error {
	const some = 5000
	var r sealScan
	var place, number, salt, kept, erased sql.RawBytes
	into := append([]any{&place, &number, &salt, &kept, &erased}, r.into()...)
	all, entries := make([]seal.Sealed, 0, some), make([]*seal.Entry, 0, some)
	for after < to {
		all, entries = all[:0], entries[:0]
		err := eachRow(s.db.Raw("SELECT s.place, s.entry, s.salt, s.seal, s.names, "+sealColumns+" FROM history_seals s LEFT JOIN history h ON h.id = s.entry WHERE s.place > ? AND s.place <= ? ORDER BY s.place LIMIT ?", after, to, some), func(scan func(...any) error) error {
			if err := scan(into...); err != nil {
				return err
			}
			x := seal.Sealed{Salt: bytes.Clone(salt), Seal: seal.Hash(pad(kept))}
			if erased != nil {
				h := seal.Hash(pad(erased))
				x.Erased = &h
			}
			var err error
			if x.Place, err = strconv.ParseInt(string(place), 10, 64); err != nil {
				return err
			}
			if x.Number, err = strconv.ParseInt(string(number), 10, 64); err != nil {
				return err
			}
			x.Entry, err = r.entry()
			all, entries = append(all, x), append(entries, x.Entry)
			return err
		})
		if err != nil {
			return wrap("read seals", err)
		}
		if len(all) == 0 {
			return nil
		}
		if err := withAffected(s.db, entries); err != nil {
			return err
		}
		if err := f(all); err != nil {
			return err
		}
		after = all[len(all)-1].Place
	}
	return nil
}
