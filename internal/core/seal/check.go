package seal

import (
	"fmt"
	"slices"
)

// Sealed is a place in the chain: the seal that is kept of it, and the entry that stands there, nil where there is none
// any more.
type Sealed struct {
	Place  int64
	Number int64 // of the entry
	Salt   []byte
	Seal   Hash
	Entry  *Entry
	Erased *Hash // the commitment to the names that were taken out of it; nil while they are there
}

// names is the commitment to what in an entry names people, which stands in this place of the chain.
func (s *Sealed) names(e *Entry) Hash {
	if s.Erased != nil {
		return *s.Erased
	}
	return e.Names(s.Salt)
}

// Kind is what is wrong with a chain.
type Kind string

// What can be wrong.
const (
	Edited    Kind = "edited"    // an entry, or its seal, is not what it was
	Missing   Kind = "missing"   // an entry, or its seal, is not there any more
	Added     Kind = "added"     // an entry was put in that no sealer saw
	Reordered Kind = "reordered" // entries stand in each other's places
	Erased    Kind = "erased"    // names were taken out of an entry, and nobody asked for that
	Rewritten Kind = "rewritten" // the chain is another one than when a seal was kept elsewhere
)

// Fault is one thing that is wrong, and from where on nothing is proven.
type Fault struct {
	Kind   Kind
	Place  int64 // in the chain; 0 for an entry that has none
	Number int64 // of the entry; 0 where that is not known
	Says   string
}

// Checker goes along a chain and finds what is wrong. The zero value begins at its start.
type Checker struct {
	Faults []Fault
	Count  int64  // how many places were right
	Left   []Left // what there is now of entries out of which names were taken

	place  int64
	before Hash
	odd    []Sealed // those that do not fit, of which some may have changed places
	prior  []Hash   // the seal before each of them
}

// From begins in the middle of a chain: after a place and its seal.
func From(place int64, before Hash) *Checker { return &Checker{place: place, before: before} }

// maxOdd is of how many entries that do not fit it is looked whether they changed places.
const maxOdd = 64

// Check takes the next place of the chain.
func (c *Checker) Check(s Sealed) {
	switch c.place++; s.Place - c.place {
	case 0:
	case 1:
		c.Faults = append(c.Faults, Fault{Missing, c.place, 0, fmt.Sprintf("The entry in place %d of the chain is not there any more, nor is its seal.", c.place)})
	default:
		c.Faults = append(c.Faults, Fault{Missing, c.place, 0, fmt.Sprintf("The entries in places %d to %d of the chain are not there any more, nor are their seals.", c.place, s.Place-1)})
	}
	c.place = s.Place
	switch {
	case s.Entry == nil:
		c.Faults = append(c.Faults, Fault{Missing, s.Place, s.Number, fmt.Sprintf("Entry %d is not there any more.", s.Number)})
	case Next(c.before, s.Place, s.Entry, s.names(s.Entry)) != s.Seal:
		if c.odd = append(c.odd, s); len(c.odd) > maxOdd {
			c.edited(c.odd[0])
			c.odd, c.prior = c.odd[1:], c.prior[1:]
		}
		c.prior = append(c.prior, c.before)
	default:
		c.Count++
	}
	if s.Entry != nil && s.Erased != nil {
		c.Left = append(c.Left, s.Entry.Left())
	}
	c.before = s.Seal
}

func (c *Checker) edited(s Sealed) {
	c.Faults = append(c.Faults, Fault{Edited, s.Place, s.Number, fmt.Sprintf("Entry %d, or its seal, is not what it was.", s.Number)})
}

// End says of those entries that did not fit what is wrong with them, and returns the last seal.
func (c *Checker) End() Hash {
	c.prior = c.prior[:len(c.odd)]
	for i, s := range c.odd {
		if c.moved(i) {
			c.Faults = append(c.Faults, Fault{Reordered, s.Place, s.Number, fmt.Sprintf("Entry %d stands in the place of another.", s.Number)})
			continue
		}
		c.edited(s)
	}
	c.odd, c.prior = nil, nil
	slices.SortStableFunc(c.Faults, func(a, b Fault) int { return int(a.Place - b.Place) })
	return c.before
}

// moved reports whether what stands at an odd place fits into another odd one, by its seal or by what is in it.
func (c *Checker) moved(i int) bool {
	s := c.odd[i]
	for j, at := range c.odd {
		if i == j {
			continue
		}
		// the whole row of the seal stands elsewhere: it fits after any of the seals that are there
		for _, before := range append([]Hash{c.prior[j]}, seals(c.odd)...) {
			if Next(before, at.Place, s.Entry, s.names(s.Entry)) == s.Seal {
				return true
			}
		}
		// the entry has the number of another one
		e := *s.Entry
		e.Number = at.Entry.Number
		if Next(c.prior[j], at.Place, &e, at.names(&e)) == at.Seal {
			return true
		}
	}
	return false
}

func seals(all []Sealed) []Hash {
	out := make([]Hash, len(all))
	for i, s := range all {
		out[i] = s.Seal
	}
	return out
}
