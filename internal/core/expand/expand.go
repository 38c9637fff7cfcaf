package expand

import "slices"

// MaxDepth is how many groups deep a nesting may go.
const MaxDepth = 8

// Edges says which groups are nested directly in a group.
type Edges[ID comparable] map[ID][]ID

// Reach returns root and every group nested in it at any depth, each once,
// nearest first.
func Reach[ID comparable](root ID, e Edges[ID]) []ID {
	seen := map[ID]bool{root: true}
	out := []ID{root}
	for i := 0; i < len(out); i++ {
		for _, g := range e[out[i]] {
			if !seen[g] {
				seen[g] = true
				out = append(out, g)
			}
		}
	}
	return out
}

// Open returns those groups of the Reach of root whose external people are in root too: a
// group that takes none has none by what is nested in it either.
func Open[ID comparable](root ID, e Edges[ID], takes func(ID) bool) map[ID]bool {
	out := map[ID]bool{root: true}
	for queue := []ID{root}; len(queue) > 0; queue = queue[1:] {
		if !takes(queue[0]) {
			continue
		}
		for _, g := range e[queue[0]] {
			if !out[g] {
				out[g] = true
				queue = append(queue, g)
			}
		}
	}
	return out
}

// Loop returns the path by which parent is already inside child, from child to
// parent, or nil when nesting child in parent makes no loop.
func Loop[ID comparable](parent, child ID, e Edges[ID]) []ID {
	from := map[ID]ID{}
	queue := []ID{child}
	seen := map[ID]bool{child: true}
	for len(queue) > 0 {
		g := queue[0]
		queue = queue[1:]
		if g == parent {
			path := []ID{g}
			for g != child {
				g = from[g]
				path = append(path, g)
			}
			slices.Reverse(path)
			return path
		}
		for _, n := range e[g] {
			if !seen[n] {
				seen[n] = true
				from[n] = g
				queue = append(queue, n)
			}
		}
	}
	return nil
}

// Depth returns the number of groups on the longest way down from root: 1 for a
// group with nothing nested in it. It counts no further than limit, which also
// ends it on a loop.
func Depth[ID comparable](root ID, e Edges[ID], limit int) int {
	deepest := 0
	if limit > 1 {
		for _, g := range e[root] {
			deepest = max(deepest, Depth(g, e, limit-1))
		}
	}
	return deepest + 1
}

// Role orders the roles of a membership, weakest first.
type Role uint8

// The roles.
const (
	Member Role = iota + 1
	Moderator
	Owner
)

var roleNames = []string{"", "member", "moderator", "owner"}

// String returns the name of a role, "" for none.
func (r Role) String() string {
	if int(r) < len(roleNames) {
		return roleNames[r]
	}
	return "unknown"
}

// ParseRole reads a role by its name; ok is false for any other word.
func ParseRole(s string) (r Role, ok bool) {
	i := slices.Index(roleNames, s)
	return Role(max(i, 0)), i > 0
}

// Entry is one person's membership in one of the groups of a Reach.
type Entry[ID comparable] struct {
	Person ID
	Group  ID
	Role   Role
	Mail   bool // delivery is on for this membership
	How    int8 // where it is on: each message, or some of them, or together; as whoever asks numbers them

	External bool
	Address  string // where the person's mail goes
}

// People returns each person once: by the entry in root where there is one, else
// as a member. Of several entries with the same role, one that takes mail wins.
// The order is that in which a person was first met.
func People[ID comparable](root ID, entries []Entry[ID]) []Entry[ID] {
	at := make(map[ID]int, len(entries))
	out := make([]Entry[ID], 0, len(entries))
	for _, e := range entries {
		if e.Group != root {
			e.Role = Member
		}
		i, met := at[e.Person]
		switch {
		case !met:
			at[e.Person] = len(out)
			out = append(out, e)
		case stronger(e, out[i], root):
			out[i] = e
		}
	}
	return out
}

func stronger[ID comparable](a, b Entry[ID], root ID) bool {
	if a.Role != b.Role {
		return a.Role > b.Role
	}
	if (a.Group == root) != (b.Group == root) {
		return a.Group == root
	}
	return a.Mail && !b.Mail
}

// Height returns the number of groups on the longest way up from group, itself
// included: 1 for one that is nested in nothing. It counts no further than limit.
func Height[ID comparable](group ID, e Edges[ID], limit int) int {
	highest := 0
	if limit > 1 {
		for outer, inner := range e {
			if slices.Contains(inner, group) {
				highest = max(highest, Height(outer, e, limit-1))
			}
		}
	}
	return highest + 1
}
