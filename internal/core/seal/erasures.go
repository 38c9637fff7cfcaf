package seal

import (
	"crypto/sha512"
	"fmt"
	"maps"
	"slices"
)

// Left is what was left of an entry when names were taken out of it.
type Left struct {
	Number int64
	Hash   Hash // of what names people in it, under no salt
}

// Left returns what is left of an entry.
func (e *Entry) Left() Left { return Left{e.Number, e.Names(make([]byte, SaltSize))} }

// Digest is the hash of what was left of entries, in order of their numbers. It stands in the history, in the entry of who asked
// for it.
func Digest(all []Left) Hash {
	all = slices.SortedFunc(slices.Values(all), func(a, b Left) int { return int(a.Number - b.Number) })
	f := make(fields, 0, 48*len(all))
	for _, l := range all {
		f = f.number(l.Number).octets(l.Hash[:])
	}
	return sha512.Sum512_256(f)
}

// Request is one taking out of names.
type Request struct {
	Number int64  // of the entry that records it; 0 for none
	Digest string // in it
	Left   []Left
}

// Erasures finds what is wrong with entries out of which names were taken: left is what is there of each now, and requests are all
// that were made. Whoever edits an entry can say that names were taken out of it, but not that it was asked for, nor that this was
// left of it.
func Erasures(left map[int64]Hash, requests []Request) (faults []Fault) {
	last := map[int64]Hash{}
	for _, r := range slices.SortedFunc(slices.Values(requests), func(a, b Request) int { return int(a.Number - b.Number) }) {
		if r.Number == 0 || Digest(r.Left).String() != r.Digest {
			faults = append(faults, Fault{Kind: Erased, Number: r.Number, Says: fmt.Sprintf("What is noted of the names that one change took out of %d entries is not what the history says that somebody asked for.", len(r.Left))})
			continue
		}
		for _, l := range r.Left {
			last[l.Number] = l.Hash
		}
	}
	for _, number := range slices.Sorted(maps.Keys(left)) {
		switch hash, known := last[number]; {
		case !known:
			faults = append(faults, Fault{Kind: Erased, Number: number, Says: fmt.Sprintf("Names were taken out of entry %d, and nobody asked for that.", number)})
		case hash != left[number]:
			faults = append(faults, Fault{Kind: Edited, Number: number, Says: fmt.Sprintf("Entry %d is not what was left of it when names were taken out of it.", number)})
		}
	}
	return faults
}
