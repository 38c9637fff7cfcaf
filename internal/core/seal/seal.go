// Package seal chains the entries of the history by hashes, so that it shows when one of them was edited, taken out,
// put in or moved.
//
// One sealer gives each entry its place in the chain, and a seal: the hash (SHA-512/256, FIPS 180-4) of the seal before it,
// of its place, of the entry, and of a commitment to what in the entry names people. The commitment is salted, so that
// names can be taken out of an entry, with its salt, without breaking the chain and without anybody guessing them.
//
// Whoever can write to the database can make the end of a chain anew, from an entry on: that shows only against a seal
// that was kept elsewhere.
package seal

import (
	"crypto/sha512"
	"encoding/binary"
	"fmt"
	"time"
)

// Hash is a seal, or the commitment to the names in an entry.
type Hash [sha512.Size256]byte

func (h Hash) String() string { return fmt.Sprintf("%x", h[:]) }

// SaltSize is how many octets the salt of an entry has.
const SaltSize = 16

// ID is the identifier of a person, a group or a change; the zero value is none.
type ID [16]byte

// Entry is an entry of the history.
type Entry struct {
	Number  int64 // by which the history knows it
	Change  ID
	At      time.Time // microseconds count
	Kind    string
	Via     string
	Group   ID
	Request string
	Part    bool

	// what names people
	Actor    string
	ActorID  ID
	Data     []byte
	Affected []Affected // by who
}

// Affected is what an entry says of one person, address or nested group.
type Affected struct {
	Who      ID
	Was, Now string
	Label    string
}

// fields are written so that no two lists of them look alike: each goes after its length.
type fields []byte

func (f fields) number(n int64) fields  { return binary.BigEndian.AppendUint64(f, uint64(n)) }
func (f fields) octets(b []byte) fields { return append(f.number(int64(len(b))), b...) }
func (f fields) text(s string) fields   { return append(f.number(int64(len(s))), s...) }

// Names is the commitment to what in an entry names people, under a salt of [SaltSize] octets.
func (e *Entry) Names(salt []byte) Hash {
	f := make(fields, 0, 512).octets(salt).text(e.Actor).octets(e.ActorID[:]).octets(e.Data).number(int64(len(e.Affected)))
	for i := range e.Affected {
		a := &e.Affected[i]
		f = f.octets(a.Who[:]).text(a.Was).text(a.Now).text(a.Label)
	}
	return sha512.Sum512_256(f)
}

// Next is the seal of an entry in a place of the chain, after a seal; names is the commitment to its names.
func Next(before Hash, place int64, e *Entry, names Hash) Hash {
	part := int64(0)
	if e.Part {
		part = 1
	}
	f := make(fields, 0, 512).octets(before[:]).number(place).number(e.Number).octets(e.Change[:]).number(e.At.UnixMicro()).
		text(e.Kind).text(e.Via).octets(e.Group[:]).text(e.Request).number(part).octets(names[:])
	return sha512.Sum512_256(f)
}
