package review

import (
	"cmp"
	"fmt"
	"math/bits"
	"slices"
	"strings"

	"ivytable.example/ivytable/internal/core/naming"
	"ivytable.example/ivytable/internal/core/number"
)

// ID is the identifier of a group or a person.
type ID = [16]byte

// Named is a group as it is compared with others by what it is called.
type Named struct {
	ID            ID
	Name, Address string
	Key           string // of its name
}

// Key is what the names of groups for the same thing have in common: their telling words without regard to their order and to
// whether they are one or many; "" for a name without any.
func Key(name string) string {
	words := naming.Telling(wordsOf(name))
	for i, w := range words {
		if len(w) > 3 {
			words[i] = strings.TrimSuffix(w, "s")
		}
	}
	slices.Sort(words)
	return strings.Join(slices.Compact(words), " ")
}

// Twins returns, by group, what is doubtful about groups that are called alike: by the same telling words, or by the same local part
// in two domains.
func Twins(groups []Named) map[ID]Finding {
	alike := map[string][]int{}
	for i, g := range groups {
		if g.Key != "" {
			alike["name "+g.Key] = append(alike["name "+g.Key], i)
		}
		local, _, _ := strings.Cut(strings.ToLower(g.Address), "@")
		alike["local "+local] = append(alike["local "+local], i)
	}
	others := map[ID]map[int]bool{}
	for _, in := range alike {
		if len(in) < 2 || len(in) > 100 { // a name that so many share is a kind of name
			continue
		}
		for _, i := range in {
			for _, j := range in {
				if i != j {
					if others[groups[i].ID] == nil {
						others[groups[i].ID] = map[int]bool{}
					}
					others[groups[i].ID][j] = true
				}
			}
		}
	}
	out := make(map[ID]Finding, len(others))
	for id, at := range others {
		names := make([]string, 0, len(at))
		f := Finding{Kind: SameThing, Count: len(at)}
		for i := range at {
			names, f.Names = append(names, groups[i].Name+" ("+groups[i].Address+")"), append(f.Names, groups[i].ID)
		}
		slices.Sort(names)
		f.Says = "There is " + some(names) + ", too."
		out[id] = f
	}
	return out
}

// Crowd tells which groups may have nearly the same people, from their members one by one. The zero value is empty.
//
// Of each group it keeps the least of each of some hashes of its members, so that two groups have as many of them in
// common as they have people in common, about; groups with a band of equal ones are compared.
type Crowd struct {
	at     map[ID]*sketch
	last   ID
	lastAt *sketch
}

const (
	bands = 8
	rows  = 3
)

type sketch struct {
	n     int
	least [bands * rows]uint64
}

// Add counts a member of a group. The members of one group may come together, which is quicker.
func (c *Crowd) Add(group, member ID) {
	if c.at == nil {
		c.at = map[ID]*sketch{}
	}
	s := c.lastAt
	if s == nil || group != c.last {
		if s = c.at[group]; s == nil {
			s = new(sketch)
			for i := range s.least {
				s.least[i] = ^uint64(0)
			}
			c.at[group] = s
		}
		c.last, c.lastAt = group, s
	}
	s.n++
	h := mix(member)
	for i := range s.least {
		// one hash turned and multiplied makes as many as are needed
		if x := (bits.RotateLeft64(h, i*7) ^ seeds[i]) * 0x9E3779B97F4A7C15; x < s.least[i] {
			s.least[i] = x
		}
	}
}

var seeds = func() (out [bands * rows]uint64) {
	x := uint64(0x243F6A8885A308D3)
	for i := range out {
		x ^= x << 13
		x ^= x >> 7
		x ^= x << 17
		out[i] = x
	}
	return out
}()

// mix is a number of an identifier, of which each bit depends on all of its bits.
func mix(id ID) uint64 {
	h := uint64(14695981039346656037)
	for _, b := range id {
		h = (h ^ uint64(b)) * 1099511628211
	}
	h ^= h >> 33
	h *= 0xFF51AFD7ED558CCD
	return h ^ h>>33
}

// Pair is two groups, the lesser identifier first.
type Pair [2]ID

// Likely returns pairs of groups that have nearly the same people, most likely: those of at least so many people, whose sizes are within what
// the limits allow. At most 100 of one band are compared.
func (c *Crowd) Likely(l Limits) []Pair {
	type at struct {
		band int
		h    [rows]uint64
	}
	alike := map[at][]ID{}
	for id, s := range c.at {
		if s.n < l.SameCount {
			continue
		}
		for b := range bands {
			k := at{b, [rows]uint64(s.least[b*rows : (b+1)*rows])}
			alike[k] = append(alike[k], id)
		}
	}
	found := map[Pair]bool{}
	for _, ids := range alike {
		slices.SortFunc(ids, func(a, b ID) int { return slices.Compare(a[:], b[:]) })
		ids = ids[:min(len(ids), 100)]
		for i, a := range ids {
			for _, b := range ids[i+1:] {
				if less, more := min(c.at[a].n, c.at[b].n), max(c.at[a].n, c.at[b].n); 100*less >= l.SamePercent*more {
					found[Pair{a, b}] = true
				}
			}
		}
	}
	out := make([]Pair, 0, len(found))
	for p := range found {
		out = append(out, p)
	}
	slices.SortFunc(out, func(a, b Pair) int { return cmp.Or(slices.Compare(a[0][:], b[0][:]), slices.Compare(a[1][:], b[1][:])) })
	return out
}

// Shared is what two groups have in common.
type Shared struct {
	ID            ID
	Name, Address string // of the other one
	Both, Either  int    // people who are in both, and in one of them or both
}

// Crowds returns what is doubtful about a group that has people in common with others; ok is false for nothing.
func Crowds(with []Shared, l Limits) (f Finding, ok bool) {
	var names []string
	f.Kind = SamePeople
	for _, s := range with {
		if s.Either < l.SameCount || 100*s.Both < l.SamePercent*s.Either {
			continue
		}
		names = append(names, fmt.Sprintf("%s (%s; %d of %s)", s.Name, s.Address, s.Both, number.Of(s.Either, "person")))
		f.Names, f.Count = append(f.Names, s.ID), max(f.Count, 100*s.Both/s.Either)
	}
	if len(names) == 0 {
		return f, false
	}
	slices.Sort(names)
	f.Says = "Nearly the same people as " + some(names) + "."
	return f, true
}
